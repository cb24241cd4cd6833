//! One yard, shared by several threads of a process: each does what it likes, and all of it ends well.

use std::fs;
use std::num::NonZeroUsize;
use std::os::unix::process::CommandExt;
use std::process::Command;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread;

use crate::common::{Place, by_itself, skip, tree};
use yard_twin::{
    Class, Ctx, Result, Sharing, SnapshotRef, Source, TwinName, Yard, check, clone, intake, play, remove, restore,
    show, snapshot,
};

const THREADS: usize = 4;
const ROUNDS: usize = 6;

fn ctx() -> Ctx {
    Ctx::new().with_threads(NonZeroUsize::MIN)
}

/// A yard with one build, and one twin of it.
fn yard_with(place: &Place, twin: &str) -> Yard {
    tree(&place.at("source/data"), 7);
    for name in ["a", "b"] {
        fs::write(place.at("source/data").join(name), name).unwrap();
    }
    let yard = Yard::init(place.at("yard")).unwrap();
    let mut options = intake::Options::new(place.at("source"), "wexcombe".parse().unwrap());
    options.build = Some("1".parse().unwrap());
    intake::apply(&yard, &intake::plan(&yard, options, &ctx()).unwrap(), &ctx()).unwrap();
    let (source, options) = ("wexcombe@1".parse().unwrap(), clone::Options::default());
    clone::apply(&yard, &clone::plan(&yard, &source, &twin.parse().unwrap(), options, &ctx()).unwrap(), &ctx())
        .unwrap();
    yard
}

/// Clones a twin, changes it, goes back, looks at all of them, and lets it go.
fn life(yard: &Yard, name: &TwinName, sharing: Sharing) -> Result<()> {
    let (ctx, options) = (ctx(), clone::Options { sharing: Some(sharing), ..clone::Options::default() });
    let twin = clone::apply(yard, &clone::plan(yard, &Source::Twin("common".parse()?), name, options, &ctx)?, &ctx)?;
    fs::write(twin.folder.join("game/own.dat"), name.as_str()).unwrap();
    snapshot::apply(yard, &snapshot::plan(yard, name, None, &ctx)?, &ctx)?;
    fs::remove_file(twin.folder.join("game/data/b")).unwrap();
    let options = restore::Options { to: Some(SnapshotRef::Number(2)), ..restore::Options::default() };
    restore::apply(yard, &restore::plan(yard, name, &options, &ctx)?, &ctx)?;
    assert_eq!(fs::read(twin.folder.join("game/own.dat")).unwrap(), name.as_str().as_bytes());
    assert!(twin.folder.join("game/data/b").is_file());
    show::twins(yard, false)?;
    remove::let_go(yard, &remove::plan(yard, name, &ctx)?, &ctx).map(drop)
}

#[test]
fn threads_that_share_a_yard_do_not_get_in_each_others_way() {
    let place = Place::new();
    let yard = yard_with(&place, "common");
    let threads: Vec<_> = (0..THREADS)
        .map(|thread| {
            let yard = yard.clone();
            thread::spawn(move || {
                let mut done = 0;
                for round in 0..ROUNDS {
                    let sharing = if round % 2 == 0 { Sharing::All } else { Sharing::None };
                    let name = TwinName::new(format!("twin {thread} {round}")).unwrap();
                    match life(&yard, &name, sharing) {
                        Ok(()) => done += 1,
                        // The twin that all are cloned from is held for moments; whoever waits too long is told so.
                        Err(error) => assert_eq!(error.class(), Class::Busy, "{}", error.with_causes()),
                    }
                }
                done
            })
        })
        .collect();
    let done: usize = threads.into_iter().map(|thread| thread.join().unwrap()).sum();
    assert!(done > THREADS * ROUNDS / 2, "{done} of {}", THREADS * ROUNDS);
    let report = check::look(&yard, &check::Options { full: true, ..check::Options::default() }, &ctx()).unwrap();
    let worse = report.findings.iter().filter(|found| found.severity != check::Severity::Note);
    let problems: Vec<_> = worse.map(|found| format!("{}: {}", found.about, found.problem)).collect();
    assert_eq!(problems, Vec::<String>::new());
    assert_eq!(fs::read_dir(yard.root().join("tmp")).unwrap().count(), 0, "nothing is left behind");
}

/// A process that another thread is just starting has a copy of each open file for a moment, of a lock's too.
#[test]
fn a_lock_is_let_go_of_also_while_another_thread_starts_programs() {
    let test = "threads::a_lock_is_let_go_of_also_while_another_thread_starts_programs";
    by_itself(test, commands_and_launches_while_programs_are_started);
}

fn commands_and_launches_while_programs_are_started() {
    let place = Place::for_launches();
    let (yard, name): (_, TwinName) = (yard_with(&place, "a"), "a".parse().unwrap());
    let ended = AtomicBool::new(false);
    let taken = thread::scope(|scope| {
        scope.spawn(|| {
            while !ended.load(Ordering::Relaxed) {
                // By way of a copy of this process, which has its files open for longer.
                Command::new("true").uid(rustix::process::getuid().as_raw()).status().unwrap();
            }
        });
        let is_busy = || show::twins(&yard, false).unwrap()[0].busy;
        let mut taken = [0, 0];
        for round in 0..100 {
            snapshot::apply(&yard, &snapshot::plan(&yard, &name, None, &ctx()).unwrap(), &ctx()).unwrap();
            taken[0] += u32::from(is_busy());
            if round % 4 == 0 {
                launch(&yard, &name);
                taken[1] += u32::from(is_busy());
            }
        }
        ended.store(true, Ordering::Relaxed);
        taken
    });
    assert_eq!(taken, [0, 0], "it was said to be in use so often, after snapshots and after launches");
}

fn launch(yard: &Yard, name: &TwinName) {
    let options = play::Options { tool: Some(["true"].map(Into::into).into()), ..play::Options::default() };
    match play::plan(yard, name, &options, &ctx()) {
        Ok(plan) => drop(play::start(yard, &plan, &options, &ctx()).unwrap().wait(&ctx()).unwrap()),
        Err(error) => skip("launches while programs are started", &error.to_string()),
    }
}
