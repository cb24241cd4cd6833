//! Random sequences of everything that can be done, against a model that just remembers.
//!
//! A failure prints the seed; `YARDTWIN_SEED=N` runs that one alone.

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::path::{Path, PathBuf};

use crate::common::{Dice, Place, Seen, assert_same, by_itself, clone, leftovers, look, take_in};
use yard_twin::{
    Class, Ctx, Sharing, SnapshotRef, TwinName, What, Yard, history, remove, restore, show, snapshot, sweep,
};

const SEQUENCES: u64 = 1000;
const STEPS: u64 = 14;

/// Sequences at work at the same time.
const TOGETHER: u64 = 2;

/// What should be there: what each stock build and each twin holds.
#[derive(Default)]
struct Model {
    stock: BTreeMap<String, Seen>,
    twins: BTreeMap<String, Seen>,
    removed: BTreeMap<String, Seen>,
    /// What each twin held at the numbers of its history that were looked at.
    past: BTreeMap<String, BTreeMap<u32, Seen>>,
}

struct World {
    place: Place,
    yard: Yard,
    model: Model,
    dice: Dice,
    log: Vec<String>,
}

fn twin(name: &str) -> TwinName {
    name.parse().unwrap()
}

fn pick<'a, T>(dice: &mut Dice, from: &'a [T]) -> Option<&'a T> {
    (!from.is_empty()).then(|| &from[usize::try_from(dice.roll(from.len() as u64)).unwrap()])
}

/// All files and links below a folder, by their full paths.
fn files(root: &Path) -> Vec<PathBuf> {
    look(root).iter().filter(|(_, what)| what.0 != 'd').map(|(path, _)| root.join(path)).collect()
}

impl World {
    fn new(seed: u64) -> Self {
        let place = Place::in_memory();
        drop(Yard::init(place.at("yard")).unwrap());
        if seed % 2 == 1 {
            // A yard that keeps next to nothing, so that a sweep has much to do.
            let path = place.at("yard/yard.toml");
            let settings = fs::read_to_string(&path).unwrap();
            let (first, _) = settings.split_once("[keep]").unwrap();
            let keep = "[keep]\nstates = 2\ndays = 0\nremoved_days = 0\ngrace_days = 0\n";
            fs::write(&path, format!("{first}{keep}")).unwrap();
        }
        let yard = Yard::open(place.at("yard")).unwrap();
        let mut world = Self { place, yard, model: Model::default(), dice: Dice::new(seed), log: Vec::new() };
        fs::create_dir_all(world.place.at("source/bin")).unwrap();
        for number in 0..6 {
            fs::write(world.place.at(&format!("source/file{number}.dat")), format!("content {}", number % 4)).unwrap();
        }
        fs::write(world.place.at("source/bin/game"), "#!/bin/sh\n").unwrap();
        fs::set_permissions(world.place.at("source/bin/game"), fs::Permissions::from_mode(0o755)).unwrap();
        world.intake();
        world
    }

    fn twin_names(&self) -> Vec<String> {
        self.model.twins.keys().cloned().collect()
    }

    fn some_twin(&mut self) -> Option<String> {
        let names = self.twin_names();
        pick(&mut self.dice, &names).cloned()
    }

    /// What an installer, an editor or a file manager does in a folder: nothing that a read-only file refuses.
    fn edit(&mut self, root: &Path) {
        let all = files(root);
        let number = self.dice.roll(1000);
        let new = root.join(format!("new{number}"));
        match (self.dice.roll(8), pick(&mut self.dice, &all)) {
            (0, Some(file)) => fs::remove_file(file).unwrap(),
            (1, Some(file)) => fs::rename(file, &new).unwrap(),
            (2 | 3, Some(file)) => {
                fs::write(&new, format!("edited {number}")).unwrap();
                fs::rename(&new, file).unwrap();
            }
            (4, Some(file)) if file.symlink_metadata().is_ok_and(|meta| meta.is_file()) => {
                fs::copy(file, &new).unwrap();
            }
            (5, Some(file)) => symlink(file.file_name().unwrap(), &new).unwrap(),
            (6, _) => fs::create_dir(&new).unwrap_or_default(),
            _ => fs::write(&new, format!("written {number}")).unwrap_or_default(),
        }
    }

    fn intake(&mut self) {
        let source = self.place.at("source");
        let label = format!("b{}", self.dice.roll(4));
        let name = format!("wexcombe@{label}");
        self.log.push(format!("intake {label}"));
        let taken = take_in(&self.yard, &source, &label);
        match self.model.stock.get(&name) {
            Some(there) if *there != look(&source) => assert_eq!(taken.unwrap_err().class(), Class::Refused),
            _ => {
                taken.unwrap();
                self.model.stock.insert(name, look(&source));
            }
        }
    }

    fn clone(&mut self) {
        let sharing = [Sharing::All, Sharing::Careful, Sharing::None][usize::try_from(self.dice.roll(3)).unwrap()];
        let sources: Vec<String> = [&self.model.stock, &self.model.twins, &self.model.removed]
            .iter()
            .flat_map(|map| map.keys())
            .cloned()
            .collect();
        let source = pick(&mut self.dice, &sources).unwrap().clone();
        let name = format!("t{}", self.dice.roll(6));
        self.log.push(format!("clone {source} {name} {sharing:?}"));
        let made = clone(&self.yard, &source, &name, sharing);
        if self.model.twins.contains_key(&name) {
            assert_eq!(made.unwrap_err().class(), Class::Refused);
            return;
        }
        made.unwrap();
        let holds = match (self.model.stock.get(&source), self.model.twins.get(&source)) {
            (Some(stock), _) => stock.iter().map(|(path, what)| (format!("game/{path}"), what.clone())).collect(),
            (_, Some(twin)) => twin.clone(),
            _ => self.model.removed[&source].clone(),
        };
        self.model.twins.insert(name.clone(), holds);
        self.remember(&name);
    }

    /// What the newest line of a twin's history stands for is what the twin holds now.
    fn remember(&mut self, name: &str) -> u32 {
        let history = history::entries(&self.yard, &twin(name), &Ctx::new()).unwrap();
        let newest = history[0].number;
        self.model.past.entry(name.into()).or_default().insert(newest, self.model.twins[name].clone());
        newest
    }

    fn snapshot(&mut self) {
        let Some(name) = self.some_twin() else { return };
        let plan = snapshot::plan(&self.yard, &twin(&name), None, &Ctx::new()).unwrap();
        let made = snapshot::apply(&self.yard, &plan, &Ctx::new()).unwrap();
        self.log.push(format!("snapshot {name} {}", made.number));
        assert_eq!(self.remember(&name), made.number);
    }

    /// Goes back to any state that is still kept: all of it, or the game around what is in the home now.
    fn restore(&mut self) {
        let Some(name) = self.some_twin() else { return };
        self.remember(&name);
        let history = history::entries(&self.yard, &twin(&name), &Ctx::new()).unwrap();
        let kept: Vec<u32> = history.iter().map(|entry| entry.number).collect();
        let known: Vec<u32> = self.model.past[&name].keys().copied().filter(|number| kept.contains(number)).collect();
        let number = *pick(&mut self.dice, &known).unwrap();
        let all = self.dice.roll(2) == 0;
        self.log.push(format!("restore {name} {number} all {all}"));
        let options = restore::Options { to: Some(SnapshotRef::Number(number)), all, ..restore::Options::default() };
        let plan = restore::plan(&self.yard, &twin(&name), &options, &Ctx::new()).unwrap();
        let done = restore::apply(&self.yard, &plan, &Ctx::new()).unwrap();
        assert!(done.late.is_empty() && done.set_aside.is_empty());
        let mut holds = self.model.past[&name][&number].clone();
        if !all {
            holds.retain(|path, _| path.starts_with("game/"));
            let now = self.model.twins[&name].iter().filter(|(path, _)| path.starts_with("home/"));
            holds.extend(now.map(|(path, what)| (path.clone(), what.clone())));
        }
        self.model.twins.insert(name.clone(), holds);
        self.remember(&name);
    }

    /// Afterwards everything that the policy keeps is as it was; snapshots are kept by every policy.
    fn sweep(&mut self) {
        self.log.push("sweep".into());
        let snapshots = |yard: &Yard, name: &str| -> Vec<u32> {
            let history = history::entries(yard, &twin(name), &Ctx::new()).unwrap();
            history.iter().filter(|entry| entry.what == What::Snapshot).map(|entry| entry.number).collect()
        };
        let before: Vec<_> = self.twin_names().iter().map(|name| snapshots(&self.yard, name)).collect();
        let plan = sweep::plan(&self.yard, &Ctx::new()).unwrap();
        let swept = sweep::apply(&self.yard, &plan, &Ctx::new()).unwrap();
        assert_eq!(swept.missing, None);
        let after: Vec<_> = self.twin_names().iter().map(|name| snapshots(&self.yard, name)).collect();
        assert_eq!(before, after);
        let listed: Vec<String> =
            show::twins(&self.yard, true).unwrap().iter().map(|twin| twin.name.to_string()).collect();
        assert!(swept.policy.removed_days == 0 || self.model.removed.keys().all(|name| listed.contains(name)));
        if swept.policy.removed_days == 0 {
            self.model.removed.clear();
        }
    }

    fn edit_twin(&mut self) {
        let Some(name) = self.some_twin() else { return };
        let root = if self.dice.roll(4) == 0 { "home" } else { "game" };
        self.log.push(format!("edit {name}"));
        self.edit(&self.place.at(&format!("yard/twins/{name}/{root}")));
        self.model.twins.insert(name.clone(), self.on_disk(&name));
    }

    fn show(&mut self) {
        let Some(name) = self.some_twin() else { return };
        self.log.push(format!("show {name}"));
        let twin = show::twin(&self.yard, &twin(&name), &Ctx::new()).unwrap();
        let files = self.model.twins[&name].values().filter(|what| what.0 == 'f').count() as u64;
        assert_eq!(twin.summary.totals.files, files);
        assert!(twin.leaks.is_empty() && twin.not_taken.is_empty());
    }

    fn remove(&mut self) {
        let Some(name) = self.some_twin() else { return };
        let plan = remove::plan(&self.yard, &twin(&name), &Ctx::new()).unwrap();
        let holds = self.model.twins.remove(&name).unwrap();
        self.model.past.remove(&name);
        if self.dice.roll(3) == 0 {
            self.log.push(format!("forget {name}"));
            remove::let_go(&self.yard, &plan, &Ctx::new()).unwrap();
        } else {
            self.log.push(format!("remove {name}"));
            remove::apply(&self.yard, &plan, &Ctx::new()).unwrap();
            self.model.removed.insert(name, holds);
        }
    }

    /// The game and the home of a twin, as they are.
    fn on_disk(&self, name: &str) -> Seen {
        let mut seen = look(&self.place.at(&format!("yard/twins/{name}")));
        seen.retain(|path, _| path.starts_with("game/") || path.starts_with("home/"));
        seen
    }

    fn step(&mut self) {
        match self.dice.roll(15) {
            0 => {
                self.edit(&self.place.at("source"));
                self.intake();
            }
            1..=3 => self.clone(),
            4..=6 => self.edit_twin(),
            7 => self.show(),
            8 => self.remove(),
            9 | 10 => self.snapshot(),
            11 | 12 => self.restore(),
            13 => self.sweep(),
            _ => {
                self.log.push("reopen".into());
                self.yard = Yard::open(self.place.at("yard")).unwrap();
            }
        }
    }

    /// Every twin is as the model says, and so are every stock build and every removed twin, by a clone of it.
    fn check(&self, thoroughly: bool) {
        let names: Vec<_> = show::twins(&self.yard, false).unwrap().iter().map(|twin| twin.name.to_string()).collect();
        assert_eq!(names, self.twin_names());
        for (name, holds) in &self.model.twins {
            assert_same(holds, &self.on_disk(name), name);
        }
        if thoroughly {
            for (source, holds) in &self.model.stock {
                let made = clone(&self.yard, source, "checked", Sharing::None).unwrap();
                assert_same(holds, &look(&made.folder.join("game")), source);
                self.forget_checked();
            }
            for (name, holds) in self.model.removed.iter().filter(|(name, _)| !self.model.twins.contains_key(*name)) {
                clone(&self.yard, name, "checked", Sharing::All).unwrap();
                assert_same(holds, &self.on_disk("checked"), name);
                self.forget_checked();
            }
            assert!(leftovers(&self.place.at("yard")).is_empty());
        }
    }

    fn forget_checked(&self) {
        let plan = remove::plan(&self.yard, &twin("checked"), &Ctx::new()).unwrap();
        remove::let_go(&self.yard, &plan, &Ctx::new()).unwrap();
    }
}

fn run(seed: u64) {
    let mut world = World::new(seed);
    let outcome = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| {
        for step in 0..STEPS {
            world.step();
            world.check(step + 1 == STEPS);
        }
    }));
    if let Err(panic) = outcome {
        eprintln!("YARDTWIN_SEED={seed}, after {:#?}", world.log);
        std::panic::resume_unwind(panic);
    }
}

#[test]
fn whatever_is_done_everything_is_as_a_model_that_just_remembers() {
    by_itself("model::whatever_is_done_everything_is_as_a_model_that_just_remembers", || {
        if let Ok(seed) = std::env::var("YARDTWIN_SEED") {
            return run(seed.parse().unwrap());
        }
        std::thread::scope(|scope| {
            for first in 0..TOGETHER {
                scope.spawn(move || (first..SEQUENCES).step_by(2).for_each(run));
            }
        });
    });
}
