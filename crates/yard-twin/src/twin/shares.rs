//! How a twin's files really share storage.

use serde::Serialize;

use crate::listing::Listing;
use crate::scan::Row;
use crate::store::pool::Share;

/// Files and bytes that share storage in one way.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Shares {
    /// Files.
    pub files: u64,
    /// Their sizes, in bytes.
    pub bytes: u64,
    /// Bytes that they take on disk.
    pub allocated: u64,
}

/// How a twin's files really share storage.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct ShareTotals {
    /// Blocks shared by the filesystem.
    pub reflinked: Shares,
    /// Guarded links.
    pub linked: Shares,
    /// Copies of its own.
    pub copied: Shares,
    /// Written in the twin.
    pub own: Shares,
}

impl ShareTotals {
    pub(crate) fn new(listing: &Listing, rows: &[Row]) -> Self {
        let mut totals = Self::default();
        for (entry, row) in listing.entries().iter().zip(rows) {
            let shares = match row.share {
                Some(Share::Reflink) => &mut totals.reflinked,
                Some(Share::Link) => &mut totals.linked,
                Some(Share::Copy) => &mut totals.copied,
                Some(Share::Own | Share::Arrived) => &mut totals.own,
                None => continue,
            };
            shares.files += 1;
            shares.bytes += entry.node.size();
            shares.allocated += row.allocated;
        }
        totals
    }

    /// Bytes on disk that this twin alone takes: its copies, and what was written in it.
    #[must_use]
    pub fn alone(&self) -> u64 {
        self.copied.allocated + self.own.allocated
    }

    /// Bytes on disk of files that it shares.
    #[must_use]
    pub fn shared(&self) -> u64 {
        self.reflinked.allocated + self.linked.allocated
    }
}
