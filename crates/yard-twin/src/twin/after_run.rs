//! What follows a run: what it wrote is taken in as a line of the history, and what it must not have changed goes back.

use std::collections::BTreeSet;
use std::path::Path;

use crate::Yard;
use crate::catalog::{TwinRow, What};
use crate::disk;
use crate::error::{PathContext, Result};
use crate::ident::StateId;
use crate::launch::{Fate, Fold, LayerAbout, RunLayer};
use crate::listing::{Listing, rebase};
use crate::materialise::Doubtful;
use crate::path::RelPath;
use crate::progress::Ctx;
use crate::store::pool::Ledger;
use crate::twin::Twin;
use crate::twin::change;
use crate::twin::change::Start;
use crate::twin::leaks;
use crate::twin::settle::{PlayersOwn, Settled};
use crate::yard::forget;

impl Twin {
    /// Takes in what a run wrote whose launcher died, in the way that was decided before it began.
    pub(crate) fn settle_cut_off(&mut self, what: What, layer: &RunLayer, ctx: &Ctx) -> Result<Settled> {
        let Some(LayerAbout { run, fate, direct, .. }) = layer.about()? else {
            // The record is missing or unreadable: what the layer holds is kept.
            return self.settle_folded(what, layer, ctx);
        };
        tracing::info!(twin = %self.row.name, run, ?fate, "nobody saw this run end");
        let (settled, told) = match (fate, direct) {
            (Fate::ThrownAway, None) => {
                layer.remove()?;
                (self.settle_and_repair(what, ctx)?, "thrown away, as it was to be")
            }
            (Fate::ThrownAway, Some(from)) => {
                let settled = self.settle_and_repair(What::Run { run }, ctx)?;
                let settled = self.put_back(settled, from, run, |_| true, ctx)?.0;
                layer.remove()?;
                (settled, "thrown away, as it was to be")
            }
            (Fate::Asked, _) => {
                let settled = self.settle_folded(What::Run { run }, layer, ctx)?;
                (settled, "what it wrote is kept, since nobody could be asked any more")
            }
            (Fate::Kept, _) => {
                (self.settle_folded(What::Run { run }, layer, ctx)?, "what it wrote was taken in afterwards")
            }
        };
        self.yard.catalog.summarise_run(run, &format!("cut off; {told}"))?;
        Ok(settled)
    }

    /// Folds a layer back into the twin, takes that in, and puts back what a protected twin doesn't allow.
    ///
    /// What is there is settled first: somebody may have changed the folder while the program wrote into the layer.
    pub(crate) fn settle_folded(&mut self, what: What, layer: &RunLayer, ctx: &Ctx) -> Result<Settled> {
        let mut not_folded = Vec::new();
        if !layer.is_empty()? {
            let before = self.settle_and_repair(What::Outside, ctx)?;
            (not_folded, self.in_place) = self.fold_layer(layer, &before, ctx)?;
        }
        let from = layer.about()?.and_then(|about| about.direct).unwrap_or(self.row.state);
        let run = if let What::Run { run } = what { Some(run) } else { None };
        let mut settled = self.settle_and_repair(what, ctx)?;
        if let (true, Some(run)) = (self.row.protected.is_some(), run) {
            let sheet = self.yard.sheet_of(&settled.state.build)?;
            let own = PlayersOwn(sheet.as_ref());
            let (back, dropped) = self.put_back(settled, from, run, |path| !own.holds(path), ctx)?;
            settled = Settled { dropped, ..back };
        }
        settled.not_taken.extend(not_folded);
        layer.put_away()?;
        Ok(settled)
    }

    /// Folds the layer of a run back into the twin, which the caller holds and has settled. Says what could not be, and what
    /// was written in place.
    ///
    /// Every step can be done again: a crash leaves the rest to the next call.
    fn fold_layer(&self, layer: &RunLayer, before: &Settled, ctx: &Ctx) -> Result<(Vec<String>, Vec<RelPath>)> {
        let folder = self.folder()?;
        let op = self.yard.begin(ctx)?;
        // Taking a linked file out moves the time stamps of the others, as every change of ours does.
        let _alone = self.yard.alone(ctx)?;
        let ledger = Ledger::load(&self.yard.store.pool)?;
        let start = Start::of(before);
        let mut times = 0;
        let mut late = |late: &[Doubtful]| {
            times += 1;
            let below = crate::disk::op_folder::OpFolder::below(&op, &format!("late{times}"))?;
            let found = change::take_late(
                &self.yard,
                late,
                |path| before.listing.get(path.as_str()),
                &below,
                Some(&ledger),
                ctx,
            )?;
            self.keep_meanwhile(&start, &found, &below)
        };
        let expected = |path: &str, stat: &crate::disk::Stat| before.is_as_settled(path, stat, &ledger);
        let kept = forget::kept_folder(&self.yard, &self.row)?;
        let mut fold =
            Fold { folder: &folder, op: op.path(), kept: &kept, ledger: &ledger, expected: &expected, late: &mut late };
        let folded = layer.fold(&mut fold);
        let discarded = folded.and_then(|folded| {
            let out: Vec<&RelPath> = folded.out.iter().collect();
            let open = change::discard_paths(&self.yard, op.path(), &out, &self.row, Some(&ledger))?;
            Ok(([folded.not_folded, open].concat(), folded.in_place))
        });
        ledger.save(op.path())?;
        discarded
    }

    /// Puts back what differs between a twin as it is now and the state `to`, in the paths that `goes_back` holds. What is
    /// there now stays in the history. Says which paths went back.
    pub(crate) fn put_back(
        &mut self,
        settled: Settled,
        to: StateId,
        run: i64,
        goes_back: impl Fn(&RelPath) -> bool,
        ctx: &Ctx,
    ) -> Result<(Settled, Vec<String>)> {
        let target = self.yard.store.listing(self.yard.store.state(to)?.disk)?.sharing_paths(&settled.listing);
        let rebased = rebase(&target, &settled.listing, &target, |path| !goes_back(path))?;
        let paths: Vec<_> =
            crate::listing::diff(&settled.listing, &rebased.listing).map(|change| change.path().to_string()).collect();
        if paths.is_empty() {
            return Ok((settled, paths));
        }
        self.open_up_new(&settled.listing, &target)?;
        let settled = self.change_to(settled, rebased.listing, What::PutBack { run }, ctx)?;
        Ok((settled, paths))
    }

    /// Opens folders up that a run made, and that may not be changed: so that what is in them can go again.
    fn open_up_new(&self, there: &Listing, target: &Listing) -> Result<()> {
        let folder = self.folder()?;
        let parents = there.entries().iter().filter_map(|entry| entry.path.parent());
        // In the order of paths, so that each is opened up before what is in it.
        let new: BTreeSet<&str> =
            parents.flat_map(crate::path::at_and_above).filter(|path| !target.has(path)).collect();
        for path in new {
            let on_disk = folder.join(path);
            disk::change_mode(rustix::fs::CWD, &on_disk, |mode| mode | 0o700).at("open up", &on_disk)?;
        }
        Ok(())
    }
}

/// Whether a twin shares files that are known to hold wrong bytes.
pub(crate) fn has_wrong(yard: &Yard, row: &TwinRow) -> Result<bool> {
    let aside = yard.store.pool.aside()?;
    Ok(!aside.is_empty()
        && leaks::linked_inodes(yard, row).is_none_or(|linked| linked.iter().any(|inode| aside.contains_key(inode))))
}

/// The layer of a run that waits to be folded back, if there is one.
pub(crate) fn pending(folder: &Path) -> Result<Option<RunLayer>> {
    // The layer exists during a run, and after one whose launcher died.
    let layer = RunLayer::of(folder);
    Ok(layer.exists()?.then_some(layer))
}
