//! A look at a twin: what is different from its last state. Nothing is taken in by it.

use std::path::Path;
use std::sync::Arc;

use rustix::time::{ClockId, clock_gettime};

use crate::Yard;
use crate::catalog::TwinRow;
use crate::disk::lock::{self, Held, Mode};
use crate::disk::op_folder::OpFolder;
use crate::disk::{self, FsClock};
use crate::error::Result;
use crate::link::{Fate, fate};
use crate::listing::{Listing, Node};
use crate::parallel::{self, Late};
use crate::progress::Ctx;
use crate::scan::{Doubt, Found, Index, NewIndex, Observer, Reading, Row, SeenFolders, Sight, index_path, sight};
use crate::sheet::Sheet;
use crate::store::pool::{Aside, Ledger, Putter};
use crate::store::state::State;

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
    /// Whether there was nothing to be said the last time about what no listing can hold.
    was_quiet: bool,
}

impl Look {
    /// Whether the next look would be spared something by an index of this one. (What changed aside.)
    pub(crate) fn learned(&self) -> bool {
        self.stale_index || self.found.learned() || self.found.folders.looked.quiet != self.was_quiet
    }
}

/// What is known of a twin before it is looked at.
struct Memory<'a> {
    folder: &'a Path,
    state: State,
    pool_inode: u64,
    index: Option<Index>,
    was_quiet: bool,
    ledger: Arc<Ledger>,
    aside: Aside,
    /// Both are large, and not needed where nothing has changed.
    last: Late<'a, Listing>,
    sheet: Late<'a, Option<Sheet>>,
    sheet_key: [u8; 32],
}

impl<'a> Memory<'a> {
    fn of(yard: &'a Yard, row: &TwinRow, folder: &'a Path, ledger: Option<Arc<Ledger>>, ctx: &Ctx) -> Result<Self> {
        let (state, pool_inode) = (yard.store.state(row.state)?, yard.store.pool.inode()?);
        let (index, ledger) = parallel::both(
            ctx.threads(),
            || Index::load(&index_path(folder), state.disk, pool_inode),
            || ledger.map_or_else(|| Ledger::load(&yard.store.pool).map(Arc::new), Ok),
        );
        let (disk, build, index) = (state.disk, state.build.clone(), index?);
        let standing = index.as_ref().and_then(|index| index.standing.as_ref());
        Ok(Self {
            folder,
            pool_inode,
            was_quiet: standing.is_some_and(|standing| standing.looked.quiet),
            index,
            ledger: ledger?,
            aside: yard.store.pool.aside()?,
            last: Late::new(move || yard.store.listing(disk)),
            sheet_key: yard.sheet_key(&state.build)?,
            sheet: Late::new(move || yard.sheet_of(&build)),
            state,
        })
    }

    fn observer<'b>(
        &'b self,
        yard: &'b Yard,
        again: &'b (dyn Fn() -> Result<(Held, Ledger)> + Sync),
        doubt: Doubt<'b>,
        modes: Modes,
    ) -> Observer<'b> {
        Observer {
            folder: self.folder,
            last: &self.last,
            index: self.index.as_ref(),
            ledger: &self.ledger,
            ledger_again: again,
            aside: &self.aside,
            trusts_inodes: modes.trusts_inodes,
            unseen_for: disk::unseen_for(self.folder),
            sheet: &self.sheet,
            sheet_key: self.sheet_key,
            pool: &yard.store.pool,
            doubt,
            keeps_modes: modes.keeps_modes,
            grain: modes.grain,
            looked_at: modes.looked_at,
        }
    }

    /// Looks around, with what was there before being read beside if it is wanted in any case.
    fn sight(&self, observer: &Observer<'_>, want: Want, ctx: &Ctx) -> Result<Sight> {
        std::thread::scope(|scope| {
            if want == Want::Listing {
                // An error comes again when it is asked for.
                scope.spawn(|| drop(self.last.get()));
            }
            sight(observer, ctx)
        })
    }
}

/// What can be told of files in a filesystem.
#[derive(Clone, Copy)]
struct Modes {
    trusts_inodes: bool,
    keeps_modes: bool,
    grain: i64,
    /// When the look began, by the filesystem's clock.
    looked_at: i64,
}

/// Whether what was there before is wanted also if nothing has changed.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Want {
    Listing,
    Nothing,
}

/// A first look, which leaves no trace anywhere.
pub(crate) struct Glance<'a> {
    memory: Memory<'a>,
    sight: Sight,
    looked_at: i64,
}

/// How much there is in a twin in which nothing has changed.
#[derive(Clone, Copy)]
pub(crate) struct Still {
    /// Files and symlinks.
    pub(crate) paths: u64,
    pub(crate) bytes: u64,
}

/// A twin in which nothing has changed.
pub(crate) struct Before {
    pub(crate) state: State,
    pub(crate) listing: Listing,
    pub(crate) rows: Vec<Row>,
    /// When the look began that the rows come of.
    pub(crate) looked_at: i64,
    /// As they are, where they were looked at.
    pub(crate) folders: Option<SeenFolders>,
}

impl<'a> Glance<'a> {
    /// Looks at a twin by its index; `None` where none stands by itself. Who looks at many has read the ledger for all.
    pub(crate) fn at(
        yard: &'a Yard,
        row: &TwinRow,
        folder: &'a Path,
        ledger: Option<Arc<Ledger>>,
        want: Want,
        ctx: &Ctx,
    ) -> Result<Option<Self>> {
        if !disk::trusts_inodes(folder) {
            return Ok(None);
        }
        // Such filesystems stamp by the kernel's clock.
        let looked_at = coarse_now();
        let memory = Memory::of(yard, row, folder, ledger, ctx)?;
        let Some(standing) = memory.index.as_ref().and_then(|index| index.standing.as_ref()) else { return Ok(None) };
        let modes = Modes { trusts_inodes: true, keeps_modes: true, grain: standing.looked.grain, looked_at };
        let again = ledger_again(yard, ctx);
        let sight = memory.sight(&memory.observer(yard, &again, Doubt::Nothing, modes), want, ctx)?;
        Ok(Some(Self { memory, sight, looked_at }))
    }

    /// The state, if everything is as it was at the last look, and there is nothing to be said about it.
    pub(crate) fn still(&self) -> Option<(&State, Still)> {
        let index = self.memory.index.as_ref().filter(|_| self.sight.is_still())?;
        index.standing.as_ref().filter(|standing| standing.looked.quiet)?;
        let files = index.rows.iter().filter(|row| row.share.is_some());
        let paths = index.rows.iter().filter(|row| row.ino != 0).count() as u64;
        let still = Still { paths, bytes: files.map(|row| row.size).sum() };
        Some((&self.memory.state, still))
    }

    /// What a closer look would have found, if [`Glance::still`]: nothing.
    pub(crate) fn into_look(self, row: &TwinRow) -> Result<Look> {
        self.memory.into_look(row, Found { looked_at: self.looked_at, ..Found::default() })
    }

    /// What there is, if [`Glance::still`].
    pub(crate) fn into_before(self) -> Result<Before> {
        let (rows, looked_at) = self.memory.index.map(|index| (index.rows, index.looked_at)).unwrap_or_default();
        let (state, listing, folders) = (self.memory.state, self.memory.last.into_inner()?, Some(self.sight.seen()));
        Ok(Before { state, listing, rows, looked_at, folders })
    }
}

/// The kernel's clock as it stamps files.
fn coarse_now() -> i64 {
    let now = clock_gettime(ClockId::RealtimeCoarse);
    now.tv_sec.saturating_mul(1_000_000_000).saturating_add(now.tv_nsec)
}

/// Where a look finds room for what it stages, and where that goes; without a putter, what is new is only read.
#[derive(Clone, Copy)]
pub(crate) struct Stage<'a> {
    pub(crate) op: &'a OpFolder,
    pub(crate) putter: Option<&'a Putter<'a>>,
}

impl Glance<'_> {
    /// What is known of the pool's files.
    pub(crate) fn ledger(&self) -> Arc<Ledger> {
        Arc::clone(&self.memory.ledger)
    }

    /// Reads what could not be told. What is new is only staged; the putter has to have [`Glance::ledger`].
    pub(crate) fn look(self, yard: &Yard, row: &TwinRow, stage: Stage<'_>, ctx: &Ctx) -> Result<Look> {
        let clock = FsClock::new(stage.op.path())?;
        let Self { memory, sight, looked_at } = self;
        let modes = Modes { trusts_inodes: true, keeps_modes: true, grain: clock.grain(), looked_at };
        let again = ledger_again(yard, ctx);
        let observer = memory.observer(yard, &again, Doubt::Nothing, modes);
        let found = Reading::new(&observer, stage.putter)?.settle(sight, ctx)?;
        memory.into_look(row, found)
    }
}

/// Looks at a twin's folder, and changes nothing: what is new is only staged, where there is a putter.
pub(crate) fn look_only(
    yard: &Yard,
    row: &TwinRow,
    folder: &Path,
    stage: Stage<'_>,
    doubt: Doubt<'_>,
    ctx: &Ctx,
) -> Result<Look> {
    let mut memory = Memory::of(yard, row, folder, stage.putter.map(Putter::ledger), ctx)?;
    if !matches!(doubt, Doubt::Nothing) {
        // Every folder is listed.
        memory.index.iter_mut().for_each(|index| index.standing = None);
    }
    let (clock, trusts_inodes) = (FsClock::new(stage.op.path())?, disk::trusts_inodes(folder));
    let looked_at = clock.now()?;
    let keeps_modes = trusts_inodes || disk::keeps_modes(stage.op.path())?;
    let modes = Modes { trusts_inodes, keeps_modes, grain: clock.grain(), looked_at };
    let again = ledger_again(yard, ctx);
    let observer = memory.observer(yard, &again, doubt, modes);
    let sight = memory.sight(&observer, Want::Listing, ctx)?;
    let found = Reading::new(&observer, stage.putter)?.settle(sight, ctx)?;
    memory.into_look(row, found)
}

impl Memory<'_> {
    fn into_look(self, row: &TwinRow, found: Found) -> Result<Look> {
        let before = self.last.into_inner()?;
        tracing::debug!(twin = %row.name, files = before.entries().len(), read = found.read, "looked at");
        Ok(Look {
            was_quiet: self.was_quiet,
            stale_index: self.index.is_none(),
            state: self.state,
            before,
            rows: self.index.map(|index| index.rows).unwrap_or_default(),
            pool_inode: self.pool_inode,
            sheet: self.sheet.into_inner()?,
            found,
        })
    }
}

impl Look {
    /// Writes down how things look that are as they were, so that they need not be looked at so closely again. What changed
    /// stays in doubt. Gives the rows of the last state.
    pub(crate) fn keep_index(&mut self, yard: &Yard, folder: &Path, op: &OpFolder) -> Result<Vec<Row>> {
        let mut rows = std::mem::take(&mut self.rows);
        rows.resize(self.before.entries().len(), Row::default());
        self.found.refreshed.iter().for_each(|(at, row)| rows[*at] = *row);
        let Found { folders, changed, not_taken, .. } = &mut self.found;
        folders.doubt(changed.iter().map(|(path, _)| path));
        folders.looked.quiet = not_taken.is_empty() && forbidden_links(yard, folder, &self.before).is_empty();
        if self.learned() {
            self.index(&self.before, &rows).save(&index_path(folder), &op.path().join("index"))?;
        }
        Ok(rows)
    }

    /// What a listing that came of this looks like.
    pub(crate) fn index<'a>(&'a self, listing: &'a Listing, rows: &'a [Row]) -> NewIndex<'a> {
        let Found { looked_at, ref folders, .. } = self.found;
        NewIndex { listing, rows, pool: self.pool_inode, looked_at, folders }
    }
}

/// Symlinks that lead into another part of the yard.
pub(crate) fn forbidden_links(yard: &Yard, folder: &Path, listing: &Listing) -> Vec<String> {
    let links = listing.entries().iter().filter_map(|entry| match &entry.node {
        Node::Symlink { target } => Some((entry.path.below(folder), target)),
        _ => None,
    });
    links
        .filter(|(link, target)| fate(link, target, folder, folder, yard.root()) == Fate::Forbidden)
        .map(|(link, target)| format!("{} (a symlink to {target}, in another part of the yard)", link.display()))
        .collect()
}

/// Reads the ledger under the shared lock, while nothing is linked or unlinked.
pub(crate) fn ledger_again<'a>(yard: &'a Yard, ctx: &'a Ctx) -> impl Fn() -> Result<(Held, Ledger)> + Sync + use<'a> {
    let (pool, lock) = (&yard.store.pool, yard.lock_path());
    move || {
        let held = lock::take(&lock, Mode::Shared, "the yard", ctx)?;
        Ok((held, Ledger::load(pool)?))
    }
}
