//! A program at a terminal: one of its own, at each rung, as a player at a shell sees it.

use std::fs::File;
use std::io::{Read, Write};
use std::os::fd::AsFd;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use crate::support::common::{Place, skip};
use crate::support::{Desk, text};
use rustix::event::{PollFd, PollFlags, Timespec};
use rustix::pty::OpenptFlags;
use rustix::termios::{LocalModes, Winsize};

const RUNGS: [&str; 3] = ["sealed", "fenced", "redirected"];

/// A window with a shell in it.
struct Window {
    shell: Child,
    end: File,
    drawn: Vec<u8>,
}

impl Window {
    fn open(desk: &Desk, words: &[&str]) -> Self {
        let flags = OpenptFlags::RDWR | OpenptFlags::NOCTTY | OpenptFlags::CLOEXEC;
        let end = rustix::pty::openpt(flags).unwrap();
        rustix::pty::unlockpt(&end).unwrap();
        let theirs = rustix::pty::ioctl_tiocgptpeer(&end, flags).unwrap();
        let stream = || Stdio::from(theirs.try_clone().unwrap());
        let mut shell = desk.tool("setsid");
        shell.args(["--ctty", "--wait"]).args(words).env("PS1", "ready> ").env("TERM", "xterm");
        let shell = shell.stdin(stream()).stdout(stream()).stderr(stream()).spawn().unwrap();
        let window = Self { shell, end: end.into(), drawn: Vec::new() };
        window.resize(30, 100);
        window
    }

    fn shell(desk: &Desk) -> Self {
        let mut window = Self::open(desk, &["bash", "--norc", "--noprofile", "--noediting", "-i"]);
        window.until("ready> ");
        window
    }

    fn resize(&self, rows: u16, columns: u16) {
        let size = Winsize { ws_row: rows, ws_col: columns, ws_xpixel: 0, ws_ypixel: 0 };
        rustix::termios::tcsetwinsize(&self.end, size).unwrap();
    }

    fn keys(&self, keys: &str) {
        (&self.end).write_all(keys.as_bytes()).unwrap();
    }

    /// Types a command, and leaves behind what the terminal shows of that.
    fn types(&mut self, command: &str) {
        self.keys(&format!("{command}\n"));
        self.until(command.rsplit(' ').next().unwrap());
    }

    /// What is drawn until `mark` is, and that.
    fn until(&mut self, mark: &str) -> String {
        self.within(Duration::from_secs(60), mark).unwrap_or_else(|| {
            let last = &self.drawn[self.drawn.len().saturating_sub(1000)..];
            panic!("{mark:?} is not drawn, but {:?}", text(last))
        })
    }

    /// For programs that take a moment to see that something has happened to them.
    fn keeps_pressing(&mut self, keys: &str, mark: &str) {
        let tried = (0..30).any(|_| {
            self.keys(keys);
            self.within(Duration::from_secs(2), mark).is_some()
        });
        assert!(tried, "{mark:?} is not drawn, but {:?}", text(&self.drawn));
    }

    fn within(&mut self, time: Duration, mark: &str) -> Option<String> {
        let until = Instant::now() + time;
        loop {
            let found = self.drawn.windows(mark.len()).position(|part| part == mark.as_bytes());
            if let Some(at) = found {
                return Some(text(&self.drawn.drain(..at + mark.len()).collect::<Vec<_>>()));
            }
            if Instant::now() > until {
                return None;
            }
            let second = Timespec { tv_sec: 1, tv_nsec: 0 };
            let mut waiting = [PollFd::from_borrowed_fd(self.end.as_fd(), PollFlags::IN)];
            if rustix::event::poll(&mut waiting, Some(&second)).unwrap() > 0 {
                let mut bytes = [0; 4096];
                let read = (&self.end).read(&mut bytes).unwrap_or_else(|_| panic!("{mark:?}: {}", text(&self.drawn)));
                self.drawn.extend(&bytes[..read]);
            }
        }
    }

    /// Whether the player's keys are a program's, all of them.
    fn is_raw(&self) -> bool {
        !rustix::termios::tcgetattr(&self.end).unwrap().local_modes.contains(LocalModes::ICANON)
    }

    fn becomes_raw(&self, raw: bool) {
        let until = Instant::now() + Duration::from_secs(20);
        while self.is_raw() != raw {
            assert!(Instant::now() < until, "raw: {raw}");
            std::thread::sleep(Duration::from_millis(10));
        }
    }
}

impl Drop for Window {
    fn drop(&mut self) {
        let _ = self.shell.kill();
        let _ = self.shell.wait();
    }
}

#[test]
fn a_narrow_terminal_gets_lines_that_fit_and_whole_paths() {
    let desk = bench();
    let mut window = Window::shell(&desk);
    window.resize(30, 44);
    window.keys("./yardtwin list; ./yardtwin show a; ./yardtwin diff workbench@1 a; echo that is a''ll\n");
    let said = window.until("that is all");
    let said: String = said.split("\u{1b}[").map(|part| part.split_once('m').map_or(part, |(_, rest)| rest)).collect();
    assert!(said.contains("  title "), "rows become blocks: {said}");
    assert!(said.contains(desk.game("a", "").to_str().unwrap().trim_end_matches('/')), "{said}");
    let too_long = |line: &&str| line.chars().count() > 44 && line.split(' ').all(|word| word.len() < 20);
    // (The first line is what was typed.)
    let found: Vec<_> = said.lines().skip(1).map(str::trim_end).filter(too_long).collect();
    assert!(found.is_empty(), "{found:?}");
}

fn bench() -> Desk {
    Desk::bench(Place::for_launches(), &["a"], |build| {
        let lines: String = (1..=500).map(|line| format!("line {line}\n")).collect();
        std::fs::write(build.join("data/lines.txt"), lines).unwrap();
        // One process: a shell that is just starting another can not be stopped.
        let ticks = "$| = 1; for (1..$ARGV[0]) { print \"tick $_\\n\"; select(undef, undef, undef, 0.05) }";
        std::fs::write(build.join("ticks"), ticks).unwrap();
    })
}

/// Sets the rung, where it can be had.
fn at_rung(desk: &Desk, rung: &str, test: &str) -> bool {
    desk.ok(&["profile", "set", "a", "isolation", rung]);
    let tried = desk.run(&["launch", "a", "--dry-run"]);
    if !tried.status.success() {
        skip(&format!("{test}, {rung}"), text(&tried.stderr).trim());
    }
    tried.status.success()
}

#[test]
fn keys_stop_a_program_continue_and_end_it_and_its_window_changes_size() {
    let desk = bench();
    for rung in RUNGS {
        if !at_rung(&desk, rung, "keys_stop_a_program_continue_and_end_it_and_its_window_changes_size") {
            continue;
        }
        let mut window = Window::shell(&desk);
        window.types("./yardtwin launch a -- 'stty size; exec perl ticks 999'");
        assert!(window.until("30 100").contains(rung));
        window.until("tick");
        assert!(window.is_raw());
        window.keys("\x1a");
        window.until("Stopped");
        window.until("ready> ");
        assert!(!window.is_raw(), "{rung}");
        window.types("jobs");
        assert!(!window.until("ready> ").contains("\ntick"), "{rung}: it is stopped itself");
        window.types("bg");
        window.until("tick");
        window.types("echo typed");
        window.until("typed");
        window.types("fg");
        window.becomes_raw(true);
        window.until("tick");
        window.keys("\x03");
        assert!(window.until("ended after").contains("^C"), "{rung}");
        assert!(window.until("output").contains("by signal 2"), "{rung}");
        window.until("ready> ");

        window.types(
            "./yardtwin launch a -- 'trap \"stty size; exit 7\" WINCH; stty size; while :; do sleep 0.05; done'",
        );
        window.until("30 100");
        window.resize(41, 123);
        window.until("41 123");
        window.until("with exit code 7");
        window.until("ready> ");
        // What it leaves behind ends with the next Ctrl-C.
        window.types("./yardtwin launch a -- 'sleep 600 & echo started'");
        window.until("what it started goes on");
        window.becomes_raw(false);
        window.keys("\x03");
        window.until("ended after");
        window.until("ready> ");
        // What isn't a terminal for the launcher is none for the program, which still has a keyboard.
        window.types("echo sent | ./yardtwin launch a -- 'cat; test -t 0 || echo none; test -t 1 && read x < /dev/tty; echo got=$x'");
        window.until("sent\r\nnone");
        window.keys("typed\n");
        window.until("got=typed");
        window.until("ready> ");
        // Where another program reads what it says, the keyboard is that one's.
        window.types(
            "./yardtwin launch a -- 'test -t 0 || echo none; sleep 1' | { read x; read y < /dev/tty; echo $x,$y; }",
        );
        window.until("has no input");
        assert!(!window.is_raw(), "{rung}");
        window.keys("typed\n");
        window.until("none,typed");
        window.until("ready> ");
        window.types("./yardtwin launch a -- 'test -t 1 || seq 1 20000' > seen");
        window.until("ended after");
        window.until("ready> ");
        let seen = std::fs::read_to_string(desk.at("seen")).unwrap();
        assert_eq!(seen.lines().count(), 20_000, "{rung}");
        window.types("./yardtwin launch a -- 'seq 1 20000'");
        assert_eq!(
            window.until("ended after").lines().filter(|line| line.parse::<u32>().is_ok()).count(),
            20_000,
            "{rung}"
        );
    }
}

#[test]
fn a_launcher_that_is_killed_leaves_the_terminal_as_it_was() {
    let desk = bench();
    desk.ok(&["clone", "a", "victim"]);
    for rung in RUNGS {
        desk.ok(&["profile", "set", "victim", "isolation", rung]);
        if !at_rung(&desk, rung, "a_launcher_that_is_killed_leaves_the_terminal_as_it_was") {
            continue;
        }
        // No shell that sees to its terminal itself.
        let words = ["sh", "-c", "./yardtwin launch victim -- 'echo is there; sleep 600'; echo next; sleep 600"];
        let mut window = Window::open(&desk, &words);
        window.until("is there");
        window.becomes_raw(true);
        let killed = desk.tool("pkill").args(["-9", "-o", "-f", "^./yardtwin launch victim"]).status().unwrap();
        assert!(killed.success());
        window.until("next");
        window.becomes_raw(false);
        // Where no shell could continue a job, none is stopped.
        let beside = ["./yardtwin", "launch", "a", "--", "exec perl ticks 9"];
        let mut window = Window::open(&desk, &beside);
        window.until("tick 2");
        window.keys("\x1a");
        window.until("tick 9");
        window.until("ended after");
    }
}

#[test]
fn a_program_that_is_stopped_alone_goes_on_alone() {
    let desk = bench();
    for rung in RUNGS {
        if !at_rung(&desk, rung, "a_program_that_is_stopped_alone_goes_on_alone") {
            continue;
        }
        let mut launch = desk.command(&["launch", "a", "--", "echo up; exec sleep 1.98765"]);
        let mut child = launch.stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
        let mut said = std::io::BufReader::new(child.stdout.take().unwrap());
        std::io::BufRead::read_line(&mut said, &mut String::new()).unwrap();
        let to_program = |signal: &str| {
            let sent = || desk.tool("pkill").args([signal, "-f", "^sleep 1.98765"]).status().unwrap().success();
            assert!((0..200).any(|_| sent() || {
                std::thread::sleep(Duration::from_millis(10));
                false
            }));
        };
        to_program("-STOP");
        std::thread::sleep(Duration::from_millis(300));
        to_program("-CONT");
        assert!(child.wait().unwrap().success(), "{rung}");
    }
}

#[test]
fn full_screen_programs_work_as_at_any_terminal() {
    let test = "full_screen_programs_work_as_at_any_terminal";
    let desk = bench();
    let there = |tool: &str| {
        let there = Command::new(tool).arg("--version").output().is_ok();
        if !there {
            skip(test, &format!("there is no {tool}"));
        }
        there
    };
    for rung in RUNGS {
        if !at_rung(&desk, rung, test) {
            continue;
        }
        let mut window = Window::shell(&desk);
        // What is drawn first, a key and what it draws, the same in a larger window, and the keys that end it.
        let programs = [
            ("less", "less data/lines.txt", "line 29\r\n", "G", "line 500", ("g", "line 59"), "q"),
            (
                "vim",
                "vim -u NONE data/lines.txt",
                "line 29",
                "G",
                "500",
                (":echo 'lines=' .. &lines\r", "lines=60"),
                ":w! own/saved | q!\r",
            ),
            ("htop", "htop -d 1", "Load average", "t", "Tree", ("t", "Quit"), "q"),
        ];
        for (tool, command, first, key, drawn, larger, end) in programs {
            if !there(tool) {
                continue;
            }
            // Without a shell between: that one would stop at once, and an editor only when it has put its window away.
            window.types(&format!("./yardtwin launch a -- 'mkdir -p own; exec {command}'"));
            window.until(first);
            window.keys(key);
            window.until(drawn);
            // A pager that is just about to wait for a key sees it with the next one.
            window.keeps_pressing("\x1a", "ready> ");
            assert!(!window.is_raw(), "{rung}, {tool}");
            window.types("fg");
            window.becomes_raw(true);
            window.drawn.clear();
            // An editor that is just coming back can miss that once; a window that is drawn larger tells it often.
            let seen = (0..15).any(|_| {
                window.resize(59, 120);
                window.resize(60, 120);
                window.keys(larger.0);
                window.within(Duration::from_secs(2), larger.1).is_some()
            });
            assert!(seen, "{rung}, {tool}: {:?}", text(&window.drawn));
            window.keys(end);
            assert!(!window.until("output").contains("exit code"), "{rung}, {tool}");
            window.until("ready> ");
            window.resize(30, 100);
            let run = desk.json(&["history", "a", "--runs"])[0]["id"].as_i64().unwrap();
            let output = desk.at(&format!("yard/twins/a/runs/{run}/output.log"));
            assert!(text(&std::fs::read(output).unwrap()).contains(first.trim()), "{rung}, {tool}: it is recorded");
        }
        if there("vim") {
            assert_eq!(std::fs::read_to_string(desk.game("a", "own/saved")).unwrap().lines().count(), 500, "{rung}");
            std::fs::remove_file(desk.game("a", "own/saved")).unwrap();
        }
    }
}
