//! What is to be taken in: a folder or some archives, and a folder for the home.

use std::path::{Path, PathBuf};

use super::Options;
use super::packed::{self, Packed};
use super::source::{Part, list};
use crate::Yard;
use crate::disk;
use crate::disk::op_folder::OpFolder;
use crate::error::{IntakeError, Result};
use crate::path::RelPath;
use crate::progress::{Ctx, Phase};
use crate::scan::Seen;

/// What is to be taken in, as it was found.
pub(super) struct Found {
    pub(super) source: PathBuf,
    pub(super) parts: Vec<Part>,
    pub(super) packed: Option<Packed>,
    pub(super) seen: Vec<Seen>,
}

/// Lists the folder, or the archives, and the part for the home.
pub(super) fn find(yard: &Yard, options: &Options, op: &OpFolder, ctx: &Ctx) -> Result<Found> {
    let named: Vec<PathBuf> = std::iter::once(&options.source).chain(&options.more).cloned().collect();
    let Some(archives) = packed::archives(yard, &named)? else {
        let source = check_source(yard, &options.source)?;
        let parts = parts(yard, options, &source)?;
        let seen = list(&parts, ctx)?;
        return Ok(Found { source, parts, packed: None, seen });
    };
    let source = archives[0].clone();
    let parts = parts(yard, options, &source)?;
    let mut packed = ctx.phase(Phase::Listing, 0, 0, || Packed::list(archives, options.names, op, ctx))?;
    packed.unwrap(options.strip, yard.sheet(&options.title)?.as_ref())?;
    let mut seen = packed.seen()?;
    seen.extend(list(&parts[1..], ctx)?);
    Ok(Found { source, parts, packed: Some(packed), seen })
}

pub(crate) fn check_source(yard: &Yard, source: &Path) -> Result<PathBuf> {
    let path = disk::canonical(source)?;
    if !path.is_dir() {
        return Err(IntakeError::NotAFolder(source.into()).into());
    }
    if path.starts_with(yard.root()) {
        return Err(IntakeError::InsideYard(path).into());
    }
    if yard.root().starts_with(&path) {
        return Err(IntakeError::AroundYard(path).into());
    }
    Ok(path)
}

/// The folders that are taken in.
fn parts(yard: &Yard, options: &Options, source: &Path) -> Result<Vec<Part>> {
    let game = Part { folder: source.into(), named: options.source.clone(), prefix: RelPath::new("game")? };
    let Some(home) = &options.home else { return Ok(vec![game]) };
    let folder = check_source(yard, &home.folder)?;
    if folder.starts_with(source) || source.starts_with(&folder) {
        return Err(IntakeError::PartOfTheOther { game: source.into(), home: folder }.into());
    }
    let prefix = match &home.at {
        Some(at) => RelPath::new(format!("home/{at}"))?,
        None => RelPath::new("home")?,
    };
    Ok(vec![game, Part { folder, named: home.folder.clone(), prefix }])
}
