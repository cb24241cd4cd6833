//! Mending what a check found, as far as nothing can be lost by it.

use std::collections::HashSet;
use std::fs;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use rustix::fs::CWD;
use serde::Serialize;

use super::repair::{self, Repair, Wrong};
use super::{About, Finding, Mend, Problem};
use crate::catalog::{Counts, NewChange, TwinRow, What};
use crate::check::touched;
use crate::disk::{self, FsClock};
use crate::entry;
use crate::error::{Error, Noun, PathContext, Result};
use crate::ident::{ContentId, ListingId, StateId, TwinId, TwinName};
use crate::listing::{Entry, Listing};
use crate::parallel::Late;
use crate::path::RelPath;
use crate::progress::Ctx;
use crate::scan::{Doubt, Index, Observer, Reading, index_path, sight};
use crate::store::pool::reads_as;
use crate::store::pool::{Ledger, Sharing};
use crate::store::state::State;
use crate::twin::Twin;
use crate::twin::look;
use crate::twin::markers;
use crate::twin::names;
use crate::twin::settle;
use crate::{Yard, profile};

/// What mending is told.
#[derive(Clone, Debug, Default)]
pub struct MendOptions {
    /// Folders that may hold the right bytes of what is damaged.
    pub from: Vec<PathBuf>,
    /// The command that a launch entry starts a twin with, as in [`entry::Options`]; without one, entries are not mended.
    pub entry_command: Vec<String>,
}

/// What was mended, and what was not.
#[derive(Clone, Debug, Default, Serialize)]
pub struct Mended {
    /// Findings that are no more.
    pub done: Vec<Finding>,
    /// Findings that could not be mended, and why.
    pub left: Vec<(Finding, String)>,
    /// Files of twins that have their bytes again: the twin, and the path in it.
    pub repaired: Vec<(String, String)>,
}

/// Mends those of the findings whose mend is [`Mend::Safe`], and gets lost contents from wherever they still are. What a
/// twin holds in the place of the right bytes stays in its history. The others are left as they are.
///
/// A crash leaves what was not mended to the next call.
///
/// # Errors
/// [`Error::Cancelled`]. What can't be mended is said in the outcome.
pub fn mend(yard: &Yard, findings: &[Finding], options: &MendOptions, ctx: &Ctx) -> Result<Mended> {
    let mut mended = Mended::default();
    let mut safe: Vec<&Finding> = findings.iter().filter(|finding| finding.mend == Mend::Safe).collect();
    safe.sort_by_key(|finding| rank(&finding.problem));
    for together in safe.chunk_by(|a, b| rank(&a.problem) == rank(&b.problem)) {
        if rank(&together[0].problem) == CONTENTS {
            mend_contents(yard, together, options, &mut mended, ctx)?;
            continue;
        }
        for &finding in together {
            ctx.check()?;
            match mend_one(yard, finding, options, ctx) {
                Ok(()) => mended.done.push(finding.clone()),
                Err(error @ Error::Cancelled) => return Err(error),
                Err(error) => mended.left.push((finding.clone(), super::records::text(&error))),
            }
        }
    }
    Ok(mended)
}

fn mend_contents(
    yard: &Yard,
    findings: &[&Finding],
    options: &MendOptions,
    mended: &mut Mended,
    ctx: &Ctx,
) -> Result<()> {
    let mut wrong = Wrong::default();
    for finding in findings {
        for (content, inode) in wrong_of(&finding.problem) {
            wrong.add(content, inode);
        }
    }
    let Repair { repaired, lost, failed } = repair::repair(yard, &wrong, &options.from, ctx)?;
    mended.repaired = repaired;
    for &finding in findings {
        let unneeded = matches!(&finding.problem, Problem::ContentDamaged { touches, .. } if touches.is_empty());
        let still: Vec<_> =
            wrong_of(&finding.problem).into_iter().filter(|(content, _)| lost.contains(content)).collect();
        if unneeded || (still.is_empty() && failed.is_empty()) {
            mended.done.push(finding.clone());
        } else if still.is_empty() {
            mended.left.push((finding.clone(), failed.join("; ")));
        } else {
            let why = format!(
                "nothing that is known here has the right bytes of {}; name a folder that may have them, or take the build in \
                 again from a copy of it",
                if still.len() == 1 { "one of them".to_owned() } else { format!("{} of them", still.len()) }
            );
            mended.left.push((finding.clone(), why));
        }
    }
    Ok(())
}

fn mend_one(yard: &Yard, finding: &Finding, options: &MendOptions, ctx: &Ctx) -> Result<()> {
    let twin = || match &finding.about {
        About::Twin(name) => yard.twin_row(name, false),
        _ => Err(Error::NotFound { what: Noun::Twin, name: finding.about.to_string(), known: Vec::new() }),
    };
    match &finding.problem {
        Problem::Catalogue { .. } => yard.catalog.reindex(),
        Problem::UnknownTwin { folder, id } => adopt(yard, folder, *id, ctx),
        Problem::FolderMissing { folder, found: Some(found) } => move_back(yard, &twin()?, found, folder, ctx),
        Problem::NoHistory => write_line(yard, &twin()?, ctx),
        Problem::NoId { folder } => disk::write_synced(&folder.join("id"), format!("{}\n", twin()?.id).as_bytes()),
        Problem::ListingDamaged { listing, .. } => list_anew(yard, *listing, ctx),
        Problem::StateDamaged { state, current, .. } => mend_state(yard, &twin()?, *state, *current, ctx),
        Problem::Unguarded { paths } => guard_pool(yard, paths, ctx),
        Problem::GuardLifted { .. } => settle::settle(yard, &twin()?, ctx).map(drop),
        Problem::Altered { paths } => put_altered_right(yard, &twin()?, paths, ctx),
        Problem::NoMarkers { .. } => markers::apply(yard, &markers::plan(yard, &twin()?.name, ctx)?, ctx).map(drop),
        Problem::EntryMissing { .. } | Problem::EntryWrong { .. } if options.entry_command.is_empty() => {
            let why = "none was given that starts a twin";
            Err(Error::Name { what: Noun::Command, name: String::new(), why })
        }
        Problem::EntryMissing { path } | Problem::EntryWrong { path, .. } => {
            let folder = path.parent().unwrap_or(Path::new("/")).to_path_buf();
            let options = entry::Options { command: options.entry_command.clone(), folder };
            entry::apply(yard, &entry::plan(yard, &twin()?.name, &options)?)
        }
        _ => Ok(()),
    }
}

/// Gives a twin whose history has lost its newest line one for the state that it has.
fn write_line(yard: &Yard, row: &TwinRow, ctx: &Ctx) -> Result<()> {
    let _alone = yard.alone(ctx)?;
    let (none, what) = (Counts::default(), What::Outside);
    let change = NewChange { what, game: none, own: none, label: None, state: row.state };
    yard.catalog.together(|| yard.catalog.add_change(row.id, &change).map(drop))
}

/// Moves a twin's folder back to where the catalogue knows it.
fn move_back(yard: &Yard, row: &TwinRow, found: &Path, folder: &Path, ctx: &Ctx) -> Result<()> {
    let _twin = Twin::hold(yard, row, ctx)?;
    let _alone = yard.alone(ctx)?;
    disk::rename_new(found, folder).at("rename", found)?;
    disk::sync_rename(found, folder)
}

/// Writes a twin into the catalogue whose folder is there.
fn adopt(yard: &Yard, folder: &Path, id: TwinId, ctx: &Ctx) -> Result<()> {
    let _alone = yard.alone(ctx)?;
    let Some(state) = adoptable(yard, folder, id) else {
        let name = folder.display().to_string();
        return Err(Error::NotFound { what: Noun::RecordIn, name, known: Vec::new() });
    };
    let base = folder.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let mut names = std::iter::once(base.clone()).chain((2..100).map(|number| format!("{base} {number}")));
    let name = names.find_map(|name| TwinName::new(name).ok().filter(|name| names::check_free(yard, name).is_ok()));
    let name = name.map_or_else(|| TwinName::new(id.to_string()), Ok)?;
    let row = TwinRow {
        id,
        name,
        folder: base,
        state,
        origin: format!("its folder {}", folder.display()),
        made_at: Timestamp::now(),
        removed_at: None,
        protected: None,
        unsynced: None,
    };
    yard.catalog.together(|| yard.catalog.add_twin(&row))
}

/// The state of a twin that the catalogue doesn't know: the newest of its history, else one that has what its index
/// was made for.
pub(super) fn adoptable(yard: &Yard, folder: &Path, id: TwinId) -> Option<StateId> {
    let history = yard.catalog.history(id).unwrap_or_default();
    if let Some(entry) = history.iter().find(|entry| touched::listing_of(yard, entry.state).is_some()) {
        return Some(entry.state);
    }
    let seen = Index::made_for(&index_path(folder))?;
    let states = yard.root().join("states");
    let folders = fs::read_dir(states).ok()?.filter_map(|entry| fs::read_dir(entry.ok()?.path()).ok());
    let mut ids = folders.flatten().filter_map(|entry| entry.ok()?.file_name().to_str()?.parse::<StateId>().ok());
    ids.find(|id| {
        yard.store.state(*id).is_ok_and(|state| state.disk == seen) && touched::listing_of(yard, *id).is_some()
    })
}

/// Whether a twin's folder should hold just what a listing says.
pub(super) fn can_be_listed_anew(yard: &Yard, listing: ListingId) -> Result<bool> {
    Ok(!twins_with(yard, listing)?.is_empty())
}

fn twins_with(yard: &Yard, listing: ListingId) -> Result<Vec<TwinRow>> {
    let mut rows = yard.catalog.twins()?;
    rows.retain(|row| {
        row.removed_at.is_none()
            && yard.store.state(row.state).is_ok_and(|state| state.disk == listing || state.laid == listing)
            && settle::present_folder(yard, row).is_ok()
    });
    Ok(rows)
}

/// Makes a listing's file again, from a twin's folder that holds just that.
fn list_anew(yard: &Yard, id: ListingId, ctx: &Ctx) -> Result<()> {
    for row in twins_with(yard, id)? {
        let twin = Twin::hold(yard, &row, ctx)?;
        let listing = listing_of_folder(yard, &row, ctx)?;
        if listing.id() == id {
            let op = yard.begin(ctx)?;
            disk::remove_if_there(&yard.store.blob_path("listings", &id.to_string()))?;
            return yard.store.put_listing(&listing, None, &op).map(drop);
        }
        drop(twin);
    }
    let path = yard.store.blob_path("listings", &id.to_string());
    Err(Error::Damaged { path, why: "no twin's folder holds just that any more".into() })
}

/// What a twin's folder holds, read as a whole.
fn listing_of_folder(yard: &Yard, row: &TwinRow, ctx: &Ctx) -> Result<Listing> {
    let (op, folder) = (yard.begin(ctx)?, settle::present_folder(yard, row)?);
    let build = yard.store.state(row.state)?.build;
    let (nothing, sheet) = (Late::new(|| Ok(Listing::default())), Late::new(|| yard.sheet_of(&build)));
    let clock = FsClock::new(op.path())?;
    let (ledger, aside) = (Ledger::load(&yard.store.pool)?, yard.store.pool.aside()?);
    let again = look::ledger_again(yard, ctx);
    let observer = Observer {
        folder: &folder,
        last: &nothing,
        index: None,
        ledger: &ledger,
        ledger_again: &again,
        aside: &aside,
        trusts_inodes: true,
        unseen_for: disk::unseen_for(op.path()),
        sheet: &sheet,
        sheet_key: [0; 32],
        pool: &yard.store.pool,
        doubt: Doubt::Nothing,
        keeps_modes: disk::keeps_modes(op.path())?,
        grain: clock.grain(),
        looked_at: clock.now()?,
    };
    let seen = sight(&observer, ctx)?;
    let found = Reading::new(&observer, None)?.settle(seen, ctx)?;
    let entries: Vec<Entry> = found.changed.into_iter().filter_map(|(_, now)| Some(now?.0)).collect();
    Listing::new(entries)
}

/// Makes a damaged state again, if what it was can be told; else moves the twin that has it now to the newest one that is
/// whole: what is in the folder is taken in by the next command. Its lines stay in the history, and can be gone back to
/// once the file is there again.
fn mend_state(yard: &Yard, row: &TwinRow, id: StateId, current: bool, ctx: &Ctx) -> Result<()> {
    let op = yard.begin(ctx)?;
    if let Some(state) = remade(yard, row, id)? {
        disk::remove_if_there(&yard.store.blob_path("states", &id.to_string()))?;
        return yard.store.put_state(&state, &op).map(drop);
    }
    let damaged = |why: &str| Error::Damaged { path: yard.store.blob_path("states", &id.to_string()), why: why.into() };
    if !current {
        return Err(damaged("its lines stay in the history until the file is put back from a backup"));
    }
    let _alone = yard.alone(ctx)?;
    let history = yard.catalog.history(row.id)?;
    let whole = history.iter().find(|entry| entry.state != id && touched::listing_of(yard, entry.state).is_some());
    let whole = whole.ok_or_else(|| damaged("nothing else tells what it was"))?;
    yard.catalog.set_state(row.id, whole.state)
}

/// The state that has this id, among those that a twin that was only made can have.
pub(super) fn remade(yard: &Yard, row: &TwinRow, id: StateId) -> Result<Option<State>> {
    let folder = yard.folder_of(row);
    let Some(disk) = Index::made_for(&index_path(&folder)) else { return Ok(None) };
    let profile = profile::text(&folder.join("profile.toml"))?;
    for stock in yard.catalog.stock_builds()? {
        for laid in [disk, stock.listing] {
            for sharing in [Sharing::Careful, Sharing::All, Sharing::None] {
                let state = State::new(stock.build.clone(), sharing, laid, disk, profile.clone());
                if state.encode().0 == id {
                    return Ok(Some(state));
                }
            }
        }
    }
    Ok(None)
}

/// Makes files of the pool read-only again that hold what they should.
fn guard_pool(yard: &Yard, paths: &[PathBuf], ctx: &Ctx) -> Result<()> {
    let op = yard.begin(ctx)?;
    let mut buffer = vec![0; disk::BUFFER];
    for path in paths {
        let name = path.file_name().and_then(|name| name.to_str()).unwrap_or_default();
        let read = disk::lstat(path).at("look at", path)?;
        let content = reads_as(path, &mut buffer, ctx)?;
        if name.strip_suffix(".x").unwrap_or(name) != content.to_string() {
            let why = "it can be written to, and somebody did: a full check finds what it touches".into();
            return Err(Error::Damaged { path: path.clone(), why });
        }
        let _alone = yard.alone(ctx)?;
        let ledger = Ledger::load(&yard.store.pool)?;
        yard.store.pool.guard(&ledger, content, path, &read)?;
        ledger.save(op.path())?;
    }
    Ok(())
}

/// Puts files back that hold other bytes than at the last look; these stay in the history.
fn put_altered_right(yard: &Yard, row: &TwinRow, paths: &[String], ctx: &Ctx) -> Result<()> {
    let folder = settle::present_folder(yard, row)?;
    let paths: Vec<RelPath> = paths.iter().map(RelPath::new).collect::<Result<_>>()?;
    let mut inodes = HashSet::new();
    for path in &paths {
        let on_disk = path.below(&folder);
        inodes.insert(disk::fstat(disk::open_file(CWD, &on_disk).at("open", &on_disk)?).at("look at", &on_disk)?.ino);
    }
    match repair::give_back(yard, row, &paths, &inodes, ctx)?.as_slice() {
        [] => Ok(()),
        named => Err(Error::Damaged { path: folder, why: named.join("; ") }),
    }
}

/// When contents are mended.
const CONTENTS: u8 = 5;

/// What is mended first: records, since damaged ones would keep a repair from seeing who has the right bytes; then
/// contents; then what settles a twin, which would take wrong bytes of a shared file for that twin's change.
fn rank(problem: &Problem) -> u8 {
    match problem {
        Problem::Catalogue { .. } => 1,
        Problem::UnknownTwin { .. } | Problem::FolderMissing { .. } | Problem::NoId { .. } | Problem::NoHistory => 2,
        Problem::StateDamaged { .. } => 3,
        Problem::ListingDamaged { .. } => 4,
        Problem::ContentMissing { .. } | Problem::ContentDamaged { .. } | Problem::WrittenThrough { .. } => CONTENTS,
        _ => 6,
    }
}

/// The contents that a finding is about, each with the inode that should hold it and doesn't.
fn wrong_of(problem: &Problem) -> Vec<(ContentId, Option<u64>)> {
    match problem {
        Problem::ContentMissing { contents, .. } => contents.iter().map(|content| (*content, None)).collect(),
        Problem::ContentDamaged { files, .. } => files.iter().map(|file| (file.content, Some(file.inode))).collect(),
        Problem::WrittenThrough { wrong, .. } => {
            wrong.iter().map(|(content, inode)| (*content, Some(*inode))).collect()
        }
        _ => Vec::new(),
    }
}
