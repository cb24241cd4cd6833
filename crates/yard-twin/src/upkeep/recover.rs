//! Recovery: finishes or undoes what a dead command left half done.
//!
//! What can't be is no reason for the rest of the yard not to work: it is named, and only the twin that it is about is
//! kept from changes.

use std::fs;

use crate::Yard;
use crate::catalog::Intent;
use crate::disk::lock::{self, Mode};
use crate::disk::op_folder::OpFolder;
use crate::error::{PathContext, Result};
use crate::progress::Ctx;
use crate::twin::Twin;
use crate::yard::intents;
use crate::yard::moved;
use crate::yard::recovered::Recovered;

/// Finishes or undoes what commands left half done that are no more, as far as that is possible.
pub(crate) fn recover(yard: &Yard, ctx: &Ctx) -> Result<Recovered> {
    let mut recovered = Recovered::default();
    let tmp = yard.root().join("tmp");
    let idle = fs::read_dir(&tmp).at("list", &tmp)?.next().is_none();
    if idle && yard.catalog.intents()?.is_empty() {
        return Ok(recovered);
    }
    // Lock busy: the holder runs recovery next time.
    let Some(held) = lock::try_take(&yard.lock_path(), Mode::Alone)? else { return Ok(recovered) };
    for (id, intent) in yard.catalog.intents()? {
        ctx.check()?;
        if !matches!(intent, Intent::Change { .. }) {
            tracing::info!(?intent, "a command died here: it is finished or undone");
            let came = yard.catalog.together(|| intents::finish_intent(yard, id, &intent)).map(|()| true);
            recovered.note(intent.doing(), intent.twin(), came)?;
        }
    }
    let (mut changes, mut stages) = (Vec::new(), Vec::new());
    for (id, intent) in yard.catalog.intents()? {
        let Intent::Change { twin, stage, .. } = intent else { continue };
        match yard.catalog.twin(twin)?.filter(|row| row.removed_at.is_none()) {
            Some(row) => {
                changes.push(row);
                stages.push(tmp.join(stage));
            }
            None => yard.catalog.intent_done(id)?,
        }
    }
    for entry in fs::read_dir(&tmp).at("list", &tmp)? {
        ctx.check()?;
        let path = entry.at("list", &tmp)?.path();
        if !stages.contains(&path) {
            let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
            recovered.note(format!("tmp/{name}"), None, OpFolder::remove_if_left(&path, moved::put_modes_back))?;
        }
    }
    drop(held);
    for row in changes {
        // Lock busy: the twin is being changed just now, or is running.
        let Some(mut twin) = Twin::try_hold(yard, &row)? else { continue };
        let came = twin.finish_change(ctx).map(|()| true);
        recovered.note(format!("a change of {}", row.name), Some(row.id), came)?;
    }
    Ok(recovered)
}
