//! Sheets that write themselves, through the real program: a title described from two runs, without a line of TOML.

use std::fs;
use std::os::unix::fs::PermissionsExt;

use crate::support::common::{Place, assert_same, look};
use crate::support::{Desk, text};

/// A program that keeps its things as many do.
const HILLS: &str = r#"#!/bin/sh
own=$HOME/.local/share/hills
mkdir -p "$HOME/.config/hills" "$own/slots" "$HOME/.cache/hills" save
n=$(ls save | wc -l)
echo "width=$n" > "$HOME/.config/hills/view.conf"
echo run >> "$own/run.log"
echo cached > "$HOME/.cache/hills/$n"
echo slot$n > "$own/slots/slot$n.sav"; echo picture > "$own/slots/slot$n.png"
mkdir -p save/world$n; echo $n > save/world$n/level.dat; echo region > save/world$n/region.bin
echo "up=$n" > data/keys.txt
echo $n >> scores.txt
"#;

fn hills(name: &str, label: &str) -> Desk {
    let desk = Desk::at_place(Place::new(), "learn");
    let build = desk.at(name);
    for folder in ["bin", "data", "levels"] {
        fs::create_dir_all(build.join(folder)).unwrap();
    }
    fs::write(build.join("bin/hills"), HILLS).unwrap();
    fs::write(build.join("bin/start-hills-here.sh"), HILLS).unwrap();
    for program in ["bin/hills", "bin/start-hills-here.sh"] {
        fs::set_permissions(build.join(program), fs::Permissions::from_mode(0o755)).unwrap();
    }
    fs::write(build.join("about.txt"), label).unwrap();
    fs::write(build.join("data/keys.txt"), "up=w\n").unwrap();
    for level in 0..20 {
        fs::write(build.join(format!("levels/{level}.cfg")), level.to_string()).unwrap();
    }
    desk.place.give_away();
    desk.ok(&["init"]);
    desk
}

#[test]
fn a_title_is_described_from_two_runs_and_carried_without_writing_toml() {
    let desk = hills("Hill Lines 0.9", "Hill Lines\nversion 0.9 (spring)\n");
    let none = desk.fails(2, &["intake", "Hill Lines 0.9"]);
    assert!(none.contains("--title hill-lines"), "what the folder is called is proposed: {none}");
    desk.ok(&["intake", "Hill Lines 0.9", "--title", "hills", "--build", "0.9"]);
    let draft = fs::read_to_string(desk.at("yard/sheets/hills.toml")).unwrap();
    assert!(draft.contains("linux = \"bin/hills\"") && !draft.contains("levels"), "{draft}");
    assert!(draft.contains("Others that may be one: \"bin/start-hills-here.sh\""), "{draft}");
    desk.ok(&["clone", "hills@0.9", "a"]);
    let launched = desk.run(&["launch", "a"]);
    assert!(text(&launched.stderr).contains("yardtwin sheet learn hills --from a"), "{}", text(&launched.stderr));
    desk.ok(&["launch", "a"]);
    desk.fails(4, &["sheet", "learn", "hills", "--from", "a"]);
    desk.fails(2, &["sheet", "learn", "wexcombe", "--from", "a", "--yes"]);
    assert_eq!(fs::read_to_string(desk.at("yard/sheets/hills.toml")).unwrap(), draft, "unasked, nothing is written");
    let learned = desk.ok(&["sheet", "learn", "hills", "--from", "a", "--yes"]);
    insta::assert_snapshot!(
        "learned",
        learned.replace(desk.root().canonicalize().unwrap().to_str().unwrap(), "[PLACE]")
    );
    desk.ok(&["sheet", "check"]);
    assert!(!desk.ok(&["sheet", "check", "--on", "a"]).contains("in no group"));
    assert!(desk.ok(&["sheet", "learn", "hills", "--from", "a", "--yes"]).contains("Nothing that its sheet"));

    // The next build says itself which it is, and what was played goes there.
    fs::write(desk.at("Hill Lines 0.9/about.txt"), "Hill Lines\nversion 1.0 (autumn)\n").unwrap();
    desk.ok(&["intake", "Hill Lines 0.9", "--title", "hills"]);
    desk.ok(&["clone", "hills@1.0", "b"]);
    desk.ok(&["carry", "worlds", "slots", "saves", "settings", "--from", "a", "--to", "b"]);
    assert_same(&look(&desk.game("a", "save")), &look(&desk.game("b", "save")), "worlds");
    let home = |twin: &str, path: &str| look(&desk.at("yard/twins").join(twin).join("home").join(path));
    assert_same(&home("a", ".local/share/hills/slots"), &home("b", ".local/share/hills/slots"), "slots");
    assert_same(&home("a", ".config/hills"), &home("b", ".config/hills"), "settings");
    assert!(desk.ok(&["launch", "b"]).is_empty() && desk.game("b", "save/world2").is_dir(), "it opens there");
    // What somebody has written by hand stays, and more is learned.
    let sheet = desk.at("yard/sheets/hills.toml");
    let own = "[belongings.recordings]\npatterns = [\"game/kept/**\"]\nunit = \"folder\"\n";
    fs::write(&sheet, fs::read_to_string(&sheet).unwrap() + own).unwrap();
    fs::write(desk.game("a", "replay.rec"), "a recording").unwrap();
    desk.place.give_away();
    assert!(desk.ok(&["sheet", "check", "--on", "a"]).contains("replay.rec"));
    desk.ok(&["sheet", "learn", "hills", "--from", "a", "--yes"]);
    let sheet = fs::read_to_string(desk.at("yard/sheets/hills.toml")).unwrap();
    assert!(sheet.contains(own) && sheet.contains("[belongings.recordings-2]"), "{sheet}");
    assert!(sheet.contains("\"game/replay.rec\""), "{sheet}");
}

#[test]
fn a_label_is_not_found_within_a_number() {
    for (about, after) in [
        ("Version of 2021\nversion 3.1\n", None),
        ("Version of 2021\nrelease v1, 1 of 1\n", Some("after = \"release v\"")),
    ] {
        let desk = hills("hills", about);
        desk.ok(&["intake", "hills", "--title", "hills", "--build", "1"]);
        desk.ok(&["clone", "hills@1", "a"]);
        desk.ok(&["launch", "a"]);
        let learned = desk.ok(&["sheet", "learn", "hills", "--from", "a", "--yes"]);
        match after {
            Some(after) => assert!(learned.contains(after), "{learned}"),
            None => assert!(!learned.contains("[label]"), "{learned}"),
        }
    }
}

#[test]
fn a_label_stands_where_the_sheet_says_the_first_that_is_there_counts() {
    let desk = hills("hills-0.9", "no number here\n");
    for (sheet, label) in [
        ("[[label]]\nfile = \"none.json\"\npointer = \"/build\"\n[[label]]\nname = \"hills-{build}\"\n", Ok("0.9")),
        ("[label]\nfile = \"about.txt\"\nafter = \"no \"\n", Ok("number")),
        ("[label]\nname = \"hills\"\n", Err("{build}")),
        ("[label]\nfile = \"about.txt\"\n", Err("a line, a pointer or after")),
        ("[label]\nfile = \"about.txt\"\nname = \"{build}\"\n", Err("or a name")),
        ("[label]\nname = \"{build}-hills\"\n", Err("is not as")),
    ] {
        let path = desk.at("yard/sheets/hills.toml");
        fs::write(&path, format!("title = \"hills\"\n{sheet}")).unwrap();
        desk.place.give_away();
        let planned = desk.run(&["intake", "hills-0.9", "--title", "hills", "--dry-run"]);
        match label {
            Ok(label) => assert!(text(&planned.stdout).contains(&format!("hills@{label}")), "{planned:?}"),
            Err(why) => assert!(!planned.status.success() && text(&planned.stderr).contains(why), "{planned:?}"),
        }
    }
}

/// A program that keeps to its own folder where an empty file says so, and fetches parts of itself.
const SHEDS: &str = r#"#!/bin/sh
own=$HOME/.local/share/sheds
if [ -e here.txt ]; then own=own; fi
mkdir -p "$own/kept" "$own/parts"
n=$(ls "$own/kept" | wc -l); echo $n > "$own/kept/$n.sav"
if [ $n = 0 ]; then
    for part in $(seq 60); do echo part $part > "$own/parts/$part.part"; done
    echo true > "$own/helper"; chmod +x "$own/helper"
fi
"#;

#[test]
fn what_keeps_a_program_inside_and_what_it_fetches_is_learned_also_from_a_check() {
    let desk = hills("sheds", "1\n");
    fs::write(desk.at("sheds/bin/hills"), SHEDS).unwrap();
    desk.place.give_away();
    desk.ok(&["intake", "sheds", "--title", "sheds", "--build", "1"]);
    for twin in ["away", "inside"] {
        desk.ok(&["clone", "sheds@1", twin]);
    }
    fs::write(desk.game("inside", "here.txt"), "").unwrap();
    desk.place.give_away();
    let said = |twin: &str| {
        desk.run(&["check", twin, "--start"]);
        desk.run(&["launch", twin]);
        text(&desk.run(&["sheet", "learn", "sheds", "--from", twin, "--dry-run"]).stdout)
    };
    let away = said("away");
    assert!(away.contains("home/.local/share/sheds/parts/**"), "{away}");
    assert!(away.contains("home/.local/share/sheds/helper") && !away.contains("here.txt"), "{away}");
    let inside = said("inside");
    assert!(inside.contains("keeps it inside") && inside.contains("game/here.txt"), "{inside}");
    desk.ok(&["sheet", "learn", "sheds", "--from", "inside", "--yes"]);
    desk.ok(&["sheet", "check"]);
    desk.ok(&["clone", "sheds@1", "later"]);
    assert!(desk.game("later", "here.txt").is_file());
    desk.ok(&["sheet", "learn", "sheds", "--from", "away", "--yes"]);
    assert!(!desk.ok(&["sheet", "check", "--on", "away"]).contains("in no group"));
}
