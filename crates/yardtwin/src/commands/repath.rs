//! `repath`.

use std::path::{Path, PathBuf};
use std::process::ExitCode;

use yard_twin::{TwinName, Yard, repath};

use super::{Done, typed};
use crate::args::DryRun;
use crate::fail::Failure;
use crate::progress::ctx;
use crate::screen::{Screen, Tone, counted, duration, files, listed, shell, size};

use super::check::FOUND;

/// So many places are listed unless all are asked for.
const PLACES: usize = 30;

/// What is wished for.
pub(crate) struct Wish {
    pub(crate) name: Option<TwinName>,
    pub(crate) how: DryRun,
    pub(crate) named: Option<(PathBuf, PathBuf)>,
    pub(crate) inside: Option<PathBuf>,
    pub(crate) all: bool,
}

pub(crate) fn repath(yard: &Yard, wish: &Wish, screen: &Screen) -> Done {
    let named = wish.named.as_ref().map(|(from, to)| (from.as_path(), to.as_path()));
    match (&wish.inside, &wish.name) {
        (Some(folder), name) => in_folder(yard, folder, name.as_ref(), named, wish, screen),
        (None, Some(name)) => in_twin(yard, name, named, wish, screen),
        (None, None) => Err(Failure::usage("no twin was named, and no folder", "yardtwin repath NAME")),
    }
}

fn in_twin(yard: &Yard, name: &TwinName, named: Option<(&Path, &Path)>, wish: &Wish, screen: &Screen) -> Done {
    let ctx = ctx(screen);
    let plan = repath::plan(yard, name, named, &ctx)?;
    if wish.how.dry_run {
        screen.answer(&plan, |screen| {
            say(&format!("The twin {}", shell(name)), &plan.found, wish, screen);
            let rewrites = plan.found.iter().any(|found| found.only_reported.is_none()) || plan.profile;
            screen.facts(&[
                ("looked through", format!("{}, {}", files(plan.files), size(plan.bytes))),
                ("looked for", places(&plan.places)),
                ("its profile", if plan.profile { "names one too".into() } else { String::new() }),
                ("mend it", if rewrites { typed("repath", &[name]) } else { String::new() }),
            ]);
        });
        let nothing = plan.found.is_empty() && !plan.profile;
        return Ok(if nothing { ExitCode::SUCCESS } else { ExitCode::from(FOUND) });
    }
    let outcome = repath::apply(yard, &plan, &ctx)?;
    screen.answer(&outcome, |screen| {
        say(&format!("The twin {}", shell(name)), &plan.found, wish, screen);
        screen.facts(&[
            ("rewritten", format!("{}, in {}", files(outcome.rewritten), duration(outcome.took))),
            ("way back", outcome.number.map(|_| typed("restore --all", &[name, &outcome.before])).unwrap_or_default()),
        ]);
    });
    Ok(ExitCode::SUCCESS)
}

fn in_folder(
    yard: &Yard,
    folder: &Path,
    name: Option<&TwinName>,
    named: Option<(&Path, &Path)>,
    wish: &Wish,
    screen: &Screen,
) -> Done {
    let ctx = ctx(screen);
    let plan = repath::plan_folder(yard, folder, name, named, &ctx)?;
    let about = format!("The folder {}", plan.folder.display());
    if wish.how.dry_run {
        screen.answer(&plan, |screen| {
            say(&about, &plan.found, wish, screen);
            screen.facts(&[
                ("looked through", format!("{}, {}", files(plan.files), size(plan.bytes))),
                ("looked for", places(&plan.places)),
                ("passed over", listed(&plan.passed_over, 5)),
                ("mend it", if plan.found.is_empty() { "" } else { "the same command without --dry-run" }.into()),
            ]);
        });
        return Ok(if plan.found.is_empty() { ExitCode::SUCCESS } else { ExitCode::from(FOUND) });
    }
    let outcome = repath::apply_folder(yard, &plan, &ctx)?;
    screen.answer(&outcome, |screen| {
        say(&about, &plan.found, wish, screen);
        screen.facts(&[
            ("rewritten", files(outcome.rewritten)),
            ("way back", format!("what was there is kept: {}", outcome.kept.display())),
        ]);
    });
    Ok(ExitCode::SUCCESS)
}

fn say(about: &str, found: &[repath::NamedPlace], wish: &Wish, screen: &Screen) {
    let rewritten = found.iter().filter(|found| found.only_reported.is_none()).count();
    match (found.len(), rewritten) {
        (0, _) => screen.head(format_args!("{about} names no such place")),
        (all, 0) => screen.head(format_args!("{about} names such places {}, and none is rewritten", times(all))),
        (all, some) => {
            let done = if wish.how.dry_run { "would be rewritten" } else { "rewritten" };
            screen.head(format_args!("{about} names such places {}; {some} {done}", times(all)));
        }
    }
    let most = if wish.all { usize::MAX } else { PLACES };
    for place in found.iter().take(most) {
        one(place, screen);
    }
    if found.len() > most {
        let more = counted((found.len() - most) as u64, "more place");
        screen.pieces(&[(Tone::Faint, &format!("  and {more}; --all lists them"))]);
    }
}

fn times(count: usize) -> String {
    if count == 1 { "once".into() } else { format!("{count} times") }
}

fn one(place: &repath::NamedPlace, screen: &Screen) {
    let line = place.line.map(|line| format!(":{line}")).unwrap_or_default();
    let (tone, mark) = if place.only_reported.is_some() { (Tone::Other, "!") } else { (Tone::Came, "~") };
    screen.pieces(&[
        (Tone::Plain, "  "),
        (tone, mark),
        (Tone::Plain, " "),
        (Tone::Plain, &format!("{}{line}", place.path)),
    ]);
    if !place.text.is_empty() {
        screen.pieces(&[(Tone::Faint, &format!("      {}", place.text))]);
    }
    let form = match place.form {
        repath::PathForm::Plain => "",
        repath::PathForm::Escaped => " (slashes escaped)",
        repath::PathForm::Backslashes => " (with backslashes)",
        repath::PathForm::DoubledBackslashes => " (with doubled backslashes)",
        repath::PathForm::Url => " (as a URL)",
        repath::PathForm::Wide => " (UTF-16)",
        repath::PathForm::Xml => " (as XML has it)",
        repath::PathForm::Unicode => " (with \\u)",
        repath::PathForm::Shell => " (for a shell)",
    };
    let what = match (&place.to, place.only_reported) {
        (_, Some(why)) => format!("names {}{form}; left as it is: {why}", place.from),
        (Some(to), None) => format!("{}{form} \u{2192} {to}", place.from),
        (None, None) => format!("names {}{form}", place.from),
    };
    screen.pieces(&[(Tone::Plain, &format!("      {what}"))]);
}

fn places(places: &[repath::Place]) -> String {
    let line = |place: &repath::Place| {
        let what = match place.what {
            repath::PlaceKind::Former => "where it was",
            repath::PlaceKind::Origin => "what it was cloned from",
            repath::PlaceKind::Installed => "where its build was installed",
            repath::PlaceKind::OtherTwin => "another twin",
            repath::PlaceKind::Named => "as you said",
        };
        format!("{} ({what})", place.from)
    };
    places.iter().map(line).collect::<Vec<_>>().join("\n")
}
