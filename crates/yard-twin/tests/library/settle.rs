//! What happens in a twin is taken in by the next command, reading only what changed.

use std::fs::{self, File};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::PermissionsExt;
use std::process::Command;

use crate::common::{Place, clone, files_read, take_in, tree};
use yard_twin::{Class, Ctx, Sharing, SnapshotRef, Yard, remove, restore, show};

fn yard_with(place: &Place, sharing: Sharing) -> Yard {
    tree(&place.at("source"), 5);
    fs::write(place.at("source/same.dat"), "before").unwrap();
    let yard = Yard::init(place.at("yard")).unwrap();
    take_in(&yard, &place.at("source"), "1.4").unwrap();
    clone(&yard, "wexcombe@1.4", "a", sharing).unwrap();
    yard
}

fn details(yard: &Yard, name: &str) -> show::Details {
    show::twin(yard, &name.parse().unwrap(), &Ctx::new()).unwrap()
}

fn read_by_looking(yard: &Yard, name: &str) -> u64 {
    files_read(|ctx| {
        show::twin(yard, &name.parse().unwrap(), ctx).unwrap();
    })
}

#[test]
fn only_what_changed_is_read_whatever_our_own_commands_do_to_siblings() {
    for sharing in [Sharing::All, Sharing::None] {
        let place = Place::new();
        let yard = yard_with(&place, sharing);
        let game = place.at("yard/twins/a/game");
        assert_eq!(read_by_looking(&yard, "a"), 0, "right after the clone");
        clone(&yard, "a", "b", sharing).unwrap();
        assert_eq!(read_by_looking(&yard, "a"), 0, "after a sibling was made");
        let plan = remove::plan(&yard, &"b".parse().unwrap(), &Ctx::new()).unwrap();
        remove::let_go(&yard, &plan, &Ctx::new()).unwrap();
        assert_eq!(read_by_looking(&yard, "a"), 0, "after a sibling was deleted");

        // A change of the same size whose time is set back.
        let time = fs::metadata(game.join("same.dat")).unwrap().modified().unwrap();
        fs::write(game.join("new"), "after!").unwrap();
        fs::rename(game.join("new"), game.join("same.dat")).unwrap();
        File::options().write(true).open(game.join("same.dat")).unwrap().set_modified(time).unwrap();
        assert_eq!(read_by_looking(&yard, "a"), 1);
        let twin = details(&yard, "a");
        assert_eq!(twin.changes.summary(), "same.dat changed");
        assert_eq!(twin.shares.own.files, 1);
    }
}

#[test]
fn a_lost_or_damaged_index_and_a_copied_yard_cost_reading_and_nothing_else() {
    let place = Place::new();
    let yard = yard_with(&place, Sharing::All);
    let before = details(&yard, "a");
    let all = before.summary.totals.files;
    let index = place.at("yard/twins/a/index");
    let mut bytes = fs::read(&index).unwrap();
    let middle = bytes.len() / 2;
    bytes[middle] ^= 1;
    fs::write(&index, bytes).unwrap();
    assert!(read_by_looking(&yard, "a") > 0);
    fs::remove_file(&index).unwrap();
    // Two names of one inode are read once.
    assert!((1..=all).contains(&read_by_looking(&yard, "a")));
    assert_eq!(read_by_looking(&yard, "a"), 0);
    assert_eq!(details(&yard, "a").changes, before.changes);

    drop(yard);
    let status = Command::new("cp").arg("-a").arg(place.at("yard")).arg(place.at("copy")).status().unwrap();
    assert!(status.success());
    let copy = Yard::open(place.at("copy")).unwrap();
    assert!(read_by_looking(&copy, "a") > 0, "the pool is another one");
    assert!(details(&copy, "a").changes.is_empty());
    assert!(details(&copy, "a").leaks.is_empty());
}

#[test]
fn what_no_listing_can_hold_is_named_and_only_a_clone_is_refused() {
    let place = Place::new();
    let yard = yard_with(&place, Sharing::None);
    let game = place.at("yard/twins/a/game");
    let odd = game.join(std::ffi::OsStr::from_bytes(b"not \xff text"));
    let _socket = std::os::unix::net::UnixListener::bind(game.join("socket")).unwrap();
    assert!(Command::new("mkfifo").arg(game.join("fifo")).status().unwrap().success());
    fs::write(&odd, "x").unwrap();
    std::os::unix::fs::symlink(place.at("yard/pool"), game.join("lean on the pool")).unwrap();
    let twin = details(&yard, "a");
    let named: Vec<_> = twin.not_taken.iter().map(|what| what.rsplit_once(" (").unwrap().1).collect();
    assert_eq!(named.len(), 4, "{named:?}");
    let error = clone(&yard, "a", "b", Sharing::None).unwrap_err();
    assert_eq!(error.class(), Class::Refused);
    assert!(odd.exists() && game.join("fifo").exists(), "they stay where they are");
    for path in [odd, game.join("socket"), game.join("fifo"), game.join("lean on the pool")] {
        fs::remove_file(path).unwrap();
    }
    clone(&yard, "a", "b", Sharing::None).unwrap();
}

#[test]
fn a_write_through_a_lifted_guard_is_found_and_repaired_or_named() {
    let place = Place::new();
    let yard = yard_with(&place, Sharing::All);
    if details(&yard, "a").shares.linked.files == 0 {
        // Where blocks are shared, there is no guard to lift.
        return;
    }
    clone(&yard, "wexcombe@1.4", "b", Sharing::All).unwrap();
    let [path, other] = ["a", "b"].map(|twin| place.at(&format!("yard/twins/{twin}/game/same.dat")));
    let write = |path: &std::path::Path, text: &str| {
        let mtime = fs::metadata(path).unwrap().modified().unwrap();
        fs::set_permissions(path, fs::Permissions::from_mode(0o644)).unwrap();
        fs::write(path, text).unwrap();
        fs::set_permissions(path, fs::Permissions::from_mode(0o444)).unwrap();
        // As if nothing had happened: the same size, and the time put back.
        fs::File::open(path).unwrap().set_modified(mtime).unwrap();
    };
    write(&path, "leaked");
    let found = details(&yard, "a").leaks;
    assert_eq!((found.paths.as_slice(), found.damaged.len()), (["game/same.dat".to_owned()].as_slice(), 0));
    assert_eq!(found.repaired, [("b".to_owned(), "game/same.dat".to_owned())], "from where it was taken in");
    for path in [&path, &other] {
        assert_eq!(fs::read(path).unwrap(), b"before", "nobody can say whose it was: all have the right bytes");
    }
    let only = restore::Options {
        to: found.number.map(SnapshotRef::Number),
        only: vec!["game/same.dat".parse().unwrap()],
        ..restore::Options::default()
    };
    let ctx = Ctx::new();
    restore::apply(&yard, &restore::plan(&yard, &"a".parse().unwrap(), &only, &ctx).unwrap(), &ctx).unwrap();
    assert_eq!((fs::read(&path).unwrap(), fs::read(&other).unwrap()), (b"leaked".to_vec(), b"before".to_vec()));
    assert!(details(&yard, "a").leaks.is_empty() && details(&yard, "b").leaks.is_empty());

    // Where one twin alone shares the file, what it wrote is its own.
    write(&other, "writen");
    assert_eq!(details(&yard, "b").leaks.own, ["game/same.dat"]);
    assert_eq!(fs::read(&other).unwrap(), b"writen");
    clone(&yard, "wexcombe@1.4", "d", Sharing::All).unwrap();
    assert_eq!(fs::read(place.at("yard/twins/d/game/same.dat")).unwrap(), b"before");

    // A guard that is lifted, with no byte changed.
    let shared = place.at("yard/twins/d/game/same.dat");
    fs::set_permissions(&shared, fs::Permissions::from_mode(0o600)).unwrap();
    assert_eq!(details(&yard, "d").leaks.guarded, ["game/same.dat"]);
    assert_eq!(fs::metadata(&shared).unwrap().permissions().mode() & 0o777, 0o444);

    // The right bytes are nowhere else.
    fs::remove_dir_all(place.at("source")).unwrap();
    clone(&yard, "wexcombe@1.4", "e", Sharing::All).unwrap();
    write(&shared, "leaked");
    let found = details(&yard, "d").leaks;
    assert!(found.damaged.contains(&"game/same.dat of the stock build wexcombe@1.4".to_owned()), "{:?}", found.damaged);
    // Whichever command comes first says so.
    let plan = remove::plan(&yard, &"e".parse().unwrap(), &Ctx::new()).unwrap();
    assert!(!plan.leaks.damaged.is_empty(), "the sibling's file is the same one");
    // The pool doesn't hand out wrong bytes: it has lost the content, and says so.
    let error = clone(&yard, "wexcombe@1.4", "c", Sharing::All).unwrap_err();
    assert!(matches!(error, yard_twin::Error::ContentMissing { .. }), "{error}");
    tree(&place.at("source"), 5);
    fs::write(place.at("source/same.dat"), "before").unwrap();
    let again = take_in(&yard, &place.at("source"), "1.4").unwrap();
    assert_eq!(again.new_contents, 1);
    clone(&yard, "wexcombe@1.4", "c", Sharing::All).unwrap();
    for twin in ["c", "d", "e"] {
        details(&yard, twin);
        assert_eq!(fs::read(place.at(&format!("yard/twins/{twin}/game/same.dat"))).unwrap(), b"before", "{twin}");
    }
    assert!(details(&yard, "d").leaks.is_empty());
    assert_eq!(fs::read_dir(place.at("yard/pool/aside")).unwrap().count(), 0, "nobody shares the wrong one any more");
}

#[test]
fn what_is_worth_nothing_is_neither_taken_in_nor_kept_nor_carried_along() {
    let place = Place::new();
    let source = place.at("source");
    standins::write_wexcombe(&source, "1.4", std::path::Path::new("/bin/true")).unwrap();
    let log = |root: &std::path::Path| {
        fs::create_dir_all(root.join("logs/old")).unwrap();
        fs::write(root.join("logs/old/today.log"), "a long log").unwrap();
    };
    log(&source);
    let yard = Yard::init(place.at("yard")).unwrap();
    fs::write(place.at("yard/sheets/wexcombe.toml"), standins::WEXCOMBE_SHEET).unwrap();
    take_in(&yard, &source, "1.4").unwrap();
    let made = clone(&yard, "wexcombe@1.4", "a", Sharing::None).unwrap();
    let game = made.folder.join("game");
    assert_eq!(fs::read_dir(game.join("logs")).unwrap().count(), 0, "the folder is there, since programs may need it");
    log(&game);
    fs::create_dir_all(made.folder.join("home/.cache")).unwrap();
    fs::write(made.folder.join("home/.cache/thumbnails"), "a long log too").unwrap();
    fs::write(game.join("cabin/shifts/one.wjs"), "a shift").unwrap();
    let twin = details(&yard, "a");
    assert_eq!(twin.changes.summary(), "one.wjs new");
    let second = clone(&yard, "a", "b", Sharing::All).unwrap();
    assert_eq!(fs::read_dir(second.folder.join("game/logs")).unwrap().count(), 0);
    assert!(second.folder.join("game/cabin/shifts/one.wjs").exists());
    assert!(game.join("logs/old/today.log").exists(), "in the twin itself they are left alone");
    let pool = crate::common::look(&place.at("yard/pool"));
    assert!(pool.values().all(|what| !what.1.starts_with(b"a long log")));
}
