//! What follows a run: its layer is folded back, what it must not have changed goes back, what it wrote through a guard
//! is repaired.

use std::collections::{BTreeMap, HashSet};
use std::path::{Path, PathBuf};

use rustix::fs::CWD;

use super::change::{Goal, Start};
use super::settle::{Own, Settled, index_path};
use crate::Yard;
use crate::catalog::{TwinRow, What};
use crate::disk::{self, FsClock};
use crate::error::{Error, PathContext, Result};
use crate::ident::{ContentId, StateId};
use crate::launch::RunLayer;
use crate::listing::{Layer, Listing, Node, overlay, rebase};
use crate::lock::Held;
use crate::path::RelPath;
use crate::pool::{Putter, Share};
use crate::progress::Ctx;
use crate::scan::{Doubt, Index};
use crate::yard::OpFolder;

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
            let sheet = self.sheet(&self.state(row.state)?.build.title)?;
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
        let mut repair = Leaks { paths, ..Leaks::default() };
        if leaked.is_empty() {
            return Ok(repair);
        }
        let wrong: BTreeMap<ContentId, u64> = leaked.iter().map(|leak| (leak.content, leak.inode)).collect();
        let rows: Vec<_> = self.catalog.twins()?.into_iter().filter(|row| row.removed_at.is_none()).collect();
        let sharing: Vec<_> = rows.iter().map(|row| self.sharers(row, &wrong)).collect::<Result<_>>()?;
        let mut lost = Vec::new();
        for content in wrong.keys().filter(|content| !self.pool.has(**content)) {
            let own = sharing.iter().flat_map(|sharer| &sharer.own).filter(|(of, _)| of == content);
            let own: Vec<_> = own.map(|(_, path)| path.clone()).collect();
            let mut sources = own.into_iter().chain(self.taken_in_from(*content)?);
            let op = self.begin(ctx)?;
            if !sources.any(|path| self.take_from(*content, &path, &op, ctx).unwrap_or(false)) {
                lost.push(*content);
            }
        }
        for (row, sharer) in rows.iter().zip(&sharing) {
            let paths: Vec<_> =
                sharer.linked.iter().filter(|(of, _)| !lost.contains(of)).map(|(_, path)| path).collect();
            if row.id != writer.id && !paths.is_empty() {
                match self.give_back(row, &paths, ctx) {
                    Ok(()) => repair.repaired.extend(paths.iter().map(|path| (row.name.to_string(), path.to_string()))),
                    Err(error) => repair.damaged.push(format!("{} of the twin {}: {error}", paths[0], row.name)),
                }
            }
            let named = sharer.linked.iter().filter(|(of, _)| row.id != writer.id && lost.contains(of));
            repair.damaged.extend(named.map(|(_, path)| format!("{path} of the twin {}", row.name)));
        }
        repair.damaged.extend(self.stock_with(&lost)?);
        Ok(repair)
    }

    /// The files of a twin that hold one of the contents: those that are the overwritten file, and those of its own.
    fn sharers(&self, row: &TwinRow, wrong: &BTreeMap<ContentId, u64>) -> Result<Sharer> {
        let mut sharer = Sharer::default();
        let state = self.state(row.state)?;
        let listing = self.listing(state.disk)?;
        let folder = self.folder_of(row);
        let index = Index::load(&index_path(&folder), state.disk, self.pool.inode()?, listing.entries().len())?;
        let rows = index.map(|index| index.rows).unwrap_or_default();
        for (at, entry) in listing.entries().iter().enumerate() {
            let Some(content) = entry.node.content() else { continue };
            let Some(inode) = wrong.get(&content) else { continue };
            let path = entry.path.below(&folder);
            let Ok(stat) = disk::lstat(&path) else { continue };
            let linked = rows.get(at).is_none_or(|row| row.share == Some(Share::Link));
            if stat.ino == *inode && linked {
                sharer.linked.push((content, entry.path.clone()));
            } else if stat.ino != *inode {
                sharer.own.push((content, path));
            }
        }
        Ok(sharer)
    }

    /// Where a content was taken in from, as far as stock builds have it: what is there now may be something else.
    fn taken_in_from(&self, content: ContentId) -> Result<Vec<PathBuf>> {
        let mut paths = Vec::new();
        for stock in self.catalog.stock_builds()? {
            let listing = self.listing(stock.listing)?;
            let entry = listing.entries().iter().find(|entry| entry.node.content() == Some(content));
            let below = entry.and_then(|entry| entry.path.as_str().strip_prefix("game/"));
            paths.extend(below.map(|below| PathBuf::from(&stock.source).join(below)));
        }
        Ok(paths)
    }

    /// Takes a content into the pool from a file, if that is what it holds.
    pub(super) fn take_from(&self, content: ContentId, path: &Path, op: &OpFolder, ctx: &Ctx) -> Result<bool> {
        let file = disk::open_file(CWD, path).at("read", path)?;
        let stat = disk::fstat(&file).at("look at", path)?;
        let putter = Putter::new(&self.pool, op.path(), HashSet::new())?;
        let found = putter.put(&file, &stat, path, &mut vec![0; disk::BUFFER], ctx)?;
        if found != content {
            return Ok(false);
        }
        let _alone = self.alone(ctx)?;
        putter.publish(ctx)?;
        Ok(true)
    }

    /// Gives a twin its bytes back at some paths; what it holds there now stays in the history.
    fn give_back(&self, row: &TwinRow, paths: &[&RelPath], ctx: &Ctx) -> Result<()> {
        let right = self.listing(self.state(row.state)?.disk)?;
        let held = self.try_hold_twin(row)?;
        let settled = self.settle_without_repair(row, &held, What::Outside, Doubt::Nothing, ctx)?;
        let layer = paths.iter().map(|path| ((*path).clone(), right.get(path.as_str()).cloned())).collect();
        let next = overlay(&settled.listing, &Layer::new(layer)?)?;
        let row = self.catalog.twin(row.id)?.unwrap_or_else(|| row.clone());
        self.change_settled(&row, &settled, next, What::Repaired, ctx)
    }

    /// Holds a twin if it is free just now.
    fn try_hold_twin(&self, row: &TwinRow) -> Result<Held> {
        let taken = crate::lock::try_take(&self.twin_lock_path(row.id), crate::lock::Mode::Alone)?;
        taken.ok_or_else(|| Error::Busy { what: format!("the twin {:?}", row.name.as_str()), holders: Vec::new() })
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

/// The files of a twin that hold a content that was overwritten.
#[derive(Default)]
struct Sharer {
    linked: Vec<(ContentId, RelPath)>,
    own: Vec<(ContentId, PathBuf)>,
}

/// Whether the layer of a run waits to be folded back.
pub(super) fn pending(folder: &Path) -> Option<RunLayer> {
    // It is there only during a run, and after one that nobody saw end.
    Some(RunLayer::of(folder)).filter(RunLayer::exists)
}
