//! Builds, through the real program: what a program keeps of itself in the home, what an archive has lost, and a build that is
//! taken in again.

use std::fs;
use std::os::unix::fs::PermissionsExt;

use crate::support::Desk;
use crate::support::common::Place;

/// A yard of a title with that sheet.
fn desk(sheet: &str) -> Desk {
    let desk = Desk::at_place(Place::new(), "builds");
    desk.ok(&["init"]);
    let text = format!("title = \"hills\"\n[programs.play]\npath = {{ any = \"bin/do\" }}\n{sheet}");
    write(&desk, "yard/sheets/hills.toml", &text);
    write(&desk, "build/bin/do", "#!/bin/sh\neval \"$1\"\n");
    desk
}

fn write(desk: &Desk, path: &str, text: &str) {
    let path = desk.at(path);
    fs::create_dir_all(path.parent().unwrap()).unwrap();
    fs::write(&path, text).unwrap();
    desk.place.give_away();
}

fn read(desk: &Desk, path: &str) -> String {
    fs::read_to_string(desk.at("yard/twins").join(path)).unwrap_or_else(|_| "(none)".into())
}

#[test]
fn what_a_program_keeps_of_itself_in_the_home_is_renewed_as_game_files_are() {
    let desk = desk(
        "[home]\nprogram = [\"home/.hills/versions/**\"]\n[home.builds]\n\"2*\" = [\"home/.hills/libraries/**\"]\n\
         [paths]\nlive = [\"game/state/**\"]\n[paths.builds.\"2*\"]\nlive = [\"game/var/**\"]\n",
    );
    write(&desk, "home/.hills/versions/a.jar", "a of 1");
    write(&desk, "home/.hills/versions/b.jar", "b of 1");
    desk.ok(&["intake", "build", "--as-home", "home/.hills", "--title", "hills", "--build", "1"]);
    fs::rename(desk.at("home/.hills/versions"), desk.at("home/.hills/libraries")).unwrap();
    write(&desk, "home/.hills/libraries/a.jar", "a of 2");
    desk.ok(&["intake", "build", "--as-home", "home/.hills", "--title", "hills", "--build", "2"]);
    desk.ok(&["clone", "hills@1", "t"]);
    write(&desk, "yard/twins/t/home/.hills/versions/b.jar", "spoiled");
    write(&desk, "yard/twins/t/home/.hills/options.txt", "mine");
    write(&desk, "yard/twins/t/game/state/live.db", "live in 1");
    let rest = desk.run(&["renew", "t"]);
    let said = crate::support::text(&rest.stdout) + &crate::support::text(&rest.stderr);
    assert!(rest.status.code() == Some(4) && said.contains("home/.hills/versions/b.jar"), "{said}");
    assert!(!said.contains("options.txt") && !said.contains("live.db"), "{said}");
    desk.ok(&["renew", "t", "--leave-rest"]);
    assert_eq!(read(&desk, "t/home/.hills/versions/b.jar"), "b of 1");
    desk.ok(&["renew", "t", "--stock", "hills@2"]);
    let there =
        ["versions/a.jar", "libraries/a.jar", "options.txt"].map(|path| read(&desk, &format!("t/home/.hills/{path}")));
    assert_eq!(there, ["(none)", "a of 2", "mine"]);
    desk.ok(&["undo", "t", "--yes"]);
    assert_eq!(read(&desk, "t/home/.hills/versions/a.jar"), "a of 1");
    let wrong = desk.at("wrong.toml");
    fs::write(&wrong, "title = \"x\"\n[home]\nprogram = [\"game/x/**\"]\n").unwrap();
    assert!(desk.run(&["sheet", "check", wrong.to_str().unwrap()]).status.code() == Some(3));
}

#[test]
fn programs_whose_modes_an_archive_has_lost_are_programs() {
    let desk = desk("[good]\nexecutable = [\"bin/*\"]\n");
    fs::set_permissions(desk.at("build/bin/do"), fs::Permissions::from_mode(0o644)).unwrap();
    let intake = ["intake", "build", "--title", "hills", "--build", "1"];
    desk.ok(&intake);
    assert!(desk.ok(&intake).contains("was taken in before"));
    desk.ok(&["clone", "hills@1", "t"]);
    desk.ok(&["launch", "t", "--", "echo started > own.txt"]);
    assert_eq!(read(&desk, "t/game/own.txt"), "started\n");
    desk.ok(&["check", "hills@1"]);
}

#[test]
fn a_build_that_was_taken_in_with_somebodys_saves_is_taken_in_again_without() {
    let desk = desk("[belongings.saves]\npatterns = [\"game/saves/**\"]\n");
    write(&desk, "build/saves/one.sav", "somebody's");
    let intake = |more: &[&'static str]| [&["intake", "build", "--title", "hills", "--build", "1"][..], more].concat();
    desk.fails(1, &intake(&["--again"]));
    desk.ok(&intake(&[]));
    desk.ok(&["clone", "hills@1", "old"]);
    desk.fails(4, &intake(&["--leave-out", "saves"]));
    let said = desk.ok(&intake(&["--leave-out", "saves", "--again"]));
    assert!(said.contains("twins on the old one  old") && said.contains("yardtwin renew old"), "{said}");
    assert_eq!(read(&desk, "old/game/saves/one.sav"), "somebody's", "nothing follows by itself");
    desk.ok(&["clone", "hills@1", "new"]);
    assert_eq!(read(&desk, "new/game/saves/one.sav"), "(none)");
    desk.ok(&["renew", "old"]);
    assert_eq!(read(&desk, "old/game/saves/one.sav"), "(none)", "it was the build's, and goes with that");
    desk.ok(&["undo", "old", "--yes"]);
    assert_eq!(read(&desk, "old/game/saves/one.sav"), "somebody's");
    desk.ok(&["check"]);
    desk.ok(&["sweep"]);
}

#[test]
fn a_program_may_be_named_by_a_pattern_that_matches_just_one() {
    let desk = desk("");
    write(
        &desk,
        "yard/sheets/hills.toml",
        "title = \"hills\"\n[programs.play]\npath = { any = \"bin/d*\" }\n[good]\nexecutable = [\"bin/*\"]\n",
    );
    let intake = |build: &'static str| ["intake", "build", "--title", "hills", "--build", build];
    assert!(desk.ok(&intake("1")).contains("bin/do"));
    desk.ok(&["clone", "hills@1", "t"]);
    desk.ok(&["launch", "t", "--", "echo started > own.txt"]);
    write(&desk, "build/bin/dash", "another");
    assert!(desk.fails(1, &intake("2")).contains("2 programs match \"bin/d*\": bin/dash, bin/do"));
    desk.ok(&["profile", "set", "t", "program", "b*/d?"]);
    desk.ok(&["launch", "t", "--", "echo again > own.txt"]);
    assert_eq!(read(&desk, "t/game/own.txt"), "again\n");
    desk.fails(1, &["profile", "set", "t", "program", "bin/x*"]);
}

#[test]
fn what_a_build_spells_or_keeps_elsewhere_is_there_after_a_renew_and_edits_follow() {
    let desk = desk("");
    write(
        &desk,
        "yard/sheets/hills.toml",
        "title = \"hills\"\nignore_case = true\n[belongings.saves]\npatterns = [\"game/saves/**\"]\n\
         [belongings.settings]\npatterns = [\"game/opt.ini\"]\nbuilds = { \"2\" = [\"game/etc/opt.ini\"] }\n",
    );
    write(&desk, "build/SAVES/first.sav", "shipped");
    write(&desk, "build/Data/a", "a");
    write(&desk, "build/opt.ini", "width = 1\n");
    desk.ok(&["intake", "build", "--title", "hills", "--build", "1"]);
    fs::remove_dir_all(desk.at("build/SAVES")).unwrap();
    write(&desk, "build/Saves/First.sav", "shipped in 2");
    fs::remove_dir_all(desk.at("build/Data")).unwrap();
    write(&desk, "build/data/A", "a");
    write(&desk, "build/etc/opt.ini", "width = 2\n");
    fs::remove_file(desk.at("build/opt.ini")).unwrap();
    desk.ok(&["intake", "build", "--title", "hills", "--build", "2"]);
    desk.ok(&["clone", "hills@1", "t"]);
    write(&desk, "yard/twins/t/game/SAVES/first.sav", "mine");
    write(&desk, "yard/twins/t/game/SAVES/second.sav", "mine too");
    desk.ok(&["profile", "set", "t", "--file", "opt.ini", "width", "9"]);
    let before = desk.ok(&["show", "t"]);
    let said = desk.ok(&["renew", "t", "--stock", "hills@2"]);
    assert!(!said.contains("data/A"), "a spelling is nothing that anybody changed: {said}");
    let at = |path: &str| read(&desk, &format!("t/game/{path}"));
    assert_eq!(
        ["Saves/First.sav", "Saves/second.sav", "data/A", "etc/opt.ini"].map(at),
        ["mine", "mine too", "a", "width = 9\n"]
    );
    assert_eq!(
        ["SAVES", "Data", "opt.ini"].map(|path| desk.at(&format!("yard/twins/t/game/{path}")).exists()),
        [false; 3]
    );
    assert!(desk.ok(&["profile", "show", "t"]).contains("game/etc/opt.ini"));
    desk.ok(&["profile", "unset", "t", "--file", "game/etc/opt.ini", "width"]);
    assert_eq!(at("etc/opt.ini"), "width = 2\n");
    desk.ok(&["undo", "t", "--yes"]);
    desk.ok(&["renew", "t", "--stock", "hills@1"]);
    assert_eq!(
        ["SAVES/first.sav", "SAVES/second.sav", "Data/a", "opt.ini"].map(at),
        ["mine", "mine too", "a", "width = 9\n"]
    );
    let kept = |text: &str| text.lines().filter(|line| line.contains("saves")).map(str::to_owned).collect::<Vec<_>>();
    assert_eq!(kept(&desk.ok(&["show", "t"])), kept(&before));
}
