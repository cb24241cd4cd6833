//! Mods over random lives: whatever is added, turned off and on, moved, updated, removed, adopted, renewed and edited by hand,
//! the folder is what a plain composition says, but for what is the player's own.
//!
//! A failure prints the seed; `YARDTWIN_SEED=N` runs that one alone.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

use crate::common::{Dice, Place, Seen, clone, look, take_in};
use yard_twin::{Ctx, RelPath, Sharing, SnapshotRef, TwinName, Yard, mods, renew, restore};

const CASES: u64 = 260;
const STEPS: u64 = 9;

const FOLDERS: [&str; 4] = ["", "data/", "data/deep/", "extra/"];
const FILES: [&str; 3] = ["a.dat", "b.dat", "c.dat"];
const NAMES: [&str; 4] = ["brass", "night", "hill", "lamp"];

type Tree = BTreeMap<String, String>;
type Own = BTreeMap<String, Option<String>>;

/// A mod, as the test thinks of it.
#[derive(Clone, Debug)]
struct Layer {
    name: String,
    files: Tree,
    removes: BTreeSet<String>,
    on: bool,
}

/// A state that there was: its number, what the folder held, and what the test thought of it.
type Kept = (u32, Tree, Vec<Layer>, &'static str, Own);

struct Life {
    place: Place,
    yard: Yard,
    twin: TwinName,
    dice: Dice,
    stock: BTreeMap<&'static str, Tree>,
    build: &'static str,
    mods: Vec<Layer>,
    /// What the player did last at a path: wrote that, or deleted what was there.
    own: Own,
    written: u64,
    kept: Vec<Kept>,
}

fn any_tree(dice: &mut Dice, what: &str, odds: u64) -> Tree {
    let mut tree = Tree::new();
    for folder in FOLDERS {
        for file in FILES {
            if dice.roll(10) < odds {
                // Some mods bring the same bytes.
                tree.insert(format!("{folder}{file}"), format!("{what} {}", dice.roll(3)));
            }
        }
    }
    tree
}

fn write(root: &Path, tree: &Tree) {
    for (path, text) in tree {
        let path = root.join(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }
}

impl Life {
    fn new(seed: u64) -> Self {
        let place = Place::in_memory();
        let mut dice = Dice::new(seed);
        let yard = Yard::init(place.at("yard")).unwrap();
        let sheet = "title = \"wexcombe\"\nignore_case = false\n";
        fs::write(yard.sheet_path(&"wexcombe".parse().unwrap()), sheet).unwrap();
        let mut stock = BTreeMap::new();
        for build in ["1", "2"] {
            let mut tree = any_tree(&mut dice, "stock", 5);
            tree.insert("data/keep.dat".into(), format!("keep {build}"));
            write(&place.at(build), &tree);
            take_in(&yard, &place.at(build), build).unwrap();
            stock.insert(build, tree);
        }
        clone(&yard, "wexcombe@1", "t", Sharing::Careful).unwrap();
        let (mods, own) = (Vec::new(), BTreeMap::new());
        Self {
            twin: "t".parse().unwrap(),
            place,
            yard,
            dice,
            stock,
            build: "1",
            mods,
            own,
            written: 0,
            kept: Vec::new(),
        }
    }

    fn game(&self) -> PathBuf {
        self.yard.root().join("twins/t/game")
    }

    fn there(&self) -> Tree {
        let seen: Seen = look(&self.game());
        let files = seen.into_iter().filter(|(_, (kind, ..))| *kind == 'f');
        files.map(|(path, (_, bytes, _))| (path, String::from_utf8(bytes).unwrap())).collect()
    }

    /// What a plain composition says.
    fn wanted(&self) -> Tree {
        let mut all = self.stock[self.build].clone();
        for layer in self.mods.iter().filter(|layer| layer.on) {
            all.retain(|path, _| !layer.removes.contains(path));
            all.extend(layer.files.clone());
        }
        all
    }

    fn check(&self, deed: &str) {
        let (there, wanted) = (self.there(), self.wanted());
        let shared: BTreeSet<&str> = FOLDERS[..3].iter().copied().collect();
        for path in there.keys().chain(wanted.keys()).chain(self.own.keys()) {
            let (is, should) = (there.get(path), wanted.get(path));
            let own = self.own.get(path);
            let as_own = own.is_some_and(|own| own.as_ref() == is);
            assert!(is == should || as_own, "{deed}: {path} is {is:?}, wanted {should:?}, own {own:?}");
            // What the player wrote stays, but in a folder that goes with a mod.
            let folder = path.rsplit_once('/').map_or(String::new(), |(folder, _)| format!("{folder}/"));
            if let Some(Some(text)) = own
                && shared.contains(folder.as_str())
                && folder != "data/deep/"
            {
                assert_eq!(is, Some(text), "{deed}: {path} was the player's");
            }
        }
    }

    fn package(&mut self, name: &str) -> (mods::Packed, Tree, BTreeSet<String>) {
        let number = self.dice.roll(1 << 40);
        let root = self.place.at(&format!("packages/{number}"));
        let mut files = any_tree(&mut self.dice, "mod", 3);
        files.insert(format!("extra/{name}.dat"), format!("{name} {number}"));
        let removes: BTreeSet<String> =
            any_tree(&mut self.dice, "", 1).into_keys().filter(|path| !files.contains_key(path)).collect();
        write(&root, &files);
        let listed: Vec<String> = removes.iter().map(|path| format!("\"game/{path}\"")).collect();
        let sheet = self.place.at(&format!("packages/{number}.toml"));
        fs::write(&sheet, format!("name = \"{name}\"\nremove = [{}]\n", listed.join(", "))).unwrap();
        let options = mods::ReadOptions { name: None, sheet: Some(sheet), names: None };
        let packed = mods::read(&self.yard, &[root], &"wexcombe".parse().unwrap(), &options, &Ctx::new()).unwrap();
        (packed, files, removes)
    }

    fn apply(&mut self, plan: &mods::Plan) -> Option<u32> {
        let outcome = mods::apply(&self.yard, plan, &Ctx::new()).unwrap();
        assert!(plan.given_way.is_empty(), "nobody decided that: {:?}", plan.given_way);
        // What the player had deleted and comes back was named.
        for path in &plan.back {
            self.own.remove(path.as_str().strip_prefix("game/").unwrap());
        }
        outcome.number
    }

    fn step(&mut self) -> String {
        let options =
            mods::AddOptions { into: RelPath::new("game").ok(), strip: Some(0), ..mods::AddOptions::default() };
        let ctx = Ctx::new();
        let pick = usize::try_from(self.dice.roll(4)).unwrap();
        let (name, at) = (NAMES[pick], self.mods.iter().position(|layer| layer.name == NAMES[pick]));
        match (self.dice.roll(12), at) {
            (0..=2, None) => {
                let (packed, files, removes) = self.package(name);
                let plan = mods::plan_add(&self.yard, &self.twin, &packed, &options, &ctx).unwrap();
                self.apply(&plan);
                self.mods.push(Layer { name: name.into(), files, removes, on: true });
                format!("add {name}")
            }
            (0..=1, Some(at)) => {
                let (packed, files, removes) = self.package(name);
                let plan = mods::plan_update(&self.yard, (&self.twin, &name.parse().unwrap()), &packed, &options, &ctx);
                self.apply(&plan.unwrap());
                (self.mods[at].files, self.mods[at].removes) = (files, removes);
                format!("update {name}")
            }
            (2..=4, Some(at)) => {
                let on = !self.mods[at].on;
                let names = vec![name.parse().unwrap()];
                let change = if on { mods::Change::On(names) } else { mods::Change::Off(names) };
                self.change(&change);
                self.mods[at].on = on;
                format!("{name} on {on}")
            }
            (5, Some(at)) => {
                self.change(&mods::Change::Remove(vec![name.parse().unwrap()]));
                self.mods.remove(at);
                format!("remove {name}")
            }
            (6, Some(at)) => {
                let other = self.mods[usize::try_from(self.dice.roll(self.mods.len() as u64)).unwrap()].name.clone();
                let moved = self.mods.remove(at);
                let (to, at) = match self.mods.iter().position(|layer| layer.name == other) {
                    None => (mods::To::Top, self.mods.len()),
                    Some(at) => (mods::To::Under(other.parse().unwrap()), at),
                };
                self.change(&mods::Change::Move(name.parse().unwrap(), to));
                self.mods.insert(at, moved);
                format!("move {name}")
            }
            (7, None) => self.adopt(name),
            (8, _) => self.renew(),
            (9, _) => self.go_back(),
            _ => self.by_hand(),
        }
    }

    fn change(&mut self, change: &mods::Change) {
        let plan = mods::plan(&self.yard, &self.twin, change, &mods::Decisions::default(), &Ctx::new()).unwrap();
        self.apply(&plan);
    }

    fn by_hand(&mut self) -> String {
        let folder = FOLDERS[usize::try_from(self.dice.roll(4)).unwrap()];
        let file = FILES[usize::try_from(self.dice.roll(3)).unwrap()];
        let (path, at) = (format!("{folder}{file}"), self.game().join(folder).join(file));
        if self.dice.roll(3) == 0 && at.exists() {
            fs::remove_file(&at).unwrap();
            self.own.insert(path.clone(), None);
            return format!("delete {path}");
        }
        self.written += 1;
        let text = format!("mine {}", self.written);
        fs::create_dir_all(at.parent().unwrap()).unwrap();
        // A shipped file may be shared: whoever writes makes a new one, as editors do.
        fs::remove_file(&at).ok();
        fs::write(&at, &text).unwrap();
        self.own.insert(path.clone(), Some(text));
        format!("write {path}")
    }

    fn adopt(&mut self, name: &str) -> String {
        let (there, wanted) = (self.there(), self.wanted());
        let name_of = name.parse().unwrap();
        let options = mods::AdoptOptions::default();
        match mods::plan_adopt(&self.yard, (&self.twin, &name_of), &options, &Ctx::new()) {
            Err(yard_twin::Error::Mod(yard_twin::ModError::NothingToAdopt(_))) => {
                assert_eq!(there, wanted);
                return "nothing to adopt".into();
            }
            plan => drop(self.apply(&plan.unwrap())),
        }
        assert_eq!(self.there(), there, "adopting moves nothing");
        let files = there.iter().filter(|(path, text)| wanted.get(*path) != Some(*text));
        let files: Tree = files.map(|(path, text)| (path.clone(), text.clone())).collect();
        let removes = wanted.into_keys().filter(|path| !there.contains_key(path)).collect();
        self.own.clear();
        self.mods.push(Layer { name: name.into(), files, removes, on: true });
        format!("adopt {name}")
    }

    fn renew(&mut self) -> String {
        let next = if self.build == "1" { "2" } else { "1" };
        let stock = Some(format!("wexcombe@{next}").parse().unwrap());
        let options = renew::Options { stock, rest: Some(renew::Rest::Keep), ..renew::Options::default() };
        let plan = renew::plan(&self.yard, &self.twin, &options, &Ctx::new()).unwrap();
        for path in &plan.back {
            self.own.remove(path.as_str().strip_prefix("game/").unwrap());
        }
        renew::apply(&self.yard, &plan, &Ctx::new()).unwrap();
        self.build = next;
        format!("renew to {next}")
    }

    /// Restores a state that there was before, all of it.
    fn go_back(&mut self) -> String {
        if self.kept.is_empty() {
            return "nothing to go back to".into();
        }
        let at = usize::try_from(self.dice.roll(self.kept.len() as u64)).unwrap();
        let (number, tree, layers, build, own) = self.kept[at].clone();
        let options =
            restore::Options { to: Some(SnapshotRef::Number(number)), all: true, ..restore::Options::default() };
        restore::apply(&self.yard, &restore::plan(&self.yard, &self.twin, &options, &Ctx::new()).unwrap(), &Ctx::new())
            .unwrap();
        assert_eq!(self.there(), tree, "as it was at {number}");
        (self.mods, self.build, self.own) = (layers, build, own);
        format!("back to {number}")
    }

    fn keep(&mut self) {
        let ctx = Ctx::new();
        let listed: Vec<(String, bool)> = mods::list(&self.yard, &self.twin, &ctx)
            .unwrap()
            .into_iter()
            .map(|one| (one.name.to_string(), one.on))
            .collect();
        let layers: Vec<(String, bool)> = self.mods.iter().map(|layer| (layer.name.clone(), layer.on)).collect();
        assert_eq!(listed, layers);
        let snapshot = yard_twin::snapshot::plan(&self.yard, &self.twin, None, &ctx);
        let number = yard_twin::snapshot::apply(&self.yard, &snapshot.unwrap(), &ctx).unwrap().number;
        self.kept.push((number, self.there(), self.mods.clone(), self.build, self.own.clone()));
    }
}

fn live(seed: u64) {
    let mut life = Life::new(seed);
    let mut deeds = Vec::new();
    for step in 0..STEPS {
        let deed = life.step();
        deeds.push(deed.clone());
        life.check(&format!("seed {seed}, step {step}, {}", deeds.join("; ")));
        if life.dice.roll(3) == 0 {
            life.keep();
        }
    }
    let names: Vec<_> = life.mods.iter().map(|layer| layer.name.parse().unwrap()).collect();
    life.change(&mods::Change::Remove(names));
    life.mods.clear();
    life.check(&format!("seed {seed}, all removed, {}", deeds.join("; ")));
}

fn lives(seeds: std::ops::Range<u64>) {
    if let Some(seed) = std::env::var("YARDTWIN_SEED").ok().and_then(|seed| seed.parse().ok()) {
        return live(seed);
    }
    seeds.for_each(live);
}

#[test]
fn what_is_laid_is_what_a_plain_composition_says_first_half() {
    lives(0..CASES);
}

#[test]
fn what_is_laid_is_what_a_plain_composition_says_second_half() {
    lives(CASES..2 * CASES);
}
