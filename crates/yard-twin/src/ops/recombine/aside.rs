//! What was written for a mod goes aside with it: else a left-over settings file would keep half of it alive.

use std::collections::{BTreeMap, BTreeSet};

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
        for used in wanted.iter_mut().filter(|used| used.on) {
            self.keep_beside(used);
        }
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

    /// Takes down in which folders the player has files already that a package which is new to the twin would take for its
    /// own.
    fn keep_beside(&self, used: &mut ModUse) {
        let is_it = |other: &ModUse| other.name.key() == used.name.key();
        let before = self.settled.state.mods.iter().find(|before| is_it(before));
        let placed = self.mods.iter().find(|placed| is_it(&placed.of));
        let Some(placed) = placed.filter(|_| before.is_none_or(|before| before.id != used.id)) else { return };
        let there = |folder: &String| self.plain.has(folder) && !self.laid.has(folder);
        let folders: BTreeSet<String> = folders(&placed.entries).filter(there).collect();
        if folders.is_empty() {
            return;
        }
        let its: BTreeMap<&RelPath, &Node> = placed.entries.iter().map(|entry| (&entry.path, &entry.node)).collect();
        let own = files(&self.plain).filter(|entry| its.get(&entry.path) != Some(&&entry.node));
        let own: BTreeSet<&str> = own.flat_map(|entry| at_and_above(entry.path.as_str()).skip(1)).collect();
        let beside = folders.iter().filter(|folder| own.contains(folder.as_str()));
        used.beside.extend(beside.filter_map(|folder| folder.parse::<RelPath>().ok()));
        used.beside.sort();
        used.beside.dedup();
    }

    /// What its sheet says that the program writes for it, and what differs in folders that only it brings. What is in a group
    /// is the player's in any case.
    fn take(&mut self, yard: &Yard, used: &ModUse) -> Result<Listing> {
        // Of one that can't be read nobody knows what its folders are.
        let placed = Error::pass_over(mods::placed(yard, std::slice::from_ref(used), None))?;
        let Some(placed) = placed.and_then(|mut placed| placed.pop()) else { return Ok(Listing::default()) };
        let is_its =
            |folder: &String| !self.next.has(folder) && !used.beside.iter().any(|beside| beside.as_str() == folder);
        let folders: BTreeSet<String> = folders(&placed.entries).filter(is_its).collect();
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

/// The folders of a mod's files, below those of the twin itself.
fn folders(entries: &[Entry]) -> impl Iterator<Item = String> {
    let above = entries.iter().flat_map(|entry| at_and_above(entry.path.as_str()).skip(1));
    above.filter(|folder| folder.contains('/')).map(str::to_owned)
}

fn files(listing: &Listing) -> impl Iterator<Item = &Entry> {
    listing.entries().iter().filter(|entry| entry.node != Node::EmptyFolder)
}
