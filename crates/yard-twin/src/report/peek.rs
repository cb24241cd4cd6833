//! The sides of a comparison as they are: a twin is looked at, and nothing is taken in.

use std::path::PathBuf;

use super::compare::Compared;
use crate::Yard;
use crate::catalog::TwinRow;
use crate::error::Result;
use crate::ident::StateId;
use crate::listing::Listing;
use crate::progress::Ctx;
use crate::scan::Doubt;
use crate::sheet::Sheet;
use crate::twin::Twin;
use crate::twin::look::{Glance, Stage, Still, Want, look_only};

/// A twin that was looked at, and nothing was taken in.
pub(super) struct Peeked {
    pub(super) looked: Looked,
    /// Its last state, and what it held then.
    pub(super) state: StateId,
    pub(super) before: Listing,
}

/// A side that was looked at.
pub(super) struct Looked {
    pub(super) compared: Compared,
    pub(super) listing: Listing,
    pub(super) sheet: Option<Sheet>,
    pub(super) not_taken: Vec<String>,
}

/// What a look at a twin gives since its last state.
pub(super) enum Since {
    /// Everything is as it was then; what that is need not be read.
    Still(Compared, Still),
    Seen(Box<Peeked>),
}

pub(super) fn look_since(yard: &Yard, row: &TwinRow, ctx: &Ctx) -> Result<Since> {
    if row.removed_at.is_some() {
        return peek(yard, row, ctx).map(Box::new).map(Since::Seen);
    }
    let (twin, folder) = whole(yard, row, ctx)?;
    let glance = Glance::at(yard, &twin.row, &folder, None, Want::Nothing, ctx)?;
    match glance.as_ref().and_then(Glance::still) {
        Some((_, still)) if twin.row.state == row.state => Ok(Since::Still(now(row, folder.clone()), still)),
        _ => look_closer(yard, &twin, glance, ctx).map(Box::new).map(Since::Seen),
    }
}

/// A twin by its last state.
pub(super) fn as_recorded(yard: &Yard, row: &TwinRow, in_use: bool) -> Result<Looked> {
    let state = yard.store.state(row.state)?;
    let compared = Compared { name: row.name.to_string(), at: row.removed_at, in_use, folder: None };
    let (listing, sheet) = (yard.store.listing(state.disk)?, yard.sheet_of(&state.build)?);
    Ok(Looked { compared, listing, sheet, not_taken: Vec::new() })
}

/// Looks at a twin as it is now, and takes nothing in. Only what a command that died left half done is finished first.
pub(super) fn peek(yard: &Yard, row: &TwinRow, ctx: &Ctx) -> Result<Peeked> {
    if row.removed_at.is_some() {
        let looked = as_recorded(yard, row, false)?;
        return Ok(Peeked { state: row.state, before: looked.listing.clone(), looked });
    }
    let (twin, folder) = whole(yard, row, ctx)?;
    let glance = Glance::at(yard, &twin.row, &folder, None, Want::Listing, ctx)?;
    look_closer(yard, &twin, glance, ctx)
}

/// Holds a twin, with what a command that died left half done being finished.
fn whole(yard: &Yard, row: &TwinRow, ctx: &Ctx) -> Result<(Twin, PathBuf)> {
    let mut twin = Twin::hold(yard, row, ctx)?;
    twin.make_whole(ctx)?;
    let folder = twin.folder()?;
    Ok((twin, folder))
}

fn look_closer(yard: &Yard, twin: &Twin, glance: Option<Glance<'_>>, ctx: &Ctx) -> Result<Peeked> {
    let (row, folder, op) = (&twin.row, twin.folder()?, yard.begin(ctx)?);
    let stage = Stage { op: &op, putter: None };
    let mut look = match glance {
        Some(glance) => glance.look(yard, row, stage, ctx)?,
        None => look_only(yard, row, &folder, stage, Doubt::Nothing, ctx)?,
    };
    let rows = look.keep_index(yard, &folder, &op)?;
    let not_taken = std::mem::take(&mut look.found.not_taken);
    let before = look.before.clone();
    let (listing, _) = look.found.merged(look.before, rows)?;
    let compared = now(row, folder);
    Ok(Peeked { looked: Looked { compared, listing, sheet: look.sheet, not_taken }, state: row.state, before })
}

/// A twin as it is now.
fn now(row: &TwinRow, folder: PathBuf) -> Compared {
    Compared { name: row.name.to_string(), at: None, in_use: false, folder: Some(folder) }
}
