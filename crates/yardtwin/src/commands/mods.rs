//! `mod`.

use std::path::{Path, PathBuf};
use std::process::ExitCode;

use yard_twin::mods::Mark;
use yard_twin::{Counts, Error, ModDeed, ModName, RelPath, Title, TwinName, Yard, mods};

use super::renew::edits;
use super::twins::{changes, leaks};
use super::{Done, typed};
use crate::args::{Decided, ModAdd, ModChange, ModCommand, ModPlace};
use crate::fail::Failure;
use crate::progress::ctx;
use crate::screen::{Screen, Tone, counted, day, duration, files, listed, shell, size, some_of};

pub(crate) fn run(yard: &Yard, command: ModCommand, screen: &Screen) -> Done {
    match command {
        ModCommand::Add(add) => self::add(yard, &add, screen),
        ModCommand::List { name } => list(yard, &name, screen),
        ModCommand::Show { name, files } => show(yard, &name, files, screen),
        ModCommand::Off(change) => change_some(yard, change, mods::Change::Off, screen),
        ModCommand::On(change) => change_some(yard, change, mods::Change::On, screen),
        ModCommand::Remove(change) => change_some(yard, change, mods::Change::Remove, screen),
        ModCommand::Move { twin, name, over, under, top: _, how } => {
            let to = match (over, under) {
                (Some(other), _) => mods::To::Over(other),
                (None, Some(other)) => mods::To::Under(other),
                (None, None) => mods::To::Top,
            };
            let plan = mods::plan(yard, &twin, &mods::Change::Move(name, to), &decisions(&how), &ctx(screen))?;
            carry_out(yard, &[plan], how.how.dry_run, screen).map(|_| ExitCode::SUCCESS)
        }
        ModCommand::Update { twin, name, package, place, how } => {
            let ctx = ctx(screen);
            let reading = mods::ReadOptions { names: place.names, ..mods::ReadOptions::default() };
            let packed = mods::read(yard, &package, &title_of(yard, &twin)?, &reading, &ctx)?;
            let options = options(&place, &how, false);
            let plan = mods::plan_update(yard, (&twin, &name), &packed, &options, &ctx)?;
            carry_out(yard, &[plan], how.how.dry_run, screen).map(|_| ExitCode::SUCCESS)
        }
        ModCommand::Adopt { twin, name, files, since, how } => {
            let plan = mods::plan_adopt(yard, (&twin, &name), &mods::AdoptOptions { files, since }, &ctx(screen))?;
            carry_out(yard, &[plan], how.dry_run, screen).map(|_| ExitCode::SUCCESS)
        }
        ModCommand::Explain { twin, path } => explain(yard, &twin, &path, screen),
        ModCommand::Kept => kept(yard, screen),
        ModCommand::Trial(trial) => super::tool::trial(yard, &trial, screen),
    }
}

fn decisions(how: &Decided) -> mods::Decisions {
    let take_mods = how.decide.iter().filter(|(_, take)| *take).map(|(path, _)| path.clone()).collect();
    mods::Decisions { take_mods }
}

fn options(place: &ModPlace, how: &Decided, alone: bool) -> mods::AddOptions {
    mods::AddOptions {
        into: place.into.clone(),
        strip: place.strip,
        except: place.except.clone(),
        place: place.place.clone(),
        any_build: place.any_build,
        alone,
        decisions: decisions(how),
    }
}

fn title_of(yard: &Yard, twin: &TwinName) -> Result<Title, Failure> {
    Ok(mods::title_of(yard, twin)?)
}

fn change_some(yard: &Yard, change: ModChange, of: fn(Vec<ModName>) -> mods::Change, screen: &Screen) -> Done {
    let ModChange { twin, name, how } = change;
    let plan = mods::plan(yard, &twin, &of(name), &decisions(&how), &ctx(screen))?;
    carry_out(yard, &[plan], how.how.dry_run, screen).map(|_| ExitCode::SUCCESS)
}

fn add(yard: &Yard, add: &ModAdd, screen: &Screen) -> Done {
    let ctx = ctx(screen);
    let Some(first) = add.to.first() else { return Err(Failure::failed("no twin was named")) };
    let title = title_of(yard, first)?;
    let packed = match kept_name(&add.package) {
        Some(name) => mods::kept_package(yard, &title, &name).map_err(|error| match error {
            Error::NotFound { .. } => Failure::failed(format!(
                "there is no file or folder {}, and the yard keeps no mod of that name",
                shell(&name)
            )),
            error => error.into(),
        })?,
        None => {
            let options =
                mods::ReadOptions { name: add.name.clone(), sheet: add.sheet.clone(), names: add.place.names };
            mods::read(yard, &add.package, &title, &options, &ctx)?
        }
    };
    // All are planned before the first is changed.
    let mut plans = Vec::new();
    for to in &add.to {
        plans.push(mods::plan_add(yard, to, &packed, &options(&add.place, &add.how, add.alone), &ctx)?);
    }
    let dry_run = add.how.how.dry_run;
    if !dry_run && let (Some(file), Some(plan)) = (&add.write_sheet, plans.first()) {
        write_sheet(file, &mods::written_sheet(plan), screen)?;
    }
    carry_out(yard, &plans, dry_run, screen)?;
    if add.take_away && !dry_run {
        let left = mods::take_away(&packed)?;
        if !left.is_empty() {
            screen.warn(format_args!("not deleted, since it has changed meanwhile: {}", listed(&left, 5)));
        }
    } else if !dry_run && !screen.is_json() && kept_name(&add.package).is_none() {
        let names: Vec<_> = add.package.iter().map(|path| path.display().to_string()).collect();
        screen.sentence(&format!("No longer needed, since the yard keeps it: {}", listed(&names, 5)));
    }
    Ok(ExitCode::SUCCESS)
}

/// The name of a mod that the yard keeps, where no file or folder is called so.
fn kept_name(package: &[PathBuf]) -> Option<ModName> {
    match package {
        [one] if std::fs::symlink_metadata(one).is_err() => one.to_str()?.parse().ok(),
        _ => None,
    }
}

fn write_sheet(file: &Path, text: &str, screen: &Screen) -> Result<(), Failure> {
    let mut new = std::fs::File::create_new(file).map_err(|error| Failure::io("make", file, &error))?;
    std::io::Write::write_all(&mut new, text.as_bytes()).map_err(|error| Failure::io("write", file, &error))?;
    screen.aside(format_args!("The mod sheet is written: {}", file.display()));
    Ok(())
}

/// Does what was planned, or only shows it.
fn carry_out(yard: &Yard, plans: &[mods::Plan], dry_run: bool, screen: &Screen) -> Result<(), Failure> {
    for plan in plans {
        leaks(&plan.name, &plan.leaks, screen);
    }
    if dry_run {
        screen.answer(&plans, |screen| {
            for plan in plans {
                screen.head(format_args!("{} {}", head(plan, true), whose(plan)));
                picture(plan, screen);
                screen.facts(&facts(plan));
            }
        });
        return Ok(());
    }
    let mut outcomes = Vec::new();
    for plan in plans {
        let outcome = mods::apply(yard, plan, &ctx(screen))?;
        if !screen.is_json() {
            say(plan, &outcome, screen);
        }
        outcomes.push(outcome);
    }
    screen.answer(&outcomes, |_| {});
    Ok(())
}

fn head(plan: &mods::Plan, would: bool) -> String {
    let names: Vec<String> = plan.mods.iter().map(shell).collect();
    let (is, done) = match plan.deed {
        ModDeed::Added => ("added", "would be added"),
        ModDeed::Off => ("off", "would be turned off"),
        ModDeed::On => ("on", "would be turned on"),
        ModDeed::Removed => ("removed", "would be removed"),
        ModDeed::Moved => ("moved", "would be moved"),
        ModDeed::Updated => ("updated", "would be updated"),
        ModDeed::Adopted => ("a mod now", "would be a mod"),
    };
    let are = if names.len() == 1 { "is" } else { "are" };
    let names = names.join(", ");
    if would { format!("{names} {done}") } else { format!("{names} {are} {is}") }
}

fn whose(plan: &mods::Plan) -> String {
    let to = match plan.deed {
        ModDeed::Added => "to",
        ModDeed::Removed => "from",
        _ => "in",
    };
    format!("{to} the twin {}", shell(&plan.name))
}

pub(super) fn say(plan: &mods::Plan, outcome: &mods::Outcome, screen: &Screen) {
    let Some(_) = outcome.number else {
        screen.head(format_args!("The twin {} is so already: nothing was changed", shell(&plan.name)));
        return;
    };
    screen.head(format_args!("{} {}", head(plan, false), whose(plan)));
    picture(plan, screen);
    let mut facts = facts(plan);
    let next = match plan.deed {
        ModDeed::Off => {
            typed("mod on", &[&plan.name as &dyn std::fmt::Display].into_iter().chain(names(plan)).collect::<Vec<_>>())
        }
        _ => typed("launch", &[&plan.name]),
    };
    facts.extend([
        ("written meanwhile", listed(&outcome.late, 5)),
        ("set aside", listed(&outcome.set_aside, 5)),
        ("took", duration(outcome.took)),
        ("way back", typed("undo", &[&plan.name])),
        ("next", next),
    ]);
    screen.facts(&facts);
}

fn names(plan: &mods::Plan) -> impl Iterator<Item = &dyn std::fmt::Display> {
    plan.mods.iter().map(|name| name as &dyn std::fmt::Display)
}

/// What changes at the top of the game folder.
fn picture(plan: &mods::Plan, screen: &Screen) {
    picture_of(&plan.top, screen);
}

/// What changes at the top of a game folder.
pub(super) fn picture_of(top: &[mods::Top], screen: &Screen) {
    if top.iter().all(|top| top.mark.is_none()) {
        return;
    }
    screen.line("  in the game folder:");
    let (marked, others): (Vec<_>, Vec<_>) = top.iter().partition(|top| top.mark.is_some());
    let width = marked.iter().map(|top| top.name.chars().count() + usize::from(top.folder)).max().unwrap_or(0);
    for top in marked {
        let name = format!("{}{}", top.name, if top.folder { "/" } else { "" });
        let (tone, mark) = match top.mark {
            None => continue,
            Some(Mark::New) => (Tone::Came, "new"),
            Some(Mark::Replaced) => (Tone::Other, "replaced"),
            Some(Mark::Inside) => (Tone::Other, "files inside change"),
            Some(_) => (Tone::Went, "gone"),
        };
        screen.pieces(&[(tone, &format!("    {name:width$}  {mark}"))]);
    }
    if !others.is_empty() {
        screen.pieces(&[(Tone::Faint, &format!("    {} as before", counted(others.len() as u64, "other")))]);
    }
}

fn facts(plan: &mods::Plan) -> Vec<(&'static str, String)> {
    let paths = |paths: &[RelPath]| {
        let texts: Vec<_> = paths.iter().map(ToString::to_string).collect();
        if texts.is_empty() { String::new() } else { format!("{}\n{}", files(texts.len() as u64), some_of(&texts, 5)) }
    };
    let placed = plan.placed.as_ref().filter(|_| plan.deed != ModDeed::Adopted).map(|(choices, why)| {
        let without = if choices.strip.is_empty() { String::new() } else { format!(", without {}/", choices.strip) };
        format!("into {}{without}: {why}", choices.into)
    });
    let answer = |path: &RelPath| {
        let decided = format!("the same command with --decide {}", shell(&format!("{path}=mod")));
        match plan.deed {
            // What is gone can't be removed again.
            ModDeed::Removed => format!("to take what lies below: {}, then {decided}", typed("undo", &[&plan.name])),
            _ => format!("to take the mod's: {decided}"),
        }
    };
    let mine = match plan.mine.first() {
        None => String::new(),
        Some(first) => format!("{}\n{}", paths(&plan.mine), answer(first)),
    };
    let (game, own) = (plan.game, plan.own);
    let all = Counts { new: game.new + own.new, changed: game.changed + own.changed, gone: game.gone + own.gone };
    let on_disk = if all.total() == 0 { "nothing changes".into() } else { changes(all) };
    vec![
        ("placed", placed.unwrap_or_default()),
        ("its files", tally(&plan.tally)),
        ("for you to read", some_of(&plan.notes, 3)),
        ("yours stays", mine),
        ("comes back", paths(&plan.back)),
        ("yours, replaced or removed", paths(&plan.given_way)),
        (if plan.deed == ModDeed::Removed { "removed with it" } else { "kept aside" }, paths(&plan.aside)),
        ("comes from aside", paths(&plan.from_aside)),
        ("stays aside", paths(&plan.aside_hidden)),
        ("still missing", paths(&plan.missing)),
        ("edits", edits(&plan.edits)),
        ("on disk", on_disk),
        ("note", plan.note.clone().unwrap_or_default()),
    ]
}

fn inside(count: u64) -> &'static str {
    if count == 1 { "inside an archive" } else { "inside archives" }
}

fn tally(tally: &mods::Tally) -> String {
    let parts = [
        (tally.new, "new"),
        (tally.over_stock, "in place of shipped ones"),
        (tally.over_mods, "in place of other mods'"),
        (tally.already, "already there, counted as the mod's"),
        (tally.covered, "covered by another mod's"),
        (tally.hidden, "covered by yours"),
        (tally.removes, "taken away"),
        (tally.inside, inside(tally.inside)),
    ];
    let said = parts.into_iter().filter(|(count, _)| *count > 0).map(|(count, what)| format!("{count} {what}"));
    said.collect::<Vec<_>>().join(", ")
}

fn list(yard: &Yard, name: &TwinName, screen: &Screen) -> Done {
    let mods = mods::list(yard, name, &ctx(screen))?;
    screen.answer(&mods, |screen| {
        if mods.is_empty() {
            screen.head(format_args!("The twin {} has no mods", shell(name)));
            screen.facts(&[("next", format!("yardtwin mod add PACKAGE --to {}", shell(name)))]);
            return;
        }
        let rows = mods.iter().rev().map(|one| {
            let on = if one.on { "on" } else { "off" };
            let over: Vec<_> = one.covered_by.iter().map(shell).collect();
            let mut notes = Vec::new();
            if one.covered > 0 {
                notes.push(format!("{} covered by {}", one.covered, over.join(", ")));
            }
            if one.mine > 0 {
                notes.push(format!("{} covered by yours", one.mine));
            }
            if one.inside > 0 {
                notes.push(format!("{} {}", one.inside, inside(one.inside)));
            }
            if one.removes > 0 {
                notes.push(format!("{} taken away", one.removes));
            }
            let version = one.version.clone().unwrap_or_default();
            vec![
                one.name.to_string(),
                version,
                on.to_owned(),
                one.files.to_string(),
                one.replaces.to_string(),
                notes.join("; "),
            ]
        });
        screen.table(&["MOD", "VERSION", "STATE", "FILES", "REPLACES", "NOTES"], rows.collect());
    });
    Ok(ExitCode::SUCCESS)
}

fn show(yard: &Yard, name: &ModName, all: bool, screen: &Screen) -> Done {
    let shown = mods::show(yard, name)?;
    screen.answer(&shown, |screen| {
        for one in &shown {
            let version = one.package.version.as_ref().map(|version| format!(" {version}")).unwrap_or_default();
            screen.head(format_args!("{}{version}, for {}", one.package.name, one.package.title));
            let names = |names: &[ModName]| names.iter().map(shell).collect::<Vec<_>>().join(", ");
            screen.facts(&[
                ("from", one.origin.clone()),
                ("holds", files(one.files.len() as u64)),
                ("for builds", one.sheet.builds.join(", ")),
                ("needs", names(&one.sheet.needs)),
                ("not beside", names(&one.sheet.clashes)),
                ("note", one.sheet.after.note.clone().unwrap_or_default()),
                ("files", if all { one.files.join("\n") } else { some_of(&one.files, 8) }),
            ]);
            for (path, text) in &one.notes {
                screen.line("");
                screen.pieces(&[(Tone::Faint, path)]);
                for line in text.lines() {
                    screen.pieces(&[(Tone::Plain, &format!("  {line}"))]);
                }
            }
        }
    });
    Ok(ExitCode::SUCCESS)
}

fn explain(yard: &Yard, twin: &TwinName, path: &RelPath, screen: &Screen) -> Done {
    let told = mods::explain(yard, twin, path, &ctx(screen))?;
    screen.answer(&told, |screen| {
        screen.head(format_args!("{path} in the twin {}", shell(twin)));
        let is = match &told.is {
            mods::Is::Stock => "as it was shipped".to_owned(),
            mods::Is::Mod(name) => format!("as {} has it", shell(name)),
            mods::Is::Mine => "your own".into(),
            mods::Is::Deleted => "deleted, though it was there".into(),
            mods::Is::Nothing => "not there".into(),
        };
        let edited = if told.edited { ", with config edits" } else { "" };
        let mods =
            told.mods.iter().rev().map(|(name, on)| format!("{}{}", shell(name), if *on { "" } else { " (off)" }));
        screen.facts(&[
            ("there now", format!("{is}{edited}")),
            ("taken away by", told.removed_by.as_ref().map(shell).unwrap_or_default()),
            ("inside it", told.inside.iter().map(shell).collect::<Vec<_>>().join(", ")),
            ("of mods", mods.collect::<Vec<_>>().join("\n")),
            ("stock build", if told.stock { "has it" } else { "doesn't have it" }.into()),
        ]);
    });
    Ok(ExitCode::SUCCESS)
}

fn kept(yard: &Yard, screen: &Screen) -> Done {
    let kept = mods::kept(yard)?;
    screen.answer(&kept, |screen| {
        if kept.is_empty() {
            screen.head("The yard keeps no packages of mods");
            return;
        }
        let rows = kept.iter().map(|one| {
            let twins: Vec<_> = one.twins.iter().map(shell).collect();
            vec![
                one.name.to_string(),
                one.version.clone().unwrap_or_default(),
                one.title.to_string(),
                counted(one.totals.files, "file"),
                size(one.totals.bytes),
                day(one.added_at),
                if twins.is_empty() { "no twin".into() } else { twins.join(", ") },
            ]
        });
        screen.table(&["MOD", "VERSION", "TITLE", "HOLDS", "SIZE", "ADDED", "IN"], rows.collect());
    });
    Ok(ExitCode::SUCCESS)
}

/// What makes a mod of what is there and nobody explains.
pub(super) fn adopting(twin: &TwinName) -> String {
    typed("mod adopt", &[twin]) + " MOD"
}
