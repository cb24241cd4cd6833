//! Changes a folder from one listing to another: checked and staged as a whole here, then published entry by entry.
//!
//! No file that is there is ever opened for writing. What comes out of the folder is kept in the operation's folder until
//! the change is committed, and compared with what should have come out.

use std::cell::Cell;
use std::collections::{BTreeSet, HashSet};
use std::io::{self, BufWriter, Write};
use std::os::fd::{AsFd, BorrowedFd};
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use rustix::fs::{Access, AtFlags, FileType};
use rustix::io::Errno;
use serde::Serializer as _;

use super::lay::{Layout, Placer, ToLink};
use super::steps::{Doing, Step};
use crate::disk::{self, Folders, Stat};
use crate::error::{Error, PathContext, Result, TwinError};
use crate::ident::ContentId;
use crate::listing::{Entry, Listing, Node};
use crate::parallel::{self, lock};
use crate::path::{RelPath, at_and_above};
use crate::progress::{Ctx, Phase};
use crate::scan::Row;
use crate::store::pool::{Ledger, Share};

/// Entries that are staged in one folder.
pub(crate) const TOGETHER: usize = 256;

/// Up to so many folders are synced one by one; above, the filesystem is synced once, which also waits for whatever other
/// programs have written. What changed in them goes to the disk together, with the first of them.
const SYNC_FOLDERS: usize = 256;

/// The same for files.
const SYNC_SINGLY: usize = 32;

/// The file in an operation's folder that says which path each step is about.
pub(crate) const PATHS: &str = "paths";

/// A change of a twin's folder.
#[derive(Clone, Copy)]
pub(crate) struct FolderChange<'a> {
    pub(crate) layout: &'a Layout<'a>,
    /// The twin, for messages.
    pub(crate) twin: &'a str,
    /// Its folder.
    pub(crate) folder: &'a Path,
    /// What is there, and how it looks.
    pub(crate) there: &'a Listing,
    pub(crate) rows: &'a [Row],
    /// What should be there.
    pub(crate) next: &'a Listing,
    /// Which paths are worth nothing: they stay where they are, and their folders with them.
    pub(crate) is_scratch: &'a (dyn Fn(&RelPath) -> bool + Sync),
}

/// A change that is staged, ready to be published.
pub(crate) struct Staged {
    pub(super) steps: Vec<Step>,
    /// One for each step: how its file looks, once it is published in the folder; the default for what is no file.
    pub(super) rows: Vec<Cell<Row>>,
}

impl Staged {
    /// What comes into the folder, in the order of the paths.
    pub(crate) fn rows(&self) -> impl Iterator<Item = (&RelPath, Row)> {
        let coming = self.steps.iter().zip(&self.rows).filter(|(step, _)| step.comes());
        coming.map(|(step, row)| (&step.path, row.get()))
    }

    /// The paths that the steps are about, in their order.
    pub(crate) fn paths(&self) -> impl Iterator<Item = &RelPath> {
        self.steps.iter().map(|step| &step.path)
    }
}

impl FolderChange<'_> {
    pub(super) fn ctx(&self) -> &Ctx {
        self.layout.ctx
    }

    fn before(&self, path: &RelPath) -> Option<(&Entry, Row)> {
        let at = self.there.position(path.as_str())?;
        Some((&self.there.entries()[at], self.rows.get(at).copied().unwrap_or_default()))
    }

    pub(super) fn on_disk(&self, path: &RelPath) -> PathBuf {
        path.below(self.folder)
    }

    /// Whether all steps can be done; returns the folders that would go, and stay since something worth nothing is in
    /// them. Changes nothing.
    pub(crate) fn check(&self, steps: &[Step]) -> Result<Vec<RelPath>> {
        let going: HashSet<&RelPath> =
            steps.iter().filter(|s| matches!(s.doing, Doing::Remove | Doing::RemoveFolder)).map(|s| &s.path).collect();
        let mut folders = Folders::new(self.folder)?;
        let (mut stay, mut writable) = (Vec::new(), "");
        for step in steps {
            self.ctx().check()?;
            let parent = step.path.parent().unwrap_or_default();
            if let Some(at) = self.parent(&mut folders, parent, &going)? {
                if writable != parent {
                    rustix::fs::accessat(at, ".", Access::WRITE_OK | Access::EXEC_OK, AtFlags::EACCESS)
                        .at("write in", self.folder.join(parent))?;
                    writable = parent;
                }
                self.check_step(at, step, &going)?;
            }
            if step.doing == Doing::RemoveFolder && self.must_stay(&mut folders, &step.path, &going)? {
                stay.push(step.path.clone());
            }
        }
        let kept = |path: &RelPath| stay.iter().any(|folder: &RelPath| folder.is_at_or_below(path));
        match steps.iter().find(|s| matches!(s.doing, Doing::Put | Doing::Replace) && kept(&s.path)) {
            Some(step) => Err(self.in_the_way(&step.path)),
            None => Ok(stay),
        }
    }

    /// The folder that a step is done in, if it is there already.
    fn parent<'f>(
        &self,
        folders: &'f mut Folders<'_>,
        path: &str,
        going: &HashSet<&RelPath>,
    ) -> Result<Option<BorrowedFd<'f>>> {
        match folders.find(path) {
            Err(Error::Io { source, path: shown, .. }) if source.kind() == io::ErrorKind::NotADirectory => {
                // A file that is to become a folder, or else something that was a folder when it was looked at.
                let mut above = at_and_above(path);
                if above.any(|path| RelPath::new(path).is_ok_and(|path| going.contains(&path))) {
                    return Ok(None);
                }
                Err(TwinError::ChangedMeanwhile { name: self.twin.into(), path: shown }.into())
            }
            found => found,
        }
    }

    fn in_the_way(&self, path: &RelPath) -> Error {
        TwinError::InTheWay { name: self.twin.into(), path: self.on_disk(path) }.into()
    }

    fn stale(&self, path: &RelPath) -> Error {
        TwinError::ChangedMeanwhile { name: self.twin.into(), path: self.on_disk(path) }.into()
    }

    fn check_step(&self, at: BorrowedFd<'_>, step: &Step, going: &HashSet<&RelPath>) -> Result<()> {
        let name = step.path.name();
        let live = self.stat(at, name, &step.path)?;
        match (step.doing, live) {
            (Doing::Remove | Doing::Replace, Some(stat)) if self.as_expected(at, &step.path, &stat, None)? => Ok(()),
            (Doing::Remove | Doing::Replace, _) => Err(self.stale(&step.path)),
            // What no listing can hold, or what was not there when it was looked at.
            (Doing::Put, Some(_)) if !going.contains(&step.path) => Err(self.in_the_way(&step.path)),
            (Doing::MakeFolder, Some(stat)) if !going.contains(&step.path) && !is_folder(&stat) => {
                Err(self.in_the_way(&step.path))
            }
            _ => Ok(()),
        }
    }

    /// Whether scratch files keep a folder from going. An entry that is new, or can't be kept, is an error.
    fn must_stay(&self, folders: &mut Folders<'_>, path: &RelPath, going: &HashSet<&RelPath>) -> Result<bool> {
        let Some(at) = folders.find(path.as_str())? else { return Ok(false) };
        let mut stays = false;
        for name in rustix::fs::Dir::read_from(at).at("list", self.on_disk(path))? {
            let name = name.at("list", self.on_disk(path))?;
            let bytes = name.file_name().to_bytes();
            if bytes == b"." || bytes == b".." {
                continue;
            }
            let shown = self.on_disk(path).join(String::from_utf8_lossy(bytes).as_ref());
            let not_taken = || TwinError::NotTaken { name: self.twin.into(), paths: vec![shown.display().to_string()] };
            let below = path.join(std::str::from_utf8(bytes).map_err(|_| not_taken())?)?;
            if going.contains(&below) {
                continue;
            }
            if !(self.is_scratch)(&below) {
                let stat = self.stat(at, below.name(), &below)?;
                let listable = stat.is_none_or(|stat| is_file_or_link(&stat) || is_folder(&stat));
                return Err(if listable { self.stale(&below) } else { not_taken().into() });
            }
            stays = true;
        }
        Ok(stays)
    }

    pub(super) fn stat(&self, at: BorrowedFd<'_>, name: &str, path: &RelPath) -> Result<Option<Stat>> {
        match rustix::fs::statat(at, name, AtFlags::SYMLINK_NOFOLLOW) {
            Err(Errno::NOENT) => Ok(None),
            stat => Ok(Some(stat.at("look at", self.on_disk(path))?.into())),
        }
    }

    /// Whether what is there is what the listing says. What is linked has to be as the ledger says, if one is given: only
    /// while the yard is held alone nobody else moves its ctime.
    pub(super) fn as_expected(
        &self,
        at: BorrowedFd<'_>,
        path: &RelPath,
        stat: &Stat,
        ledger: Option<&Ledger>,
    ) -> Result<bool> {
        let Some((entry, row)) = self.before(path) else { return Ok(false) };
        Ok(match &entry.node {
            Node::File { content, .. } if row.share == Some(Share::Link) => {
                row.ino == stat.ino && ledger.is_none_or(|ledger| ledger.holds(*content, stat))
            }
            Node::File { size, .. } => {
                (row.ino, *size, row.mtime, row.mode, row.ctime)
                    == (stat.ino, stat.size, stat.mtime, stat.mode, stat.ctime)
            }
            Node::Symlink { target } if FileType::from_raw_mode(stat.mode) == FileType::Symlink => {
                let now =
                    rustix::fs::readlinkat(at, path.name(), Vec::new()).at("read the link", self.on_disk(path))?;
                now.to_bytes() == target.as_bytes()
            }
            Node::Symlink { .. } => false,
            Node::EmptyFolder => is_folder(stat),
        })
    }

    /// Builds all that is to come below the operation's folder, so that a full disk shows before the first change, and
    /// makes it survive a power loss.
    pub(crate) fn stage(&self, steps: Vec<Step>) -> Result<Staged> {
        let op = self.layout.op;
        // For recovery: says what came out if this process dies.
        disk::write_synced_by(&op.join(PATHS), |file| {
            let mut out = BufWriter::new(file);
            serde_json::Serializer::new(&mut out).collect_seq(steps.iter().map(|step| &step.path))?;
            out.flush()
        })?;
        for area in ["new", "old"] {
            disk::make_folder(&op.join(area))?;
        }
        let numbered: Vec<(usize, &Step)> = steps.iter().enumerate().collect();
        let chunks: Vec<&[(usize, &Step)]> = numbered.chunks(TOGETHER).collect();
        for chunk in 0..chunks.len() {
            disk::make_folder(&op.join(format!("new/{chunk}")))?;
            disk::make_folder(&op.join(format!("old/{chunk}")))?;
        }
        let placer = self.layout.placer(self.folder)?;
        let rows = Mutex::new(vec![Row::default(); steps.len()]);
        let puts: Vec<_> = steps.iter().filter(|step| step.comes()).collect();
        let mut next = self.next.finder();
        let sizes = puts.iter().filter_map(|step| next.find(step.path.as_str())).map(|entry| entry.node.size());
        self.ctx().phase(Phase::Building, puts.len() as u64, sizes.sum(), || {
            parallel::for_each(&chunks, self.ctx().threads(), Vec::new, |buffer, chunk| {
                let made = self.stage_chunk(&placer, chunk, buffer)?;
                for (at, row) in made {
                    lock(&rows)[at] = row;
                }
                Ok(())
            })
        })?;
        let rows = parallel::into_inner(rows);
        self.sync_staged(&rows)?;
        Ok(Staged { steps, rows: rows.into_iter().map(Cell::new).collect() })
    }

    fn stage_chunk(
        &self,
        placer: &Placer<'_>,
        chunk: &[(usize, &Step)],
        buffer: &mut Vec<u8>,
    ) -> Result<Vec<(usize, Row)>> {
        let Some((first, _)) = chunk.first() else { return Ok(Vec::new()) };
        let path = self.layout.op.join(slot("new", *first).0);
        let folder = disk::open_folder(rustix::fs::CWD, &path).at("open", &path)?;
        let (mut rows, mut next) = (Vec::new(), self.next.finder());
        for (number, step) in chunk.iter().filter(|(_, step)| step.comes()) {
            self.ctx().check()?;
            let Some(entry) = next.find(step.path.as_str()) else { continue };
            if self.layout.policy.way(entry) != Share::Link {
                let place = |ctx: &Ctx| placer.place(folder.as_fd(), &number.to_string(), entry, buffer, ctx);
                rows.push((*number, self.ctx().file(entry.node.size(), place)?));
            } else {
                self.ctx().progress().advance(1, entry.node.size());
            }
        }
        Ok(rows)
    }

    /// Stages the links that aren't staged yet, as far as the pool's files look as `current` says, the ledger as it is now
    /// that the caller holds the yard alone. Returns the contents of those that don't.
    pub(crate) fn stage_links(&self, staged: &Staged, current: &Ledger) -> Result<Vec<ContentId>> {
        let placer = self.layout.placer(self.folder)?;
        let (mut doubtful, mut buffer) = (Vec::new(), Vec::new());
        let (policy, mut next) = (self.layout.policy, self.next.finder());
        for first in (0..staged.steps.len()).step_by(TOGETHER) {
            let chunk = first..staged.steps.len().min(first + TOGETHER);
            let names: Vec<_> = chunk.clone().map(|number| slot("new", number).1).collect();
            let to_link: Vec<_> = chunk
                .zip(&names)
                .filter(|(at, _)| staged.steps[*at].comes() && staged.rows[*at].get().share.is_none())
                .filter_map(|(at, name)| Some(ToLink { at, entry: next.find(staged.steps[at].path.as_str())?, name }))
                .filter(|link| policy.way(link.entry) == Share::Link)
                .collect();
            if to_link.is_empty() {
                continue;
            }
            let path = self.layout.op.join(slot("new", first).0);
            let folder = disk::open_folder(rustix::fs::CWD, &path).at("open", &path)?;
            let linked = placer.link_all(current, folder.as_fd(), &to_link, &mut buffer)?;
            linked.rows.into_iter().for_each(|(at, row)| staged.rows[at].set(row));
            doubtful.extend(linked.doubtful);
        }
        Ok(doubtful)
    }

    fn sync_staged(&self, rows: &[Row]) -> Result<()> {
        let own: Vec<usize> = (0..rows.len()).filter(|&at| rows[at].share.is_some()).collect();
        if own.len() > SYNC_SINGLY {
            return disk::sync_filesystem(self.layout.op);
        }
        for number in own {
            let (folder, name) = slot("new", number);
            let path = self.layout.op.join(folder).join(name);
            disk::sync(&std::fs::File::open(&path).at("open", &path)?, &path)?;
        }
        Ok(())
    }

    /// Makes the changed folders survive a power loss.
    pub(super) fn sync(&self, touched: &BTreeSet<String>) -> Result<()> {
        if touched.len() > SYNC_FOLDERS {
            return disk::sync_filesystem(self.folder);
        }
        for folder in touched {
            let path = self.folder.join(folder);
            if disk::exists(&path) {
                disk::sync_folder(&path)?;
            }
        }
        Ok(())
    }
}

/// The folder below the operation's, and the name in it, of what a step stages or takes out.
pub(crate) fn slot(area: &str, number: usize) -> (String, String) {
    (format!("{area}/{}", number / TOGETHER), number.to_string())
}

fn is_folder(stat: &Stat) -> bool {
    FileType::from_raw_mode(stat.mode) == FileType::Directory
}

pub(crate) fn is_file_or_link(stat: &Stat) -> bool {
    matches!(FileType::from_raw_mode(stat.mode), FileType::RegularFile | FileType::Symlink)
}
