//! Lives, not steps: twins that are played, patched, edited by hand, killed, undone and renewed, again and again, beside a
//! naive model that only remembers what each of them should hold.
//!
//! A failure prints its seed; `YARDTWIN_SEED=N` lives that one alone. `YARDTWIN_LIVES=N` lives so many.
#![allow(missing_docs, clippy::print_stderr, clippy::unwrap_used)]

mod support;

use std::collections::{BTreeMap, HashSet};
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::PathBuf;
use std::process::Stdio;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use support::common::{Dice, Place, Seen, look};
use support::{Desk, text};

const LIVES: u64 = 60;
const STEPS: u64 = 25;

/// More twins than these take long to look at after each step.
const TWINS: usize = 5;

/// Lives that are lived at the same time.
const TOGETHER: u64 = 2;

/// What a program or a hand does in a game folder; `$f` is a file of it, `$n` a name that is new each time.
const DEEDS: [&str; 14] = [
    "echo more >> \"$f\" || true",
    "echo other > \"$f\" || true",
    "cp \"$f\" new.tmp && echo more >> new.tmp && mv -f new.tmp \"$f\" || true",
    "mkdir -p own && echo $n > own/$n.sav",
    "mkdir -p own && echo again >> own/one.sav || true",
    "rm -f \"$f\" || true",
    "mkdir -p \"sub $n/deep\" && echo $n > \"sub $n/deep/file\"",
    "mv \"$f\" \"moved $n.dat\" || true",
    "mkdir -p own && echo fixed > own/fixed.sav && chmod 444 own/fixed.sav || true",
    "cp \"$f\" own.bin && chmod 755 own.bin || true",
    "mkdir -p shut && echo in > shut/in && chmod 555 shut || true",
    "rm -rf 'sub '* came || true",
    "mkdir -p came && for i in $(seq 64); do echo $i $n > came/$i.so; done",
    "for i in $(seq 9); do [ ! -e came/$i.so ] || : >> came/$i.so; done; [ ! -e came/7.so ] || echo more >> came/7.so || true",
];

struct Life {
    desk: Desk,
    dice: Dice,
    log: Vec<String>,
    /// What each twin's game folder should hold.
    twins: BTreeMap<String, Seen>,
    /// What each held at a snapshot that was kept of it.
    kept: BTreeMap<String, (String, Seen)>,
    made: u64,
}

impl Life {
    fn new(seed: u64) -> Self {
        let fill = |build: &std::path::Path| {
            for number in 0..14 {
                fs::write(build.join(format!("data/part{number}.dat")), format!("part {}\n", number % 10)).unwrap();
            }
            fs::write(build.join("data/large.dat"), vec![7; 1 << 20]).unwrap();
        };
        let desk = Desk::bench(Place::for_launches(), &[], fill);
        fs::write(desk.at("build/data/part1.dat"), "part 1 of another build\n").unwrap();
        fs::write(desk.at("build/data/new.dat"), "new\n").unwrap();
        fs::remove_file(desk.at("build/data/part2.dat")).unwrap();
        desk.place.give_away();
        desk.ok(&["intake", "build", "--title", "workbench", "--build", "2"]);
        let mut life = Self {
            desk,
            dice: Dice::new(seed),
            log: Vec::new(),
            twins: BTreeMap::new(),
            kept: BTreeMap::new(),
            made: 0,
        };
        life.clone_stock();
        life.clone_stock();
        life
    }

    fn roll(&mut self, sides: usize) -> usize {
        usize::try_from(self.dice.roll(sides as u64)).unwrap()
    }

    fn name(&mut self) -> String {
        self.made += 1;
        format!("t{}", self.made)
    }

    fn any(&mut self) -> String {
        let names: Vec<_> = self.twins.keys().cloned().collect();
        let at = self.roll(names.len());
        names[at].clone()
    }

    fn on_disk(&self, twin: &str) -> Seen {
        look(&self.desk.game(twin, ""))
    }

    fn see(&mut self, twin: &str) {
        let seen = self.on_disk(twin);
        self.twins.insert(twin.to_owned(), seen);
    }

    /// A file of a twin, most often one that came with the build.
    fn file(&mut self, twin: &str) -> String {
        let files: Vec<_> = self.twins[twin]
            .iter()
            .filter(|(path, what)| what.0 == 'f' && *path != "bin/do")
            .map(|(path, _)| path.clone())
            .collect();
        if files.is_empty() { "data/none".into() } else { files[self.roll(files.len())].clone() }
    }

    fn run(&mut self, arguments: &[&str]) -> std::process::Output {
        self.log.push(arguments.join(" "));
        self.desk.run(arguments)
    }

    fn ok(&mut self, arguments: &[&str]) {
        let output = self.run(arguments);
        assert!(output.status.success(), "{arguments:?}: {}{}", text(&output.stdout), text(&output.stderr));
    }

    /// As [`Life::ok`]; or, where a folder may not be written that a program has shut, refused, with nothing changed.
    fn ok_or_shut(&mut self, arguments: &[&str]) -> bool {
        let output = self.run(arguments);
        let shut = text(&output.stderr).contains("game/shut: Permission denied");
        assert!(output.status.success() || shut, "{arguments:?}: {}{}", text(&output.stdout), text(&output.stderr));
        output.status.success()
    }

    /// Does something in a folder with an ordinary shell, as the user.
    fn shell(&mut self, folder: PathBuf, script: &str) {
        self.log.push(format!("in {}: {script}", folder.file_name().unwrap().to_string_lossy()));
        let mut tool = self.desk.tool("sh");
        tool.args(["-c", script]).current_dir(folder).stdout(Stdio::null()).stderr(Stdio::null()).status().unwrap();
    }

    fn deed(&mut self, twin: &str) -> String {
        let file = self.file(twin);
        self.made += 1;
        let (deed, made) = (self.roll(DEEDS.len()), self.made);
        format!("f='{file}' n=n{made}; {}", DEEDS[deed])
    }

    fn clone_stock(&mut self) {
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
        // What a run brought is stored once, and nowhere else is a source of its bytes.
        if file.starts_with("came/") {
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
        let how = ["none", "all"][self.roll(2)];
        let commands: [Vec<&str>; 5] = [
            vec!["restore", &twin, "1", "--all", "--yes"],
            vec!["clone", &twin, &new],
            vec!["renew", &twin, "--leave-rest"],
            vec!["show", &twin],
            vec!["share", &twin, how],
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
        self.ok(&["launch", &twin, "--", &deed]);
        self.ok(&["protect", &twin, "--off"]);
        self.see(&twin);
        let game = |seen: &Seen| -> Vec<_> {
            let game = seen.iter().filter(|(path, what)| !path.starts_with("own") && what.0 != 'd');
            game.map(|(path, what)| (path.clone(), what.clone())).collect()
        };
        assert_eq!(game(&self.twins[&twin]), game(&before), "the game files of {twin}, which was protected");
    }

    fn remove(&mut self) {
        if self.twins.len() < 3 {
            return;
        }
        let twin = self.any();
        self.kept.remove(&twin);
        let seen = self.twins.remove(&twin).unwrap();
        match self.roll(3) {
            0 => self.ok(&["remove", &twin, "--for-good", "--yes"]),
            1 => self.ok(&["remove", &twin]),
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

    fn step(&mut self) {
        match self.roll(46) {
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
            _ => {
                // Twins that differ from their build are something to look at.
                let code = self.run(&["check"]).status.code();
                assert!(matches!(code, Some(0 | 3)), "{code:?}");
            }
        }
    }

    /// Every twin is looked at, in whatever order; then all hold what they should, and what left a folder is kept.
    fn settle(&mut self, before: &[(String, Seen)], forgets: bool) {
        let mut names: Vec<_> = self.twins.keys().cloned().collect();
        while !names.is_empty() {
            let at = self.roll(names.len());
            let name = names.swap_remove(at);
            self.ok(&["show", &name]);
        }
        for (name, wanted) in &self.twins {
            let now = self.on_disk(name);
            let differ: Vec<_> =
                wanted.keys().chain(now.keys()).filter(|path| wanted.get(*path) != now.get(*path)).collect();
            assert!(differ.is_empty(), "{name} differs in {differ:?}");
        }
        if !forgets {
            self.nothing_is_lost(before);
        }
        let tmp = fs::read_dir(self.desk.at("yard/tmp")).unwrap().count();
        assert_eq!(tmp, 0, "something is left in tmp");
    }

    fn nothing_is_lost(&self, before: &[(String, Seen)]) {
        let mut pool: Option<HashSet<String>> = None;
        for (name, seen) in before {
            let Some(now) = self.twins.get(name) else { continue };
            for (path, what) in seen.iter().filter(|(path, what)| what.0 == 'f' && now.get(*path) != Some(what)) {
                let pool = pool.get_or_insert_with(|| {
                    look(&self.desk.at("yard/pool"))
                        .into_values()
                        .map(|what| blake3::hash(&what.1).to_string())
                        .collect()
                });
                assert!(pool.contains(&blake3::hash(&what.1).to_string()), "{path} of {name} was lost");
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

fn live(seed: u64) {
    let mut life = Life::new(seed);
    let lived = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| {
        for _ in 0..STEPS {
            let before: Vec<_> = life.twins.clone().into_iter().collect();
            let steps = life.log.len();
            life.step();
            // A write through the guard overwrites the pool's own file: where nothing else has its bytes, they are named as lost.
            let forget = ["--for-good", "sweep", "keep.time"];
            let forgets = life.log[steps..].iter().any(|step| forget.iter().any(|what| step.contains(what)));
            life.settle(&before, forgets);
        }
        let output = life.run(&["check", "--full"]);
        let said = text(&output.stdout);
        assert!(!said.contains("damaged"), "{said}");
    }));
    if let Err(panic) = lived {
        eprintln!("seed {seed}; {}", life.log.join("\n  "));
        std::panic::resume_unwind(panic);
    }
}

#[test]
fn whatever_a_twin_lives_through_each_holds_what_it_should_and_nothing_is_lost() {
    let number = |name: &str| std::env::var(name).ok().map(|text| text.parse::<u64>().unwrap());
    if let Some(seed) = number("YARDTWIN_SEED") {
        return live(seed);
    }
    let (next, lives) = (AtomicU64::new(0), number("YARDTWIN_LIVES").unwrap_or(LIVES));
    std::thread::scope(|scope| {
        for _ in 0..TOGETHER {
            scope.spawn(|| {
                loop {
                    let seed = next.fetch_add(1, Ordering::Relaxed);
                    if seed >= lives {
                        break;
                    }
                    live(seed);
                }
            });
        }
    });
    eprintln!("{lives} lives of {STEPS} steps");
}
