//! Getting the right bytes of contents back, from wherever they still are, and giving them to every twin that shares a
//! file with the wrong ones.

use std::collections::{BTreeMap, HashSet};
use std::path::PathBuf;

use crate::Yard;
use crate::catalog::{TwinRow, What};
use crate::error::{Error, Result};
use crate::ident::ContentId;
use crate::listing::{Layer, overlay};
use crate::path::RelPath;
use crate::progress::Ctx;
use crate::scan::Doubt;
use crate::twin::Twin;
use crate::twin::leaks;
use crate::twin::leaks::Leaks;
use crate::twin::settle::Record;
use crate::twin::vouch;

/// Contents that have to be put right: each with the inodes that should hold it, and hold something else.
#[derive(Clone, Debug, Default)]
pub(crate) struct Wrong(pub(crate) BTreeMap<ContentId, HashSet<u64>>);

impl Wrong {
    /// Adds a content, and an inode that should hold it and doesn't, if there is one.
    pub(crate) fn add(&mut self, content: ContentId, inode: Option<u64>) {
        self.0.entry(content).or_default().extend(inode);
    }

    fn contents(&self) -> HashSet<ContentId> {
        self.0.keys().copied().collect()
    }

    fn inodes(&self) -> HashSet<u64> {
        self.0.values().flatten().copied().collect()
    }
}

/// What came of a repair.
#[derive(Debug, Default)]
pub(crate) struct Repair {
    /// Files of twins that have their bytes again: the twin, and the path in it.
    pub(crate) repaired: Vec<(String, String)>,
    /// Contents whose bytes are nowhere.
    pub(crate) lost: Vec<ContentId>,
    /// What could not be done, and why.
    pub(crate) failed: Vec<String>,
}

/// Puts contents right in the pool: wrong files are set aside, and every twin that shares one mends itself. What it held
/// in place of the right bytes stays in its history.
pub(crate) fn repair(yard: &Yard, wrong: &Wrong, from: &[PathBuf], ctx: &Ctx) -> Result<Repair> {
    let aside: Vec<_> =
        wrong.0.iter().flat_map(|(content, inodes)| inodes.iter().map(|inode| (*content, *inode))).collect();
    vouch::set_aside(yard, &aside, ctx)?;
    let lost = vouch::heal(yard, &wrong.contents(), &wrong.inodes(), from, ctx)?;
    let mut leaks = Leaks { inodes: wrong.inodes(), ..Leaks::default() };
    leaks::mend_sharers(yard, None, &mut leaks, ctx)?;
    let failed = leaks.damaged.into_iter().chain(leaks.later).collect();
    Ok(Repair { repaired: leaks.repaired, lost, failed })
}

/// Gives a twin its bytes back at some paths; what it holds there now stays in the history. Names what stays damaged.
pub(crate) fn give_back(
    yard: &Yard,
    row: &TwinRow,
    paths: &[RelPath],
    inodes: &HashSet<u64>,
    ctx: &Ctx,
) -> Result<Vec<String>> {
    if paths.is_empty() {
        return Ok(Vec::new());
    }
    let right = yard.store.listing(yard.store.state(row.state)?.disk)?;
    let busy = || Error::Busy { what: format!("the twin {:?}", row.name.as_str()), holders: Vec::new() };
    let mut twin = Twin::try_hold(yard, row)?.ok_or_else(busy)?;
    let settled = twin.settle_without_repair(What::Outside, Doubt::Inodes(inodes), Record::Now, ctx)?;
    let settled = twin.mend_settled(settled, ctx)?;
    let layer = paths.iter().map(|path| (path.clone(), right.get(path.as_str()).cloned())).collect();
    let next = overlay(&settled.listing, &Layer::new(layer)?)?;
    Ok(twin.change_to(settled, next, What::Repaired, ctx)?.leaks.damaged)
}
