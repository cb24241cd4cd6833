//! Launch entries: valid by the desktop's own checker, and started by the desktop's own starter.

use std::fs;
use std::process::Command;
use std::time::{Duration, Instant};

use crate::support::common::skip;
use crate::support::{Desk, text};

fn has(program: &str) -> bool {
    Command::new("sh").args(["-c", &format!("command -v {program}")]).output().unwrap().status.success()
}

/// Names that a menu's quoting must survive: in the yard's path, in the title's name, in the twin's name.
const PLACES: [&str; 4] =
    ["plain=5", "two words, 'q'", "a \"b\" $HOME `id` \\n 100%", "%f 50%% ünï панель ~ & ; # (x)"];
const TWINS: [&str; 4] = ["evening", "it's 5 o'clock", "$HOME `id` 100% %f", "Spätschicht панель; & ~ # (x)"];

#[test]
fn an_entry_is_valid_and_starts_just_its_twin_whatever_the_names() {
    let test = "an_entry_is_valid_and_starts_just_its_twin_whatever_the_names";
    if !has("desktop-file-validate") || !has("gio") {
        return skip(test, "desktop-file-validate (desktop-file-utils) or gio (libglib2.0-bin) is not installed");
    }
    for (place, twin) in PLACES.iter().zip(TWINS) {
        let desk = Desk::named(place);
        let sheet = standins::WEXCOMBE_SHEET.replace("\"Wexcombe Junction\"", "'Wexcombe \"J\" `x` $y \\ 100%'");
        fs::write(desk.at("odd.toml"), sheet).unwrap();
        desk.ok(&["init"]);
        desk.ok(&["sheet", "add", "odd.toml"]);
        desk.ok(&["intake", "installed", "--title", "wexcombe"]);
        desk.ok(&["clone", "wexcombe@1.4", twin]);
        desk.ok(&["clone", "wexcombe@1.4", "another"]);
        let entry = desk.json(&["entry", "add", twin, "--folder", "menu"]);
        let path = entry["path"].as_str().unwrap();
        let output = desk.tool("desktop-file-validate").arg(path).output().unwrap();
        assert!(output.status.success() && output.stdout.is_empty(), "{place}: {}", text(&output.stdout));

        let output = desk.tool("gio").arg("launch").arg(path).output().unwrap();
        assert!(output.status.success(), "{place}: {}", text(&output.stderr));
        let shift = desk.game(twin, "cabin/shifts/shift-001.wjs");
        let until = Instant::now() + Duration::from_secs(20);
        while !shift.exists() && Instant::now() < until {
            std::thread::sleep(Duration::from_millis(20));
        }
        assert!(shift.exists(), "{place}: the twin was not started");
        assert!(!desk.game("another", "cabin/shifts/shift-001.wjs").exists());
    }
}

#[test]
fn entries_that_would_look_alike_are_told_apart_and_go_with_their_twin() {
    let desk = Desk::with_twins(&["a"]);
    desk.ok(&["entry", "add", "a", "--folder", "menu"]);
    desk.ok(&["--yard", "other yard", "init"]);
    desk.ok(&["--yard", "other yard", "sheet", "add", "wexcombe.toml"]);
    desk.ok(&["--yard", "other yard", "intake", "installed", "--title", "wexcombe"]);
    desk.ok(&["--yard", "other yard", "clone", "wexcombe@1.4", "a"]);
    let second = desk.json(&["--yard", "other yard", "entry", "add", "a", "--folder", "menu"]);
    assert_eq!(second["name"], "Wexcombe Junction 1.4 \u{2013} a (other yard)");
    let again = desk.json(&["--yard", "other yard", "entry", "add", "a", "--folder", "menu"]);
    assert_eq!(again["name"], second["name"], "its own entry is replaced, not avoided");
    assert_eq!(fs::read_dir(desk.at("menu")).unwrap().count(), 2);
    desk.ok(&["remove", "a"]);
    assert_eq!(fs::read_dir(desk.at("menu")).unwrap().count(), 1, "no entry stays that would start nothing");
    desk.ok(&["--yard", "other yard", "entry", "remove", "a"]);
    assert_eq!(fs::read_dir(desk.at("menu")).unwrap().count(), 0);
    desk.fails(1, &["--yard", "other yard", "entry", "remove", "a"]);
}
