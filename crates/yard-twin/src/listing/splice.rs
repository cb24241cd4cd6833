//! A few changes to a large listing, in place: where nothing comes, goes or changes, no entry is copied or looked at.

use super::{Entry, Layer, Listing, Node, check, overlay};
use crate::error::Result;
use crate::path::RelPath;

/// Things by their places.
type Placed<T> = Vec<(usize, T)>;

/// What becomes of sorted entries, with something beside each: by their places before.
pub(crate) struct Splice<T> {
    replaced: Placed<T>,
    gone: Vec<usize>,
    new: Placed<T>,
}

impl<T> Splice<T> {
    /// What stands at some paths from now on, in their order; `None`: nothing.
    pub(crate) fn of(entries: &[Entry], changes: impl Iterator<Item = (RelPath, Option<T>)>) -> Self {
        let mut splice = Self { replaced: Vec::new(), gone: Vec::new(), new: Vec::new() };
        for (path, now) in changes {
            match (entries.binary_search_by(|entry| entry.path.cmp(&path)), now) {
                (Ok(at), Some(now)) => splice.replaced.push((at, now)),
                (Ok(at), None) => splice.gone.push(at),
                (Err(at), Some(now)) => splice.new.push((at, now)),
                (Err(_), None) => {}
            }
        }
        splice
    }

    /// The same for things in two rows.
    pub(crate) fn unzip<A, B>(self, part: impl Fn(T) -> (A, B)) -> (Splice<A>, Splice<B>) {
        let unzip = |things: Placed<T>| -> (Placed<A>, Placed<B>) {
            let parted = things.into_iter().map(|(at, thing)| (at, part(thing)));
            parted.map(|(at, (a, b))| ((at, a), (at, b))).unzip()
        };
        let ((a, b), (new_a, new_b)) = (unzip(self.replaced), unzip(self.new));
        let gone = self.gone.clone();
        (Splice { replaced: a, gone, new: new_a }, Splice { replaced: b, gone: self.gone, new: new_b })
    }

    pub(crate) fn apply(self, all: &mut Vec<T>)
    where
        T: Clone,
    {
        for (at, thing) in self.replaced {
            all[at] = thing;
        }
        if !self.gone.is_empty() {
            let (mut at, mut gone) = (0, self.gone.iter().peekable());
            all.retain(|_| {
                at += 1;
                gone.next_if(|gone| **gone + 1 == at).is_none()
            });
        }
        // From the end on, each is moved once.
        let (mut from, mut to) = (all.len(), all.len() + self.new.len());
        all.reserve_exact(self.new.len());
        all.extend(self.new.iter().map(|(_, thing)| thing.clone()));
        for (place, thing) in self.new.into_iter().rev() {
            let place = place - self.gone.partition_point(|gone| *gone < place);
            while from > place {
                (from, to) = (from - 1, to - 1);
                all.swap(from, to);
            }
            to -= 1;
            all[to] = thing;
        }
    }
}

impl Listing {
    /// Of entries that stood side by side until something was spliced in at `paths`.
    pub(crate) fn of_spliced(entries: Vec<Entry>, paths: &[RelPath]) -> Result<Self> {
        // To look each path up takes longer than to look at every entry, where there are many.
        if paths.len() > entries.len() / 16 {
            check(&entries)?
        } else {
            check_around(&entries, paths)?
        }
        Ok(Self::of(entries))
    }
}

/// Whether entries stand side by side that did so but for `paths`.
pub(super) fn check_around(entries: &[Entry], paths: &[RelPath]) -> Result<()> {
    paths.iter().try_for_each(|path| {
        let at = entries.partition_point(|entry| entry.path < *path);
        check(&entries[at.saturating_sub(1)..entries.len().min(at + 2)])
    })
}

/// As [`overlay`], which takes the base with it: nothing is copied where whatever changes stands alone at its path.
pub(super) fn overlay_in(base: Listing, layer: &Layer) -> Result<Listing> {
    if !layer.changes().windows(2).all(|pair| !pair[1].0.is_at_or_below(&pair[0].0)) {
        return overlay(&base, layer);
    }
    let entries = base.entries();
    let stands_alone = |(path, now): &(RelPath, Option<Entry>)| match base.position(path.as_str()) {
        Some(at) => entries[at].node != Node::EmptyFolder,
        None => {
            let at = entries.partition_point(|entry| entry.path < *path);
            let above = at.checked_sub(1).is_some_and(|before| path.is_at_or_below(&entries[before].path));
            let below = entries.get(at).is_some_and(|after| after.path.is_at_or_below(path));
            !below && (now.is_none() || !above)
        }
    };
    if !layer.changes().iter().all(stands_alone) {
        return overlay(&base, layer);
    }
    let splice = Splice::of(entries, layer.changes().iter().cloned());
    let mut entries = base.into_entries();
    splice.apply(&mut entries);
    Ok(Listing::of(entries))
}
