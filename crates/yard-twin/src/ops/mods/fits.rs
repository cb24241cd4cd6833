//! Whether mods fit a build, and each other.

use crate::Yard;
use crate::error::{Error, ModError, Result, WrongBuild};
use crate::ident::{BuildRef, TwinName};
use crate::ops::mods::find;
use crate::ops::renew;
use crate::placing::{ModSheet, ModUse, Placed, Tree};
use crate::sheet::Sheet;
use crate::sheet::pattern::fits_label;
use crate::store::state::State;
use crate::twin::mods;

/// So many twins and builds are named that fit.
const NAMED: usize = 6;

/// An error if one of those that are on is not for a build.
pub(super) fn check_build(
    yard: &Yard,
    (twin, build): (&TwinName, &BuildRef),
    used: &ModUse,
    sheet: &ModSheet,
) -> Result<()> {
    let fits = |label: &str| sheet.builds.iter().any(|pattern| fits_label(pattern, label));
    if !used.on || used.choices.any_build || sheet.builds.is_empty() || fits(build.build.as_str()) {
        return Ok(());
    }
    let mut fit = Vec::new();
    let others = yard.catalog.twins()?.into_iter().filter(|row| row.removed_at.is_none() && row.name != *twin);
    for row in others {
        let state = Error::pass_over(yard.store.state(row.state))?;
        if state.is_some_and(|state| state.build.title == build.title && fits(state.build.build.as_str())) {
            fit.push(row.name.to_string());
        }
    }
    let stock = yard.catalog.stock_builds()?.into_iter().filter(|row| row.removed_at.is_none());
    let of_title = stock.filter(|row| row.build.title == build.title && fits(row.build.build.as_str()));
    fit.extend(of_title.map(|row| row.build.to_string()));
    fit.truncate(NAMED);
    Err(ModError::Build(Box::new(WrongBuild {
        name: used.name.to_string(),
        builds: sheet.builds.clone(),
        twin: twin.to_string(),
        build: build.to_string(),
        fit,
    }))
    .into())
}

/// An error if one of those that are on lacks another, or can't be beside one.
pub(super) fn check_together(mods: &[Placed]) -> Result<()> {
    let on = || mods.iter().enumerate().filter(|(_, placed)| placed.of.on);
    for (at, placed) in on() {
        let name = || placed.of.name.to_string();
        for needed in &placed.sheet.needs {
            let why = match mods.iter().position(|other| other.of.name.key() == needed.key()) {
                Some(other) if !mods[other].of.on => "is off",
                Some(other) if other > at => "lies above it, and must lie below",
                Some(other) if other == at => "is itself",
                Some(_) => continue,
                None => "is not there",
            };
            return Err(ModError::Needs { name: name(), needs: needed.to_string(), why }.into());
        }
        let clashes = |other: &Placed| placed.sheet.clashes.iter().any(|name| name.key() == other.of.name.key());
        if let Some((_, other)) = on().find(|(other, placed)| *other != at && clashes(placed)) {
            return Err(ModError::Clashes { name: name(), other: other.of.name.to_string() }.into());
        }
    }
    Ok(())
}

/// The mods that a twin has on another build: without those that are to be off, and none that is not for it.
pub(in crate::ops) fn for_build(
    yard: &Yard,
    (name, state): (&TwinName, &State),
    to: &BuildRef,
    options: &renew::Options,
) -> Result<Vec<ModUse>> {
    let mut all = state.mods.clone();
    let mut trees = None;
    for without in &options.without_mods {
        let at = find(&all, without)?;
        all[at].on = false;
    }
    for used in &mut all {
        if used.on && to.build != state.build.build {
            let (_, sheet) = mods::package(yard, used)?;
            used.choices.any_build |= options.any_build && !sheet.builds.is_empty();
            check_build(yard, (name, to), used, &sheet)?;
            if !options.any_build {
                let trees = match &mut trees {
                    Some(trees) => trees,
                    none => none.insert((tree(yard, &state.build)?, tree(yard, to)?)),
                };
                check_folders(used, trees, to)?;
            }
        }
    }
    Ok(all)
}

/// What a stock build has; `None` if that can't be read: a twin can be put on another one all the same.
fn tree(yard: &Yard, build: &BuildRef) -> Result<Option<Tree>> {
    let listing = yard.stock_row(build, true).and_then(|row| yard.store.listing(row.listing));
    let folds = yard.sheet_of(build)?.as_ref().is_some_and(Sheet::ignores_case);
    Ok(Error::pass_over(listing)?.map(|listing| Tree::of(&listing, folds)))
}

/// An error if a folder into which a mod was put is there in the one build, and not in the other.
fn check_folders(used: &ModUse, trees: &(Option<Tree>, Option<Tree>), to: &BuildRef) -> Result<()> {
    let (Some(from), Some(next)) = trees else { return Ok(()) };
    let folders = std::iter::once(&used.choices.into).chain(used.choices.place.iter().map(|(_, folder)| folder));
    for folder in folders.filter(|folder| folder.as_str().contains('/')) {
        if from.has(folder.as_str(), true) && !next.has(folder.as_str(), true) {
            let (name, folder, build) = (used.name.to_string(), folder.to_string(), to.to_string());
            return Err(ModError::NoFolder { name, folder, build }.into());
        }
    }
    Ok(())
}
