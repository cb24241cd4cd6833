//! JSON (RFC 8259), with what people add to it: comments, trailing commas, the leniencies of JSON5. Read by `jsonc-parser`;
//! of two properties of one name the last one counts, as most programs have it.

use std::ops::Range;

use jsonc_parser::ast::{Object, ObjectProp, Value};
use jsonc_parser::common::Ranged;
use jsonc_parser::{CollectOptions, ParseOptions, parse_to_ast};

use super::{EditFault, Format, Found, Kind, Result, Splice, Syntax, line_end, place};

pub(super) struct Json;

impl Syntax for Json {
    fn find(&self, text: &str, key: &str) -> Result<Option<Found>> {
        let path = path(key)?;
        let Some(root) = parse(text)? else { return Ok(None) };
        let (found, left) = walk(&root, &path);
        Ok(left.is_empty().then(|| Found::plain(range(found))))
    }

    fn read(&self, raw: &str, _: Kind) -> String {
        match parse(raw) {
            Ok(Some(Value::StringLit(string))) => string.value.into_owned(),
            _ => raw.to_owned(),
        }
    }

    fn write(&self, text: &str, found: &Found, value: &str) -> Result<String> {
        let old = parse(&text[found.range.clone()])?;
        Ok(match old {
            Some(Value::StringLit(_)) => quoted(value),
            Some(Value::Object(_) | Value::Array(_)) if !is_value(value) => {
                let why = "there are several values there: name one of them, or write all of them as JSON".into();
                return Err(EditFault::Value { value: value.into(), why });
            }
            _ => fresh(value, text),
        })
    }

    fn cut(&self, text: &str, key: &str, lead: &str) -> Result<Option<Range<usize>>> {
        let path = path(key)?;
        let Some(root) = parse(text)? else { return Ok(None) };
        // Objects that were made for it go with it, if they hold nothing else.
        let mut made = lead.matches('{').count();
        let mut cut = None;
        for count in (1..=path.len()).rev() {
            let (holder, left) = walk(&root, &path[..count - 1]);
            let Value::Object(object) = holder else { return Ok(cut) };
            let name = path[count - 1..].join(".");
            let name = if left.is_empty() { &path[count - 1] } else { &name };
            let Some(at) = object.properties.iter().rposition(|property| property.name.as_str() == name) else {
                return Ok(cut);
            };
            cut = property_with_comma(text, object, at);
            if made == 0 || object.properties.len() > 1 {
                return Ok(cut);
            }
            made -= 1;
        }
        // All of the file was.
        let whole = range(&root);
        Ok(Some(whole.start..super::ini::one_line(text, whole.end)))
    }

    fn entries(&self, text: &str) -> Result<Vec<(String, String)>> {
        let mut entries = Vec::new();
        if let Some(root) = parse(text)? {
            leaves(text, &root, String::new(), &mut entries);
        }
        Ok(entries)
    }

    fn add(&self, text: &str, key: &str, value: &str) -> Result<Splice> {
        let path = path(key)?;
        let end = line_end(text);
        let Some(root) = parse(text)? else {
            // Nothing but comments, if that: the object goes behind them.
            let lead = if text.is_empty() || text.ends_with(['\n', '\r']) { "" } else { end };
            let (put, at) = nested(&path, &fresh(value, text));
            let before = format!("{lead}{{ ");
            let value = before.len() + at.start..before.len() + at.end;
            return Ok(Splice { range: text.len()..text.len(), put: format!("{before}{put} }}{end}"), value });
        };
        let (found, left) = walk(&root, &path);
        let Value::Object(object) = found else {
            let why = format!("at {} there is no object to add it to", place(text, range(found).start));
            return Err(EditFault::Key { format: Format::Json, key: key.into(), why });
        };
        let (put, value) = nested(left, &fresh(value, text));
        Ok(into_object(text, object, &put, value))
    }
}

/// Each value that holds no others, by its path.
fn leaves(text: &str, value: &Value<'_>, path: String, entries: &mut Vec<(String, String)>) {
    match value {
        Value::Object(object) if !object.properties.is_empty() => {
            for property in &object.properties {
                leaves(text, &property.value, format!("{path}/{}", property.name.as_str()), entries);
            }
        }
        Value::Array(array) if !array.elements.is_empty() => {
            for (at, element) in array.elements.iter().enumerate() {
                leaves(text, element, format!("{path}/{at}"), entries);
            }
        }
        Value::Object(_) | Value::Array(_) => entries.push((path, String::new())),
        _ => entries.push((path, text[range(value)].to_owned())),
    }
}

/// A property with what parts it from its neighbours; `None` if there is a comment in that.
fn property_with_comma(text: &str, object: &Object<'_>, at: usize) -> Option<Range<usize>> {
    let its = object.properties[at].range.start..object.properties[at].range.end;
    let behind = text[its.end..].trim_start();
    let comma = behind.starts_with(',').then(|| text.len() - behind.len() + 1);
    let next = object.properties.get(at + 1).zip(comma).map(|(next, comma)| {
        let between = &text[comma..next.range.start];
        if between.trim().is_empty() {
            return its.start..next.range.start;
        }
        // A comment in between is the next one's, or nobody's.
        let blank = between.len() - between.trim_start().len();
        its.start..comma + blank
    });
    let previous = at.checked_sub(1).map(|before| object.properties[before].range.end..its.end);
    let alone = || {
        let (open, close) = (object.range.start + 1, object.range.end - 1);
        let blank = text[open..its.start].trim().is_empty() && matches!(text[its.end..close].trim(), "" | ",");
        blank.then_some(open..close)
    };
    let cut = next.or(previous).or_else(alone)?;
    let around = format!("{}{}", &text[cut.start..its.start], &text[its.end..cut.end]);
    around.chars().all(|c| c == ',' || c.is_whitespace()).then_some(cut)
}

/// The splice that puts a property in front of all others: one piece, so that it can be taken out again.
fn into_object(text: &str, object: &Object<'_>, put: &str, value: Range<usize>) -> Splice {
    let inner = object.range.start + 1;
    let (at, lead, tail) = match object.properties.first() {
        None => (inner, " ".to_owned(), if text[inner..].starts_with(['}', ' ']) { " " } else { "" }.to_owned()),
        Some(first) => {
            let start = first.range.start;
            let before = &text[inner..start];
            match (before.find(['\n', '\r']), before.rfind(['\n', '\r'])) {
                (Some(first_end), Some(last)) => {
                    // Behind the line of the brace, as far in as the first of the others.
                    let indent: String =
                        text[inner + last + 1..].chars().take_while(|c| matches!(c, ' ' | '\t')).collect();
                    (inner + first_end, format!("{}{indent}", line_end(text)), ",".to_owned())
                }
                _ => (start, String::new(), ", ".to_owned()),
            }
        }
    };
    let value = lead.len() + value.start..lead.len() + value.end;
    Splice { range: at..at, put: format!("{lead}{put}{tail}"), value }
}

fn parse(text: &str) -> Result<Option<Value<'_>>> {
    let options = ParseOptions { allow_missing_commas: false, ..ParseOptions::default() };
    match parse_to_ast(text, &CollectOptions::default(), &options) {
        Ok(parsed) => Ok(parsed.value),
        Err(error) => {
            let why = format!("{}, {}", error.kind(), place(text, error.range().start));
            Err(EditFault::Format { format: Format::Json, why })
        }
    }
}

/// The parts of `outer.inner.0`, or of a JSON pointer.
fn path(key: &str) -> Result<Vec<String>> {
    let parts: Vec<String> = match key.strip_prefix('/') {
        Some(pointer) => pointer.split('/').map(|part| part.replace("~1", "/").replace("~0", "~")).collect(),
        None => key.split('.').map(str::to_owned).collect(),
    };
    if key.starts_with('/') || parts.iter().all(|part| !part.is_empty()) {
        return Ok(parts);
    }
    let why = "write outer.inner, or a JSON pointer as /outer/inner".into();
    Err(EditFault::Key { format: Format::Json, key: key.into(), why })
}

/// As far as a path leads, and what of it is left. A property's name may itself have dots in it: the longest one counts.
fn walk<'a, 'b, 'p>(root: &'b Value<'a>, path: &'p [String]) -> (&'b Value<'a>, &'p [String]) {
    let (mut value, mut left) = (root, path);
    while !left.is_empty() {
        let next = match value {
            Value::Object(object) => (1..=left.len()).rev().find_map(|count| {
                let name = left[..count].join(".");
                Some((&property(object, &name)?.value, count))
            }),
            Value::Array(array) => left[0].parse().ok().and_then(|at: usize| Some((array.elements.get(at)?, 1))),
            _ => None,
        };
        let Some((next, count)) = next else { break };
        (value, left) = (next, &left[count..]);
    }
    (value, left)
}

fn property<'a, 'b>(object: &'b Object<'a>, name: &str) -> Option<&'b ObjectProp<'a>> {
    object.properties.iter().rev().find(|property| property.name.as_str() == name)
}

fn range(value: &Value<'_>) -> Range<usize> {
    let range = value.range();
    range.start..range.end
}

/// `"a": { "b": value }`, and where in it the value is.
fn nested(path: &[String], raw: &str) -> (String, Range<usize>) {
    let mut put = String::new();
    for (at, part) in path.iter().enumerate() {
        put.push_str(if at == 0 { "" } else { "{ " });
        put.push_str(&quoted(part));
        put.push_str(": ");
    }
    let start = put.len();
    put.push_str(raw);
    put.push_str(&" }".repeat(path.len().saturating_sub(1)));
    (put, start..start + raw.len())
}

/// A number, a word of JSON, an object or an array as it is; anything else as a string.
fn fresh(value: &str, text: &str) -> String {
    let number = || matches!(parse(value), Ok(Some(Value::NumberLit(number))) if number.value == value);
    if is_value(value) || number() && is_json5(text) { value.to_owned() } else { quoted(value) }
}

/// Whether a file holds what only JSON5 has: names without quotes, strings in single ones, its numbers.
fn is_json5(text: &str) -> bool {
    let options = ParseOptions {
        allow_loose_object_property_names: false,
        allow_single_quoted_strings: false,
        allow_hexadecimal_numbers: false,
        allow_unary_plus_numbers: false,
        allow_bare_decimal_point_numbers: false,
        allow_non_finite_numbers: false,
        ..ParseOptions::default()
    };
    parse_to_ast(text, &CollectOptions::default(), &options).is_err()
}

/// Whether a text is itself JSON, and no string.
fn is_value(value: &str) -> bool {
    value.trim() == value && serde_json::from_str(value).is_ok_and(|value: serde_json::Value| !value.is_string())
}

fn quoted(value: &str) -> String {
    serde_json::Value::from(value).to_string()
}
