//! What was intended and is one step: taken to its end, or taken back.

use crate::Yard;
use crate::catalog::{Intent, Mend, What};
use crate::disk;
use crate::error::Result;
use crate::ident::{TwinId, TwinName};
use crate::store::pool::Ledger;
use crate::yard::folder_id;
use crate::yard::forget::forget;
use crate::yard::moved;

/// Finishes or undoes the intents of dead commands. The caller holds the yard's exclusive lock.
pub(crate) fn finish_for_the_dead(yard: &Yard) -> Result<()> {
    for (id, intent) in yard.catalog.intents()? {
        if matches!(intent, Intent::Change { .. }) {
            // The twin's own commands finish it, who hold the twin.
            continue;
        }
        if let Err(error) = yard.catalog.together(|| finish_intent(yard, id, &intent)) {
            // It is named when the yard is opened again.
            tracing::info!(?intent, %error, "could not be finished yet");
        }
    }
    Ok(())
}

/// Takes an intended step to its end if it was begun, else leaves things as they were.
pub(crate) fn finish_intent(yard: &Yard, id: i64, intent: &Intent) -> Result<()> {
    match intent {
        // The rename is the step: where the folder is there, the twin is, and its user may be in it already.
        Intent::Clone { twin } => {
            let folder = yard.twins_folder().join(&twin.folder);
            if folder_id(&folder)? == Some(twin.id) {
                yard.catalog.add_twin(twin)?;
            }
        }
        Intent::Remove { twin, folder, removed_folder } => {
            let moved = disk::exists(&yard.removed_folder().join(removed_folder));
            if moved && !disk::exists(&yard.twins_folder().join(folder)) {
                yard.catalog.mark_removed(*twin, removed_folder, jiff::Timestamp::now())?;
            }
        }
        Intent::BringBack { twin, name, folder } => {
            if folder_id(&yard.twins_folder().join(folder))? == Some(*twin) {
                brought_back(yard, *twin, name, folder)?;
            }
        }
        Intent::Forget { twin } => {
            if let Some(row) = yard.catalog.twin(*twin)? {
                let op = yard.op_folder()?;
                let ledger = Ledger::load(&yard.store.pool)?;
                forget(yard, &row, &op, &ledger, 1)?;
                ledger.save(op.path())?;
            }
        }
        Intent::Rename { twin, name, folder, new_folder, mend } => {
            let [old, new] = [folder, new_folder].map(|folder| yard.twins_folder().join(folder));
            if folder == new_folder || (folder_id(&new)? == Some(*twin) && !disk::exists(&old)) {
                return renamed(yard, id, *twin, name, new_folder, mend.as_ref());
            }
        }
        Intent::Move { stage, build, listing } => {
            let row = yard.catalog.stock(build)?.filter(|row| row.removed_at.is_none());
            let committed = row.is_some_and(|row| row.listing == *listing);
            moved::finish(yard, &yard.root().join("tmp").join(stage), committed)?;
        }
        Intent::Change { .. } => return Ok(()),
    }
    yard.catalog.intent_done(id)
}

/// Records that a removed twin is back.
pub(crate) fn brought_back(yard: &Yard, twin: TwinId, name: &TwinName, folder: &str) -> Result<()> {
    if let Some(row) = yard.catalog.twin(twin)?.filter(|row| row.folder_before_removal() != folder) {
        yard.catalog.add_former_folder(twin, row.folder_before_removal())?;
    }
    yard.catalog.rename_twin(twin, name, folder)?;
    yard.catalog.mark_back(twin)
}

/// Records a rename that is done; mending, if there is any, is intended in the same instant.
pub(crate) fn renamed(
    yard: &Yard,
    intent: i64,
    twin: TwinId,
    name: &TwinName,
    folder: &str,
    mend: Option<&Mend>,
) -> Result<()> {
    if let Some(row) = yard.catalog.twin(twin)?.filter(|row| row.folder != folder) {
        yard.catalog.add_former_folder(twin, &row.folder)?;
    }
    yard.catalog.rename_twin(twin, name, folder)?;
    let Some(&Mend { from, to }) = mend else { return yard.catalog.intent_done(intent) };
    // Nothing is staged yet: finishing the change stages it.
    let change = Intent::Change { twin, from, to, stage: "none".into(), what: Some(What::Mended) };
    yard.catalog.replace_intent(intent, &change)
}
