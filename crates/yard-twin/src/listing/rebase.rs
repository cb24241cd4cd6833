//! Rebase: another listing is wanted below a player's own changes.
//!
//! The changes are never stored. They are what differs between what was laid and what is there now, path by path.

use serde::Serialize;

use super::layer::{at, pairs};
use super::{Entry, Listing};
use crate::error::Result;
use crate::path::RelPath;

/// Why a path is named.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Reason {
    /// What was there gives way, since this path is not kept.
    Replaced,
    /// It was gone, and comes back.
    Back,
    /// Both the player and what is wanted changed it: what is there stays.
    Clash,
}

/// A path at which a rebase did not simply take what is wanted, or keep what is there.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Named {
    /// The path.
    pub path: RelPath,
    /// Why it is named.
    pub reason: Reason,
}

/// What a rebase comes to.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Rebased {
    /// What should be there.
    pub listing: Listing,
    /// What is worth a word, in the order of the paths.
    pub named: Vec<Named>,
}

/// What should be there where `laid` was laid, `there` is there now, and `next` is wanted. `keep` says at which paths a
/// player's own change is kept; everywhere else `next` holds.
///
/// Per path, the first of these that applies: nobody changed it, or it is as wanted already: `next`; not to be kept:
/// `next`; nothing else is wanted: what is there; it is gone: `next`; else what is there stays, a clash.
///
/// # Errors
/// [`crate::Error::Obstructed`] if a file of the one would stand where the other has a folder.
pub fn rebase(laid: &Listing, there: &Listing, next: &Listing, keep: impl Fn(&RelPath) -> bool) -> Result<Rebased> {
    let mut was = laid.entries().iter().peekable();
    let mut entries = Vec::with_capacity(there.entries().len().max(next.entries().len()));
    let mut named = Vec::new();
    for (is, wanted) in pairs(there.entries(), next.entries()) {
        let Some(path) = is.or(wanted).map(|entry| &entry.path) else { continue };
        let (take, reason) = decide(at(&mut was, path), is, wanted, || keep(path));
        entries.extend(take.cloned());
        named.extend(reason.map(|reason| Named { path: path.clone(), reason }));
    }
    named.shrink_to_fit();
    Ok(Rebased { listing: Listing::with_folders_implied(entries)?, named })
}

/// The six rules at one path.
fn decide<'a>(
    was: Option<&'a Entry>,
    is: Option<&'a Entry>,
    wanted: Option<&'a Entry>,
    keep: impl FnOnce() -> bool,
) -> (Option<&'a Entry>, Option<Reason>) {
    let node = |entry: Option<&'a Entry>| entry.map(|entry| &entry.node);
    if node(is) == node(wanted) {
        // The time of what is there: it is not touched.
        return (is, None);
    }
    if node(is) == node(was) {
        return (wanted, None);
    }
    let back = if is.is_none() { Reason::Back } else { Reason::Replaced };
    if !keep() {
        return (wanted, Some(back));
    }
    if node(wanted) == node(was) {
        return (is, None);
    }
    match is {
        None => (wanted, Some(Reason::Back)),
        Some(_) => (is, Some(Reason::Clash)),
    }
}
