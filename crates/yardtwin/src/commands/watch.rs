//! `check --start`: a watched start.

use std::ffi::OsString;
use std::process::ExitCode;
use std::sync::Arc;
use std::time::Duration;

use yard_twin::{TwinName, Yard, markers, play};

use super::check::FOUND;
use super::play::attended;
use super::{Done, typed};
use crate::progress::ctx;
use crate::screen::{Screen, listed, shell, some_of};

/// How a watched start is wished for.
pub(crate) struct Wish {
    pub(crate) seconds: Option<u64>,
    pub(crate) fix: bool,
    pub(crate) arguments: Vec<OsString>,
    pub(crate) dry_run: bool,
}

pub(crate) fn start(yard: &Yard, name: &TwinName, wish: &Wish, screen: &Screen) -> Done {
    let ctx = ctx(screen);
    if wish.fix {
        let plan = markers::plan(yard, name, &ctx)?;
        let laid = if wish.dry_run { plan.missing } else { markers::apply(yard, &plan, &ctx)? };
        if !laid.is_empty() && !screen.is_json() {
            let done = if wish.dry_run { "would be added" } else { "are added" };
            screen.aside(format_args!("Marker files and folders {done}: {}", laid.join(", ")));
        }
    }
    let options = play::Options {
        arguments: wish.arguments.clone(),
        keep: play::Keep::Never,
        watched: true,
        ..play::Options::default()
    };
    let plan = play::plan(yard, name, &options, &ctx)?;
    if wish.dry_run {
        screen.answer(&plan, |screen| {
            screen.head(format_args!("{} would be started {}, and watched", shell(name), plan.isolation));
            screen.facts(&[("program", plan.program.display().to_string())]);
        });
        return Ok(ExitCode::SUCCESS);
    }
    let seconds = wish.seconds;
    if !screen.is_json() {
        let until = seconds.map_or_else(|| "until you end it".into(), |seconds| format!("for {seconds} s"));
        screen.aside(format_args!("{} is started {} and watched {until}", shell(name), plan.isolation));
    }
    let outcome = attended(yard, &plan, &options, screen, |running| {
        if let Some(seconds) = seconds {
            let signaller = Arc::new(running.signaller());
            // It goes with this process, if the program ends before.
            std::thread::spawn(move || {
                std::thread::sleep(Duration::from_secs(seconds));
                signaller.end_all();
            });
        }
    })?;
    let answer = play::contained(yard, &plan, &outcome)?;
    screen.answer(&answer, |screen| say(&plan, &answer, screen));
    Ok(if answer.self_contained { ExitCode::SUCCESS } else { ExitCode::from(FOUND) })
}

fn say(plan: &play::Plan, answer: &play::Contained, screen: &Screen) {
    let name = shell(&answer.twin);
    let outside: Vec<_> = answer.outside.iter().map(|path| path.display().to_string()).collect();
    if answer.self_contained {
        let sure = if answer.exact { "" } else { ", as far as can be seen when it is not sealed" };
        screen.head(format_args!("{name} is self-contained: it wrote nothing outside of its game folder{sure}"));
    } else {
        let tries = if answer.in_home.is_empty() && outside.is_empty() { "tries to write" } else { "writes" };
        screen.head(format_args!("{name} {tries} outside of its game folder"));
    }
    screen.facts(&[
        ("into the home", some_of(&answer.in_home, 12)),
        ("elsewhere", some_of(&outside, 12)),
        ("refused, it says", some_of(&answer.refused, 5)),
        ("what it wrote", "is thrown away: the twin is as it was".into()),
        ("to keep it inside", remedy(plan, answer)),
        ("next", if answer.missing.is_empty() { String::new() } else { typed("check --start --fix", &[&answer.twin]) }),
    ]);
    if !answer.in_home.is_empty() {
        screen.warn(format_args!(
            "launched from here, its home is the twin's own, and what it writes there stays with the twin; started in \
             any other way, it writes into yours"
        ));
    }
    if !answer.exact && !answer.outside.is_empty() {
        screen.warn("other programs may have written there meanwhile");
    }
}

/// What of the title sheet would keep the program in.
fn remedy(plan: &play::Plan, answer: &play::Contained) -> String {
    let inside = &answer.inside;
    if answer.self_contained {
        return String::new();
    }
    if !answer.missing.is_empty() {
        return format!("what the title sheet names and the twin lacks: {}", listed(&answer.missing, 12));
    }
    let variables = inside.environment.iter().map(|(name, value)| format!("{name}={value}"));
    let named: Vec<_> =
        [&inside.files, &inside.folders, &inside.arguments].into_iter().flatten().cloned().chain(variables).collect();
    if named.is_empty() {
        let title = &plan.build.title;
        return format!(
            "nothing that is known: the title sheet of {title} has no [inside] that names a marker, an argument or a variable"
        );
    }
    format!("nothing more: it had all that the title sheet names ({})", listed(&named, 12))
}
