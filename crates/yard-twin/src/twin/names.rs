//! Names that are by an id: the twin's name, in the place of the one that a stock build comes with.

use std::collections::HashMap;

use crate::Yard;
use crate::combine::{Draft, realise, rename};
use crate::disk;
use crate::error::{Error, Noun, Result, TwinError};
use crate::ident::TwinName;
use crate::listing::{Entry, Listing};
use crate::path::RelPath;
use crate::progress::Ctx;
use crate::sheet::Sheet;
use crate::twin::derive::Deriver;

/// A listing under another id.
#[derive(Debug)]
pub(crate) struct Renamed {
    pub(crate) listing: Listing,
    /// From where to where, in the order of the paths.
    pub(crate) moved: Vec<(RelPath, RelPath)>,
    /// Files in which the id is another one now.
    pub(crate) changed: Vec<RelPath>,
}

/// The ids between which the rules of a sheet map names: what the first of them says that a stock build comes with, and
/// another one.
pub(crate) fn from_stock<'a>(sheet: Option<&'a Sheet>, named_as: Option<&'a str>) -> Option<(&'a str, &'a str)> {
    Some((sheet?.rename.iter().find_map(|rule| rule.id.as_deref())?, named_as?))
}

/// A listing in which what a sheet's rules find by one id has another one. Contents that are made for it are put into the pool;
/// `only_ask` makes none.
///
/// # Errors
/// [`crate::Error::Exists`] if something is there already under a new name.
pub(crate) fn renamed(
    yard: &Yard,
    listing: Listing,
    (sheet, ids): (Option<&Sheet>, Option<(&str, &str)>),
    only_ask: bool,
    ctx: &Ctx,
) -> Result<Renamed> {
    let (Some(sheet), Some(ids)) = (sheet, ids.filter(|(old, new)| old != new)) else {
        return Ok(Renamed { listing, moved: Vec::new(), changed: Vec::new() });
    };
    let found = rename(&listing, &sheet.rename, ids, (false, None))?;
    let (listing, changed) = made(yard, found.draft, only_ask, ctx)?;
    Ok(Renamed { listing, moved: found.moved, changed })
}

/// What a draft comes to, and which files it really changes.
pub(crate) fn made(yard: &Yard, draft: Draft, only_ask: bool, ctx: &Ctx) -> Result<(Listing, Vec<RelPath>)> {
    if draft.derived.is_empty() {
        return Ok((draft.base, Vec::new()));
    }
    let op = yard.begin(ctx)?;
    let deriver = Deriver::new(yard, &op, only_ask)?;
    let of: Vec<Entry> = draft.derived.iter().map(|derive| derive.of.clone()).collect();
    let listing = realise(draft, &deriver, ctx)?;
    if !only_ask {
        deriver.keep(ctx)?;
    }
    let differs = |entry: &Entry| listing.get(entry.path.as_str()).is_none_or(|now| now.node != entry.node);
    let changed = of.into_iter().filter(differs).map(|entry| entry.path).collect();
    Ok((listing, changed))
}

impl Renamed {
    /// An entry of the listing before, as it is in this one.
    pub(crate) fn of<'a>(&'a self, entry: &'a Entry) -> &'a Entry {
        let to = self.moved.binary_search_by(|(from, _)| from.cmp(&entry.path)).map(|at| &self.moved[at].1);
        self.listing.get(to.unwrap_or(&entry.path).as_str()).unwrap_or(entry)
    }

    /// The new places, by the old ones.
    pub(crate) fn places(&self) -> HashMap<&RelPath, &RelPath> {
        self.moved.iter().map(|(from, to)| (from, to)).collect()
    }
}

/// Whether a twin can get this name.
pub(crate) fn check_free(yard: &Yard, name: &TwinName) -> Result<()> {
    let key = name.key();
    let twins = yard.catalog.twins()?;
    match twins.iter().find(|row| row.removed_at.is_none() && row.name.key() == key) {
        None => Ok(()),
        Some(row) => Err(Error::Exists { what: Noun::Twin, name: name.to_string(), existing: row.name.to_string() }),
    }
}

/// A folder name for a twin: its name, unless a renamed twin still has that folder.
pub(crate) fn free_folder(yard: &Yard, name: &TwinName) -> Result<String> {
    let taken: Vec<_> = yard
        .catalog
        .twins()?
        .iter()
        .filter(|row| row.removed_at.is_none())
        .map(|row| crate::path::fold_key(&row.folder))
        .collect();
    let numbered = (2..).map(|number| format!("{name} {number}"));
    let free = std::iter::once(name.to_string())
        .chain(numbered)
        .find(|folder| !taken.contains(&crate::path::fold_key(folder)))
        .unwrap_or_default();
    let path = yard.twins_folder().join(&free);
    if disk::exists(&path) { Err(TwinError::FolderInTheWay(path).into()) } else { Ok(free) }
}
