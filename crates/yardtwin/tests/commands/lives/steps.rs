//! What can happen to a twin, a step each: done with the real program, and noted in the model.

use std::collections::{BTreeMap, HashSet};
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::process::Stdio;
use std::time::Duration;

use super::{Life, TWINS};
use crate::support::common::{Seen, assert_same, look};
use crate::support::text;

impl Life {
    pub(super) fn clone_stock(&mut self) {
        if self.twins.len() >= TWINS {
            return self.remove();
        }
        let (name, share) = (self.name(), ["all", "careful", "none"][self.roll(3)]);
        let build = ["workbench@1", "workbench@2"][self.roll(2)];
        self.ok(&["clone", build, &name, "--share", share]);
        self.see(&name);
    }

    fn clone_twin(&mut self) {
        if self.twins.len() >= TWINS {
            return self.remove();
        }
        let (from, name) = (self.any(), self.name());
        self.ok(&["clone", &from, &name]);
        let seen = self.twins[&from].clone();
        self.twins.insert(name, seen);
    }

    /// An edit by hand, which obeys the modes that it finds.
    fn edit(&mut self) {
        let twin = self.any();
        let deed = self.deed(&twin);
        self.shell(self.desk.game(&twin, ""), &deed);
        self.see(&twin);
    }

    /// A write through the guard: where others share the file, everyone has the right bytes again afterwards.
    fn through(&mut self) {
        let twin = self.any();
        let file = self.file(&twin);
        // What a run or a mod brought is stored once, and nowhere else is a source of its bytes.
        let by_mod = self.twins[&twin].get(&file).is_some_and(|what| what.1.starts_with(b"mod"));
        if file.starts_with("came/") || by_mod {
            return;
        }
        let path = self.desk.game(&twin, &file);
        let Ok(inode) = fs::metadata(&path).map(|meta| meta.ino()) else { return };
        let shares = |life: &Self, name: &str| look_inodes(&life.desk.game(name, "")).contains(&inode);
        let others = self.twins.keys().filter(|name| **name != twin && shares(self, name)).count();
        let back =
            ["", "touch -r keep.time \"$f\";", "chmod 444 \"$f\";", "touch -r keep.time \"$f\"; chmod 444 \"$f\";"]
                [self.roll(4)];
        let write = ["printf 'other' | dd of=\"$f\" conv=notrunc status=none", "echo through > \"$f\""][self.roll(2)];
        let script = format!("f='{file}'; touch -r \"$f\" keep.time; chmod u+w \"$f\"; {write}; {back} rm keep.time");
        self.shell(self.desk.game(&twin, ""), &script);
        if others == 0 {
            self.see(&twin);
        }
    }

    /// Modes are no bytes: what is shared keeps its own; a twin that wants a bit gets a file of its own.
    fn mode(&mut self) {
        let twin = self.any();
        let file = self.file(&twin);
        let path = self.desk.game(&twin, &file);
        let Ok(meta) = fs::metadata(&path) else { return };
        let linked = meta.mode() & 0o222 == 0 && meta.nlink() > 1;
        match self.roll(2) {
            0 => {
                self.shell(self.desk.game(&twin, ""), &format!("chmod +x '{file}'"));
                self.ok(&["show", &twin]);
                self.see(&twin);
                assert!(self.twins[&twin][&file].2, "{file} of {twin} is executable");
            }
            _ if linked => self.shell(self.desk.game(&twin, ""), &format!("chmod 000 '{file}'")),
            _ => {}
        }
    }

    /// A launch does in the twin just what the same program does in a plain copy of its folder.
    fn launch(&mut self) {
        let (twin, rung) = (self.any(), ["sealed", "fenced", "redirected"][self.roll(3)]);
        let deeds: Vec<_> = (0..1 + self.roll(3)).map(|_| self.deed(&twin)).collect();
        let script = deeds.join("; ");
        let copy = self.desk.at("copy");
        let game = self.desk.game(&twin, "");
        // A sealed program has a file of its own of each name that it writes to.
        let links = if rung == "sealed" { "--no-preserve=links" } else { "" };
        self.shell(self.desk.root().to_path_buf(), &format!("cp -a {links} '{}' copy", game.display()));
        if rung == "sealed" {
            // There every program may write to what is its user's.
            self.shell(self.desk.root().to_path_buf(), "chmod -R u+w copy");
        }
        self.shell(copy.clone(), &format!("set -e; {script}"));
        let wanted = look(&copy);
        self.shell(self.desk.root().to_path_buf(), "chmod -R u+rwx copy; rm -rf copy");
        let discard = self.roll(5) == 0;
        self.ok(&["profile", "set", &twin, "isolation", rung]);
        let mut arguments = vec!["launch", &twin];
        arguments.extend(discard.then_some("--discard"));
        arguments.extend(["--", &script]);
        self.ok(&arguments);
        if !discard {
            self.twins.insert(twin, wanted);
        }
    }

    /// The launcher, or its keeper, is killed in the middle: what was written by then is taken in by the next command, in
    /// this twin alone.
    fn killed_launch(&mut self) {
        let (twin, rung) = (self.any(), ["sealed", "fenced", "redirected"][self.roll(3)]);
        let script = format!("{}; sleep 5", self.deed(&twin));
        self.ok(&["profile", "set", &twin, "isolation", rung]);
        self.log.push(format!("launch {twin} {rung}, killed: {script}"));
        let mut child = self
            .desk
            .command(&["launch", &twin, "--", &script])
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        std::thread::sleep(Duration::from_millis(40 + self.dice.roll(160)));
        child.kill().unwrap();
        child.wait().unwrap();
        self.until_free(&twin);
        self.see(&twin);
    }

    /// Waits until a twin can be worked with again, and has it settled.
    fn until_free(&mut self, twin: &str) {
        for _ in 0..100 {
            if self.desk.run(&["snapshot", twin, "--dry-run"]).status.code() == Some(0) {
                return;
            }
            std::thread::sleep(Duration::from_millis(30));
        }
        self.ok(&["snapshot", twin, "--dry-run"]);
    }

    /// A command that is killed leaves the twin as it was or as it was to be, and nothing else touched.
    fn killed_command(&mut self) {
        let twin = self.any();
        let new = self.name();
        let (how, name) = (["none", "all"][self.roll(2)], self.mod_name());
        self.pack(&twin, &name);
        let laid = self.mods(&twin).pop().unwrap_or_else(|| "none".into());
        let commands: [Vec<&str>; 8] = [
            vec!["restore", &twin, "1", "--all", "--yes"],
            vec!["clone", &twin, &new],
            vec!["renew", &twin, "--leave-rest"],
            vec!["show", &twin],
            vec!["share", &twin, how],
            vec!["undo", &twin, "--yes"],
            vec!["mod", "add", &name, "--to", &twin, "--into", "game"],
            vec!["mod", "off", &twin, &laid],
        ];
        let at = self.roll(commands.len());
        self.log.push(format!("killed: {}", commands[at].join(" ")));
        let mut child = self.desk.command(&commands[at]).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        std::thread::sleep(Duration::from_millis(self.dice.roll(40)));
        child.kill().unwrap();
        child.wait().unwrap();
        self.until_free(&twin);
        if self.desk.run(&["show", &new]).status.success() {
            let seen = self.twins[&twin].clone();
            self.twins.insert(new, seen);
        }
        if at != 1 {
            self.see(&twin);
        }
    }

    fn snapshot(&mut self) {
        let (twin, label) = (self.any(), format!("s{}", self.made));
        if self.kept.get(&twin).is_some_and(|(kept, _)| *kept == label) {
            return;
        }
        self.ok(&["snapshot", &twin, &label]);
        let seen = self.twins[&twin].clone();
        self.kept.insert(twin, (label, seen));
    }

    fn restore(&mut self) {
        let kept: Vec<_> =
            self.kept.iter().map(|(twin, (label, seen))| (twin.clone(), label.clone(), seen.clone())).collect();
        let Some(at) = (!kept.is_empty()).then(|| self.roll(kept.len())) else { return };
        let (twin, label, seen) = kept[at].clone();
        if self.twins.contains_key(&twin) && self.ok_or_shut(&["restore", &twin, &label, "--all", "--yes"]) {
            self.twins.insert(twin, seen);
        }
    }

    /// What was done by hand just now is taken back, brought back, and taken back.
    fn undo(&mut self) {
        let twin = self.any();
        let before = self.twins[&twin].clone();
        self.shell(self.desk.game(&twin, ""), "mkdir -p own && date +%N > own/by-hand.sav");
        let after = self.on_disk(&twin);
        for there in [&before, &after, &before] {
            if after != before && self.ok_or_shut(&["undo", &twin, "--yes"]) {
                self.twins.insert(twin.clone(), there.clone());
                assert!(self.on_disk(&twin) == *there, "{twin} after an undo");
            }
        }
    }

    /// A renew changes no save.
    fn renew(&mut self) {
        let (twin, build) = (self.any(), ["1", "2"][self.roll(2)]);
        let saves = |seen: &Seen| -> Seen {
            seen.iter()
                .filter(|(path, _)| path.starts_with("own/"))
                .map(|(path, what)| (path.clone(), what.clone()))
                .collect()
        };
        let before = saves(&self.twins[&twin]);
        if self.ok_or_shut(&["renew", &twin, "--stock", &format!("workbench@{build}"), "--leave-rest"]) {
            self.see(&twin);
        }
        assert_eq!(saves(&self.twins[&twin]), before, "the saves of {twin}");
    }

    fn carry(&mut self) {
        let (from, to) = (self.any(), self.any());
        if from == to {
            return;
        }
        let policy = ["skip", "replace", "both"][self.roll(3)];
        self.run(&["carry", "saves", "--from", &from, "--to", &to, "--on-clash", policy]);
        let before = self.twins[&to].clone();
        self.see(&to);
        let mut now = self.twins[&to].clone();
        now.retain(|path, _| !path.starts_with("own"));
        let mut was = before;
        was.retain(|path, _| !path.starts_with("own"));
        assert_eq!(now, was, "a carry of saves touches nothing else");
    }

    /// A protected twin has its game files back after whatever a program did to them, and its saves are the program's.
    fn protected(&mut self) {
        let twin = self.any();
        let before = self.twins[&twin].clone();
        self.ok(&["protect", &twin]);
        let (deed, rung) = (self.deed(&twin), ["sealed", "redirected"][self.roll(2)]);
        self.ok(&["profile", "set", &twin, "isolation", rung]);
        let output = self.run(&["launch", &twin, "--", &deed]);
        let said = text(&output.stderr);
        assert!(output.status.success(), "{said}");
        self.ok(&["protect", &twin, "--off"]);
        self.see(&twin);
        // Into a folder that a program has shut nothing can be put back, which is said.
        if said.contains("could not be taken in") && said.contains("game/shut: Permission denied") {
            return;
        }
        let game = |seen: &Seen| -> Seen {
            let game = seen.iter().filter(|(path, what)| !path.starts_with("own") && what.0 != 'd');
            game.map(|(path, what)| (path.clone(), what.clone())).collect()
        };
        assert_same(
            &game(&self.twins[&twin]),
            &game(&before),
            &format!("the game files of {twin}, which was protected"),
        );
    }

    fn remove(&mut self) {
        if self.twins.len() < 3 {
            return;
        }
        let twin = self.any();
        self.kept.remove(&twin);
        let seen = self.twins.remove(&twin).unwrap();
        match self.roll(4) {
            0 => self.ok(&["remove", &twin, "--for-good", "--yes"]),
            1 => self.ok(&["remove", &twin]),
            2 => {
                let name = self.name();
                self.ok(&["remove", &twin]);
                self.ok(&["restore", &twin, "--as", &name]);
                self.twins.insert(name, seen);
            }
            _ => {
                self.ok(&["remove", &twin]);
                self.ok(&["clone", &twin, &twin]);
                self.twins.insert(twin, seen);
            }
        }
    }

    fn rename(&mut self) {
        let (twin, name) = (self.any(), self.name());
        self.ok(&["rename", &twin, &name, "--move-folder"]);
        let seen = self.twins.remove(&twin).unwrap();
        self.twins.insert(name.clone(), seen);
        if let Some(kept) = self.kept.remove(&twin) {
            self.kept.insert(name, kept);
        }
    }

    fn sweep(&mut self) {
        self.ok(&["sweep"]);
    }

    /// How files share storage is no byte of theirs: seen first or not, for all of a twin or for one folder.
    fn share(&mut self) {
        let (twin, how) = (self.any(), ["none", "careful", "all"][self.roll(3)]);
        let arguments = ["share", &twin, how, "data"];
        let arguments = &arguments[..3 + self.roll(2)];
        if self.roll(3) == 0 {
            self.run(&[arguments, &["--dry-run"]].concat());
        }
        let output = self.run(arguments);
        let said = text(&output.stderr);
        let fine = said.contains("game/shut: Permission denied") || said.contains("there is no file or folder");
        assert!(output.status.success() || fine, "{arguments:?}: {said}");
    }

    /// What is only planned changes nothing, and leaves no line in the history.
    fn plan(&mut self) {
        let twin = self.any();
        let lines = |life: &mut Self| life.desk.json(&["history", &twin]).as_array().unwrap().len();
        let before = lines(self);
        let deed = self.deed(&twin);
        self.shell(self.desk.game(&twin, ""), &deed);
        for arguments in [
            vec!["restore", &twin, "1", "--all"],
            vec!["renew", &twin, "--leave-rest"],
            vec!["remove", &twin],
            vec!["clone", &twin, "planned"],
        ] {
            self.run(&[arguments, vec!["--dry-run"]].concat());
        }
        let deed = self.deed(&twin);
        self.shell(self.desk.game(&twin, ""), &deed);
        self.see(&twin);
        assert!(lines(self) <= before + 1, "two edits with plans in between are one line, if any");
    }

    /// A folder is moved into the yard, and killed now and then: it is all at its source, or all in the yard.
    fn moved(&mut self) {
        let (build, source) = (self.name(), self.desk.at("source"));
        let fill = format!(
            "mkdir -p source/data/empty source/bin && cp -p build/bin/do source/bin && echo {build} > source/data/a.dat && \
             cp source/data/a.dat source/data/b.dat && cp build/data/large.dat source/data && ln source/data/a.dat \
             source/data/c.dat && echo own > source/data/d.dat && chmod 600 source/data/d.dat && : > source/zero"
        );
        self.shell(self.desk.root().to_path_buf(), &fill);
        let (wanted, modes) = (look(&source), modes(&source));
        let arguments = ["intake", "source", "--title", "workbench", "--build", &build, "--move", "--yes"];
        let kill = self.roll(2) == 0;
        self.log.push(format!("{}{}", if kill { "killed: " } else { "" }, arguments.join(" ")));
        let mut command = self.desk.command(&arguments);
        let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        if kill {
            std::thread::sleep(Duration::from_millis(self.dice.roll(60)));
            child.kill().unwrap();
        }
        let ended = child.wait().unwrap();
        assert!(kill || ended.success());
        self.ok(&["list"]);
        let stock = format!("workbench@{build}");
        if self.desk.run(&["stock", "show", &stock]).status.success() {
            assert!(!source.exists(), "what is in the yard has left its source");
            self.ok(&["clone", &stock, "moved"]);
            assert_eq!(self.on_disk("moved"), wanted, "what was moved");
            self.ok(&["remove", "moved", "--for-good", "--yes"]);
            self.ok(&["stock", "remove", &stock]);
        } else {
            assert_eq!((look(&source), self::modes(&source)), (wanted, modes), "the source of what was not moved");
            self.shell(self.desk.root().to_path_buf(), "rm -rf source");
        }
    }

    pub(super) fn step(&mut self) {
        match self.roll(54) {
            0..=1 => self.clone_stock(),
            2..=4 => self.clone_twin(),
            5..=9 => self.edit(),
            10..=13 => self.through(),
            14..=15 => self.mode(),
            16..=23 => self.launch(),
            24..=25 => self.killed_launch(),
            26..=27 => self.killed_command(),
            28..=29 => self.snapshot(),
            30..=31 => self.restore(),
            32 => self.renew(),
            33..=34 => self.carry(),
            35 => self.protected(),
            36 => self.remove(),
            37 => self.rename(),
            38 => self.sweep(),
            39..=41 => self.share(),
            42 => self.plan(),
            43..=44 => self.moved(),
            45 => self.undo(),
            46..=49 => self.lay_mod(),
            50..=52 => self.switch_mods(),
            _ => {
                // Twins that differ from their build are something to look at.
                let code = self.run(&["check"]).status.code();
                assert!(matches!(code, Some(0 | 3)), "{code:?}");
            }
        }
    }
}

/// The modes of files below a folder.
fn modes(folder: &std::path::Path) -> BTreeMap<String, u32> {
    let paths = look(folder).into_keys().map(|path| (folder.join(&path).symlink_metadata().unwrap().mode(), path));
    paths.map(|(mode, path)| (path, mode)).collect()
}

fn look_inodes(folder: &std::path::Path) -> HashSet<u64> {
    let mut inodes = HashSet::new();
    let mut folders = vec![folder.to_path_buf()];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            let meta = path.symlink_metadata().unwrap();
            if meta.is_dir() {
                folders.push(path);
            } else {
                inodes.insert(meta.ino());
            }
        }
    }
    inodes
}
