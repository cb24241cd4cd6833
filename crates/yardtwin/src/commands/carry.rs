//! `carry`, `show --belongings`.

use std::path::{Path, PathBuf};
use std::process::ExitCode;

use yard_twin::{CarryError, OnClash, TwinName, Unit, Yard, belongings, carry};

use super::twins::leaks;
use super::{Done, typed};
use crate::args;
use crate::fail::Failure;
use crate::progress::ctx;
use crate::screen::{Screen, counted, day, duration, files, listed, moment, shell, size, some_of};

/// So many belongings are listed.
const ITEMS: usize = 40;

pub(crate) fn carry(yard: &Yard, args: args::Carry, screen: &Screen) -> Done {
    if args.take_out && args.to.len() > 1 {
        let message = "--move takes belongings out of their twin, and there are several twins for them to go to";
        return Err(Failure::usage(message, "yardtwin carry GROUP --from NAME --to NAME --move"));
    }
    if let (Some(from), Some(folder)) = (&args.from, &args.to_folder) {
        let (groups, files, shipped_too) = (args.group.clone(), args.files.clone(), args.shipped_too);
        let options = carry::Options { groups, files, shipped_too, ..carry::Options::default() };
        return to_folder(yard, from, folder, &options, args.how, screen);
    }
    let from = match (args.from, args.from_file) {
        (Some(twin), _) => carry::Origin::Twin(twin),
        (None, Some(path)) => carry::Origin::Place(path),
        (None, None) => carry::Origin::Home(home()?),
    };
    let options = carry::Options {
        groups: args.into.map_or(args.group, |group| vec![group]),
        files: args.files,
        on_clash: args.on_clash.map(Into::into),
        decisions: args.decide.into_iter().collect(),
        take_out: args.take_out,
        shipped_too: args.shipped_too,
        names: args.names,
    };
    if args.to.len() > 1 && !args.how.dry_run {
        // What can't be done to one of them is done to none.
        for to in &args.to {
            if let count @ 1.. = carry::plan(yard, &from, to, &options, &ctx(screen))?.undecided() {
                return Err(yard_twin::Error::from(CarryError::Undecided { count, twin: to.to_string() }).into());
            }
        }
    }
    for to in &args.to {
        one(yard, &from, to, &options, args.how, screen)?;
    }
    Ok(ExitCode::SUCCESS)
}

fn to_folder(
    yard: &Yard,
    from: &TwinName,
    folder: &Path,
    options: &carry::Options,
    how: args::DryRun,
    screen: &Screen,
) -> Done {
    let ctx = ctx(screen);
    let plan = carry::plan_to_folder(yard, from, folder, options, &ctx)?;
    let facts = |screen: &Screen, next: String| {
        screen.facts(&[
            ("holds", format!("{}, {}", files(plan.files.len() as u64), size(plan.bytes))),
            ("files", listed(&plan.files, 8)),
            ("can't be carried", some_of(&plan.left, 5)),
            ("to a twin", next),
        ]);
    };
    let place = shell(&plan.folder.display());
    let group = options.groups.first().map_or_else(|| "GROUP".to_owned(), shell);
    let next = typed("carry --group", &[&group]) + &format!(" --from-file {place} --to NAME");
    if how.dry_run {
        screen.answer(&plan, |screen| {
            screen.head(format_args!("From {} to {place}: this would be done", shell(from)));
            facts(screen, String::new());
        });
        return Ok(ExitCode::SUCCESS);
    }
    let outcome = carry::apply_to_folder(yard, &plan, &ctx)?;
    screen.answer(&outcome, |screen| {
        screen.head(format_args!("{} of {} are in {place}", files(outcome.verified), shell(from)));
        screen.facts(&[("verified", "read again, and there byte for byte".to_owned())]);
        facts(screen, next);
    });
    Ok(ExitCode::SUCCESS)
}

fn home() -> Result<PathBuf, Failure> {
    let home = std::env::var_os("HOME").map(PathBuf::from).filter(|home| home.is_absolute());
    home.ok_or_else(|| Failure::failed("HOME does not say where your home is"))
}

fn one(
    yard: &Yard,
    from: &carry::Origin,
    to: &TwinName,
    options: &carry::Options,
    how: args::DryRun,
    screen: &Screen,
) -> Result<(), Failure> {
    let ctx = ctx(screen);
    let plan = carry::plan(yard, from, to, options, &ctx)?;
    leaks(to, &plan.leaks, screen);
    let undecided = plan.undecided();
    if how.dry_run || undecided > 0 {
        screen.answer(&plan, |screen| {
            say_plan(&plan, screen);
            screen.facts(&[("can't be carried", some_of(&plan.left, 5))]);
        });
        return match undecided {
            0 => Ok(()),
            count => Err(yard_twin::Error::from(CarryError::Undecided { count, twin: to.to_string() }).into()),
        };
    }
    let outcome = carry::apply(yard, &plan, &ctx)?;
    screen.answer(&outcome, |screen| {
        say_plan(&plan, screen);
        say_outcome(&plan, &outcome, screen);
    });
    Ok(())
}

fn say_plan(plan: &carry::Plan, screen: &Screen) {
    screen.head(format_args!("From {} to {}", side(&plan.from), side(&plan.to)));
    let as_shipped = match plan.as_shipped.missing {
        0 => String::new(),
        missing => format!(
            "{} in these groups, and no belongings; {missing} of them missing there: --shipped-too carries those",
            files(plan.as_shipped.files)
        ),
    };
    let of_mod = |(name, count): (&String, &u64)| {
        let add = typed("mod add", &[name]) + &format!(" --to {}", shell(&plan.to.name));
        format!("{} from {name}, not carried: {add}", files(*count))
    };
    let of_mods = plan.of_mods.iter().map(of_mod).collect::<Vec<_>>().join("\n");
    if plan.items().is_empty() {
        screen.line("  There is nothing of the player's own to carry.");
        screen.facts(&[("as shipped", as_shipped), ("from mods", of_mods)]);
        return;
    }
    let things: Vec<_> = plan.items().chunk_by(|a, b| (&a.thing, &a.group) == (&b.thing, &b.group)).collect();
    // What is there already needs no line where there is much.
    let worth = |parts: &&[carry::CarryItem]| {
        things.len() <= ITEMS || parts.iter().any(|item| item.does != carry::Does::Nothing)
    };
    let shown: Vec<_> = things.iter().copied().filter(worth).collect();
    let rows = shown.iter().take(ITEMS).map(|parts| row(parts, plan)).collect();
    screen.table(&["GROUP", "WHERE", "COMES", "THERE NOW", "WHAT IS DONE"], rows);
    if shown.len() > ITEMS {
        screen.line(format_args!("and {} more", shown.len() - ITEMS));
    }
    let gone: Vec<_> = plan.gone.iter().map(ToString::to_string).collect();
    screen.facts(&[("removed there", some_of(&gone, 5)), ("as shipped", as_shipped), ("from mods", of_mods)]);
}

/// `evening shift (2 shifts, played today)`.
fn side(side: &carry::End) -> String {
    let many = |(group, count): &(String, u64)| match (group.as_str(), count) {
        ("", count) => files(*count),
        (group, 1) => format!("1 {}", group.strip_suffix('s').unwrap_or(group)),
        (group, count) => format!("{count} {group}"),
    };
    let mut parts: Vec<String> = side.things.iter().map(many).collect();
    match side.last_run {
        Some(time) => parts.push(format!("played {}", day(time))),
        None if side.build.is_some() => parts.push("never started".into()),
        None => {}
    }
    if parts.is_empty() { shell(&side.name) } else { format!("{} ({})", shell(&side.name), parts.join(", ")) }
}

/// A thing, of one file or several.
fn row(parts: &[carry::CarryItem], plan: &carry::Plan) -> Vec<String> {
    let item = parts.iter().find(|item| item.does != carry::Does::Nothing).unwrap_or(&parts[0]);
    let modified = parts.iter().map(|item| item.modified).max().unwrap_or(item.modified);
    let there = match (item.found, item.there) {
        (carry::Met::New, _) => String::new(),
        (carry::Met::Same, _) => "the same".into(),
        (carry::Met::Untouched, _) => "as shipped with both".into(),
        (met, there) => {
            let what = if met == carry::Met::Clash { "another one" } else { "as shipped" };
            let newer = there.is_some_and(|(_, time)| time > modified);
            let about = there.map(|(bytes, time)| format!(", {}, {}", size(bytes), moment(time))).unwrap_or_default();
            format!("{what}{about}{}", if newer { " (newer)" } else { "" })
        }
    };
    vec![
        item.group.clone().unwrap_or_default(),
        if parts.len() > 1 {
            format!("{}, {}", item.thing, files(parts.len() as u64))
        } else if item.from == item.to.to_string() || plan.from.build.is_none() {
            item.to.to_string()
        } else {
            let same_folder = item.from.rsplit_once('/').map(|(folder, _)| folder) == item.to.parent();
            format!("{} \u{2192} {}", item.from, if same_folder { item.to.name() } else { item.to.as_str() })
        },
        format!("{}, {}", size(parts.iter().map(|item| item.bytes).sum()), moment(modified)),
        there,
        match (item.does, item.found) {
            (carry::Does::Put, carry::Met::New) => "put there",
            (carry::Does::Put, _) => "replaces it",
            (carry::Does::Beside, _) => "put beside it",
            (carry::Does::Leave, _) => "skipped",
            (carry::Does::Nothing, _) => "nothing",
            (carry::Does::Undecided, _) => "not decided",
        }
        .into(),
    ]
}

fn say_outcome(plan: &carry::Plan, outcome: &carry::Outcome, screen: &Screen) {
    let name = &outcome.name;
    let skipped = match outcome.skipped.len() {
        0 => String::new(),
        count => format!("{}: {}", files(count as u64), listed(&outcome.skipped, 5)),
    };
    let verified = match outcome.verified {
        0 => String::new(),
        count => format!("{} in {}, {}, byte for byte", files(count), shell(name), size(outcome.bytes)),
    };
    let back = match (outcome.number, outcome.before_taken_out) {
        (None, _) => String::new(),
        (Some(_), None) => typed("restore --all", &[name, &outcome.before]),
        (Some(_), Some(other)) => {
            format!(
                "{}\n{}",
                typed("restore --all", &[name, &outcome.before]),
                typed("restore --all", &[&plan.from.name, &other])
            )
        }
    };
    let out = match outcome.taken_out {
        0 => String::new(),
        count => format!("{} out of {}; its history has them", files(count), shell(&plan.from.name)),
    };
    let away = outcome.taken_away.as_ref();
    let source =
        away.map(|away| format!("{} deleted from {}", files(away.deleted), plan.from.name)).unwrap_or_default();
    let left = away.map(|away| some_of(&away.left, 5)).unwrap_or_default();
    let same = if outcome.same == 0 { String::new() } else { format!(", {} there already", outcome.same) };
    screen.facts(&[
        ("carried", format!("{}{same}, in {}", files(outcome.put), duration(outcome.took))),
        ("skipped", skipped),
        ("verified", verified),
        ("taken", out),
        ("source", source),
        ("left there", left),
        ("can't be carried", some_of(&plan.left, 5)),
        ("written meanwhile", listed(&outcome.late, 5)),
        ("set aside", listed(&outcome.set_aside, 5)),
        ("way back", back),
        ("next", typed("launch", &[name])),
    ]);
}

pub(crate) fn belongings(yard: &Yard, name: &TwinName, screen: &Screen) -> Done {
    let view = belongings::list(yard, name, &ctx(screen))?;
    screen.answer(&view, |screen| say_belongings(&view, screen));
    Ok(ExitCode::SUCCESS)
}

fn say_belongings(view: &belongings::View, screen: &Screen) {
    screen.head(format_args!("Belongings in {} \u{2013} {}", view.name, view.build));
    let own: Vec<_> = view.groups.iter().filter(|group| group.files > 0).collect();
    screen.table(&["GROUP", "HAS", "SIZE", "NEWEST", "WHERE", "ABOUT"], view.groups.iter().map(group_row).collect());
    let shipped: u64 = view.groups.iter().map(|group| group.as_shipped).sum();
    let names: Vec<_> = own.iter().map(|group| shell(&group.group)).collect();
    screen.facts(&[
        (
            "as shipped",
            if shipped == 0 { String::new() } else { format!("{} in these groups, and no belongings", files(shipped)) },
        ),
        ("in use now", if view.in_use { "figures are those of the last look".into() } else { String::new() }),
        (
            "next",
            if names.is_empty() {
                typed("launch", &[&view.name])
            } else {
                format!("yardtwin carry {} --from {} --to NAME", names.join(" "), shell(&view.name))
            },
        ),
    ]);
}

fn group_row(group: &belongings::GroupDetails) -> Vec<String> {
    let default = match group.on_clash {
        Some(OnClash::Both) => " (keeps both on a clash)",
        Some(_) => " (skipped on a clash)",
        None => "",
    };
    let none = group.files == 0;
    let folders = match group.folders.as_slice() {
        [] => String::new(),
        [one] => one.clone(),
        [one, rest @ ..] => format!("{one} and {}", counted(rest.len() as u64, "other folder")),
    };
    vec![
        group.group.clone(),
        match group.things {
            _ if none => "none".into(),
            things if group.unit == Unit::File => things.to_string(),
            things => format!("{things}, {}", files(group.files)),
        },
        if none { String::new() } else { size(group.bytes) },
        group.newest.map(moment).unwrap_or_default(),
        folders,
        format!("{}{default}", group.note.clone().unwrap_or_default()),
    ]
}
