//! Getting the right bytes of contents back, from wherever they still are, and giving them to every twin that shares a
//! file with the wrong ones.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::path::{Path, PathBuf};

use rustix::fs::CWD;

use super::pool::reads_as;
use crate::Yard;
use crate::catalog::{TwinRow, What};
use crate::disk;
use crate::error::{Error, PathContext, Result};
use crate::ident::{ContentId, TwinId, TwinName};
use crate::listing::{Layer, overlay};
use crate::lock::Held;
use crate::ops::change::{Goal, Start};
use crate::path::RelPath;
use crate::pool::{Pool, Putter, Share};
use crate::progress::Ctx;
use crate::scan::Doubt;
use crate::yard::OpFolder;

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
    /// Files of twins that have their bytes again.
    pub(crate) repaired: Vec<(TwinName, RelPath)>,
    /// Contents whose bytes are nowhere.
    pub(crate) lost: Vec<ContentId>,
    /// Files of twins that hold the wrong bytes still.
    pub(crate) left: Vec<(TwinName, RelPath)>,
    /// What could not be done, and why.
    pub(crate) failed: Vec<String>,
}

/// The files of a twin that hold contents which are looked for.
#[derive(Default)]
struct Sharer {
    /// Those that are one of the wrong files.
    linked: Vec<(ContentId, RelPath)>,
    /// The others.
    own: Vec<(ContentId, PathBuf)>,
}

impl Yard {
    /// Puts contents right in the pool, and gives them back to every twin that shares a wrong file, but the one that
    /// wrote it. What a twin holds in its place stays in its history.
    pub(crate) fn repair(&self, wrong: &Wrong, writer: Option<TwinId>, from: &[PathBuf], ctx: &Ctx) -> Result<Repair> {
        let mut repair = Repair::default();
        let bad = wrong.inodes();
        let rows: Vec<_> = self.catalog.twins()?.into_iter().filter(|row| row.removed_at.is_none()).collect();
        let sharing: Vec<_> = rows.iter().map(|row| self.sharers(row, &wrong.contents(), &bad)).collect();
        let mut sources = self.sources(&wrong.contents(), &bad)?;
        for (content, path) in self.found_in(from, &wrong.contents(), ctx)? {
            sources.entry(content).or_default().push(path);
        }
        for &content in wrong.0.keys() {
            let candidates = sources.remove(&content).unwrap_or_default();
            if !self.put_right(content, &bad, &candidates, ctx)? {
                repair.lost.push(content);
            }
        }
        for (row, sharer) in rows.iter().zip(sharing).filter(|(row, _)| Some(row.id) != writer) {
            let (lost, paths): (Vec<_>, Vec<_>) =
                sharer.linked.into_iter().partition(|(content, _)| repair.lost.contains(content));
            repair.left.extend(lost.into_iter().map(|(_, path)| (row.name.clone(), path)));
            let paths: Vec<_> = paths.into_iter().map(|(_, path)| path).collect();
            match self.give_back(row, &paths, &bad, ctx) {
                Ok(more) => {
                    repair.repaired.extend(paths.into_iter().map(|path| (row.name.clone(), path)));
                    repair.failed.extend(more);
                }
                Err(error) => {
                    repair.failed.push(format!("{} of the twin {}: {error}", paths[0], row.name));
                }
            }
        }
        Ok(repair)
    }

    /// Files that should hold the contents and are none of the bad ones: the pool's second files, those of twins, and where
    /// stock builds were taken in from. What they hold now is not looked at.
    pub(super) fn sources(
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
            [false, true].into_iter().for_each(|x| add(content, self.pool.root().join(Pool::name(content, x))));
        }
        for row in self.catalog.twins()? {
            self.sharers(&row, contents, bad).own.into_iter().for_each(|(content, path)| add(content, path));
        }
        for stock in self.catalog.stock_builds()? {
            // A damaged listing names no sources, and that is all.
            let Ok(listing) = self.listing(stock.listing) else { continue };
            for entry in listing.entries() {
                let content = entry.node.content().filter(|content| contents.contains(content));
                if let (Some(content), Some(below)) = (content, entry.path.as_str().strip_prefix("game/")) {
                    add(content, Path::new(&stock.source).join(below));
                }
            }
        }
        Ok(sources)
    }

    /// The files of a twin that hold one of the contents, as far as its records can be read.
    fn sharers(&self, row: &TwinRow, contents: &HashSet<ContentId>, bad: &HashSet<u64>) -> Sharer {
        let mut sharer = Sharer::default();
        let Ok(state) = self.state(row.state) else { return sharer };
        let Ok(listing) = self.listing(state.disk) else { return sharer };
        let folder = self.folder_of(row);
        let index = self.index(&folder, &state, listing.entries().len());
        let rows = index.ok().flatten().map(|index| index.rows).unwrap_or_default();
        for (at, entry) in listing.entries().iter().enumerate() {
            let Some(content) = entry.node.content().filter(|content| contents.contains(content)) else { continue };
            let path = entry.path.below(&folder);
            let Ok(stat) = disk::lstat(&path) else { continue };
            let linked = rows.get(at).is_none_or(|row| row.share == Some(Share::Link));
            if !bad.contains(&stat.ino) {
                sharer.own.push((content, path));
            } else if linked {
                sharer.linked.push((content, entry.path.clone()));
            }
        }
        sharer
    }

    /// Files below folders that hold one of the contents: those of their sizes are read.
    fn found_in(
        &self,
        folders: &[PathBuf],
        contents: &HashSet<ContentId>,
        ctx: &Ctx,
    ) -> Result<Vec<(ContentId, PathBuf)>> {
        let mut sizes = HashSet::new();
        if !folders.is_empty() {
            for need in self.needs()? {
                // As above.
                let Ok(listing) = self.listing(need.listing) else { continue };
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

    /// Sees to it that the pool has a content, and no bad file of it. Says whether that was possible.
    fn put_right(&self, content: ContentId, bad: &HashSet<u64>, candidates: &[PathBuf], ctx: &Ctx) -> Result<bool> {
        let op = self.begin(ctx)?;
        let mut buffer = vec![0; disk::BUFFER];
        let is_bad = |path: &Path| disk::lstat(path).is_ok_and(|stat| bad.contains(&stat.ino));
        let files = [false, true].map(|executable| self.pool.root().join(Pool::name(content, executable)));
        let there = disk::exists(&files[0]) && !is_bad(&files[0]);
        let right = |path: &&PathBuf| reads_as(path, &mut buffer, ctx).is_ok_and(|found| found == content);
        let source = if there { None } else { candidates.iter().find(right) };
        if !there && source.is_none() {
            return Ok(false);
        }
        {
            let _alone = self.alone(ctx)?;
            for (at, file) in files.iter().enumerate().filter(|(_, file)| is_bad(file)) {
                // It goes away with the operation.
                disk::rename(file, &op.path().join(format!("bad{at}")))?;
            }
        }
        source.map_or(Ok(true), |source| self.take_from(content, source, &op, ctx))
    }

    /// Takes a content into the pool from a file, if that is what it holds.
    pub(in crate::ops) fn take_from(&self, content: ContentId, path: &Path, op: &OpFolder, ctx: &Ctx) -> Result<bool> {
        let file = disk::open_file(CWD, path).at("read", path)?;
        let stat = disk::fstat(&file).at("look at", path)?;
        let putter = Putter::new(&self.pool, op.path(), HashSet::new())?;
        let found = putter.put(&file, &stat, path, &mut vec![0; disk::BUFFER], ctx)?;
        if found != content {
            return Ok(false);
        }
        let _alone = self.alone(ctx)?;
        putter.publish(ctx)?;
        Ok(true)
    }

    /// Gives a twin its bytes back at some paths; what it holds there now stays in the history. Other files that were
    /// written through their guard, which this look finds, are repaired too; names what they leave damaged.
    pub(super) fn give_back(
        &self,
        row: &TwinRow,
        paths: &[RelPath],
        bad: &HashSet<u64>,
        ctx: &Ctx,
    ) -> Result<Vec<String>> {
        if paths.is_empty() {
            return Ok(Vec::new());
        }
        let right = self.listing(self.state(row.state)?.disk)?;
        let held = self.try_hold_twin(row)?;
        let settled = self.settle_without_repair(row, &held, What::Outside, Doubt::Inodes(bad), ctx)?;
        let layer = paths.iter().map(|path| (path.clone(), right.get(path.as_str()).cloned())).collect();
        let next = overlay(&settled.listing, &Layer::new(layer)?)?;
        let row = self.catalog.twin(row.id)?.unwrap_or_else(|| row.clone());
        let start = Start::of(&row, &settled);
        let goal = Goal { state: settled.state.clone(), next, what: Some(What::Repaired), intent: None };
        self.change_twin(&start, goal, ctx)?;
        let others: Vec<_> = settled.leaked.into_iter().filter(|leak| !bad.contains(&leak.inode)).collect();
        self.repair_leaks(&others, &row, ctx).map(|leaks| leaks.damaged)
    }

    /// Holds a twin if it is free just now.
    fn try_hold_twin(&self, row: &TwinRow) -> Result<Held> {
        let taken = crate::lock::try_take(&self.twin_lock_path(row.id), crate::lock::Mode::Alone)?;
        taken.ok_or_else(|| Error::Busy { what: format!("the twin {:?}", row.name.as_str()), holders: Vec::new() })
    }
}
