//! `demo`: a yard from made-up data, and the first steps in it, command by command.

use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::process::{Command, ExitCode};

use super::Done;
use super::check::FOUND;
use crate::fail::Failure;
use crate::screen::{Screen, shell};

/// Where the demo happens.
struct Stage<'a> {
    dir: PathBuf,
    program: PathBuf,
    screen: &'a Screen,
}

pub(crate) fn run(dir: Option<PathBuf>, screen: &Screen) -> Done {
    let dir = dir.unwrap_or_else(free_folder);
    let dir = std::path::absolute(&dir).map_err(|error| Failure::io("find", &dir, &error))?;
    if dir.exists() {
        return Err(Failure::refused(
            format!("{} is there already", dir.display()),
            "The demo wants a folder that doesn't exist yet.",
        ));
    }
    let program =
        std::env::current_exe().map_err(|error| Failure::failed(format!("this program can't find itself: {error}")))?;
    let stage = Stage { dir, program, screen };
    stage.set()?;
    stage.play()?;
    Ok(ExitCode::SUCCESS)
}

fn free_folder() -> PathBuf {
    let numbered = (2..).map(|number| PathBuf::from(format!("yardtwin-demo-{number}")));
    std::iter::once(PathBuf::from("yardtwin-demo")).chain(numbered).find(|path| !path.exists()).unwrap_or_default()
}

impl Stage<'_> {
    /// Writes the data: a store client with nothing fetched yet, and the sheets.
    fn set(&self) -> Result<(), Failure> {
        let write = |path: PathBuf, text: &str| {
            fs::create_dir_all(path.parent().unwrap_or(&self.dir))
                .and_then(|()| fs::write(&path, text))
                .map_err(|error| Failure::io("write", &path, &error))
        };
        write(self.dir.join("sheets/wexcombe.toml"), standins::WEXCOMBE_SHEET)?;
        write(self.dir.join("sheets/pellwick.toml"), standins::PELLWICK_SHEET)?;
        let client = self.dir.join("store/parcelgate");
        fs::create_dir_all(self.dir.join("store"))
            .and_then(|()| fs::copy(&self.program, &client))
            .map_err(|error| Failure::io("write", &client, &error))?;
        let emulator = self.dir.join("downloads/pellwick-3");
        standins::write_pellwick(&emulator, "3.1", &self.program)
            .map_err(|error| Failure::io("write", &emulator, &error))?;
        let downloads = self.dir.join("downloads");
        standins::write_mods(&downloads).map_err(|error| Failure::io("write", &downloads, &error))
    }

    fn play(&self) -> Result<(), Failure> {
        let installed = "store/Wexcombe Junction";
        self.tell("The store client has fetched the old build, and it has been played a little.");
        self.stand_in("store/parcelgate", &["store", "old line"])?;
        self.stand_in("store/Wexcombe Junction/bin/wexcombe", &["--shifts", "2"])?;

        self.tell(
            "A yard is made, the title is described by a sheet, and the folder is taken in, without what was played.",
        );
        self.yardtwin(&["init"])?;
        self.yardtwin(&["sheet", "add", "sheets/wexcombe.toml"])?;
        self.yardtwin(&["intake", installed, "--title", "wexcombe", "--channel", "old line", "--leave-out", "shifts"])?;

        self.tell("The store client fetches the next build over it. It is taken in too: only what differs is stored.");
        self.stand_in("store/parcelgate", &["store", "main line"])?;
        self.yardtwin(&[
            "intake",
            installed,
            "--title",
            "wexcombe",
            "--channel",
            "main line",
            "--leave-out",
            "shifts",
        ])?;
        self.yardtwin(&["stock", "list"])?;

        self.tell("Of each build a twin is made, and each is started.");
        if self.as_root() {
            self.screen.line("(You are root, whom no read-only file stops: copies are the default then, and the demo asks for links.)");
        }
        self.clone("wexcombe@1.4", "evening shift")?;
        self.clone("wexcombe@2.0", "main")?;
        self.yardtwin(&["launch", "evening shift", "--", "--shifts", "2"])?;
        self.yardtwin(&["profile", "set", "evening shift", "--file", "panel.ini", "video.width", "2560"])?;
        let exchanges = "wexcombe main exchange 7001\nbarnley east exchange 7002\n";
        self.write("yard/twins/evening shift/game/cabin/exchanges.lst", exchanges)?;
        self.write("yard/twins/evening shift/game/boards/brass/board.txt", "board brass\nlevers 36\n")?;

        self.tell(
            "What was played and set up goes over to the new build. Boards that it ships anew are not to be replaced: \
             its sheet says so.",
        );
        let groups = ["carry", "shifts", "settings", "exchanges", "boards", "--from", "evening shift", "--to", "main"];
        self.yardtwin(&groups)?;
        self.yardtwin(&["launch", "main"])?;

        self.tell("Something has spoiled the twin. It is renewed around what is the player's; what nobody can explain is asked about.");
        self.write("yard/twins/main/game/scenery/hills.wjp", "spoiled\n")?;
        self.refused(&["renew", "main"])?;
        self.yardtwin(&["renew", "main", "--leave-rest"])?;

        self.mods()?;

        self.tell("A twin can be cloned as it is now, with its shifts, to try something out.");
        self.clone("evening shift", "brass signals")?;
        self.yardtwin(&["profile", "set", "brass signals", "note", "to try the brass signals"])?;
        self.write("yard/twins/brass signals/game/signals/brass.txt", "brass signals\n")?;
        self.yardtwin(&["launch", "brass signals"])?;
        self.yardtwin(&["show", "brass signals"])?;

        self.tell("What has changed since, and is everything as it should be?");
        self.finds(&["diff", "wexcombe@1.4", "brass signals"])?;
        self.finds(&["check", "brass signals"])?;

        self.tell(
            "What changed a twin is in its history, and can be undone: the signals go, what was played since stays.",
        );
        self.yardtwin(&["history", "brass signals"])?;
        self.yardtwin(&["restore", "brass signals", "--yes"])?;
        self.tell("The restore can be undone too.");
        self.yardtwin(&["restore", "brass signals", "--yes"])?;

        self.tell("Launch entries start each twin from a menu; here they go into a folder of the demo's.");
        self.yardtwin(&["entry", "add", "evening shift", "--folder", "menu"])?;
        self.yardtwin(&["entry", "add", "main", "--folder", "menu"])?;
        self.yardtwin(&["entry", "list"])?;

        self.tell("An emulator that nobody has described is taken in as well: a sheet is drafted.");
        self.yardtwin(&["intake", "downloads/pellwick-3", "--title", "pellwick", "--build", "3.1"])?;
        self.clone("pellwick@3.1", "micro")?;
        self.yardtwin(&["launch", "micro"])?;

        self.tell("Does it keep to its own folder? A start that is watched shows what escapes, and a sheet knows what keeps it in.");
        self.finds(&["check", "micro", "--start"])?;
        self.yardtwin(&["sheet", "add", "sheets/pellwick.toml", "--replace"])?;
        self.yardtwin(&["check", "micro", "--start", "--fix"])?;
        self.yardtwin(&["history", "micro", "--runs"])?;

        self.tell("Three builds and four twins: what do they take on disk, and what would deleting one free?");
        self.yardtwin(&["list", "--space"])?;

        self.tell("What is not wanted any more is removed; it stays until it is forgotten.");
        self.yardtwin(&["remove", "brass signals"])?;
        self.yardtwin(&["list"])?;
        self.tell("The yard stays for you to play with:");
        self.screen.line(format_args!("  cd {}", shell(&self.dir.join("yard").display())));
        self.screen.line("  yardtwin list");
        Ok(())
    }

    fn mods(&self) -> Result<(), Failure> {
        let of_hill_line = |number: u8| format!("downloads/hill line {number} of 3.zip");
        let parts = [1, 2, 3].map(of_hill_line);
        let [one, two, three] = parts.each_ref().map(String::as_str);
        self.tell("Mods were downloaded: a set of boards in a wrapping folder, and rules that go inside the game's own archive.");
        self.yardtwin(&["mod", "add", "downloads/brass boards v3.zip", "--to", "main"])?;
        self.yardtwin(&["mod", "add", "downloads/night rules.zip", "--to", "main"])?;
        self.tell("An overhaul comes in three parts, and one is missing. It is for the new build only.");
        self.fails(&["mod", "add", one, three, "--to", "main"])?;
        self.yardtwin(&["mod", "add", one, two, three, "--to", "main"])?;
        self.refused(&["mod", "add", one, two, three, "--to", "evening shift"])?;
        self.tell("Any of them is turned off, and on again; what lay below comes back.");
        self.yardtwin(&["mod", "off", "main", "night rules"])?;
        self.yardtwin(&["mod", "on", "main", "night rules"])?;
        self.tell("What was dropped in by hand becomes a mod too, and nothing moves.");
        self.write("yard/twins/main/game/signals/copper.txt", "copper signals\n")?;
        self.yardtwin(&["mod", "adopt", "main", "copper signals"])?;
        self.tell("A tool that writes into the folder it is started in is run on the twin, and what it did is a mod.");
        self.yardtwin(&["tool", "main", "--as-mod", "lamp kit", "--", "downloads/lamp kit/install"])?;
        self.tell("Something doesn't go together: with both, the game would not start. Which of them is it?");
        self.finds(&[
            "mod",
            "trial",
            "main",
            "--run",
            "test ! -e scenery/lamps.txt || test ! -e signals/hill/one.wjg",
        ])?;
        self.yardtwin(&["mod", "list", "main"])?;
        self.yardtwin(&["launch", "main"])
    }

    /// Whether a write to a read-only file is refused to nobody here.
    fn as_root(&self) -> bool {
        fs::metadata(&self.dir).is_ok_and(|meta| meta.uid() == 0)
    }

    /// Clones so that storage is shared, whoever runs this.
    fn clone(&self, source: &str, name: &str) -> Result<(), Failure> {
        let shared: &[&str] = if self.as_root() { &["--share", "all"] } else { &[] };
        self.yardtwin(&[&["clone", source, name], shared].concat())
    }

    fn tell(&self, text: &str) {
        self.screen.line("");
        self.screen.head(format_args!("# {text}"));
    }

    fn write(&self, path: &str, text: &str) -> Result<(), Failure> {
        self.screen.line(format_args!("$ printf {} > {}", shell(&text.replace('\n', "\\n")), shell(path)));
        let path = self.dir.join(path);
        // As an editor saves: a new file, put in the place of the old one.
        let temp = path.with_extension("new");
        fs::write(&temp, text)
            .and_then(|()| fs::rename(&temp, &path))
            .map_err(|error| Failure::io("write", &path, &error))
    }

    /// Shows a command of this program's, runs it in the demo's folder, and lets it answer.
    fn yardtwin(&self, arguments: &[&str]) -> Result<(), Failure> {
        self.run("yardtwin", Command::new(&self.program).args(arguments), arguments)
    }

    /// As [`Stage::yardtwin`], for a command that finds something.
    fn finds(&self, arguments: &[&str]) -> Result<(), Failure> {
        self.run_to("yardtwin", Command::new(&self.program).args(arguments), arguments, FOUND)
    }

    /// As [`Stage::yardtwin`], for a command that can't be done.
    fn fails(&self, arguments: &[&str]) -> Result<(), Failure> {
        self.run_to("yardtwin", Command::new(&self.program).args(arguments), arguments, 1)
    }

    /// As [`Stage::yardtwin`], for a command that is refused to protect data.
    fn refused(&self, arguments: &[&str]) -> Result<(), Failure> {
        self.run_to("yardtwin", Command::new(&self.program).args(arguments), arguments, 4)
    }

    fn stand_in(&self, program: &str, arguments: &[&str]) -> Result<(), Failure> {
        let home = self.dir.join("your home");
        fs::create_dir_all(&home).map_err(|error| Failure::io("make", &home, &error))?;
        let mut command = Command::new(self.dir.join(program));
        command.args(arguments).env("HOME", &home).env_remove("XDG_CONFIG_HOME");
        self.run(program, &mut command, arguments)
    }

    fn run(&self, name: &str, command: &mut Command, arguments: &[&str]) -> Result<(), Failure> {
        self.run_to(name, command, arguments, 0)
    }

    fn run_to(&self, name: &str, command: &mut Command, arguments: &[&str], code: u8) -> Result<(), Failure> {
        let words: Vec<_> = std::iter::once(name).chain(arguments.iter().copied()).map(shell).collect();
        self.screen.line(format_args!("$ {}", words.join(" ")));
        let program = Path::new(command.get_program()).to_path_buf();
        let status = command.current_dir(&self.dir).env("YARDTWIN_YARD", self.dir.join("yard")).status();
        match status {
            Ok(status) if status.code() == Some(code.into()) => Ok(()),
            Ok(status) => Err(Failure::failed(format!("the demo stops: {} ended with {status}", words.join(" ")))),
            Err(error) => Err(Failure::io("start", &program, &error)),
        }
    }
}
