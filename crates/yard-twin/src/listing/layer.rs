//! Layers: changes to a listing, and what a listing is with them.

use std::cmp::Ordering;
use std::collections::{BTreeMap, HashMap};
use std::iter::Peekable;

use super::{Entry, Listing, Node};
use crate::error::{Error, Result};
use crate::path::{RelPath, at_and_above, fold_key};

/// Changes to a listing, in the order of their paths: what stands at a path, or that nothing does.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Layer {
    changes: Vec<(RelPath, Option<Entry>)>,
}

impl Layer {
    /// Sorts the changes; `None` says that nothing stands at the path.
    ///
    /// # Errors
    /// [`Error::Path`] if a path comes twice, or an entry is filed under another path than its own.
    pub fn new(mut changes: Vec<(RelPath, Option<Entry>)>) -> Result<Self> {
        if !changes.is_sorted_by(|a, b| a.0 < b.0) {
            changes.sort_by(|a, b| a.0.cmp(&b.0));
        }
        if let Some(pair) = changes.windows(2).find(|pair| pair[0].0 == pair[1].0) {
            return Err(Error::Path { path: pair[0].0.to_string(), why: "it comes twice" });
        }
        match changes.iter().find(|(path, entry)| entry.as_ref().is_some_and(|entry| entry.path != *path)) {
            Some((path, _)) => Err(Error::Path { path: path.to_string(), why: "its entry has another path" }),
            None => Ok(Self { changes }),
        }
    }

    /// What makes `b` of `a`. Times count.
    #[must_use]
    pub fn between(a: &Listing, b: &Listing) -> Self {
        let changes = pairs(a.entries(), b.entries()).filter_map(|pair| match pair {
            (Some(before), None) => Some((before.path.clone(), None)),
            (before, Some(after)) if before != Some(after) => Some((after.path.clone(), Some(after.clone()))),
            _ => None,
        });
        Self { changes: changes.collect() }
    }

    /// The changes, in the order of their paths.
    #[must_use]
    pub fn changes(&self) -> &[(RelPath, Option<Entry>)] {
        &self.changes
    }

    /// Whether it says anything about a path.
    #[must_use]
    pub fn has(&self, path: &RelPath) -> bool {
        self.changes.binary_search_by(|(there, _)| there.cmp(path)).is_ok()
    }

    /// How many there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.changes.len()
    }

    /// Whether it changes nothing.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.changes.is_empty()
    }

    /// This layer, and `later` on top of it, in one.
    #[must_use]
    pub fn then(&self, later: &Self) -> Self {
        let mut all: BTreeMap<_, _> = self.changes.iter().cloned().collect();
        all.extend(later.changes.iter().cloned());
        Self { changes: all.into_iter().collect() }
    }

    /// The layer with its paths spelt as `base` spells them: for filesystems and titles that fold case, where `Data/A`
    /// and `data/a` are one. Spellings are compared by full case folding and NFC.
    ///
    /// # Errors
    /// [`Error::Clash`] if two of its paths, or two of `base`, are one then.
    pub fn respelt(&self, base: &Listing) -> Result<Self> {
        let mut spellings = Spellings::of(base)?;
        let mut respelt: BTreeMap<RelPath, (&RelPath, Option<Entry>)> = BTreeMap::new();
        for (path, entry) in &self.changes {
            let as_there = spellings.spell(path)?;
            spellings.learn(&as_there)?;
            let entry = entry.as_ref().map(|entry| Entry { path: as_there.clone(), ..entry.clone() });
            if let Some((other, _)) = respelt.insert(as_there, (path, entry)) {
                return Err(clash(other, path.as_str()));
            }
        }
        Ok(Self { changes: respelt.into_iter().map(|(path, (_, entry))| (path, entry)).collect() })
    }
}

/// How paths are spelt where spellings fold: by full case folding and NFC.
pub(crate) struct Spellings(HashMap<String, RelPath>);

impl Spellings {
    /// Those of a listing.
    ///
    /// # Errors
    /// [`Error::Clash`] if two of its paths are one.
    pub(crate) fn of(base: &Listing) -> Result<Self> {
        let mut known: HashMap<String, RelPath> = HashMap::new();
        for entry in base.entries() {
            for path in at_and_above(entry.path.as_str()) {
                match known.get(&fold_key(path)) {
                    Some(there) if there.as_str() == path => break,
                    Some(there) => return Err(clash(there, path)),
                    None => drop(known.insert(fold_key(path), RelPath::new(path)?)),
                }
            }
        }
        Ok(Self(known))
    }

    /// The path as it is spelt already, as far as its folders are known.
    pub(crate) fn spell(&self, path: &RelPath) -> Result<RelPath> {
        let (mut known, mut rest) = (path.as_str(), "");
        loop {
            if let Some(there) = self.0.get(&fold_key(known)) {
                return RelPath::new(format!("{there}{rest}"));
            }
            match known.rsplit_once('/') {
                Some((up, _)) => (known, rest) = (up, &path.as_str()[up.len()..]),
                None => return Ok(path.clone()),
            }
        }
    }

    /// A listing spelt as what is known.
    ///
    /// # Errors
    /// None that a listing can give cause to of which no two paths are one.
    pub(crate) fn respelt(&self, listing: Listing) -> Result<Listing> {
        let mut entries = listing.into_entries();
        entries.iter_mut().try_for_each(|entry| self.spell(&entry.path).map(|path| entry.path = path))?;
        entries.sort_by(|a, b| a.path.cmp(&b.path));
        Listing::with_folders_implied(entries)
    }

    /// Adds a path that was spelt by [`Spellings::spell`].
    pub(crate) fn learn(&mut self, path: &RelPath) -> Result<()> {
        for path in at_and_above(path.as_str()) {
            self.0.entry(fold_key(path)).or_insert(RelPath::new(path)?);
        }
        Ok(())
    }
}

fn clash(one: &RelPath, other: &str) -> Error {
    Error::Clash { one: one.to_string(), other: other.into() }
}

/// `base` with `layer` on top: where the layer has an entry, it stands; where it says that nothing does, nothing at the
/// path or below it is left; and what is no folder hides all below it.
///
/// # Errors
/// [`Error::Path`] if the layer itself has an entry below one that is no folder.
pub fn overlay(base: &Listing, layer: &Layer) -> Result<Listing> {
    if layer.is_empty() {
        return Ok(base.clone());
    }
    let mut entries: Vec<Entry> = Vec::with_capacity(base.entries().len() + layer.len());
    let mut changes = layer.changes.iter().peekable();
    // The last change that leaves nothing of the base below its path.
    let mut hides: Option<&RelPath> = None;
    for entry in base.entries() {
        while let Some((path, change)) = changes.next_if(|(path, _)| *path <= entry.path) {
            entries.extend(change.clone());
            if !change.as_ref().is_some_and(|entry| entry.node == Node::EmptyFolder) || *path == entry.path {
                hides = Some(path);
            }
        }
        let hidden = hides.is_some_and(|path| entry.path.is_at_or_below(path));
        let below = changes.clone().take_while(|(path, _)| path.is_at_or_below(&entry.path));
        let replaced = below.map(|(_, change)| change).any(Option::is_some);
        if !hidden && !replaced {
            entries.push(entry.clone());
        }
    }
    entries.extend(changes.filter_map(|(_, change)| change.clone()));
    Listing::with_folders_implied(entries)
}

/// What two sorted runs of entries have at each path.
pub(super) fn pairs<'a>(
    a: impl IntoIterator<Item = &'a Entry>,
    b: impl IntoIterator<Item = &'a Entry>,
) -> impl Iterator<Item = (Option<&'a Entry>, Option<&'a Entry>)> {
    merged(a, b, |x, y| x.path.cmp(&y.path))
}

/// What two runs in the same order have at each place.
pub(crate) fn merged<A, B>(
    a: impl IntoIterator<Item = A>,
    b: impl IntoIterator<Item = B>,
    order: impl Fn(&A, &B) -> Ordering,
) -> impl Iterator<Item = (Option<A>, Option<B>)> {
    let (mut left, mut right) = (a.into_iter().peekable(), b.into_iter().peekable());
    std::iter::from_fn(move || {
        let order = match (left.peek(), right.peek()) {
            (None, None) => return None,
            (Some(_), None) => Ordering::Less,
            (None, Some(_)) => Ordering::Greater,
            (Some(x), Some(y)) => order(x, y),
        };
        Some(match order {
            Ordering::Less => (left.next(), None),
            Ordering::Greater => (None, right.next()),
            Ordering::Equal => (left.next(), right.next()),
        })
    })
}

/// The next entry of a sorted run, if it is the one at `path`; those before it are passed over.
pub(super) fn at<'a>(run: &mut Peekable<impl Iterator<Item = &'a Entry>>, path: &RelPath) -> Option<&'a Entry> {
    while run.next_if(|entry| entry.path < *path).is_some() {}
    run.next_if(|entry| entry.path == *path)
}
