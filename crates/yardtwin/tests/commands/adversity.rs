//! The ways in which a machine and its user get in the way of a change: each is said, with what to do, and loses nothing.

use std::fs;
use std::io::Write;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::PathBuf;
use std::process::{Command, Output};

use crate::support::common::{Place, Seen, assert_same, is_root, look, skip};
use crate::support::{Desk, mount, small_disk, text};

/// A twin with a snapshot `then`, changed since: a game file replaced, one gone, one added.
fn changed_twin() -> Desk {
    let desk = Desk::with_twins(&["a"]);
    desk.ok(&["snapshot", "a", "then"]);
    change(&desk, "a");
    desk.ok(&["snapshot", "a", "now"]);
    desk
}

fn change(desk: &Desk, twin: &str) {
    let board = desk.game(twin, "guide/READ ME first.txt");
    fs::remove_file(&board).unwrap();
    fs::write(&board, "another board").unwrap();
    fs::remove_file(desk.game(twin, "release.json")).unwrap();
    fs::write(desk.game(twin, "guide/added.txt"), "added").unwrap();
    desk.place.give_away();
}

fn restore(desk: &Desk) -> Output {
    desk.run(&["restore", "a", "then", "--yes"])
}

/// The restore fails, says `message`, and leaves the twin and the yard as they were.
fn fails(desk: &Desk, code: i32, message: &str, run: impl FnOnce() -> Output) {
    let before = look(&desk.game("a", ""));
    let output = run();
    let said = text(&output.stderr);
    assert_eq!(output.status.code(), Some(code), "{said}");
    assert!(said.contains(message), "{said}");
    assert!(said.lines().count() > 1, "and says what to do: {said}");
    assert_same(&before, &look(&desk.game("a", "")), message);
}

/// Once it is over, the restore works.
fn then_works(desk: &Desk, want: &Seen) {
    desk.ok(&["restore", "a", "then", "--yes"]);
    assert_same(want, &look(&desk.game("a", "")), "restored");
}

#[test]
fn a_folder_that_may_not_be_written_and_too_few_open_files() {
    let desk = Desk::with_twins(&["a"]);
    let want = look(&desk.game("a", ""));
    desk.ok(&["snapshot", "a", "then"]);
    change(&desk, "a");
    let folder = desk.game("a", "guide");
    fs::set_permissions(&folder, fs::Permissions::from_mode(0o555)).unwrap();
    fails(&desk, 1, "guide", || restore(&desk));
    fs::set_permissions(&folder, fs::Permissions::from_mode(0o755)).unwrap();
    // Wherever it runs out of them: never as if a file weren't there, or were another one.
    until_enough(&desk, "restore a then --yes");
    assert_same(&want, &look(&desk.game("a", "")), "restored");
    until_enough(&desk, "clone a b");
    assert_same(&want, &look(&desk.game("b", "")), "cloned");
    // Nor as if nobody had a file open that is to go.
    fs::write(desk.game("b", "guide/held.txt"), "by then").unwrap();
    desk.place.give_away();
    desk.ok(&["show", "b"]);
    let mut held = fs::OpenOptions::new().append(true).open(desk.game("b", "guide/held.txt")).unwrap();
    until_enough(&desk, "remove b --for-good --yes");
    held.write_all(b", and later").unwrap();
    let kept = fs::read_to_string(desk.at("yard/kept/b 1/b/game/guide/held.txt"));
    assert_eq!(kept.unwrap(), "by then, and later");
}

/// Runs a command with ever more open files until it works; before that it says what it lacks, and `a` stays as it is.
fn until_enough(desk: &Desk, command: &str) {
    let few = |count: u32| {
        let script = format!("ulimit -n {count}; exec \"$0\" {command}");
        desk.tool("/bin/sh").args(["-c", &script]).arg(desk.at("yardtwin")).output().unwrap()
    };
    let enough = (6..60).find(|&count| {
        let before = look(&desk.game("a", ""));
        let output = few(count);
        let said = text(&output.stderr);
        // One that had begun to let go is finished by the next command.
        if output.status.success() || said.contains("there is no twin \"b\"") {
            return true;
        }
        assert_eq!(output.status.code(), Some(1), "{command}, {count}: {said}");
        assert!(said.contains("Too many open files") && said.contains("ulimit"), "{command}, {count}: {said}");
        assert_same(&before, &look(&desk.game("a", "")), &said);
        false
    });
    assert!(enough.is_some_and(|count| count > 10), "{command}: {enough:?}");
}

#[test]
fn a_twin_whose_record_is_damaged_keeps_nobody_from_the_others() {
    let desk = Desk::with_twins(&["a", "gone", "sick"]);
    fs::write(desk.game("sick", "own.wjs"), "of the sick one").unwrap();
    fs::write(desk.game("a", "own.wjs"), "mine").unwrap();
    fs::write(desk.game("gone", "own.wjs"), "mine too").unwrap();
    desk.place.give_away();
    desk.ok(&["show", "sick"]);
    let state: String = rusqlite::Connection::open(desk.at("yard/catalog.db"))
        .unwrap()
        .query_row("SELECT state FROM twins WHERE name = 'sick'", [], |row| row.get(0))
        .unwrap();
    fs::write(desk.at("yard/states").join(&state[..2]).join(&state), "no state").unwrap();
    let sick = look(&desk.game("sick", ""));
    for twice in ["once", "twice"] {
        for command in [
            "list",
            "list --space",
            "show a",
            "snapshot a",
            "history a",
            "diff a",
            "check a",
            "stock list",
            "stock show wexcombe@1.4",
            "clone a other",
            "renew a --leave-rest",
            "restore a 1 --all --yes",
            "launch a",
            "rename other another",
            "protect another",
            "protect another --off",
            "profile set a note x",
            "remove another",
            "remove another --for-good --yes",
            "intake installed --title wexcombe --build 9",
        ] {
            let said = desk.run(&command.split(' ').collect::<Vec<_>>());
            let fine = said.status.success() || (said.status.code() == Some(3) && text(&said.stderr).is_empty());
            assert!(fine, "{twice}: {command}: {}{}", text(&said.stdout), text(&said.stderr));
        }
        assert!(desk.ok(&["list"]).contains("needs a look"), "it is named");
        // What it needs can't be told, so that nothing goes which it may need.
        assert_eq!(desk.run(&["sweep"]).status.code(), Some(1));
    }
    desk.ok(&["remove", "gone", "--for-good", "--yes"]);
    assert_eq!(look(&desk.game("sick", "")), sick);
    desk.run(&["check", "--fix"]);
    desk.ok(&["show", "sick"]);
    let checked = desk.run(&["check", "--full"]).stdout;
    assert!(!text(&checked).contains("damaged"), "nothing is lost that it needs: {}", text(&checked));
}

#[test]
fn a_twin_of_which_nothing_can_be_read_is_named_all_the_same() {
    let desk = Desk::with_twins(&["a"]);
    let states: Vec<_> = fs::read_dir(desk.at("yard/states")).unwrap().map(|entry| entry.unwrap().path()).collect();
    for state in states.iter().flat_map(|folder| fs::read_dir(folder).unwrap()) {
        fs::write(state.unwrap().path(), "no state").unwrap();
    }
    for command in [&["list"][..], &["list", "--space"], &["stock", "list"]] {
        let said = desk.ok(command);
        assert!(command[0] == "stock" || command.len() == 2 || said.contains("needs a look"), "{said}");
    }
    // What else there is can still be had.
    desk.ok(&["clone", "wexcombe@1.4", "b"]);
    desk.ok(&["launch", "b"]);
}

#[test]
fn a_disk_that_is_full_read_only_or_busy() {
    let test = "a_disk_that_is_full_read_only_or_busy";
    if !is_root() {
        return skip(test, "mounting takes root");
    }
    let desk = changed_twin();
    let now = look(&desk.game("a", ""));
    let want = {
        desk.ok(&["restore", "a", "then", "--yes"]);
        let want = look(&desk.game("a", ""));
        desk.ok(&["restore", "a", "now", "--yes"]);
        want
    };
    assert_same(&now, &look(&desk.game("a", "")), "and back");
    let Some(busy) = mount(&["--bind", "/proc/version"], &desk.game("a", "guide/READ ME first.txt")) else {
        return skip(test, "nothing can be mounted");
    };
    let output = restore(&desk);
    assert_ne!(output.status.code(), Some(0), "{}", text(&output.stderr));
    drop(busy);
    assert_same(&now, &look(&desk.game("a", "")), "a file that something is mounted on");
    let yard = desk.at("yard");
    {
        let whole = mount(&["--bind", yard.to_str().unwrap()], &yard).unwrap();
        assert!(Command::new("mount").args(["-o", "remount,bind,ro"]).arg(&yard).status().unwrap().success());
        fails(&desk, 1, "Read-only", || restore(&desk));
        drop(whole);
    }
    then_works(&desk, &want);
}

#[test]
fn a_full_disk_changes_nothing_and_once_there_is_room_it_works() {
    let test = "a_full_disk_changes_nothing_and_once_there_is_room_it_works";
    let desk = Desk::new();
    let Some(_small) = small_disk(test, "400m", &desk.at("yard")) else { return };
    desk.ok(&["init"]);
    desk.ok(&["intake", "installed", "--title", "wexcombe", "--build", "1.4"]);
    desk.ok(&["clone", "wexcombe@1.4", "a", "--share", "all"]);
    let want = look(&desk.game("a", ""));
    // What is to come back needs room, since a file like it is never linked.
    let save = desk.at("yard/twins/a/home/saved");
    fs::write(&save, vec![5; 4 << 20]).unwrap();
    desk.place.give_away();
    desk.ok(&["snapshot", "a", "then"]);
    fs::remove_file(&save).unwrap();
    let _ = fs::write(desk.at("yard/filler"), vec![1; 400 << 20]);
    let output = desk.run(&["restore", "a", "then", "--all", "--yes"]);
    assert_eq!(output.status.code(), Some(1), "{}", text(&output.stdout));
    assert!(text(&output.stderr).contains("The disk is full"), "{}", text(&output.stderr));
    assert_same(&want, &look(&desk.game("a", "")), "a full disk");
    assert!(!save.exists());
    fs::remove_file(desk.at("yard/filler")).unwrap();
    desk.ok(&["restore", "a", "then", "--all", "--yes"]);
    assert_eq!(fs::metadata(&save).unwrap().len(), 4 << 20);
}

#[test]
fn root_goes_on_as_the_user_whose_yard_it_is() {
    let test = "root_goes_on_as_the_user_whose_yard_it_is";
    if !is_root() {
        return skip(test, "it takes root");
    }
    let desk = Desk::with_twins(&["a"]);
    let as_root = |arguments: &[&str]| {
        let mut command = Command::new(desk.at("yardtwin"));
        command.current_dir(desk.root()).arg("--yard").arg(desk.at("yard")).args(arguments).output().unwrap()
    };
    let owner = fs::metadata(desk.at("yard/pool")).unwrap().uid();
    for arguments in [&["snapshot", "a", "then"][..], &["clone", "a", "b"], &["launch", "b", "--", "--shifts", "1"]] {
        let output = as_root(arguments);
        assert!(output.status.success(), "{arguments:?}: {}", text(&output.stderr));
        assert!(text(&output.stderr).contains("goes on as that user"), "{}", text(&output.stderr));
    }
    let mut waiting = vec![desk.at("yard")];
    while let Some(folder) = waiting.pop() {
        for entry in fs::read_dir(&folder).unwrap() {
            let meta = entry.as_ref().unwrap().metadata().unwrap();
            assert_eq!(meta.uid(), owner, "{}", entry.as_ref().unwrap().path().display());
            waiting.extend(meta.is_dir().then(|| entry.unwrap().path()));
        }
    }
    // A program that builds on the library is told, and changes nothing.
    let error = yard_twin::Yard::open(desk.at("yard")).unwrap_err();
    assert!(matches!(error, yard_twin::Error::Yard(yard_twin::YardError::NotYours { .. })), "{error}");
}

#[test]
fn a_program_that_fills_the_disk_loses_nothing_that_it_wrote() {
    let test = "a_program_that_fills_the_disk_loses_nothing_that_it_wrote";
    let outer = Place::new();
    let Some(_small) = small_disk(test, "200m", &outer.at("small")) else { return };
    let desk = Desk::bench(Place::below(&outer.at("small")), &[], |_| {});
    for rung in ["sealed", "fenced", "redirected"] {
        desk.ok(&["clone", "workbench@1", rung]);
        desk.ok(&["profile", "set", rung, "isolation", rung]);
        let fill = "mkdir -p own; echo first > own/first.sav; cat /dev/zero > own/filler || true; exit 5";
        let output = desk.run(&["launch", rung, "--", fill]);
        assert_eq!(output.status.code(), Some(5), "{rung}: {}", text(&output.stderr));
        let said = text(&output.stderr);
        assert!(said.contains("No space left") && said.contains("It is kept where it is"), "{rung}: {said}");
        let layer = desk.at("yard/twins").join(rung).join("layer/game/own/filler");
        fs::remove_file(if layer.exists() { layer } else { desk.game(rung, "own/filler") }).unwrap();
        desk.ok(&["show", rung]);
        assert_eq!(fs::read(desk.game(rung, "own/first.sav")).unwrap(), b"first\n", "{rung}");
        desk.ok(&["remove", rung, "--for-good", "--yes"]);
    }
}

/// The pool's file of what a path in a twin holds.
fn pool_file(desk: &Desk, path: &str) -> PathBuf {
    let id = blake3::hash(&fs::read(desk.game("a", path)).unwrap()).to_hex().to_string();
    desk.at("yard/pool").join(&id[..2]).join(id)
}

#[test]
fn a_pool_that_was_meddled_with_is_named_and_the_twin_stays_as_it_is() {
    let desk = Desk::with_twins(&["a"]);
    let want = look(&desk.game("a", ""));
    desk.ok(&["snapshot", "a", "then"]);
    let content = pool_file(&desk, "release.json");
    let bytes = fs::read(&content).unwrap();
    change(&desk, "a");
    // While the folder that it came from is there, it is taken from that.
    fs::rename(desk.at("installed"), desk.at("elsewhere")).unwrap();
    fs::set_permissions(&content, fs::Permissions::from_mode(0o644)).unwrap();
    fs::write(&content, "meddled with").unwrap();
    fails(&desk, 1, content.file_name().unwrap().to_str().unwrap(), || restore(&desk));
    assert!(!content.exists(), "what holds something else is in nobody's way");
    fails(&desk, 1, content.file_name().unwrap().to_str().unwrap(), || restore(&desk));
    fs::rename(desk.at("elsewhere"), desk.at("installed")).unwrap();
    // As the message says: the same build taken in again brings it back.
    desk.ok(&["intake", "installed", "--title", "wexcombe"]);
    assert_eq!(fs::read(&content).unwrap(), bytes);
    then_works(&desk, &want);
}

#[test]
fn yesterdays_catalogue_a_copied_yard_and_a_wrong_clock() {
    let desk = changed_twin();
    let catalogue = desk.at("yard/catalog.db");
    let yesterday = fs::read(&catalogue).unwrap();
    let want = look(&desk.game("a", ""));
    // Today: another twin, another snapshot, a sweep.
    desk.ok(&["clone", "a", "today"]);
    fs::write(desk.game("a", "guide/today.txt"), "today").unwrap();
    desk.ok(&["snapshot", "a", "today"]);
    desk.ok(&["sweep"]);
    let today = look(&desk.game("a", ""));
    for more in ["-wal", "-shm"] {
        let _ = fs::remove_file(desk.at(&format!("yard/catalog.db{more}")));
    }
    fs::write(&catalogue, yesterday).unwrap();
    desk.place.give_away();
    assert!(desk.fails(4, &["sweep"]).contains("today"), "a twin that the catalogue doesn't know is needed by nobody");
    desk.fails(4, &["clone", "a", "today"]);
    desk.run(&["check", "--fix"]);
    desk.ok(&["remove", "today", "--for-good", "--yes"]);
    assert!(desk.ok(&["sweep"]).contains("backup"), "it is noticed, and nothing is let go");
    assert!(desk.ok(&["history", "a"]).contains("changed from outside"));
    assert_same(&today, &look(&desk.game("a", "")), "what came since is found as a change from outside");
    desk.ok(&["restore", "a", "now", "--yes"]);
    assert_same(&want, &look(&desk.game("a", "")), "and what is known can be gone back to");

    let copied = Command::new("cp").arg("-a").arg(desk.at("yard")).arg(desk.at("copied")).status();
    assert!(copied.unwrap().success());
    let yard = desk.at("copied");
    let at = |arguments: &[&str]| desk.ok(&[&["--yard", yard.to_str().unwrap()], arguments].concat());
    at(&["restore", "a", "then", "--yes"]);
    assert!(yard.join("twins/a/game/release.json").exists(), "the copy has changed");
    assert_same(&want, &look(&desk.game("a", "")), "and the original has not");

    // The clock was far ahead when all of that was done.
    let ahead = "UPDATE changes SET at = '2050-01-01T00:00:00Z'; UPDATE twins SET made_at = '2050-01-01T00:00:00Z'";
    rusqlite::Connection::open(&catalogue).unwrap().execute_batch(ahead).unwrap();
    desk.place.give_away();
    let swept = desk.json(&["sweep"]);
    assert_eq!(
        (&swept["deleted"]["files"], swept["states"].as_array().unwrap().len()),
        (&0.into(), 0),
        "nothing is old"
    );
    desk.ok(&["restore", "a", "then", "--yes"]);
    assert!(desk.ok(&["history", "a"]).contains("restored"));
}

#[test]
fn a_twin_whose_folder_was_deleted_by_hand_can_be_had_again() {
    let desk = changed_twin();
    let want = look(&desk.game("a", ""));
    fs::remove_dir_all(desk.at("yard/twins/a")).unwrap();
    for command in [vec!["show", "a"], vec!["restore", "a", "--yes"], vec!["snapshot", "a"], vec!["rename", "a", "b"]] {
        let said = desk.fails(1, &command);
        assert!(said.contains("yardtwin"), "{command:?} says what to type: {said}");
    }
    desk.ok(&["remove", "a"]);
    desk.ok(&["clone", "a", "a"]);
    assert_same(&want, &look(&desk.game("a", "")), "as it was when it was last looked at");
}
