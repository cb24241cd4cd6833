//! Lays a listing out in a new folder: folders first, then a folder at a time, shared out to the threads.

use std::fs::File;
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::path::Path;
use std::sync::{Arc, Mutex};

use rustix::fs::CWD;

use crate::disk::{self, Writer};
use crate::error::{Error, PathContext, Result};
use crate::ident::ContentId;
use crate::listing::{Entry, Listing, Node};
use crate::parallel::{self, lock};
use crate::path::RelPath;
use crate::progress::{Ctx, Phase};
use crate::scan::Row;
use crate::store::pool::{Ledger, Linked, Policy, Pool, Share, hash_unchanged};

/// Progress is reported for so many bytes at once, or for a folder: all threads meet at the sink.
const REPORT: u64 = 1 << 20;

/// What is needed to lay a listing out.
#[derive(Clone, Copy)]
pub(crate) struct Layout<'a> {
    pub(crate) pool: &'a Pool,
    pub(crate) policy: &'a Policy<'a>,
    /// What is known of the pool's files.
    pub(crate) ledger: &'a Arc<Ledger>,
    /// The operation's folder: for the pool's executable files, which are made on demand.
    pub(crate) op: &'a Path,
    pub(crate) ctx: &'a Ctx,
}

/// What was laid.
pub(crate) struct Laid {
    /// One for each entry of the listing.
    pub(crate) rows: Vec<Row>,
    /// The latest ctime of files that are no links.
    pub(crate) latest: i64,
}

/// A listing by its folders, each after its parent: a `game` and a `home` whatever it has.
pub(crate) struct Tree<'a> {
    listing: &'a Listing,
    units: Vec<Unit<'a>>,
}

/// A folder with the entries that stand in it.
struct Unit<'a> {
    folder: &'a str,
    entries: Vec<usize>,
}

/// Places single files and symlinks; one for all threads.
pub(super) struct Placer<'a> {
    layout: &'a Layout<'a>,
    pool: OwnedFd,
    /// The folder that paths are told against in messages.
    into: &'a Path,
}

/// An entry that becomes a link: which one of the listing, and where.
#[derive(Clone, Copy)]
pub(super) struct ToLink<'a> {
    pub(super) at: usize,
    pub(super) entry: &'a Entry,
    pub(super) name: &'a str,
}

impl Layout<'_> {
    pub(super) fn placer<'a>(&'a self, into: &'a Path) -> Result<Placer<'a>> {
        Ok(Placer { layout: self, pool: disk::open_folder(CWD, self.pool.root()).at("open", self.pool.root())?, into })
    }

    /// Lays a listing out below the folder `into`, which has its folders, each entry in its way: all but the links, which
    /// [`Layout::lay_links`] adds. Nobody is kept from the yard.
    pub(crate) fn lay(&self, tree: &Tree<'_>, ways: &[Share], into: &Path) -> Result<Laid> {
        let placer = self.placer(into)?;
        let rows = Mutex::new(vec![Row::default(); tree.listing.entries().len()]);
        let totals = tree.listing.totals();
        self.ctx.phase(Phase::Building, totals.files, totals.bytes, || {
            parallel::for_each(&tree.units, self.ctx.threads(), Vec::new, |buffer, unit| {
                let made = placer.unit(tree.listing, ways, unit, buffer)?;
                let mut rows = lock(&rows);
                for (at, row) in made {
                    rows[at] = row;
                }
                Ok(())
            })
        })?;
        let rows = parallel::into_inner(rows);
        Ok(Laid { latest: rows.iter().map(|row| row.ctime).max().unwrap_or_default(), rows })
    }

    /// Adds the links that aren't there yet, as far as the pool's files look as `current` says, the ledger as it is now
    /// that the caller holds the yard alone. Returns the contents of those that don't.
    pub(crate) fn lay_links(
        &self,
        current: &Ledger,
        (tree, ways): (&Tree<'_>, &[Share]),
        into: &Path,
        laid: &mut Laid,
    ) -> Result<Vec<ContentId>> {
        if !self.policy.links() {
            return Ok(Vec::new());
        }
        let entries = tree.listing.entries();
        let placer = self.placer(into)?;
        let rows = &laid.rows;
        let (done, doubtful) = (Mutex::new(Vec::new()), Mutex::new(Vec::new()));
        let linked = parallel::for_each(&tree.units, self.ctx.threads(), Vec::new, |buffer, unit| {
            let to_link: Vec<_> = unit
                .entries
                .iter()
                .map(|&at| ToLink { at, entry: &entries[at], name: entries[at].path.name() })
                .filter(|link| rows[link.at].share.is_none() && ways[link.at] == Share::Link)
                .collect();
            if to_link.is_empty() {
                return Ok(());
            }
            let path = into.join(unit.folder);
            let folder = disk::open_folder(CWD, &path).at("open", &path)?;
            let linked = placer.link_all(current, folder.as_fd(), &to_link, buffer)?;
            lock(&done).extend(linked.rows);
            lock(&doubtful).extend(linked.doubtful);
            Ok(())
        });
        for (at, row) in parallel::into_inner(done) {
            laid.rows[at] = row;
        }
        linked?;
        Ok(parallel::into_inner(doubtful))
    }

    /// Moves the executables that were staged for the pool into it. The caller holds the yard alone.
    pub(crate) fn store_executables(&self, current: &Ledger, staged: &[ContentId]) -> Result<()> {
        for &content in staged {
            let (from, to) = (self.staged_executable(content), self.pool.root().join(Pool::name(content, true)));
            if let Ok(stat) = disk::lstat(&to) {
                if current.holds(content, &stat) {
                    continue;
                }
                self.pool.set_aside(current, content, stat.ino)?;
            }
            disk::rename_new(&from, &to).at("store", &to)?;
            current.set(content, &disk::lstat(&to).at("look at", &to)?);
        }
        Ok(())
    }

    fn staged_executable(&self, content: ContentId) -> std::path::PathBuf {
        self.op.join(format!("x-{content}"))
    }

    /// Stages the executable file of a content for the pool: mode belongs to the inode, so it is a second one.
    pub(crate) fn stage_executable(&self, content: ContentId) -> Result<()> {
        let (path, temp) = (self.pool.path(content), self.staged_executable(content));
        let from = disk::open_own(&path).at("open", &path)?;
        disk::remove_if_there(&temp)?;
        let file = disk::create_exact(&temp, 0o555).at("make", &temp)?;
        if !disk::reflink(&from, &file).at("clone into", &temp)? {
            copy(&from, &file, &temp, &mut Vec::new(), self.ctx)?;
        }
        let stat = disk::fstat(&from).at("look at", &path)?;
        disk::set_mtime(&file, stat.mtime).at("set the time of", &temp)?;
        disk::sync(&file, &temp)?;
        let written = disk::open_file(CWD, &temp).at("read", &temp)?;
        let seen = disk::fstat(&written).at("look at", &temp)?;
        if hash_unchanged(&written, &seen, &temp, &mut vec![0; disk::BUFFER], self.ctx)? == content {
            return Ok(());
        }
        Err(Error::Damaged { path, why: "it doesn't hold what its name says".into() })
    }
}

/// What came of linking.
pub(super) struct LinkedAll {
    pub(super) rows: Vec<(usize, Row)>,
    pub(super) doubtful: Vec<ContentId>,
}

impl<'a> Tree<'a> {
    pub(crate) fn of(listing: &'a Listing) -> Self {
        Self { listing, units: units(listing) }
    }

    pub(crate) fn folders(&self) -> impl Iterator<Item = &'a str> {
        self.units.iter().map(|unit| unit.folder)
    }

    /// Makes the folders below `into`. By one thread: the system lets one at a time into a folder, and most have one parent.
    pub(crate) fn make_folders(&self, into: &Path, ctx: &Ctx) -> Result<()> {
        self.folders().try_for_each(|folder| {
            ctx.check()?;
            disk::make_folder(&into.join(folder))
        })
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
    fn unit(
        &self,
        listing: &Listing,
        ways: &[Share],
        unit: &Unit<'_>,
        buffer: &mut Vec<u8>,
    ) -> Result<Vec<(usize, Row)>> {
        let is_own = |at: usize| ways[at] != Share::Link;
        let folder = if unit.entries.iter().any(|&at| is_own(at)) {
            let path = self.into.join(unit.folder);
            Some(disk::open_folder(CWD, &path).at("open", &path)?)
        } else {
            None
        };
        let mut rows = Vec::new();
        let mut done = (0, 0);
        for &at in &unit.entries {
            self.layout.ctx.check()?;
            let entry = &listing.entries()[at];
            if let Some(folder) = folder.as_ref().filter(|_| is_own(at)) {
                let place = |buffer, ctx: &Ctx| self.place(folder.as_fd(), entry.path.name(), entry, buffer, ctx);
                if entry.node.size() >= disk::LARGE {
                    rows.push((at, self.layout.ctx.file(entry.node.size(), |ctx| place(buffer, ctx))?));
                    continue;
                }
                rows.push((at, place(buffer, self.layout.ctx)?));
            }
            done = (done.0 + 1, done.1 + entry.node.size());
            if done.1 >= REPORT {
                self.layout.ctx.progress().advance(done.0, done.1);
                done = (0, 0);
            }
        }
        self.layout.ctx.progress().advance(done.0, done.1);
        Ok(rows)
    }

    /// Puts an entry that is no folder into `folder` under `name`, as a file of its own if it is one.
    pub(super) fn place(
        &self,
        folder: BorrowedFd<'_>,
        name: &str,
        entry: &Entry,
        buffer: &mut Vec<u8>,
        ctx: &Ctx,
    ) -> Result<Row> {
        match &entry.node {
            Node::File { .. } => self.file(folder, name, entry, buffer, ctx),
            Node::Symlink { target } => {
                disk::symlink(target, folder, name).at("make the link", self.on_disk(&entry.path))?;
                let stat = disk::stat_at(folder, name).at("look at", self.on_disk(&entry.path))?;
                Ok(Row::of_symlink(&stat))
            }
            Node::EmptyFolder => Ok(Row::default()),
        }
    }

    fn on_disk(&self, path: &RelPath) -> std::path::PathBuf {
        path.below(self.into)
    }

    fn file(&self, folder: BorrowedFd<'_>, name: &str, entry: &Entry, buffer: &mut Vec<u8>, ctx: &Ctx) -> Result<Row> {
        let Node::File { content, executable, .. } = entry.node else { return Ok(Row::default()) };
        let Layout { policy, ledger, .. } = *self.layout;
        let from = disk::open_file(&self.pool, Pool::name(content, false))
            .map_err(|error| self.pool_error("open", entry, content, error))?;
        let before = disk::fstat(&from).at("look at", self.layout.pool.path(content))?;
        let most = if executable { 0o777 } else { 0o666 };
        let mode = if policy.is_private(&entry.path) { most & 0o700 } else { most };
        let path = || self.on_disk(&entry.path);
        let to = disk::create_file(folder, name, mode).at("make", path())?;
        let cloned = policy.way(entry) == Share::Reflink && disk::reflink(&from, &to).at("clone into", path())?;
        if !cloned {
            copy(&from, &to, &path(), buffer, ctx)?;
        }
        let after = disk::fstat(&from).at("look at", self.layout.pool.path(content))?;
        if before != after || !ledger.holds(content, &before) {
            // Linked just now, or written to: the hash of the copy decides.
            disk::ready(buffer);
            let copied = disk::open_file(folder, name).at("read", path())?;
            let seen = disk::fstat(&copied).at("look at", path())?;
            if hash_unchanged(&copied, &seen, &path(), buffer, ctx)? != content {
                return Err(self.wrong(entry, content));
            }
        }
        disk::set_mtime(&to, entry.mtime).at("set the time of", path())?;
        let stat = disk::fstat(&to).at("look at", path())?;
        Ok(Row::new(&stat, if cloned { Share::Reflink } else { Share::Copy }))
    }

    fn wrong(&self, entry: &Entry, content: ContentId) -> Error {
        let why = format!("it doesn't hold what its name says; {} needs it", entry.path);
        Error::Damaged { path: self.layout.pool.path(content), why }
    }

    fn pool_error(&self, doing: &'static str, entry: &Entry, content: ContentId, error: io::Error) -> Error {
        let path = self.layout.pool.path(content);
        if error.kind() == io::ErrorKind::NotFound && !disk::exists(&path) {
            Error::ContentMissing { path, needed_for: entry.path.to_string() }
        } else {
            Error::io(doing, path, error)
        }
    }

    /// Links entries into a folder; where that can't be done here, they become files of their own.
    pub(super) fn link_all(
        &self,
        current: &Ledger,
        folder: BorrowedFd<'_>,
        entries: &[ToLink<'_>],
        buffer: &mut Vec<u8>,
    ) -> Result<LinkedAll> {
        let mut all = LinkedAll { rows: Vec::with_capacity(entries.len()), doubtful: Vec::new() };
        for ToLink { at, entry, name } in entries {
            self.layout.ctx.check()?;
            let Node::File { content, executable, .. } = entry.node else { continue };
            let from = Pool::name(content, executable);
            match current.link(content, (&self.pool, &from), (folder, name)) {
                Ok(Linked::Done(stat)) => all.rows.push((*at, Row::new(&stat, Share::Link))),
                Ok(Linked::Doubtful) => all.doubtful.push(content),
                Ok(Linked::Unsupported) => {
                    all.rows.push((*at, self.place(folder, name, entry, buffer, self.layout.ctx)?));
                }
                Err(error) if error.kind() == io::ErrorKind::NotFound => all.doubtful.push(content),
                Err(error) => return Err(self.pool_error("link", entry, content, error)),
            }
        }
        Ok(all)
    }
}

/// Copies bytes, holes as holes. Not by the kernel, which shares blocks where it can: a copy is one.
fn copy(from: &File, to: &File, path: &Path, buffer: &mut Vec<u8>, ctx: &Ctx) -> Result<()> {
    let stat = disk::fstat(from).at("look at", path)?;
    disk::ready(buffer);
    let mut writer = Writer::new(to, path, disk::has_holes(&stat));
    let piece = |piece: &[u8]| {
        writer.piece(piece)?;
        ctx.piece(piece.len() as u64)
    };
    disk::read_all(from, buffer, piece, path)?;
    writer.finish()
}
