//! Properties of listings: their file, their id, their differences.

use proptest::collection::btree_map;
use proptest::prelude::*;

use super::delta::{self, Packed};
use super::{Change, Entry, Layer, Listing, Node, diff};
use crate::ident::{ContentId, ListingId};
use crate::path::RelPath;

fn node() -> impl Strategy<Value = Node> {
    prop_oneof![
        4 => (any::<[u8; 32]>(), any::<u64>(), any::<bool>()).prop_map(|(id, size, executable)| Node::File {
            content: ContentId::from_bytes(id),
            size,
            executable,
        }),
        1 => "[^\\x00]{1,12}".prop_map(|target| Node::Symlink { target: target.into() }),
        1 => Just(Node::EmptyFolder),
    ]
}

fn decode(bytes: &[u8], id: ListingId) -> Result<Listing, String> {
    match delta::decode(bytes, id)? {
        Packed::Whole(listing) => Ok(listing),
        Packed::Delta { .. } => Err("a delta".into()),
    }
}

/// A listing of paths of one to three parts; what would lie below another entry is left out.
fn listing() -> impl Strategy<Value = Listing> {
    let path = "(game|home)/[a-c.é\n-]{1,3}(/[a-c]{1,2}){0,2}".prop_filter_map("no path", |p| RelPath::new(p).ok());
    btree_map(path, (node(), any::<i64>()), 0..40).prop_map(|all| {
        let mut entries: Vec<Entry> = Vec::new();
        for (path, (node, mtime)) in all {
            let below = |e: &Entry| path.as_str().starts_with(&format!("{}/", e.path));
            if !entries.iter().any(below) {
                entries.push(Entry { path, node, mtime });
            }
        }
        Listing::new(entries).expect("the paths are in order and stand side by side")
    })
}

proptest! {
    // A failure prints its input; it becomes a test of its own, not a file.
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn what_is_decoded_is_what_was_encoded(listing in listing()) {
        let bytes = listing.encode().unwrap();
        prop_assert_eq!(decode(&bytes, listing.id()), Ok(listing));
    }

    #[test]
    fn paths_are_in_the_order_of_their_parts(common in "[ab/é-]{0,20}", a in "[ab/é.0-]{0,20}", b in "[ab/é.0-]{0,20}") {
        let (a, b) = (common.clone() + &a, common + &b);
        let parts = |path: &str| path.split('/').map(|part| part.as_bytes().to_vec()).collect::<Vec<_>>();
        prop_assert_eq!(crate::path::compare(&a, &b), parts(&a).cmp(&parts(&b)));
    }

    #[test]
    fn whatever_is_asked_for_one_after_another_is_found(
        listing in listing(), others in listing(), order in prop::collection::vec((any::<bool>(), any::<prop::sample::Index>()), 0..60)
    ) {
        let mut finder = listing.finder();
        let mut asked: Vec<&Entry> = listing.entries().iter().chain(others.entries()).collect();
        asked.sort_by(|a, b| a.path.cmp(&b.path));
        for (back, at) in order {
            // Mostly onwards, and sometimes to anywhere.
            let at = if back { at.index(asked.len() + 1) } else { 0 };
            for entry in asked.iter().skip(at).step_by(3) {
                prop_assert_eq!(finder.find(entry.path.as_str()), listing.get(entry.path.as_str()));
            }
        }
    }

    #[test]
    fn a_delta_is_read_as_the_listing_that_it_is_for(a in listing(), b in listing(), at in any::<prop::sample::Index>()) {
        let mut bytes = delta::encode(a.id(), &Layer::between(&a, &b)).unwrap();
        let Ok(Packed::Delta { base, layer }) = delta::decode(&bytes[..], b.id()) else { panic!("no delta") };
        prop_assert_eq!(base, a.id());
        prop_assert_eq!(delta::resolve(a.clone(), &layer, b.id()), Ok(b.clone()));
        let at = at.index(bytes.len());
        bytes[at] ^= 1;
        if let Ok(Packed::Delta { layer, .. }) = delta::decode(&bytes[..], b.id()) {
            // Whatever came of it, nothing but the right listing passes.
            let resolved = delta::resolve(a.clone(), &layer, b.id());
            prop_assert!(resolved.is_err() || resolved.is_ok_and(|listing| listing.id() == b.id()));
        }
    }

    #[test]
    fn damage_is_noticed_and_never_a_panic(listing in listing(), at in any::<prop::sample::Index>(), flip in 1u8..) {
        let (mut bytes, id) = (listing.encode().unwrap(), listing.id());
        let verified = |bytes: &[u8]| delta::verify_whole(bytes, id).is_some_and(|verified| verified.is_ok());
        prop_assert!(verified(&bytes));
        let cut_off = &bytes[..at.index(bytes.len())];
        prop_assert!(decode(cut_off, id).is_err() && !verified(cut_off));
        let at = at.index(bytes.len());
        bytes[at] ^= flip;
        prop_assert_eq!(decode(&bytes, id).is_ok(), verified(&bytes));
        // Times are advisory, and compression has bits to spare; but nothing else may differ.
        if let Ok(decoded) = decode(&bytes, id) {
            prop_assert_eq!(decoded.id(), id);
        }
    }

    #[test]
    fn any_bytes_are_refused_without_a_panic(bytes in prop::collection::vec(any::<u8>(), 0..200)) {
        let packed = zstd::bulk::compress(&bytes, 1).unwrap();
        let file = [b"ytlist\x00\x01".as_slice(), &packed].concat();
        let id = ListingId::from_bytes(*blake3::hash(&bytes).as_bytes());
        let _ = decode(&file, id);
        prop_assert!(decode(&bytes, id).is_err());
    }

    #[test]
    fn the_id_depends_on_all_but_order_and_times(listing in listing(), other in listing()) {
        let mut entries = listing.entries().to_vec();
        entries.reverse();
        entries.iter_mut().for_each(|entry| entry.mtime ^= 1);
        prop_assert_eq!(Listing::new(entries).unwrap().id(), listing.id());
        let same = diff(&listing, &other).next().is_none();
        prop_assert_eq!(same, listing.id() == other.id());
    }

    #[test]
    fn a_difference_leads_from_one_listing_to_the_other(a in listing(), b in listing()) {
        let mut entries: Vec<Entry> = a.entries().to_vec();
        for change in diff(&a, &b) {
            entries.retain(|entry| entry.path != *change.path());
            if let Change::New(entry) | Change::Changed { after: entry, .. } = change {
                entries.push(entry.clone());
            }
        }
        prop_assert_eq!(Listing::new(entries).unwrap().id(), b.id());
        prop_assert_eq!(diff(&a, &a).count(), 0);
    }

    #[test]
    fn finding_by_path_is_finding_by_looking_at_each(listing in listing(), path in "(game|home)(/[a-c.]{1,2}){0,2}") {
        let found = listing.entries().iter().find(|entry| entry.path.as_str() == path);
        prop_assert_eq!(listing.get(&path), found);
        let below = format!("{path}/");
        let has = listing.entries().iter().any(|e| e.path.as_str() == path || e.path.as_str().starts_with(&below));
        prop_assert_eq!(listing.has(&path), has);
    }
}

#[test]
fn a_listing_holds_no_path_twice_and_nothing_below_a_file() {
    let entry = |path: &str| Entry { path: RelPath::new(path).unwrap(), node: Node::EmptyFolder, mtime: 0 };
    assert!(Listing::new(vec![entry("game/a"), entry("game/a")]).is_err());
    assert!(Listing::new(vec![entry("game/a/b"), entry("game/a")]).is_err());
    let listing = Listing::new(vec![entry("game/a-b"), entry("game/a/b"), entry("game/a.b")]).unwrap();
    let order: Vec<_> = listing.entries().iter().map(|e| e.path.as_str()).collect();
    assert_eq!(order, ["game/a/b", "game/a-b", "game/a.b"], "a folder's contents come before its neighbours");
}

#[test]
fn paths_that_share_their_text_are_those_that_have_their_own() {
    // Far more text than is shared at once, and single paths as long as that.
    let name = |number: usize| format!("game/{}/é{number}", "x".repeat(number * number % 40_000 + 1));
    let own: Vec<RelPath> = (0..300).map(|number| RelPath::new(name(number)).unwrap()).collect();
    let entry = |path: &RelPath| Entry { path: path.clone(), node: Node::EmptyFolder, mtime: 0 };
    let listing = Listing::new(own.iter().map(entry).collect()).unwrap();
    let read = decode(&listing.encode().unwrap(), listing.id()).unwrap();
    assert_eq!(read, listing);
    let known: std::collections::HashSet<RelPath> = read.entries().iter().map(|entry| entry.path.clone()).collect();
    for path in &own {
        assert!(known.contains(path) && known.contains(path.as_str()) && read.get(path.as_str()).is_some());
    }
    let kept = RelPath::clone(&read.entries()[7].path);
    drop((read, known));
    assert_eq!(kept, listing.entries()[7].path);
}
