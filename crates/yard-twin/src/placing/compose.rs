//! Combining mods: one over the other, over a stock build.

use std::collections::{BTreeMap, HashMap};

use super::{Inlaid, ModSheet, ModUse};
use crate::error::{ModError, Result};
use crate::listing::{Entry, Layer, Listing, Node, Spellings, overlay};
use crate::path::{RelPath, at_and_above};
use crate::sheet::PathSet;

/// A mod with its files in their places.
pub(crate) struct Placed {
    pub(crate) of: ModUse,
    pub(crate) sheet: ModSheet,
    /// What it has, under the paths in the twin.
    pub(crate) entries: Vec<Entry>,
    /// What it has in archives of the program.
    pub(crate) inlays: Vec<Inlaid>,
}

/// What is laid with mods.
pub(crate) struct Composed {
    pub(crate) listing: Listing,
    /// Which mods provide a path, from the lowest on, as numbers in their order.
    pub(crate) by: BTreeMap<RelPath, Vec<usize>>,
    /// What mods took away.
    pub(crate) removed: BTreeMap<RelPath, usize>,
    /// Archives into which mods put something, and which mods, in their order. They are as they lie below that, until that is
    /// made.
    pub(crate) inlaid: BTreeMap<RelPath, Vec<usize>>,
}

impl Composed {
    /// Under the new names of what is renamed afterwards.
    pub(crate) fn rename(&mut self, places: &HashMap<&RelPath, &RelPath>) {
        let place = |path: RelPath| places.get(&path).map_or(path.clone(), |to| (*to).clone());
        self.by = std::mem::take(&mut self.by).into_iter().map(|(path, by)| (place(path), by)).collect();
        self.removed = std::mem::take(&mut self.removed).into_iter().map(|(path, by)| (place(path), by)).collect();
        self.inlaid = std::mem::take(&mut self.inlaid).into_iter().map(|(path, by)| (place(path), by)).collect();
    }
}

/// Lays mods over what a stock build has, the first one lowest. Those that are off are passed over.
///
/// # Errors
/// [`ModError::Obstructed`] where a file would stand where a folder is, or the reverse; [`crate::Error::Clash`] where two
/// of its paths are one.
pub(crate) fn compose(stock: Listing, mods: &[Placed], folds: bool) -> Result<Composed> {
    let (mut listing, mut by, mut removed) = (stock, BTreeMap::<RelPath, Vec<usize>>::new(), BTreeMap::new());
    let mut inlaid = BTreeMap::<RelPath, Vec<usize>>::new();
    for (at, placed) in mods.iter().enumerate().filter(|(_, placed)| placed.of.on) {
        if !placed.sheet.remove.is_empty() {
            let patterns = PathSet::new(placed.sheet.remove.iter().map(String::as_str), folds).unwrap_or_default();
            let gone: Vec<RelPath> = listing
                .entries()
                .iter()
                .map(|entry| entry.path.clone())
                .filter(|path| patterns.contains(path.as_str()))
                .collect();
            listing = overlay(&listing, &Layer::new(gone.iter().map(|path| (path.clone(), None)).collect())?)?;
            for path in gone {
                by.remove(&path);
                inlaid.remove(&path);
                removed.insert(path, at);
            }
        }
        let entries = placed.entries.iter().map(|entry| (entry.path.clone(), Some(entry.clone())));
        let mut layer = Layer::new(entries.collect())?;
        if folds {
            layer = layer.respelt(&listing)?;
        }
        for (path, entry) in layer.changes() {
            obstructed(&listing, path, entry.as_ref(), placed)?;
            if entry.as_ref().is_some_and(|entry| entry.node != Node::EmptyFolder) {
                by.entry(path.clone()).or_default().push(at);
                removed.remove(path);
                // An archive that lies over another one is what it is.
                inlaid.remove(path);
            }
        }
        listing = overlay(&listing, &layer)?;
        for inlay in &placed.inlays {
            let path = if folds { Spellings::of(&listing)?.spell(&inlay.archive)? } else { inlay.archive.clone() };
            let into = inlaid.entry(path).or_default();
            if into.last() != Some(&at) {
                into.push(at);
            }
        }
    }
    Ok(Composed { listing, by, removed, inlaid })
}

/// An error if a folder is where a file would be, or the reverse.
fn obstructed(there: &Listing, path: &RelPath, entry: Option<&Entry>, placed: &Placed) -> Result<()> {
    let is_file = |path: &str| there.get(path).is_some_and(|entry| entry.node != Node::EmptyFolder);
    let comes_as_file = entry.is_some_and(|entry| entry.node != Node::EmptyFolder);
    let folder = comes_as_file && there.has(path.as_str()) && !is_file(path.as_str());
    let above = at_and_above(path.as_str()).skip(1).find(|above| is_file(above));
    let file = !comes_as_file && is_file(path.as_str());
    let at = if folder || file { Some(path.as_str()) } else { above };
    match at {
        None => Ok(()),
        Some(at) => {
            Err(ModError::Obstructed { name: placed.of.name.to_string(), path: path.to_string(), at: at.into() }.into())
        }
    }
}
