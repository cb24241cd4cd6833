//! `sheet new`, `sheet check`, `sheet add`.

use std::path::{Path, PathBuf};
use std::process::ExitCode;

use serde_json::json;
use yard_twin::{Error, Sheet, Title, TwinName, Yard, belongings, new_sheet, sheets};

use super::{Done, typed};
use crate::args::{DryRun, SheetCommand};
use crate::fail::Failure;
use crate::progress::ctx;
use crate::screen::{Screen, counted, files, shell, size};

pub(crate) fn run(yard: impl Fn() -> Result<Yard, Failure>, command: SheetCommand, screen: &Screen) -> Done {
    match command {
        SheetCommand::New { title, print: true, .. } => {
            screen.line(new_sheet(&title).trim_end());
            Ok(ExitCode::SUCCESS)
        }
        SheetCommand::New { title, print: false, how } => new(&yard()?, &title, how, screen),
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
    screen.answer(&json!({ "checked": paths.len(), "problems": problems }), |screen| {
        for problem in &problems {
            screen.line(problem);
        }
        if paths.is_empty() {
            screen.line("There is no sheet yet.");
        }
    });
    Ok(if problems.is_empty() { ExitCode::SUCCESS } else { ExitCode::from(3) })
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
        screen.facts(&[("next", typed("show --belongings", &[name]))]);
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
