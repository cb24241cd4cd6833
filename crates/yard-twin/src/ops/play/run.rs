//! The start of a run.

use std::os::fd::BorrowedFd;
use std::process::{Command, Stdio};
use std::sync::{Arc, Mutex};

use jiff::Timestamp;

use crate::Yard;
use crate::catalog::{HistoryEntry, RunRecord, TwinRow, What};
use crate::disk;
use crate::disk::lock::{self, Held, Mode};
use crate::error::{Error, LaunchError, PathContext, Result};
use crate::launch::home;
use crate::launch::isolation::Isolation;
use crate::launch::layer::{About, Fate, RunLayer};
use crate::launch::output::{Log, Reader, Stream};
use crate::launch::seal::{self, Confinement, Kept, Refusal};
use crate::launch::watch::Watch;
use crate::listing::{Listing, diff};
use crate::ops::edits;
use crate::ops::play::isolation;
use crate::ops::play::plan::{Keep, Options, Plan};
use crate::ops::play::running::{Report, Running, Signaller};
use crate::ops::play::stop;
use crate::progress::Ctx;
use crate::store::state::State;
use crate::twin::Settled;
use crate::twin::Twin;
use crate::twin::after_run;
use crate::twin::settle;

/// Starts the twin's program: directly, in its working folder, with the twin's home as its home, isolated as the plan
/// says.
///
/// The twin is held until [`Running::wait`] returns: no other command changes it meanwhile. If this process is killed,
/// the program and all that it started end with it; what a sealed program wrote by then waits in its layer, and the
/// next command that needs the twin takes it in.
///
/// # Errors
/// [`LaunchError::Edit`] if a config edit can't be made, [`Error::Busy`] if it runs already, [`LaunchError::Command`]
/// if a command of the profile's fails, [`LaunchError::Isolation`] if a step of isolating it fails, [`Error::Io`] if it
/// can't be started. No run is recorded then.
pub fn start(yard: &Yard, plan: &Plan, options: &Options, ctx: &Ctx) -> Result<Running> {
    let mut twin = match plan.joins {
        // The launcher of the first run holds the twin until the last one ends.
        Some(_) => None,
        None => Some(Twin::hold(yard, &plan.row, ctx)?),
    };
    run_command(yard, "before", &plan.before, plan)?;
    let folder = settle::present_folder(yard, &plan.row)?;
    let layer = RunLayer::of(&folder);
    let mut edits = None;
    if let Some(twin) = &mut twin {
        edits = edits::edit_for_run(twin, &plan.profile, ctx)?;
    }
    // A sealed program leaves the folder itself as it is: what was changed there before can be seen as well afterwards.
    let (mut before, mut set_aside) = (None, Vec::new());
    if let Some(twin) = &mut twin {
        twin.for_long()?;
        let fresh = home::prepare(&plan.home)?;
        let looks = layer.exists()? || plan.isolation != Isolation::Sealed || after_run::has_wrong(yard, &plan.row)?;
        if fresh || looks {
            let line = yard.catalog.history(plan.row.id)?.into_iter().next();
            // What others wrote meanwhile is a line too, with a state that is not the twin's.
            let line = line.filter(|newest| newest.state == twin.row.state);
            let settled = twin.settle(What::Outside, ctx)?;
            lay_home(twin, &settled, line.as_ref(), ctx)?;
            if plan.isolation != Isolation::Sealed {
                set_aside = twin.own_home(&settled, ctx)?;
            }
            before = Some((settled.listing, settled.leaks));
        }
    }
    let program = plan.program.strip_prefix(folder.join("game")).unwrap_or(&plan.program).display().to_string();
    let (started_at, isolation) = (Timestamp::now(), plan.isolation.to_string());
    let id = yard.catalog.loosely(|| yard.catalog.begin_run(plan.row.id, &program, &isolation, started_at))?;
    let run_folder = yard.run_folder(&plan.row, id);
    let begun = Log::create(&run_folder).and_then(|log| {
        let watch = (plan.isolation == Isolation::Redirected).then(|| Watch::begin(yard.root()));
        // Where another run holds the twin, this one's keeper is known by a file of its own.
        let own_lock = match &twin {
            Some(_) => None,
            None => lock::try_take(&run_folder.join(stop::RUN_LOCK), Mode::Shared)?,
        };
        let lock = twin.as_ref().map(Twin::lend).or_else(|| own_lock.as_ref().map(Held::lend));
        let kept = start_program(yard, plan, &layer, about_run(yard, plan, options, id)?, lock, options)?;
        match yard.catalog.loosely(|| yard.catalog.set_keeper(id, kept.child.id())) {
            Ok(()) => Ok((log, watch, kept)),
            Err(error) => {
                kept.end();
                Err(error)
            }
        }
    });
    let (log, watch, mut kept) = match begun {
        Ok(begun) => begun,
        Err(error) => {
            // Nobody would ever know of this run.
            if twin.is_some() {
                layer.remove()?;
            }
            disk::remove_tree(&run_folder)?;
            yard.catalog.drop_run(id)?;
            return Err(error);
        }
    };
    let output = log.path.clone();
    let log = Arc::new(Mutex::new(log));
    let drawn = kept.terminal.as_ref().and_then(|terminal| terminal.output().ok());
    let readers = [
        kept.child.stdout.take().map(|pipe| Reader::start(pipe, Stream::Out, &log, options.output.clone())),
        kept.child.stderr.take().map(|pipe| Reader::start(pipe, Stream::Err, &log, options.output.clone())),
        drawn.map(|drawn| Reader::start(drawn, Stream::Terminal, &log, options.output.clone())),
    ];
    let keeper = i32::try_from(kept.child.id()).ok();
    let record = RunRecord {
        id,
        program,
        isolation,
        started_at,
        ended_at: None,
        exit_code: None,
        signal: None,
        summary: None,
        keeper,
    };
    Ok(Running {
        yard: yard.clone(),
        row: yard.catalog.twin(plan.row.id)?.unwrap_or_else(|| plan.row.clone()),
        twin,
        signaller: Signaller::new(keeper),
        kept,
        readers: readers.into_iter().flatten().collect(),
        record,
        before,
        set_aside,
        output,
        keep: options.keep.clone(),
        edits: edits.unwrap_or_default(),
        one_run: options.variant.is_some(),
        isolation: plan.isolation,
        layer,
        watch,
        plan: plan.clone(),
        ended: None,
    })
}

/// What is written down of a run before it begins: so that a launcher that is killed changes nothing of it.
fn about_run(yard: &Yard, plan: &Plan, options: &Options, run: i64) -> Result<About> {
    let fate = match options.keep {
        Keep::Always => Fate::Kept,
        Keep::Ask(_) => Fate::Asked,
        Keep::Never => Fate::ThrownAway,
    };
    let state = yard.catalog.twin(plan.row.id)?.map_or(plan.row.state, |row| row.state);
    let direct = (plan.isolation != Isolation::Sealed).then_some(state);
    Ok(About { run, placeholders: plan.around.placeholders.clone(), fate, direct })
}

/// Starts the program, kept inside as the plan says.
fn start_program(
    yard: &Yard,
    plan: &Plan,
    layer: &RunLayer,
    about: About,
    lock: Option<BorrowedFd<'_>>,
    options: &Options,
) -> Result<Kept> {
    if !plan.beside {
        layer.make(&about)?;
        if plan.watched {
            layer.make_watched()?;
            home::prepare(&layer.empty_home())?;
        }
        plan.around.lay(layer)?;
    }
    let mut words = plan.wrapper.iter().map(Into::into).chain([plan.program.clone().into_os_string()]);
    let mut command = Command::new(words.next().unwrap_or_default());
    command.args(words).args(&plan.arguments).envs(&plan.environment).env("PWD", &plan.folder);
    let confinement = Confinement {
        view: plan.around.view.as_ref(),
        fence: plan.around.fence.clone(),
        network: plan.network,
        own_ipc: plan.own_ipc,
        folder: &plan.folder,
        lock,
        join: plan.joins,
        terminal: options.terminal.as_ref(),
    };
    seal::start(command, &confinement, &options.helper).map_err(|refusal| match refusal {
        Refusal::Isolation(why) => {
            // What was found out earlier does not hold any more.
            let possible =
                isolation::forget_possible(yard).and_then(|()| isolation::possible_isolation(yard, &Ctx::default()));
            let best = possible.map_or(Isolation::Redirected, |possible| possible.best());
            LaunchError::Isolation { asked: plan.isolation.name(), best: best.name(), why }.into()
        }
        Refusal::Program(error) => match plan.wrapper.first() {
            None => Error::io("start", &plan.program, error),
            Some(command) => {
                let (command, why) = (command.clone(), error.to_string());
                LaunchError::Command { what: "wrapper", command, why }.into()
            }
        },
    })
}

/// Runs a command of the profile's to its end, with no shell in between.
pub(crate) fn run_command(yard: &Yard, what: &'static str, words: &[String], plan: &Plan) -> Result<()> {
    let Some((program, arguments)) = words.split_first() else { return Ok(()) };
    let folder = yard.folder_of(&plan.row);
    let ended = Command::new(program)
        .args(arguments)
        .current_dir(&folder)
        .env("YARDTWIN_YARD", yard.root())
        .env("YARDTWIN_TWIN", plan.twin.as_str())
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .status();
    let why = match ended {
        Ok(status) if status.success() => return Ok(()),
        Ok(status) => status.to_string(),
        Err(error) => error.to_string(),
    };
    Err(LaunchError::Command { what, command: words.join(" "), why }.into())
}

/// What was made in a twin's home before its first start was laid by us: it is no change of the player's, and no line of the
/// history. `before` is the line that had the twin's state until it was seen.
fn lay_home(twin: &mut Twin, settled: &Settled, before: Option<&HistoryEntry>, ctx: &Ctx) -> Result<()> {
    let yard = &twin.yard;
    let laid = yard.store.listing(settled.state.laid)?.sharing_paths(&settled.listing);
    let made = home::prepared().filter(|path| !laid.has(path));
    let made: Vec<_> = made.filter_map(|path| settled.listing.get(&path).cloned()).collect();
    if made.is_empty() {
        return Ok(());
    }
    let mut entries = laid.into_entries();
    entries.extend(made);
    let laid = Listing::new(entries)?;
    let op = yard.begin(ctx)?;
    let state = State { laid: yard.store.put_listing(&laid, None, &op)?, ..settled.state.clone() };
    let newest = yard.catalog.newest_change(twin.row.id)?;
    let nobodys = match before.filter(|before| before.number + 1 == newest) {
        None => false,
        Some(before) => {
            let from = yard.store.state(before.state)?;
            let there = yard.store.listing(from.disk)?;
            from.profile == state.profile
                && diff(&there, &settled.listing).all(|change| home::makes(change.path().as_str()))
        }
    };
    let state = yard.store.put_state(&state, &op)?;
    yard.catalog.together(|| match nobodys {
        true => yard.catalog.fold_newest(twin.row.id, state),
        false => yard.catalog.set_state(twin.row.id, state),
    })?;
    twin.renew()
}

/// What a run changed, if that was written down.
pub(crate) fn read_report(yard: &Yard, row: &TwinRow, run: i64) -> Result<Option<Report>> {
    let path = yard.run_folder(row, run).join("report.json");
    match disk::read_own(&path, 1 << 30) {
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(None),
        text => Ok(serde_json::from_slice(&text.at("read", &path)?).ok()),
    }
}
