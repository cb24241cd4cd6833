//! Renaming a twin, and moving its folder with all that names it.
//!
//! ```
//! use yard_twin::rename;
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
//! let plan = rename::plan(&yard, &"main".parse()?, &"old line".parse()?, true, &ctx)?;
//! let renamed = rename::apply(&yard, &plan, &ctx)?;
//! assert!(renamed.folder.ends_with("twins/old line"));
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

use std::path::{Path, PathBuf};

use serde::Serialize;

use crate::Yard;
use crate::catalog::{Intent, Mend, TwinRow, What};
use crate::combine::{Repather, realise, repathed};
use crate::disk;
use crate::entry;
use crate::error::{Error, Result, TwinError};
use crate::ident::TwinName;
use crate::listing::{Change, Layer, diff};
use crate::path::RelPath;
use crate::progress::Ctx;
use crate::store::state::State;
use crate::twin::Twin;
use crate::twin::derive::Deriver;
use crate::twin::names;
use crate::twin::protection;
use crate::yard::intents::renamed;

/// Larger files are no settings: they are not looked into for paths.
pub(super) const TEXT_MAX: u64 = 1 << 20;

/// What renaming a twin did, or would do.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Outcome {
    /// The name before.
    pub before: TwinName,
    /// The name now.
    pub name: TwinName,
    /// Its folder.
    pub folder: PathBuf,
    /// Where its folder was, if that was moved.
    pub moved_from: Option<PathBuf>,
    /// Files and symlinks that named the old folder by its absolute path, and name the new one now.
    pub mended: Vec<RelPath>,
    /// Launch entries that show the new name; they start the same twin.
    pub entries: Vec<PathBuf>,
}

/// What renaming a twin will do.
#[must_use = "a plan changes nothing until it is applied"]
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Plan {
    /// What comes of it.
    #[serde(flatten)]
    pub would: Outcome,
    #[serde(skip)]
    move_folder: bool,
}

/// What mending comes to.
struct PathMend {
    states: Option<Mend>,
    paths: Vec<RelPath>,
}

/// Looks at what giving a twin another name would do. Its folder, its id and what its launch entries start stay; with
/// `move_folder` the folder gets the new name too, and text files up to 1 MiB, symlinks and the profile that name the old
/// folder by its absolute path are mended: those that differ from what was laid, since nothing else can name it. That is
/// a change in the twin's history.
///
/// # Errors
/// [`Error::NotFound`], [`Error::Exists`], [`TwinError::FolderInTheWay`], [`Error::Busy`] while it runs,
/// [`TwinError::Protected`] if game files of a protected twin would have to be mended.
pub fn plan(yard: &Yard, name: &TwinName, new: &TwinName, move_folder: bool, ctx: &Ctx) -> Result<Plan> {
    Ok(Plan { would: rename(yard, name, new, move_folder, true, ctx)?, move_folder })
}

/// Gives a twin another name.
///
/// A crash leaves the twin with the old name, or with the new one and all mended.
///
/// # Errors
/// As [`plan`].
pub fn apply(yard: &Yard, plan: &Plan, ctx: &Ctx) -> Result<Outcome> {
    rename(yard, &plan.would.before, &plan.would.name, plan.move_folder, false, ctx)
}

fn rename(
    yard: &Yard,
    name: &TwinName,
    new: &TwinName,
    move_folder: bool,
    dry_run: bool,
    ctx: &Ctx,
) -> Result<Outcome> {
    let row = yard.twin_row(name, false)?;
    let mut twin = Twin::hold(yard, &row, ctx)?;
    let row = twin.row.clone();
    if name.key() != new.key() {
        names::check_free(yard, new)?;
    }
    let folder = twin.folder()?;
    let new_folder = if move_folder { folder_for(yard, new, &row)? } else { row.folder.clone() };
    let to = yard.twins_folder().join(&new_folder);
    let moves = to != folder;
    let path_mend = if moves {
        path_mend(&mut twin, [&folder, &to], dry_run, ctx)?
    } else {
        PathMend { states: None, paths: Vec::new() }
    };
    if !dry_run {
        rename_now(yard, &row, new, &new_folder, path_mend.states, ctx)?;
        twin.renew()?;
        if path_mend.states.is_some() {
            twin.finish_change(ctx)?;
        }
    }
    Ok(Outcome {
        before: row.name.clone(),
        name: new.clone(),
        folder: to,
        moved_from: moves.then_some(folder),
        mended: path_mend.paths,
        entries: entry::rename_entries(yard, &row, new, dry_run)?,
    })
}

fn rename_now(
    yard: &Yard,
    row: &TwinRow,
    new: &TwinName,
    new_folder: &str,
    mend: Option<Mend>,
    ctx: &Ctx,
) -> Result<()> {
    let _alone = yard.alone(ctx)?;
    if row.name.key() != new.key() {
        names::check_free(yard, new)?;
    }
    let intent = yard.catalog.intend(&Intent::Rename {
        twin: row.id,
        name: new.clone(),
        folder: row.folder.clone(),
        new_folder: new_folder.to_owned(),
        mend,
    })?;
    let (from, to) = (yard.folder_of(row), yard.twins_folder().join(new_folder));
    if from != to {
        if let Err(error) = disk::rename_new(&from, &to) {
            yard.catalog.intent_done(intent)?;
            return Err(Error::io("rename", from, error));
        }
        disk::sync_rename(&from, &to)?;
    }
    yard.catalog.together(|| renamed(yard, intent, row.id, new, new_folder, mend.as_ref()))
}

/// The folder that a twin gets with a new name: its own where that folds to the same.
fn folder_for(yard: &Yard, new: &TwinName, row: &TwinRow) -> Result<String> {
    if new.key() == crate::path::fold_key(&row.folder) {
        let path = yard.twins_folder().join(new.as_str());
        let taken = disk::exists(&path) && crate::yard::folder_id(&path)? != Some(row.id);
        return if taken { Err(TwinError::FolderInTheWay(path).into()) } else { Ok(new.to_string()) };
    }
    names::free_folder(yard, new)
}

/// What names the old folder, and the state in which it names the new one. Kept unless this is a dry run.
fn path_mend(twin: &mut Twin, [from, to]: [&Path; 2], dry_run: bool, ctx: &Ctx) -> Result<PathMend> {
    let settled = if dry_run { twin.see(ctx)? } else { twin.settle(What::Outside, ctx)? };
    let (yard, row) = (&twin.yard, &twin.row);
    // Where a path is no text, no text can name it.
    let (Some(from), Some(to)) = (from.to_str(), to.to_str()) else {
        return Ok(PathMend { states: None, paths: Vec::new() });
    };
    let pairs = [(from.to_owned(), to.to_owned())];
    let laid = yard.store.listing(settled.state.laid)?;
    let own = diff(&laid, &settled.listing).filter_map(|change| match change {
        Change::New(own) | Change::Changed { after: own, .. } => Some(own),
        Change::Gone(_) => None,
    });
    let draft = repathed(&settled.listing, own.filter(|own| own.node.size() <= TEXT_MAX), &pairs)?;
    drop(laid);
    let op = yard.begin(ctx)?;
    let deriver = Deriver::new(yard, &op, dry_run)?;
    let next = realise(draft, &deriver, ctx)?;
    let paths: Vec<RelPath> = diff(&settled.listing, &next).map(|change| change.path().clone()).collect();
    protection::check_protected(yard, row, &settled.listing, &next.clone().into(), &settled.state)?;
    let profile = Repather::of_pairs(&pairs).replaced_text(&settled.state.profile);
    let profile = profile.unwrap_or_else(|| settled.state.profile.clone());
    if dry_run || (paths.is_empty() && profile == settled.state.profile) {
        return Ok(PathMend { states: None, paths });
    }
    deriver.keep(ctx)?;
    let layer = Layer::between(&settled.listing, &next);
    let disk = yard.store.put_listing(&next, Some((settled.state.disk, &layer)), &op)?;
    let from = yard.store.put_state(&settled.state, &op)?;
    let rewriter = Repather::of_pairs(&pairs);
    let edits = settled.state.edits.iter().map(|edit| match paths.binary_search(&edit.file) {
        Ok(_) => edit.mapped(&|text| rewriter.replaced_text(text)),
        Err(_) => edit.clone(),
    });
    let to = State { disk, profile, edits: edits.collect(), ..settled.state.clone() };
    let to = yard.store.put_state(&to, &op)?;
    Ok(PathMend { states: Some(Mend { from, to }), paths })
}
