//! After a power loss: files that a clone wrote and the disk had not got yet are put right before anything else looks.

use jiff::{SignedDuration, Timestamp};

use crate::catalog::TwinRow;
use crate::disk;
use crate::error::Result;
use crate::listing::{Entry, Layer, Listing, Node, overlay};
use crate::path::RelPath;
use crate::progress::Ctx;
use crate::scan::{Found, Now};
use crate::twin::Twin;
use crate::twin::change::{Goal, Start};
use crate::twin::look::Look;

/// By then the system has written a new twin's files by itself, so that making sure of it costs next to nothing.
const WRITTEN_BY_THEN: SignedDuration = SignedDuration::from_secs(35);

impl Twin {
    /// Makes sure that the files of a new twin have reached the disk; after a power loss, puts those right that have not.
    ///
    /// A file counts as damaged where its bytes are not those that were laid, and it either still has the time that was
    /// given to it then, or is empty. A program that writes to a file leaves neither.
    pub(crate) fn check_after_power_loss(&mut self, ctx: &Ctx) -> Result<()> {
        if self.row.unsynced.is_none() {
            return Ok(());
        }
        let folder = self.folder()?;
        if !may_be_damaged(&self.row) {
            if Timestamp::now().duration_since(self.row.made_at) >= WRITTEN_BY_THEN {
                disk::sync_filesystem(&folder)?;
                self.yard.catalog.mark_synced(self.row.id)?;
                self.row.unsynced = None;
            }
            return Ok(());
        }
        tracing::info!(twin = %self.row.name, "the system was started anew since it was made: its files are checked");
        let op = self.yard.begin(ctx)?;
        // Nothing that an index says is believed.
        disk::remove_if_there(&crate::scan::index_path(&folder))?;
        let Look { state, before, rows, mut found, .. } = self.look(&folder, &op, ctx)?;
        let damaged = put_right(&found, &before)?;
        if !damaged.is_empty() {
            tracing::warn!(twin = %self.row.name, files = damaged.len(), "not written before the power was lost: put right");
            let looked_at = found.looked_at;
            // What isn't empty may be someone's who kept the file's time: it stays in the history.
            let left = found.changed.iter().filter(|(path, _)| damaged.has(path));
            let left: Vec<(RelPath, Entry)> = left
                .filter_map(|(path, now)| Some((path.clone(), now.as_ref()?.0.clone())))
                .filter(|(_, now)| now.node.size() > 0)
                .collect();
            let start = Start { state: &state, there: &before, rows: &[], looked_at };
            self.keep_meanwhile(&start, &left, &op)?;
            let (there, rows) = found.merged(before, rows)?;
            let next = overlay(&there, &damaged)?;
            let start = Start { state: &state, there: &there, rows: &rows, looked_at };
            self.change(&start, Goal { state: state.clone(), next, what: None, intent: None, anew: None }, ctx)?;
        }
        disk::sync_filesystem(&folder)?;
        self.yard.catalog.mark_synced(self.row.id)?;
        self.row.unsynced = None;
        Ok(())
    }
}

/// Whether the files of a new twin may not have reached the disk before the system was started anew.
pub(crate) fn may_be_damaged(row: &TwinRow) -> bool {
    row.unsynced.is_some() && row.unsynced != disk::boot_id()
}

/// What puts right what a power loss left of the files of a new twin.
pub(crate) fn put_right(found: &Found, before: &Listing) -> Result<Layer> {
    let laid = |(path, now): &(RelPath, Now)| {
        let now = &now.as_ref()?.0;
        Some((path.clone(), Some(damaged(before.get(path.as_str())?, now)?.clone())))
    };
    Layer::new(found.changed.iter().filter_map(laid).collect())
}

/// The entry as it was laid, if the file that is there now is what a power loss left of it.
fn damaged<'a>(laid: &'a Entry, now: &Entry) -> Option<&'a Entry> {
    match (&laid.node, &now.node) {
        (Node::File { content, size, .. }, Node::File { content: other, size: left, .. }) => {
            let unwritten = now.mtime == laid.mtime || (*left == 0 && *size > 0);
            (content != other && unwritten).then_some(laid)
        }
        _ => None,
    }
}
