//! The demo works, and so does every command of the README's guide, in the order in which it stands there.

use std::fs;

use crate::support::common::leftovers;
use crate::support::{Desk, text};

/// Compares the demo's answers with the snapshot, with what differs from run to run taken out.
fn compare(answer: &str, desk: &Desk) {
    let place = desk.root().canonicalize().unwrap();
    let mut filters = insta::Settings::new();
    for (pattern, instead) in [
        (r"\d{4}-\d\d-\d\d \d\d:\d\d", "[MOMENT]"),
        (r"\b\d+ ms\b|\b\d+\.\d s\b", "[TIME]"),
        (r"\b[0-9a-f]{16}\b", "[ID]"),
        (r"\d+(\.\d+)? (K|M)iB", "[SIZE]"),
        // Bars are as long as the program is large.
        (r"(?m)  #+-*$", "  [BAR]"),
        // Columns are as wide as what was taken out.
        (r"(SIZE\]?|TIME\]|RAN) +", "$1  "),
        // How files share storage depends on the filesystem and on who runs this.
        (
            r"(?m)^  (on disk|unsealed|linked|        )  +.*(shared|links|copies|a copy|blocks|written here|refused|twin|read-only).*\n",
            "",
        ),
    ] {
        filters.add_filter(pattern, instead);
    }
    let lines: Vec<_> = answer.lines().map(str::trim_end).collect();
    let answer = lines.join("\n").replace(place.to_str().unwrap(), "[PLACE]");
    filters.bind(|| insta::assert_snapshot!("demo", answer));
}

#[test]
fn the_demo_tells_its_story() {
    let desk = Desk::new();
    let output = desk.command(&["demo", "stage"]).env_remove("YARDTWIN_YARD").output().unwrap();
    assert!(output.status.success(), "{}", text(&output.stderr));
    compare(&text(&output.stdout), &desk);
    assert!(leftovers(&desk.at("stage/yard")).is_empty());
    desk.fails(4, &["demo", "stage"]);
    // One chapter of it shows what it shows in the whole.
    let whole = text(&output.stdout);
    let second = text(&desk.command(&["demo", "short", "--chapter", "2"]).output().unwrap().stdout);
    let titles: Vec<&str> =
        second.lines().filter(|line| line.starts_with("2  ") || line.starts_with("  shown")).collect();
    assert!(titles.len() == 2 && titles.iter().all(|title| whole.contains(title)), "{second}");
    assert!(second.contains("$ yardtwin launch 'evening shift'") && !second.contains("$ yardtwin init"), "{second}");
    desk.fails(2, &["demo", "--chapter", "9"]);
}

#[test]
fn every_command_of_the_readme_works() {
    let readme = fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../README.md")).unwrap();
    let blocks = readme.split("```console\n").skip(1).map(|rest| rest.split("```").next().unwrap());
    let commands: Vec<&str> = blocks.flat_map(str::lines).map(|line| line.strip_prefix("$ ").unwrap()).collect();
    assert!(commands.len() > 25);
    let desk = Desk::new();
    let output = desk.command(&["demo", "yardtwin-demo", "--quiet"]).env_remove("YARDTWIN_YARD").output().unwrap();
    assert!(output.status.success());
    let quiet = text(&output.stdout);
    assert!(quiet.matches("\n  shown  ").count() == 8 && !quiet.contains("\n$ "), "{quiet}");
    let script = format!("set -e\nPATH={}:$PATH\ncd yardtwin-demo\n", desk.root().display());
    let script = commands.iter().fold(script, |script, command| {
        format!("{script}echo '$ {}' >&2\n{command}\n", command.replace('\'', r"'\''"))
    });
    let output = desk.tool("sh").args(["-c", &script]).output().unwrap();
    assert!(output.status.success(), "{}", text(&output.stderr));
    assert!(desk.at("yardtwin-demo/my yard/twins/late turn/game/cabin/shifts/shift-002.wjs").exists());
}
