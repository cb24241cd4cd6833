//! What a planned change of a twin aims at: the one way by which a plan is applied.

use std::collections::BTreeMap;
use std::fs;
use std::io::Read;
use std::path::{Path, PathBuf};

use crate::Yard;
use crate::archive::{self, Member, NameEncoding};
use crate::catalog::{TwinRow, What};
use crate::combine::{Draft, realise};
use crate::disk::{self, Stat};
use crate::error::{Error, IntakeError, Noun, PathContext, Result, TwinError};
use crate::ident::{BuildRef, ContentId};
use crate::listing::{Entry, Listing, Node};
use crate::progress::Ctx;
use crate::scan::{Folders, NewIndex, Row, index_path};
use crate::sheet::Sheet;
use crate::store::pool::hash_unchanged;
use crate::store::state::State;
use crate::twin::Twin;
use crate::twin::change::{Anew, Goal, Start};
use crate::twin::derive::Deriver;
use crate::twin::markers;
use crate::twin::protection;
use crate::twin::settle::{News, Settled};

/// A twin as it was when something was planned.
#[derive(Clone, Debug)]
pub(crate) struct Seen {
    pub(crate) row: TwinRow,
    state: State,
    pub(crate) there: Listing,
    rows: Vec<Row>,
    looked_at: i64,
    /// What was new in the twin, and becomes a line of its history when the plan is applied.
    news: Option<News>,
}

/// A twin as it was when a change was planned, and what it is to be.
#[derive(Clone, Debug)]
pub(crate) struct PlannedChange {
    pub(crate) seen: Seen,
    /// The state to come; what is on disk then is filled in.
    pub(crate) to: State,
    pub(crate) draft: Draft,
    /// Contents that lie outside the yard.
    pub(crate) fetch: Vec<Fetch>,
    /// What the state says was laid, where no other state says so yet.
    laid: Option<Listing>,
    /// More listings that it needs.
    kept: Vec<Listing>,
    what: What,
    /// Files that are laid anew though they hold what they should.
    anew: Option<Anew>,
}

/// A file outside the yard whose content is needed, as it was when it was looked at.
#[derive(Clone, Debug)]
pub(crate) struct Fetch {
    pub(crate) path: PathBuf,
    pub(crate) stat: Stat,
    pub(crate) content: ContentId,
    /// The member of an archive that it is, and how names in that are written.
    pub(crate) member: Option<(Member, Option<NameEncoding>)>,
}

/// What a change did beside what was planned.
#[derive(Debug, Default)]
pub(crate) struct AppliedChange {
    /// The number of the change in the history; `None` if there was nothing to do.
    pub(crate) number: Option<u32>,
    /// The number of the state before it, which is the way back.
    pub(crate) before: u32,
    /// Paths that others wrote to meanwhile: what they held is in the history, before the change.
    pub(crate) late: Vec<String>,
    /// What stood in the way and could not be kept: where it is now.
    pub(crate) set_aside: Vec<String>,
}

impl Seen {
    pub(crate) fn new(row: TwinRow, settled: Settled) -> Self {
        let Settled { state, listing: there, rows, looked_at, news, .. } = settled;
        Self { row, state, there, rows, looked_at, news }
    }

    /// Writes down what was new in a twin that a plan only read. Where somebody is at the twin, or has changed it since, its
    /// next command does that.
    pub(crate) fn write_down(&self, yard: &Yard, ctx: &Ctx) -> Result<()> {
        if self.news.is_none() {
            return Ok(());
        }
        let Some(mut twin) = Twin::try_hold(yard, &self.row)? else { return Ok(()) };
        match twin.agree(self, ctx) {
            Ok(()) | Err(Error::Twin(TwinError::ChangedMeanwhile { .. })) => Ok(()),
            Err(error) => Err(error),
        }
    }
}

impl PlannedChange {
    /// From a twin as it was seen just now to the state `to`.
    pub(crate) fn new(row: TwinRow, settled: Settled, to: State, draft: Draft, what: What) -> Self {
        let (seen, fetch, laid, anew) = (Seen::new(row, settled), Vec::new(), None, None);
        Self { seen, to, draft, fetch, laid, kept: Vec::new(), what, anew }
    }

    /// Whether it leads to where the twin is.
    pub(crate) fn changes_nothing(&self) -> bool {
        let Self { seen, to, draft, .. } = self;
        draft.derived.is_empty() && seen.there == draft.base && *to == (State { disk: to.disk, ..seen.state.clone() })
    }

    /// With files that are laid anew.
    pub(crate) fn with_anew(self, anew: Anew) -> Self {
        Self { anew: Some(anew), ..self }
    }

    /// With a listing as laid that is kept nowhere yet.
    pub(crate) fn with_laid(self, laid: Listing) -> Self {
        Self { laid: Some(laid), ..self }
    }

    /// With more listings that the state to come needs.
    pub(crate) fn with_kept(self, kept: Vec<Listing>) -> Self {
        Self { kept, ..self }
    }
}

/// A twin as it is just now, for a plan.
pub(crate) fn see(yard: &Yard, row: &TwinRow, ctx: &Ctx) -> Result<(TwinRow, Settled)> {
    let mut twin = Twin::hold(yard, row, ctx)?;
    let seen = twin.see(ctx)?;
    Ok((twin.row, seen))
}

/// What was laid in a twin that was settled.
pub(crate) fn laid(yard: &Yard, settled: &Settled) -> Result<Listing> {
    // Most often it is the very same one.
    if settled.state.laid == settled.state.disk {
        return Ok(settled.listing.clone());
    }
    yard.store.listing(settled.state.laid)
}

/// The sheet of a build's title, for what can't be done without one.
pub(crate) fn sheet_needed(yard: &Yard, build: &BuildRef) -> Result<Sheet> {
    let name = build.title.to_string();
    yard.sheet_of(build)?.ok_or(Error::NotFound { what: Noun::TitleSheet, name, known: Vec::new() })
}

/// Brings a twin to where a plan aims: contents first, then as [`Twin::change`] does it.
///
/// # Errors
/// [`TwinError::ChangedMeanwhile`] if the twin is not as it was when this was planned.
pub(crate) fn apply_planned(yard: &Yard, planned: &PlannedChange, ctx: &Ctx) -> Result<AppliedChange> {
    Twin::hold(yard, &planned.seen.row, ctx)?.apply(planned, ctx)
}

impl Twin {
    /// Brings the twin to where a plan aims.
    pub(crate) fn apply(&mut self, planned: &PlannedChange, ctx: &Ctx) -> Result<AppliedChange> {
        let seen = &planned.seen;
        self.agree(seen, ctx)?;
        let next = make(&self.yard, planned, ctx)?;
        protection::check_protected(&self.yard, &self.row, &seen.there, &next.clone().into(), &planned.to)?;
        let before = self.yard.catalog.newest_change(self.row.id)?;
        let same = seen.there.is(&next) || seen.there == next;
        let stays = planned.anew.as_ref().is_none_or(|anew| anew.paths.is_empty());
        if same && stays && planned.to == (State { disk: planned.to.disk, ..seen.state.clone() }) {
            return Ok(AppliedChange { before, ..AppliedChange::default() });
        }
        if !planned.kept.is_empty() {
            let op = self.yard.begin(ctx)?;
            planned.kept.iter().try_for_each(|listing| self.yard.store.put_listing(listing, None, &op).map(drop))?;
        }
        if let Some(laid) = &planned.laid {
            let op = self.yard.begin(ctx)?;
            self.yard.store.put_listing(laid, None, &op)?;
            if laid.entries().iter().any(|entry| entry.node.size() == 0) {
                markers::keep_nothing(&self.yard, &op, ctx)?;
            }
        }
        let start = Start { state: &seen.state, there: &seen.there, rows: &seen.rows, looked_at: seen.looked_at };
        let goal = Goal {
            state: planned.to.clone(),
            next,
            what: Some(planned.what.clone()),
            intent: None,
            anew: planned.anew.clone(),
        };
        let changed = self.change(&start, goal, ctx)?;
        Ok(AppliedChange {
            number: changed.number,
            before,
            late: changed.late.iter().map(ToString::to_string).collect(),
            set_aside: changed.set_aside,
        })
    }

    /// Sees to it that the catalogue's state is what was seen: what was new is written down.
    fn agree(&mut self, seen: &Seen, ctx: &Ctx) -> Result<()> {
        let folder = self.folder()?;
        // No sweep meanwhile: what the new state names is there, and stays.
        let _held = self.yard.shared(ctx)?;
        let there = |content: &ContentId| disk::exists(&self.yard.store.pool.path(*content));
        match &seen.news {
            Some(news) if self.row.state == seen.row.state && news.contents.iter().all(there) => {
                self.record(seen, news, &folder, ctx)
            }
            // Another command may have written down just what was seen.
            _ if self.row.state == seen.state.encode().0 => Ok(()),
            _ => Err(TwinError::ChangedMeanwhile { name: self.row.name.to_string(), path: folder }.into()),
        }
    }

    fn record(&mut self, seen: &Seen, news: &News, folder: &Path, ctx: &Ctx) -> Result<()> {
        let Seen { state, there, rows, looked_at, .. } = seen;
        let (op, before) = (self.yard.begin(ctx)?, self.yard.store.state(self.row.state)?.disk);
        let change = news.put(&self.yard, there, state, before, &op)?;
        self.yard.catalog.together(|| self.yard.catalog.add_change(self.row.id, &change).map(drop))?;
        self.renew()?;
        let pool = self.yard.store.pool.inode()?;
        let folders = &Folders::default();
        let index = NewIndex { listing: there, rows, pool, looked_at: *looked_at, folders };
        index.save(&index_path(folder), &op.path().join("index"))
    }
}

/// Sees to it that the pool has all that an aim needs, and gives the listing that comes of it.
fn make(yard: &Yard, planned: &PlannedChange, ctx: &Ctx) -> Result<Listing> {
    if planned.fetch.is_empty() && planned.draft.derived.is_empty() {
        return Ok(planned.draft.base.clone());
    }
    let op = yard.begin(ctx)?;
    let deriver = Deriver::new(yard, &op, false)?;
    let mut buffer = vec![0; disk::BUFFER];
    let mut archives: BTreeMap<&Path, Vec<&Fetch>> = BTreeMap::new();
    for fetch in &planned.fetch {
        let Fetch { path, stat, content, member } = fetch;
        if member.is_some() {
            archives.entry(path).or_default().push(fetch);
            continue;
        }
        let file = disk::open_file(rustix::fs::CWD, path).at("read", path)?;
        if deriver.putter.put(&file, stat, path, &mut buffer, ctx)? != *content {
            return Err(IntakeError::Changed(path.clone()).into());
        }
    }
    for (path, fetches) in archives {
        fetch_members(path, &fetches, &deriver, &mut buffer, ctx)?;
    }
    let next = realise(planned.draft.clone(), &deriver, ctx)?;
    deriver.keep(ctx)?;
    Ok(next)
}

/// Reads files in a twin's folder, and says how many are there as they should be, with how many bytes.
///
/// # Errors
/// [`TwinError::NotVerified`] if any is not.
pub(crate) fn verify<'a>(
    yard: &Yard,
    row: &TwinRow,
    entries: impl Iterator<Item = &'a Entry>,
    ctx: &Ctx,
) -> Result<(u64, u64)> {
    let folder = yard.folder_of(row);
    let (mut verified, mut bytes, mut wrong) = (0, 0, Vec::new());
    let mut buffer = vec![0; disk::BUFFER];
    for entry in entries {
        ctx.check()?;
        if is_there(entry, &folder, &mut buffer, ctx)? {
            (verified, bytes) = (verified + 1, bytes + entry.node.size());
        } else {
            wrong.push(entry.path.to_string());
        }
    }
    if wrong.is_empty() {
        return Ok((verified, bytes));
    }
    Err(TwinError::NotVerified { name: row.name.to_string(), paths: wrong }.into())
}

/// Takes contents out of an archive into the pool.
///
/// # Errors
/// [`IntakeError::Changed`] if it holds something else by now.
fn fetch_members(path: &Path, fetches: &[&Fetch], deriver: &Deriver<'_>, buffer: &mut [u8], ctx: &Ctx) -> Result<()> {
    let changed = || Error::from(IntakeError::Changed(path.into()));
    let now = disk::lstat(path).at("look at", path)?;
    if !fetches.iter().all(|fetch| now.same_bytes(&fetch.stat)) {
        return Err(changed());
    }
    let member_of = |fetch: &&&Fetch| fetch.member.as_ref().map(|(member, _)| member.clone());
    let of = |member: &Member| fetches.iter().find(|fetch| member_of(fetch).as_ref() == Some(member));
    let names = fetches.iter().find_map(|fetch| fetch.member.as_ref()?.1);
    let mut each = |member: &Member, from: &mut dyn Read| {
        let (content, _) = deriver.putter.put_read(from, member.mtime, path, buffer, ctx)?;
        if of(member).is_some_and(|fetch| fetch.content == content) { Ok(()) } else { Err(changed()) }
    };
    let scratch = deriver.putter.stage().join("archive");
    disk::make_folders(&scratch)?;
    let mut archive = archive::opened(path, &scratch, names, &|_| false, ctx)?;
    if !fetches.iter().all(|fetch| archive.members().iter().any(|member| member_of(&fetch).as_ref() == Some(member))) {
        return Err(changed());
    }
    archive.read_each(&|member| of(member).is_some(), &mut each, ctx)
}

/// Whether an entry is on disk, byte for byte.
fn is_there(entry: &Entry, folder: &Path, buffer: &mut [u8], ctx: &Ctx) -> Result<bool> {
    let path = entry.path.below(folder);
    Ok(match &entry.node {
        Node::Symlink { target } => fs::read_link(&path).is_ok_and(|there| there.as_os_str() == &**target),
        Node::File { content, .. } => {
            let file = match disk::open_file(rustix::fs::CWD, &path) {
                Err(error) if crate::error::is_lack(&error) => return Err(error).at("read", &path),
                Err(_) => return Ok(false),
                Ok(file) => file,
            };
            let stat = disk::fstat(&file).at("look at", &path)?;
            hash_unchanged(&file, &stat, &path, buffer, ctx)? == *content
        }
        Node::EmptyFolder => path.is_dir(),
    })
}
