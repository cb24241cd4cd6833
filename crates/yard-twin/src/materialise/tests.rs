//! Properties of the steps, done on a disk that is only imagined.

use std::collections::{BTreeMap, BTreeSet};

use proptest::prelude::*;

use super::steps::{Doing, Step, steps};
use crate::listing::algebra::small;
use crate::listing::{Listing, Node};
use crate::path::{RelPath, at_and_above};

/// What a folder holds, as far as a disk knows: its folders, and its files and links.
#[derive(Default, PartialEq, Debug)]
struct Disk {
    folders: BTreeSet<RelPath>,
    solid: BTreeMap<RelPath, Node>,
}

impl Disk {
    fn of(listing: &Listing) -> Self {
        let mut disk = Self::default();
        for entry in listing.entries() {
            let folder = match &entry.node {
                Node::EmptyFolder => Some(entry.path.as_str()),
                node => {
                    disk.solid.insert(entry.path.clone(), node.clone());
                    entry.path.parent()
                }
            };
            disk.folders.extend(folder.into_iter().flat_map(at_and_above).map(|path| RelPath::new(path).unwrap()));
        }
        disk.folders.extend(["game", "home"].map(|root| RelPath::new(root).unwrap()));
        disk
    }

    /// Does a step, which must be possible just then.
    fn step(&mut self, step: &Step, next: &Listing) {
        let path = step.path.clone();
        assert!(self.folders.contains(path.parent().unwrap()), "{step:?}");
        let free = !self.folders.contains(&path) && !self.solid.contains_key(&path);
        let node = || next.get(path.as_str()).unwrap().node.clone();
        match step.doing {
            Doing::Remove => assert!(self.solid.remove(&path).is_some(), "{step:?}"),
            Doing::RemoveFolder => {
                let all = self.folders.iter().chain(self.solid.keys());
                assert!(!all.clone().any(|other| *other != path && other.is_at_or_below(&path)), "{step:?}");
                assert!(self.folders.remove(&path), "{step:?}");
            }
            Doing::MakeFolder => assert!(free && self.folders.insert(path), "{step:?}"),
            Doing::Put => assert!(free && self.solid.insert(path.clone(), node()).is_none(), "{step:?}"),
            Doing::Replace => assert!(self.solid.insert(path.clone(), node()).is_some(), "{step:?}"),
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, cases: 2000, ..ProptestConfig::default() })]

    #[test]
    fn the_steps_can_be_done_in_their_order_and_lead_there_and_then_there_are_none(a in small(), b in small()) {
        let mut disk = Disk::of(&a);
        steps(&a, &b).iter().for_each(|step| disk.step(step, &b));
        prop_assert_eq!(disk, Disk::of(&b));
        prop_assert!(steps(&b, &b).is_empty());
    }
}
