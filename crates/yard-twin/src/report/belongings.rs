//! Where a twin's belongings are, and what the patterns of its sheet catch.
//!
//! ```
//! use yard_twin::belongings;
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
//! std::fs::write(game("main").join("cabin/shifts/one.wjs"), "a long shift")?;
//! let view = belongings::list(&yard, &"main".parse()?, &ctx)?;
//! assert!(view.groups.iter().any(|group| group.group == "shifts" && group.files == 1));
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

use std::collections::{BTreeMap, HashSet};

use jiff::Timestamp;
use serde::Serialize;

use crate::Yard;
use crate::combine::time;
use crate::error::{Error, Result};
use crate::ident::{BuildRef, TwinName};
use crate::listing::{Entry, Listing, Node};
use crate::progress::Ctx;
use crate::sheet::{OnClash, PathSet, Sheet, Unit};
use crate::twin::planned;
use crate::twin::settle;
use crate::twin::settle::Settled;

/// A group of belongings in a twin.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct GroupDetails {
    /// The group.
    pub group: String,
    /// A word about it.
    pub note: Option<String>,
    /// What is done where it meets something when it is carried, unless one is told.
    pub on_clash: Option<OnClash>,
    /// What one thing of it is.
    pub unit: Unit,
    /// How many things of the player's own there are: those of which a file is not as it was shipped.
    pub things: u64,
    /// The player's own files in it: those that are not as they were shipped.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// When the newest of them was written.
    pub newest: Option<Timestamp>,
    /// Files in it that are as they were shipped.
    pub as_shipped: u64,
    /// The folders that the player's own are in, below the twin's.
    pub folders: Vec<String>,
}

/// A twin's belongings.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct View {
    /// The twin.
    pub name: TwinName,
    /// The stock build that it is on.
    pub build: BuildRef,
    /// Whether it is in use, so that this is how it was at the last look.
    pub in_use: bool,
    /// All groups of the sheet, by name.
    pub groups: Vec<GroupDetails>,
}

/// What one pattern of a sheet catches in a twin.
#[derive(Clone, Debug, Serialize)]
pub struct Catch {
    /// The part of the sheet that it is in: a group of belongings, `paths.live` or `paths.scratch`.
    pub part: String,
    /// The pattern.
    pub pattern: String,
    /// How many files it catches.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// Those of them that are as they were shipped.
    pub as_shipped: u64,
    /// Some of their paths.
    pub examples: Vec<String>,
}

/// A path that several groups catch. It is in the first one by name.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Overlap {
    /// The groups, by name.
    pub groups: Vec<String>,
    /// How many paths they have in common.
    pub files: u64,
    /// One of them.
    pub example: String,
}

/// What the patterns of a sheet catch in a twin.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct SheetView {
    /// The twin.
    pub name: TwinName,
    /// The stock build that it is on.
    pub build: BuildRef,
    /// Each pattern, in the order of the sheet.
    pub catches: Vec<Catch>,
    /// What several groups catch.
    pub overlaps: Vec<Overlap>,
    /// What did not come with the build, and of which the sheet says nothing.
    pub in_none: Vec<String>,
}

/// What a twin holds, and what was laid in it.
struct Held {
    listing: Listing,
    laid: Listing,
    build: BuildRef,
    sheet: Sheet,
    in_use: bool,
}

impl Held {
    /// Files and symlinks, and whether each is as it was shipped.
    fn files(&self) -> impl Iterator<Item = (&Entry, bool)> {
        let files = self.listing.entries().iter().filter(|entry| entry.node != Node::EmptyFolder);
        files.map(|entry| (entry, self.laid.get(entry.path.as_str()).is_some_and(|laid| laid.node == entry.node)))
    }
}

/// A twin's belongings by group. The twin is settled first, unless it is in use.
///
/// # Errors
/// [`Error::NotFound`] for a twin that isn't there, and for a title without a sheet.
pub fn list(yard: &Yard, name: &TwinName, ctx: &Ctx) -> Result<View> {
    let held = held_by(yard, name, ctx)?;
    let mut groups: BTreeMap<&str, GroupDetails> = BTreeMap::new();
    for (name, group) in &held.sheet.belongings {
        let details = GroupDetails {
            group: name.clone(),
            note: group.note.clone(),
            on_clash: group.on_clash,
            unit: group.unit,
            things: 0,
            files: 0,
            bytes: 0,
            newest: None,
            as_shipped: 0,
            folders: Vec::new(),
        };
        groups.insert(name, details);
    }
    let mut things = HashSet::new();
    for (entry, shipped) in held.files() {
        let name = held.sheet.group_of(&entry.path);
        let Some(group) = name.and_then(|group| groups.get_mut(group)) else { continue };
        if shipped {
            group.as_shipped += 1;
            continue;
        }
        group.files += 1;
        group.things += u64::from(things.insert(held.sheet.unit_of(&entry.path, name)));
        group.bytes += entry.node.size();
        group.newest = group.newest.max(Some(time(entry.mtime)));
        let folder = entry.path.parent().unwrap_or_default();
        // Entries are sorted: a folder that was seen before is most often the last one.
        if !group.folders.iter().rev().any(|there| there == folder) {
            group.folders.push(folder.into());
        }
    }
    let groups = groups.into_values().collect();
    Ok(View { name: name.clone(), build: held.build, in_use: held.in_use, groups })
}

/// What each pattern of the title's sheet catches in a twin. The twin is settled first, unless it is in use.
///
/// # Errors
/// As [`list`].
pub fn explain_sheet(yard: &Yard, name: &TwinName, ctx: &Ctx) -> Result<SheetView> {
    let held = held_by(yard, name, ctx)?;
    let mut catches = Vec::new();
    for (part, pattern) in held.sheet.patterns() {
        let set = PathSet::new([pattern.as_str()], held.sheet.ignores_case()).unwrap_or_default();
        let (files, bytes, as_shipped) = (0, 0, 0);
        let mut catch = Catch { part, pattern, files, bytes, as_shipped, examples: Vec::new() };
        for (entry, shipped) in held.files().filter(|(entry, _)| set.contains(entry.path.as_str())) {
            catch.files += 1;
            catch.bytes += entry.node.size();
            catch.as_shipped += u64::from(shipped);
            if catch.examples.len() < 3 {
                catch.examples.push(entry.path.to_string());
            }
        }
        catches.push(catch);
    }
    let own = held.files().filter(|(entry, shipped)| !shipped && !held.sheet.explains(&entry.path));
    let in_none = own.map(|(entry, _)| entry.path.to_string()).collect();
    Ok(SheetView { name: name.clone(), overlaps: overlaps(&held), build: held.build, catches, in_none })
}

fn held_by(yard: &Yard, name: &TwinName, ctx: &Ctx) -> Result<Held> {
    let row = yard.twin_row(name, false)?;
    let (settled, in_use) = match settle::settle(yard, &row, ctx) {
        Ok(settled) => (settled, false),
        Err(Error::Busy { .. }) => (settle::as_of_last(yard, &row)?, true),
        Err(error) => return Err(error),
    };
    let laid = planned::laid(yard, &settled)?;
    let Settled { state, listing, .. } = settled;
    let sheet = planned::sheet_needed(yard, &state.build)?;
    Ok(Held { listing, laid, build: state.build, sheet, in_use })
}

/// What several groups catch, by the groups.
fn overlaps(held: &Held) -> Vec<Overlap> {
    let mut found: BTreeMap<Vec<String>, Overlap> = BTreeMap::new();
    for (entry, _) in held.files() {
        let groups: Vec<String> = held.sheet.groups_of(&entry.path).map(str::to_owned).collect();
        if groups.len() > 1 {
            let new = || Overlap { groups: groups.clone(), files: 0, example: entry.path.to_string() };
            found.entry(groups.clone()).or_insert_with(new).files += 1;
        }
    }
    found.into_values().collect()
}
