//! `diff`.

use std::collections::HashMap;
use std::process::ExitCode;

use yard_twin::{Node, Side, Yard, compare};

use super::check::FOUND;
use super::{Done, typed};
use crate::answers::{Differences, Text};
use crate::fail::Failure;
use crate::progress::ctx;
use crate::screen::{Screen, Tone, counted, files, listed, moment, size};

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
    let answer = Differences { difference, texts };
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

fn say(Differences { difference, texts }: &Differences, wish: Wish, screen: &Screen) {
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
    overview(difference, screen);
    screen.line("");
    let most = if wish.all { usize::MAX } else { PATHS };
    // Lines in which a file differs are shown below it, so that none is folded.
    let all = lines_of(difference, wish.all || wish.text);
    all.iter().take(most).for_each(|line| line.show(texts.as_deref().unwrap_or_default(), screen));
    let left: usize = all.iter().skip(most).map(|line| line.paths.len()).sum();
    if left > 0 {
        screen.pieces(&[(Tone::Faint, &format!("  and {}; --all lists them", counted(left as u64, "more path")))]);
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
            return screen.sentence(&amounts(&difference.totals).join(", "));
        }
        None if difference.is_empty() => screen.head(format_args!("{} and {} are the same", from.name, to.name)),
        None => screen.head(format_args!("From {} to {}", named(from), named(to))),
    }
    let same = format!("{} the same ({})", counted(difference.same.paths, "file"), size(difference.same.bytes));
    screen.sentence(&amounts(&difference.totals).into_iter().chain([same]).collect::<Vec<_>>().join(", "));
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

fn kinds(tallies: &compare::Tallies) -> [(&'static str, compare::Tally); 4] {
    [("new", tallies.new), ("changed", tallies.changed), ("moved", tallies.moved), ("gone", tallies.gone)]
}

/// `2 new (4 KiB)`, for each kind that there is.
fn amounts(tallies: &compare::Tallies) -> Vec<String> {
    let some = kinds(tallies).into_iter().filter(|(_, tally)| tally.paths > 0);
    some.map(|(how, tally)| format!("{} {how} ({})", tally.paths, size(tally.bytes))).collect()
}

/// How much differs in each group of belongings, and in each folder beside them.
fn overview(difference: &compare::Difference, screen: &Screen) {
    let mut folders = difference.rest_by_folder(1);
    // As deep as leaves few enough to be read at a glance.
    for depth in 2..6 {
        let deeper = difference.rest_by_folder(depth);
        if deeper.len() > FOLDERS {
            break;
        }
        folders = deeper;
    }
    let all = kinds(&difference.totals);
    let shown = |at: usize| all[at].1.paths > 0;
    let headings = (0..all.len()).filter(|at| shown(*at)).map(|at| all[at].0.to_uppercase());
    let headings: Vec<_> = std::iter::once("WHERE".to_owned()).chain(headings).collect();
    let row = |name: String, tallies: &compare::Tallies| {
        let cells = kinds(tallies).into_iter().enumerate().filter(|(at, _)| shown(*at));
        let cells = cells.map(|(_, (_, tally))| if tally.paths == 0 { String::new() } else { amount(tally) });
        std::iter::once(name).chain(cells).collect()
    };
    let groups = difference.groups.iter().map(|group| row(format!("{} (yours)", group.name), &group.tallies));
    let folders = folders.iter().map(|folder| row(folder.name.clone(), &folder.tallies));
    screen.table(&headings.iter().map(String::as_str).collect::<Vec<_>>(), groups.chain(folders).collect());
}

fn amount(tally: compare::Tally) -> String {
    if tally.bytes == 0 { tally.paths.to_string() } else { format!("{} ({})", tally.paths, size(tally.bytes)) }
}

/// Lines for the paths: where there are many, those of one folder are one line. Empty folders are one line.
fn lines_of<'a>(difference: &'a compare::Difference, all: bool) -> Vec<Line<'a>> {
    let mut lines: Vec<Line<'a>> = Vec::new();
    let mut known = HashMap::new();
    let fold = !all && difference.paths.len() > PATHS;
    for differing in &difference.paths {
        let is_folder = matches!(differing.before.as_ref().or(differing.after.as_ref()), Some(Node::EmptyFolder));
        let together = !all && (is_folder || fold) && !matches!(differing.how, compare::Differs::Moved { .. });
        let folder = if is_folder { None } else { differing.path.parent() };
        if !together {
            lines.push(Line { folder: None, paths: vec![differing] });
            continue;
        }
        let at = *known.entry((folder, tone(&differing.how).1)).or_insert(lines.len());
        match lines.get_mut(at) {
            Some(line) => line.paths.push(differing),
            None => lines.push(Line { folder: Some(folder), paths: vec![differing] }),
        }
    }
    lines
}

/// Paths that are shown in one line.
struct Line<'a> {
    /// What they have in common: their folder, or that they are empty folders. None for a path of its own.
    folder: Option<Option<&'a str>>,
    paths: Vec<&'a compare::Differing>,
}

impl Line<'_> {
    /// Few are better shown one by one.
    const FEW: usize = 4;

    fn show(&self, texts: &[Text], screen: &Screen) {
        let few = if self.folder == Some(None) { 1 } else { Self::FEW };
        if self.paths.len() > few {
            return self.folded(screen);
        }
        for differing in &self.paths {
            path(differing, screen);
            let text = texts.iter().find(|text| text.path == differing.path);
            text.into_iter().flat_map(|text| &text.hunks).for_each(|hunk| lines(hunk, screen));
        }
    }

    fn folded(&self, screen: &Screen) {
        let nodes = self.paths.iter().filter_map(|one| one.after.as_ref().or(one.before.as_ref()));
        let bytes = nodes.map(Node::size).sum();
        let (what, detail) = match self.folder {
            Some(Some(folder)) => {
                (format!("{folder}/"), format!("{}, {}", files(self.paths.len() as u64), size(bytes)))
            }
            _ => {
                let names: Vec<_> = self.paths.iter().map(|one| one.path.to_string()).collect();
                (counted(names.len() as u64, "empty folder"), listed(&names, 4))
            }
        };
        row(&self.paths[0].how, &what, &detail, screen);
    }
}

/// `+ path  detail`.
fn row(how: &compare::Differs, what: &str, detail: &str, screen: &Screen) {
    let (tone, mark) = tone(how);
    let [gap, before] = [(Tone::Plain, "  "), (Tone::Plain, " ")];
    screen.pieces(&[gap, (tone, mark), before, (Tone::Plain, what), gap, (Tone::Faint, detail)]);
}

fn tone(how: &compare::Differs) -> (Tone, &'static str) {
    match how {
        compare::Differs::New => (Tone::Came, "+"),
        compare::Differs::Gone => (Tone::Went, "-"),
        compare::Differs::Changed => (Tone::Other, "~"),
        compare::Differs::Moved { .. } => (Tone::Elsewhere, ">"),
    }
}

fn path(differing: &compare::Differing, screen: &Screen) {
    let detail = match &differing.how {
        compare::Differs::Moved { from } => format!("from {from}"),
        compare::Differs::Changed => changed(differing),
        compare::Differs::New | compare::Differs::Gone => {
            differing.before.as_ref().or(differing.after.as_ref()).map(what).unwrap_or_default()
        }
    };
    row(&differing.how, differing.path.as_str(), &detail, screen);
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
