//! A command that dies between two of its steps is finished or undone by the next opening of the yard.

use std::fs;
use std::path::Path;

use crate::common::{Place, assert_same, clone, leftovers, look, take_in, tree};
use rusqlite::Connection;
use yard_twin::{Ctx, Error, Sharing, Yard, YardError, intake, show, stock};

fn sql(place: &Place, statement: &str) {
    Connection::open(place.at("yard/catalog.db")).unwrap().execute_batch(statement).unwrap();
}

/// One value of the catalogue.
fn ask(place: &Place, query: &str) -> String {
    Connection::open(place.at("yard/catalog.db")).unwrap().query_row(query, [], |row| row.get(0)).unwrap()
}

/// A yard with a twin, and the intent that the twin's clone had while it was being made.
fn with_intent(place: &Place) -> String {
    tree(&place.at("source"), 4);
    let yard = Yard::init(place.at("yard")).unwrap();
    take_in(&yard, &place.at("source"), "1.4").unwrap();
    clone(&yard, "wexcombe@1.4", "a", Sharing::None).unwrap();
    ask(
        place,
        "SELECT json_object('operation', 'clone', 'twin', json_object('id', id, 'name', name, 'folder', folder,
         'state', state, 'origin', origin, 'made_at', made_at, 'removed_at', removed_at)) FROM twins",
    )
}

fn names(yard: &Yard) -> Vec<String> {
    show::twins(yard, false).unwrap().iter().map(|twin| twin.name.to_string()).collect()
}

#[test]
fn a_clone_that_died_after_its_rename_is_there_and_one_that_died_before_is_not() {
    let place = Place::new();
    let intent = with_intent(&place);
    let want = look(&place.at("yard/twins/a"));
    // As it was between the rename and the commit.
    sql(&place, &format!("DELETE FROM twins; INSERT INTO intents (body) VALUES ('{intent}')"));
    let yard = Yard::open(place.at("yard")).unwrap();
    assert_eq!(names(&yard), ["a"]);
    assert_same(&want, &look(&place.at("yard/twins/a")), "the user may be in it already");
    assert_eq!(ask(&place, "SELECT CAST(count(*) AS TEXT) FROM intents"), "0");
    drop(yard);
    // As it was between the intent and the rename.
    fs::create_dir(place.at("yard/tmp/0011223344556677")).unwrap();
    fs::rename(place.at("yard/twins/a"), place.at("yard/tmp/0011223344556677/twin")).unwrap();
    sql(&place, &format!("DELETE FROM twins; INSERT INTO intents (body) VALUES ('{intent}')"));
    let yard = Yard::open(place.at("yard")).unwrap();
    assert_eq!(names(&yard), Vec::<String>::new());
    assert!(leftovers(&place.at("yard")).is_empty());
    clone(&yard, "wexcombe@1.4", "a", Sharing::None).unwrap();
}

#[test]
fn a_folder_of_another_twin_is_never_taken_for_the_one_that_was_being_made() {
    let place = Place::new();
    let intent = with_intent(&place);
    fs::write(place.at("yard/twins/a/id"), "ffffffffffffffff\n").unwrap();
    sql(&place, &format!("DELETE FROM twins; INSERT INTO intents (body) VALUES ('{intent}')"));
    let yard = Yard::open(place.at("yard")).unwrap();
    assert_eq!(names(&yard), Vec::<String>::new());
    assert!(place.at("yard/twins/a/game").exists(), "nor deleted");
    let error = clone(&yard, "wexcombe@1.4", "a", Sharing::None).unwrap_err();
    assert_eq!(error.class(), yard_twin::Class::Refused, "{error}");
}

#[test]
fn a_removal_that_died_is_either_done_or_not_begun_and_forgetting_goes_on() {
    let place = Place::new();
    with_intent(&place);
    let id = ask(&place, "SELECT id FROM twins");
    let removal = format!(
        "INSERT INTO intents (body) VALUES ('{{\"operation\":\"remove\",\"twin\":\"{id}\",\"folder\":\"a\",
         \"removed_folder\":\"a {id}\"}}')"
    );
    sql(&place, &removal);
    assert_eq!(names(&Yard::open(place.at("yard")).unwrap()), ["a"], "its folder had not been moved");
    fs::rename(place.at("yard/twins/a"), place.at(&format!("yard/removed/a {id}"))).unwrap();
    sql(&place, &removal);
    let yard = Yard::open(place.at("yard")).unwrap();
    assert_eq!((names(&yard).len(), show::twins(&yard, true).unwrap().len()), (0, 1));
    drop(yard);
    sql(&place, &format!("INSERT INTO intents (body) VALUES ('{{\"operation\":\"forget\",\"twin\":\"{id}\"}}')"));
    let yard = Yard::open(place.at("yard")).unwrap();
    assert_eq!(show::twins(&yard, true).unwrap().len(), 0);
    assert_eq!(fs::read_dir(place.at("yard/removed")).unwrap().count(), 0);
    clone(&yard, "wexcombe@1.4", "b", Sharing::None).unwrap();
}

#[test]
fn a_stage_in_use_is_left_alone_and_a_left_one_is_deleted() {
    let place = Place::new();
    with_intent(&place);
    for op in ["aaaaaaaaaaaaaaaa", "bbbbbbbbbbbbbbbb"] {
        fs::create_dir_all(place.at(&format!("yard/tmp/{op}/twin/locked"))).unwrap();
        fs::write(place.at(&format!("yard/tmp/{op}/lock")), "").unwrap();
    }
    fs::write(place.at("yard/tmp/a stray file"), "").unwrap();
    let closed = std::os::unix::fs::PermissionsExt::from_mode(0o555);
    fs::set_permissions(place.at("yard/tmp/bbbbbbbbbbbbbbbb/twin"), closed).unwrap();
    let lock = fs::File::open(place.at("yard/tmp/aaaaaaaaaaaaaaaa/lock")).unwrap();
    lock.lock().unwrap();
    drop(Yard::open(place.at("yard")).unwrap());
    assert_eq!(leftovers(&place.at("yard")), [place.at("yard/tmp/aaaaaaaaaaaaaaaa")]);
    lock.unlock().unwrap();
    drop(Yard::open(place.at("yard")).unwrap());
    assert!(leftovers(&place.at("yard")).is_empty());
}

#[test]
fn an_init_that_died_can_be_repeated_and_a_newer_catalogue_is_refused() {
    let place = Place::new();
    drop(Yard::init(place.at("yard")).unwrap());
    fs::remove_file(place.at("yard/yard.toml")).unwrap();
    drop(Yard::init(place.at("yard")).unwrap());
    sql(&place, "PRAGMA user_version = 99");
    let Err(error) = Yard::open(place.at("yard")) else { panic!("it opened") };
    assert!(matches!(error, Error::Yard(YardError::NewerFormat { found: 99, .. })), "{error}");
}

#[test]
fn a_file_that_changes_during_an_intake_is_said_to_and_nothing_is_taken_in() {
    let place = Place::new();
    tree(&place.at("source"), 6);
    let yard = Yard::init(place.at("yard")).unwrap();
    let ctx = Ctx::new();
    type Change = fn(&Path);
    let changes: [(&str, Change); 5] = [
        ("written to", |source| fs::write(source.join("target"), "other").unwrap()),
        ("deleted", |source| fs::remove_file(source.join("target")).unwrap()),
        ("added", |source| fs::write(source.join("newcomer"), "x").unwrap()),
        ("replaced by a link", |source| {
            fs::remove_file(source.join("target")).unwrap();
            std::os::unix::fs::symlink("/etc/hostname", source.join("target")).unwrap();
        }),
        ("replaced by a fifo", |source| {
            fs::remove_file(source.join("target")).unwrap();
            assert!(std::process::Command::new("mkfifo").arg(source.join("target")).status().unwrap().success());
        }),
    ];
    for (what, change) in changes {
        let source = place.at("source");
        let _ = fs::remove_file(source.join("newcomer"));
        let _ = fs::remove_file(source.join("target"));
        fs::write(source.join("target"), "as it was").unwrap();
        let mut options = yard_twin::intake::Options::new(&source, "wexcombe".parse().unwrap());
        options.build = Some("1".parse().unwrap());
        let plan = intake::plan(&yard, options, &ctx).unwrap();
        change(&source);
        let error = intake::apply(&yard, &plan, &ctx).unwrap_err();
        assert!(matches!(error, Error::Intake(_) | Error::Io { .. }), "{what}: {error}");
        assert_eq!(stock::list(&yard, false).unwrap().len(), 0, "{what}");
        assert!(leftovers(&place.at("yard")).is_empty(), "{what}");
        assert_eq!(look(&place.at("yard/pool")).values().filter(|seen| seen.0 == 'f').count(), 0, "{what}");
    }
}

#[test]
fn where_no_more_links_can_be_made_files_are_copied() {
    let place = Place::new();
    // More names than ext4 (65,000) and btrfs (65,535 a folder) give one file.
    let count = 65_600u64;
    for number in 0..count {
        let path = place.at(&format!("source/{}", number / 1000));
        if number % 1000 == 0 {
            fs::create_dir_all(&path).unwrap();
        }
        fs::write(path.join(format!("{number}.dat")), "the same").unwrap();
    }
    let yard = Yard::init(place.at("yard")).unwrap();
    let taken = take_in(&yard, &place.at("source"), "1").unwrap();
    assert_eq!((taken.totals.files, taken.new_contents), (count, 1));
    let made = clone(&yard, "wexcombe@1", "a", Sharing::All).unwrap();
    let shares = made.shares;
    assert_eq!(shares.linked.files + shares.copied.files + shares.reflinked.files, count);
    let files =
        fs::read_dir(made.folder.join("game")).unwrap().map(|f| fs::read_dir(f.unwrap().path()).unwrap().count());
    assert_eq!(files.sum::<usize>() as u64, count);
    assert_eq!(fs::read(made.folder.join("game/65/65599.dat")).unwrap(), b"the same");
}
