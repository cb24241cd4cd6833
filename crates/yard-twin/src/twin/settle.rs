//! Settle: what changed in a twin on disk is taken into the pool and into its state.

use std::collections::HashSet;
use std::io::ErrorKind;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use rustix::fs::FileType;

use crate::Yard;
use crate::catalog::{Counts, NewChange, TwinRow, What};
use crate::disk::op_folder::OpFolder;
use crate::disk::{self, Stat};
use crate::error::{Error, PathContext, Result, TwinError};
use crate::ident::{ContentId, ListingId};
use crate::listing::{Layer, Listing, Node, diff};
use crate::parallel;
use crate::path::RelPath;
use crate::profile;
use crate::progress::Ctx;
use crate::scan::{Doubt, Lifted, Row, SeenFolders, index_path};
use crate::sheet::Sheet;
use crate::store::pool::{Ledger, Putter, Share};
use crate::store::state::State;
use crate::twin::Twin;
use crate::twin::after_run::pending;
use crate::twin::arrived;
use crate::twin::leaks;
use crate::twin::leaks::{Leaks, Mends};
use crate::twin::look::{Before, Glance, Look, Stage, Want, forbidden_links, look_only};
use crate::twin::private::private_there;
use crate::yard::folder_id;

/// A twin as it is now.
pub(crate) struct Settled {
    pub(crate) state: State,
    pub(crate) listing: Listing,
    pub(crate) rows: Vec<Row>,
    /// Its folders, if nothing had changed.
    pub(crate) folders: Option<SeenFolders>,
    /// When the look began that the rows come of, by the filesystem's clock.
    pub(crate) looked_at: i64,
    /// What can't be copied, each with its reason.
    pub(crate) not_taken: Vec<String>,
    /// What is to be put right in it, until that is done.
    pub(crate) mends: Mends,
    /// Shared files that were written to directly, and what became of them.
    pub(crate) leaks: Leaks,
    /// What a run changed in a protected twin, and was dropped.
    pub(crate) dropped: Vec<String>,
    /// What is different from the state that the catalogue knows, if it was only looked at.
    pub(crate) news: Option<News>,
}

/// What a look found new in a twin, and has not written down: its contents are in the pool.
#[derive(Clone, Debug)]
pub(crate) struct News {
    pub(crate) what: What,
    pub(crate) game: Counts,
    pub(crate) own: Counts,
    /// The difference from the listing before, if it is small.
    pub(crate) layer: Option<Layer>,
    pub(crate) contents: Vec<ContentId>,
}

impl News {
    fn of(look: &Look, mends: &Mends, what: What) -> Result<Self> {
        let changed = &look.found.changed;
        let now = changed.iter().map(|(path, now)| (path, now.as_ref().map(|now| &now.0.node)));
        let (game, own) = PlayersOwn(look.sheet.as_ref()).counts_at(&look.before, now);
        let what = match what {
            What::Outside if changed.is_empty() => What::Settings,
            What::Outside if changed.iter().all(|(path, _)| mends.has_leak(path)) => What::WrittenDirectly,
            what => what,
        };
        // Much that changed is no difference to keep.
        let few = changed.len() * 10 < look.before.entries().len();
        let layer = if few && !changed.is_empty() { Some(look.found.layer()?) } else { None };
        let contents = changed.iter().filter_map(|(_, now)| now.as_ref()?.0.node.content()).collect();
        Ok(Self { what, game, own, layer, contents })
    }

    /// Keeps the listing and the state that came of it, and gives the line of the history.
    pub(crate) fn put(
        &self,
        yard: &Yard,
        listing: &Listing,
        state: &State,
        before: ListingId,
        op: &OpFolder,
    ) -> Result<NewChange<'static>> {
        yard.store.put_listing(listing, self.layer.as_ref().map(|layer| (before, layer)), op)?;
        let (what, game, own) = (self.what.clone(), self.game, self.own);
        Ok(NewChange { what, game, own, label: None, state: yard.store.put_state(state, op)? })
    }
}

/// Whether what a look finds becomes a line of the history.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Record {
    /// It does.
    Now,
    /// Only if something is wrong, and is put right at once.
    IfWrong,
}

/// A twin as it was at its last settle.
pub(crate) fn as_of_last(yard: &Yard, row: &TwinRow) -> Result<Settled> {
    let state = yard.store.state(row.state)?;
    let listing = yard.store.listing(state.disk)?;
    let index = yard.index(&yard.folder_of(row), &state, listing.entries().len())?;
    let (rows, looked_at) = index.map(|index| (index.rows, index.looked_at)).unwrap_or_default();
    Ok(Settled::as_it_was(Before { state, listing, rows, looked_at, folders: None }))
}

impl Settled {
    /// A twin in which nothing has changed, and nothing is to be said about what no listing can hold.
    fn as_it_was(Before { state, listing, rows, looked_at, folders }: Before) -> Self {
        Self {
            state,
            listing,
            rows,
            folders,
            looked_at,
            not_taken: Vec::new(),
            leaks: Leaks::default(),
            mends: Mends::default(),
            dropped: Vec::new(),
            news: None,
        }
    }

    /// Whether what is at a path is what was there when this was settled.
    pub(crate) fn is_as_settled(&self, path: &str, stat: &Stat, ledger: &Ledger) -> bool {
        let Some(at) = self.listing.position(path) else { return false };
        let row = self.rows.get(at).copied().unwrap_or_default();
        match &self.listing.entries()[at].node {
            Node::File { content, .. } if row.share == Some(Share::Link) => ledger.holds(*content, stat),
            Node::File { size, .. } => {
                (row.ino, *size, row.mtime, row.mode, row.ctime)
                    == (stat.ino, stat.size, stat.mtime, stat.mode, stat.ctime)
            }
            // A symlink's target is compared where it is taken in.
            Node::Symlink { .. } | Node::EmptyFolder => false,
        }
    }
}

/// What a settle has to say to the pool.
struct Pooled<'a> {
    putter: Putter<'a>,
    lifted: &'a [Lifted],
    mends: &'a Mends,
}

/// What a player or a program may change without changing the game: belongings, live and scratch paths, the home.
pub(crate) struct PlayersOwn<'a>(pub(crate) Option<&'a Sheet>);

impl PlayersOwn<'_> {
    pub(crate) fn holds(&self, path: &RelPath) -> bool {
        let by_sheet = |sheet: &Sheet| sheet.group_of(path).is_some() || sheet.written().contains(path.as_str());
        let is_program = |sheet: &Sheet| sheet.is_home_program(path);
        let of_game = path.as_str().starts_with("game/") || self.0.is_some_and(is_program);
        !of_game || self.0.is_some_and(by_sheet)
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

    /// As [`PlayersOwn::counts`], from what is there now at some paths.
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

/// Takes in what changed in a twin; refuses at once where it runs, and waits a while where another
/// command is at it.
pub(crate) fn settle(yard: &Yard, row: &TwinRow, ctx: &Ctx) -> Result<Settled> {
    Twin::hold(yard, row, ctx)?.settle(What::Outside, ctx)
}

/// Takes in what changed in a twin, unless it runs or was removed.
pub(crate) fn settle_if_free(yard: &Yard, row: &TwinRow, ctx: &Ctx) -> Result<()> {
    if row.removed_at.is_some() {
        return Ok(());
    }
    match settle(yard, row, ctx) {
        Ok(_) | Err(Error::Busy { .. }) => Ok(()),
        Err(error) => Err(error),
    }
}

impl Twin {
    /// Takes in what changed; `what` names the cause in the history.
    ///
    /// A layer that a dead launcher left is taken in first.
    pub(crate) fn settle(&mut self, what: What, ctx: &Ctx) -> Result<Settled> {
        let folder = self.folder()?;
        match pending(&folder)? {
            None => self.settle_and_repair(what, ctx),
            Some(layer) => self.settle_cut_off(what, &layer, ctx),
        }
    }

    /// Takes in what changed, for a plan: its contents are stored, and the twin's history and state stay as they are. What
    /// is wrong is put right as by a settle; a layer that a dead launcher left is taken in, too.
    pub(crate) fn see(&mut self, ctx: &Ctx) -> Result<Settled> {
        if pending(&self.folder()?)?.is_some() {
            return self.settle(What::Outside, ctx);
        }
        let seen = self.settle_without_repair(What::Outside, Doubt::Nothing, Record::IfWrong, ctx)?;
        self.mend_all(seen, ctx)
    }

    /// As [`Twin::settle`], with a layer left as it is. Other twins that share what was written to directly mend
    /// themselves at once, if their locks are free.
    pub(crate) fn settle_and_repair(&mut self, what: What, ctx: &Ctx) -> Result<Settled> {
        let settled = self.settle_without_repair(what, Doubt::Nothing, Record::Now, ctx)?;
        self.mend_all(settled, ctx)
    }

    fn mend_all(&mut self, settled: Settled, ctx: &Ctx) -> Result<Settled> {
        let mut settled = self.mend_settled(settled, ctx)?;
        if !settled.leaks.inodes.is_empty() {
            leaks::mend_sharers(&self.yard, Some(&self.row), &mut settled.leaks, ctx)?;
        }
        Ok(settled)
    }

    /// As [`Twin::settle_and_repair`], for this twin alone.
    pub(crate) fn settle_and_mend(&mut self, what: What, ctx: &Ctx) -> Result<Settled> {
        let settled = self.settle_without_repair(what, Doubt::Nothing, Record::Now, ctx)?;
        self.mend_settled(settled, ctx)
    }

    /// Takes in what changed, with what is to be put right still as it is. Files on which doubt falls are read.
    pub(crate) fn settle_without_repair(
        &mut self,
        what: What,
        doubt: Doubt<'_>,
        record: Record,
        ctx: &Ctx,
    ) -> Result<Settled> {
        self.finish_change(ctx)?;
        self.check_after_power_loss(ctx)?;
        let folder = self.folder()?;
        let yard = self.yard.clone();
        let mut glance = match doubt {
            Doubt::Nothing => Glance::at(&yard, &self.row, &folder, None, Want::Listing, ctx)?,
            _ => None,
        };
        let profile = profile::text(&folder.join("profile.toml"))?;
        let still = |glance: &mut Glance<'_>| glance.still().is_some_and(|(state, _)| state.profile == profile);
        if self.in_place.is_empty()
            && let Some(glance) = glance.take_if(still)
        {
            return Ok(Settled::as_it_was(glance.into_before()?));
        }
        let (op, pool) = (self.yard.begin(ctx)?, &yard.store.pool);
        let ledger = glance.as_ref().map_or_else(|| Ledger::load(pool).map(Arc::new), |glance| Ok(glance.ledger()))?;
        let putter = Putter::with_ledger(pool, op.path(), HashSet::new(), ledger)?;
        let stage = Stage { op: &op, putter: Some(&putter) };
        let mut look = match glance {
            Some(glance) => glance.look(&self.yard, &self.row, stage, ctx)?,
            None => look_only(&self.yard, &self.row, &folder, stage, doubt, ctx)?,
        };
        let mends = self.judge(&mut look, ctx)?;
        let (state, from_layer) = (look.state.clone(), std::mem::take(&mut self.in_place));
        let mut in_place = Vec::new();
        if matches!(what, What::Run { .. }) {
            in_place = arrived::written_in_place(&look, &from_layer);
            arrived::mark(&mut look, &from_layer, &self.yard.store.pool);
        }
        let news = News::of(&look, &mends, what)?;
        let unchanged = look.found.changed.is_empty();
        let later = record == Record::IfWrong && mends.is_empty();
        if later {
            // The index goes with the state that the catalogue knows.
            look.rows = look.keep_index(&yard, &folder, &op)?;
        }
        let (listing, rows) = look.found.merged(std::mem::take(&mut look.before), std::mem::take(&mut look.rows))?;
        let mut not_taken = std::mem::take(&mut look.found.not_taken);
        not_taken.extend(forbidden_links(&self.yard, &folder, &listing));
        look.found.folders.looked.quiet = not_taken.is_empty();
        let staged = (!later && (!unchanged || look.learned())).then(|| op.path().join("index"));
        let pooled = Pooled { putter, lifted: &look.found.lifted, mends: &mends };
        let index = look.index(&listing, &rows);
        // The listing's id is worked out and a record that lasts is waited for, and meanwhile the index is written, which is
        // put in place after it.
        let (written, taken_in) = parallel::both(
            ctx.threads(),
            || staged.as_ref().map_or(Ok(()), |staged| index.stage(staged)),
            || {
                let next = State { disk: if unchanged { state.disk } else { listing.id() }, profile, ..state.clone() };
                let mut next = next.with_written(in_place);
                if !unchanged {
                    next.private = private_there((&listing, &rows), look.sheet.as_ref(), &state, op.path())?;
                }
                let number = self.take_in(pooled, &op, ctx, || {
                    if later || next == state {
                        return Ok(None);
                    }
                    news.put(&self.yard, &listing, &next, state.disk, &op).map(Some)
                })?;
                Ok::<_, Error>((next, number))
            },
        );
        let (next, number) = taken_in?;
        if number.is_some() {
            self.renew()?;
        }
        written?;
        staged.map_or(Ok(()), |staged| disk::replace_loose(&staged, &index_path(&folder)))?;
        let looked_at = look.found.looked_at;
        let mut leaks = mends.leaks();
        leaks.number = number.filter(|_| !leaks.paths.is_empty());
        let news = (later && next != state).then_some(news);
        let (state, dropped, folders) = (next, Vec::new(), None);
        Ok(Settled { state, listing, rows, folders, looked_at, not_taken, mends, leaks, dropped, news })
    }

    /// Publishes what a settle has staged and commits what came of it, under one hold of the yard: so that whatever the new
    /// state names is there, and stays. Gives the number of the new line of the history.
    fn take_in<'a>(
        &self,
        pooled: Pooled<'_>,
        op: &OpFolder,
        ctx: &Ctx,
        change: impl FnOnce() -> Result<Option<NewChange<'a>>>,
    ) -> Result<Option<u32>> {
        let Pooled { putter, lifted, mends } = pooled;
        let asked = putter.ledger();
        if putter.is_idle() && lifted.is_empty() && mends.is_empty() && !asked.is_changed() {
            // Nothing but the twin's own record may have to be written.
            return self.commit_settled(change()?);
        }
        putter.sync()?;
        let _alone = self.yard.alone(ctx)?;
        let ledger = asked.renewed(&self.yard.store.pool)?;
        for leak in &mends.leaks {
            if leak.alone {
                // Its bytes are the twin's own from now on.
                self.yard.store.pool.let_go(&ledger, leak.right, leak.inode)?;
            } else {
                self.yard.store.pool.set_aside(&ledger, leak.right, leak.inode)?;
            }
        }
        putter.publish(&ledger, ctx)?;
        for Lifted { content, read, .. } in lifted {
            if let Some(path) = self.yard.store.pool.file_with(*content, read.ino)? {
                self.yard.store.pool.guard(&ledger, *content, &path, read)?;
            }
        }
        let number = self.commit_settled(change()?);
        ledger.save(op.path())?;
        number
    }

    fn commit_settled(&self, change: Option<NewChange<'_>>) -> Result<Option<u32>> {
        let Some(change) = change else { return Ok(None) };
        let mut number = None;
        self.yard.catalog.together(|| {
            number = Some(self.yard.catalog.add_change(self.row.id, &change)?);
            Ok(())
        })?;
        Ok(number)
    }

    /// Finishes what a command or a run that died has left half done in a twin, and takes nothing else in.
    pub(crate) fn make_whole(&mut self, ctx: &Ctx) -> Result<()> {
        if pending(&self.folder()?)?.is_some() {
            return self.settle(What::Outside, ctx).map(|_| ());
        }
        self.finish_change(ctx)?;
        self.check_after_power_loss(ctx)
    }

    /// Looks at a twin's folder and puts what is new into the pool; its state stays as it is, and so does what is wrong.
    pub(crate) fn look(&self, folder: &Path, op: &OpFolder, ctx: &Ctx) -> Result<Look> {
        let putter = Putter::new(&self.yard.store.pool, op.path(), HashSet::new())?;
        let stage = Stage { op, putter: Some(&putter) };
        let look = look_only(&self.yard, &self.row, folder, stage, Doubt::Nothing, ctx)?;
        let pooled = Pooled { putter, lifted: &[], mends: &Mends::default() };
        self.take_in(pooled, op, ctx, || Ok(None))?;
        Ok(look)
    }
}

/// The twin's folder, if it is there and the twin's.
///
/// # Errors
/// [`TwinError::FolderMissing`], [`TwinError::NotItsFolder`], [`crate::Error::Io`] if that can't be told.
pub(crate) fn present_folder(yard: &Yard, row: &TwinRow) -> Result<PathBuf> {
    let folder = yard.folder_of(row);
    let id = folder_id(&folder)?;
    let game = folder.join("game");
    let kind = match disk::lstat(&game) {
        Err(error) if matches!(error.kind(), ErrorKind::NotFound | ErrorKind::NotADirectory) => None,
        stat => Some(FileType::from_raw_mode(stat.at("look at", &game)?.mode)),
    };
    let name = row.name.to_string();
    let why = match (id, kind) {
        (Some(id), Some(FileType::Directory)) if id == row.id => return Ok(folder),
        (Some(id), _) if id != row.id => "it is another twin's",
        (_, Some(FileType::Symlink)) => "its game is a symlink; a twin's game is a folder of its own",
        (Some(_), _) => "it has no game folder",
        (None, _) => {
            let elsewhere = elsewhere(yard, row, &folder)?;
            return Err(TwinError::FolderMissing { name, folder, found: elsewhere }.into());
        }
    };
    Err(TwinError::NotItsFolder { name, folder, why }.into())
}

/// Where a twin's folder is, if it was renamed by hand.
fn elsewhere(yard: &Yard, row: &TwinRow, folder: &Path) -> Result<Option<PathBuf>> {
    for base in [yard.twins_folder(), yard.removed_folder()] {
        for entry in std::fs::read_dir(&base).at("list", &base)? {
            let path = entry.at("list", &base)?.path();
            // A folder whose id can't be read is not taken for this twin's.
            if path != folder && folder_id(&path).is_ok_and(|id| id == Some(row.id)) {
                return Ok(Some(path));
            }
        }
    }
    Ok(None)
}
