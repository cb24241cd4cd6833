//! `sheet new`, `sheet check`, `sheet add`.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

use serde_json::json;
use yard_twin::{Error, Sheet, Title, Yard, new_sheet};

use super::{Done, typed};
use crate::args::{DryRun, SheetCommand};
use crate::fail::Failure;
use crate::screen::{Screen, counted, shell};

pub(crate) fn run(yard: impl Fn() -> Result<Yard, Failure>, command: SheetCommand, screen: &Screen) -> Done {
    match command {
        SheetCommand::New { title, print: true, .. } => {
            screen.line(new_sheet(&title).trim_end());
            Ok(ExitCode::SUCCESS)
        }
        SheetCommand::New { title, print: false, how } => new(&yard()?, &title, how, screen),
        SheetCommand::Check { file } if file.is_empty() => check(&in_yard(&yard()?)?, screen),
        SheetCommand::Check { file } => check(&file, screen),
        SheetCommand::Add { file, replace, how } => add(&yard()?, &file, replace, how, screen),
    }
}

fn new(yard: &Yard, title: &Title, how: DryRun, screen: &Screen) -> Done {
    let path = yard.sheet_path(title);
    if path.exists() {
        return Err(Failure::refused(
            format!("there is a sheet for {title} already: {}", path.display()),
            "Change it in an editor, then check it: yardtwin sheet check",
        ));
    }
    if !how.dry_run {
        fs::write(&path, new_sheet(title)).map_err(|error| Failure::io("write", &path, &error))?;
    }
    screen.answer(&json!({ "title": title, "path": path, "dry_run": how.dry_run }), |screen| {
        let done = if how.dry_run { "would be written" } else { "is written" };
        screen.head(format_args!("A sheet for {title} {done}: {}", path.display()));
        screen.facts(&[("next", format!("fill it in, then: {}", typed("sheet check", &[&path.display()])))]);
    });
    Ok(ExitCode::SUCCESS)
}

fn in_yard(yard: &Yard) -> Result<Vec<PathBuf>, Failure> {
    let folder = yard.root().join("sheets");
    let entries = fs::read_dir(&folder).map_err(|error| Failure::io("list", &folder, &error))?;
    let mut paths: Vec<_> = entries
        .filter_map(|entry| Some(entry.ok()?.path()))
        .filter(|path| path.extension().is_some_and(|ending| ending == "toml"))
        .collect();
    paths.sort();
    Ok(paths)
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

fn add(yard: &Yard, file: &Path, replace: bool, how: DryRun, screen: &Screen) -> Done {
    let sheet = Sheet::load(file)?;
    let path = yard.sheet_path(&sheet.title);
    let (there, old) = (path.exists(), path.with_extension("toml.old"));
    if there && !replace {
        return Err(Failure::refused(
            format!("there is a sheet for {} already: {}", sheet.title, path.display()),
            format!("Replace it: yardtwin sheet add {} --replace", shell(&file.display())),
        ));
    }
    if !how.dry_run {
        if there {
            fs::rename(&path, &old).map_err(|error| Failure::io("rename", &path, &error))?;
        }
        fs::copy(file, &path).map_err(|error| Failure::io("write", &path, &error))?;
    }
    screen.answer(&json!({ "title": sheet.title, "path": path, "dry_run": how.dry_run }), |screen| {
        let done = if how.dry_run { "would be" } else { "is" };
        screen.head(format_args!("The sheet for {} {done} in the yard: {}", sheet.name, path.display()));
        screen.facts(&[
            ("kept", if there { format!("the old one: {}", old.display()) } else { String::new() }),
            ("next", typed(&format!("intake FOLDER --title {}", shell(&sheet.title)), &[])),
        ]);
    });
    Ok(ExitCode::SUCCESS)
}
