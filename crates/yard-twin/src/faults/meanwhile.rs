//! Others go on writing while a twin is changed: whatever they do, and whenever, none of their bytes is lost, and nothing
//! outside the twin is touched.

use std::cell::RefCell;
use std::fs;
use std::io::Write;
use std::os::fd::AsRawFd;
use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};
use std::rc::Rc;

use super::{OPERATIONS, change_much, clean_run, clone, place, restore, set_up, tree};
use crate::Yard;
use crate::disk::{At, fault};
use crate::listing::Node;
use crate::report::show;
use crate::store::pool::Sharing;

/// What someone does in the twin's game folder, and the bytes that must be somewhere afterwards. `None`: not possible any
/// more.
pub(super) type Doing = fn(&Path, u64) -> Option<String>;

pub(super) const DOINGS: [(&str, Doing); 4] = [
    ("an editor saves a file", |game, number| {
        let (staged, bytes) = (game.join("data/.3.new"), format!("saved at {number}"));
        fs::write(&staged, &bytes).ok()?;
        fs::rename(&staged, game.join("data/3")).ok()?;
        Some(bytes)
    }),
    ("a new file comes", |game, number| {
        let bytes = format!("new at {number}");
        fs::write(game.join("added/1/new"), &bytes).ok()?;
        Some(bytes)
    }),
    ("a program writes to its own file in place", |game, number| {
        let (path, bytes) = (game.join("shift.wjs"), format!("another shift at {number}"));
        fs::OpenOptions::new().write(true).truncate(true).open(&path).ok()?;
        fs::write(&path, &bytes).ok()?;
        Some(bytes)
    }),
    ("a folder is replaced by a symlink", |game, number| {
        let outside = game.parent()?.join("../../../outside");
        fs::rename(game.join("data"), outside.join("moved")).ok()?;
        symlink(outside.join("trap"), game.join("data")).ok()?;
        fs::write(outside.join("moved/note"), number.to_string()).ok()?;
        None
    }),
];

/// Whether bytes are in a twin's folder, or kept in a state of its history.
pub(super) fn is_somewhere(place: &Path, bytes: &str) -> bool {
    let folders = ["yard/twins", "yard/removed", "yard/kept"].map(|folder| place.join(folder));
    let files = folders.iter().filter(|folder| folder.exists()).flat_map(|folder| tree(folder));
    let on_disk = files.into_iter().any(|path| fs::read(path).is_ok_and(|b| b == bytes.as_bytes()));
    let yard = Yard::open(place.join("yard")).unwrap();
    let kept = || {
        let contents = yard.store.contents_of(yard.listings_in_use().unwrap()).unwrap();
        contents.iter().any(|content| fs::read(yard.store.pool.path(*content)).is_ok_and(|b| b == bytes.as_bytes()))
    };
    on_disk || kept()
}

pub(super) fn outside(place: &Path) -> Vec<(std::path::PathBuf, Vec<u8>)> {
    let trap = place.join("outside/trap");
    tree(&trap).into_iter().map(|path| (path.clone(), fs::read(&path).unwrap_or_default())).collect()
}

#[test]
fn whatever_others_write_while_a_twin_is_changed_is_kept_and_nothing_outside_is_touched() {
    let (name, operation) = OPERATIONS.into_iter().find(|(name, _)| *name == "large rebase").unwrap();
    let (_, _, changes) = clean_run(name, operation);
    let (mut happened, mut refused) = (0u64, 0);
    for number in 0..changes {
        for (what, doing) in DOINGS {
            let place = place();
            set_up(place.path(), name);
            fs::create_dir_all(place.path().join("outside/trap")).unwrap();
            for file in 0..12 {
                fs::write(place.path().join(format!("outside/trap/{file}")), "not the twin's").unwrap();
            }
            let before = outside(place.path());
            let yard = Yard::open(place.path().join("yard")).unwrap();
            let (game, written) = (place.path().join("yard/twins/a/game"), place.path().join("written"));
            let told = written.clone();
            let doing = move || {
                if let Some(bytes) = doing(&game, number) {
                    fs::write(&told, bytes).unwrap();
                }
            };
            let result = fault::meanwhile(number, doing, || operation(&yard, place.path()));
            drop(yard);
            let what = format!("{what} before change {number} of {changes}: {result:?}");
            if let Ok(bytes) = fs::read_to_string(&written) {
                assert!(is_somewhere(place.path(), &bytes), "{what}");
                happened += 1;
            }
            refused += u32::from(result.is_err());
            assert_eq!(outside(place.path()), before, "{what}");
            // Whatever came of it, the yard opens, and the twin can be looked at and changed.
            let yard = Yard::open(place.path().join("yard")).unwrap();
            show::twin(&yard, &"a".parse().unwrap(), &super::ctx()).unwrap();
            assert!(yard.catalog.intents().unwrap().is_empty(), "{what}");
        }
    }
    assert!(happened > changes && refused > 0, "each way was tried at many points");
    eprintln!("{happened} writes came in between, none of them was lost; {refused} changes were given up for it");
}

/// A twin of copies in which much was changed.
fn changed_copies(place: &Path) -> Yard {
    set_up(place, "large rebase");
    let yard = Yard::open(place.join("yard")).unwrap();
    clone(&yard, "wexcombe@b1", "own", Sharing::None).unwrap();
    change_much(&place.join("yard/twins/own/game"));
    yard
}

/// A program that has waited for files writes to each in the instant in which it is there, before anybody can look at it.
/// What it made of them is added to `written`.
fn writes_at_once(game: PathBuf, written: Rc<RefCell<Vec<String>>>) -> impl FnMut(At<'_>) {
    move |At(folder, file)| {
        let path = fs::read_link(format!("/proc/self/fd/{}", folder.as_raw_fd())).unwrap().join(file);
        if path.starts_with(&game) && fs::symlink_metadata(&path).is_ok_and(|stat| stat.is_file()) {
            fs::OpenOptions::new().write(true).open(&path).unwrap().write_all(b"!").unwrap();
            written.borrow_mut().push(fs::read_to_string(&path).unwrap());
        }
    }
}

#[test]
fn what_is_written_to_a_file_as_soon_as_it_is_in_its_place_is_seen() {
    let place = place();
    let yard = changed_copies(place.path());
    let (folder, written) = (place.path().join("yard/twins/own"), Rc::default());
    let write = writes_at_once(folder.join("game"), Rc::clone(&written));
    let (_, changes) = fault::failing(None, || fault::after_each_move(write, || restore(&yard, "own", 1)).unwrap());
    assert!(written.borrow().len() > 5);
    show::twin(&yard, &"own".parse().unwrap(), &super::ctx()).unwrap();
    let row = yard.twin_row(&"own".parse().unwrap(), false).unwrap();
    let listing = yard.store.listing(yard.store.state(row.state).unwrap().disk).unwrap();
    for entry in listing.entries() {
        if let Node::File { content, .. } = entry.node {
            let bytes = fs::read(folder.join(entry.path.as_str())).unwrap();
            assert_eq!(blake3::hash(&bytes).as_bytes(), content.as_bytes(), "{}", entry.path);
        }
    }
    // What is undone again comes out with what was written to it.
    let mut undone = 0;
    for number in (0..changes).rev() {
        let place = super::place();
        let yard = changed_copies(place.path());
        let written = Rc::default();
        let write = writes_at_once(place.path().join("yard/twins/own/game"), Rc::clone(&written));
        let restored = || fault::after_each_move(write, || restore(&yard, "own", 1));
        let (result, _) = fault::failing(Some(number), restored);
        drop(yard);
        if written.borrow().is_empty() {
            // Before that nothing had come.
            break;
        }
        undone += u32::from(result.is_err());
        for bytes in written.borrow().iter() {
            assert!(is_somewhere(place.path(), bytes), "{bytes:?}, change {number} of {changes} failed: {result:?}");
        }
    }
    assert!(undone > 10);
    eprintln!("{} files were written to as they came; {undone} restores were undone then", written.borrow().len());
}
