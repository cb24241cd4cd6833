//! Paths inside a twin or a stock build.

use std::borrow::Borrow;
use std::cmp::Ordering;
use std::fmt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use caseless::Caseless;
use serde::{Deserialize, Serialize};
use unicode_normalization::UnicodeNormalization;

use crate::error::{Error, Result};

/// A validated relative path: components joined by `/`, none of them empty, `.` or `..`, no NUL.
///
/// Paths order by component, so that a folder is followed at once by all that is below it; a listing in this
/// order is what a depth-first walk with sorted names yields. Cloning one copies no text.
#[derive(Clone, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct RelPath {
    /// The text of this path, and maybe of others.
    text: Arc<str>,
    start: u32,
    end: u32,
}

impl RelPath {
    /// Checks `text` and takes it as a relative path.
    ///
    /// # Errors
    /// [`Error::Path`] if it is empty, absolute, has an empty, `.` or `..` component, or holds a NUL.
    pub fn new(text: impl AsRef<str>) -> Result<Self> {
        let text = text.as_ref();
        let end = length(text)?;
        Ok(Self { text: text.into(), start: 0, end })
    }

    /// The path with one more component.
    ///
    /// # Errors
    /// As [`RelPath::new`], and if `name` holds a `/`.
    pub fn join(&self, name: &str) -> Result<Self> {
        if name.contains('/') {
            return Err(Error::Path { path: name.into(), why: "a name holds no '/'" });
        }
        Self::new(format!("{self}/{name}"))
    }

    /// The path with more components, of a path below it.
    ///
    /// # Errors
    /// As [`RelPath::new`].
    pub(crate) fn join_all(&self, below: &str) -> Result<Self> {
        Self::new(format!("{self}/{below}"))
    }

    /// The path as text.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.text[self.start as usize..self.end as usize]
    }

    /// The folder that holds it; `None` for a single component.
    #[must_use]
    pub fn parent(&self) -> Option<&str> {
        self.as_str().rsplit_once('/').map(|(parent, _)| parent)
    }

    /// Whether it is `other`, or lies below it.
    #[must_use]
    pub fn is_at_or_below(&self, other: &Self) -> bool {
        self.as_str().strip_prefix(other.as_str()).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
    }

    /// The last component.
    #[must_use]
    pub fn name(&self) -> &str {
        self.as_str().rsplit_once('/').map_or(self.as_str(), |(_, name)| name)
    }

    /// The ending of the last component in lower case, without the dot: `ini` for `cabin/Panel.INI`.
    #[must_use]
    pub fn ending(&self) -> Option<String> {
        let (stem, ending) = self.name().rsplit_once('.')?;
        (!stem.is_empty() && !ending.is_empty()).then(|| ending.to_lowercase())
    }

    /// What two paths have in common that are one where spellings fold.
    pub(crate) fn key(&self) -> String {
        fold_key(self.as_str())
    }

    /// Where it is below `root` on disk.
    #[must_use]
    pub fn below(&self, root: &Path) -> PathBuf {
        root.join(self.as_str())
    }
}

/// How long a path is, if it is one.
fn length(text: &str) -> Result<u32> {
    let why = match (fault(text), u32::try_from(text.len())) {
        (None, Ok(length)) => return Ok(length),
        (why, _) => why.unwrap_or("it is too long"),
    };
    Err(Error::Path { path: text.into(), why })
}

/// Makes many paths that share their text, each with something that goes with it: a path takes up what it says and hardly
/// more. Whoever keeps one of them keeps the text of the few hundred that were made with it.
#[derive(Debug)]
pub(crate) struct SharedPaths<T> {
    text: String,
    /// Where each ends, and what goes with it.
    paths: Vec<(u32, T)>,
}

impl<T> SharedPaths<T> {
    /// Bytes of text that are shared.
    const ENOUGH: usize = 16 << 10;

    /// None yet.
    pub(crate) fn new() -> Self {
        Self { text: String::new(), paths: Vec::new() }
    }

    /// Checks one, and says whether it is time to [`SharedPaths::take`] them.
    ///
    /// # Errors
    /// As [`RelPath::new`].
    pub(crate) fn add(&mut self, path: &str, with: T) -> Result<bool> {
        let length = length(path)?;
        let start = self.paths.last().map_or(0, |last| last.0);
        let too_long = || Error::Path { path: path.into(), why: "it is too long" };
        self.paths.push((start.checked_add(length).ok_or_else(too_long)?, with));
        self.text.push_str(path);
        Ok(self.text.len() >= Self::ENOUGH)
    }

    /// Those that were added since the last time, in the same order.
    pub(crate) fn take(&mut self) -> impl Iterator<Item = (RelPath, T)> {
        let (text, mut start) = (Arc::<str>::from(self.text.as_str()), 0);
        self.text.clear();
        self.paths.drain(..).map(move |(end, with)| {
            let path = RelPath { text: Arc::clone(&text), start, end };
            start = end;
            (path, with)
        })
    }
}

fn fault(text: &str) -> Option<&'static str> {
    if text.is_empty() {
        return Some("it is empty");
    }
    if text.starts_with('/') {
        return Some("it starts at the root");
    }
    // One pass over the bytes: this runs for every entry of every listing that is read.
    let (bytes, mut start) = (text.as_bytes(), 0);
    for at in 0..=bytes.len() {
        match bytes.get(at) {
            None | Some(b'/') => match &bytes[start..at] {
                b"" => return Some("it has an empty part"),
                b"." => return Some("it has a '.' part"),
                b".." => return Some("it has a '..' part"),
                _ => start = at + 1,
            },
            Some(0) => return Some("it holds a NUL"),
            Some(_) => {}
        }
    }
    None
}

/// A path and the folders above it, the nearest first.
pub(crate) fn at_and_above(path: &str) -> impl Iterator<Item = &str> {
    std::iter::successors(Some(path), |path| path.rsplit_once('/').map(|(up, _)| up))
}

/// Orders two relative paths by component: `a`, `a/b`, `a-b`.
#[must_use]
pub(crate) fn compare(a: &str, b: &str) -> Ordering {
    let (a, b) = (a.as_bytes(), b.as_bytes());
    // What they have in common is passed over eight bytes at a time: neighbours in a listing have much.
    let (in_a, in_b) = (a.as_chunks::<8>().0, b.as_chunks::<8>().0);
    let same = in_a.iter().zip(in_b).take_while(|(a, b)| a == b).count();
    let differ = in_a.get(same).zip(in_b.get(same)).map(|(a, b)| u64::from_le_bytes(*a) ^ u64::from_le_bytes(*b));
    let common = same * 8 + differ.map_or(0, |differ| differ.trailing_zeros() as usize / 8);
    let key = |byte: &u8| if *byte == b'/' { 0 } else { *byte };
    a[common..].iter().map(key).cmp(b[common..].iter().map(key))
}

/// The key by which two names clash on a filesystem that folds case or normalises: NFC of the full case fold of NFD.
#[must_use]
pub(crate) fn fold_key(name: &str) -> String {
    name.nfd().default_case_fold().nfc().collect()
}

impl PartialEq for RelPath {
    fn eq(&self, other: &Self) -> bool {
        self.as_str() == other.as_str()
    }
}

impl Eq for RelPath {}

impl std::hash::Hash for RelPath {
    fn hash<H: std::hash::Hasher>(&self, state: &mut H) {
        // As its text, by which it is looked up, too.
        self.as_str().hash(state);
    }
}

impl Ord for RelPath {
    fn cmp(&self, other: &Self) -> Ordering {
        compare(self.as_str(), other.as_str())
    }
}

impl PartialOrd for RelPath {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl std::str::FromStr for RelPath {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self> {
        Self::new(text)
    }
}

impl fmt::Display for RelPath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.as_str())
    }
}

impl fmt::Debug for RelPath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Debug::fmt(self.as_str(), f)
    }
}

impl Borrow<str> for RelPath {
    fn borrow(&self) -> &str {
        self.as_str()
    }
}

impl TryFrom<String> for RelPath {
    type Error = Error;
    fn try_from(text: String) -> Result<Self> {
        Self::new(text)
    }
}

impl From<RelPath> for String {
    fn from(path: RelPath) -> Self {
        path.as_str().into()
    }
}
