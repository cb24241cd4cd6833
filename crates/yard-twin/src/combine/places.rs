//! Where a group of belongings is in another build: what one build keeps in one place another may keep elsewhere.

use std::collections::{BTreeMap, BTreeSet, HashSet};

use crate::error::{Error, Noun, Result};
use crate::listing::{Entry, Listing, Node, Spellings};
use crate::path::RelPath;
use crate::sheet::{Group, PathSet, Sheet, main_file, pattern};

/// The group of that name.
pub(crate) fn known<'a>(group: &str, sheet: &'a Sheet) -> Result<&'a Group> {
    sheet.belongings.get(group).ok_or_else(|| Error::NotFound {
        what: Noun::Group,
        name: group.into(),
        known: sheet.belongings.keys().cloned().collect(),
    })
}

/// Where a belonging of one title or build belongs in another: in the place that its group has there. `None` if that has
/// none for it.
///
/// # Errors
/// [`Error::NotFound`] if the other one has no such group.
pub(crate) fn place(path: &RelPath, group: Option<&str>, sheet: &Sheet, to: &Sheet) -> Result<Option<RelPath>> {
    let Some((name, group)) = group.and_then(|name| Some((name, sheet.belongings.get(name)?))) else {
        return Ok(Some(path.clone()));
    };
    let there = known(name, to)?;
    if there.patterns == group.patterns {
        return Ok(Some(path.clone()));
    }
    let set = |pattern: &str, sheet: &Sheet| PathSet::new([pattern], sheet.ignores_case()).unwrap_or_default();
    let main = main_file(path.as_str());
    let by = group.patterns.iter().find(|pattern| set(pattern, sheet).contains(main));
    let below = by.and_then(|pattern| main.strip_prefix(pattern::base(pattern))).unwrap_or_default();
    let name = main.rsplit('/').next().unwrap_or_default();
    let mut candidates = there.patterns.iter().filter_map(|pattern| {
        let base = pattern::base(pattern);
        let candidate = match below {
            // One file against one file, whatever it is called.
            "" if pattern::names_file(pattern) => base.to_owned(),
            _ if pattern::names_file(pattern) => {
                Some(base).filter(|base| base.ends_with(&format!("/{name}")))?.to_owned()
            }
            "" if by.is_some_and(|pattern| pattern::names_file(pattern)) => format!("{base}/{name}"),
            below => format!("{base}{below}"),
        };
        set(pattern, to).contains(&candidate).then_some(candidate)
    });
    let beside = &path.as_str()[main.len()..];
    candidates.next().map(|candidate| RelPath::new(format!("{candidate}{beside}"))).transpose()
}

/// What of a twin has another place in another build.
#[derive(Debug, Default)]
pub(crate) struct Moves {
    /// From where to where, by from where.
    pairs: BTreeMap<RelPath, RelPath>,
    /// What stays where it is, each with the reason.
    pub(crate) left: Vec<String>,
}

impl Moves {
    /// Of belongings that are there or were laid, when a twin goes from what one sheet says to what another one does.
    ///
    /// # Errors
    /// None that sheets of one title can give cause to.
    pub(crate) fn between(there: &Listing, laid: &Listing, sheets: (Option<&Sheet>, Option<&Sheet>)) -> Result<Self> {
        let mut moves = Self::default();
        let (Some(sheet), Some(to)) = sheets else { return Ok(moves) };
        let differs = |(name, group): (&String, &Group)| {
            to.belongings.get(name).is_some_and(|there| there.patterns != group.patterns)
        };
        let groups: HashSet<&str> =
            sheet.belongings.iter().filter(|group| differs(*group)).map(|(name, _)| name.as_str()).collect();
        if groups.is_empty() {
            return Ok(moves);
        }
        let files = [there, laid].into_iter().flat_map(|listing| listing.entries());
        let files: BTreeSet<&RelPath> = files.filter(|entry| is_file(entry)).map(|entry| &entry.path).collect();
        let mut places = HashSet::new();
        for path in files {
            let Some(group) = sheet.group_of(path).filter(|group| groups.contains(group)) else { continue };
            let Some(place) = place(path, Some(group), sheet, to)? else {
                moves.left.push(format!("{path} (its group has no place for it there)"));
                continue;
            };
            if place != *path && !places.insert(place.clone()) {
                moves.left.push(format!("{path} (two would be {place})"));
            } else if place != *path {
                moves.pairs.insert(path.clone(), place);
            }
        }
        moves.keep_what_is_taken(there);
        Ok(moves)
    }

    /// Where a title takes two spellings of a name for one, what is there is spelt as what is wanted is.
    ///
    /// # Errors
    /// None that a listing can give cause to.
    pub(crate) fn spell_as(&mut self, next: &Listing, there: &Listing, laid: &Listing) -> Result<()> {
        // Where that has two which are one, its program minds how they are spelt.
        let Ok(spellings) = Spellings::of(next) else { return Ok(()) };
        let mut places: HashSet<RelPath> = self.pairs.values().cloned().collect();
        for entry in there.entries().iter().chain(laid.entries()) {
            let place = spellings.spell(self.of(&entry.path))?;
            if place != *self.of(&entry.path) && places.insert(place.clone()) {
                self.pairs.insert(entry.path.clone(), place);
            }
        }
        self.keep_what_is_taken(there);
        Ok(())
    }

    /// Nothing goes where something else is and stays.
    fn keep_what_is_taken(&mut self, there: &Listing) {
        loop {
            let stays = |place: &RelPath| there.has(place.as_str()) && !self.pairs.contains_key(place);
            let Some((from, to)) = self.pairs.iter().find(|(_, to)| stays(to)) else { break };
            self.left.push(format!("{from} (there is something else at {to})"));
            let from = from.clone();
            self.pairs.remove(&from);
        }
    }

    /// Where a path is then.
    pub(crate) fn of<'a>(&'a self, path: &'a RelPath) -> &'a RelPath {
        self.pairs.get(path).unwrap_or(path)
    }

    /// From where to where.
    pub(crate) fn pairs(&self) -> Vec<(RelPath, RelPath)> {
        self.pairs.iter().map(|(from, to)| (from.clone(), to.clone())).collect()
    }

    /// Those of what is not as it was laid.
    pub(crate) fn own(&self, there: &Listing, laid: &Listing) -> Vec<(RelPath, RelPath)> {
        let node = |listing: &Listing, path: &RelPath| listing.get(path.as_str()).map(|entry| entry.node.clone());
        let is_own = |path: &RelPath| node(there, path).is_some() && node(there, path) != node(laid, path);
        self.pairs().into_iter().filter(|(from, _)| is_own(from)).collect()
    }

    /// A listing with everything in its new place.
    ///
    /// # Errors
    /// [`Error::Path`] or [`Error::Obstructed`] where a file would need a folder that is a file.
    pub(crate) fn apply(&self, listing: &Listing) -> Result<Listing> {
        if self.pairs.is_empty() {
            return Ok(listing.clone());
        }
        let taken: HashSet<&RelPath> =
            listing.entries().iter().filter_map(|entry| self.pairs.get(&entry.path)).collect();
        let mut entries: Vec<Entry> = Vec::with_capacity(listing.entries().len());
        for entry in listing.entries() {
            match self.pairs.get(&entry.path) {
                Some(to) => {
                    entries.push(Entry { path: to.clone(), ..entry.clone() });
                    // Programs may need the folder that it was in.
                    let respelt = to.key() == entry.path.key();
                    if let Some(folder) = entry.path.parent().filter(|folder| folder.contains('/') && !respelt) {
                        entries.push(Entry { path: RelPath::new(folder)?, node: Node::EmptyFolder, mtime: 0 });
                    }
                }
                None if taken.contains(&entry.path) => {}
                None => entries.push(entry.clone()),
            }
        }
        entries.sort_by(|a, b| a.path.cmp(&b.path));
        entries.dedup_by(|a, b| a.path == b.path);
        Listing::with_folders_implied(entries)
    }
}

fn is_file(entry: &Entry) -> bool {
    entry.node != Node::EmptyFolder
}
