//! Looking at a twin's mods.

use serde::Serialize;

use super::find;
use crate::Yard;
use crate::error::{Error, Noun, Result};
use crate::ident::{ModId, ModName, Title, TwinName};
use crate::listing::Node;
use crate::ops::recombine::Scene;
use crate::path::RelPath;
use crate::placing::{Choices, ModSheet};
use crate::progress::Ctx;
use crate::twin::mods;
use crate::twin::planned;
use crate::twin::settle::as_of_last;

/// A mod of a twin.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct InTwin {
    /// What it is called.
    pub name: ModName,
    /// Which version of it this is.
    pub version: Option<String>,
    /// Its package.
    pub id: ModId,
    /// Whether it is laid.
    pub on: bool,
    /// Files that it has in the twin.
    pub files: u64,
    /// Those of them that lie over a file of the stock build, or of a lower mod.
    pub replaces: u64,
    /// Those over which another mod lies, and which mods those are.
    pub covered: u64,
    /// The names of those.
    pub covered_by: Vec<ModName>,
    /// Those in whose place the player has something else.
    pub mine: u64,
    /// What it takes away.
    pub removes: u64,
    /// What it has inside archives of the program.
    pub inside: u64,
    /// How it is placed.
    pub choices: Choices,
}

/// A twin's mods, from the lowest on; while its program runs, beside what was there when it was started.
///
/// # Errors
/// [`Error::NotFound`], [`Error::Damaged`] if a record can't be read.
pub fn list(yard: &Yard, name: &TwinName, ctx: &Ctx) -> Result<Vec<InTwin>> {
    let scene = scene(yard, name, ctx)?;
    let mut all = Vec::with_capacity(scene.mods.len());
    for (at, placed) in scene.mods.iter().enumerate() {
        let (package, _) = mods::package(yard, &placed.of)?;
        let is_file = |entry: &&crate::Entry| entry.node != Node::EmptyFolder;
        let mut one = InTwin {
            name: placed.of.name.clone(),
            version: package.version,
            id: placed.of.id,
            on: placed.of.on,
            files: placed.entries.iter().filter(is_file).count() as u64,
            replaces: 0,
            covered: 0,
            covered_by: Vec::new(),
            mine: 0,
            removes: scene.composed.removed.values().filter(|by| **by == at).count() as u64,
            inside: placed.inlays.iter().map(|inlay| inlay.put.len() as u64).sum(),
            choices: placed.of.choices.clone(),
        };
        for (path, by) in scene.composed.by.iter().filter(|(_, by)| by.contains(&at)) {
            let lies = by.iter().position(|by| *by == at).unwrap_or_default();
            one.replaces += u64::from(lies > 0 || scene.stock_listing.get(path.as_str()).is_some());
            if let Some(over) = by.get(lies + 1) {
                one.covered += 1;
                let over = &scene.mods[*over].of.name;
                if !one.covered_by.contains(over) {
                    one.covered_by.push(over.clone());
                }
            } else {
                let node = |listing: &crate::Listing| listing.get(path.as_str()).map(|entry| entry.node.clone());
                one.mine += u64::from(node(&scene.plain) != node(&scene.next));
            }
        }
        all.push(one);
    }
    Ok(all)
}

fn scene(yard: &Yard, name: &TwinName, ctx: &Ctx) -> Result<Scene> {
    let row = yard.twin_row(name, false)?;
    let (row, settled) = match planned::see(yard, &row, ctx) {
        // What its program is doing is not seen yet.
        Err(Error::Busy { .. }) => {
            let settled = as_of_last(yard, &row)?;
            (row, settled)
        }
        seen => seen?,
    };
    let (build, mods) = (settled.state.build.clone(), settled.state.mods.clone());
    Scene::look(yard, (row, settled), (&build, &mods, None), ctx)
}

/// What a kept package holds, what its sheet says, and the text of what in it is for people to read.
///
/// # Errors
/// [`Error::NotFound`] if no package is called so; [`Error::Damaged`].
pub fn show(yard: &Yard, name: &ModName) -> Result<Vec<Shown>> {
    let rows = yard.catalog.packages()?;
    let of: Vec<_> = rows.iter().filter(|row| row.name.key() == name.key()).collect();
    if of.is_empty() {
        let known = rows.iter().map(|row| row.name.to_string()).collect();
        return Err(Error::NotFound { what: Noun::Mod, name: name.to_string(), known });
    }
    of.into_iter().map(|row| Shown::of(yard, row.id, row.origin.clone())).collect()
}

/// A package, looked at.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Shown {
    /// Its id.
    pub id: ModId,
    /// The package.
    pub package: crate::Package,
    /// What its sheet says.
    pub sheet: ModSheet,
    /// What it was read from.
    pub origin: String,
    /// Its files.
    pub files: Vec<String>,
    /// Those for people to read: path and text.
    pub notes: Vec<(String, String)>,
}

/// Notes up to this size are shown.
const NOTE: u64 = 64 << 10;

impl Shown {
    fn of(yard: &Yard, id: ModId, origin: String) -> Result<Self> {
        let package = yard.store.package(id)?;
        let path = std::path::PathBuf::from(format!("mod sheet of {}", package.name));
        let sheet = crate::placing::read_sheet(&package.sheet, &path)?;
        let listing = yard.store.listing(package.files)?;
        let below = |path: &RelPath| path.as_str().strip_prefix("package/").unwrap_or_default().to_owned();
        let mut notes = Vec::new();
        for entry in listing.entries().iter().filter(|entry| crate::placing::is_note(entry.path.name())) {
            let Some(content) = entry.node.content().filter(|_| entry.node.size() <= NOTE) else { continue };
            let bytes = crate::twin::vouch::bytes_of(yard, content)?;
            notes.push((below(&entry.path), String::from_utf8_lossy(&bytes).into_owned()));
        }
        let files = listing.entries().iter().filter(|entry| entry.node != Node::EmptyFolder);
        Ok(Self { id, files: files.map(|entry| below(&entry.path)).collect(), sheet, origin, notes, package })
    }
}

/// One file of a twin through all that lies over each other.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Explained {
    /// The path.
    pub path: RelPath,
    /// Whether the stock build has it.
    pub stock: bool,
    /// The mods that have it, from the lowest on, and whether each is on.
    pub mods: Vec<(ModName, bool)>,
    /// The mods that have put something inside it, where it is an archive.
    pub inside: Vec<ModName>,
    /// The mod that takes it away.
    pub removed_by: Option<ModName>,
    /// What is there now.
    pub is: Is,
    /// Whether config edits stand in it.
    pub edited: bool,
}

/// Whose a file is.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Is {
    /// As the stock build has it.
    Stock,
    /// As that mod has it.
    Mod(ModName),
    /// The player's own.
    Mine,
    /// Not there, though it was laid.
    Deleted,
    /// Not there.
    Nothing,
}

/// Explains a path of a twin.
///
/// # Errors
/// [`Error::NotFound`] if neither the twin nor any of its mods has it; then as [`list`].
pub fn explain(yard: &Yard, name: &TwinName, path: &RelPath, ctx: &Ctx) -> Result<Explained> {
    let scene = scene(yard, name, ctx)?;
    let node = |listing: &crate::Listing| listing.get(path.as_str()).map(|entry| entry.node.clone());
    let has = |placed: &&crate::placing::Placed| placed.entries.iter().any(|entry| entry.path.key() == path.key());
    let mods: Vec<(ModName, bool)> =
        scene.mods.iter().filter(has).map(|placed| (placed.of.name.clone(), placed.of.on)).collect();
    let (there, laid) = (node(&scene.plain), node(&scene.next));
    let stock = scene.stock_listing.get(path.as_str()).is_some();
    if there.is_none() && laid.is_none() && !stock && mods.is_empty() {
        return Err(Error::NotFound { what: Noun::Path, name: path.to_string(), known: Vec::new() });
    }
    let named = |at: &usize| scene.mods[*at].of.name.clone();
    let inside: Vec<ModName> = scene.composed.inlaid.get(path).into_iter().flatten().map(named).collect();
    let over = scene.composed.by.get(path).and_then(|by| by.last()).map(|at| scene.mods[*at].of.name.clone());
    let is = match (&there, &laid) {
        (None, None) => Is::Nothing,
        (None, Some(_)) => Is::Deleted,
        (there, laid) if there == laid => inside.last().cloned().or(over).map_or(Is::Stock, Is::Mod),
        _ => Is::Mine,
    };
    let removed_by = scene.composed.removed.get(path).map(|at| scene.mods[*at].of.name.clone());
    let edited = scene.settled.state.edits.iter().any(|edit| edit.file == *path);
    Ok(Explained { path: path.clone(), stock, mods, inside, removed_by, is, edited })
}

/// The title of the build that a twin is on.
///
/// # Errors
/// [`Error::NotFound`].
pub fn title_of(yard: &Yard, name: &TwinName) -> Result<Title> {
    Ok(yard.store.state(yard.twin_row(name, false)?.state)?.build.title)
}

/// What of a twin's mod is placed where: the path in the package, and that in the twin.
///
/// # Errors
/// As [`list`].
pub fn places(yard: &Yard, twin: &TwinName, name: &ModName) -> Result<Vec<(String, RelPath)>> {
    let state = yard.store.state(yard.twin_row(twin, false)?.state)?;
    let used = &state.mods[find(&state.mods, name)?];
    let (package, sheet) = mods::package(yard, used)?;
    let placed = crate::placing::place(&yard.store.listing(package.files)?, &sheet, &used.choices)?;
    Ok(placed.entries.into_iter().map(|(from, entry)| (from, entry.path)).collect())
}
