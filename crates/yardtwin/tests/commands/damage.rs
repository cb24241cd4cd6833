//! Promises 2 and 7: each kind of damage is found, and nothing is touched by looking; what can be mended is, and the
//! rest is named.

use std::fs;
use std::os::unix::fs::{FileExt, MetadataExt, PermissionsExt, symlink};
use std::path::{Path, PathBuf};

use crate::support::Desk;
use crate::support::common::{Place, Seen, assert_same, look};
use serde_json::Value;

const SHEET: &str = "\
title = \"workbench\"
[programs.play]
path = { any = \"bin/do\" }
[good]
present = [\"data/big.dat\"]
[inside]
files = [\"here.flag\"]
[paths]
live = [\"game/own/**\"]
[belongings.saves]
patterns = [\"game/own/*.sav\"]
";

/// A yard with a stock build, two twins that link its files, and one with files of its own; a launch entry.
fn desk() -> Desk {
    let desk = Desk::bench(Place::in_memory(), &["one", "two"], |build| {
        fs::write(build.join("data/big.dat"), vec![7u8; 50_000]).unwrap();
        fs::write(build.join("data/text.txt"), "a line\nanother\n").unwrap();
        fs::write(build.join("here.flag"), "").unwrap();
        fs::create_dir(build.join("own")).unwrap();
        fs::write(build.join("own/first.sav"), "a save").unwrap();
    });
    fs::write(desk.at("yard/sheets/workbench.toml"), SHEET).unwrap();
    desk.ok(&["clone", "workbench@1", "three", "--share", "none"]);
    desk.ok(&["entry", "add", "one", "--folder", "menu"]);
    for twin in ["one", "two", "three"] {
        desk.ok(&["show", twin]);
    }
    desk
}

fn content(bytes: &[u8]) -> String {
    blake3::hash(bytes).to_hex().to_string()
}

/// The pool's file of the bytes.
fn pooled(desk: &Desk, bytes: &[u8]) -> PathBuf {
    let id = content(bytes);
    desk.at("yard/pool").join(&id[..2]).join(id)
}

/// Changes a byte in place, whatever the mode says.
fn flip(path: &Path) {
    let before = fs::metadata(path).unwrap();
    fs::set_permissions(path, fs::Permissions::from_mode(0o644)).unwrap();
    let file = fs::File::options().write(true).open(path).unwrap();
    file.write_at(b"\x55", 17).unwrap();
    file.set_modified(before.modified().unwrap()).unwrap();
    fs::set_permissions(path, before.permissions()).unwrap();
}

fn cut(path: &Path) {
    let bytes = fs::read(path).unwrap();
    let mode = fs::metadata(path).unwrap().permissions();
    fs::remove_file(path).unwrap();
    fs::write(path, &bytes[..bytes.len() / 2]).unwrap();
    fs::set_permissions(path, mode).unwrap();
}

fn sql(desk: &Desk, text: &str) {
    rusqlite::Connection::open(desk.at("yard/catalog.db")).unwrap().execute_batch(text).unwrap();
    // What SQLite keeps beside it may be root's now.
    desk.place.give_away();
}

fn asked(desk: &Desk, text: &str) -> String {
    let db = rusqlite::Connection::open(desk.at("yard/catalog.db")).unwrap();
    db.query_row(text, [], |row| row.get(0)).unwrap()
}

fn record(desk: &Desk, kind: &str, id: &str) -> PathBuf {
    desk.at("yard").join(kind).join(&id[..2]).join(id)
}

fn state_of(desk: &Desk, twin: &str) -> PathBuf {
    record(desk, "states", &asked(desk, &format!("SELECT state FROM twins WHERE name = '{twin}'")))
}

fn listing(desk: &Desk) -> PathBuf {
    record(desk, "listings", &asked(desk, "SELECT listing FROM stock_builds"))
}

fn entry(desk: &Desk) -> PathBuf {
    fs::read_dir(desk.at("menu")).unwrap().next().unwrap().unwrap().path()
}

/// Changes a file of a twin's own in place, and makes its index (`docs/formats.md`) believe that it looked so before:
/// what a disk does that gives other bytes back.
fn rot(desk: &Desk, twin: &str, path: &str) {
    let (file, index) = (desk.game(twin, path), desk.at("yard/twins").join(twin).join("index"));
    let before = fs::metadata(&file).unwrap();
    flip(&file);
    let after = fs::metadata(&file).unwrap();
    let stamp = |meta: &fs::Metadata| (meta.ctime() * 1_000_000_000 + meta.ctime_nsec()).to_le_bytes();
    let mut bytes = fs::read(index.clone()).unwrap();
    let end = bytes.len() - 32;
    let number = |at: usize| usize::try_from(u64::from_le_bytes(bytes[at..at + 8].try_into().unwrap())).unwrap();
    let (folders, entries) = (number(80), number(88));
    for row in bytes[104 + folders * 28..].chunks_mut(72).take(entries) {
        if row[..8] == before.ino().to_le_bytes() {
            row[24..32].copy_from_slice(&stamp(&after));
        }
    }
    // Looked at a while later, so that it isn't read because it was written just then.
    let later = i64::from_le_bytes(bytes[16..24].try_into().unwrap()) + 60_000_000_000;
    bytes[16..24].copy_from_slice(&later.to_le_bytes());
    let hash = blake3::hash(&bytes[..end]);
    bytes[end..].copy_from_slice(hash.as_bytes());
    fs::write(index, bytes).unwrap();
}

struct Kind {
    name: &'static str,
    options: &'static [&'static str],
    does: fn(&Desk),
    /// The problems that are found, notes among them.
    finds: &'static [&'static str],
    /// The text of a finding has this in it.
    says: &'static str,
    mended: bool,
}

static BIG: [u8; 50_000] = [7; 50_000];
const TEXT: &[u8] = b"a line\nanother\n";

const KINDS: [Kind; 32] = [
    Kind {
        name: "a bit flipped in the pool",
        options: &["--full"],
        does: |desk| flip(&pooled(desk, &BIG)),
        finds: &["content_damaged"],
        says: "data/big.dat in workbench@1, game/data/big.dat in one",
        mended: true,
    },
    Kind {
        name: "a pool file cut off",
        options: &[],
        does: |desk| cut(&pooled(desk, TEXT)),
        finds: &["content_damaged"],
        says: "it has 7 bytes and should have 15",
        mended: true,
    },
    Kind {
        name: "a content deleted",
        options: &[],
        does: |desk| fs::remove_file(pooled(desk, &BIG)).unwrap(),
        finds: &["content_missing"],
        says: "data/big.dat in workbench@1",
        mended: true,
    },
    Kind {
        name: "an executable's second file flipped",
        options: &["--full"],
        does: |desk| flip(&desk.game("one", "bin/do")),
        finds: &["content_damaged"],
        says: "game/bin/do in one",
        mended: true,
    },
    Kind {
        name: "a content that nothing else has any more",
        options: &["--full"],
        does: |desk| {
            flip(&pooled(desk, &BIG));
            fs::remove_file(desk.at("build/data/big.dat")).unwrap();
            desk.ok(&["remove", "three", "--for-good", "--yes"]);
        },
        finds: &["content_damaged"],
        says: "game/data/big.dat in workbench@1, game/data/big.dat in one, game/data/big.dat in two",
        mended: false,
    },
    Kind {
        name: "a linked file written through its guard",
        options: &[],
        does: |desk| flip(&desk.game("two", "data/big.dat")),
        finds: &["written_through", "written_through"],
        says: "shared files were written through their guard: game/data/big.dat",
        mended: true,
    },
    Kind {
        name: "a linked file written through its guard, in a twin that has other things to mend",
        options: &[],
        does: |desk| {
            flip(&desk.game("two", "data/big.dat"));
            fs::set_permissions(desk.game("two", "data/text.txt"), fs::Permissions::from_mode(0o644)).unwrap();
            fs::remove_file(desk.game("two", "here.flag")).unwrap();
        },
        finds: &[
            "changed_since",
            "from_stock",
            "guard_lifted",
            "guard_lifted",
            "no_markers",
            "unguarded",
            "written_through",
            "written_through",
        ],
        says: "game/here.flag is missing, by which",
        mended: true,
    },
    Kind {
        name: "a guard lifted",
        options: &[],
        does: |desk| fs::set_permissions(pooled(desk, TEXT), fs::Permissions::from_mode(0o644)).unwrap(),
        finds: &["guard_lifted", "guard_lifted", "unguarded"],
        says: "stored files may be written to",
        mended: true,
    },
    Kind {
        name: "a twin's own file altered, with its time set back",
        options: &[],
        does: |desk| flip(&desk.game("three", "data/big.dat")),
        finds: &["changed_since", "from_stock"],
        says: "1 changed by hand (game/data/big.dat)",
        mended: false,
    },
    Kind {
        name: "a disk that gives other bytes back",
        options: &["--full"],
        does: |desk| rot(desk, "three", "data/big.dat"),
        finds: &["altered"],
        says: "nobody seems to have written: game/data/big.dat",
        mended: true,
    },
    Kind {
        name: "a twin's row removed from the catalogue",
        options: &[],
        does: |desk| sql(desk, "PRAGMA foreign_keys = OFF; DELETE FROM twins WHERE name = 'two'"),
        finds: &["unknown_twin"],
        says: "twins/two",
        mended: true,
    },
    Kind {
        name: "a twin's row removed, and its history with it",
        options: &[],
        does: |desk| sql(desk, "PRAGMA foreign_keys = ON; DELETE FROM twins WHERE name = 'three'"),
        finds: &["unknown_twin"],
        says: "twins/three",
        mended: true,
    },
    Kind {
        name: "a stock build's row removed",
        options: &[],
        does: |desk| sql(desk, "DELETE FROM stock_builds"),
        finds: &["no_stock_build", "no_stock_build", "no_stock_build"],
        says: "its stock build workbench@1 is not in the catalogue",
        mended: false,
    },
    Kind {
        name: "an index lost",
        options: &[],
        does: |desk| fs::remove_file(desk.at("yard/twins/one/index")).unwrap(),
        finds: &["index_lost"],
        says: "",
        mended: true,
    },
    Kind {
        name: "an index cut off",
        options: &[],
        does: |desk| cut(&desk.at("yard/twins/three/index")),
        finds: &["index_lost"],
        says: "",
        mended: true,
    },
    Kind {
        name: "a listing cut off",
        options: &[],
        does: |desk| cut(&listing(desk)),
        finds: &["listing_damaged"],
        says: "it is that of workbench@1, one, three, two",
        mended: true,
    },
    Kind {
        name: "a listing deleted",
        options: &[],
        does: |desk| fs::remove_file(listing(desk)).unwrap(),
        finds: &["listing_damaged"],
        says: "No such file",
        mended: true,
    },
    Kind {
        name: "a new twin's state cut off",
        options: &[],
        does: |desk| cut(&state_of(desk, "three")),
        finds: &["state_damaged"],
        says: "its record is damaged",
        mended: true,
    },
    Kind {
        name: "a later state deleted",
        options: &[],
        does: |desk| {
            let own = desk.game("three", "own/first.sav");
            fs::write(&own, "another save").unwrap();
            desk.ok(&["snapshot", "three"]);
            fs::write(&own, "a save").unwrap();
            fs::remove_file(state_of(desk, "three")).unwrap();
        },
        finds: &["state_damaged"],
        says: "its record is damaged",
        mended: true,
    },
    Kind {
        name: "a twin's folder renamed by hand",
        options: &[],
        does: |desk| fs::rename(desk.at("yard/twins/one"), desk.at("yard/twins/uno")).unwrap(),
        finds: &["folder_missing"],
        says: "twins/uno, and should be",
        mended: true,
    },
    Kind {
        name: "the file deleted that says whose folder it is",
        options: &[],
        does: |desk| fs::remove_file(desk.at("yard/twins/two/id")).unwrap(),
        finds: &["no_id"],
        says: "",
        mended: true,
    },
    Kind {
        name: "a twin's folder gone",
        options: &[],
        does: |desk| fs::remove_dir_all(desk.at("yard/twins/three")).unwrap(),
        finds: &["folder_missing"],
        says: "its folder is gone",
        mended: false,
    },
    Kind {
        name: "a folder of the pool gone with all that was in it",
        options: &[],
        does: |desk| fs::remove_dir_all(pooled(desk, &BIG).parent().unwrap()).unwrap(),
        finds: &["content_missing"],
        says: "data/big.dat in workbench@1",
        mended: true,
    },
    Kind {
        name: "a launch entry deleted",
        options: &[],
        does: |desk| fs::remove_file(entry(desk)).unwrap(),
        finds: &["entry_missing"],
        says: "",
        mended: true,
    },
    Kind {
        name: "a launch entry that starts what is not there",
        options: &[],
        does: |desk| {
            let text = fs::read_to_string(entry(desk)).unwrap();
            fs::write(entry(desk), text.replace("Exec=", "Exec=/nowhere")).unwrap();
        },
        finds: &["entry_wrong"],
        says: "starts a program that is not there: /nowhere",
        mended: true,
    },
    Kind {
        name: "a sheet and a profile that are wrong",
        options: &[],
        does: |desk| {
            fs::write(desk.at("yard/twins/one/profile.toml"), "program = [").unwrap();
            fs::write(desk.at("yard/twins/two/profile.toml"), "isolation = \"glass\"").unwrap();
        },
        finds: &["profile_wrong", "profile_wrong"],
        says: "profile.toml, line 1",
        mended: false,
    },
    Kind {
        name: "a marker file deleted",
        options: &[],
        does: |desk| fs::remove_file(desk.game("three", "here.flag")).unwrap(),
        finds: &["changed_since", "from_stock", "no_markers"],
        says: "game/here.flag is missing, by which",
        mended: true,
    },
    Kind {
        name: "a file deleted that a good folder has",
        options: &[],
        does: |desk| fs::remove_file(desk.game("three", "data/big.dat")).unwrap(),
        finds: &["changed_since", "from_stock", "not_good"],
        says: "data/big.dat is missing",
        mended: false,
    },
    Kind {
        name: "a mod dropped in with the folder that it came in",
        options: &[],
        does: |desk| {
            fs::create_dir_all(desk.game("one", "bright-1.2/data")).unwrap();
            fs::write(desk.game("one", "bright-1.2/data/bright.dat"), "bright").unwrap();
        },
        finds: &["changed_since", "from_stock", "wrapper"],
        says: "game/bright-1.2 was dropped in as it is: its data belong in game",
        mended: false,
    },
    Kind {
        name: "a setting and a symlink that lead to another twin",
        options: &[],
        does: |desk| {
            let other = desk.game("two", "own").canonicalize().unwrap();
            fs::write(desk.game("one", "own/where.sav"), format!("first\nat={}\n", other.display())).unwrap();
            symlink(other, desk.game("one", "own/link.sav")).unwrap();
        },
        finds: &["changed_since", "leads_elsewhere", "leads_elsewhere"],
        says: "game/own/where.sav, line 2, names a folder that is not this twin's",
        mended: false,
    },
    Kind {
        name: "a protected twin changed from outside",
        options: &[],
        does: |desk| {
            desk.ok(&["protect", "three"]);
            fs::write(desk.game("three", "data/text.txt"), "mine").unwrap();
        },
        finds: &["changed_since", "changed_though_protected", "from_stock"],
        says: "it is protected, and yet",
        mended: false,
    },
    Kind {
        name: "strangers' folders, and what a command left that died",
        options: &[],
        does: |desk| {
            fs::create_dir(desk.at("yard/twins/holiday pictures")).unwrap();
            fs::create_dir(desk.at("yard/tmp/0123")).unwrap();
        },
        finds: &["recovered", "stray_folder"],
        says: "this folder is no twin's",
        mended: true,
    },
];

/// The yard as it is, but for what only says how things looked, and for what a command writes while it is at work.
fn yard(desk: &Desk) -> Seen {
    let mut seen = look(&desk.at("yard"));
    let passing = |path: &str| {
        path.starts_with("catalog.db")
            || path.starts_with("locks")
            || path.starts_with("tmp")
            || path.ends_with("/index")
            || path == "pool/ledger"
    };
    seen.retain(|path, _| !passing(path));
    seen
}

fn is_twins(path: &str) -> bool {
    path.contains("/game/") || path.contains("/home/")
}

fn twins(desk: &Desk) -> Seen {
    let mut seen = yard(desk);
    seen.retain(|path, _| is_twins(path));
    seen
}

fn check(desk: &Desk, options: &[&str]) -> (i32, Value) {
    let output = desk.run(&[&["check", "--json"], options].concat());
    let answer = serde_json::from_slice(&output.stdout);
    let answer = answer.unwrap_or_else(|_| panic!("{options:?}: {}", crate::support::text(&output.stderr)));
    (output.status.code().unwrap(), answer)
}

fn problems(answer: &Value) -> Vec<String> {
    let findings = answer["findings"].as_array().unwrap().iter();
    // How far this machine can isolate is no damage.
    let mut all: Vec<_> = findings
        .map(|finding| finding["problem"].as_str().unwrap().to_owned())
        .filter(|problem| problem != "less_isolation" && problem != "weak_guard")
        .collect();
    all.sort();
    all
}

fn is_bad(answer: &Value) -> bool {
    answer["findings"].as_array().unwrap().iter().any(|finding| finding["severity"] != "note")
}

#[test]
fn every_kind_of_damage_is_found_and_what_can_be_mended_is() {
    let nothing = desk();
    assert_eq!(problems(&check(&nothing, &["--full"]).1), Vec::<String>::new());
    for Kind { name, options, does, finds, says, mended } in KINDS {
        let desk = desk();
        let whole = twins(&desk);
        does(&desk);
        let before = yard(&desk);
        let (code, answer) = check(&desk, options);
        let finds: Vec<String> = finds.iter().map(|&find| find.to_owned()).collect();
        assert_eq!((code, problems(&answer)), (if is_bad(&answer) { 3 } else { 0 }, finds), "{name}");
        let text = crate::support::text(&desk.run(&[&["check"], options].concat()).stdout);
        assert!(text.contains(says), "{name}: {text}");
        assert_same(&yard(&desk), &before, &format!("{name}: looking changed something"));
        let (code, answer) = check(&desk, &[options, &["--fix"][..]].concat());
        assert!(answer["mended"]["left"].as_array().unwrap().is_empty() || !mended, "{name}: {answer:#}");
        let (_, after) = check(&desk, &["--full"]);
        if mended {
            // What differs from the stock build, or since the last look, was gone too.
            assert!(!is_bad(&after), "{name}: {after:#}");
            assert_same(&twins(&desk), &whole, name);
        } else {
            assert_eq!((code, is_bad(&after)), (3, true), "{name}");
            let kept = before.into_iter().filter(|(path, _)| is_twins(path)).collect();
            assert_same(&twins(&desk), &kept, name);
        }
    }
}

#[test]
fn what_only_the_source_still_has_comes_back_by_an_intake() {
    let desk = desk();
    let lost = pooled(&desk, &BIG);
    ["one", "two", "three"].iter().for_each(|twin| drop(desk.ok(&["remove", twin, "--for-good", "--yes"])));
    cut(&listing(&desk));
    fs::remove_file(&lost).unwrap();
    let (code, answer) = check(&desk, &["workbench@1"]);
    assert_eq!((code, problems(&answer)), (3, vec!["listing_damaged".to_owned()]));
    assert_eq!(answer["findings"][0]["mend"], "take_in");
    desk.ok(&["intake", "build", "--title", "workbench", "--build", "1"]);
    assert_eq!((check(&desk, &["--full"]).0, fs::read(lost).unwrap()), (0, BIG.to_vec()));
}

#[test]
fn a_folder_that_is_named_has_the_right_bytes() {
    let desk = desk();
    let kept = desk.at("kept elsewhere/deep");
    fs::create_dir_all(&kept).unwrap();
    fs::rename(desk.at("build/data/big.dat"), kept.join("any name")).unwrap();
    desk.ok(&["remove", "three", "--for-good", "--yes"]);
    flip(&pooled(&desk, &BIG));
    let whole = fs::read(kept.join("any name")).unwrap();
    assert_eq!(check(&desk, &["--full", "--fix"]).0, 3, "nothing that is known has them");
    assert_eq!(check(&desk, &["--full", "--fix", "--look-in", "kept elsewhere"]).0, 0);
    assert_eq!(check(&desk, &["--full"]).0, 0);
    for twin in ["one", "two"] {
        assert_eq!(fs::read(desk.game(twin, "data/big.dat")).unwrap(), whole);
        let what: Vec<_> =
            desk.json(&["history", twin]).as_array().unwrap().iter().map(|e| e["what"].clone()).collect();
        assert_eq!(what, ["repaired", "written_directly", "made"], "what was there instead can be gone back to");
    }
}
