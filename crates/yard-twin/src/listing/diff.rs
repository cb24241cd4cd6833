//! How one listing differs from another.

use std::cmp::Ordering;

use super::{Entry, Listing};

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

/// The paths at which `a` and `b` differ, in order. Times don't count.
pub fn diff<'a>(a: &'a Listing, b: &'a Listing) -> impl Iterator<Item = Change<'a>> {
    let (mut left, mut right) = (a.entries().iter().peekable(), b.entries().iter().peekable());
    std::iter::from_fn(move || {
        loop {
            let order = match (left.peek(), right.peek()) {
                (None, None) => return None,
                (Some(_), None) => Ordering::Less,
                (None, Some(_)) => Ordering::Greater,
                (Some(x), Some(y)) => x.path.cmp(&y.path),
            };
            match order {
                Ordering::Less => return left.next().map(Change::Gone),
                Ordering::Greater => return right.next().map(Change::New),
                Ordering::Equal => {
                    let (before, after) = (left.next()?, right.next()?);
                    if before.node != after.node {
                        return Some(Change::Changed { before, after });
                    }
                }
            }
        }
    })
}
