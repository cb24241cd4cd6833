//! `diff` says what `diff -rq` says, and takes nothing in.

use std::collections::BTreeSet;
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::os::unix::net::UnixListener;
use std::path::{Path, PathBuf};
use std::process::Command;

use crate::support::common::{Dice, Place, look, tree};
use crate::support::{Desk, text};
use serde_json::Value;

/// Every file and symlink below a path that exists on one side only, and every one that differs, as `diff -rq` has it.
fn by_diff(a: &Path, b: &Path) -> BTreeSet<(char, String)> {
    let output =
        Command::new("diff").args(["-rq", "--no-dereference"]).args([a, b]).env("LC_ALL", "C").output().unwrap();
    let mut found = BTreeSet::new();
    let mut whole = |mark: char, root: &Path, path: PathBuf| {
        let mut left = vec![path];
        while let Some(path) = left.pop() {
            if path.is_dir() && !path.is_symlink() {
                left.extend(fs::read_dir(&path).unwrap().map(|entry| entry.unwrap().path()));
            } else {
                found.insert((mark, path.strip_prefix(root).unwrap().to_str().unwrap().to_owned()));
            }
        }
    };
    let mut differ = BTreeSet::new();
    for line in text(&output.stdout).lines() {
        if let Some((folder, name)) = line.strip_prefix("Only in ").and_then(|line| line.split_once(": ")) {
            let path = Path::new(folder).join(name);
            if path.starts_with(a) { whole('-', a, path) } else { whole('+', b, path) }
        } else if let Some(line) = line.strip_prefix("Files ").or(line.strip_prefix("Symbolic links ")) {
            let path = line.split(" and ").next().unwrap();
            differ.insert(('~', Path::new(path).strip_prefix(a).unwrap().to_str().unwrap().to_owned()));
        } else if let Some(line) = line.strip_prefix("File ") {
            // One thing on one side, another on the other: `File A is a regular file while file B is a directory`.
            let path = line.split(" is a ").next().unwrap();
            let below = Path::new(path).strip_prefix(a).unwrap();
            for (mark, root) in [('-', a), ('+', b)] {
                whole(mark, root, root.join(below));
            }
        }
    }
    found.extend(differ);
    // A file in the place of a symlink is one path that differs.
    let both: Vec<_> =
        found.iter().filter(|(mark, path)| *mark == '-' && found.contains(&('+', path.clone()))).cloned().collect();
    for (_, path) in both {
        found.remove(&('-', path.clone()));
        found.remove(&('+', path.clone()));
        found.insert(('~', path));
    }
    found
}

/// The same by the program's answer. What moved is gone at one path and new at another; modes are no matter of `diff`.
fn by_ours(answer: &Value) -> BTreeSet<(char, String)> {
    let mut found = BTreeSet::new();
    for differing in answer["paths"].as_array().unwrap() {
        let below = |path: &Value| path.as_str().unwrap().strip_prefix("game/").unwrap().to_owned();
        let path = below(&differing["path"]);
        let folder = |side: &str| differing[side]["kind"] == "empty_folder";
        match differing["differs"].as_str().unwrap() {
            "new" if folder("after") => {}
            "gone" if folder("before") => {}
            "new" => drop(found.insert(('+', path))),
            "gone" => drop(found.insert(('-', path))),
            "moved" => {
                found.insert(('-', below(&differing["from"])));
                found.insert(('+', path));
            }
            _ if differing["before"]["content"] == differing["after"]["content"]
                && differing["before"]["kind"] == "file" => {}
            // A folder is nothing in the place of a file.
            _ if folder("before") => drop(found.insert(('+', path))),
            _ if folder("after") => drop(found.insert(('-', path))),
            _ => drop(found.insert(('~', path))),
        }
    }
    found
}

fn taken_in(desk: &Desk, folder: &str, build: &str) {
    desk.ok(&["intake", folder, "--title", "pair", "--build", build]);
}

#[test]
fn builds_differ_as_diff_says() {
    let desk = Desk::at_place(Place::in_memory(), "pairs");
    desk.ok(&["init"]);
    fs::write(desk.at("yard/sheets/pair.toml"), "title = \"pair\"\n").unwrap();
    // Two builds of the made-up game, then generated trees with entries of every kind.
    let game = |build: &str| {
        let folder = desk.at(&format!("game {build}"));
        standins::write_wexcombe(&folder, build, &desk.root().join("yardtwin")).unwrap();
        folder
    };
    let mut pairs = vec![(game("1.4"), game("2.0"))];
    for seed in 0..6 {
        let folders = [1, 2].map(|side| desk.at(&format!("tree {seed} {side}")));
        tree(&folders[0], seed);
        tree(&folders[1], seed);
        folders.iter().for_each(|folder| without_line_breaks(folder));
        stir(&folders[1], seed);
        pairs.push(folders.into());
    }
    for folders in [5_000, 5_000].map(|files| many(&desk, files)) {
        pairs.push(folders);
    }
    desk.place.give_away();
    for (number, (one, other)) in pairs.iter().enumerate() {
        let builds = [format!("{number}a"), format!("{number}b")];
        taken_in(&desk, one.to_str().unwrap(), &builds[0]);
        taken_in(&desk, other.to_str().unwrap(), &builds[1]);
        let sides = builds.map(|build| format!("pair@{build}"));
        let output = desk.run(&["diff", &sides[0], &sides[1], "--json"]);
        let answer: Value = serde_json::from_slice(&output.stdout).unwrap();
        // Symlinks that lead inside by an absolute path are relative in a build.
        let (mut said, mut ours) = (by_diff(one, other), by_ours(&answer));
        let relative = |path: &str| fs::read_link(one.join(path)).is_ok_and(|target| target.starts_with(one));
        said.retain(|(mark, path)| *mark != '~' || !relative(path));
        ours.retain(|(mark, path)| *mark != '~' || !relative(path));
        assert_eq!(ours, said, "{}", one.display());
        assert!(!said.is_empty() && output.status.code() == Some(3));
    }
}

/// Takes names away that a line of text can't hold.
fn without_line_breaks(folder: &Path) {
    for path in look(folder).into_keys().filter(|path| path.contains('\n')) {
        let path = folder.join(path);
        // What was in a folder went with it.
        let _ = fs::remove_dir_all(&path).or_else(|_| fs::remove_file(&path));
    }
}

/// Changes some of everything.
fn stir(folder: &Path, seed: u64) {
    let mut dice = Dice::new(seed + 77);
    let paths: Vec<_> = look(folder).into_iter().map(|(path, (kind, ..))| (folder.join(path), kind)).collect();
    for (path, kind) in paths {
        match (dice.roll(6), kind) {
            (0, 'f') => fs::write(&path, dice.bytes(30)).unwrap(),
            (1, 'f' | 'l') => fs::remove_file(&path).unwrap(),
            (2, 'f') => {
                let moved = path.parent().unwrap().join(format!("moved {}", dice.roll(1 << 40)));
                fs::rename(&path, moved).unwrap();
            }
            (3, 'd') => fs::write(path.join("new here"), dice.bytes(9)).unwrap(),
            (4, 'l') => {
                fs::remove_file(&path).unwrap();
                fs::write(&path, "a file now").unwrap();
            }
            _ => {}
        }
    }
}

/// Two trees of so many files, a tenth of them different.
fn many(desk: &Desk, files: usize) -> (PathBuf, PathBuf) {
    static NUMBER: std::sync::atomic::AtomicUsize = std::sync::atomic::AtomicUsize::new(0);
    let number = NUMBER.fetch_add(1, std::sync::atomic::Ordering::Relaxed);
    let sides = [1, 2].map(|side| desk.at(&format!("many {number} {side}")));
    for (side, root) in sides.iter().enumerate() {
        for file in 0..files {
            let folder = root.join(format!("set{:02}/part{}", file / 500, file % 7));
            fs::create_dir_all(&folder).unwrap();
            let (gone, other) = (file % 50 == 3 + number, file % 20 == 7);
            if !(gone && side == 1) {
                let text = if other && side == 1 { "changed" } else { "same" };
                fs::write(folder.join(format!("item{file}.dat")), format!("{text} {file}")).unwrap();
            }
        }
    }
    sides.into()
}

#[test]
fn a_twin_is_compared_with_its_last_state_and_nothing_is_taken_in() {
    let desk = Desk::with_twins(&["main", "other"]);
    let lines = |name: &str| desk.json(&["history", name]).as_array().unwrap().len();
    assert_eq!(desk.run(&["diff", "main"]).status.code(), Some(0));
    fs::write(desk.game("main", "cabin/panel.ini"), "[video]\nwidth = 7\n").unwrap();
    fs::rename(desk.game("main", "guide"), desk.game("main", "manual")).unwrap();
    desk.place.give_away();
    let before = desk.json(&["list"]);
    let (first, second) = (desk.run(&["diff", "main", "--text"]), desk.run(&["diff", "main", "--text"]));
    assert_eq!((first.status.code(), &first.stdout), (Some(3), &second.stdout), "asked again, the answer is the same");
    let mut said = text(&first.stdout);
    said.replace_range(..said.find('\n').unwrap(), "main: what has changed since …");
    let settings = vec![(r"the same \(.*\)", "the same (…)"), (r" +\n", "\n")];
    insta::with_settings!({ filters => settings }, {
        insta::assert_snapshot!(said, @r"
        main: what has changed since …
          1 changed (18 B), 1 moved (42 B), 107 files the same (…)

        WHERE             CHANGED   MOVED
        settings (yours)  1 (18 B)
        game/manual                 1 (42 B)

          ~ game/cabin/panel.ini  18 B, was 85 B
              from line 1
              - ; the panel of your signal box
                [video]
              - width = 1280
              - height = 800
              -
              - [sound]
              - bells = on
              + width = 7
          > game/manual/READ ME first.txt  from game/guide/READ ME first.txt
        ");
    });
    assert_eq!(before, desk.json(&["list"]));
    assert_eq!(lines("main"), 2, "only the history took it in");
    assert_eq!(desk.run(&["diff", "main"]).status.code(), Some(0));
    let sides =
        |a: &str, b: &str| by_ours(&serde_json::from_slice(&desk.run(&["diff", a, b, "--json"]).stdout).unwrap());
    let changed = sides("wexcombe@1.4", "main");
    assert_eq!(changed.len(), 3);
    assert_eq!(
        (sides("main:1", "main"), sides("main:1", "main:2"), sides("other", "main")),
        (changed.clone(), changed.clone(), changed)
    );
}

#[test]
fn the_home_that_a_twin_begins_with_is_no_difference_and_what_becomes_of_it_is() {
    let desk = Desk::bench(Place::for_launches(), &["started", "new"], |_| ());
    desk.does("started", "true", &[]);
    let differ = |other: &str| {
        let output = desk.run(&["diff", other, "started", "--json"]);
        let said: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
        let paths = said["paths"].as_array().unwrap().iter().map(|one| one["path"].as_str().unwrap().to_owned());
        (output.status.code(), paths.collect::<Vec<_>>())
    };
    let none = (Some(0), Vec::new());
    assert_eq!((differ("workbench@1"), differ("new")), (none.clone(), none));
    let home = desk.at("yard/twins/started/home");
    fs::write(home.join(".config/user-dirs.dirs"), "XDG_DOCUMENTS_DIR=\"$HOME/papers\"\n").unwrap();
    fs::write(home.join("Documents/page"), "a page").unwrap();
    let changed = ["home/.config/user-dirs.dirs", "home/Documents/page"].map(String::from).to_vec();
    assert_eq!((differ("workbench@1"), differ("new")), ((Some(3), changed.clone()), (Some(3), changed)));
}

/// What can't be taken in is said as often as anybody looks, and so is what lies beside it; once it is gone, nothing is said.
#[test]
fn what_cannot_be_read_is_said_again_at_every_look() {
    let desk = Desk::with_twins(&["a"]);
    let odd = [("closed.dat", "closed.dat"), ("socket", "socket"), ("boards/shut", "boards/shut")];
    fs::write(desk.game("a", "closed.dat"), "nobody's").unwrap();
    fs::set_permissions(desk.game("a", "closed.dat"), fs::Permissions::from_mode(0o0)).unwrap();
    drop(UnixListener::bind(desk.game("a", "socket")).unwrap());
    fs::create_dir(desk.game("a", "boards/shut")).unwrap();
    fs::set_permissions(desk.game("a", "boards/shut"), fs::Permissions::from_mode(0o0)).unwrap();
    for look in ["first", "second", "third"] {
        for command in [&["diff", "a"][..], &["show", "a"]] {
            let said = desk.run(command);
            let said = format!("{}{}", text(&said.stdout), text(&said.stderr));
            odd.iter().for_each(|(_, name)| assert!(said.contains(name), "{look} look, {command:?}: {name}\n{said}"));
        }
        assert!(desk.fails(4, &["clone", "a", "b"]).contains("closed.dat"), "{look} look");
    }
    fs::write(desk.game("a", "new.dat"), "new").unwrap();
    assert!(desk.run(&["diff", "a"]).stdout.windows(7).any(|seven| seven == b"new.dat"));
    for (path, _) in odd {
        fs::set_permissions(desk.game("a", path), fs::Permissions::from_mode(0o755)).unwrap();
        let path = desk.game("a", path);
        fs::remove_file(&path).or_else(|_| fs::remove_dir(&path)).unwrap();
    }
    desk.ok(&["show", "a"]);
    assert!(desk.ok(&["diff", "a"]).contains("nothing has changed"));
    desk.ok(&["clone", "a", "b"]);
}
