//! What a tool has left in a twin.

use serde::Serialize;

use super::picture::{Top, picture};
use crate::Yard;
use crate::error::Result;
use crate::ident::{SnapshotRef, TwinName};
use crate::listing::{Change, Node, diff};
use crate::path::RelPath;
use crate::progress::Ctx;
use crate::twin::planned;

/// What differs in a twin since a tool was started in it.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct LeftByTool {
    /// The top of the game folder.
    pub top: Vec<Top>,
    /// Programs that are new.
    pub programs: Vec<RelPath>,
}

/// Looks at what has changed in a twin's game folder since a state of its history.
///
/// # Errors
/// [`crate::Error::NotFound`], [`crate::Error::Busy`].
pub fn left_by_tool(yard: &Yard, name: &TwinName, since: u32, ctx: &Ctx) -> Result<LeftByTool> {
    let (row, settled) = planned::see(yard, &yard.twin_row(name, false)?, ctx)?;
    let before = yard.find_entry(&row, &SnapshotRef::Number(since))?;
    let before = yard.store.listing(yard.store.state(before.state)?.disk)?;
    let new = diff(&before, &settled.listing).filter_map(|change| match change {
        Change::New(entry) if entry.path.as_str().starts_with("game/") => Some(entry),
        _ => None,
    });
    let programs = new.filter(|entry| matches!(entry.node, Node::File { executable: true, .. }));
    Ok(LeftByTool {
        programs: programs.map(|entry| entry.path.clone()).collect(),
        top: picture(&before, &settled.listing, &[]),
    })
}
