//! Faults that come together: a change of the disk fails, or is the process's last, just when somebody has written to the
//! twin, also to a file that it shares. No byte of theirs is lost, and nothing in the pool is trusted that is wrong.

use std::fs;
use std::io;
use std::path::Path;
use std::process::{Command, Stdio};

use super::meanwhile::{DOINGS, Doing, is_somewhere, outside};
use super::{OPERATIONS, Operation, ctx, place, set_up, tree};
use crate::Yard;
use crate::disk::{self, fault};
use crate::ident::ContentId;
use crate::report::show;
use crate::store::pool::Ledger;

/// What else somebody does: writes to a file that twins share, as it stands, with its time put back.
fn writes_directly(game: &Path, number: u64) -> Option<String> {
    let (path, bytes) = (game.join("data/5"), format!("directly {number}"));
    let meta = fs::metadata(&path).ok()?;
    fs::write(&path, &bytes).ok()?;
    fs::File::open(&path).ok()?.set_modified(meta.modified().ok()?).ok()?;
    Some(bytes)
}

fn doings() -> Vec<(&'static str, Doing)> {
    DOINGS.into_iter().chain([("somebody writes to a shared file", writes_directly as Doing)]).collect()
}

fn fold(yard: &Yard, _: &Path) -> crate::Result<()> {
    show::twin(yard, &"a".parse()?, &ctx()).map(|_| ())
}

/// An operation by its name, how its yard is made, and the twin that somebody writes in.
type Prepared = (&'static str, Operation, fn(&Path), &'static str);

fn operations() -> Vec<Prepared> {
    let known = |name: &str| OPERATIONS.into_iter().find(|(known, _)| *known == name).unwrap().1;
    let large: fn(&Path) = |place| set_up(place, "large rebase");
    vec![
        ("restore", known("large rebase"), large, "a"),
        ("clone", known("clone of a twin"), large, "a"),
        ("remove", known("remove"), large, "a"),
        ("fold", fold, |place| super::fold::pending(place), "a"),
        ("carry", known("carry"), |place| set_up(place, "carry"), "b"),
        ("renew", known("renew"), |place| set_up(place, "renew"), "a"),
        ("edit", known("edit"), |place| set_up(place, "edit"), "a"),
        ("repath", known("repath"), |place| set_up(place, "repath"), "a"),
        ("rename", known("rename"), |place| set_up(place, "rename"), "a"),
    ]
}

/// The change before which somebody writes fails, or ends the process.
fn run(operation: Operation, (place, twin): (&Path, &str), number: u64, doing: Doing, dies: bool) -> crate::Result<()> {
    let yard = Yard::open(place.join("yard")).unwrap();
    let (game, told) = (place.join("yard/twins").join(twin).join("game"), place.join("written"));
    let before = move |at| {
        if at != number {
            return Ok(());
        }
        if let Some(bytes) = doing(&game, number) {
            fs::write(&told, bytes).unwrap();
        }
        if dies {
            std::process::abort();
        }
        Err(io::Error::from_raw_os_error(rustix::io::Errno::IO.raw_os_error()))
    };
    fault::before_each(before, || operation(&yard, place)).0
}

/// Each file of the pool for which the ledger vouches holds what its name says.
fn pool_is_right(yard: &Yard, what: &str) {
    let ledger = Ledger::load(&yard.store.pool).unwrap();
    for path in tree(yard.store.pool.root()).into_iter().filter(|path| path.is_file()) {
        let name = path.file_name().unwrap().to_str().unwrap();
        let content = name.trim_end_matches(".x").parse::<ContentId>();
        if let Some(content) = content.ok().filter(|content| ledger.holds(*content, &disk::lstat(&path).unwrap())) {
            let bytes = fs::read(&path).unwrap();
            assert_eq!(blake3::hash(&bytes).as_bytes(), content.as_bytes(), "{what}: {}", path.display());
        }
    }
}

fn check(place: &Path, before: &[(std::path::PathBuf, Vec<u8>)], what: &str) {
    let yard = Yard::open(place.join("yard")).unwrap();
    let there = show::twins(&yard, false).unwrap().into_iter().map(|twin| twin.name).collect::<Vec<_>>();
    for name in there {
        // A folder that became a symlink is no folder to work in.
        if let Err(error) = show::twin(&yard, &name, &ctx()) {
            panic!("{what}: {name}: {}", error.with_causes());
        }
    }
    assert!(yard.catalog.intents().unwrap().is_empty(), "{what}");
    pool_is_right(&yard, what);
    drop(yard);
    if let Ok(bytes) = fs::read_to_string(place.join("written")) {
        assert!(is_somewhere(place, &bytes), "{what}: {bytes:?} is lost");
    }
    assert_eq!(outside(place), before, "{what}");
}

fn prepared(make: fn(&Path)) -> tempfile::TempDir {
    let place = place();
    make(place.path());
    fs::create_dir_all(place.path().join("outside/trap")).unwrap();
    for file in 0..12 {
        fs::write(place.path().join(format!("outside/trap/{file}")), "not the twin's").unwrap();
    }
    place
}

/// The changes of an operation that are to fail, each with its number, the operation's, and that of all changes.
fn points((at, (name, operation, make, _)): (usize, Prepared)) -> impl Iterator<Item = (usize, u64, u64)> {
    let clean = prepared(make);
    let yard = Yard::open(clean.path().join("yard")).unwrap();
    let (result, changes) = fault::failing(None, || operation(&yard, clean.path()));
    result.unwrap();
    // The others have few changes of a kind of their own: a part of them will do.
    let every = match name {
        "restore" | "fold" => 1,
        "clone" | "remove" => 3,
        _ => 5,
    };
    (0..changes).step_by(every).map(move |number| (at, number, changes))
}

/// One change of an operation fails with each way of writing, and is the last with one of them. Gives how often the process
/// died.
fn with_each_write((at, number, changes): (usize, u64, u64)) -> u32 {
    let (name, operation, make, twin) = operations()[at];
    let mut died = 0;
    for (with, (what, doing)) in doings().into_iter().enumerate() {
        let failed = prepared(make);
        let before = outside(failed.path());
        let result = run(operation, (failed.path(), twin), number, doing, false);
        let what = format!("{name}: {what} as change {number} of {changes} fails: {result:?}");
        check(failed.path(), &before, &what);
        // A process for each is slow: a part of the points, another one for each way of writing.
        if number % 6 != with as u64 % 6 {
            continue;
        }
        let died_at = prepared(make);
        let before = outside(died_at.path());
        let status = Command::new(std::env::current_exe().unwrap())
            .args(["--exact", "faults::products::dies_as_somebody_writes", "--ignored", "--quiet"])
            .env("YARDTWIN_DIES", format!("{at}\n{number}\n{with}\n{}", died_at.path().display()))
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .status()
            .unwrap();
        died += u32::from(!status.success());
        check(died_at.path(), &before, &format!("{what}, and is the last"));
    }
    died
}

#[test]
fn a_fault_and_a_write_at_the_same_time_lose_nothing() {
    let points: Vec<_> = operations().into_iter().enumerate().flat_map(points).collect();
    let died: u32 = super::shared_out(points.iter().copied(), with_each_write).into_iter().sum();
    assert!(died > 50);
    eprintln!("{} faults with {} ways to write each, and {died} deaths", points.len(), doings().len());
}

/// The process that dies.
#[test]
#[ignore = "does nothing by itself"]
fn dies_as_somebody_writes() {
    let Ok(told) = std::env::var("YARDTWIN_DIES") else { return };
    let told: Vec<&str> = told.splitn(4, '\n').collect();
    let (_, operation, _, twin) = operations()[told[0].parse::<usize>().unwrap()];
    let (_, doing) = doings()[told[2].parse::<usize>().unwrap()];
    let _ = run(operation, (Path::new(told[3]), twin), told[1].parse().unwrap(), doing, true);
}
