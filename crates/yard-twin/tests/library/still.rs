//! A twin in which nothing has changed is known by its index alone, and whatever changes in one is seen all the same.

use std::collections::BTreeSet;
use std::fs::{self, File};
use std::os::unix::fs::{MetadataExt, PermissionsExt, symlink};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::{Duration, Instant};

use crate::common::{Dice, Place, Seen, clone, is_root, look, skip, take_in, tree};
use yard_twin::compare::{self, Differs};
use yard_twin::{Ctx, Sharing, SnapshotRef, Yard, check, history, play, restore, show};

/// The paths in the game that differ from the twin's last state.
fn seen_to_differ(yard: &Yard) -> BTreeSet<String> {
    let difference = compare::since(yard, &"a".parse().unwrap(), &Ctx::new()).unwrap();
    let mut paths = BTreeSet::new();
    for differing in difference.paths {
        if let Differs::Moved { from } = &differing.how {
            paths.insert(from.to_string());
        }
        paths.insert(differing.path.to_string());
    }
    paths
}

/// Every file, symlink and empty folder of the game, as another program sees them.
fn leaves(game: &Path) -> Seen {
    let mut all = look(game);
    let folders: BTreeSet<String> = all.keys().filter_map(|path| Some(path.rsplit_once('/')?.0.to_owned())).collect();
    all.retain(|path, (kind, ..)| *kind != 'd' || !folders.contains(path));
    all
}

fn differing(before: &Seen, after: &Seen) -> BTreeSet<String> {
    // That a folder is empty now, or no longer, shows by what was or is in it.
    let holds = |all: &Seen, path: &str| {
        all.keys().any(|other| other.strip_prefix(path).is_some_and(|rest| rest.starts_with('/')))
    };
    let paths = before.keys().chain(after.keys()).filter(|path| before.get(*path) != after.get(*path));
    let paths = paths.filter(|path| !holds(before, path) || after.get(*path).is_none_or(|now| now.0 != 'd'));
    let paths = paths.filter(|path| !holds(after, path) || before.get(*path).is_none_or(|was| was.0 != 'd'));
    paths.map(|path| format!("game/{path}")).collect()
}

/// One of the paths below a folder, or `None` where there is none of that kind.
fn one_of(game: &Path, dice: &mut Dice, wanted: impl Fn(&Path, &fs::Metadata) -> bool) -> Option<PathBuf> {
    let mut paths: Vec<PathBuf> = look(game).into_keys().map(|path| game.join(path)).collect();
    paths.retain(|path| path.symlink_metadata().is_ok_and(|meta| wanted(path, &meta)));
    let at = usize::try_from(dice.roll(paths.len().max(1) as u64)).unwrap();
    paths.get(at).cloned()
}

/// A name of the twin's own in the same folder.
fn beside(path: &Path, dice: &mut Dice) -> PathBuf {
    path.with_file_name(format!("new-{}", dice.roll(1 << 40)))
}

fn set_times_back(path: &Path, meta: &fs::Metadata) {
    File::open(path).unwrap().set_times(fs::FileTimes::new().set_modified(meta.modified().unwrap())).unwrap();
}

/// So many kinds of changes there are.
const KINDS: u64 = 16;

/// Does one thing of some kind, with the times put back as far as anybody can; says what, or nothing where it can't.
fn change(game: &Path, kind: u64, dice: &mut Dice) -> Option<&'static str> {
    let own_file = |_: &Path, meta: &fs::Metadata| meta.is_file() && meta.nlink() == 1 && meta.len() > 0;
    let file = |_: &Path, meta: &fs::Metadata| meta.is_file();
    let folder = |path: &Path, meta: &fs::Metadata| meta.is_dir() && path != game;
    Some(match kind {
        0 => {
            let path = one_of(game, dice, own_file)?;
            let meta = path.metadata().unwrap();
            let mut bytes = fs::read(&path).unwrap();
            bytes[0] ^= 1;
            fs::write(&path, bytes).unwrap();
            set_times_back(&path, &meta);
            "other bytes of the same number, at the same time"
        }
        1 => {
            let path = one_of(game, dice, own_file)?;
            let mode = path.metadata().unwrap().mode();
            fs::set_permissions(&path, fs::Permissions::from_mode(mode ^ 0o111)).unwrap();
            "a mode"
        }
        2 => {
            let path = one_of(game, dice, file)?;
            fs::rename(&path, beside(&path, dice)).unwrap();
            "a name"
        }
        3 => {
            let path = one_of(game, dice, file)?;
            fs::remove_file(&path).unwrap();
            fs::create_dir(&path).unwrap();
            "a file that is a folder now"
        }
        4 => {
            let path = one_of(game, dice, |_, meta| meta.is_symlink())?;
            let target = fs::read_link(&path).unwrap().into_os_string().into_string().unwrap();
            fs::remove_file(&path).unwrap();
            symlink(target.replace('t', "z"), &path).unwrap();
            "a symlink's target"
        }
        5 => {
            let (one, other) = (one_of(game, dice, file)?, one_of(game, dice, file)?);
            let aside = beside(&one, dice);
            for (from, to) in [(&one, &aside), (&other, &one), (&aside, &other)] {
                // Where both are the same one, it is where it was.
                let _ = fs::rename(from, to);
            }
            "two files in each other's place"
        }
        6 => {
            fs::create_dir(beside(&one_of(game, dice, file)?, dice)).unwrap();
            "an empty folder"
        }
        7 => {
            let path = one_of(game, dice, file)?;
            fs::hard_link(&path, beside(&path, dice)).unwrap();
            "a hard link"
        }
        8 => {
            let path = one_of(game, dice, folder)?;
            let aside = beside(&path, dice);
            fs::rename(&path, &aside).unwrap();
            assert!(Command::new("cp").arg("-a").args([&aside, &path]).status().unwrap().success());
            fs::remove_dir_all(&aside).unwrap();
            let other = one_of(&path, dice, own_file);
            other.into_iter().for_each(|file| fs::write(file, "x").unwrap());
            "a folder moved away, and another in its place"
        }
        9 => {
            let path = one_of(game, dice, |path, _| path.to_str().is_some_and(|path| path.contains('e')))?;
            let name = path.file_name().unwrap().to_str().unwrap();
            fs::rename(&path, path.with_file_name(name.replace('e', "E"))).unwrap();
            "the case of a name"
        }
        10 => {
            let path = one_of(game, dice, file)?;
            let (meta, new) = (path.metadata().unwrap(), beside(&path, dice));
            fs::write(&new, dice.bytes(meta.len())).unwrap();
            set_times_back(&new, &meta);
            fs::rename(new, &path).unwrap();
            "another file of the same size and time in the place of one"
        }
        11 | 12 => {
            let path = one_of(game, dice, file)?;
            let folder = path.parent().unwrap();
            let meta = folder.metadata().unwrap();
            if kind == 11 {
                fs::write(beside(&path, dice), "new").unwrap();
            } else {
                fs::remove_file(&path).unwrap();
            }
            set_times_back(folder, &meta);
            "a file that came or went, at the folder's old time"
        }
        13 => {
            fs::remove_dir_all(one_of(game, dice, folder)?).unwrap();
            "a folder that is gone"
        }
        14 => {
            let path = one_of(game, dice, own_file)?;
            File::options().write(true).open(&path).unwrap().set_len(1).unwrap();
            "a file that is shorter"
        }
        _ => {
            let path = one_of(game, dice, folder)?;
            let aside = beside(&path, dice);
            fs::rename(&path, &aside).unwrap();
            symlink(&aside, &path).unwrap();
            "a folder moved away, and a symlink to it in its place"
        }
    })
}

#[test]
fn whatever_changes_in_a_twin_is_seen_and_nothing_else() {
    for (seed, sharing) in [(1, Sharing::All), (2, Sharing::None), (3, Sharing::All)] {
        let place = Place::new();
        tree(&place.at("source"), seed);
        let yard = Yard::init(place.at("yard")).unwrap();
        take_in(&yard, &place.at("source"), "1.4").unwrap();
        clone(&yard, "wexcombe@1.4", "a", sharing).unwrap();
        let (game, mut dice) = (place.at("yard/twins/a/game"), Dice::new(seed));
        for kind in 0..KINDS {
            let before = leaves(&game);
            let Some(what) = change(&game, kind, &mut dice) else { continue };
            let expected = differing(&before, &leaves(&game));
            let what = format!("seed {seed}: {what}");
            assert_eq!(seen_to_differ(&yard), expected, "{what}");
            // Once more: what was only looked at is not taken for known.
            assert_eq!(seen_to_differ(&yard), expected, "{what}, looked at again");
            if dice.roll(3) == 0 {
                // It stays while more comes.
                let more = change(&game, dice.roll(KINDS), &mut dice);
                assert_eq!(seen_to_differ(&yard), differing(&before, &leaves(&game)), "{what}, and {more:?}");
            }
            let then = live_on(&yard, &mut dice);
            continue_from(&yard, &format!("{what}, {then}"));
        }
    }
}

/// Something else that happens in a twin's life, which takes in what there is.
fn live_on(yard: &Yard, dice: &mut Dice) -> String {
    let (name, ctx) = ("a".parse().unwrap(), Ctx::new());
    match dice.roll(4) {
        0 => "looked at".into(),
        1 => {
            let newest = history::entries(yard, &name, &ctx).unwrap().iter().map(|line| line.number).max().unwrap();
            let to = 1 + u32::try_from(dice.roll(newest.into())).unwrap();
            let options = restore::Options { to: Some(SnapshotRef::Number(to)), all: true, ..Default::default() };
            restore::apply(yard, &restore::plan(yard, &name, &options, &ctx).unwrap(), &ctx).unwrap();
            format!("restored to line {to}")
        }
        end => {
            let script = format!(
                "for file in *; do [ -f \"$file\" ] && break; done; rm -f \"$file\"; echo {end} > run-{}",
                dice.roll(5)
            );
            let options =
                play::Options { tool: Some(["sh", "-c", &script].map(Into::into).into()), ..Default::default() };
            let plan = match play::plan(yard, &name, &options, &ctx) {
                Ok(plan) => plan,
                Err(error) => {
                    skip("a launch between changes", &error.to_string());
                    return "not launched".into();
                }
            };
            let mut running = play::start(yard, &plan, &options, &ctx).unwrap();
            if end == 2 {
                running.wait(&ctx).unwrap();
                return format!("launched: {script}");
            }
            // As if the launcher were killed: nobody takes in what the run wrote.
            running.program_ended();
            drop(running);
            // What kept it holds the twin until it has ended.
            let began = Instant::now();
            while show::twin(yard, &name, &ctx).unwrap().unsettled.is_some() {
                assert!(began.elapsed() < Duration::from_secs(60), "it is never let go");
                std::thread::sleep(Duration::from_millis(5));
            }
            format!("launched, with nobody to see it end: {script}")
        }
    }
}

/// Takes in what there is, after which nothing differs.
fn continue_from(yard: &Yard, what: &str) {
    show::twin(yard, &"a".parse().unwrap(), &Ctx::new()).unwrap();
    assert_eq!(seen_to_differ(yard), BTreeSet::new(), "{what}, once it was taken in");
}

/// A yard with a twin that was looked at, long enough after it was made.
fn looked_at(place: &Place) -> Yard {
    tree(&place.at("source"), 7);
    let yard = Yard::init(place.at("yard")).unwrap();
    take_in(&yard, &place.at("source"), "1.4").unwrap();
    clone(&yard, "wexcombe@1.4", "a", Sharing::All).unwrap();
    std::thread::sleep(Duration::from_millis(40));
    assert_eq!(seen_to_differ(&yard), BTreeSet::new());
    yard
}

#[test]
fn where_all_is_as_the_index_says_nothing_else_is_read() {
    let place = Place::new();
    looked_at(&place);
    let index = || fs::metadata(place.at("yard/twins/a/index")).unwrap().ino();
    let (written, listings) = (index(), place.at("yard/listings"));
    fs::rename(&listings, place.at("away")).unwrap();
    // One that has read nothing yet.
    let yard = Yard::open(place.at("yard")).unwrap();
    assert_eq!(seen_to_differ(&yard), BTreeSet::new(), "without a listing to compare with");
    assert_eq!(index(), written, "and nothing is written");
    fs::write(place.at("yard/twins/a/game/new"), "new").unwrap();
    assert!(compare::since(&yard, &"a".parse().unwrap(), &Ctx::new()).is_err(), "it is read once something is new");
    fs::rename(place.at("away"), &listings).unwrap();
    assert_eq!(seen_to_differ(&yard), BTreeSet::from(["game/new".to_owned()]));
}

#[test]
fn another_sheet_has_everything_looked_at_again() {
    let place = Place::new();
    let yard = looked_at(&place);
    fs::write(place.at("yard/twins/a/game/a.log"), "a line").unwrap();
    let log = BTreeSet::from(["game/a.log".to_owned()]);
    continue_from(&yard, "a log");
    let sheet = yard.sheet_path(&"wexcombe".parse().unwrap());
    fs::write(&sheet, "title = \"wexcombe\"\n[paths]\nscratch = [\"game/*.log\"]\n").unwrap();
    assert_eq!(seen_to_differ(&yard), log, "what is worth nothing now is gone");
    fs::remove_file(&sheet).unwrap();
    assert_eq!(seen_to_differ(&yard), BTreeSet::new());
    fs::write(&sheet, "not a sheet").unwrap();
    assert!(compare::since(&yard, &"a".parse().unwrap(), &Ctx::new()).is_err(), "a wrong sheet is said");
}

#[test]
fn what_a_build_has_that_is_worth_nothing_by_the_sheet_of_today_is_gone_from_a_new_twin() {
    let place = Place::new();
    let yard = looked_at(&place);
    fs::write(place.at("source/a.log"), "a line").unwrap();
    take_in(&yard, &place.at("source"), "1.5").unwrap();
    let sheet = yard.sheet_path(&"wexcombe".parse().unwrap());
    fs::write(&sheet, "title = \"wexcombe\"\n[paths]\nscratch = [\"game/*.log\"]\n").unwrap();
    clone(&yard, "wexcombe@1.5", "b", Sharing::All).unwrap();
    let whole = |yard: &Yard| show::twin(yard, &"b".parse().unwrap(), &Ctx::new()).unwrap().summary.totals.files;
    let by_index = whole(&yard);
    fs::remove_file(place.at("yard/twins/b/index")).unwrap();
    assert_eq!(by_index, whole(&yard), "as if nothing were known");
}

/// A new name of a file that is set aside is no change of the twin's for a check, and must be led to again.
#[test]
fn a_check_leaves_every_new_name_to_be_found() {
    let place = Place::new();
    let yard = looked_at(&place);
    clone(&yard, "wexcombe@1.4", "b", Sharing::All).unwrap();
    let game = place.at("yard/twins/a/game");
    let linked = one_of(&game, &mut Dice::new(1), |_, meta| meta.is_file() && meta.nlink() > 1 && meta.len() > 1);
    let linked = linked.unwrap();
    let content = blake3::hash(&fs::read(&linked).unwrap());
    fs::create_dir_all(place.at("yard/pool/aside")).unwrap();
    let aside = place.at("yard/pool/aside").join(format!("{content}.0"));
    fs::write(&aside, "other bytes").unwrap();
    fs::hard_link(aside, game.join("another name")).unwrap();
    let look = || check::look(&yard, &check::Options::default(), &Ctx::new()).unwrap();
    let first = look();
    let names = |findings: &check::Report| format!("{:?}", findings).matches("another name").count();
    assert!(seen_to_differ(&yard).contains("game/another name"));
    assert_eq!(names(&look()), names(&first));
    assert!(seen_to_differ(&yard).contains("game/another name"), "after a second check");
}

#[test]
fn what_is_mounted_over_a_folder_is_seen_as_long_as_it_is_there() {
    let place = Place::new();
    let yard = looked_at(&place);
    let game = place.at("yard/twins/a/game");
    let over = game.join("over");
    fs::create_dir(&over).unwrap();
    fs::write(over.join("file"), "below").unwrap();
    continue_from(&yard, "a folder");
    fs::create_dir(place.at("other")).unwrap();
    fs::write(place.at("other/file"), "above").unwrap();
    let mount =
        |args: &[&Path]| is_root() && Command::new("mount").arg("--bind").args(args).status().unwrap().success();
    if !mount(&[&place.at("other"), &over]) {
        return skip("what_is_mounted_over_a_folder", "mounting takes root");
    }
    let seen = seen_to_differ(&yard);
    assert!(Command::new("umount").arg(&over).status().unwrap().success());
    assert_eq!(seen, BTreeSet::from(["game/over/file".to_owned()]));
    assert_eq!(seen_to_differ(&yard), BTreeSet::new(), "once it is gone");
}
