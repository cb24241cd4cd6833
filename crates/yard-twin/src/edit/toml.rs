//! TOML 1.0. Read by `toml_edit` for where things are; the splice is ours, since it prints other line ends than it read.

use std::ops::Range;

use toml_edit::{Document, Item, Key, Table, Value};

use super::value::cut_lines;
use super::{EditFault, Format, Found, Kind, Result, Splice, Syntax, line_end, place};

pub(super) struct Toml;

/// What a part of a key leads to.
#[derive(Clone, Copy)]
enum Node<'a> {
    Table(&'a Table),
    Tables(&'a toml_edit::ArrayOfTables),
    Value(&'a Value),
}

/// How far a key leads.
struct Walked<'a, 'p> {
    node: Node<'a>,
    left: &'p [String],
    /// The last table on the way that has a header of its own, or is the root, and what of the key is below it.
    section: (&'a Table, &'p [String]),
}

impl Syntax for Toml {
    fn find(&self, text: &str, key: &str) -> Result<Option<Found>> {
        let path = path(key)?;
        let document = parse(text)?;
        let walked = walk(document.as_table(), &path);
        match (walked.node, walked.left) {
            (Node::Value(value), []) => Ok(value.span().map(Found::plain)),
            (_, []) => Err(EditFault::Key {
                format: Format::Toml,
                key: key.into(),
                why: "there is a table, and no single value".into(),
            }),
            _ => Ok(None),
        }
    }

    fn read(&self, raw: &str, _: Kind) -> String {
        match raw.parse::<Value>() {
            Ok(Value::String(string)) => string.value().clone(),
            _ => raw.to_owned(),
        }
    }

    fn write(&self, text: &str, found: &Found, value: &str) -> Result<String> {
        match text[found.range.clone()].parse::<Value>() {
            Ok(Value::String(_)) => Ok(quoted(value)),
            Ok(Value::Array(_) | Value::InlineTable(_)) if !is_value(value) => {
                let why = "there are several values there: name one of them, or write all of them as TOML".into();
                Err(EditFault::Value { value: value.into(), why })
            }
            _ => Ok(fresh(value)),
        }
    }

    fn cut(&self, text: &str, key: &str, lead: &str) -> Result<Option<Range<usize>>> {
        let Some(found) = self.find(text, key)? else { return Ok(None) };
        let line = text[..found.range.start].rfind('\n').map_or(0, |end| end + 1);
        // One of several values in a line can't go by lines.
        let alone = !text[line..found.range.start].contains(['{', '[', ',']);
        let path = path(key)?;
        let header = of_tables(text, parse(text)?.as_table(), &path[..path.len() - 1]).0;
        let is_header = |shown: &str| {
            let name = shown.strip_prefix('[').and_then(|rest| rest.split_once(']')).map(|(name, _)| Key::parse(name));
            name.is_some_and(|name| name.is_ok_and(|keys| keys.iter().map(Key::get).eq(header.iter())))
        };
        Ok(if alone { cut_lines(text, &found.range, lead, is_header) } else { None })
    }

    fn entries(&self, text: &str) -> Result<Vec<(String, String)>> {
        let document = parse(text)?;
        let mut entries = Vec::new();
        leaves(Node::Table(document.as_table()), String::new(), &mut entries);
        Ok(entries)
    }

    fn add(&self, text: &str, key: &str, value: &str) -> Result<Splice> {
        let path = path(key)?;
        let document = parse(text)?;
        let root = document.as_table();
        let Walked { node, left, section: (section, below) } = walk(root, &path);
        let raw = fresh(value);
        match node {
            Node::Value(Value::InlineTable(table)) => {
                let at = table.span().map_or(0, |span| span.start) + 1;
                let spaced = text[at..].starts_with(' ');
                let tail = if !table.is_empty() {
                    ","
                } else if spaced {
                    ""
                } else {
                    " "
                };
                Ok(spliced(at, " ", &format!("{} = ", dotted(left)), &raw, tail))
            }
            // A table that only dotted keys make is added to by one more of them.
            Node::Table(table) if table.is_dotted() => Ok(in_table(text, section, root, below, &raw)),
            Node::Table(table) if left.len() == 1 && !table.is_implicit() => {
                Ok(in_table(text, table, root, left, &raw))
            }
            Node::Table(table) if left.len() == 1 && std::ptr::eq(table, root) => {
                Ok(in_table(text, root, root, left, &raw))
            }
            Node::Table(_) => {
                let (name, header) = path.split_last().map_or((&path[0], &path[..0]), |(last, rest)| (last, rest));
                let (header, at) = of_tables(text, root, header);
                Ok(new_table(text, &header, name, (&raw, at)))
            }
            Node::Value(_) | Node::Tables(_) => {
                let why = "a part of it is no table".into();
                Err(EditFault::Key { format: Format::Toml, key: key.into(), why })
            }
        }
    }
}

/// Each value that holds no others, by its path.
fn leaves(node: Node<'_>, path: String, entries: &mut Vec<(String, String)>) {
    match node {
        Node::Table(table) => {
            for (name, item) in table {
                if let Some(node) = of_item(item) {
                    leaves(node, format!("{path}/{name}"), entries);
                }
            }
        }
        Node::Tables(tables) => {
            for (at, table) in tables.iter().enumerate() {
                leaves(Node::Table(table), format!("{path}/{at}"), entries);
            }
        }
        Node::Value(Value::InlineTable(table)) => {
            for (name, value) in table {
                leaves(Node::Value(value), format!("{path}/{name}"), entries);
            }
        }
        Node::Value(Value::Array(array)) => {
            for (at, value) in array.iter().enumerate() {
                leaves(Node::Value(value), format!("{path}/{at}"), entries);
            }
        }
        Node::Value(value) => entries.push((path, value.clone().decorated("", "").to_string())),
    }
}

fn of_item(item: &Item) -> Option<Node<'_>> {
    match item {
        Item::Table(table) => Some(Node::Table(table)),
        Item::ArrayOfTables(tables) => Some(Node::Tables(tables)),
        Item::Value(value) => Some(Node::Value(value)),
        Item::None => None,
    }
}

/// A line behind the header of a table, or at the top.
fn in_table(text: &str, table: &Table, root: &Table, keys: &[String], raw: &str) -> Splice {
    let end = line_end(text);
    let key = format!("{} = ", dotted(keys));
    if std::ptr::eq(table, root) {
        return spliced(0, "", &key, raw, end);
    }
    let header = table.span().map_or(0, |span| span.end);
    match text[header..].find('\n') {
        Some(at) => spliced(header + at + 1, "", &key, raw, end),
        None => spliced(text.len(), end, &key, raw, ""),
    }
}

/// The header of a table to be made, and where it goes: in an element of an array of tables it has no number, and stands
/// behind all else that belongs to that element; else at the end.
fn of_tables(text: &str, root: &Table, path: &[String]) -> (Vec<String>, usize) {
    let (mut header, mut node, mut at) = (Vec::new(), Some(Node::Table(root)), text.len());
    for part in path {
        let index = || part.parse::<usize>().ok();
        node = match node {
            Some(Node::Tables(tables)) => {
                let element = index().and_then(|at| tables.get(at));
                at = element.map_or(text.len(), |element| end_of(text, root, element));
                element.map(Node::Table)
            }
            Some(Node::Table(table)) => {
                header.push(part.clone());
                table.get(part).and_then(of_item)
            }
            _ => {
                header.push(part.clone());
                None
            }
        };
    }
    (header, at)
}

/// Where what belongs to a table ends: at the next header of one that does not, or at the end of the text. Comments and blank
/// lines before that header are its own.
fn end_of(text: &str, root: &Table, table: &Table) -> usize {
    let (mut own, mut all) = (Vec::new(), Vec::new());
    headers(Node::Table(table), &mut own);
    headers(Node::Table(root), &mut all);
    let last = own.iter().max().copied().unwrap_or(text.len());
    let Some(next) = all.into_iter().filter(|start| *start > last).min() else { return text.len() };
    let mut end = text[..next].rfind('\n').map_or(0, |end| end + 1);
    while let Some(line) = text[..end].lines().next_back() {
        let shown = line.trim();
        if !shown.is_empty() && !shown.starts_with('#') {
            break;
        }
        end = text[..end - 1].rfind('\n').map_or(0, |end| end + 1);
    }
    end
}

/// Where the headers of a table and of all below it begin.
fn headers(node: Node<'_>, starts: &mut Vec<usize>) {
    match node {
        Node::Table(table) => {
            starts.extend(table.span().filter(|_| !table.is_implicit() && !table.is_dotted()).map(|span| span.start));
            table.iter().filter_map(|(_, item)| of_item(item)).for_each(|node| headers(node, starts));
        }
        Node::Tables(tables) => tables.iter().for_each(|table| headers(Node::Table(table), starts)),
        Node::Value(_) => {}
    }
}

/// A new table behind `at`.
fn new_table(text: &str, header: &[String], name: &String, (raw, at): (&str, usize)) -> Splice {
    let end = line_end(text);
    let text = &text[..at];
    let ended = text.is_empty() || text.ends_with('\n');
    let blank = if text.is_empty() || text.ends_with(&format!("{end}{end}")) { "" } else { end };
    let lead = format!("{}{blank}[{}]{end}", if ended { "" } else { end }, dotted(header));
    let key = format!("{} = ", dotted(std::slice::from_ref(name)));
    spliced(text.len(), &lead, &key, raw, if ended { end } else { "" })
}

fn spliced(at: usize, lead: &str, key: &str, raw: &str, tail: &str) -> Splice {
    let start = lead.len() + key.len();
    Splice { range: at..at, put: format!("{lead}{key}{raw}{tail}"), value: start..start + raw.len() }
}

fn parse(text: &str) -> Result<Document<&str>> {
    Document::parse(text).map_err(|error| {
        let at = error.span().map_or(0, |span| span.start);
        EditFault::Format { format: Format::Toml, why: format!("{}, {}", error.message().trim(), place(text, at)) }
    })
}

fn path(key: &str) -> Result<Vec<String>> {
    match Key::parse(key) {
        Ok(keys) => Ok(keys.iter().map(|key| key.get().to_owned()).collect()),
        Err(_) => {
            let why = "write it as TOML does: outer.inner, with quotes around what is no plain word".into();
            Err(EditFault::Key { format: Format::Toml, key: key.into(), why })
        }
    }
}

fn walk<'a, 'p>(root: &'a Table, path: &'p [String]) -> Walked<'a, 'p> {
    let mut walked = Walked { node: Node::Table(root), left: path, section: (root, path) };
    while let Some((part, rest)) = walked.left.split_first() {
        let index = || part.parse::<usize>().ok();
        let next = match walked.node {
            Node::Table(table) => table.get(part).and_then(of_item),
            Node::Tables(tables) => index().and_then(|at| tables.get(at)).map(Node::Table),
            Node::Value(Value::InlineTable(table)) => table.get(part).map(Node::Value),
            Node::Value(Value::Array(array)) => index().and_then(|at| array.get(at)).map(Node::Value),
            Node::Value(_) => None,
        };
        let Some(next) = next else { break };
        if let Node::Table(table) = next
            && !table.is_implicit()
            && !table.is_dotted()
        {
            walked.section = (table, rest);
        }
        (walked.node, walked.left) = (next, rest);
    }
    walked
}

fn dotted(keys: &[String]) -> String {
    let each: Vec<String> = keys.iter().map(|key| Key::new(key.as_str()).display_repr().into_owned()).collect();
    each.join(".")
}

/// What is itself TOML, and no string, as it is; anything else as a string.
fn fresh(value: &str) -> String {
    if is_value(value) { value.to_owned() } else { quoted(value) }
}

fn is_value(value: &str) -> bool {
    value.trim() == value && value.parse::<Value>().is_ok_and(|value| !value.is_str())
}

fn quoted(value: &str) -> String {
    Value::from(value).to_string()
}
