//! Several commands at once keep out of each other's way.
#![allow(missing_docs, clippy::unwrap_used)]

mod support;

use std::fs;
use std::process::{Child, Stdio};

use support::common::{assert_same, leftovers, look};
use support::{Desk, text};

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
