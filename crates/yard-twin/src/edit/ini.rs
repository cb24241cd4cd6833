//! INI-like files: sections, `key = value` or `key: value`, comments, or none of these.
//!
//! There is no standard. What most programs agree on: a line is a section, a comment or a key; of two keys of one name the
//! last one counts; names don't mind their case; a comment behind a value begins with ` ;`, or with ` #` and a space.

use std::ops::Range;

use super::value::cut_lines;
use super::{EditFault, Format, Found, Kind, Result, Splice, Syntax, line_end};

pub(super) struct Ini;

/// A place: a section, or none, and a key.
struct Place<'a> {
    section: Option<&'a str>,
    key: &'a str,
}

/// What is on a line.
enum Line<'a> {
    Blank,
    Comment,
    Section(&'a str),
    /// A key, where its value is, and whether there is a separator before that.
    Key {
        key: &'a str,
        value: Range<usize>,
        separated: bool,
    },
}

impl Syntax for Ini {
    fn find(&self, text: &str, key: &str) -> Result<Option<Found>> {
        let place = place(key)?;
        let mut found = None;
        each(text, |section, line, _| {
            let Line::Key { key, value, separated: true } = line else { return };
            if same(section, place.section) && key.eq_ignore_ascii_case(place.key) {
                found = Some(Found::plain(value));
            }
        });
        Ok(found)
    }

    fn read(&self, raw: &str, _: Kind) -> String {
        unquoted(raw).to_owned()
    }

    fn write(&self, old: &str, value: &str, _: Kind) -> Result<String> {
        written(old, value)
    }

    fn cut(&self, text: &str, key: &str, lead: &str) -> Result<Option<Range<usize>>> {
        let Some(found) = self.find(text, key)? else { return Ok(None) };
        if !lead.starts_with(['=', ':']) {
            return Ok(cut_lines(text, &found.range, lead));
        }
        // A key without a value was there.
        let before = text[..found.range.start].trim_end_matches([' ', '\t']).trim_end_matches(['=', ':']);
        Ok(Some(before.trim_end_matches([' ', '\t']).len()..found.range.end))
    }

    fn entries(&self, text: &str) -> Result<Vec<(String, String)>> {
        let mut entries = Vec::new();
        each(text, |section, line, _| {
            let Line::Key { key, value, separated } = line else { return };
            let value = if separated { unquoted(&text[value]) } else { "" };
            let place = format!("[{}]{key}", section.unwrap_or_default());
            entries.push((place.to_ascii_lowercase(), value.to_owned()));
        });
        Ok(entries)
    }

    fn add(&self, text: &str, key: &str, value: &str) -> Result<Splice> {
        let place = place(key)?;
        let raw = written("", value)?;
        let mut around = Around::default();
        let mut bare = None;
        each(text, |section, line, range| {
            let here = same(section, place.section);
            match line {
                Line::Key { key, value, separated: false } if here && key.eq_ignore_ascii_case(place.key) => {
                    bare = Some(value.start);
                }
                Line::Key { value, separated: true, .. } => {
                    around.like = Some(manner(&text[range.start..value.start]));
                    if here {
                        around.after = Some(range.end);
                    }
                }
                Line::Key { .. } if here => around.after = Some(range.end),
                Line::Section(_) if here => around.after = Some(range.end),
                _ => {}
            }
        });
        if let Some(at) = bare {
            // A key without a value gets one.
            return Ok(Splice { range: at..at, put: format!("={raw}"), value: 1..1 + raw.len() });
        }
        let (indent, between) = around.like.unwrap_or_default();
        let between = if between.is_empty() { "=".to_owned() } else { between };
        let head = match (place.section, around.after) {
            (Some(section), None) => Some(section),
            _ => None,
        };
        // Only a key of a section that is there is indented as its neighbours.
        let indent = if head.is_some() { String::new() } else { indent };
        let line = (format!("{indent}{}{between}", place.key), raw);
        Ok(inserted(text, around.after, head, line))
    }
}

#[derive(Default)]
struct Around {
    /// Where the last line of the right section ends.
    after: Option<usize>,
    /// How another key is written: what is before it, and between it and its value.
    like: Option<(String, String)>,
}

/// The splice that puts a line behind the one that ends at `after`, below a new section at the end, or at the top.
fn inserted(text: &str, after: Option<usize>, section: Option<&str>, (before, raw): (String, String)) -> Splice {
    let end = line_end(text);
    let ended = text.is_empty() || text.ends_with(['\n', '\r']);
    let (at, lead, tail) = match (section, after) {
        (Some(section), _) => {
            let blank = if text.is_empty() || text.ends_with(&format!("{end}{end}")) { "" } else { end };
            let lead = format!("{}{blank}[{section}]{end}", if ended { "" } else { end });
            (text.len(), lead, if ended { end } else { "" })
        }
        (None, None) => (0, String::new(), end),
        (None, Some(at)) if text[..at].ends_with(['\n', '\r']) => (at, String::new(), end),
        (None, Some(at)) => (at, end.to_owned(), ""),
    };
    let start = lead.len() + before.len();
    let value = start..start + raw.len();
    Splice { range: at..at, put: format!("{lead}{before}{raw}{tail}"), value }
}

/// `section.key`, `key`, or `[section]key` where either holds a dot.
fn place(text: &str) -> Result<Place<'_>> {
    let wrong = |why: &str| Err(EditFault::Key { format: Format::Ini, key: text.into(), why: why.into() });
    let (section, key) = match text.strip_prefix('[') {
        Some(rest) => match rest.rsplit_once(']') {
            Some((section, key)) => ((!section.is_empty()).then_some(section), key),
            None => return wrong("the section has no ]"),
        },
        None => match text.rsplit_once('.') {
            Some((section, key)) => (Some(section), key),
            None => (None, text),
        },
    };
    let odd = |name: &str| name.trim() != name || name.contains(['\n', '\r', '\0']);
    match (key, section) {
        ("", _) => wrong("it names no key"),
        (key, section) if odd(key) || section.is_some_and(|section| odd(section) || section.is_empty()) => {
            wrong("a name has no line end, and no space at its ends")
        }
        (key, _) if key.contains('=') || key.starts_with(['[', ';', '#']) => {
            wrong("a key has no =, and begins with none of [ ; #")
        }
        (key, section) => Ok(Place { section, key }),
    }
}

fn same(section: Option<&str>, wanted: Option<&str>) -> bool {
    match (section, wanted) {
        (None, None) => true,
        (Some(here), Some(wanted)) => here.eq_ignore_ascii_case(wanted),
        _ => false,
    }
}

/// Shows every line, with the section that it is in and its range with its end.
fn each<'a>(text: &'a str, mut see: impl FnMut(Option<&'a str>, Line<'a>, Range<usize>)) {
    let (mut at, mut section) = (0, None);
    while at < text.len() {
        let range = whole_line(text, at);
        let line = line(text, range.clone());
        if let Line::Section(name) = line {
            section = Some(name);
        }
        at = range.end;
        see(section, line, range);
    }
}

/// The line that begins at `at`, with its end and those that go on with it.
fn whole_line(text: &str, at: usize) -> Range<usize> {
    let mut end = one_line(text, at);
    while goes_on(text, at, end) {
        end = one_line(text, end);
    }
    at..end
}

/// Where the line that begins at `at` ends, its end included.
pub(super) fn one_line(text: &str, at: usize) -> usize {
    match text[at..].find(['\n', '\r']) {
        None => text.len(),
        Some(end) if text[at + end..].starts_with("\r\n") => at + end + 2,
        Some(end) => at + end + 1,
    }
}

/// Whether a line goes on: it ends with a backslash, and the next one is indented. (A path may end with a backslash too.)
fn goes_on(text: &str, at: usize, end: usize) -> bool {
    let line = text[at..end].trim_end_matches(['\n', '\r']);
    let next = &text[end..one_line(text, end)];
    let key = !line.trim_start().starts_with([';', '#', '[']) && line.contains(['=', ':']);
    key && line.ends_with('\\') && next.starts_with([' ', '\t']) && !next.trim().is_empty()
}

fn line(text: &str, range: Range<usize>) -> Line<'_> {
    let whole = text[range.clone()].trim_end_matches(['\n', '\r']);
    let shown = whole.trim_start();
    let start = range.start + whole.len() - shown.len();
    if shown.trim().is_empty() {
        return Line::Blank;
    }
    if shown.starts_with([';', '#']) || shown.starts_with("//") {
        return Line::Comment;
    }
    if let Some(name) = shown.strip_prefix('[').and_then(|rest| Some(rest.split_once(']')?.0)) {
        return Line::Section(name.trim_start_matches('[').trim());
    }
    let Some(at) = separator(shown) else {
        let key = shown[..comment(shown).unwrap_or(shown.len())].trim();
        let end = start + key.len();
        return Line::Key { key: unquoted(key), value: end..end, separated: false };
    };
    let key = unquoted(shown[..at].trim());
    Line::Key { key, value: value(text, start + at + 1, range.start + whole.len()), separated: true }
}

/// Where the key ends: at the `=`, or at a `:` that comes first and has a space behind it, or is the only one of the two.
fn separator(line: &str) -> Option<usize> {
    let (equals, colon) = (line.find('='), line.find(':'));
    match (equals, colon) {
        (Some(equals), Some(colon)) if colon < equals && line[colon + 1..].starts_with([' ', '\t']) => Some(colon),
        (Some(equals), _) => Some(equals),
        (None, colon) => colon,
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
fn comment(line: &str) -> Option<usize> {
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
    for quote in ['"', '\''] {
        if let Some(inner) = raw.strip_prefix(quote).and_then(|rest| rest.strip_suffix(quote)) {
            return inner;
        }
    }
    raw
}

/// How a value is written in the place of `old`: in its quotes, or in some if it takes some.
pub(super) fn written(old: &str, value: &str) -> Result<String> {
    let refuse = |why: &str| Err(EditFault::Value { value: value.into(), why: why.into() });
    if value.contains(['\n', '\r', '\0']) {
        return refuse("it has more than one line");
    }
    let quoted = |quote: char| format!("{quote}{value}{quote}");
    let quotes =
        ['"', '\''].into_iter().find(|quote| old.len() > 1 && old.starts_with(*quote) && old.ends_with(*quote));
    let candidates = match quotes {
        Some(quote) => vec![quoted(quote), quoted('"'), quoted('\'')],
        None => vec![value.to_owned(), quoted('"'), quoted('\'')],
    };
    // The one that is read back as it is meant, behind a space or not, before the end of the line or a comment.
    let holds = |raw: &String| {
        [format!("= {raw} ; c"), format!("={raw}")].iter().all(|line| {
            let range = self::value(line, 1, line.len());
            line[range.clone()] == *raw && unquoted(&line[range]) == value
        }) || (value.is_empty() && raw.is_empty())
    };
    match candidates.into_iter().find(holds) {
        Some(raw) => Ok(raw),
        None => refuse("no quotes make it one value"),
    }
}

/// How a key is written: what is before it, and between it and its value.
fn manner(before_value: &str) -> (String, String) {
    let indent = before_value.len() - before_value.trim_start().len();
    let key_end = separator(before_value.trim_start()).map_or(before_value.len(), |at| {
        let shown = &before_value[indent..indent + at];
        indent + shown.trim_end().len()
    });
    (before_value[..indent].into(), before_value[key_end..].into())
}
