//! Carry and renew over made-up twins: nothing of the player's is lost, nothing else changes, and there is a way back.
//!
//! A failure prints the seed; `YARDTWIN_SEED=N` runs that one alone.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::Path;

use crate::common::{Dice, Place, Seen, assert_same, clone, look, take_in};
use yard_twin::{
    Class, Ctx, Edit, Error, OnClash, RelPath, Sharing, SnapshotRef, Yard, carry, check, clone, edits, intake, rename,
    renew, restore, show,
};

const CASES: u64 = 60;

const SHEET: &str = r#"
title = "wexcombe"
[paths]
live = ["game/live/**"]
scratch = ["game/logs/**"]
[belongings.saves]
patterns = ["game/saves/**", "home/saves/**"]
[belongings.settings]
patterns = ["game/*.ini"]
[belongings.boards]
patterns = ["game/boards/**"]
on_clash = "skip"
"#;

/// Where files may be: few, so that twins meet in them.
const PLACES: [&str; 16] = [
    "game/saves/one.sav",
    "game/saves/two.sav",
    "game/saves/deep/three.sav",
    "game/panel.ini",
    "game/keys.ini",
    "game/boards/plain.txt",
    "game/boards/set/night.txt",
    "game/data/hills.dat",
    "game/data/trains.dat",
    "game/data/levers",
    "game/live/state.db",
    "game/logs/last.log",
    "game/odd/extra.dat",
    "home/saves/four.sav",
    "home/.config/other.conf",
    "game/bin/start",
];

/// The group of a path, as the sheet says; none for what is worth nothing.
fn group(path: &str) -> Option<&'static str> {
    match path {
        _ if path.starts_with("game/saves/") || path.starts_with("home/saves/") => Some("saves"),
        _ if path.ends_with(".ini") => Some("settings"),
        _ if path.starts_with("game/boards/") => Some("boards"),
        _ => None,
    }
}

struct World {
    place: Place,
    yard: Yard,
    dice: Dice,
}

impl World {
    fn new(seed: u64) -> Self {
        let place = Place::in_memory();
        let yard = Yard::init(place.at("yard")).unwrap();
        fs::write(place.at("yard/sheets/wexcombe.toml"), SHEET).unwrap();
        let mut world = Self { place, yard, dice: Dice::new(seed) };
        for build in ["1", "2"] {
            let folder = world.place.at(build);
            for path in PLACES.iter().filter_map(|path| path.strip_prefix("game/")) {
                if world.dice.roll(3) > 0 || path == "bin/start" {
                    // Some are the same in both builds.
                    let version = if world.dice.roll(2) == 0 { build } else { "0" };
                    write(&folder.join(path), &format!("{path} as shipped with {version}"), 0);
                }
            }
            take_in(&world.yard, &folder, build).unwrap();
            for twin in ["a", "b"] {
                clone(&world.yard, &format!("wexcombe@{build}"), &format!("{twin}{build}"), Sharing::None).unwrap();
            }
        }
        world
    }

    fn twin(&self, name: &str) -> Seen {
        let folder = self.place.at("yard/twins").join(name);
        let mut seen = Seen::new();
        for part in ["game", "home"] {
            seen.extend(look(&folder.join(part)).into_iter().map(|(path, what)| (format!("{part}/{path}"), what)));
        }
        // Logs are worth nothing: nobody promises anything about them.
        seen.retain(|path, what| what.0 != 'd' && !path.starts_with("game/logs/"));
        seen
    }

    /// What was shipped with a build.
    fn shipped(&self, build: &str) -> Seen {
        let all = look(&self.place.at(build)).into_iter().map(|(path, what)| (format!("game/{path}"), what));
        all.filter(|(path, what)| what.0 != 'd' && !path.starts_with("game/logs/")).collect()
    }

    /// The player adds, changes and deletes files.
    fn play(&mut self, twin: &str) {
        let folder = self.place.at("yard/twins").join(twin);
        for path in PLACES {
            match self.dice.roll(6) {
                0 | 1 => {
                    let text = format!("{path} of a player {}", self.dice.roll(3));
                    write(&folder.join(path), &text, self.dice.roll(1000));
                }
                2 if path != "game/bin/start" => drop(fs::remove_file(folder.join(path))),
                _ => {}
            }
        }
    }

    fn restore(&self, twin: &str, to: u32) {
        let options = restore::Options { to: Some(SnapshotRef::Number(to)), all: true, ..restore::Options::default() };
        let plan = restore::plan(&self.yard, &twin.parse().unwrap(), &options, &Ctx::new()).unwrap();
        restore::apply(&self.yard, &plan, &Ctx::new()).unwrap();
    }
}

pub(crate) fn write(path: &Path, text: &str, age: u64) {
    fs::create_dir_all(path.parent().unwrap()).unwrap();
    let temp = path.with_extension("part");
    fs::write(&temp, text).unwrap();
    let time = std::time::SystemTime::UNIX_EPOCH + std::time::Duration::from_secs(1_700_000_000 + age);
    fs::File::options().write(true).open(&temp).unwrap().set_modified(time).unwrap();
    fs::rename(&temp, path).unwrap();
}

/// Files that are not as they were shipped.
fn own(there: &Seen, shipped: &Seen) -> Seen {
    there.iter().filter(|(path, what)| shipped.get(*path) != Some(what)).map(|(p, w)| (p.clone(), w.clone())).collect()
}

fn each_seed(check: impl Fn(u64)) {
    if let Ok(seed) = std::env::var("YARDTWIN_SEED") {
        return check(seed.parse().unwrap());
    }
    for seed in 0..CASES {
        let passed = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| check(seed)));
        assert!(passed.is_ok(), "YARDTWIN_SEED={seed}");
    }
}

fn onto(build: &str) -> renew::Options {
    renew::Options { stock: Some(build.parse().unwrap()), ..renew::Options::default() }
}

#[test]
fn after_a_carry_each_belonging_is_there_or_named_and_nothing_else_has_changed() {
    let carried = std::cell::Cell::new([0usize; 4]);
    each_seed(|seed| {
        let mut world = World::new(seed);
        world.play("a1");
        world.play("b2");
        let (a, b, ctx) = (world.twin("a1"), world.twin("b2"), Ctx::new());
        let groups: Vec<&str> =
            ["saves", "settings", "boards"].into_iter().filter(|_| world.dice.roll(3) > 0).collect();
        let policies = [None, Some(OnClash::Skip), Some(OnClash::Replace), Some(OnClash::Newer), Some(OnClash::Both)];
        let on_clash = policies[usize::try_from(world.dice.roll(5)).unwrap()];
        let take_out = world.dice.roll(2) == 0;
        let options = carry::Options {
            groups: groups.iter().map(|group| (*group).to_owned()).collect(),
            on_clash,
            take_out,
            ..carry::Options::default()
        };
        let (yard, to) = (&world.yard, "b2".parse().unwrap());
        let mut plan = match carry::plan(yard, &carry::Origin::Twin("a1".parse().unwrap()), &to, &options, &ctx) {
            Err(error) if groups.is_empty() => return assert_eq!(error.class(), Class::Usage),
            plan => plan.unwrap(),
        };
        assert_same(&b, &world.twin("b2"), "a plan changes nothing");
        if plan.undecided() > 0 {
            assert!(matches!(carry::apply(yard, &plan, &ctx), Err(Error::Carry(_))));
            assert_same(&a, &world.twin("a1"), "nothing is changed before someone decides");
            assert_same(&b, &world.twin("b2"), "nor here");
            if world.dice.roll(3) == 0 {
                return;
            }
            while let Some(item) = plan.items().iter().find(|item| item.does == carry::Does::Undecided) {
                let (place, rule) = (item.to.clone(), policies[1 + usize::try_from(world.dice.roll(4)).unwrap()]);
                plan = plan.decide(yard, &place, rule.unwrap(), &ctx).unwrap();
            }
            let nowhere = plan.decide(yard, &RelPath::new("game/nowhere").unwrap(), OnClash::Skip, &ctx);
            assert!(matches!(nowhere, Err(Error::NotFound { .. })));
        }
        let outcome = carry::apply(yard, &plan, &ctx).unwrap();
        let (a_after, b_after) = (world.twin("a1"), world.twin("b2"));
        let mine = own(&a, &world.shipped("1"));
        let mine: BTreeMap<_, _> =
            mine.iter().filter(|(path, _)| group(path).is_some_and(|group| groups.contains(&group))).collect();
        assert_eq!(
            mine.keys().map(|path| path.as_str()).collect::<BTreeSet<_>>(),
            plan.items().iter().map(|i| i.from.as_str()).collect()
        );
        let mut touched = BTreeSet::new();
        for item in plan.items() {
            let there = b_after.get(item.to.as_str());
            if item.does == carry::Does::Leave {
                assert!(outcome.skipped.contains(&item.from));
                assert_eq!(there, b.get(item.to.as_str()), "what is skipped leaves what is there");
                assert_eq!(a_after.get(&item.from), a.get(&item.from), "and is not taken out");
            } else {
                assert_eq!(there, Some(mine[&item.from]), "{item:?}");
                touched.insert(item.to.to_string());
                let left =
                    if take_out { world.shipped("1").get(&item.from).cloned() } else { a.get(&item.from).cloned() };
                assert_eq!(a_after.get(&item.from), left.as_ref(), "{item:?}");
            }
        }
        let others = |seen: &Seen, but: &dyn Fn(&String) -> bool| -> Seen {
            seen.iter().filter(|(path, _)| !but(path)).map(|(p, w)| (p.clone(), w.clone())).collect()
        };
        let not_b = |path: &String| touched.contains(path);
        assert_same(&others(&b, &not_b), &others(&b_after, &not_b), "nothing else in b has changed");
        let not_a = |path: &String| mine.contains_key(path);
        assert_same(&others(&a, &not_a), &others(&a_after, &not_a), "nothing else in a has changed");
        assert_eq!(outcome.verified, touched.len() as u64);
        world.restore("b2", outcome.before);
        assert_same(&b, &world.twin("b2"), "b can be had back exactly");
        let mut counts = carried.get();
        for item in plan.items() {
            counts[item.does as usize] += 1;
        }
        carried.set(counts);
    });
    // One seed alone does not do everything.
    let all = std::env::var_os("YARDTWIN_SEED").is_none();
    assert!(
        !all || carried.get().iter().all(|count| *count > 0),
        "each thing that can be done was done: {:?}",
        carried.get()
    );
}

#[test]
fn a_renew_keeps_what_is_the_players_and_all_else_is_the_stock_build() {
    each_seed(|seed| {
        let mut world = World::new(seed);
        let (twin, other) = if world.dice.roll(2) == 0 { ("a1", "2") } else { ("a1", "1") };
        world.play(twin);
        if world.dice.roll(2) == 0 {
            // What a twin has of its own is its own in a clone of it as well.
            clone(&world.yard, twin, "copy", Sharing::None).unwrap();
        }
        let twin = if world.place.at("yard/twins/copy").exists() { "copy" } else { twin };
        let (before, ctx, name) = (world.twin(twin), Ctx::new(), twin.parse().unwrap());
        let rest =
            [None, Some(renew::Rest::Keep), Some(renew::Rest::Leave)][usize::try_from(world.dice.roll(3)).unwrap()];
        let options = renew::Options { rest, ..onto(&format!("wexcombe@{other}")) };
        let plan = renew::plan(&world.yard, &name, &options, &ctx).unwrap();
        assert_same(&before, &world.twin(twin), "a plan changes nothing");
        let (old, new) = (world.shipped("1"), world.shipped(other));
        let kept = |path: &str| group(path).is_some() || path.starts_with("home/") || path.starts_with("game/live/");
        let mine = own(&before, &old);
        let unexplained: BTreeSet<_> = mine
            .iter()
            .filter(|(path, what)| !kept(path) && new.get(*path) != Some(what))
            .map(|(path, _)| path.clone())
            .collect();
        assert_eq!(
            plan.rest.iter().cloned().collect::<BTreeSet<_>>(),
            unexplained,
            "all of it is listed, and nothing else"
        );
        if plan.undecided() {
            let refused = renew::apply(&world.yard, &plan, &ctx).unwrap_err();
            assert_eq!(refused.class(), Class::Refused);
            return assert_same(&before, &world.twin(twin), "nothing is changed then");
        }
        let outcome = renew::apply(&world.yard, &plan, &ctx).unwrap();
        let after = world.twin(twin);
        for (path, what) in &mine {
            if kept(path) || rest == Some(renew::Rest::Keep) {
                assert_eq!(after.get(path), Some(what), "{path} is the player's");
            }
        }
        for path in after.keys().chain(new.keys()) {
            let theirs = mine.contains_key(path) && (kept(path) || rest == Some(renew::Rest::Keep));
            if !theirs {
                assert_eq!(after.get(path), new.get(path), "{path} is as the stock build has it");
            }
        }
        world.restore(twin, outcome.before);
        assert_same(&before, &world.twin(twin), "and it can be had back exactly");
    });
}

/// A yard with two builds of a title, whose files are given by path, and a twin of the first, `one`, and of the second,
/// `two`.
pub(crate) fn two_builds(place: &Place, sheet: &str, files: &[(&str, &str, &str)]) -> Yard {
    let yard = Yard::init(place.at("yard")).unwrap();
    fs::write(place.at("yard/sheets/wexcombe.toml"), format!("title = \"wexcombe\"\n{sheet}")).unwrap();
    for (build, twin) in [("1", "one"), ("2", "two")] {
        for (path, first, second) in files {
            write(&place.at(build).join(path), if build == "1" { first } else { second }, 0);
        }
        take_in(&yard, &place.at(build), build).unwrap();
        clone(&yard, &format!("wexcombe@{build}"), twin, Sharing::None).unwrap();
    }
    yard
}

pub(crate) fn text(place: &Place, path: &str) -> String {
    fs::read_to_string(place.at("yard/twins").join(path)).unwrap()
}

#[test]
fn a_group_goes_where_the_other_build_keeps_it() {
    let place = Place::in_memory();
    let sheet = "[belongings.saves]\npatterns = [\"game/cabin/saves/**\"]\n[belongings.saves.builds]\n\"2*\" = [\"game/office/**\"]\n\
                 [belongings.keys]\npatterns = [\"game/keys.ini\"]\n[belongings.keys.builds]\n\"2*\" = [\"game/conf/keys.cfg\"]\n";
    let yard = two_builds(&place, sheet, &[("bin/start", "1", "2")]);
    write(&place.at("yard/twins/one/game/cabin/saves/deep/a.sav"), "a", 0);
    write(&place.at("yard/twins/one/game/keys.ini"), "k", 0);
    let options = carry::Options { groups: vec!["saves".into(), "keys".into()], ..carry::Options::default() };
    let (from, to, ctx) = (carry::Origin::Twin("one".parse().unwrap()), "two".parse().unwrap(), Ctx::new());
    let plan = carry::plan(&yard, &from, &to, &options, &ctx).unwrap();
    carry::apply(&yard, &plan, &ctx).unwrap();
    assert_eq!(text(&place, "two/game/office/deep/a.sav"), "a");
    assert_eq!(text(&place, "two/game/conf/keys.cfg"), "k");
}

#[test]
fn what_a_played_build_came_with_is_said_and_carried_if_it_is_asked_for() {
    let place = Place::in_memory();
    let yard = two_builds(
        &place,
        "[belongings.saves]\npatterns = [\"game/saves/*\"]\nunit = \"stem\"\n",
        &[("bin/start", "1", "2"), ("saves/both.sav", "here", "there")],
    );
    for file in ["own.sav", "own.png"] {
        write(&place.at("1/saves").join(file), file, 0);
    }
    take_in(&yard, &place.at("1"), "1-played").unwrap();
    clone(&yard, "wexcombe@1-played", "played", Sharing::None).unwrap();
    let (from, to, ctx) = (carry::Origin::Twin("played".parse().unwrap()), "two".parse().unwrap(), Ctx::new());
    let plan = |shipped_too| {
        let options = carry::Options { groups: vec!["saves".into()], shipped_too, ..carry::Options::default() };
        carry::plan(&yard, &from, &to, &options, &ctx).unwrap()
    };
    let quiet = plan(false);
    assert_eq!((quiet.items().len(), quiet.as_shipped.files, quiet.as_shipped.missing), (0, 3, 2));
    let asked = plan(true);
    assert_eq!((asked.items().len(), asked.as_shipped.missing), (2, 0));
    assert_eq!(carry::apply(&yard, &asked, &ctx).unwrap().put, 2);
    assert_eq!(
        (text(&place, "two/game/saves/own.png"), text(&place, "two/game/saves/both.sav")),
        ("own.png".into(), "there".into())
    );
}

#[test]
fn a_place_is_decided_by_the_name_that_the_twin_has_for_it() {
    let place = Place::in_memory();
    let sheet = "ignore_case = true\n[belongings.saves]\npatterns = [\"game/saves/**\"]\n";
    let yard = two_builds(&place, sheet, &[("bin/start", "1", "2")]);
    write(&place.at("yard/twins/one/game/Saves/A.sav"), "comes", 0);
    write(&place.at("yard/twins/two/game/saves/a.sav"), "there", 0);
    let options = carry::Options { groups: vec!["saves".into()], ..carry::Options::default() };
    let (from, to, ctx) = (carry::Origin::Twin("one".parse().unwrap()), "two".parse().unwrap(), Ctx::new());
    let plan = carry::plan(&yard, &from, &to, &options, &ctx).unwrap();
    let shown = plan.items()[0].to.clone();
    assert_eq!((plan.undecided(), shown.as_str()), (1, "game/saves/a.sav"));
    let plan = plan.decide(&yard, &shown, OnClash::Replace, &ctx).unwrap();
    carry::apply(&yard, &plan, &ctx).unwrap();
    assert_eq!(text(&place, "two/game/saves/a.sav"), "comes");
    // The same plan again has nothing to do with the twin as it is now.
    let again = carry::apply(&yard, &plan, &ctx);
    assert_eq!(again.unwrap_err().class(), Class::Busy);
}

#[test]
fn what_lies_outside_must_be_as_it_was_when_the_carry_was_planned() {
    let place = Place::in_memory();
    let sheet = "[belongings.saves]\npatterns = [\"game/saves/**\"]\n";
    let yard = two_builds(&place, sheet, &[("bin/start", "1", "2")]);
    write(&place.at("download/one.sav"), "one", 5);
    write(&place.at("download/two.sav"), "two", 5);
    let options = carry::Options { groups: vec!["saves".into()], ..carry::Options::default() };
    let (from, to, ctx) = (carry::Origin::Place(place.at("download")), "two".parse().unwrap(), Ctx::new());
    let plan = carry::plan(&yard, &from, &to, &options, &ctx).unwrap();
    write(&place.at("download/two.sav"), "changed", 9);
    let before = look(&place.at("yard/twins/two"));
    assert!(matches!(carry::apply(&yard, &plan, &ctx), Err(Error::Intake(_))));
    assert_same(&before, &look(&place.at("yard/twins/two")), "nothing is changed");
}

#[test]
fn an_edited_file_of_the_game_is_renewed_with_its_edits_and_has_the_new_builds_bytes_without_them() {
    let place = Place::in_memory();
    let yard = two_builds(
        &place,
        "",
        &[("engine.cfg", "speed = 1\n", "; new\nspeed = 1\nlamps = 2\n"), ("same.cfg", "a=1\n", "a=1\n")],
    );
    let (name, ctx) = ("one".parse().unwrap(), Ctx::new());
    let edit =
        |change: edits::Change| edits::apply(&yard, &edits::plan(&yard, &name, &change, &ctx).unwrap(), &ctx).unwrap();
    for (file, key, value) in [("engine.cfg", "speed", "5"), ("same.cfg", "a", "7"), ("game/later.ini", "s.k", "v")] {
        let (file, key, value) = (file.into(), key.into(), value.into());
        edit(edits::Change::Set {
            edit: Edit { file, key, value, format: None, encoding: None, enforce: false },
            variant: None,
        });
    }
    let renew =
        |build: &str| renew::apply(&yard, &renew::plan(&yard, &name, &onto(build), &ctx).unwrap(), &ctx).unwrap();
    renew("wexcombe@2");
    assert_eq!(text(&place, "one/game/engine.cfg"), "; new\nspeed = 5\nlamps = 2\n", "an edit is nothing unexplained");
    assert_eq!(text(&place, "one/game/same.cfg"), "a=7\n");
    // An edit waits for its file.
    write(&place.at("yard/twins/one/game/later.ini"), "[s]\nk=0\n", 0);
    edit(edits::Change::Apply);
    assert_eq!(text(&place, "one/game/later.ini"), "[s]\nk=v\n");
    for (file, key) in [("engine.cfg", "speed"), ("same.cfg", "a"), ("later.ini", "s.k")] {
        edit(edits::Change::Unset { file: file.into(), key: key.into(), variant: None });
    }
    assert_eq!(text(&place, "one/game/engine.cfg"), "; new\nspeed = 1\nlamps = 2\n");
    assert_eq!(text(&place, "one/game/later.ini"), "[s]\nk=0\n");
    assert!(
        matches!(renew::plan(&yard, &name, &renew::Options::default(), &ctx).unwrap().rest.as_slice(), [one] if one == "game/later.ini")
    );
}

#[test]
fn a_clone_gets_its_own_name_where_the_sheet_says_so() {
    let place = Place::in_memory();
    let sheet = "[[rename]]\nwithin = \"home/.config/box\"\nid = \"default\"\nkeys = [{ file = \"home/.config/box/{id}.json\", key = \"box\" }]\n";
    let yard = two_builds(&place, sheet, &[("bin/start", "1", "2")]);
    write(&place.at("yard/twins/one/home/.config/box/one.json"), "{\"box\": \"one\", \"other\": \"one\"}", 0);
    write(&place.at("yard/twins/one/home/.config/box/one lamps/oil"), "oil", 0);
    clone(&yard, "one", "third", Sharing::None).unwrap();
    assert_eq!(text(&place, "third/home/.config/box/third.json"), "{\"box\": \"third\", \"other\": \"one\"}");
    assert_eq!(text(&place, "third/home/.config/box/third lamps/oil"), "oil");
    assert!(!place.at("yard/twins/third/home/.config/box/one.json").exists());
    assert_eq!(text(&place, "one/home/.config/box/one lamps/oil"), "oil", "the other twin is as it was");
    write(&place.at("yard/twins/one/home/.config/box/fourth.json"), "{}", 0);
    assert!(
        matches!(clone(&yard, "one", "fourth", Sharing::None), Err(Error::Exists { .. })),
        "nothing is put over another"
    );
}

#[test]
fn names_by_an_id_are_laid_renewed_carried_and_taken_in_as_the_builds_own() {
    let place = Place::in_memory();
    let sheet = "[[rename]]\nwithin = \"game/versions\"\nid = \"1.4\"\nkeys = [{ file = \"game/versions/{id}/{id}.json\", key = \"id\" }]\n\
                 text = [\"game/versions/{id}/notes.txt\"]\n[belongings.worlds]\npatterns = [\"game/versions/*/saves/**\"]\n";
    for build in ["1", "2"] {
        let folder = place.at(build).join("versions");
        write(&folder.join("1.4/1.4.json"), &format!("{{\"id\": \"1.4\", \"of\": {build}}}"), 0);
        write(&folder.join("1.4/1.4-client.jar"), build, 0);
        write(&folder.join("1.4/notes.txt"), "1.4, not 1.4.2 and no 1.4-beta", 0);
        write(&folder.join("1.4.2/1.4.2.jar"), "another", 0);
        write(&folder.join("1.4-beta/1.4-beta.jar"), "another", 0);
        std::os::unix::fs::symlink("../1.4/1.4-client.jar", folder.join("1.4/current")).unwrap();
        std::os::unix::fs::symlink("1.4/1.4-client.jar", folder.join("newest")).unwrap();
    }
    let yard = two_builds(&place, sheet, &[("bin/start", "1", "2")]);
    let ctx = Ctx::new();
    let unchanged = |name: &str| {
        let shown = show::twin(&yard, &name.parse().unwrap(), &ctx).unwrap();
        assert!(shown.changes.groups.is_empty(), "{name}: {:?}", shown.changes);
        let report = check::look(&yard, &check::Options::default(), &ctx).unwrap();
        assert!(report.findings.is_empty(), "{:?}", report.findings);
    };
    let is = |twin: &str, id: &str, build: &str| {
        let game = place.at("yard/twins").join(twin).join("game/versions");
        let read = |path: String| fs::read_to_string(game.join(path)).unwrap();
        assert_eq!(read(format!("{id}/{id}.json")), format!("{{\"id\": \"{id}\", \"of\": {build}}}"));
        assert_eq!(read(format!("{id}/{id}-client.jar")), build);
        assert_eq!(read(format!("{id}/notes.txt")), format!("{id}, not 1.4.2 and no 1.4-beta"));
        assert_eq!(
            (read("1.4.2/1.4.2.jar".into()), read("1.4-beta/1.4-beta.jar".into())),
            ("another".into(), "another".into())
        );
        assert_eq!((read(format!("{id}/current")), read("newest".into())), (build.to_owned(), build.to_owned()));
    };
    clone(&yard, "wexcombe@1", "mine", Sharing::None).unwrap();
    is("mine", "mine", "1");
    unchanged("mine");
    write(&place.at("yard/twins/mine/game/versions/mine/saves/world"), "played", 0);
    clone(&yard, "mine", "other", Sharing::None).unwrap();
    is("other", "other", "1");
    write(&place.at("yard/twins/mine/game/versions/mine/saves/world"), "played on", 0);
    // Its own name may become another one: what it is named by stays.
    let plan = rename::plan(&yard, &"other".parse().unwrap(), &"second".parse().unwrap(), false, &ctx).unwrap();
    rename::apply(&yard, &plan, &ctx).unwrap();
    let options =
        carry::Options { groups: vec!["worlds".into()], on_clash: Some(OnClash::Replace), ..carry::Options::default() };
    let (from, to) = (carry::Origin::Twin("mine".parse().unwrap()), "second".parse().unwrap());
    carry::apply(&yard, &carry::plan(&yard, &from, &to, &options, &ctx).unwrap(), &ctx).unwrap();
    assert_eq!(text(&place, "other/game/versions/other/saves/world"), "played on");
    let plan = renew::plan(&yard, &to, &onto("wexcombe@2"), &ctx).unwrap();
    assert!(plan.rest.is_empty() && plan.clashes.is_empty(), "{plan:?}");
    renew::apply(&yard, &plan, &ctx).unwrap();
    is("other", "other", "2");
    assert_eq!(text(&place, "other/game/versions/other/saves/world"), "played on");
    let options = intake::FromTwinOptions { build: Some("3".parse().unwrap()), ..intake::FromTwinOptions::default() };
    let plan = intake::plan_from_twin(&yard, &to, options, &ctx).unwrap();
    intake::apply_from_twin(&yard, &plan, &ctx).unwrap();
    clone(&yard, "wexcombe@3", "third", Sharing::None).unwrap();
    is("third", "third", "2");
    unchanged("third");
    // A build whose names can't be made any more stops no look at the others.
    for path in look(&place.at("yard/pool")).into_iter().filter(|(_, what)| what.1.starts_with(b"1.4, not")) {
        fs::remove_file(place.at("yard/pool").join(path.0)).unwrap();
    }
    let report = check::look(&yard, &check::Options::default(), &ctx).unwrap();
    assert!(!report.findings.is_empty(), "and the loss is said");
}

#[test]
fn a_copy_that_was_changed_by_hand_becomes_a_twin_with_changes_of_its_own() {
    let place = Place::in_memory();
    let yard = two_builds(&place, "", &[("bin/start", "1", "2"), ("data.dat", "same", "same")]);
    write(&place.at("by hand/bin/start"), "1", 0);
    write(&place.at("by hand/mine.txt"), "mine", 0);
    let (name, ctx) = ("mine".parse().unwrap(), Ctx::new());
    let options = clone::Options { sharing: None, folder: Some(place.at("by hand")), ..clone::Options::default() };
    let plan = clone::plan(&yard, &"wexcombe@1".parse().unwrap(), &name, options, &ctx).unwrap();
    let made = clone::apply(&yard, &plan, &ctx).unwrap();
    let differs = made.differs.unwrap();
    assert_eq!((differs.new, differs.changed, differs.gone), (1, 0, 1));
    assert_same(&look(&place.at("by hand")), &look(&place.at("yard/twins/mine/game")), "it is the folder");
    // Its build is known, so that it can be renewed.
    let leave = renew::Options { rest: Some(renew::Rest::Leave), ..renew::Options::default() };
    let plan = renew::plan(&yard, &name, &leave, &ctx).unwrap();
    renew::apply(&yard, &plan, &ctx).unwrap();
    assert_same(&look(&place.at("1")), &look(&place.at("yard/twins/mine/game")), "without what was changed");
    // And what a twin holds becomes a build of its own.
    write(&place.at("yard/twins/two/game/patched.dat"), "patched", 0);
    let options =
        intake::FromTwinOptions { build: Some("2-patched".parse().unwrap()), ..intake::FromTwinOptions::default() };
    let plan = intake::plan_from_twin(&yard, &"two".parse().unwrap(), options, &ctx).unwrap();
    assert!(!intake::apply_from_twin(&yard, &plan, &ctx).unwrap().was_there);
    clone(&yard, "wexcombe@2-patched", "patched", Sharing::None).unwrap();
    assert_same(&look(&place.at("yard/twins/two/game")), &look(&place.at("yard/twins/patched/game")), "the same");
}

#[test]
fn a_real_home_is_looked_through_once_wherever_the_patterns_overlap() {
    let place = Place::in_memory();
    let sheet = "[belongings.saves]\npatterns = [\"home/.config/box/saves/*.sav\"]\n\
                 [belongings.settings]\npatterns = [\"home/.config/box/**\", \"home/.config/box/deep/**\", \"home/.linked/**\"]\n";
    let yard = two_builds(&place, sheet, &[("bin/start", "1", "2")]);
    for path in ["saves/a.sav", "z.ini", "deep/b.ini"] {
        write(&place.at("home/.config/box").join(path), path, 5);
    }
    std::os::unix::fs::symlink("elsewhere", place.at("home/.linked")).unwrap();
    let options = carry::Options { groups: vec!["saves".into(), "settings".into()], ..carry::Options::default() };
    let (to, ctx) = ("two".parse().unwrap(), Ctx::new());
    let plan = carry::plan(&yard, &carry::Origin::Home(place.at("home")), &to, &options, &ctx).unwrap();
    assert!(plan.left.len() == 1 && plan.left[0].contains(".linked"), "{:?}", plan.left);
    assert_eq!(carry::apply(&yard, &plan, &ctx).unwrap().put, 3);
    assert_same(&look(&place.at("home/.config")), &look(&place.at("yard/twins/two/home/.config")), "all of it");
}
