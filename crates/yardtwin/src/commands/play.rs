//! `launch` and `entry`.

use std::ffi::OsString;
use std::io::Write;
use std::path::PathBuf;
use std::process::ExitCode;
use std::sync::Arc;

use signal_hook::consts::{SIGHUP, SIGINT, SIGQUIT, SIGTERM, SIGUSR1, SIGUSR2};
use signal_hook::iterator::SignalsInfo;
use signal_hook::iterator::exfiltrator::origin::{Origin, WithOrigin};
use yard_twin::{EntryOptions, LaunchOptions, LaunchPlan, RunOutcome, Signaller, Stream, TwinName, Yard};

use super::{Done, data_folder, typed};
use crate::args::{DryRun, Entry};
use crate::fail::Failure;
use crate::progress::quiet_ctx;
use crate::screen::{Screen, duration, shell};

pub(crate) fn launch(yard: &Yard, name: &TwinName, arguments: Vec<OsString>, how: DryRun, screen: &Screen) -> Done {
    let json = screen.is_json();
    let options = LaunchOptions { arguments, output: (!json).then(|| Arc::new(pass_on) as _) };
    let ctx = quiet_ctx(screen);
    let plan = yard.plan_launch(name, &options, &ctx)?;
    if how.dry_run {
        screen.answer(&plan, |screen| say_plan(&plan, screen));
        return Ok(ExitCode::SUCCESS);
    }
    if !json {
        announce(&plan, screen);
    }
    // From here on signals are for the program. They are caught before it starts, so that none is lost.
    let signals = [SIGHUP, SIGINT, SIGQUIT, SIGTERM, SIGUSR1, SIGUSR2];
    let signals = SignalsInfo::<WithOrigin>::new(signals)
        .map_err(|error| Failure::failed(format!("signals can't be caught: {error}")))?;
    let running = yard.launch(&plan, &options, &ctx)?;
    let handle = signals.handle();
    let passing = pass_signals(signals, running.signaller());
    let outcome = running.wait(&ctx);
    handle.close();
    // It ends once its handle is closed; a panic in it has been reported already.
    let _ = passing.join();
    let outcome = outcome?;
    screen.answer(&outcome, |screen| say_outcome(&plan, &outcome, screen));
    Ok(exit_code(&outcome))
}

/// A program's output goes where ours would.
fn pass_on(stream: Stream, bytes: &[u8]) {
    // Where nobody listens any more, the program goes on all the same.
    let _ = match stream {
        Stream::Out => std::io::stdout().write_all(bytes).and_then(|()| std::io::stdout().flush()),
        Stream::Err => std::io::stderr().write_all(bytes),
    };
}

fn pass_signals(mut signals: SignalsInfo<WithOrigin>, to: Signaller) -> std::thread::JoinHandle<()> {
    std::thread::spawn(move || {
        for Origin { signal, process, .. } in signals.forever() {
            // Ctrl-C and the like come from the kernel, to the program too: both are of one terminal's process group.
            if process.is_some() {
                to.send(signal);
            }
        }
    })
}

/// The program's own exit code; 128 and the signal's number if a signal ended it.
fn exit_code(outcome: &RunOutcome) -> ExitCode {
    let code = outcome.record.exit_code.or(outcome.record.signal.map(|signal| 128 + signal));
    ExitCode::from(code.and_then(|code| u8::try_from(code & 0xff).ok()).unwrap_or(1))
}

fn say_plan(plan: &LaunchPlan, screen: &Screen) {
    screen.head(format_args!("{} {} \u{2013} {} would be started", plan.title_name, plan.build.build, plan.twin));
    let words: Vec<_> = plan.arguments.iter().map(|argument| shell(&argument.to_string_lossy())).collect();
    let variables = plan.environment.iter().map(|(n, v)| format!("{}={}", n.to_string_lossy(), v.to_string_lossy()));
    screen.facts(&[
        ("program", plan.program.display().to_string()),
        ("arguments", words.join(" ")),
        ("in", plan.folder.display().to_string()),
        ("with", variables.collect::<Vec<_>>().join("\n")),
        ("isolation", plan.isolation.to_string()),
    ]);
}

fn announce(plan: &LaunchPlan, screen: &Screen) {
    screen.aside(format_args!(
        "Starting {} {} \u{2013} {} (isolation: {})",
        plan.title_name, plan.build.build, plan.twin, plan.isolation
    ));
    if plan.first && plan.home_empty {
        screen.warn(format_args!(
            "this is its first start: it begins with an empty home of its own, not with yours ({})",
            plan.home.display()
        ));
    }
}

fn say_outcome(plan: &LaunchPlan, outcome: &RunOutcome, screen: &Screen) {
    let end = match (outcome.record.exit_code, outcome.record.signal) {
        (Some(0), _) => String::new(),
        (Some(code), _) => format!(", with exit code {code}"),
        (None, Some(signal)) => format!(", by signal {signal}"),
        (None, None) => String::new(),
    };
    screen.aside(format_args!("{} ended after {}{end}", plan.twin, duration(outcome.ran)));
    screen.aside(format_args!("  changed  {}", crate::screen::plain(&outcome.changes.summary())));
    screen.aside(format_args!("  output   {}", outcome.output.display()));
    super::twins::leaks(&outcome.leaks, screen);
}

pub(crate) fn entry(yard: &Yard, command: Entry, screen: &Screen) -> Done {
    match command {
        Entry::Add { name, folder, how } => add(yard, &name, folder, how, screen),
        Entry::List => list(yard, screen),
        Entry::Remove { name, how } => remove(yard, &name, how, screen),
    }
}

fn add(yard: &Yard, name: &TwinName, folder: Option<PathBuf>, how: DryRun, screen: &Screen) -> Done {
    let folder = folder.map_or_else(|| Ok(data_folder()?.join("applications")), Ok::<_, Failure>)?;
    let command = start_command(yard)?;
    let plan = yard.plan_entry(name, &EntryOptions { command, folder })?;
    if !how.dry_run {
        yard.apply_entry(&plan)?;
    }
    screen.answer(&plan, |screen| {
        let done = if how.dry_run { "would be written" } else { "is written" };
        screen.head(format_args!("The launch entry {} {done}", shell(&plan.name)));
        screen.facts(&[
            ("file", plan.path.display().to_string()),
            ("text", if how.dry_run { plan.text.clone() } else { String::new() }),
            ("way back", typed("entry remove", &[name])),
        ]);
    });
    Ok(ExitCode::SUCCESS)
}

/// What starts a twin when its id is added: this program, this yard.
fn start_command(yard: &Yard) -> Result<Vec<String>, Failure> {
    let program =
        std::env::current_exe().map_err(|error| Failure::failed(format!("this program can't find itself: {error}")))?;
    let text = |path: &std::path::Path| {
        path.to_str()
            .map(str::to_owned)
            .ok_or_else(|| Failure::failed(format!("{} is not UTF-8, which a launch entry can't hold", path.display())))
    };
    Ok(vec![text(&program)?, "--yard".into(), text(yard.root())?, "launch".into(), "--id".into()])
}

fn list(yard: &Yard, screen: &Screen) -> Done {
    let entries = yard.entries()?;
    screen.answer(&entries, |screen| {
        if entries.is_empty() {
            screen.head("There is no launch entry yet.");
            screen.facts(&[("next", typed("entry add NAME", &[]))]);
            return;
        }
        let rows = entries.iter().map(|entry| {
            let missing = if entry.missing { "  (the file is missing)" } else { "" };
            vec![entry.twin.to_string(), entry.name.clone(), format!("{}{missing}", entry.path.display())]
        });
        screen.table(&["TWIN", "SHOWN AS", "FILE"], rows.collect());
    });
    Ok(ExitCode::SUCCESS)
}

fn remove(yard: &Yard, name: &TwinName, how: DryRun, screen: &Screen) -> Done {
    let paths = yard.remove_entries(name, how.dry_run)?;
    screen.answer(&paths, |screen| {
        let done = if how.dry_run { "would be deleted" } else { "are deleted" };
        screen.head(format_args!("The launch entries of {} {done}", shell(name)));
        let paths: Vec<_> = paths.iter().map(|path| path.display().to_string()).collect();
        screen.facts(&[("files", paths.join("\n")), ("way back", typed("entry add", &[name]))]);
    });
    Ok(ExitCode::SUCCESS)
}
