//! Protecting a twin's game files, and renaming a twin.

use std::path::PathBuf;

use serde::Serialize;

use super::change::counts;
use super::settle::Own;
use crate::Yard;
use crate::catalog::{Counts, Intent, TwinRow};
use crate::disk;
use crate::error::{Error, Result, TwinError};
use crate::ident::TwinName;
use crate::progress::Ctx;

/// What protecting a twin did.
#[derive(Clone, Debug, Serialize)]
pub struct ProtectOutcome {
    /// The twin.
    pub name: TwinName,
    /// Whether it is protected now.
    pub protected: bool,
    /// Whether that is new.
    pub changed: bool,
}

/// What renaming a twin did, or would do.
#[derive(Clone, Debug, Serialize)]
pub struct RenameOutcome {
    /// The name before.
    pub before: TwinName,
    /// The name now.
    pub name: TwinName,
    /// Its folder.
    pub folder: PathBuf,
    /// Where its folder was, if that was moved: absolute paths inside the twin that lead there are broken now.
    pub moved_from: Option<PathBuf>,
    /// Launch entries that show the new name; they start the same twin.
    pub entries: Vec<PathBuf>,
}

impl Yard {
    /// Protects a twin, or takes the protection off: as long as it is on, every operation that would change game files
    /// outside belongings, live paths and the home is refused. What changes them in other ways is shown by
    /// [`Yard::twin_details`]. With `dry_run`, only looks.
    ///
    /// # Errors
    /// [`Error::NotFound`], [`Error::Busy`] while it runs.
    pub fn protect_twin(&self, name: &TwinName, on: bool, dry_run: bool, ctx: &Ctx) -> Result<ProtectOutcome> {
        let row = self.twin_row(name, false)?;
        let changed = row.protected.is_some() != on;
        if changed && !dry_run {
            self.settle(&row, ctx)?;
            let state = self.twin_row(name, false)?.state;
            self.catalog.protect_twin(row.id, on.then_some(state))?;
        }
        Ok(ProtectOutcome { name: row.name, protected: on, changed })
    }

    /// What changed in the game files of a protected twin since it was protected.
    pub(crate) fn changed_though_protected(&self, row: &TwinRow, now: &crate::Listing) -> Result<Option<Counts>> {
        let Some(since) = row.protected else { return Ok(None) };
        let then = self.state(since)?;
        let sheet = self.sheet(&then.build.title)?;
        Ok(Some(counts(&self.listing(then.disk)?, now, &Own(sheet.as_ref())).0))
    }

    /// Gives a twin another name. Its folder, its id and what its launch entries start stay; with `move_folder` the folder
    /// gets the new name too. With `dry_run`, only looks.
    ///
    /// A crash leaves the twin with the old name or the new one.
    ///
    /// # Errors
    /// [`Error::NotFound`], [`Error::Exists`], [`TwinError::FolderInTheWay`], [`Error::Busy`] while it runs.
    pub fn rename_twin(
        &self,
        name: &TwinName,
        new: &TwinName,
        move_folder: bool,
        dry_run: bool,
        ctx: &Ctx,
    ) -> Result<RenameOutcome> {
        let row = self.twin_row(name, false)?;
        let _held = self.hold_twin(&row, ctx)?;
        let alone = self.alone(ctx)?;
        if name.key() != new.key() {
            self.check_free(new)?;
        }
        let folder = self.present_folder(&row)?;
        let new_folder = if move_folder { self.folder_for(new, &row)? } else { row.folder.clone() };
        let to = self.twins_folder().join(&new_folder);
        let mut outcome = RenameOutcome {
            before: row.name.clone(),
            name: new.clone(),
            moved_from: (to != folder).then(|| folder.clone()),
            folder: to.clone(),
            entries: Vec::new(),
        };
        if !dry_run {
            let intent = self.catalog.intend(&Intent::Rename {
                twin: row.id,
                name: new.clone(),
                folder: row.folder.clone(),
                new_folder: new_folder.clone(),
            })?;
            if to != folder {
                if let Err(error) = disk::rename_new(&folder, &to) {
                    self.catalog.intent_done(intent)?;
                    return Err(Error::io("rename", folder, error));
                }
                disk::sync_rename(&folder, &to)?;
            }
            self.catalog.together(|| {
                self.catalog.rename_twin(row.id, new, &new_folder)?;
                self.catalog.intent_done(intent)
            })?;
        }
        drop(alone);
        outcome.entries = self.rename_entries(&row, new, dry_run)?;
        Ok(outcome)
    }

    /// The folder that a twin gets with a new name: its own where that folds to the same.
    fn folder_for(&self, new: &TwinName, row: &TwinRow) -> Result<String> {
        if new.key() == crate::path::fold_key(&row.folder) {
            let path = self.twins_folder().join(new.as_str());
            let taken = disk::exists(&path) && crate::yard::folder_id(&path) != Some(row.id);
            return if taken { Err(TwinError::FolderInTheWay(path).into()) } else { Ok(new.to_string()) };
        }
        self.free_folder(new)
    }
}
