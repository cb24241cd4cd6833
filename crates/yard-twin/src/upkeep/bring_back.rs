//! Bringing a removed twin back: under its id, with its history, its runs and its launch entries.
//!
//! ```
//! use yard_twin::{bring_back, remove};
//! # use yard_twin::{Ctx, Yard, clone, history, intake};
//! # let place = tempfile::tempdir()?;
//! # let installed = place.path().join("installed");
//! # standins::write_small_wexcombe(&installed, "1.4")?;
//! # let (yard, ctx) = (Yard::init(place.path().join("yard"))?, Ctx::new());
//! # std::fs::write(yard.sheet_path(&"wexcombe".parse()?), standins::WEXCOMBE_SHEET)?;
//! # let options = intake::Options::new(&installed, "wexcombe".parse()?);
//! # intake::apply(&yard, &intake::plan(&yard, options, &ctx)?, &ctx)?;
//! # let plan = clone::plan(&yard, &"wexcombe@1.4".parse()?, &"main".parse()?, clone::Options::default(), &ctx)?;
//! # let made = clone::apply(&yard, &plan, &ctx)?;
//! remove::apply(&yard, &remove::plan(&yard, &"main".parse()?, &ctx)?, &ctx)?;
//! let back = bring_back::apply(&yard, &bring_back::plan(&yard, &"main".parse()?, None)?, &ctx)?;
//! assert_eq!((back.id, back.folder.join("game").is_dir()), (made.id, true));
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

use std::path::PathBuf;

use jiff::Timestamp;
use serde::Serialize;

use crate::Yard;
use crate::catalog::{Intent, TwinRow};
use crate::disk;
use crate::entry;
use crate::error::{Error, Noun, Result, TwinError};
use crate::ident::{TwinId, TwinName};
use crate::progress::Ctx;
use crate::twin::Twin;
use crate::twin::names::{check_free, free_folder};
use crate::yard::folder_id;
use crate::yard::intents;

/// What bringing a removed twin back will do.
#[must_use = "a plan changes nothing until it is applied"]
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Plan {
    /// The name that it had.
    pub was: TwinName,
    /// The name that it will have.
    pub name: TwinName,
    /// When it was removed.
    pub removed_at: Option<Timestamp>,
    /// Launch entries that are written again.
    pub entries: Vec<PathBuf>,
    #[serde(skip)]
    row: TwinRow,
}

/// What bringing a twin back did.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Outcome {
    /// The twin.
    pub name: TwinName,
    /// Its id, as before.
    pub id: TwinId,
    /// Its folder.
    pub folder: PathBuf,
    /// Launch entries that were written again.
    pub entries: Vec<PathBuf>,
}

/// Looks for a removed twin, the one of that name that was removed last, and at what bringing it back would do; under another
/// name if one is given.
///
/// # Errors
/// [`Error::NotFound`] if no twin of that name was removed, [`Error::Exists`] if there is one of the name that it will have,
/// [`TwinError::RemovedFolderMissing`] if its folder is gone: it can be cloned then.
pub fn plan(yard: &Yard, was: &TwinName, name: Option<&TwinName>) -> Result<Plan> {
    let rows = yard.catalog.twins()?;
    let removed = || rows.iter().filter(|row| row.removed_at.is_some());
    let row = removed().filter(|row| row.name.key() == was.key()).max_by_key(|row| row.removed_at);
    let Some(row) = row else {
        let known = removed().map(|row| row.name.to_string()).collect();
        return Err(Error::NotFound { what: Noun::RemovedTwin, name: was.to_string(), known });
    };
    let name = name.unwrap_or(&row.name);
    check_free(yard, name)?;
    if folder_id(&yard.folder_of(row))? != Some(row.id) {
        return Err(TwinError::RemovedFolderMissing(row.name.to_string()).into());
    }
    Ok(Plan {
        was: row.name.clone(),
        name: name.clone(),
        removed_at: row.removed_at,
        entries: entry::kept(yard, row.id)?.into_iter().map(|(entry, _)| entry.path).collect(),
        row: row.clone(),
    })
}

/// Moves the twin's folder back by one rename, and writes its launch entries again. What was changed in the folder meanwhile
/// is taken in by the next command.
///
/// A crash leaves the twin either removed or back; entries may have to be made once more then.
///
/// # Errors
/// As [`plan`]; [`Error::Busy`] while another command is at it, [`Error::Io`].
pub fn apply(yard: &Yard, plan: &Plan, ctx: &Ctx) -> Result<Outcome> {
    let _twin = Twin::hold(yard, &plan.row, ctx)?;
    let alone = yard.alone(ctx)?;
    check_free(yard, &plan.name)?;
    let from = yard.folder_of(&plan.row);
    if folder_id(&from)? != Some(plan.row.id) {
        return Err(TwinError::RemovedFolderMissing(plan.was.to_string()).into());
    }
    let folder = free_folder(yard, &plan.name)?;
    let to = yard.twins_folder().join(&folder);
    let (twin, name) = (plan.row.id, plan.name.clone());
    let intent = yard.catalog.intend(&Intent::BringBack { twin, name: name.clone(), folder: folder.clone() })?;
    if let Err(error) = disk::rename_new(&from, &to) {
        yard.catalog.intent_done(intent)?;
        return Err(Error::io("move back", from, error));
    }
    disk::sync_rename(&from, &to)?;
    yard.catalog.together(|| {
        intents::brought_back(yard, twin, &name, &folder)?;
        yard.catalog.intent_done(intent)
    })?;
    drop(alone);
    let entries = entry::write_again(yard, twin, &name)?;
    Ok(Outcome { name, id: twin, folder: to, entries })
}
