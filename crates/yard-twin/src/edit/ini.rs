//! INI-like files: sections, `key = value` or `key: value`, comments, or none of these.
//!
//! There is no standard. What most programs agree on: a line is a section, a comment or a key; of two keys of one name the
//! last one counts; names don't mind their case; a comment behind a value begins with ` ;`, or with ` #` and a space; a value
//! goes on in the lines below that are indented deeper than its key.

use std::ops::Range;

use super::quotes::{Quoting, unquoted, value, written};
use super::value::cut_lines;
use super::{EditFault, Format, Found, Kind, Result, Splice, Syntax, line_end};

pub(super) struct Ini;

/// A place: a section, or none, and a key.
#[derive(Clone, Copy)]
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
        let place = place(text, key)?;
        let mut found = None;
        each(text, |section, line, _| {
            let Line::Key { key, value, separated: true } = line else { return };
            if place.is(section, key) {
                found = Some(Found::plain(value));
            }
        });
        Ok(found)
    }

    fn read(&self, raw: &str, _: Kind) -> String {
        if is_folded(raw) { unfolded(raw) } else { unquoted(raw).to_owned() }
    }

    fn meant<'a>(&self, value: &'a str) -> &'a str {
        unquoted(value)
    }

    fn takes_lines(&self, text: &str) -> bool {
        let mut takes = false;
        each(text, |_, line, _| takes |= matches!(line, Line::Key { value, .. } if is_folded(&text[value.clone()])));
        takes
    }

    fn write(&self, text: &str, found: &Found, value: &str) -> Result<String> {
        let old = &text[found.range.clone()];
        if !value.contains(['\n', '\r']) {
            return written(if is_folded(old) { "" } else { old }, value, quoting(text));
        }
        let start = text[..found.range.start].rfind(['\n', '\r']).map_or(0, |end| end + 1);
        folded(value, old, (indent(&text[start..]), line_end(text)))
    }

    fn cut(&self, text: &str, key: &str, lead: &str) -> Result<Option<Range<usize>>> {
        let Some(found) = self.find(text, key)? else { return Ok(None) };
        if !lead.starts_with(['=', ':']) {
            let section = place(text, key)?.section;
            let is_header = |shown: &str| match line(shown, 0..shown.len()) {
                Line::Section(name) => same(Some(name), section),
                _ => false,
            };
            return Ok(cut_lines(text, &found.range, lead, is_header));
        }
        // A key without a value was there.
        let before = text[..found.range.start].trim_end_matches([' ', '\t']).trim_end_matches(['=', ':']);
        Ok(Some(before.trim_end_matches([' ', '\t']).len()..found.range.end))
    }

    fn entries(&self, text: &str) -> Result<Vec<(String, String)>> {
        let mut entries = Vec::new();
        each(text, |section, line, _| {
            let Line::Key { key, value, separated } = line else { return };
            let value = if separated { self.read(&text[value], Kind::Plain) } else { String::new() };
            let place = format!("[{}]{key}", section.unwrap_or_default());
            entries.push((place.to_ascii_lowercase(), value));
        });
        Ok(entries)
    }

    fn add(&self, text: &str, key: &str, value: &str) -> Result<Splice> {
        let place = place(text, key)?;
        let around = Around::of(text, place);
        let (indent, between) = around.here.or(around.elsewhere).unwrap_or_default();
        let raw = match value.contains(['\n', '\r']) {
            true => folded(value, "", (&indent, line_end(text)))?,
            false => written("", value, quoting(text))?,
        };
        if let Some(at) = around.bare {
            // A key without a value gets one.
            return Ok(Splice { range: at..at, put: format!("={raw}"), value: 1..1 + raw.len() });
        }
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

/// What is where a key is to be added.
#[derive(Default)]
struct Around {
    /// Where the last line of the right section ends.
    after: Option<usize>,
    /// Where the key ends that is there without a value.
    bare: Option<usize>,
    /// How the last key of the section is written: what is before it, and between it and its value.
    here: Option<(String, String)>,
    /// How the last key of any is.
    elsewhere: Option<(String, String)>,
}

impl Around {
    fn of(text: &str, place: Place<'_>) -> Self {
        let mut around = Self::default();
        each(text, |section, line, range| {
            let here = same(section, place.section);
            match line {
                Line::Key { key, value, separated: false } if place.is(section, key) => around.bare = Some(value.start),
                Line::Key { value, separated: true, .. } => {
                    around.elsewhere = Some(manner(&text[range.start..value.start]));
                    if here {
                        around.here.clone_from(&around.elsewhere);
                        around.after = Some(range.end);
                    }
                }
                Line::Key { .. } | Line::Section(_) if here => around.after = Some(range.end),
                _ => {}
            }
        });
        around
    }
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

impl Place<'_> {
    fn is(&self, section: Option<&str>, key: &str) -> bool {
        same(section, self.section) && key.eq_ignore_ascii_case(self.key)
    }
}

/// The place that is meant in a text: of all that it can be, the one where a key stands, else the one in a section that is
/// there.
fn place<'a>(text: &str, key: &'a str) -> Result<Place<'a>> {
    let readings = readings(key)?;
    let [first, _, ..] = readings.as_slice() else { return Ok(readings[0]) };
    let (mut keys, mut sections) = (Vec::new(), Vec::new());
    each(text, |section, line, _| match line {
        Line::Key { key, .. } => keys.push((section, key)),
        Line::Section(name) => sections.push(name),
        Line::Blank | Line::Comment => {}
    });
    let stands = |place: &&Place<'_>| keys.iter().any(|(section, key)| place.is(*section, key));
    let has_section = |place: &&Place<'_>| sections.iter().any(|name| same(Some(name), place.section));
    let whole = readings.last().filter(|_| sections.is_empty() && !keys.is_empty());
    Ok(*readings.iter().find(stands).or_else(|| readings.iter().find(has_section)).or(whole).unwrap_or(first))
}

/// What a place can mean: `[section]key`, or `section.key` with the dot at any of the dots, or a key with dots in it.
fn readings(text: &str) -> Result<Vec<Place<'_>>> {
    let wrong = |why: &str| Err(EditFault::Key { format: Format::Ini, key: text.into(), why: why.into() });
    let readings = match text.strip_prefix('[') {
        Some(rest) => match rest.split_once(']') {
            Some((section, key)) => vec![Place { section: (!section.is_empty()).then_some(section), key }],
            None => return wrong("the section has no ]"),
        },
        None => {
            let split = |(at, _)| Place { section: Some(&text[..at]), key: &text[at + 1..] };
            let whole = Place { section: None, key: text };
            text.rmatch_indices('.').map(split).chain([whole]).filter(|place| is_place(*place)).collect()
        }
    };
    if text.is_empty() || text.ends_with([']', '.']) && readings.iter().all(|place| !is_place(*place)) {
        return wrong("it names no key");
    }
    match readings.first() {
        Some(place) if is_place(*place) => Ok(readings),
        _ => wrong("a name has no line end and no space at its ends; a key has no = and begins with none of [ ; #"),
    }
}

fn is_place(place: Place<'_>) -> bool {
    let odd = |name: &str| name.is_empty() || name.trim() != name || name.contains(['\n', '\r', '\0']);
    let key = place.key;
    !odd(key) && !place.section.is_some_and(odd) && !key.contains('=') && !key.starts_with(['[', ';', '#'])
}

fn same(section: Option<&str>, wanted: Option<&str>) -> bool {
    match (section, wanted) {
        (None, None) => true,
        (Some(here), Some(wanted)) => here.eq_ignore_ascii_case(wanted),
        _ => false,
    }
}

/// How the values of a text are quoted.
fn quoting(text: &str) -> Quoting {
    let mut quoting = Quoting::default();
    each(text, |_, line, _| {
        if let Line::Key { value, separated: true, .. } = line {
            quoting.see(&text[value]);
        }
    });
    quoting
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
    let first = end;
    while let Some(next) = folds(text, at, (first, end)) {
        end = next;
    }
    at..end
}

/// Where the next line ends that belongs to the value of the key at `at`, whose own line ends at `first` and what is known of
/// its value at `end`: it is indented deeper, and looks like no key of its own. Comments and blank lines may come before it.
fn folds(text: &str, at: usize, (first, end): (usize, usize)) -> Option<usize> {
    let Line::Key { value, separated: true, .. } = line(text, at..first) else { return None };
    let deeper = |line: &str| indent(line).len() > indent(&text[at..first]).len();
    let mut from = end;
    while from < text.len() {
        let next = one_line(text, from);
        let here = &text[from..next];
        let shown = here.trim();
        from = next;
        if shown.is_empty() || is_comment(shown) {
            continue;
        }
        let is_key = end == first && !value.is_empty() && (shown.contains('=') || shown.contains(": "));
        return (deeper(here) && !shown.starts_with('[') && !is_key).then_some(next);
    }
    None
}

fn indent(line: &str) -> &str {
    &line[..line.len() - line.trim_start_matches([' ', '\t']).len()]
}

fn is_comment(shown: &str) -> bool {
    shown.starts_with([';', '#']) || shown.starts_with("//")
}

/// Whether a value goes on in lines that are indented.
fn is_folded(raw: &str) -> bool {
    let mut lines = raw.split_inclusive(['\n', '\r']);
    let first = lines.next().unwrap_or_default();
    lines.next().is_some() && !first.trim_end_matches(['\n', '\r']).ends_with('\\')
}

/// The lines of a value without what they are indented by, and without comments between them.
fn unfolded(raw: &str) -> String {
    let lines: Vec<&str> = raw.lines().map(str::trim).filter(|line| !is_comment(line)).collect();
    lines.join("\n")
}

/// A value of several lines, indented as the one that is there.
fn folded(value: &str, old: &str, (indentation, end): (&str, &str)) -> Result<String> {
    let there = old.lines().skip(1).find(|line| !line.trim().is_empty()).map(indent);
    let deeper = there.map_or_else(|| format!("{indentation}    "), str::to_owned);
    let lines: Vec<&str> = value.lines().collect();
    if lines.iter().any(|line| line.trim() != *line || is_comment(line)) || value.contains('\0') {
        let why = "no line of it begins or ends with a space, or like a comment, where a value goes on".into();
        return Err(EditFault::Value { value: value.into(), why });
    }
    let line = |line: &&str| if line.is_empty() { String::new() } else { format!("{deeper}{line}") };
    let more = lines.iter().skip(1).map(line).collect::<Vec<_>>();
    Ok([lines[0].to_owned()].into_iter().chain(more).collect::<Vec<_>>().join(end))
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
    if is_comment(shown) {
        return Line::Comment;
    }
    if let Some(name) = shown.strip_prefix('[').and_then(|rest| Some(rest.split_once(']')?.0)) {
        return Line::Section(name.trim_start_matches('[').trim());
    }
    let Some(at) = separator(shown) else {
        let key = shown[..super::quotes::comment(shown).unwrap_or(shown.len())].trim();
        let end = start + key.len();
        return Line::Key { key: unquoted(key), value: end..end, separated: false };
    };
    let key = unquoted(shown[..at].trim());
    let (from, to) = (start + at + 1, range.start + whole.len());
    if is_folded(&text[from..to]) {
        let blanks = text[from..to].len() - text[from..to].trim_start_matches([' ', '\t']).len();
        return Line::Key { key, value: from + blanks..to, separated: true };
    }
    Line::Key { key, value: value(text, from, to), separated: true }
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

/// How a key is written: what is before it, and between it and its value.
fn manner(before_value: &str) -> (String, String) {
    let indent = before_value.len() - before_value.trim_start().len();
    let key_end = separator(before_value.trim_start()).map_or(before_value.len(), |at| {
        let shown = &before_value[indent..indent + at];
        indent + shown.trim_end().len()
    });
    (before_value[..indent].into(), before_value[key_end..].into())
}
