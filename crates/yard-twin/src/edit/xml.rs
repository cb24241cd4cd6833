//! XML 1.0. Read by `quick-xml` for where things are; the splice is ours, since a writer would print the rest anew.

use std::ops::Range;

use quick_xml::Reader;
use quick_xml::events::Event;

use super::{EditFault, Format, Found, Kind, Result, Splice, Syntax, line_end, place};

/// Elements in one another; more are refused.
const DEEPEST: usize = 256;

pub(super) struct Xml;

/// An element, and where it is.
#[derive(Default)]
struct Element {
    name: String,
    /// Its start tag.
    start: Range<usize>,
    /// Its end tag; `None` where the start tag ends it.
    end: Option<Range<usize>>,
    attributes: Vec<Attribute>,
    children: Vec<Element>,
    /// What is in its CDATA sections.
    cdata: Vec<Range<usize>>,
    /// Its comments and instructions.
    breaks: Vec<Range<usize>>,
}

struct Attribute {
    name: String,
    /// Between the quotes.
    value: Range<usize>,
    quote: char,
}

/// One step of a path.
struct Step {
    name: String,
    pick: Pick,
}

enum Pick {
    First,
    Nth(usize),
    With(String, String),
}

/// A path: elements, then perhaps an attribute.
struct Path {
    steps: Vec<Step>,
    attribute: Option<String>,
}

impl Syntax for Xml {
    fn find(&self, text: &str, key: &str) -> Result<Option<Found>> {
        let path = path(key)?;
        let root = parse(text)?;
        let (element, left) = walk(&root, &path.steps, text);
        let Some(element) = element.filter(|_| left.is_empty()) else { return Ok(None) };
        match &path.attribute {
            Some(name) => Ok(element
                .attribute(name)
                .map(|attribute| Found { range: attribute.value.clone(), kind: Kind::Attribute(attribute.quote) })),
            None => element.text(text, key),
        }
    }

    fn read(&self, raw: &str, kind: Kind) -> String {
        if kind == Kind::CData { raw.to_owned() } else { unescaped(raw) }
    }

    fn write(&self, _: &str, found: &Found, value: &str) -> Result<String> {
        if value.chars().any(|c| c.is_control() && !matches!(c, '\t' | '\n' | '\r')) {
            let why = "XML has no such characters".into();
            return Err(EditFault::Value { value: value.into(), why });
        }
        Ok(match found.kind {
            Kind::CData => value.to_owned(),
            Kind::Plain => edged(value),
            Kind::Attribute(quote) => escaped(value, Some(quote)),
        })
    }

    fn cut(&self, text: &str, key: &str, lead: &str) -> Result<Option<Range<usize>>> {
        let path = path(key)?;
        let root = parse(text)?;
        let (element, left) = walk(&root, &path.steps, text);
        let Some(element) = element.filter(|_| left.is_empty()) else { return Ok(None) };
        let attribute = path.attribute.as_ref().and_then(|name| element.attribute(name));
        Ok(match (lead.matches('<').count(), attribute) {
            (0, Some(attribute)) => {
                let before = text[..attribute.value.start - 1].trim_end_matches([' ', '=', '\t', '\n', '\r']);
                let name = before.len() - attribute.name.len();
                Some(text[..name].trim_end().len()..attribute.value.end + 1)
            }
            // An element that was made for it, and holds nothing else; so do those around it that were.
            (made, attribute) if made > 0 && element.holds_only(text, attribute, path.steps.last()) => {
                let mut element = element;
                for count in (1..path.steps.len()).rev().take(made - 1) {
                    let (Some(outer), []) = walk(&root, &path.steps[..count], text) else { break };
                    if outer.children.len() > 1 || !outer.attributes.is_empty() || !outer.breaks.is_empty() {
                        break;
                    }
                    element = outer;
                }
                let end = element.end.as_ref().map_or(element.start.end, |end| end.end);
                let line = text[..element.start.start].trim_end_matches([' ', '\t']).trim_end_matches(['\n', '\r']);
                let own_line = text[line.len()..element.start.start].contains(['\n', '\r']);
                Some(if own_line { line.len() } else { element.start.start }..end)
            }
            _ => None,
        })
    }

    fn entries(&self, text: &str) -> Result<Vec<(String, String)>> {
        let mut entries = Vec::new();
        parse(text)?.leaves(text, "", &mut entries);
        Ok(entries)
    }

    fn add(&self, text: &str, key: &str, value: &str) -> Result<Splice> {
        let path = path(key)?;
        let root = parse(text)?;
        let (element, left) = walk(&root, &path.steps, text);
        let Some(element) = element else {
            let why = format!("the outermost element is {}", root.name);
            return Err(EditFault::Key { format: Format::Xml, key: key.into(), why });
        };
        let piece = Piece::new(
            left,
            path.attribute.as_deref(),
            &self.write("", &Found { range: 0..0, kind: in_tag(&path) }, value)?,
        );
        Ok(match (&element.end, left.is_empty()) {
            // A new attribute stands behind the others.
            (_, true) if path.attribute.is_some() => {
                let tag = &text[element.start.clone()];
                let inner = tag.trim_end_matches(['>', '/']).trim_end();
                piece.at(element.start.start + inner.len()..element.start.start + inner.len(), "", "")
            }
            (None, _) => {
                let close = element.start.end - 2;
                piece.at(close..element.start.end, ">", &format!("</{}>", element.name))
            }
            (Some(_), _) => {
                let at = element.start.end;
                let lead = match element.children.first() {
                    // On a line of its own, as far in as the first of the others.
                    Some(first) if text[at..first.start.start].contains(['\n', '\r']) => {
                        let before = &text[at..first.start.start];
                        let indent = before.rfind(['\n', '\r']).map_or("", |last| &before[last + 1..]);
                        format!("{}{indent}", line_end(text))
                    }
                    _ => String::new(),
                };
                piece.at(at..at, &lead, "")
            }
        })
    }
}

impl Element {
    /// What is between its tags.
    fn inner<'a>(&self, text: &'a str) -> &'a str {
        self.end.as_ref().map_or("", |end| &text[self.start.end..end.start])
    }

    /// Whether it is there for one value only: the attribute, or its text.
    fn holds_only(&self, text: &str, attribute: Option<&Attribute>, step: Option<&Step>) -> bool {
        // What it is picked by came with it.
        let is_pick =
            |one: &Attribute| matches!(step, Some(Step { pick: Pick::With(name, _), .. }) if *name == one.name);
        let others =
            self.attributes.iter().filter(|one| !is_pick(one) && attribute.is_none_or(|own| own.name != one.name));
        let plain = self.children.is_empty() && self.cdata.is_empty() && self.breaks.is_empty();
        let blank = || self.inner(text).trim().is_empty();
        plain && others.count() == 0 && (attribute.is_none() || blank())
    }

    /// Attributes and texts below it, each by its path.
    fn leaves(&self, text: &str, path: &str, entries: &mut Vec<(String, String)>) {
        for attribute in &self.attributes {
            entries.push((format!("{path}/@{}", attribute.name), text[attribute.value.clone()].to_owned()));
        }
        let inner = self.inner(text).trim();
        if self.children.is_empty() && (self.attributes.is_empty() || !inner.is_empty()) {
            entries.push((path.to_owned(), inner.to_owned()));
        }
        // Not which of several it is: one that goes would make others of all behind it.
        for child in &self.children {
            child.leaves(text, &format!("{path}/{}", child.name), entries);
        }
    }
}

/// Elements and an attribute to be added, and where in them the value is.
struct Piece {
    put: String,
    value: Range<usize>,
}

impl Piece {
    fn new(steps: &[Step], attribute: Option<&str>, raw: &str) -> Self {
        let Some((last, outer)) = steps.split_last() else {
            let Some(name) = attribute else { return Self { put: raw.into(), value: 0..raw.len() } };
            let before = format!(" {name}=\"");
            let value = before.len()..before.len() + raw.len();
            return Self { put: format!("{before}{raw}\""), value };
        };
        let mut put: String = outer.iter().map(|step| format!("<{}>", step.open())).collect();
        put.push_str(&format!("<{}", last.open()));
        let (before, after) = match attribute {
            Some(name) => (format!(" {name}=\""), "\"/>".to_owned()),
            None => (">".to_owned(), format!("</{}>", last.name)),
        };
        put.push_str(&before);
        let value = put.len()..put.len() + raw.len();
        put.push_str(raw);
        put.push_str(&after);
        outer.iter().rev().for_each(|step| put.push_str(&format!("</{}>", step.name)));
        Self { put, value }
    }

    fn at(self, range: Range<usize>, lead: &str, tail: &str) -> Splice {
        let value = lead.len() + self.value.start..lead.len() + self.value.end;
        Splice { range, put: format!("{lead}{}{tail}", self.put), value }
    }
}

impl Step {
    fn fits(&self, name: &str) -> bool {
        let local = name.rsplit(':').next().unwrap_or(name);
        self.name == name || (!self.name.contains(':') && self.name == local)
    }

    /// The start of a tag of such an element.
    fn open(&self) -> String {
        match &self.pick {
            Pick::With(name, value) => format!("{} {name}=\"{}\"", self.name, escaped(value, Some('"'))),
            Pick::First | Pick::Nth(_) => self.name.clone(),
        }
    }
}

impl Element {
    fn attribute(&self, name: &str) -> Option<&Attribute> {
        let local = |attribute: &&Attribute| attribute.name.rsplit_once(':').is_some_and(|(_, local)| local == name);
        let exact = self.attributes.iter().find(|attribute| attribute.name == name);
        exact.or_else(|| self.attributes.iter().find(local).filter(|_| !name.contains(':')))
    }

    /// Where its text is, without the space around it; `None` where its start tag ends it.
    fn text(&self, text: &str, key: &str) -> Result<Option<Found>> {
        let Some(end) = &self.end else { return Ok(None) };
        let wrong = |why: &str| Err(EditFault::Key { format: Format::Xml, key: key.into(), why: why.into() });
        if !self.children.is_empty() {
            return wrong("there are elements, and no text");
        }
        let inner = &text[self.start.end..end.start];
        if let [cdata] = self.cdata.as_slice() {
            let around = inner.len() - cdata.len() - "<![CDATA[]]>".len();
            let blank = text[self.start.end..cdata.start].trim_start().len() == "<![CDATA[".len()
                && text[cdata.end..end.start].trim_end().len() == "]]>".len();
            if blank || around == 0 {
                return Ok(Some(Found { range: cdata.clone(), kind: Kind::CData }));
            }
        }
        if !self.cdata.is_empty() {
            return wrong("its text is in several pieces");
        }
        // Comments may stand beside it.
        let from = [self.start.end].into_iter().chain(self.breaks.iter().map(|range| range.end));
        let to = self.breaks.iter().map(|range| range.start).chain([end.start]);
        let pieces: Vec<Range<usize>> = from.zip(to).map(|(from, to)| from..to).collect();
        let mut texts = pieces.iter().filter(|piece| !text[(*piece).clone()].trim().is_empty());
        match (texts.next(), texts.next()) {
            (Some(_), Some(_)) => wrong("its text is in several pieces"),
            // Space alone is no value; what comes stands in its place.
            (None, _) if self.breaks.is_empty() => Ok(Some(Found::plain(self.start.end..end.start))),
            (None, _) => Ok(Some(Found::plain(self.start.end..self.start.end))),
            (Some(piece), None) => {
                let inner = &text[piece.clone()];
                let start = piece.end - inner.trim_start().len();
                Ok(Some(Found::plain(start..start + inner.trim().len())))
            }
        }
    }
}

/// `/outer/inner[2]/@name`.
fn path(key: &str) -> Result<Path> {
    let wrong = |why: &str| EditFault::Key { format: Format::Xml, key: key.into(), why: why.into() };
    let mut steps = Vec::new();
    let mut attribute = None;
    for part in split(key.strip_prefix('/').unwrap_or(key)) {
        if attribute.is_some() {
            return Err(wrong("nothing is below an attribute"));
        }
        let odd = |name: &str| {
            name.is_empty() || name.contains(|c: char| c.is_whitespace() || c.is_control() || "<>&\"'=/@[]".contains(c))
        };
        if let Some(name) = part.strip_prefix('@') {
            if odd(name) {
                return Err(wrong("@ is followed by the name of an attribute"));
            }
            attribute = Some(name.to_owned());
            continue;
        }
        let (name, pick) = match part.strip_suffix(']').and_then(|part| part.split_once('[')) {
            None => (part, Pick::First),
            Some((name, inner)) => {
                (name, pick(inner).ok_or_else(|| wrong("in [] is a number from 1, or @name='value'"))?)
            }
        };
        if odd(name) {
            return Err(wrong("write it as /outer/inner, or /outer/inner/@name"));
        }
        steps.push(Step { name: name.into(), pick });
    }
    if steps.is_empty() {
        return Err(wrong("it names no element"));
    }
    Ok(Path { steps, attribute })
}

/// The parts between slashes that are in no brackets.
fn split(key: &str) -> Vec<&str> {
    let (mut parts, mut start, mut inside) = (Vec::new(), 0, false);
    for (at, c) in key.char_indices() {
        match c {
            '[' => inside = true,
            ']' => inside = false,
            '/' if !inside => {
                parts.push(&key[start..at]);
                start = at + 1;
            }
            _ => {}
        }
    }
    parts.push(&key[start..]);
    parts
}

fn pick(inner: &str) -> Option<Pick> {
    if let Ok(number) = inner.parse::<usize>() {
        return number.checked_sub(1).map(Pick::Nth);
    }
    let (name, value) = inner.strip_prefix('@')?.split_once('=')?;
    let value = ['\'', '"'].into_iter().find_map(|quote| value.strip_prefix(quote)?.strip_suffix(quote))?;
    (!name.is_empty()).then(|| Pick::With(name.into(), value.into()))
}

/// The element that a path leads to, as far as it leads; none if the root is another one.
fn walk<'a, 'p>(root: &'a Element, steps: &'p [Step], text: &str) -> (Option<&'a Element>, &'p [Step]) {
    let has = |element: &Element, step: &Step| {
        step.fits(&element.name)
            && match &step.pick {
                Pick::With(name, value) => {
                    element.attribute(name).is_some_and(|attribute| unescaped(&text[attribute.value.clone()]) == *value)
                }
                Pick::First | Pick::Nth(_) => true,
            }
    };
    let Some((first, mut left)) = steps.split_first().filter(|(first, _)| has(root, first)) else {
        return (None, steps);
    };
    if matches!(first.pick, Pick::Nth(1..)) {
        return (None, steps);
    }
    let mut element = root;
    while let Some((step, rest)) = left.split_first() {
        let nth = if let Pick::Nth(nth) = step.pick { nth } else { 0 };
        let Some(next) = element.children.iter().filter(|child| has(child, step)).nth(nth) else { break };
        (element, left) = (next, rest);
    }
    (Some(element), left)
}

/// The outermost element.
fn parse(text: &str) -> Result<Element> {
    let fail =
        |why: String, at: usize| EditFault::Format { format: Format::Xml, why: format!("{why}, {}", place(text, at)) };
    let mut reader = Reader::from_str(text);
    let (mut open, mut roots): (Vec<Element>, Vec<Element>) = (Vec::new(), Vec::new());
    let mut at = 0;
    loop {
        let event = reader.read_event().map_err(|error| fail(error.to_string(), at))?;
        // Positions are within the text.
        let next = usize::try_from(reader.buffer_position()).unwrap_or(text.len()).min(text.len());
        let range = at..next;
        match event {
            Event::Start(_) if open.len() >= DEEPEST => return Err(fail("it is nested too deeply".into(), at)),
            Event::Start(_) => open.push(element(text, range)),
            Event::Empty(_) => close(element(text, range), &mut open, &mut roots),
            Event::End(_) => {
                let Some(mut element) = open.pop() else { return Err(fail("an end tag has no start".into(), at)) };
                element.end = Some(range);
                close(element, &mut open, &mut roots);
            }
            Event::CData(_) => {
                if let Some(element) = open.last_mut() {
                    element.cdata.push(at + "<![CDATA[".len()..next - "]]>".len());
                }
            }
            Event::Comment(_) | Event::PI(_) => {
                if let Some(element) = open.last_mut() {
                    element.breaks.push(range);
                }
            }
            Event::Eof => break,
            _ => {}
        }
        at = next;
    }
    match (open.pop(), roots.len()) {
        (None, 1) => Ok(roots.remove(0)),
        (Some(element), _) => Err(fail(format!("{} has no end tag", element.name), element.start.start)),
        (None, 0) => Err(fail("it holds no element".into(), 0)),
        (None, _) => Err(fail("it holds several outermost elements".into(), roots[1].start.start)),
    }
}

fn close(element: Element, open: &mut [Element], roots: &mut Vec<Element>) {
    match open.last_mut() {
        Some(outer) => outer.children.push(element),
        None => roots.push(element),
    }
}

/// An element from its start tag.
fn element(text: &str, start: Range<usize>) -> Element {
    let tag = text[start.clone()].trim_start_matches('<').trim_end_matches('>').trim_end_matches('/');
    let name_end = tag.find(char::is_whitespace).unwrap_or(tag.len());
    let mut element = Element { name: tag[..name_end].into(), start: start.clone(), ..Element::default() };
    let base = start.start + 1;
    let mut at = name_end;
    while let Some(equals) = tag[at..].find('=').map(|found| at + found) {
        let name = tag[at..equals].trim();
        let Some(open) = tag[equals + 1..].find(['"', '\'']).map(|found| equals + 1 + found) else { break };
        let quote = if tag[open..].starts_with('"') { '"' } else { '\'' };
        let Some(end) = tag[open + 1..].find(quote).map(|found| open + 1 + found) else { break };
        element.attributes.push(Attribute { name: name.into(), value: base + open + 1..base + end, quote });
        at = end + 1;
    }
    element
}

/// What a value that is added stands in.
fn in_tag(path: &Path) -> Kind {
    if path.attribute.is_some() { Kind::Attribute('"') } else { Kind::Plain }
}

/// A text whose spaces at the ends are part of it: a reader that drops spaces around a text keeps these.
fn edged(value: &str) -> String {
    let inner = value.trim();
    let start = value.len() - value.trim_start().len();
    let edge = |spaces: &str| spaces.chars().map(|c| format!("&#{};", u32::from(c))).collect::<String>();
    if inner.is_empty() {
        return edge(value);
    }
    format!("{}{}{}", edge(&value[..start]), escaped(inner, None), edge(&value[start + inner.len()..]))
}

fn escaped(value: &str, quote: Option<char>) -> String {
    let mut out = String::with_capacity(value.len());
    for c in value.chars() {
        match c {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' if quote == Some('"') => out.push_str("&quot;"),
            '\'' if quote == Some('\'') => out.push_str("&apos;"),
            // A reader makes a space of these in an attribute.
            // And a line end of this in any text.
            '\n' | '\t' if quote.is_some() => out.push_str(&format!("&#{};", u32::from(c))),
            '\r' => out.push_str(&format!("&#{};", u32::from(c))),
            c => out.push(c),
        }
    }
    out
}

/// The text with the references that every reader knows put in; others stay as they are.
fn unescaped(raw: &str) -> String {
    let mut out = String::with_capacity(raw.len());
    let mut rest = raw;
    while let Some(at) = rest.find('&') {
        out.push_str(&rest[..at]);
        rest = &rest[at..];
        let known = rest.find(';').and_then(|end| Some((reference(&rest[1..end])?, end)));
        match known {
            Some((c, end)) => {
                out.push(c);
                rest = &rest[end + 1..];
            }
            None => {
                out.push('&');
                rest = &rest[1..];
            }
        }
    }
    out + rest
}

fn reference(name: &str) -> Option<char> {
    match name {
        "amp" => Some('&'),
        "lt" => Some('<'),
        "gt" => Some('>'),
        "quot" => Some('"'),
        "apos" => Some('\''),
        _ => {
            let number = name.strip_prefix('#')?;
            let code = match number.strip_prefix(['x', 'X']) {
                Some(hex) => u32::from_str_radix(hex, 16).ok()?,
                None => number.parse().ok()?,
            };
            char::from_u32(code)
        }
    }
}
