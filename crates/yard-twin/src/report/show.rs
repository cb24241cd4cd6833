//! Looking at twins.
//!
//! ```
//! use yard_twin::show;
//! # use yard_twin::{Ctx, Yard, clone, intake};
//! # let place = tempfile::tempdir()?;
//! # let installed = place.path().join("installed");
//! # standins::write_small_wexcombe(&installed, "1.4")?;
//! # let (yard, ctx) = (Yard::init(place.path().join("yard"))?, Ctx::new());
//! # std::fs::write(yard.sheet_path(&"wexcombe".parse()?), standins::WEXCOMBE_SHEET)?;
//! # let options = intake::Options::new(&installed, "wexcombe".parse()?);
//! # intake::apply(&yard, &intake::plan(&yard, options, &ctx)?, &ctx)?;
//! # for name in ["main"] {
//! #     let plan = clone::plan(&yard, &"wexcombe@1.4".parse()?, &name.parse()?, clone::Options::default(), &ctx)?;
//! #     clone::apply(&yard, &plan, &ctx)?;
//! # }
//! for twin in show::twins(&yard, false)? {
//!     println!("{} is on {}", twin.name, twin.build);
//! }
//! let details = show::twin(&yard, &"main".parse()?, &ctx)?;
//! assert!(details.folder.ends_with("twins/main"));
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

use std::path::PathBuf;
use std::time::Duration;

use jiff::Timestamp;
use serde::Serialize;

use crate::catalog::{Counts, RunRecord, TwinRow};
use crate::disk::lock;
use crate::error::{Error, Holder, Noun, Result, TwinError};
use crate::ident::{BuildRef, TwinId, TwinName};
use crate::launch::reach::{self, Reached};
use crate::launch::surroundings::has_own_ipc;
use crate::launch::{Changes, Isolation, changes};
use crate::listing::Totals;
use crate::ops::play::isolation;
use crate::ops::play::stop;
use crate::profile::Profile;
use crate::progress::Ctx;
use crate::report::space::{self, Space};
use crate::sheet::pattern;
use crate::store::pool::Sharing;
use crate::twin::after_run;
use crate::twin::arrived::{self, Files};
use crate::twin::protection;
use crate::twin::settle::{self, Settled};
use crate::twin::{Leaks, ShareTotals};
use crate::{Belongings, Yard};

/// How far a twin's files are out of reach of programs in other twins, below a sealed launch.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Guard {
    /// No file is shared in a way that a write could reach.
    Separate,
    /// Some files are guarded links: an ordinary write is refused; a program that first lifts the guard is found by the
    /// next command.
    GuardedLinks,
    /// Some files are links, and this user or filesystem does not refuse writes to them.
    WeakLinks,
}

/// A twin in a list.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Summary {
    /// Its name.
    pub name: TwinName,
    /// Its id.
    pub id: TwinId,
    /// The stock build that it is on.
    pub build: BuildRef,
    /// Its title as people write it.
    pub title_name: String,
    /// What it was cloned from, as that was named then.
    pub origin: String,
    /// The user's word about it.
    pub note: Option<String>,
    /// When it was made.
    pub made_at: Timestamp,
    /// When it was removed.
    pub removed_at: Option<Timestamp>,
    /// What it held at the last settle.
    pub totals: Totals,
    /// When its program was last started.
    pub last_run: Option<Timestamp>,
    /// Whether its program is running, or a command is at work on it.
    pub busy: bool,
    /// Whether it is its program that is running.
    pub running: bool,
    /// What is at work on it otherwise: a command, or what a program has left behind whose keeper was killed.
    pub held_by: Vec<Holder>,
    /// Whether its folder is where it should be.
    pub folder_missing: bool,
    /// Whether its game files may not be changed.
    pub protected: bool,
    /// What keeps it from being worked with, or is to be mended by its next command; a check says more.
    pub trouble: Option<String>,
}

/// Why the figures of a twin may be out of date.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Unsettled {
    /// Its program is running, or another command is at work on it.
    Busy,
    /// It is removed.
    Removed,
}

/// How far a twin's program is kept inside at a launch.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct IsolationView {
    /// What its profile asks for.
    pub asked: Option<Isolation>,
    /// What it gets; `None` where what is asked for is not possible, so that nothing is started.
    pub gets: Option<Isolation>,
    /// Why it gets no more than that, or nothing.
    pub why: Option<String>,
    /// Whether a sealed program of its shares the system's shared memory and semaphores, as drawing on an X11 display needs.
    pub shares_memory: bool,
    /// Folders outside that it is shown.
    pub reached: Vec<Reached>,
}

/// All about a twin.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Details {
    /// What is in a list.
    #[serde(flatten)]
    pub summary: Summary,
    /// Its folder.
    pub folder: PathBuf,
    /// Why the rest is as of the last settle instead of now.
    pub unsettled: Option<Unsettled>,
    /// How its files should share storage.
    pub sharing: Sharing,
    /// How they really do.
    pub shares: ShareTotals,
    /// How far they are out of reach.
    pub guard: Guard,
    /// How it differs from what was laid.
    pub changes: Changes,
    /// Game files that changed since it was protected, if it is.
    pub changed_though_protected: Option<Counts>,
    /// How many of its states can be gone back to.
    pub states: u64,
    /// Belongings, by group: what of them is as it was laid does not count.
    pub belongings: Vec<Belongings>,
    /// What can't be copied along, each with its reason.
    pub not_taken: Vec<String>,
    /// Shared files that were written through their guard since the last look.
    pub leaks: Leaks,
    /// How long its program ran in all.
    #[serde(serialize_with = "crate::progress::seconds")]
    pub played: Duration,
    /// Launch entries.
    pub entries: Vec<PathBuf>,
    /// Its runs, the newest first.
    pub runs: Vec<RunRecord>,
}

/// The twins by name; with `removed`, the removed ones instead. They are not settled: counts are those of the last
/// command that looked.
///
/// # Errors
/// [`Error::Catalogue`], [`Error::Damaged`], [`Error::Io`].
pub fn twins(yard: &Yard, removed: bool) -> Result<Vec<Summary>> {
    let rows = yard.catalog.twins()?;
    rows.iter().filter(|row| row.removed_at.is_some() == removed).map(|row| twin_summary(yard, row, None)).collect()
}

/// A twin in a list; `totals` where they are known already.
fn twin_summary(yard: &Yard, row: &TwinRow, totals: Option<Totals>) -> Result<Summary> {
    let mut trouble = half_done(yard, row);
    let mut note = |error: Error| {
        trouble.get_or_insert_with(|| error.with_causes());
    };
    let state = yard.store.state(row.state).or_else(|error| {
        note(error);
        yard.newest_whole(row)
    })?;
    let totals = totals.map_or_else(|| yard.totals(state.disk), Ok).unwrap_or_else(|error| {
        note(error);
        Totals::default()
    });
    let folder_missing = match settle::present_folder(yard, row) {
        _ if row.removed_at.is_some() => false,
        Ok(_) => false,
        Err(Error::Twin(TwinError::FolderMissing { .. })) => true,
        Err(error) => {
            note(error);
            false
        }
    };
    let profile = crate::profile::Profile::parse(&state.profile, &yard.folder_of(row).join("profile.toml"));
    let removed = row.removed_at.is_some();
    if !removed && trouble.is_none() && after_run::has_wrong(yard, row).unwrap_or_default() {
        let wrong = "files that it shares were written to directly; its next command gives them their bytes again";
        trouble = Some(wrong.into());
    }
    let busy = !removed && yard.is_held(row)?;
    let running = busy && stop::current_run(yard, row)?.is_some();
    let held_by = if busy && !running { lock::holders(&yard.twin_lock_path(row.id)) } else { Vec::new() };
    Ok(Summary {
        name: row.name.clone(),
        id: row.id,
        title_name: yard.title_name(&state.build),
        build: state.build,
        origin: row.origin.clone(),
        note: profile.ok().and_then(|profile| profile.note),
        made_at: row.made_at,
        removed_at: row.removed_at,
        totals,
        last_run: yard.catalog.newest_run(row.id)?.map(|run| run.started_at),
        running,
        held_by,
        busy,
        folder_missing,
        protected: row.protected.is_some(),
        trouble,
    })
}

/// What is half done in a twin, and could not be finished.
fn half_done(yard: &Yard, row: &TwinRow) -> Option<String> {
    let left = yard.recovered.left.iter().find(|left| left.twin == Some(row.id) && row.removed_at.is_none())?;
    Some(format!("{} is half done: {}", left.what, left.why))
}

/// All about a twin. It is settled first, unless its program is running or it is removed.
///
/// # Errors
/// [`Error::NotFound`], [`crate::TwinError::FolderMissing`], [`Error::Io`].
pub fn twin(yard: &Yard, name: &TwinName, ctx: &Ctx) -> Result<Details> {
    let (row, settled, unsettled) = settled_or_last(yard, name, ctx)?;
    details(yard, &row, settled, unsettled, ctx)
}

/// As [`twin`], with what it takes on disk: where nothing has changed, of one look.
///
/// # Errors
/// Those of [`twin`] and of [`space::twin`].
pub fn twin_and_space(yard: &Yard, name: &TwinName, ctx: &Ctx) -> Result<(Details, Space)> {
    let (row, settled, unsettled) = settled_or_last(yard, name, ctx)?;
    let seen = space::seen_by(yard, &row, &settled, ctx)?;
    // As long as it is in hand, it is not read again for whatever else is, or differs from, the same.
    let in_hand = match yard.store.base_of(settled.state.disk)? {
        Some(base) => yard.store.listing(base)?,
        None => settled.listing.clone(),
    };
    let details = details(yard, &row, settled, unsettled, ctx)?;
    let space = space::of(yard, &row, seen.as_ref(), ctx)?;
    drop(in_hand);
    Ok((details, space))
}

/// A twin as it is now; or as it was at its last settle, and why.
fn settled_or_last(yard: &Yard, name: &TwinName, ctx: &Ctx) -> Result<(TwinRow, Settled, Option<Unsettled>)> {
    let row = yard.twin_row(name, true)?;
    let (mut unsettled, mut settled) = (row.removed_at.map(|_| Unsettled::Removed), None);
    if unsettled.is_none() {
        match settle::settle(yard, &row, ctx) {
            Ok(now) => settled = Some(now),
            Err(Error::Busy { .. }) => unsettled = Some(Unsettled::Busy),
            Err(error) => return Err(error),
        }
    }
    let row = yard.catalog.twin(row.id)?.unwrap_or(row);
    let settled = settled.map_or_else(|| settle::as_of_last(yard, &row), Ok)?;
    Ok((row, settled, unsettled))
}

fn details(yard: &Yard, row: &TwinRow, settled: Settled, unsettled: Option<Unsettled>, ctx: &Ctx) -> Result<Details> {
    let totals = settled.listing.totals();
    let changed = settled.state.laid != settled.state.disk;
    let laid = changed.then(|| yard.store.listing(settled.state.laid)).transpose()?;
    let sheet = yard.sheet_of(&settled.state.build)?;
    let belongings = match (&sheet, &laid) {
        // Entries as they were laid are not the player's own.
        (Some(sheet), Some(laid)) => sheet.belongings_beside(&settled.listing, laid),
        _ => Vec::new(),
    };
    let (shares, runs) = (ShareTotals::new(&settled.listing, &settled.rows), yard.catalog.runs(row.id)?);
    Ok(Details {
        summary: Summary { busy: unsettled == Some(Unsettled::Busy), ..twin_summary(yard, row, Some(totals))? },
        folder: yard.folder_of(row),
        unsettled,
        sharing: settled.state.sharing,
        guard: guard(yard, &shares, ctx)?,
        shares,
        changes: laid.map(|laid| changes(&laid, &settled.listing, sheet.as_ref())).unwrap_or_default(),
        changed_though_protected: protection::changed_though_protected(yard, row, &settled.listing)?,
        states: yard.catalog.history(row.id)?.len() as u64,
        belongings,
        not_taken: settled.not_taken,
        leaks: settled.leaks,
        played: runs.iter().filter_map(RunRecord::ran).sum(),
        entries: yard.catalog.entries()?.into_iter().filter(|e| e.twin == row.id).map(|e| e.path).collect(),
        runs,
    })
}

/// How far a twin's program is kept inside at a launch. What is possible is found out by a trial, once for each boot.
///
/// # Errors
/// [`Error::NotFound`], [`Error::Io`] if the trial could not be prepared.
pub fn isolation(yard: &Yard, name: &TwinName, ctx: &Ctx) -> Result<IsolationView> {
    let row = yard.twin_row(name, true)?;
    let path = yard.folder_of(&row).join("profile.toml");
    // A profile that can't be read is said to be so by a launch.
    let profile = Profile::load(&path).map(|(profile, _)| profile).unwrap_or_default();
    let asked = profile.isolation;
    let possible = isolation::possible_isolation(yard, ctx)?;
    let (gets, why) = match asked {
        None => (Some(possible.best()), possible.why_not_better(possible.best())),
        Some(asked) => match possible.why_not(asked) {
            None => (Some(asked), None),
            Some(why) => (None, Some(why.to_owned())),
        },
    };
    let shares_memory = gets == Some(Isolation::Sealed) && !has_own_ipc(profile.ipc);
    let reached = reach::reached(profile.reaches(), yard.root()).unwrap_or_default();
    Ok(IsolationView { asked, gets, why, shares_memory, reached })
}

pub(crate) fn guard(yard: &Yard, shares: &ShareTotals, ctx: &Ctx) -> Result<Guard> {
    if shares.linked.files == 0 {
        return Ok(Guard::Separate);
    }
    Ok(if yard.facts(ctx)?.guard { Guard::GuardedLinks } else { Guard::WeakLinks })
}

/// Files of a twin that are links, read-only outside a sealed launch: as the last look at it found them.
///
/// # Errors
/// [`Error::NotFound`], [`crate::TwinError::FolderMissing`], [`Error::Io`].
pub fn linked(yard: &Yard, name: &TwinName) -> Result<Files> {
    let row = yard.twin_row(name, false)?;
    arrived::linked(yard, &settle::present_folder(yard, &row)?, &yard.store.state(row.state)?, |_| true)
}

/// The folder of a twin; with `group`, the folder that holds the belongings of that group.
///
/// # Errors
/// [`Error::NotFound`] for a twin or group that doesn't exist, [`crate::TwinError::FolderMissing`].
pub fn folder(yard: &Yard, name: &TwinName, place: Option<&str>) -> Result<PathBuf> {
    let row = yard.twin_row(name, false)?;
    let folder = settle::present_folder(yard, &row)?;
    match place {
        None => Ok(folder.join("game")),
        Some("home") => Ok(folder.join("home")),
        Some(group) => {
            let sheet = yard.sheet_of(&yard.store.state(row.state)?.build)?;
            let groups = sheet.map(|sheet| sheet.belongings).unwrap_or_default();
            let Some(found) = groups.get(group) else {
                let known = std::iter::once("home".to_owned()).chain(groups.into_keys()).collect();
                return Err(Error::NotFound { what: Noun::Group, name: group.into(), known });
            };
            let base = found.patterns.first().map(|pattern| pattern::base(pattern)).unwrap_or_default();
            let place = folder.join(base);
            // A pattern may name one file.
            Ok(place.parent().filter(|_| place.is_file()).map(std::path::Path::to_path_buf).unwrap_or(place))
        }
    }
}
