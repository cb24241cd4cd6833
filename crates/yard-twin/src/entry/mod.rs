//! Launch entries: what stands in a menu and starts exactly one twin.

mod desktop;

use std::path::{Path, PathBuf};

use jiff::Timestamp;
use serde::Serialize;

use crate::Yard;
use crate::catalog::{EntryRow, TwinRow};
use crate::disk;
use crate::error::{Error, LaunchError, PathContext, Result};
use crate::ident::{TwinId, TwinName};

/// How a launch entry is written.
#[derive(Clone, Debug)]
pub struct EntryOptions {
    /// The command that starts a twin when the twin's id is added as its last argument; the program by its full path.
    pub command: Vec<String>,
    /// The folder that the entry goes into, such as the user's `applications` folder.
    pub folder: PathBuf,
}

/// What a launch entry will be.
#[must_use = "a plan writes nothing until it is applied"]
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct EntryPlan {
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
pub struct EntrySummary {
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
pub struct RemoveEntriesPlan {
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

impl Yard {
    /// Works out the launch entry of a twin: named for title, build and twin, and told apart from any entry in the folder
    /// that would look the same.
    ///
    /// # Errors
    /// [`Error::NotFound`]; [`LaunchError::Entry`] where the format can't hold the command.
    pub fn plan_entry(&self, name: &TwinName, options: &EntryOptions) -> Result<EntryPlan> {
        let row = self.twin_row(name, false)?;
        let folder = std::path::absolute(&options.folder).at("find", &options.folder)?;
        let path = folder.join(format!("yardtwin-{}.desktop", row.id));
        if path.to_str().is_none() {
            return Err(LaunchError::Entry { path, why: "its path is not UTF-8" }.into());
        }
        let label = self.entry_label(&row.name, &row, &folder, &path)?;
        let mut command = options.command.clone();
        command.push(row.id.to_string());
        let text = desktop::text(&label, &row.name, row.id, &command);
        Ok(EntryPlan { twin: row.name, id: row.id, name: label, path, text })
    }

    /// Writes the launch entry as a whole; one of the same twin in the same folder is replaced.
    ///
    /// # Errors
    /// [`Error::Io`].
    pub fn apply_entry(&self, plan: &EntryPlan) -> Result<()> {
        if let Some(folder) = plan.path.parent() {
            disk::make_folders(folder)?;
        }
        // Beside it, since menus may lie on another filesystem; the ending is none that menus read.
        disk::write_whole(&plan.path, &plan.path.with_extension("new"), plan.text.as_bytes())?;
        let row = EntryRow { path: plan.path.clone(), twin: plan.id, name: plan.name.clone() };
        self.catalog.add_entry(&row, Timestamp::now())
    }

    /// The launch entries that were written.
    ///
    /// # Errors
    /// [`Error::Catalogue`].
    pub fn entries(&self) -> Result<Vec<EntrySummary>> {
        let mut entries = Vec::new();
        for row in self.catalog.entries()? {
            if let Some(twin) = self.catalog.twin(row.twin)? {
                entries.push(EntrySummary {
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
    pub fn plan_remove_entries(&self, name: &TwinName) -> Result<RemoveEntriesPlan> {
        let row = self.twin_row(name, false)?;
        let paths: Vec<_> =
            self.catalog.entries()?.into_iter().filter(|entry| entry.twin == row.id).map(|entry| entry.path).collect();
        if paths.is_empty() {
            return Err(Error::NotFound { what: "launch entry of", name: name.to_string(), known: Vec::new() });
        }
        Ok(RemoveEntriesPlan { twin: row.name, paths })
    }

    /// Deletes launch entries of a twin.
    ///
    /// # Errors
    /// [`Error::Io`].
    pub fn apply_remove_entries(&self, plan: &RemoveEntriesPlan) -> Result<()> {
        plan.paths.iter().try_for_each(|path| self.delete_entry(path))
    }

    /// Makes the launch entries of a twin show its new name, and says which; with `dry_run`, only says which. What they
    /// start stays. One whose file is gone, or is not ours any more, is left alone.
    pub(crate) fn rename_entries(&self, row: &TwinRow, new: &TwinName, dry_run: bool) -> Result<Vec<PathBuf>> {
        let mut renamed = Vec::new();
        for entry in self.catalog.entries()?.into_iter().filter(|entry| entry.twin == row.id) {
            let Ok(text) = crate::disk::read_own(&entry.path, crate::disk::TEXT) else { continue };
            let text = String::from_utf8_lossy(&text);
            let folder = entry.path.parent().unwrap_or(Path::new("/"));
            let label = self.entry_label(new, row, folder, &entry.path)?;
            let Some(text) = desktop::relabelled(&text, &label, new, row.id) else { continue };
            if !dry_run {
                disk::write_whole(&entry.path, &entry.path.with_extension("new"), text.as_bytes())?;
                self.catalog.add_entry(&EntryRow { name: label, ..entry.clone() }, Timestamp::now())?;
            }
            renamed.push(entry.path);
        }
        Ok(renamed)
    }

    /// What a menu shows for a twin, told apart from the other entries in the folder.
    fn entry_label(&self, name: &TwinName, row: &TwinRow, folder: &Path, path: &Path) -> Result<String> {
        let build = self.store.state(row.state)?.build;
        let plain = format!("{} {} \u{2013} {name}", self.title_name(&build), build.build);
        let yard = self.root().file_name().unwrap_or_default().to_string_lossy();
        let candidates = [plain.clone(), format!("{plain} ({yard})"), format!("{plain} ({yard}, {})", row.id)];
        let taken = desktop::names_in(folder, path)?;
        Ok(candidates.into_iter().find(|name| !taken.contains(name)).unwrap_or(plain))
    }

    /// Deletes a launch entry; one that is gone already is only forgotten.
    pub(crate) fn delete_entry(&self, path: &Path) -> Result<()> {
        if disk::exists(path) {
            disk::remove_file(path)?;
        }
        self.catalog.remove_entry(path)
    }
}
