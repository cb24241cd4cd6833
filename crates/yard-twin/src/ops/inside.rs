//! Cloning a folder inside one twin under another name: a version that is kept twice.
//!
//! ```
//! use yard_twin::inside;
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
//! let plan = inside::plan(&yard, &"main".parse()?, "game/boards/plain", "mine", &ctx)?;
//! inside::apply(&yard, &plan, &ctx)?;
//! assert!(game("main").join("boards/mine/board.txt").is_file());
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

use serde::Serialize;

use crate::Yard;
use crate::catalog::What;
use crate::combine::{new_places, rename};
use crate::error::{Error, Noun, Result};
use crate::ident::TwinName;
use crate::path::RelPath;
use crate::progress::Ctx;
use crate::sheet::RenameRule;
use crate::twin::names;
use crate::twin::planned;
use crate::twin::planned::{AppliedChange, PlannedChange};
use crate::twin::private::private_files;
use crate::twin::protection;

/// What cloning a folder inside a twin will do.
#[must_use = "a plan changes nothing until it is applied"]
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Plan {
    /// The twin.
    pub name: TwinName,
    /// The folder that is cloned.
    pub folder: RelPath,
    /// Each file that is there twice then: from where, and where to.
    pub copied: Vec<(RelPath, RelPath)>,
    /// The new files in which the name is changed.
    pub changed: Vec<RelPath>,
    #[serde(skip)]
    planned: PlannedChange,
}

/// What cloning a folder inside a twin did.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Outcome {
    /// The twin.
    pub name: TwinName,
    /// How many files were copied.
    pub copied: u64,
    /// The number of the change in the history.
    pub number: Option<u32>,
    /// The number of the state before it, which is the way back.
    pub before: u32,
}

/// Looks at what cloning a folder inside a twin under a new name would do: the folder is copied, files and folders in it
/// whose names hold its name get the new one, and so do the places that the title sheet's rename rules name. What is
/// new in it is stored, and written down when the plan is applied.
///
/// # Errors
/// [`Error::NotFound`] for the twin or the folder, [`Error::Exists`] if there is something of that name,
/// [`crate::TwinError::Protected`], [`Error::Busy`] while it runs.
pub fn plan(yard: &Yard, name: &TwinName, folder: &str, new: &str, ctx: &Ctx) -> Result<Plan> {
    let (row, settled) = planned::see(yard, &yard.twin_row(name, false)?, ctx)?;
    let listing = &settled.listing;
    let whole = if folder.starts_with("game/") || folder.starts_with("home/") {
        folder.trim_end_matches('/').to_owned()
    } else {
        format!("game/{}", folder.trim_end_matches('/'))
    };
    let folder = RelPath::new(&whole)?;
    let (Some(parent), old) = (folder.parent(), folder.name()) else {
        return Err(Error::Path { path: whole, why: "it is no folder below game/ or home/" });
    };
    if !listing.has(folder.as_str()) {
        return Err(Error::NotFound { what: Noun::FolderInTwin, name: whole, known: Vec::new() });
    }
    let to = RelPath::new(parent)?.join(new)?;
    if listing.has(to.as_str()) {
        return Err(Error::Exists { what: Noun::Folder, name: to.to_string(), existing: to.to_string() });
    }
    let sheet = yard.sheet_of(&settled.state.build)?;
    let private = private_files(listing, &settled.rows, sheet.as_ref(), &settled.state);
    let rules = sheet.map(|sheet| sheet.rename).unwrap_or_default();
    let own = RenameRule { within: parent.into(), ..RenameRule::default() };
    let mut rules: Vec<RenameRule> =
        rules.into_iter().filter(|rule| folder.as_str().starts_with(&rule.within)).collect();
    // The folder's own name is one in any case; what else holds it, only a rule can know.
    rules.push(own);
    let renamed = rename(listing, &rules, (old, new), (true, Some(&folder)))?;
    protection::check_protected(yard, &row, listing, &renamed.draft, &settled.state)?;
    let (_, changed) = names::made(yard, renamed.draft.clone(), true, ctx)?;
    let copied = renamed.moved;
    let written = new_places(&copied, &settled.state.written);
    let state = settled.state.clone().with_written(written).with_private(new_places(&copied, &private));
    let planned =
        PlannedChange::new(row, settled, state, renamed.draft, What::ClonedInside { folder: folder.to_string() });
    Ok(Plan { name: name.clone(), folder, copied, changed, planned })
}

/// Clones the folder: staged as a whole, then put in place.
///
/// When it returns, the change has survived a power loss. A crash is finished by the next opening of the yard.
///
/// # Errors
/// As [`restore::apply`](crate::restore::apply).
pub fn apply(yard: &Yard, plan: &Plan, ctx: &Ctx) -> Result<Outcome> {
    let AppliedChange { number, before, .. } = planned::apply_planned(yard, &plan.planned, ctx)?;
    Ok(Outcome { name: plan.name.clone(), copied: plan.copied.len() as u64, number, before })
}
