//! Running the real program as an ordinary user, in a place of its own.
#![allow(dead_code, missing_docs, unreachable_pub, clippy::unwrap_used)]

#[path = "../../../yard-twin/tests/common/mod.rs"]
pub mod common;

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};

use common::{Place, as_user};

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
        fs::copy(env!("CARGO_BIN_EXE_yardtwin"), &program).unwrap();
        standins::write_wexcombe(&root.join("installed"), "1.4", &program).unwrap();
        fs::write(root.join("wexcombe.toml"), standins::WEXCOMBE_SHEET).unwrap();
        place.give_away();
        Self { place, program }
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

    /// The JSON answer of a command that must succeed.
    pub fn json(&self, arguments: &[&str]) -> serde_json::Value {
        serde_json::from_str(&self.ok(&[arguments, &["--json"]].concat())).unwrap()
    }
}

pub fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}
