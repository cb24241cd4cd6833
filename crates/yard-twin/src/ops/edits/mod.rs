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

pub use profile::{ProfileChange, ProfilePlan, ProfileView, apply_profile, plan_profile, profile};

use std::collections::BTreeMap;

use serde::Serialize;

use crate::Yard;
use crate::catalog::{TwinRow, What};
use crate::combine::{Derive, Draft, EditStep, Transform};
use crate::edit::{self, Format};
use crate::error::{LaunchError, Noun, Result};
use crate::ident::TwinName;
use crate::listing::{Listing, Node};
use crate::path::RelPath;
use crate::profile::{Edit, Profile, ProfileText};
use crate::progress::Ctx;
use crate::sheet::Sheet;
use crate::store::state::{Applied, State};
use crate::twin::Twin;
use crate::twin::planned;
use crate::twin::planned::{AppliedChange, PlannedChange};
use crate::twin::protection;
use crate::twin::settle;
use crate::twin::settle::Settled;
use crate::twin::vouch;

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
    /// What is done.
    pub does: Does,
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

/// Which edits are set where their values have changed since.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Again {
    None,
    Enforced,
    All,
}

/// What edits come to: what is said of each, which files are made, and what the state remembers.
pub(crate) struct Synced {
    pub(crate) views: Vec<View>,
    pub(crate) derived: Vec<Derive>,
    pub(crate) applied: Vec<Applied>,
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
    let mut copied = Vec::new();
    match change {
        Change::Set { edit, variant } => {
            let file = resolve(&edit.file, &settled.listing, sheet.as_ref())?;
            let edit = Edit { file: file.to_string(), ..edit.clone() };
            if edit.format().is_none() {
                let why = "its ending says no format: name one (ini, lines, json, toml, xml)".into();
                return Err(LaunchError::EditFile { name: edit.file, why }.into());
            }
            text.set_edit(variant.as_deref(), &edit)?;
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
    let again = if *change == Change::Apply { Again::All } else { Again::None };
    let synced = sync_edits(yard, &settled.listing, &settled.state.edits, &profile.edits, again)?;
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
    let synced = sync_edits(yard, &settled.listing, &settled.state.edits, &profile.edits, Again::None)?;
    Ok(synced.views)
}

/// Sees to a twin's edits before or after a run: those that are due are set, those that are wanted no more are taken
/// back. Gives what was done, where anything was.
pub(crate) fn edit_for_run(twin: &mut Twin, profile: &Profile, ctx: &Ctx) -> Result<Option<Vec<View>>> {
    if profile.edits.is_empty() && twin.yard.store.state(twin.row.state)?.edits.is_empty() {
        return Ok(None);
    }
    let settled = twin.settle(What::Outside, ctx)?;
    let synced = sync_edits(&twin.yard, &settled.listing, &settled.state.edits, &profile.edits, Again::Enforced)?;
    let views = synced.views.clone();
    let text = settled.state.profile.clone();
    let planned = planned(twin.row.clone(), settled, text, synced);
    twin.apply(&planned, ctx)?;
    Ok(Some(views))
}

/// Files with edits in them, whichever of these are there.
pub(crate) fn sync_edits(
    yard: &Yard,
    there: &Listing,
    applied: &[Applied],
    wanted: &[Edit],
    again: Again,
) -> Result<Synced> {
    let mut files: BTreeMap<RelPath, Syncing<'_>> = BTreeMap::new();
    for applied in applied {
        files.entry(applied.file.clone()).or_default().applied.push(applied);
    }
    for edit in wanted {
        files.entry(RelPath::new(&edit.file)?).or_default().wanted.push(edit);
    }
    let mut synced = Synced { views: Vec::new(), derived: Vec::new(), applied: Vec::new() };
    for (file, syncing) in files {
        let bytes = match there.get(file.as_str()).map(|entry| &entry.node) {
            Some(Node::File { content, size, .. }) => {
                if *size > edit::MAX && !syncing.wanted.is_empty() {
                    let fault = edit::EditFault::TooLarge(*size);
                    return Err(LaunchError::Edit { file: file.to_string(), fault }.into());
                }
                Some(vouch::bytes_of(yard, *content)?)
            }
            _ => None,
        };
        let steps = syncing
            .run(&file, bytes, again, &mut synced)
            .map_err(|fault| LaunchError::Edit { file: file.to_string(), fault })?;
        if let (false, Some(entry)) = (steps.is_empty(), there.get(file.as_str())) {
            synced.derived.push(Derive { of: entry.clone(), transform: Transform::Edit { edits: steps } });
        }
    }
    Ok(synced)
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

fn planned(row: TwinRow, settled: Settled, profile: String, synced: Synced) -> PlannedChange {
    let state = State { profile, edits: synced.applied, ..settled.state.clone() };
    let draft = Draft { base: settled.listing.clone(), derived: synced.derived };
    PlannedChange::new(row, settled, state, draft, What::Edited)
}

/// The file that is meant: by its whole path, or by the end of one, where just one file has that.
fn resolve(name: &str, listing: &Listing, sheet: Option<&Sheet>) -> Result<RelPath> {
    let refuse = |why: String| Err(LaunchError::EditFile { name: name.into(), why }.into());
    if name.starts_with("game/") || name.starts_with("home/") {
        return RelPath::new(name);
    }
    let files = listing.entries().iter().filter(|entry| matches!(entry.node, Node::File { .. }));
    let found: Vec<&RelPath> = files.map(|entry| &entry.path).filter(|path| ends_with(path.as_str(), name)).collect();
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

/// One file with all that is wanted and was done in it.
#[derive(Default)]
struct Syncing<'a> {
    applied: Vec<&'a Applied>,
    wanted: Vec<&'a Edit>,
}

impl Syncing<'_> {
    /// What is done in it, in order.
    fn run(
        self,
        file: &RelPath,
        bytes: Option<Vec<u8>>,
        again: Again,
        synced: &mut Synced,
    ) -> Result<Vec<EditStep>, edit::EditFault> {
        let mut steps = Vec::new();
        let Some(mut bytes) = bytes else {
            // What was done in it is gone with it.
            synced.views.extend(self.wanted.iter().map(|edit| view(file, edit, None, Does::Waits)));
            return Ok(steps);
        };
        let is_of = |applied: &Applied, edit: &Edit| applied.key == edit.key && Some(applied.format) == edit.format();
        // The last that was done is the first to be taken back.
        for &applied in self.applied.iter().rev() {
            if !self.wanted.iter().any(|edit| is_of(applied, edit)) {
                bytes = take_back(applied, bytes, synced, &mut steps);
            }
        }
        for &edit in &self.wanted {
            let before = self.applied.iter().find(|applied| is_of(applied, edit));
            let format = edit.format().unwrap_or(Format::Ini);
            let encoding = edit.encoding.as_deref();
            let there = edit::get(&bytes, format, &edit.key, encoding);
            let is_set =
                |there: &Option<String>| there.as_deref().is_some_and(|is| edit::same_value(format, is, &edit.value));
            let stands = there.as_ref().is_ok_and(is_set);
            let drifted = !stands && before.is_some_and(|before| before.value == edit.value);
            let set_again = again == Again::All || (again == Again::Enforced && edit.enforce);
            if let (true, false, Some(&before)) = (drifted, set_again, before) {
                // Somebody may have made it a file in which nothing can be found: that is theirs to mend.
                synced.views.push(view(file, edit, there.unwrap_or_default(), Does::Drifted));
                synced.applied.push(before.clone());
                continue;
            }
            let there = there?;
            let put = before.map(|before| before.put.clone());
            let set = edit::set(&bytes, format, &edit.key, &edit.value, (encoding, put.as_ref()))?;
            let does = if set.bytes == bytes { Does::Nothing } else { Does::Set };
            synced.views.push(view(file, edit, there, does));
            if does == Does::Set {
                let (encoding, value) = (edit.encoding.clone(), Some(edit.value.clone()));
                steps.push(EditStep { format, key: edit.key.clone(), encoding, value, put });
            }
            synced.applied.push(Applied {
                file: file.clone(),
                key: edit.key.clone(),
                value: edit.value.clone(),
                format,
                encoding: edit.encoding.clone(),
                put: set.put,
            });
            bytes = set.bytes;
        }
        self.all_stand(&bytes, synced)?;
        Ok(steps)
    }

    /// An error if one edit has undone another: both are of one place, whatever they call it.
    fn all_stand(&self, bytes: &[u8], synced: &Synced) -> Result<(), edit::EditFault> {
        for edit in &self.wanted {
            let drifted = |view: &View| (&view.file, &view.key, view.does) == (&edit.file, &edit.key, Does::Drifted);
            let format = edit.format().unwrap_or(Format::Ini);
            if synced.views.iter().any(drifted) {
                continue;
            }
            let there = edit::get(bytes, format, &edit.key, edit.encoding.as_deref())?;
            if !there.is_some_and(|is| edit::same_value(format, &is, &edit.value)) {
                let why = "another edit of the profile is of the same place".into();
                return Err(edit::EditFault::Key { format, key: edit.key.clone(), why });
            }
        }
        Ok(())
    }
}

/// Takes back what an edit did. A file in which the edit can't be found any more stays as it is.
fn take_back(applied: &Applied, bytes: Vec<u8>, synced: &mut Synced, steps: &mut Vec<EditStep>) -> Vec<u8> {
    let encoding = applied.encoding.as_deref();
    let there = edit::get(&bytes, applied.format, &applied.key, encoding).unwrap_or_default();
    let back = edit::unset(&bytes, applied.format, &applied.key, (encoding, &applied.put)).unwrap_or_default();
    synced.views.push(View {
        file: applied.file.to_string(),
        key: applied.key.clone(),
        value: None,
        there,
        does: if back.is_some() { Does::GivesBack } else { Does::Leaves },
        enforce: false,
    });
    if back.is_some() {
        let (encoding, put) = (applied.encoding.clone(), Some(applied.put.clone()));
        steps.push(EditStep { format: applied.format, key: applied.key.clone(), encoding, value: None, put });
    }
    back.unwrap_or(bytes)
}

fn view(file: &RelPath, edit: &Edit, there: Option<String>, does: Does) -> View {
    View {
        file: file.to_string(),
        key: edit.key.clone(),
        value: Some(edit.value.clone()),
        there,
        does,
        enforce: edit.enforce,
    }
}
