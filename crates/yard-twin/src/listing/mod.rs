//! Listings: what a folder holds. Pure values; nothing here touches a disk.

#[cfg(test)]
#[allow(clippy::unwrap_used)]
pub(crate) mod algebra;
pub(crate) mod delta;
mod diff;
mod encode;
mod entry;
mod layer;
mod rebase;
mod splice;
#[cfg(test)]
#[allow(clippy::unwrap_used)]
mod tests;

use std::cmp::Ordering;
use std::collections::HashSet;
use std::sync::{Arc, OnceLock, Weak};

pub(crate) use diff::diff_of_contents;
pub use diff::{Change, diff};
pub use entry::{Entry, Node};
pub use layer::{Layer, overlay};
pub(crate) use layer::{Spellings, merged};
pub use rebase::{Named, Reason, Rebased, rebase};
pub(crate) use splice::Splice;

use crate::error::{Error, Result};
use crate::ident::{ContentId, ListingId};

/// What a folder holds: entries in the order of their paths, each path once, nothing below a file or symlink. Cloning one
/// copies nothing.
#[derive(Clone, Debug, Default)]
pub struct Listing(Arc<Whole>);

#[derive(Clone, Debug, Default)]
struct Whole {
    entries: Vec<Entry>,
    /// Worked out when it is wanted first.
    id: OnceLock<ListingId>,
}

/// A listing, as long as somebody has it.
#[derive(Debug)]
pub(crate) struct InHand(Weak<Whole>);

impl InHand {
    pub(crate) fn get(&self) -> Option<Listing> {
        self.0.upgrade().map(Listing)
    }
}

impl PartialEq for Listing {
    fn eq(&self, other: &Self) -> bool {
        self.entries() == other.entries()
    }
}

impl Eq for Listing {}

impl Listing {
    fn of(entries: Vec<Entry>) -> Self {
        Self(Arc::new(Whole { entries, id: OnceLock::new() }))
    }

    /// Of entries that were read from the stream with this id, in their order.
    fn of_stream(entries: Vec<Entry>, id: ListingId) -> Result<Self> {
        check(&entries)?;
        Ok(Self(Arc::new(Whole { entries, id: OnceLock::from(id) })))
    }

    /// Sorts `entries` and checks that they can stand side by side.
    ///
    /// # Errors
    /// [`Error::Path`] if a path comes twice, or lies below one that is no folder.
    pub fn new(mut entries: Vec<Entry>) -> Result<Self> {
        if !entries.is_sorted_by(|a, b| a.path < b.path) {
            entries.sort_unstable_by(|a, b| a.path.cmp(&b.path));
        }
        check(&entries)?;
        Ok(Self::of(entries))
    }

    /// Of sorted entries, where a folder that isn't empty may be listed as an empty one too: that is left out.
    ///
    /// # Errors
    /// [`Error::Obstructed`] if one lies below another that is no folder.
    pub(crate) fn with_folders_implied(mut entries: Vec<Entry>) -> Result<Self> {
        let mut implied = Vec::new();
        for (at, pair) in entries.windows(2).enumerate() {
            let (a, b) = (&pair[0], &pair[1]);
            if b.path.is_at_or_below(&a.path) {
                if a.node != Node::EmptyFolder || a.path == b.path {
                    return Err(Error::Obstructed { file: a.path.to_string(), below: b.path.to_string() });
                }
                implied.push(at);
            }
        }
        if !implied.is_empty() {
            let (mut at, mut left_out) = (0, implied.into_iter().peekable());
            entries.retain(|_| {
                at += 1;
                left_out.next_if_eq(&(at - 1)).is_none()
            });
        }
        Ok(Self::of(entries))
    }

    /// The entries, in the order of their paths.
    #[must_use]
    pub fn entries(&self) -> &[Entry] {
        &self.0.entries
    }

    /// What stands at `path`.
    #[must_use]
    pub fn get(&self, path: &str) -> Option<&Entry> {
        self.position(path).map(|at| &self.entries()[at])
    }

    pub(crate) fn in_hand(&self) -> InHand {
        InHand(Arc::downgrade(&self.0))
    }

    pub(crate) fn finder(&self) -> Finder<'_> {
        Finder { entries: self.entries(), at: 0 }
    }

    /// Whether the two are one, as far as can be told at once.
    pub(crate) fn is(&self, other: &Self) -> bool {
        Arc::ptr_eq(&self.0, &other.0)
    }

    /// The entries by value.
    pub(crate) fn into_entries(self) -> Vec<Entry> {
        Arc::unwrap_or_clone(self.0).entries
    }

    /// The same, with the text of its paths shared with `other` where that has the same ones.
    pub(crate) fn sharing_paths(self, other: &Self) -> Self {
        let id = self.0.id.clone();
        let mut entries = self.into_entries();
        let mut there = other.entries().iter().peekable();
        for entry in &mut entries {
            if let Some(same) = layer::at(&mut there, &entry.path) {
                entry.path.clone_from(&same.path);
            }
        }
        Self(Arc::new(Whole { entries, id }))
    }

    /// Where among the entries what is at `path` or below it stands.
    pub(crate) fn range(&self, path: &str) -> std::ops::Range<usize> {
        let start = self.entries().partition_point(|e| crate::path::compare(e.path.as_str(), path).is_lt());
        let within = |e: &Entry| e.path.as_str().strip_prefix(path).is_some_and(|r| r.is_empty() || r.starts_with('/'));
        start..start + self.entries()[start..].partition_point(within)
    }

    /// Where among the entries `path` is.
    pub(crate) fn position(&self, path: &str) -> Option<usize> {
        self.entries().binary_search_by(|e| crate::path::compare(e.path.as_str(), path)).ok()
    }

    /// Whether there is anything at `path` or below it.
    #[must_use]
    pub fn has(&self, path: &str) -> bool {
        !self.range(path).is_empty()
    }

    /// Counts of what it holds.
    #[must_use]
    pub fn totals(&self) -> Totals {
        let mut totals = Totals::default();
        for entry in self.entries() {
            match &entry.node {
                Node::File { size, .. } => {
                    totals.files += 1;
                    totals.bytes += size;
                }
                Node::Symlink { .. } => totals.symlinks += 1,
                Node::EmptyFolder => totals.empty_folders += 1,
            }
        }
        totals
    }

    /// The contents that it needs, each once.
    #[must_use]
    pub fn contents(&self) -> HashSet<ContentId> {
        self.entries().iter().filter_map(|e| e.node.content()).collect()
    }

    /// Its id: BLAKE3-256 of its canonical stream. Worked out once.
    #[must_use]
    pub fn id(&self) -> ListingId {
        *self.0.id.get_or_init(|| encode::id(self))
    }

    /// The file that keeps it, as `docs/formats.md` describes it.
    pub(crate) fn encode(&self) -> Result<Vec<u8>> {
        encode::encode(self)
    }
}

/// Finds entries of a listing: quickly where they are asked for in their order, as steps of a change are.
pub(crate) struct Finder<'a> {
    entries: &'a [Entry],
    /// Where the last one that was asked for is, or would be.
    at: usize,
}

impl<'a> Finder<'a> {
    pub(crate) fn find(&mut self, path: &str) -> Option<&'a Entry> {
        let entries = self.entries;
        let before = |entry: &Entry| crate::path::compare(entry.path.as_str(), path).is_lt();
        let (mut from, mut step) = (self.at, 1);
        if from > 0 && !before(&entries[from - 1]) {
            from = 0;
        }
        while entries.get(from + step).is_some_and(before) {
            from += step;
            step *= 2;
        }
        let to = entries.len().min(from + step);
        self.at = from + entries[from..to].partition_point(before);
        entries.get(self.at).filter(|entry| entry.path.as_str() == path)
    }
}

/// Whether entries are in the order of their paths, each path once, nothing below a file or symlink.
fn check(entries: &[Entry]) -> Result<()> {
    for pair in entries.windows(2) {
        let (a, b) = (pair[0].path.as_str(), pair[1].path.as_str());
        let why = match crate::path::compare(a, b) {
            Ordering::Less if pair[1].path.is_at_or_below(&pair[0].path) => "it lies below a path that is no folder",
            Ordering::Less => continue,
            Ordering::Equal => "it comes twice",
            Ordering::Greater => "it is not in its place",
        };
        return Err(Error::Path { path: b.into(), why });
    }
    Ok(())
}

/// How much a listing holds.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, serde::Serialize)]
pub struct Totals {
    /// Files.
    pub files: u64,
    /// Their sizes together, in bytes.
    pub bytes: u64,
    /// Symlinks.
    pub symlinks: u64,
    /// Folders with nothing in them.
    pub empty_folders: u64,
}
