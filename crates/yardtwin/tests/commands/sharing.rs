//! `share`: a twin's files are private, or shared, as they are meant to be; its bytes, and the other twins, stay.

use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt};

use crate::support::common::{Place, assert_same, look, look_pool};
use crate::support::{Desk, text};

/// 80 files of one kind, a large one and a program.
fn desk() -> Desk {
    Desk::bench(Place::new(), &["a", "b"], |build| {
        for number in 0..80 {
            fs::write(build.join(format!("data/{number}.dat")), format!("data {number}")).unwrap();
        }
        fs::write(build.join("data/large.bin"), vec![7; 3 << 20]).unwrap();
    })
}

fn links(desk: &Desk, path: &str) -> u64 {
    fs::metadata(desk.game("a", path)).unwrap().nlink()
}

#[test]
fn a_twin_becomes_private_and_shares_again_and_its_bytes_stay() {
    let desk = desk();
    if links(&desk, "data/1.dat") == 1 {
        println!("skipped: this filesystem shares blocks, or can't link");
        return;
    }
    let read = |twin: &str| -> Vec<Vec<u8>> {
        let files = (0..80).map(|number| format!("data/{number}.dat")).chain(["data/large.bin".into()]);
        files.map(|path| fs::read(desk.game(twin, &path)).unwrap()).collect()
    };
    let (before, other) = (read("a"), look(&desk.at("yard/twins/b/game")));
    let said = desk.run(&["folder", "a"]);
    assert!(text(&said.stderr).contains("read-only outside a sealed launch"), "{}", text(&said.stderr));
    assert!(text(&said.stdout).trim_end().ends_with("twins/a/game"));
    // What would be done is said, and nothing is done.
    let plan = desk.json(&["share", "a", "none", "--dry-run"]);
    assert_eq!(plan["private"]["files"], 83, "{plan}");
    assert!(links(&desk, "data/1.dat") > 1);
    // Three lives: private, written to by hand, shared again.
    for round in 1..=3 {
        let outcome = desk.json(&["share", "a", "none"]);
        assert!(outcome["private"]["files"].as_u64().unwrap() >= 82 - round, "{outcome}");
        assert_eq!(links(&desk, "data/2.dat"), 1);
        let mode = fs::metadata(desk.game("a", "data/2.dat")).unwrap().permissions().mode();
        assert_eq!(mode & 0o777, 0o644, "any program can write to it");
        assert_eq!(read("a")[round as usize..], before[round as usize..], "round {round}");
        assert_eq!(desk.json(&["share", "a", "none"])["number"], serde_json::Value::Null, "nothing is left to do");
        let by_hand = format!("data/{}.dat", round - 1);
        assert!(
            desk.tool("sh")
                .args(["-c", "echo by hand >> \"$0\""])
                .arg(desk.game("a", &by_hand))
                .status()
                .unwrap()
                .success()
        );
        desk.ok(&["share", "a", "careful"]);
        assert_eq!(links(&desk, &by_hand), 1, "what was written by hand stays the twin's own");
        assert!(links(&desk, "data/60.dat") > 1 && links(&desk, "data/large.bin") > 1, "round {round}");
    }
    // Where it is named, or all is asked for, that is shared too.
    desk.ok(&["share", "a", "all", "game/data/0.dat"]);
    assert!(links(&desk, "data/0.dat") > 1 && links(&desk, "data/1.dat") == 1);
    // A lost index, as in a yard that was copied: what is as it was laid is shared again, what was written isn't.
    fs::remove_file(desk.at("yard/twins/a/index")).unwrap();
    desk.ok(&["share", "a", "none"]);
    fs::remove_file(desk.at("yard/twins/a/index")).unwrap();
    desk.ok(&["share", "a", "careful"]);
    assert!(links(&desk, "data/60.dat") > 1 && links(&desk, "data/1.dat") == 1);
    desk.ok(&["share", "a", "none", "game/data/6*.dat"]);
    assert!(links(&desk, "data/60.dat") == 1 && links(&desk, "data/70.dat") > 1);
    assert_same(&other, &look(&desk.at("yard/twins/b/game")), "the other twin");
    let found = desk.run(&["check", "--full"]);
    assert!(!text(&found.stdout).contains("damaged"), "{}", text(&found.stdout));
    // It is the twin's way now: what comes later is laid so, also in its clones.
    desk.ok(&["share", "a", "none"]);
    desk.ok(&["clone", "a", "c"]);
    assert_eq!(fs::metadata(desk.game("c", "data/70.dat")).unwrap().nlink(), 1);
}

/// A program brings its libraries into the home, 700 of them, five of another kind, and a file of settings.
const BRINGS: &str = "mkdir -p $HOME/lib; head -c 20000 /dev/zero | tr '\\0' x > $HOME/.part; \
                      for n in $(seq 700); do { echo library $n; cat $HOME/.part; } > $HOME/lib/$n.so; done; \
                      for n in $(seq 5); do { echo pen $n; cat $HOME/.part; } > $HOME/lib/$n.drv; done; \
                      rm $HOME/.part; echo a=1 > $HOME/lib/set.ini";

/// Bytes on disk of all that is below folders, each file once.
fn on_disk(folders: &[std::path::PathBuf]) -> u64 {
    let mut waiting: Vec<_> = folders.to_vec();
    let (mut seen, mut bytes) = (std::collections::HashSet::new(), 0);
    while let Some(folder) = waiting.pop() {
        for entry in fs::read_dir(&folder).unwrap() {
            let meta = entry.as_ref().unwrap().metadata().unwrap();
            waiting.extend(meta.is_dir().then(|| entry.unwrap().path()));
            bytes += if seen.insert(meta.ino()) { meta.blocks() * 512 } else { 0 };
        }
    }
    bytes
}

fn home_links(desk: &Desk, twin: &str, path: &str) -> (u64, u32) {
    let meta = fs::metadata(desk.at("yard/twins").join(twin).join("home").join(path)).unwrap();
    (meta.nlink(), meta.mode() & 0o777)
}

#[test]
fn what_runs_bring_is_stored_once_and_what_they_write_in_place_stays_private() {
    let desk = desk();
    let sealed = desk.json(&["launch", "a", "--dry-run"])["isolation"] == "sealed";
    if !sealed || links(&desk, "data/1.dat") == 1 {
        println!("skipped: programs can't be sealed here, or this filesystem shares blocks, or can't link");
        return;
    }
    desk.ok(&["clone", "workbench@1", "w"]);
    let came = desk.does("w", BRINGS, &[]);
    assert_eq!(came["report"]["shared"]["files"], 700, "{came}");
    let home = |twin: &str, path: &str| home_links(&desk, twin, path);
    assert!(home("w", "lib/7.so") == (2, 0o444) && home("w", "lib/set.ini").0 == 1);
    assert_eq!(home("w", "lib/3.drv").0, 1, "few of a kind may be what it writes itself");
    // What another twin brings as well, it does not.
    desk.ok(&["clone", "workbench@1", "again"]);
    let again = desk.does("again", BRINGS, &[]);
    assert_eq!(again["report"]["shared"]["files"], 705, "{again}");
    assert!(home("again", "lib/3.drv").0 == 2 && home("again", "lib/set.ini").0 == 1);
    desk.ok(&["remove", "again", "--for-good", "--yes"]);
    // Three twins and the pool take hardly more than one.
    let twins = ["w", "u", "v"].map(|twin| desk.at("yard/twins").join(twin));
    desk.ok(&["clone", "w", "u"]);
    desk.ok(&["clone", "u", "v"]);
    let all = [&twins[..], &[desk.at("yard/pool")]].concat();
    assert!(on_disk(&all) * 100 <= on_disk(&twins[..1]) * 115, "{} over {}", on_disk(&all), on_disk(&twins[..1]));
    for twin in ["u", "v"] {
        desk.ok(&["remove", twin, "--for-good", "--yes"]);
    }
    // The second run opens all of them for writing, and writes to two; one of them is the large one that was shipped.
    let run = "for n in $(seq 700); do : >> $HOME/lib/$n.so; done; printf L | dd of=$HOME/lib/9.so conv=notrunc; \
               printf changed | dd of=data/large.bin conv=notrunc";
    let second = desk.does("w", run, &[]);
    assert_eq!(second["record"]["summary"], "2 other files changed", "{second}");
    assert_eq!((home("w", "lib/7.so").0, home("w", "lib/9.so")), (2, (1, 0o644)), "opening one is no change of it");
    // So it is in a clone, which takes no room for the rest, and at each rung: what is written in place can be written.
    desk.ok(&["clone", "w", "x"]);
    assert_eq!((home("x", "lib/7.so").0, home("x", "lib/9.so").0), (3, 1));
    let large = |twin: &str| fs::metadata(desk.game(twin, "data/large.bin")).unwrap();
    assert!((large("x").nlink(), large("x").mode() & 0o777) == (1, 0o644));
    for rung in ["fenced", "redirected", "sealed"] {
        desk.ok(&["profile", "set", "x", "isolation", rung]);
        let own = &desk.json(&["launch", "x", "--dry-run"])["made_own"]["files"];
        assert_eq!(*own, if rung == "fenced" { 699 } else { 0 }, "{rung}: what it costs is said beforehand");
        let name =
            format!("echo {rung} >> $HOME/lib/9.so; echo {rung} >> $HOME/lib/7.so; echo {rung} >> data/large.bin");
        let run = desk.does("x", &name, &[]);
        assert_eq!(run["record"]["exit_code"], 0, "{rung}: {run}");
        assert_eq!((home("x", "lib/8.so").0, large("x").nlink()), (1, 1), "{rung}: a link would not be kept from it");
    }
    assert_eq!(home("w", "lib/7.so").0, 2, "and the first twin's are as they were");
    assert!(fs::read_to_string(desk.at("yard/twins/w/home/lib/7.so")).unwrap().starts_with("library 7\n"));
    // On purpose, they can be shared all the same.
    desk.ok(&["share", "x", "all", "home/lib/8.so", "data/large.bin"]);
    assert!(home("x", "lib/8.so").0 == 3 && large("x").nlink() > 1);
    desk.ok(&["share", "w", "none"]);
    assert_eq!(home("w", "lib/8.so"), (1, 0o644));
    let found = text(&desk.run(&["check", "--full"]).stdout);
    assert!(found.contains("2 things to look at") && found.matches("differs").count() == 2, "{found}");
}

#[test]
fn what_is_written_in_place_stays_so_when_it_comes_back_and_what_is_open_is_left() {
    let desk = desk();
    let sealed = desk.json(&["launch", "a", "--dry-run"])["isolation"] == "sealed";
    if !sealed || links(&desk, "data/1.dat") == 1 {
        println!("skipped: programs can't be sealed here, or this filesystem shares blocks, or can't link");
        return;
    }
    desk.ok(&["clone", "workbench@1", "u"]);
    let large = desk.game("u", "data/large.bin");
    assert!(fs::metadata(&large).unwrap().nlink() > 1, "it comes as a link");
    // Written, taken back, written, renewed, and written at the rung that a link would refuse it.
    let back: [&[&str]; 2] = [&["restore", "u", "1", "--all", "--yes"], &["renew", "u", "--leave-rest"]];
    for back in back {
        desk.does("u", "printf changed | dd of=data/large.bin conv=notrunc", &[]);
        assert!(fs::read(&large).unwrap().starts_with(b"changed"));
        desk.ok(back);
        let meta = fs::metadata(&large).unwrap();
        assert_eq!((meta.nlink(), meta.mode() & 0o777), (1, 0o644), "{back:?}");
        assert_eq!(fs::read(&large).unwrap()[0], 7, "{back:?}");
    }
    desk.ok(&["profile", "set", "u", "isolation", "fenced"]);
    if desk.run(&["launch", "u", "--dry-run"]).status.success() {
        let run = desk.does("u", "echo more >> data/large.bin", &[]);
        assert_eq!(run["record"]["exit_code"], 0, "{run}");
        // What this one brings is not shared before a sealed run, and then but for what somebody has open.
        desk.does("u", BRINGS, &[]);
        let open = fs::File::options().append(true).open(desk.at("yard/twins/u/home/lib/5.so")).unwrap();
        desk.ok(&["profile", "set", "u", "isolation", "sealed"]);
        let run = desk.does("u", "mkdir -p own; echo 1 > own/1.sav", &[]);
        assert_eq!(
            (&run["report"]["shared"]["files"], &run["report"]["set_aside"]),
            (&699.into(), &serde_json::json!([]))
        );
        std::io::Write::write_all(&mut &open, b"written late").unwrap();
        drop(open);
        assert!(fs::read_to_string(desk.at("yard/twins/u/home/lib/5.so")).unwrap().ends_with("written late"));
        assert!(home_links(&desk, "u", "lib/5.so").0 == 1 && home_links(&desk, "u", "lib/6.so").0 == 2);
    }
    // A file of one's own that is private is that under each name that it gets.
    desk.does("u", "umask 077; mkdir -p $HOME/profiles/me; echo key > $HOME/profiles/me/key", &[]);
    desk.ok(&["clone", "u", "you", "--inside", "home/profiles/me"]);
    assert_eq!(home_links(&desk, "u", "profiles/you/key"), (1, 0o600));
}

#[test]
fn what_is_private_stays_private() {
    let desk = desk();
    let mode = |path: &std::path::Path| fs::metadata(path).unwrap().mode() & 0o7777;
    let set = |path: &std::path::Path, mode| fs::set_permissions(path, fs::Permissions::from_mode(mode)).unwrap();
    // The yard is its owner's alone; an old one is put right once; an arrangement of one's own is left.
    let (yard, settings) = (desk.at("yard"), desk.at("yard/yard.toml"));
    assert_eq!(mode(&yard), 0o700);
    set(&yard, 0o755);
    assert!(text(&desk.run(&["list"]).stderr).contains("others could look into this yard"));
    assert!(mode(&yard) == 0o700 && desk.run(&["list"]).stderr.is_empty());
    let text_before = fs::read_to_string(&settings).unwrap();
    for (arranged, private) in [(0o2755, "true"), (0o755, "false")] {
        set(&yard, arranged);
        fs::write(&settings, text_before.replace("private = true", &format!("private = {private}"))).unwrap();
        assert!(desk.run(&["list"]).stderr.is_empty() && mode(&yard) == arranged);
    }
    // Keys of a home and of a group stay what they are in the twin, in its clones, carried, restored and edited.
    let run = "umask 077; echo key > $HOME/.key; mkdir -p own; echo secret > own/one.sav; printf 'a = 1\\n' > $HOME/set.ini; \
               umask 022; echo open > own/open.sav";
    desk.does("a", run, &[]);
    let files = |twin: &str| {
        let at = |path: &str| desk.at("yard/twins").join(twin).join(path);
        ["home/.key", "game/own/one.sav", "home/set.ini", "game/own/open.sav"].map(|path| mode(&at(path)))
    };
    let right = [0o600, 0o600, 0o600, 0o644];
    assert_eq!(files("a"), right);
    desk.ok(&["clone", "a", "c", "--share", "all"]);
    desk.ok(&["carry", "saves", "--from", "a", "--to", "b"]);
    desk.ok(&["profile", "set", "c", "--file", "home/set.ini", "a", "2"]);
    assert_eq!(files("c"), right);
    let carried = |path: &str| mode(&desk.game("b", path));
    assert_eq!((carried("own/one.sav"), carried("own/open.sav")), (0o600, 0o644));
    desk.ok(&["snapshot", "c", "kept"]);
    desk.does("c", "rm $HOME/.key own/*.sav; echo x > $HOME/set.ini; chmod 644 $HOME/set.ini", &[]);
    desk.ok(&["restore", "c", "kept", "--all", "--yes"]);
    assert_eq!(files("c"), right, "as it was then");
    desk.ok(&["share", "c", "all", "home/.key", "home/set.ini"]);
    assert!(home_links(&desk, "c", ".key") == (1, 0o600) && home_links(&desk, "c", "set.ini") == (1, 0o600));
    desk.ok(&["remove", "c"]);
    desk.ok(&["clone", "c", "d"]);
    assert_eq!(files("d"), right);
    // Of a folder that is taken in, with a home, and of one that becomes a twin and goes.
    for (copy, to) in [("game", "game"), ("home", "played home")] {
        assert!(desk.tool("cp").args(["-a", &format!("yard/twins/a/{copy}"), to]).status().unwrap().success());
    }
    desk.ok(&["intake", "game", "--as-home", "played home", "--title", "workbench", "--build", "played"]);
    desk.ok(&["clone", "workbench@played", "e", "--share", "all"]);
    assert_eq!(files("e"), right);
    desk.ok(&["renew", "b", "--stock", "workbench@played", "--leave-rest"]);
    assert_eq!(mode(&desk.at("yard/twins/b/home/.key")), 0o600);
    desk.fails(4, &["clone", "workbench@1", "f", "--from-folder", "game", "--move"]);
    let kept = look(&desk.at("game"));
    desk.ok(&["clone", "workbench@1", "f", "--from-folder", "game", "--move", "--yes"]);
    assert_same(&kept, &look(&desk.game("f", "")), "it is the folder");
    assert!(!desk.at("game").exists() && mode(&desk.game("f", "own/one.sav")) == 0o600);
    desk.ok(&["check", "--full"]);
}

#[test]
fn what_can_not_be_shared_otherwise_is_refused_and_nothing_changes() {
    let desk = desk();
    let (before, pool) = (look(&desk.at("yard/twins/a/game")), look_pool(&desk.at("yard")));
    desk.fails(1, &["share", "nobody", "none"]);
    desk.fails(2, &["share", "a", "some"]);
    let said = desk.fails(1, &["share", "a", "none", "game/nothing/*"]);
    assert!(said.contains("there is no file or folder \"game/nothing/*\""), "{said}");
    desk.fails(2, &["share", "a", "none", "../*"]);
    assert_same(&pool, &look_pool(&desk.at("yard")), "the pool");
    desk.ok(&["launch", "a", "--detach", "--", "sleep 30"]);
    desk.fails(5, &["share", "a", "none"]);
    desk.ok(&["launch", "a", "--stop"]);
    assert_same(&before, &look(&desk.at("yard/twins/a/game")), "the twin");
}

#[test]
fn a_move_takes_files_over_where_they_lie() {
    let desk = desk();
    let fill = |salt: &str| {
        let source = desk.at("source");
        fs::create_dir_all(source.join("data/empty")).unwrap();
        for number in 0..50 {
            fs::write(source.join(format!("data/{number}.dat")), format!("{salt} {number}").repeat(2000)).unwrap();
        }
        fs::copy(source.join("data/1.dat"), source.join("data/again.dat")).unwrap();
        fs::hard_link(source.join("data/2.dat"), source.join("data/linked.dat")).unwrap();
        fs::write(source.join("data/zero.dat"), "").unwrap();
        fs::write(source.join("bin"), "#!/bin/sh\n").unwrap();
        fs::set_permissions(source.join("bin"), fs::Permissions::from_mode(0o755)).unwrap();
        desk.place.give_away();
        look(&source)
    };
    let inode = |path: &str| fs::metadata(desk.at("source").join(path)).unwrap().ino();
    let same_in_pool = |inode: u64| {
        let folders = fs::read_dir(desk.at("yard/pool")).unwrap().map(|entry| entry.unwrap().path());
        let files = folders.filter(|path| path.is_dir()).flat_map(|path| fs::read_dir(path).unwrap());
        files.map(|file| file.unwrap().metadata().unwrap()).any(|meta| meta.ino() == inode)
    };
    let shares_blocks = links(&desk, "data/1.dat") == 1;
    // Its own inodes become the pool's: nothing is written, and nothing is taken twice.
    let (before, taken) = (fill("first"), inode("data/7.dat"));
    let moved = desk.json(&["intake", "source", "--title", "workbench", "--build", "2", "--move", "--yes"]);
    assert_eq!(moved["taken_away"]["left"], serde_json::json!([]), "{moved}");
    assert!(!desk.at("source").exists(), "all of it is gone, empty folders too");
    assert!(shares_blocks || same_in_pool(taken));
    desk.ok(&["clone", "workbench@2", "moved"]);
    assert_same(&before, &look(&desk.at("yard/twins/moved/game")), "the clone of what was moved");
    // Once more the same: nothing is stored. Then something else, which a program has open.
    fill("first");
    let again = desk.json(&["intake", "source", "--title", "workbench", "--build", "2", "--move", "--yes"]);
    assert_eq!((&again["new_contents"], desk.at("source").exists()), (&serde_json::json!(0), false), "{again}");
    let (before, taken) = (fill("second"), inode("data/7.dat"));
    let open = fs::File::options().append(true).open(desk.at("source/data/7.dat")).unwrap();
    let moved = desk.json(&["intake", "source", "--title", "workbench", "--build", "3", "--move", "--yes"]);
    std::io::Write::write_all(&mut &open, b"written late").unwrap();
    assert!(!same_in_pool(taken), "what somebody has open is copied");
    let left = moved["taken_away"]["left"].as_array().unwrap();
    assert!(left.len() == 1 && left[0].as_str().unwrap().ends_with("7.dat (another program has it open)"), "{moved}");
    assert!(fs::read_to_string(desk.at("source/data/7.dat")).unwrap().ends_with("written late"), "and stays");
    desk.ok(&["clone", "workbench@3", "third"]);
    assert_same(&before, &look(&desk.at("yard/twins/third/game")), "the clone of what was open");
    assert!(text(&desk.run(&["check", "--full"]).stdout).contains("nothing is wrong"));
}
