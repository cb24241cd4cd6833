//! `clone`, `list`, `show`, `folder`, `rename`, `protect`, `remove`.

use std::collections::BTreeMap;
use std::process::{Command, ExitCode, Stdio};

use yard_twin::{
    BuildRef, Counts, Leaks, RelPath, Room, Sharing, Source, TwinName, Unshared, Yard, clone, inside, protect, remove,
    rename, show,
};

use super::mods::adopting;
use super::share::guarded;
use super::take_in::source;
use super::{Done, typed};
use crate::answers::{FolderOf, ShownTwin};
use crate::args::{Careful, DryRun};
use crate::fail::Failure;
use crate::progress::ctx;
use crate::screen::{Screen, counted, duration, files, listed, moment, processes, shell, size, some_of};

pub(crate) fn clone(
    yard: &Yard,
    source: &Source,
    name: &TwinName,
    options: clone::Options,
    how: Careful,
    screen: &Screen,
) -> Done {
    let ctx = ctx(screen);
    let plan = clone::plan(yard, source, name, options, &ctx)?;
    leaks(source, &plan.leaks, screen);
    if how.dry_run {
        screen.answer(&plan, |screen| {
            screen.head(format_args!("The twin {} would be made from {}", shell(name), shell(source)));
            screen.facts(&[
                ("build", plan.build.to_string()),
                ("made of", plan.folder.as_ref().map(|folder| folder.display().to_string()).unwrap_or_default()),
                ("holds", format!("{}, {}", files(plan.totals.files), size(plan.totals.bytes))),
                ("room", room(&plan.room)),
                ("renamed", renamed(&plan.renamed)),
                ("added besides", plan.markers.join(", ")),
            ]);
        });
        return Ok(ExitCode::SUCCESS);
    }
    if let (Some(folder), true) = (&plan.folder, plan.take_away) {
        let question = format!("Delete {} once the twin is there?", folder.display());
        screen.confirm(&question, how.yes)?;
    }
    let outcome = clone::apply(yard, &plan, &ctx)?;
    screen.answer(&outcome, |screen| say_clone(&plan, &outcome, screen));
    Ok(ExitCode::SUCCESS)
}

pub(crate) fn clone_inside(
    yard: &Yard,
    twin: &TwinName,
    folder: &str,
    new: &str,
    how: DryRun,
    screen: &Screen,
) -> Done {
    let ctx = ctx(screen);
    let plan = inside::plan(yard, twin, folder, new, &ctx)?;
    let facts = vec![
        ("copied", renamed(&plan.copied)),
        ("name changed in", listed(&plan.changed.iter().map(ToString::to_string).collect::<Vec<_>>(), 5)),
    ];
    if how.dry_run {
        screen.answer(&plan, |screen| {
            screen.head(format_args!(
                "{} would be there a second time in {}, as {}",
                plan.folder,
                shell(twin),
                shell(new)
            ));
            screen.facts(&facts);
        });
        return Ok(ExitCode::SUCCESS);
    }
    let outcome = inside::apply(yard, &plan, &ctx)?;
    screen.answer(&outcome, |screen| {
        screen.head(format_args!("{} is there a second time in {}, as {}", plan.folder, shell(twin), shell(new)));
        screen.facts(&facts);
        screen.facts(&[("way back", typed("restore", &[twin, &outcome.before])), ("next", typed("launch", &[twin]))]);
    });
    Ok(ExitCode::SUCCESS)
}

/// Some of the paths that get another name, each with its new one.
pub(super) fn renamed(paths: &[(RelPath, RelPath)]) -> String {
    let mut folded: BTreeMap<(&str, &str), Vec<&(RelPath, RelPath)>> = BTreeMap::new();
    for pair in paths {
        folded.entry(without_common_end(pair.0.as_str(), pair.1.as_str())).or_default().push(pair);
    }
    let line = |((from, to), pairs): (&(&str, &str), &Vec<&(RelPath, RelPath)>)| match pairs.as_slice() {
        [(from, to)] => format!("{from} \u{2192} {to}"),
        pairs => format!("{from} \u{2192} {to}, {}", files(pairs.len() as u64)),
    };
    some_of(&folded.iter().map(line).collect::<Vec<_>>(), 5)
}

/// Two paths without the parts that both end with, as far as both still say where in the twin they are.
fn without_common_end<'a>(mut from: &'a str, mut to: &'a str) -> (&'a str, &'a str) {
    while let (Some((up, name)), Some((other_up, other))) = (from.rsplit_once('/'), to.rsplit_once('/')) {
        if name != other || !up.contains('/') || !other_up.contains('/') {
            break;
        }
        (from, to) = (up, other_up);
    }
    (from, to)
}

fn say_clone(plan: &clone::Plan, outcome: &clone::Outcome, screen: &Screen) {
    let removed = if plan.from_removed { "the removed twin " } else { "" };
    screen.head(format_args!("The twin {} is made from {removed}{}", shell(&outcome.name), shell(&plan.source)));
    screen.facts(&[
        ("folder", outcome.folder.join("game").display().to_string()),
        ("holds", format!("{}, {}", files(outcome.totals.files), size(outcome.totals.bytes))),
        ("made of", plan.folder.as_ref().map(|folder| folder.display().to_string()).unwrap_or_default()),
        ("player's changes", outcome.differs.map(|counts| against(counts, &plan.build)).unwrap_or_default()),
        ("if that is a mod", if outcome.unexplained > 0 { adopting(&outcome.name) } else { String::new() }),
        ("on disk", shares(&outcome.shares, outcome.shares.alone(), outcome.shares.shared())),
        ("linked", if outcome.shares.linked.files > 0 { guarded(&outcome.name) } else { String::new() }),
        ("renamed", renamed(&plan.renamed)),
        ("name changed in", listed(&plan.changed.iter().map(ToString::to_string).collect::<Vec<_>>(), 5)),
        ("added besides", plan.markers.join(", ")),
        ("source", outcome.taken_away.as_ref().map(source).unwrap_or_default()),
        ("left there", outcome.taken_away.as_ref().map(|away| some_of(&away.left, 5)).unwrap_or_default()),
        ("took", duration(outcome.took)),
        ("way back", typed("remove", &[&outcome.name])),
        ("next", typed("launch", &[&outcome.name])),
    ]);
    if !plan.names_source.is_empty() {
        let paths: Vec<_> = plan.names_source.iter().map(ToString::to_string).collect();
        screen.warn(format_args!(
            "these name the folder of {} by its absolute path: {}. Look at all of it: {}",
            plan.source,
            listed(&paths, 5),
            typed("repath --dry-run", &[&outcome.name])
        ));
    }
    match outcome.unshared {
        Some(Unshared::NoGuard) => screen.warn(
            "everything was copied: this filesystem can't share blocks, and a link would not be guarded, since writing to \
             read-only files is not refused to you here (root?); --share all links all the same",
        ),
        Some(Unshared::NoLinks) => {
            screen.warn("everything was copied: this filesystem can share neither blocks nor files");
        }
        Some(Unshared::Wish) | None => {}
    }
    if plan.sharing == Sharing::All && outcome.shares.linked.files > 0 {
        screen.warn(
            "every file that programs don't write is linked: a program that lifts a file's read-only mode and writes \
             to it reaches the other twins",
        );
    }
}

/// What a folder that was changed by hand has other than its stock build.
fn against(counts: Counts, build: &BuildRef) -> String {
    if counts.total() == 0 { format!("none: it is {build}") } else { format!("{}, against {build}", changes(counts)) }
}

/// How files share storage.
fn shares(shares: &yard_twin::ShareTotals, own: u64, shared: u64) -> String {
    let mut parts = vec![format!("{}: {} of its own, {} shared", size(own + shared), size(own), size(shared))];
    let ways = [
        (&shares.reflinked, "share blocks"),
        (&shares.linked, "are guarded links"),
        (&shares.copied, "are copies"),
        (&shares.own, "were written here"),
    ];
    parts.extend(ways.iter().filter(|(way, _)| way.files > 0).map(|(way, what)| {
        let count = files(way.files);
        // "1 file shares", "2 files share".
        let what = if way.files == 1 { singular(what) } else { (*what).to_owned() };
        format!("{count} {what} ({})", size(way.bytes))
    }));
    parts.join("\n")
}

fn singular(what: &str) -> String {
    match what.split_once(' ') {
        Some(("share", rest)) => format!("shares {rest}"),
        Some(("are", "guarded links")) => "is a guarded link".into(),
        Some(("are", _)) => "is a copy".into(),
        Some((_, rest)) => format!("was {rest}"),
        None => what.into(),
    }
}

pub(crate) fn list(yard: &Yard, removed: bool, screen: &Screen) -> Done {
    let twins = show::twins(yard, removed)?;
    screen.answer(&twins, |screen| {
        if twins.is_empty() {
            let (what, next) = if removed {
                ("No twin was removed.", String::new())
            } else {
                ("There is no twin yet.", typed("clone TITLE@BUILD NAME", &[]))
            };
            screen.head(what);
            screen.facts(&[("next", next)]);
            return;
        }
        let last = if removed { "REMOVED" } else { "LAST STARTED" };
        let heading = ["TWIN", "TITLE", "BUILD", "SIZE", last, "NOTE"];
        screen.table(&heading, twins.iter().map(row).collect());
        for twin in &twins {
            if let Some(trouble) = &twin.trouble {
                screen.warn(format_args!("{}: {trouble}; {} says more", twin.name, typed("check", &[&twin.name])));
            }
        }
    });
    Ok(ExitCode::SUCCESS)
}

fn row(twin: &show::Summary) -> Vec<String> {
    let last = match (twin.removed_at, twin.busy, twin.folder_missing, twin.last_run) {
        (Some(time), ..) => moment(time),
        (_, _, true, _) => "its folder is missing".into(),
        _ if twin.trouble.is_some() => "needs a look".into(),
        (_, true, ..) if twin.running => "running".into(),
        (_, true, ..) => in_use(twin),
        (_, _, _, Some(time)) => moment(time),
        _ => "never".into(),
    };
    vec![
        twin.name.to_string(),
        twin.title_name.clone(),
        twin.build.build.to_string(),
        size(twin.totals.bytes),
        last,
        twin.note.clone().unwrap_or_default(),
    ]
}

/// Who is at work on a twin that isn't running.
fn in_use(twin: &show::Summary) -> String {
    if twin.held_by.is_empty() { "in use now".into() } else { format!("in use by {}", processes(&twin.held_by, 2)) }
}

pub(crate) fn show(yard: &Yard, name: &TwinName, screen: &Screen) -> Done {
    let ctx = ctx(screen);
    let (twin, space) = show::twin_and_space(yard, name, &ctx)?;
    let shown = ShownTwin { isolation: show::isolation(yard, name, &ctx)?, space, twin };
    screen.answer(&shown, |screen| say_twin(&shown, screen));
    Ok(ExitCode::SUCCESS)
}

fn say_twin(ShownTwin { twin, isolation, space }: &ShownTwin, screen: &Screen) {
    let summary = &twin.summary;
    screen.head(format_args!("{} \u{2013} {} {}", summary.name, summary.title_name, summary.build.build));
    let state = match twin.unsettled {
        Some(show::Unsettled::Busy) if summary.running => {
            format!(
                "running: figures are those of the last look; end it with {} --stop",
                typed("launch", &[&summary.name])
            )
        }
        Some(show::Unsettled::Busy) => format!("{}: figures are those of the last look", in_use(summary)),
        Some(show::Unsettled::Removed) => {
            format!("removed {}", summary.removed_at.map(moment).unwrap_or_default())
        }
        None => String::new(),
    };
    let group =
        |group: &yard_twin::Belongings| format!("{}: {}, {}", group.group, files(group.files), size(group.bytes));
    let runs = match twin.runs.first() {
        None => "never started".into(),
        Some(last) => {
            let changed = last.summary.as_ref().map(|text| format!(": {text}")).unwrap_or_default();
            let played = duration(twin.played);
            let started = times(twin.runs.len());
            format!("started {started}, {played} in all, last {}{changed}", moment(last.started_at))
        }
    };
    let removed = twin.unsettled == Some(show::Unsettled::Removed);
    let next = if removed { typed("restore", &[&summary.name]) } else { typed("launch", &[&summary.name]) };
    screen.facts(&[
        ("state", state),
        ("note", summary.note.clone().unwrap_or_default()),
        ("folder", if removed { twin.folder.clone() } else { twin.folder.join("game") }.display().to_string()),
        ("made", format!("{} from {}", moment(summary.made_at), summary.origin)),
        ("holds", format!("{}, {}", files(summary.totals.files), size(summary.totals.bytes))),
        ("on disk", shares(&twin.shares, space.own, space.shared)),
        ("shared with", super::space::shared_with(space)),
        ("deleting frees", super::space::frees(space)),
        ("isolation", if removed { String::new() } else { isolation_text(isolation) }),
        ("unsealed", guard(twin.guard).into()),
        ("protected", protected(twin)),
        ("player's changes", changed(twin)),
        ("a player's own", twin.belongings.iter().map(group).collect::<Vec<_>>().join("\n")),
        ("runs", runs),
        ("history", format!("{} to go back to: {}", counted(twin.states, "state"), typed("history", &[&summary.name]))),
        ("entries", twin.entries.iter().map(|path| path.display().to_string()).collect::<Vec<_>>().join("\n")),
        ("not copied", some_of(&twin.not_taken, 5)),
        ("id", summary.id.to_string()),
        ("next", next),
    ]);
    leaks(&twin.summary.name, &twin.leaks, screen);
}

fn protected(twin: &show::Details) -> String {
    match twin.changed_though_protected {
        None => String::new(),
        Some(counts) if counts.total() == 0 => "yes, and no game file has changed since".into(),
        Some(counts) => format!("yes, and yet game files were changed from outside: {}", changes(counts)),
    }
}

/// Counts of changed paths in a few words.
pub(crate) fn changes(counts: Counts) -> String {
    let parts: Vec<_> = [(counts.new, "new"), (counts.changed, "changed"), (counts.gone, "gone")]
        .iter()
        .filter(|(count, _)| *count > 0)
        .map(|(count, how)| format!("{count} {how}"))
        .collect();
    parts.join(", ")
}

fn times(count: usize) -> String {
    if count == 1 { "once".into() } else { format!("{count} times") }
}

fn changed(twin: &show::Details) -> String {
    if twin.changes.is_empty() { "none: it is as its build and mods are".into() } else { twin.changes.summary() }
}

fn guard(guard: show::Guard) -> &'static str {
    match guard {
        show::Guard::Separate => "no write in this twin can reach another one",
        show::Guard::GuardedLinks => {
            "an ordinary write to a linked file is refused; a program that first lifts its read-only mode \
             reaches the other twins, and the next command finds it and puts right what it can"
        }
        show::Guard::WeakLinks => {
            "linked files are not guarded against this user or on this filesystem: a write to one reaches \
             the other twins, and the next command finds it"
        }
    }
}

/// Says which shared files were written to directly, and what became of that.
pub(crate) fn leaks(name: &dyn std::fmt::Display, leaks: &Leaks, screen: &Screen) {
    if !leaks.guarded.is_empty() {
        screen.warn(format_args!(
            "shared files were made writable, or had their time set, and are as they were again: {}",
            listed(&leaks.guarded, 5)
        ));
    }
    if !leaks.own.is_empty() {
        screen.warn(format_args!(
            "files that only {name} shared were written to directly; what is in them now is its own: {}",
            listed(&leaks.own, 5)
        ));
    }
    if !leaks.paths.is_empty() {
        let yours = leaks.number.map(|number| {
            let only = shell(&leaks.paths[0]);
            format!("; to have what was written in this twin: {} --only {only}", typed("restore", &[&name, &number]))
        });
        screen.warn(format_args!(
            "files that twins share were written to directly; they have the right bytes again: {}{}",
            listed(&leaks.paths, 5),
            yours.unwrap_or_default()
        ));
    }
    if !leaks.repaired.is_empty() {
        let files: Vec<_> = leaks.repaired.iter().map(|(twin, path)| format!("{path} of {twin}")).collect();
        screen.warn(format_args!("the same in other twins, whose history has what was there: {}", listed(&files, 5)));
    }
    if !leaks.later.is_empty() {
        let later = listed(&leaks.later, 5);
        screen.warn(format_args!("these twins may share them too, and mend themselves at their next command: {later}"));
    }
    if !leaks.damaged.is_empty() {
        screen.warn(format_args!(
            "these have wrong bytes, or lack theirs, and nothing here has the right ones: {}. Take the stock build in again \
             from its folder to put its contents right",
            listed(&leaks.damaged, 12)
        ));
    }
}

/// The room that something needs, where that is worth a word.
pub(crate) fn room(room: &Room) -> String {
    const WORTH_A_WORD: u64 = 1 << 30;
    if room.needs < WORTH_A_WORD && room.needs < room.free {
        return String::new();
    }
    format!("needs {} at most, and {} are free", size(room.needs), size(room.free))
}

/// How far a launch is kept inside.
fn isolation_text(view: &show::IsolationView) -> String {
    let memory = view.shares_memory.then(|| "shares the system's shared memory, for the X11 display (ipc)".to_owned());
    let reached = view.reached.iter().map(|one| format!("reaches {}", super::play::reached(one)));
    std::iter::once(how_far(view)).chain(memory).chain(reached).collect::<Vec<_>>().join("\n")
}

fn how_far(view: &show::IsolationView) -> String {
    match (view.gets, &view.why) {
        (Some(gets), None) if view.asked.is_some() => format!("{gets}, as its profile says"),
        (Some(gets), None) => format!("{gets} when it is launched, the best there is"),
        (Some(gets), Some(why)) => format!("{gets} when it is launched, the best that is possible here; {why}"),
        (None, why) => {
            let asked = view.asked.map(|asked| asked.to_string()).unwrap_or_default();
            format!("can't be launched: its profile asks for {asked}, and here {}", why.clone().unwrap_or_default())
        }
    }
}

pub(crate) fn folder(yard: &Yard, name: &TwinName, place: Option<&str>, open: bool, screen: &Screen) -> Done {
    let folder = show::folder(yard, name, place)?;
    if open {
        let opened = Command::new("xdg-open").arg(&folder).stdin(Stdio::null()).stdout(Stdio::null()).status();
        match opened {
            Ok(status) if status.success() => {}
            Ok(status) => {
                return Err(Failure::failed(format!("xdg-open could not open {}: {status}", folder.display())));
            }
            Err(error) => {
                return Err(Failure::failed(format!(
                    "xdg-open, which opens file managers, can't be started ({error}); the folder is {}",
                    folder.display()
                )));
            }
        }
    }
    // Only a hint: what ails a twin is said by other commands.
    let linked = show::linked(yard, name).unwrap_or_default();
    screen.answer(&FolderOf { folder: folder.clone() }, |screen| {
        screen.line(folder.display());
        if linked.files > 0 {
            screen.warn(format_args!("{} are links, {}", files(linked.files), guarded(name)));
        }
    });
    Ok(ExitCode::SUCCESS)
}

pub(crate) fn rename(
    yard: &Yard,
    name: &TwinName,
    new: &TwinName,
    move_folder: bool,
    how: DryRun,
    screen: &Screen,
) -> Done {
    let ctx = ctx(screen);
    let plan = rename::plan(yard, name, new, move_folder, &ctx)?;
    let outcome = if how.dry_run { plan.would } else { rename::apply(yard, &plan, &ctx)? };
    screen.answer(&outcome, |screen| {
        let moved = outcome.moved_from.as_ref();
        let same = outcome.before == outcome.name;
        let done = match (same, how.dry_run) {
            (true, _) => "is already called",
            (_, true) => "would be called",
            (_, false) => "is now called",
        };
        screen.head(format_args!("The twin {} {done} {}", shell(&outcome.before), shell(&outcome.name)));
        let back = if moved.is_some() { "rename --move-folder" } else { "rename" };
        let back = if same { String::new() } else { typed(back, &[&outcome.name, &outcome.before]) };
        screen.facts(&[
            ("folder", outcome.folder.join("game").display().to_string()),
            ("moved from", moved.map(|from| from.display().to_string()).unwrap_or_default()),
            ("mended", listed(&outcome.mended.iter().map(ToString::to_string).collect::<Vec<_>>(), 5)),
            ("entries", outcome.entries.iter().map(|path| path.display().to_string()).collect::<Vec<_>>().join("\n")),
            ("way back", back),
        ]);
        if moved.is_some() {
            screen.warn(format_args!(
                "text files of the player's own that name the old folder are mended; to look at all the others: {}",
                typed("repath --dry-run", &[&outcome.name])
            ));
        }
    });
    Ok(ExitCode::SUCCESS)
}

pub(crate) fn protect(yard: &Yard, name: &TwinName, on: bool, how: DryRun, screen: &Screen) -> Done {
    let plan = protect::plan(yard, name, on)?;
    let outcome = if how.dry_run { plan.would } else { protect::apply(yard, &plan, &ctx(screen))? };
    screen.answer(&outcome, |screen| {
        let done = match (outcome.changed, how.dry_run, on) {
            (false, _, true) => "is protected already",
            (false, _, false) => "is not protected",
            (true, true, true) => "would be protected",
            (true, true, false) => "would be open to changes again",
            (true, false, true) => "is protected: whatever would change its game files is refused",
            (true, false, false) => "is open to changes again",
        };
        screen.head(format_args!("The twin {} {done}", shell(&outcome.name)));
        if outcome.changed {
            let back =
                if on { typed("protect", &[&outcome.name]) + " --off" } else { typed("protect", &[&outcome.name]) };
            screen.facts(&[("way back", back)]);
        }
    });
    if outcome.nothing_own {
        screen.warn(
            "its title sheet names no belongings and no live paths: whatever its program writes beside its game files goes \
             back after each run, saves too, and is in the history; name them in the sheet before you play",
        );
    }
    Ok(ExitCode::SUCCESS)
}

pub(crate) fn remove(yard: &Yard, name: &TwinName, for_good: bool, how: Careful, screen: &Screen) -> Done {
    let ctx = ctx(screen);
    let plan = remove::plan(yard, name, &ctx)?;
    leaks(&plan.name, &plan.leaks, screen);
    if plan.removed && !for_good {
        return Err(Failure::refused(
            format!("the twin {name} is removed already"),
            format!("Delete it for good: {}", typed("remove --for-good", &[name])),
        ));
    }
    if how.dry_run {
        screen.answer(&plan, |screen| {
            let done = if for_good { "would be deleted for good" } else { "would be removed" };
            screen.head(format_args!("The twin {} {done}", shell(name)));
            screen.facts(&plan_facts(&plan));
        });
    } else if for_good {
        screen.confirm(&question(&plan), how.yes)?;
        let outcome = remove::let_go(yard, &plan, &ctx)?;
        screen.answer(&outcome, |screen| {
            screen.head(format_args!("The twin {} is deleted for good", shell(name)));
            let mut facts = plan_facts(&plan);
            facts.push(("freed", format!("{} in the yard, and the twin's own files", size(outcome.freed))));
            facts.push(("kept", some_of(&outcome.kept, 5)));
            facts.push(("took", duration(outcome.took)));
            screen.facts(&facts);
        });
    } else {
        let outcome = remove::apply(yard, &plan, &ctx)?;
        screen.answer(&outcome, |screen| {
            screen.head(format_args!("The twin {} is removed", shell(name)));
            let mut facts = plan_facts(&plan);
            facts.push(("kept", outcome.folder.as_ref().map(|f| f.display().to_string()).unwrap_or_default()));
            facts.push(("took", duration(outcome.took)));
            let back = if outcome.folder.is_some() { typed("restore", &[name]) } else { typed("clone", &[name, name]) };
            facts.push(("way back", back));
            facts.push(("for good", typed("remove --for-good", &[name])));
            screen.facts(&facts);
        });
    }
    Ok(ExitCode::SUCCESS)
}

fn question(plan: &remove::Plan) -> String {
    let only = &plan.only_here;
    let mut lost = match only.paths.len() as u64 {
        0 if plan.not_taken.is_empty() => "Everything in it exists elsewhere too.".to_owned(),
        0 => String::new(),
        many => {
            let many = files(many);
            format!("{many} ({}) that exist nowhere else are lost: {}.", size(only.bytes), listed(&only.paths, 5))
        }
    };
    if !plan.not_taken.is_empty() {
        let what = listed(&plan.not_taken, 5);
        lost = format!("{lost} What no state of it holds is lost: {what}.").trim_start().to_owned();
    }
    format!("{lost} Delete the twin {} for good?", shell(&plan.name))
}

fn plan_facts(plan: &remove::Plan) -> Vec<(&'static str, String)> {
    let only = &plan.only_here;
    let own = if only.paths.is_empty() && !plan.not_taken.is_empty() {
        "see below: what is in no state of it".into()
    } else if only.paths.is_empty() {
        "nothing: all of it is in a stock build or another twin".into()
    } else {
        let many = files(only.paths.len() as u64);
        format!("{many}, {}\n{}", size(only.bytes), some_of(&only.paths, 5))
    };
    vec![
        ("build", plan.build.to_string()),
        ("held", format!("{}, {}", files(plan.totals.files), size(plan.totals.bytes))),
        ("only there", own),
        ("not in its last state", some_of(&plan.not_taken, 5)),
        ("folder", if plan.folder_missing { "missing; only the record goes".into() } else { String::new() }),
        ("entries deleted", plan.entries.iter().map(|p| p.display().to_string()).collect::<Vec<_>>().join("\n")),
    ]
}
