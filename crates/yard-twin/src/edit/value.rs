//! Edits by their meaning: what a program does to a file between setting a value and taking it back changes how the value is
//! written and where it stands, and not what it is.

use std::ops::Range;

use serde::{Deserialize, Serialize};

use super::text::Text;
use super::{Put, Result, Syntax};

/// What an edit means.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Values {
    /// The value before; `None` if there was none.
    pub(super) was: Option<String>,
    /// The one that was put.
    pub(super) put: String,
    /// What was put before another value that made the section in which this one stands, and is gone by now: the section goes
    /// with this one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(super) made: Option<String>,
}

/// Whether two values mean the same.
pub(super) fn same(syntax: &dyn Syntax, a: &str, b: &str) -> bool {
    let (a, b) = (syntax.meant(a.trim()).trim(), syntax.meant(b.trim()).trim());
    let is_word =
        |text: &str| ["true", "false", "yes", "no", "on", "off"].iter().any(|word| text.eq_ignore_ascii_case(word));
    a == b
        || number(a).is_some_and(|one| number(b).is_some_and(|other| one.total_cmp(&other).is_eq()))
        || is_word(a) && a.eq_ignore_ascii_case(b)
}

/// The number that a text is, hexadecimal ones too.
fn number(text: &str) -> Option<f64> {
    let plain = text.strip_prefix(['+', '-']).unwrap_or(text);
    let hex = || u32::from_str_radix(plain.strip_prefix("0x").or_else(|| plain.strip_prefix("0X"))?, 16).ok();
    match hex() {
        Some(number) => Some(f64::from(number) * if text.starts_with('-') { -1.0 } else { 1.0 }),
        None => text.parse::<f64>().ok().filter(|number| number.is_finite()),
    }
}

/// Whether two texts hold the same, but for one value at most; `many` if that may hold several.
fn same_but_one(syntax: &dyn Syntax, before: &str, after: &str, many: bool) -> Result<bool> {
    let (mut before, mut after) = (syntax.entries(before)?, syntax.entries(after)?);
    before.sort_unstable();
    after.sort_unstable();
    let (gone, come) = (without(&before, &after), without(&after, &before));
    Ok(match (gone.as_slice(), come.as_slice()) {
        ([], []) | ([_], []) | ([], [_]) => true,
        // An element that was made with the attribute that picks it.
        ([(one, _), (other, _)], []) => {
            one.split_once("/@").zip(other.split_once("/@")).is_some_and(|(a, b)| a.0 == b.0)
        }
        (gone, come) if many => {
            let mut tops = gone.iter().chain(come).map(|(place, _)| place.split('/').nth(1));
            let first = tops.next();
            tops.all(|top| Some(top) == first)
        }
        // What held it is empty now, or was.
        ([(one, _)], [(other, _)]) => one.starts_with(other.as_str()) || other.starts_with(one.as_str()),
        _ => false,
    })
}

/// Whether what is written is an object, an array or a table.
fn is_many(raw: &str) -> bool {
    raw.trim_start().starts_with(['{', '['])
}

/// Those of `all`, which is sorted as `others` is, that `others` has not; each counts once.
fn without(all: &[(String, String)], others: &[(String, String)]) -> Vec<(String, String)> {
    let (mut left, mut others) = (Vec::new(), others.iter().peekable());
    for entry in all {
        while others.next_if(|other| *other < entry).is_some() {}
        if others.next_if(|other| *other == entry).is_none() {
            left.push(entry.clone());
        }
    }
    left
}

impl Put {
    /// What was put before the value.
    pub(super) fn lead(&self) -> &str {
        &self.put[..self.value.start]
    }

    /// Takes over from an edit that is gone what it made, if this one may be the last to stand in that.
    pub(crate) fn inherit(&mut self, key: &str, (gone, gone_key): (&Self, &str)) {
        let section = |key: &str| key.rfind(['.', '/', ']']).map_or(0, |end| end);
        if key == gone_key || key[..section(key)] != gone_key[..section(gone_key)] {
            return;
        }
        let Some(Values { was: None, made, .. }) = &gone.values else { return };
        let makes =
            |lead: &str| lead.trim_start().starts_with('[') || lead.contains('{') || lead.matches('<').count() > 1;
        let lead = made.as_deref().unwrap_or(gone.lead());
        let own = makes(self.lead());
        if let Some(Values { was: None, made, .. }) = &mut self.values
            && makes(lead)
            && !own
        {
            made.get_or_insert_with(|| lead.to_owned());
        }
    }

    /// Whether the value that stands in a text is the one that was put, however it is written.
    pub(super) fn is_ours(&self, text: &str, syntax: &dyn Syntax, key: &str) -> Result<bool> {
        let Some(values) = &self.values else { return Ok(false) };
        let found = syntax.find(text, key)?;
        Ok(found.is_some_and(|found| same(syntax, &syntax.read(&text[found.range], found.kind), &values.put)))
    }

    /// Whether a text is whole, and holds the value that was there before, and all else as in the text with the edit.
    pub(super) fn means_what_was(&self, before: &str, text: &str, syntax: &dyn Syntax, key: &str) -> bool {
        let Some(values) = &self.values else { return true };
        let many = is_many(&self.was) || is_many(&self.put[self.value.clone()]);
        if values.made.is_some() || !same_but_one(syntax, before, text, many).unwrap_or(false) {
            return false;
        }
        let is = |found: super::Found| syntax.read(&text[found.range], found.kind);
        syntax.find(text, key).is_ok_and(|found| found.map(is) == values.was)
    }

    /// The piece of a text to replace so that the former value stands there again, in the way in which values are written
    /// there now, and what to put; a value that was added goes, with the section that was made for it. `None` if it is not
    /// ours any more, or can't go without anything else.
    pub(super) fn back_by_value(
        &self,
        text: &Text,
        syntax: &dyn Syntax,
        key: &str,
    ) -> Result<Option<(Range<usize>, String)>> {
        let (Some(values), Some(found)) = (&self.values, syntax.find(&text.text, key)?) else { return Ok(None) };
        if !same(syntax, &syntax.read(&text.text[found.range.clone()], found.kind), &values.put) {
            return Ok(None);
        }
        let (range, put) = match &values.was {
            Some(was) => match syntax.write(&text.text, &found, was) {
                Ok(raw) => (found.range, raw),
                Err(_) => return Ok(None),
            },
            None => match syntax.cut(&text.text, key, values.made.as_deref().unwrap_or(self.lead()))? {
                Some(range) => (range, String::new()),
                None => return Ok(None),
            },
        };
        let next = text.with(range.clone(), &put);
        let is = match syntax.find(&next.text, key) {
            Ok(found) => found.map(|found| syntax.read(&next.text[found.range], found.kind)),
            Err(_) => return Ok(None),
        };
        let right = is == values.was && same_but_one(syntax, &text.text, &next.text, is_many(&put)).unwrap_or(false);
        Ok(right.then_some((range, put)))
    }
}

/// The lines that a value stands on, with the header above them if that was made for it and nothing else is below it. `None`
/// if there is more on those lines than a key and a comment. `lead` is what was put before the value.
pub(super) fn cut_lines(
    text: &str,
    value: &Range<usize>,
    lead: &str,
    is_header: impl Fn(&str) -> bool,
) -> Option<Range<usize>> {
    let start = text[..value.start].rfind(['\n', '\r']).map_or(0, |end| end + 1);
    let end = super::ini::one_line(text, value.end);
    let behind = text[value.end..end].trim();
    if !(behind.is_empty() || behind.starts_with(['#', ';'])) {
        return None;
    }
    let made = lead.trim_start().starts_with('[');
    let above = text[..start].trim_end();
    let top = above.rfind(['\n', '\r']).map_or(0, |end| end + 1);
    // A comment behind a blank line belongs to what comes next.
    let mut next = text[end..].lines().skip_while(|line| line.trim().is_empty()).peekable();
    let parted = text[end..].lines().next().is_none_or(|line| line.trim().is_empty());
    let rest = next.find(|line| !(parted && (line.trim().is_empty() || line.trim_start().starts_with(['#', ';']))));
    let rest = rest.unwrap_or_default().trim_start();
    if !made || !is_header(above[top..].trim()) || !(rest.is_empty() || rest.starts_with('[')) {
        return Some(start..end);
    }
    // With the blank line that was put before it.
    let blank = ["\r\n\r\n", "\n\n"].into_iter().find(|blank| text[..top].ends_with(*blank));
    let blank = blank.filter(|_| lead.starts_with(['\n', '\r'])).map_or(0, |blank| blank.len() / 2);
    Some(top - blank..end)
}
