//! Others go on writing while a twin is changed: whatever they do, and whenever, none of their bytes is lost, and nothing
//! outside the twin is touched.

use std::fs;
use std::os::unix::fs::symlink;
use std::path::Path;

use super::{OPERATIONS, clean_run, place, set_up, tree};
use crate::Yard;
use crate::disk::fault;
use crate::report::show;

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
