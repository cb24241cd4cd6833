//! Files of lines: a key, which may be several words, then its value. Of two lines of one key the last one counts. Where each
//! line is a command, as `set name "8"`, the name alone is a key too.

use std::ops::Range;

use super::ini::one_line;
use super::quotes::{Quoting, unquoted, value, written};
use super::value::cut_lines;
use super::{EditFault, Format, Found, Kind, Result, Splice, Syntax, line_end};

pub(super) struct Lines;

impl Syntax for Lines {
    fn find(&self, text: &str, key: &str) -> Result<Option<Found>> {
        check(key)?;
        let whole = each(text).filter_map(|line| found(text, line, key)).last();
        let named =
            || each(text).filter(|line| command(&text[line.clone()]).is_some_and(|(_, name)| name == key)).last();
        let found = whole.or_else(|| named().and_then(|line| found(text, line.clone(), command_of(&text[line])?)));
        Ok(found.map(Found::plain))
    }

    fn read(&self, raw: &str, _: Kind) -> String {
        unquoted(raw).to_owned()
    }

    fn meant<'a>(&self, value: &'a str) -> &'a str {
        unquoted(value)
    }

    fn write(&self, text: &str, found: &Found, value: &str) -> Result<String> {
        written(&text[found.range.clone()], value, quoting(text))
    }

    fn cut(&self, text: &str, key: &str, lead: &str) -> Result<Option<Range<usize>>> {
        let Some(found) = self.find(text, key)? else { return Ok(None) };
        if !lead.is_empty() && lead.trim().is_empty() {
            // A key without a value was there.
            return Ok(Some(text[..found.range.start].trim_end_matches([' ', '\t']).len()..found.range.end));
        }
        Ok(cut_lines(text, &found.range, "", |_| false))
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
            let raw = written("", value, quoting(text))?;
            return Ok(Splice { range: at..at, put: format!(" {raw}"), value: 1..1 + raw.len() });
        }
        let manner = Manner::of(text);
        let command = manner.command.filter(|_| !key.contains([' ', '\t', ':', '=']));
        // A key that ends with its own separator has it.
        let between =
            if key.ends_with([':', '=']) { "" } else { manner.between.filter(|_| command.is_none()).unwrap_or(" ") };
        let quoted = each(text).any(|line| text[line].trim_end().ends_with('"'));
        let raw = written(if quoted { "\"\"" } else { "" }, value, quoting(text))?;
        let head = command.map(|command| format!("{command} ")).unwrap_or_default() + key + between;
        let value = head.len()..head.len() + raw.len();
        Ok(Splice { range: 0..0, put: format!("{head}{raw}{end}"), value })
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

/// How the lines of a file are written.
#[derive(Default)]
struct Manner<'a> {
    /// What most of them begin with, if they are commands.
    command: Option<&'a str>,
    /// What is between key and value in most of them, where that is more than a space.
    between: Option<&'a str>,
}

impl<'a> Manner<'a> {
    fn of(text: &'a str) -> Self {
        let lines: Vec<&str> = each(text).map(|line| text[line].trim()).filter(|line| check(line).is_ok()).collect();
        let most = |found: Vec<&'a str>| {
            let count = |word: &str| found.iter().filter(|other| **other == word).count();
            let best = found.iter().copied().max_by_key(|word| count(word));
            best.filter(|_| found.len() * 2 > lines.len())
        };
        Self {
            command: most(lines.iter().filter_map(|line| Some(command(line)?.0)).collect()),
            between: most(lines.iter().filter_map(|line| separator(line)).collect()),
        }
    }
}

/// The separator between the first word of a line and the rest, with the blanks around it.
fn separator(line: &str) -> Option<&str> {
    let start = line.find([' ', '\t', ':', '='])?;
    let rest = &line[start..];
    let end = rest.len() - rest.trim_start_matches([' ', '\t', ':', '=']).len();
    Some(&rest[..end]).filter(|between| matches!(between.trim(), ":" | "="))
}

/// The command and the name of a line as `set name "8"`.
fn command(line: &str) -> Option<(&str, &str)> {
    let (command, rest) = line.trim().split_once([' ', '\t'])?;
    let (name, value) = rest.trim_start().split_once([' ', '\t'])?;
    let value = value.trim();
    let word = |text: &str| !text.is_empty() && !text.contains(['"', '\'', ':', '=']);
    (word(command) && word(name) && unquoted(value) != value && check(command).is_ok()).then_some((command, name))
}

/// The part of a line as `set name "8"` that is before the value.
fn command_of(line: &str) -> Option<&str> {
    let (_, name) = command(line)?;
    let shown = line.trim_start();
    let start = shown.find([' ', '\t'])?;
    let end = start + shown[start..].find(name)? + name.len();
    Some(&shown[..end])
}

/// How the values of a file are quoted.
fn quoting(text: &str) -> Quoting {
    let mut quoting = Quoting::default();
    each(text).for_each(|line| {
        let line = text[line].trim();
        quoting.see(line.find(['"', '\'']).map_or("", |at| &line[at..]));
    });
    quoting
}

/// What is behind the key on a line that begins with it. A separator that belongs to the key may have blanks before it.
fn behind(text: &str, line: Range<usize>, key: &str) -> Option<Range<usize>> {
    let shown = text[line.clone()].trim_start();
    let start = line.end - shown.len();
    let begins =
        |beginning: &str| shown.get(..beginning.len()).is_some_and(|head| head.eq_ignore_ascii_case(beginning));
    if begins(key) {
        return Some(start + key.len()..line.end);
    }
    let name = key.strip_suffix([':', '=']).filter(|name| !name.is_empty() && begins(name))?;
    let rest = shown[name.len()..].trim_start_matches([' ', '\t']);
    rest.starts_with(&key[name.len()..]).then(|| line.end - rest.len() + 1..line.end)
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
