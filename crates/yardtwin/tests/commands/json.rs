//! What commands answer in JSON is what `docs/json.md` says, and that is what the sources say.

mod types;

use std::collections::BTreeSet;
use std::fmt::Write as _;
use std::fs;
use std::path::Path;

use crate::support::{Desk, text};
use serde_json::Value;
use types::{Shape, Types, words};

/// Commands in an order in which they can be run, each with what it answers: a type, or in brackets a list of it. What stands
/// behind `#` is typed too, but not shown.
const ANSWERS: [(&str, &str); 88] = [
    ("init second", "YardMade"),
    ("sheet new other", "sheets::Plan"),
    ("sheet add wexcombe.toml --replace", "sheets::Plan"),
    ("sheet check", "SheetsChecked"),
    ("intake installed --title wexcombe --dry-run # --build 2", "intake::Plan"),
    ("intake installed --title wexcombe # --build 2", "intake::Outcome"),
    ("stock list", "[stock::Summary]"),
    ("stock show wexcombe@2 --files", "ShownBuild"),
    ("clone a b --dry-run", "clone::Plan"),
    ("clone a b", "clone::Outcome"),
    ("clone a west --inside game/boards/brass --dry-run", "inside::Plan"),
    ("clone a west --inside game/boards/brass", "inside::Outcome"),
    ("launch a --dry-run", "play::Plan"),
    ("launch a", "play::Outcome"),
    ("launch a --detach # -- --stay", "Detached"),
    ("launch a --stop", "Stopped"),
    ("list", "[show::Summary]"),
    ("list --space", "YardSpace"),
    ("show a", "ShownTwin"),
    ("show a --belongings", "belongings::View"),
    ("folder a", "FolderOf"),
    ("sheet check --on a", "SheetView"),
    ("sheet learn wexcombe --from a --dry-run", "SheetLearned"),
    ("intake --twin a --dry-run # --build 3", "FromTwinPlan"),
    ("intake --twin a # --build 3", "intake::Outcome"),
    ("profile set a note later", "ProfileChange"),
    ("profile set a --file panel.ini video.width 2560 --dry-run", "edits::Plan"),
    ("profile set a --file panel.ini video.width 2560 # --variant wide", "edits::Outcome"),
    ("profile show a", "ShownProfile"),
    ("profile use a wide", "edits::Outcome"),
    ("profile apply a", "edits::Outcome"),
    ("profile unset a note", "ProfileChange"),
    ("profile copy edits --from a --to b", "edits::Outcome"),
    ("carry shifts --from a --to b --dry-run", "carry::Plan"),
    ("carry shifts --from a --to b", "carry::Outcome"),
    ("carry shifts --from a --to-folder out --dry-run", "carry::FolderPlan"),
    ("carry shifts --from a --to-folder out", "carry::FolderOutcome"),
    ("mod add pack --to a --dry-run # --into game --strip 0", "[mods::Plan]"),
    ("mod add pack --to a # --into game --strip 0", "[mods::Outcome]"),
    ("mod list a", "[InTwin]"),
    ("mod show pack", "[Shown]"),
    ("mod explain a game/scenery/lamps.txt", "Explained"),
    ("mod kept", "[Kept]"),
    ("mod off a pack", "[mods::Outcome]"),
    ("mod on a pack", "[mods::Outcome]"),
    ("mod move a pack --top", "[mods::Outcome]"),
    ("mod update a pack pack2 # --into game --strip 0", "[mods::Outcome]"),
    ("mod adopt a own # --files game/mine.txt", "[mods::Outcome]"),
    ("mod trial a --run true", "Verdict"),
    ("mod remove a own", "[mods::Outcome]"),
    ("tool a --as-mod made -- touch made.txt", "ToolRun"),
    ("tool a --dry-run -- true", "play::Plan"),
    ("repath a --old /old --new /new --dry-run", "repath::Plan"),
    ("repath a --old /old --new /new", "repath::Outcome"),
    ("repath --in out --old /old --new /new --dry-run", "repath::FolderPlan"),
    ("repath --in out --old /old --new /new", "repath::FolderOutcome"),
    ("snapshot a kept", "snapshot::Outcome"),
    ("snapshot a kept --drop", "HistoryEntry"),
    ("history a", "[HistoryEntry]"),
    ("history a --runs", "[RunDetails]"),
    ("undo a --dry-run", "restore::Plan"),
    ("undo a # --yes", "restore::Outcome"),
    ("restore a 1 --dry-run", "restore::Plan"),
    ("restore a 1 # --yes", "restore::Outcome"),
    ("rename b c --move-folder", "rename::Outcome"),
    ("share a none --dry-run", "share::Plan"),
    ("share a none", "share::Outcome"),
    ("protect a", "protect::Outcome"),
    ("protect a --off", "protect::Outcome"),
    ("diff wexcombe@1.4 a --text", "Differences"),
    ("check --full", "Checked"),
    ("check --fix", "Checked"),
    ("check a --start", "Contained"),
    ("renew a --leave-rest --dry-run", "renew::Plan"),
    ("renew a --leave-rest", "renew::Outcome"),
    ("entry add a --folder menu", "entry::Plan"),
    ("entry list", "[entry::Summary]"),
    ("entry remove a", "[text]"),
    ("remove c --dry-run", "remove::Plan"),
    ("remove c", "remove::Outcome"),
    ("restore c --dry-run", "bring_back::Plan"),
    ("restore c", "bring_back::Outcome"),
    ("remove c --for-good --dry-run", "remove::Plan"),
    ("remove c --for-good # --yes", "LetGoOutcome"),
    ("stock remove wexcombe@2", "stock::RemovePlan"),
    ("stock remove wexcombe@2 --undo", "BuildBack"),
    ("sweep --dry-run", "sweep::Outcome"),
    ("sweep", "sweep::Outcome"),
];

fn shape(named: &str) -> Shape {
    match named.strip_prefix('[').and_then(|named| named.strip_suffix(']')) {
        Some(inner) => Shape::List(Box::new(shape(inner))),
        None if named == "text" => Shape::Text,
        None => Shape::Named(named.into()),
    }
}

fn sources() -> Types {
    let here = Path::new(env!("CARGO_MANIFEST_DIR"));
    Types::read(&[&here.join("../yard-twin/src"), &here.join("src/answers.rs")])
}

fn set_up(desk: &Desk) {
    for (path, content) in [("pack/scenery/lamps.txt", "lamps"), ("pack2/scenery/lamps.txt", "more lamps")] {
        fs::create_dir_all(desk.at(path).parent().unwrap()).unwrap();
        fs::write(desk.at(path), content).unwrap();
    }
    fs::write(desk.game("a", "mine.txt"), "data = /old/place\n").unwrap();
    fs::create_dir(desk.at("out")).unwrap();
    desk.place.give_away();
}

#[test]
fn every_command_answers_what_is_documented() {
    let desk = Desk::with_twins(&["a"]);
    set_up(&desk);
    let types = sources();
    let (mut wrong, mut seen) = (Vec::new(), BTreeSet::new());
    for (command, answer) in ANSWERS {
        let command = command.replace("# ", "");
        let (words, behind) = command.split_once(" -- ").map_or((command.as_str(), None), |(a, b)| (a, Some(b)));
        let mut arguments: Vec<&str> = words.split(' ').chain(["--json"]).collect();
        arguments.extend(behind.into_iter().flat_map(|behind| std::iter::once("--").chain(behind.split(' '))));
        if command.starts_with("carry") && command.ends_with("out") {
            fs::remove_dir(desk.at("out")).unwrap();
        }
        let output = desk.run(&arguments);
        match serde_json::from_slice::<Value>(&output.stdout) {
            Ok(value) => types.check(&value, &shape(answer), &command, &mut wrong),
            Err(error) => wrong.push(format!("{command}: {error}: {}{}", text(&output.stdout), text(&output.stderr))),
        }
        seen.insert(command);
    }
    // An error is a document too, wherever it comes from.
    for (code, arguments) in
        [(1, &["show", "nobody"][..]), (2, &["clone"]), (2, &["demo"]), (2, &["completions", "bash"])]
    {
        let output = desk.run(&[arguments, &["--json"]].concat());
        let told: Value = serde_json::from_slice(&output.stderr).unwrap_or_else(|_| panic!("{}", text(&output.stderr)));
        types.check(&told, &shape("Failed"), &arguments.join(" "), &mut wrong);
        assert_eq!(output.status.code(), Some(code), "{arguments:?}");
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    let all = desk.commands();
    let answers = |command: &String| seen.iter().any(|seen| seen.starts_with(command.as_str()));
    let none: Vec<_> = all.into_iter().filter(|command| !answers(command)).collect();
    assert_eq!(none, ["demo", "completions"], "these are tried by no answer");
}

const HEAD: &str = "\
# Answers in JSON

With `--json` each command writes one document to standard output, also where it has several targets: a list then. What is to be
minded and no part of the answer goes to standard error, as text; an error is one document there, a [Failed](#failed), and
nothing is on standard output. `completions` and `demo` have no answer in JSON and refuse.

Sizes are bytes, durations are seconds, moments are RFC 3339 in UTC, paths of a twin begin with `game/` or `home/`. What is not
UTF-8 in a path of yours comes with replacement characters. A field is there even where it is null, unless it says otherwise; new
ones may come.

This file is made from the documentation of the types (`YARDTWIN_WRITE_DOCS=1 cargo test json::`), and every
command's answer is held against it by a test.

## Commands

| command | answer |
| --- | --- |
";

#[test]
fn the_document_says_what_the_sources_say() {
    let types = sources();
    let mut said = HEAD.to_owned();
    for (command, answer) in ANSWERS {
        let shown = command.split(" # ").next().unwrap();
        writeln!(said, "| `yardtwin {shown}` | {} |", words(&shape(answer))).unwrap();
    }
    said += "\n## Types\n";
    let mut roots: Vec<Shape> = ANSWERS.iter().map(|(_, answer)| shape(answer)).collect();
    roots.push(shape("Failed"));
    for name in types.reached(&roots) {
        write!(said, "\n{}", types.section(&name)).unwrap();
    }
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/json.md");
    if std::env::var_os("YARDTWIN_WRITE_DOCS").is_some() {
        fs::write(&path, &said).unwrap();
    }
    let there = fs::read_to_string(&path).unwrap_or_default();
    assert!(there == said, "docs/json.md is not what the types are: YARDTWIN_WRITE_DOCS=1 cargo test json::");
}
