//! Room on the yard's disk: what something needs of it, said before minutes of work.

use serde::Serialize;

use crate::Yard;
use crate::disk;
use crate::error::{Error, PathContext, Result};
use crate::listing::{Entry, Listing, Node};
use crate::materialise::steps;
use crate::progress::Ctx;
use crate::sheet::PathSet;
use crate::store::pool::{Policy, Share};
use crate::store::state::State;

/// How much room on the yard's disk something needs at most, and how much is free, in bytes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Room {
    /// What it needs at most, beside the yard's records.
    pub needs: u64,
    /// What is free for this user.
    pub free: u64,
}

/// Smaller files are taken by their size.
const MAY_HAVE_HOLES: u64 = 4 << 20;

/// The room that something needs which takes so many bytes.
pub(crate) fn room(yard: &Yard, needs: u64) -> Result<Room> {
    let stat = rustix::fs::statvfs(yard.root()).at("look at", yard.root())?;
    Ok(Room { needs, free: stat.f_bavail.saturating_mul(stat.f_frsize) })
}

/// The room that it takes to make a folder with one listing into one with another.
pub(crate) fn room_between(yard: &Yard, there: &Listing, next: &Listing, state: &State, ctx: &Ctx) -> Result<Room> {
    let sheet = yard.sheet_of(&state.build)?;
    let nothing = PathSet::default();
    let written = sheet.as_ref().map_or(&nothing, |sheet| sheet.written());
    let policy = Policy::new(state.sharing, yard.facts(ctx)?, next, written).with_own(&state.written, &state.private);
    let steps = steps(there, next);
    let mut next = next.finder();
    let coming = steps.iter().filter(|step| step.comes()).filter_map(|step| next.find(step.path.as_str()));
    room(yard, taken_by(yard, coming.map(|entry| (entry, policy.way(entry)))))
}

/// Bytes on disk that entries take which are laid, each in its way: those of copies.
pub(crate) fn taken_by<'a>(yard: &Yard, entries: impl Iterator<Item = (&'a Entry, Share)>) -> u64 {
    let copied = entries.filter(|(entry, way)| matches!(entry.node, Node::File { .. }) && *way == Share::Copy);
    copied.map(|(entry, _)| size_on_disk(yard, entry)).sum()
}

/// A file with holes takes less than its size.
fn size_on_disk(yard: &Yard, entry: &Entry) -> u64 {
    let size = entry.node.size();
    if size < MAY_HAVE_HOLES {
        return size;
    }
    let pooled = entry.node.content().and_then(|content| disk::lstat(&yard.store.pool.path(content)).ok());
    pooled.map_or(size, |stat| stat.allocated.min(size))
}

/// An error if there is less room than the records of a change may take: its end must not fail once a folder has changed.
pub(crate) fn check_records(yard: &Yard) -> Result<()> {
    /// Some pages of the catalogue and its log, and a listing of what others wrote meanwhile.
    const RECORDS: u64 = 512 << 10;
    enough(yard, room(yard, RECORDS)?)
}

fn enough(yard: &Yard, Room { needs, free }: Room) -> Result<()> {
    if needs > free { Err(Error::NoRoom { path: yard.root().into(), needs, free }) } else { Ok(()) }
}

/// An error if there is less room than entries take which are to be laid, each in its way.
pub(crate) fn check_room<'a>(yard: &Yard, entries: impl Iterator<Item = (&'a Entry, Share)>) -> Result<()> {
    enough(yard, room(yard, taken_by(yard, entries))?)
}
