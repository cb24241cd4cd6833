//! Paths that are written loosely: with `//` or `/./` in them, percent-encoded in part, or in the other Unicode
//! normalization form. Looked for by their last name, and then read backwards.

use std::borrow::Cow;

use unicode_normalization::UnicodeNormalization;

use super::forms::{Needle, encoded};
use super::repath::PathForm;

/// The last name of a path in the forms in which it may be written, with the names of the path.
pub(super) fn tails(pair: usize, from: &str, to: &str) -> Vec<Needle> {
    let names: Vec<String> = from.split('/').filter(|name| !name.is_empty()).map(composed).collect();
    let Some(last) = names.last() else { return Vec::new() };
    let decomposed: String = last.nfd().collect();
    let small = escapes_in_small(&encoded(last));
    let mut texts = vec![encoded(last), small, encoded(&decomposed), decomposed, last.clone()];
    texts.sort_unstable();
    texts.dedup();
    let tail = |text: String| Needle {
        pair,
        form: PathForm::Plain,
        bytes: format!("/{text}").into_bytes(),
        to: to.as_bytes().to_vec(),
        wide: None,
        names: Some(names.clone()),
    };
    texts.into_iter().map(tail).collect()
}

fn escapes_in_small(text: &str) -> String {
    let mut pieces = text.split('%');
    let first = pieces.next().unwrap_or_default().to_owned();
    pieces.fold(first, |out, piece| out + "%" + &piece[..2].to_lowercase() + &piece[2..])
}

/// Where a path of these names begins that ends at `end`, and how it is written; `None` if something else ends there.
pub(super) fn begins(bytes: &[u8], end: usize, names: &[String]) -> Option<(usize, PathForm)> {
    let (mut left, mut until, mut form) = (names, end, PathForm::Plain);
    loop {
        let start = bytes[..until].iter().rposition(|byte| *byte == b'/')?;
        let written = &bytes[start + 1..until];
        until = start;
        if matches!(written, b"" | b".") {
            continue;
        }
        let (name, rest) = left.split_last()?;
        let text = decoded(written)?;
        if matches!(text, Cow::Owned(_)) {
            form = PathForm::Url;
        }
        if composed(&text) != *name {
            return None;
        }
        left = rest;
        if left.is_empty() {
            return Some((start, form));
        }
    }
}

/// A name with what is percent-encoded in it read; `None` if it is no text.
fn decoded(written: &[u8]) -> Option<Cow<'_, str>> {
    if !written.contains(&b'%') {
        return std::str::from_utf8(written).ok().map(Cow::Borrowed);
    }
    let (mut out, mut rest) = (Vec::with_capacity(written.len()), written);
    while let [first, tail @ ..] = rest {
        let escape = tail.get(..2).filter(|_| *first == b'%').and_then(|two| std::str::from_utf8(two).ok());
        match escape.and_then(|two| u8::from_str_radix(two, 16).ok()) {
            Some(byte) => {
                out.push(byte);
                rest = &tail[2..];
            }
            None => {
                out.push(*first);
                rest = tail;
            }
        }
    }
    String::from_utf8(out).ok().map(Cow::Owned)
}

/// A name in the form in which two spellings of it are equal (NFC of UAX #15).
fn composed(name: impl AsRef<str>) -> String {
    name.as_ref().nfc().collect()
}
