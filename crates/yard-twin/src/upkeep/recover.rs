//! Recovery: what a command that is no more has left half done is finished or undone.
//!
//! What can't be is no reason for the rest of the yard not to work: it is named, and only the twin that it is about is
//! kept from changes.

use std::fs;

use crate::Yard;
use crate::catalog::Intent;
use crate::disk;
use crate::disk::lock::{self, Mode};
use crate::disk::op_folder::OpFolder;
use crate::error::{PathContext, Result};
use crate::progress::Ctx;
use crate::store::pool::Ledger;
use crate::yard::folder_id;
use crate::yard::recovered::Recovered;

impl Yard {
    /// Finishes or undoes what commands left half done that are no more, as far as that is possible.
    pub(crate) fn recover(&self, ctx: &Ctx) -> Result<Recovered> {
        let mut recovered = Recovered::default();
        let tmp = self.root().join("tmp");
        let idle = fs::read_dir(&tmp).at("list", &tmp)?.next().is_none();
        if idle && self.catalog.intents()?.is_empty() {
            return Ok(recovered);
        }
        // Whoever is at work now holds the yard or will look again later.
        let Some(held) = lock::try_take(&self.lock_path(), Mode::Alone)? else { return Ok(recovered) };
        for (id, intent) in self.catalog.intents()? {
            ctx.check()?;
            if !matches!(intent, Intent::Change { .. }) {
                tracing::info!(?intent, "a command died here: it is finished or undone");
                let came = self.catalog.together(|| self.finish_intent(id, &intent)).map(|()| true);
                recovered.note(intent.doing(), intent.twin(), came)?;
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
            ctx.check()?;
            let path = entry.at("list", &tmp)?.path();
            if !stages.contains(&path) {
                let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
                recovered.note(format!("tmp/{name}"), None, OpFolder::remove_if_left(&path))?;
            }
        }
        drop(held);
        for row in changes {
            // One that is held is being changed just now, or running.
            let Some(held) = self.try_hold_twin(&row)? else { continue };
            let came = self.finish_change(&row, &held, ctx).map(|()| true);
            recovered.note(format!("a change of {}", row.name), Some(row.id), came)?;
        }
        Ok(recovered)
    }

    /// Finishes or undoes what others intended who held the yard alone, by one who holds it so now.
    pub(crate) fn finish_for_the_dead(&self) -> Result<()> {
        for (id, intent) in self.catalog.intents()? {
            if matches!(intent, Intent::Change { .. }) {
                // The twin's own commands finish it, who hold the twin.
                continue;
            }
            if let Err(error) = self.catalog.together(|| self.finish_intent(id, &intent)) {
                // It is named when the yard is opened again.
                tracing::info!(?intent, %error, "could not be finished yet");
            }
        }
        Ok(())
    }

    /// Takes an intended step to its end if it was begun, else leaves things as they were.
    fn finish_intent(&self, id: i64, intent: &Intent) -> Result<()> {
        match intent {
            // The rename is the step: where the folder is there, the twin is, and its user may be in it already.
            Intent::Clone { twin } => {
                let folder = self.twins_folder().join(&twin.folder);
                if folder_id(&folder)? == Some(twin.id) {
                    self.catalog.add_twin(twin)?;
                }
            }
            Intent::Remove { twin, folder, removed_folder } => {
                let moved = disk::exists(&self.removed_folder().join(removed_folder));
                if moved && !disk::exists(&self.twins_folder().join(folder)) {
                    self.catalog.mark_removed(*twin, removed_folder, jiff::Timestamp::now())?;
                }
            }
            Intent::Forget { twin } => {
                if let Some(row) = self.catalog.twin(*twin)? {
                    let op = self.op_folder()?;
                    let ledger = Ledger::load(&self.store.pool)?;
                    self.forget(&row, &op, &ledger)?;
                    ledger.save(op.path())?;
                }
            }
            Intent::Rename { twin, name, folder, new_folder, mend } => {
                let [old, new] = [folder, new_folder].map(|folder| self.twins_folder().join(folder));
                if folder == new_folder || (folder_id(&new)? == Some(*twin) && !disk::exists(&old)) {
                    return self.renamed(id, *twin, name, new_folder, mend.as_ref());
                }
            }
            Intent::Change { .. } => return Ok(()),
        }
        self.catalog.intent_done(id)
    }
}
