//! Putting title sheets into a yard.
//!
//! ```
//! use yard_twin::{Ctx, Yard, sheets};
//! # let place = tempfile::tempdir()?;
//! # let (yard, ctx) = (Yard::init(place.path().join("yard"))?, Ctx::new());
//! // A sheet to begin with, which says in comments what can stand in it.
//! let plan = sheets::plan_new(&yard, &"wexcombe".parse()?)?;
//! sheets::apply(&yard, &plan, &ctx)?;
//! assert_eq!(sheets::paths(&yard)?.len(), 1);
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

use std::fs;
use std::path::{Path, PathBuf};

use serde::Serialize;

use crate::Yard;
use crate::disk;
use crate::error::{Error, Noun, PathContext, Result};
use crate::ident::Title;
use crate::progress::Ctx;
use crate::sheet::{self, Sheet};

/// What putting a sheet into the yard will do.
#[must_use = "a plan changes nothing until it is applied"]
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Plan {
    /// The title.
    pub title: Title,
    /// Its title as people write it.
    pub name: String,
    /// Where the sheet will be.
    pub path: PathBuf,
    /// Where the one that is there now will be kept.
    pub keeps: Option<PathBuf>,
    #[serde(skip)]
    text: String,
}

/// The sheets of the yard, right or wrong, by title.
///
/// # Errors
/// [`Error::Io`].
pub fn paths(yard: &Yard) -> Result<Vec<PathBuf>> {
    let folder = yard.root().join("sheets");
    let mut paths = Vec::new();
    for entry in fs::read_dir(&folder).at("list", &folder)? {
        paths.push(entry.at("list", &folder)?.path());
    }
    paths.retain(|path| path.extension().is_some_and(|ending| ending == "toml"));
    paths.sort();
    Ok(paths)
}

/// Plans a commented sheet to start from.
///
/// # Errors
/// [`Error::Exists`] if the title has one.
pub fn plan_new(yard: &Yard, title: &Title) -> Result<Plan> {
    plan_sheet(yard, title.clone(), title.to_string(), sheet::new_sheet(title), false)
}

/// Checks a sheet that lies elsewhere, and plans to put it into the yard.
///
/// # Errors
/// [`crate::SheetError`] if it is wrong; [`Error::Exists`] if its title has one and `replace` is not set.
pub fn plan_add(yard: &Yard, file: &Path, replace: bool) -> Result<Plan> {
    let text = sheet::read_text(file)?;
    let sheet = Sheet::parse(&text, file)?;
    plan_sheet(yard, sheet.title, sheet.name, text, replace)
}

fn plan_sheet(yard: &Yard, title: Title, name: String, text: String, replace: bool) -> Result<Plan> {
    let path = yard.sheet_path(&title);
    let there = disk::exists(&path);
    if there && !replace {
        let name = title.to_string();
        return Err(Error::Exists { what: Noun::TitleSheet, existing: name.clone(), name });
    }
    Ok(Plan { keeps: there.then(|| path.with_extension("toml.old")), title, name, path, text })
}

/// Writes the sheet as a whole, after the one that it replaces was written aside. After a crash the old one is in place
/// or the new one.
///
/// # Errors
/// [`Error::Io`].
pub fn apply(yard: &Yard, plan: &Plan, ctx: &Ctx) -> Result<()> {
    let op = yard.begin(ctx)?;
    let _alone = yard.alone(ctx)?;
    let staged = op.path().join("sheet");
    if let Some(old) = &plan.keeps {
        disk::write_whole(old, &staged, &fs::read(&plan.path).at("read", &plan.path)?)?;
    }
    disk::write_whole(&plan.path, &staged, plan.text.as_bytes())
}
