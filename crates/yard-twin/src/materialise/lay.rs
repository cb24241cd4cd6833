//! Lays a listing out in a new folder: folders first, then a folder at a time, shared out to the threads.

use std::collections::HashSet;
use std::fs::File;
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::path::Path;
use std::sync::Mutex;
use std::sync::atomic::{AtomicU64, Ordering};

use rustix::fs::{AtFlags, CWD};

use crate::disk::{self, Stat, Writer};
use crate::error::{Error, PathContext, Result};
use crate::ident::ContentId;
use crate::listing::{Entry, Listing, Node};
use crate::parallel::{self, lock};
use crate::path::RelPath;
use crate::pool::{Policy, Pool, Share};
use crate::progress::{Ctx, Phase};
use crate::scan::Row;

/// Progress is reported for so many bytes at once, or for a folder: all threads meet at the sink.
const REPORT: u64 = 1 << 20;

/// What is needed to lay a listing out.
pub(crate) struct Laying<'a> {
    pub(crate) pool: &'a Pool,
    pub(crate) policy: &'a Policy<'a>,
    /// The operation's folder: for the pool's executable files, which are made on demand.
    pub(crate) op: &'a Path,
    pub(crate) ctx: &'a Ctx,
}

/// What was laid.
pub(crate) struct Laid {
    /// One for each entry of the listing.
    pub(crate) rows: Vec<Row>,
    /// The latest ctime among them.
    pub(crate) latest: i64,
}

/// A folder with the entries that stand in it.
struct Unit<'a> {
    folder: &'a str,
    entries: Vec<usize>,
}

/// Places single files and symlinks; one for all threads.
pub(super) struct Placer<'a> {
    laying: &'a Laying<'a>,
    pool: OwnedFd,
    /// The folder that paths are told against in messages.
    into: &'a Path,
    /// Executables that have their own file in the pool, or get it now.
    executables: Mutex<HashSet<ContentId>>,
    number: AtomicU64,
}

impl Laying<'_> {
    pub(super) fn placer<'a>(&'a self, into: &'a Path) -> Result<Placer<'a>> {
        Ok(Placer {
            laying: self,
            pool: disk::open_folder(CWD, self.pool.root()).at("open", self.pool.root())?,
            into,
            executables: Mutex::default(),
            number: AtomicU64::new(0),
        })
    }

    /// Lays `listing` out below the empty folder `into`, which gets a `game` and a `home` whatever the listing has.
    pub(crate) fn lay(&self, listing: &Listing, into: &Path) -> Result<Laid> {
        let units = units(listing);
        for unit in &units {
            self.ctx.check()?;
            let folder = into.join(unit.folder);
            disk::make_folder(&folder)?;
        }
        let placer = self.placer(into)?;
        let rows = Mutex::new(vec![Row::default(); listing.entries().len()]);
        let totals = listing.totals();
        self.ctx.phase(Phase::Building, totals.files, totals.bytes, || {
            parallel::for_each(&units, self.ctx.threads(), Vec::new, |buffer, unit| {
                let made = placer.unit(listing, unit, buffer)?;
                let mut rows = lock(&rows);
                for (at, row) in made {
                    rows[at] = row;
                }
                Ok(())
            })
        })?;
        let rows = rows.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner);
        Ok(Laid { latest: rows.iter().map(|row| row.ctime).max().unwrap_or_default(), rows })
    }
}

/// The folders of a listing, each after its parent, with the places of the entries in them.
fn units(listing: &Listing) -> Vec<Unit<'_>> {
    let mut units: Vec<_> = ["game", "home"].map(|folder| Unit { folder, entries: Vec::new() }).into();
    // Those on the way to the last entry: what is below a folder follows it at once, so that one which is left is over.
    let mut way: Vec<usize> = Vec::new();
    for (at, entry) in listing.entries().iter().enumerate() {
        let is_folder = entry.node == Node::EmptyFolder;
        let folder = if is_folder { entry.path.as_str() } else { entry.path.parent().unwrap_or_default() };
        while way.last().is_some_and(|last| !lies_in(folder, units[*last].folder)) {
            way.pop();
        }
        let mut end = way.last().map_or(0, |last| units[*last].folder.len());
        while end < folder.len() {
            let start = if end == 0 { 0 } else { end + 1 };
            end = folder[start..].find('/').map_or(folder.len(), |len| start + len);
            let known = ["game", "home"].iter().position(|root| *root == &folder[..end]);
            way.push(known.unwrap_or(units.len()));
            if known.is_none() {
                units.push(Unit { folder: &folder[..end], entries: Vec::new() });
            }
        }
        if let Some(last) = way.last().filter(|_| !is_folder) {
            units[*last].entries.push(at);
        }
    }
    units
}

/// Whether `path` is `folder` or lies below it.
fn lies_in(path: &str, folder: &str) -> bool {
    path.strip_prefix(folder).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
}

impl Placer<'_> {
    fn unit(&self, listing: &Listing, unit: &Unit<'_>, buffer: &mut Vec<u8>) -> Result<Vec<(usize, Row)>> {
        let path = self.into.join(unit.folder);
        let folder = disk::open_folder(CWD, &path).at("open", &path)?;
        let mut rows = Vec::with_capacity(unit.entries.len());
        let mut done = (0, 0);
        for &at in &unit.entries {
            self.laying.ctx.check()?;
            let entry = &listing.entries()[at];
            rows.push((at, self.place(folder.as_fd(), entry.path.name(), entry, buffer)?));
            done = (done.0 + 1, done.1 + entry.node.size());
            if done.1 >= REPORT {
                self.laying.ctx.progress().advance(done.0, done.1);
                done = (0, 0);
            }
        }
        self.laying.ctx.progress().advance(done.0, done.1);
        Ok(rows)
    }

    /// Puts an entry that is no folder into `folder` under `name`.
    pub(super) fn place(&self, folder: BorrowedFd<'_>, name: &str, entry: &Entry, buffer: &mut Vec<u8>) -> Result<Row> {
        match &entry.node {
            Node::File { content, executable, .. } => self.file(folder, name, entry, *content, *executable, buffer),
            Node::Symlink { target } => {
                disk::symlink(target, folder, name).at("make the link", self.on_disk(&entry.path))?;
                Ok(Row::default())
            }
            Node::EmptyFolder => Ok(Row::default()),
        }
    }

    fn on_disk(&self, path: &RelPath) -> std::path::PathBuf {
        path.below(self.into)
    }

    fn file(
        &self,
        folder: BorrowedFd<'_>,
        name: &str,
        entry: &Entry,
        content: ContentId,
        executable: bool,
        buffer: &mut Vec<u8>,
    ) -> Result<Row> {
        let way = self.laying.policy.way(entry);
        if way == Share::Link && self.link(folder, name, entry, content, executable)? {
            let stat =
                rustix::fs::statat(folder, name, AtFlags::SYMLINK_NOFOLLOW).at("look at", self.on_disk(&entry.path))?;
            return self.checked(entry, content, Row::new(&Stat::from(stat), Share::Link), stat.st_size);
        }
        let from = disk::open_file(&self.pool, Pool::name(content, false))
            .map_err(|error| self.pool_error("open", entry, content, error))?;
        let mode = if executable { 0o777 } else { 0o666 };
        let path = || self.on_disk(&entry.path);
        let to = disk::create_file(folder, name, mode).at("make", path())?;
        let cloned = way == Share::Reflink && disk::reflink(&from, &to).at("clone into", path())?;
        if !cloned {
            copy(&from, &to, &path(), buffer)?;
        }
        disk::set_mtime(&to, entry.mtime).at("set the time of", path())?;
        let stat = disk::fstat(&to).at("look at", path())?;
        let share = if cloned { Share::Reflink } else { Share::Copy };
        self.checked(entry, content, Row::new(&stat, share), stat.size.cast_signed())
    }

    /// The row, if the file has the size that its content must have.
    fn checked(&self, entry: &Entry, content: ContentId, row: Row, size: i64) -> Result<Row> {
        if u64::try_from(size).is_ok_and(|size| size == entry.node.size()) {
            return Ok(row);
        }
        let why = format!("it has {size} bytes and should have {}; {} needs it", entry.node.size(), entry.path);
        Err(Error::Damaged { path: self.laying.pool.path(content), why })
    }

    fn pool_error(&self, doing: &'static str, entry: &Entry, content: ContentId, error: io::Error) -> Error {
        let path = self.laying.pool.path(content);
        if error.kind() == io::ErrorKind::NotFound && !disk::exists(&path) {
            Error::ContentMissing { path, needed_for: entry.path.to_string() }
        } else {
            Error::io(doing, path, error)
        }
    }

    /// Links the pool's file; `false` where that can't be done here.
    fn link(
        &self,
        folder: BorrowedFd<'_>,
        name: &str,
        entry: &Entry,
        content: ContentId,
        executable: bool,
    ) -> Result<bool> {
        if executable {
            self.make_executable(entry, content)?;
        }
        match disk::link(&self.pool, Pool::name(content, executable), folder, name) {
            Ok(()) => Ok(true),
            Err(error) if disk::link_unsupported(&error) => Ok(false),
            Err(error) => Err(self.pool_error("link", entry, content, error)),
        }
    }

    /// Sees to it that the pool has the content as an executable file: mode belongs to the inode, so it is a second one.
    fn make_executable(&self, entry: &Entry, content: ContentId) -> Result<()> {
        // Held while it is made, so that two threads don't make it at once; there are few of them.
        let mut executables = lock(&self.executables);
        let to = self.laying.pool.root().join(Pool::name(content, true));
        if executables.contains(&content) || disk::exists(&to) {
            return Ok(());
        }
        let from = disk::open_file(&self.pool, Pool::name(content, false))
            .map_err(|error| self.pool_error("open", entry, content, error))?;
        let temp = self.laying.op.join(format!("x{}", self.number.fetch_add(1, Ordering::Relaxed)));
        let file = disk::create_exact(&temp, 0o555).at("make", &temp)?;
        if !disk::reflink(&from, &file).at("clone into", &temp)? {
            copy(&from, &file, &temp, &mut Vec::new())?;
        }
        let mtime = disk::fstat(&from).at("look at", &temp)?.mtime;
        disk::set_mtime(&file, mtime).at("set the time of", &temp)?;
        disk::sync(&file, &temp)?;
        disk::rename_new(&temp, &to).at("store", &to)?;
        executables.insert(content);
        Ok(())
    }
}

/// Copies bytes, holes as holes. Not by the kernel, which shares blocks where it can: a copy is one.
fn copy(from: &File, to: &File, path: &Path, buffer: &mut Vec<u8>) -> Result<()> {
    let stat = disk::fstat(from).at("look at", path)?;
    buffer.resize(disk::BUFFER, 0);
    let mut writer = Writer::new(to, path, disk::has_holes(&stat));
    disk::read_all(from, buffer, |piece| writer.piece(piece), path)?;
    writer.finish()
}
