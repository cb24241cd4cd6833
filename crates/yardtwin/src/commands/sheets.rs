//! `sheet new`, `sheet learn`, `sheet check`, `sheet add`.

use std::path::{Path, PathBuf};
use std::process::ExitCode;

use yard_twin::{Error, Place, Sheet, Title, TwinName, Unit, Yard, belongings, new_sheet, sheets};

use super::{Done, typed};
use crate::answers::{SheetLearned, SheetsChecked};
use crate::args::{Careful, DryRun, SheetCommand};
use crate::fail::Failure;
use crate::progress::ctx;
use crate::screen::{Screen, counted, files, shell, size, some_of};

pub(crate) fn run(yard: impl Fn() -> Result<Yard, Failure>, command: SheetCommand, screen: &Screen) -> Done {
    match command {
        SheetCommand::New { title, print: true, .. } => {
            screen.line(new_sheet(&title).trim_end());
            Ok(ExitCode::SUCCESS)
        }
        SheetCommand::New { title, print: false, how } => new(&yard()?, &title, how, screen),
        SheetCommand::Learn { title, from, how } => learn(&yard()?, &title, &from, how, screen),
        SheetCommand::Check { on: Some(name), .. } => on(&yard()?, &name, screen),
        SheetCommand::Check { file, .. } if file.is_empty() => check(&sheets::paths(&yard()?)?, screen),
        SheetCommand::Check { file, .. } => check(&file, screen),
        SheetCommand::Add { file, replace, how } => add(&yard()?, &file, replace, how, screen),
    }
}

fn new(yard: &Yard, title: &Title, how: DryRun, screen: &Screen) -> Done {
    let plan = sheets::plan_new(yard, title)?;
    if !how.dry_run {
        sheets::apply(yard, &plan, &ctx(screen))?;
    }
    screen.answer(&plan, |screen| {
        let done = if how.dry_run { "would be written" } else { "is written" };
        screen.head(format_args!("A sheet for {title} {done}: {}", plan.path.display()));
        screen.facts(&[("next", format!("fill it in, then: {}", typed("sheet check", &[&plan.path.display()])))]);
    });
    Ok(ExitCode::SUCCESS)
}

/// Shows what the sheet could say, asks for each, and writes what was agreed to.
fn learn(yard: &Yard, title: &Title, twin: &TwinName, how: Careful, screen: &Screen) -> Done {
    let ctx = ctx(screen);
    let lesson = sheets::learn(yard, twin, &ctx)?;
    if lesson.title.key() != title.key() {
        let message = format!("the twin {} is one of {}, not of {title}", shell(twin), lesson.title);
        return Err(Failure::usage(message, typed(&format!("sheet learn {} --from", lesson.title), &[twin])));
    }
    let agreed: Vec<&sheets::Learned> = lesson.proposals.iter().map(|proposal| &proposal.learned).collect();
    if how.dry_run || lesson.proposals.is_empty() {
        let plan = sheets::plan_learned(yard, &lesson, &agreed)?;
        screen.answer(&SheetLearned { lesson: &lesson, plan: &plan }, |screen| {
            propose(&lesson, screen);
            if !lesson.proposals.is_empty() {
                changed(&plan, screen);
            }
        });
        return Ok(ExitCode::SUCCESS);
    }
    if !screen.is_json() {
        propose(&lesson, screen);
    }
    let mut accepted = Vec::new();
    for proposal in &lesson.proposals {
        let (what, says) = in_words(&proposal.learned);
        if screen.ask(&format!("{what}: {}?", says.join(", ")), how.yes)? {
            accepted.push(&proposal.learned);
        }
    }
    let plan = sheets::plan_learned(yard, &lesson, &accepted)?;
    if !accepted.is_empty() {
        sheets::apply(yard, &plan, &ctx)?;
    }
    screen.answer(&SheetLearned { lesson: &lesson, plan: &plan }, |screen| {
        if accepted.is_empty() {
            screen.head("Nothing was changed");
            return;
        }
        changed(&plan, screen);
        screen.head(format_args!("The sheet for {title} is written: {}", plan.path.display()));
        screen.facts(&[
            ("kept", plan.keeps.as_ref().map(|old| format!("the old one: {}", old.display())).unwrap_or_default()),
            ("next", typed("sheet check --on", &[twin])),
        ]);
    });
    Ok(ExitCode::SUCCESS)
}

fn propose(lesson: &sheets::Lesson, screen: &Screen) {
    let runs = if lesson.runs == 1 { "1 run".into() } else { format!("{} runs", lesson.runs) };
    if lesson.runs == 0 && lesson.proposals.is_empty() {
        screen.head(format_args!(
            "The twin {} was not played yet: start it once or twice, then ask again",
            shell(&lesson.twin)
        ));
        screen.facts(&[("next", typed("launch", &[&lesson.twin]))]);
        return;
    }
    screen.head(format_args!("What {runs} of {} tell about {}", shell(&lesson.twin), lesson.title));
    if lesson.proposals.is_empty() {
        screen.line("  Nothing that its sheet does not say already.");
        screen.facts(&[("next", typed("launch", &[&lesson.twin]))]);
        return;
    }
    let rows = lesson.proposals.iter().flat_map(|proposal| {
        let (what, says) = in_words(&proposal.learned);
        let of_first = move |at| if at == 0 { what.clone() } else { String::new() };
        let seen = says.into_iter().zip(&proposal.evidence).enumerate();
        seen.map(move |(at, (says, seen))| vec![of_first(at), says, seen.clone()])
    });
    screen.table(&["WHAT", "SAYS", "SEEN"], rows.collect());
}

fn changed(plan: &sheets::Plan, screen: &Screen) {
    for line in &plan.change {
        screen.line(line);
    }
}

/// What would be said in the sheet, and the patterns or places that say it.
fn in_words(learned: &sheets::Learned) -> (String, Vec<String>) {
    match learned {
        sheets::Learned::Program(path) => ("program".into(), vec![path.clone()]),
        sheets::Learned::Label(label) => {
            let place = match &label.place {
                Place::Line(line) => format!("line {line}"),
                Place::Pointer(pointer) => pointer.clone(),
                Place::After(before) => format!("after {before:?}"),
                Place::Name(name) => name.clone(),
            };
            ("build label".into(), vec![format!("{}, {place}", label.file.as_deref().unwrap_or("the folder's name"))])
        }
        sheets::Learned::Inside(file) => ("keeps it inside".into(), vec![format!("game/{file}")]),
        sheets::Learned::Home(pattern) => ("game files in the home".into(), vec![pattern.clone()]),
        sheets::Learned::Live(pattern) => ("written by it".into(), vec![pattern.clone()]),
        sheets::Learned::Scratch(pattern) => ("worth nothing".into(), vec![pattern.clone()]),
        sheets::Learned::Group { name, patterns, unit } => {
            let unit = match unit {
                Unit::File => "",
                Unit::Stem => " (by stem)",
                Unit::Folder => " (by folder)",
            };
            (format!("{name}{unit}"), patterns.clone())
        }
        _ => ("more".into(), Vec::new()),
    }
}

/// Checks sheets one by one; problems are the answer, not a failure.
fn check(paths: &[PathBuf], screen: &Screen) -> Done {
    let mut problems = Vec::new();
    for path in paths {
        match Sheet::load(path) {
            Ok(sheet) => {
                if !screen.is_json() {
                    let (programs, groups) = (sheet.programs.len(), sheet.belongings.len());
                    let programs = counted(programs as u64, "program");
                    let counts = format!("{programs}, {} of belongings", counted(groups as u64, "group"));
                    screen.line(format_args!("{}: good ({}, {counts})", path.display(), sheet.name));
                }
            }
            Err(Error::Sheet(error)) => problems.push(error),
            Err(error) => return Err(error.into()),
        }
    }
    let well = problems.is_empty();
    let answer = SheetsChecked { checked: paths.len(), problems };
    screen.answer(&answer, |screen| {
        for problem in &answer.problems {
            screen.line(problem);
        }
        if paths.is_empty() {
            screen.line("There is no sheet yet.");
        }
    });
    Ok(if well { ExitCode::SUCCESS } else { ExitCode::from(3) })
}

/// What each pattern catches; what catches nothing may well be right, so that it is only said.
fn on(yard: &Yard, name: &TwinName, screen: &Screen) -> Done {
    let view = belongings::explain_sheet(yard, name, &ctx(screen))?;
    screen.answer(&view, |screen| {
        screen.head(format_args!("What the sheet of {} catches in {}", view.build.title, shell(name)));
        let row = |catch: &belongings::Catch| {
            vec![
                catch.part.clone(),
                catch.pattern.clone(),
                if catch.files == 0 { "nothing".into() } else { files(catch.files) },
                if catch.files == 0 { String::new() } else { size(catch.bytes) },
                if catch.as_shipped == 0 { String::new() } else { catch.as_shipped.to_string() },
                catch.examples.first().cloned().unwrap_or_default(),
            ]
        };
        let heading = ["PART", "PATTERN", "CATCHES", "SIZE", "AS SHIPPED", "FOR EXAMPLE"];
        screen.table(&heading, view.catches.iter().map(row).collect());
        for overlap in &view.overlaps {
            let (first, rest) =
                overlap.groups.split_first().map_or(("", &[][..]), |(first, rest)| (first.as_str(), rest));
            screen.warn(format_args!(
                "{} in {} and in {} too, as {}: the first one counts",
                if overlap.files == 1 { "1 file is".into() } else { format!("{} files are", overlap.files) },
                first,
                rest.join(", "),
                overlap.example
            ));
        }
        let learn = typed(&format!("sheet learn {} --from", view.build.title), &[name]);
        screen.facts(&[
            ("in no group", some_of(&view.in_none, 8)),
            ("to add them", if view.in_none.is_empty() { String::new() } else { learn }),
            ("next", typed("show --belongings", &[name])),
        ]);
    });
    Ok(ExitCode::SUCCESS)
}

fn add(yard: &Yard, file: &Path, replace: bool, how: DryRun, screen: &Screen) -> Done {
    let plan = sheets::plan_add(yard, file, replace)?;
    if !how.dry_run {
        sheets::apply(yard, &plan, &ctx(screen))?;
    }
    screen.answer(&plan, |screen| {
        let done = if how.dry_run { "would be" } else { "is" };
        screen.head(format_args!("The sheet for {} {done} in the yard: {}", plan.name, plan.path.display()));
        screen.facts(&[
            ("kept", plan.keeps.as_ref().map(|old| format!("the old one: {}", old.display())).unwrap_or_default()),
            ("next", typed(&format!("intake FOLDER --title {}", shell(&plan.title)), &[])),
        ]);
    });
    Ok(ExitCode::SUCCESS)
}
