//! Finishing a change of a twin that was cut off: always forward.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use crate::Yard;
use crate::catalog::{Intent, What};
use crate::disk;
use crate::disk::op_folder::OpFolder;
use crate::error::{Error, PathContext, Result};
use crate::ident::StateId;
use crate::listing::{Entry, Layer, Listing, Node, overlay};
use crate::materialise::{Doubtful, PATHS};
use crate::path::RelPath;
use crate::progress::Ctx;
use crate::scan::{Now, index_path};
use crate::store::pool::Ledger;
use crate::twin::Twin;
use crate::twin::change;
use crate::twin::change::{Goal, Start, unfinished};
use crate::twin::look::Look;
use crate::twin::power::{may_be_damaged, put_right};
use crate::yard::forget;

impl Twin {
    /// Finishes a change of a twin that was cut off, if there is one. The caller holds the twin.
    ///
    /// # Errors
    /// [`TwinError::Unfinished`] if it can't be: then nothing is lost, and the next command tries again.
    pub(crate) fn finish_change(&mut self, ctx: &Ctx) -> Result<()> {
        for (id, intent) in self.yard.catalog.intents()? {
            let Intent::Change { twin, from, to, stage, what } = intent else { continue };
            if twin != self.row.id {
                continue;
            }
            tracing::info!(twin = %self.row.name, "a change was cut off here: it is finished");
            let cut = CutOff { id, from, to, stage: self.yard.root().join("tmp").join(stage), what };
            self.finish(&cut, ctx).map_err(|error| match error {
                Error::Cancelled | Error::Busy { .. } => error,
                error => unfinished(&self.row, &error),
            })?;
        }
        Ok(())
    }

    fn finish(&mut self, cut: &CutOff, ctx: &Ctx) -> Result<()> {
        let folder = self.folder()?;
        let op = self.yard.begin(ctx)?;
        let (from, to) = (self.yard.store.state(cut.from)?, self.yard.store.state(cut.to)?);
        let damaged = may_be_damaged(&self.row);
        if damaged {
            // Nothing that an index says is believed then.
            disk::remove_if_there(&index_path(&folder))?;
        }
        let Look { before, rows, mut found, .. } = self.look(&folder, &op, ctx)?;
        let wanted = self.yard.store.listing(to.disk)?.sharing_paths(&before);
        let damaged = if damaged { put_right(&found, &before)? } else { Layer::default() };
        let looked_at = found.looked_at;
        let changed = std::mem::take(&mut found.changed);
        found.changed.clone_from(&changed);
        let (there, rows) = found.merged(before.clone(), rows)?;
        let next = overlay(&overlay(&there, &damaged)?, &Layer::between(&before, &wanted))?;
        let next = without_left_over(next, &before, &wanted)?;
        let mut late = late_in(&changed, &next, &damaged);
        let paths = cut.paths()?;
        late.extend(late_out(&self.yard, cut, paths.as_deref().unwrap_or_default(), &before, &wanted, &op, ctx)?);
        late.sort_by(|a, b| a.0.cmp(&b.0));
        late.dedup_by(|a, b| a.0 == b.0);
        let start = Start { state: &from, there: &before, rows: &[], looked_at };
        self.keep_meanwhile(&start, &late, &op)?;
        let start = Start { state: &from, there: &there, rows: &rows, looked_at };
        let goal = Goal { state: to, next, what: cut.what.clone(), intent: Some(cut.id), anew: None };
        self.change(&start, goal, ctx)?;
        self.discard_cut_off(cut, paths, ctx)
    }

    /// Deletes what a change that was cut off had staged and taken out; what somebody has open is kept. So is all of it
    /// where nothing tells what it is of.
    fn discard_cut_off(&self, cut: &CutOff, paths: Option<Vec<RelPath>>, ctx: &Ctx) -> Result<()> {
        let _alone = self.yard.alone(ctx)?;
        let Some(paths) = paths else {
            let kept = forget::kept_folder(&self.yard, &self.row)?;
            disk::make_folders(&self.yard.root().join("kept"))?;
            return disk::rename(&cut.stage, &kept);
        };
        let ledger = Ledger::load(&self.yard.store.pool)?;
        let paths: Vec<&RelPath> = paths.iter().collect();
        let kept = change::discard_paths(&self.yard, &cut.stage, &paths, &self.row, Some(&ledger))?;
        ledger.save(&cut.stage)?;
        kept.iter().for_each(|kept| tracing::warn!(kept, "came out of a twin, and is still open"));
        disk::remove_tree(&cut.stage)
    }
}

/// What had come out of the folder, and is neither as it was nor as it should be.
fn late_out(
    yard: &Yard,
    cut: &CutOff,
    paths: &[RelPath],
    before: &Listing,
    wanted: &Listing,
    op: &OpFolder,
    ctx: &Ctx,
) -> Result<Vec<(RelPath, Entry)>> {
    let known = |path: &RelPath| before.get(path.as_str()).or_else(|| wanted.get(path.as_str()));
    let second = OpFolder::below(op, "late")?;
    let mut out = change::take_late(yard, &came_out(&cut.stage, paths)?, known, &second, None, ctx)?;
    out.retain(|(path, entry)| {
        [before, wanted].iter().all(|listing| listing.get(path.as_str()).is_none_or(|is| is.node != entry.node))
    });
    Ok(out)
}

/// What is in the folder now, was not there before, and will not be there in the end: someone else wrote it, unless it is a
/// folder that was half way, or an empty file that a power loss left.
fn late_in(changed: &[(RelPath, Now)], next: &Listing, damaged: &Layer) -> Vec<(RelPath, Entry)> {
    let there = changed.iter().filter_map(|(path, now)| Some((path, &now.as_ref()?.0)));
    there
        .filter(|(path, now)| now.node != Node::EmptyFolder && (!damaged.has(path) || now.node.size() > 0))
        .filter(|(path, now)| next.get(path.as_str()).map(|entry| &entry.node) != Some(&now.node))
        .map(|(path, now)| (path.clone(), now.clone()))
        .collect()
}

/// The listing without folders that were half way out: they are empty now, which they never were before, nor should be.
fn without_left_over(next: Listing, before: &Listing, wanted: &Listing) -> Result<Listing> {
    let mut entries = next.into_entries();
    entries.retain(|entry| {
        let path = entry.path.as_str();
        let left_over =
            entry.node == Node::EmptyFolder && before.has(path) && before.get(path).is_none() && !wanted.has(path);
        !left_over
    });
    Listing::new(entries)
}

/// A change that was cut off.
struct CutOff {
    id: i64,
    from: StateId,
    to: StateId,
    stage: PathBuf,
    what: Option<What>,
}

impl CutOff {
    /// The paths that its steps are about; `None` if what says so can't be understood.
    fn paths(&self) -> Result<Option<Vec<RelPath>>> {
        let path = self.stage.join(PATHS);
        match disk::read_own(&path, 1 << 30) {
            // It is tidied up already.
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(Some(Vec::new())),
            text => Ok(serde_json::from_slice(&text.at("read", &path)?).ok()),
        }
    }
}

/// What a change that was cut off had taken out of the folder, or not put into it yet.
fn came_out(stage: &Path, paths: &[RelPath]) -> Result<Vec<Doubtful>> {
    let mut found = Vec::new();
    for area in ["new", "old"].map(|area| stage.join(area)) {
        for chunk in listed(&area)? {
            for out in listed(&chunk)? {
                let number = out.file_name().and_then(|name| name.to_str()?.parse::<usize>().ok());
                if let Some(path) = number.and_then(|number| paths.get(number)) {
                    found.push(Doubtful { path: path.clone(), out });
                }
            }
        }
    }
    Ok(found)
}

/// What is in a folder; nothing if it isn't there.
fn listed(folder: &Path) -> Result<Vec<PathBuf>> {
    match fs::read_dir(folder) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(Vec::new()),
        entries => entries.at("list", folder)?.map(|entry| Ok(entry.at("list", folder)?.path())).collect(),
    }
}
