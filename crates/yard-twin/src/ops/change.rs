//! A change of a twin: the one way from one state to another, and finishing one that was cut off.

use std::collections::HashSet;
use std::fs;
use std::path::{Path, PathBuf};

use rustix::fs::CWD;

use super::power::{may_be_damaged, put_right};
use super::settle::{Look, Own, index_path};
use crate::Yard;
use crate::catalog::{Counts, Intent, NewChange, TwinRow, What};
use crate::disk::{self, FsClock};
use crate::error::{Error, PathContext, Result, TwinError};
use crate::ident::StateId;
use crate::listing::{Entry, Layer, Listing, Node, diff, overlay};
use crate::lock::Held;
use crate::materialise::{Changing, Doubtful, Laying, PATHS, Published, steps};
use crate::path::RelPath;
use crate::pool::{Facts, Policy, Putter, Share};
use crate::progress::Ctx;
use crate::scan::{Index, Row};
use crate::sheet::PathSet;
use crate::state::State;
use crate::yard::OpFolder;

/// A twin as it is on disk, from which a change sets out.
pub(crate) struct Start<'a> {
    pub(crate) row: &'a TwinRow,
    pub(crate) state: &'a State,
    /// What is there, and how it looks since when.
    pub(crate) there: &'a Listing,
    pub(crate) rows: &'a [Row],
    pub(crate) looked_at: i64,
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
}

/// What a change did beside what was planned.
#[derive(Debug, Default)]
pub(crate) struct Changed {
    /// The number that the change has in the history.
    pub(crate) number: Option<u32>,
    /// Paths that others wrote to meanwhile: what they held is in the history.
    pub(crate) late: Vec<RelPath>,
    /// What stood in the way and could not be kept in the pool: where it is now.
    pub(crate) set_aside: Vec<String>,
}

impl Yard {
    /// Changes a twin that the caller holds: checks everything, stages everything, writes the intent, publishes entry by
    /// entry, moves the pointer, deletes the stage.
    ///
    /// A crash after the intent is finished by whoever opens the yard next. An error, or a wish to stop, undoes what was
    /// done.
    pub(crate) fn change_twin(&self, start: &Start<'_>, mut goal: Goal, ctx: &Ctx) -> Result<Changed> {
        let folder = self.present_folder(start.row)?;
        let sheet = self.sheet(&goal.state.build.title)?;
        let nothing = PathSet::default();
        let written = sheet.as_ref().map_or(&nothing, |sheet| sheet.written());
        let mut op = self.begin(ctx)?;
        let policy = Policy::new(goal.state.sharing, Facts::probe(op.path())?, &goal.next, written);
        let clock = FsClock::new(op.path())?;
        let links = policy.links() || start.rows.iter().any(|row| row.share == Some(Share::Link));
        let held = if links { self.alone(ctx)? } else { self.shared(ctx)? };
        let started = clock.now()?;
        let op_path = op.path().to_path_buf();
        let laying = Laying { pool: &self.pool, policy: &policy, op: &op_path, ctx };
        let worthless = |path: &RelPath| sheet.as_ref().is_some_and(|sheet| sheet.is_scratch(path));
        let none = Listing::default();
        let about = Changing {
            laying: &laying,
            twin: start.row.name.as_str(),
            folder: &folder,
            there: start.there,
            rows: start.rows,
            next: &none,
            worthless: &worthless,
        };
        let mut planned = steps(start.there, &goal.next);
        let stay = Changing { next: &goal.next, ..about }.check(&planned)?;
        if !stay.is_empty() {
            goal.next = with_folders(std::mem::take(&mut goal.next), stay)?;
            planned = steps(start.there, &goal.next);
        }
        let changing = Changing { next: &goal.next, ..about };
        let staged = changing.stage(planned)?;
        let to = self.put_goal(start, &goal.state, &goal.next, &op)?;
        ctx.check()?;
        let intent = self.intend_change(start, to, &goal, &op)?;
        let published = match changing.publish(&staged) {
            Ok(published) => published,
            Err((error, true)) => {
                self.give_up(&goal, intent)?;
                return Err(error);
            }
            Err((error, false)) => return Err(unfinished(start.row, &error, &mut op)),
        };
        // The yard may be wanted by what comes now, in either mode.
        let held = links.then_some(held);
        let committed = self
            .shift_profile(&folder, &start.state.profile, &goal.state.profile, &op)
            .and_then(|()| self.commit(start, &goal, to, intent, &published, &op, held.is_some(), ctx));
        let (number, late, next) = match committed {
            Ok(committed) => committed,
            Err(error) => {
                let back = self.shift_profile(&folder, &goal.state.profile, &start.state.profile, &op);
                if let Err(failed) = back.and_then(|()| changing.undo(&staged, &published)) {
                    tracing::warn!(%failed, "a change that could not be committed could not be undone either");
                    return Err(unfinished(start.row, &error, &mut op));
                }
                self.give_up(&goal, intent)?;
                return Err(error);
            }
        };
        let rows = merged_rows(start, &next, staged.rows(&published), clock.grain());
        let latest = staged.rows(&published).map(|(_, row)| row.ctime).max().unwrap_or_default();
        let set_aside = published.set_aside.clone();
        drop((staged, published));
        // What follows is advisory: a change that is committed has not failed any more.
        let tidied = self
            .tidy(&op, &folder, &next, rows, latest, &clock)
            .and_then(|ended| if links { self.catalog.add_window(started, ended) } else { Ok(()) });
        if let Err(error) = tidied {
            tracing::warn!(%error, "the next look at the twin will read more than it had to");
        }
        Ok(Changed { number, late, set_aside })
    }

    /// A change that is undone is not intended any more; one that only had to be finished still is.
    fn give_up(&self, goal: &Goal, intent: i64) -> Result<()> {
        if goal.intent.is_some() { Ok(()) } else { self.catalog.intent_done(intent) }
    }

    /// Gives the profile the text that it has in another state, unless someone has written another one meanwhile.
    fn shift_profile(&self, folder: &Path, from: &str, to: &str, op: &OpFolder) -> Result<()> {
        let path = folder.join("profile.toml");
        if from == to || crate::profile::text(&path)? != from {
            return Ok(());
        }
        disk::write_whole(&path, &op.path().join("profile"), to.as_bytes())
    }

    /// Keeps the listing and the state that a change leads to.
    fn put_goal(&self, start: &Start<'_>, state: &State, next: &Listing, op: &OpFolder) -> Result<StateId> {
        // Where a change is finished, what it sets out from is not kept; and much that differs is no difference to keep.
        let few = |before: &Listing| diff(before, next).nth(before.entries().len() / 10).is_none();
        let before = start.there.id();
        let layer = (before == start.state.disk && few(start.there)).then(|| Layer::between(start.there, next));
        let disk = self.put_listing(next, layer.as_ref().map(|layer| (before, layer)), op)?;
        self.put_state(&State { disk, ..state.clone() }, op)
    }

    fn intend_change(&self, start: &Start<'_>, to: StateId, goal: &Goal, op: &OpFolder) -> Result<i64> {
        let (from, _) = start.state.encode();
        let stage = op.name();
        let intent = Intent::Change { twin: start.row.id, from, to, stage, what: goal.what.clone() };
        match goal.intent {
            None => self.catalog.intend(&intent),
            Some(id) => self.catalog.replace_intent(id, &intent).map(|()| id),
        }
    }

    /// Keeps what others wrote meanwhile, then moves the pointer. Returns the number in the history, the paths that others
    /// wrote to, and the listing as it came to be.
    #[expect(clippy::too_many_arguments, reason = "all of it belongs to one instant")]
    fn commit(
        &self,
        start: &Start<'_>,
        goal: &Goal,
        to: StateId,
        intent: i64,
        published: &Published,
        op: &OpFolder,
        alone: bool,
        ctx: &Ctx,
    ) -> Result<(Option<u32>, Vec<RelPath>, Listing)> {
        let late = self.take_late(&published.doubtful, |path| start.there.get(path.as_str()), op, alone, ctx)?;
        let next = with_folders(goal.next.clone(), published.left.clone())?;
        let to = if published.left.is_empty() { to } else { self.put_goal(start, &goal.state, &next, op)? };
        let meanwhile = self.put_meanwhile(start, &late, op)?;
        let sheet = self.sheet(&goal.state.build.title)?;
        let (game, own) = counts(start.there, &next, &Own(sheet.as_ref()));
        let mut number = None;
        self.catalog.together(|| {
            if let Some(state) = meanwhile {
                let (game, own) = counts_of(&late, start.there, &Own(sheet.as_ref()));
                let what = What::Meanwhile;
                self.catalog.add_change(start.row.id, &NewChange { what, game, own, label: None, state })?;
            }
            if let Some(what) = goal.what.clone() {
                let change = NewChange { what, game, own, label: None, state: to };
                number = Some(self.catalog.add_change(start.row.id, &change)?);
            }
            self.catalog.intent_done(intent)
        })?;
        Ok((number, late.into_iter().map(|(path, _)| path).collect(), next))
    }

    /// The state with what others wrote meanwhile, if anybody did.
    fn put_meanwhile(&self, start: &Start<'_>, late: &[(RelPath, Entry)], op: &OpFolder) -> Result<Option<StateId>> {
        if late.is_empty() {
            return Ok(None);
        }
        let layer = Layer::new(late.iter().map(|(path, entry)| (path.clone(), Some(entry.clone()))).collect())?;
        let listing = overlay(start.there, &layer)?;
        let disk = self.put_listing(&listing, None, op)?;
        self.put_state(&State { disk, ..start.state.clone() }, op).map(Some)
    }

    /// Reads what came out of a folder and may be something new; what is goes into the pool.
    fn take_late<'a>(
        &self,
        doubtful: &[Doubtful],
        known: impl Fn(&RelPath) -> Option<&'a Entry>,
        op: &OpFolder,
        alone: bool,
        ctx: &Ctx,
    ) -> Result<Vec<(RelPath, Entry)>> {
        if doubtful.is_empty() {
            return Ok(Vec::new());
        }
        let putter = Putter::new(&self.pool, op.path(), HashSet::new())?;
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
        let _alone = if alone { None } else { Some(self.alone(ctx)?) };
        putter.publish(ctx)?;
        Ok(late)
    }

    /// Saves the index and deletes what came out; says when all of that was over.
    fn tidy(
        &self,
        op: &OpFolder,
        folder: &Path,
        next: &Listing,
        rows: Vec<Row>,
        latest: i64,
        clock: &FsClock,
    ) -> Result<i64> {
        for area in ["new", "old"] {
            disk::remove_tree(&op.path().join(area))?;
        }
        let looked_at = clock.wait_past(latest)?;
        let index = Index { listing: next.id(), pool: self.pool.inode()?, looked_at, rows };
        index.save(&index_path(folder), &op.path().join("index"))?;
        clock.now()
    }

    /// Finishes a change of a twin that was cut off, if there is one. The caller holds the twin.
    ///
    /// # Errors
    /// [`TwinError::Unfinished`] if it can't be: then nothing is lost, and the next command tries again.
    pub(crate) fn finish_change(&self, row: &TwinRow, _held: &Held, ctx: &Ctx) -> Result<()> {
        for (id, intent) in self.catalog.intents()? {
            let Intent::Change { twin, from, to, stage, what } = intent else { continue };
            if twin != row.id {
                continue;
            }
            tracing::info!(twin = %row.name, "a change was cut off here: it is finished");
            let cut = CutOff { id, from, to, stage: self.root().join("tmp").join(stage), what };
            self.finish(row, &cut, ctx).map_err(|error| match error {
                Error::Cancelled | Error::Busy { .. } => error,
                error => {
                    let why = Error::to_string(&error);
                    let cause = std::error::Error::source(&error).map(|cause| format!(": {cause}")).unwrap_or_default();
                    TwinError::Unfinished { name: row.name.to_string(), why: why + &cause }.into()
                }
            })?;
        }
        Ok(())
    }

    fn finish(&self, row: &TwinRow, cut: &CutOff, ctx: &Ctx) -> Result<()> {
        let row = self.catalog.twin(row.id)?.unwrap_or_else(|| row.clone());
        let folder = self.present_folder(&row)?;
        let op = self.begin(ctx)?;
        let (from, to) = (self.state(cut.from)?, self.state(cut.to)?);
        let wanted = self.listing(to.disk)?;
        let damaged = may_be_damaged(&row);
        if damaged {
            // Nothing that an index says is believed then.
            disk::remove_if_there(&index_path(&folder))?;
        }
        let Look { before, rows, mut found, sheet, .. } = self.look(&row, &folder, &op, ctx)?;
        let damaged = if damaged { put_right(&found, &before)? } else { Layer::default() };
        // What is neither as it was nor as it should be was written by someone else; not so a folder that was half way.
        let mut late: Vec<(RelPath, Entry)> = found
            .changed
            .iter()
            .filter_map(|(path, now)| Some((path.clone(), now.as_ref()?.0.clone())))
            .filter(|(path, now)| now.node != Node::EmptyFolder && !damaged.has(path))
            .filter(|(path, now)| wanted.get(path.as_str()).is_none_or(|entry| entry.node != now.node))
            .filter(|(path, _)| diff_at(&before, &wanted, path))
            .collect();
        let looked_at = found.looked_at;
        let (there, rows) = found.merged(before.clone(), rows)?;
        let came_out = came_out(&cut.stage)?;
        let known = |path: &RelPath| before.get(path.as_str()).or_else(|| wanted.get(path.as_str()));
        let second = OpFolder::below(&op, "late")?;
        let out = self.take_late(&came_out, known, &second, false, ctx)?;
        late.extend(out.into_iter().filter(|(path, entry)| {
            [&before, &wanted].iter().all(|listing| listing.get(path.as_str()).is_none_or(|is| is.node != entry.node))
        }));
        late.sort_by(|a, b| a.0.cmp(&b.0));
        late.dedup_by(|a, b| a.0 == b.0);
        let start = Start { row: &row, state: &from, there: &before, rows: &[], looked_at };
        if let Some(state) = self.put_meanwhile(&start, &late, &op)? {
            let (game, own) = counts_of(&late, &before, &Own(sheet.as_ref()));
            let change = NewChange { what: What::Meanwhile, game, own, label: None, state };
            self.catalog.together(|| {
                self.catalog.add_change(row.id, &change)?;
                self.catalog.set_state(row.id, cut.from)
            })?;
        }
        let layer = Layer::between(&before, &wanted);
        // A folder that was half way out is empty now, which it never was before, nor should be.
        let left_over = |entry: &Entry| {
            let path = entry.path.as_str();
            entry.node == Node::EmptyFolder && before.has(path) && before.get(path).is_none() && !wanted.has(path)
        };
        let mut next = overlay(&overlay(&there, &damaged)?, &layer)?.into_entries();
        next.retain(|entry| !left_over(entry));
        let next = Listing::new(next)?;
        let start = Start { row: &row, state: &from, there: &there, rows: &rows, looked_at };
        let goal = Goal { state: to, next, what: cut.what.clone(), intent: Some(cut.id) };
        self.change_twin(&start, goal, ctx)?;
        disk::remove_tree(&cut.stage)
    }
}

/// A change that was cut off.
struct CutOff {
    id: i64,
    from: StateId,
    to: StateId,
    stage: PathBuf,
    what: Option<What>,
}

fn unfinished(row: &TwinRow, error: &Error, op: &mut OpFolder) -> Error {
    op.leave();
    TwinError::Unfinished { name: row.name.to_string(), why: error.to_string() }.into()
}

/// Whether two listings differ at a path.
fn diff_at(a: &Listing, b: &Listing, path: &RelPath) -> bool {
    let node = |listing: &Listing| listing.get(path.as_str()).map(|entry| entry.node.clone());
    node(a) != node(b)
}

/// What a change that was cut off had taken out of the folder, or not put into it yet.
fn came_out(stage: &Path) -> Result<Vec<Doubtful>> {
    let Ok(text) = fs::read(stage.join(PATHS)) else { return Ok(Vec::new()) };
    let paths: Vec<RelPath> = serde_json::from_slice(&text).unwrap_or_default();
    let mut found = Vec::new();
    for area in ["new", "old"] {
        let Ok(chunks) = fs::read_dir(stage.join(area)) else { continue };
        for chunk in chunks {
            let chunk = chunk.at("list", stage)?.path();
            for out in fs::read_dir(&chunk).at("list", &chunk)? {
                let out = out.at("list", &chunk)?.path();
                let number = out.file_name().and_then(|name| name.to_str()?.parse::<usize>().ok());
                if let Some(path) = number.and_then(|number| paths.get(number)) {
                    found.push(Doubtful { path: path.clone(), out });
                }
            }
        }
    }
    Ok(found)
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
        // One that could have been written to unseen stays one that is read next time.
        if row.racy(start.looked_at, grain) { Row { ino: 0, ..row } } else { row }
    });
    rows.collect()
}

/// How many game files and how many others differ between two listings.
pub(crate) fn counts(before: &Listing, after: &Listing, own: &Own<'_>) -> (Counts, Counts) {
    let (mut game, mut others) = (Counts::default(), Counts::default());
    for change in diff(before, after) {
        let (was, is) = change.nodes();
        if own.holds(change.path()) { others.add(was, is) } else { game.add(was, is) }
    }
    (game, others)
}

fn counts_of(late: &[(RelPath, Entry)], before: &Listing, own: &Own<'_>) -> (Counts, Counts) {
    let (mut game, mut others) = (Counts::default(), Counts::default());
    for (path, entry) in late {
        let was = before.get(path.as_str()).map(|entry| &entry.node);
        if own.holds(path) { others.add(was, Some(&entry.node)) } else { game.add(was, Some(&entry.node)) }
    }
    (game, others)
}
