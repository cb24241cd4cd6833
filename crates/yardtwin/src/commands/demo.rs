//! `demo`: a yard from made-up data, and the first steps in it, command by command.

use std::cell::Cell;
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::process::{Command, ExitCode};

use super::Done;
use super::check::FOUND;
use crate::fail::Failure;
use crate::screen::{Screen, plain, shell};

/// Where the demo happens.
struct Stage {
    dir: PathBuf,
    program: PathBuf,
    screen: Screen,
    seen: Cell<Seen>,
}

/// How the demo is wished for.
pub(crate) struct Wish {
    pub(crate) dir: Option<PathBuf>,
    /// Only this chapter, counted from 1; those before it are gone through unseen.
    pub(crate) chapter: Option<usize>,
    /// Only what each chapter is about.
    pub(crate) quiet: bool,
}

/// How much is seen.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Seen {
    All,
    Titles,
    Nothing,
}

/// A part of the story: what it is about, what happens, and what that has shown.
struct Chapter {
    title: &'static str,
    play: fn(&Stage) -> Result<(), Failure>,
    shown: &'static str,
}

const CHAPTERS: [Chapter; 8] = [
    Chapter {
        title: "Two builds of one game are taken in",
        play: Stage::builds,
        shown: "both builds are in the yard, what they have in common is stored once, and your own files were left out",
    },
    Chapter {
        title: "A twin of each build is made and played",
        play: Stage::twins,
        shown: "twins take moments and next to no space, and each has its own saves and settings",
    },
    Chapter {
        title: "What was played goes over to the new build",
        play: Stage::belongings,
        shown: "belongings move by name and are verified, and a spoiled twin is renewed around them",
    },
    Chapter {
        title: "Mods",
        play: Stage::mods,
        shown: "archives end up in the right place, each mod can be turned off again, and the culprit is found by trying",
    },
    Chapter {
        title: "Trying something out, and going back",
        play: Stage::trying,
        shown: "every change is in the history and can be undone, and so can the undo",
    },
    Chapter {
        title: "Starting twins from a menu",
        play: Stage::entries,
        shown: "each twin has an entry of its own, which starts that twin and no other",
    },
    Chapter {
        title: "An emulator that nobody has described",
        play: Stage::emulator,
        shown: "an unknown program works too, and a watched start shows whether it keeps to its own folder",
    },
    Chapter {
        title: "What it all takes",
        play: Stage::space,
        shown: "three builds and four twins share their storage, and what is removed can come back",
    },
];

pub(crate) fn run(wish: Wish, screen: &Screen) -> Done {
    let only = wish.chapter;
    if only.is_some_and(|number| number == 0 || number > CHAPTERS.len()) {
        let message = format!("the demo has chapters 1 to {}", CHAPTERS.len());
        return Err(Failure::usage(message, "yardtwin demo --chapter 1"));
    }
    if screen.is_json() {
        return Err(Failure::usage("a story is no JSON", "yardtwin demo"));
    }
    let dir = wish.dir.unwrap_or_else(free_folder);
    let dir = std::path::absolute(&dir).map_err(|error| Failure::io("find", &dir, &error))?;
    if dir.exists() {
        return Err(Failure::refused(
            format!("{} is there already", dir.display()),
            "The demo wants a folder that doesn't exist yet.",
        ));
    }
    let program =
        std::env::current_exe().map_err(|error| Failure::failed(format!("this program can't find itself: {error}")))?;
    let seen = if wish.quiet { Seen::Titles } else { Seen::All };
    let stage = Stage { dir, program, screen: *screen, seen: Cell::new(seen) };
    stage.set()?;
    for (number, chapter) in (1..).zip(&CHAPTERS).take(only.unwrap_or(CHAPTERS.len())) {
        let shown = only.is_none_or(|only| only == number);
        stage.seen.set(if shown { seen } else { Seen::Nothing });
        stage.chapter(number, chapter)?;
    }
    stage.ends(only);
    Ok(ExitCode::SUCCESS)
}

fn free_folder() -> PathBuf {
    let numbered = (2..).map(|number| PathBuf::from(format!("yardtwin-demo-{number}")));
    std::iter::once(PathBuf::from("yardtwin-demo")).chain(numbered).find(|path| !path.exists()).unwrap_or_default()
}

impl Stage {
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

    fn chapter(&self, number: usize, chapter: &Chapter) -> Result<(), Failure> {
        if self.seen.get() != Seen::Nothing {
            self.screen.line("");
            self.screen.head(format_args!("{number}  {}", chapter.title));
        }
        (chapter.play)(self)?;
        if self.seen.get() != Seen::Nothing {
            self.screen.facts(&[("shown", format!("{}.", chapter.shown))]);
        }
        Ok(())
    }

    /// Says what is there now.
    fn ends(&self, only: Option<usize>) {
        let next = only.filter(|only| *only < CHAPTERS.len());
        self.screen.line("");
        self.screen.head("The folder stays for you to play with; the guide in the README goes on from here");
        self.screen.facts(&[
            ("go there", format!("cd {}", shell(&self.dir.display()))),
            ("its yard", "yardtwin --yard yard list".into()),
            ("next chapter", next.map(|only| format!("yardtwin demo --chapter {}", only + 1)).unwrap_or_default()),
        ]);
    }

    fn builds(&self) -> Result<(), Failure> {
        let installed = "store/Wexcombe Junction";
        self.tell("The store client has fetched the old build, and it has been played a little.");
        self.stand_in("store/parcelgate", &["store", "old line"])?;
        self.stand_in("store/Wexcombe Junction/bin/wexcombe", &["--shifts", "2"])?;

        self.tell("Make a yard, describe the title by a sheet, and take the folder in, without what was played.");
        self.yardtwin(&["init"])?;
        self.yardtwin(&["sheet", "add", "sheets/wexcombe.toml"])?;
        self.yardtwin(&["intake", installed, "--title", "wexcombe", "--channel", "old line", "--leave-out", "shifts"])?;

        self.tell("The store client fetches the next build over it. Take that in too: only what differs is stored.");
        self.stand_in("store/parcelgate", &["store", "main line"])?;
        let main_line = ["intake", installed, "--title", "wexcombe", "--channel", "main line", "--leave-out", "shifts"];
        self.yardtwin(&main_line)?;
        self.yardtwin(&["stock", "list"])
    }

    fn twins(&self) -> Result<(), Failure> {
        if self.as_root() && self.seen.get() == Seen::All {
            self.screen.line("(You are root, whom no read-only file stops: copies are the default then, and the demo asks for links.)");
        }
        self.clone("wexcombe@1.4", "evening shift")?;
        self.clone("wexcombe@2.0", "main")?;
        self.yardtwin(&["launch", "evening shift", "--", "--shifts", "2"])?;
        self.yardtwin(&["profile", "set", "evening shift", "--file", "panel.ini", "video.width", "2560"])?;
        let exchanges = "wexcombe main exchange 7001\nbarnley east exchange 7002\n";
        self.write("yard/twins/evening shift/game/cabin/exchanges.lst", exchanges)?;
        self.write("yard/twins/evening shift/game/boards/brass/board.txt", "board brass\nlevers 36\n")
    }

    fn belongings(&self) -> Result<(), Failure> {
        self.tell("Boards that the new build ships anew are not to be replaced: the title's sheet says so.");
        let groups = ["carry", "shifts", "settings", "exchanges", "boards", "--from", "evening shift", "--to", "main"];
        self.yardtwin(&groups)?;
        self.yardtwin(&["launch", "main"])?;

        self.tell(
            "Something has spoiled the twin. Renew it around your own files; what nobody can explain is asked about.",
        );
        self.write("yard/twins/main/game/scenery/hills.wjp", "spoiled\n")?;
        self.refused(&["renew", "main"])?;
        self.yardtwin(&["renew", "main", "--leave-rest"])
    }

    fn trying(&self) -> Result<(), Failure> {
        self.tell("Clone a twin as it is now, with its shifts, to try something out.");
        self.clone("evening shift", "brass signals")?;
        self.yardtwin(&["profile", "set", "brass signals", "note", "to try the brass signals"])?;
        self.write("yard/twins/brass signals/game/signals/brass.txt", "brass signals\n")?;
        self.yardtwin(&["launch", "brass signals"])?;
        self.yardtwin(&["show", "brass signals"])?;

        self.tell("What has changed since, and is everything as it should be?");
        self.finds(&["diff", "wexcombe@1.4", "brass signals"])?;
        self.finds(&["check", "brass signals"])?;

        self.tell("Go back: the signals go, what was played since stays.");
        self.yardtwin(&["history", "brass signals"])?;
        self.yardtwin(&["restore", "brass signals", "--yes"])?;
        self.tell("The restore can be undone too.");
        self.yardtwin(&["restore", "brass signals", "--yes"])
    }

    fn entries(&self) -> Result<(), Failure> {
        self.tell("They go into a folder of the demo's here, not into your menu.");
        self.yardtwin(&["entry", "add", "evening shift", "--folder", "menu"])?;
        self.yardtwin(&["entry", "add", "main", "--folder", "menu"])?;
        self.yardtwin(&["entry", "list"])
    }

    fn emulator(&self) -> Result<(), Failure> {
        self.tell("Taken in without a sheet, it gets a draft of one.");
        self.yardtwin(&["intake", "downloads/pellwick-3", "--title", "pellwick", "--build", "3.1"])?;
        self.clone("pellwick@3.1", "micro")?;
        self.yardtwin(&["launch", "micro"])?;

        self.tell(
            "Does it keep to its own folder? A watched start shows what escapes, and a sheet knows what keeps it in.",
        );
        self.finds(&["check", "micro", "--start"])?;
        self.yardtwin(&["sheet", "add", "sheets/pellwick.toml", "--replace"])?;
        self.yardtwin(&["check", "micro", "--start", "--fix"])?;
        self.yardtwin(&["history", "micro", "--runs"])
    }

    fn space(&self) -> Result<(), Failure> {
        self.tell("What do they take on disk, and what would deleting one free?");
        self.yardtwin(&["list", "--space"])?;
        self.tell("Remove what is not wanted any more: it stays for a while.");
        self.yardtwin(&["remove", "brass signals"])?;
        self.yardtwin(&["list"])
    }

    fn mods(&self) -> Result<(), Failure> {
        let of_hill_line = |number: u8| format!("downloads/hill line {number} of 3.zip");
        let parts = [1, 2, 3].map(of_hill_line);
        let [one, two, three] = parts.each_ref().map(String::as_str);
        self.tell(
            "Add what was downloaded: boards in a wrapping folder, and rules that go inside the game's own archive.",
        );
        self.yardtwin(&["mod", "add", "downloads/brass boards v3.zip", "--to", "main"])?;
        self.yardtwin(&["mod", "add", "downloads/night rules.zip", "--to", "main"])?;
        self.tell("An overhaul comes in three parts, and one is missing. It is for the new build only.");
        self.fails(&["mod", "add", one, three, "--to", "main"])?;
        self.yardtwin(&["mod", "add", one, two, three, "--to", "main"])?;
        self.refused(&["mod", "add", one, two, three, "--to", "evening shift"])?;
        self.tell("Turn one off, and on again; what lay below comes back.");
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
        if self.seen.get() == Seen::All {
            self.screen.line("");
            self.screen.head(format_args!("# {text}"));
        }
    }

    /// Shows what is typed.
    fn types(&self, command: &str) {
        if self.seen.get() == Seen::All {
            self.screen.line(format_args!("$ {command}"));
        }
    }

    fn write(&self, path: &str, text: &str) -> Result<(), Failure> {
        self.types(&format!("printf {} > {}", shell(&text.replace('\n', "\\n")), shell(path)));
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
        self.types(&words.join(" "));
        let program = Path::new(command.get_program()).to_path_buf();
        command.current_dir(&self.dir).env("YARDTWIN_YARD", self.dir.join("yard"));
        let ended = if self.seen.get() == Seen::All {
            command.status().map(|status| (status, Vec::new()))
        } else {
            command.output().map(|output| (output.status, output.stderr))
        };
        match ended {
            Ok((status, _)) if status.code() == Some(code.into()) => Ok(()),
            Ok((status, said)) => {
                // What was not to be seen, until it went wrong.
                self.screen.aside(String::from_utf8_lossy(&said).lines().map(plain).collect::<Vec<_>>().join("\n"));
                Err(Failure::failed(format!("the demo stops: {} ended with {status}", words.join(" "))))
            }
            Err(error) => Err(Failure::io("start", &program, &error)),
        }
    }
}
