//! `tool`, and `mod trial`: other programs than the twin's own are started in it, or in a copy of it.

use std::ffi::OsString;
use std::process::ExitCode;
use std::sync::{Arc, OnceLock};

use yard_twin::mods::{self, Answer, Culprits};
use yard_twin::{Error, ModError, ModName, SnapshotRef, TwinName, Yard, history, play};

use super::check::FOUND;
use super::mods::picture_of;
use super::play::{attended, pass_on, say_outcome};
use super::{Done, typed};
use crate::answers::ToolRun;
use crate::args::{DryRun, Trial};
use crate::fail::Failure;
use crate::progress::ctx;
use crate::screen::{Screen, listed, shell, some_of};

/// The signal that Ctrl-C sends.
const INTERRUPT: i32 = 2;

/// How a tool is wished for.
pub(crate) struct Wish {
    pub(crate) command: Vec<OsString>,
    pub(crate) as_mod: Option<ModName>,
    pub(crate) discard: bool,
    pub(crate) how: DryRun,
}

pub(crate) fn tool(yard: &Yard, name: &TwinName, wish: Wish, screen: &Screen) -> Done {
    let ctx = ctx(screen);
    let terminal = if screen.is_json() { None } else { play::Terminal::here() };
    let attached = Arc::new(OnceLock::new());
    let output = (!screen.is_json()).then(|| pass_on(terminal.as_ref(), Arc::clone(&attached)));
    let keep = if wish.discard { play::Keep::Never } else { play::Keep::Always };
    let tool = Some(wish.command);
    let options = play::Options { tool, keep, output, terminal, ..play::Options::default() };
    let plan = play::plan(yard, name, &options, &ctx).map_err(|error| match error {
        Error::Twin(yard_twin::TwinError::Protected(twin)) => Failure::refused(
            format!("the twin {twin:?} is protected: no tool may change its game files"),
            format!("Run it on a copy: {}", typed("clone", &[name, &"NAME"])),
        ),
        error => error.into(),
    })?;
    if wish.how.dry_run {
        screen.answer(&plan, |screen| {
            screen.head(format_args!("{} would be run on the twin {}", plan.program.display(), shell(name)));
            let sees: Vec<_> = plan.reached.iter().map(|reached| reached.folder.display().to_string()).collect();
            screen.facts(&[
                ("in", plan.folder.display().to_string()),
                ("isolation", plan.isolation.to_string()),
                ("sees besides", listed(&sees, 5)),
            ]);
        });
        return Ok(ExitCode::SUCCESS);
    }
    // What was there before is a line of its own.
    let before = history::entries(yard, name, &ctx)?.first().map_or(1, |entry| entry.number);
    let program = plan.program.file_name().unwrap_or_default().to_string_lossy().into_owned();
    if !screen.is_json() {
        screen.aside(format_args!("{program} is run on {} (isolation: {})", shell(name), plan.isolation));
        screen.aside(format_args!("  if it asks where the game is: {}", plan.folder.display()));
    }
    let outcome = attended(yard, &plan, &options, screen, |_| {
        attached.get_or_init(|| ());
    })?;
    let left = mods::left_by_tool(yard, name, before, &ctx)?;
    let mut kept = None;
    if let Some(as_mod) = wish.as_mod.filter(|_| !wish.discard) {
        let adopt = mods::AdoptOptions { files: Vec::new(), since: Some(SnapshotRef::Number(before)) };
        match mods::plan_adopt(yard, (name, &as_mod), &adopt, &ctx) {
            Err(Error::Mod(ModError::NothingToAdopt(_))) => {
                screen.warn("it changed no game file: there is no mod to keep");
            }
            plan => {
                let plan = plan?;
                let adopted = mods::apply(yard, &plan, &ctx)?;
                kept = Some((plan, adopted));
            }
        }
    }
    let adopted = kept.as_ref().map(|(_, adopted)| adopted);
    screen.answer(&ToolRun { run: &outcome, left: &left, adopted }, |screen| {
        say_outcome(&program, &plan, &outcome, screen);
        picture_of(&left.top, screen);
        let programs: Vec<_> = left.programs.iter().map(ToString::to_string).collect();
        let start = left.programs.first().and_then(|path| path.as_str().strip_prefix("game/"));
        let way_back = if wish.discard { String::new() } else { typed("undo", &[name]) };
        screen.facts(&[
            ("new programs", some_of(&programs, 5)),
            ("to start it", start.map(|path| typed("profile set", &[name, &"program", &path])).unwrap_or_default()),
            ("way back", way_back),
        ]);
        if let Some((plan, adopted)) = &kept {
            super::mods::say(plan, adopted, screen);
        }
    });
    let code = outcome.record.exit_code.or(outcome.record.signal.map(|signal| 128 + signal));
    Ok(ExitCode::from(code.and_then(|code| u8::try_from(code & 0xff).ok()).unwrap_or(1)))
}

pub(crate) fn trial(yard: &Yard, trial: &Trial, screen: &Screen) -> Done {
    if trial.ask {
        screen.can_ask("whether it worked")?;
    }
    let ctx = ctx(screen);
    let words: Vec<String> = trial.arguments.iter().map(|word| word.to_string_lossy().into_owned()).collect();
    let how = format!("{:?} {words:?} {}", trial.run, trial.ask);
    let mut failed = None;
    let mut ask = |attempt: &mods::Attempt| {
        if !screen.is_json() {
            let on: Vec<_> = attempt.on.iter().map(shell).collect();
            let on = if on.is_empty() { "no mods".to_owned() } else { on.join(", ") };
            screen.aside(format_args!("start {}: {on}", attempt.number));
        }
        one(yard, trial, attempt, screen).map_err(|failure| match failure {
            Failure::Library(error) => error,
            other => {
                failed = Some(other);
                Error::Cancelled
            }
        })
    };
    let options = mods::TrialOptions { how, unsure: trial.unsure };
    let verdict = mods::trial(yard, &trial.twin, &options, &mut ask, &ctx);
    if let Some(failure) = failed {
        return Err(failure);
    }
    let verdict = verdict?;
    screen.answer(&verdict, |screen| say(&verdict, screen));
    Ok(if verdict.found == Culprits::None { ExitCode::SUCCESS } else { ExitCode::from(FOUND) })
}

/// Starts the copy once; what that changes is thrown away.
fn one(yard: &Yard, trial: &Trial, attempt: &mods::Attempt, screen: &Screen) -> Result<Answer, Failure> {
    let tool = trial.run.as_ref().map(|run| ["sh", "-c", run].map(OsString::from).to_vec());
    let attached = Arc::new(OnceLock::new());
    // A program that somebody looks at is seen; what tells by its exit code is not.
    let output = trial.ask.then(|| pass_on(None, Arc::clone(&attached)));
    let arguments = trial.arguments.clone();
    let options = play::Options { tool, arguments, output, keep: play::Keep::Never, ..play::Options::default() };
    let plan = play::plan(yard, &attempt.twin, &options, &ctx(screen))?;
    let outcome = attended(yard, &plan, &options, screen, |_| {
        attached.get_or_init(|| ());
    })?;
    // Ctrl-C is no answer: it stops the trial.
    let record = &outcome.record;
    if record.signal == Some(INTERRUPT) || record.exit_code == Some(128 + INTERRUPT) {
        return Err(Error::Cancelled.into());
    }
    if trial.ask {
        let worked = screen.ask("Did it work?", false)?;
        return Ok(if worked { Answer::Works } else { Answer::Fails });
    }
    Ok(if record.exit_code == Some(0) { Answer::Works } else { Answer::Fails })
}

fn say(verdict: &mods::Verdict, screen: &Screen) {
    let name = shell(&verdict.twin);
    match &verdict.found {
        Culprits::None => screen.head(format_args!("{name} works with all of its mods")),
        Culprits::NotTheMods => screen.head(format_args!("{name} fails without any mod too: it is none of them")),
        Culprits::These(names) => {
            let names: Vec<_> = names.iter().map(shell).collect();
            let (fails, fewer) = if names.len() == 1 {
                ("fails with", "without it")
            } else {
                ("fails with these together:", "with one fewer")
            };
            screen.head(format_args!("{name} {fails} {}; {fewer}, it works", names.join(", ")));
        }
    }
    let off = match &verdict.found {
        Culprits::These(names) => names.last().map(|last| typed("mod off", &[&verdict.twin, last])),
        _ => None,
    };
    let remembered =
        if verdict.remembered == 0 { String::new() } else { format!(", {} answers from before", verdict.remembered) };
    screen.facts(&[
        ("tried", format!("{} mods", verdict.tried.len())),
        ("starts", format!("{}{remembered}", verdict.starts)),
        ("next", off.unwrap_or_default()),
    ]);
}
