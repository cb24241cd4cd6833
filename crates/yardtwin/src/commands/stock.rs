//! `stock list`, `stock show`, `stock remove`.

use std::process::ExitCode;

use yard_twin::{BuildRef, Listing, Node, Yard, stock};

use super::{Done, typed};
use crate::answers::{BuildBack, ShownBuild};
use crate::args::{DryRun, Stock};
use crate::progress::ctx;
use crate::screen::{Screen, files, moment, plain, shell, size, some_of};

pub(crate) fn run(yard: &Yard, command: Stock, screen: &Screen) -> Done {
    match command {
        Stock::List { removed } => list(yard, removed, screen),
        Stock::Show { build, files } => show(yard, &build, files, screen),
        Stock::Remove { build, undo: true, how } => unremove(yard, &build, how, screen),
        Stock::Remove { build, undo: false, how } => remove(yard, &build, how, screen),
    }
}

fn list(yard: &Yard, removed: bool, screen: &Screen) -> Done {
    let builds = stock::list(yard, removed)?;
    screen.answer(&builds, |screen| {
        if builds.is_empty() {
            let (what, next) = if removed {
                ("No stock build was removed.", String::new())
            } else {
                ("No stock build has been taken in yet.", typed("intake FOLDER --title TITLE", &[]))
            };
            screen.head(what);
            screen.facts(&[("next", next)]);
            return;
        }
        let heading = ["STOCK BUILD", "TITLE", "CHANNEL", "DATED", "SIZE", "FILES", "TWINS", "NOTE"];
        screen.table(&heading, builds.iter().map(row).collect());
    });
    Ok(ExitCode::SUCCESS)
}

fn row(build: &stock::Summary) -> Vec<String> {
    vec![
        build.build.to_string(),
        build.title_name.clone(),
        build.channel.clone().unwrap_or_default(),
        build.dated.clone().unwrap_or_default(),
        size(build.totals.bytes),
        build.totals.files.to_string(),
        build.twins.len().to_string(),
        build.note.clone().unwrap_or_default(),
    ]
}

fn show(yard: &Yard, build: &BuildRef, with_files: bool, screen: &Screen) -> Done {
    let (details, listing) = stock::details(yard, build)?;
    let shown = ShownBuild { details, files: with_files.then(|| listing.entries().to_vec()) };
    screen.answer(&shown, |screen| {
        say(&shown.details, screen);
        if with_files {
            say_files(&listing, screen);
        }
    });
    Ok(ExitCode::SUCCESS)
}

fn say(details: &stock::Details, screen: &Screen) {
    let summary = &details.summary;
    screen.head(format_args!("{} \u{2013} {} {}", summary.build, summary.title_name, summary.build.build));
    let own = match details.only_here.paths.len() as u64 {
        0 => "nothing: all of it is in another stock build or a twin".into(),
        count => format!("{} in {}", size(details.only_here.bytes), files(count)),
    };
    let group = |group: &yard_twin::Belongings| format!("{} ({})", group.group, files(group.files));
    screen.facts(&[
        ("holds", format!("{}, {}", files(summary.totals.files), size(summary.totals.bytes))),
        ("in common", format!("{} with other stock builds", size(details.shared_with_others))),
        ("only here", own),
        ("channel", summary.channel.clone().unwrap_or_default()),
        ("dated", summary.dated.clone().unwrap_or_default()),
        ("note", summary.note.clone().unwrap_or_default()),
        ("a player's own", details.belongings.iter().map(group).collect::<Vec<_>>().join(", ")),
        ("taken in", format!("{} from {}", moment(summary.taken_at), details.source)),
        ("twins", if summary.twins.is_empty() { "none".into() } else { summary.twins.join(", ") }),
        ("next", typed(&format!("clone {} NAME", shell(&summary.build)), &[])),
    ]);
}

fn say_files(listing: &Listing, screen: &Screen) {
    for entry in listing.entries() {
        let (what, more) = match &entry.node {
            Node::File { size: bytes, executable, .. } => {
                (size(*bytes), if *executable { "  (executable)".into() } else { String::new() })
            }
            Node::Symlink { target } => ("link".into(), format!(" -> {target}")),
            Node::EmptyFolder => ("empty".into(), "/".into()),
        };
        screen.line(format_args!("{what:>10}  {}{}", plain(entry.path.as_str()), plain(&more)));
    }
}

fn remove(yard: &Yard, build: &BuildRef, how: DryRun, screen: &Screen) -> Done {
    let plan = stock::plan_remove(yard, build)?;
    if !how.dry_run {
        stock::apply_remove(yard, &plan, &ctx(screen))?;
    }
    screen.answer(&plan, |screen| {
        let done = if how.dry_run { "would be taken off the list" } else { "is off the list" };
        screen.head(format_args!("{} {done}", plan.build));
        let own = if plan.only_here.paths.is_empty() {
            "nothing: other builds and twins need all of its files".into()
        } else {
            let many = files(plan.only_here.paths.len() as u64);
            format!("{many}, {}\n{}", size(plan.only_here.bytes), some_of(&plan.only_here.paths, 3))
        };
        screen.facts(&[
            ("only there", own),
            ("kept", "all of its files".into()),
            ("way back", typed(&format!("stock remove {} --undo", shell(&plan.build)), &[])),
        ]);
    });
    Ok(ExitCode::SUCCESS)
}

fn unremove(yard: &Yard, build: &BuildRef, how: DryRun, screen: &Screen) -> Done {
    let plan = stock::plan_unremove(yard, build)?;
    if !how.dry_run {
        stock::apply_unremove(yard, &plan, &ctx(screen))?;
    }
    screen.answer(&BuildBack { build: build.clone(), dry_run: how.dry_run }, |screen| {
        let done = if how.dry_run { "would be on the list again" } else { "is on the list again" };
        screen.head(format_args!("{build} {done}"));
    });
    Ok(ExitCode::SUCCESS)
}
