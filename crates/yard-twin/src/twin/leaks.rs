//! Files that twins share, and that somebody wrote to directly: whose bytes they are, and how everyone gets the right ones.
//!
//! A write through the guard is nobody's: every twin that shares the file gets the right bytes again, and keeps the
//! others in its history. Only where one twin alone shares it with the pool are the bytes that twin's own change.

use std::collections::HashSet;

use crate::Yard;
use crate::catalog::{TwinRow, What};
use crate::disk;
use crate::error::{Error, PathContext, Result};
use crate::ident::{ContentId, TwinId};
use crate::listing::{Entry, Layer, Node, overlay};
use crate::path::RelPath;
use crate::progress::Ctx;
use crate::scan::{Index, index_path};
use crate::store::pool::Share;
use crate::twin::Twin;
use crate::twin::change::{Goal, Start};
use crate::twin::look::Look;
use crate::twin::settle::Settled;
use crate::twin::vouch;

/// Shared files that were found to be written to directly, and what became of them.
#[derive(Clone, Debug, Default, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct Leaks {
    /// Where that was found in the twin that was looked at: the right bytes are there again.
    pub paths: Vec<String>,
    /// The line of its history that holds what was there.
    #[serde(default)]
    pub number: Option<u32>,
    /// Where the twin that was looked at was the only one to share the file: what is there is its own change.
    #[serde(default)]
    pub own: Vec<String>,
    /// Files of other twins that have their bytes again: the twin, and the path in it.
    pub repaired: Vec<(String, String)>,
    /// Twins that may share the files too and could not be looked at now, each with why: they mend themselves at their next
    /// command.
    #[serde(default)]
    pub later: Vec<String>,
    /// What still holds the wrong bytes, or lacks the right ones, which are nowhere.
    pub damaged: Vec<String>,
    /// Files of the twin that was looked at whose guard was lifted, or whose time was set, with no byte changed: they, and
    /// all that share them, are as they were.
    #[serde(default)]
    pub guarded: Vec<String>,
    /// The files that others may share too.
    #[serde(skip)]
    pub(crate) inodes: HashSet<u64>,
}

impl Leaks {
    /// Whether there are none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.paths.is_empty() && self.own.is_empty() && self.guarded.is_empty() && self.damaged.is_empty()
    }

    /// These and others.
    pub(crate) fn extend(&mut self, other: Self) {
        self.paths.extend(other.paths);
        self.number = other.number.or(self.number);
        self.own.extend(other.own);
        self.repaired.extend(other.repaired);
        self.later.extend(other.later);
        self.damaged.extend(other.damaged);
        self.guarded.extend(other.guarded);
        self.inodes.extend(other.inodes);
    }
}

/// A shared file with wrong bytes in a twin.
#[derive(Clone, Debug)]
pub(crate) struct Leaked {
    pub(crate) path: RelPath,
    pub(crate) inode: u64,
    pub(crate) right: ContentId,
    /// What the twin had there when that was seen last, if it was right.
    before: Option<Entry>,
    /// Whether no other twin shares it.
    pub(crate) alone: bool,
}

/// What is to be put right in a twin.
#[derive(Debug, Default)]
pub(crate) struct Mends {
    pub(crate) leaks: Vec<Leaked>,
    /// Shared files that were made executable by hand, or are no longer: the twin gets a file of its own.
    modes: Vec<(RelPath, bool)>,
    guarded: Vec<String>,
}

impl Mends {
    pub(crate) fn is_empty(&self) -> bool {
        self.leaks.is_empty() && self.modes.is_empty()
    }

    pub(crate) fn has_leak(&self, path: &RelPath) -> bool {
        self.leaks.iter().any(|leak| leak.path == *path && !leak.alone)
    }

    /// What is said of it, before anything is mended.
    pub(crate) fn leaks(&self) -> Leaks {
        let paths = |alone| self.leaks.iter().filter(move |leak| leak.alone == alone).map(|leak| leak.path.to_string());
        Leaks {
            paths: paths(false).collect(),
            own: paths(true).collect(),
            guarded: self.guarded.clone(),
            inodes: self.leaks.iter().filter(|leak| !leak.alone).map(|leak| leak.inode).collect(),
            ..Leaks::default()
        }
    }
}

impl Twin {
    /// Judges what a look found wrong with shared files. What is the twin's alone becomes its own.
    pub(crate) fn judge(&self, look: &mut Look, ctx: &Ctx) -> Result<Mends> {
        let mut mends = Mends::default();
        for lifted in &look.found.lifted {
            match lifted.asked {
                Some(executable) => mends.modes.push((lifted.path.clone(), executable)),
                None => mends.guarded.push(lifted.path.to_string()),
            }
        }
        if look.found.leaks.is_empty() {
            return Ok(mends);
        }
        let inodes: HashSet<u64> = look.found.leaks.iter().map(|leak| leak.inode).collect();
        let shared = shared_by_others(&self.yard, self.row.id, &inodes, ctx)?;
        let aside = self.yard.store.pool.aside()?;
        for leak in &look.found.leaks {
            let before = look.before.get(leak.path.as_str());
            let before = before.filter(|before| before.node.content() == Some(leak.right)).cloned();
            // A file that is aside already was shared when it was moved there: whose bytes it has is unknown.
            let alone = !shared.contains(&leak.inode) && !aside.contains_key(&leak.inode);
            let (path, inode, right) = (leak.path.clone(), leak.inode, leak.right);
            mends.leaks.push(Leaked { path, inode, right, before, alone });
        }
        for (path, now) in &mut look.found.changed {
            let own = mends.leaks.iter().any(|leak| leak.alone && leak.path == *path);
            if let (true, Some(now)) = (own, now) {
                now.1.share = Some(Share::Own);
            }
        }
        Ok(mends)
    }

    /// Puts right in a twin what its settle found: what was there is in its history by now. The caller holds the twin.
    pub(crate) fn mend_settled(&mut self, mut settled: Settled, ctx: &Ctx) -> Result<Settled> {
        let mends = std::mem::take(&mut settled.mends);
        if mends.is_empty() {
            return Ok(settled);
        }
        let bad: HashSet<u64> = mends.leaks.iter().map(|leak| leak.inode).collect();
        let contents = mends.leaks.iter().map(|leak| leak.right).collect();
        let lost: HashSet<ContentId> = vouch::heal(&self.yard, &contents, &bad, &[], ctx)?.into_iter().collect();
        settled.leaks.damaged.extend(stock_with(&self.yard, &lost)?);
        let mut layer = Vec::new();
        for leak in mends.leaks.iter().filter(|leak| !leak.alone) {
            if lost.contains(&leak.right) {
                settled.leaks.damaged.push(format!("{} of the twin {}", leak.path, self.row.name));
                settled.leaks.paths.retain(|path| *path != leak.path.as_str());
                continue;
            }
            layer.push((leak.path.clone(), Some(right_entry(&self.yard, leak)?)));
        }
        let what = if layer.is_empty() { What::Outside } else { What::Repaired };
        for (path, asked) in mends.modes {
            if let Some(entry) = settled.listing.get(path.as_str())
                && let Node::File { content, size, .. } = entry.node
            {
                let node = Node::File { content, size, executable: asked };
                layer.push((path, Some(Entry { node, ..entry.clone() })));
            }
        }
        if !layer.is_empty() {
            layer.sort_by(|a, b| a.0.cmp(&b.0));
            layer.dedup_by(|a, b| a.0 == b.0);
            let next = overlay(&settled.listing, &Layer::new(layer)?)?;
            settled = self.change_to(settled, next, what, ctx)?;
        }
        tidy_aside(&self.yard, ctx)?;
        Ok(settled)
    }

    /// Changes a twin from how it was settled to another listing, and gives how it is then.
    pub(crate) fn change_to(
        &mut self,
        settled: Settled,
        next: crate::Listing,
        what: What,
        ctx: &Ctx,
    ) -> Result<Settled> {
        let start = Start::of(&settled);
        let goal = Goal { state: settled.state.clone(), next, what: Some(what), intent: None, anew: None };
        let changed = self.change(&start, goal, ctx)?;
        let state = crate::store::state::State { disk: changed.next.id(), ..settled.state.clone() };
        let (listing, rows, looked_at) = (changed.next, changed.rows, changed.looked_at);
        Ok(Settled { state, listing, rows, folders: None, looked_at, ..settled })
    }
}

/// Those of the inodes that other twins share, or may share.
fn shared_by_others(yard: &Yard, but: TwinId, inodes: &HashSet<u64>, ctx: &Ctx) -> Result<HashSet<u64>> {
    let mut shared = HashSet::new();
    for row in yard.catalog.twins()?.into_iter().filter(|row| row.id != but && row.removed_at.is_none()) {
        ctx.check()?;
        match linked_inodes(yard, &row) {
            Some(linked) => shared.extend(linked.intersection(inodes)),
            // A twin without a readable index may share any of them.
            None => shared.extend(inodes),
        }
    }
    Ok(shared)
}

/// The inodes of the files that a twin links, by its index; `None` where that can't be told.
pub(crate) fn linked_inodes(yard: &Yard, row: &TwinRow) -> Option<HashSet<u64>> {
    let state = yard.store.state(row.state).ok()?;
    let index = Index::load(&index_path(&yard.folder_of(row)), state.disk, yard.store.pool.inode().ok()?).ok()??;
    Some(index.rows.iter().filter(|row| row.share == Some(Share::Link)).map(|row| row.ino).collect())
}

/// What a twin should have at the path of a leak.
fn right_entry(yard: &Yard, leak: &Leaked) -> Result<Entry> {
    if let Some(before) = &leak.before {
        return Ok(before.clone());
    }
    // It was taken down as it is in a settle that was cut off before this.
    let path = yard.store.pool.path(leak.right);
    let stat = disk::lstat(&path).at("look at", &path)?;
    let executable = yard.store.pool.executable_aside(leak.right, leak.inode)?;
    let node = Node::File { content: leak.right, size: stat.size, executable };
    Ok(Entry { path: leak.path.clone(), node, mtime: stat.mtime })
}

/// Mends every other twin that shares files which were written to directly, if its lock is free.
pub(crate) fn mend_sharers(yard: &Yard, but: Option<&TwinRow>, leaks: &mut Leaks, ctx: &Ctx) -> Result<()> {
    let rows = yard.catalog.twins()?;
    for row in rows.iter().filter(|row| row.removed_at.is_none() && but.is_none_or(|but| but.id != row.id)) {
        if linked_inodes(yard, row).is_some_and(|linked| linked.is_disjoint(&leaks.inodes)) {
            continue;
        }
        match mend_sharer(yard, row, ctx) {
            Ok(mended) => {
                leaks.repaired.extend(mended.paths.into_iter().map(|path| (row.name.to_string(), path)));
                leaks.damaged.extend(mended.damaged);
            }
            Err(error @ Error::Cancelled) => return Err(error),
            Err(error) => leaks.later.push(format!("{} ({error})", row.name)),
        }
    }
    leaks.damaged.sort();
    leaks.damaged.dedup();
    tidy_aside(yard, ctx)
}

fn mend_sharer(yard: &Yard, row: &TwinRow, ctx: &Ctx) -> Result<Leaks> {
    let twin = Twin::try_hold(yard, row)?;
    let mut twin = twin.ok_or_else(|| Error::Busy { what: "it".into(), holders: Vec::new() })?;
    Ok(twin.settle_and_mend(What::Outside, ctx)?.leaks)
}

/// Lets files aside go that no twin shares any more.
pub(crate) fn tidy_aside(yard: &Yard, ctx: &Ctx) -> Result<()> {
    let aside = yard.store.pool.aside()?;
    if aside.is_empty() {
        return Ok(());
    }
    let mut needed = HashSet::new();
    for row in yard.catalog.twins()?.into_iter().filter(|row| row.removed_at.is_none()) {
        match linked_inodes(yard, &row) {
            Some(linked) => needed.extend(linked),
            None => needed.extend(aside.keys().copied()),
        }
    }
    let _alone = yard.alone(ctx)?;
    yard.store.pool.tidy_aside(|inode| !needed.contains(&inode))
}

/// What stock builds lack without those contents.
fn stock_with(yard: &Yard, lost: &HashSet<ContentId>) -> Result<Vec<String>> {
    let mut named = Vec::new();
    if lost.is_empty() {
        return Ok(named);
    }
    for stock in yard.catalog.stock_builds()?.into_iter().filter(|row| row.removed_at.is_none()) {
        // A damaged listing is said by a check.
        let Ok(listing) = yard.store.listing(stock.listing) else { continue };
        for entry in listing.entries() {
            if entry.node.content().is_some_and(|content| lost.contains(&content)) {
                named.push(format!("{} of the stock build {}", entry.path, stock.build));
            }
        }
    }
    Ok(named)
}
