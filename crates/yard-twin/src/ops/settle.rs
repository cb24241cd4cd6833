//! Settle: what changed in a twin on disk is taken into the pool and into its state.

use std::path::{Path, PathBuf};

use crate::Yard;
use crate::catalog::TwinRow;
use crate::disk::FsClock;
use crate::error::{PathContext, Result, TwinError};
use crate::ident::{ListingId, StateId, TwinId};
use crate::link::{Fate, fate};
use crate::listing::{Listing, Node};
use crate::lock::Held;
use crate::pool::Putter;
use crate::profile;
use crate::progress::Ctx;
use crate::scan::{Found, Index, Row, Settling, settle_folder};
use crate::state::State;
use crate::yard::{OpFolder, folder_id};

/// A twin as it is now.
pub(crate) struct Settled {
    pub(crate) state: State,
    pub(crate) listing: Listing,
    pub(crate) rows: Vec<Row>,
    /// What can't be copied, each with its reason.
    pub(crate) not_taken: Vec<String>,
    /// Shared files that were written through their guard.
    pub(crate) leaks: Vec<String>,
}

impl Yard {
    /// Takes in what changed in a twin; refuses at once where it runs, and waits a while where another
    /// command is at it.
    pub(crate) fn settle(&self, row: &TwinRow, ctx: &Ctx) -> Result<Settled> {
        let held = self.hold_twin(row, ctx)?;
        self.settle_held(row, &held, ctx)
    }

    /// As [`Yard::settle`], by one who holds the twin already.
    pub(crate) fn settle_held(&self, row: &TwinRow, _held: &Held, ctx: &Ctx) -> Result<Settled> {
        let folder = self.present_folder(row)?;
        // Another command may have settled it since the row was read.
        let row = &self.catalog.twin(row.id)?.unwrap_or_else(|| row.clone());
        let state = self.state(row.state)?;
        let before = self.listing(state.disk)?;
        let pool_inode = self.pool.inode()?;
        let index = Index::load(&index_path(&folder), state.disk, pool_inode, before.entries().len())?;
        let op = self.begin(ctx)?;
        let putter = Putter::new(&self.pool, op.path(), std::collections::HashSet::new())?;
        let sheet = self.sheet(&state.build.title)?;
        let clock = FsClock::new(op.path())?;
        let windows = self.catalog.windows()?;
        let settling = Settling {
            folder: &folder,
            last: &before,
            index: index.as_ref(),
            windows: &windows,
            sheet: sheet.as_ref(),
            pool: &self.pool,
            putter: &putter,
            clock: &clock,
        };
        let found = settle_folder(&settling, ctx)?;
        tracing::debug!(twin = %row.name, files = found.rows.len(), read = found.read, "settled");
        let profile = profile::text(&folder.join("profile.toml"))?;
        let leaks = self.publish(putter, &found, ctx)?;
        let next = State { disk: found.listing.id(), profile, ..state.clone() };
        if next != state {
            self.move_to(row.id, &next, &found.listing, &op)?;
        }
        let mut not_taken = found.not_taken;
        not_taken.extend(self.forbidden_links(&folder, &found.listing));
        let looked = Index { listing: next.disk, pool: pool_inode, looked_at: found.looked_at, rows: found.rows };
        if index.is_none_or(|index| index.rows != looked.rows || index.listing != looked.listing || found.read > 0) {
            looked.save(&index_path(&folder), &op.path().join("index"))?;
        }
        Ok(Settled { state: next, listing: found.listing, rows: looked.rows, not_taken, leaks })
    }

    /// Moves new contents into the pool, and takes those out of it that were written to through a link: a content that is
    /// missing is found at once, one that is wrong is not.
    fn publish(&self, putter: Putter<'_>, found: &Found, ctx: &Ctx) -> Result<Vec<String>> {
        if putter.is_idle() && found.leaks.is_empty() {
            return Ok(Vec::new());
        }
        let _alone = self.alone(ctx)?;
        putter.publish(ctx)?;
        for (path, content) in &found.leaks {
            let at = found.listing.position(path.as_str());
            let ino = at.and_then(|at| found.rows.get(at)).map(|row| row.ino);
            self.pool.delete_inode(*content, ino)?;
        }
        Ok(found.leaks.iter().map(|(path, _)| path.to_string()).collect())
    }

    /// Commits a twin's new state: durable when it returns.
    pub(crate) fn move_to(&self, twin: TwinId, state: &State, disk: &Listing, op: &OpFolder) -> Result<StateId> {
        let listed: ListingId = self.put_listing(disk, op)?;
        debug_assert_eq!(listed, state.disk);
        let id = self.put_state(state, op)?;
        self.catalog.set_state(twin, id)?;
        Ok(id)
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

/// Where a twin's index is.
pub(crate) fn index_path(folder: &Path) -> PathBuf {
    folder.join("index")
}
