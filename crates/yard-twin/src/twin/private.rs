//! Files that nobody but their user may read: keys, tokens, letters. They stay that, and are never shared.

use std::path::Path;

use crate::disk;
use crate::error::Result;
use crate::listing::{Listing, Node};
use crate::path::RelPath;
use crate::scan::Row;
use crate::sheet::Sheet;
use crate::store::pool::Share;
use crate::store::state::State;
use crate::twin::arrived::is_in_home;

/// The files of a twin that nobody but their user may read, of the home and of belongings: of an install it only says with
/// which mask that was unpacked. Of what nobody knows how it looks, the state says it.
pub(crate) fn private_files(listing: &Listing, rows: &[Row], sheet: Option<&Sheet>, state: &State) -> Vec<RelPath> {
    let was = |path: &RelPath| state.private.binary_search(path).is_ok();
    let files = listing.entries().iter().zip(rows).filter(|(entry, row)| {
        let private = if row.mode == 0 { was(&entry.path) } else { is_private(row.mode) };
        private
            && matches!(entry.node, Node::File { .. })
            && row.share != Some(Share::Link)
            && is_own(&entry.path, sheet)
    });
    files.map(|(entry, _)| entry.path.clone()).collect()
}

/// Whether the mode of a file says whom it is for.
pub(crate) fn is_own(path: &RelPath, sheet: Option<&Sheet>) -> bool {
    is_in_home(path) || sheet.is_some_and(|sheet| sheet.group_of(path).is_some())
}

/// As [`private_files`]; none where modes mean nothing, which is tried in the folder `op`.
pub(crate) fn private_there(
    (listing, rows): (&Listing, &[Row]),
    sheet: Option<&Sheet>,
    state: &State,
    op: &Path,
) -> Result<Vec<RelPath>> {
    let files = private_files(listing, rows, sheet, state);
    if files.is_empty() || disk::keeps_modes(op)? { Ok(files) } else { Ok(Vec::new()) }
}

/// Whether a file's mode lets nobody but its user read it.
pub(crate) fn is_private(mode: u32) -> bool {
    mode & 0o077 == 0
}
