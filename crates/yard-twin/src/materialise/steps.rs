//! The steps that make a folder with one listing into a folder with another: pure, by their differences.

use std::collections::BTreeSet;

use serde::Serialize;

use crate::listing::{Change, Entry, Listing, Node, diff};
use crate::path::{RelPath, at_and_above};

/// What is done at a path.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Doing {
    /// A file or symlink goes.
    Remove,
    /// A folder that has nothing left in it goes.
    RemoveFolder,
    /// A folder is made.
    MakeFolder,
    /// A file or symlink comes where nothing was.
    Put,
    /// A file or symlink takes the place of another.
    Replace,
}

/// One step of a change of a folder.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Step {
    /// Where.
    pub path: RelPath,
    /// What is done there.
    pub doing: Doing,
}

impl Step {
    /// Whether a file or symlink comes by it.
    pub(crate) fn comes(&self) -> bool {
        matches!(self.doing, Doing::Put | Doing::Replace)
    }
}

/// The steps from `there` to `next`, in the order in which they can be done: what goes, folders from below, folders that
/// come from above, what comes. What is as it should be takes no step.
#[must_use]
pub fn steps(there: &Listing, next: &Listing) -> Vec<Step> {
    let solid = |entry: &Entry| entry.node != Node::EmptyFolder;
    let (mut remove, mut put) = (Vec::new(), Vec::new());
    let (mut fewer, mut more) = (Folders::default(), Folders::default());
    for change in diff(there, next) {
        let (before, after) = match change {
            Change::New(after) => (None, Some(after)),
            Change::Gone(before) => (Some(before), None),
            Change::Changed { before, after } => (Some(before), Some(after)),
        };
        let (was, is) = (before.filter(|entry| solid(entry)), after.filter(|entry| solid(entry)));
        match (was, is) {
            (Some(_), Some(after)) => put.push(Step { path: after.path.clone(), doing: Doing::Replace }),
            (Some(before), None) => remove.push(Step { path: before.path.clone(), doing: Doing::Remove }),
            (None, Some(after)) => put.push(Step { path: after.path.clone(), doing: Doing::Put }),
            (None, None) => {}
        }
        fewer.add(before);
        more.add(after);
    }
    // A folder stays as long as anything is in it.
    let step = |path: &RelPath, doing| Step { path: path.clone(), doing };
    let gone = fewer.0.iter().rev().filter(|path| !is_folder(next, path)).map(|path| step(path, Doing::RemoveFolder));
    let made = more.0.iter().filter(|path| !is_folder(there, path)).map(|path| step(path, Doing::MakeFolder));
    remove.into_iter().chain(gone).chain(made).chain(put).collect()
}

/// Whether a listing has a folder at a path.
fn is_folder(listing: &Listing, path: &RelPath) -> bool {
    let range = listing.range(path.as_str());
    listing.entries()[range].first().is_some_and(|first| first.path != *path || first.node == Node::EmptyFolder)
}

/// The folders that entries need, below `game` and `home`, in the order of their paths.
#[derive(Default)]
struct Folders(BTreeSet<RelPath>);

impl Folders {
    fn add(&mut self, entry: Option<&Entry>) {
        let folder = entry.and_then(|entry| match entry.node {
            Node::EmptyFolder => Some(entry.path.as_str()),
            _ => entry.path.parent(),
        });
        for path in folder.into_iter().flat_map(at_and_above) {
            // Where one is known, those above it are.
            let known = !path.contains('/') || self.0.contains(path);
            match RelPath::new(path) {
                Ok(path) if !known => self.0.insert(path),
                _ => break,
            };
        }
    }
}
