//! Edits of config files: one value is set, and every other byte stays as it is.
//!
//! A file is text in an encoding; an edit is one splice of that text. What was spliced away is kept, so that an edit
//! that is not wanted any more gives back the very bytes that were there.

mod ini;
mod json;
mod lines;
mod properties;
mod quotes;
mod text;
mod toml;
mod value;
mod wanted;
mod xml;

use std::collections::BTreeSet;
use std::ops::Range;

use serde::{Deserialize, Serialize};

pub use self::wanted::Edit;

use self::text::Text;
use self::value::Values;

/// Larger files are no config files: editing one would hold it in memory several times.
pub(crate) const MAX: u64 = 16 << 20;

/// How alike two places must be, by Jaro and Winkler's measure, for one to be taken for the other mistyped.
const LIKE: f64 = 0.88;

/// So many of the likest places are looked for.
const TRIED: usize = 8;

/// How a config file is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Format {
    /// `key = value` or `key: value`, in `[sections]` or none. Places: `section.key`, `key`, or `[any section]any key`.
    Ini,
    /// `key value` on a line of its own. Places: what the line begins with.
    Lines,
    /// `key=value` with escapes, as the Java platform defines it. Places: the key.
    Properties,
    /// JSON, with comments and trailing commas. Places: `outer.inner.0`, or a JSON pointer (RFC 6901).
    Json,
    /// TOML. Places: a dotted key, with numbers for what is in an array.
    Toml,
    /// XML. Places: `/outer/inner` for the text of an element, `/outer/inner/@name` for an attribute; `[2]` picks the
    /// second of a name, `[@name='value']` the one with that attribute.
    Xml,
}

impl Format {
    /// The format that files of an ending usually have, if it is a usual one.
    #[must_use]
    pub fn of_ending(ending: &str) -> Option<Self> {
        Some(match ending {
            "ini" | "cfg" | "conf" | "config" | "inf" | "settings" | "prefs" => Self::Ini,
            "properties" => Self::Properties,
            "json" | "jsonc" | "json5" => Self::Json,
            "toml" => Self::Toml,
            "xml" => Self::Xml,
            "lst" | "rc" => Self::Lines,
            _ => return None,
        })
    }

    fn syntax(self) -> &'static dyn Syntax {
        match self {
            Self::Ini => &ini::Ini,
            Self::Lines => &lines::Lines,
            Self::Properties => &properties::Properties,
            Self::Json => &json::Json,
            Self::Toml => &toml::Toml,
            Self::Xml => &xml::Xml,
        }
    }
}

impl std::fmt::Display for Format {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self {
            Self::Ini => "ini",
            Self::Lines => "lines",
            Self::Properties => "properties",
            Self::Json => "json",
            Self::Toml => "toml",
            Self::Xml => "xml",
        })
    }
}

/// Why a config file can't be read or edited.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum EditFault {
    /// It holds bytes that no text has.
    #[error("it is no text")]
    Binary,
    /// Its text can't be written back as it was.
    #[error("its text can't be written back byte for byte, whatever its encoding is taken for")]
    Encoding,
    /// The encoding that was named is not known.
    #[error(
        "there is no encoding {0:?}; there are utf-8, utf-16le, utf-16be and the names of the WHATWG Encoding Standard"
    )]
    UnknownEncoding(String),
    /// It is larger than 16 MiB.
    #[error("it has {0} bytes, and config files of up to 16 MiB are edited")]
    TooLarge(u64),
    /// It is not of the format that was said.
    #[error("it is no {format} file: {why}")]
    Format {
        /// The format.
        format: Format,
        /// What is wrong, and where.
        why: String,
    },
    /// What names the place is not understood.
    #[error("{key:?} names no place in a file of the format {format}: {why}")]
    Key {
        /// The format.
        format: Format,
        /// What was given.
        key: String,
        /// What is wrong.
        why: String,
    },
    /// The value can't be written there.
    #[error("the value {value:?} can't be written there: {why}")]
    Value {
        /// The value.
        value: String,
        /// The reason.
        why: String,
    },
}

type Result<T, E = EditFault> = std::result::Result<T, E>;

/// A place in a text where a value stands.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Found {
    /// The value as it is written.
    range: Range<usize>,
    /// What kind of place it is, for the format to know.
    kind: Kind,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Kind {
    Plain,
    /// In a CDATA section.
    CData,
    /// In an attribute with this quote.
    Attribute(char),
}

impl Found {
    fn plain(range: Range<usize>) -> Self {
        Self { range, kind: Kind::Plain }
    }
}

/// A piece of text that takes the place of another, and holds a value.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Splice {
    range: Range<usize>,
    put: String,
    /// Where in `put` the value is.
    value: Range<usize>,
}

/// What a format knows.
trait Syntax {
    /// Where the value at a place is; `None` where there is none.
    fn find(&self, text: &str, key: &str) -> Result<Option<Found>>;

    /// What a value that is written means.
    fn read(&self, raw: &str, kind: Kind) -> String;

    /// What a value means that somebody wants to have there.
    fn meant<'a>(&self, value: &'a str) -> &'a str {
        value
    }

    /// Whether a value of several lines can stand in a text.
    fn takes_lines(&self, _text: &str) -> bool {
        true
    }

    /// How a value is written in the place of another.
    fn write(&self, text: &str, found: &Found, value: &str) -> Result<String>;

    /// The splice that adds a value where there is none.
    fn add(&self, text: &str, key: &str, value: &str) -> Result<Splice>;

    /// What goes with a value that was added behind `lead`; `None` if that can't be said.
    fn cut(&self, text: &str, key: &str, lead: &str) -> Result<Option<Range<usize>>>;

    /// Each value of a text by its place, for comparing two texts.
    fn entries(&self, text: &str) -> Result<Vec<(String, String)>>;
}

impl Splice {
    /// One that puts nothing where a value was, so that the place where it was is found again: as wide as what is blank
    /// there.
    fn findable(self, syntax: &dyn Syntax, text: &Text, key: &str) -> Result<Self> {
        let next = text.with(self.range.clone(), "");
        let Some(found) = syntax.find(&next.text, key)? else { return Ok(self) };
        let (start, at) = (self.range.start, found.range.start);
        let end = self.range.end + at.saturating_sub(start);
        let splice = Self { range: start.min(at)..end, ..self };
        // Where another value in that place would be no value of the key any more, this one is refused.
        let next = text.with(splice.range.clone(), "");
        let place = syntax.find(&next.text, key)?.map(|found| found.range).unwrap_or_default();
        let probe = next.with(place, "x");
        match syntax.find(&probe.text, key)? {
            Some(found) if syntax.read(&probe.text[found.range.clone()], found.kind) == "x" => Ok(splice),
            _ => {
                let why = "no other value could be put there afterwards".into();
                Err(EditFault::Value { value: String::new(), why })
            }
        }
    }
}

/// What an edit put into a file, and what was there: all that it takes to give that back.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Put {
    /// What was there.
    was: String,
    /// What was put in its place.
    put: String,
    /// Where in that the value is.
    value: Range<usize>,
    /// The encoding that the file was taken to have, where it does not say so itself and is no UTF-8: what is left of it
    /// afterwards may look like any other.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    encoding: Option<String>,
    /// What it means, whatever becomes of how it is written.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    values: Option<Values>,
}

/// What setting a value does.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Set {
    /// The file with it.
    pub bytes: Vec<u8>,
    /// The value before.
    pub was: Option<String>,
    /// What it takes to take it back.
    pub put: Put,
}

/// Whether bytes are a file of a format from beginning to end.
pub(crate) fn is_whole(bytes: &[u8], format: Format) -> bool {
    Text::decode(bytes, (format, None)).and_then(|text| format.syntax().entries(&text.text)).is_ok()
}

/// The value at a place of a config file; `None` where there is none.
///
/// # Errors
/// [`EditFault`] if the file is not what it is said to be.
pub fn get(bytes: &[u8], format: Format, key: &str, encoding: Option<&str>) -> Result<Option<String>> {
    let text = Text::decode(bytes, (format, encoding))?;
    let syntax = format.syntax();
    let found = syntax.find(&text.text, key)?;
    Ok(found.map(|found| syntax.read(&text.text[found.range], found.kind)))
}

/// Places of a config file that are spelt much like `key`, the likest first, where it is none itself: it may be mistyped.
/// Empty where the file can't be read.
pub(crate) fn like(bytes: &[u8], format: Format, key: &str, encoding: Option<&str>) -> Vec<String> {
    let Ok(text) = Text::decode(bytes, (format, encoding)) else { return Vec::new() };
    let syntax = format.syntax();
    let last = |place: &str| place.rsplit(['.', '/']).next().unwrap_or_default().trim_start_matches('@').to_lowercase();
    let likeness = |place: &str| {
        let whole = strsim::jaro_winkler(&place.to_lowercase(), &key.to_lowercase());
        whole.max(strsim::jaro_winkler(&last(place), &last(key)))
    };
    // Of a section's key, as it is named by those who set it.
    let place = |(place, _): (String, String)| match (format, place.split_once(']')) {
        (Format::Ini, Some((section, key))) => format!("{}.{key}", &section[1..]).trim_start_matches('.').to_owned(),
        _ => place,
    };
    let places: BTreeSet<String> = syntax.entries(&text.text).unwrap_or_default().into_iter().map(place).collect();
    let mut likest: Vec<_> = places.into_iter().map(|place| (likeness(&place), place)).collect();
    likest.retain(|(likeness, _)| *likeness >= LIKE);
    likest.sort_by(|(a, _), (b, _)| b.total_cmp(a));
    // Finding a place may read all of the file: the first few are enough to try.
    let is_there = |place: &String| matches!(syntax.find(&text.text, place), Ok(Some(_)));
    likest.into_iter().map(|(_, place)| place).take(TRIED).filter(is_there).take(2).collect()
}

/// The file with a value set, added where there was none. `before` is what an earlier edit of the same place put there.
///
/// # Errors
/// [`EditFault`] if the file is not what it is said to be, or the value can't stand there.
pub fn set(
    bytes: &[u8],
    format: Format,
    key: &str,
    value: &str,
    (encoding, before): (Option<&str>, Option<&Put>),
) -> Result<Set> {
    let text = Text::decode(bytes, (format, encoding.or_else(|| before?.encoding.as_deref())))?;
    let syntax = format.syntax();
    let found = syntax.find(&text.text, key)?;
    let was = found.as_ref().map(|found| syntax.read(&text.text[found.range.clone()], found.kind));
    if value.contains(['\n', '\r']) && !syntax.takes_lines(&text.text) {
        let why = "it has more than one line, and no value of the file has".into();
        return Err(EditFault::Value { value: value.into(), why });
    }
    let splice = match &found {
        None => syntax.add(&text.text, key, value)?,
        Some(found) if was.as_deref().is_some_and(|was| stands(syntax, was, value, before)) => {
            let raw = text.text[found.range.clone()].to_owned();
            Splice { range: found.range.clone(), value: 0..raw.len(), put: raw }
        }
        Some(found) => {
            let raw = syntax.write(&text.text, found, value)?;
            let splice = Splice { range: found.range.clone(), value: 0..raw.len(), put: raw };
            if splice.put.is_empty() { splice.findable(syntax, &text, key)? } else { splice }
        }
    };
    // Where a program has written the file anew, what was there before it was ours still counts.
    let rewritten = match (before, &found) {
        (Some(before), Some(found)) if before.region(&text.text, found).is_none() => {
            if before.is_ours(&text.text, syntax, key)? { Some((before, found)) } else { None }
        }
        _ => None,
    };
    let first = match (before, rewritten) {
        (_, Some((before, _))) => before
            .back_by_value(&text, syntax, key)?
            .map(|(range, put)| (text.with(range.clone(), &put), Some((range, put)))),
        (Some(before), None) => before.taken_back(&text, syntax, key)?.map(|first| (first, None)),
        (None, None) => None,
    };
    let put = match (before, &found, &first) {
        (Some(before), Some(found), Some((_, Some((range, was))))) => {
            let start = found.range.start - range.start;
            let raw = &text.text[range.clone()];
            let put = format!("{}{}{}", &raw[..start], splice.put, &raw[start + found.range.len()..]);
            let value_in = start..start + splice.put.len();
            Put { was: was.clone(), put, value: value_in, ..before.meaning(value) }
        }
        (Some(before), Some(_), None) if rewritten.is_some() => before.meaning(value),
        (Some(before), Some(found), _) if before.region(&text.text, found).is_some() => {
            before.with_value(&splice.put).meaning(value)
        }
        _ => Put {
            was: text.text[splice.range.clone()].into(),
            put: splice.put.clone(),
            value: splice.value.clone(),
            encoding: text.guessed(),
            values: Some(Values { was: was.clone(), put: value.into(), made: None }),
        },
    };
    let next = text.with(splice.range, &splice.put);
    // Whatever a format does, the value is there afterwards, or nothing is done.
    let there = syntax.find(&next.text, key)?.map(|found| syntax.read(&next.text[found.range], found.kind));
    let refuse = |why: &str| Err(EditFault::Value { value: value.into(), why: why.into() });
    if !there.is_some_and(|there| stands(syntax, &there, value, before)) {
        return refuse("it would be read back as another one");
    }
    if rewritten.is_some() && first.is_none() {
        // It will have to be left when it is wanted no more.
        return Ok(Set { bytes: next.encode()?, was, put });
    }
    let first = first.map(|(first, _)| first);
    let back = put.taken_back(&next, syntax, key)?;
    if back.map(|back| back.text) != Some(first.map_or_else(|| text.text.clone(), |first| first.text)) {
        return refuse("it could not be taken back");
    }
    let bytes = next.encode()?;
    // A byte order mark that came in by the key or the value is text here, and none in the file.
    if Text::decode(&bytes, (format, encoding.or(put.encoding())))?.text != next.text {
        return refuse("the file would be read in another way");
    }
    Ok(Set { bytes, was, put })
}

/// The file with what was there before an edit: the very bytes, if the edit's still stand as they were put; else the value
/// that was there, as values are written in the file now. `None` if the value has been changed since, or can't be taken out
/// without anything else.
///
/// # Errors
/// [`EditFault`] if the file is not what it is said to be.
pub fn unset(
    bytes: &[u8],
    format: Format,
    key: &str,
    (encoding, put): (Option<&str>, &Put),
) -> Result<Option<Vec<u8>>> {
    let text = Text::decode(bytes, (format, encoding.or(put.encoding.as_deref())))?;
    let syntax = format.syntax();
    let exact = put.taken_back(&text, syntax, key)?;
    if let Some(back) = exact.filter(|back| put.means_what_was(&text.text, &back.text, syntax, key)) {
        return back.encode().map(Some);
    }
    let back = put.back_by_value(&text, syntax, key)?;
    back.map(|(range, put)| text.with(range, &put).encode()).transpose()
}

/// Whether a value is the one that is wanted: an edit that was made before may have been written in another way since.
fn stands(syntax: &dyn Syntax, there: &str, value: &str, before: Option<&Put>) -> bool {
    let again = before.and_then(|before| before.values.as_ref()).is_some_and(|values| values.put == value);
    there == syntax.meant(value) || again && value::same(syntax, there, value)
}

/// Whether two values of a format mean the same: they are the same but for quotes and blanks around them, or one number, or
/// one word for yes or no in whatever case.
pub(crate) fn same_value(format: Format, a: &str, b: &str) -> bool {
    value::same(format.syntax(), a, b)
}

impl Put {
    /// The encoding that the file was taken to have, where it does not say so itself and is no UTF-8.
    #[must_use]
    pub fn encoding(&self) -> Option<&str> {
        self.encoding.as_deref()
    }

    /// The text with what was there before, if this still stands in it.
    fn taken_back(&self, text: &Text, syntax: &dyn Syntax, key: &str) -> Result<Option<Text>> {
        let found = syntax.find(&text.text, key)?;
        let region = found.and_then(|found| self.region(&text.text, &found));
        Ok(region.map(|region| text.with(region, &self.was)))
    }

    /// The same in a file in which other texts have come in the place of some.
    pub(crate) fn mapped(&self, other: &dyn Fn(&str) -> Option<String>) -> Self {
        let map = |text: &str| other(text).unwrap_or_else(|| text.to_owned());
        let (lead, raw, tail) = (self.lead(), &self.put[self.value.clone()], &self.put[self.value.end..]);
        let (lead, raw, tail) = (map(lead), map(raw), map(tail));
        let value = lead.len()..lead.len() + raw.len();
        let values = self.values.as_ref().map(|values| Values {
            was: values.was.as_deref().map(map),
            put: map(&values.put),
            made: values.made.clone(),
        });
        Self { was: map(&self.was), put: format!("{lead}{raw}{tail}"), value, values, encoding: self.encoding.clone() }
    }

    /// Where it still stands in a text, if it does.
    fn region(&self, text: &str, found: &Found) -> Option<Range<usize>> {
        let start = found.range.start.checked_sub(self.value.start)?;
        let region = start..start + self.put.len();
        let ends = ['\n', '\r'];
        // A line of its own still is one, and not indented since.
        let of_line = self.put.ends_with(ends) && !self.put.starts_with(ends);
        if of_line && !text.get(..start)?.is_empty() && !text[..start].ends_with(ends) {
            return None;
        }
        (found.range.len() == self.value.len() && text.get(region.clone())? == self.put).then_some(region)
    }

    /// The same, meaning another value.
    fn meaning(&self, value: &str) -> Self {
        let values = self.values.as_ref().map(|values| Values { put: value.into(), ..values.clone() });
        Self { values, ..self.clone() }
    }

    /// The same with another value in it.
    fn with_value(&self, raw: &str) -> Self {
        let put = format!("{}{raw}{}", &self.put[..self.value.start], &self.put[self.value.end..]);
        Self { put, value: self.value.start..self.value.start + raw.len(), ..self.clone() }
    }
}

/// The end of the first line, which is taken for that of all.
fn line_end(text: &str) -> &'static str {
    match text.find('\n') {
        Some(at) if text[..at].ends_with('\r') => "\r\n",
        Some(_) => "\n",
        None if text.contains('\r') => "\r",
        None => "\n",
    }
}

/// The line and column of an offset, as people count.
fn place(text: &str, offset: usize) -> String {
    let (line, column) = crate::text::position(text, offset.min(text.len()));
    format!("line {line}, column {column}")
}

#[cfg(test)]
#[allow(clippy::unwrap_used)]
mod tests;
