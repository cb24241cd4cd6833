//! Where a package that nobody has described belongs: found out once, when it is added, by what the twin has.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use serde::Serialize;

use super::place::is_note;
use super::{Choices, ROOT};
use crate::error::Result;
use crate::listing::{Listing, Node};
use crate::path::{RelPath, at_and_above, fold_key};

/// So many places are shown where there are several.
const PICTURES: usize = 6;

/// So many files of a place are shown.
const EXAMPLES: usize = 4;

/// A way in which a package could be placed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct Picture {
    /// The folder of the package whose contents are placed; empty for all of it.
    pub strip: String,
    /// The folder in the twin.
    pub into: RelPath,
    /// Where some of its files would be.
    pub shows: Vec<String>,
}

impl Picture {
    /// Of a package that is placed so.
    pub(crate) fn of(strip: String, into: RelPath, files: &Listing) -> Self {
        let shows =
            below(&paths(files), &strip).into_iter().take(EXAMPLES).map(|path| format!("{into}/{path}")).collect();
        Self { strip, into, shows }
    }
}

/// What was found out.
pub(crate) enum Guess {
    /// One answer, and why.
    Clear(Choices, String),
    /// Several.
    Several(Vec<Picture>),
}

/// What a twin has, by the keys of its paths.
pub(crate) struct Tree {
    /// Whether each is a folder, and how it is spelt.
    paths: HashMap<String, (bool, String)>,
    folds: bool,
    /// The folders in which files of an ending lie, and how many.
    endings: BTreeMap<String, BTreeMap<String, usize>>,
}

impl Tree {
    pub(crate) fn of(listing: &Listing, folds: bool) -> Self {
        let mut tree = Self { paths: HashMap::new(), folds, endings: BTreeMap::new() };
        for entry in listing.entries() {
            for (at, path) in at_and_above(entry.path.as_str()).enumerate() {
                let folder = at > 0 || entry.node == Node::EmptyFolder;
                if tree.paths.insert(tree.key(path), (folder, path.to_owned())).is_some() && at > 0 {
                    break;
                }
            }
            if let (Some(ending), Some(folder)) = (entry.path.ending(), entry.path.parent()) {
                *tree.endings.entry(ending).or_default().entry(folder.to_owned()).or_default() += 1;
            }
        }
        tree
    }

    fn key(&self, path: &str) -> String {
        if self.folds { fold_key(path) } else { path.to_owned() }
    }

    /// Whether there is a folder, or a file, at a path.
    pub(crate) fn has(&self, path: &str, folder: bool) -> bool {
        self.paths.get(&self.key(path)).is_some_and(|(is, _)| *is == folder)
    }

    /// The folders that hold a folder of that name, but for the game folder itself.
    fn above(&self, name: &str) -> Vec<&str> {
        let end = format!("/{}", self.key(name));
        let found = self.paths.iter().filter(|(key, (folder, _))| *folder && key.ends_with(&end));
        let above = found.filter_map(|(_, (_, path))| path.rsplit_once('/').map(|(above, _)| above));
        let mut above: Vec<&str> = above.filter(|above| *above != "game").collect();
        above.sort_unstable();
        above
    }
}

/// A place, and what speaks for it.
struct Candidate<'a> {
    strip: &'a str,
    into: String,
    /// How many of the names at its top are there, and how many it has.
    known: usize,
    tops: usize,
    /// How many of its files would replace one.
    hits: usize,
    /// Names that are there.
    names: Vec<&'a str>,
}

/// The files at the top of a package, and of what wraps it, that are for people to read.
pub(crate) fn notes(files: &Listing) -> Vec<String> {
    wrappers(&paths(files)).1.into_iter().map(str::to_owned).collect()
}

/// The folders of a package that hold all of it but notes, from none on.
pub(crate) fn wrappings(files: &Listing) -> Vec<String> {
    wrappers(&paths(files)).0.into_iter().map(str::to_owned).collect()
}

/// The paths of a package's files, as they came.
fn paths(files: &Listing) -> Vec<&str> {
    let files = files.entries().iter().filter(|entry| entry.node != Node::EmptyFolder);
    files.filter_map(|entry| entry.path.as_str().strip_prefix(ROOT)?.strip_prefix('/')).collect()
}

/// Finds out where a package belongs. `told` is where the title has its mods, if its sheet says so.
///
/// # Errors
/// None that a package can give cause to.
pub(crate) fn guess(files: &Listing, told: Option<&RelPath>, tree: &Tree) -> Result<Guess> {
    let all = paths(files);
    let (strips, notes) = wrappers(&all);
    let payload: Vec<&str> = all.iter().copied().filter(|path| !notes.contains(path)).collect();
    let except: Vec<String> = notes.iter().map(|path| crate::sheet::pattern::escape(path)).collect();
    let choices = |strip: &str, into: &str| -> Result<Choices> {
        let (strip, into) = (strip.to_owned(), RelPath::new(into)?);
        Ok(Choices { strip, into, except: except.clone(), place: Vec::new(), any_build: false })
    };
    if let Some(strip) =
        strips.iter().find(|strip| is_as_a_twin(&below(&payload, strip)) && !tree.has("game/game", true))
    {
        let inside = |name: &str| if strip.is_empty() { format!("{name}/**") } else { format!("{strip}/{name}/**") };
        let place = ["game", "home"].map(|name| RelPath::new(name).map(|to| (inside(name), to)));
        let place = place.into_iter().collect::<Result<Vec<_>>>()?;
        let choices = Choices { place, ..choices(strip, "game")? };
        return Ok(Guess::Clear(choices, "it holds game/ and home/, as a twin does".into()));
    }
    let mut candidates: Vec<Candidate<'_>> = Vec::new();
    for strip in &strips {
        let paths = below(&payload, strip);
        let intos = BTreeSet::from_iter(["game"].into_iter().chain(told.map(RelPath::as_str)));
        candidates.extend(intos.into_iter().filter_map(|into| candidate(strip, into, &paths, tree)));
    }
    if candidates.is_empty() {
        for strip in &strips {
            let paths = below(&payload, strip);
            let folders: BTreeSet<&str> =
                tops(&paths).into_iter().filter(|(_, folder)| *folder).map(|(top, _)| top).collect();
            let above: BTreeSet<&str> = folders.iter().flat_map(|top| tree.above(top)).collect();
            candidates.extend(above.into_iter().filter_map(|into| candidate(strip, into, &paths, tree)));
        }
    }
    // All that is known, then the most that would be replaced, then the most that is known.
    candidates.sort_by_key(|c| (c.known < c.tops, usize::MAX - c.hits, usize::MAX - c.known));
    if let [first, rest @ ..] = candidates.as_slice() {
        let rank = |c: &Candidate<'_>| (c.known < c.tops, c.hits, c.known);
        if rest.iter().all(|other| rank(other) != rank(first)) {
            let why = format!("{} there already", listed(&first.names, first.into.as_str()));
            return Ok(Guess::Clear(choices(first.strip, &first.into)?, why));
        }
        let equal = candidates.iter().filter(|other| rank(other) == rank(first));
        return several(equal.map(|c| (c.strip, c.into.clone())), &payload);
    }
    if let Some(told) = told {
        return Ok(Guess::Clear(choices("", told.as_str())?, format!("{told} is where this title has its mods")));
    }
    let last = strips.last().copied().unwrap_or_default();
    let kinds = folders_of_its_kind(&below(&payload, last), tree);
    match kinds.as_slice() {
        [folder] => {
            let why = format!("files of its kind are in {folder}");
            Ok(Guess::Clear(choices(last, folder)?, why))
        }
        [] if strips.len() == 1 => {
            Ok(Guess::Clear(choices("", "game")?, "nothing in it is there yet, and it has no wrapping folder".into()))
        }
        [] => several(strips.iter().map(|strip| (*strip, "game".to_owned())), &payload),
        folders => several(folders.iter().map(|folder| (last, folder.clone())), &payload),
    }
}

/// The folders that wrap all of a package, from none on; and the files beside them that are for people to read.
pub(crate) fn wrappers<'a>(all: &[&'a str]) -> (Vec<&'a str>, BTreeSet<&'a str>) {
    let (mut strips, mut notes) = (vec![""], BTreeSet::new());
    loop {
        let strip = strips.last().copied().unwrap_or_default();
        let here = |path: &&&str| {
            let rest = if strip.is_empty() {
                Some(**path)
            } else {
                path.strip_prefix(strip).and_then(|p| p.strip_prefix('/'))
            };
            rest.is_some_and(|rest| !rest.contains('/') && is_note(rest))
        };
        let some: BTreeSet<&str> = all.iter().filter(here).copied().collect();
        let left: Vec<&str> =
            all.iter().copied().filter(|path| !notes.contains(path) && !some.contains(path)).collect();
        // What is nothing but notes is what somebody wants.
        if left.is_empty() {
            return (strips, notes);
        }
        notes.extend(some);
        let depth = if strip.is_empty() { 0 } else { strip.len() + 1 };
        let folder = |path: &'a str| path[depth..].find('/').map(|at| &path[..depth + at]);
        match left.first().and_then(|first| folder(first)) {
            Some(first) if left.iter().all(|path| folder(path) == Some(first)) => strips.push(first),
            _ => return (strips, notes),
        }
    }
}

/// The paths below a folder of the package.
fn below<'a>(paths: &[&'a str], strip: &str) -> Vec<&'a str> {
    let rest =
        |path: &&'a str| if strip.is_empty() { Some(*path) } else { path.strip_prefix(strip)?.strip_prefix('/') };
    paths.iter().filter_map(rest).collect()
}

/// The names at the top of some paths, and whether each is a folder's.
fn tops<'a>(paths: &[&'a str]) -> BTreeMap<&'a str, bool> {
    paths.iter().map(|path| path.split_once('/').map_or((*path, false), |(top, _)| (top, true))).collect()
}

fn is_as_a_twin(paths: &[&str]) -> bool {
    let tops = tops(paths);
    tops.contains_key("home") && tops.iter().all(|(top, folder)| *folder && matches!(*top, "game" | "home"))
}

fn candidate<'a>(strip: &'a str, into: &str, paths: &[&'a str], tree: &Tree) -> Option<Candidate<'a>> {
    let tops = tops(paths);
    let is_known = |(top, folder): &(&&str, &bool)| tree.has(&format!("{into}/{top}"), **folder);
    let names: Vec<&str> = tops.iter().filter(is_known).map(|(top, _)| *top).collect();
    let hits = paths.iter().filter(|path| tree.has(&format!("{into}/{path}"), false)).count();
    let (known, tops) = (names.len(), tops.len());
    (known > 0).then(|| Candidate { strip, into: into.to_owned(), known, tops, hits, names })
}

/// The folders of the twin in which files of the endings lie that a flat package has; those with none other first.
fn folders_of_its_kind(paths: &[&str], tree: &Tree) -> Vec<String> {
    if paths.iter().any(|path| path.contains('/')) {
        return Vec::new();
    }
    let endings: BTreeSet<String> =
        paths.iter().filter_map(|path| RelPath::new(path).ok()?.ending()).filter(|ending| ending != "txt").collect();
    let mut folders: Option<BTreeSet<&String>> = None;
    for ending in &endings {
        let of: BTreeSet<&String> = tree.endings.get(ending).into_iter().flat_map(BTreeMap::keys).collect();
        folders = Some(match folders {
            Some(known) => known.intersection(&of).copied().collect(),
            None => of,
        });
    }
    folders.into_iter().flatten().cloned().collect()
}

fn several<'a>(places: impl Iterator<Item = (&'a str, String)>, payload: &[&str]) -> Result<Guess> {
    let pictures = places.take(PICTURES).map(|(strip, into)| {
        let shows = below(payload, strip).into_iter().take(EXAMPLES).map(|path| format!("{into}/{path}")).collect();
        Ok(Picture { strip: strip.to_owned(), into: RelPath::new(into)?, shows })
    });
    Ok(Guess::Several(pictures.collect::<Result<_>>()?))
}

/// "boards and guide are in game", of names.
fn listed(names: &[&str], into: &str) -> String {
    match names {
        [one] => format!("{into}/{one} is"),
        [one, other] => format!("{into}/{one} and {into}/{other} are"),
        [one, rest @ ..] => format!("{into}/{one} and {} more are", rest.len()),
        [] => String::new(),
    }
}
