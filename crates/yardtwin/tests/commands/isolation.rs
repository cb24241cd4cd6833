//! Promise 1: whatever ordinary tools do in one twin, the others, the stock build and the pool stay as they were.

use std::collections::BTreeMap;
use std::os::unix::fs::MetadataExt;

use crate::support::common::{assert_same, look, look_pool};
use crate::support::{Desk, text};

/// What an ordinary user tries on a file of a twin, by shell.
const TRIES: [&str; 12] = [
    "printf more >> \"$1\"",
    ": > \"$1\"",
    "printf other > \"$1\"",
    "truncate -s 3 \"$1\"",
    "dd if=/dev/zero of=\"$1\" bs=16 count=1 conv=notrunc",
    "sed -i 's/^/x/' \"$1\"",
    "cp /etc/hostname \"$1\"",
    "cp -f /etc/hostname \"$1\"",
    "mv -f \"$1\" \"$1.moved\"",
    "rm -f \"$1\"",
    "printf new > \"$1.new\" && mv -f \"$1.new\" \"$1\"",
    "ln -f /etc/hostname \"$1\"; tee \"$1\" < /etc/hostname",
];

#[test]
fn what_tools_do_in_one_twin_reaches_no_other() {
    // Under "all" every file that the game doesn't write is a link where blocks can't be shared.
    let shares: [(&str, &[&str]); 3] = [
        ("all", &["scenery/hills.wjp", "cabin/panel.ini"]),
        ("careful", &["signals/signal-07.wjg"]),
        ("none", &["bin/wexcombe"]),
    ];
    for (share, targets) in shares {
        let desk = Desk::with_twins(&[]);
        for twin in ["a", "b"] {
            desk.ok(&["clone", "wexcombe@1.4", twin, "--share", share]);
        }
        let (others, pool) = (look(&desk.at("yard/twins/b/game")), look_pool(&desk.at("yard")));
        let mut refused = 0;
        for target in targets {
            for what in TRIES {
                // From a fresh twin each time, so that each try meets the file as it was shared.
                desk.ok(&["clone", "wexcombe@1.4", "tried", "--share", share]);
                let path = desk.game("tried", target);
                let output = desk.tool("sh").args(["-c", what, "sh"]).arg(&path).output().unwrap();
                refused += u32::from(!output.status.success());
                desk.ok(&["show", "tried"]);
                desk.ok(&["remove", "tried", "--for-good", "--yes"]);
            }
        }
        assert_same(&others, &look(&desk.at("yard/twins/b/game")), share);
        let now: BTreeMap<_, _> = look_pool(&desk.at("yard"));
        assert_same(&pool, &now, "the pool");
        let taken = desk.ok(&["intake", "installed", "--title", "wexcombe"]);
        assert!(taken.contains("nothing: the yard has all of it"), "{taken}");
        if share == "none" {
            assert_eq!(refused, 0, "copies are the user's to write to");
        }
    }
}

#[test]
fn sharing_is_what_the_disk_can_do_and_show_says_which() {
    let desk = Desk::with_twins(&["careful"]);
    desk.ok(&["clone", "wexcombe@1.4", "none", "--share", "none"]);
    let shares = &desk.json(&["show", "careful"])["shares"];
    let count = |way: &str| shares[way]["files"].as_u64().unwrap();
    let (reflinked, linked) = (count("reflinked"), count("linked"));
    if reflinked > 0 {
        assert_eq!(linked, 0);
    } else if linked > 0 {
        // The large files and the 96 signals; the settings and the single small files are the twin's own.
        let inode = |twin: &str, path: &str| std::fs::metadata(desk.game(twin, path)).unwrap();
        assert_eq!(inode("careful", "signals/signal-07.wjg").mode() & 0o777, 0o444);
        assert!(inode("careful", "signals/signal-07.wjg").nlink() > 1);
        assert_eq!(inode("careful", "cabin/panel.ini").nlink(), 1);
        assert!(desk.ok(&["show", "careful"]).contains("an ordinary write to a linked file is refused"));
    }
    assert!(reflinked + linked > 0, "as an ordinary user something is shared on every filesystem that the tests use");
    let none = desk.json(&["show", "none"]);
    assert_eq!(none["shares"]["copied"]["files"], none["totals"]["files"]);
    assert_eq!(none["guard"], "separate");
}

#[test]
fn a_twin_keeps_its_settings_and_saves_to_itself() {
    let desk = Desk::with_twins(&["a", "b"]);
    let output = desk.run(&["launch", "a", "--", "--shifts", "3"]);
    assert!(output.status.success(), "{}", text(&output.stderr));
    assert!(text(&output.stderr).contains("signalman.ini new, 3 shifts new"), "{}", text(&output.stderr));
    assert!(desk.at("yard/twins/a/home/.config/wexcombe/signalman.ini").exists());
    assert_eq!(look(&desk.at("home")).len(), 0, "nothing was written into the user's own home");
    assert_eq!(look(&desk.at("yard/twins/b/home")).len(), 0);
    assert_eq!(look(&desk.game("b", "cabin/shifts")).len(), 0);
    desk.ok(&["clone", "a", "c"]);
    assert_eq!(look(&desk.game("c", "cabin/shifts")).len(), 3, "a clone takes what the twin holds now");
}
