//! That the pool really holds what it is asked for: looked at before anything is made of it, and mended where it can be.

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::path::PathBuf;
use std::sync::Mutex;

use crate::Yard;
use crate::disk::Stat;
use crate::error::{Error, PathContext, Result};
use crate::ident::ContentId;
use crate::listing::{Entry, Node};
use crate::materialise::Layout;
use crate::parallel::{self, lock};
use crate::path::RelPath;
use crate::progress::Ctx;
use crate::store::pool::{Has, Ledger, Share};
use crate::twin::sources;

/// Sees to it that the pool holds what `entries` need, by reading what the ledger can't vouch for and bringing back what
/// is wrong or gone. Gives the executables that were staged for the pool. Done before the yard is held.
///
/// # Errors
/// [`Error::ContentMissing`] for what can't be had anywhere.
pub(crate) fn vouch(yard: &Yard, entries: &[&Entry], layout: &Layout<'_>) -> Result<Vec<ContentId>> {
    let (bad, lifted, executables) = (Mutex::new(BTreeMap::new()), Mutex::new(Vec::new()), Mutex::new(BTreeSet::new()));
    let (ctx, pool) = (layout.ctx, &yard.store.pool);
    parallel::for_each(entries, ctx.threads(), Vec::new, |buffer, entry| {
        ctx.check()?;
        let Node::File { content, executable, .. } = entry.node else { return Ok(()) };
        let mut ask = |executable: bool| {
            let has = pool.ask(layout.ledger, content, executable, buffer, ctx)?;
            if let Has::Lifted(stat) = has {
                lock(&lifted).push((content, executable, stat));
            }
            Ok::<_, Error>(has.is_right())
        };
        if !ask(false)? {
            lock(&bad).entry(content).or_insert_with(|| entry.path.clone());
        }
        if executable && layout.policy.way(entry) == Share::Link && !ask(true)? {
            lock(&executables).insert(content);
        }
        Ok(())
    })?;
    guard_again(yard, layout, &parallel::into_inner(lifted))?;
    let bad: BTreeMap<ContentId, RelPath> = parallel::into_inner(bad);
    if !bad.is_empty() {
        let lost = heal(yard, &bad.keys().copied().collect(), &HashSet::new(), &[], ctx)?;
        if let Some(content) = lost.first() {
            let path = yard.store.pool.path(*content);
            return Err(Error::ContentMissing { path, needed_for: bad[content].to_string() });
        }
        for &content in bad.keys() {
            yard.store.pool.ask(layout.ledger, content, false, &mut Vec::new(), ctx)?;
        }
    }
    let executables = parallel::into_inner(executables);
    executables.iter().try_for_each(|content| layout.stage_executable(*content))?;
    Ok(executables.into_iter().collect())
}

/// Puts the guard on again of files of the pool that were read and are right.
fn guard_again(yard: &Yard, layout: &Layout<'_>, lifted: &[(ContentId, bool, Stat)]) -> Result<()> {
    if lifted.is_empty() {
        return Ok(());
    }
    let _alone = yard.alone(layout.ctx)?;
    let ledger = Ledger::load(&yard.store.pool)?;
    for (content, executable, stat) in lifted {
        yard.store.pool.guard(&ledger, *content, &yard.store.pool.files(*content)[usize::from(*executable)], stat)?;
    }
    ledger.save(layout.op)?;
    layout.ledger.learn(&ledger);
    Ok(())
}

/// Brings contents back that the pool lacks, or whose file holds something else: from the content's other file, files
/// of twins, where builds were taken in from, and the folders `from`; never from the inodes `bad`. Says which are nowhere.
pub(crate) fn heal(
    yard: &Yard,
    contents: &HashSet<ContentId>,
    bad: &HashSet<u64>,
    from: &[PathBuf],
    ctx: &Ctx,
) -> Result<Vec<ContentId>> {
    let (mut missing, mut bad) = (HashSet::new(), bad.clone());
    let asked = Ledger::load(&yard.store.pool)?;
    let mut wrong = Vec::new();
    for &content in contents {
        match yard.store.pool.ask(&asked, content, false, &mut Vec::new(), ctx)? {
            Has::Right | Has::Lifted(_) => continue,
            Has::Wrong(stat) => wrong.push((content, stat.ino)),
            Has::Nothing => {}
        }
        missing.insert(content);
    }
    set_aside(yard, &wrong, ctx)?;
    bad.extend(wrong.iter().map(|(_, inode)| *inode));
    bad.extend(yard.store.pool.aside()?.into_keys());
    if missing.is_empty() {
        return Ok(Vec::new());
    }
    let mut sources = sources::sources(yard, &missing, &bad)?;
    for (content, path) in sources::found_in(yard, from, &missing, ctx)? {
        sources.entry(content).or_default().push(path);
    }
    let mut lost = Vec::new();
    for &content in &missing {
        let candidates = sources.remove(&content).unwrap_or_default();
        let mut found = false;
        for path in candidates {
            let op = yard.begin(ctx)?;
            // Unreadable files are no sources.
            match sources::take_from(yard, content, &path, &op, ctx) {
                Err(error) if matches!(error, Error::Cancelled) || error.is_lack() => return Err(error),
                Ok(true) => found = true,
                Ok(false) => continue,
                Err(error) => {
                    tracing::info!(path = %path.display(), %error, "could not be taken from here");
                    continue;
                }
            }
            break;
        }
        if !found {
            lost.push(content);
        }
    }
    lost.sort_unstable();
    Ok(lost)
}

/// The bytes of a content of moderate size.
///
/// # Errors
/// [`Error::Io`], or [`Error::Damaged`] if the pool's file holds something else.
pub(crate) fn bytes_of(yard: &Yard, content: ContentId) -> Result<Vec<u8>> {
    let path = yard.store.pool.path(content);
    let bytes = std::fs::read(&path).at("read", &path)?;
    if blake3::hash(&bytes).as_bytes() == content.as_bytes() {
        return Ok(bytes);
    }
    Err(Error::Damaged { path, why: "it doesn't hold what its name says".into() })
}

/// Sees to it that a file of the pool holds what it should.
///
/// # Errors
/// [`Error::Damaged`] if it doesn't, or is not there.
pub(crate) fn vouch_for(yard: &Yard, content: ContentId) -> Result<()> {
    let ledger = Ledger::load(&yard.store.pool)?;
    if yard.store.pool.ask(&ledger, content, false, &mut Vec::new(), &Ctx::new())?.is_right() {
        return Ok(());
    }
    let path = yard.store.pool.path(content);
    Err(Error::Damaged { path, why: "it doesn't hold what its name says, or is not there".into() })
}

/// Sets files of the pool aside that hold something else than they should.
pub(crate) fn set_aside(yard: &Yard, wrong: &[(ContentId, u64)], ctx: &Ctx) -> Result<()> {
    if wrong.is_empty() {
        return Ok(());
    }
    let op = yard.begin(ctx)?;
    let _alone = yard.alone(ctx)?;
    let ledger = Ledger::load(&yard.store.pool)?;
    wrong.iter().try_for_each(|(content, inode)| yard.store.pool.set_aside(&ledger, *content, *inode))?;
    ledger.save(op.path())
}
