//! Power loss: a filesystem of its own on an image. At every change that a story makes, the image is copied as it is: what
//! was not synced is not in it. Each copy is mounted and opened as after a new start of the system.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::{Arc, Mutex};

use super::{clone, ctx, place, restore, set_up, tree};
use crate::Yard;
use crate::catalog::What;
use crate::disk::fault;
use crate::listing::Listing;
use crate::ops::snapshot;
use crate::report::history;
use crate::report::show;
use crate::store::pool::Sharing;
use crate::upkeep::remove;

/// What a player made and never synced.
const MINE: &str = "a shift that nobody synced";

fn run(program: &str, arguments: &[&str]) -> bool {
    Command::new(program).args(arguments).output().is_ok_and(|output| output.status.success())
}

/// A mounted image, unmounted in the end.
struct Mounted(PathBuf);

impl Mounted {
    fn new(image: &Path, at: &Path) -> Option<Self> {
        fs::create_dir_all(at).unwrap();
        // Nothing is written but what is synced: not by the clock, and not by the journal's own commits.
        let mounted = run("mount", &["-o", "loop,commit=900", image.to_str().unwrap(), at.to_str().unwrap()]);
        mounted.then(|| Self(at.into()))
    }
}

impl Drop for Mounted {
    fn drop(&mut self) {
        // A process that another test of this program starts just now has a copy of what is open for a moment.
        let unmounted = (0..50).any(|_| {
            let unmounted = run("umount", &[self.0.to_str().unwrap()]);
            if !unmounted {
                std::thread::sleep(std::time::Duration::from_millis(50));
            }
            unmounted
        });
        assert!(unmounted, "{} can't be unmounted", self.0.display());
    }
}

/// What has been promised so far: each is true of every later copy.
#[derive(Clone, Copy, Debug, Default)]
struct Promised {
    cloned: bool,
    settled: bool,
    kept: bool,
    restored: bool,
    removed: bool,
}

/// The story; `promised` is told after each command that has returned.
fn story(root: &Path, promised: &Mutex<Promised>) {
    let yard = Yard::open(root.join("yard")).unwrap();
    clone(&yard, "wexcombe@b1", "b", Sharing::None).unwrap();
    promised.lock().unwrap().cloned = true;
    let game = root.join("yard/twins/b/game");
    fs::write(game.join("mine.wjs"), MINE).unwrap();
    fs::remove_file(game.join("scenery.dat")).unwrap();
    show::twin(&yard, &"b".parse().unwrap(), &ctx()).unwrap();
    promised.lock().unwrap().settled = true;
    let plan = snapshot::plan(&yard, &"b".parse().unwrap(), Some(&"kept".parse().unwrap()), &ctx()).unwrap();
    snapshot::apply(&yard, &plan, &ctx()).unwrap();
    promised.lock().unwrap().kept = true;
    restore(&yard, "b", 1).unwrap();
    promised.lock().unwrap().restored = true;
    let plan = remove::plan(&yard, &"b".parse().unwrap(), &ctx()).unwrap();
    remove::apply(&yard, &plan, &ctx()).unwrap();
    promised.lock().unwrap().removed = true;
}

/// The yard as it is found, against what was promised.
fn check(root: &Path, promised: Promised, what: &str) {
    let yard = Yard::open(root.join("yard")).unwrap();
    for id in yard.listings_in_use().unwrap() {
        for content in yard.store.listing(id).unwrap().contents() {
            let bytes = fs::read(yard.store.pool.path(content)).unwrap();
            assert_eq!(blake3::hash(&bytes).as_bytes(), content.as_bytes(), "{what}: the pool is whole");
        }
    }
    let row = yard.catalog.twins().unwrap().into_iter().find(|row| row.name.as_str() == "b");
    assert!(row.is_some() || !promised.cloned, "{what}: the clone is there");
    let Some(row) = row else { return };
    assert!(row.removed_at.is_some() || !promised.removed, "{what}: it is removed");
    let stock = yard.store.listing(yard.catalog.stock_builds().unwrap()[0].listing).unwrap();
    if row.removed_at.is_none() {
        check_folder(&yard, &stock, root, what);
    }
    let history = yard.catalog.history(row.id).unwrap();
    let mine = blake3::hash(MINE.as_bytes());
    let has_mine = |state| {
        let listing: Listing = yard.store.listing(yard.store.state(state).unwrap().disk).unwrap();
        listing.contents().iter().any(|content| content.as_bytes() == mine.as_bytes())
    };
    assert!(!promised.settled || history.iter().any(|entry| has_mine(entry.state)), "{what}: what was settled is kept");
    assert!(!promised.kept || history.iter().any(|entry| entry.label.is_some()), "{what}: the snapshot is kept");
    let restored = history.iter().any(|entry| matches!(entry.what, What::Restore { .. }));
    assert!(!promised.restored || restored, "{what}: the restore is in the history");
}

/// Nothing that a power loss left of a file is taken for the player's own change.
fn check_folder(yard: &Yard, stock: &Listing, root: &Path, what: &str) {
    show::twin(yard, &"b".parse().unwrap(), &ctx()).unwrap_or_else(|error| panic!("{what}: {error}"));
    let row = yard.twin_row(&"b".parse().unwrap(), false).unwrap();
    let listing = yard.store.listing(yard.store.state(row.state).unwrap().disk).unwrap();
    for entry in listing.entries().iter().filter(|entry| entry.path.as_str() != "game/mine.wjs") {
        let known = stock.get(entry.path.as_str());
        assert_eq!(known.map(|known| &known.node), Some(&entry.node), "{what}: {} is whole", entry.path);
        let path = entry.path.below(&root.join("yard/twins/b"));
        if let Some(content) = entry.node.content() {
            assert_eq!(
                blake3::hash(&fs::read(&path).unwrap()).as_bytes(),
                content.as_bytes(),
                "{what}: {}",
                entry.path
            );
        }
    }
    assert!(tree(&root.join("yard/tmp")).is_empty(), "{what}: tmp is empty");
}

#[test]
fn whenever_the_power_goes_what_was_settled_is_whole() {
    let place = place();
    let (image, root) = (place.path().join("image"), place.path().join("root"));
    fs::File::create(&image).unwrap().set_len(48 << 20).unwrap();
    let mounted =
        run("mkfs.ext4", &["-q", "-J", "size=4", image.to_str().unwrap()]).then(|| Mounted::new(&image, &root));
    let Some(Some(mounted)) = mounted else {
        let test = "whenever_the_power_goes_what_was_settled_is_whole";
        assert!(std::env::var_os("YARDTWIN_NO_SKIPS").is_none(), "{test} was skipped");
        eprintln!("SKIPPED {test}: it takes root, a loop device and mkfs.ext4");
        return;
    };
    set_up(&root, "power");
    assert!(run("sync", &["-f", root.to_str().unwrap()]));
    let promised = Arc::new(Mutex::new(Promised::default()));
    let copies = Arc::new(Mutex::new(Vec::new()));
    let (so_far, taken, from, to) = (promised.clone(), copies.clone(), image.clone(), place.path().to_path_buf());
    let copy = move |number| {
        let copy = to.join(format!("copy{number}"));
        assert!(run("cp", &["--sparse=always", from.to_str().unwrap(), copy.to_str().unwrap()]));
        taken.lock().unwrap().push((copy, *so_far.lock().unwrap()));
        Ok(())
    };
    let ((), changes) = fault::before_each(copy, || story(&root, &promised));
    drop(mounted);
    fault::start_anew("the next start");
    let copies = std::mem::take(&mut *copies.lock().unwrap());
    for (number, (copy, promised)) in copies.iter().enumerate() {
        let mounted = Mounted::new(copy, &root).unwrap();
        check(&root, *promised, &format!("the power went before change {number} of {changes}, {promised:?}"));
        drop(mounted);
        fs::remove_file(copy).unwrap();
    }
    assert!(copies.first().unwrap().1.cloned != copies.last().unwrap().1.cloned, "before and after all was promised");
    eprintln!("the power went at {} points", copies.len());
}

#[test]
fn what_a_power_loss_left_is_put_right_and_what_it_may_not_have_been_is_kept() {
    let place = place();
    set_up(place.path(), "power");
    let yard = Yard::open(place.path().join("yard")).unwrap();
    clone(&yard, "wexcombe@b1", "b", Sharing::None).unwrap();
    let game = place.path().join("yard/twins/b/game");
    fs::write(game.join("scenery.dat"), "").unwrap();
    let program = fs::File::options().write(true).open(game.join("bin/game")).unwrap();
    let time = program.metadata().unwrap().modified().unwrap();
    std::io::Write::write_all(&mut &program, b"#!/bin/no").unwrap();
    program.set_modified(time).unwrap();
    fs::write(game.join("mine.wjs"), MINE).unwrap();
    drop(yard);
    fault::start_anew("another start");
    let yard = Yard::open(place.path().join("yard")).unwrap();
    show::twin(&yard, &"b".parse().unwrap(), &ctx()).unwrap();
    assert_eq!(fs::read(game.join("scenery.dat")).unwrap(), b"hills");
    assert_eq!(fs::read(game.join("bin/game")).unwrap(), b"#!/bin/sh\n");
    assert_eq!(fs::read(game.join("mine.wjs")).unwrap(), MINE.as_bytes(), "that is a player's own change");
    let history = history::entries(&yard, &"b".parse().unwrap(), &ctx()).unwrap();
    let kept = history.iter().find(|entry| entry.what == What::Meanwhile).unwrap();
    let listing = yard.store.listing(yard.store.state(kept.state).unwrap().disk).unwrap();
    let patched = blake3::hash(b"#!/bin/no\n");
    assert_eq!(listing.get("game/bin/game").unwrap().node.content().unwrap().as_bytes(), patched.as_bytes());
}
