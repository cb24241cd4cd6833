//! The mods of a twin: their files in their places, and their edits.

use std::collections::BTreeMap;
use std::path::PathBuf;

use crate::Yard;
use crate::edit::Edit;
use crate::error::{Error, Result};
use crate::ident::{ModId, ModName};
use crate::listing::Listing;
use crate::placing::{self, ModSheet, ModUse, Package, Placed, Places};
use crate::store::state::State;

/// A package and what its sheet says.
pub(crate) fn package(yard: &Yard, used: &ModUse) -> Result<(Package, ModSheet)> {
    let package = yard.store.package(used.id)?;
    let path = PathBuf::from(format!("mod sheet of {}", used.name));
    let sheet = placing::read_sheet(&package.sheet, &path)?;
    Ok((package, sheet))
}

/// A package that is not kept yet.
pub(crate) struct Coming<'a> {
    pub(crate) id: ModId,
    pub(crate) sheet: &'a ModSheet,
    pub(crate) files: &'a Listing,
}

/// Mods with their files in their places.
///
/// # Errors
/// [`crate::Error::Damaged`] or [`crate::Error::Io`] if a record can't be read.
pub(crate) fn placed(yard: &Yard, mods: &[ModUse], coming: Option<&Coming<'_>>) -> Result<Vec<Placed>> {
    let one = |used: &ModUse| {
        let (sheet, files) = match coming.filter(|coming| coming.id == used.id) {
            Some(coming) => (coming.sheet.clone(), coming.files.clone()),
            None => {
                let read =
                    package(yard, used).and_then(|(package, sheet)| Ok((sheet, yard.store.listing(package.files)?)));
                match read {
                    // One that is off and can't be read is in nobody's way.
                    read if !used.on => Error::pass_over(read)?.unwrap_or_default(),
                    read => read?,
                }
            }
        };
        let Places { entries, inlays } = placing::place(&files, &sheet, &used.choices)?;
        let entries = entries.into_iter().map(|(_, entry)| entry).collect();
        Ok(Placed { of: used.clone(), sheet, entries, inlays })
    };
    mods.iter().map(one).collect()
}

/// Which of the mods that are on each of their files comes from, by its path: the topmost one that has it. One whose record
/// can't be read, which a check names, is passed over.
pub(crate) fn providers(yard: &Yard, mods: &[ModUse]) -> Result<BTreeMap<String, ModName>> {
    let mut providers = BTreeMap::new();
    for used in mods.iter().filter(|used| used.on) {
        let placed = Error::pass_over(placed(yard, std::slice::from_ref(used), None))?.unwrap_or_default();
        let entries = placed.into_iter().flat_map(|placed| placed.entries);
        providers.extend(entries.map(|entry| (entry.path.to_string(), used.name.clone())));
    }
    Ok(providers)
}

/// The edits of those that are on, in their order.
pub(crate) fn edits_of(mods: &[Placed]) -> Vec<Edit> {
    mods.iter().filter(|placed| placed.of.on).flat_map(|placed| placed.sheet.edit.iter().cloned()).collect()
}

/// Those of mods and those of a profile in one: of two of one place, the later one counts.
pub(crate) fn with_edits_of(mut edits: Vec<Edit>, more: Vec<Edit>) -> Vec<Edit> {
    edits.extend(more);
    let is_of = |one: &Edit, other: &Edit| (&one.file, &one.key) == (&other.file, &other.key);
    let mut kept: Vec<Edit> = Vec::with_capacity(edits.len());
    for edit in edits {
        match kept.iter_mut().find(|there| is_of(there, &edit)) {
            Some(there) => *there = edit,
            None => kept.push(edit),
        }
    }
    kept
}

/// The edits that are wanted in a twin: its mods', then its profile's.
pub(crate) fn wanted_edits(yard: &Yard, state: &State, profile: Vec<Edit>) -> Result<Vec<Edit>> {
    let mut edits = Vec::new();
    for used in state.mods.iter().filter(|used| used.on) {
        edits.extend(package(yard, used)?.1.edit);
    }
    Ok(with_edits_of(edits, profile))
}
