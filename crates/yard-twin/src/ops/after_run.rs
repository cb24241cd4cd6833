//! What follows a run: its layer is folded back, what it must not have changed goes back, what it wrote through a guard
//! is repaired.

use std::path::Path;

use super::change::{Goal, Start};
use super::check::Wrong;
use super::settle::{Own, Settled};
use crate::Yard;
use crate::catalog::{TwinRow, What};
use crate::disk::{self, FsClock};
use crate::error::Result;
use crate::ident::{ContentId, StateId};
use crate::launch::RunLayer;
use crate::listing::{Listing, Node, rebase};
use crate::path::RelPath;
use crate::progress::Ctx;

/// Shared files that were found to be written through their guard, and what became of them.
#[derive(Clone, Debug, Default, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct Leaks {
    /// Where that was found, in the twin that was looked at: there it counts as its change.
    pub paths: Vec<String>,
    /// Files of other twins that have their bytes again: the twin, and the path in it.
    pub repaired: Vec<(String, String)>,
    /// What still holds the wrong bytes, or could not be looked at: what it is, and why.
    pub damaged: Vec<String>,
    /// Files of the twin that was looked at whose guard was lifted, or whose time was set, with no byte changed: they, and
    /// all that share them, are as they were.
    #[serde(default)]
    pub guarded: Vec<String>,
}

impl Leaks {
    /// Whether there are none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.paths.is_empty() && self.guarded.is_empty()
    }

    /// These and others.
    pub(crate) fn extend(&mut self, other: Self) {
        self.paths.extend(other.paths);
        self.repaired.extend(other.repaired);
        self.damaged.extend(other.damaged);
        self.guarded.extend(other.guarded);
    }
}

/// A content that was overwritten: what it was, and the file with the wrong bytes.
pub(crate) struct Leaked {
    pub(crate) path: RelPath,
    pub(crate) inode: u64,
    pub(crate) content: ContentId,
}

impl Yard {
    /// Folds the layer of a run back into the twin, which the caller holds and has settled. Says which changes were dropped
    /// since the twin is protected.
    ///
    /// Every step can be done again: a crash leaves the rest to the next call.
    pub(super) fn fold_layer(&self, row: &TwinRow, layer: &RunLayer, ctx: &Ctx) -> Result<Vec<String>> {
        let folder = self.present_folder(row)?;
        let op = self.begin(ctx)?;
        let mut dropped = Vec::new();
        if row.protected.is_some() {
            let sheet = self.sheet_of(&self.state(row.state)?.build)?;
            let own = Own(sheet.as_ref());
            dropped = layer.keep_only(&folder, |path| own.holds(path))?;
        }
        let clock = FsClock::new(op.path())?;
        // Taking a linked file out moves the time stamps of the others, as every change of ours does.
        let _alone = self.alone(ctx)?;
        let started = clock.now()?;
        layer.fold(&folder, &op)?;
        disk::remove_tree(&op.path().join("out"))?;
        self.catalog.add_window(started, clock.now()?)?;
        Ok(dropped)
    }

    /// Puts back what differs between a twin as it is now and the state `to`, in the paths that `goes_back` holds. What is
    /// there now stays in the history. Says which paths went back.
    pub(crate) fn put_back(
        &self,
        row: &TwinRow,
        settled: Settled,
        to: StateId,
        run: i64,
        goes_back: impl Fn(&RelPath) -> bool,
        ctx: &Ctx,
    ) -> Result<(Settled, Vec<String>)> {
        let target = self.listing(self.state(to)?.disk)?.sharing_paths(&settled.listing);
        let rebased = rebase(&target, &settled.listing, &target, |path| !goes_back(path))?;
        let paths: Vec<_> =
            crate::listing::diff(&settled.listing, &rebased.listing).map(|change| change.path().to_string()).collect();
        if paths.is_empty() {
            return Ok((settled, paths));
        }
        let what = What::PutBack { run };
        let next = rebased.listing.clone();
        let row = self.catalog.twin(row.id)?.unwrap_or_else(|| row.clone());
        self.change_settled(&row, &settled, next, what, ctx)?;
        let state = self.state(self.catalog.twin(row.id)?.map_or(row.state, |row| row.state))?;
        Ok((Settled { state, listing: rebased.listing, ..settled }, paths))
    }

    /// Changes a twin from how it was settled to another listing.
    fn change_settled(&self, row: &TwinRow, settled: &Settled, next: Listing, what: What, ctx: &Ctx) -> Result<()> {
        let start = Start::of(row, settled);
        let goal = Goal { state: settled.state.clone(), next, what: Some(what), intent: None };
        self.change_twin(&start, goal, ctx).map(|_| ())
    }

    /// Gets the right bytes of contents that were overwritten through a guard into the pool again, from any twin that has
    /// them in a file of its own or from where they were taken in, and gives them back to every other twin that shares the
    /// overwritten file. What can't be had anywhere is named, with all that it touches.
    pub(crate) fn repair_leaks(&self, leaked: &[Leaked], writer: &TwinRow, ctx: &Ctx) -> Result<Leaks> {
        let paths = leaked.iter().map(|leak| leak.path.to_string()).collect();
        let mut leaks = Leaks { paths, ..Leaks::default() };
        if leaked.is_empty() {
            return Ok(leaks);
        }
        let mut wrong = Wrong::default();
        leaked.iter().for_each(|leak| wrong.add(leak.content, Some(leak.inode)));
        let repair = self.repair(&wrong, Some(writer.id), &[], ctx)?;
        leaks.repaired = repair.repaired.iter().map(|(twin, path)| (twin.to_string(), path.to_string())).collect();
        leaks.damaged = repair.failed;
        leaks.damaged.extend(repair.left.iter().map(|(twin, path)| format!("{path} of the twin {twin}")));
        leaks.damaged.extend(self.stock_with(&repair.lost)?);
        Ok(leaks)
    }

    /// What stock builds lack without those contents.
    fn stock_with(&self, lost: &[ContentId]) -> Result<Vec<String>> {
        let mut named = Vec::new();
        if lost.is_empty() {
            return Ok(named);
        }
        for stock in self.catalog.stock_builds()?.into_iter().filter(|row| row.removed_at.is_none()) {
            for entry in self.listing(stock.listing)?.entries() {
                if let Node::File { content, .. } = entry.node
                    && lost.contains(&content)
                {
                    named.push(format!("{} of the stock build {}", entry.path, stock.build));
                }
            }
        }
        Ok(named)
    }
}

/// Whether the layer of a run waits to be folded back.
pub(super) fn pending(folder: &Path) -> Option<RunLayer> {
    // It is there only during a run, and after one that nobody saw end.
    Some(RunLayer::of(folder)).filter(RunLayer::exists)
}
