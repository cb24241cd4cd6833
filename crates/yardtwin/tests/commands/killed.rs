//! Promise 3: killed at any instant, the next command finds the yard whole.

use std::fs;
use std::process::Stdio;
use std::time::{Duration, Instant};

use crate::support::Desk;
use crate::support::common::{Dice, Place, assert_same, leftovers, look, skip};

/// Runs a command and kills it after some time. Says whether it was still running.
fn killed(desk: &Desk, arguments: &[&str], after: Duration) -> bool {
    let mut child = desk.command(arguments).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    std::thread::sleep(after);
    let running = child.try_wait().unwrap().is_none();
    child.kill().unwrap();
    child.wait().unwrap();
    running
}

/// Instants to kill at, which find out by themselves how long a command runs.
struct Instants {
    dice: Dice,
    longest: Duration,
    /// So many commands are to be killed while they run.
    wanted: u32,
    hits: u32,
    rounds: u32,
}

impl Instants {
    fn new(seed: u64) -> Self {
        Self { dice: Dice::new(seed), longest: Duration::from_millis(40), wanted: 12, hits: 0, rounds: 0 }
    }

    /// The number of the next round; none once enough have been killed.
    fn next_round(&mut self) -> Option<u32> {
        self.rounds += 1;
        (self.hits < self.wanted).then_some(self.rounds)
    }

    fn kill(&mut self, desk: &Desk, arguments: &[&str]) {
        let part = f64::from(u32::try_from(self.dice.roll(1000)).unwrap()) / 1000.0;
        let hit = killed(desk, arguments, self.longest.mul_f64(part));
        self.hits += u32::from(hit);
        self.longest = self.longest.mul_f64(if hit { 1.3 } else { 0.7 });
    }
}

#[test]
fn killed_at_random_instants_an_intake_or_a_clone_leaves_nothing_half_done() {
    let desk = Desk::new();
    desk.ok(&["init"]);
    let mut instants = Instants::new(20_261_125);
    let mut builds = 0;
    while let Some(round) = instants.next_round() {
        let build = format!("b{round}");
        // New bytes each time, so that there is something to store.
        let bytes = instants.dice.bytes(4 << 20);
        fs::write(desk.at("installed/scenery/trains.wjp"), bytes).unwrap();
        instants.kill(&desk, &["intake", "installed", "--title", "wexcombe", "--build", &build]);
        let there = desk.json(&["stock", "list"]).as_array().unwrap().len();
        assert!(leftovers(&desk.at("yard")).is_empty(), "nothing is left in tmp after the next command");
        assert!(there == builds || there == builds + 1, "the build is there as a whole, or not at all");
        builds = there;
    }
    desk.ok(&["intake", "installed", "--title", "wexcombe", "--build", "whole"]);
    let want = look(&desk.at("installed"));
    let mut instants = Instants::new(20_261_128);
    while let Some(round) = instants.next_round() {
        let name = format!("t{round}");
        let clone = ["clone", "wexcombe@whole", &name, "--share", "none"];
        instants.kill(&desk, &clone);
        let twins = desk.json(&["list"]);
        assert!(leftovers(&desk.at("yard")).is_empty());
        let folders = fs::read_dir(desk.at("yard/twins")).unwrap().count();
        assert_eq!(folders, twins.as_array().unwrap().len(), "no folder without a twin, no twin without a folder");
        if desk.game(&name, "").exists() {
            assert_same(&want, &look(&desk.game(&name, "")), "a twin that is there is whole");
        }
        // The name is free again, or taken by a whole twin.
        let again = desk.run(&clone).status.code();
        assert!(matches!(again, Some(0 | 4)), "{again:?}");
        desk.ok(&["remove", &name, "--for-good", "--yes"]);
    }
}

#[test]
fn killed_at_random_instants_a_fold_back_ends_as_the_program_saw_it() {
    let test = "killed_at_random_instants_a_fold_back_ends_as_the_program_saw_it";
    let desk = Desk::bench(Place::for_launches(), &["a"], |build| {
        for number in 0..200 {
            fs::write(build.join(format!("data/{number}")), format!("data {number}")).unwrap();
        }
    });
    if desk.json(&["launch", "a", "--dry-run"])["isolation"] != "sealed" {
        return skip(test, "a sealed launch is not possible");
    }
    let write = "rm data/1*; mkdir -p own data/new; for n in data/2* data/3*; do echo new > $n; mv $n data/new; done; \
                 rm -rf bin; mkdir bin; echo x > bin/y; ln -s ../bin data/link; chmod 600 data/4*; echo done > own/done; \
                 while :; do sleep 0.05; done";
    let mut child =
        desk.command(&["launch", "a", "--", write]).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    let until = Instant::now() + Duration::from_secs(20);
    while !desk.at("yard/twins/a/layer/game/own/done").exists() {
        assert!(Instant::now() < until);
        std::thread::sleep(Duration::from_millis(10));
    }
    child.kill().unwrap();
    child.wait().unwrap();
    // Once its lock is free all is over; nothing has looked at the twin yet.
    while desk.ok(&["list"]).contains("running") {
        std::thread::sleep(Duration::from_millis(10));
    }
    // The kernel's own, which nobody may look into.
    desk.tool("chmod").args(["-R", "700", "yard/twins/a/layer/work"]).stderr(Stdio::null()).status().unwrap();
    let copy = |to: &str| assert!(desk.tool("cp").args(["-a", "yard", to]).status().unwrap().success());
    copy("whole");
    desk.ok(&["--yard", "whole", "history", "a"]);
    let wanted = look(&desk.at("whole/twins/a/game"));
    assert!(wanted.contains_key("data/new/33") && !wanted.contains_key("data/1"));
    let wished = std::env::var("YARDTWIN_ROUNDS").ok().and_then(|rounds| rounds.parse().ok());
    let mut instants = Instants { wanted: wished.unwrap_or(16), ..Instants::new(20_261_126) };
    while instants.next_round().is_some() {
        copy("copy");
        instants.kill(&desk, &["--yard", "copy", "history", "a"]);
        desk.ok(&["--yard", "copy", "history", "a"]);
        assert_same(&wanted, &look(&desk.at("copy/twins/a/game")), "folded back");
        assert!(!desk.at("copy/twins/a/layer").exists() && leftovers(&desk.at("copy")).is_empty());
        fs::remove_dir_all(desk.at("copy")).unwrap();
    }
}

/// What a command tries in processes of its own may take a while, and outlive it: they hold nothing of the command's.
#[test]
fn a_trial_of_sealing_that_outlives_its_command_keeps_nobody_waiting() {
    let desk = Desk::with_twins(&["a"]);
    let children = |pid: &str| {
        let listed = fs::read_to_string(format!("/proc/{pid}/task/{pid}/children")).unwrap_or_default();
        listed.split_whitespace().map(str::to_owned).collect::<Vec<_>>()
    };
    let signal = |pid: &str, signal| {
        let pid = rustix::process::Pid::from_raw(pid.parse().unwrap()).unwrap();
        rustix::process::kill_process(pid, signal).is_ok()
    };
    for round in 0.. {
        assert!(round < 200, "no trial was seen at work");
        let catalogue = rusqlite::Connection::open(desk.at("yard/catalog.db")).unwrap();
        catalogue.execute("DELETE FROM probes", []).unwrap();
        drop(catalogue);
        let mut child = desk.command(&["show", "a"]).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        // A process that tries, and the one above it, which would end it.
        let mut trial = Vec::new();
        while trial.is_empty() && child.try_wait().unwrap().is_none() {
            let pairs = children(&child.id().to_string()).into_iter();
            let pairs = pairs.flat_map(|upper| children(&upper).into_iter().flat_map(move |pid| [upper.clone(), pid]));
            trial.extend(pairs.filter(|pid| signal(pid, rustix::process::Signal::STOP)));
        }
        child.kill().unwrap();
        child.wait().unwrap();
        desk.ok(&["list"]);
        let left = leftovers(&desk.at("yard"));
        trial.iter().for_each(|pid| _ = signal(pid, rustix::process::Signal::CONT));
        assert_eq!(left, Vec::<std::path::PathBuf>::new(), "what the command left goes with the next one");
        if !trial.is_empty() {
            return;
        }
    }
}

#[test]
fn stopped_by_a_signal_a_clone_undoes_itself_and_says_so() {
    let desk = Desk::with_twins(&[]);
    for (signal, _) in [("INT", 2), ("TERM", 15)] {
        let mut stopped = false;
        for delay in 0..60 {
            let child = desk
                .command(&["clone", "wexcombe@1.4", "t", "--share", "none"])
                .stdout(Stdio::null())
                .stderr(Stdio::piped())
                .spawn()
                .unwrap();
            std::thread::sleep(Duration::from_millis(2 * delay));
            desk.tool("kill").arg(format!("-{signal}")).arg(child.id().to_string()).status().unwrap();
            let output = child.wait_with_output().unwrap();
            match output.status.code() {
                // Before the handlers are in place, the signal ends it the plain way.
                None => {}
                Some(130) => {
                    assert!(!desk.game("t", "").exists());
                    assert!(leftovers(&desk.at("yard")).is_empty(), "it tidied up by itself");
                    stopped = true;
                    break;
                }
                code => {
                    assert_eq!(code, Some(0));
                    desk.ok(&["remove", "t", "--for-good", "--yes"]);
                }
            }
        }
        assert!(stopped, "SIG{signal} never arrived in time");
    }
}
