//! `diff`.

use std::process::ExitCode;

use serde::Serialize;
use yard_twin::{Node, RelPath, Side, Yard, compare};

use super::check::FOUND;
use super::{Done, typed};
use crate::fail::Failure;
use crate::progress::ctx;
use crate::screen::{Screen, Tone, counted, listed, moment, size};

/// Cells of the longest bar.
const BAR: u64 = 32;

/// So many folders are shown; where there are more, they are shown less deep.
const FOLDERS: usize = 12;

/// So many paths are listed unless all are asked for.
const PATHS: usize = 40;

/// What is wished for beyond the comparison.
#[derive(Clone, Copy)]
pub(crate) struct Wish {
    pub(crate) text: bool,
    pub(crate) all: bool,
    /// Only belongings.
    pub(crate) belongings: bool,
}

/// The lines in which one file differs.
#[derive(Serialize)]
struct Text {
    path: RelPath,
    hunks: Vec<compare::Hunk>,
}

#[derive(Serialize)]
struct Answer {
    #[serde(flatten)]
    difference: compare::Difference,
    #[serde(skip_serializing_if = "Option::is_none")]
    texts: Option<Vec<Text>>,
}

pub(crate) fn diff(yard: &Yard, a: &Side, b: Option<&Side>, wish: Wish, screen: &Screen) -> Done {
    let ctx = ctx(screen);
    let difference = match (a, b) {
        (a, Some(b)) if wish.belongings => compare::belongings(yard, a, b, &ctx)?,
        (a, Some(b)) => compare::sides(yard, a, b, &ctx)?,
        (Side::Twin(name), None) => compare::since(yard, name, &ctx)?,
        (a, None) => {
            return Err(Failure::usage(
                format!("{a} never changes: name what it is to be compared with"),
                format!("yardtwin diff {a} NAME"),
            ));
        }
    };
    let texts = wish.text.then(|| texts(yard, &difference)).transpose()?;
    let answer = Answer { difference, texts };
    screen.answer(&answer, |screen| say(&answer, wish, screen));
    Ok(if answer.difference.is_empty() { ExitCode::SUCCESS } else { ExitCode::from(FOUND) })
}

fn texts(yard: &Yard, difference: &compare::Difference) -> Result<Vec<Text>, Failure> {
    let mut texts = Vec::new();
    for differing in &difference.paths {
        if let Some(hunks) = compare::text(yard, difference, differing)? {
            texts.push(Text { path: differing.path.clone(), hunks });
        }
    }
    Ok(texts)
}

fn say(Answer { difference, texts }: &Answer, wish: Wish, screen: &Screen) {
    let since = difference.from.name.strip_prefix(&format!("{}:", difference.to.name));
    head(difference, since, wish.belongings, screen);
    for side in [&difference.from, &difference.to].into_iter().filter(|side| side.in_use) {
        screen.warn(format_args!("{} is in use now: it is compared as it was at the last look", side.name));
    }
    if !difference.not_compared.is_empty() {
        screen.warn(format_args!("not compared: {}", listed(&difference.not_compared, 5)));
    }
    if difference.is_empty() {
        if since.is_some() {
            newest_change(difference, screen);
        }
        return;
    }
    screen.line("");
    picture(difference, screen);
    groups(&difference.groups, screen);
    screen.line("");
    let most = if wish.all { usize::MAX } else { PATHS };
    for differing in difference.paths.iter().take(most) {
        path(differing, screen);
        let text = texts.iter().flatten().find(|text| text.path == differing.path);
        text.into_iter().flat_map(|text| &text.hunks).for_each(|hunk| lines(hunk, screen));
    }
    if difference.paths.len() > most {
        let more = counted((difference.paths.len() - most) as u64, "more path");
        screen.pieces(&[(Tone::Faint, &format!("  and {more}; --all lists them"))]);
    }
}

fn head(difference: &compare::Difference, since: Option<&str>, belongings: bool, screen: &Screen) {
    let (from, to) = (&difference.from, &difference.to);
    match since {
        Some(number) => {
            let nothing = if difference.is_empty() { "nothing has changed" } else { "what has changed" };
            let at = from.at.map(moment).unwrap_or_default();
            screen.head(format_args!("{}: {nothing} since {at}, line {number} of its history", to.name));
        }
        None if belongings && difference.is_empty() => {
            screen.head(format_args!("{} and {} have the same belongings", from.name, to.name));
            return;
        }
        None if belongings => {
            screen.head(format_args!("Belongings, from {} to {}", named(from), named(to)));
            return screen.line(format_args!("  {}", amounts(&difference.totals).join(", ")));
        }
        None if difference.is_empty() => screen.head(format_args!("{} and {} are the same", from.name, to.name)),
        None => screen.head(format_args!("From {} to {}", named(from), named(to))),
    }
    let same = format!("{} the same ({})", counted(difference.same.paths, "file"), size(difference.same.bytes));
    screen.line(format_args!(
        "  {}",
        amounts(&difference.totals).into_iter().chain([same]).collect::<Vec<_>>().join(", ")
    ));
}

fn named(side: &compare::Compared) -> String {
    match side.at {
        Some(at) if side.name.contains(':') => format!("{} ({})", side.name, moment(at)),
        _ => side.name.clone(),
    }
}

/// What the newest change was, and how to see it.
fn newest_change(difference: &compare::Difference, screen: &Screen) {
    let Some(newest) = &difference.newest else { return };
    let (twin, what) = (&difference.to.name, super::history::what(&newest.what));
    let command = |before| typed("diff", &[&format!("{twin}:{before}"), &format!("{twin}:{}", newest.number)]);
    screen.facts(&[
        ("last change", format!("{}: {what}", moment(newest.at))),
        ("to see it", difference.before_newest.map(command).unwrap_or_default()),
    ]);
}

fn kinds(tallies: &compare::Tallies) -> [(Tone, &'static str, &'static str, compare::Tally); 4] {
    [
        (Tone::Came, "+", "new", tallies.new),
        (Tone::Other, "~", "changed", tallies.changed),
        (Tone::Elsewhere, ">", "moved", tallies.moved),
        (Tone::Went, "-", "gone", tallies.gone),
    ]
}

/// `2 new (4 KiB)`, for each kind that there is.
fn amounts(tallies: &compare::Tallies) -> Vec<String> {
    let some = kinds(tallies).into_iter().filter(|(.., tally)| tally.paths > 0);
    some.map(|(_, _, how, tally)| format!("{} {how} ({})", tally.paths, size(tally.bytes))).collect()
}

/// A bar for each folder, as long as much differs in it.
fn picture(difference: &compare::Difference, screen: &Screen) {
    let mut folders = difference.by_folder(1);
    // As deep as leaves few enough to be read at a glance.
    for depth in 2..6 {
        let deeper = difference.by_folder(depth);
        if deeper.len() > FOLDERS {
            break;
        }
        folders = deeper;
    }
    let most = folders.iter().map(|folder| folder.tallies.paths()).max().unwrap_or(1).max(1);
    let width = folders.iter().map(|folder| folder.name.chars().count()).max().unwrap_or(0);
    for folder in &folders {
        let pad = " ".repeat(width - folder.name.chars().count());
        let bars: Vec<_> = kinds(&folder.tallies)
            .into_iter()
            .map(|(tone, mark, _, tally)| (tone, mark.repeat(usize::try_from(cells(tally.paths, most)).unwrap_or(0))))
            .collect();
        let drawn: usize = bars.iter().map(|(_, bar)| bar.len()).sum();
        let gap = " ".repeat(usize::try_from(BAR + 3).unwrap_or(0).saturating_sub(drawn) + 2);
        let text = amounts(&folder.tallies).join(", ");
        let mut pieces =
            vec![(Tone::Plain, "  "), (Tone::Plain, &folder.name), (Tone::Plain, &pad), (Tone::Plain, "  ")];
        pieces.extend(bars.iter().map(|(tone, bar)| (*tone, bar.as_str())));
        pieces.extend([(Tone::Plain, gap.as_str()), (Tone::Faint, text.as_str())]);
        screen.pieces(&pieces);
    }
}

/// Cells for `part`: one for each path, or where `most` are more than there are cells, as many as its share; something has
/// one at least.
fn cells(part: u64, most: u64) -> u64 {
    match part {
        0 => 0,
        _ if most <= BAR => part,
        _ => (part * BAR / most).max(1),
    }
}

fn groups(groups: &[compare::Part], screen: &Screen) {
    if !groups.is_empty() {
        screen.line("");
        let texts: Vec<_> =
            groups.iter().map(|group| format!("{}: {}", group.name, amounts(&group.tallies).join(", "))).collect();
        screen.facts(&[("a player's own", texts.join("\n"))]);
    }
}

fn path(differing: &compare::Differing, screen: &Screen) {
    let path = differing.path.as_str();
    let (tone, mark) = match differing.how {
        compare::Differs::New => (Tone::Came, "+"),
        compare::Differs::Gone => (Tone::Went, "-"),
        compare::Differs::Changed => (Tone::Other, "~"),
        compare::Differs::Moved { .. } => (Tone::Elsewhere, ">"),
    };
    let detail = match &differing.how {
        compare::Differs::Moved { from } => format!("from {from}"),
        compare::Differs::Changed => changed(differing),
        compare::Differs::New | compare::Differs::Gone => {
            differing.before.as_ref().or(differing.after.as_ref()).map(what).unwrap_or_default()
        }
    };
    screen.pieces(&[
        (Tone::Plain, "  "),
        (tone, mark),
        (Tone::Plain, " "),
        (Tone::Plain, path),
        (Tone::Plain, "  "),
        (Tone::Faint, &detail),
    ]);
}

fn what(node: &Node) -> String {
    match node {
        Node::File { size: bytes, .. } => size(*bytes),
        Node::Symlink { target } => format!("link to {target}"),
        Node::EmptyFolder => "empty folder".into(),
    }
}

fn changed(differing: &compare::Differing) -> String {
    let (Some(before), Some(after)) = (&differing.before, &differing.after) else { return String::new() };
    match (before, after) {
        (Node::File { content, executable: was, .. }, Node::File { content: now, executable: is, .. })
            if content == now && was != is =>
        {
            if *is { "executable now" } else { "no longer executable" }.into()
        }
        (before, after) if what(before) == what(after) => format!("{}, other contents", what(after)),
        (before, after) => format!("{}, was {}", what(after), what(before)),
    }
}

fn lines(hunk: &compare::Hunk, screen: &Screen) {
    screen.pieces(&[(Tone::Faint, &format!("      from line {}", hunk.after))]);
    for (how, line) in &hunk.lines {
        let (tone, mark) = match how {
            compare::LineChange::Same => (Tone::Plain, "  "),
            compare::LineChange::Gone => (Tone::Went, "- "),
            compare::LineChange::New => (Tone::Came, "+ "),
        };
        screen.pieces(&[(Tone::Plain, "      "), (tone, mark), (tone, line)]);
    }
}
