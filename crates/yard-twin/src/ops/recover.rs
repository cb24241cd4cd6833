//! Recovery: what a command that is no more has left half done is finished or undone.

use std::fs;

use crate::Yard;
use crate::catalog::Intent;
use crate::disk;
use crate::error::{PathContext, Result};
use crate::ident::TwinId;
use crate::lock::{self, Mode};
use crate::progress::Ctx;
use crate::yard::{OpFolder, folder_id};

impl Yard {
    /// Finishes or undoes what commands left half done that are no more, and says what that was.
    pub(crate) fn recover(&self) -> Result<Vec<String>> {
        let mut recovered = Vec::new();
        let tmp = self.root().join("tmp");
        let idle = fs::read_dir(&tmp).at("list", &tmp)?.next().is_none();
        if idle && self.catalog.intents()?.is_empty() {
            return Ok(recovered);
        }
        // Whoever is at work now holds the yard or will look again later.
        let Some(held) = lock::try_take(&self.root().join("locks/yard"), Mode::Alone)? else { return Ok(recovered) };
        for (id, intent) in self.catalog.intents()? {
            if !matches!(intent, Intent::Change { .. }) {
                tracing::info!(?intent, "a command died here: it is finished or undone");
                self.catalog.together(|| self.finish_intent(id, &intent))?;
                recovered.push(intent.doing());
            }
        }
        let (mut changes, mut stages) = (Vec::new(), Vec::new());
        for (id, intent) in self.catalog.intents()? {
            let Intent::Change { twin, stage, .. } = intent else { continue };
            match self.catalog.twin(twin)?.filter(|row| row.removed_at.is_none()) {
                Some(row) => {
                    changes.push(row);
                    stages.push(tmp.join(stage));
                }
                None => self.catalog.intent_done(id)?,
            }
        }
        for entry in fs::read_dir(&tmp).at("list", &tmp)? {
            let path = entry.at("list", &tmp)?.path();
            if !stages.contains(&path) {
                let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
                recovered.extend(OpFolder::remove_if_left(&path)?.then(|| format!("tmp/{name}")));
            }
        }
        drop(held);
        for row in changes {
            // One that is held is being changed just now, or running.
            let Some(held) = lock::try_take(&self.twin_lock_path(row.id), Mode::Alone)? else { continue };
            match self.finish_change(&row, &held, &Ctx::default()) {
                Ok(()) => recovered.push(format!("a change of {}", row.name)),
                // Commands on this twin will say so; the others are not kept from their work.
                Err(error) => tracing::info!(twin = %row.name, %error, "could not be finished yet"),
            }
        }
        Ok(recovered)
    }

    /// Takes an intended step to its end if it was begun, else leaves things as they were.
    fn finish_intent(&self, id: i64, intent: &Intent) -> Result<()> {
        match intent {
            // The rename is the step: where the folder is there, the twin is, and its user may be in it already.
            Intent::Clone { twin } => {
                let folder = self.twins_folder().join(&twin.folder);
                if folder_id(&folder) == Some(twin.id) {
                    self.catalog.add_twin(twin)?;
                }
            }
            Intent::Remove { twin, folder, removed_folder } => {
                let moved = disk::exists(&self.removed_folder().join(removed_folder));
                if moved && !disk::exists(&self.twins_folder().join(folder)) {
                    self.catalog.mark_removed(*twin, removed_folder, jiff::Timestamp::now())?;
                }
            }
            Intent::Forget { twin } => self.forget(*twin)?,
            Intent::Rename { twin, name, folder, new_folder, mend } => {
                let [old, new] = [folder, new_folder].map(|folder| self.twins_folder().join(folder));
                if folder == new_folder || (folder_id(&new) == Some(*twin) && !disk::exists(&old)) {
                    return self.renamed(id, *twin, name, new_folder, mend.as_ref());
                }
            }
            Intent::Change { .. } => return Ok(()),
        }
        self.catalog.intent_done(id)
    }

    /// Deletes a twin's folder and its record.
    pub(crate) fn forget(&self, twin: TwinId) -> Result<()> {
        if let Some(row) = self.catalog.twin(twin)? {
            let folder = self.folder_of(&row);
            disk::remove_tree(&folder)?;
            folder.parent().map_or(Ok(()), disk::sync_folder)?;
            self.catalog.delete_twin(twin)?;
            self.drop_twin_lock(twin);
        }
        Ok(())
    }
}
