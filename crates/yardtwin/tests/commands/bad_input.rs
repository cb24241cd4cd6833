//! Wrong input: one clear error with what to do, the documented exit code, and nothing changed.

use std::fmt::Write;
use std::fs;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::process::Command;

use crate::support::common::{assert_same, leftovers, look};
use crate::support::{Desk, small_disk, text};

/// Runs each command, and lists exit codes and complaints with the place taken out of them.
fn complaints(desk: &Desk, commands: &[&[&str]]) -> String {
    let mut out = String::new();
    for arguments in commands {
        let output = desk.run(arguments);
        let place = desk.root().canonicalize().unwrap();
        let said = text(&output.stderr).replace(place.to_str().unwrap(), "[PLACE]");
        let code = output.status.code().map_or_else(|| "no exit code".into(), |code| code.to_string());
        writeln!(out, "$ yardtwin {}\n{said}[exit code {code}]\n", arguments.join(" ")).unwrap();
    }
    out
}

/// What matters in a yard: everything but SQLite's files, whose bytes may move without a change in what they say.
fn yard(desk: &Desk) -> crate::support::common::Seen {
    let mut seen = look(&desk.at("yard"));
    seen.retain(|path, _| !path.starts_with("catalog.db") && !path.starts_with("locks/"));
    seen
}

#[test]
fn a_source_that_is_no_good_is_not_taken_in() {
    let desk = Desk::new();
    desk.ok(&["init"]);
    desk.ok(&["sheet", "add", "wexcombe.toml"]);
    fs::create_dir(desk.at("empty")).unwrap();
    fs::create_dir_all(desk.at("other/bin")).unwrap();
    fs::write(desk.at("other/readme.txt"), "some other program").unwrap();
    for odd in ["fifo", "socket", "bytes", "closed", "lean"] {
        assert!(Command::new("cp").arg("-r").arg(desk.at("installed")).arg(desk.at(odd)).status().unwrap().success());
    }
    assert!(Command::new("mkfifo").arg(desk.at("fifo/boards/pipe")).status().unwrap().success());
    let _socket = std::os::unix::net::UnixListener::bind(desk.at("socket/boards/socket")).unwrap();
    fs::write(desk.at("bytes").join(std::ffi::OsStr::from_bytes(b"not \xff text")), "x").unwrap();
    fs::set_permissions(desk.at("closed/release.json"), fs::Permissions::from_mode(0o0)).unwrap();
    fs::set_permissions(desk.at("closed/boards/plain/board.txt"), fs::Permissions::from_mode(0o0)).unwrap();
    symlink(desk.at("yard/pool"), desk.at("lean/pool")).unwrap();
    symlink(desk.root(), desk.at("around")).unwrap();
    let before = yard(&desk);
    let said = complaints(
        &desk,
        &[
            &["intake", "nowhere", "--title", "wexcombe"],
            &["intake", "wexcombe.toml", "--title", "wexcombe"],
            &["intake", "empty", "--title", "wexcombe"],
            &["intake", "other", "--title", "wexcombe"],
            &["intake", "other", "--title", "unheard-of"],
            &["intake", "fifo", "--title", "wexcombe"],
            &["intake", "socket", "--title", "wexcombe"],
            &["intake", "bytes", "--title", "wexcombe"],
            &["intake", "closed", "--title", "wexcombe"],
            &["intake", "closed", "--title", "wexcombe", "--build", "1"],
            &["intake", "lean", "--title", "wexcombe"],
            &["intake", "yard/sheets", "--title", "wexcombe"],
            &["intake", ".", "--title", "wexcombe"],
            &["intake", "around", "--title", "wexcombe"],
            &["intake", "installed", "--title", "wexcombe", "--leave-out", "shafts"],
            &["intake", "installed", "other", "--title", "wexcombe", "--build", "1"],
            &["intake", "installed", "--title", "../wexcombe"],
            &["intake", "installed", "--title", "wexcombe", "--move"],
        ],
    );
    insta::assert_snapshot!(said);
    assert_same(&before, &yard(&desk), "nothing is changed");
    assert!(leftovers(&desk.at("yard")).is_empty());
    assert_eq!(desk.json(&["stock", "list"]).as_array().unwrap().len(), 0);
    assert!(desk.at("installed/release.json").exists());
}

#[test]
fn a_name_that_no_folder_can_have_everywhere_is_refused() {
    let desk = Desk::with_twins(&["Evening", "caf\u{e9}"]);
    let long = "x".repeat(101);
    let mut said = String::new();
    let names = [
        "",
        ".",
        "..",
        "a/b",
        "..\\x",
        "/abs",
        "-dash",
        " lead",
        "trail ",
        "dot.",
        ".hidden",
        "CON",
        "com1.txt",
        "a:b",
        "who?",
        "t@1",
        "new\nline",
        &long,
        "evening",
        "cafe\u{301}",
    ];
    for name in names {
        let output = desk.run(&["clone", "wexcombe@1.4", "--", name]);
        let first = text(&output.stderr).lines().next().unwrap_or_default().replace(&long, "[101 BYTES]");
        writeln!(said, "{:?} {first}", output.status.code().unwrap()).unwrap();
    }
    insta::assert_snapshot!(said);
    assert_eq!(desk.json(&["list"]).as_array().unwrap().len(), 2);
}

#[test]
fn what_can_t_be_compared_or_checked_is_said() {
    let desk = Desk::with_twins(&["a"]);
    let before = yard(&desk);
    let said = complaints(
        &desk,
        &[
            &["diff", "b"],
            &["diff", "a", "wexcombe@9"],
            &["diff", "wexcombe@1.4"],
            &["diff", "a:1"],
            &["diff", "a", "a:7"],
            &["diff", "a:", "a"],
            &["check", "b"],
            &["check", "wexcombe@9", "--full"],
            &["check", "--start"],
            &["check", "wexcombe@1.4", "--start"],
            &["check", "a", "--full", "--start"],
            &["check", "--fix", "--look-in", "nowhere"],
            &["list", "--space", "--removed"],
        ],
    );
    insta::assert_snapshot!(said);
    assert_same(&yard(&desk), &before, "bad input changed something");
}

#[test]
fn what_is_not_there_is_said_with_what_is() {
    let desk = Desk::with_twins(&["a"]);
    let commands: [&[&str]; 11] = [
        &["clone", "wexcombe@9", "b"],
        &["clone", "nobody", "b"],
        &["show", "nobody"],
        &["launch", "--id", "0123456789abcdef"],
        &["launch", "--id", "junk"],
        &["folder", "a", "shafts"],
        &["entry", "remove", "a"],
        &["stock", "remove", "wexcombe@1.4"],
        &["profile", "set", "a", "colour", "red"],
        &["profile", "unset", "a", "note"],
        &["remove", "a", "--for-good"],
    ];
    insta::assert_snapshot!(complaints(&desk, &commands));
    assert!(desk.game("a", "release.json").exists());
}

#[test]
fn a_yard_that_was_tampered_with_is_said_to_be_so() {
    let desk = Desk::with_twins(&["a", "b"]);
    let mut said = String::new();
    let mut says = |what: &str, desk: &Desk, commands: &[&[&str]]| {
        write!(said, "== {what}\n{}", complaints(desk, commands)).unwrap();
    };
    fs::rename(desk.at("yard/twins/a"), desk.at("yard/twins/z")).unwrap();
    says("a twin's folder is renamed by hand", &desk, &[&["show", "a"], &["launch", "a"], &["remove", "a"]]);
    fs::rename(desk.at("yard/twins/z"), desk.at("yard/twins/a")).unwrap();

    fs::remove_dir_all(desk.at("yard/twins/b")).unwrap();
    says("a twin's folder is deleted by hand", &desk, &[&["launch", "b"]]);
    desk.ok(&["remove", "b"]);
    desk.ok(&["clone", "b", "b"]);

    let hills = fs::read(desk.at("installed/scenery/hills.wjp")).unwrap();
    let pool = look(&desk.at("yard/pool"));
    let (path, _) = pool.iter().find(|(_, what)| what.1 == hills).unwrap();
    fs::remove_file(desk.at("yard/pool").join(path)).unwrap();
    // While a twin or the folder that it came from has it, it is taken from there.
    fs::rename(desk.at("installed"), desk.at("elsewhere")).unwrap();
    ["a", "b"].iter().for_each(|twin| fs::remove_file(desk.game(twin, "scenery/hills.wjp")).unwrap());
    let id = &path[3..];
    let clone = complaints(&desk, &[&["clone", "wexcombe@1.4", "c"]]).replace(id, "[CONTENT]");
    write!(said, "== a pool file is deleted by hand\n{}", clone.replace(&path[..3], "[AB]/")).unwrap();
    fs::rename(desk.at("elsewhere"), desk.at("installed")).unwrap();
    let put_right = desk.ok(&["intake", "installed", "--title", "wexcombe"]);
    assert!(put_right.contains("1 file that the yard had lost"), "{put_right}");
    desk.ok(&["clone", "wexcombe@1.4", "c"]);

    let mut says = |what: &str, desk: &Desk, commands: &[&[&str]]| {
        write!(said, "== {what}\n{}", complaints(desk, commands)).unwrap();
    };
    let settings = fs::read(desk.at("yard/yard.toml")).unwrap();
    fs::write(desk.at("yard/yard.toml"), "format = 2\nhover = true\n").unwrap();
    says("a yard of a newer format", &desk, &[&["list"]]);
    fs::write(desk.at("yard/yard.toml"), "format = 1\nshare = \"some\"\n").unwrap();
    says("wrong settings", &desk, &[&["list"]]);
    fs::write(desk.at("yard/yard.toml"), settings).unwrap();

    let folder = fs::read_dir(desk.at("yard/listings")).unwrap().next().unwrap().unwrap().path();
    let listing = fs::read_dir(folder).unwrap().next().unwrap().unwrap().path();
    let bytes = fs::read(&listing).unwrap();
    fs::write(&listing, &bytes[..bytes.len() / 2]).unwrap();
    assert!(desk.fails(1, &["stock", "show", "wexcombe@1.4"]).contains("is damaged"));
    fs::write(&listing, bytes).unwrap();

    for ending in ["-wal", "-shm"] {
        let _ = fs::remove_file(desk.at(&format!("yard/catalog.db{ending}")));
    }
    let catalog = fs::read(desk.at("yard/catalog.db")).unwrap();
    fs::write(desk.at("yard/catalog.db"), vec![7; 5000]).unwrap();
    says("a damaged catalogue", &desk, &[&["list"]]);
    fs::remove_file(desk.at("yard/catalog.db")).unwrap();
    says("no catalogue", &desk, &[&["list"], &["init"]]);
    fs::write(desk.at("yard/catalog.db"), catalog).unwrap();
    desk.ok(&["list"]);
    insta::assert_snapshot!(said);
}

#[test]
fn a_place_where_no_yard_can_be_is_refused() {
    let desk = Desk::new();
    let commands: [&[&str]; 5] = [
        &["list"],
        &["--yard", "nowhere", "list"],
        &["--yard", "wexcombe.toml", "list"],
        &["init", "installed"],
        &["init", "wexcombe.toml"],
    ];
    insta::assert_snapshot!(complaints(&desk, &commands));
    assert!(!desk.at("installed/pool").exists());
}

#[test]
fn sheets_are_checked_with_line_and_column() {
    let desk = Desk::new();
    let sheets = [
        ("no-toml", "title = \n"),
        ("unknown-key", "title = \"x\"\ncolour = \"red\"\n"),
        ("bad-title", "title = \"a/b\"\n"),
        ("outside", "title = \"x\"\n[good]\npresent = [\"bin/x\", \"../../etc/passwd\"]\n"),
        ("root", "title = \"x\"\n[programs.play]\npath = { linux = \"/bin/sh\" }\n"),
        ("platform", "title = \"x\"\n[programs.play]\npath = { abacus = \"x\" }\n"),
        ("folder", "title = \"x\"\n[programs.play]\npath = { linux = \"x\" }\nfolder = \"a/../..\"\n"),
        ("pattern", "title = \"x\"\n[belongings.saves]\npatterns = [\"saves/*\"]\n"),
        ("pattern-out", "title = \"x\"\n[belongings.saves]\npatterns = [\"home/../../x\"]\n"),
        ("pattern-bad", "title = \"x\"\n[paths]\nlive = [\"game/[z-a]\"]\n"),
        ("label", "title = \"x\"\n[label]\nfile = \"v\"\n"),
        ("pointer", "title = \"x\"\n[label]\nfile = \"v\"\npointer = \"build\"\n"),
        ("program", "title = \"x\"\nprogram = \"edit\"\n[programs.play]\npath = { any = \"x\" }\n"),
        ("not-utf-8", "title = \"x\" # caf\n"),
    ];
    let mut said = String::new();
    for (name, sheet) in sheets {
        let path = format!("{name}.toml");
        let mut bytes = sheet.as_bytes().to_vec();
        if name == "not-utf-8" {
            bytes.insert(bytes.len() - 1, 0xe9);
        }
        fs::write(desk.at(&path), bytes).unwrap();
        let output = desk.run(&["sheet", "check", &path]);
        write!(said, "{} {}{}", output.status.code().unwrap(), text(&output.stdout), text(&output.stderr)).unwrap();
    }
    insta::assert_snapshot!(said);
    desk.ok(&["init"]);
    desk.fails(1, &["sheet", "add", "outside.toml"]);
    assert_eq!(look(&desk.at("yard/sheets")).len(), 0);
    desk.ok(&["sheet", "new", "wexcombe"]);
    assert!(desk.ok(&["sheet", "check"]).contains("good"));
    desk.fails(4, &["sheet", "add", "wexcombe.toml"]);
    desk.ok(&["sheet", "add", "wexcombe.toml", "--replace"]);
    assert!(desk.at("yard/sheets/wexcombe.toml.old").exists());
}

#[test]
fn a_full_disk_is_said_to_be_full_and_nothing_is_left_on_it() {
    let test = "a_full_disk_is_said_to_be_full_and_nothing_is_left_on_it";
    let desk = Desk::new();
    let small = desk.at("small");
    // Room for the build once, for its programs a second time, which links need, and for what is kept in reserve; not for a
    // copy of it all.
    let build: u64 = look(&desk.at("installed")).values().map(|what| what.1.len() as u64).sum();
    let programs: u64 =
        fs::read_dir(desk.at("installed/bin")).unwrap().map(|file| file.unwrap().metadata().unwrap().len()).sum();
    let size = build + programs + (build - programs) / 2 + (6 << 20);
    let Some(_small) = small_disk(test, &size.to_string(), &small) else { return };
    let yard = small.join("yard");
    let at = |arguments: &[&str]| desk.run(&[&["--yard", yard.to_str().unwrap()], arguments].concat());
    assert!(at(&["init"]).status.success());
    assert!(at(&["intake", "installed", "--title", "wexcombe", "--build", "1"]).status.success());
    let free = || fs::read_dir(yard.join("tmp")).unwrap().count();
    let copied = at(&["clone", "wexcombe@1", "copy", "--share", "none"]);
    assert_eq!(copied.status.code(), Some(1));
    assert!(text(&copied.stderr).contains("The disk is full"), "{}", text(&copied.stderr));
    assert_eq!((free(), fs::read_dir(yard.join("twins")).unwrap().count()), (0, 0));
    fs::write(desk.at("installed/scenery/more.wjp"), vec![7; usize::try_from(build).unwrap()]).unwrap();
    let taken = at(&["intake", "installed", "--title", "wexcombe", "--build", "2"]);
    assert_eq!(taken.status.code(), Some(1));
    assert!(text(&taken.stderr).contains("The disk is full"), "{}", text(&taken.stderr));
    assert_eq!(free(), 0);
    let linked = at(&["clone", "wexcombe@1", "linked", "--share", "all"]);
    assert!(linked.status.success(), "{}", text(&linked.stderr));
}
