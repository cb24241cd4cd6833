//! What protects a twin's game files, and what is the player's own and is not protected.

use crate::Yard;
use crate::catalog::{Counts, TwinRow};
use crate::combine::Draft;
use crate::error::{Result, TwinError};
use crate::ident::BuildRef;
use crate::listing::Listing;
use crate::store::state::State;
use crate::twin::settle::PlayersOwn;

/// An error if a draft would change game files of a protected twin, by what it lays or by what it has made.
pub(crate) fn check_protected(yard: &Yard, row: &TwinRow, there: &Listing, draft: &Draft, to: &State) -> Result<()> {
    if row.protected.is_none() {
        return Ok(());
    }
    let sheet = yard.sheet_of(&to.build)?;
    let own = PlayersOwn(sheet.as_ref());
    let made = draft.derived.iter().any(|derive| !own.holds(&derive.of.path));
    if made || own.counts(there, &draft.base).0.total() > 0 {
        return Err(TwinError::Protected(row.name.to_string()).into());
    }
    Ok(())
}

/// Whether the sheet of a build's title says of nothing in the game folder that it is the player's own.
pub(crate) fn knows_nothing_own(yard: &Yard, build: &BuildRef) -> Result<bool> {
    let sheet = yard.sheet_of(build)?;
    Ok(sheet.is_none_or(|sheet| sheet.belongings.is_empty() && sheet.written().is_empty()))
}

/// What changed in the game files of a protected twin since it was protected.
pub(crate) fn changed_though_protected(yard: &Yard, row: &TwinRow, now: &Listing) -> Result<Option<Counts>> {
    let Some(since) = row.protected else { return Ok(None) };
    let then = yard.store.state(since)?;
    let sheet = yard.sheet_of(&then.build)?;
    Ok(Some(PlayersOwn(sheet.as_ref()).counts(&yard.store.listing(then.disk)?, now).0))
}
