//! Several commands at once keep out of each other's way.

use std::fs;
use std::process::{Child, Stdio};

use crate::support::common::{assert_same, leftovers, look};
use crate::support::{Desk, text};

fn start(desk: &Desk, arguments: &[&str]) -> Child {
    desk.command(arguments).stdout(Stdio::null()).stderr(Stdio::piped()).spawn().unwrap()
}

#[test]
fn clones_and_intakes_at_once_all_succeed_and_of_one_name_just_one_does() {
    let desk = Desk::with_twins(&["source"]);
    fs::write(desk.at("installed/scenery/new.wjp"), "a new landscape").unwrap();
    fs::write(desk.game("source", "cabin/shifts/mine.wjs"), "my shift").unwrap();
    let mut children = Vec::new();
    for number in 0..4 {
        let name = format!("t{number}");
        children.push(start(&desk, &["clone", "wexcombe@1.4", &name, "--share", ["all", "none"][number % 2]]));
        let name = format!("s{number}");
        children.push(start(&desk, &["clone", "source", &name]));
        let build = format!("b{}", number / 2);
        children.push(start(&desk, &["intake", "installed", "--title", "wexcombe", "--build", &build]));
    }
    for child in children {
        let output = child.wait_with_output().unwrap();
        assert!(output.status.success(), "{}", text(&output.stderr));
    }
    assert_eq!(desk.json(&["list"]).as_array().unwrap().len(), 9);
    assert_eq!(desk.json(&["stock", "list"]).as_array().unwrap().len(), 3);
    let want = look(&desk.game("source", ""));
    for number in 0..4 {
        assert_same(&want, &look(&desk.game(&format!("s{number}"), "")), "a clone made beside others");
    }
    let rivals: Vec<_> = (0..4).map(|_| start(&desk, &["clone", "wexcombe@1.4", "rival"])).collect();
    let mut codes: Vec<_> = rivals.into_iter().map(|child| child.wait_with_output().unwrap().status.code()).collect();
    codes.sort_unstable();
    assert_eq!(codes, [Some(0), Some(4), Some(4), Some(4)]);
    desk.ok(&["show", "rival"]);
    assert!(leftovers(&desk.at("yard")).is_empty());
}

#[test]
fn changes_of_one_twin_at_once_come_one_after_the_other_or_are_told_to_wait() {
    let desk = Desk::with_twins(&["a", "b"]);
    desk.ok(&["snapshot", "a", "one"]);
    fs::remove_file(desk.game("a", "release.json")).unwrap();
    desk.ok(&["snapshot", "a", "two"]);
    let (two, one) = (look(&desk.game("a", "")), look(&desk.game("b", "")));
    for _ in 0..3 {
        let commands: [&[&str]; 6] = [
            &["restore", "a", "one", "--yes"],
            &["restore", "a", "two", "--yes"],
            &["snapshot", "a"],
            &["show", "a"],
            &["sweep"],
            &["clone", "a", "c", "--dry-run"],
        ];
        let children: Vec<_> = commands.iter().map(|command| start(&desk, command)).collect();
        for (child, command) in children.into_iter().zip(commands) {
            let output = child.wait_with_output().unwrap();
            let code = output.status.code();
            assert!(matches!(code, Some(0 | 5)), "{command:?}: {code:?} {}", text(&output.stderr));
        }
        let now = look(&desk.game("a", ""));
        assert!(now == one || now == two, "one of the two, whole");
    }
    desk.ok(&["restore", "a", "one", "--yes"]);
    assert_same(&one, &look(&desk.game("a", "")), "and then it works");
    assert!(leftovers(&desk.at("yard")).is_empty());
}
