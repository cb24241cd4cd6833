//! Things that the player has a part in stay as they are, as a whole: a world of two builds is none.

use std::collections::HashSet;

use crate::error::Result;
use crate::listing::{Entry, Listing, Node};
use crate::path::{RelPath, at_and_above};
use crate::sheet::Sheet;

/// The things of which at least one file is not as it was laid.
pub(crate) struct Wholes<'a> {
    sheet: Option<&'a Sheet>,
    own: HashSet<String>,
    /// The folders that they are in: most paths are in none of these, and asked no further.
    folders: HashSet<String>,
}

impl<'a> Wholes<'a> {
    pub(crate) fn of(there: &Listing, laid: &Listing, sheet: Option<&'a Sheet>) -> Self {
        let mut wholes = Self { sheet, own: HashSet::new(), folders: HashSet::new() };
        if sheet.is_some() {
            let is_own = |entry: &&Entry| {
                entry.node != Node::EmptyFolder
                    && laid.get(entry.path.as_str()).is_none_or(|laid| laid.node != entry.node)
            };
            let own = there.entries().iter().filter(is_own).filter_map(|entry| wholes.thing(&entry.path));
            wholes.own = own.map(str::to_owned).collect();
            let folder = |thing: &String| thing.rsplit_once('/').map(|(folder, _)| folder.to_owned());
            wholes.folders = wholes.own.iter().filter_map(folder).collect();
        }
        wholes
    }

    /// The thing that a path is a part of.
    fn thing<'p>(&self, path: &'p RelPath) -> Option<&'p str> {
        let sheet = self.sheet?;
        sheet.group_of(path).map(|group| sheet.unit_of(path, Some(group)))
    }

    /// Whether a path is a part of one.
    pub(crate) fn has(&self, path: &RelPath) -> bool {
        at_and_above(path.as_str()).skip(1).any(|folder| self.folders.contains(folder))
            && self.thing(path).is_some_and(|thing| self.own.contains(thing))
    }

    /// What is wanted, but for these things: they are as they are there. `None` if there are none.
    ///
    /// # Errors
    /// None that a listing can give cause to.
    pub(crate) fn kept_in(&self, wanted: &Listing, there: &Listing) -> Result<Option<Listing>> {
        if self.own.is_empty() {
            return Ok(None);
        }
        let wanted = wanted.entries().iter().filter(|entry| !self.has(&entry.path));
        let mut entries: Vec<Entry> =
            wanted.chain(there.entries().iter().filter(|entry| self.has(&entry.path))).cloned().collect();
        entries.sort_by(|a, b| a.path.cmp(&b.path));
        Listing::with_folders_implied(entries).map(Some)
    }
}
