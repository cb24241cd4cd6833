//! Ways back, through the real program: a line of the history taken back, a removed twin brought back, belongings in a folder
//! and from there again.

use std::fs;

use crate::support::Desk;
use crate::support::common::{Place, assert_same, look};

fn bench(twins: &[&str]) -> Desk {
    Desk::bench(Place::new(), twins, |build| fs::write(build.join("data/view.ini"), "[v]\nwidth=1280\n").unwrap())
}

fn read(desk: &Desk, path: &str) -> String {
    fs::read_to_string(desk.game("a", path)).unwrap_or_else(|_| "(none)".into())
}

/// The newest number of a twin's history.
fn newest(desk: &Desk, twin: &str) -> String {
    desk.json(&["history", twin])[0]["number"].to_string()
}

#[test]
fn a_line_is_taken_back_and_what_came_after_it_stays() {
    let desk = bench(&["a"]);
    desk.does("a", "mkdir -p own; echo 1 > own/one.sav; echo 1 > own/both.sav; echo 1 > data/odd.txt", &[]);
    let first = newest(&desk, "a");
    desk.does("a", "echo 2 > own/two.sav; echo 2 > own/both.sav", &[]);
    desk.ok(&["profile", "set", "a", "--file", "view.ini", "v.width", "2560"]);
    let shown = desk.ok(&["undo", "a", &first, "--dry-run"]);
    assert!(shown.contains("changed since, stays  game/own/both.sav"), "{shown}");
    let said = desk.ok(&["restore", "a", &first, "--only", "--yes"]);
    assert!(said.contains("is taken back"), "{said}");
    let all =
        ["own/one.sav", "own/two.sav", "own/both.sav", "data/odd.txt", "data/view.ini"].map(|path| read(&desk, path));
    assert_eq!(all, ["(none)", "2\n", "2\n", "(none)", "[v]\nwidth=2560\n"]);
    // The newest is taken back as a whole, and so is taking back.
    desk.ok(&["undo", "a", "--yes"]);
    assert_eq!((read(&desk, "own/one.sav"), read(&desk, "data/odd.txt")), ("1\n".into(), "1\n".into()));
    // What nobody has taken in yet is the newest too; then an edit, by its own number.
    fs::write(desk.game("a", "data/dropped.txt"), "dropped").unwrap();
    desk.place.give_away();
    desk.ok(&["undo", "a", "--yes"]);
    assert_eq!(read(&desk, "data/dropped.txt"), "(none)");
    let edited = desk.json(&["history", "a"]);
    let edited = edited.as_array().unwrap().iter().find(|line| line["what"].to_string().contains("edited")).unwrap();
    desk.ok(&["undo", "a", &edited["number"].to_string(), "--yes"]);
    assert_eq!(read(&desk, "data/view.ini"), "[v]\nwidth=1280\n");
    assert!(!desk.ok(&["profile", "show", "a"]).contains("2560"), "the profile went back with its file");
    desk.fails(1, &["undo", "a", "1", "--yes"]);
    desk.fails(1, &["undo", "a", "99", "--yes"]);
}

#[test]
fn an_edit_that_is_taken_back_stays_so_whatever_came_into_the_profile_since() {
    let desk = bench(&["a"]);
    let set = |key: &str, value: &str| desk.ok(&["profile", "set", "a", "--file", "view.ini", key, value]);
    set("v.width", "2560");
    let wide = newest(&desk, "a");
    desk.ok(&["profile", "set", "a", "note", "mine"]);
    let noted = newest(&desk, "a");
    desk.ok(&["undo", "a", &wide, "--yes"]);
    for _ in 0..2 {
        desk.does("a", "mkdir -p own; date +%N > own/one.sav", &[]);
        assert_eq!(read(&desk, "data/view.ini"), "[v]\nwidth=1280\n", "no launch sets it again");
    }
    assert!(desk.ok(&["profile", "show", "a"]).contains("mine"));
    // What the line set and somebody has set otherwise since stays, and is named.
    desk.ok(&["profile", "set", "a", "note", "another"]);
    let said = desk.ok(&["undo", "a", &noted, "--yes"]);
    assert!(said.contains("changed since, stays  profile.toml"), "{said}");
    assert!(desk.ok(&["profile", "show", "a"]).contains("another"));
}

#[test]
fn an_earlier_renew_is_taken_back_by_a_renew() {
    let desk = bench(&["a"]);
    fs::write(desk.at("build/data/new.txt"), "of 2").unwrap();
    desk.ok(&["intake", "build", "--title", "workbench", "--build", "2"]);
    let before = desk.json(&["show", "a"])["build"].as_str().unwrap().to_owned();
    desk.ok(&["renew", "a", "--stock", "workbench@2"]);
    let renewed = newest(&desk, "a");
    desk.does("a", "mkdir -p own; echo 1 > own/one.sav", &[]);
    desk.ok(&["undo", "a", &renewed, "--yes"]);
    assert_eq!((read(&desk, "data/new.txt"), read(&desk, "own/one.sav")), ("(none)".into(), "1\n".into()));
    assert_eq!(desk.json(&["show", "a"])["build"].as_str().unwrap(), before);
}

#[test]
fn a_removed_twin_comes_back_as_the_one_that_it_was() {
    let desk = bench(&["a"]);
    desk.does("a", "mkdir -p own; echo 1 > own/one.sav", &[]);
    desk.ok(&["entry", "add", "a", "--folder", desk.at("menu").to_str().unwrap()]);
    for name in ["a", "b"] {
        let (was, history) = (desk.json(&["show", "a"]), desk.json(&["history", "a"]));
        let there = look(&desk.at("yard/twins/a"));
        desk.ok(&["remove", "a", "--yes"]);
        assert_eq!(fs::read_dir(desk.at("menu")).unwrap().count(), 0);
        assert_eq!(desk.json(&["entry", "list"]).as_array().unwrap().len(), 0, "its entry went with it");
        let back = if name == "a" { vec!["restore", "a"] } else { vec!["restore", "a", "--as", "b"] };
        desk.ok(&back);
        let is = desk.json(&["show", name]);
        assert_eq!((&is["id"], &is["played"]), (&was["id"], &was["played"]));
        assert_eq!(desk.json(&["history", name]), history);
        assert_same(&there, &look(&desk.at("yard/twins").join(name)), "byte for byte");
        let entry = fs::read_dir(desk.at("menu")).unwrap().next().unwrap().unwrap();
        assert!(
            fs::read_to_string(entry.path())
                .unwrap()
                .lines()
                .any(|line| line.starts_with("Name=") && line.ends_with(name))
        );
        desk.does(name, "echo 2 >> own/one.sav", &[]);
        desk.ok(&["check"]);
    }
    desk.ok(&["clone", "workbench@1", "a"]);
    desk.ok(&["remove", "b", "--yes"]);
    desk.fails(4, &["restore", "b", "--as", "a"]);
    desk.ok(&["restore", "b", "--as", "c"]);
    desk.fails(1, &["restore", "nobody"]);
}

#[test]
fn belongings_lie_in_a_folder_as_plain_files_and_come_back_from_there() {
    let desk = bench(&["a", "b"]);
    desk.does("a", "mkdir -p own; echo 1 > own/one.sav; echo 2 > own/two.sav; chmod 600 own/two.sav", &[]);
    let backup = desk.at("backup");
    let to = backup.to_str().unwrap();
    desk.ok(&["carry", "saves", "--from", "a", "--to-folder", to, "--dry-run"]);
    assert!(!backup.exists());
    let said = desk.ok(&["carry", "saves", "--from", "a", "--to-folder", to]);
    assert!(said.contains("2 files of a are in"), "{said}");
    assert_same(&look(&desk.game("a", "own")), &look(&backup.join("game/own")), "the same files");
    desk.fails(4, &["carry", "saves", "--from", "a", "--to-folder", to]);
    desk.fails(1, &["carry", "saves", "--from", "b", "--to-folder", desk.at("none").to_str().unwrap()]);
    desk.fails(2, &["carry", "saves", "--from", "a", "--to-folder", desk.at("yard/x").to_str().unwrap()]);
    desk.ok(&["carry", "--group", "saves", "--from-file", to, "--to", "b"]);
    assert_same(&look(&desk.game("a", "own")), &look(&desk.game("b", "own")), "and back in another twin");
}

/// Does what an answer prints as the way back.
fn go_back(desk: &Desk, said: &str) {
    let line = said.lines().find_map(|line| line.trim().strip_prefix("way back")).unwrap_or_else(|| panic!("{said}"));
    let command = line.trim().strip_prefix("yardtwin ").unwrap();
    let yes = if command.starts_with("restore") { " --yes" } else { "" };
    let script = format!("{} {command}{yes}", desk.root().join("yardtwin").display());
    let output = desk.tool("sh").args(["-c", &script]).output().unwrap();
    assert!(output.status.success(), "{command}: {}", crate::support::text(&output.stderr));
}

/// Files and links of a twin, without what the yard writes beside them.
fn held(desk: &Desk, twin: &str) -> Vec<crate::support::common::Seen> {
    ["game", "home"].map(|part| look(&desk.at("yard/twins").join(twin).join(part))).into()
}

#[test]
fn each_way_back_that_is_printed_leads_back() {
    let desk = bench(&["a", "b"]);
    let sheet = desk.at("yard/sheets/workbench.toml");
    let builds = "[belongings.saves.builds]\n\"2*\" = [\"game/kept/*.sav\"]\n";
    fs::write(&sheet, fs::read_to_string(&sheet).unwrap() + builds).unwrap();
    fs::write(desk.at("build/data/new.txt"), "of 2").unwrap();
    fs::write(desk.at("build/data/view.ini"), "[v]\nwidth=1024\nheight=768\n").unwrap();
    desk.place.give_away();
    desk.ok(&["intake", "build", "--title", "workbench", "--build", "2"]);
    desk.does("a", "mkdir -p own lines/north; echo 1 > own/one.sav; echo n > lines/north/north.txt", &[]);
    let at = desk.at("yard/twins/b").canonicalize().unwrap();
    fs::write(desk.game("a", "data/paths.ini"), format!("at={}/game\n", at.display())).unwrap();
    desk.place.give_away();
    desk.ok(&["profile", "set", "a", "--file", "view.ini", "v.width", "2560"]);
    let from = format!("{}", at.display());
    let to = format!("{}", desk.at("yard/twins/a").canonicalize().unwrap().display());
    let number = newest(&desk, "a");
    for command in [
        vec!["clone", "a", "south", "--inside", "lines/north"],
        vec!["profile", "set", "a", "--file", "view.ini", "v.width", "800"],
        vec!["profile", "set", "a", "--file", "view.ini", "v.depth", "32"],
        vec!["profile", "unset", "a", "--file", "view.ini", "v.width"],
        vec!["profile", "set", "a", "note", "a word"],
        vec!["repath", "a", "--old", &from, "--new", &to],
        vec!["renew", "a", "--stock", "workbench@2", "--keep-rest"],
        vec!["restore", "a", "1", "--yes"],
        vec!["restore", "a", "1", "--all", "--yes"],
        vec!["undo", "a", "--yes"],
        vec!["undo", "a", &number, "--yes"],
        vec!["rename", "a", "c"],
        vec!["remove", "a", "--yes"],
    ] {
        let (before, profile) = (held(&desk, "a"), desk.json(&["profile", "show", "a"])["profile"].clone());
        let said = desk.ok(&command);
        go_back(&desk, &said);
        assert!(held(&desk, "a") == before, "{command:?}");
        assert_eq!(desk.json(&["profile", "show", "a"])["profile"], profile, "{command:?}");
    }
    // On the other build too: its saves are elsewhere there.
    desk.ok(&["renew", "a", "--stock", "workbench@2", "--keep-rest"]);
    let before = held(&desk, "a");
    for command in [
        vec!["renew", "a", "--stock", "workbench@1", "--keep-rest"],
        vec!["restore", "a", "1", "--yes"],
        vec!["carry", "saves", "--from", "a", "--to", "b"],
    ] {
        let of = if command[0] == "carry" { "b" } else { "a" };
        let there = if of == "a" { before.clone() } else { held(&desk, of) };
        let said = desk.ok(&command);
        go_back(&desk, &said);
        assert!(held(&desk, of) == there, "{command:?}");
    }
}
