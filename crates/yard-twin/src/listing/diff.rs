//! How one listing differs from another.

use super::layer::pairs;
use super::{Entry, Listing, Node};

/// One path at which two listings differ.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Change<'a> {
    /// Only the second one has it.
    New(&'a Entry),
    /// Only the first one has it.
    Gone(&'a Entry),
    /// Both have it, and it is not the same.
    Changed {
        /// As it is in the first.
        before: &'a Entry,
        /// As it is in the second.
        after: &'a Entry,
    },
}

impl Change<'_> {
    /// The path.
    #[must_use]
    pub fn path(&self) -> &crate::path::RelPath {
        match self {
            Self::New(entry) | Self::Gone(entry) | Self::Changed { after: entry, .. } => &entry.path,
        }
    }
}

impl<'a> Change<'a> {
    /// What stands there in the first, and in the second.
    pub(crate) fn nodes(&self) -> (Option<&'a Node>, Option<&'a Node>) {
        match *self {
            Self::New(after) => (None, Some(&after.node)),
            Self::Gone(before) => (Some(&before.node), None),
            Self::Changed { before, after } => (Some(&before.node), Some(&after.node)),
        }
    }
}

/// As [`diff`], without folders that are empty on one side and have something in them on the other: what is in them
/// differs.
pub(crate) fn diff_of_contents<'a>(a: &'a Listing, b: &'a Listing) -> impl Iterator<Item = Change<'a>> {
    diff(a, b).filter(|change| match change {
        Change::New(entry) => entry.node != Node::EmptyFolder || !a.has(entry.path.as_str()),
        Change::Gone(entry) => entry.node != Node::EmptyFolder || !b.has(entry.path.as_str()),
        Change::Changed { .. } => true,
    })
}

/// The paths at which `a` and `b` differ, in order. Times don't count.
pub fn diff<'a>(a: &'a Listing, b: &'a Listing) -> impl Iterator<Item = Change<'a>> {
    // What is one and the same needs no look.
    let (left, right) = if a.is(b) { (&[][..], &[][..]) } else { (a.entries(), b.entries()) };
    pairs(left, right).filter_map(|pair| match pair {
        (Some(before), None) => Some(Change::Gone(before)),
        (None, Some(after)) => Some(Change::New(after)),
        (Some(before), Some(after)) if before.node != after.node => Some(Change::Changed { before, after }),
        _ => None,
    })
}
