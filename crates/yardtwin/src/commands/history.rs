//! `snapshot`, `history`, `restore`, `sweep`.

use std::collections::HashSet;
use std::process::ExitCode;

use yard_twin::{
    Counts, Doing, HistoryEntry, ModDeed, RelPath, Sharing, SnapshotLabel, SnapshotRef, TwinError, TwinName, What,
    Yard, bring_back, history, play, renew, restore, show, snapshot, sweep, undo,
};

use super::twins::{changes, leaks, renamed};
use super::{Done, typed};
use crate::args::{Careful, DryRun};
use crate::fail::Failure;
use crate::progress::ctx;
use crate::screen::{Screen, counted, duration, files, listed, moment, shell, size, some_of};

pub(crate) fn snapshot(
    yard: &Yard,
    name: &TwinName,
    label: Option<&SnapshotLabel>,
    how: DryRun,
    screen: &Screen,
) -> Done {
    let ctx = ctx(screen);
    let plan = snapshot::plan(yard, name, label, &ctx)?;
    let outcome = if how.dry_run { plan.would } else { snapshot::apply(yard, &plan, &ctx)? };
    screen.answer(&outcome, |screen| {
        let done = if how.dry_run { "would be kept" } else { "is kept" };
        let called = label.map(|label| format!(" as {}", shell(label))).unwrap_or_default();
        screen.head(format_args!("The twin {} {done} as it is now{called}", shell(&outcome.name)));
        let by: &dyn std::fmt::Display = label.map_or(&outcome.number, |label| label);
        screen.facts(&[
            ("changed since the last look", both(outcome.game, outcome.own)),
            ("not kept", some_of(&outcome.not_taken, 5)),
            ("go back to it", typed("restore", &[&outcome.name, by])),
            ("let it go", typed("snapshot --drop", &[&outcome.name, by])),
        ]);
    });
    Ok(ExitCode::SUCCESS)
}

pub(crate) fn drop_snapshot(yard: &Yard, name: &TwinName, label: &SnapshotLabel, how: DryRun, screen: &Screen) -> Done {
    let snapshot: SnapshotRef = label.as_str().parse()?;
    let plan = snapshot::plan_drop(yard, name, &snapshot)?;
    if !how.dry_run {
        snapshot::apply_drop(yard, &plan)?;
    }
    let entry = &plan.entry;
    screen.answer(entry, |screen| {
        let done = if how.dry_run { "would be let go" } else { "is let go" };
        screen.head(format_args!("The snapshot {} of {} {done}", shell(&snapshot), shell(name)));
        screen.facts(&[
            ("made", moment(entry.at)),
            ("space", format!("comes back with {}, some days later", typed("sweep", &[]))),
        ]);
    });
    Ok(ExitCode::SUCCESS)
}

/// Both counts of a change.
fn both(game: Counts, own: Counts) -> String {
    let part = |counts: Counts, what: &str| (counts.total() > 0).then(|| format!("{what} {}", changes(counts)));
    let parts: Vec<_> = [part(game, "game files:"), part(own, "others:")].into_iter().flatten().collect();
    parts.join("; ")
}

pub(crate) fn history(yard: &Yard, name: &TwinName, screen: &Screen) -> Done {
    let entries = history::entries(yard, name, &ctx(screen))?;
    screen.answer(&entries, |screen| {
        let rows = entries.iter().map(row).collect();
        screen.table(&["NO", "WHEN", "WHAT", "GAME FILES", "PLAYER'S OWN", "LABEL", "STARTED"], rows);
        screen.facts(&[
            ("go back", typed("restore", &[name, &"NO-OR-LABEL"])),
            ("take back the last", typed("undo", &[name])),
        ]);
    });
    Ok(ExitCode::SUCCESS)
}

fn row(entry: &HistoryEntry) -> Vec<String> {
    vec![
        entry.number.to_string(),
        moment(entry.at),
        what(&entry.what),
        changes(entry.game),
        changes(entry.own),
        entry.label.as_ref().map(ToString::to_string).unwrap_or_default(),
        if entry.started_fine { "fine".into() } else { String::new() },
    ]
}

pub(super) fn what(what: &What) -> String {
    match what {
        What::Made { from } => format!("made from {from}"),
        What::Outside => "changed from outside".into(),
        What::Run { run } => format!("run {run}"),
        What::Settings => "settings changed".into(),
        What::Restore { to, all: false } => format!("restored to {to}"),
        What::Restore { to, all: true } => format!("restored to {to}, all of it"),
        What::Snapshot => "snapshot".into(),
        What::TakenBack { line } => format!("{line} taken back"),
        What::Meanwhile => "written while it was changed".into(),
        What::Carried { from } => format!("belongings from {from}"),
        What::CarriedAway { to } => format!("belongings taken to {to}"),
        What::ClonedInside { folder } => format!("{folder} cloned inside"),
        What::Edited => "config files edited".into(),
        What::Renewed => "renewed".into(),
        What::Mended => "paths mended after a move".into(),
        What::PutBack { run } => format!("put back after run {run}"),
        What::WrittenDirectly => "shared files were written to directly".into(),
        What::Repaired => "shared files have their bytes again".into(),
        What::Shared { sharing: Sharing::None } => "shared files made private".into(),
        What::Shared { .. } => "files shared with other twins".into(),
        What::Marked => "marker files added".into(),
        What::Mods { deed, mods } => of_mods(*deed, mods),
        _ => "changed".into(),
    }
}

fn of_mods(deed: ModDeed, mods: &[String]) -> String {
    let what = match deed {
        ModDeed::Added => "added",
        ModDeed::Off => "off",
        ModDeed::On => "on",
        ModDeed::Removed => "removed",
        ModDeed::Moved => "moved",
        ModDeed::Updated => "updated",
        ModDeed::Adopted => "adopted",
    };
    format!("mod {what}: {}", mods.join(", "))
}

pub(crate) fn runs(yard: &Yard, name: &TwinName, screen: &Screen) -> Done {
    let runs = play::runs(yard, name, &ctx(screen))?;
    let played: std::time::Duration = runs.iter().filter_map(|run| run.record.ran()).sum();
    screen.answer(&runs, |screen| {
        if runs.is_empty() {
            screen.head(format_args!("The twin {} was never started", shell(name)));
        } else {
            let headings = ["RUN", "STARTED", "RAN", "RESULT", "ISOLATION", "CHANGED", "NOTES"];
            screen.table(&headings, runs.iter().map(run_row).collect());
        }
        let in_all = if runs.is_empty() { String::new() } else { duration(played) };
        screen.facts(&[("played in all", in_all), ("start it", typed("launch", &[name]))]);
    });
    Ok(ExitCode::SUCCESS)
}

fn run_row(run: &play::RunDetails) -> Vec<String> {
    let record = &run.record;
    let result = match (record.ended_at, record.exit_code, record.signal) {
        (None, ..) => "running".into(),
        (_, Some(0), _) => "ok".into(),
        (_, Some(code), _) => format!("exit code {code}"),
        (_, None, Some(signal)) => format!("signal {signal}"),
        (_, None, None) => "cut off".into(),
    };
    vec![
        record.id.to_string(),
        moment(record.started_at),
        record.ran().map(duration).unwrap_or_default(),
        result,
        record.isolation.clone(),
        record.summary.clone().unwrap_or_default(),
        run.report.as_ref().map(notes).unwrap_or_default(),
    ]
}

/// What of a run is worth a look, in a few words.
fn notes(report: &play::Report) -> String {
    let parts = [
        (report.changes.unexpected.len(), "that the sheet doesn't name"),
        (report.put_back.len(), "put back"),
        (report.outside.len(), "outside"),
        (report.refused.len(), "refused"),
        (report.leaks.paths.len() + report.leaks.own.len(), "written to directly"),
    ];
    let parts: Vec<_> = parts.iter().filter(|(n, _)| *n > 0).map(|(n, what)| format!("{n} {what}")).collect();
    parts.join(", ")
}

/// What a restore is to do.
pub(crate) struct Wish {
    pub(crate) to: Option<SnapshotRef>,
    pub(crate) all: bool,
    pub(crate) only: Vec<String>,
    pub(crate) as_name: Option<TwinName>,
    pub(crate) how: Careful,
}

pub(crate) fn restore(yard: &Yard, name: &TwinName, wish: Wish, screen: &Screen) -> Done {
    let Wish { to, all, only, as_name, how } = wish;
    if as_name.is_some() || (to.is_none() && !all && is_removed(yard, name)?) {
        return bring_back(yard, name, as_name.as_ref(), how, screen);
    }
    if only.iter().any(String::is_empty) {
        return match to {
            Some(SnapshotRef::Number(number)) if only.len() == 1 => undo(yard, name, Some(number), how, screen),
            _ => Err(Failure::usage(
                "--only without a path takes back one line of the history, by its number",
                typed("undo", &[name, &"NUMBER"]),
            )),
        };
    }
    let only = only.iter().map(RelPath::new).collect::<yard_twin::Result<_>>()?;
    let plan = restore::plan(yard, name, &restore::Options { to, all, only }, &ctx(screen))?;
    go_back(yard, name, &plan, how, screen)
}

/// Whether the only twin of a name is a removed one.
fn is_removed(yard: &Yard, name: &TwinName) -> Result<bool, Failure> {
    let has = |removed| -> yard_twin::Result<bool> {
        Ok(show::twins(yard, removed)?.iter().any(|twin| twin.name.key() == name.key()))
    };
    Ok(!has(false)? && has(true)?)
}

fn bring_back(yard: &Yard, name: &TwinName, new: Option<&TwinName>, how: Careful, screen: &Screen) -> Done {
    let plan = bring_back::plan(yard, name, new)?;
    if how.dry_run {
        screen.answer(&plan, |screen| {
            screen.head(format_args!("The removed twin {} would be back as {}", shell(&plan.was), shell(&plan.name)));
            screen.facts(&[("removed", plan.removed_at.map(moment).unwrap_or_default())]);
        });
        return Ok(ExitCode::SUCCESS);
    }
    let outcome = bring_back::apply(yard, &plan, &ctx(screen))?;
    screen.answer(&outcome, |screen| {
        screen.head(format_args!("The twin {} is back, with its history and its runs", shell(&outcome.name)));
        let entries: Vec<_> = outcome.entries.iter().map(|path| path.display().to_string()).collect();
        screen.facts(&[
            ("folder", outcome.folder.display().to_string()),
            ("launch entries", listed(&entries, 5)),
            ("way back", typed("remove", &[&outcome.name])),
            ("next", typed("launch", &[&outcome.name])),
        ]);
    });
    Ok(ExitCode::SUCCESS)
}

pub(crate) fn undo(yard: &Yard, name: &TwinName, number: Option<u32>, how: Careful, screen: &Screen) -> Done {
    match undo::plan(yard, name, number, &ctx(screen)) {
        Ok(plan) => go_back(yard, name, &plan, how, screen),
        // What put it on another build is taken back by the one thing that does that around what came after.
        Err(yard_twin::Error::Twin(TwinError::LineOfBuild { build, .. })) => {
            let options = renew::Options { stock: Some(build.parse()?), ..renew::Options::default() };
            super::renew::renew(yard, name, &options, DryRun { dry_run: how.dry_run }, screen)
        }
        Err(error) => Err(error.into()),
    }
}

fn go_back(yard: &Yard, name: &TwinName, plan: &restore::Plan, how: Careful, screen: &Screen) -> Done {
    let ctx = ctx(screen);
    leaks(name, &plan.leaks, screen);
    if how.dry_run {
        screen.answer(&plan, |screen| {
            match &plan.line {
                None => screen.head(format_args!("The twin {} would go back to {}", shell(name), target(plan))),
                Some(line) => {
                    screen.head(format_args!("Of the twin {}, {} would be taken back", shell(name), of_line(line)))
                }
            }
            screen.facts(&plan_facts(plan, false));
        });
        return Ok(ExitCode::SUCCESS);
    }
    if !plan.steps.is_empty() {
        screen.confirm(&question(plan), how.yes)?;
    }
    let outcome = restore::apply(yard, plan, &ctx)?;
    screen.answer(&outcome, |screen| say_restored(plan, &outcome, screen));
    if !plan.names_others.is_empty() {
        let paths: Vec<_> = plan.names_others.iter().map(ToString::to_string).collect();
        screen.warn(format_args!(
            "what came back names the folder of another twin: {}; look at it: {}",
            listed(&paths, 5),
            typed("repath --dry-run", &[name])
        ));
    }
    Ok(ExitCode::SUCCESS)
}

/// A line of the history in words.
fn of_line(line: &restore::Line) -> String {
    format!("{} ({}, {})", line.entry.number, what(&line.entry.what), moment(line.entry.at))
}

fn target(plan: &restore::Plan) -> String {
    let label = plan.to.label.as_ref().map(|label| format!(" ({label})")).unwrap_or_default();
    format!("{}{label}, {}", plan.to.number, moment(plan.to.at))
}

fn question(plan: &restore::Plan) -> String {
    if let Some(line) = &plan.line {
        let both = both(plan.game, plan.own);
        return format!("Take back {} in {}: {both}?", of_line(line), shell(&plan.name));
    }
    let own = match (plan.own.total(), plan.all) {
        (0, _) => "nothing else changes".to_owned(),
        (count, false) => format!("{} of the player's own stay as they are now", files(count)),
        (count, true) => format!("{} of the player's own go back too", files(count)),
    };
    format!("{} go back ({}); {own}. Restore {}?", game_files(plan.game), changes(plan.game), shell(&plan.name))
}

fn game_files(counts: Counts) -> String {
    counted(counts.total(), "game file")
}

/// What a plan does, or did.
fn plan_facts(plan: &restore::Plan, done: bool) -> Vec<(&'static str, String)> {
    let stay = |counts: Counts| match (counts.total(), plan.all) {
        (0, _) => "no difference".to_owned(),
        (count, false) => format!("stay as they are now; {} then", counted_differ(count)),
        (_, true) => format!("go back too ({})", changes(counts)),
    };
    let game =
        if plan.game.total() == 0 { "no difference".to_owned() } else { format!("go back ({})", changes(plan.game)) };
    // What is there now; what comes back is among the counts.
    let named = |doing: Doing| {
        let steps: HashSet<_> = plan.steps.iter().filter(|step| step.doing == doing).map(|step| &step.path).collect();
        let named = plan.named.iter().filter(|named| steps.contains(&named.path));
        listed(&named.map(|named| named.path.to_string()).collect::<Vec<_>>(), 5)
    };
    vec![
        ("game files", game),
        ("player's own", stay(plan.own)),
        ("moved", renamed(&plan.moved)),
        ("stays where it was", some_of(&plan.not_moved, 5)),
        ("changed since, stays", {
            let later = plan.line.iter().flat_map(|line| &line.later);
            listed(&later.map(ToString::to_string).collect::<Vec<_>>(), 5)
        }),
        ("build", plan.build.as_ref().map(|(from, to)| format!("from {from} to {to}")).unwrap_or_default()),
        (if done { "replaced" } else { "will be replaced" }, named(Doing::Replace)),
        (if done { "removed" } else { "will be removed" }, named(Doing::Remove)),
        ("not kept", some_of(&plan.not_taken, 5)),
    ]
}

fn counted_differ(count: u64) -> String {
    if count == 1 { "1 was different".into() } else { format!("{count} were different") }
}

fn say_restored(plan: &restore::Plan, outcome: &restore::Outcome, screen: &Screen) {
    if outcome.number.is_none() {
        match &plan.line {
            None => {
                screen.head(format_args!("The twin {} is as it was at {} already", shell(&outcome.name), target(plan)))
            }
            Some(line) => screen.head(format_args!("Of {} nothing is left in {}", of_line(line), shell(&outcome.name))),
        }
        screen.facts(&plan_facts(plan, true));
        return;
    }
    match &plan.line {
        None => screen.head(format_args!("The twin {} is back at {}", shell(&outcome.name), target(plan))),
        Some(line) => {
            screen.head(format_args!("Of the twin {}, {} is taken back", shell(&outcome.name), of_line(line)))
        }
    }
    let mut facts = plan_facts(plan, true);
    facts.push(("took", duration(outcome.took)));
    let way = if plan.all { "restore --all" } else { "restore" };
    facts.push(("way back", typed(way, &[&outcome.name, &outcome.before])));
    facts.push(("next", typed("launch", &[&outcome.name])));
    screen.facts(&facts);
    if !outcome.late.is_empty() {
        screen.warn(format_args!(
            "others wrote there meanwhile; what they wrote is in the history: {}",
            listed(&outcome.late, 5)
        ));
    }
    if !outcome.set_aside.is_empty() {
        screen.warn(format_args!("these stood in the way and were moved aside: {}", listed(&outcome.set_aside, 5)));
    }
}

pub(crate) fn sweep(yard: &Yard, how: DryRun, screen: &Screen) -> Done {
    let ctx = ctx(screen);
    let plan = sweep::plan(yard, &ctx)?;
    let outcome = if how.dry_run { plan.would } else { sweep::apply(yard, &plan, &ctx)? };
    screen.answer(&outcome, |screen| say_swept(&outcome, how.dry_run, screen));
    let missing = outcome.missing.as_ref().is_some_and(|missing| !missing.is_empty());
    Ok(if missing { ExitCode::from(3) } else { ExitCode::SUCCESS })
}

fn say_swept(outcome: &sweep::Outcome, dry_run: bool, screen: &Screen) {
    if let Some(missing) = &outcome.missing {
        screen.head(
            "Nothing was deleted: the catalogue seems to come from a backup, since it doesn't know of the last sweep",
        );
        let what = if missing.is_empty() {
            "all files that it needs are there".into()
        } else {
            format!("{} that it needs are missing", counted(missing.len() as u64, "file"))
        };
        let next = if missing.is_empty() { typed("sweep", &[]) } else { typed("intake FOLDER --title TITLE", &[]) };
        screen.facts(&[("looked", what), ("missing", some_of(missing, 10)), ("next", next)]);
        return;
    }
    let would = |would: &'static str, done: &'static str| if dry_run { would } else { done };
    screen.head(format_args!(
        "{} {}",
        size(outcome.deleted.bytes),
        would("on disk would be freed", "on disk are freed")
    ));
    let counted_files = |of: sweep::Files| {
        if of.files == 0 { String::new() } else { format!("{}, {}", files(of.files), size(of.bytes)) }
    };
    let states: Vec<_> = outcome
        .states
        .iter()
        .map(|gone| format!("{}: {}", shell(&gone.twin), counted(gone.numbers.len() as u64, "state")))
        .collect();
    let names = |names: Vec<String>| names.join("\n");
    let held = outcome.held_back.iter().map(|(twin, what)| {
        format!("the removed twin {}, whose folder has what no state of it holds: {}", shell(twin), some_of(what, 3))
    });
    let until = outcome.waiting_until.map(|time| format!(", from {} on", moment(time))).unwrap_or_default();
    let waiting = counted_files(outcome.waiting);
    screen.facts(&[
        (would("old states to delete", "old states deleted"), names(states)),
        (would("removed twins to delete", "removed twins deleted"), names(outcome.twins.iter().map(shell).collect())),
        ("held back", names(held.collect())),
        (
            would("removed builds to delete", "removed builds deleted"),
            names(outcome.builds.iter().map(shell).collect()),
        ),
        (
            would("mods to delete", "mods deleted"),
            if outcome.packages == 0 { String::new() } else { counted(outcome.packages, "package") },
        ),
        (would("files to delete", "files deleted"), counted_files(outcome.deleted)),
        ("deleted by a later sweep", if waiting.is_empty() { waiting } else { format!("{waiting}{until}") }),
        ("took", if dry_run { String::new() } else { duration(outcome.took) }),
    ]);
}
