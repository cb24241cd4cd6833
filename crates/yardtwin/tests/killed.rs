//! Promise 3: killed at any instant, the next command finds the yard whole.
#![allow(missing_docs, clippy::print_stderr, clippy::unwrap_used)]

mod support;

use std::fs;
use std::process::Stdio;
use std::time::{Duration, Instant};

use support::Desk;
use support::common::{Dice, Place, assert_same, leftovers, look, skip};

/// Runs a command and kills it after a part of the time that it takes unharmed. Says whether it was still running.
fn killed(desk: &Desk, arguments: &[&str], after: Duration) -> bool {
    let mut child = desk.command(arguments).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    std::thread::sleep(after);
    let running = child.try_wait().unwrap().is_none();
    child.kill().unwrap();
    child.wait().unwrap();
    running
}

fn timed(work: impl FnOnce()) -> Duration {
    let began = Instant::now();
    work();
    began.elapsed()
}

#[test]
fn killed_at_random_instants_an_intake_or_a_clone_leaves_nothing_half_done() {
    let desk = Desk::new();
    desk.ok(&["init"]);
    let mut dice = Dice::new(20_261_125);
    let (mut hits, mut builds) = (0, 0);
    for round in 0..15 {
        let build = format!("b{round}");
        // New bytes each time, so that there is something to store.
        let bytes = dice.bytes(4 << 20);
        fs::write(desk.at("installed/scenery/trains.wjp"), bytes).unwrap();
        let intake = ["intake", "installed", "--title", "wexcombe", "--build", &build];
        let whole = timed(|| {
            let output = desk.command(&["--yard", "measure", "init"]).output().unwrap();
            assert!(output.status.success());
            desk.ok(&[&["--yard", "measure"], &intake[..]].concat());
            fs::remove_dir_all(desk.at("measure")).unwrap();
        });
        let after = whole.mul_f64(f64::from(u32::try_from(dice.roll(1000)).unwrap()) / 1000.0);
        hits += u32::from(killed(&desk, &intake, after));
        let there = desk.json(&["stock", "list"]).as_array().unwrap().len();
        assert!(leftovers(&desk.at("yard")).is_empty(), "nothing is left in tmp after the next command");
        assert!(there == builds || there == builds + 1, "the build is there as a whole, or not at all");
        builds = there;
    }
    desk.ok(&["intake", "installed", "--title", "wexcombe", "--build", "whole"]);
    let want = look(&desk.at("installed"));
    for round in 0..15 {
        let name = format!("t{round}");
        let clone = ["clone", "wexcombe@whole", &name, "--share", "none"];
        let whole = timed(|| {
            desk.ok(&["clone", "wexcombe@whole", "measure", "--share", "none"]);
        });
        desk.ok(&["remove", "measure", "--for-good", "--yes"]);
        let after = whole.mul_f64(f64::from(u32::try_from(dice.roll(1000)).unwrap()) / 1000.0);
        hits += u32::from(killed(&desk, &clone, after));
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
    eprintln!("killed {hits} of 30 commands before their end");
    assert!(hits >= 10, "only {hits} of 30 commands were still running when they were killed");
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
    let whole = timed(|| drop(desk.ok(&["--yard", "whole", "history", "a"]))).mul_f64(0.8);
    let wanted = look(&desk.at("whole/twins/a/game"));
    assert!(wanted.contains_key("data/new/33") && !wanted.contains_key("data/1"));
    let rounds = std::env::var("YARDTWIN_ROUNDS").ok().and_then(|rounds| rounds.parse().ok()).unwrap_or(25);
    let (mut dice, mut hits) = (Dice::new(20_261_126), 0);
    for _ in 0..rounds {
        copy("copy");
        let after = whole.mul_f64(f64::from(u32::try_from(dice.roll(1000)).unwrap()) / 1000.0);
        hits += u32::from(killed(&desk, &["--yard", "copy", "history", "a"], after));
        desk.ok(&["--yard", "copy", "history", "a"]);
        assert_same(&wanted, &look(&desk.at("copy/twins/a/game")), "folded back");
        assert!(!desk.at("copy/twins/a/layer").exists() && leftovers(&desk.at("copy")).is_empty());
        fs::remove_dir_all(desk.at("copy")).unwrap();
    }
    eprintln!("killed {hits} of {rounds} while they folded back");
    assert!(hits >= rounds / 8, "only {hits} of {rounds} were still at it when they were killed");
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
