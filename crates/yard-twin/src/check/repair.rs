//! Getting the right bytes of contents back, from wherever they still are, and giving them to every twin that shares a
//! file with the wrong ones.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::path::{Path, PathBuf};

use rustix::fs::CWD;

use super::pool::reads_as;
use crate::Yard;
use crate::catalog::{TwinRow, What};
use crate::disk;
use crate::disk::op_folder::OpFolder;
use crate::error::{Error, PathContext, Result};
use crate::ident::ContentId;
use crate::listing::{Entry, Layer, overlay};
use crate::path::RelPath;
use crate::progress::Ctx;
use crate::scan::Doubt;
use crate::store::pool::{Pool, Putter};
use crate::twin::leaks::Leaks;

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

impl Yard {
    /// Puts contents right in the pool: wrong files are set aside, and every twin that shares one mends itself. What it held
    /// in place of the right bytes stays in its history.
    pub(crate) fn repair(&self, wrong: &Wrong, from: &[PathBuf], ctx: &Ctx) -> Result<Repair> {
        let aside: Vec<_> =
            wrong.0.iter().flat_map(|(content, inodes)| inodes.iter().map(|inode| (*content, *inode))).collect();
        self.set_aside(&aside, ctx)?;
        let lost = self.heal(&wrong.contents(), &wrong.inodes(), from, ctx)?;
        let mut leaks = Leaks { inodes: wrong.inodes(), ..Leaks::default() };
        self.mend_sharers(None, &mut leaks, ctx)?;
        let failed = leaks.damaged.into_iter().chain(leaks.later).collect();
        Ok(Repair { repaired: leaks.repaired, lost, failed })
    }

    /// Files that should hold the contents and are none of the bad ones: the pool's second files, those of twins, and where
    /// stock builds were taken in from. What they hold now is not looked at.
    pub(crate) fn sources(
        &self,
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
            [false, true].into_iter().for_each(|x| add(content, self.store.pool.root().join(Pool::name(content, x))));
        }
        for row in self.catalog.twins()? {
            self.files_with(&row, contents)?.into_iter().for_each(|(content, path)| add(content, path));
        }
        for stock in self.catalog.stock_builds()? {
            // A damaged listing names no sources, and that is all.
            let Some(listing) = Error::pass_over(self.store.listing(stock.listing))? else { continue };
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
    fn files_with(&self, row: &TwinRow, contents: &HashSet<ContentId>) -> Result<Vec<(ContentId, PathBuf)>> {
        let listing = self.store.state(row.state).and_then(|state| self.store.listing(state.disk));
        let Some(listing) = Error::pass_over(listing)? else { return Ok(Vec::new()) };
        let folder = self.folder_of(row);
        let wanted =
            |entry: &Entry| Some((entry.node.content().filter(|c| contents.contains(c))?, entry.path.below(&folder)));
        Ok(listing.entries().iter().filter_map(wanted).collect())
    }

    /// Files below folders that hold one of the contents: those of their sizes are read.
    pub(crate) fn found_in(
        &self,
        folders: &[PathBuf],
        contents: &HashSet<ContentId>,
        ctx: &Ctx,
    ) -> Result<Vec<(ContentId, PathBuf)>> {
        let mut sizes = HashSet::new();
        if !folders.is_empty() {
            for need in self.needs()? {
                // As above.
                let Ok(listing) = self.store.listing(need.listing) else { continue };
                let entries = listing.entries().iter();
                let wanted = entries.filter(|e| e.node.content().is_some_and(|content| contents.contains(&content)));
                sizes.extend(wanted.map(|entry| entry.node.size()));
            }
        }
        let (mut found, mut buffer) = (Vec::new(), vec![0; disk::BUFFER]);
        let mut left: Vec<PathBuf> = folders.to_vec();
        while let Some(folder) = left.pop() {
            let Ok(entries) = std::fs::read_dir(&folder) else { continue };
            for entry in entries {
                ctx.check()?;
                let path = entry.at("list", &folder)?.path();
                // What can't be looked at or read has nothing to give.
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
    pub(crate) fn take_from(&self, content: ContentId, path: &Path, op: &OpFolder, ctx: &Ctx) -> Result<bool> {
        let file = disk::open_file(CWD, path).at("read", path)?;
        let stat = disk::fstat(&file).at("look at", path)?;
        let putter = Putter::new(&self.store.pool, op.path(), HashSet::new())?;
        let found = putter.put(&file, &stat, path, &mut vec![0; disk::BUFFER], ctx)?;
        if found != content {
            return Ok(false);
        }
        self.publish(putter, op, None, ctx)?;
        Ok(true)
    }

    /// Gives a twin its bytes back at some paths; what it holds there now stays in the history. Names what stays damaged.
    pub(crate) fn give_back(
        &self,
        row: &TwinRow,
        paths: &[RelPath],
        inodes: &HashSet<u64>,
        ctx: &Ctx,
    ) -> Result<Vec<String>> {
        if paths.is_empty() {
            return Ok(Vec::new());
        }
        let right = self.store.listing(self.store.state(row.state)?.disk)?;
        let busy = || Error::Busy { what: format!("the twin {:?}", row.name.as_str()), holders: Vec::new() };
        let held = self.try_hold_twin(row)?.ok_or_else(busy)?;
        let settled = self.settle_without_repair(row, &held, What::Outside, Doubt::Inodes(inodes), ctx)?;
        let settled = self.mend_settled(row, settled, ctx)?;
        let layer = paths.iter().map(|path| (path.clone(), right.get(path.as_str()).cloned())).collect();
        let next = overlay(&settled.listing, &Layer::new(layer)?)?;
        let row = self.catalog.twin(row.id)?.unwrap_or_else(|| row.clone());
        Ok(self.change_to(&row, settled, next, What::Repaired, ctx)?.leaks.damaged)
    }
}
