//! Promise 7: figures of space are what the system's own tools say.

use std::fs;
use std::path::Path;
use std::process::Command;

use crate::support::common::{Dice, Place};
use crate::support::{Desk, text};
use serde_json::Value;

/// Whether two figures are within a hundredth of each other.
fn close(a: u64, b: u64) -> bool {
    a.abs_diff(b) * 100 <= a.max(b)
}

fn du(path: &Path, options: &[&str]) -> u64 {
    let output = Command::new("du").args(["-s", "-B1"]).args(options).arg(path).output().unwrap();
    text(&output.stdout).split_whitespace().next().unwrap().parse().unwrap()
}

/// Bytes that are free on a filesystem, once all that was done to it has been.
fn free(place: &Path) -> u64 {
    for _ in 0..2 {
        assert!(Command::new("sync").arg("-f").arg(place).status().unwrap().success());
    }
    let stat = rustix::fs::statvfs(place).unwrap();
    stat.f_bfree * stat.f_frsize
}

/// Six twins that share in different ways and hold something of their own.
fn six() -> Desk {
    let desk = Desk::bench(Place::new(), &["one", "two"], |build| {
        let mut dice = Dice::new(9);
        for number in 0..6 {
            fs::write(build.join(format!("data/large{number}.dat")), dice.bytes(9 << 20)).unwrap();
        }
        for number in 0..200 {
            let folder = build.join(format!("sets/set{:02}", number / 10));
            fs::create_dir_all(&folder).unwrap();
            fs::write(folder.join(format!("item{number}.wjp")), dice.bytes(5000 + number * 50)).unwrap();
        }
    });
    desk.ok(&["clone", "workbench@1", "three"]);
    desk.ok(&["clone", "one", "four"]);
    desk.ok(&["clone", "workbench@1", "five", "--share", "none"]);
    desk.ok(&["clone", "two", "six", "--share", "none"]);
    for (twin, amount) in [("two", 2 << 20), ("four", 1 << 20), ("six", 1 << 20)] {
        fs::write(desk.game(twin, "data/mine.dat"), Dice::new(amount).bytes(amount)).unwrap();
    }
    desk.place.give_away();
    ["two", "four", "six"].iter().for_each(|twin| drop(desk.ok(&["show", twin])));
    desk
}

fn twin<'a>(space: &'a Value, name: &str) -> &'a Value {
    space["twins"].as_array().unwrap().iter().find(|twin| twin["name"] == name).unwrap()
}

#[test]
fn what_twins_take_and_what_deleting_one_frees_is_what_du_and_df_say() {
    let desk = six();
    let yard = desk.at("yard");
    let some = |name: &str| desk.json(&["show", name])["shares"]["reflinked"]["bytes"].as_u64().unwrap() > 0;
    // Shared blocks count for each file where inodes are added up, so that du has no figure for the yard then.
    let by_blocks = some("one");
    // Named where nothing else writes to the filesystem: df counts everybody.
    let own_filesystem = std::env::var_os("YARDTWIN_TEST_ALONE").is_some();
    for name in ["five", "two", "one", "six", "four", "three"] {
        let space = desk.json(&["list", "--space"]);
        let shown = desk.json(&["show", name]);
        let here = twin(&space, name);
        assert_eq!(shown["space"]["frees"], here["frees"], "{name}");
        let folder = yard.join("twins").join(name);
        let number = |field: &str| here[field].as_u64().unwrap();
        let twins: u64 = space["twins"].as_array().unwrap().iter().map(|t| t["copied_by_hand"].as_u64().unwrap()).sum();
        let stock = space["copied_by_hand"].as_u64().unwrap() - twins;
        assert!(close(stock, du(&desk.at("build"), &["-l"])), "the stock build: {stock}");
        assert!(close(number("seen"), du(&folder, &["-l", "--apparent-size"]) - folders(&folder)), "{name}: {here:#}");
        assert!(close(number("copied_by_hand"), du(&folder, &["-l"])), "{name}: {here:#}");
        assert!(close(number("own") + number("shared"), du(&folder, &["-l"])), "{name}: {here:#}");
        let before = (du(&yard, &[]), free(&yard));
        assert!(by_blocks || close(space["on_disk"].as_u64().unwrap(), before.0), "{space:#} {before:?}");
        desk.ok(&["remove", name, "--for-good", "--yes"]);
        if !by_blocks {
            let freed = before.0 - du(&yard, &[]);
            assert!(close(number("frees"), freed), "{name}: du says {freed}: {here:#}");
        }
        if own_filesystem {
            // What a filesystem keeps its own books in is no file's; and some give blocks back only a while later.
            let books = 512 << 10;
            let fits = |freed: u64| close(number("frees"), freed) || number("frees").abs_diff(freed) <= books;
            let freed = || free(&yard).saturating_sub(before.1);
            let seen = (0..60).map(|_| freed()).find(|freed| {
                std::thread::sleep(std::time::Duration::from_millis(if fits(*freed) { 0 } else { 500 }));
                fits(*freed)
            });
            assert!(seen.is_some(), "{name}: df says {}: {here:#}", freed());
        }
    }
}

/// What du counts for folders where it counts sizes.
fn folders(folder: &Path) -> u64 {
    let output = Command::new("find").arg(folder).args(["-type", "d", "-printf", "%s\n"]).output().unwrap();
    text(&output.stdout).lines().map(|line| line.parse::<u64>().unwrap()).sum()
}
