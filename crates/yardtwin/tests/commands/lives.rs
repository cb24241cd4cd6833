//! Lives, not steps: twins that are played, patched, edited by hand, killed, undone and renewed, again and again, beside a
//! naive model that only remembers what each of them should hold.
//!
//! A failure prints its seed; `YARDTWIN_SEED=N` lives that one alone. `YARDTWIN_LIVES=N` lives so many.

mod mods;
mod steps;
use std::collections::{BTreeMap, HashMap, HashSet};
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::sync::atomic::{AtomicU64, Ordering};

use crate::support::common::{Dice, Place, Seen, look};
use crate::support::{Desk, text};
use serde_json::Value;

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
    "mkdir -p came && for i in $(seq 64); do echo $i $n > came/$i.so || true; done",
    "for i in $(seq 9); do [ ! -e came/$i.so ] || true >> came/$i.so || true; done; [ ! -e came/7.so ] || echo more >> came/7.so || true",
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

    /// Every twin is looked at, in whatever order; then all hold what they should, and what left a folder is kept.
    fn settle(&mut self, before: &[(String, Seen)], forgets: bool) {
        let mut names: Vec<_> = self.twins.keys().cloned().collect();
        while !names.is_empty() {
            let at = self.roll(names.len());
            let name = names.swap_remove(at);
            self.log.push(format!("show {name}"));
            self.takes_what_it_says(&name, &self.desk.json(&["show", &name]));
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
        let tmp = self.desk.at("yard/tmp");
        let left: Vec<_> = look(&tmp).into_keys().collect();
        assert!(left.is_empty(), "left in tmp: {left:?}, which these have open: {:?}", who_has_open(&tmp));
    }

    /// What a twin is said to take is what its inodes take, of which others have a name where it has not all of them.
    fn takes_what_it_says(&self, name: &str, shown: &Value) {
        let folder = self.desk.at(&format!("yard/twins/{name}"));
        let (mut by_hand, mut own, mut shared) = (0, 0, 0);
        let mut inodes = HashMap::<(u64, u64), (u64, fs::Metadata)>::new();
        let paths = look(&folder).into_keys().map(|path| folder.join(path)).chain([folder.clone()]);
        for meta in paths.map(|path| path.symlink_metadata().unwrap()) {
            by_hand += meta.blocks() * 512;
            inodes.entry((meta.dev(), meta.ino())).or_insert((0, meta)).0 += 1;
        }
        for (names, meta) in inodes.into_values() {
            let elsewhere = !meta.is_dir() && meta.nlink() > names;
            *(if elsewhere { &mut shared } else { &mut own }) += meta.blocks() * 512;
        }
        // Shared blocks are more than one inode's.
        if shown["shares"]["reflinked"]["files"] == 0 {
            let said = ["copied_by_hand", "own", "shared"].map(|field| shown["space"][field].as_u64().unwrap());
            assert_eq!(said, [by_hand, own, shared], "what {name} takes");
        }
    }

    /// A list of all says of each twin what is said of it alone.
    fn all_take_what_each_takes(&self) {
        let all = self.desk.json(&["list", "--space"]);
        let twins = all["twins"].as_array().unwrap();
        assert_eq!(twins.len(), self.twins.len());
        for twin in twins {
            let name = twin["name"].as_str().unwrap();
            assert_eq!(*twin, self.desk.json(&["show", name])["space"], "what {name} takes");
        }
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

/// The command lines of processes that have something below a folder open.
fn who_has_open(folder: &Path) -> Vec<String> {
    let below = |entry: fs::DirEntry| fs::read_link(entry.path()).is_ok_and(|path| path.starts_with(folder));
    let has = |process: &Path| fs::read_dir(process.join("fd")).is_ok_and(|open| open.flatten().any(below));
    let processes = fs::read_dir("/proc").unwrap().flatten().map(|entry| entry.path());
    let said = |process: PathBuf| fs::read_to_string(process.join("cmdline")).unwrap_or_default().replace('\0', " ");
    processes.filter(|process| has(process)).map(said).collect()
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
        life.all_take_what_each_takes();
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
