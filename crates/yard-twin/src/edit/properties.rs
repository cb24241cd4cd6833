//! Properties files, as the class library of the Java platform defines them (`java.util.Properties`): `key=value`,
//! `key: value` or `key value`; comments begin with `#` or `!`; a line that ends with a backslash goes on in the next one;
//! `\uXXXX` is a UTF-16 unit. Names mind their case, and of two keys of one name the last one counts.

use std::ops::Range;

use super::ini::one_line;
use super::{EditFault, Format, Found, Kind, Result, Splice, Syntax, line_end};

pub(super) struct Properties;

const BLANK: [char; 3] = [' ', '\t', '\u{c}'];

/// A line with those that it goes on in.
struct Line {
    all: Range<usize>,
    key: Range<usize>,
    value: Range<usize>,
}

impl Syntax for Properties {
    fn find(&self, text: &str, key: &str) -> Result<Option<Found>> {
        check(key)?;
        let mut found = None;
        each(text, |line| {
            if line.key.end < line.value.start && unescaped(&text[line.key]) == key {
                found = Some(Found::plain(line.value));
            }
        });
        Ok(found)
    }

    fn read(&self, raw: &str, _: Kind) -> String {
        unescaped(raw)
    }

    fn write(&self, text: &str, _: &Found, value: &str) -> Result<String> {
        Ok(escaped(value, text, false))
    }

    fn cut(&self, text: &str, key: &str, lead: &str) -> Result<Option<Range<usize>>> {
        check(key)?;
        let mut cut = None;
        each(text, |line| {
            if unescaped(&text[line.key.clone()]) == key {
                // A key without a value was there.
                cut = Some(if lead == "=" { line.key.end..line.value.end } else { line.all });
            }
        });
        Ok(cut)
    }

    fn entries(&self, text: &str) -> Result<Vec<(String, String)>> {
        let mut entries = Vec::new();
        each(text, |line| entries.push((unescaped(&text[line.key]), unescaped(&text[line.value]))));
        Ok(entries)
    }

    fn add(&self, text: &str, key: &str, value: &str) -> Result<Splice> {
        check(key)?;
        let end = line_end(text);
        let (mut bare, mut between) = (None, "=");
        each(text, |line| {
            if line.key.end == line.value.start && unescaped(&text[line.key.clone()]) == key {
                bare = Some(line.key.end);
            } else if line.key.end < line.value.start && !text[line.key.end..line.value.start].contains('\\') {
                between = &text[line.key.end..line.value.start];
            }
        });
        if bare.is_none() && text.lines().next_back().is_some_and(goes_on) {
            let why = "the last line of the file goes on, and nothing comes".into();
            return Err(EditFault::Format { format: Format::Properties, why });
        }
        let raw = escaped(value, text, false);
        if let Some(at) = bare {
            return Ok(Splice { range: at..at, put: format!("={raw}"), value: 1..1 + raw.len() });
        }
        let (lead, tail) = if text.is_empty() || text.ends_with(['\n', '\r']) { ("", end) } else { (end, "") };
        let before = format!("{lead}{}{between}", escaped(key, text, true));
        let value = before.len()..before.len() + raw.len();
        Ok(Splice { range: text.len()..text.len(), put: format!("{before}{raw}{tail}"), value })
    }
}

fn check(key: &str) -> Result<()> {
    let why = match key {
        "" => "it names no key",
        key if key.contains(['\n', '\r', '\0']) => "a key has no line end",
        _ => return Ok(()),
    };
    Err(EditFault::Key { format: Format::Properties, key: key.into(), why: why.into() })
}

/// Shows every line that has a key.
fn each(text: &str, mut see: impl FnMut(Line)) {
    let mut at = 0;
    while at < text.len() {
        let mut end = one_line(text, at);
        let shown = text[at..end].trim_start_matches(BLANK);
        let start = end - shown.len();
        if !shown.trim_start_matches(['\n', '\r']).is_empty() && !shown.starts_with(['#', '!']) {
            while goes_on(&text[start..end]) && end < text.len() {
                end = one_line(text, end);
            }
            let shown = text[start..end].len() - text[start..end].trim_end_matches(['\n', '\r']).len();
            see(line(text, at..end, start..end - shown));
        }
        at = end;
    }
}

/// Whether the next line belongs to it: it ends with a backslash that none is before.
fn goes_on(line: &str) -> bool {
    let line = line.strip_suffix("\r\n").or_else(|| line.strip_suffix(['\n', '\r'])).unwrap_or(line);
    (line.len() - line.trim_end_matches('\\').len()) % 2 == 1
}

fn line(text: &str, all: Range<usize>, shown: Range<usize>) -> Line {
    let (mut at, end) = (shown.start, shown.end);
    while let Some(c) = text[at..end].chars().next() {
        match c {
            '=' | ':' => break,
            c if BLANK.contains(&c) => break,
            '\\' => at += 1 + text[at + 1..end].chars().next().map_or(0, char::len_utf8),
            c => at += c.len_utf8(),
        }
    }
    let key = shown.start..at.min(end);
    let blanks = |from: usize| end - text[from..end].trim_start_matches(BLANK).len();
    let mut start = blanks(key.end);
    if text[start..end].starts_with(['=', ':']) {
        start = blanks(start + 1);
    }
    Line { all, key, value: start..end }
}

fn unescaped(raw: &str) -> String {
    let mut units = Vec::new();
    let mut rest = raw;
    while let Some(c) = rest.chars().next() {
        rest = &rest[c.len_utf8()..];
        let Some(escaped) = rest.chars().next().filter(|_| c == '\\') else {
            units.extend_from_slice(c.encode_utf16(&mut [0; 2]));
            continue;
        };
        let hex = rest.get(1..5).and_then(|digits| u16::from_str_radix(digits, 16).ok()).filter(|_| escaped == 'u');
        rest = &rest[escaped.len_utf8()..];
        match (escaped, hex) {
            ('\r', _) => rest = rest.strip_prefix('\n').unwrap_or(rest).trim_start_matches(BLANK),
            ('\n', _) => rest = rest.trim_start_matches(BLANK),
            ('u', Some(unit)) => {
                units.push(unit);
                rest = &rest[4..];
            }
            (c, _) => {
                let c = match c {
                    't' => '\t',
                    'n' => '\n',
                    'r' => '\r',
                    'f' => '\u{c}',
                    c => c,
                };
                units.extend_from_slice(c.encode_utf16(&mut [0; 2]));
            }
        }
    }
    String::from_utf16_lossy(&units)
}

/// A key or a value as it is written. What is not ASCII is escaped, which every reader knows, unless the file has such
/// characters as they are.
fn escaped(value: &str, text: &str, key: bool) -> String {
    let raw = !text.is_ascii() && !text.contains("\\u");
    let mut out = String::with_capacity(value.len());
    for (at, c) in value.char_indices() {
        match c {
            '\\' => out.push_str("\\\\"),
            '\t' => out.push_str("\\t"),
            '\n' => out.push_str("\\n"),
            '\r' => out.push_str("\\r"),
            '\u{c}' => out.push_str("\\f"),
            ' ' if key || at == 0 => out.push_str("\\ "),
            '=' | ':' if key => out.extend(['\\', c]),
            '#' | '!' if key && at == 0 => out.extend(['\\', c]),
            c if c.is_ascii_graphic() || c == ' ' || raw && !c.is_control() => out.push(c),
            c => c.encode_utf16(&mut [0; 2]).iter().for_each(|unit| out.push_str(&format!("\\u{unit:04X}"))),
        }
    }
    out
}
