//! Repath: files that name places by absolute paths which are not right any more, or never were.
//!
//! ```
//! use yard_twin::repath;
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
//! let there = place.path().join("yard/twins/main/game");
//! std::fs::write(there.join("cabin/recent.txt"), "/home/pat/games/wexcombe/boards")?;
//! let named = (std::path::Path::new("/home/pat/games/wexcombe"), there.as_path());
//! let plan = repath::plan(&yard, &"main".parse()?, Some(named), &ctx)?;
//! repath::apply(&yard, &plan, &ctx)?;
//! assert_eq!(std::fs::read_to_string(there.join("cabin/recent.txt"))?, there.join("boards").to_string_lossy());
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

mod looking;

pub use crate::combine::PathForm;

use std::collections::HashSet;
use std::io::Read;
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::time::{Duration, Instant};

use rustix::fs::CWD;
use serde::Serialize;

use self::looking::{Look, Looking, Seen, rewritten};
use crate::Yard;
use crate::catalog::{TwinRow, What};
use crate::combine::{Repather, is_text};
use crate::disk;
use crate::error::{Error, IntakeError, Noun, Result};
use crate::ident::{ContentId, ListingId, Source, TwinName};
use crate::listing::{Change, Entry, Listing, Node, diff};
use crate::ops::intake;
use crate::ops::rename::TEXT_MAX;
use crate::parallel::{self, lock};
use crate::path::RelPath;
use crate::progress::Ctx;
use crate::scan::{Kind, Manner, walk};
use crate::store::pool::masses;
use crate::store::state::State;
use crate::twin::planned;
use crate::twin::planned::{AppliedChange, PlannedChange};
use crate::twin::protection;
use crate::twin::vouch;

/// A place that may be named, and what it should be.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Place {
    /// The folder that may be named.
    pub from: String,
    /// The one that should be; `None` where that can't be known, so that it is only reported.
    pub to: Option<String>,
    /// What it is.
    pub what: PlaceKind,
}

/// What a place is that should not be named.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum PlaceKind {
    /// Where the twin's folder was before.
    Former,
    /// The folder of the twin that it was cloned from.
    Origin,
    /// The folder that its stock build was taken in from.
    Installed,
    /// The folder of another twin.
    OtherTwin,
    /// What the caller named.
    Named,
}

/// A place in a file, or a symlink, that names a folder.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct NamedPlace {
    /// The file or symlink: below the twin's folder, or below the folder that was looked through.
    pub path: String,
    /// The line, counted from 1; `None` for symlinks and for what has no lines.
    pub line: Option<u64>,
    /// The line, or the symlink's target, as far as it is of use.
    pub text: String,
    /// Which place it names.
    pub from: String,
    /// What it will name; `None` where it is only reported.
    pub to: Option<String>,
    /// How it is written.
    pub form: PathForm,
    /// Why it is not rewritten.
    pub only_reported: Option<&'static str>,
}

/// What a repath finds, and will do.
#[must_use = "a plan changes nothing until it is applied"]
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Plan {
    /// The twin.
    pub name: TwinName,
    /// What was looked for.
    pub places: Vec<Place>,
    /// What was found, by path and line.
    pub found: Vec<NamedPlace>,
    /// How many files were looked through.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// Whether its profile names such a place too, and will be rewritten.
    pub profile: bool,
    #[serde(skip)]
    planned: PlannedChange,
}

/// What a repath did.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Outcome {
    /// The twin.
    pub name: TwinName,
    /// Files and symlinks that were rewritten.
    pub rewritten: u64,
    /// The number of the change in the history; `None` if there was nothing to do.
    pub number: Option<u32>,
    /// The number of the state before it, which is the way back.
    pub before: u32,
    /// How long it took.
    #[serde(serialize_with = "crate::progress::seconds")]
    pub took: Duration,
}

/// What a repath of a folder outside the yard finds, and will do.
#[must_use = "a plan changes nothing until it is applied"]
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct FolderPlan {
    /// The folder.
    pub folder: PathBuf,
    /// What was looked for.
    pub places: Vec<Place>,
    /// What was found, by path and line.
    pub found: Vec<NamedPlace>,
    /// How many files were looked through.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// What could not be looked at, each with its reason.
    pub passed_over: Vec<String>,
}

/// What a repath of a folder did.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct FolderOutcome {
    /// Files and symlinks that were rewritten.
    pub rewritten: u64,
    /// Where what they held before is kept, under the same paths.
    pub kept: PathBuf,
}

/// Looks for absolute paths in a twin's files and symlinks that lead to where it was before, to the twin that it was
/// cloned from, to where its stock build was installed, or to another twin; with `named`, for those to the first folder
/// of the pair. What leads to another twin is only reported. What is new in the twin is stored, and written down when
/// the plan is applied.
///
/// # Errors
/// [`Error::NotFound`], [`crate::TwinError::Protected`] if a game file of a protected twin would be rewritten,
/// [`Error::Busy`] while it runs, [`Error::Name`] for a folder that is no absolute path.
pub fn plan(yard: &Yard, name: &TwinName, named: Option<(&Path, &Path)>, ctx: &Ctx) -> Result<Plan> {
    let (row, settled) = planned::see(yard, &yard.twin_row(name, false)?, ctx)?;
    let places = match named {
        Some(named) => vec![named_place(named)?],
        None => places_of(yard, &row, &settled.state)?,
    };
    let looks = settled.listing.entries().iter().filter_map(|entry| {
        let what = match &entry.node {
            Node::File { content, size, .. } => Seen::File { at: yard.store.pool.path(*content), size: *size },
            Node::Symlink { target } => Seen::Link(target.to_string()),
            Node::EmptyFolder => return None,
        };
        Some(Look { path: entry.path.to_string(), what })
    });
    let looks: Vec<Look> = looks.collect();
    let looking = Looking::new(&places);
    let found = looking.look(&looks, ctx)?;
    let (files, bytes) = totals(&looks);
    let edits = looking.edits(&settled.state.edits, &found);
    let state = State { profile: looking.profile(&settled.state.profile), edits, ..settled.state.clone() };
    let profile = state.profile != settled.state.profile;
    let draft = looking.draft(&settled, &found)?;
    protection::check_protected(yard, &row, &settled.listing, &draft, &state)?;
    let planned = PlannedChange::new(row, settled, state, draft, What::Mended);
    Ok(Plan { name: name.clone(), places, found, files, bytes, profile, planned })
}

/// Rewrites what a plan found, as far as it is not only reported.
///
/// When it returns, the change has survived a power loss. A crash is finished by the next opening of the yard.
///
/// # Errors
/// As [`restore::apply`](crate::restore::apply).
pub fn apply(yard: &Yard, plan: &Plan, ctx: &Ctx) -> Result<Outcome> {
    let began = Instant::now();
    let AppliedChange { number, before, .. } = planned::apply_planned(yard, &plan.planned, ctx)?;
    Ok(Outcome {
        name: plan.name.clone(),
        rewritten: rewritten(&plan.found).len() as u64,
        number,
        before,
        took: began.elapsed(),
    })
}

/// As [`plan`], in a folder outside the yard: for what the twin of that name is, or for the named folder.
///
/// # Errors
/// As [`plan`]; [`IntakeError::NotAFolder`], [`IntakeError::InsideYard`],
/// [`IntakeError::AroundYard`].
pub fn plan_folder(
    yard: &Yard,
    folder: &Path,
    name: Option<&TwinName>,
    named: Option<(&Path, &Path)>,
    ctx: &Ctx,
) -> Result<FolderPlan> {
    let folder = intake::check_source(yard, folder)?;
    let places = match (named, name) {
        (Some(named), _) => vec![named_place(named)?],
        (None, Some(name)) => {
            let (row, settled) = planned::see(yard, &yard.twin_row(name, false)?, ctx)?;
            places_of(yard, &row, &settled.state)?
        }
        (None, None) => Vec::new(),
    };
    let prefix = RelPath::new("game")?;
    let (seen, passed_over) = walk(&folder, &prefix, Manner::Lenient, ctx)?;
    let looks = seen.into_iter().filter_map(|seen| {
        let path = seen.path.as_str().strip_prefix("game/").unwrap_or_default().to_owned();
        let what = match seen.kind {
            Kind::File => Seen::File { at: folder.join(&path), size: seen.stat.size },
            Kind::Symlink(target) => Seen::Link(target.into()),
            Kind::EmptyFolder => return None,
        };
        Some(Look { path, what })
    });
    let looks: Vec<Look> = looks.collect();
    let found = Looking::new(&places).look(&looks, ctx)?;
    let (files, bytes) = totals(&looks);
    Ok(FolderPlan { folder, places, found, files, bytes, passed_over })
}

/// Rewrites what a plan found in a folder outside the yard. First all of the files are copied into the yard, below
/// `kept/`, and the new ones written beside them; then each takes its place at once.
///
/// # Errors
/// [`IntakeError::Changed`] if a file is not as it was read, or names no such place any more: nothing is replaced then.
/// [`Error::Io`], where files that were not reached yet are as they were; what was there is kept in any case.
pub fn apply_folder(yard: &Yard, plan: &FolderPlan, ctx: &Ctx) -> Result<FolderOutcome> {
    let looking = Looking::new(&plan.places);
    let kept = free_kept(yard, &plan.folder)?;
    let mut staged: Vec<(PathBuf, PathBuf)> = Vec::new();
    let mut stats = Vec::new();
    let done = rewritten(&plan.found).into_iter().try_for_each(|path| {
        ctx.check()?;
        let at = plan.folder.join(path);
        let new = free_beside(&at);
        staged.push((new.clone(), at.clone()));
        stats.push(looking.stage(&at, &new, &kept.join(path))?);
        Ok(())
    });
    // A file that changed since it was read must not be replaced.
    let done = done.and_then(|()| {
        staged.iter().zip(&stats).try_for_each(|((_, at), seen)| match disk::lstat(at) {
            Ok(now) if now.same_bytes(seen) => Ok(()),
            _ => Err(IntakeError::Changed(at.clone()).into()),
        })
    });
    if let Err(error) = done {
        staged.iter().try_for_each(|(new, _)| disk::remove_if_there(new))?;
        return Err(error);
    }
    staged.iter().try_for_each(|(new, at)| disk::rename(new, at))?;
    Ok(FolderOutcome { rewritten: staged.len() as u64, kept })
}

/// A free folder below `kept/` for what a folder held.
fn free_kept(yard: &Yard, folder: &Path) -> Result<PathBuf> {
    let name = folder.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let all = yard.root().join("kept");
    let free = (1u64..).map(|number| all.join(format!("{name} {number}"))).find(|path| !disk::exists(path));
    let free = free.unwrap_or_else(|| all.join(name));
    disk::make_folders(&free)?;
    Ok(free)
}

/// The places that a twin's files should not name.
pub(crate) fn places_of(yard: &Yard, row: &TwinRow, state: &State) -> Result<Vec<Place>> {
    let here = yard.folder_of(row).to_string_lossy().into_owned();
    let root = yard.root().to_string_lossy().into_owned();
    let mut folders = yard.catalog.former_folders(row.id)?;
    folders.push(row.folder.clone());
    let twins: Vec<TwinRow> = yard.catalog.twins()?;
    let others = || twins.iter().filter(|twin| twin.removed_at.is_none() && twin.id != row.id);
    let mut places: Vec<Place> = Vec::new();
    let mut add = |from: String, to: Option<String>, what: PlaceKind| {
        if from != here && !places.iter().any(|place| place.from == from) {
            places.push(Place { from, to, what });
        }
    };
    let origin = match row.origin.parse() {
        Ok(Source::Twin(name)) => Some(name),
        _ => None,
    };
    let mut roots = yard.catalog.roots(&root)?;
    roots.push(root.clone());
    for at in &roots {
        for folder in &folders {
            // Where another twin is now, it is that one which is named.
            let taken = *at == root && others().any(|twin| twin.folder == *folder);
            if !taken {
                add(format!("{at}/twins/{folder}"), Some(here.clone()), PlaceKind::Former);
            }
        }
    }
    if let Some(name) = &origin {
        let folder = others().find(|twin| twin.name == *name).map_or(name.to_string(), |twin| twin.folder.clone());
        for at in &roots {
            add(format!("{at}/twins/{folder}"), Some(here.clone()), PlaceKind::Origin);
        }
    }
    let source = yard.stock_row(&state.build, true)?.source;
    if Path::new(&source).is_absolute() && !Path::new(&source).starts_with(yard.root()) {
        add(source, Some(format!("{here}/game")), PlaceKind::Installed);
    }
    for twin in others() {
        add(yard.folder_of(twin).to_string_lossy().into_owned(), None, PlaceKind::OtherTwin);
    }
    Ok(places)
}

/// Files and symlinks of a new twin that name the one which it was cloned from: as many as a look at what the player
/// has of their own shows.
pub(super) fn names_origin(
    yard: &Yard,
    listing: &Listing,
    laid: Option<ListingId>,
    origin: &Path,
    ctx: &Ctx,
) -> Result<Vec<RelPath>> {
    let (Some(laid), Some(origin)) = (laid, origin.to_str()) else { return Ok(Vec::new()) };
    naming(yard, &yard.store.listing(laid)?, listing, &[origin.to_owned()], ctx)
}

/// Those files and symlinks that come or change from one listing to another, and name the folder of another twin.
pub(crate) fn names_others(
    yard: &Yard,
    row: &TwinRow,
    (there, next): (&Listing, &Listing),
    ctx: &Ctx,
) -> Result<Vec<RelPath>> {
    let others = yard.catalog.twins()?.into_iter().filter(|other| other.id != row.id && other.removed_at.is_none());
    let folders: Vec<String> = others.filter_map(|other| yard.folder_of(&other).to_str().map(str::to_owned)).collect();
    if folders.is_empty() { Ok(Vec::new()) } else { naming(yard, there, next, &folders, ctx) }
}

/// What comes or changes from one listing to another, and names one of the folders.
fn naming(yard: &Yard, before: &Listing, listing: &Listing, folders: &[String], ctx: &Ctx) -> Result<Vec<RelPath>> {
    let repather = Repather::new(folders.iter().map(|folder| (folder.as_str(), "")));
    let own = diff(before, listing).filter_map(|change| match change {
        Change::New(entry) | Change::Changed { after: entry, .. } => Some(entry),
        Change::Gone(_) => None,
    });
    let own: Vec<&Entry> = own.collect();
    // Hundreds of libraries are read by their heads alone.
    let in_masses: HashSet<&RelPath> =
        masses(own.clone(), |entry| &entry.path).0.into_iter().map(|entry| &entry.path).collect();
    let names = |entry: &&Entry| match &entry.node {
        Node::File { content, .. } if in_masses.contains(&entry.path) && !begins_as_text(yard, *content) => false,
        Node::File { content, size, .. } if *size <= TEXT_MAX => {
            // An unreadable content is reported by a check.
            let bytes = vouch::bytes_of(yard, *content).unwrap_or_default();
            repather.hits(&bytes).next().is_some()
        }
        Node::Symlink { target } => repather.hits(target.as_bytes()).next().is_some(),
        _ => false,
    };
    let named = Mutex::new(Vec::new());
    parallel::for_each(
        &own,
        ctx.threads(),
        || (),
        |(), entry| {
            ctx.check()?;
            if names(entry) {
                lock(&named).push(entry.path.clone());
            }
            Ok(())
        },
    )?;
    let mut named = parallel::into_inner(named);
    named.sort_unstable();
    Ok(named)
}

/// Whether a content of the pool is a text as far as its first bytes tell.
fn begins_as_text(yard: &Yard, content: ContentId) -> bool {
    let mut head = [0; 4096];
    let opened = disk::open_file(CWD, yard.store.pool.path(content));
    opened.and_then(|mut file| file.read(&mut head)).is_ok_and(|read| is_text(&head[..read]))
}

/// A free name for a file beside another one.
fn free_beside(at: &Path) -> PathBuf {
    let name = at.file_name().unwrap_or_default().to_string_lossy();
    let numbered = (2u64..).map(|number| format!(".{name}.new{number}"));
    let names = std::iter::once(format!(".{name}.new")).chain(numbered);
    names.map(|name| at.with_file_name(name)).find(|path| !disk::exists(path)).unwrap_or_default()
}

fn named_place((from, to): (&Path, &Path)) -> Result<Place> {
    let text = |path: &Path| match path.to_str() {
        Some(text) if path.is_absolute() && text.len() > 1 => Ok(text.trim_end_matches('/').to_owned()),
        _ => {
            let (name, why) = (path.display().to_string(), "it is no absolute path");
            Err(Error::Name { what: Noun::FolderToFind, name, why })
        }
    };
    Ok(Place { from: text(from)?, to: Some(text(to)?), what: PlaceKind::Named })
}

fn totals(looks: &[Look]) -> (u64, u64) {
    looks.iter().fold((0, 0), |(files, bytes), look| match look.what {
        Seen::File { size, .. } => (files + 1, bytes + size),
        Seen::Link(_) => (files, bytes),
    })
}
