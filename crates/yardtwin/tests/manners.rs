//! What every command owes its user: a look before, an answer for programs, a question before what can't be undone.
#![allow(missing_docs, clippy::unwrap_used)]

mod support;

use std::fs;
use std::io::{Read, Write};
use std::process::Stdio;

use serde_json::Value;
use support::common::{assert_same, look, skip};
use support::{Desk, text};

/// All below the desk but SQLite's files, the lock files and the indexes, which any look may bring up to date.
fn everything(desk: &Desk) -> support::common::Seen {
    let mut seen = look(desk.root());
    seen.retain(|path, _| !path.contains("catalog.db") && !path.contains("/locks") && !path.ends_with("/index"));
    seen
}

#[test]
fn a_dry_run_changes_nothing_and_says_what_it_would_do() {
    let desk = Desk::with_twins(&["a", "gone"]);
    desk.ok(&["remove", "gone"]);
    desk.ok(&["intake", "installed", "--title", "wexcombe", "--build", "off"]);
    desk.ok(&["stock", "remove", "wexcombe@off"]);
    desk.ok(&["snapshot", "a", "there"]);
    fs::write(desk.game("a", "cabin/shifts/since.wjs"), "since").unwrap();
    desk.ok(&["show", "a"]);
    let changing: [&[&str]; 24] = [
        &["init", "second"],
        &["intake", "installed", "--title", "wexcombe", "--build", "2"],
        &["intake", "installed", "--title", "wexcombe", "--build", "2", "--move", "--leave-out", "settings"],
        &["intake", "installed", "--title", "unheard of", "--build", "2"],
        &["stock", "remove", "wexcombe@off", "--undo"],
        &["sheet", "new", "other"],
        &["sheet", "add", "wexcombe.toml", "--replace"],
        &["clone", "wexcombe@1.4", "b"],
        &["clone", "a", "b", "--share", "all"],
        &["clone", "gone", "gone"],
        &["remove", "a"],
        &["remove", "a", "--for-good"],
        &["remove", "gone", "--for-good"],
        &["profile", "set", "a", "note", "x"],
        &["launch", "a"],
        &["entry", "add", "a"],
        &["rename", "a", "b"],
        &["rename", "a", "b", "--move-folder"],
        &["protect", "a"],
        &["snapshot", "a", "kept"],
        &["snapshot", "a", "there", "--drop"],
        &["restore", "a", "there", "--all"],
        &["sweep"],
        &["check", "wexcombe@1.4", "--fix"],
    ];
    let (before, list) = (everything(&desk), desk.ok(&["list", "--json"]));
    for arguments in changing {
        let said = desk.ok(&[arguments, &["--dry-run"]].concat());
        assert!(!said.is_empty(), "{arguments:?}");
        let plan = desk.json(&[arguments, &["--dry-run"]].concat());
        assert!(plan.is_object(), "{arguments:?}");
        assert_same(&before, &everything(&desk), &format!("{arguments:?}"));
    }
    assert_eq!(desk.ok(&["list", "--json"]), list);
    // What can't be done can't be done in a dry run either.
    desk.fails(4, &["stock", "remove", "wexcombe@1.4", "--undo", "--dry-run"]);
    desk.fails(4, &["sheet", "new", "wexcombe", "--dry-run"]);
    desk.fails(1, &["entry", "remove", "a", "--dry-run"]);
}

#[test]
fn names_that_strangers_chose_reach_no_terminal_as_they_are() {
    let desk = Desk::with_twins(&[]);
    let evil = "red\u{1b}[31m\u{7}\u{202e}\nname.wjs";
    fs::write(desk.at("installed/cabin/shifts").join(evil), "x").unwrap();
    desk.ok(&["intake", "installed", "--title", "wexcombe", "--build", "2"]);
    desk.ok(&["clone", "wexcombe@2", "a"]);
    fs::write(desk.game("a", "cabin/shifts").join(format!("{evil}2")), "y").unwrap();
    let control = |text: &str| text.chars().any(|c| (c.is_control() && c != '\n') || c == '\u{202e}');
    for arguments in [&["show", "a"][..], &["stock", "show", "wexcombe@2", "--files"], &["remove", "a", "--dry-run"]] {
        let output = desk.run(arguments);
        assert!(output.status.success());
        assert!(!control(&text(&output.stdout)) && !control(&text(&output.stderr)), "{arguments:?}");
        assert!(!output.stdout.contains(&0x1b));
    }
    // With JSON, escaping is the format's.
    assert!(desk.ok(&["stock", "show", "wexcombe@2", "--files", "--json"]).contains("\\u001b[31m"));
}

/// Runs a command in a terminal of its own and types an answer.
fn typed(desk: &Desk, command: &str, answer: &str) -> (Option<i32>, String) {
    let line = format!("{} {command}", desk.at("yardtwin").display());
    let mut child = desk
        .tool("script")
        .args(["-qec", &line, "/dev/null"])
        .env("TERM", "xterm")
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    // Typed once the question is there, whenever that is.
    let (mut said, mut out) = (Vec::new(), child.stdout.take().unwrap());
    let mut piece = [0; 4096];
    while !text(&said).to_lowercase().contains("[y/n]") {
        match out.read(&mut piece).unwrap() {
            0 => break,
            read => said.extend_from_slice(&piece[..read]),
        }
    }
    child.stdin.take().unwrap().write_all(answer.as_bytes()).unwrap();
    out.read_to_end(&mut said).unwrap();
    (child.wait().unwrap().code(), text(&said))
}

#[test]
fn what_cannot_be_undone_is_asked_first() {
    let test = "what_cannot_be_undone_is_asked_first";
    let desk = Desk::with_twins(&["a"]);
    if desk.tool("script").arg("--version").output().is_err() {
        return skip(test, "script, which runs a command in a terminal, is not installed");
    }
    fs::write(desk.game("a", "cabin/shifts/mine.wjs"), "mine").unwrap();
    desk.ok(&["clone", "wexcombe@1.4", "played"]);
    let shift = desk.game("played", "cabin/shifts/shift-001.wjs");
    for (answer, kept) in [("y", false), ("n", true)] {
        let (code, said) = typed(&desk, "launch played --ask", answer);
        assert!(said.contains("new      game/cabin/shifts/shift-001.wjs"), "{said}");
        assert_eq!((code, shift.exists()), (Some(0), kept), "{said}");
    }
    let (code, said) = typed(&desk, "remove a --for-good", "n");
    assert!(said.contains("1 file (4 B) that exist nowhere else are lost: game/cabin/shifts/mine.wjs"), "{said}");
    assert_eq!(code, Some(130), "{said}");
    assert!(desk.game("a", "cabin/shifts/mine.wjs").exists());
    let (code, said) = typed(&desk, "remove a --for-good", "y");
    assert_eq!(code, Some(0), "{said}");
    assert!(!desk.game("a", "").exists());

    let (code, said) = typed(&desk, "intake installed --title wexcombe --build 2 --move", "n");
    assert_eq!(code, Some(130), "{said}");
    assert!(desk.at("installed/release.json").exists());
    assert_eq!(desk.json(&["stock", "list"]).as_array().unwrap().len(), 1);
    let (code, said) = typed(&desk, "intake installed --title wexcombe --build 2 --move", "y");
    assert_eq!(code, Some(0), "{said}");
    assert!(!desk.at("installed").exists(), "{said}");
    desk.ok(&["clone", "wexcombe@2", "b"]);
}

#[test]
fn a_stock_build_is_taken_off_the_list_and_put_back() {
    let desk = Desk::with_twins(&[]);
    desk.ok(&["stock", "remove", "wexcombe@1.4"]);
    assert_eq!(desk.json(&["stock", "list"]).as_array().unwrap().len(), 0);
    assert_eq!(desk.json(&["stock", "list", "--removed"]).as_array().unwrap().len(), 1);
    desk.fails(1, &["clone", "wexcombe@1.4", "a"]);
    desk.ok(&["stock", "remove", "wexcombe@1.4", "--undo"]);
    desk.fails(4, &["stock", "remove", "wexcombe@1.4", "--undo"]);
    desk.ok(&["clone", "wexcombe@1.4", "a"]);
    desk.fails(4, &["stock", "remove", "wexcombe@1.4"]);
}

/// Runs a command with its answer going elsewhere, and gives its exit code and what it complained of.
fn into(desk: &Desk, arguments: &[&str], out: Stdio) -> (Option<i32>, String) {
    let output = desk.command(arguments).stdout(out).stderr(Stdio::piped()).output().unwrap();
    (output.status.code(), text(&output.stderr))
}

/// A pipe that nobody reads.
fn closed() -> Stdio {
    let (reader, writer) = std::io::pipe().unwrap();
    drop(reader);
    writer.into()
}

#[test]
fn answers_that_nobody_reads_or_that_find_no_room_end_with_1() {
    let desk = Desk::with_twins(&["a"]);
    let answering: [&[&str]; 12] = [
        &["list"],
        &["list", "--json"],
        &["show", "a"],
        &["diff", "a", "--json"],
        &["check"],
        &["history", "a"],
        &["stock", "list"],
        &["profile", "show", "a"],
        &["mod", "list", "a"],
        &["clone", "a", "b", "--dry-run"],
        &["completions", "bash"],
        &["--help"],
    ];
    for arguments in answering {
        let (code, said) = into(&desk, arguments, closed());
        // (Help is written by another hand, which doesn't say.)
        let wanted = if arguments == ["--help"] { code } else { Some(1) };
        assert_eq!((code, said.as_str()), (wanted, ""), "{arguments:?}");
        let full = fs::File::options().write(true).open("/dev/full").unwrap();
        let (code, said) = into(&desk, arguments, full.into());
        if arguments != ["--help"] {
            assert!(code == Some(1) && said.contains("No space left"), "{arguments:?}: {code:?} {said}");
        }
        assert!(!said.contains("panicked"), "{said}");
    }
}

#[test]
fn errors_are_json_for_programs_and_several_answers_one_document() {
    let desk = Desk::with_twins(&["a", "b", "c", "d", "e", "f", "main", "mainly"]);
    let failing: [(i32, &[&str]); 8] = [
        (1, &["show", "nobody"]),
        (1, &["intake", "nowhere", "--title", "wexcombe"]),
        (1, &["mod", "add", "nowhere", "--to", "a"]),
        (2, &["clone"]),
        (2, &["profile", "set", "a", "volume", "3"]),
        (2, &["completions", "bash"]),
        (4, &["stock", "remove", "wexcombe@1.4"]),
        (4, &["remove", "a", "--for-good"]),
    ];
    for (code, arguments) in failing {
        let output = desk.run(&[arguments, &["--json"]].concat());
        let told: Value = serde_json::from_slice(&output.stderr).unwrap_or_else(|_| panic!("{}", text(&output.stderr)));
        assert_eq!((output.status.code(), &told["exit_code"]), (Some(code), &code.into()), "{arguments:?}: {told}");
        assert!(told["error"].as_str().is_some_and(|error| !error.is_empty()), "{arguments:?}: {told}");
    }
    // What is to be minded stands in the same object.
    desk.ok(&["renew", "a"]);
    fs::write(desk.game("a", "scenery/mine.wjp"), "unexplained").unwrap();
    let output = desk.run(&["renew", "a", "--json"]);
    let told: Value = serde_json::from_slice(&output.stderr).unwrap_or_else(|_| panic!("{}", text(&output.stderr)));
    assert_eq!((output.status.code(), told["notes"].is_array()), (Some(4), true), "{told}");
    // A program's own exit code is not lost with a pipe.
    let (code, _) = into(&desk, &["tool", "a", "--discard", "--", "sh", "-c", "exit 7"], closed());
    assert_eq!(code, Some(7));
    // A name that was typed wrongly is answered with those that are like it, however many there are.
    let said = desk.fails(1, &["show", "mian"]);
    assert!(said.contains("The likest are \"main\", \"mainly\"") && said.contains("2 more"), "{said}");
    desk.ok(&["clone", "WEXCOMBE@1.4", "by any spelling"]);
    let several = desk.json(&["carry", "settings", "--from", "a", "--to", "b", "--to", "c"]);
    assert_eq!(several.as_array().map(Vec::len), Some(2), "{several}");
}

#[test]
fn what_belongs_to_a_program_is_the_programs_and_no_bytes_make_it_panic() {
    use std::os::unix::ffi::OsStrExt;
    let desk = Desk::with_twins(&["a"]);
    desk.ok(&["profile", "set", "--variant", "loud", "a", "arguments", "-v", "--json", "--dry-run"]);
    let profile = fs::read_to_string(desk.game("a", "../profile.toml")).unwrap();
    assert!(profile.contains(r#"["-v", "--json", "--dry-run"]"#), "{profile}");
    desk.ok(&["profile", "set", "a", "before", "--", "touch", "-r", "x"]);
    // An empty name of a yard is none.
    let listed = desk.command(&["list"]).env("YARDTWIN_YARD", "").current_dir(desk.at("yard/twins")).output().unwrap();
    assert!(listed.status.success(), "{}", text(&listed.stderr));
    let odd = std::ffi::OsStr::from_bytes(b"\xff\xfe");
    for (code, arguments) in
        [(2, &["show"][..]), (1, &["intake", "--title", "t"]), (2, &["launch", "a"]), (0, &["launch", "a", "--"])]
    {
        let output = desk.command(arguments).arg(odd).output().unwrap();
        let said = text(&output.stderr);
        assert!(!said.contains("panicked"), "{arguments:?}: {said}");
        // (The stand-in for a game takes what it gets, or says that it doesn't.)
        assert!(code == 0 || output.status.code() == Some(code), "{arguments:?}: {:?} {said}", output.status);
    }
}
