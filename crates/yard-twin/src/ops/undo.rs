//! Taking back one line of a twin's history: the last one, or an earlier one around what came after it.
//!
//! ```
//! use yard_twin::{restore, undo};
//! # use yard_twin::{Ctx, Yard, clone, intake, snapshot};
//! # let place = tempfile::tempdir()?;
//! # let installed = place.path().join("installed");
//! # standins::write_small_wexcombe(&installed, "1.4")?;
//! # let (yard, ctx) = (Yard::init(place.path().join("yard"))?, Ctx::new());
//! # std::fs::write(yard.sheet_path(&"wexcombe".parse()?), standins::WEXCOMBE_SHEET)?;
//! # let options = intake::Options::new(&installed, "wexcombe".parse()?);
//! # intake::apply(&yard, &intake::plan(&yard, options, &ctx)?, &ctx)?;
//! # let plan = clone::plan(&yard, &"wexcombe@1.4".parse()?, &"main".parse()?, clone::Options::default(), &ctx)?;
//! # clone::apply(&yard, &plan, &ctx)?;
//! # let game = place.path().join("yard/twins/main/game");
//! std::fs::write(game.join("cabin/added.txt"), "by an installer")?;
//! let plan = undo::plan(&yard, &"main".parse()?, None, &ctx)?;
//! restore::apply(&yard, &plan, &ctx)?;
//! assert!(!game.join("cabin/added.txt").exists());
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

use std::collections::BTreeSet;

use crate::Yard;
use crate::catalog::{HistoryEntry, What};
use crate::error::{Error, Result, TwinError};
use crate::ident::{SnapshotRef, TwinName};
use crate::listing::{Change, Layer, Listing, Node, diff, overlay};
use crate::ops::restore::{self, Line, Options, Plan};
use crate::path::RelPath;
use crate::profile::ProfileText;
use crate::progress::Ctx;
use crate::store::state::{Applied, State};
use crate::twin::planned;
use crate::twin::planned::PlannedChange;

/// Looks at what taking back a line of the history would do; the newest without a number, which may be what is new in the
/// twin just now. All that the line changed is as it was before it, belongings, the home and the profile too; an earlier one
/// is taken back only where nothing has changed since, and what has is named in [`Line::later`]. [`restore::apply`] does it.
///
/// # Errors
/// As [`restore::plan`]; [`TwinError::NothingToUndo`] if it is the line that made the twin; [`TwinError::LineOfBuild`] if an
/// earlier line put the twin on another stock build: a renew onto the one before takes that back.
pub fn plan(yard: &Yard, name: &TwinName, number: Option<u32>, ctx: &Ctx) -> Result<Plan> {
    let (row, mut settled) = planned::see(yard, &yard.twin_row(name, false)?, ctx)?;
    let history = yard.catalog.history(row.id)?;
    let nothing = || Error::from(TwinError::NothingToUndo(row.name.to_string()));
    let back_to = |entry: &HistoryEntry| {
        let options = Options { to: Some(SnapshotRef::Number(entry.number)), all: true, only: Vec::new() };
        restore::plan(yard, name, &options, ctx)
    };
    let is_new = settled.news.is_some();
    let at = match number {
        None if is_new => return back_to(history.first().ok_or_else(nothing)?),
        None => 0,
        Some(number) => {
            let entry = yard.find_entry(&row, &SnapshotRef::Number(number))?;
            history.iter().position(|other| other.number == entry.number).ok_or_else(nothing)?
        }
    };
    let (Some(line), Some(before)) = (history.get(at), history.get(at + 1)) else { return Err(nothing()) };
    if at == 0 && !is_new {
        let mut plan = back_to(before)?;
        plan.line = Some(Line { entry: line.clone(), later: Vec::new() });
        return Ok(plan);
    }
    let (after, then) = (yard.store.state(line.state)?, yard.store.state(before.state)?);
    if after.build != then.build {
        let (name, number, build) = (row.name.to_string(), line.number, then.build.to_string());
        return Err(TwinError::LineOfBuild { name, number, build }.into());
    }
    if after.mods != then.mods && settled.state.mods != after.mods {
        let (name, number) = (row.name.to_string(), line.number);
        return Err(TwinError::LineOfMods { name, number }.into());
    }
    let (was, is) = (yard.store.listing(then.disk)?, yard.store.listing(after.disk)?);
    let (listing, taken_back, mut later) = without(&was, &is, &settled.listing)?;
    let path = yard.folder_of(&row).join("profile.toml");
    let (profile, changed) = ProfileText::without(&settled.state.profile, (&then.profile, &after.profile), &path)?;
    if changed {
        later.push(RelPath::new("profile.toml")?);
    }
    let state = State { profile, ..state_without(&then, &after, &settled.state, &taken_back) };
    let not_taken = std::mem::take(&mut settled.not_taken);
    let change = PlannedChange::new(row, settled, state, listing.into(), What::TakenBack { line: line.number });
    let line = Line { entry: line.clone(), later };
    restore::planned_for(yard, change, (before.clone(), Some(line), not_taken), ctx)
}

/// A listing without what a line changed that led from `was` to `is`: with the paths at which that is so, and those that have
/// changed since, and stay.
fn without(was: &Listing, is: &Listing, now: &Listing) -> Result<(Listing, BTreeSet<RelPath>, Vec<RelPath>)> {
    let node = |listing: &Listing, path: &RelPath| listing.get(path.as_str()).map(|entry| entry.node.clone());
    let (mut changes, mut later) = (Vec::new(), Vec::new());
    for change in diff(was, is) {
        let path = change.path();
        let there = node(now, path);
        if there == node(was, path) {
            continue;
        }
        if there == node(is, path) {
            changes.push((path.clone(), was.get(path.as_str()).cloned()));
            continue;
        }
        let folder = matches!(&change, Change::New(entry) | Change::Gone(entry) if entry.node == Node::EmptyFolder);
        if !folder {
            later.push(path.clone());
        }
    }
    let taken_back = changes.iter().map(|(path, _)| path.clone()).collect();
    Ok((overlay(now, &Layer::new(changes)?)?, taken_back, later))
}

/// The same for what a state says of its files: edits that are as the line left them.
fn state_without(then: &State, after: &State, now: &State, files: &BTreeSet<RelPath>) -> State {
    let laid = if now.laid == after.laid { then.laid } else { now.laid };
    let mods = if now.mods == after.mods { then.mods.clone() } else { now.mods.clone() };
    let of = |state: &State, file: &RelPath| -> Vec<Applied> {
        state.edits.iter().filter(|edit| edit.file == *file).cloned().collect()
    };
    let as_left = |file: &RelPath| files.contains(file) && of(now, file) == of(after, file);
    let kept = now.edits.iter().filter(|edit| !as_left(&edit.file)).cloned();
    let back = then.edits.iter().filter(|edit| as_left(&edit.file)).cloned();
    State { laid, mods, edits: kept.chain(back).collect(), ..now.clone() }
        .with_written(then.written.clone())
        .with_private(then.private.clone())
}
