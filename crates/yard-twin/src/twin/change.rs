//! A change of a twin: the one way from one state to another.

use std::collections::HashSet;
use std::fs;
use std::path::Path;
use std::sync::Arc;

use rustix::fs::CWD;

use crate::Yard;
use crate::catalog::{Intent, NewChange, TwinRow, What};
use crate::disk::lock::Held;
use crate::disk::op_folder::OpFolder;
use crate::disk::{self, FsClock, Stat};
use crate::error::{Error, PathContext, Result, TwinError};
use crate::ident::{ContentId, StateId};
use crate::listing::{Entry, Layer, Listing, Node, diff, overlay};
use crate::materialise::{Discard, Doing, Doubtful, FolderChange, GivenUp, Layout, Published, Staged, Step, steps};
use crate::path::RelPath;
use crate::progress::Ctx;
use crate::scan::{Folders, NewIndex, Row, index_path};
use crate::sheet::{PathSet, Sheet};
use crate::store::pool::{Ledger, Policy, PutTotals, Putter, Share, Sharing};
use crate::store::state::State;
use crate::twin::Twin;
use crate::twin::private::private_there;
use crate::twin::room;
use crate::twin::settle::{PlayersOwn, Settled};
use crate::twin::vouch;
use crate::yard::forget;

/// A twin as it is on disk, from which a change sets out.
pub(crate) struct Start<'a> {
    pub(crate) state: &'a State,
    /// What is there, and how it looks since when.
    pub(crate) there: &'a Listing,
    pub(crate) rows: &'a [Row],
    pub(crate) looked_at: i64,
}

impl<'a> Start<'a> {
    /// From how it was settled just now.
    pub(crate) fn of(settled: &'a Settled) -> Self {
        let Settled { state, listing, rows, looked_at, .. } = settled;
        Self { state, there: listing, rows, looked_at: *looked_at }
    }
}

/// Where a change leads.
pub(crate) struct Goal {
    /// The state to come; what is on disk then is filled in.
    pub(crate) state: State,
    pub(crate) next: Listing,
    /// What the history says of it; `None` where only what should be there already is put right, and the twin's state
    /// stays.
    pub(crate) what: Option<What>,
    /// The intent of a change that was cut off and is now finished.
    pub(crate) intent: Option<i64>,
    pub(crate) anew: Option<Anew>,
}

/// Files that are laid anew in another way, though they hold what they should. If that is cut off, those that are left stay
/// as they are.
#[derive(Clone, Debug)]
pub(crate) struct Anew {
    pub(crate) paths: Vec<RelPath>,
    pub(crate) sharing: Sharing,
}

/// What a change did beside what was planned.
#[derive(Debug, Default)]
pub(crate) struct Changed {
    /// The number that the change has in the history.
    pub(crate) number: Option<u32>,
    /// Paths that others wrote to meanwhile: what they held is in the history.
    pub(crate) late: Vec<RelPath>,
    /// What stood in the way and could not be kept in the pool, or what somebody still has open: where it is now.
    pub(crate) set_aside: Vec<String>,
    /// What is there now, and how it looks since when.
    pub(crate) next: Listing,
    pub(crate) rows: Vec<Row>,
    pub(crate) looked_at: i64,
}

/// A change that is staged, and written down as what comes next.
struct Intended<'a> {
    start: &'a Start<'a>,
    goal: &'a Goal,
    to: StateId,
    intent: i64,
    folder: &'a Path,
}

/// How often what the pool holds is looked at again because something came in between.
pub(crate) const VOUCHES: usize = 3;

/// A change that is committed.
struct Committed {
    number: Option<u32>,
    late: Vec<RelPath>,
    /// What is there now.
    next: Listing,
    /// The state that says so.
    to: StateId,
}

impl Twin {
    /// Changes a twin that the caller holds: checks everything, stages everything, writes the intent, publishes entry
    /// by entry, moves the pointer, deletes the stage.
    ///
    /// After a crash behind the intent, the next opening of the yard finishes the change. An error, or a cancellation,
    /// undoes what was done.
    pub(crate) fn change(&mut self, start: &Start<'_>, mut goal: Goal, ctx: &Ctx) -> Result<Changed> {
        let folder = self.folder()?;
        let sheet = self.yard.sheet_of(&goal.state.build)?;
        let nothing = PathSet::default();
        let written = sheet.as_ref().map_or(&nothing, |sheet| sheet.written());
        let (name, mut op) = (self.row.name.to_string(), self.yard.begin(ctx)?);
        let private = private_there((start.there, start.rows), sheet.as_ref(), start.state, op.path())?;
        goal.state.private = private_then(start, &goal, private);
        let sharing = goal.anew.as_ref().map_or(goal.state.sharing, |anew| anew.sharing);
        let policy = Policy::new(sharing, self.yard.facts_by(&op)?, &goal.next, written)
            .with_own(&goal.state.written, &goal.state.private)
            .with_home(goal.anew.iter().flat_map(|anew| &anew.paths));
        let clock = FsClock::new(op.path())?;
        let asked = Arc::new(Ledger::load(&self.yard.store.pool)?);
        let op_path = op.path().to_path_buf();
        let layout = Layout { pool: &self.yard.store.pool, policy: &policy, ledger: &asked, op: &op_path, ctx };
        let is_scratch = |path: &RelPath| sheet.as_ref().is_some_and(|sheet| sheet.is_scratch(path));
        let none = Listing::default();
        let about = FolderChange {
            layout: &layout,
            twin: &name,
            folder: &folder,
            there: start.there,
            rows: start.rows,
            next: &none,
            is_scratch: &is_scratch,
        };
        let mut planned = all_steps(start.there, &goal);
        let stay = FolderChange { next: &goal.next, ..about }.check(&planned)?;
        if !stay.is_empty() {
            goal.next = with_folders(std::mem::take(&mut goal.next), stay)?;
            planned = all_steps(start.there, &goal);
        }
        let folder_change = FolderChange { next: &goal.next, ..about };
        let mut next = goal.next.finder();
        let coming = planned.iter().filter(|step| step.comes());
        let coming: Vec<&Entry> = coming.filter_map(|step| next.find(step.path.as_str())).collect();
        room::check_room(&self.yard, coming.iter().map(|entry| (*entry, policy.way(entry))))?;
        let executables = vouch::vouch(&self.yard, &coming, &layout)?;
        let staged = folder_change.stage(planned)?;
        let to = self.put_goal(start, &goal.state, &goal.next, &op)?;
        // Linking and unlinking need the yard's exclusive lock: taken here.
        let links = policy.links() || start.rows.iter().any(|row| row.share == Some(Share::Link));
        let alone =
            if links { Some(link_staged(&self.yard, &folder_change, &staged, executables, &coming)?) } else { None };
        drop(coming);
        let ledger = alone.as_ref().map(|(_, ledger)| &**ledger);
        let begins = ctx.check().and_then(|()| room::check_records(&self.yard));
        let done = begins.and_then(|()| self.intend_change(start, to, &goal, &op)).and_then(|intent| {
            let intended = Intended { start, goal: &goal, to, intent, folder: &folder };
            self.carry_out(&intended, &folder_change, &staged, &mut op, ledger, ctx)
        });
        let (published, committed) = match done {
            Ok(done) => done,
            Err(error) => {
                // What was staged as a link goes again: the ledger is told.
                if let Some((_, ledger)) = &alone
                    && !op.is_left()
                {
                    let discarded = self.discard(&op_path, &staged, Some(ledger));
                    if let Err(error) = discarded.and_then(|_| ledger.save(&op_path)) {
                        tracing::warn!(%error, "what was staged is left for the next command");
                    }
                }
                return Err(error);
            }
        };
        let Committed { number, late, next, to } = committed;
        if goal.what.is_some() {
            self.row.state = to;
        }
        let own = staged.rows().filter(|(_, row)| row.share != Some(Share::Link));
        let latest = own.map(|(_, row)| row.ctime).max().unwrap_or_default();
        let mut set_aside = published.set_aside;
        // What follows is advisory: a change that is committed has not failed any more.
        let tidied = self.discard(&op_path, &staged, ledger).and_then(|kept| {
            set_aside.extend(kept);
            ledger.map_or(Ok(()), |ledger| ledger.save(&op_path))
        });
        // Nobody asks the ledger any more, and the rows and the index take room.
        drop((alone, asked));
        let rows = merged_rows(start, &next, staged.rows(), clock.grain());
        drop(staged);
        let mut looked_at = 0;
        let tidied = tidied.and_then(|()| {
            looked_at = clock.wait_past(latest)?;
            // What was put there meanwhile must be seen: all folders are listed at the next look.
            let folders = &Folders::default();
            let pool = self.yard.store.pool.inode()?;
            let index = NewIndex { listing: &next, rows: &rows, pool, looked_at, folders };
            index.save(&index_path(&folder), &op_path.join("index"))
        });
        if let Err(error) = tidied {
            tracing::warn!(%error, "the next look at the twin will read more than it had to");
        }
        Ok(Changed { number, late, set_aside, next, rows, looked_at })
    }

    /// Deletes what a change has staged or taken out; what somebody has open is kept, and named.
    fn discard(&self, op: &Path, staged: &Staged, ledger: Option<&Ledger>) -> Result<Vec<String>> {
        let paths: Vec<&RelPath> = staged.paths().collect();
        discard_paths(&self.yard, op, &paths, &self.row, ledger)
    }

    /// Publishes what is staged, and moves the pointer. If either fails, what was done is undone.
    fn carry_out(
        &self,
        intended: &Intended<'_>,
        folder_change: &FolderChange<'_>,
        staged: &Staged,
        op: &mut OpFolder,
        ledger: Option<&Ledger>,
        ctx: &Ctx,
    ) -> Result<(Published, Committed)> {
        let &Intended { start, goal, folder, .. } = intended;
        let (before, after) = (&start.state.profile, &goal.state.profile);
        let published = match folder_change.publish(staged, ledger) {
            Ok(published) => published,
            Err(GivenUp { error, undone }) => return Err(self.given_up(intended, error, undone, op, ledger, ctx)),
        };
        let committed =
            shift_profile(folder, before, after, op).and_then(|()| self.commit(intended, &published, op, ledger, ctx));
        let error = match committed {
            Ok(committed) => return Ok((published, committed)),
            Err(error) => error,
        };
        let undone = shift_profile(folder, after, before, op)
            .and_then(|()| folder_change.undo(staged, &published, ledger))
            .inspect_err(
                |failed| tracing::warn!(%failed, "a change that could not be committed could not be undone either"),
            );
        Err(self.given_up(intended, error, undone.ok(), op, ledger, ctx))
    }

    /// The error of a change that was undone, once what others wrote into it meanwhile is kept; of one that was not,
    /// since half of it is done, and `op` holds the rest.
    fn given_up(
        &self,
        intended: &Intended<'_>,
        error: Error,
        undone: Option<Vec<Doubtful>>,
        op: &mut OpFolder,
        ledger: Option<&Ledger>,
        ctx: &Ctx,
    ) -> Error {
        let &Intended { start, goal, intent, .. } = intended;
        let Some(late) = undone else { return half_done(&self.row, &error, op) };
        let ctx = ctx.without_cancel();
        let known = |path: &RelPath| goal.next.get(path.as_str());
        let kept = take_late(&self.yard, &late, known, op, ledger, &ctx)
            .and_then(|late| self.keep_meanwhile(start, &late, op))
            .and_then(|()| give_up(&self.yard, goal, intent));
        match kept {
            Ok(()) => error,
            Err(why) => {
                tracing::warn!(%why, "what was written meanwhile is not kept yet");
                half_done(&self.row, &error, op)
            }
        }
    }

    /// Keeps the listing and the state that a change leads to.
    fn put_goal(&self, start: &Start<'_>, state: &State, next: &Listing, op: &OpFolder) -> Result<StateId> {
        // Where a change is finished, what it sets out from is not kept; and much that differs is no difference to keep.
        let few = |before: &Listing| diff(before, next).nth(before.entries().len() / 10).is_none();
        let before = start.there.id();
        let layer = (before == start.state.disk && few(start.there)).then(|| Layer::between(start.there, next));
        let disk = self.yard.store.put_listing(next, layer.as_ref().map(|layer| (before, layer)), op)?;
        self.yard.store.put_state(&State { disk, ..state.clone() }, op)
    }

    fn intend_change(&self, start: &Start<'_>, to: StateId, goal: &Goal, op: &OpFolder) -> Result<i64> {
        let (from, _) = start.state.encode();
        let stage = op.name();
        let intent = Intent::Change { twin: self.row.id, from, to, stage, what: goal.what.clone() };
        match goal.intent {
            None => self.yard.catalog.intend(&intent),
            Some(id) => self.yard.catalog.replace_intent(id, &intent).map(|()| id),
        }
    }

    /// Keeps what others wrote meanwhile, then moves the pointer.
    fn commit(
        &self,
        intended: &Intended<'_>,
        published: &Published,
        op: &OpFolder,
        ledger: Option<&Ledger>,
        ctx: &Ctx,
    ) -> Result<Committed> {
        let &Intended { start, goal, to, intent, .. } = intended;
        let late = take_late(&self.yard, &published.doubtful, |path| start.there.get(path.as_str()), op, ledger, ctx)?;
        let next = with_folders(goal.next.clone(), published.left.clone())?;
        let to = if published.left.is_empty() { to } else { self.put_goal(start, &goal.state, &next, op)? };
        let meanwhile = self.put_meanwhile(start, &late, op)?;
        let sheet = self.yard.sheet_of(&goal.state.build)?;
        let (game, own) = PlayersOwn(sheet.as_ref()).counts(start.there, &next);
        let mut number = None;
        self.yard.catalog.together(|| {
            if let Some(state) = meanwhile {
                self.add_meanwhile(start, &late, state, sheet.as_ref())?;
            }
            if let Some(what) = goal.what.clone() {
                let change = NewChange { what, game, own, label: None, state: to };
                number = Some(self.yard.catalog.add_change(self.row.id, &change)?);
            }
            self.yard.catalog.intent_done(intent)
        })?;
        Ok(Committed { number, late: late.into_iter().map(|(path, _)| path).collect(), next, to })
    }

    /// The state with what others wrote meanwhile, if anybody did.
    fn put_meanwhile(&self, start: &Start<'_>, late: &[(RelPath, Entry)], op: &OpFolder) -> Result<Option<StateId>> {
        if late.is_empty() {
            return Ok(None);
        }
        let layer = Layer::new(late.iter().map(|(path, entry)| (path.clone(), Some(entry.clone()))).collect())?;
        let listing = overlay(start.there, &layer)?;
        let disk = self.yard.store.put_listing(&listing, None, op)?;
        self.yard.store.put_state(&State { disk, ..start.state.clone() }, op).map(Some)
    }

    /// Keeps what others wrote in the history, and leaves the twin's state as it is.
    pub(crate) fn keep_meanwhile(&self, start: &Start<'_>, late: &[(RelPath, Entry)], op: &OpFolder) -> Result<()> {
        let Some(state) = self.put_meanwhile(start, late, op)? else { return Ok(()) };
        let sheet = self.yard.sheet_of(&start.state.build)?;
        self.yard.catalog.together(|| self.add_meanwhile(start, late, state, sheet.as_ref()))
    }

    fn add_meanwhile(
        &self,
        start: &Start<'_>,
        late: &[(RelPath, Entry)],
        state: StateId,
        sheet: Option<&Sheet>,
    ) -> Result<()> {
        let (game, own) =
            PlayersOwn(sheet).counts_at(start.there, late.iter().map(|(path, entry)| (path, Some(&entry.node))));
        let what = What::Meanwhile;
        self.yard.catalog.add_change(self.row.id, &NewChange { what, game, own, label: None, state })?;
        self.yard.catalog.set_state(self.row.id, self.row.state)
    }
}

/// Takes the yard alone and stages the links of a change.
fn link_staged(
    yard: &Yard,
    folder_change: &FolderChange<'_>,
    staged: &Staged,
    mut executables: Vec<ContentId>,
    coming: &[&Entry],
) -> Result<(Held, Arc<Ledger>)> {
    let layout = folder_change.layout;
    for _ in 0..VOUCHES {
        let alone = yard.alone(layout.ctx)?;
        let current = layout.ledger.renewed(&yard.store.pool)?;
        layout.store_executables(&current, &executables)?;
        if folder_change.stage_links(staged, &current)?.is_empty() {
            return Ok((alone, current));
        }
        current.save(layout.op)?;
        drop(alone);
        // Something came in between; nothing is read while the yard is held alone.
        let again = Arc::new(Ledger::load(&yard.store.pool)?);
        executables = vouch::vouch(yard, coming, &Layout { ledger: &again, ..*layout })?;
        layout.ledger.learn(&again);
    }
    Err(Error::Busy { what: "the pool".into(), holders: Vec::new() })
}

/// The same, of what lies in the areas of an operation's folder, by the paths that it is of.
pub(crate) fn discard_paths(
    yard: &Yard,
    op: &Path,
    paths: &[&RelPath],
    row: &TwinRow,
    ledger: Option<&Ledger>,
) -> Result<Vec<String>> {
    let moved = |before: &Stat, after: &Stat| {
        if let Some(ledger) = ledger {
            ledger.moved(before, after);
        }
    };
    Discard { op, kept: &forget::kept_folder(yard, row)?, moved: &moved }.areas(paths)
}

/// A change that is undone is not intended any more; one that only had to be finished still is.
fn give_up(yard: &Yard, goal: &Goal, intent: i64) -> Result<()> {
    if goal.intent.is_some() { Ok(()) } else { yard.catalog.intent_done(intent) }
}

/// Gives the profile the text that it has in another state, unless someone has written another one meanwhile.
fn shift_profile(folder: &Path, from: &str, to: &str, op: &OpFolder) -> Result<()> {
    let path = folder.join("profile.toml");
    if from == to || crate::profile::text(&path)? != from {
        return Ok(());
    }
    disk::write_whole(&path, &op.path().join("profile"), to.as_bytes())
}

/// Reads what came out of a folder and may be something new; what is goes into the pool. Whoever holds the yard alone
/// has its ledger.
pub(crate) fn take_late<'a>(
    yard: &Yard,
    doubtful: &[Doubtful],
    known: impl Fn(&RelPath) -> Option<&'a Entry>,
    op: &OpFolder,
    ledger: Option<&Ledger>,
    ctx: &Ctx,
) -> Result<Vec<(RelPath, Entry)>> {
    if doubtful.is_empty() {
        return Ok(Vec::new());
    }
    let putter = Putter::new(&yard.store.pool, op.path(), HashSet::new())?;
    let keeps_modes = disk::keeps_modes(op.path())?;
    let mut buffer = vec![0; disk::BUFFER];
    let mut late = Vec::new();
    for Doubtful { path, out } in doubtful {
        let stat = disk::lstat(out).at("look at", out)?;
        let node = match fs::read_link(out) {
            Ok(target) => Node::Symlink { target: target.to_string_lossy().into() },
            Err(_) => {
                let file = disk::open_file(CWD, out).at("read", out)?;
                let content = putter.put(&file, &stat, out, &mut buffer, ctx)?;
                let executable = match known(path).map(|entry| &entry.node) {
                    Some(Node::File { executable, .. }) if !keeps_modes => *executable,
                    _ => stat.executable(),
                };
                Node::File { content, size: stat.size, executable }
            }
        };
        if known(path).is_none_or(|entry| entry.node != node) {
            late.push((path.clone(), Entry { path: path.clone(), node, mtime: stat.mtime }));
        }
    }
    publish(yard, putter, op, ledger, ctx)?;
    Ok(late)
}

/// Publishes what a putter has staged: with the ledger of one who holds the yard alone, else it is taken for that.
pub(crate) fn publish(
    yard: &Yard,
    putter: Putter<'_>,
    op: &OpFolder,
    ledger: Option<&Ledger>,
    ctx: &Ctx,
) -> Result<PutTotals> {
    if let Some(ledger) = ledger {
        return putter.publish(ledger, ctx);
    }
    putter.sync()?;
    let _alone = yard.alone(ctx)?;
    let ledger = Ledger::load(&yard.store.pool)?;
    let published = putter.publish(&ledger, ctx)?;
    ledger.save(op.path())?;
    Ok(published)
}

/// The files that nobody but their user may read when a change is done: what is there says it, and of what isn't there yet
/// the state to come.
fn private_then(start: &Start<'_>, goal: &Goal, now: Vec<RelPath>) -> Vec<RelPath> {
    let is_file = |path: &RelPath| start.there.get(path.as_str()).is_some_and(|entry| entry.node.content().is_some());
    let was = |path: &RelPath| start.state.private.binary_search(path).is_ok();
    let comes = goal.state.private.iter().filter(|path| !is_file(path) || !was(path)).cloned();
    let mut private: Vec<_> = now.into_iter().chain(comes).collect();
    private.retain(|path| goal.next.get(path.as_str()).is_some());
    private.sort_unstable();
    private.dedup();
    private
}

/// The steps from what is there to a goal.
fn all_steps(there: &Listing, goal: &Goal) -> Vec<Step> {
    let anew = goal.anew.iter().flat_map(|anew| &anew.paths);
    let anew = anew.map(|path| Step { path: path.clone(), doing: Doing::Replace });
    steps(there, &goal.next).into_iter().chain(anew).collect()
}

/// Half of it is done, and `op` holds the rest.
fn half_done(row: &TwinRow, error: &Error, op: &mut OpFolder) -> Error {
    op.leave();
    unfinished(row, error)
}

/// The error of a change that the next command tries to finish.
pub(crate) fn unfinished(row: &TwinRow, error: &Error) -> Error {
    TwinError::Unfinished { name: row.name.to_string(), why: error.with_causes() }.into()
}

/// The listing with folders that are there though nothing is in them that a listing holds.
fn with_folders(listing: Listing, folders: Vec<RelPath>) -> Result<Listing> {
    if folders.is_empty() {
        return Ok(listing);
    }
    let mut entries = listing.into_entries();
    entries.extend(folders.into_iter().map(|path| Entry { path, node: Node::EmptyFolder, mtime: 0 }));
    entries.sort_by(|a, b| a.path.cmp(&b.path));
    entries.dedup_by(|a, b| a.path == b.path);
    Listing::with_folders_implied(entries)
}

/// The rows that go with the listing that came of a change: those of what is `new`, and of what stayed.
fn merged_rows<'a>(
    start: &Start<'_>,
    next: &Listing,
    new: impl Iterator<Item = (&'a RelPath, Row)>,
    grain: i64,
) -> Vec<Row> {
    let (mut new, mut before) = (new.peekable(), start.there.entries().iter().zip(start.rows).peekable());
    let rows = next.entries().iter().map(|entry| {
        while before.next_if(|(was, _)| was.path < entry.path).is_some() {}
        while new.next_if(|(path, _)| **path < entry.path).is_some() {}
        if let Some((_, row)) = new.next_if(|(path, _)| **path == entry.path) {
            return row;
        }
        let row = before.next_if(|(was, _)| was.path == entry.path).map(|(_, row)| *row).unwrap_or_default();
        // A racy row stays racy: the file is read next time.
        if row.racy(start.looked_at, grain) { Row { ino: 0, ..row } } else { row }
    });
    rows.collect()
}
