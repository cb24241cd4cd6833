//! One yard, shared by several threads of a process: each does what it likes, and all of it ends well.
#![allow(missing_docs, clippy::unwrap_used)]

mod common;

use std::fs;
use std::num::NonZeroUsize;
use std::thread;

use common::{Place, tree};
use yard_twin::{
    CheckOptions, Class, CloneOptions, Ctx, IntakeOptions, RestoreOptions, Result, Severity, Sharing, SnapshotRef,
    Source, TwinName, Yard,
};

const THREADS: usize = 4;
const ROUNDS: usize = 6;

fn ctx() -> Ctx {
    Ctx::new().with_threads(NonZeroUsize::MIN)
}

/// Clones a twin, changes it, goes back, looks at all of them, and lets it go.
fn life(yard: &Yard, name: &TwinName, sharing: Sharing) -> Result<()> {
    let (ctx, options) = (ctx(), CloneOptions { sharing: Some(sharing), ..CloneOptions::default() });
    let twin = yard.apply_clone(&yard.plan_clone(&Source::Twin("common".parse()?), name, options, &ctx)?, &ctx)?;
    fs::write(twin.folder.join("game/own.dat"), name.as_str()).unwrap();
    yard.apply_snapshot(&yard.plan_snapshot(name, None, &ctx)?, &ctx)?;
    fs::remove_file(twin.folder.join("game/data/b")).unwrap();
    let options = RestoreOptions { to: Some(SnapshotRef::Number(2)), ..RestoreOptions::default() };
    yard.apply_restore(&yard.plan_restore(name, &options, &ctx)?, &ctx)?;
    assert_eq!(fs::read(twin.folder.join("game/own.dat")).unwrap(), name.as_str().as_bytes());
    assert!(twin.folder.join("game/data/b").is_file());
    yard.twins(false)?;
    yard.forget_twin(&yard.plan_remove(name, &ctx)?, &ctx).map(drop)
}

#[test]
fn threads_that_share_a_yard_do_not_get_in_each_others_way() {
    let place = Place::new();
    tree(&place.at("source/data"), 7);
    for name in ["a", "b"] {
        fs::write(place.at("source/data").join(name), name).unwrap();
    }
    let yard = Yard::init(place.at("yard")).unwrap();
    let mut options = IntakeOptions::new(place.at("source"), "wexcombe".parse().unwrap());
    options.build = Some("1".parse().unwrap());
    yard.apply_intake(&yard.plan_intake(options, &ctx()).unwrap(), &ctx()).unwrap();
    let source = "wexcombe@1".parse().unwrap();
    let plan = yard.plan_clone(&source, &"common".parse().unwrap(), CloneOptions::default(), &ctx()).unwrap();
    yard.apply_clone(&plan, &ctx()).unwrap();
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
    let report = yard.check(&CheckOptions { full: true, ..CheckOptions::default() }, &ctx()).unwrap();
    let worse = report.findings.iter().filter(|found| found.severity != Severity::Note);
    let problems: Vec<_> = worse.map(|found| format!("{}: {}", found.about, found.problem)).collect();
    assert_eq!(problems, Vec::<String>::new());
    assert_eq!(fs::read_dir(yard.root().join("tmp")).unwrap().count(), 0, "nothing is left behind");
}
