//! Transforms: contents made from the bytes of others, always the same from the same.

use std::borrow::Cow;

use serde::Serialize;

use super::Key;
use crate::edit::{self, Format, Put};
use crate::ident::ContentId;

/// Goes into each key, so that what an earlier version of the code made is not taken for what this one makes.
const VERSION: u32 = 1;

/// How one content is made of another. The input is held in memory: whoever drafts one sees to it that it is small.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(tag = "transform", rename_all = "snake_case")]
pub(crate) enum Transform {
    /// In a text, absolute paths at and below one folder become those at and below another. Binary files are left alone.
    Repath {
        /// The folder that is named, without a `/` at its end.
        from: String,
        /// The one to name instead.
        to: String,
    },
    /// In a config file, values are set and taken back, one after the other.
    Edit {
        /// What is done, in order.
        edits: Vec<EditStep>,
    },
}

/// One thing that is done in a config file.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub(crate) struct EditStep {
    pub(crate) format: Format,
    pub(crate) key: String,
    pub(crate) encoding: Option<String>,
    /// The value to set; `None` to take an edit back.
    pub(crate) value: Option<String>,
    /// What an edit put there before.
    pub(crate) put: Option<Put>,
}

impl Transform {
    /// What names the result.
    pub(crate) fn key(&self, input: ContentId) -> Key {
        // A struct of strings always has a JSON form.
        let text = serde_json::to_vec(&(VERSION, self)).unwrap_or_default();
        let mut hasher = blake3::Hasher::new();
        hasher.update(&text).update(input.as_bytes());
        hasher.finalize()
    }

    /// What it makes of a content; `None` if that stays as it is.
    pub(crate) fn run(&self, input: &[u8]) -> Option<Vec<u8>> {
        match self {
            Self::Edit { edits } => edited(input, edits),
            Self::Repath { .. } if input.contains(&0) => None,
            Self::Repath { from, to } => match repath(input, from.as_bytes(), to.as_bytes()) {
                Cow::Borrowed(_) => None,
                Cow::Owned(bytes) => Some(bytes),
            },
        }
    }
}

/// What a file is after some edits; one that can't be made leaves it as it is, which whoever drafts them has found out.
fn edited(input: &[u8], edits: &[EditStep]) -> Option<Vec<u8>> {
    let mut bytes = input.to_vec();
    for EditStep { format, key, encoding, value, put } in edits {
        let encoding = encoding.as_deref();
        let next = match (value, put) {
            (Some(value), put) => edit::set(&bytes, *format, key, value, (encoding, put.as_ref())).ok()?.bytes,
            (None, Some(put)) => edit::unset(&bytes, *format, key, (encoding, put)).ok()??,
            (None, None) => continue,
        };
        bytes = next;
    }
    (bytes != input).then_some(bytes)
}

/// `text` with the folder `from`, wherever it is named as a whole, named `to`.
pub(crate) fn repath<'a>(text: &'a [u8], from: &[u8], to: &[u8]) -> Cow<'a, [u8]> {
    let (mut out, mut done) = (Vec::new(), 0);
    let mut at = 0;
    while let Some(found) = find(&text[at..], from) {
        let (start, end) = (at + found, at + found + from.len());
        if ends_a_name(text.get(end)) && !continues_a_name(start.checked_sub(1).and_then(|before| text.get(before))) {
            out.extend_from_slice(&text[done..start]);
            out.extend_from_slice(to);
            done = end;
        }
        at = end;
    }
    if done == 0 {
        return Cow::Borrowed(text);
    }
    out.extend_from_slice(&text[done..]);
    Cow::Owned(out)
}

fn find(text: &[u8], what: &[u8]) -> Option<usize> {
    (!what.is_empty()).then(|| text.windows(what.len()).position(|window| window == what)).flatten()
}

/// Whether no name of a folder goes on after it. A space may be part of one, so it does not end one.
fn ends_a_name(next: Option<&u8>) -> bool {
    next.is_none_or(|next| b"/\\\"'<>;:,)]}|\r\n\t".contains(next))
}

/// Whether a path that begins after it is the rest of a longer one.
fn continues_a_name(before: Option<&u8>) -> bool {
    before.is_some_and(|before| before.is_ascii_alphanumeric() || b"_-.".contains(before) || !before.is_ascii())
}

#[cfg(test)]
#[allow(clippy::unwrap_used)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn mended(text: &str) -> String {
        String::from_utf8(repath(text.as_bytes(), b"/y/twins/a", b"/y/twins/new one").into_owned()).unwrap()
    }

    #[test]
    fn a_folder_is_renamed_where_it_is_named_as_a_whole() {
        for (text, mended_text) in [
            ("/y/twins/a", "/y/twins/new one"),
            (
                "path=\"/y/twins/a/game\"\nfile:///y/twins/a/home",
                "path=\"/y/twins/new one/game\"\nfile:///y/twins/new one/home",
            ),
            ("Z:/y/twins/a;/y/twins/a", "Z:/y/twins/new one;/y/twins/new one"),
            (
                "/y/twins/ab /y/twins/a b/game /mnt/y/twins/a /y/twins/a.old",
                "/y/twins/ab /y/twins/a b/game /mnt/y/twins/a /y/twins/a.old",
            ),
            ("nothing", "nothing"),
        ] {
            assert_eq!(mended(text), mended_text);
        }
        let transform = Transform::Repath { from: "/y/twins/a".into(), to: "/b".into() };
        assert_eq!(transform.run(b"/y/twins/a\0"), None, "what is no text is left alone");
        assert_eq!(transform.run(b"/y/twins/ab"), None);
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

        #[test]
        fn there_and_back_gives_the_text_again(pieces in prop::collection::vec("[ab/\n\"]{0,4}|/y/a|/y/a/", 0..12)) {
            let text = pieces.concat();
            prop_assume!(!text.contains("/y/new"));
            let there = repath(text.as_bytes(), b"/y/a", b"/y/new").into_owned();
            prop_assert_eq!(repath(&there, b"/y/new", b"/y/a").into_owned(), text.into_bytes());
        }
    }
}
