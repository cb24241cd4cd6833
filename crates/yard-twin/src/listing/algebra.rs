//! Properties of layers and of the rebase.

use proptest::collection::btree_map;
use proptest::prelude::*;

use super::splice::{Splice, check_around, overlay_in};
use super::{Entry, Layer, Listing, Named, Node, Reason, overlay, rebase};
use crate::ident::ContentId;
use crate::path::RelPath;

/// One of few things at one of few paths, so that listings agree in part.
pub(crate) fn small() -> impl Strategy<Value = Listing> {
    const PATHS: [&str; 8] = ["game/a", "game/a/b", "game/a/c", "game/a-b", "game/d", "game/d/e/f", "home/a", "home/g"];
    let node = prop_oneof![
        (0u8..3, any::<bool>()).prop_map(|(id, executable)| Node::File {
            content: ContentId::from_bytes([id; 32]),
            size: u64::from(id),
            executable,
        }),
        Just(Node::Symlink { target: "x".into() }),
        Just(Node::EmptyFolder),
    ];
    btree_map(0..PATHS.len(), node, 0..8).prop_map(|all| {
        let mut entries: Vec<Entry> = Vec::new();
        for (path, node) in all {
            let path = RelPath::new(PATHS[path]).unwrap();
            if !entries.iter().any(|entry| path.is_at_or_below(&entry.path)) {
                entries.push(Entry { path, node, mtime: 7 });
            }
        }
        Listing::new(entries).unwrap()
    })
}

/// Files and symlinks: an empty folder comes and goes with what is in it.
fn solid(listing: &Listing) -> Vec<&Entry> {
    listing.entries().iter().filter(|entry| entry.node != Node::EmptyFolder).collect()
}

fn node_at<'a>(listing: &'a Listing, path: &RelPath) -> Option<&'a Node> {
    listing.get(path.as_str()).map(|entry| &entry.node)
}

/// What holds of each rebase: every path is one of the two; what the player changed and gives way is named.
fn check_rebased(b: &Listing, d: &Listing, n: &Listing, keep: impl Fn(&RelPath) -> bool) -> Result<(), TestCaseError> {
    let Ok(done) = rebase(b, d, n, &keep) else { return Ok(()) };
    let paths: std::collections::BTreeSet<_> = [b, d, n].iter().flat_map(|l| l.entries()).map(|e| &e.path).collect();
    for path in paths {
        let [was, is, wanted, result] = [b, d, n, &done.listing].map(|listing| node_at(listing, path));
        let named = done.named.iter().find(|named| named.path == *path).map(|named| named.reason);
        let implied = result.is_none() && done.listing.has(path.as_str());
        if implied && [is, wanted].contains(&Some(&Node::EmptyFolder)) {
            continue;
        }
        prop_assert!(result == is || result == wanted, "{}", path);
        prop_assert!(result == is || is == was || named.is_some(), "{} gave way, and nobody was told", path);
        prop_assert!(named != Some(Reason::Clash) || (result == is && wanted != was), "{}", path);
        prop_assert!(keep(path) || result == wanted, "{}", path);
    }
    Ok(())
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, cases: 2000, ..ProptestConfig::default() })]

    #[test]
    fn a_layer_between_two_listings_leads_from_one_to_the_other(a in small(), b in small(), c in small()) {
        let (ab, bc) = (Layer::between(&a, &b), Layer::between(&b, &c));
        prop_assert_eq!(&overlay(&a, &ab).unwrap(), &b);
        prop_assert_eq!(&overlay(&a, &ab.then(&bc)).unwrap(), &c, "one after the other is both in one");
        prop_assert!(Layer::between(&a, &a).is_empty());
    }

    #[test]
    fn what_a_layer_has_stands_and_hides_what_is_below(a in small(), b in small()) {
        let all: Vec<_> = b.entries().iter().map(|entry| (entry.path.clone(), Some(entry.clone()))).collect();
        let on_top = overlay(&a, &Layer::new(all).unwrap()).unwrap();
        for entry in solid(&b) {
            prop_assert_eq!(on_top.get(entry.path.as_str()), Some(entry));
        }
        let none: Vec<_> = b.entries().iter().map(|entry| (entry.path.clone(), None)).collect();
        let without = overlay(&a, &Layer::new(none).unwrap()).unwrap();
        prop_assert!(b.entries().iter().all(|entry| !without.has(entry.path.as_str())));
    }

    #[test]
    fn a_layer_laid_in_place_is_that_layer_laid_over_a_copy(a in small(), b in small(), gone in 0_u8..) {
        let some = |(at, entry): (usize, &Entry)| (entry.path.clone(), (gone >> at & 1 == 0).then(|| entry.clone()));
        for layer in [Layer::new(b.entries().iter().enumerate().map(some).collect()).unwrap(), Layer::between(&a, &b)] {
            match (overlay_in(a.clone(), &layer), overlay(&a, &layer)) {
                (Ok(in_place), Ok(copied)) => {
                    prop_assert_eq!(&in_place, &copied);
                    prop_assert!(Listing::new(in_place.into_entries()).is_ok());
                }
                (in_place, copied) => prop_assert_eq!(in_place.is_err(), copied.is_err()),
            }
        }
    }

    #[test]
    fn splicing_is_making_a_listing_anew(a in small(), b in small(), gone in 0_u8..) {
        let some = |(at, entry): (usize, &Entry)| (entry.path.clone(), (gone >> at & 1 == 0).then(|| entry.clone()));
        let changes: Vec<_> = b.entries().iter().enumerate().map(some).collect();
        let mut anew: std::collections::BTreeMap<_, _> =
            a.entries().iter().map(|entry| (entry.path.clone(), entry.clone())).collect();
        for (path, now) in changes.clone() {
            anew.remove(&path);
            anew.extend(now.map(|entry| (path, entry)));
        }
        let mut entries = a.into_entries();
        let paths: Vec<_> = changes.iter().map(|(path, _)| path.clone()).collect();
        Splice::of(&entries, changes.into_iter()).apply(&mut entries);
        let anew: Vec<Entry> = anew.into_values().collect();
        prop_assert_eq!(&entries, &anew);
        prop_assert_eq!(check_around(&entries, &paths).is_ok(), Listing::new(anew).is_ok());
    }

    #[test]
    fn rebasing_what_nobody_changed_gives_what_is_wanted(b in small(), d in small(), n in small()) {
        prop_assert_eq!(&rebase(&b, &b, &n, |_| true).unwrap().listing, &n, "nobody changed anything");
        prop_assert_eq!(&rebase(&b, &d, &b, |_| true).unwrap().listing, &d, "nothing else is wanted");
    }

    #[test]
    fn each_path_of_a_rebase_is_one_of_the_two_and_what_gives_way_is_named(b in small(), d in small(), n in small()) {
        check_rebased(&b, &d, &n, |_| true)?;
        check_rebased(&b, &d, &n, |_| false)?;
        check_rebased(&b, &d, &n, |path| path.as_str().starts_with("home/"))?;
    }

    #[test]
    fn rebasing_twice_is_rebasing_once_and_there_and_back_is_where_it_was(b in small(), d in small(), n in small()) {
        let Ok(there) = rebase(&b, &d, &n, |_| true) else { return Ok(()) };
        prop_assert_eq!(&rebase(&n, &there.listing, &n, |_| true).unwrap().listing, &there.listing);
        let agreed = d.entries().iter().chain(b.entries()).any(|entry| {
            let [was, is, wanted] = [&b, &d, &n].map(|listing| node_at(listing, &entry.path));
            is == wanted && is != was
        });
        if let (true, false, Ok(back)) = (there.named.is_empty(), agreed, rebase(&n, &there.listing, &b, |_| true)) {
            prop_assert_eq!(solid(&back.listing), solid(&d));
        }
    }
}

#[test]
fn a_file_against_a_folder_is_refused_and_an_added_file_that_is_wanted_too_is_named() {
    let file = |path: &str, id: u8| {
        let content = ContentId::from_bytes([id; 32]);
        Entry { path: RelPath::new(path).unwrap(), node: Node::File { content, size: 1, executable: false }, mtime: 0 }
    };
    let of = |entries: &[Entry]| Listing::new(entries.to_vec()).unwrap();
    let nothing = of(&[]);
    let obstructed = rebase(&nothing, &of(&[file("game/a/mine", 1)]), &of(&[file("game/a", 2)]), |_| true);
    assert!(matches!(obstructed, Err(crate::Error::Obstructed { .. })));
    let both = rebase(&nothing, &of(&[file("game/a", 1)]), &of(&[file("game/a", 2)]), |_| true).unwrap();
    assert_eq!(both.listing, of(&[file("game/a", 1)]));
    assert_eq!(both.named, [Named { path: RelPath::new("game/a").unwrap(), reason: Reason::Clash }]);
}

#[test]
fn a_layer_is_spelt_as_what_it_lies_on_and_what_becomes_one_is_a_clash() {
    let folder = |path: &str| Entry { path: RelPath::new(path).unwrap(), node: Node::EmptyFolder, mtime: 0 };
    let layer = |paths: &[&str]| {
        Layer::new(paths.iter().map(|path| (RelPath::new(path).unwrap(), Some(folder(path)))).collect()).unwrap()
    };
    let base = Listing::new(vec![folder("game/Data/Boards"), folder("game/\u{e9}t\u{e9}")]).unwrap();
    let respelt = layer(&["game/data/NEW", "game/DATA/boards/x", "game/e\u{301}T\u{e9}"]).respelt(&base).unwrap();
    let paths: Vec<_> = respelt.changes().iter().map(|(path, _)| path.as_str()).collect();
    assert_eq!(paths, ["game/Data/Boards/x", "game/Data/NEW", "game/\u{e9}t\u{e9}"]);
    assert!(layer(&["game/x/A", "game/X/a"]).respelt(&base).is_err(), "two of the layer");
    let twice = Listing::new(vec![folder("game/A"), folder("game/a")]).unwrap();
    assert!(layer(&["game/b"]).respelt(&twice).is_err(), "two of what it lies on");
}
