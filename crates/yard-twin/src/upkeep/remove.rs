//! Remove: a twin goes out of the way, and its last state stays until it is forgotten.
//!
//! ```
//! use yard_twin::{clone, remove};
//! # use yard_twin::{Ctx, Yard, intake};
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
//! remove::apply(&yard, &remove::plan(&yard, &"main".parse()?, &ctx)?, &ctx)?;
//! // A removed twin can be had back, until it is let go of.
//! let back = clone::plan(&yard, &"main".parse()?, &"main".parse()?, clone::Options::default(), &ctx)?;
//! clone::apply(&yard, &back, &ctx)?;
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

use std::path::PathBuf;
use std::time::{Duration, Instant};

use jiff::Timestamp;
use serde::Serialize;

use crate::Yard;
use crate::catalog::{Intent, TwinRow, What};
use crate::disk;
use crate::entry;
use crate::error::{Error, Result, TwinError};
use crate::ident::{BuildRef, ContentId, StateId, TwinName};
use crate::listing::{Listing, Totals};
use crate::progress::{Ctx, Phase};
use crate::scan::Doubt;
use crate::store::pool::Ledger;
use crate::twin::Leaks;
use crate::twin::Twin;
use crate::twin::look::{Stage, look_only};
use crate::twin::planned;
use crate::yard::folder_id;
use crate::yard::forget;

/// Files whose bytes exist nowhere else in the yard.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct OnlyHere {
    /// Their paths.
    pub paths: Vec<String>,
    /// Their bytes.
    pub bytes: u64,
}

/// What removing a twin will do.
#[must_use = "a plan changes nothing until it is applied"]
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Plan {
    /// The twin.
    pub name: TwinName,
    /// The stock build that it is on.
    pub build: BuildRef,
    /// What it holds.
    pub totals: Totals,
    /// What exists nowhere else: not in a stock build, not in another twin.
    pub only_here: OnlyHere,
    /// What is in its folder and in no state of it: what can't be kept, and what was changed there since it was
    /// removed. Only [`let_go`] deletes it.
    pub not_taken: Vec<String>,
    /// Shared files that were found to be written through their guard.
    pub leaks: Leaks,
    /// Launch entries that go with it.
    pub entries: Vec<PathBuf>,
    /// Whether its folder is missing, so that only its record is removed.
    pub folder_missing: bool,
    /// Whether it is removed already, so that it can only be forgotten.
    pub removed: bool,
    #[serde(skip)]
    row: TwinRow,
    /// What it holds just now.
    #[serde(skip)]
    state: StateId,
}

/// What a removal did.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Outcome {
    /// The twin.
    pub name: TwinName,
    /// Where its folder is now; `None` where it was missing.
    pub folder: Option<PathBuf>,
    /// How long it took.
    #[serde(serialize_with = "crate::progress::seconds")]
    pub took: Duration,
}

/// What letting a twin go for good did.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct LetGoOutcome {
    /// The twin.
    pub name: TwinName,
    /// Contents that nothing else needed, deleted from the pool: their bytes on disk. They stay for a sweep while another
    /// command is at work.
    pub freed: u64,
    /// What is kept all the same: a folder in which somebody still has files open, or that is not this twin's.
    pub kept: Vec<String>,
    /// How long it took.
    #[serde(serialize_with = "crate::progress::seconds")]
    pub took: Duration,
}

/// Looks at what removing a twin means. Its last state is kept, which is what it holds when it goes; a twin whose folder is
/// missing can be removed too. With a twin that is removed already, the plan is for [`let_go`].
///
/// # Errors
/// [`Error::NotFound`], or [`Error::Busy`] while it runs.
pub fn plan(yard: &Yard, name: &TwinName, ctx: &Ctx) -> Result<Plan> {
    let row = yard.twin_row(name, true)?;
    let removed = row.removed_at.is_some();
    let (mut not_taken, mut leaks, mut folder_missing) = (Vec::new(), Leaks::default(), false);
    let (mut state, mut listing) = (None, None);
    if !removed {
        match planned::see(yard, &row, ctx) {
            Ok((_, seen)) => {
                state = Some(seen.state);
                (not_taken, leaks) = (seen.not_taken, seen.leaks);
                listing = Some(seen.listing);
            }
            Err(Error::Twin(TwinError::FolderMissing { found: None, .. })) => folder_missing = true,
            Err(error) => return Err(error),
        }
    } else {
        not_taken = beside_state(yard, &row, ctx)?;
    }
    let row = yard.catalog.twin(row.id)?.unwrap_or(row);
    let state = state.map_or_else(|| yard.store.state(row.state), Ok)?;
    let (id, _) = state.encode();
    let listing = listing.map_or_else(|| yard.store.listing(state.disk), Ok)?;
    let only = yard.contents_only_in(&listing, Some(&row), None)?;
    Ok(Plan {
        name: row.name.clone(),
        build: state.build,
        totals: listing.totals(),
        only_here: only_here(&listing, &only),
        not_taken,
        leaks,
        entries: yard.catalog.entries()?.into_iter().filter(|e| e.twin == row.id).map(|e| e.path).collect(),
        folder_missing,
        removed,
        state: id,
        row,
    })
}

/// Moves the twin's folder to `removed/` by one rename, and deletes its launch entries. Its last state stays, and a
/// new twin can be cloned from it by its name.
///
/// A crash leaves the twin either as it was or removed.
///
/// # Errors
/// [`Error::NotFound`] if it is removed already, [`Error::Busy`] while it runs, [`Error::Io`].
pub fn apply(yard: &Yard, plan: &Plan, ctx: &Ctx) -> Result<Outcome> {
    let began = Instant::now();
    let row = yard.twin_row(&plan.name, false)?;
    let mut twin = Twin::hold(yard, &row, ctx)?;
    if twin.row.protected.is_some() {
        return Err(TwinError::Protected(row.name.to_string()).into());
    }
    if !plan.folder_missing && twin.row.state != plan.state {
        // What is new in it since its last state was written down goes into its last one.
        twin.settle(What::Outside, ctx)?;
    }
    let _alone = yard.alone(ctx)?;
    let from = yard.folder_of(&row);
    let removed_folder = row.removed_folder();
    let to = yard.removed_folder().join(&removed_folder);
    let intent = yard.catalog.intend(&Intent::Remove {
        twin: row.id,
        folder: row.folder.clone(),
        removed_folder: removed_folder.clone(),
    })?;
    if !plan.folder_missing {
        if let Err(error) = disk::rename_new(&from, &to) {
            yard.catalog.intent_done(intent)?;
            return Err(Error::io("move aside", from, error));
        }
        disk::sync_rename(&from, &to)?;
    }
    yard.catalog.together(|| {
        yard.catalog.mark_removed(row.id, &removed_folder, Timestamp::now())?;
        yard.catalog.intent_done(intent)
    })?;
    for path in &plan.entries {
        entry::put_away(yard, path, row.id)?;
    }
    let folder = (!plan.folder_missing).then_some(to);
    Ok(Outcome { name: plan.name.clone(), folder, took: began.elapsed() })
}

/// What is in the folder of a removed twin, and in no state of it, each with its reason.
pub(crate) fn beside_state(yard: &Yard, row: &TwinRow, ctx: &Ctx) -> Result<Vec<String>> {
    let folder = yard.folder_of(row);
    if folder_id(&folder)? != Some(row.id) {
        return Ok(Vec::new());
    }
    let op = yard.begin(ctx)?;
    let look = look_only(yard, row, &folder, Stage { op: &op, putter: None }, Doubt::Nothing, ctx)?;
    let mut beside = look.found.not_taken;
    let leaks = &look.found.leaks;
    let changed = look.found.changed.iter().filter(|(path, _)| !leaks.iter().any(|leak| leak.path == *path));
    let there =
        changed.filter_map(|(path, now)| now.as_ref().filter(|now| now.0.node.content().is_some()).map(|_| path));
    beside.extend(there.map(|path| format!("{} (changed since it was removed)", path.below(&folder).display())));
    Ok(beside)
}

/// Lets a twin go for good: its folder, its states, and every content that nothing else needs. It is settled once more
/// before: whoever agreed to the plan has not agreed to what came into the folder since.
///
/// A crash is finished by the next opening of the yard; contents that it had no time for stay in the pool.
///
/// # Errors
/// [`TwinError::ChangedMeanwhile`] if it is not as it was when this was planned, [`Error::Busy`] while it runs,
/// [`Error::Io`].
pub fn let_go(yard: &Yard, plan: &Plan, ctx: &Ctx) -> Result<LetGoOutcome> {
    let began = Instant::now();
    let mut twin = Twin::hold(yard, &plan.row, ctx)?;
    if twin.row.protected.is_some() {
        return Err(TwinError::Protected(twin.row.name.to_string()).into());
    }
    let not_taken = if twin.row.removed_at.is_some() {
        beside_state(yard, &twin.row, ctx)?
    } else if plan.folder_missing {
        Vec::new()
    } else {
        twin.settle(What::Outside, ctx)?.not_taken
    };
    let row = &twin.row;
    if row.state != plan.state || not_taken != plan.not_taken {
        let (name, path) = (row.name.to_string(), yard.folder_of(row));
        return Err(TwinError::ChangedMeanwhile { name, path }.into());
    }
    let op = yard.begin(ctx)?;
    let _alone = yard.alone(ctx)?;
    let only_mine = if yard.is_only_operation(&op)? { yard.contents_only_of(row)? } else { Vec::new() };
    let ledger = Ledger::load(&yard.store.pool)?;
    let intent = yard.catalog.intend(&Intent::Forget { twin: row.id })?;
    for path in &plan.entries {
        entry::delete_entry(yard, path)?;
    }
    let forgotten =
        ctx.phase(Phase::Deleting, plan.totals.files, 0, || forget::forget(yard, row, &op, &ledger, ctx.threads()));
    let freed = forgotten.and_then(|kept| {
        yard.catalog.intent_done(intent)?;
        Ok((kept, yard.store.pool.delete(only_mine, &ledger)?))
    });
    ledger.save(op.path())?;
    let (kept, freed) = freed?;
    Ok(LetGoOutcome { name: plan.name.clone(), freed, kept, took: began.elapsed() })
}

/// The files of a listing whose contents are among those that are nowhere else, which come in their order.
pub(crate) fn only_here(listing: &Listing, only: &[ContentId]) -> OnlyHere {
    let mut here = OnlyHere::default();
    for entry in listing.entries() {
        let is_only = entry.node.content().is_some_and(|content| only.binary_search(&content).is_ok());
        if entry.node.size() > 0 && is_only {
            here.paths.push(entry.path.to_string());
            here.bytes += entry.node.size();
        }
    }
    here
}
