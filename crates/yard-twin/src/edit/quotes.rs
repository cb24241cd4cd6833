//! Quotes and comments around the values of lines, where no standard says how.

use std::ops::Range;

use super::{EditFault, Result};

/// How the values of a file are quoted.
#[derive(Clone, Copy, Default)]
pub(super) struct Quoting {
    values: usize,
    quoted: usize,
    quote: Option<char>,
}

impl Quoting {
    /// Takes a value in, as it is written.
    pub(super) fn see(&mut self, raw: &str) {
        self.values += 1;
        if let Some(quote) = quotes(raw) {
            self.quoted += 1;
            self.quote = Some(quote);
        }
    }

    /// Whether all values are in quotes.
    fn all(self) -> bool {
        self.quoted > 0 && self.quoted == self.values
    }
}

/// The quotes that a text is in.
fn quotes(raw: &str) -> Option<char> {
    raw.chars().next().filter(|first| matches!(first, '"' | '\'') && raw.len() > 1 && raw.ends_with(*first))
}

/// How a value is written in the place of `old`: in its quotes, or in those that it has itself. A value that takes some gets
/// some only where the file has any: a program that knows none would read them too.
pub(super) fn written(old: &str, value: &str, quoting: Quoting) -> Result<String> {
    let refuse = |why: &str| Err(EditFault::Value { value: value.into(), why: why.into() });
    if value.contains(['\n', '\r', '\0']) {
        return refuse("it has more than one line");
    }
    let in_quotes = |quote: char| format!("{quote}{}{quote}", unquoted(value));
    let there = quotes(old).or(quoting.quote.filter(|_| old.is_empty() && quoting.all()));
    let mut candidates = vec![value.to_owned()];
    if let Some(quote) = there.filter(|_| quotes(value).is_none()) {
        candidates.insert(0, in_quotes(quote));
    }
    if quotes(value).is_some() || quoting.quote.is_some() || there.is_some() {
        candidates.extend(['"', '\''].map(in_quotes));
    }
    // The one that is read back as it is meant, behind a space or not, before the end of the line or a comment.
    let holds = |raw: &String| {
        [format!("= {raw} ; c"), format!("={raw}")].iter().all(|line| {
            let range = self::value(line, 1, line.len());
            line[range.clone()] == *raw && unquoted(&line[range]) == unquoted(value)
        }) || (value.is_empty() && raw.is_empty())
    };
    match candidates.iter().find(|raw| holds(raw)) {
        Some(raw) => Ok(raw.clone()),
        None if candidates.len() > 1 => refuse("no quotes make it one value"),
        None => refuse("it would be read back as another one, and nothing else in the file is in quotes"),
    }
}

/// Where a value is that stands somewhere in `from..to`, without what is around it.
pub(super) fn value(text: &str, from: usize, to: usize) -> Range<usize> {
    let all = &text[from..to];
    let start = from + all.len() - all.trim_start_matches([' ', '\t']).len();
    let rest = &text[start..to];
    if let Some(quote) = rest.chars().next().filter(|c| matches!(c, '"' | '\'')) {
        let closes = |at: usize| {
            let behind = rest[at + 1..].trim_start_matches([' ', '\t']);
            behind.is_empty() || begins_comment(behind)
        };
        let closing = rest.match_indices(quote).skip(1).map(|(at, _)| at).find(|at| closes(*at));
        if let Some(at) = closing {
            return start..start + at + 1;
        }
    }
    if begins_comment(rest) && start > from {
        // Nothing stands there; a value goes right behind the separator.
        return from..from;
    }
    let end = comment(rest).unwrap_or(rest.len());
    start..start + rest[..end].trim_end_matches([' ', '\t']).len()
}

/// Where a comment behind a value begins, with the space before it.
pub(super) fn comment(line: &str) -> Option<usize> {
    line.match_indices([' ', '\t']).map(|(at, _)| at).find(|at| {
        let behind = &line[at + 1..];
        begins_comment(behind) && !line[..*at].trim().is_empty()
    })
}

fn begins_comment(text: &str) -> bool {
    let spaced =
        |mark: &str| text.strip_prefix(mark).is_some_and(|rest| rest.is_empty() || rest.starts_with([' ', '\t']));
    text.starts_with(';') || spaced("#") || spaced("//")
}

pub(super) fn unquoted(raw: &str) -> &str {
    if quotes(raw).is_some() { &raw[1..raw.len() - 1] } else { raw }
}
