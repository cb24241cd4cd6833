//! Config edits: the profile says which values stand in which files, and this sees to it.
//!
//! ```
//! use yard_twin::{Edit, edits};
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
//! let edit = Edit {
//!     file: "panel.ini".into(),
//!     key: "video.width".into(),
//!     value: "2560".into(),
//!     format: None,
//!     encoding: None,
//!     enforce: false,
//! };
//! let plan = edits::plan(&yard, &"main".parse()?, &edits::Change::Set { edit, variant: None }, &ctx)?;
//! edits::apply(&yard, &plan, &ctx)?;
//! assert!(std::fs::read_to_string(game("main").join("cabin/panel.ini"))?.contains("width = 2560"));
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

pub(crate) mod profile;
mod syncing;

pub(crate) use syncing::{Again, Synced, moved, sync_edits};

pub use profile::{ProfileChange, ProfilePlan, ProfileView, apply_profile, plan_profile, profile};

use std::collections::BTreeSet;

use serde::Serialize;

use self::syncing::followed;

use crate::Yard;
use crate::catalog::{TwinRow, What};
use crate::combine::Draft;
use crate::edit::Edit;
use crate::error::{LaunchError, Noun, Result};
use crate::ident::TwinName;
use crate::listing::{Entry, Listing, Node};
use crate::path::RelPath;
use crate::profile::{Profile, ProfileText};
use crate::progress::Ctx;
use crate::sheet::Sheet;
use crate::store::state::State;
use crate::twin::Twin;
use crate::twin::mods;
use crate::twin::planned;
use crate::twin::planned::{AppliedChange, PlannedChange};
use crate::twin::protection;
use crate::twin::settle;
use crate::twin::settle::Settled;

/// A change of a twin's config edits, by a change of its profile.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Change {
    /// Sets an edit, in a variant or in the profile itself. Its file may be named by the end of its path.
    Set {
        /// The edit.
        edit: Edit,
        /// The variant that it belongs to.
        variant: Option<String>,
    },
    /// Takes an edit out, and gives back what was there.
    Unset {
        /// Its file, as above.
        file: String,
        /// Its place.
        key: String,
        /// The variant that it belongs to.
        variant: Option<String>,
    },
    /// Sets all edits again whose values somebody has changed, and those that waited for their files.
    Apply,
    /// Puts a variant in use, or none.
    Use(Option<String>),
    /// Takes parts of another twin's profile over, in place of what is here.
    Copy {
        /// That twin.
        from: TwinName,
        /// `program`, `arguments`, `environment`, `edits`, `variants` and whatever else a profile has; all but the note if
        /// none is named.
        parts: Vec<String>,
    },
}

/// What becomes of one edit.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct View {
    /// Its file.
    pub file: String,
    /// Its place.
    pub key: String,
    /// The value that it wants; `None` for one that is taken back.
    pub value: Option<String>,
    /// The value that is there; `None` where there is none.
    pub there: Option<String>,
    /// Where the place is not in the file yet, places in it that are spelt much like it.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub like: Vec<String>,
    /// What is done.
    pub does: Does,
    /// Why nothing can be done in its file, if that is so.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
    /// Whether it is set again at each launch.
    pub enforce: bool,
}

/// What is done about an edit.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Does {
    /// Its value is set.
    Set,
    /// Its value is there already.
    Nothing,
    /// Its file is not there yet: it waits.
    Waits,
    /// Somebody has set another value since, and that stays until edits are applied.
    Drifted,
    /// What was there before comes back.
    GivesBack,
    /// It is wanted no more, but somebody has set another value since, and that stays.
    Leaves,
    /// Its file is not what it should be: it stays as it is, and waits until somebody has mended it.
    Broken,
}

/// What a change of the edits will do.
#[must_use = "a plan changes nothing until it is applied"]
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Plan {
    /// The twin.
    pub name: TwinName,
    /// Each edit of the profile as it is in use then, and those that are taken back.
    pub edits: Vec<View>,
    /// The parts of a profile that are copied.
    pub copied: Vec<&'static str>,
    #[serde(skip)]
    planned: PlannedChange,
}

/// What a change of the edits did.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Outcome {
    /// The twin.
    pub name: TwinName,
    /// Each edit, as in the plan.
    pub edits: Vec<View>,
    /// The number of the change in the history; `None` if nothing had to be changed.
    pub number: Option<u32>,
    /// The number of the state before it, which is the way back.
    pub before: u32,
    /// Paths that others wrote to meanwhile: what they held is in the history.
    pub late: Vec<String>,
}

/// The parts of a profile that can be copied one by one.
const PARTS: [&str; 13] = [
    "program",
    "arguments",
    "isolation",
    "network",
    "yard",
    "wrapper",
    "before",
    "after",
    "environment",
    "edits",
    "variants",
    "variant",
    "note",
];

/// Looks at what a change of a twin's config edits would do.
///
/// # Errors
/// [`LaunchError::Edit`] if a file is not of the format that it should be, is no text, or the value can't stand there;
/// [`LaunchError::EditFile`], [`LaunchError::Setting`], [`LaunchError::Profile`],
/// [`crate::TwinError::Protected`] if a game file of a protected twin would change, [`crate::Error::Busy`] while it runs.
pub fn plan(yard: &Yard, name: &TwinName, change: &Change, ctx: &Ctx) -> Result<Plan> {
    let (row, settled) = planned::see(yard, &yard.twin_row(name, false)?, ctx)?;
    let path = yard.folder_of(&row).join("profile.toml");
    let sheet = yard.sheet_of(&settled.state.build)?;
    let mut text = ProfileText::parse(&settled.state.profile, &path)?;
    let (mut copied, mut named) = (Vec::new(), None);
    match change {
        Change::Set { edit, variant } => {
            let file = resolve(&edit.file, &settled.listing, sheet.as_ref())?;
            leads_somewhere(&file, &settled.listing)?;
            let format = edit.format.or_else(|| sheet.as_ref()?.format_of(&followed(&settled.listing, &file)));
            let edit = Edit { file: file.to_string(), format, ..edit.clone() };
            if edit.format().is_none() {
                let why = "its ending says no format: name one (ini, lines, properties, json, toml, xml)".into();
                return Err(LaunchError::EditFile { name: edit.file, why }.into());
            }
            text.set_edit(variant.as_deref(), &edit)?;
            named = Some((edit.file, edit.key));
        }
        Change::Unset { file, key, variant } => {
            let known = Profile::parse(&settled.state.profile, &path)?;
            let file = match known_edit(&known, file, key, variant.as_deref()) {
                Some(file) => file,
                None => resolve(file, &settled.listing, sheet.as_ref())?.to_string(),
            };
            if !text.unset_edit(variant.as_deref(), &file, key)? {
                let why = format!("there is no such edit of {file}");
                return Err(LaunchError::Setting { key: key.clone(), what: "unset", why }.into());
            }
        }
        Change::Apply => {}
        Change::Use(variant) => text.use_variant(variant.as_deref()),
        Change::Copy { from, parts } => copied = copy_parts(yard, &row, from, parts, &mut text)?,
    }
    let next = text.text();
    let profile = Profile::parse(&next, &path)
        .map_err(|error| match change {
            Change::Use(Some(variant)) => unknown_variant(&settled.state.profile, &path, variant).unwrap_or(error),
            _ => error,
        })?
        .in_use()?;
    let again = match change {
        Change::Apply => Again::All,
        Change::Set { .. } => named.map_or(Again::None, |(file, key)| Again::Named(file, key)),
        _ => Again::None,
    };
    let wanted = mods::wanted_edits(yard, &settled.state, profile.edits)?;
    let synced = sync_edits(yard, &settled.listing, &settled.state.edits, &wanted, &again)?;
    let views = synced.views.clone();
    let planned = planned(row, settled, next, synced);
    protection::check_protected(yard, &planned.seen.row, &planned.seen.there, &planned.draft, &planned.to)?;
    Ok(Plan { name: name.clone(), edits: views, copied, planned })
}

/// Changes profile and files together: what differs is staged, then published file by file. All else in the files stays
/// byte for byte as it is.
///
/// When it returns, the change has survived a power loss. A crash is finished by the next opening of the yard.
///
/// # Errors
/// As [`restore::apply`](crate::restore::apply).
pub fn apply(yard: &Yard, plan: &Plan, ctx: &Ctx) -> Result<Outcome> {
    let AppliedChange { number, before, late, .. } = planned::apply_planned(yard, &plan.planned, ctx)?;
    Ok(Outcome { name: plan.name.clone(), edits: plan.edits.clone(), number, before, late })
}

/// The edits of a twin's profile as it is in use, and what is in their files. The twin is settled first.
///
/// # Errors
/// As [`plan`].
pub fn list(yard: &Yard, name: &TwinName, ctx: &Ctx) -> Result<Vec<View>> {
    let (row, settled) = planned::see(yard, &yard.twin_row(name, false)?, ctx)?;
    let path = yard.folder_of(&row).join("profile.toml");
    let profile = Profile::parse(&settled.state.profile, &path)?.in_use()?;
    let wanted = mods::wanted_edits(yard, &settled.state, profile.edits)?;
    Ok(sync_edits(yard, &settled.listing, &settled.state.edits, &wanted, &Again::None)?.views)
}

/// Sees to a twin's edits before or after a run: those that are due are set, those that are wanted no more are taken
/// back. Gives what was done, where anything was.
pub(crate) fn edit_for_run(twin: &mut Twin, profile: &Profile, ctx: &Ctx) -> Result<Option<Vec<View>>> {
    let state = twin.yard.store.state(twin.row.state)?;
    // A mod that can't be read is reported by a check, and keeps nobody from playing.
    let wanted = crate::Error::pass_over(mods::wanted_edits(&twin.yard, &state, profile.edits.clone()))?;
    let Some(wanted) = wanted else { return Ok(None) };
    if wanted.is_empty() && state.edits.is_empty() {
        return Ok(None);
    }
    let settled = twin.settle(What::Outside, ctx)?;
    let synced = sync_edits(&twin.yard, &settled.listing, &settled.state.edits, &wanted, &Again::Enforced)?;
    let views = synced.views.clone();
    let text = settled.state.profile.clone();
    let planned = planned(twin.row.clone(), settled, text, synced);
    twin.apply(&planned, ctx)?;
    Ok(Some(views))
}

fn copy_parts(
    yard: &Yard,
    row: &TwinRow,
    from: &TwinName,
    parts: &[String],
    text: &mut ProfileText,
) -> Result<Vec<&'static str>> {
    let source = yard.twin_row(from, false)?;
    if source.id == row.id {
        return Err(crate::CarryError::SameTwin(from.to_string()).into());
    }
    let known = |part: &String| {
        PARTS.into_iter().find(|known| known == part).ok_or_else(|| crate::Error::NotFound {
            what: Noun::ProfilePart,
            name: part.clone(),
            known: PARTS.iter().map(|&part| part.to_owned()).collect(),
        })
    };
    let mut parts: Vec<&str> = parts.iter().map(known).collect::<Result<_>>()?;
    if parts.is_empty() {
        parts = PARTS.into_iter().filter(|part| *part != "note").collect();
    }
    // The one that is in use is one of them.
    if parts.contains(&"variants") && !parts.contains(&"variant") {
        parts.push("variant");
    }
    let path = settle::present_folder(yard, &source)?.join("profile.toml");
    let other = ProfileText::parse(&crate::profile::text(&path)?, &path)?;
    Ok(text.copy(&other, &parts))
}

/// The file of an edit in a profile, which may be named by the end of its path.
fn known_edit(profile: &Profile, file: &str, key: &str, variant: Option<&str>) -> Option<String> {
    let edits = match variant {
        None => &profile.edits,
        Some(name) => &profile.variants.get(name)?.edits,
    };
    let mut found = edits.iter().filter(|edit| edit.key == key && ends_with(&edit.file, file));
    found.next().filter(|_| found.next().is_none()).map(|edit| edit.file.clone())
}

fn ends_with(path: &str, end: &str) -> bool {
    path.strip_suffix(end).is_some_and(|rest| rest.is_empty() || rest.ends_with('/'))
}

fn unknown_variant(text: &str, path: &std::path::Path, variant: &str) -> Option<crate::Error> {
    Profile::parse(text, path).ok()?.with_variant(Some(variant)).err()
}

/// An error if a config file is a symlink that leads out of the twin, or nowhere.
fn leads_somewhere(file: &RelPath, listing: &Listing) -> Result<()> {
    let end = followed(listing, file);
    match listing.get(end.as_str()).map(|entry| &entry.node) {
        Some(Node::Symlink { target }) => {
            let why = format!("{end} is a symlink that leads out of the twin, or nowhere: to {target}");
            Err(LaunchError::EditFile { name: file.to_string(), why }.into())
        }
        _ => Ok(()),
    }
}

fn planned(row: TwinRow, settled: Settled, profile: String, synced: Synced) -> PlannedChange {
    // Programs write their settings in place.
    let files: Vec<RelPath> = synced.applied.iter().map(|applied| applied.file.clone()).collect();
    let state = State { profile, edits: synced.applied, ..settled.state.clone() }.with_written(files);
    let draft = Draft { base: settled.listing.clone(), derived: synced.derived };
    PlannedChange::new(row, settled, state, draft, What::Edited)
}

/// The file that is meant: by its whole path, or by the end of one, where just one file has that.
fn resolve(name: &str, listing: &Listing, sheet: Option<&Sheet>) -> Result<RelPath> {
    let refuse = |why: String| Err(LaunchError::EditFile { name: name.into(), why }.into());
    if name.starts_with("game/") || name.starts_with("home/") {
        return RelPath::new(name);
    }
    let is_file = |path: &RelPath| matches!(listing.get(path.as_str()), Some(Entry { node: Node::File { .. }, .. }));
    let named = listing.entries().iter().map(|entry| &entry.path).filter(|path| ends_with(path.as_str(), name));
    let files = named.map(|path| (path, followed(listing, path))).filter(|(_, file)| is_file(file));
    // Of a file and the symlinks to it, one is enough.
    let mut found: Vec<(&RelPath, RelPath)> = files.collect();
    found.sort_by_key(|(path, file)| *path != file);
    let mut seen = BTreeSet::new();
    found.retain(|(_, file)| seen.insert(file.clone()));
    found.sort_unstable();
    let found: Vec<&RelPath> = found.into_iter().map(|(path, _)| path).collect();
    let own = |path: &&&RelPath| sheet.is_some_and(|sheet| sheet.group_of(path).is_some());
    let mut belongings = found.iter().filter(own);
    let only = belongings.next().filter(|_| belongings.next().is_none());
    match (found.as_slice(), only) {
        ([one], _) => Ok((*one).clone()),
        (_, Some(one)) => Ok((*one).clone()),
        ([], _) => {
            refuse("no file of the twin is called so; one that isn't there yet is named from game/ or home/ on".into())
        }
        (many, _) => {
            let texts: Vec<_> = many.iter().take(5).map(|path| path.as_str()).collect();
            refuse(format!("there are {}: name it from game/ or home/ on", texts.join(", ")))
        }
    }
}
