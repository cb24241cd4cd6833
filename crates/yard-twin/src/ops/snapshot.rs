//! Snapshots: states of a twin that are kept until they are let go.
//!
//! ```
//! use yard_twin::{SnapshotRef, snapshot};
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
//! let label = "before the mod".parse()?;
//! let made = snapshot::apply(&yard, &snapshot::plan(&yard, &"main".parse()?, Some(&label), &ctx)?, &ctx)?;
//! let plan = snapshot::plan_drop(&yard, &"main".parse()?, &SnapshotRef::Number(made.number))?;
//! snapshot::apply_drop(&yard, &plan)?;
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

use serde::Serialize;

use crate::Yard;
use crate::catalog::{Counts, HistoryEntry, NewChange, TwinRow, What};
use crate::error::{Error, Noun, Result, TwinError};
use crate::ident::{SnapshotLabel, SnapshotRef, StateId, TwinId, TwinName};
use crate::progress::Ctx;
use crate::twin::Twin;

/// A snapshot that was made.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Outcome {
    /// The twin.
    pub name: TwinName,
    /// Its number in the history.
    pub number: u32,
    /// Its label.
    pub label: Option<SnapshotLabel>,
    /// What had changed since the last look, in game files and in others.
    pub game: Counts,
    /// As above, in belongings, live and scratch paths, and the home.
    pub own: Counts,
    /// What can't be kept, each with its reason.
    pub not_taken: Vec<String>,
}

/// A snapshot that will be made.
#[must_use = "a plan changes nothing until it is applied"]
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Plan {
    /// What comes of it.
    #[serde(flatten)]
    pub would: Outcome,
    #[serde(skip)]
    twin: TwinId,
    #[serde(skip)]
    state: StateId,
}

/// A snapshot that will be let go.
#[must_use = "a plan changes nothing until it is applied"]
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct DropPlan {
    /// The twin.
    pub twin: TwinName,
    /// Its line in the history.
    pub entry: HistoryEntry,
}

/// Looks at what a snapshot of a twin would keep.
///
/// # Errors
/// [`Error::NotFound`], [`Error::Exists`] if the twin has a snapshot of that label, [`Error::Busy`] while it runs.
pub fn plan(yard: &Yard, name: &TwinName, label: Option<&SnapshotLabel>, ctx: &Ctx) -> Result<Plan> {
    let row = yard.twin_row(name, false)?;
    if let Some(label) = label {
        check_label_free(yard, &row, label)?;
    }
    let mut twin = Twin::hold(yard, &row, ctx)?;
    let before = yard.catalog.newest_change(row.id)?;
    let seen = twin.see(ctx)?;
    let recorded = yard.catalog.history(row.id)?.into_iter().next().filter(|entry| entry.number > before);
    let (game, own) = match (&seen.news, recorded) {
        (Some(news), _) => (news.game, news.own),
        (None, Some(entry)) => (entry.game, entry.own),
        (None, None) => Default::default(),
    };
    let (state, _) = seen.state.encode();
    let number = yard.catalog.newest_change(row.id)? + 1 + u32::from(seen.news.is_some());
    let not_taken = seen.not_taken;
    let would = Outcome { name: row.name, number, label: label.cloned(), game, own, not_taken };
    Ok(Plan { would, twin: row.id, state })
}

/// Keeps the state that a twin had when this was planned until it is let go by [`apply_drop`].
///
/// # Errors
/// As [`plan`], and [`TwinError::ChangedMeanwhile`] if the twin has another state by now.
pub fn apply(yard: &Yard, plan: &Plan, ctx: &Ctx) -> Result<Outcome> {
    let mut made = plan.would.clone();
    let row = yard.twin_row(&made.name, false)?;
    let mut twin = Twin::hold(yard, &row, ctx)?;
    if (twin.row.id, twin.row.state) != (plan.twin, plan.state) {
        twin.settle(What::Outside, ctx)?;
    }
    let row = &twin.row;
    if (row.id, row.state) != (plan.twin, plan.state) {
        let (name, path) = (row.name.to_string(), yard.folder_of(row));
        return Err(TwinError::ChangedMeanwhile { name, path }.into());
    }
    if let Some(label) = &made.label {
        check_label_free(yard, row, label)?;
    }
    let (none, label) = (Counts::default(), made.label.as_ref());
    yard.catalog.together(|| {
        let change = NewChange { what: What::Snapshot, game: none, own: none, label, state: row.state };
        made.number = yard.catalog.add_change(row.id, &change)?;
        Ok(())
    })?;
    Ok(made)
}

fn check_label_free(yard: &Yard, row: &TwinRow, label: &SnapshotLabel) -> Result<()> {
    if label.as_str().bytes().all(|byte| byte.is_ascii_digit()) {
        let why = "numbers name the lines of the history";
        return Err(Error::Name { what: Noun::SnapshotLabel, name: label.to_string(), why });
    }
    let history = yard.catalog.history(row.id)?;
    match history.into_iter().filter_map(|entry| entry.label).find(|there| there.key() == label.key()) {
        None => Ok(()),
        Some(there) => {
            let (name, existing) = (label.to_string(), there.to_string());
            Err(Error::Exists { what: Noun::Snapshot, name, existing })
        }
    }
}

/// Looks for a snapshot that is to be let go.
///
/// # Errors
/// [`Error::NotFound`].
pub fn plan_drop(yard: &Yard, name: &TwinName, snapshot: &SnapshotRef) -> Result<DropPlan> {
    let row = yard.twin_row(name, true)?;
    let entry = yard.find_entry(&row, snapshot)?;
    if entry.what != What::Snapshot {
        let why = "it is a change, which the keep policy lets go, and no snapshot";
        return Err(Error::Name { what: Noun::Snapshot, name: snapshot.to_string(), why });
    }
    Ok(DropPlan { twin: row.name, entry })
}

/// Lets a snapshot go: nothing keeps its state but the keep policy.
///
/// # Errors
/// As [`plan_drop`].
pub fn apply_drop(yard: &Yard, plan: &DropPlan) -> Result<()> {
    let again = plan_drop(yard, &plan.twin, &SnapshotRef::Number(plan.entry.number))?;
    yard.catalog.drop_change(yard.twin_row(&plan.twin, true)?.id, again.entry.number)
}
