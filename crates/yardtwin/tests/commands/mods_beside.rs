//! Mods beside the other commands, beside a sick twin, and through several rounds of play, edits, kills and restores.

use std::fs;
use std::time::Duration;

use crate::support::common::{assert_same, look};
use crate::support::hills::{desk, pack, read, write};
use crate::support::{Desk, text};

const SAVES: &str = "[belongings.saves]\npatterns = [\"game/saves/**\"]\n";

fn zip(desk: &Desk, archive: &str, folder: &str) {
    let made = desk.tool("zip").arg("-qr").arg(desk.at(archive)).arg(".").current_dir(desk.at(folder)).status();
    assert!(made.unwrap().success());
}

#[test]
fn a_carry_names_what_comes_from_mods_and_needs_none_of_their_records() {
    let desk = desk(SAVES, &["t", "u"]);
    pack(&desk, "bonus", &[("saves/bonus/1", "one"), ("saves/bonus/2", "two")]);
    desk.ok(&["mod", "add", "bonus", "--to", "t", "--into", "game", "--strip", "0"]);
    write(&desk, "yard/twins/t/game/saves/mine", "mine");
    let said = desk.ok(&["carry", "saves", "--from", "t", "--to", "u"]);
    assert!(said.contains("2 files from bonus, not carried: yardtwin mod add bonus --to u"), "{said}");
    assert_eq!(["mine", "bonus/1"].map(|path| read(&desk, &format!("u/game/saves/{path}"))), ["mine", "(none)"]);
    desk.ok(&["mod", "add", "bonus", "--to", "u", "--into", "game", "--strip", "0"]);
    assert_eq!(read(&desk, "u/game/saves/bonus/1"), "one");
    // Whoever has lost a mod's record still gets at the saves.
    fs::remove_dir_all(desk.at("yard/mods")).unwrap();
    write(&desk, "yard/twins/t/game/saves/later", "later");
    desk.ok(&["clone", "hills@1.4", "v"]);
    desk.ok(&["carry", "saves", "--from", "t", "--to", "v"]);
    assert_eq!(["mine", "later"].map(|path| read(&desk, &format!("v/game/saves/{path}"))), ["mine", "later"]);
}

#[test]
fn a_build_without_a_mods_folder_is_asked_about() {
    let desk = desk("", &["t"]);
    pack(&desk, "brass", &[("brass", "x")]);
    desk.ok(&["mod", "add", "brass", "--to", "t", "--into", "game/data", "--strip", "0"]);
    fs::rename(desk.at("build/data"), desk.at("build/datum")).unwrap();
    desk.ok(&["intake", "build", "--title", "hills", "--build", "2"]);
    let to = ["renew", "t", "--stock", "hills@2"];
    let said = desk.fails(4, &to);
    assert!(said.contains("hills@2 has no folder game/data, into which \"brass\" was put"), "{said}");
    desk.ok(&[&to[..], &["--any-build"]].concat());
    assert_eq!(read(&desk, "t/game/data/brass"), "x");
    desk.ok(&["undo", "t", "--yes"]);
    desk.ok(&[&to[..], &["--without-mod", "brass"]].concat());
    desk.ok(&["mod", "remove", "t", "brass"]);
    desk.ok(&["mod", "add", "brass", "--to", "t", "--into", "game/datum", "--strip", "0"]);
    assert_eq!(["data/brass", "datum/brass"].map(|path| read(&desk, &format!("t/game/{path}"))), ["(none)", "x"]);
    // What can't be known is not asked: a twin gets away from a build whose record is lost.
    fs::rename(desk.at("build/datum"), desk.at("build/third")).unwrap();
    desk.ok(&["intake", "build", "--title", "hills", "--build", "3"]);
    let listing = desk.json(&["stock", "show", "hills@2"])["listing"].as_str().unwrap().to_owned();
    let record = desk.tool("find").args(["yard/listings", "-type", "f"]).current_dir(desk.root()).output().unwrap();
    let record = text(&record.stdout).lines().find(|path| path.replace('/', "").contains(&listing)).unwrap().to_owned();
    fs::remove_file(desk.at(&record)).unwrap();
    desk.ok(&["renew", "t", "--stock", "hills@3", "--leave-rest"]);
}

#[test]
fn adopting_is_offered_where_there_is_something_to_adopt() {
    let desk = desk(SAVES, &[]);
    let copied = |name: &str, path: &str| {
        let done = desk.tool("cp").args(["-r", "build", name]).current_dir(desk.root()).status();
        assert!(done.unwrap().success());
        write(&desk, &format!("{name}/{path}"), "by hand");
    };
    copied("played", "saves/1");
    copied("modded", "data/extra");
    let said = desk.ok(&["clone", "hills@1.4", "played", "--from-folder", "played"]);
    assert!(!said.contains("mod adopt"), "{said}");
    let said = desk.ok(&["clone", "hills@1.4", "modded", "--from-folder", "modded"]);
    assert!(said.contains("yardtwin mod adopt modded MOD"), "{said}");
    desk.ok(&["mod", "adopt", "modded", "MOD"]);
    desk.ok(&["mod", "off", "modded", "MOD"]);
    assert_eq!(read(&desk, "modded/game/data/extra"), "(none)");
}

#[test]
fn a_check_names_mods_that_are_not_whole_and_seals_that_somebody_put_back() {
    let desk = desk("[archives.rules]\npath = \"game/rules.zip\"\nseals = [\"SEAL/**\"]\n", &[]);
    pack(&desk, "rules", &[("SEAL/x", "seal"), ("rule", "a rule")]);
    zip(&desk, "build/rules.zip", "rules");
    desk.ok(&["intake", "build", "--title", "hills", "--build", "2"]);
    desk.ok(&["clone", "hills@2", "t"]);
    let check = |code: i32| {
        let output = desk.run(&["check", "t"]);
        assert_eq!(output.status.code(), Some(code), "{}", text(&output.stdout));
        text(&output.stdout)
    };
    // An archive that lies in the place of the shipped one as it is has its own seals.
    pack(&desk, "anew", &[("SEAL/x", "its own seal"), ("rule", "another rule")]);
    fs::create_dir(desk.at("whole")).unwrap();
    desk.place.give_away();
    zip(&desk, "whole/rules.zip", "anew");
    desk.place.give_away();
    desk.ok(&["mod", "add", "whole", "--to", "t", "--into", "game", "--strip", "0"]);
    check(0);
    desk.ok(&["mod", "remove", "t", "whole"]);
    // What somebody has put into the archive by hand, and left the seals in, is said; and the printed way mends it.
    write(&desk, "rules/rule", "by hand");
    fs::remove_file(desk.game("t", "rules.zip")).unwrap();
    zip(&desk, "yard/twins/t/game/rules.zip", "rules");
    let said = check(3);
    assert!(said.contains("game/rules.zip was changed") && said.contains("SEAL/x"), "{said}");
    desk.ok(&["restore", "t", "--yes"]);
    check(0);
    pack(&desk, "m", &[("data/m", "m"), ("data/n", "n")]);
    desk.ok(&["mod", "add", "m", "--to", "t"]);
    fs::remove_file(desk.game("t", "data/m")).unwrap();
    let said = check(3);
    assert!(said.contains("its mod \"m\" is on and not all there: game/data/m is missing"), "{said}");
    assert_eq!(said.matches("game/data/m").count(), 1, "said once: {said}");
    desk.ok(&["restore", "t", "--yes"]);
    assert_eq!(read(&desk, "t/game/data/m"), "m");
    check(0);
}

#[test]
fn a_twin_with_mods_lives_on_whatever_comes_between() {
    let desk = desk(SAVES, &["t", "sick"]);
    pack(&desk, "brass/Wrapped", &[("data/a", "brass a"), ("data/own/x", "x")]);
    zip(&desk, "brass.zip", "brass");
    pack(&desk, "night", &[("data/b", "night b")]);
    desk.ok(&["mod", "add", "night", "--to", "sick"]);
    fs::remove_dir_all(desk.at("yard/mods")).unwrap();
    let stock = look(&desk.game("t", "data"));
    for round in 0..3 {
        let said = if round == 0 {
            desk.ok(&["mod", "add", "brass.zip", "--to", "t"])
        } else {
            desk.ok(&["mod", "add", "brass", "--to", "t"])
        };
        assert!(said.contains("brass is added"), "{said}");
        desk.ok(&["snapshot", "t", &format!("with {round}")]);
        desk.ok(&[
            "launch",
            "t",
            "--",
            &format!("mkdir -p saves; echo {round} > saves/{round}; echo {round} > data/own/{round}"),
        ]);
        write(&desk, &format!("yard/twins/t/game/data/hand {round}"), "by hand");
        for (at, deed) in ["off", "on", "off", "on"].into_iter().enumerate() {
            let mut killed = desk.command(&["mod", deed, "t", "brass"]).spawn().unwrap();
            std::thread::sleep(Duration::from_millis(10 + 25 * at as u64 + 9 * round));
            killed.kill().unwrap();
            killed.wait().unwrap();
            desk.ok(&["mod", deed, "t", "brass"]);
            let wanted = if deed == "on" { ["brass a", "x"] } else { ["shipped a\n", "(none)"] };
            assert_eq!(
                ["a", "own/x"].map(|path| read(&desk, &format!("t/game/data/{path}"))),
                wanted,
                "{round} {deed}"
            );
            assert_eq!(read(&desk, &format!("t/game/data/hand {round}")), "by hand");
        }
        // What was written into the mod's own folder went and came with it.
        assert_eq!(read(&desk, &format!("t/game/data/own/{round}")), format!("{round}\n"));
        desk.ok(&["mod", "off", "t", "brass"]);
        desk.ok(&["restore", "t", &format!("with {round}"), "--yes"]);
        assert_eq!(read(&desk, "t/game/data/a"), "brass a");
        // A restore goes back to before that was written; undone, it is where it was.
        desk.ok(&["undo", "t", "--yes"]);
        desk.ok(&["mod", "on", "t", "brass"]);
        assert_eq!(read(&desk, &format!("t/game/data/own/{round}")), format!("{round}\n"));
        desk.ok(&["mod", "remove", "t", "brass"]);
    }
    for round in 0..3 {
        fs::remove_file(desk.game("t", &format!("data/hand {round}"))).ok();
        assert_eq!(read(&desk, &format!("t/game/saves/{round}")), format!("{round}\n"));
    }
    assert_same(&look(&desk.game("t", "data")), &stock, "what was shipped");
    let said = text(&desk.run(&["check"]).stdout);
    assert!(said.contains("its mod \"night\" can't be read") && said.matches("damaged").count() == 1, "{said}");
}
