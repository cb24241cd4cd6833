//! Making a mod of what was dropped into a twin by hand.

use std::collections::BTreeSet;

use super::change::{Aim, Decisions, Plan, plan_for};
use super::find;
use super::packages::Packed;
use crate::Yard;
use crate::catalog::ModDeed;
use crate::error::{ModError, Result};
use crate::ident::{ModName, SnapshotRef, TwinName};
use crate::listing::{Change, Entry, Listing, Node, diff};
use crate::ops::recombine::without_edits;
use crate::path::RelPath;
use crate::placing::{self, Choices, ModUse, Package, ROOT};
use crate::progress::Ctx;
use crate::sheet::{PathSet, pattern};
use crate::twin::planned;

/// What is made a mod of. By default all game files that nobody explains.
#[derive(Clone, Debug, Default)]
pub struct AdoptOptions {
    /// Patterns over paths in the twin.
    pub files: Vec<String>,
    /// Only what has changed since that state.
    pub since: Option<SnapshotRef>,
}

/// Looks at what would become a mod of what differs from what was laid: new files, others in the place of shipped ones, and
/// shipped ones that are gone. Nothing moves on disk. What is in a group, or written by the program, stays the player's
/// unless it is named.
///
/// # Errors
/// [`ModError::NothingToAdopt`], [`ModError::There`] if the twin has a mod of that name; then as [`plan`](super::plan).
pub fn plan_adopt(yard: &Yard, (twin, name): (&TwinName, &ModName), options: &AdoptOptions, ctx: &Ctx) -> Result<Plan> {
    let (row, settled) = planned::see(yard, &yard.twin_row(twin, false)?, ctx)?;
    if find(&settled.state.mods, name).is_ok() {
        return Err(ModError::There { name: name.to_string(), twin: row.name.to_string() }.into());
    }
    if let Some((pattern, why)) =
        options.files.iter().find_map(|text| pattern::check(text).map(|why| (text.clone(), why)))
    {
        return Err(ModError::Pattern { pattern, why }.into());
    }
    let sheet = yard.sheet_of(&settled.state.build)?;
    let (plain, _) = without_edits(yard, &settled)?;
    let laid = yard.store.listing(settled.state.laid)?;
    let named = PathSet::new(options.files.iter().map(String::as_str), false).unwrap_or_default();
    let explained = |path: &RelPath| {
        !path.as_str().starts_with("game/")
            || sheet.as_ref().is_some_and(|sheet| sheet.explains(path) || sheet.is_scratch(path))
    };
    let since = match &options.since {
        None => None,
        Some(since) => {
            let then = yard.store.listing(yard.store.state(yard.find_entry(&row, since)?.state)?.disk)?;
            Some(diff(&then, &settled.listing).map(|change| change.path().clone()).collect::<BTreeSet<_>>())
        }
    };
    let wanted = |path: &RelPath| {
        let by_name = if options.files.is_empty() { !explained(path) } else { named.contains(path.as_str()) };
        by_name && since.as_ref().is_none_or(|since| since.contains(path))
    };
    let (mut entries, mut gone) = (Vec::new(), Vec::new());
    for change in diff(&laid, &plain).filter(|change| wanted(change.path())) {
        match change {
            Change::New(entry) | Change::Changed { after: entry, .. } if entry.node != Node::EmptyFolder => {
                let path = RelPath::new(format!("{ROOT}/{}", entry.path))?;
                entries.push(Entry { path, ..entry.clone() });
            }
            Change::Gone(entry) if entry.node != Node::EmptyFolder => gone.push(entry.path.to_string()),
            _ => {}
        }
    }
    if entries.is_empty() && gone.is_empty() {
        return Err(ModError::NothingToAdopt(row.name.to_string()).into());
    }
    let files = Listing::with_folders_implied(entries)?;
    let text = sheet_text(name, &gone);
    let sheet = placing::read_sheet(&text, std::path::Path::new("yardtwin-mod.toml"))?;
    let package = Package::new(name.clone(), settled.state.build.title.clone(), files.id(), (&sheet, text));
    let place = ["game", "home"].map(|root| RelPath::new(root).map(|to| (format!("{root}/**"), to)));
    let place = place.into_iter().collect::<Result<Vec<_>>>()?;
    let choices =
        Choices { strip: String::new(), into: RelPath::new("game")?, except: Vec::new(), place, any_build: false };
    let (id, _) = package.encode();
    let mut wanted = settled.state.mods.clone();
    wanted.push(ModUse {
        id,
        files: files.id(),
        name: name.clone(),
        on: true,
        choices: choices.clone(),
        aside: None,
        beside: Vec::new(),
    });
    let origin = format!("adopted in {}", row.name);
    let packed = Packed {
        package,
        totals: files.totals(),
        sheet,
        overlaps: Vec::new(),
        origin,
        whole: false,
        files,
        read: Vec::new(),
    };
    let placed = Some((choices, "where it is".to_owned()));
    let aim = Aim { deed: ModDeed::Adopted, about: vec![name.clone()], wanted, package: Some(packed), placed };
    plan_for(yard, (row, settled), aim, &Decisions::default(), ctx)
}

/// The sheet of a mod that takes files away.
fn sheet_text(name: &ModName, gone: &[String]) -> String {
    let text = |text: &str| toml_edit::Value::from(text).to_string();
    let mut sheet = format!("name = {}\n", text(name.as_str()));
    if !gone.is_empty() {
        let gone: Vec<String> = gone.iter().map(|path| format!("    {},\n", text(&pattern::escape(path)))).collect();
        sheet.push_str(&format!("remove = [\n{}]\n", gone.concat()));
    }
    sheet
}
