//! Settle: what changed in a twin on disk is taken into the pool and into its state.

use std::collections::HashSet;
use std::path::{Path, PathBuf};

use super::after_run::{Leaked, Leaks, pending};
use crate::Yard;
use crate::catalog::{Counts, NewChange, TwinRow, What};
use crate::disk::{self, FsClock};
use crate::error::{PathContext, Result, TwinError};
use crate::launch::RunLayer;
use crate::link::{Fate, fate};
use crate::listing::{Listing, Node, diff};
use crate::lock::Held;
use crate::path::RelPath;
use crate::pool::Putter;
use crate::profile;
use crate::progress::Ctx;
use crate::scan::{Doubt, Found, Index, Row, Settling, settle_folder};
use crate::sheet::Sheet;
use crate::state::State;
use crate::yard::{OpFolder, folder_id};

/// A twin as it is now.
pub(crate) struct Settled {
    pub(crate) state: State,
    pub(crate) listing: Listing,
    pub(crate) rows: Vec<Row>,
    /// When the look began that the rows come of, by the filesystem's clock.
    pub(crate) looked_at: i64,
    /// What can't be copied, each with its reason.
    pub(crate) not_taken: Vec<String>,
    /// Shared files that were written through their guard, until they are looked after.
    pub(crate) leaked: Vec<Leaked>,
    /// And then.
    pub(crate) leaks: Leaks,
    /// What a run changed in a protected twin, and was dropped.
    pub(crate) dropped: Vec<String>,
}

/// A twin as it was, and what is different now.
pub(crate) struct Look {
    pub(crate) state: State,
    pub(crate) before: Listing,
    pub(crate) rows: Vec<Row>,
    /// Whether the rows were not to be had.
    pub(crate) stale_index: bool,
    pub(crate) pool_inode: u64,
    pub(crate) sheet: Option<Sheet>,
    pub(crate) found: Found,
    pub(crate) leaks: Vec<Leaked>,
}

/// What a player or a program may change without changing the game: belongings, live and scratch paths, the home.
pub(crate) struct Own<'a>(pub(crate) Option<&'a Sheet>);

impl Own<'_> {
    pub(crate) fn holds(&self, path: &RelPath) -> bool {
        let by_sheet = |sheet: &Sheet| sheet.group_of(path).is_some() || sheet.written().contains(path.as_str());
        !path.as_str().starts_with("game/") || self.0.is_some_and(by_sheet)
    }

    /// How many game files and how many others differ between two listings.
    pub(crate) fn counts(&self, before: &Listing, after: &Listing) -> (Counts, Counts) {
        let (mut game, mut others) = (Counts::default(), Counts::default());
        for change in diff(before, after) {
            let (was, is) = change.nodes();
            if self.holds(change.path()) { others.add(was, is) } else { game.add(was, is) }
        }
        (game, others)
    }

    /// As [`Own::counts`], from what is there now at some paths.
    pub(crate) fn counts_at<'a>(
        &self,
        before: &Listing,
        now: impl Iterator<Item = (&'a RelPath, Option<&'a Node>)>,
    ) -> (Counts, Counts) {
        let (mut game, mut others) = (Counts::default(), Counts::default());
        for (path, is) in now {
            let was = before.get(path.as_str()).map(|entry| &entry.node);
            if self.holds(path) { others.add(was, is) } else { game.add(was, is) }
        }
        (game, others)
    }
}

impl Yard {
    /// Takes in what changed in a twin; refuses at once where it runs, and waits a while where another
    /// command is at it.
    pub(crate) fn settle(&self, row: &TwinRow, ctx: &Ctx) -> Result<Settled> {
        let held = self.hold_twin(row, ctx)?;
        self.settle_held(row, &held, What::Outside, ctx)
    }

    /// As [`Yard::settle`], by one who holds the twin already, and knows `what` has changed it.
    ///
    /// The layer of a run that waits to be folded back is folded first. What was there is settled before that, since someone
    /// may have changed what the run changed too.
    pub(crate) fn settle_held(&self, row: &TwinRow, held: &Held, what: What, ctx: &Ctx) -> Result<Settled> {
        let folder = self.present_folder(row)?;
        let Some(layer) = pending(&folder) else { return self.settle_and_repair(row, held, what, ctx) };
        let run = layer.about().map(|about| about.run);
        if !layer.is_empty() {
            self.settle_and_repair(row, held, What::Outside, ctx)?;
        }
        tracing::info!(twin = %row.name, run, "nobody saw this run end: what it wrote is taken in");
        let what = run.map_or(what, |run| What::Run { run });
        let settled = self.settle_folded(row, held, what, &layer, ctx)?;
        if let Some(run) = run {
            self.catalog.summarise_run(run, "cut off; what it wrote was taken in afterwards")?;
        }
        Ok(settled)
    }

    /// Folds a layer back into the twin, which has been settled without it, and takes that in.
    pub(crate) fn settle_folded(
        &self,
        row: &TwinRow,
        held: &Held,
        what: What,
        layer: &RunLayer,
        ctx: &Ctx,
    ) -> Result<Settled> {
        let dropped = if layer.is_empty() { Vec::new() } else { self.fold_layer(row, layer, ctx)? };
        let settled = self.settle_and_repair(row, held, what, ctx)?;
        layer.remove()?;
        Ok(Settled { dropped, ..settled })
    }

    /// As [`Yard::settle_held`], with a layer left as it is.
    pub(crate) fn settle_and_repair(&self, row: &TwinRow, held: &Held, what: What, ctx: &Ctx) -> Result<Settled> {
        let mut settled = self.settle_without_repair(row, held, what, Doubt::Nothing, ctx)?;
        settled.leaks.extend(self.repair_leaks(&std::mem::take(&mut settled.leaked), row, ctx)?);
        Ok(settled)
    }

    /// Takes in what changed, and leaves other twins as they are. Files on which doubt falls are read.
    pub(super) fn settle_without_repair(
        &self,
        row: &TwinRow,
        held: &Held,
        what: What,
        doubt: Doubt<'_>,
        ctx: &Ctx,
    ) -> Result<Settled> {
        self.finish_change(row, held, ctx)?;
        self.check_after_power_loss(row, ctx)?;
        // Another command may have settled it since the row was read.
        let row = &self.catalog.twin(row.id)?.unwrap_or_else(|| row.clone());
        let folder = self.present_folder(row)?;
        let op = self.begin(ctx)?;
        let mut look = self.look(row, &folder, &op, doubt, ctx)?;
        let state = &look.state;
        let profile = profile::text(&folder.join("profile.toml"))?;
        let now = look.found.changed.iter().map(|(path, now)| (path, now.as_ref().map(|now| &now.0.node)));
        let (game, own) = Own(look.sheet.as_ref()).counts_at(&look.before, now);
        let unchanged = look.found.changed.is_empty();
        // Much that changed is no difference to keep.
        let few = look.found.changed.len() * 10 < look.before.entries().len();
        let layer = if few && !unchanged { Some(look.found.layer()?) } else { None };
        let (listing, rows) = look.found.merged(look.before, look.rows)?;
        let next = State { disk: if unchanged { state.disk } else { listing.id() }, profile, ..state.clone() };
        let what = if unchanged && what == What::Outside { What::Settings } else { what };
        if next != *state {
            self.put_listing(&listing, layer.as_ref().map(|layer| (state.disk, layer)), &op)?;
            let state = self.put_state(&next, &op)?;
            self.catalog.together(|| {
                self.catalog.add_change(row.id, &NewChange { what, game, own, label: None, state }).map(|_| ())
            })?;
        }
        let mut not_taken = look.found.not_taken;
        not_taken.extend(self.forbidden_links(&folder, &listing));
        let looked_at = look.found.looked_at;
        let index = Index { listing: next.disk, pool: look.pool_inode, looked_at, rows };
        if look.stale_index || !unchanged || !look.found.refreshed.is_empty() {
            index.save(&index_path(&folder), &op.path().join("index"))?;
        }
        Ok(Settled {
            state: next,
            listing,
            rows: index.rows,
            looked_at,
            not_taken,
            leaked: look.leaks,
            leaks: Leaks {
                guarded: look.found.lifted.iter().map(|(path, _)| path.to_string()).collect(),
                ..Leaks::default()
            },
            dropped: Vec::new(),
        })
    }

    /// Finishes what a command or a run that died has left half done in a twin, and takes nothing else in.
    pub(super) fn make_whole(&self, row: &TwinRow, held: &Held, ctx: &Ctx) -> Result<()> {
        if pending(&self.present_folder(row)?).is_some() {
            return self.settle_held(row, held, What::Outside, ctx).map(|_| ());
        }
        self.finish_change(row, held, ctx)?;
        self.check_after_power_loss(row, ctx)
    }

    /// Looks at a twin's folder and puts what is new into the pool; its state stays as it is.
    pub(crate) fn look(
        &self,
        row: &TwinRow,
        folder: &Path,
        op: &OpFolder,
        doubt: Doubt<'_>,
        ctx: &Ctx,
    ) -> Result<Look> {
        let putter = Putter::new(&self.pool, op.path(), HashSet::new())?;
        let mut look = self.look_only(row, folder, op, Some(&putter), doubt, ctx)?;
        look.leaks = self.publish(putter, &look.found, ctx)?;
        self.guard_again(folder, &look.found.lifted, op, ctx)?;
        Ok(look)
    }

    /// As [`Yard::look`], and changes nothing: what is new is only staged, where there is a putter.
    pub(crate) fn look_only(
        &self,
        row: &TwinRow,
        folder: &Path,
        op: &OpFolder,
        putter: Option<&Putter<'_>>,
        doubt: Doubt<'_>,
        ctx: &Ctx,
    ) -> Result<Look> {
        let state = self.state(row.state)?;
        let pool_inode = self.pool.inode()?;
        // Both are large, and neither needs the other.
        let (before, index) = std::thread::scope(|scope| {
            let index = scope.spawn(|| Index::load(&index_path(folder), state.disk, pool_inode));
            let before = self.listing(state.disk);
            (before, index.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)))
        });
        let before = before?;
        let index = index?.filter(|index| index.fits(before.entries().len()));
        let sheet = self.sheet_of(&state.build)?;
        let clock = FsClock::new(op.path())?;
        let windows = self.catalog.windows()?;
        let settling = Settling {
            folder,
            last: &before,
            index: index.as_ref(),
            windows: &windows,
            sheet: sheet.as_ref(),
            pool: &self.pool,
            putter,
            doubt,
            clock: &clock,
            keeps_modes: disk::keeps_modes(op.path())?,
        };
        let found = settle_folder(&settling, ctx)?;
        tracing::debug!(twin = %row.name, files = before.entries().len(), read = found.read, "looked at");
        let stale_index = index.is_none();
        let rows = index.map(|index| index.rows).unwrap_or_default();
        Ok(Look { state, before, rows, stale_index, pool_inode, sheet, found, leaks: Vec::new() })
    }

    /// Moves new contents into the pool, and takes those out of it that were written to through a link: a content that is
    /// missing is found at once, one that is wrong is not.
    fn publish(&self, putter: Putter<'_>, found: &Found, ctx: &Ctx) -> Result<Vec<Leaked>> {
        if putter.is_idle() && found.leaks.is_empty() {
            return Ok(Vec::new());
        }
        let _alone = self.alone(ctx)?;
        putter.publish(ctx)?;
        for (_, ino, content) in &found.leaks {
            self.pool.delete_inode(*content, *ino)?;
        }
        let leaked = found.leaks.iter();
        Ok(leaked
            .map(|(path, inode, content)| Leaked { path: path.clone(), inode: *inode, content: *content })
            .collect())
    }

    /// Puts the guard of linked files on again, and gives them their time back: it is theirs that share them too.
    fn guard_again(&self, folder: &Path, lifted: &[(RelPath, Row)], op: &OpFolder, ctx: &Ctx) -> Result<()> {
        if lifted.is_empty() {
            return Ok(());
        }
        let clock = FsClock::new(op.path())?;
        let _alone = self.alone(ctx)?;
        let started = clock.now()?;
        for (path, row) in lifted {
            disk::put_right(&path.below(folder), row.ino, row.mode, row.mtime)?;
        }
        self.catalog.add_window(started, clock.now()?)
    }

    /// The index of the twin in a folder, if there is one for its state's listing, which has so many entries.
    pub(super) fn index(&self, folder: &Path, state: &State, entries: usize) -> Result<Option<Index>> {
        let index = Index::load(&index_path(folder), state.disk, self.pool.inode()?)?;
        Ok(index.filter(|index| index.fits(entries)))
    }

    /// The twin's folder, if it is there and the twin's.
    pub(crate) fn present_folder(&self, row: &TwinRow) -> Result<PathBuf> {
        let folder = self.folder_of(row);
        if folder_id(&folder) == Some(row.id) && folder.join("game").is_dir() {
            return Ok(folder);
        }
        let found = std::fs::read_dir(self.twins_folder())
            .at("list", self.twins_folder())?
            .filter_map(|entry| Some(entry.ok()?.path()))
            .find(|path| *path != folder && folder_id(path) == Some(row.id));
        Err(TwinError::FolderMissing { name: row.name.to_string(), folder, found }.into())
    }

    /// Symlinks that lead into another part of the yard.
    fn forbidden_links(&self, folder: &Path, listing: &Listing) -> Vec<String> {
        let links = listing.entries().iter().filter_map(|entry| match &entry.node {
            Node::Symlink { target } => Some((entry.path.below(folder), target)),
            _ => None,
        });
        links
            .filter(|(link, target)| fate(link, target, folder, folder, self.root()) == Fate::Forbidden)
            .map(|(link, target)| format!("{} (a symlink to {target}, in another part of the yard)", link.display()))
            .collect()
    }
}

/// Writes down what was read and is as it was, so that it need not be read again. Gives the rows of the last state.
pub(super) fn keep_index(look: &mut Look, folder: &Path, op: &OpFolder) -> Result<Vec<Row>> {
    let mut rows = std::mem::take(&mut look.rows);
    if look.stale_index || !look.found.refreshed.is_empty() {
        rows.resize(look.before.entries().len(), Row::default());
        look.found.refreshed.iter().for_each(|(at, row)| rows[*at] = *row);
        let (listing, pool, looked_at) = (look.state.disk, look.pool_inode, look.found.looked_at);
        let index = Index { listing, pool, looked_at, rows };
        index.save(&index_path(folder), &op.path().join("index"))?;
        rows = index.rows;
    }
    Ok(rows)
}

/// Where a twin's index is.
pub(crate) fn index_path(folder: &Path) -> PathBuf {
    folder.join("index")
}
