//! What was written for a mod goes aside with it: else a left-over settings file would keep half of it alive.

use std::collections::BTreeSet;

use super::Scene;
use crate::Yard;
use crate::error::{Error, Result};
use crate::listing::{Entry, Layer, Listing, Node, overlay};
use crate::path::{RelPath, at_and_above};
use crate::placing::ModUse;
use crate::sheet::PathSet;
use crate::twin::mods;

/// What a change of a twin's mods takes aside, and brings back.
#[derive(Default)]
pub(in crate::ops) struct Aside {
    /// What goes with mods that are off now; of those that the twin has no more, also what was aside already.
    pub(in crate::ops) taken: Vec<RelPath>,
    /// What comes back with mods that are on again.
    pub(in crate::ops) back: Vec<RelPath>,
    /// What can't, since something else is in its place: the history has it.
    pub(in crate::ops) hidden: Vec<RelPath>,
}

impl Scene {
    /// Takes what was written for mods that go out of what is there, and puts what was aside for those that come back among
    /// it, where nothing else is by now.
    ///
    /// # Errors
    /// Whatever reading records fails with.
    pub(in crate::ops) fn set_aside(&mut self, yard: &Yard, wanted: &mut [ModUse]) -> Result<Aside> {
        let mut aside = Aside::default();
        for used in self.settled.state.mods.clone() {
            let there = wanted.iter_mut().find(|other| other.name.key() == used.name.key());
            let written = match there.as_ref().is_some_and(|there| there.on) {
                true => continue,
                false if used.on => self.take(yard, &used)?,
                // It is off already: only where it goes for good, what is aside goes too.
                false if there.is_none() => {
                    used.aside.map(|aside| yard.store.listing(aside)).transpose()?.unwrap_or_default()
                }
                false => continue,
            };
            aside.taken.extend(files(&written).map(|entry| entry.path.clone()));
            if let Some(there) = there.filter(|_| !written.entries().is_empty()) {
                there.aside = Some(written.id());
                self.kept.push(written);
            }
        }
        for used in wanted.iter_mut().filter(|used| used.on) {
            let Some(listing) = used.aside.take() else { continue };
            let listing = yard.store.listing(listing)?;
            let (back, hidden): (Vec<&Entry>, Vec<&Entry>) =
                files(&listing).partition(|entry| !self.plain.has(entry.path.as_str()));
            let layer = back.iter().map(|entry| (entry.path.clone(), Some((*entry).clone()))).collect();
            self.plain = overlay(&self.plain, &Layer::new(layer)?)?;
            aside.back.extend(back.into_iter().map(|entry| entry.path.clone()));
            aside.hidden.extend(hidden.into_iter().map(|entry| entry.path.clone()));
        }
        Ok(aside)
    }

    /// What its sheet says that the program writes for it, and what differs in folders that only it brings. What is in a group
    /// is the player's in any case.
    fn take(&mut self, yard: &Yard, used: &ModUse) -> Result<Listing> {
        // Of one that can't be read nobody knows what its folders are.
        let placed = Error::pass_over(mods::placed(yard, std::slice::from_ref(used), None))?;
        let Some(placed) = placed.and_then(|mut placed| placed.pop()) else { return Ok(Listing::default()) };
        let folders: BTreeSet<String> = placed
            .entries
            .iter()
            .flat_map(|entry| at_and_above(entry.path.as_str()).skip(1))
            .filter(|folder| folder.contains('/') && !self.next.has(folder))
            .map(str::to_owned)
            .collect();
        let live = PathSet::new(placed.sheet.after.live.iter().map(String::as_str), false).unwrap_or_default();
        let is_in = |path: &RelPath| at_and_above(path.as_str()).skip(1).any(|folder| folders.contains(folder));
        let in_group = |path: &RelPath| self.sheet.as_ref().is_some_and(|sheet| sheet.group_of(path).is_some());
        let is_aside = |entry: &&Entry| {
            let path = &entry.path;
            let differs = || self.laid.get(path.as_str()).is_none_or(|laid| laid.node != entry.node);
            (is_in(path) || live.contains(path.as_str())) && !in_group(path) && differs()
        };
        let written: Vec<Entry> = files(&self.plain).filter(is_aside).cloned().collect();
        let gone = written.iter().map(|entry| (entry.path.clone(), None)).collect();
        self.plain = overlay(&self.plain, &Layer::new(gone)?)?;
        Listing::with_folders_implied(written)
    }
}

fn files(listing: &Listing) -> impl Iterator<Item = &Entry> {
    listing.entries().iter().filter(|entry| entry.node != Node::EmptyFolder)
}
