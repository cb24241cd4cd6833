//! A plan that is applied late, or twice, does what it said or nothing: whatever happened in between.

use std::fs;

use crate::common::{Place, tree};
use yard_twin::{
    Class, Ctx, Error, Setting, Source, TwinError, TwinName, Yard, clone, edits, history, inside, intake, remove,
    rename, renew, repath, restore, show, snapshot, sweep,
};

struct Desk {
    place: Place,
    yard: Yard,
    ctx: Ctx,
}

impl Desk {
    fn new() -> Self {
        let (place, ctx) = (Place::in_memory(), Ctx::new());
        tree(&place.at("source/data"), 5);
        let yard = Yard::init(place.at("yard")).unwrap();
        let settings = fs::read_to_string(place.at("yard/yard.toml")).unwrap();
        let keep = "[keep]\nstates = 1\ndays = 0\nremoved_days = 0\ngrace_days = 0\n";
        fs::write(place.at("yard/yard.toml"), settings.split_once("[keep]").unwrap().0.to_owned() + keep).unwrap();
        drop(yard);
        let yard = Yard::open(place.at("yard")).unwrap();
        let mut options = intake::Options::new(place.at("source"), "wexcombe".parse().unwrap());
        options.build = Some("1".parse().unwrap());
        intake::apply(&yard, &intake::plan(&yard, options, &ctx).unwrap(), &ctx).unwrap();
        let desk = Self { place, yard, ctx };
        desk.clone("wexcombe@1", "a");
        desk
    }

    fn clone(&self, source: &str, name: &str) {
        let source: Source = source.parse().unwrap();
        let plan = clone::plan(&self.yard, &source, &twin(name), clone::Options::default(), &self.ctx).unwrap();
        clone::apply(&self.yard, &plan, &self.ctx).unwrap();
    }

    /// Writes a file by hand, and has it taken in.
    fn change(&self, text: &str) {
        fs::write(self.place.at("yard/twins/a/game/own.dat"), text).unwrap();
        show::twin(&self.yard, &twin("a"), &self.ctx).unwrap();
    }

    fn lines(&self) -> usize {
        history::entries(&self.yard, &twin("a"), &self.ctx).unwrap().len()
    }

    /// Whether the pool has what a file by hand held.
    fn has(&self, text: &str) -> bool {
        let content = blake3::hash(text.as_bytes()).to_hex().to_string();
        self.place.at("yard/pool").join(&content[..2]).join(&content).exists()
    }
}

fn twin(name: &str) -> TwinName {
    name.parse().unwrap()
}

fn changed_meanwhile<T>(result: Result<T, Error>) -> bool {
    matches!(result, Err(Error::Twin(TwinError::ChangedMeanwhile { .. })))
}

#[test]
fn a_snapshot_keeps_the_state_that_was_planned_or_none() {
    let desk = Desk::new();
    let label = "then".parse().unwrap();
    let plan = snapshot::plan(&desk.yard, &twin("a"), Some(&label), &desk.ctx).unwrap();
    let lines = desk.lines();
    desk.change("later");
    assert!(changed_meanwhile(snapshot::apply(&desk.yard, &plan, &desk.ctx)));
    assert_eq!(desk.lines(), lines + 1, "only the change is in the history");
    let plan = snapshot::plan(&desk.yard, &twin("a"), Some(&label), &desk.ctx).unwrap();
    let made = snapshot::apply(&desk.yard, &plan, &desk.ctx).unwrap();
    assert_eq!(history::entries(&desk.yard, &twin("a"), &desk.ctx).unwrap()[0].number, made.number);
    assert!(
        matches!(snapshot::apply(&desk.yard, &plan, &desk.ctx), Err(Error::Exists { .. })),
        "a label is there once"
    );
    // Another twin that has the name by now is not meant.
    let plan = snapshot::plan(&desk.yard, &twin("a"), None, &desk.ctx).unwrap();
    let rename = rename::plan(&desk.yard, &twin("a"), &twin("first"), false, &desk.ctx).unwrap();
    rename::apply(&desk.yard, &rename, &desk.ctx).unwrap();
    desk.clone("wexcombe@1", "a");
    assert!(changed_meanwhile(snapshot::apply(&desk.yard, &plan, &desk.ctx)));
    assert!(rename::apply(&desk.yard, &rename, &desk.ctx).is_err(), "and the name it was to get is taken");
}

#[test]
fn a_sweep_lets_nothing_go_that_was_not_planned() {
    let desk = Desk::new();
    desk.change("one");
    desk.change("two");
    let plan = sweep::plan(&desk.yard, &desk.ctx).unwrap();
    assert!(desk.has("one") && plan.would.deleted.files > 0);
    desk.change("three");
    desk.change("four");
    let swept = sweep::apply(&desk.yard, &plan, &desk.ctx).unwrap();
    assert!(!desk.has("one") && desk.has("two") && desk.has("three"), "{swept:?}");
    let numbers: Vec<u32> =
        history::entries(&desk.yard, &twin("a"), &desk.ctx).unwrap().iter().map(|line| line.number).collect();
    assert_eq!(numbers, [5, 4, 3], "what was planned is gone, and what came since is there");
    // Once more it has nothing left to do; a new one takes the rest.
    assert_eq!(sweep::apply(&desk.yard, &plan, &desk.ctx).unwrap().deleted.files, 0);
    sweep::apply(&desk.yard, &sweep::plan(&desk.yard, &desk.ctx).unwrap(), &desk.ctx).unwrap();
    assert!(!desk.has("two") && !desk.has("three") && desk.has("four"));
}

#[test]
fn a_setting_is_changed_in_the_profile_that_was_planned_for_or_in_none() {
    let desk = Desk::new();
    let note = [String::from("mine")];
    let plan = edits::plan_profile(&desk.yard, &twin("a"), None, &Setting::Note, Some(&note)).unwrap();
    let path = desk.place.at("yard/twins/a/profile.toml");
    fs::write(&path, "# by hand\nnote = \"other\"\n").unwrap();
    assert!(changed_meanwhile(edits::apply_profile(&desk.yard, &plan)));
    assert_eq!(fs::read_to_string(&path).unwrap(), "# by hand\nnote = \"other\"\n");
    let plan = edits::plan_profile(&desk.yard, &twin("a"), None, &Setting::Note, Some(&note)).unwrap();
    edits::apply_profile(&desk.yard, &plan).unwrap();
    assert_eq!(fs::read_to_string(&path).unwrap(), "# by hand\nnote = \"mine\"\n");
    assert_eq!(
        edits::apply_profile(&desk.yard, &plan).unwrap_err().class(),
        Class::Busy,
        "twice is not what was planned"
    );
}

/// What is seen for a plan is written down by its application, once; a plan that comes to nothing leaves no trace.
#[test]
fn planning_leaves_the_history_as_it_is() {
    let desk = Desk::new();
    desk.clone("a", "b");
    let (yard, ctx, a) = (&desk.yard, &desk.ctx, twin("a"));
    let lines = desk.lines();
    fs::write(desk.place.at("yard/twins/a/game/own.dat"), "first").unwrap();
    fs::create_dir_all(desk.place.at("yard/twins/a/game/data")).unwrap();
    drop(snapshot::plan(yard, &a, None, ctx).unwrap());
    drop(restore::plan(yard, &a, &restore::Options { all: true, ..restore::Options::default() }, ctx).unwrap());
    drop(
        renew::plan(yard, &a, &renew::Options { rest: Some(renew::Rest::Keep), ..renew::Options::default() }, ctx)
            .unwrap(),
    );
    drop(rename::plan(yard, &a, &twin("moved"), true, ctx).unwrap());
    drop(remove::plan(yard, &a, ctx).unwrap());
    drop(repath::plan(yard, &a, None, ctx).unwrap());
    drop(inside::plan(yard, &a, "game/data", "again", ctx).unwrap());
    drop(clone::plan(yard, &"a".parse().unwrap(), &twin("c"), clone::Options::default(), ctx).unwrap());
    fs::write(desk.place.at("yard/twins/a/game/own.dat"), "second").unwrap();
    assert_eq!(desk.lines(), lines + 1, "all plans together left no line of their own");

    let again = inside::apply(yard, &inside::plan(yard, &a, "game/data", "again", ctx).unwrap(), ctx).unwrap();
    assert!(again.copied > 0 && desk.place.at("yard/twins/a/game/again").is_dir(), "also right below the game's");

    // The clone of what was only seen has it, and a restore of it can be taken back.
    fs::write(desk.place.at("yard/twins/a/game/own.dat"), "third").unwrap();
    desk.clone("a", "c");
    assert_eq!(fs::read_to_string(desk.place.at("yard/twins/c/game/own.dat")).unwrap(), "third");
    let options = restore::Options { all: true, ..restore::Options::default() };
    let restored = restore::apply(yard, &restore::plan(yard, &a, &options, ctx).unwrap(), ctx).unwrap();
    assert_eq!(fs::read_to_string(desk.place.at("yard/twins/a/game/own.dat")).unwrap(), "second");
    let options =
        restore::Options { to: Some(restored.before.to_string().parse().unwrap()), all: true, only: Vec::new() };
    drop(restore::apply(yard, &restore::plan(yard, &a, &options, ctx).unwrap(), ctx).unwrap());
    assert_eq!(fs::read_to_string(desk.place.at("yard/twins/a/game/own.dat")).unwrap(), "third");
}

/// A sweep may let go of what was stored for a plan: then the plan is a stale one, and nothing is lost.
#[test]
fn what_was_stored_for_a_plan_and_swept_away_is_seen_again() {
    let desk = Desk::new();
    desk.change("first");
    fs::write(desk.place.at("yard/twins/a/game/own.dat"), "second").unwrap();
    let options = restore::Options { all: true, ..restore::Options::default() };
    let plan = restore::plan(&desk.yard, &twin("a"), &options, &desk.ctx).unwrap();
    assert!(desk.has("second"));
    for _ in 0..2 {
        drop(sweep::apply(&desk.yard, &sweep::plan(&desk.yard, &desk.ctx).unwrap(), &desk.ctx).unwrap());
    }
    assert!(!desk.has("second"));
    assert!(changed_meanwhile(restore::apply(&desk.yard, &plan, &desk.ctx)));
    let plan = restore::plan(&desk.yard, &twin("a"), &options, &desk.ctx).unwrap();
    drop(restore::apply(&desk.yard, &plan, &desk.ctx).unwrap());
    assert!(desk.has("second"), "what gave way is in the history");
    assert_eq!(fs::read_to_string(desk.place.at("yard/twins/a/game/own.dat")).unwrap(), "first");
}

#[test]
fn nobody_is_waited_for_longer_than_the_caller_has_patience() {
    let desk = Desk::new();
    // What is new is put into the pool; where nothing is, nobody is waited for.
    fs::write(desk.place.at("yard/twins/a/game/own.dat"), "new").unwrap();
    let lock = fs::File::open(desk.place.at("yard/locks/yard")).unwrap();
    lock.lock().unwrap();
    let hasty = Ctx::new().with_patience(std::time::Duration::ZERO);
    let busy = snapshot::plan(&desk.yard, &twin("a"), None, &hasty).unwrap_err();
    assert_eq!(busy.class(), Class::Busy, "{busy}");
    lock.unlock().unwrap();
    drop(snapshot::plan(&desk.yard, &twin("a"), None, &hasty).unwrap());
}
