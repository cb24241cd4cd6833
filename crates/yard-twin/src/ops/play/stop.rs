//! Ending a program that another command started, and what is left of one.

use std::collections::HashMap;
use std::fs;
use std::time::{Duration, Instant};

use rustix::process::{Pid, Signal, kill_process};
use serde::Serialize;

use crate::Yard;
use crate::catalog::{RunRecord, TwinRow};
use crate::disk::lock::{command_line, has_open, left_with};
use crate::error::{Holder, LaunchError, Result};
use crate::ident::TwinName;
use crate::launch::Isolation;
use crate::launch::seal::END_ALL;
use crate::progress::Ctx;

/// The run that holds a twin, if its program is running: the run, and the process that waits for it.
pub(crate) fn current_run(yard: &Yard, row: &TwinRow) -> Result<Option<(RunRecord, i32)>> {
    let lock = yard.twin_lock_path(row.id);
    Ok(running(yard, row)?.into_iter().find(|(_, keeper)| holds(*keeper, &lock)))
}

/// The runs of a twin that go on, each with the process that waits for it: a number means something only as long as that
/// process has the lock of the twin open, or that of the run.
fn running(yard: &Yard, row: &TwinRow) -> Result<Vec<(RunRecord, i32)>> {
    let lock = yard.twin_lock_path(row.id);
    let open = yard.catalog.open_runs(row.id)?.into_iter().filter_map(|run| Some((run.keeper?, run)));
    let running = open
        .filter(|(keeper, run)| holds(*keeper, &lock) || holds(*keeper, &yard.run_folder(row, run.id).join(RUN_LOCK)));
    Ok(running.map(|(keeper, run)| (run, keeper)).collect())
}

/// The name in a run's folder of the file that its keeper has open where another run holds the twin.
pub(crate) const RUN_LOCK: &str = "lock";

/// What became of the programs of a twin that were asked to end.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Stopped {
    /// The twin.
    pub twin: TwinName,
    /// The processes that were asked.
    pub asked: Vec<Holder>,
    /// Whether any of them had to be made to end.
    pub made_to: bool,
}

/// Asks every program of a twin to end (TERM), and ends all that is left after `grace`: also what a program left behind
/// whose keeper was killed. Returns once it is over; what was changed is taken in by whoever launched it, or else by the
/// next command.
///
/// # Errors
/// [`LaunchError::NotRunning`], [`LaunchError::StillRunning`], [`crate::Error::NotFound`].
pub fn stop(yard: &Yard, name: &TwinName, grace: Duration, ctx: &Ctx) -> Result<Stopped> {
    /// What takes in the changes of a run may take a while.
    const PATIENCE: Duration = Duration::from_secs(60);
    let row = yard.twin_row(name, false)?;
    let twin = row.name.to_string();
    let lock = yard.twin_lock_path(row.id);
    let orphans = left_with(&lock);
    if orphans.is_empty() && current_run(yard, &row)?.is_none() {
        return Err(LaunchError::NotRunning { twin }.into());
    }
    let programs = |running: &[(RunRecord, i32)]| -> Vec<Holder> {
        let programs = running.iter().flat_map(|(run, keeper)| {
            let inner = usize::from(run.isolation == Isolation::Sealed.name() && holds(*keeper, &lock));
            u32::try_from(*keeper).map(|keeper| descendants(keeper, inner)).unwrap_or_default()
        });
        programs.collect()
    };
    let asked = [programs(&running(yard, &row)?), orphans].concat();
    for program in &asked {
        signal(program.pid, Signal::TERM);
        // One that is stopped hears of it only then.
        signal(program.pid, Signal::CONT);
    }
    let (mut made_to, began) = (false, Instant::now());
    loop {
        let left = running(yard, &row)?;
        if left.is_empty() && !yard.is_held(&row)? {
            break;
        }
        ctx.check()?;
        let waited = began.elapsed();
        if waited > grace && !made_to {
            let orphans = left_with(&lock);
            made_to = !(left.is_empty() && orphans.is_empty());
            for orphan in &orphans {
                signal(orphan.pid, Signal::KILL);
            }
            for (_, keeper) in &left {
                if let (Ok(keeper), Some(all)) = (u32::try_from(*keeper), Signal::from_named_raw(END_ALL)) {
                    signal(keeper, all);
                }
            }
        }
        if waited > grace + PATIENCE {
            return Err(LaunchError::StillRunning { twin }.into());
        }
        std::thread::sleep(Duration::from_millis(20));
    }
    Ok(Stopped { twin: row.name, asked, made_to })
}

fn signal(pid: u32, signal: Signal) {
    if let Some(pid) = i32::try_from(pid).ok().and_then(Pid::from_raw) {
        // It may have ended just now.
        let _ = kill_process(pid, signal);
    }
}

/// Whether a process has a file open.
fn holds(pid: i32, file: &std::path::Path) -> bool {
    u32::try_from(pid).is_ok_and(|pid| has_open(pid, file))
}

/// The processes that came of one, without the first `inner` generations.
pub(crate) fn descendants(of: u32, inner: usize) -> Vec<Holder> {
    let mut children: HashMap<u32, Vec<u32>> = HashMap::new();
    for entry in fs::read_dir("/proc").into_iter().flatten().flatten() {
        let Some(pid) = entry.file_name().to_str().and_then(|name| name.parse().ok()) else { continue };
        if let Some((parent, ended)) = parent(pid)
            && !ended
        {
            children.entry(parent).or_default().push(pid);
        }
    }
    let mut generation = vec![of];
    let mut found = Vec::new();
    for number in 0.. {
        generation = generation.iter().flat_map(|pid| children.get(pid).cloned().unwrap_or_default()).collect();
        if generation.is_empty() {
            break;
        }
        if number >= inner {
            found.extend(generation.iter().map(|pid| Holder { pid: *pid, command: command_line(*pid) }));
        }
    }
    found
}

/// The parent of a process, and whether it has ended and only waits to be noticed.
fn parent(pid: u32) -> Option<(u32, bool)> {
    let stat = fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
    // `4711 (a name) S 1 …`, and the name may hold anything.
    let (_, rest) = stat.rsplit_once(") ")?;
    let mut parts = rest.split(' ');
    let ended = parts.next()? == "Z";
    Some((parts.next()?.parse().ok()?, ended))
}
