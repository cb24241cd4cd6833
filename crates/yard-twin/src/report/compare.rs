//! What differs between two sides: twins, stock builds, kept states.
//!
//! ```
//! use yard_twin::compare;
//! # use yard_twin::{Ctx, Yard, clone, intake};
//! # let place = tempfile::tempdir()?;
//! # let installed = place.path().join("installed");
//! # standins::write_small_wexcombe(&installed, "1.4")?;
//! # let (yard, ctx) = (Yard::init(place.path().join("yard"))?, Ctx::new());
//! # std::fs::write(yard.sheet_path(&"wexcombe".parse()?), standins::WEXCOMBE_SHEET)?;
//! # let options = intake::Options::new(&installed, "wexcombe".parse()?);
//! # intake::apply(&yard, &intake::plan(&yard, options, &ctx)?, &ctx)?;
//! # for name in ["main"] {
//! #     let plan = clone::plan(&yard, &"wexcombe@1.4".parse()?, &name.parse()?, clone::Options::default(), &ctx)?;
//! #     clone::apply(&yard, &plan, &ctx)?;
//! # }
//! # let game = |twin: &str| place.path().join("yard/twins").join(twin).join("game");
//! std::fs::write(game("main").join("boards/plain/board.txt"), "drawn anew")?;
//! let difference = compare::sides(&yard, &"wexcombe@1.4".parse()?, &"main".parse()?, &ctx)?;
//! assert_eq!(difference.paths.len(), 1);
//! assert!(compare::text(&yard, &difference, &difference.paths[0])?.is_some());
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

use std::collections::{BTreeMap, HashMap, HashSet};
use std::fs;
use std::path::PathBuf;

use jiff::Timestamp;
use serde::Serialize;

use super::peek::{Looked, Peeked, Since, as_recorded, look_since, peek};
use crate::Yard;
use crate::catalog::HistoryEntry;
use crate::error::{Error, PathContext, Result};
use crate::ident::{ContentId, Side, TwinName};
use crate::launch::home;
use crate::listing::{Change, Entry, Listing, Node, diff_of_contents};
use crate::path::RelPath;
use crate::progress::Ctx;
use crate::sheet::Sheet;
use crate::text;
pub use crate::text::{Hunk, LineChange};
use crate::twin::vouch;

/// Larger files are not compared line by line.
const TEXT_MAX: u64 = 256 << 10;

/// Unchanged lines around each change of a text.
const AROUND: usize = 3;

/// How a path differs from the first side to the second.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(tag = "differs", rename_all = "snake_case")]
pub enum Differs {
    /// Only the second one has it.
    New,
    /// Only the first one has it.
    Gone,
    /// Both have it, and it is not the same.
    Changed,
    /// The second one has just what the first one has elsewhere, and no longer has it there.
    Moved {
        /// Where the first one has it.
        from: RelPath,
    },
}

/// One path at which two sides differ.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Differing {
    /// Where.
    pub path: RelPath,
    /// How.
    #[serde(flatten)]
    pub how: Differs,
    /// The group of belongings that the path is in, by the title's sheet.
    pub group: Option<String>,
    /// What the first side has there; for what moved, where it was.
    pub before: Option<Node>,
    /// What the second side has there.
    pub after: Option<Node>,
}

/// Paths and bytes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Tally {
    /// How many paths.
    pub paths: u64,
    /// Sizes of the files together, in bytes: what is there now, or for what is gone, was.
    pub bytes: u64,
}

impl Tally {
    fn add(&mut self, bytes: u64) {
        self.paths += 1;
        self.bytes += bytes;
    }
}

/// Counts of what differs.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Tallies {
    /// What is new.
    pub new: Tally,
    /// What is gone.
    pub gone: Tally,
    /// What changed.
    pub changed: Tally,
    /// What moved.
    pub moved: Tally,
}

impl Tallies {
    fn add(&mut self, differing: &Differing) {
        let size = |node: &Option<Node>| node.as_ref().map_or(0, Node::size);
        match differing.how {
            Differs::New => self.new.add(size(&differing.after)),
            Differs::Gone => self.gone.add(size(&differing.before)),
            Differs::Changed => self.changed.add(size(&differing.after)),
            Differs::Moved { .. } => self.moved.add(size(&differing.after)),
        }
    }

    /// All paths that differ.
    #[must_use]
    pub fn paths(&self) -> u64 {
        self.new.paths + self.gone.paths + self.changed.paths + self.moved.paths
    }
}

/// What differs in one folder, or in one group of belongings.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Part {
    /// The folder below the twin's, or the group.
    pub name: String,
    /// How much.
    #[serde(flatten)]
    pub tallies: Tallies,
}

/// One side of a comparison, as it was found.
#[derive(Clone, Debug, Serialize)]
pub struct Compared {
    /// What was compared, as it is typed.
    pub name: String,
    /// When the state was recorded, or the build taken in; `None` for a twin as it is now.
    pub at: Option<Timestamp>,
    /// Whether it is a twin in use just now, so that this is how it was at the last look.
    pub in_use: bool,
    /// Where its files are now; `None` where only the pool has them.
    #[serde(skip)]
    pub(super) folder: Option<PathBuf>,
}

/// How two sides differ.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Difference {
    /// The first side.
    pub from: Compared,
    /// The second.
    pub to: Compared,
    /// How much differs.
    pub totals: Tallies,
    /// Files and symlinks that are the same in both.
    pub same: Tally,
    /// How much differs in each group of belongings.
    pub groups: Vec<Part>,
    /// How much differs in each folder that is at most two deep.
    pub folders: Vec<Part>,
    /// Every path that differs, in order.
    pub paths: Vec<Differing>,
    /// What no listing holds and so is not compared, each with its reason.
    pub not_compared: Vec<String>,
    /// The newest line of the history that changed anything, where one twin was compared with its last state.
    pub newest: Option<HistoryEntry>,
    /// The number of the line before that one, if it is kept still.
    pub before_newest: Option<u32>,
}

impl Difference {
    fn none(from: Compared, to: Compared) -> Self {
        Self {
            from,
            to,
            totals: Tallies::default(),
            same: Tally::default(),
            groups: Vec::new(),
            folders: Vec::new(),
            paths: Vec::new(),
            not_compared: Vec::new(),
            newest: None,
            before_newest: None,
        }
    }

    /// Whether both sides are the same. Times don't count.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.paths.is_empty()
    }

    /// How much differs in each folder that is at most `depth` deep, counted from the twin's own; what is deeper counts
    /// there.
    #[must_use]
    pub fn by_folder(&self, depth: usize) -> Vec<Part> {
        parts(&self.paths, |differing| Some(folder_of(differing, depth)))
    }

    /// Lets what is not to be kept go, and counts the rest.
    fn retain(&mut self, keep: impl Fn(&Differing) -> bool) {
        self.paths.retain(keep);
        self.totals = Tallies::default();
        self.paths.iter().for_each(|differing| self.totals.add(differing));
        self.groups = parts(&self.paths, |differing| differing.group.as_deref());
        self.folders = self.by_folder(2);
    }

    /// As [`Difference::by_folder`], of what belongs to no group.
    #[must_use]
    pub fn rest_by_folder(&self, depth: usize) -> Vec<Part> {
        parts(&self.paths, |differing| differing.group.is_none().then(|| folder_of(differing, depth)))
    }
}

/// The folder of a path, or the one above it that is `depth` deep.
fn folder_of(differing: &Differing, depth: usize) -> &str {
    let folder = differing.path.parent().unwrap_or_default();
    let end = folder.match_indices('/').nth(depth.max(1) - 1).map_or(folder.len(), |(at, _)| at);
    &folder[..end]
}

fn parts<'a>(paths: &'a [Differing], of: impl Fn(&'a Differing) -> Option<&'a str>) -> Vec<Part> {
    let mut parts: BTreeMap<&str, Tallies> = BTreeMap::new();
    for differing in paths {
        if let Some(part) = of(differing) {
            parts.entry(part).or_default().add(differing);
        }
    }
    parts.into_iter().map(|(name, tallies)| Part { name: name.into(), tallies }).collect()
}

/// Compares two sides. A twin is looked at as it is now, and nothing is taken in: asked again, the answer is the same.
/// A twin in use is compared as of its last settle. The folders of the home that a twin's first start makes are no
/// difference from a side that has none.
///
/// # Errors
/// [`Error::NotFound`], [`crate::TwinError::FolderMissing`], [`Error::Damaged`], [`Error::Io`].
pub fn sides(yard: &Yard, from: &Side, to: &Side, ctx: &Ctx) -> Result<Difference> {
    let mut difference = difference(side(yard, from, ctx)?, side(yard, to, ctx)?);
    let prepared: HashSet<String> = home::prepared().collect();
    let of_home = |differing: &Differing| {
        matches!(differing.how, Differs::New | Differs::Gone) && prepared.contains(differing.path.as_str())
    };
    if difference.paths.iter().any(of_home) {
        let (from, to) = (laid_at(yard, from)?, laid_at(yard, to)?);
        let as_laid = |laid: &Listing, path: &RelPath, node: &Option<Node>| {
            matches!(node, None | Some(Node::EmptyFolder))
                || laid.get(path.as_str()).map(|entry| &entry.node) == node.as_ref()
        };
        difference.retain(|differing| {
            let Differing { path, before, after, .. } = differing;
            !(of_home(differing) && as_laid(&from, path, before) && as_laid(&to, path, after))
        });
    }
    Ok(difference)
}

/// Compares the belongings of two twins, or of kept states: what the player added or changed on one side, as far as the
/// other lacks it or has another one. What is the same is not counted.
///
/// # Errors
/// As [`sides`].
pub fn belongings(yard: &Yard, from: &Side, to: &Side, ctx: &Ctx) -> Result<Difference> {
    let (from_laid, to_laid) = (laid_at(yard, from)?, laid_at(yard, to)?);
    let mut difference = sides(yard, from, to, ctx)?;
    let own = |laid: &Listing, path: &RelPath, node: &Option<Node>| {
        node.is_some() && laid.get(path.as_str()).map(|entry| &entry.node) != node.as_ref()
    };
    difference.retain(|Differing { path, how, before, after, group }| {
        let was = if let Differs::Moved { from } = how { from } else { path };
        group.is_some() && (own(&from_laid, was, before) || own(&to_laid, path, after))
    });
    difference.same = Tally::default();
    difference.folders = parts(&difference.paths, |differing| differing.path.parent());
    Ok(difference)
}

/// What was laid on a side: entries equal to it are not the player's own.
fn laid_at(yard: &Yard, side: &Side) -> Result<Listing> {
    match side {
        Side::Stock(build) => yard.store.listing(yard.stock_row(build, true)?.listing),
        Side::Twin(name) => yard.store.listing(yard.store.state(yard.twin_row(name, true)?.state)?.laid),
        Side::Kept(name, snapshot) => {
            let entry = yard.find_entry(&yard.twin_row(name, true)?, snapshot)?;
            yard.store.listing(yard.store.state(entry.state)?.laid)
        }
    }
}

/// Compares a twin as it is now with its last state: what changed since a command last took in what it found. Nothing
/// is taken in by this.
///
/// # Errors
/// As [`sides`], and [`Error::Busy`] while the twin is in use.
pub fn since(yard: &Yard, name: &TwinName, ctx: &Ctx) -> Result<Difference> {
    let row = yard.twin_row(name, true)?;
    let history = yard.catalog.history(row.id)?;
    let newest = history.first().map_or(0, |entry| entry.number);
    let from = Compared {
        name: format!("{}:{newest}", row.name),
        at: history.first().map(|entry| entry.at),
        in_use: false,
        folder: None,
    };
    let difference = match look_since(yard, &row, ctx)? {
        Since::Still(now, still) => {
            Difference { same: Tally { paths: still.paths, bytes: still.bytes }, ..Difference::none(from, now) }
        }
        Since::Seen(peeked) => {
            let Peeked { looked: to, state, before } = *peeked;
            // Where a command that died had to be finished first, that is part of what changed.
            let recorded = || yard.store.listing(yard.store.state(row.state)?.disk);
            let listing = if state == row.state { before } else { recorded()? };
            difference(Looked { compared: from, listing, sheet: None, not_taken: Vec::new() }, to)
        }
    };
    let mut history = history.into_iter().skip_while(|entry| entry.game.total() + entry.own.total() == 0);
    let newest = history.next();
    let before_newest = history.next().map(|entry| entry.number);
    Ok(Difference { newest, before_newest, ..difference })
}

/// The lines in which a file differs between the sides of a comparison; `None` where it is no file on both, is no text,
/// or has more than 256 KiB. What is not UTF-8 in it comes as replacement characters.
///
/// # Errors
/// [`Error::Io`].
pub fn text(yard: &Yard, difference: &Difference, differing: &Differing) -> Result<Option<Vec<Hunk>>> {
    let (Some(before), Some(after)) = (&differing.before, &differing.after) else { return Ok(None) };
    let (Some(one), Some(other)) = (before.content(), after.content()) else { return Ok(None) };
    if one == other || before.size().max(after.size()) > TEXT_MAX {
        return Ok(None);
    }
    let one = bytes_at(yard, &difference.from, &differing.path, one)?;
    let other = bytes_at(yard, &difference.to, &differing.path, other)?;
    if one.contains(&0) || other.contains(&0) {
        return Ok(None);
    }
    Ok(Some(text::hunks(&String::from_utf8_lossy(&one), &String::from_utf8_lossy(&other), AROUND)))
}

fn bytes_at(yard: &Yard, side: &Compared, path: &RelPath, content: ContentId) -> Result<Vec<u8>> {
    match (vouch::bytes_of(yard, content), &side.folder) {
        // What a look found new is not in the pool.
        (Err(_), Some(folder)) => {
            let file = path.below(folder);
            fs::read(&file).at("read", file)
        }
        (bytes, _) => bytes,
    }
}

fn side(yard: &Yard, side: &Side, ctx: &Ctx) -> Result<Looked> {
    match side {
        Side::Stock(build) => {
            let row = yard.stock_row(build, true)?;
            let compared =
                Compared { name: row.build.to_string(), at: Some(row.taken_at), in_use: false, folder: None };
            let (listing, sheet) = (yard.store.listing(row.listing)?, yard.sheet_of(&row.build)?);
            Ok(Looked { compared, listing, sheet, not_taken: Vec::new() })
        }
        Side::Kept(name, snapshot) => {
            let row = yard.twin_row(name, true)?;
            let entry = yard.find_entry(&row, snapshot)?;
            let state = yard.store.state(entry.state)?;
            let name = format!("{}:{snapshot}", row.name);
            let compared = Compared { name, at: Some(entry.at), in_use: false, folder: None };
            let (listing, sheet) = (yard.store.listing(state.disk)?, yard.sheet_of(&state.build)?);
            Ok(Looked { compared, listing, sheet, not_taken: Vec::new() })
        }
        Side::Twin(name) => {
            let row = yard.twin_row(name, true)?;
            match peek(yard, &row, ctx) {
                Err(Error::Busy { .. }) => as_recorded(yard, &row, true),
                peeked => peeked.map(|peeked| peeked.looked),
            }
        }
    }
}

fn difference(from: Looked, to: Looked) -> Difference {
    let sheet = to.sheet.as_ref().or(from.sheet.as_ref());
    let (paths, same) = compare(&from.listing, &to.listing, sheet);
    let mut totals = Tallies::default();
    paths.iter().for_each(|differing| totals.add(differing));
    let groups = parts(&paths, |differing| differing.group.as_deref());
    let not_compared = from.not_taken.into_iter().chain(to.not_taken).collect();
    let none = Difference::none(from.compared, to.compared);
    let mut difference = Difference { totals, same, groups, paths, not_compared, ..none };
    difference.folders = difference.by_folder(2);
    difference
}

/// The paths at which two listings differ, and how much is the same.
fn compare(from: &Listing, to: &Listing, sheet: Option<&Sheet>) -> (Vec<Differing>, Tally) {
    let found: Vec<Change<'_>> = diff_of_contents(from, to).collect();
    let moved = moves(&found);
    let same = same(from, &found);
    let mut paths = Vec::with_capacity(found.len());
    for change in found {
        let path = change.path().clone();
        let (before, after) = change.nodes();
        let (how, before) = match &change {
            Change::Gone(_) if moved.left.contains(&path) => continue,
            Change::New(_) => match moved.came.get(&path) {
                Some(from) => (Differs::Moved { from: from.path.clone() }, Some(&from.node)),
                None => (Differs::New, None),
            },
            Change::Gone(_) => (Differs::Gone, before),
            Change::Changed { .. } => (Differs::Changed, before),
        };
        let group = sheet.and_then(|sheet| sheet.group_of(&path)).map(str::to_owned);
        paths.push(Differing { path, how, group, before: before.cloned(), after: after.cloned() });
    }
    (paths, same)
}

/// What is the same: all of the first side that is not among what differs.
fn same(from: &Listing, found: &[Change<'_>]) -> Tally {
    let totals = from.totals();
    let mut same = Tally { paths: totals.files + totals.symlinks, bytes: totals.bytes };
    for before in found.iter().filter_map(|change| change.nodes().0).filter(|node| **node != Node::EmptyFolder) {
        same.paths -= 1;
        same.bytes -= before.size();
    }
    same
}

/// Files that are gone at one path and new, with the same bytes, at another.
#[derive(Default)]
struct Moves<'a> {
    left: HashSet<RelPath>,
    came: HashMap<RelPath, &'a Entry>,
}

/// Pairs what is gone with what is new: of the same name first, then in order. Empty files are all alike, and are not
/// paired.
fn moves<'a>(found: &[Change<'a>]) -> Moves<'a> {
    let mut gone: HashMap<ContentId, Vec<&'a Entry>> = HashMap::new();
    let content = |entry: &Entry| entry.node.content().filter(|_| entry.node.size() > 0);
    for change in found {
        if let Change::Gone(entry) = change
            && let Some(content) = content(entry)
        {
            gone.entry(content).or_default().push(entry);
        }
    }
    let mut moves = Moves::default();
    for by_name in [true, false] {
        for change in found {
            let Change::New(entry) = change else { continue };
            let Some(there) = content(entry).and_then(|content| gone.get_mut(&content)) else { continue };
            let fits = |gone: &&Entry| !by_name || gone.path.name() == entry.path.name();
            if moves.came.contains_key(&entry.path) {
                continue;
            }
            if let Some(at) = there.iter().position(fits) {
                let from = there.remove(at);
                moves.left.insert(from.path.clone());
                moves.came.insert(entry.path.clone(), from);
            }
        }
    }
    moves
}

#[cfg(test)]
#[allow(clippy::unwrap_used)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::listing::algebra::small;

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

        #[test]
        fn what_differs_makes_the_second_of_the_first(from in small(), to in small()) {
            let (paths, same) = compare(&from, &to, None);
            let mut files: BTreeMap<RelPath, Node> = BTreeMap::new();
            let solid = |listing: &Listing| {
                let solid = listing.entries().iter().filter(|entry| entry.node != Node::EmptyFolder);
                solid.map(|entry| (entry.path.clone(), entry.node.clone())).collect::<BTreeMap<_, _>>()
            };
            files.extend(solid(&from));
            for differing in &paths {
                let gone = match &differing.how {
                    Differs::Moved { from } => Some(from),
                    Differs::Gone => Some(&differing.path),
                    _ => None,
                };
                if let Some(gone) = gone {
                    prop_assert_eq!(files.remove(gone), differing.before.clone().filter(|node| *node != Node::EmptyFolder));
                }
            }
            prop_assert_eq!(same.paths, files.len() as u64 - paths.iter().filter(|d| {
                d.how == Differs::Changed && d.before != Some(Node::EmptyFolder)
            }).count() as u64);
            for differing in paths {
                match differing.after {
                    Some(Node::EmptyFolder) => drop(files.remove(&differing.path)),
                    Some(node) => drop(files.insert(differing.path, node)),
                    None => {}
                }
            }
            prop_assert_eq!(files, solid(&to));
        }
    }
}
