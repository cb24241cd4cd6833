//! What happens between the steps: the second run of a twin, a write that nobody saw, a sick twin beside healthy ones.

use std::ffi::OsStr;
use std::fs;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{MetadataExt, PermissionsExt, symlink};
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::time::Duration;

use crate::support::common::{Place, look};
use crate::support::{Desk, text};

/// Two twins, `a` and `b`, that share all they can, with a large file and many of one kind.
fn desk() -> Desk {
    Desk::bench(Place::for_launches(), &["a", "b"], |build| {
        fs::write(build.join("data/large.pak"), vec![7; 1 << 20]).unwrap();
        for number in 0..70 {
            fs::write(build.join(format!("data/part{number}.dat")), format!("part {number}\n")).unwrap();
        }
    })
}

/// Does something in a twin's game folder, as the user.
fn shell(desk: &Desk, twin: &str, script: &str) {
    let output = desk.tool("sh").args(["-c", script]).current_dir(desk.game(twin, "")).output().unwrap();
    assert!(output.status.success(), "{script}: {}", text(&output.stderr));
}

fn mode(path: &Path) -> u32 {
    fs::metadata(path).unwrap().permissions().mode() & 0o7777
}

fn is_linked(desk: &Desk) -> bool {
    fs::metadata(desk.game("a", "data/part1.dat")).unwrap().nlink() > 1
}

/// A write through the guard with everything put back that can be.
const THROUGH: &str = "touch -r data/part1.dat /tmp/keep.$$; chmod u+w data/part1.dat; printf 'PART' | dd of=data/part1.dat \
    conv=notrunc status=none; touch -r /tmp/keep.$$ data/part1.dat; chmod 444 data/part1.dat; rm /tmp/keep.$$";

#[test]
fn what_was_written_through_the_guard_reaches_no_clone_that_is_made_before_anyone_looks() {
    let desk = desk();
    if !is_linked(&desk) {
        return;
    }
    for share in ["all", "none"] {
        shell(&desk, "a", THROUGH);
        let name = format!("new {share}");
        desk.ok(&["clone", "workbench@1", &name, "--share", share]);
        assert_eq!(fs::read(desk.game(&name, "data/part1.dat")).unwrap(), b"part 1\n", "{share}");
        for twin in ["a", "b"] {
            desk.ok(&["show", twin]);
            assert_eq!(fs::read(desk.game(twin, "data/part1.dat")).unwrap(), b"part 1\n", "{twin}, {share}");
        }
    }
    let history = desk.json(&["history", "a"]);
    let line = history.as_array().unwrap().iter().find(|line| line["what"] == "written_directly").unwrap();
    desk.ok(&["restore", "a", &line["number"].to_string(), "--only", "game/data/part1.dat", "--yes"]);
    assert_eq!(fs::read(desk.game("a", "data/part1.dat")).unwrap(), b"PART 1\n", "what was written can be had back");
    assert_eq!(fs::read(desk.game("b", "data/part1.dat")).unwrap(), b"part 1\n");
}

#[test]
fn an_intake_puts_right_what_the_pool_has_wrong_cut_short_or_lost() {
    let desk = desk();
    let content = blake3::hash(b"part 1\n").to_string();
    let pooled = desk.at("yard/pool").join(&content[..2]).join(&content);
    let harms: [fn(&Path); 3] = [
        |path| fs::write(path, "PART 1\n").unwrap(),
        |path| fs::write(path, "pa").unwrap(),
        |path| fs::remove_file(path).unwrap(),
    ];
    for (number, harm) in harms.into_iter().enumerate() {
        fs::set_permissions(&pooled, fs::Permissions::from_mode(0o644)).unwrap();
        harm(&pooled);
        // The only right bytes there are.
        fs::create_dir_all(desk.at("again/bin")).unwrap();
        fs::copy(desk.at("build/bin/do"), desk.at("again/bin/do")).unwrap();
        fs::write(desk.at("again/part"), "part 1\n").unwrap();
        desk.place.give_away();
        let build = format!("again {number}");
        desk.ok(&["intake", "again", "--title", "workbench", "--build", &build, "--move", "--yes"]);
        assert_eq!(fs::read(&pooled).unwrap(), b"part 1\n", "{number}");
        for twin in ["a", "b"] {
            desk.ok(&["show", twin]);
            assert_eq!(fs::read(desk.game(twin, "data/part1.dat")).unwrap(), b"part 1\n", "{twin}, {number}");
        }
    }
}

#[test]
fn modes_attributes_and_access_lists_on_a_shared_file_go_and_a_twin_that_wants_a_bit_has_its_own_file() {
    let desk = desk();
    if !is_linked(&desk) {
        return;
    }
    shell(
        &desk,
        "a",
        "chmod 000 data/part1.dat; chmod u+w data/part2.dat && setfattr -n user.note -v x data/part2.dat",
    );
    shell(&desk, "a", "setfacl -m u:root:rw data/part3.dat 2>/dev/null || true; chmod +x data/part4.dat");
    desk.ok(&["show", "a"]);
    for twin in ["a", "b"] {
        for part in 1..4 {
            let path = desk.game(twin, &format!("data/part{part}.dat"));
            assert_eq!(mode(&path), 0o444, "{}", path.display());
            let mut names = [0_u8; 256];
            let length = rustix::fs::listxattr(&path, &mut names[..]).unwrap_or_default();
            let given = String::from_utf8_lossy(&names[..length]).into_owned();
            assert!(!given.contains("user.") && !given.contains("posix_acl"), "{}: {given}", path.display());
        }
    }
    assert_eq!(mode(&desk.game("b", "data/part4.dat")), 0o444);
    assert_ne!(mode(&desk.game("a", "data/part4.dat")) & 0o100, 0, "the bit that was asked for");
}

#[test]
fn what_a_program_writes_into_memory_that_it_has_mapped_is_never_missed() {
    let desk = desk();
    let script = "import mmap, sys, time\n\
        open('mapped', 'wb').write(b'first ' * 100)\n\
        f = open('mapped', 'r+b'); m = mmap.mmap(f.fileno(), 0)\n\
        for line in sys.stdin:\n    m[0:6] = line.encode()[:6]\n    print('done', flush=True)\n";
    let mut child = desk.tool("python3");
    let mut child = child
        .args(["-c", script])
        .current_dir(desk.game("a", ""))
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let mut to = child.stdin.take().unwrap();
    let mut from = std::io::BufReader::new(child.stdout.take().unwrap());
    for number in 1..6 {
        let text = format!("seen {number}\n");
        std::io::Write::write_all(&mut to, text.as_bytes()).unwrap();
        std::io::BufRead::read_line(&mut from, &mut String::new()).unwrap();
        let name = format!("c{number}");
        desk.ok(&["clone", "a", &name]);
        let copied = fs::read(desk.game(&name, "mapped")).unwrap();
        assert_eq!(&copied[..6], &text.as_bytes()[..6], "a clone has what was written last");
    }
    drop(to);
    child.wait().unwrap();
}

#[test]
fn a_twin_is_played_a_second_and_a_third_time_whatever_modes_and_paths_its_program_left() {
    let desk = desk();
    let dig = "i=0; while [ $i -lt 60 ]; do d=$(printf 'deep%0100d' $i); mkdir $d && cd $d; i=$((i+1)); done; echo bottom > b";
    let scripts = [
        "printf run | dd of=data/large.pak conv=notrunc status=none; chmod 444 data/large.pak",
        "mkdir -p shut && echo in > shut/in && chmod 0333 shut; mkdir -p none && echo in > none/in && chmod 000 none",
        "touch -d 2001-02-03 data; chmod 711 data",
        dig,
        "mkdir -p own && echo one >> own/one.sav; chmod 000 .",
    ];
    for run in 0..3 {
        for script in scripts {
            let said = desk.does("a", script, &[]);
            assert_eq!(said["report"]["discarded"], false, "{run}: {script}");
            desk.ok(&["show", "a"]);
            desk.ok(&["show", "b"]);
        }
        assert_eq!(fs::read(desk.game("a", "own/one.sav")).unwrap(), b"one\n".repeat(run + 1));
        assert_eq!(mode(&desk.game("a", "shut")), 0o333);
        assert_eq!(mode(&desk.game("a", "data")), 0o711);
        assert_eq!(&fs::read(desk.game("a", "data/large.pak")).unwrap()[..3], b"run");
        // No mark of the layer is left on what it was made of.
        for path in look(&desk.game("a", "data")).keys().map(|path| desk.game("a", "data").join(path)) {
            let mut names = [0_u8; 256];
            let length = rustix::fs::llistxattr(&path, &mut names[..]).unwrap_or_default();
            assert!(!String::from_utf8_lossy(&names[..length]).contains("overlay"), "{}", path.display());
        }
    }
    shell(&desk, "a", "chmod 755 . && chmod u+rwx none");
    assert_eq!(fs::read(desk.game("a", "none/in")).unwrap(), b"in\n");
}

#[test]
fn what_was_to_be_thrown_away_is_when_the_launcher_is_killed_and_what_was_asked_about_is_kept() {
    let desk = desk();
    for rung in ["sealed", "fenced", "redirected"] {
        desk.ok(&["profile", "set", "a", "isolation", rung]);
        let before = look(&desk.game("a", ""));
        let script = "echo x > written; rm data/target.txt; echo other > data/target.txt; echo up; sleep 20";
        let mut child =
            desk.command(&["launch", "a", "--discard", "--", script]).stdout(Stdio::piped()).spawn().unwrap();
        let mut said = std::io::BufReader::new(child.stdout.take().unwrap());
        std::io::BufRead::read_line(&mut said, &mut String::new()).unwrap();
        child.kill().unwrap();
        child.wait().unwrap();
        let free = (0..200).any(|_| {
            std::thread::sleep(Duration::from_millis(20));
            desk.run(&["snapshot", "a", "--dry-run"]).status.success()
        });
        assert!(free, "{rung}");
        assert_eq!(look(&desk.game("a", "")), before, "{rung}");
        let runs = desk.json(&["history", "a", "--runs"]);
        assert!(runs[0]["summary"].as_str().unwrap().contains("thrown away"), "{rung}");
    }
}

#[test]
fn one_sick_twin_keeps_nobody_from_the_others() {
    let desk = desk();
    desk.ok(&["clone", "workbench@1", "c"]);
    let elsewhere = desk.at("elsewhere");
    fs::rename(desk.game("a", ""), &elsewhere).unwrap();
    symlink(&elsewhere, desk.at("yard/twins/a/game")).unwrap();
    let id = fs::read(desk.at("yard/twins/b/id")).unwrap();
    fs::write(desk.at("yard/twins/c/id"), id).unwrap();
    desk.place.give_away();
    assert!(desk.ok(&["list"]).contains("needs a look"));
    assert!(desk.fails(1, &["show", "a"]).contains("a symlink"));
    assert!(desk.fails(1, &["show", "c"]).contains("another twin's"));
    desk.ok(&["show", "b"]);
    desk.ok(&["clone", "b", "d"]);
    desk.ok(&["list", "--space"]);
    desk.ok(&["sweep"]);
    let said = text(&desk.run(&["check"]).stdout);
    assert!(said.contains("its game is a symlink") && said.contains("it is another twin's"), "{said}");
    assert!(elsewhere.join("data").exists(), "what a symlink leads to is touched by nobody");
}

#[test]
fn an_empty_catalogue_is_a_damaged_one_and_a_sweep_lets_nothing_go_that_it_does_not_know() {
    let desk = desk();
    let catalogue = desk.at("yard/catalog.db");
    let whole = fs::read(&catalogue).unwrap();
    for more in ["-wal", "-shm"] {
        let _ = fs::remove_file(desk.at(&format!("yard/catalog.db{more}")));
    }
    fs::write(&catalogue, "").unwrap();
    assert!(desk.fails(1, &["list"]).contains("is empty"));
    fs::write(&catalogue, &whole).unwrap();
    fs::create_dir_all(desk.at("yard/twins/stranger/game")).unwrap();
    fs::write(desk.at("yard/twins/stranger/id"), "0123456789abcdef\n").unwrap();
    desk.place.give_away();
    assert!(desk.fails(4, &["sweep"]).contains("stranger"));
}

#[test]
fn what_comes_while_a_deletion_is_asked_about_is_seen_and_what_no_state_holds_is_named() {
    let desk = desk();
    let odd = desk.game("a", "").join(OsStr::from_bytes(b"not \xff text"));
    fs::write(&odd, "x").unwrap();
    desk.place.give_away();
    let said = desk.ok(&["remove", "a", "--for-good", "--dry-run"]);
    assert!(said.contains("not in its last state") && !said.contains("nothing: all of it"), "{said}");
    desk.ok(&["remove", "a"]);
    let said = desk.ok(&["remove", "a", "--for-good", "--dry-run"]);
    assert!(said.contains("UTF-8"), "also once it is removed: {said}");
    let settings = fs::read_to_string(desk.at("yard/yard.toml")).unwrap();
    let keep = "[keep]\nstates = 1\ndays = 0\nremoved_days = 0\ngrace_days = 0\n";
    fs::write(desk.at("yard/yard.toml"), settings.split_once("[keep]").unwrap().0.to_owned() + keep).unwrap();
    assert!(desk.ok(&["sweep"]).contains("held back"));
    let removed = fs::read_dir(desk.at("yard/removed")).unwrap().count();
    assert_eq!(removed, 1, "nobody deletes unasked what no state holds");
    desk.ok(&["remove", "a", "--for-good", "--yes"]);
}

#[test]
fn what_a_protected_twins_run_wrote_is_in_its_history_before_it_goes_back() {
    let desk = desk();
    let nothing_own = "title = \"workbench\"\n[programs.play]\npath = { any = \"bin/do\" }\n";
    fs::write(desk.at("yard/sheets/workbench.toml"), nothing_own).unwrap();
    desk.place.give_away();
    let said = desk.run(&["protect", "a"]);
    assert!(text(&said.stderr).contains("names no belongings"), "{}", text(&said.stderr));
    for rung in ["sealed", "redirected"] {
        desk.ok(&["profile", "set", "a", "isolation", rung]);
        let before = look(&desk.game("a", ""));
        let said = desk.run(&["launch", "a", "--", "echo a save > save.sav"]);
        assert!(text(&said.stderr).contains("goes back after the run"), "{}", text(&said.stderr));
        assert_eq!(look(&desk.game("a", "")), before, "{rung}");
        let pool = look(&desk.at("yard/pool"));
        assert!(pool.values().any(|what| what.1 == b"a save\n"), "{rung}: what was written is kept");
        let history = desk.json(&["history", "a"]);
        let kinds: Vec<_> = history.as_array().unwrap().iter().take(2).map(|line| line["what"].clone()).collect();
        assert_eq!(kinds, ["put_back", "run"], "{rung}");
    }
}

#[test]
fn a_check_takes_nothing_out_of_a_history() {
    let desk = desk();
    shell(&desk, "a", "mkdir -p own && echo one > own/one.sav");
    desk.ok(&["snapshot", "a", "before the journey"]);
    shell(&desk, "a", "echo two > own/one.sav");
    desk.ok(&["snapshot", "a", "after it"]);
    let history = desk.json(&["history", "a"]);
    let catalogue = rusqlite::Connection::open(desk.at("yard/catalog.db")).unwrap();
    let named = "SELECT state FROM changes WHERE label = 'before the journey'";
    let state: String = catalogue.query_row(named, [], |row| row.get(0)).unwrap();
    drop(catalogue);
    desk.place.give_away();
    let path: PathBuf = desk.at("yard/states").join(&state[..2]).join(&state);
    let whole = fs::read(&path).unwrap();
    fs::write(&path, "spoiled").unwrap();
    assert_eq!(desk.run(&["check", "--fix"]).status.code(), Some(3), "something is left");
    let still = desk.json(&["history", "a"]);
    assert_eq!(still.as_array().unwrap().len(), history.as_array().unwrap().len());
    fs::write(&path, whole).unwrap();
    desk.place.give_away();
    desk.ok(&["restore", "a", "before the journey", "--all", "--yes"]);
    assert_eq!(fs::read(desk.game("a", "own/one.sav")).unwrap(), b"one\n");
}
