//! Running the real program as an ordinary user, in a place of its own.

#[allow(dead_code, reason = "the rest of it is what the tests of the library use")]
#[path = "../../../../yard-twin/tests/library/common/mod.rs"]
pub mod common;
pub mod hills;

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};

use common::{Place, as_user, skip};

/// The title of the bench: it keeps what is worth something in `own/`.
const BENCH: &str = "\
title = \"workbench\"
[programs.play]
path = { any = \"bin/do\" }
[paths]
live = [\"game/own/**\", \"home/.config/bench/**\"]
[belongings.saves]
patterns = [\"game/own/*.sav\"]
";

/// A place with the program in it, a home, and a build of the made-up game in `installed`.
pub struct Desk {
    pub place: Place,
    program: PathBuf,
}

impl Desk {
    pub fn new() -> Self {
        Self::named("desk")
    }

    /// Everything lies below a folder of that name.
    pub fn named(folder: &str) -> Self {
        Self::at_place(Place::new(), folder)
    }

    /// Everything lies below a folder of that name in `place`.
    pub fn at_place(place: Place, folder: &str) -> Self {
        let root = place.at(folder);
        fs::create_dir_all(root.join("home")).unwrap();
        let program = root.join("yardtwin");
        copy_of_the_program(&program);
        standins::write_wexcombe(&root.join("installed"), "1.4", &program).unwrap();
        fs::write(root.join("wexcombe.toml"), standins::WEXCOMBE_SHEET).unwrap();
        place.give_away();
        Self { place, program }
    }

    /// With a yard of a title whose program does what it is told, as a shell command, and twins of it. `fill` adds to the
    /// build.
    pub fn bench(place: Place, twins: &[&str], fill: impl FnOnce(&Path)) -> Self {
        let desk = Self::at_place(place, "bench");
        let build = desk.at("build");
        fs::create_dir_all(build.join("bin")).unwrap();
        fs::create_dir_all(build.join("data")).unwrap();
        fs::write(build.join("bin/do"), "#!/bin/sh\nt=data/target.txt p=$PWD/parts\nset -e\neval \"$1\"\n").unwrap();
        fs::set_permissions(build.join("bin/do"), fs::Permissions::from_mode(0o755)).unwrap();
        fs::write(build.join("data/target.txt"), "one\ntwo\nthree\n").unwrap();
        fill(&build);
        fs::write(desk.at("workbench.toml"), BENCH).unwrap();
        desk.place.give_away();
        desk.ok(&["init"]);
        desk.ok(&["sheet", "add", "workbench.toml"]);
        desk.ok(&["intake", "build", "--title", "workbench", "--build", "1"]);
        for twin in twins {
            desk.ok(&["clone", "workbench@1", twin, "--share", "all"]);
        }
        desk
    }

    /// Launches a twin of the bench that does what `script` says, and gives its report.
    pub fn does(&self, twin: &str, script: &str, options: &[&str]) -> serde_json::Value {
        let output = self.run(&[&["launch", twin, "--json"], options, &["--", script]].concat());
        let report = serde_json::from_slice(&output.stdout);
        report.unwrap_or_else(|_| panic!("{script}: {}{}", text(&output.stdout), text(&output.stderr)))
    }

    /// With a yard in `yard`, the build taken in, and twins of it.
    pub fn with_twins(names: &[&str]) -> Self {
        let desk = Self::new();
        desk.ok(&["init"]);
        desk.ok(&["sheet", "add", "wexcombe.toml"]);
        desk.ok(&["intake", "installed", "--title", "wexcombe"]);
        for name in names {
            desk.ok(&["clone", "wexcombe@1.4", name]);
        }
        desk
    }

    pub fn root(&self) -> &Path {
        self.program.parent().unwrap()
    }

    pub fn at(&self, path: &str) -> PathBuf {
        self.root().join(path)
    }

    pub fn game(&self, twin: &str, path: &str) -> PathBuf {
        self.at("yard/twins").join(twin).join("game").join(path)
    }

    /// The program with arguments, as an ordinary user with nothing in the environment but a home.
    pub fn command(&self, arguments: &[&str]) -> Command {
        let mut command = self.tool(&self.program);
        command.args(arguments);
        command
    }

    /// Any program in the same surroundings.
    pub fn tool(&self, program: impl AsRef<std::ffi::OsStr>) -> Command {
        let mut command = as_user(program);
        command
            .current_dir(self.root())
            .env_clear()
            .env("PATH", std::env::var_os("PATH").unwrap_or_default())
            .env("HOME", self.at("home"))
            .env("YARDTWIN_YARD", self.at("yard"))
            .env("TZ", "UTC")
            .stdin(Stdio::null());
        command
    }

    pub fn run(&self, arguments: &[&str]) -> Output {
        self.command(arguments).output().unwrap()
    }

    /// Runs a command that must succeed, and gives its answer.
    pub fn ok(&self, arguments: &[&str]) -> String {
        let output = self.run(arguments);
        assert!(output.status.success(), "{arguments:?}: {}", text(&output.stderr));
        text(&output.stdout)
    }

    /// Runs a command that must end with `code`, and gives what it complained about.
    pub fn fails(&self, code: i32, arguments: &[&str]) -> String {
        let output = self.run(arguments);
        let complaint = text(&output.stderr);
        assert_eq!(output.status.code(), Some(code), "{arguments:?}: {complaint}{}", text(&output.stdout));
        complaint
    }

    /// All commands that there are, by their help.
    pub fn commands(&self) -> Vec<String> {
        let mut all = Vec::new();
        self.commands_of(&[], &mut all);
        all
    }

    fn commands_of(&self, of: &[&str], into: &mut Vec<String>) {
        let help = self.ok(&[of, &["--help"]].concat());
        let list =
            help.lines().skip_while(|line| *line != "Commands:").skip(1).take_while(|line| line.starts_with("  "));
        let names = list.filter(|line| !line.starts_with("   ")).filter_map(|line| line.split_whitespace().next());
        let names: Vec<&str> = names.filter(|name| *name != "help").collect();
        if names.is_empty() {
            into.push(of.join(" "));
        }
        names.into_iter().for_each(|name| self.commands_of(&[of, &[name]].concat(), into));
    }

    /// The JSON answer of a command that must succeed.
    pub fn json(&self, arguments: &[&str]) -> serde_json::Value {
        serde_json::from_str(&self.ok(&[arguments, &["--json"]].concat())).unwrap()
    }
}

/// A small filesystem in memory at a place, which is made; where there can be none, the test is skipped.
pub fn small_disk(test: &str, size: &str, at: &Path) -> Option<Mounted> {
    fs::create_dir_all(at).unwrap();
    let mounted = mount(&["-t", "tmpfs", "-o", &format!("size={size},mode=777"), "none"], at);
    if mounted.is_none() {
        skip(test, "mounting takes root, and a tmpfs");
    }
    mounted
}

/// Mounts something until what it gives is dropped; `None` where that can't be.
pub fn mount(arguments: &[&str], at: &Path) -> Option<Mounted> {
    let mounted = Command::new("mount").args(arguments).arg(at).output().ok()?;
    mounted.status.success().then(|| Mounted(at.into()))
}

/// Something mounted at a place, for as long as this is there.
pub struct Mounted(PathBuf);

impl Drop for Mounted {
    fn drop(&mut self) {
        // A process that another test is just starting has its files open, too, for a moment.
        let _ = Command::new("umount").arg("--lazy").arg(&self.0).status();
    }
}

/// Copies the program. Not by this process: one that another test is just starting would have the copy open for writing, too,
/// and what is open so can't be started.
pub fn copy_of_the_program(to: &Path) {
    assert!(Command::new("cp").arg(env!("CARGO_BIN_EXE_yardtwin")).arg(to).status().unwrap().success());
}

pub fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}
