//! Inlays: what mods put into the program's own archives, made from what is laid there.

use std::collections::BTreeMap;
use std::path::PathBuf;

use crate::Yard;
use crate::archive::{self, Put};
use crate::disk;
use crate::error::{Error, ModError, PathContext, Result};
use crate::ident::ContentId;
use crate::listing::{Entry, Layer, Listing, Node, overlay};
use crate::parallel;
use crate::path::RelPath;
use crate::placing::{Composed, Placed};
use crate::progress::Ctx;
use crate::sheet::{PathSet, Sheet};
use crate::store::pool::Putter;
use crate::twin::change;
use crate::twin::vouch;

/// Goes into each key, so that what an earlier version of the code made is not taken for what this one makes.
const VERSION: u32 = 1;

/// Makes what is to be laid of archives into which mods put something.
///
/// # Errors
/// [`ModError::CannotChange`] if an archive is not there, or can't be read.
pub(crate) fn inlaid(
    yard: &Yard,
    composed: &mut Composed,
    (mods, sheet): (&[Placed], Option<&Sheet>),
    ctx: &Ctx,
) -> Result<()> {
    let mut changes = Vec::new();
    for (path, by) in &composed.inlaid {
        let name = by.last().map(|at| mods[*at].of.name.to_string()).unwrap_or_default();
        let cannot = |why: &str| ModError::CannotChange { name: name.clone(), path: path.to_string(), why: why.into() };
        let Some(Entry { node: Node::File { content, executable, .. }, mtime, .. }) =
            composed.listing.get(path.as_str())
        else {
            return Err(cannot("there is no such archive").into());
        };
        let seals = sheet.map(|sheet| sheet.seals_of(path)).unwrap_or_default();
        let mut made = *content;
        for at in by {
            made = one(yard, made, (&mods[*at], path, &seals), ctx).map_err(|error| match error {
                Error::Intake(crate::IntakeError::Archive { why, .. }) => cannot(&why).into(),
                error => error,
            })?;
        }
        let size = disk::lstat(&yard.store.pool.path(made)).at("look at", yard.store.pool.path(made))?.size;
        let node = Node::File { content: made, size, executable: *executable };
        changes.push((path.clone(), Some(Entry { path: path.clone(), node, mtime: *mtime })));
    }
    if !changes.is_empty() {
        composed.listing = overlay(&composed.listing, &Layer::new(changes)?)?;
    }
    Ok(())
}

/// What one mod makes of an archive.
fn one(
    yard: &Yard,
    content: ContentId,
    (placed, path, seals): (&Placed, &RelPath, &[String]),
    ctx: &Ctx,
) -> Result<ContentId> {
    let inlays: Vec<_> = placed.inlays.iter().filter(|inlay| inlay.archive == *path).collect();
    let remove: Vec<&String> = seals.iter().chain(inlays.iter().flat_map(|inlay| &inlay.remove)).collect();
    let put: Vec<&(String, Entry)> = inlays.iter().flat_map(|inlay| &inlay.put).collect();
    let says: Vec<(&str, String, i64)> = put
        .iter()
        .filter_map(|(name, entry)| Some((name.as_str(), entry.node.content()?.to_string(), entry.mtime)))
        .collect();
    let text = serde_json::to_vec(&("inlay", VERSION, &remove, &says)).unwrap_or_default();
    let key = blake3::Hasher::new().update(&text).update(content.as_bytes()).finalize().to_hex();
    if let Some(made) = yard.catalog.made(key.as_str())?.filter(|made| disk::exists(&yard.store.pool.path(*made))) {
        return Ok(made);
    }
    let file = |content: ContentId| -> Result<PathBuf> {
        vouch::vouch_for(yard, content)?;
        Ok(yard.store.pool.path(content))
    };
    let puts = put.iter().filter_map(|(name, entry)| Some((name, entry.node.content()?, entry.mtime)));
    let puts = puts.map(|(name, content, mtime)| Ok(Put { name: name.clone(), from: file(content)?, mtime }));
    let puts: Vec<Put> = puts.collect::<Result<_>>()?;
    let removes = PathSet::new(remove.iter().map(|pattern| pattern.as_str()), false).unwrap_or_default();
    let from = file(content)?;
    let made = make(yard, ctx, |to| archive::inlay(&from, to, &|name| removes.contains(name), &puts, ctx))?;
    yard.catalog.add_made(key.as_str(), made)?;
    Ok(made)
}

/// Has a file written and takes it into the pool, without copying it.
fn make(yard: &Yard, ctx: &Ctx, write: impl FnOnce(&std::path::Path) -> Result<()>) -> Result<ContentId> {
    let op = yard.begin(ctx)?;
    let putter = Putter::new(&yard.store.pool, op.path(), yard.known_sizes()?)?;
    let path = op.path().join("made");
    write(&path)?;
    disk::set_mode(&path, 0o444)?;
    let file = disk::open_file(rustix::fs::CWD, &path).at("read", &path)?;
    let stat = disk::fstat(&file).at("look at", &path)?;
    // The disk may begin with it while it is hashed.
    let (flushed, adopted) = parallel::both(
        ctx.threads(),
        || file.sync_data(),
        || putter.adopt(&file, &stat, &path, &mut vec![0; disk::BUFFER], ctx),
    );
    flushed.at("sync", &path)?;
    let (content, _) = adopted?;
    change::publish(yard, putter, &op, None, ctx)?;
    Ok(content)
}

/// What is there of the archives into which mods put something, with what changes from what was laid to what is laid next;
/// as entries, where the player has changed them. Each archive comes with the mods that put something there.
///
/// # Errors
/// [`ModError::CannotChange`] where the same entry is changed in both, or an archive can't be read.
pub(crate) fn merged(
    yard: &Yard,
    archives: &BTreeMap<RelPath, String>,
    (laid, there, next): (&Listing, &Listing, &Listing),
    ctx: &Ctx,
) -> Result<Vec<Entry>> {
    let mut merged = Vec::new();
    for (path, mods) in archives {
        let of = |listing: &Listing| listing.get(path.as_str()).cloned();
        let (Some(laid), Some(there), Some(next)) = (of(laid), of(there), of(next)) else { continue };
        let (Some(was), Some(is), Some(wanted)) = (laid.node.content(), there.node.content(), next.node.content())
        else {
            continue;
        };
        if was == is || was == wanted || is == wanted {
            continue;
        }
        let cannot = |why: String| ModError::CannotChange { name: mods.clone(), path: path.to_string(), why };
        [was, is, wanted].iter().try_for_each(|content| vouch::vouch_for(yard, *content))?;
        let [was, is, wanted] = [was, is, wanted].map(|content| yard.store.pool.path(content));
        let mut clashes = Vec::new();
        let made = make(yard, ctx, |to| {
            clashes = archive::merge((&was, &is, &wanted), to, ctx)?;
            Ok(())
        });
        let made = made.map_err(|error| match error {
            Error::Intake(crate::IntakeError::Archive { why, .. }) => cannot(why).into(),
            error => error,
        })?;
        if !clashes.is_empty() {
            clashes.truncate(3);
            return Err(cannot(format!("you have changed the same entry: {}", clashes.join(", "))).into());
        }
        let size = disk::lstat(&yard.store.pool.path(made)).at("look at", yard.store.pool.path(made))?.size;
        let Node::File { executable, .. } = there.node else { continue };
        merged.push(Entry { node: Node::File { content: made, size, executable }, ..there });
    }
    Ok(merged)
}
