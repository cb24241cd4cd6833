//! Mods in the life of a twin that is played, edited, undone and renewed besides.

use std::fs;

use super::Life;
use crate::support::common::{Seen, assert_same};

impl Life {
    /// A mod is laid over whatever the twin has become: only its own files are its, and turned off at once, nothing is left of
    /// it.
    pub(super) fn lay_mod(&mut self) {
        let (twin, name) = (self.any(), self.mod_name());
        let before = self.twins[&twin].clone();
        let pack = self.pack(&twin, &name);
        if !self.ok_or_shut(&["mod", "add", &name, "--to", &twin, "--into", "game"]) {
            return;
        }
        self.see(&twin);
        let after = self.twins[&twin].clone();
        let theirs = |path: &String| pack.get(path).is_some_and(|what| after.get(path) == Some(what));
        let above =
            |path: &String| after[path].0 == 'd' && pack.keys().any(|file| file.starts_with(&format!("{path}/")));
        for path in before.keys().chain(after.keys()) {
            let same = before.get(path) == after.get(path);
            assert!(same || theirs(path) || above(path), "{path} of {twin} is no file of {name}");
        }
        if self.roll(2) == 0 && self.ok_or_shut(&["mod", "off", &twin, &name]) {
            assert_same(&self.on_disk(&twin), &before, &format!("{twin} once {name} is off"));
            assert!(
                self.ok_or_shut(&["mod", "on", &twin, &name]) && self.on_disk(&twin) == after,
                "{name} is on again"
            );
        }
    }

    /// Mods of a twin are turned off and on, put in another order and taken out, in whatever state they are by now; all but
    /// their own files stay.
    pub(super) fn switch_mods(&mut self) {
        let twin = self.any();
        let names = self.mods(&twin);
        if names.is_empty() {
            return;
        }
        let [name, other] = [(); 2].map(|()| names[self.roll(names.len())].clone());
        let step: &[&str] = match self.roll(4) {
            0 => &["mod", "off", &twin, &name],
            1 => &["mod", "on", &twin, &name],
            2 if name != other => &["mod", "move", &twin, &name, "--over", &other],
            _ => &["mod", "remove", &twin, &name],
        };
        let before = self.twins[&twin].clone();
        if !self.ok_or_shut(step) {
            return;
        }
        self.see(&twin);
        let own = |seen: &Seen| -> Seen {
            seen.iter()
                .filter(|(path, _)| path.starts_with("own/"))
                .map(|(path, what)| (path.clone(), what.clone()))
                .collect()
        };
        assert_eq!(own(&self.twins[&twin]), own(&before), "the saves of {twin}");
    }

    pub(super) fn mods(&self, twin: &str) -> Vec<String> {
        let listed = self.desk.json(&["mod", "list", twin]);
        listed.as_array().unwrap().iter().map(|one| one["name"].as_str().unwrap().to_owned()).collect()
    }

    pub(super) fn mod_name(&mut self) -> String {
        self.made += 1;
        format!("mod{}", self.made)
    }

    /// A package of a few files: some that the twin has, some that it hasn't; never a save.
    pub(super) fn pack(&mut self, twin: &str, name: &str) -> Seen {
        let mut pack = Seen::new();
        for number in 0..1 + self.roll(3) {
            let there = self.file(twin);
            let fits = self.roll(2) == 0 && !there.starts_with("own");
            let path = if fits { there } else { format!("data/of mods {}.dat", self.roll(4)) };
            pack.insert(path, ('f', format!("{name} {number}\n").into_bytes(), false));
        }
        for (path, what) in &pack {
            let file = self.desk.at(name).join(path);
            fs::create_dir_all(file.parent().unwrap()).unwrap();
            fs::write(file, &what.1).unwrap();
        }
        self.log.push(format!("package {name}: {:?}", pack.keys()));
        pack
    }
}
