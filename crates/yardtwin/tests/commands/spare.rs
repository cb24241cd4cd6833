//! The empty layer that a launch leaves for the next one: whatever becomes of it in between, a program finds the same as
//! ever, and nothing of it comes into the twin.

use std::collections::BTreeSet;
use std::os::unix::fs::MetadataExt;

use crate::support::common::{Place, assert_same, is_root, look, skip};
use crate::support::{Desk, text};

/// What a program sees of the folders that a layer stands in for, down to who may do what in them.
const SEE: &str = "find . ~ /tmp /var/tmp -printf '%p %y %m %U\\n' | sort";

fn bench() -> Option<Desk> {
    let desk = Desk::bench(Place::for_launches(), &["a"], |_| {});
    desk.ok(&["profile", "set", "a", "isolation", "sealed"]);
    let run = desk.run(&["launch", "a", "--", "true"]);
    if !run.status.success() {
        skip("the spare layer", text(&run.stderr).trim());
        return None;
    }
    Some(desk)
}

fn seen(desk: &Desk) -> String {
    let run = desk.run(&["launch", "a", "--", SEE]);
    assert!(run.status.success(), "{}", text(&run.stderr));
    text(&run.stdout).to_owned()
}

#[test]
fn whatever_becomes_of_an_empty_layer_the_next_run_begins_with_an_empty_one() {
    let Some(desk) = bench() else { return };
    let (twin, spare) = (desk.at("yard/twins/a"), desk.at("yard/twins/a/layer-empty"));
    let (first, before) = (seen(&desk), look(&twin.join("game")));
    let folder = |desk: &Desk| desk.at("yard/twins/a/layer-empty").metadata().unwrap().ino();
    let kept = folder(&desk);
    assert_eq!(seen(&desk), first);
    assert_eq!(folder(&desk), kept, "one that is as it was is used again");
    let copied = desk.tool("cp").args(["-a", "yard", "copy"]).current_dir(desk.root()).status().unwrap();
    assert!(copied.success(), "an ordinary user can copy the yard with it");
    let mut used = BTreeSet::from([kept]);
    for what in [
        "echo x > game/file",
        "echo x > home/.hidden",
        "echo x > tmp/file; mkdir tmp/.runtime/in",
        "mkdir var-tmp/in",
        "echo x > tmp/.runtime/socket",
        "echo x > tmp/.display-key",
        "mkdir -p tmp/.X11-unix",
        "mkdir -p tmp/.X11-unix/in",
        "mkdir -p tmp/.X11-unix; chmod 1777 tmp/.X11-unix",
        "echo x > modes",
        "mkdir empty",
        "echo x > work/file",
        "mkdir work/home/index",
        "chmod 700 game",
        "chmod 777 tmp",
        "rmdir home",
        "rmdir home && ln -s /tmp home",
        "rm -rf work",
        "rmdir game && echo x > game",
        "setfattr -n user.overlay.opaque -v y game || echo x > game/file",
        "setfattr -n user.note -v x tmp || echo x > tmp/file",
        "cd .. && rm -rf layer-empty && echo x > layer-empty",
        "cd .. && rm -rf layer-empty && ln -s game layer-empty",
        "cd .. && rm -rf layer-empty",
    ] {
        let done = desk.tool("sh").args(["-c", what]).current_dir(&spare).status().unwrap();
        assert!(done.success(), "{what}");
        assert_eq!(seen(&desk), first, "{what}");
        assert_same(&before, &look(&twin.join("game")), what);
        assert!(!twin.join("layer").exists(), "{what}");
        assert!(spare.is_dir(), "{what}: what the run leaves is kept again");
        used.insert(folder(&desk));
    }
    assert!(used.len() > 1, "none of those was used");
    // What says of whom it is says nothing of the next run.
    std::fs::write(spare.join("about.json"), r#"[{"run":1,"placeholders":[],"fate":"thrown_away"}]"#).unwrap();
    desk.place.give_away();
    let report = desk.does("a", "mkdir -p own; echo 1 > own/one.sav; kill -9 $PPID", &[]);
    assert_eq!(report["report"]["discarded"], false, "{report}");
    assert_eq!(std::fs::read_to_string(desk.game("a", "own/one.sav")).unwrap(), "1\n");
}

#[test]
fn a_run_that_wrote_anything_leaves_nothing_of_it() {
    let Some(desk) = bench() else { return };
    let first = seen(&desk);
    for what in [
        "mkdir -p own; echo 1 > own/one.sav",
        "echo 1 >> ~/.config/bench/set || { mkdir -p ~/.config/bench; echo 1 > ~/.config/bench/set; }",
        "echo 1 > /tmp/left",
        "mkdir -p /var/tmp/a/b; chmod 500 /var/tmp/a",
        "echo x > stray; rm stray",
        "rm -f /tmp/.display-key; mkdir -p /tmp/.display-key/in",
        "rm -rf /tmp/.runtime; ln -s /etc /tmp/.runtime",
        "chmod 000 /tmp",
        "chmod 700 . ~",
        "mkdir fresh; rmdir fresh; chmod 1777 /tmp",
    ] {
        desk.does("a", what, &["--discard"]);
        assert_eq!(seen(&desk), first, "{what}");
    }
}

#[test]
fn a_layer_is_used_again_once_what_was_written_in_it_is_folded_back() {
    let Some(desk) = bench() else { return };
    let mut folders = BTreeSet::new();
    for number in 0..4 {
        let write = format!(
            "mkdir -p own new; mv data moved; mv moved data; echo {number} > own/one.sav; echo x > new/x; rm -r new; \
             mkdir -p ~/.config/bench; echo {number} > ~/.config/bench/set; echo {number} >> data/target.txt"
        );
        let report = desk.does("a", &write, &[]);
        assert_eq!(report["record"]["exit_code"], 0, "{report}");
        folders.insert(desk.at("yard/twins/a/layer-empty").metadata().unwrap().ino());
        let list = "find . -printf '%p %y %m\n' | sort; cat own/one.sav data/target.txt";
        let run = desk.run(&["launch", "a", "--", list]);
        let there = desk.tool("sh").args(["-c", list]).current_dir(desk.game("a", "")).output().unwrap();
        assert_eq!(text(&run.stdout), text(&there.stdout), "what is in it is what the program sees");
        assert!(text(&there.stdout).contains(&format!("\n{number}\none\n")), "{}", text(&there.stdout));
    }
    assert_eq!(folders.len(), 1, "the same one each time");
}

#[test]
fn a_layer_of_roots_is_in_nobodys_way() {
    if !is_root() {
        return skip("a_layer_of_roots", "only root can leave one");
    }
    let Some(desk) = bench() else { return };
    let first = seen(&desk);
    let spare = desk.at("yard/twins/a/layer-empty");
    std::fs::remove_dir_all(&spare).unwrap();
    for folder in ["game", "home", "tmp", "var-tmp", "work/game", "work/home"] {
        std::fs::create_dir_all(spare.join(folder)).unwrap();
    }
    assert_eq!(seen(&desk), first);
    assert!(spare.exists());
}
