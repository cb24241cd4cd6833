//! `init` and `intake`.

use std::path::{Path, PathBuf};
use std::process::ExitCode;

use yard_twin::{Belongings, Error, IntakeError, RelPath, Title, TwinName, Yard, intake};

use super::twins::changes;
use super::{Done, typed};
use crate::answers::YardMade;
use crate::args::{self, DryRun};
use crate::fail::Failure;
use crate::progress::ctx;
use crate::screen::{Screen, counted, duration, files, listed, shell, size, some_of};

pub(crate) fn init(dir: &Path, how: DryRun, screen: &Screen) -> Done {
    let dir = &std::path::absolute(dir).map_err(|error| Failure::io("find", dir, &error))?;
    if how.dry_run {
        Yard::check_new(dir)?;
    } else {
        drop(Yard::init(dir)?);
    }
    screen.answer(&YardMade { yard: dir.clone(), dry_run: how.dry_run }, |screen| {
        let done = if how.dry_run { "A yard can be made at" } else { "The yard is made at" };
        screen.head(format_args!("{done} {}", dir.display()));
        screen.facts(&[("next", typed("intake FOLDER --title TITLE", &[]))]);
    });
    Ok(ExitCode::SUCCESS)
}

pub(crate) fn intake(yard: &Yard, args: args::Intake, screen: &Screen) -> Done {
    if let Some(twin) = &args.twin {
        return of_twin(yard, twin, &args, screen);
    }
    let title = match (args.title, args.source.first()) {
        (Some(title), _) => title,
        (None, source) => named_title(source.map_or(Path::new(""), PathBuf::as_path), screen)?,
    };
    let home = args.as_home.map(home_part).transpose()?;
    // Archives are parts of one build; folders are builds of their own.
    let together = args.source.iter().all(|source| source.is_file());
    if !together && args.source.iter().any(|source| source.is_file()) && args.source.len() > 1 {
        let message = "folders and archives are named together: each folder is a build, and archives are one";
        return Err(Failure::Other { message: message.into(), remedy: None, command: None, code: 2 });
    }
    if args.source.len() > 1 && args.build.is_some() && !together {
        let message = "--build names one build, and there are several folders: each must say itself which build it is";
        return Err(Failure::Other { message: message.into(), remedy: None, command: None, code: 2 });
    }
    let several: Vec<(&PathBuf, &[PathBuf])> = match args.source.split_first() {
        Some((first, more)) if together => vec![(first, more)],
        _ => args.source.iter().map(|source| (source, &[][..])).collect(),
    };
    for (source, more) in several {
        let options = intake::Options {
            source: source.clone(),
            more: more.to_vec(),
            strip: args.strip,
            names: args.names,
            without: args.without.clone(),
            home: home.clone(),
            title: title.clone(),
            build: args.build.clone(),
            channel: args.channel.clone(),
            dated: args.dated.clone(),
            note: args.note.clone(),
            leave_out: args.leave_out.clone(),
            take_away: args.take_away,
            again: args.again,
        };
        one(yard, options, args.how, screen)?;
    }
    Ok(ExitCode::SUCCESS)
}

/// The title that somebody types, beginning with what the folder is called.
fn named_title(source: &Path, screen: &Screen) -> Result<Title, Failure> {
    let (title, _) = intake::from_name(source);
    let proposed = title.map_or_else(|| "TITLE".to_owned(), |title| title.to_string());
    match screen.type_in("Which title is it", &proposed)? {
        Some(title) => Ok(title.parse()?),
        None => {
            let again = format!("yardtwin intake {} --title {}", shell(&source.display()), shell(&proposed));
            Err(Failure::usage("no title was named", again))
        }
    }
}

/// The plan; where the build is not known, with the label that somebody types, beginning with what the folder is called.
fn planned(yard: &Yard, options: intake::Options, screen: &Screen) -> Result<intake::Plan, Failure> {
    let ctx = ctx(screen);
    let (error, folder) = match intake::plan(yard, options.clone(), &ctx) {
        Err(error @ Error::Intake(IntakeError::NoLabel { .. })) => (error, options.source.clone()),
        plan => return Ok(plan?),
    };
    let (_, label) = intake::from_name(&folder);
    let proposed = label.map_or_else(|| "1".to_owned(), |label| label.to_string());
    match screen.type_in("Which build is it", &proposed)? {
        Some(label) => Ok(intake::plan(yard, intake::Options { build: Some(label.parse()?), ..options }, &ctx)?),
        None => Err(error.into()),
    }
}

/// A folder below the user's home belongs in the same place of a twin's; another one is a home itself.
fn home_part(folder: PathBuf) -> Result<intake::HomePart, Failure> {
    let real = |path: &Path| path.canonicalize().map_err(|error| Failure::io("find", path, &error));
    let full = real(&folder)?;
    let home = std::env::var_os("HOME").map(PathBuf::from).filter(|home| home.is_absolute());
    let home = home.map(|home| real(&home)).transpose()?;
    let below =
        home.as_ref().and_then(|home| full.strip_prefix(home).ok()).filter(|below| !below.as_os_str().is_empty());
    let at = below.map(|below| RelPath::new(below.to_string_lossy())).transpose()?;
    Ok(intake::HomePart { folder, at })
}

fn of_twin(yard: &Yard, twin: &TwinName, args: &args::Intake, screen: &Screen) -> Done {
    let ctx = ctx(screen);
    let options = intake::FromTwinOptions {
        build: args.build.clone(),
        channel: args.channel.clone(),
        dated: args.dated.clone(),
        note: args.note.clone(),
    };
    let plan = intake::plan_from_twin(yard, twin, options, &ctx)?;
    let facts = |outcome: Option<&intake::Outcome>| {
        [
            ("holds", format!("{}, {}", files(plan.totals.files), size(plan.totals.bytes))),
            (
                "against",
                match plan.game.total() {
                    0 => format!("{}: the same", plan.from),
                    _ => format!("{}: {}", plan.from, changes(plan.game)),
                },
            ),
            ("belongings left out", some_of(&plan.left_out, 5)),
            ("took", outcome.map(|outcome| duration(outcome.took)).unwrap_or_default()),
            ("way back", outcome.map(|_| typed("stock remove", &[&plan.build])).unwrap_or_default()),
            ("next", outcome.map(|_| typed(&format!("clone {} NAME", shell(&plan.build)), &[])).unwrap_or_default()),
        ]
    };
    if args.how.dry_run {
        screen.answer(&plan, |screen| {
            screen.head(format_args!("The twin {} would be taken in as {}", shell(twin), plan.build));
            screen.facts(&facts(None));
        });
        return Ok(ExitCode::SUCCESS);
    }
    let outcome = intake::apply_from_twin(yard, &plan, &ctx)?;
    screen.answer(&outcome, |screen| {
        let again = if outcome.was_there { "was taken in before as" } else { "is taken in as" };
        screen.head(format_args!("The twin {} {again} {}", shell(twin), plan.build));
        screen.facts(&facts(Some(&outcome)));
    });
    Ok(ExitCode::SUCCESS)
}

fn one(yard: &Yard, options: intake::Options, how: args::Careful, screen: &Screen) -> Result<(), Failure> {
    let ctx = ctx(screen);
    let without = options.without.clone();
    let plan = planned(yard, options, screen)?;
    if how.dry_run {
        screen.answer(&plan, |screen| {
            screen.head(format_args!("{} would be taken in as {}", sources(&plan), plan.build));
            screen.facts(&plan_facts(yard, &plan));
        });
        return Ok(());
    }
    if plan.without == 0
        && let Some(pattern) = without.first()
    {
        screen.warn(format_args!("nothing there matches {pattern:?}: nothing was left out by name"));
    }
    if plan.take_away {
        let question = format!("Delete {} once it is safely taken in?", sources(&plan));
        screen.confirm(&question, how.yes)?;
    }
    let outcome = intake::apply(yard, &plan, &ctx)?;
    screen.answer(&outcome, |screen| say(yard, &plan, &outcome, screen));
    Ok(())
}

/// What is taken in, as it was found.
fn sources(plan: &intake::Plan) -> String {
    let from = plan.archives.as_ref().map_or(std::slice::from_ref(&plan.source), |archives| &archives.from);
    listed(&from.iter().map(|path| path.display().to_string()).collect::<Vec<_>>(), 4)
}

fn plan_facts(yard: &Yard, plan: &intake::Plan) -> Vec<(&'static str, String)> {
    let of = plan.archives.as_ref();
    let overlaps = of.map_or(&[][..], |archives| &archives.overlaps);
    vec![
        ("holds", format!("{}, {}", files(plan.totals.files), size(plan.totals.bytes))),
        ("room", super::twins::room(&plan.room)),
        (
            "taken from",
            of.and_then(|archives| Some(format!("the folder {:?} in it", archives.folder.as_ref()?)))
                .unwrap_or_default(),
        ),
        ("not taken in", of.map(|archives| some_of(&archives.beside, 5)).unwrap_or_default()),
        (
            "laid over",
            match overlaps.len() as u64 {
                0 => String::new(),
                some => format!("{} of an earlier archive: {}", files(some), some_of(overlaps, 5)),
            },
        ),
        (
            "home",
            plan.home
                .as_ref()
                .map(|home| {
                    let at = home.at.as_ref().map(|at| format!("/{at}")).unwrap_or_default();
                    format!("home{at} from {}", home.folder.display())
                })
                .unwrap_or_default(),
        ),
        ("starts", plan.program.clone().unwrap_or_else(|| "nothing yet: no program is known".into())),
        ("a player's own", belongings(&plan.belongings)),
        ("left out", belongings(&plan.left_out)),
        ("left out by name", if plan.without > 0 { files(plan.without) } else { String::new() }),
        (
            "worth nothing",
            if plan.scratch > 0 { format!("{}, not taken in", files(plan.scratch)) } else { String::new() },
        ),
        (
            "sheet",
            match plan.sheet {
                intake::SheetUse::Known => String::new(),
                intake::SheetUse::Drafted => {
                    let path = yard.sheet_path(&plan.build.title);
                    format!("none was known; a cautious draft: {}", path.display())
                }
            },
        ),
    ]
}

fn belongings(groups: &[Belongings]) -> String {
    let line = |group: &Belongings| {
        let more = if group.files > group.examples.len() as u64 { ", \u{2026}" } else { "" };
        format!("{}: {}, {} ({}{more})", group.group, files(group.files), size(group.bytes), group.examples.join(", "))
    };
    groups.iter().map(line).collect::<Vec<_>>().join("\n")
}

fn say(yard: &Yard, plan: &intake::Plan, outcome: &intake::Outcome, screen: &Screen) {
    let took = duration(outcome.took);
    let (back, stored) = if outcome.was_there {
        screen.head(format_args!("{} was taken in before, and is the same", outcome.build));
        let restored = match outcome.new_contents {
            0 => format!("nothing: the yard has all of it ({took})"),
            lost => {
                format!("{} that the yard had lost, {} ({took})", counted(lost, "file"), size(outcome.new_bytes))
            }
        };
        (String::new(), restored)
    } else {
        screen.head(format_args!("{} is taken in as {}", sources(plan), outcome.build));
        let new = match outcome.new_contents {
            0 => format!("nothing: the yard has all of it ({took})"),
            new => {
                format!("{} that the yard did not have, {}, in {took}", counted(new, "file"), size(outcome.new_bytes))
            }
        };
        (typed("stock remove", &[&outcome.build]), new)
    };
    let mut facts = plan_facts(yard, plan);
    facts.insert(1, ("stored", stored));
    facts.push(("not kept", not_kept(outcome.not_kept)));
    if outcome.links_made_relative > 0 {
        facts.push(("links", format!("{} made relative, so that copies stand alone", outcome.links_made_relative)));
    }
    facts.push(("links outside", some_of(&outcome.links_outside, 3)));
    if let Some(taken) = &outcome.taken_away {
        let gone = if plan.archives.is_some() { counted(taken.deleted, "archive") + " deleted" } else { source(taken) };
        facts.push(("source", gone));
        facts.push(("left there", some_of(&taken.left, 5)));
    }
    // What gave its label away can't be had back by that.
    if !plan.again {
        facts.push(("way back", back));
    }
    if !plan.twins.is_empty() {
        let names: Vec<_> = plan.twins.iter().map(shell).collect();
        facts.push(("twins on the old one", names.join(", ")));
        facts.push(("put them on it", typed("renew", &[&plan.twins[0]])));
    }
    facts.push(("next", typed(&format!("clone {} NAME", crate::screen::shell(&outcome.build)), &[])));
    screen.facts(&facts);
    if plan.sheet == intake::SheetUse::Drafted {
        screen.warn("the sheet is guessed from usual names and endings: read it, and mend it where it is wrong");
    }
    if let Some(group) = plan.only_here.first() {
        screen.warn(format_args!(
            "what looks like a player's own was taken in too, which no other build of {} has, and every clone will have it; --leave-out {group} leaves it out",
            outcome.build.title
        ));
    }
}

/// What became of a folder that was taken away.
pub(super) fn source(taken: &intake::TakenAway) -> String {
    let gone = if taken.folder_gone { "the folder is gone" } else { "the folder stays, with what is left in it" };
    format!("{} deleted; {gone}", files(taken.deleted))
}

fn not_kept(counts: intake::NotKept) -> String {
    let parts = [
        (counts.owners, "the owner"),
        (counts.modes, "the mode"),
        (counts.attributes, "extended attributes"),
        (counts.hard_links, "being one file"),
    ];
    let each = parts.iter().filter(|(count, _)| *count > 0).map(|(count, what)| format!("{what} of {}", files(*count)));
    each.collect::<Vec<_>>().join(", ")
}
