//! Where else the bytes of a content are: other files of the pool, files of twins, where builds were taken in from.

use std::collections::{HashMap, HashSet};
use std::path::{Path, PathBuf};

use rustix::fs::CWD;

use crate::Yard;
use crate::catalog::TwinRow;
use crate::disk;
use crate::disk::op_folder::OpFolder;
use crate::error::{Error, PathContext, Result};
use crate::ident::ContentId;
use crate::listing::Entry;
use crate::progress::Ctx;
use crate::store::pool::{Pool, Putter, reads_as};
use crate::twin::change;

/// Files that should hold the contents and are none of the bad ones: the pool's second files, those of twins, and where
/// stock builds were taken in from. What they hold now is not looked at.
pub(crate) fn sources(
    yard: &Yard,
    contents: &HashSet<ContentId>,
    bad: &HashSet<u64>,
) -> Result<HashMap<ContentId, Vec<PathBuf>>> {
    let mut sources: HashMap<ContentId, Vec<PathBuf>> = HashMap::new();
    let mut add = |content: ContentId, path: PathBuf| {
        if disk::lstat(&path).is_ok_and(|stat| !bad.contains(&stat.ino)) {
            sources.entry(content).or_default().push(path);
        }
    };
    if contents.is_empty() {
        return Ok(sources);
    }
    for &content in contents {
        [false, true].into_iter().for_each(|x| add(content, yard.store.pool.root().join(Pool::name(content, x))));
    }
    for row in yard.catalog.twins()? {
        files_with(yard, &row, contents)?.into_iter().for_each(|(content, path)| add(content, path));
    }
    for stock in yard.catalog.stock_builds()? {
        // A damaged listing names no sources, and that is all.
        let Some(listing) = Error::pass_over(yard.store.listing(stock.listing))? else { continue };
        for entry in listing.entries() {
            let content = entry.node.content().filter(|content| contents.contains(content));
            if let (Some(content), Some(below)) = (content, entry.path.as_str().strip_prefix("game/")) {
                add(content, Path::new(&stock.source).join(below));
            }
        }
    }
    Ok(sources)
}

/// The files of a twin that should hold one of the contents, as far as its records can be read.
fn files_with(yard: &Yard, row: &TwinRow, contents: &HashSet<ContentId>) -> Result<Vec<(ContentId, PathBuf)>> {
    let listing = yard.store.state(row.state).and_then(|state| yard.store.listing(state.disk));
    let Some(listing) = Error::pass_over(listing)? else { return Ok(Vec::new()) };
    let folder = yard.folder_of(row);
    let wanted =
        |entry: &Entry| Some((entry.node.content().filter(|c| contents.contains(c))?, entry.path.below(&folder)));
    Ok(listing.entries().iter().filter_map(wanted).collect())
}

/// Files below folders that hold one of the contents: those of their sizes are read.
pub(crate) fn found_in(
    yard: &Yard,
    folders: &[PathBuf],
    contents: &HashSet<ContentId>,
    ctx: &Ctx,
) -> Result<Vec<(ContentId, PathBuf)>> {
    if folders.is_empty() {
        return Ok(Vec::new());
    }
    let mut sizes = HashSet::new();
    yard.each_needed(|entry| {
        sizes.extend(entry.node.content().filter(|content| contents.contains(content)).map(|_| entry.node.size()));
    })?;
    let (mut found, mut buffer) = (Vec::new(), vec![0; disk::BUFFER]);
    let mut left: Vec<PathBuf> = folders.to_vec();
    while let Some(folder) = left.pop() {
        let Ok(entries) = std::fs::read_dir(&folder) else { continue };
        for entry in entries {
            ctx.check()?;
            let path = entry.at("list", &folder)?.path();
            // Unreadable files are no sources.
            let Ok(meta) = path.symlink_metadata() else { continue };
            if meta.is_dir() {
                left.push(path);
            } else if meta.is_file()
                && sizes.contains(&meta.len())
                && let Ok(content) = reads_as(&path, &mut buffer, ctx)
            {
                found.extend(contents.contains(&content).then_some((content, path)));
            }
        }
    }
    Ok(found)
}

/// Takes a content into the pool from a file, if that is what it holds.
pub(crate) fn take_from(yard: &Yard, content: ContentId, path: &Path, op: &OpFolder, ctx: &Ctx) -> Result<bool> {
    let file = disk::open_file(CWD, path).at("read", path)?;
    let stat = disk::fstat(&file).at("look at", path)?;
    let putter = Putter::new(&yard.store.pool, op.path(), HashSet::new())?;
    let found = putter.put(&file, &stat, path, &mut vec![0; disk::BUFFER], ctx)?;
    if found != content {
        return Ok(false);
    }
    change::publish(yard, putter, op, None, ctx)?;
    Ok(true)
}
