//! Fault sweep: each change of the disk that an operation makes fails in turn, and the process dies at each in turn.
//! Opened again, the yard is exactly as before or as after, its pool whole, and the operation can be done.

mod fold;
mod meanwhile;
mod power;
mod products;

use std::cell::RefCell;
use std::fmt::Write;
use std::fs;
use std::io::Write as _;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::Mutex;

use crate::catalog::What;
use crate::disk::fault;
use crate::entry;
use crate::error::Result;
use crate::ident::SnapshotRef;
use crate::ops::carry;
use crate::ops::clone;
use crate::ops::edits;
use crate::ops::edits::profile;
use crate::ops::intake;
use crate::ops::mods;
use crate::ops::protect;
use crate::ops::rename;
use crate::ops::renew;
use crate::ops::repath;
use crate::ops::restore;
use crate::ops::share;
use crate::ops::sheets;
use crate::ops::snapshot;
use crate::report::show;
use crate::store::pool::{Share, Sharing};
use crate::twin::Twin;
use crate::twin::change::Anew;
use crate::upkeep::bring_back;
use crate::upkeep::remove;
use crate::upkeep::sweep;
use crate::{Cancel, Ctx, Edit, RelPath, Yard};

type Operation = fn(&Yard, &Path) -> Result<()>;

const OPERATIONS: [(&str, Operation); 32] = [
    ("intake", |yard, place| intake(yard, &place.join("source"), "b2", false)),
    ("archives", |yard, place| {
        let mut options = intake::Options::new(place.join("one.zip"), "wexcombe".parse()?);
        (options.build, options.more, options.take_away) = (Some("b2".parse()?), vec![place.join("two.zip")], true);
        intake::apply(yard, &intake::plan(yard, options, &ctx())?, &ctx()).map(|_| ())
    }),
    ("move", |yard, place| intake(yard, &place.join("source"), "b2", true)),
    ("clone, links", |yard, _| clone(yard, "wexcombe@b1", "new", Sharing::All)),
    ("clone, copies", |yard, _| clone(yard, "wexcombe@b1", "new", Sharing::None)),
    ("clone of a twin", |yard, _| clone(yard, "a", "new", Sharing::All)),
    ("clone of a removed twin", |yard, _| clone(yard, "gone", "gone", Sharing::All)),
    ("settle", |yard, _| show::twin(yard, &"a".parse()?, &ctx()).map(|_| ())),
    ("snapshot", |yard, _| {
        snapshot::apply(yard, &snapshot::plan(yard, &"a".parse()?, Some(&"kept".parse()?), &ctx())?, &ctx()).map(|_| ())
    }),
    ("restore", |yard, _| restore(yard, "a", 1)),
    ("large rebase", |yard, _| restore(yard, "a", 1)),
    ("rename", |yard, _| {
        rename::apply(yard, &rename::plan(yard, &"a".parse()?, &"other".parse()?, true, &ctx())?, &ctx()).map(|_| ())
    }),
    ("share", |yard, _| {
        let options = share::Options { sharing: Sharing::None, patterns: Vec::new() };
        share::apply(yard, &share::plan(yard, &"a".parse()?, &options, &ctx())?, &ctx()).map(|_| ())
    }),
    ("laid anew", |yard, _| {
        let mut twin = Twin::hold(yard, &yard.twin_row(&"a".parse()?, false)?, &ctx())?;
        let settled = twin.settle(What::Outside, &ctx())?;
        let linked =
            settled.listing.entries().iter().zip(&settled.rows).filter(|(_, row)| row.share == Some(Share::Link));
        let paths = linked.map(|(entry, _)| entry.path.clone()).collect();
        twin.lay_anew(&settled, Anew { paths, sharing: Sharing::None }, &ctx()).map(drop)
    }),
    ("protect", |yard, _| protect::apply(yard, &protect::plan(yard, &"a".parse()?, true)?, &ctx()).map(|_| ())),
    ("sweep", |yard, _| sweep::apply(yard, &sweep::plan(yard, &ctx())?, &ctx()).map(|_| ())),
    ("remove", |yard, _| remove::apply(yard, &remove::plan(yard, &"a".parse()?, &ctx())?, &ctx()).map(|_| ())),
    ("bring back", |yard, _| {
        bring_back::apply(yard, &bring_back::plan(yard, &"gone".parse()?, None)?, &ctx()).map(|_| ())
    }),
    ("forget", |yard, _| remove::let_go(yard, &remove::plan(yard, &"a".parse()?, &ctx())?, &ctx()).map(|_| ())),
    ("profile", |yard, _| {
        profile::apply_profile(
            yard,
            &profile::plan_profile(yard, &"a".parse()?, None, &"note".parse()?, Some(&["x".into()]))?,
        )
        .map(|_| ())
    }),
    ("sheet", |yard, place| sheets::apply(yard, &sheets::plan_add(yard, &place.join("sheet.toml"), true)?, &ctx())),
    ("entry", |yard, place| {
        let options = entry::Options { command: vec!["/bin/true".into()], folder: place.join("menu") };
        entry::apply(yard, &entry::plan(yard, &"a".parse()?, &options)?)
    }),
    ("carry", |yard, _| carry(yard, &carry::Origin::Twin("a".parse()?))),
    ("carry from outside", |yard, place| carry(yard, &carry::Origin::Place(place.join("outside.wjs")))),
    ("renew", |yard, _| {
        let options = renew::Options { rest: Some(renew::Rest::Leave), ..renew::Options::default() };
        renew::apply(yard, &renew::plan(yard, &"a".parse()?, &options, &ctx())?, &ctx()).map(|_| ())
    }),
    ("edit", |yard, _| {
        let (file, key, value) = ("panel.ini".into(), "video.width".into(), "2560".into());
        let edit = Edit { file, key, value, format: None, encoding: None, enforce: false };
        let change = edits::Change::Set { edit, variant: None };
        edits::apply(yard, &edits::plan(yard, &"a".parse()?, &change, &ctx())?, &ctx()).map(|_| ())
    }),
    ("mod add", |yard, place| add_mod(yard, &place.join("pack"), "m")),
    ("mod off", |yard, _| {
        let off = mods::Change::Off(vec!["m".parse()?]);
        let plan = mods::plan(yard, &"a".parse()?, &off, &mods::Decisions::default(), &ctx())?;
        mods::apply(yard, &plan, &ctx()).map(|_| ())
    }),
    ("mod renew", |yard, _| {
        let (rest, without_mods) = (Some(renew::Rest::Leave), vec!["m".parse()?]);
        let options = renew::Options { rest, without_mods, ..renew::Options::default() };
        renew::apply(yard, &renew::plan(yard, &"a".parse()?, &options, &ctx())?, &ctx()).map(|_| ())
    }),
    ("mod update", |yard, place| {
        let options = mods::AddOptions::default();
        let packed = mods::read(yard, &[place.join("pack2")], &"wexcombe".parse()?, &Default::default(), &ctx())?;
        let plan = mods::plan_update(yard, (&"a".parse()?, &"m".parse()?), &packed, &options, &ctx())?;
        mods::apply(yard, &plan, &ctx()).map(|_| ())
    }),
    ("mod adopt", |yard, _| {
        let plan = mods::plan_adopt(yard, (&"a".parse()?, &"mine".parse()?), &Default::default(), &ctx())?;
        mods::apply(yard, &plan, &ctx()).map(|_| ())
    }),
    ("repath", |yard, _| {
        let named = Some((Path::new("/old/place"), Path::new("/new")));
        repath::apply(yard, &repath::plan(yard, &"a".parse()?, named, &ctx())?, &ctx()).map(|_| ())
    }),
];

thread_local! {
    /// What stops the operations of this thread.
    static CANCEL: RefCell<Cancel> = RefCell::default();
}

/// One thread, so that the n-th change is the same one each time.
fn ctx() -> Ctx {
    Ctx::new().with_threads(std::num::NonZeroUsize::MIN).with_cancel(CANCEL.with_borrow(Clone::clone))
}

fn intake(yard: &Yard, source: &Path, build: &str, take_away: bool) -> Result<()> {
    let mut options = intake::Options::new(source, "wexcombe".parse()?);
    options.build = Some(build.parse()?);
    options.take_away = take_away;
    intake::apply(yard, &intake::plan(yard, options, &ctx())?, &ctx()).map(|_| ())
}

fn clone(yard: &Yard, source: &str, name: &str, sharing: Sharing) -> Result<()> {
    let ctx = ctx();
    let options = clone::Options { sharing: Some(sharing), ..clone::Options::default() };
    clone::apply(yard, &clone::plan(yard, &source.parse()?, &name.parse()?, options, &ctx)?, &ctx).map(|_| ())
}

fn add_mod(yard: &Yard, package: &Path, name: &str) -> Result<()> {
    let options = mods::ReadOptions { name: Some(name.parse()?), ..mods::ReadOptions::default() };
    let packed = mods::read(yard, &[package.into()], &"wexcombe".parse()?, &options, &ctx())?;
    let options = mods::AddOptions { into: RelPath::new("game").ok(), strip: Some(0), ..mods::AddOptions::default() };
    mods::apply(yard, &mods::plan_add(yard, &"a".parse()?, &packed, &options, &ctx())?, &ctx()).map(|_| ())
}

/// Two packages of one mod: files of their own, one in the place of a shipped one, and something for an archive.
fn packages(place: &Path) {
    const INLAY: &str = "[[inlay]]\narchive = \"game/rules.zip\"\nfrom = \"in/**\"\n";
    let files = [("own/x", "x"), ("data/1", "the mod's"), ("in/entry", "inside"), ("yardtwin-mod.toml", INLAY)];
    for (folder, more) in [("pack", "own/old"), ("pack2", "own/new")] {
        for (path, text) in files.iter().chain([&(more, folder)]) {
            let path = place.join(folder).join(path);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, text).unwrap();
        }
    }
    fs::write(place.join("pack2/in/entry"), "inside, anew").unwrap();
    // An entry has the time of its file.
    let time = std::time::SystemTime::UNIX_EPOCH + std::time::Duration::from_secs(1_000_000_000);
    for folder in ["pack", "pack2"] {
        let file = fs::File::options().append(true).open(place.join(folder).join("in/entry")).unwrap();
        file.set_modified(time).unwrap();
    }
}

fn restore(yard: &Yard, twin: &str, to: u32) -> Result<()> {
    let ctx = ctx();
    let options = restore::Options { to: Some(SnapshotRef::Number(to)), all: true, ..restore::Options::default() };
    restore::apply(yard, &restore::plan(yard, &twin.parse()?, &options, &ctx)?, &ctx).map(|_| ())
}

fn carry(yard: &Yard, from: &carry::Origin) -> Result<()> {
    let options = carry::Options { groups: vec!["shifts".into()], ..carry::Options::default() };
    carry::apply(yard, &carry::plan(yard, from, &"b".parse()?, &options, &ctx())?, &ctx()).map(|_| ())
}

/// Changes of every kind: files to folders and back, links, programs, whole folders that come and go.
fn change_much(game: &Path) {
    fs::remove_dir(game.join("empty")).unwrap();
    fs::write(game.join("empty"), "a file where a folder was").unwrap();
    fs::remove_file(game.join("link")).unwrap();
    fs::create_dir_all(game.join("link/deep")).unwrap();
    fs::write(game.join("link/deep/file"), "a folder where a link was").unwrap();
    fs::remove_dir_all(game.join("bin")).unwrap();
    symlink("scenery.dat", game.join("bin")).unwrap();
    for number in 0..12 {
        let folder = game.join(format!("added/{}", number % 3));
        fs::create_dir_all(&folder).unwrap();
        fs::write(folder.join(number.to_string()), format!("added {number}")).unwrap();
        let data = game.join(format!("data/{number}"));
        fs::remove_file(&data).unwrap();
        fs::write(&data, format!("replaced {number}")).unwrap();
    }
}

/// A yard with a stock build, a twin in which something happened since, and a removed twin. What happened is settled
/// already, but for the operation that is about that: a settle before another operation is a change of its own.
fn set_up(place: &Path, name: &str) {
    let source = place.join("source");
    fs::create_dir_all(source.join("bin")).unwrap();
    fs::create_dir_all(source.join("empty")).unwrap();
    fs::write(source.join("bin/game"), "#!/bin/sh\n").unwrap();
    fs::set_permissions(source.join("bin/game"), fs::Permissions::from_mode(0o755)).unwrap();
    fs::write(source.join("scenery.dat"), "hills").unwrap();
    symlink("scenery.dat", source.join("link")).unwrap();
    fs::create_dir_all(source.join("data")).unwrap();
    let zipped = |path: PathBuf, names: &[&str]| {
        let mut zip = zip::ZipWriter::new(fs::File::create(path).unwrap());
        for name in names {
            zip.start_file(*name, zip::write::SimpleFileOptions::default()).unwrap();
            zip.write_all(name.as_bytes()).unwrap();
        }
        zip.finish().unwrap();
    };
    if name.starts_with("mod ") {
        zipped(source.join("rules.zip"), &["rule"]);
        packages(place);
    }
    if name == "archives" {
        zipped(place.join("one.zip"), &["Game/bin/game", "Game/data/1"]);
        zipped(place.join("two.zip"), &["Game/data/1", "Game/data/2"]);
    }
    let shared =
        name.starts_with("mod ") || ["large rebase", "carry", "renew", "edit", "repath", "rename"].contains(&name);
    for number in 0..if shared { 12 } else { 0 } {
        fs::write(source.join(format!("data/{number}")), format!("data {number}")).unwrap();
    }
    fs::write(place.join("sheet.toml"), "title = \"wexcombe\"\nname = \"Wexcombe Junction\"\n").unwrap();
    let yard = Yard::init(place.join("yard")).unwrap();
    intake(&yard, &source, "b1", false).unwrap();
    clone(&yard, "wexcombe@b1", "a", Sharing::All).unwrap();
    clone(&yard, "wexcombe@b1", "gone", Sharing::None).unwrap();
    fs::write(place.join("yard/twins/gone/game/mine"), "mine too").unwrap();
    let gone = remove::plan(&yard, &"gone".parse().unwrap(), &ctx()).unwrap();
    remove::apply(&yard, &gone, &ctx()).unwrap();
    fs::write(source.join("new.dat"), "valleys").unwrap();
    fs::write(place.join("yard/twins/a/game/shift.wjs"), "a shift").unwrap();
    fs::remove_file(place.join("yard/twins/a/game/scenery.dat")).unwrap();
    if name == "large rebase" {
        change_much(&place.join("yard/twins/a/game"));
    }
    if ["carry", "carry from outside", "renew", "edit", "repath"].contains(&name) {
        let sheet = "title = \"wexcombe\"\n[belongings.shifts]\npatterns = [\"game/*.wjs\", \"game/*.ini\"]\n";
        fs::write(place.join("yard/sheets/wexcombe.toml"), sheet).unwrap();
        fs::write(place.join("outside.wjs"), "a shift from elsewhere").unwrap();
        let panel = "[video]\nwidth = 1280\nboards = /old/place/boards\n";
        fs::write(place.join("yard/twins/a/game/panel.ini"), panel).unwrap();
        clone(&yard, "wexcombe@b1", "b", Sharing::All).unwrap();
    }
    if ["mod off", "mod update", "mod renew"].contains(&name) {
        add_mod(&yard, &place.join("pack"), "m").unwrap();
        fs::write(place.join("yard/twins/a/game/own/written"), "by the program").unwrap();
    }
    if name == "rename" {
        let game = place.join("yard/twins/a/game");
        fs::write(game.join("paths.ini"), format!("data = {}/data\n", game.canonicalize().unwrap().display())).unwrap();
        let options = entry::Options { command: vec!["/bin/true".into()], folder: place.join("menu") };
        entry::apply(&yard, &entry::plan(&yard, &"a".parse().unwrap(), &options).unwrap()).unwrap();
    }
    if name == "move" {
        fs::set_permissions(source.join("new.dat"), fs::Permissions::from_mode(0o640)).unwrap();
        fs::write(source.join("again.dat"), "valleys").unwrap();
        fs::write(source.join("bin/tool"), "a tool").unwrap();
        fs::set_permissions(source.join("bin/tool"), fs::Permissions::from_mode(0o555)).unwrap();
        let lines = files_of(&source).into_iter().map(|(path, mode, hash)| format!("{mode} {hash} {path}\n"));
        fs::write(place.join("manifest"), lines.collect::<String>()).unwrap();
    }
    if name == "sweep" {
        let path = place.join("yard/yard.toml");
        let settings = fs::read_to_string(&path).unwrap();
        let keep = "[keep]\nstates = 1\ndays = 0\nremoved_days = 0\ngrace_days = 0\n";
        fs::write(&path, settings.split_once("[keep]").unwrap().0.to_owned() + keep).unwrap();
    }
    if name != "settle" {
        show::twin(&yard, &"a".parse().unwrap(), &ctx()).unwrap();
    }
}

/// A hash of bytes in which it does not matter where the place is.
fn hash(bytes: &[u8], place: &Path) -> blake3::Hash {
    let here = place.canonicalize().unwrap();
    blake3::hash(String::from_utf8_lossy(bytes).replace(here.to_str().unwrap(), "PLACE").as_bytes())
}

/// A hash of all that a listing holds, down to the bytes.
fn told(yard: &Yard, id: crate::ListingId, place: &Path) -> blake3::Hash {
    let mut hasher = blake3::Hasher::new();
    for entry in yard.store.listing(id).unwrap().entries() {
        let bytes = entry.node.content().map(|content| fs::read(yard.store.pool.path(content)).unwrap_or_default());
        let kind = if bytes.is_some() { String::new() } else { format!("{:?}", entry.node) };
        let content = hash(&bytes.unwrap_or_default(), place);
        hasher.update(format!("{} {kind} {content}\n", entry.path).as_bytes());
    }
    hasher.finalize()
}

/// The files below a folder: their paths, modes and bytes.
fn files_of(folder: &Path) -> Vec<(String, u32, blake3::Hash)> {
    let files = tree(folder).into_iter().filter(|path| path.is_file() && !path.is_symlink());
    files
        .map(|path| {
            let name = path.strip_prefix(folder).unwrap().to_str().unwrap().to_owned();
            (name, path.metadata().unwrap().permissions().mode() & 0o7777, blake3::hash(&fs::read(&path).unwrap()))
        })
        .collect()
}

/// Each file that was to be moved is at its source as it was, or whole in the yard.
fn nothing_is_lost_on_the_way(yard: &Yard, place: &Path) {
    let Ok(manifest) = fs::read_to_string(place.join("manifest")) else { return };
    let there = if place.join("source").is_dir() { files_of(&place.join("source")) } else { Vec::new() };
    let taken_in = yard.catalog.stock(&"wexcombe@b2".parse().unwrap()).unwrap().is_some();
    for line in manifest.lines() {
        let mut words = line.splitn(3, ' ');
        let mut word = || words.next().unwrap();
        let (mode, hash, path): (u32, _, _) =
            (word().parse().unwrap(), word().parse::<blake3::Hash>().unwrap(), word());
        let here = there.iter().find(|(name, ..)| name == path);
        let content = crate::ContentId::from_bytes(*hash.as_bytes());
        let pooled = fs::read(yard.store.pool.path(content)).is_ok_and(|bytes| blake3::hash(&bytes) == hash);
        let as_it_was = here.is_some_and(|(_, is, bytes)| (*is, *bytes) == (mode, hash));
        assert!(
            if taken_in { pooled } else { as_it_was },
            "{line}: taken in {taken_in}, here {here:?}, pooled {pooled}"
        );
    }
}

/// All that matters of a yard in words: what the catalogue says, and what the folders hold.
fn describe(place: &Path) -> String {
    let yard = Yard::open(place.join("yard")).unwrap();
    let mut out = String::new();
    for row in yard.catalog.stock_builds().unwrap() {
        writeln!(out, "stock {} {}", row.build, row.listing).unwrap();
    }
    for row in yard.catalog.twins().unwrap() {
        let state = yard.store.state(row.state).unwrap();
        let removed = row.removed_at.is_some();
        let protected = row.protected.is_some();
        let folder = if removed { "" } else { &row.folder };
        let disk = told(&yard, state.disk, place);
        writeln!(out, "twin {} removed {removed} protected {protected} {folder} disk {disk}", row.name).unwrap();
        for entry in yard.catalog.history(row.id).unwrap() {
            let state = yard.store.state(entry.state).unwrap();
            let disk = told(&yard, state.disk, place);
            writeln!(out, "    {} {:?} {:?} {disk} {:?}", entry.number, entry.what, entry.label, state.profile)
                .unwrap();
        }
        let folder = yard.folder_of(&row);
        for path in tree(&folder) {
            let name = path.strip_prefix(&folder).unwrap().display().to_string();
            let bytes = if path.is_symlink() { Vec::new() } else { fs::read(&path).unwrap_or_default() };
            // Ids are random, and an index is advisory.
            if !["id", "index"].contains(&name.as_str()) {
                writeln!(out, "    {name} {}", hash(&bytes, place)).unwrap();
            }
        }
    }
    for path in sheets::paths(&yard).unwrap() {
        writeln!(out, "sheet {}", fs::read_to_string(path).unwrap()).unwrap();
    }
    nothing_is_lost_on_the_way(&yard, place);
    writeln!(out, "entries {}", yard.catalog.entries().unwrap().len()).unwrap();
    let intents = yard.catalog.intents().unwrap();
    assert!(intents.is_empty(), "{intents:?}, {:?}", yard.recovered);
    assert_eq!(tree(&place.join("yard/tmp")), Vec::<PathBuf>::new(), "tmp is empty");
    for folder in ["twins", "removed"] {
        let folders = fs::read_dir(place.join("yard").join(folder)).unwrap().count();
        let twins = yard.catalog.twins().unwrap();
        let known = twins.iter().filter(|row| row.removed_at.is_some() == (folder == "removed")).count();
        assert_eq!(folders, known, "in {folder}");
    }
    for id in yard.listings_in_use().unwrap() {
        for content in yard.store.listing(id).unwrap().contents() {
            let bytes = fs::read(yard.store.pool.path(content)).unwrap();
            assert_eq!(blake3::hash(&bytes).as_bytes(), content.as_bytes(), "the pool is whole");
        }
    }
    out.replace(&place.display().to_string(), "[PLACE]")
}

/// Two threads share the work, each with faults of its own.
fn shared_out<T, R: Send>(all: impl Iterator<Item = T> + Send, work: impl Fn(T) -> R + Sync) -> Vec<R> {
    let left = Mutex::new(all);
    let next = || left.lock().unwrap().next();
    let share = || std::iter::from_fn(next).map(&work).collect::<Vec<_>>();
    std::thread::scope(|scope| {
        let other = scope.spawn(share);
        let mine = share();
        other.join().unwrap().into_iter().chain(mine).collect()
    })
}

fn tree(folder: &Path) -> Vec<PathBuf> {
    let mut paths = Vec::new();
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() && !path.is_symlink() {
            paths.extend(tree(&path));
        }
        paths.push(path);
    }
    paths.sort();
    paths
}

/// A place on a filesystem in memory, where there is one: each point of the sweep makes a yard of its own.
fn place() -> tempfile::TempDir {
    let memory = Path::new("/dev/shm");
    if memory.is_dir() { tempfile::tempdir_in(memory).unwrap() } else { tempfile::tempdir().unwrap() }
}

/// What a yard is before and after an operation, and how many changes of the disk lie in between.
fn clean_run(name: &str, operation: Operation) -> (String, String, u64) {
    let place = place();
    set_up(place.path(), name);
    let before = describe(place.path());
    let yard = Yard::open(place.path().join("yard")).unwrap();
    let (result, changes) = fault::failing(None, || operation(&yard, place.path()));
    result.unwrap();
    (before, describe(place.path()), changes)
}

/// The yard is as before or as after; where it is as before, the operation can be done now.
fn check(place: &Path, operation: Operation, before: &str, after: &str, what: &str) -> bool {
    let now = describe(place);
    let done = now == after;
    assert!(done || now == before, "{what}:\n{now}\nis neither\n{before}\nnor\n{after}");
    if !done {
        operation(&Yard::open(place.join("yard")).unwrap(), place).unwrap();
        assert_eq!(describe(place), after, "{what}, and then again");
    }
    done
}

#[test]
fn stopped_at_whichever_change_everything_is_as_before_or_as_after() {
    let mut stopped = 0;
    for name in ["clone, copies", "large rebase", "remove"] {
        let (_, operation) = OPERATIONS.into_iter().find(|(known, _)| *known == name).unwrap();
        let (before, after, changes) = clean_run(name, operation);
        for number in 0..changes {
            let place = place();
            set_up(place.path(), name);
            let cancel = Cancel::default();
            CANCEL.set(cancel.clone());
            let yard = Yard::open(place.path().join("yard")).unwrap();
            let result = fault::meanwhile(number, move || cancel.cancel(), || operation(&yard, place.path()));
            drop(yard);
            CANCEL.take();
            let what = format!("{name}, stopped at change {number} of {changes}: {result:?}");
            let done = check(place.path(), operation, &before, &after, &what);
            assert!(matches!(result, Ok(()) | Err(crate::Error::Cancelled)), "{what}");
            assert_eq!(result.is_ok(), done, "{what}");
            stopped += u32::from(result.is_err());
        }
    }
    assert!(stopped > 0);
    eprintln!("{stopped} operations were stopped, each undone");
}

/// What a sweep that was cut off has left goes with the next one: then the pool holds what is needed, and nothing else.
fn check_swept(place: &Path) {
    let yard = Yard::open(place.join("yard")).unwrap();
    sweep::apply(&yard, &sweep::plan(&yard, &ctx()).unwrap(), &ctx()).unwrap();
    let beside = |path: &Path| path.ends_with("generation") || path.ends_with("ledger");
    let files = tree(yard.store.pool.root()).into_iter().filter(|path| path.is_file() && !beside(path));
    let mut needed: Vec<PathBuf> = yard
        .store
        .contents_of(yard.listings_in_use().unwrap())
        .unwrap()
        .into_iter()
        .flat_map(|content| {
            [yard.store.pool.path(content), yard.store.pool.root().join(crate::store::pool::Pool::name(content, true))]
        })
        .filter(|path| path.exists())
        .collect();
    needed.sort();
    assert_eq!(files.collect::<Vec<_>>(), needed);
}

/// How many operations of a sweep were cut off, and how many of these were done all the same.
struct Swept {
    points: u32,
    done: u32,
}

fn sweep_one(name: &str, operation: Operation) -> Swept {
    let mut swept = Swept { points: 0, done: 0 };
    let (before, after, changes) = clean_run(name, operation);
    // What is laid anew is no change of a twin.
    assert!(before != after || name == "laid anew", "{name}");
    for number in 0..changes {
        let what = format!("{name}, change {number} of {changes}");
        let failed = place();
        set_up(failed.path(), name);
        let yard = Yard::open(failed.path().join("yard")).unwrap();
        let (result, _) = fault::failing(Some(number), || operation(&yard, failed.path()));
        drop(yard);
        let is_done = check(failed.path(), operation, &before, &after, &format!("{what} failed"));
        assert!(is_done || result.is_err(), "{what} failed, nothing was done, and nobody was told");

        let died = place();
        set_up(died.path(), name);
        let status = Command::new(std::env::current_exe().unwrap())
            .args(["--exact", "faults::dies", "--ignored", "--quiet"])
            .env("YARDTWIN_DIES", format!("{name}\n{number}\n{}", died.path().display()))
            .stdout(std::process::Stdio::null())
            .stderr(std::process::Stdio::null())
            .status()
            .unwrap();
        let is_done = check(died.path(), operation, &before, &after, &format!("died at {what}"));
        // How often the clock is asked differs from run to run, so the last points may not be reached.
        assert!(is_done || !status.success(), "{what}: nothing was done, and nobody died");
        if name == "sweep" {
            check_swept(failed.path());
            check_swept(died.path());
        }
        swept.points += u32::from(!status.success());
        swept.done += u32::from(is_done && !status.success());
    }
    eprintln!("{name}: {changes} points");
    swept
}

#[test]
fn whichever_change_fails_or_is_the_last_everything_is_as_before_or_as_after() {
    let only = std::env::var("YARDTWIN_FAULTS_OF").ok();
    let wanted = |(name, _): &(&str, Operation)| only.as_deref().is_none_or(|only| only == *name);
    let swept = shared_out(OPERATIONS.into_iter().filter(wanted), |(name, operation)| sweep_one(name, operation));
    let (points, done) = swept.iter().fold((0, 0), |(points, done), one| (points + one.points, done + one.done));
    eprintln!("{points} points failed and died at; after {done} of the deaths the operation turned out to be done");
}

/// The process that dies, started by the sweep.
#[test]
#[ignore = "does nothing by itself"]
fn dies() {
    let Ok(told) = std::env::var("YARDTWIN_DIES") else { return };
    let [name, number, place] = told.split('\n').collect::<Vec<_>>()[..] else { panic!("told {told:?}") };
    let (_, operation) = OPERATIONS.into_iter().find(|(known, _)| *known == name).unwrap();
    let yard = Yard::open(Path::new(place).join("yard")).unwrap();
    fault::dying(number.parse().unwrap(), || operation(&yard, Path::new(place))).unwrap();
}
