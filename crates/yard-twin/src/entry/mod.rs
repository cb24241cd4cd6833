//! Launch entries: what stands in a menu and starts exactly one twin.
//!
//! ```
//! use yard_twin::entry;
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
//! let options = entry::Options {
//!     command: vec!["/usr/local/bin/a-window".into(), "--start".into()],
//!     folder: place.path().join("applications"),
//! };
//! entry::apply(&yard, &entry::plan(&yard, &"main".parse()?, &options)?)?;
//! assert_eq!(entry::list(&yard)?.len(), 1);
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

mod desktop;

use std::path::{Path, PathBuf};

use jiff::Timestamp;
use serde::Serialize;

use crate::Yard;
use crate::catalog::{EntryRow, TwinRow};
use crate::disk;
use crate::error::{Error, LaunchError, Noun, PathContext, Result};
use crate::ident::{TwinId, TwinName};

/// How a launch entry is written.
#[derive(Clone, Debug)]
pub struct Options {
    /// The command that starts a twin when the twin's id is added as its last argument; the program by its full path.
    pub command: Vec<String>,
    /// The folder that the entry goes into, such as the user's `applications` folder.
    pub folder: PathBuf,
}

/// What a launch entry will be.
#[must_use = "a plan writes nothing until it is applied"]
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Plan {
    /// The twin.
    pub twin: TwinName,
    /// Its id, by which the entry starts it.
    pub id: TwinId,
    /// What the menu shows.
    pub name: String,
    /// The file.
    pub path: PathBuf,
    /// What goes into it.
    pub text: String,
}

/// A launch entry that was written.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Summary {
    /// The twin by name.
    pub twin: TwinName,
    /// What the menu shows.
    pub name: String,
    /// The file.
    pub path: PathBuf,
    /// Whether the file is gone.
    pub missing: bool,
}

/// The launch entries of a twin that will be deleted.
#[must_use = "a plan changes nothing until it is applied"]
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct RemovePlan {
    /// The twin.
    pub twin: TwinName,
    /// Their files.
    pub paths: Vec<PathBuf>,
}

/// What is wrong with the launch entry of a twin, and whether the file is ours at all.
pub(crate) fn fault(path: &Path, twin: TwinId) -> Option<(String, bool)> {
    let text =
        match crate::disk::read_own(path, crate::disk::TEXT).map(|text| String::from_utf8_lossy(&text).into_owned()) {
            Ok(text) => text,
            Err(error) => return Some((format!("can't be read: {error}"), false)),
        };
    desktop::fault(&text, twin)
}

/// Works out the launch entry of a twin: named for title, build and twin, and told apart from any entry in the folder
/// that would look the same.
///
/// # Errors
/// [`Error::NotFound`]; [`LaunchError::Entry`] where the format can't hold the command.
pub fn plan(yard: &Yard, name: &TwinName, options: &Options) -> Result<Plan> {
    let row = yard.twin_row(name, false)?;
    let folder = std::path::absolute(&options.folder).at("find", &options.folder)?;
    let path = folder.join(format!("yardtwin-{}.desktop", row.id));
    if path.to_str().is_none() {
        return Err(LaunchError::Entry { path, why: "its path is not UTF-8" }.into());
    }
    let label = entry_label(yard, &row.name, &row, &folder, &path)?;
    let mut command = options.command.clone();
    command.push(row.id.to_string());
    let text = desktop::text(&label, &row.name, row.id, &command);
    Ok(Plan { twin: row.name, id: row.id, name: label, path, text })
}

/// Writes the launch entry as a whole; one of the same twin in the same folder is replaced.
///
/// # Errors
/// [`Error::Io`].
pub fn apply(yard: &Yard, plan: &Plan) -> Result<()> {
    if let Some(folder) = plan.path.parent() {
        disk::make_folders(folder)?;
    }
    // Beside it, since menus may lie on another filesystem; the ending is none that menus read.
    disk::write_whole(&plan.path, &plan.path.with_extension("new"), plan.text.as_bytes())?;
    let row = EntryRow { path: plan.path.clone(), twin: plan.id, name: plan.name.clone() };
    yard.catalog.add_entry(&row, Timestamp::now())
}

/// The launch entries that were written.
///
/// # Errors
/// [`Error::Catalogue`].
pub fn list(yard: &Yard) -> Result<Vec<Summary>> {
    let mut entries = Vec::new();
    for row in yard.catalog.entries()? {
        if let Some(twin) = yard.catalog.twin(row.twin)? {
            entries.push(Summary {
                twin: twin.name,
                name: row.name,
                missing: !disk::exists(&row.path),
                path: row.path,
            });
        }
    }
    Ok(entries)
}

/// Looks for the launch entries of a twin, which are to be deleted.
///
/// # Errors
/// [`Error::NotFound`] if the twin has none.
pub fn plan_remove(yard: &Yard, name: &TwinName) -> Result<RemovePlan> {
    let row = yard.twin_row(name, false)?;
    let paths: Vec<_> =
        yard.catalog.entries()?.into_iter().filter(|entry| entry.twin == row.id).map(|entry| entry.path).collect();
    if paths.is_empty() {
        return Err(Error::NotFound { what: Noun::EntryOf, name: name.to_string(), known: Vec::new() });
    }
    Ok(RemovePlan { twin: row.name, paths })
}

/// Deletes launch entries of a twin.
///
/// # Errors
/// [`Error::Io`].
pub fn apply_remove(yard: &Yard, plan: &RemovePlan) -> Result<()> {
    plan.paths.iter().try_for_each(|path| delete_entry(yard, path))
}

/// Makes the launch entries of a twin show its new name, and says which; with `dry_run`, only says which. What they
/// start stays. One whose file is gone, or is not ours any more, is left alone.
pub(crate) fn rename_entries(yard: &Yard, row: &TwinRow, new: &TwinName, dry_run: bool) -> Result<Vec<PathBuf>> {
    let mut renamed = Vec::new();
    for entry in yard.catalog.entries()?.into_iter().filter(|entry| entry.twin == row.id) {
        let Ok(text) = crate::disk::read_own(&entry.path, crate::disk::TEXT) else { continue };
        let text = String::from_utf8_lossy(&text);
        let folder = entry.path.parent().unwrap_or(Path::new("/"));
        let label = entry_label(yard, new, row, folder, &entry.path)?;
        let Some(text) = desktop::relabelled(&text, &label, new, row.id) else { continue };
        if !dry_run {
            disk::write_whole(&entry.path, &entry.path.with_extension("new"), text.as_bytes())?;
            yard.catalog.add_entry(&EntryRow { name: label, ..entry.clone() }, Timestamp::now())?;
        }
        renamed.push(entry.path);
    }
    Ok(renamed)
}

/// What a menu shows for a twin, told apart from the other entries in the folder.
fn entry_label(yard: &Yard, name: &TwinName, row: &TwinRow, folder: &Path, path: &Path) -> Result<String> {
    let build = yard.store.state(row.state)?.build;
    let plain = format!("{} {} \u{2013} {name}", yard.title_name(&build), build.build);
    let yard = yard.root().file_name().unwrap_or_default().to_string_lossy();
    let candidates = [plain.clone(), format!("{plain} ({yard})"), format!("{plain} ({yard}, {})", row.id)];
    let taken = desktop::names_in(folder, path)?;
    Ok(candidates.into_iter().find(|name| !taken.contains(name)).unwrap_or(plain))
}

/// Deletes a launch entry that goes with its twin, and keeps its text. What is not ours any more is only forgotten.
pub(crate) fn put_away(yard: &Yard, path: &Path, twin: TwinId) -> Result<()> {
    let text = crate::disk::read_own(path, crate::disk::TEXT).ok().and_then(|text| String::from_utf8(text).ok());
    match text.filter(|text| !matches!(desktop::fault(text, twin), Some((_, false)))) {
        Some(text) => {
            yard.catalog.keep_entry(path, &text)?;
            disk::remove_file(path)
        }
        None => yard.catalog.remove_entry(path),
    }
}

/// The launch entries that went with a twin, with their texts.
pub(crate) fn kept(yard: &Yard, twin: TwinId) -> Result<Vec<(EntryRow, String)>> {
    yard.catalog.kept_entries(twin)
}

/// Writes the launch entries of a twin again that went with it, and says which; not where something is by now that is not ours.
pub(crate) fn write_again(yard: &Yard, twin: TwinId, name: &TwinName) -> Result<Vec<PathBuf>> {
    let Some(row) = yard.catalog.twin(twin)? else { return Ok(Vec::new()) };
    let mut written = Vec::new();
    for (entry, text) in kept(yard, twin)? {
        let is_ours = !disk::exists(&entry.path) || !matches!(fault(&entry.path, twin), Some((_, false)));
        let Some(folder) = entry.path.parent().filter(|_| is_ours) else { continue };
        disk::make_folders(folder)?;
        let label = entry_label(yard, name, &row, folder, &entry.path)?;
        let text = desktop::relabelled(&text, &label, name, twin).unwrap_or(text);
        disk::write_whole(&entry.path, &entry.path.with_extension("new"), text.as_bytes())?;
        yard.catalog.add_entry(&EntryRow { name: label, ..entry.clone() }, Timestamp::now())?;
        written.push(entry.path);
    }
    Ok(written)
}

/// Deletes a launch entry; one that is gone already is only forgotten.
pub(crate) fn delete_entry(yard: &Yard, path: &Path) -> Result<()> {
    if disk::exists(path) {
        disk::remove_file(path)?;
    }
    yard.catalog.remove_entry(path)
}
