//! Undo, as a player meets it: what changed is told, can be gone back to, and takes no play with it.

use std::fs;

use crate::support::common::{Place, assert_same, leftovers, look};
use crate::support::{Desk, text};

/// Answers with what differs from run to run taken out.
fn compare(name: &str, answers: &[String], desk: &Desk) {
    let place = desk.root().canonicalize().unwrap();
    let mut filters = insta::Settings::new();
    for (pattern, instead) in [
        (r"\d{4}-\d\d-\d\d \d\d:\d\d", "[MOMENT]"),
        (r"\b\d+ ms\b|\b\d+\.\d s\b", "[TIME]"),
        (r"\d+(\.\d+)? (K|M)iB|\b\d+ B\b", "[SIZE]"),
    ] {
        filters.add_filter(pattern, instead);
    }
    let said = answers.join("\n").replace(place.to_str().unwrap(), "[PLACE]");
    let said: Vec<_> = said.lines().map(str::trim_end).collect();
    filters.bind(|| insta::assert_snapshot!(name, said.join("\n")));
}

/// What a mod installer does: it replaces, adds and deletes game files.
fn install_mod(desk: &Desk, twin: &str) {
    let replaced = desk.game(twin, "signals/signal-03.wjg");
    fs::remove_file(&replaced).unwrap();
    fs::write(&replaced, "a board from a mod").unwrap();
    fs::create_dir(desk.game(twin, "signals/copper")).unwrap();
    fs::write(desk.game(twin, "signals/copper/board.txt"), "copper").unwrap();
    let guide = fs::read_dir(desk.game(twin, "guide")).unwrap().next().unwrap().unwrap().path();
    fs::remove_file(guide).unwrap();
    desk.place.give_away();
}

#[test]
fn undoing_a_mod_after_hours_of_play_does_not_take_the_play_with_it() {
    let desk = Desk::with_twins(&["a"]);
    let clean = look(&desk.game("a", ""));
    let mut said = vec![desk.ok(&["snapshot", "a", "before the mod"])];
    install_mod(&desk, "a");
    desk.ok(&["launch", "a", "--", "--shifts", "2"]);
    let played = look(&desk.game("a", ""));
    let home = look(&desk.at("yard/twins/a/home"));
    said.push(desk.ok(&["history", "a"]));
    said.push(desk.ok(&["restore", "a", "--dry-run"]));
    assert_same(&played, &look(&desk.game("a", "")), "a dry run");
    said.push(desk.ok(&["restore", "a", "before the mod", "--yes"]));
    let mut want = clean.clone();
    want.extend(played.iter().filter(|(path, _)| path.starts_with("cabin/")).map(|(p, w)| (p.clone(), w.clone())));
    assert_same(&want, &look(&desk.game("a", "")), "the game is as it was, the shifts are as they are");
    assert_same(&home, &look(&desk.at("yard/twins/a/home")), "and so is the home");
    said.push(desk.ok(&["restore", "a", "before the mod", "--yes"]));

    let history = desk.json(&["history", "a"]);
    let undone = &history.as_array().unwrap()[0];
    assert_eq!((&undone["what"], &undone["to"]), (&"restore".into(), &2.into()));
    let before = (undone["number"].as_u64().unwrap() - 1).to_string();
    desk.ok(&["restore", "a", &before, "--yes"]);
    assert_same(&played, &look(&desk.game("a", "")), "a restore is undone as well");
    desk.ok(&["restore", "a", "before the mod", "--all", "--yes"]);
    assert_same(&clean, &look(&desk.game("a", "")), "all of it");
    said.push(desk.ok(&["history", "a"]));
    said.push(desk.ok(&["snapshot", "a", "--drop", "before the mod"]));
    compare("undo", &said, &desk);
    desk.fails(1, &["restore", "a", "before the mod"]);
    assert!(leftovers(&desk.at("yard")).is_empty());
}

#[test]
fn a_protected_twin_is_played_and_not_changed() {
    let desk = Desk::with_twins(&["a"]);
    desk.ok(&["snapshot", "a", "then"]);
    install_mod(&desk, "a");
    desk.ok(&["protect", "a"]);
    for refused in
        [vec!["restore", "a", "then", "--yes"], vec!["remove", "a"], vec!["remove", "a", "--for-good", "--yes"]]
    {
        let said = desk.fails(4, &refused);
        assert!(said.contains("protected") && said.contains("protect a --off"), "{said}");
    }
    desk.ok(&["launch", "a", "--", "--shifts", "1"]);
    desk.ok(&["snapshot", "a", "played"]);
    assert_eq!(desk.json(&["show", "a"])["changed_though_protected"]["new"], 0);
    fs::write(desk.game("a", "signals/another.txt"), "another").unwrap();
    assert_eq!(desk.json(&["show", "a"])["changed_though_protected"]["new"], 1);
    assert!(desk.ok(&["show", "a"]).contains("game files were changed from outside: 1 new"));
    desk.ok(&["protect", "a", "--off"]);
    desk.ok(&["restore", "a", "then", "--yes"]);
}

#[test]
fn a_renamed_twin_starts_from_the_same_entry_and_a_moved_one_finds_its_files() {
    let desk = Desk::with_twins(&["a", "b"]);
    desk.ok(&["entry", "add", "a", "--folder", "menu"]);
    let entry = fs::read_dir(desk.at("menu")).unwrap().next().unwrap().unwrap().path();
    let before = fs::read_to_string(&entry).unwrap();
    desk.ok(&["rename", "a", "other"]);
    let after = fs::read_to_string(&entry).unwrap();
    let starts = |text: &str| text.lines().find(|line| line.starts_with("Exec=")).unwrap().to_owned();
    assert_eq!(starts(&before), starts(&after));
    assert!(after.contains("other") && desk.at("yard/twins/a/game").is_dir(), "{after}");
    desk.fails(4, &["rename", "other", "B"]);

    let folder = desk.at("yard/twins/a").canonicalize().unwrap();
    let settings = desk.game("a", "cabin/panel.ini");
    let _ = fs::remove_file(&settings);
    fs::write(&settings, format!("boards = {0}/game/boards\nold = {0}.old\n", folder.display())).unwrap();
    std::os::unix::fs::symlink(folder.join("game/boards"), desk.at("yard/twins/a/home/boards")).unwrap();
    desk.place.give_away();
    let would = desk.json(&["rename", "other", "moved", "--move-folder", "--dry-run"]);
    assert_eq!(would["mended"], serde_json::json!(["game/cabin/panel.ini", "home/boards"]));
    let done = desk.json(&["rename", "other", "moved", "--move-folder"]);
    assert_eq!(done["mended"], would["mended"]);
    let (moved, folder) = (desk.at("yard/twins/moved").canonicalize().unwrap(), folder.display());
    let text = fs::read_to_string(moved.join("game/cabin/panel.ini")).unwrap();
    assert_eq!(text, format!("boards = {}/game/boards\nold = {folder}.old\n", moved.display()));
    assert_eq!(fs::read_link(moved.join("home/boards")).unwrap(), moved.join("game/boards"));
    assert!(!desk.at("yard/twins/a").exists());
    assert!(desk.ok(&["history", "moved"]).contains("paths mended after a move"));
    assert!(leftovers(&desk.at("yard")).is_empty());
}

#[test]
fn nothing_goes_but_by_the_keep_policy_and_a_sweep_says_what_it_frees() {
    let desk = Desk::with_twins(&["a", "gone"]);
    let bytes = vec![9; 3 << 20];
    fs::write(desk.game("a", "cabin/shifts/long.wjs"), &bytes).unwrap();
    desk.place.give_away();
    desk.ok(&["history", "a"]);
    fs::remove_file(desk.game("a", "cabin/shifts/long.wjs")).unwrap();
    desk.ok(&["history", "a"]);
    desk.ok(&["remove", "gone"]);
    let swept = desk.json(&["sweep"]);
    assert_eq!(
        (&swept["deleted"]["files"], &swept["states"], &swept["twins"]),
        (&0.into(), &serde_json::json!([]), &serde_json::json!([]))
    );

    let path = desk.at("yard/yard.toml");
    let settings = fs::read_to_string(&path).unwrap();
    let keep = |text: &str| {
        fs::write(&path, settings.split_once("[keep]").unwrap().0.to_owned() + "[keep]\n" + text).unwrap();
        desk.place.give_away();
    };
    keep("states = 1\ndays = 0\nremoved_days = 0\n");
    let swept = desk.json(&["sweep"]);
    assert_eq!(swept["twins"], serde_json::json!(["gone"]));
    assert_eq!(swept["deleted"]["files"], 0, "the days of grace");
    assert!(swept["waiting"]["bytes"].as_u64().unwrap() >= bytes.len() as u64);
    keep("states = 1\ndays = 0\nremoved_days = 0\ngrace_days = 0\n");
    let would = desk.json(&["sweep", "--dry-run"]);
    let swept = desk.json(&["sweep"]);
    assert_eq!(would["deleted"], swept["deleted"]);
    assert!(swept["deleted"]["bytes"].as_u64().unwrap() >= bytes.len() as u64);
    desk.ok(&["clone", "a", "b"]);
    desk.ok(&["clone", "wexcombe@1.4", "c"]);
    keep("states = -1\n");
    assert!(desk.fails(1, &["sweep"]).contains("yard.toml"));
}

#[test]
fn a_file_in_a_folder_that_has_to_go_is_never_deleted_with_it() {
    let desk = Desk::with_twins(&["a"]);
    desk.ok(&["snapshot", "a", "then"]);
    install_mod(&desk, "a");
    desk.ok(&["snapshot", "a", "now"]);
    assert!(
        std::process::Command::new("mkfifo").arg(desk.game("a", "signals/copper/pipe")).status().unwrap().success()
    );
    let output = desk.run(&["restore", "a", "then", "--yes"]);
    assert_eq!(output.status.code(), Some(4), "{}", text(&output.stderr));
    assert!(text(&output.stderr).contains("signals/copper/pipe"));
    assert!(desk.game("a", "signals/copper/board.txt").exists(), "nothing was changed");
    fs::remove_file(desk.game("a", "signals/copper/pipe")).unwrap();
    desk.ok(&["restore", "a", "then", "--yes"]);
    assert!(!desk.game("a", "signals/copper").exists());
}

#[test]
fn the_home_that_a_first_start_makes_is_no_change_of_anybody_s() {
    let desk = Desk::bench(Place::for_launches(), &["t", "edited"], |_| ());
    let lines = |twin: &str| desk.json(&["history", twin]).as_array().unwrap().len();
    let made = "yard/twins/t/home/.config/user-dirs.dirs";
    desk.does("t", "true", &[]);
    assert!(lines("t") == 1 && desk.at(made).exists(), "it was made, and nobody changed it");
    desk.does("t", "mkdir own; echo 1 > own/one.sav", &[]);
    desk.ok(&["undo", "t", "--yes"]);
    desk.ok(&["restore", "t", "1", "--all", "--yes"]);
    assert!(!desk.game("t", "own/one.sav").exists() && desk.at(made).exists(), "the first state has a home");
    // What somebody did before the first start is a line all the same.
    std::fs::write(desk.game("edited", "data/new.txt"), "by hand").unwrap();
    desk.does("edited", "true", &[]);
    assert_eq!(lines("edited"), 2);
}
