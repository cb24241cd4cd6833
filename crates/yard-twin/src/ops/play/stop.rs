//! Ending a program that another command started, and what is left of one.

use std::collections::HashMap;
use std::fs;
use std::path::Path;
use std::time::{Duration, Instant};

use rustix::process::{Pid, Signal, kill_process};

use crate::Yard;
use crate::catalog::{RunRecord, TwinRow};
use crate::disk::lock::command_line;
use crate::error::{Holder, LaunchError, Result};
use crate::ident::TwinName;
use crate::launch::seal::END_ALL;
use crate::progress::Ctx;

/// The run that holds a twin, if its program is running: the run, and the process that waits for it.
pub(crate) fn current_run(yard: &Yard, row: &TwinRow) -> Result<Option<(RunRecord, i32)>> {
    let lock = yard.twin_lock_path(row.id);
    // One whose launcher was killed has no end either.
    let open = yard.catalog.runs(row.id)?.into_iter().filter(|run| run.ended_at.is_none());
    Ok(open
        .filter_map(|run| Some((run.keeper?, run)))
        .map(|(keeper, run)| (run, keeper))
        .find(|(_, keeper)| holds(*keeper, &lock)))
}

/// Asks the program of a twin to end (TERM), and ends it and all that it started if it has not after `grace`. Returns
/// once the run is over; what it changed is taken in by whoever launched it, or else by the next command. Says whether
/// it had to be ended.
///
/// # Errors
/// [`LaunchError::NotRunning`], [`LaunchError::StillRunning`], [`crate::Error::NotFound`].
pub fn stop(yard: &Yard, name: &TwinName, grace: Duration, ctx: &Ctx) -> Result<bool> {
    /// What takes in the changes of a run may take a while.
    const PATIENCE: Duration = Duration::from_secs(60);
    let row = yard.twin_row(name, false)?;
    let twin = row.name.to_string();
    let lock = yard.twin_lock_path(row.id);
    let Some(keeper) = current_run(yard, &row)?.and_then(|(_, keeper)| Pid::from_raw(keeper)) else {
        return Err(LaunchError::NotRunning { twin }.into());
    };
    // It may end by itself just now.
    let _ = kill_process(keeper, Signal::TERM);
    let mut ended = false;
    let asked = Instant::now();
    while holds(keeper.as_raw_pid(), &lock) || yard.is_held(&row)? {
        ctx.check()?;
        let waited = asked.elapsed();
        if waited > grace && !ended && holds(keeper.as_raw_pid(), &lock) {
            ended = true;
            if let Some(all) = Signal::from_named_raw(END_ALL) {
                let _ = kill_process(keeper, all);
            }
        }
        if waited > grace + PATIENCE {
            return Err(LaunchError::StillRunning { twin }.into());
        }
        std::thread::sleep(Duration::from_millis(20));
    }
    Ok(ended)
}

/// Whether a process has a file open.
fn holds(pid: i32, file: &Path) -> bool {
    let open = fs::read_dir(format!("/proc/{pid}/fd")).into_iter().flatten().flatten();
    open.filter_map(|entry| fs::read_link(entry.path()).ok()).any(|path| path == file)
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
