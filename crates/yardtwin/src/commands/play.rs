//! `launch` and `entry`.

use std::ffi::OsString;
use std::io::{BufRead, BufReader, IsTerminal, Read, Write};
use std::path::PathBuf;
use std::process::{Command, ExitCode, Stdio};
use std::sync::{Arc, OnceLock};
use std::time::Duration;

use yard_twin::share::Files;
use yard_twin::{Changes, Isolation, TwinName, Yard, edits, entry, play};

use super::terminal::{self, Between};
use super::{Done, data_folder, typed};
use crate::answers::Detached;
use crate::args::{DryRun, Entry};
use crate::fail::Failure;
use crate::progress::{ctx, quiet_ctx};
use crate::screen::{Screen, duration, files, listed, plain, processes, shell, size, some_of};

/// What becomes of what a run changes.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Changed {
    Kept,
    Discarded,
    Asked,
}

/// How a launch is wished for.
pub(crate) struct Wish {
    pub(crate) arguments: Vec<OsString>,
    pub(crate) keep: Changed,
    pub(crate) variant: Option<String>,
    pub(crate) how: DryRun,
    /// Whether it is the part of a detached launch that stays.
    pub(crate) in_background: bool,
}

pub(crate) fn launch(yard: &Yard, name: &TwinName, wish: &Wish, screen: &Screen) -> Done {
    let quiet = screen.is_json() || wish.in_background;
    let keep = match wish.keep {
        Changed::Kept => play::Keep::Always,
        Changed::Discarded => play::Keep::Never,
        Changed::Asked => {
            screen.can_ask("what becomes of what it changes")?;
            let screen = *screen;
            play::Keep::Ask(Arc::new(move |changes| ask(changes, &screen)))
        }
    };
    let arguments = wish.arguments.clone();
    let variant = wish.variant.clone();
    let terminal = if quiet { None } else { play::Terminal::here() };
    let attached = Arc::new(OnceLock::new());
    let output = (!quiet).then(|| pass_on(terminal.as_ref(), Arc::clone(&attached)));
    let options = play::Options { arguments, output, keep, variant, terminal, ..play::Options::default() };
    let ctx = quiet_ctx(screen);
    let plan = play::plan(yard, name, &options, &ctx)?;
    if wish.how.dry_run {
        screen.answer(&plan, |screen| say_plan(&plan, screen));
        return Ok(ExitCode::SUCCESS);
    }
    if wish.in_background {
        // What becomes of the terminal that it was started at is nothing to it.
        let _ = rustix::process::setsid();
    }
    if !quiet {
        announce(&plan, screen);
        if options.terminal.is_none() && std::io::stdin().is_terminal() {
            screen.warn("its output goes to another program, which the keyboard is left to: it has no input");
        }
    }
    let outcome = attended(yard, &plan, &options, screen, |running| {
        attached.get_or_init(|| ());
        if wish.in_background {
            screen.line(running.pid());
            hear_nothing();
        }
    })?;
    if !wish.in_background {
        screen.answer(&outcome, |screen| say_outcome(plan.twin.as_str(), &plan, &outcome, screen));
    }
    Ok(exit_code(&outcome))
}

/// Leaves the pipes to a command that ends now: whatever is still said must not fail because nobody reads it.
fn hear_nothing() {
    if let Ok(null) = std::fs::File::options().write(true).open("/dev/null") {
        let _ = rustix::stdio::dup2_stdout(&null).and_then(|()| rustix::stdio::dup2_stderr(&null));
    }
}

/// Runs a program to the end of all that it starts. Signals are for it meanwhile.
pub(super) fn attended(
    yard: &Yard,
    plan: &play::Plan,
    options: &play::Options,
    screen: &Screen,
    begun: impl FnOnce(&play::Running),
) -> Result<play::Outcome, Failure> {
    let ctx = quiet_ctx(screen);
    // They are caught before it starts, so that none is lost.
    let signals = terminal::signals(options.terminal.is_some())
        .map_err(|error| Failure::failed(format!("signals can't be caught: {error}")))?;
    let mut running = play::start(yard, plan, options, &ctx)?;
    let between = Arc::new(Between::new(options.terminal.as_ref().zip(running.terminal()), running.signaller()));
    begun(&running);
    let handle = signals.handle();
    let passing = between.pass_signals(signals);
    while running.changed() == play::Change::Stopped {
        between.stop_too();
    }
    between.is_over();
    let left = running.left_behind();
    if left.is_empty() {
        running.output_passed_on();
    }
    between.leave_terminal();
    if !left.is_empty() && !screen.is_json() {
        screen.warn(format_args!(
            "{} has ended, and what it started goes on: {}. Ctrl-C ends that too, or {} --stop",
            plan.twin,
            processes(&left, 5),
            typed("launch", &[&plan.twin])
        ));
    }
    let outcome = running.wait(&ctx);
    handle.close();
    // It ends once its handle is closed; a panic in it has been reported already.
    let _ = passing.join();
    Ok(outcome?)
}

/// What became of config edits before the program was started, and afterwards, as far as it is worth a word.
fn edits(outcome: &play::Outcome) -> String {
    let line = |(again, edit): (bool, &edits::View)| {
        let value = edit.value.as_deref().unwrap_or_default();
        let what = match edit.does {
            edits::Does::Set if again => format!("set to {value} again"),
            edits::Does::Set => format!("set to {value}"),
            edits::Does::GivesBack => "taken back".into(),
            edits::Does::Waits => "not set: the file is not there yet".into(),
            edits::Does::Leaves => "not taken back: it was changed since".into(),
            edits::Does::Drifted => "was changed since it was set, and stays so".into(),
            edits::Does::Broken => format!("not set: {}", edit.why.as_deref().unwrap_or_default()),
            edits::Does::Nothing => return None,
        };
        Some(format!("{} in {}: {what}", edit.key, edit.file))
    };
    let before = outcome.edits.iter().map(|edit| (false, edit));
    let after = outcome.edits_back.iter().map(|edit| (true, edit));
    before.chain(after).filter_map(line).collect::<Vec<_>>().join("\n")
}

/// Asks whether changes are kept.
fn ask(changes: &Changes, screen: &Screen) -> bool {
    let paths = changes.groups.iter().flat_map(|group| {
        let marked =
            |paths: &[String], how: &str| paths.iter().map(|path| format!("{how:8} {path}")).collect::<Vec<_>>();
        [marked(&group.new, "new"), marked(&group.changed, "changed"), marked(&group.gone, "gone")].concat()
    });
    let paths: Vec<_> = paths.collect();
    screen.aside("It changed:");
    for line in some_of(&paths, 40).lines() {
        screen.aside(format_args!("  {}", plain(line)));
    }
    // Without an answer nothing is lost.
    screen.confirm("Throw that away?", false).is_err()
}

/// Starts a launch that stays in the background, and waits until the program runs.
pub(crate) fn detach(yard: &Yard, name: &TwinName, wish: Wish, screen: &Screen) -> Done {
    let Wish { arguments, keep, variant, .. } = wish;
    let program =
        std::env::current_exe().map_err(|error| Failure::failed(format!("this program can't find itself: {error}")))?;
    let mut command = Command::new(program);
    command.arg("--yard").arg(yard.root()).args(["launch", name.as_str(), "--in-background"]);
    if let Some(variant) = variant {
        command.arg("--variant").arg(variant);
    }
    if keep == Changed::Discarded {
        command.arg("--discard");
    }
    let mut child = command
        .arg("--")
        .args(arguments)
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .map_err(|error| Failure::failed(format!("this program can't be started once more: {error}")))?;
    let mut line = String::new();
    if let Some(out) = child.stdout.take() {
        let _ = BufReader::new(out).read_line(&mut line);
    }
    if line.is_empty() {
        // It failed, and has said why.
        let mut said = String::new();
        if let Some(mut err) = child.stderr.take() {
            let _ = err.read_to_string(&mut said);
        }
        screen.aside(said.trim_end());
        let status = child.wait().map_err(|error| Failure::failed(format!("it can't be waited for: {error}")))?;
        return Ok(status.code().and_then(|code| u8::try_from(code).ok()).map_or(ExitCode::FAILURE, ExitCode::from));
    }
    let answer = Detached { twin: name, process: line.trim().parse().ok() };
    screen.answer(&answer, |screen| {
        screen.head(format_args!("{} is running in the background", shell(name)));
        screen.facts(&[
            ("end it", format!("{} --stop", typed("launch", &[name]))),
            ("what it did", format!("{} --runs, once it has ended", typed("history", &[name]))),
        ]);
    });
    Ok(ExitCode::SUCCESS)
}

pub(crate) fn stop(yard: &Yard, name: &TwinName, screen: &Screen) -> Done {
    /// How long a program has to end by itself.
    const GRACE: Duration = Duration::from_secs(10);
    let stopped = play::stop(yard, name, GRACE, &ctx(screen))?;
    screen.answer(&stopped, |screen| {
        let how = if stopped.made_to { "has been made to end: it did not when it was asked to" } else { "has ended" };
        screen.head(format_args!("{} {how}", shell(name)));
        screen.facts(&[
            ("asked to end", processes(&stopped.asked, 8)),
            ("what it did", format!("{} --runs", typed("history", &[name]))),
        ]);
    });
    Ok(ExitCode::SUCCESS)
}

/// A program's output goes where ours would; what it draws waits until the keys are its own.
pub(super) fn pass_on(terminal: Option<&play::Terminal>, attached: Arc<OnceLock<()>>) -> play::OutputSink {
    let drawn = terminal.and_then(terminal::drawn);
    Arc::new(move |stream, bytes| {
        attached.wait();
        // Where nobody listens any more, the program goes on all the same.
        let _ = match (stream, drawn.as_ref()) {
            (play::Stream::Err, _) => std::io::stderr().write_all(bytes),
            (play::Stream::Terminal, Some(mut drawn)) => drawn.write_all(bytes),
            _ => std::io::stdout().write_all(bytes).and_then(|()| std::io::stdout().flush()),
        };
    })
}

/// The program's own exit code; 128 and the signal's number if a signal ended it.
fn exit_code(outcome: &play::Outcome) -> ExitCode {
    let code = outcome.record.exit_code.or(outcome.record.signal.map(|signal| 128 + signal));
    ExitCode::from(code.and_then(|code| u8::try_from(code & 0xff).ok()).unwrap_or(1))
}

fn say_plan(plan: &play::Plan, screen: &Screen) {
    screen.head(format_args!("{} {} \u{2013} {} would be started", plan.title_name, plan.build.build, plan.twin));
    let words: Vec<_> = plan.arguments.iter().map(|argument| shell(&argument.to_string_lossy())).collect();
    let variables = plan.environment.iter().map(|(n, v)| format!("{}={}", n.to_string_lossy(), v.to_string_lossy()));
    screen.facts(&[
        ("program", plan.program.display().to_string()),
        ("arguments", words.join(" ")),
        ("in", plan.folder.display().to_string()),
        ("with", variables.collect::<Vec<_>>().join("\n")),
        ("isolation", plan.isolation.to_string()),
        ("no better", plan.why_not_better.clone().unwrap_or_default()),
        ("network", if plan.network { String::new() } else { "off".into() }),
        ("reaches", plan.reached.iter().map(reached).collect::<Vec<_>>().join("\n")),
        ("ipc", if plan.own_ipc { "its own".into() } else { "the system's".into() }),
        ("before", plan.before.join(" ")),
        ("in front", plan.wrapper.join(" ")),
        ("after", plan.after.join(" ")),
        ("markers missing", plan.markers_missing.join(", ")),
    ]);
}

/// A folder outside that a program is shown.
pub(super) fn reached(one: &play::Reached) -> String {
    let what = match (one.missing, one.writable) {
        (true, _) => "which is not there now, so it is not shown",
        (false, true) => "and may write to it: that can't be undone",
        (false, false) => "read-only",
    };
    format!("{}, {what}", one.folder.display())
}

fn announce(plan: &play::Plan, screen: &Screen) {
    screen.aside(format_args!(
        "Starting {} {} \u{2013} {} (isolation: {})",
        plan.title_name, plan.build.build, plan.twin, plan.isolation
    ));
    if let Some(why) = &plan.why_not_better {
        screen.warn(why);
    }
    if plan.first && plan.home_empty {
        screen.warn(format_args!(
            "this is its first start: it begins with an empty home of its own, not with yours ({}), and may take longer \
             than later ones",
            plan.home.display()
        ));
    } else if plan.first {
        screen.warn("this is its first start: it may take longer than later ones");
    }
    if plan.made_own.files > 0 {
        let Files { files: count, bytes, .. } = plan.made_own;
        screen.warn(format_args!(
            "{} of its home, {}, that it shares get bytes of their own first: {} keeps nothing from writing through them",
            files(count),
            size(bytes),
            plan.isolation
        ));
    }
    for one in &plan.reached {
        screen.warn(format_args!("it reaches {}", reached(one)));
    }
    if plan.puts_all_back {
        screen.warn(
            "it is protected, and its title sheet names no belongings: what it writes beside its game files goes back after the \
             run, saves too, and stays in the history",
        );
    }
}

/// Says how a run of the twin or of a tool, `who`, has ended, and what it changed.
pub(super) fn say_outcome(who: &str, plan: &play::Plan, outcome: &play::Outcome, screen: &Screen) {
    let end = match (outcome.record.exit_code, outcome.record.signal) {
        (Some(0), _) => String::new(),
        (Some(code), _) => format!(", with exit code {code}"),
        (None, Some(signal)) => format!(", by signal {signal}"),
        (None, None) => String::new(),
    };
    let report = &outcome.report;
    screen.aside(format_args!("{who} ended after {}{end}", duration(outcome.ran)));
    if let Some(why) = &outcome.not_taken_in {
        screen.warn(format_args!(
            "what it wrote could not be taken in: {why}. It is kept where it is, and the next command that needs {} sees to it",
            shell(&plan.twin)
        ));
    } else {
        let kept = if report.discarded { "thrown away" } else { "changed" };
        screen.aside(format_args!("  {kept:11}  {}", plain(&report.changes.summary())));
    }
    if report.shared.files > 0 {
        let Files { files: count, bytes, .. } = report.shared;
        screen.aside(format_args!(
            "  {:11}  {}, {}, that it brought: clones share them too",
            "stored once",
            files(count),
            size(bytes)
        ));
    }
    for (at, line) in edits(outcome).lines().enumerate() {
        screen.aside(format_args!("  {:11}  {}", if at == 0 { "edits" } else { "" }, plain(line)));
    }
    screen.aside(format_args!("  {:11}  {}", "output", outcome.output.display()));
    let mind = |what: &str, paths: &[String]| {
        if !paths.is_empty() {
            screen.warn(format_args!("{what}:"));
        }
        for line in some_of(paths, 5).lines() {
            screen.aside(format_args!("        {}", plain(line)));
        }
    };
    if report.put_back.is_empty() {
        mind("written where the title sheet does not expect it", &report.changes.unexpected);
        if !report.changes.unexpected.is_empty() {
            let learn = typed(&format!("sheet learn {} --from", shell(&plan.build.title)), &[&plan.twin]);
            screen.aside(format_args!("        to add them to the sheet: {learn}"));
        }
    }
    mind("put back, since the twin is protected", &report.put_back);
    let outside: Vec<_> = report.outside.iter().map(|path| path.display().to_string()).collect();
    match plan.isolation {
        Isolation::Redirected => {
            let places: Vec<_> = report.looked_at.iter().map(|path| path.display().to_string()).collect();
            let all = if report.all_watched { "" } else { ", not all of what is there" };
            screen.aside(format_args!(
                "  {:11}  {}{all}; it may have written elsewhere too",
                "looked at",
                listed(&places, 8)
            ));
            mind("changed there meanwhile, by it or by another program", &outside);
        }
        _ => mind("left in the folders for temporary files, which were its own and are gone", &outside),
    }
    mind("refused, as its output tells", &report.refused);
    if !report.refused.is_empty() && plan.isolation != Isolation::Sealed {
        screen.aside(format_args!("        linked files are {}", super::share::guarded(&outcome.twin)));
    }
    mind("can't be copied along", &report.not_taken);
    mind("set aside, since another program has it open", &report.set_aside);
    if let Some(why) = &outcome.after_failed {
        screen.warn(why);
    }
    super::twins::leaks(&outcome.twin, &report.leaks, screen);
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
    let plan = entry::plan(yard, name, &entry::Options { command, folder })?;
    if !how.dry_run {
        entry::apply(yard, &plan)?;
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
pub(super) fn start_command(yard: &Yard) -> Result<Vec<String>, Failure> {
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
    let entries = entry::list(yard)?;
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
    let plan = entry::plan_remove(yard, name)?;
    if !how.dry_run {
        entry::apply_remove(yard, &plan)?;
    }
    let paths = &plan.paths;
    screen.answer(paths, |screen| {
        let done = if how.dry_run { "would be deleted" } else { "are deleted" };
        screen.head(format_args!("The launch entries of {} {done}", shell(name)));
        let paths: Vec<_> = paths.iter().map(|path| path.display().to_string()).collect();
        screen.facts(&[("files", paths.join("\n")), ("way back", typed("entry add", &[name]))]);
    });
    Ok(ExitCode::SUCCESS)
}
