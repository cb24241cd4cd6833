//! A disk that fills while a command is at work: all of what was asked for is done, or nothing, and nothing is lost.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::Write;
use std::path::Path;

use crate::support::common::{Dice, Place, Seen, leftovers, look};
use crate::support::{Desk, small_disk, text};

/// So many bytes are left for a command, one try after another: what needs least gets by with none.
const LEFT: [u64; 5] = [0, 64 << 10, 1 << 20, 4 << 20, 24 << 20];

/// Twins of a yard on a small disk, and what fills it.
struct Small {
    desk: Desk,
}

impl Small {
    /// Leaves so many bytes of the disk.
    fn leave(&self, bytes: u64) {
        let mut filler = File::options().append(true).create(true).open(self.desk.at("filler")).unwrap();
        let stat = rustix::fs::statvfs(self.desk.root()).unwrap();
        let free = stat.f_bavail * stat.f_frsize;
        let there = filler.metadata().unwrap().len();
        filler.set_len(there.min((there + free).saturating_sub(bytes))).unwrap();
        filler.write_all(&vec![1; usize::try_from(free.saturating_sub(bytes)).unwrap()]).unwrap();
    }

    /// What the twins hold, and what is told of them.
    fn state(&self) -> (BTreeMap<String, Seen>, Vec<String>) {
        let twins = self.desk.json(&["list"]);
        let names: Vec<_> =
            twins.as_array().unwrap().iter().map(|twin| twin["name"].as_str().unwrap().to_owned()).collect();
        let told =
            names.iter().flat_map(|name| ["history", "mod list"].map(|what| (what, name))).map(|(what, name)| {
                let words: Vec<_> = what.split(' ').chain([name.as_str()]).collect();
                self.desk.ok(&words)
            });
        let told = told.chain([self.desk.ok(&["stock", "list"])]).collect();
        (names.into_iter().map(|name| (name.clone(), look(&self.desk.game(&name, "")))).collect(), told)
    }

    /// Tries a command with ever more room, until it is done. Says how often it failed.
    fn until_done(&self, arguments: &[&str]) -> usize {
        self.leave(24 << 20);
        let before = self.state();
        for (tries, bytes) in LEFT.into_iter().enumerate() {
            self.leave(bytes);
            let output = self.desk.run(arguments);
            let said = text(&output.stderr);
            self.leave(24 << 20);
            if output.status.success() {
                assert!(self.desk.ok(&["list"]).lines().count() > 1 && leftovers(&self.desk.at("yard")).is_empty());
                return tries;
            }
            assert!(
                output.status.code() == Some(1) && said.contains("The disk is full"),
                "{arguments:?}, {bytes}: {said}"
            );
            assert!(self.state() == before, "{arguments:?}: something changed with {bytes} left");
            assert_eq!(leftovers(&self.desk.at("yard")), Vec::<std::path::PathBuf>::new(), "{arguments:?}, {bytes}");
        }
        panic!("{arguments:?} needs more room than there is");
    }
}

/// A file that nothing else shares a byte with.
fn fill(path: &Path, dice: &mut Dice, bytes: u64) {
    fs::create_dir_all(path.parent().unwrap()).unwrap();
    fs::write(path, dice.bytes(bytes)).unwrap();
}

#[test]
fn wherever_the_disk_fills_a_command_does_all_or_nothing() {
    let test = "wherever_the_disk_fills_a_command_does_all_or_nothing";
    let outer = Place::new();
    let Some(_small) = small_disk(test, "240m", &outer.at("small")) else { return };
    let mut dice = Dice::new(20_261_128);
    let desk = Desk::bench(Place::below(&outer.at("small")), &["t", "u"], |build| {
        fill(&build.join("data/large.dat"), &mut dice, 2 << 20);
    });
    fill(&desk.at("build/data/of two.dat"), &mut dice, 3 << 20);
    fill(&desk.at("pack/data/of mods.dat"), &mut dice, 3 << 20);
    fill(&desk.at("pack/data/target.txt"), &mut dice, 100);
    let zipped = desk.tool("zip").args(["-qr", "../pack.zip", "."]).current_dir(desk.at("pack")).status();
    assert!(zipped.unwrap().success());
    fill(&desk.game("t", "own/one.sav"), &mut dice, 3 << 20);
    desk.place.give_away();
    let small = Small { desk };
    let commands: [&[&str]; 15] = [
        &["snapshot", "t", "first"],
        &["intake", "build", "--title", "workbench", "--build", "2"],
        &["mod", "add", "pack.zip", "--to", "t", "--into", "game"],
        &["clone", "t", "copy", "--share", "none"],
        &["profile", "set", "t", "note", "what it is for"],
        &["mod", "off", "t", "pack"],
        &["share", "t", "none"],
        &["carry", "saves", "--from", "t", "--to", "u"],
        &["renew", "t", "--stock", "workbench@2", "--leave-rest"],
        &["restore", "t", "first", "--all", "--yes"],
        &["undo", "t", "--yes"],
        &["mod", "remove", "copy", "pack"],
        &["rename", "copy", "other", "--move-folder"],
        &["remove", "other", "--for-good", "--yes"],
        &["sweep"],
    ];
    let failed: Vec<_> = commands.iter().map(|command| small.until_done(command)).collect();
    assert!(failed.iter().filter(|times| **times > 0).count() >= 6, "the disk was full for many of them: {failed:?}");
    let checked = small.desk.run(&["check", "--full"]);
    let said = text(&checked.stdout);
    assert!(matches!(checked.status.code(), Some(0 | 3)) && !said.contains("damaged"), "{said}");
    assert_eq!(small.desk.ok(&["launch", "u", "--", "cat data/target.txt"]), "one\ntwo\nthree\n");
}
