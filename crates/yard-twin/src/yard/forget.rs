//! Letting a twin's folder and record go, for good; what somebody has open is kept.

use std::path::{Path, PathBuf};

use rustix::fs::CWD;

use crate::Yard;
use crate::catalog::TwinRow;
use crate::disk;
use crate::disk::op_folder::OpFolder;
use crate::error::{PathContext, Result};
use crate::materialise::is_open_below;
use crate::path::RelPath;
use crate::store::pool::{Ledger, Share};
use crate::yard::folder_id;

/// What was written in a twin itself, as far as its index tells.
fn written(yard: &Yard, row: &TwinRow, folder: &Path) -> Option<Vec<RelPath>> {
    let state = yard.store.state(row.state).ok()?;
    let listing = yard.store.listing(state.disk).ok()?;
    let index = yard.index(folder, &state, listing.entries().len()).ok()??;
    let rows = listing.entries().iter().zip(&index.rows);
    let own = rows.filter(|(_, row)| matches!(row.share, Some(Share::Own | Share::Arrived)));
    Some(own.map(|(entry, _)| entry.path.clone()).collect())
}

/// Whether somebody can still write to a file of a twin: to one that was written in it before, where these are known, else to
/// any.
fn is_open(written: Option<&[RelPath]>, folder: &Path) -> Result<bool> {
    let Some(written) = written else { return is_open_below(folder).at("look through", folder) };
    for path in written.iter().map(|path| path.below(folder)) {
        if disk::is_held(CWD, &path).at("open", &path)? {
            return Ok(true);
        }
    }
    Ok(false)
}

/// Moves a twin's folder to where it is kept as a whole, and says where that is.
fn keep_whole(yard: &Yard, row: &TwinRow, folder: &Path) -> Result<String> {
    let kept = kept_folder(yard, row)?;
    disk::make_folders(&kept)?;
    let to = kept.join(row.name.as_str());
    disk::rename_new(folder, &to).at("keep", folder)?;
    disk::sync_rename(folder, &to)?;
    Ok(format!("{} (another program has it open)", to.display()))
}

/// Deletes a twin's folder and its record. The caller holds the yard alone. Says what is kept.
pub(crate) fn forget(
    yard: &Yard,
    row: &TwinRow,
    op: &OpFolder,
    ledger: &Ledger,
    threads: usize,
) -> Result<Vec<String>> {
    let (folder, mut kept) = (yard.folder_of(row), Vec::new());
    if folder_id(&folder)? == Some(row.id) {
        // Looked at while it is in its place: whatever fails there leaves it there, for the next command.
        let written = written(yard, row, &folder);
        if is_open(written.as_deref(), &folder)? {
            kept.push(keep_whole(yard, row, &folder)?);
        } else {
            // Moved aside first: a half-deleted folder must not be taken for a twin, nor be opened.
            let slot = op.path().join("old");
            disk::make_folders(&slot)?;
            disk::rename_new(&folder, &slot.join("0")).at("move aside", &folder)?;
            disk::sync_rename(&folder, &slot.join("0"))?;
            if is_open(written.as_deref(), &slot.join("0"))? {
                kept.push(keep_whole(yard, row, &slot.join("0"))?);
            } else {
                disk::remove_tree_by(threads, &slot, &|before, after| ledger.moved(before, after))?;
            }
        }
    } else if disk::exists(&folder) {
        kept.push(format!("{} (it is not this twin's)", folder.display()));
    }
    yard.catalog.delete_twin(row.id)?;
    yard.drop_twin_lock(row.id);
    Ok(kept)
}

/// A folder below `kept/` that isn't there yet, for what is kept of a twin.
pub(crate) fn kept_folder(yard: &Yard, row: &TwinRow) -> Result<PathBuf> {
    let kept = yard.root().join("kept");
    let free = (1..).map(|number| kept.join(format!("{} {number}", row.name))).find(|path| !disk::exists(path));
    Ok(free.unwrap_or(kept))
}
