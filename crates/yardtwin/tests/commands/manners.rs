//! What every command owes its user: a look before, an answer for programs, a question before what can't be undone.

use std::fs;
use std::io::{Read, Write};
use std::process::Stdio;

use crate::support::common::{assert_same, look, skip};
use crate::support::{Desk, text};
use serde_json::Value;

/// All below the desk but SQLite's files, the lock files and the indexes, which any look may bring up to date.
fn everything(desk: &Desk) -> crate::support::common::Seen {
    let mut seen = look(desk.root());
    seen.retain(|path, _| !path.contains("catalog.db") && !path.contains("/locks") && !path.ends_with("/index"));
    seen
}

/// All that the catalogue holds, but what any look writes down: what is possible here, what is in use, what has reached the disk by now, and
/// sums.
fn catalogue(desk: &Desk) -> Vec<String> {
    let catalog = rusqlite::Connection::open(desk.at("yard/catalog.db")).unwrap();
    let texts = |sql: &str| -> Vec<String> {
        let mut statement = catalog.prepare(sql).unwrap();
        let names = statement.column_names().enumerate();
        let columns: Vec<usize> = names.filter(|(_, name)| *name != "unsynced").map(|(at, _)| at).collect();
        let row = |row: &rusqlite::Row<'_>| {
            columns
                .iter()
                .map(|&at| row.get::<_, rusqlite::types::Value>(at).map(|value| format!("{value:?}")))
                .collect()
        };
        let rows: Vec<Vec<String>> = statement.query_map([], row).unwrap().collect::<Result<_, _>>().unwrap();
        rows.into_iter().map(|row| row.join(" ")).collect()
    };
    let tables = "SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT IN ('probes', 'windows', 'totals')";
    let mut names = catalog.prepare(tables).unwrap();
    let names: Vec<String> = names.query_map([], |row| row.get(0)).unwrap().collect::<Result<_, _>>().unwrap();
    names.iter().flat_map(|name| texts(&format!("SELECT '{name}', * FROM {name}"))).collect()
}

/// Each command that changes something, so that it would.
const CHANGING: [&str; 47] = [
    "init second",
    "intake installed --title wexcombe --build 2",
    "intake installed --title wexcombe --build 2 --move --leave-out settings",
    "intake installed --title unheard-of --build 2",
    "intake --twin a --build 3",
    "stock remove wexcombe@off --undo",
    "stock remove wexcombe@spare",
    "sheet new other",
    "sheet add wexcombe.toml --replace",
    "sheet learn wexcombe --from a",
    "clone wexcombe@1.4 fresh",
    "clone a fresh --share all",
    "clone gone gone",
    "clone a west --inside game/boards/brass",
    "remove a",
    "remove a --for-good",
    "remove gone --for-good",
    "restore gone",
    "rename a fresh",
    "rename a fresh --move-folder",
    "share a none",
    "protect a",
    "snapshot a kept",
    "snapshot a there --drop",
    "restore a there --all",
    "undo a",
    "check wexcombe@1.4 --fix",
    "check a --start --fix",
    "carry shifts --from a --to b",
    "carry shifts --from a --to-folder out",
    "renew a --leave-rest",
    "mod add pack --to a --into game --strip 0",
    "mod off a m",
    "mod on a off",
    "mod remove a m",
    "mod move a m --top",
    "mod update a m pack --into game --strip 0",
    "mod adopt a mine",
    "repath a --old /old --new /new",
    "sweep",
    "profile set a note x",
    "profile set a --file panel.ini video.width 7",
    "profile unset a note",
    "profile copy note --from a --to b",
    "launch a",
    "tool a -- touch x",
    "entry add a",
];

#[test]
fn a_dry_run_changes_nothing_and_says_what_it_would_do() {
    let desk = Desk::with_twins(&["a", "b", "gone"]);
    fs::create_dir_all(desk.at("pack/scenery")).unwrap();
    fs::write(desk.at("pack/scenery/lamps.txt"), "lamps").unwrap();
    desk.place.give_away();
    for label in ["off", "spare"] {
        desk.ok(&["intake", "installed", "--title", "wexcombe", "--build", label]);
    }
    desk.ok(&["remove", "gone"]);
    desk.ok(&["stock", "remove", "wexcombe@off"]);
    desk.ok(&["launch", "a"]);
    for name in ["m", "off"] {
        desk.ok(&["mod", "add", "pack", "--to", "a", "--name", name, "--into", "game", "--strip", "0"]);
    }
    desk.ok(&["mod", "off", "a", "off"]);
    desk.ok(&["profile", "set", "a", "note", "a note"]);
    desk.ok(&["snapshot", "a", "there"]);
    fs::write(desk.game("a", "cabin/shifts/since.wjs"), "since").unwrap();
    fs::write(desk.game("a", "scenery/mine.wjp"), "at = /old/place\n").unwrap();
    desk.ok(&["show", "a"]);
    let (before, records) = (everything(&desk), catalogue(&desk));
    for command in CHANGING {
        let (words, behind) =
            command.split_once(" -- ").map_or((command, None), |(words, behind)| (words, Some(behind)));
        let dry = |more: &'static [&str]| {
            let mut words: Vec<&str> = words.split(' ').chain(more.iter().copied()).collect();
            words.extend(behind.into_iter().flat_map(|behind| std::iter::once("--").chain(behind.split(' '))));
            words
        };
        for more in [&["--dry-run"][..], &["--dry-run", "--json"]] {
            let output = desk.run(&dry(more));
            // What a look finds ends with 3.
            assert!(matches!(output.status.code(), Some(0 | 3)), "{command}: {}", text(&output.stderr));
            assert!(!output.stdout.is_empty(), "{command}");
            let plan = serde_json::from_slice::<Value>(&output.stdout);
            assert_eq!(plan.is_ok(), more.contains(&"--json"), "{command}");
        }
        assert_same(&before, &everything(&desk), command);
        let now = catalogue(&desk);
        let other: Vec<_> = now.iter().filter(|row| !records.contains(row)).collect();
        assert!(other.is_empty() && now.len() == records.len(), "{command} changes the catalogue: {other:?}");
    }
    // What can't be done can't be done in a dry run either.
    desk.fails(4, &["stock", "remove", "wexcombe@1.4", "--undo", "--dry-run"]);
    desk.fails(4, &["sheet", "new", "wexcombe", "--dry-run"]);
    desk.fails(1, &["entry", "remove", "a", "--dry-run"]);
}

#[test]
fn every_command_has_the_manners_of_all() {
    let desk = Desk::with_twins(&["a"]);
    // Those that change nothing, or nothing that could be shown beforehand.
    let looks = [
        "completions",
        "demo",
        "diff",
        "entry list",
        "folder",
        "history",
        "list",
        "mod explain",
        "mod kept",
        "mod list",
        "mod show",
        "mod trial",
        "profile show",
        "sheet check",
        "show",
        "stock list",
        "stock show",
    ];
    let mut all = desk.commands();
    all.sort();
    let mut without = Vec::new();
    for command in &all {
        let words: Vec<&str> = command.split(' ').collect();
        let help = desk.ok(&[&words[..], &["--help"]].concat());
        assert!(help.contains("Example:") || help.contains("Examples:"), "{help}");
        if !help.contains("--dry-run") {
            without.push(command.as_str());
        } else {
            let tried = CHANGING.iter().any(|changing| changing.starts_with(command.as_str()));
            let as_well = ["profile use", "profile apply", "entry remove"].contains(&command.as_str());
            assert!(tried || as_well, "{command} is no part of the test of dry runs");
        }
        // What nobody understands is said once, in a sentence that names it, and ends with 2.
        let said = desk.fails(2, &[&words[..], &["--no-such-thing"]].concat());
        assert!(said.contains("--no-such-thing") && said.contains("Usage: yardtwin"), "{command}: {said}");
        if command == "demo" {
            continue;
        }
        let mut broken = desk.command(&words);
        let output =
            broken.arg(<std::ffi::OsStr as std::os::unix::ffi::OsStrExt>::from_bytes(b"\xff\xfe")).output().unwrap();
        assert!(!text(&output.stderr).contains("panicked"), "{command}: {}", text(&output.stderr));
        let (_, said) = into(&desk, &[&words[..], &["--help"]].concat(), closed());
        assert!(!said.contains("panicked"), "{command}: {said}");
        // No terminal, no question: nothing waits.
        let code = desk.run(&words).status.code();
        assert!(matches!(code, Some(0..=5)), "{command}: {code:?}");
    }
    assert_eq!(without, looks);
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
    assert!(said.contains("The closest are \"main\", \"mainly\", and there are 6 more."), "{said}");
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
    let beside = desk.command(&["list"]).env("YARDTWIN_YARD", "").output().unwrap();
    let hint = format!("type: export YARDTWIN_YARD={}", desk.at("yard").canonicalize().unwrap().display());
    assert!(beside.status.code() == Some(1) && text(&beside.stderr).contains(&hint), "a yard below: {beside:?}");
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
