//! What a sheet can learn from a twin that was played: what its program wrote, and how often.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use serde::Serialize;
use toml_edit::{Array, DocumentMut, InlineTable, Item, Table, TableLike, value};

use super::draft::{self, Looks};
use super::pattern::escape;
use super::{Label, Place, Sheet, Unit};
use crate::listing::{Listing, Node};
use crate::path::RelPath;

/// What was seen of a twin.
pub(crate) struct Observed<'a> {
    /// What was laid in it.
    pub(crate) laid: &'a Listing,
    /// What is there now.
    pub(crate) now: &'a Listing,
    /// How many runs are known.
    pub(crate) runs: usize,
    /// What its runs wrote, and in which of them.
    pub(crate) written: BTreeMap<RelPath, BTreeSet<usize>>,
    /// The programs that were started, below the game folder, and how often.
    pub(crate) programs: BTreeMap<String, usize>,
    /// Its build's label, and small texts of the build that may hold it.
    pub(crate) label: String,
    pub(crate) texts: Vec<(RelPath, String)>,
}

/// What a title sheet may say from now on.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum Learned {
    /// A program, by its path below the game folder.
    Program(String),
    /// Where a folder says which build it is.
    Label(Label),
    /// What keeps the program to its own folder: an empty file there, by its path below the game folder.
    Inside(String),
    /// What the program keeps of itself in the home.
    Home(String),
    /// What the program writes.
    Live(String),
    /// What of that is worth nothing.
    Scratch(String),
    /// A group of the player's own.
    Group {
        /// Its name.
        name: String,
        /// Its patterns.
        patterns: Vec<String>,
        /// What one thing of it is.
        unit: Unit,
    },
}

/// A proposal, and what speaks for it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct Proposal {
    /// What the sheet may say.
    pub learned: Learned,
    /// What speaks for it, in words; for a group, for each of its patterns.
    pub evidence: Vec<String>,
}

/// Folders of a home that hold those of many programs: none of them is one program's.
const SHARED: [&str; 7] =
    ["home", "game", "home/.config", "home/.local", "home/.local/share", "home/.local/state", "home/.cache"];

/// What a sheet could say beyond what it says already; `draft` if nobody has had a hand in that.
pub(crate) fn learn(seen: &Observed<'_>, sheet: Option<&Sheet>, draft: bool) -> Vec<Proposal> {
    let mut proposals = Vec::new();
    let programs = sheet.map(|sheet| &sheet.programs);
    let is_known =
        |path: &str| programs.is_some_and(|programs| programs.values().any(|program| program.here() == Some(path)));
    let most = seen.programs.iter().filter(|(path, _)| !is_known(path)).max_by_key(|(_, count)| **count);
    let wanting = draft && seen.programs.keys().all(|path| !is_known(path)) || programs.is_none_or(BTreeMap::is_empty);
    if let Some((path, count)) = most.filter(|_| wanting) {
        let evidence = vec![format!("started in {count} of {}", runs(seen.programs.values().sum()))];
        proposals.push(Proposal { learned: Learned::Program(path.clone()), evidence });
    }
    if sheet.is_none_or(|sheet| sheet.labels.is_empty()) {
        proposals.extend(label(seen));
    }
    proposals.extend(marker(seen, sheet));
    let mut kinds: BTreeMap<Looks, Vec<RelPath>> = BTreeMap::new();
    for path in own(seen) {
        let known = sheet.is_some_and(|sheet| sheet.explains(&path)) || is_marker(&path, seen);
        if !known {
            kinds.entry(looks(&path, seen)).or_default().push(path);
        }
    }
    by_the_dozen(&mut kinds, seen);
    let all: Vec<(&RelPath, Looks)> =
        kinds.iter().flat_map(|(kind, paths)| paths.iter().map(|path| (path, *kind))).collect();
    for (kind, paths) in &kinds {
        let patterns = patterns(paths, *kind, &all, seen.laid);
        let Some(name) = kind.group() else {
            for pattern in patterns {
                let evidence = vec![evidence(paths, &pattern, seen)];
                let learned = match kind {
                    Looks::Worthless => Learned::Scratch(pattern),
                    Looks::Program => Learned::Home(pattern),
                    _ => Learned::Live(pattern),
                };
                proposals.push(Proposal { learned, evidence });
            }
            continue;
        };
        let mut units: Vec<(Unit, Vec<String>)> = Vec::new();
        for pattern in patterns {
            let unit = if *kind == Looks::Saves { unit(paths, &pattern) } else { Unit::File };
            match units.iter_mut().find(|(known, _)| *known == unit) {
                Some((_, patterns)) => patterns.push(pattern),
                None => units.push((unit, vec![pattern])),
            }
        }
        // What is kept in different ways is no one group.
        let several = units.len() > 1;
        for (unit, patterns) in units {
            let name = match unit {
                Unit::Folder if several => "worlds",
                Unit::Stem if several => "slots",
                _ => name,
            };
            let evidence = patterns.iter().map(|pattern| evidence(paths, pattern, seen)).collect();
            let name = group_name(name, unit, sheet);
            proposals.push(Proposal { learned: Learned::Group { name, patterns, unit }, evidence });
        }
    }
    proposals
}

/// The name of a group of things of that unit: one that the sheet doesn't have, or has with that unit.
fn group_name(name: &str, unit: Unit, sheet: Option<&Sheet>) -> String {
    let fits =
        |name: &String| sheet.and_then(|sheet| sheet.belongings.get(name)).is_none_or(|group| group.unit == unit);
    let numbered = (2..).map(|number| format!("{name}-{number}"));
    [name.to_owned()].into_iter().chain(numbered).find(fits).unwrap_or_default()
}

/// An empty file in the game folder that somebody has put there.
fn is_marker(path: &RelPath, seen: &Observed<'_>) -> bool {
    let empty = |node: &Node| matches!(node, Node::File { size: 0, .. });
    path.as_str().starts_with("game/")
        && seen.laid.get(path.as_str()).is_none()
        && !seen.written.contains_key(path)
        && seen.now.get(path.as_str()).is_some_and(|entry| empty(&entry.node))
}

/// What keeps the program to its own folder, if it does so because of an empty file that somebody has put there.
fn marker(seen: &Observed<'_>, sheet: Option<&Sheet>) -> Option<Proposal> {
    let writes_there = |path: &RelPath| path.as_str().starts_with("game/");
    if sheet.is_some_and(|sheet| !sheet.inside.files.is_empty())
        || seen.written.is_empty()
        || !seen.written.keys().all(writes_there)
    {
        return None;
    }
    let mut markers = seen.now.entries().iter().map(|entry| &entry.path).filter(|path| is_marker(path, seen));
    // Which of several it is can't be said.
    let (Some(path), None) = (markers.next(), markers.next()) else { return None };
    let all = if seen.runs == 1 { "that run".to_owned() } else { format!("all {}", runs(seen.runs)) };
    let evidence = vec![format!("empty, put there by hand, and {all} wrote in the game folder only")];
    Some(Proposal { learned: Learned::Inside(path.as_str().strip_prefix("game/")?.to_owned()), evidence })
}

/// What is there and was not laid so, or was written in a run.
fn own(seen: &Observed<'_>) -> BTreeSet<RelPath> {
    let is_file =
        |path: &RelPath| seen.now.get(path.as_str()).is_some_and(|entry| matches!(entry.node, Node::File { .. }));
    let differs = seen
        .now
        .entries()
        .iter()
        .filter(|entry| seen.laid.get(entry.path.as_str()).is_none_or(|laid| laid.node != entry.node));
    let differs = differs.map(|entry| entry.path.clone()).filter(is_file);
    // What a run wrote and deleted again is worth nothing, and tells nothing.
    differs.chain(seen.written.keys().filter(|path| is_file(path)).cloned()).collect()
}

/// What a path looks like, by its name and by how it came.
fn looks(path: &RelPath, seen: &Observed<'_>) -> Looks {
    let by_name = draft::looks(path);
    let shipped = seen.laid.get(path.as_str()).is_some();
    let times = seen.written.get(path).map_or(0, BTreeSet::len);
    // What it can start there, it has fetched: a version, a library.
    let executable = |node: &Node| matches!(node, Node::File { executable: true, .. });
    if path.as_str().starts_with("home/") && seen.now.get(path.as_str()).is_some_and(|entry| executable(&entry.node)) {
        return Looks::Program;
    }
    match by_name {
        Some(looks) => looks,
        // A picture that lies beside a save of its name is a part of that.
        None if draft::is_picture(path) => {
            let stem = |path: &RelPath| {
                path.as_str()[..path.as_str().len() - path.name().len()].to_owned()
                    + path.name().split('.').next().unwrap_or_default()
            };
            let own = stem(path);
            let beside = own_names(seen).any(|other| other != path && !draft::is_picture(other) && stem(other) == own);
            if beside { Looks::Saves } else { Looks::Pictures }
        }
        // What is written anew in each run and came with the build is what the program remembers.
        None if shipped && seen.runs > 1 && times == seen.runs => Looks::Settings,
        None if !shipped && is_one_of_several(path, seen) => Looks::Saves,
        None => Looks::Live,
    }
}

/// Whether others of its ending lie beside it that did not come with the build: one came after the other.
fn is_one_of_several(path: &RelPath, seen: &Observed<'_>) -> bool {
    let same = |other: &&RelPath| other.parent() == path.parent() && other.ending() == path.ending();
    path.ending().is_some() && own_names(seen).filter(same).count() > 1
}

fn own_names<'a>(seen: &'a Observed<'_>) -> impl Iterator<Item = &'a RelPath> {
    let entries = seen.now.entries().iter().map(|entry| &entry.path);
    entries.filter(|path| seen.laid.get(path.as_str()).is_none())
}

/// Patterns for paths of one kind: the outermost folders that did not come with the build and in which nothing of another kind
/// was written; else those of one ending in a folder, where few came with the build, or single files.
fn patterns(paths: &[RelPath], kind: Looks, all: &[(&RelPath, Looks)], laid: &Listing) -> Vec<String> {
    let written: BTreeSet<&str> = all.iter().map(|(path, _)| path.as_str()).collect();
    let mut known: HashMap<(String, Option<String>), bool> = HashMap::new();
    let look = |folder: &str, ending: Option<&str>| {
        let inside = |path: &str| {
            let below = path.strip_prefix(folder).and_then(|rest| rest.strip_prefix('/'));
            below.is_some_and(|below| {
                ending.is_none_or(|ending| !below.contains('/') && below.ends_with(&format!(".{ending}")))
            })
        };
        all.iter().all(|(path, other)| *other == kind || !inside(path.as_str()))
            && (!laid.has(folder) || {
                let shipped = laid.entries().iter().filter(|entry| entry.node != Node::EmptyFolder);
                let shipped = shipped.map(|entry| entry.path.as_str()).filter(|path| inside(path));
                // Some to begin with may have come with it; what it ships by the dozen is its own.
                ending.is_some() && shipped.filter(|path| !written.contains(path)).count() < draft::DOZEN
            })
    };
    let mut is_alone = |folder: &str, ending: Option<&str>| {
        let key = (folder.to_owned(), ending.map(str::to_owned));
        *known.entry(key).or_insert_with(|| look(folder, ending))
    };
    let mut patterns = BTreeSet::new();
    for path in paths {
        let folders = crate::path::at_and_above(path.as_str()).filter(|folder| *folder != path.as_str());
        let mut alone: Vec<&str> =
            folders.filter(|folder| !SHARED.contains(folder) && is_alone(folder, None)).collect();
        // All that a program has in a home is more than its saves, even if nothing else is there yet.
        if alone.len() > 1 && kind != Looks::Settings && alone.last().is_some_and(|folder| is_root(folder)) {
            alone.pop();
        }
        let folder = alone.last().copied();
        let ending = path.ending();
        let parent = path.parent().unwrap_or_default();
        let several = ending.as_deref().is_some_and(|ending| {
            let same = |other: &&RelPath| other.parent() == Some(parent) && other.ending().as_deref() == Some(ending);
            // A slot that is new is one of several to come.
            let comes = kind != Looks::Settings && laid.get(path.as_str()).is_none();
            (comes || paths.iter().filter(same).count() > 1) && is_alone(parent, Some(ending))
        });
        patterns.insert(match (folder, ending) {
            (Some(folder), _) => format!("{}/**", escape(folder)),
            (None, Some(ending)) if several && !SHARED.contains(&parent) => {
                format!("{}/*.{}", escape(parent), escape(&ending))
            }
            _ => escape(path.as_str()),
        });
    }
    patterns.into_iter().collect()
}

/// Whether a folder holds all that one program has in a home.
fn is_root(folder: &str) -> bool {
    folder.rsplit_once('/').is_some_and(|(above, _)| above != "game" && SHARED.contains(&above))
}

/// Takes what a program made by the dozen, in one folder and of one ending, for data of its own; in the home, where it was
/// written once and never again, for what it has fetched.
fn by_the_dozen(kinds: &mut BTreeMap<Looks, Vec<RelPath>>, seen: &Observed<'_>) {
    const MASS: usize = 48;
    let of = |path: &RelPath| (path.parent().unwrap_or_default().to_owned(), path.ending().unwrap_or_default());
    let mut counts: HashMap<(String, String), usize> = HashMap::new();
    kinds.values().flatten().for_each(|path| *counts.entry(of(path)).or_default() += 1);
    let mut masses = Vec::new();
    for (_, paths) in kinds.iter_mut().filter(|(kind, _)| !matches!(kind, Looks::Worthless | Looks::Program)) {
        masses.extend(paths.extract_if(.., |path| counts[&of(path)] >= MASS));
    }
    let once = |path: &RelPath| seen.runs > 1 && seen.written.get(path).map_or(0, BTreeSet::len) <= 1;
    for path in masses {
        let fetched = path.as_str().starts_with("home/") && once(&path);
        kinds.entry(if fetched { Looks::Program } else { Looks::Live }).or_default().push(path);
    }
    kinds.retain(|_, paths| !paths.is_empty());
}

/// What one thing is, by how the files of a pattern lie: worlds are folders of several files, slots are files of one stem.
fn unit(paths: &[RelPath], pattern: &str) -> Unit {
    let base = pattern.strip_suffix("/**").unwrap_or(pattern);
    let below = |path: &RelPath| Some(path.as_str().strip_prefix(base)?.strip_prefix('/')?.to_owned());
    let set = super::PathSet::new([pattern], false).unwrap_or_default();
    let mut folders: BTreeMap<String, usize> = BTreeMap::new();
    let mut stems: BTreeMap<String, usize> = BTreeMap::new();
    let mut plain = 0;
    for path in paths.iter().filter(|path| set.contains(path.as_str())) {
        match below(path).and_then(|below| below.split_once('/').map(|(top, _)| top.to_owned())) {
            Some(top) => *folders.entry(top).or_default() += 1,
            None => plain += 1,
        }
        let (folder, name) = (path.parent().unwrap_or_default(), path.name());
        *stems.entry(format!("{folder}/{}", name.split('.').next().unwrap_or(name))).or_default() += 1;
    }
    if plain == 0 && folders.values().any(|files| *files > 1) {
        Unit::Folder
    } else if stems.values().any(|files| *files > 1) {
        Unit::Stem
    } else {
        Unit::File
    }
}

fn runs(count: usize) -> String {
    if count == 1 { "1 run".into() } else { format!("{count} runs") }
}

/// What speaks for a pattern.
fn evidence(paths: &[RelPath], pattern: &str, seen: &Observed<'_>) -> String {
    let set = super::PathSet::new([pattern], false).unwrap_or_default();
    let caught: Vec<&RelPath> = paths.iter().filter(|path| set.contains(path.as_str())).collect();
    let times: BTreeSet<usize> = caught.iter().filter_map(|path| seen.written.get(*path)).flatten().copied().collect();
    let count = if caught.len() == 1 { "1 file".to_owned() } else { format!("{} files", caught.len()) };
    match times.len() {
        0 => format!("{count} that did not come with the build"),
        times => format!("{count}, written in {times} of {}", runs(seen.runs)),
    }
}

/// Where the build's label stands in the build.
fn label(seen: &Observed<'_>) -> Option<Proposal> {
    let found = seen.texts.iter().filter_map(|(path, text)| {
        let file = path.as_str().strip_prefix("game/")?.to_owned();
        let pointer = || {
            let json: serde_json::Value = serde_json::from_str(text).ok()?;
            pointer_to(&json, &seen.label, String::new())
        };
        let line = || text.lines().position(|line| line.trim() == seen.label).map(|at| at + 1);
        let behind = || {
            let label = seen.label.as_str();
            let before =
                |line: &'_ str| line.match_indices(label).map(|(at, _)| line[..at].to_owned()).collect::<Vec<_>>();
            let mut places = text.lines().flat_map(before);
            let is_it = |before: &String| {
                let told = super::label::behind(text, before);
                !before.trim().is_empty() && begins_between(before, label) && told.as_deref() == Some(label)
            };
            places.find(is_it).map(Place::After)
        };
        let place = pointer().map(Place::Pointer).or_else(|| line().map(Place::Line)).or_else(behind)?;
        says_so(&file, &place, &seen.label).then(|| (rank(&file, &place), file, place))
    });
    let (_, file, place) = found.min_by(|a, b| (&a.0, &a.1).cmp(&(&b.0, &b.1)))?;
    let evidence = match &place {
        Place::Line(line) => format!("line {line} of {file} is {}", seen.label),
        Place::Pointer(pointer) => format!("{file} has {} at {pointer}", seen.label),
        Place::After(before) => format!("{file} has {} behind {:?}", seen.label, before.trim()),
        Place::Name(_) => String::new(),
    };
    let file = Some(file);
    Some(Proposal { learned: Learned::Label(Label { file, place }), evidence: vec![evidence] })
}

/// Files that are called so come first, then those near the top; a place that says what it is before a bare line.
fn rank(file: &str, place: &Place) -> (bool, usize, bool) {
    (!is_called_so(name(file)), file.matches('/').count(), matches!(place, Place::After(_)))
}

/// Whether it is no accident that a place has what the build is called: a `1` stands in many files. Its file or the place
/// itself is called so, or the label is long enough to stand for nothing else.
fn says_so(file: &str, place: &Place, label: &str) -> bool {
    const DISTINCT: usize = 5;
    let called = match place {
        Place::Pointer(pointer) => is_called_so(name(pointer)),
        Place::After(before) => is_called_so(before),
        Place::Line(_) | Place::Name(_) => false,
    };
    called || is_called_so(name(file)) || label.chars().count() >= DISTINCT
}

/// Whether a label begins where neither a number nor a word goes on: a `1` is in each 2021. (It may stand behind a `v`.)
fn begins_between(before: &str, label: &str) -> bool {
    let goes_on = |last: char, first: char| {
        (first.is_numeric() && (last.is_numeric() || last == '.')) || (first.is_alphabetic() && last.is_alphabetic())
    };
    before.chars().next_back().zip(label.chars().next()).is_none_or(|(last, first)| !goes_on(last, first))
}

fn is_called_so(text: &str) -> bool {
    let text = text.to_lowercase();
    ["version", "release", "build"].iter().any(|word| text.contains(word))
}

fn name(path: &str) -> &str {
    path.rsplit('/').next().unwrap_or(path)
}

fn pointer_to(json: &serde_json::Value, label: &str, at: String) -> Option<String> {
    match json {
        serde_json::Value::String(text) if text.trim() == label => Some(at),
        serde_json::Value::Number(number) if number.to_string() == label => Some(at),
        serde_json::Value::Object(object) => object.iter().find_map(|(key, value)| {
            pointer_to(value, label, format!("{at}/{}", key.replace('~', "~0").replace('/', "~1")))
        }),
        _ => None,
    }
    .filter(|at| !at.is_empty())
}

/// The text of a sheet with what was learned; everything else in it stays as it is. `None` if it is no sheet.
pub(crate) fn written(text: &str, learned: &[&Learned]) -> Option<String> {
    let mut document: DocumentMut = text.parse().ok()?;
    for one in learned {
        match one {
            Learned::Program(path) => {
                let mut paths = InlineTable::new();
                paths.insert(std::env::consts::OS, path.as_str().into());
                table(&mut document, &["programs", "play"])?.insert("path", value(paths));
            }
            Learned::Label(label) => {
                let table = table(&mut document, &["label"])?;
                if let Some(file) = &label.file {
                    table.insert("file", value(file.as_str()));
                }
                match &label.place {
                    Place::Line(line) => table.insert("line", value(i64::try_from(*line).ok()?)),
                    Place::Pointer(pointer) => table.insert("pointer", value(pointer.as_str())),
                    Place::After(before) => table.insert("after", value(before.as_str())),
                    Place::Name(name) => table.insert("name", value(name.as_str())),
                };
            }
            Learned::Inside(file) => push(table(&mut document, &["inside"])?, "files", file)?,
            Learned::Home(pattern) => push(table(&mut document, &["home"])?, "program", pattern)?,
            Learned::Live(pattern) => push(table(&mut document, &["paths"])?, "live", pattern)?,
            Learned::Scratch(pattern) => push(table(&mut document, &["paths"])?, "scratch", pattern)?,
            Learned::Group { name, patterns, unit } => {
                let table = table(&mut document, &["belongings", name])?;
                patterns.iter().try_for_each(|pattern| push(table, "patterns", pattern))?;
                match unit {
                    Unit::File => None,
                    Unit::Stem => table.insert("unit", value("stem")),
                    Unit::Folder => table.insert("unit", value("folder")),
                };
            }
        }
    }
    Some(document.to_string())
}

/// A table of a document, made where it is not there.
fn table<'a>(document: &'a mut DocumentMut, path: &[&str]) -> Option<&'a mut dyn TableLike> {
    let mut at: &mut Item = document.as_item_mut();
    for (depth, part) in path.iter().enumerate() {
        let mut new = Table::new();
        new.set_implicit(depth + 1 < path.len());
        at = at.as_table_like_mut()?.entry(part).or_insert(Item::Table(new));
    }
    at.as_table_like_mut()
}

/// Adds to a list of patterns, each on a line of its own.
fn push(table: &mut dyn TableLike, name: &str, pattern: &str) -> Option<()> {
    let list = table.entry(name).or_insert(value(Array::new())).as_array_mut()?;
    let mut pattern = toml_edit::Value::from(pattern);
    pattern.decor_mut().set_prefix("\n    ");
    list.push_formatted(pattern);
    list.set_trailing_comma(true);
    list.set_trailing("\n");
    Some(())
}
