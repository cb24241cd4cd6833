//! Files of lines: a key, which may be several words, then its value. Of two lines of one key the last one counts.

use std::ops::Range;

use super::ini::{one_line, unquoted, value, written};
use super::value::cut_lines;
use super::{EditFault, Format, Found, Kind, Result, Splice, Syntax, line_end};

pub(super) struct Lines;

impl Syntax for Lines {
    fn find(&self, text: &str, key: &str) -> Result<Option<Found>> {
        check(key)?;
        let lines = || each(text).filter_map(|line| found(text, line, key));
        Ok(lines().last().map(Found::plain))
    }

    fn read(&self, raw: &str, _: Kind) -> String {
        unquoted(raw).to_owned()
    }

    fn write(&self, old: &str, value: &str, _: Kind) -> Result<String> {
        written(old, value)
    }

    fn cut(&self, text: &str, key: &str, lead: &str) -> Result<Option<Range<usize>>> {
        let Some(found) = self.find(text, key)? else { return Ok(None) };
        if !lead.is_empty() && lead.trim().is_empty() {
            // A key without a value was there.
            return Ok(Some(text[..found.range.start].trim_end_matches([' ', '\t']).len()..found.range.end));
        }
        Ok(cut_lines(text, &found.range, ""))
    }

    fn entries(&self, text: &str) -> Result<Vec<(String, String)>> {
        // A line is what it begins with: which words of it are the key, only the key says.
        let lines = each(text).map(|line| text[line].trim().to_owned()).filter(|line| !line.is_empty());
        Ok(lines.map(|line| (String::new(), line)).collect())
    }

    fn add(&self, text: &str, key: &str, value: &str) -> Result<Splice> {
        check(key)?;
        let end = line_end(text);
        if let Some(at) = each(text).find_map(|line| bare(text, line, key)) {
            let raw = written("", value)?;
            return Ok(Splice { range: at..at, put: format!(" {raw}"), value: 1..1 + raw.len() });
        }
        // A key that ends with its own separator has it; else values in quotes have some here too.
        let between = if key.ends_with([':', '=']) { "" } else { " " };
        let quoted = each(text).any(|line| text[line].trim_end().ends_with('"'));
        let raw = written(if quoted { "\"\"" } else { "" }, value)?;
        let start = key.len() + between.len();
        Ok(Splice { range: 0..0, put: format!("{key}{between}{raw}{end}"), value: start..start + raw.len() })
    }
}

fn check(key: &str) -> Result<()> {
    let why = match key {
        "" => "it names no key",
        key if key.trim() != key || key.contains(['\n', '\r', '\0']) => {
            "a key has no line end, and no space at its ends"
        }
        key if key.starts_with('\u{feff}') => "a mark of the encoding is no key",
        key if key.starts_with(['#', ';']) || key.starts_with("//") => "a comment is no key",
        _ => return Ok(()),
    };
    Err(EditFault::Key { format: Format::Lines, key: key.into(), why: why.into() })
}

/// The lines without their ends.
fn each(text: &str) -> impl Iterator<Item = Range<usize>> {
    let mut at = 0;
    std::iter::from_fn(move || {
        (at < text.len()).then(|| {
            let (start, end) = (at, one_line(text, at));
            at = end;
            start..start + text[start..end].trim_end_matches(['\n', '\r']).len()
        })
    })
}

/// What is behind the key on a line that begins with it.
fn behind(text: &str, line: Range<usize>, key: &str) -> Option<Range<usize>> {
    let shown = text[line.clone()].trim_start();
    let start = line.end - shown.len();
    let head = shown.get(..key.len()).filter(|head| head.eq_ignore_ascii_case(key))?;
    Some(start + head.len()..line.end)
}

/// Where the value is on a line that begins with the key.
fn found(text: &str, line: Range<usize>, key: &str) -> Option<Range<usize>> {
    let behind = behind(text, line, key)?;
    let rest = &text[behind.clone()];
    let spaces = rest.len() - rest.trim_start_matches([' ', '\t']).len();
    let separated = rest[spaces..].starts_with([':', '=']);
    let own = key.ends_with([':', '=']);
    if rest.trim().is_empty() && !own || spaces == 0 && !separated && !own {
        return None;
    }
    let from = behind.start + if separated && !own { spaces + 1 } else { spaces.saturating_sub(1) };
    Some(value(text, from, behind.end))
}

/// The end of a line that is the key and nothing else.
fn bare(text: &str, line: Range<usize>, key: &str) -> Option<usize> {
    let behind = behind(text, line, key)?;
    text[behind.clone()].trim().is_empty().then_some(behind.start)
}
