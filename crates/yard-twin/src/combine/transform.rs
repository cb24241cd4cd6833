//! Transforms: contents made from the bytes of others, always the same from the same.

use serde::Serialize;

use super::Key;
use super::repath::Repather;
use super::words::{Joined, replaced};
use crate::edit::{self, Format, Put};
use crate::ident::ContentId;

/// Goes into each key, so that what an earlier version of the code made is not taken for what this one makes.
const VERSION: u32 = 7;

/// How one content is made of another. The input is held in memory: a draft must keep it small.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(tag = "transform", rename_all = "snake_case")]
pub(crate) enum Transform {
    /// In a text, absolute paths at and below some folders become those at and below others, in whatever form they are
    /// written. Binary files are left alone.
    Repath {
        /// Folders that are named, without a `/` at their ends, and those to name instead.
        pairs: Vec<(String, String)>,
    },
    /// In a text, a word becomes another one wherever it stands as a whole. Binary files are left alone.
    Word {
        /// The word.
        from: String,
        /// What it becomes.
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
            Self::Word { from, to } => reworded(input, from, to),
            Self::Edit { edits } => edited(input, edits),
            Self::Repath { pairs } => Repather::of_pairs(pairs).replaced(input),
        }
    }
}

/// What a file is after some edits. An edit that can't be made leaves it as it is; the draft has found that out before.
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

/// A text with a word replaced wherever it stands as a whole.
fn reworded(input: &[u8], from: &str, to: &str) -> Option<Vec<u8>> {
    let text = std::str::from_utf8(input).ok().filter(|text| !text.contains('\0'))?;
    replaced(text, from, to, Joined::Hyphens).map(String::into_bytes)
}
