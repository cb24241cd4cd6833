//! Puts contents into the pool: read, hashed and stored in one pass, published all at once.

use std::collections::{BTreeSet, HashMap, HashSet};
use std::fs::File;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex};

use super::{Has, Ledger, Pool};
use crate::disk::{self, Stat, Writer};
use crate::error::{Error, IntakeError, PathContext, Result};
use crate::ident::ContentId;
use crate::parallel::{self, lock};
use crate::progress::Ctx;

/// Up to so many new contents are synced one by one; above, the filesystem is synced once, which also waits for
/// whatever other programs have written.
const SYNC_SINGLY: u64 = 32;

/// So many contents are published by the threads before more are told off.
const AT_ONCE: usize = 1 << 14;

/// Stages new contents below a folder of its own, then moves them into the pool together.
///
/// Until [`Putter::publish`], nothing in the pool has changed. A crash leaves the stage, which the next command deletes.
pub(crate) struct Putter<'a> {
    pool: &'a Pool,
    stage: PathBuf,
    /// Sizes of contents that the pool may have: such a file is hashed before it is written.
    known_sizes: HashSet<u64>,
    can_reflink: AtomicBool,
    number: AtomicU64,
    /// What is known of the pool's files.
    ledger: Arc<Ledger>,
    /// Contents that are staged, and those found in the pool, which must still be there in the end.
    staged: Mutex<BTreeSet<ContentId>>,
    found: Mutex<BTreeSet<ContentId>>,
    /// Contents that are not staged, but files of the source: where, and how they looked when they were read.
    adopted: Mutex<HashMap<ContentId, (PathBuf, Stat)>>,
    /// Files of the pool that hold something else than they should: their inodes.
    wrong: Mutex<HashMap<ContentId, u64>>,
    synced: AtomicBool,
}

/// What a publish did.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct PutTotals {
    /// Contents that are new in the pool.
    pub(crate) contents: u64,
    /// Their bytes.
    pub(crate) bytes: u64,
}

/// Reads until a buffer is full, or there is no more.
fn filled(from: &mut dyn io::Read, buffer: &mut [u8]) -> io::Result<usize> {
    let mut filled = 0;
    while filled < buffer.len() {
        match from.read(&mut buffer[filled..]) {
            Ok(0) => break,
            Ok(read) => filled += read,
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) => return Err(error),
        }
    }
    Ok(filled)
}

impl<'a> Putter<'a> {
    /// Stages below `op`, a folder on the filesystem of the pool.
    pub(crate) fn new(pool: &'a Pool, op: &Path, known_sizes: HashSet<u64>) -> Result<Self> {
        Self::with_ledger(pool, op, known_sizes, Arc::new(Ledger::load(pool)?))
    }

    /// As [`Putter::new`], with a ledger that was read already.
    pub(crate) fn with_ledger(
        pool: &'a Pool,
        op: &Path,
        known_sizes: HashSet<u64>,
        ledger: Arc<Ledger>,
    ) -> Result<Self> {
        let stage = op.join("contents");
        disk::make_folder(&stage)?;
        Ok(Self {
            pool,
            stage,
            known_sizes,
            can_reflink: AtomicBool::new(true),
            number: AtomicU64::new(0),
            ledger,
            staged: Mutex::default(),
            found: Mutex::default(),
            adopted: Mutex::default(),
            wrong: Mutex::default(),
            synced: AtomicBool::new(false),
        })
    }

    /// What it knows of the pool's files.
    pub(crate) fn ledger(&self) -> Arc<Ledger> {
        Arc::clone(&self.ledger)
    }

    /// Reads the open file `file`, which was `seen` when it was listed, and stages its content unless it is known.
    ///
    /// # Errors
    /// [`IntakeError::Changed`] if the file is not as it was seen, or changes meanwhile.
    pub(crate) fn put(&self, file: &File, seen: &Stat, path: &Path, buffer: &mut [u8], ctx: &Ctx) -> Result<ContentId> {
        unchanged(file, seen, path)?;
        if self.known_sizes.contains(&seen.size) || seen.size == 0 {
            let content = hash_unchanged(file, seen, path, buffer, ctx)?;
            if lock(&self.staged).contains(&content) || self.is_there(content, ctx)? {
                return Ok(content);
            }
            rewind(file, path)?;
        }
        let temp = self.stage.join(format!("n{}", self.number.fetch_add(1, Ordering::Relaxed)));
        let staged = self.stage_one(file, seen, path, &temp, buffer, ctx);
        if staged.is_err() {
            // The whole stage goes away with the operation; this only frees the space sooner.
            let _ = disk::remove_file(&temp);
        }
        staged
    }

    /// The folder that things are staged in.
    pub(crate) fn stage(&self) -> &Path {
        &self.stage
    }

    /// Stages what comes out of a reader, unless it is known, with the time that it is said to have been written.
    ///
    /// # Errors
    /// Whatever the reader fails with, as an [`Error::Io`] about `path`.
    pub(crate) fn put_read(
        &self,
        from: &mut dyn io::Read,
        mtime: i64,
        path: &Path,
        buffer: &mut [u8],
        ctx: &Ctx,
    ) -> Result<(ContentId, u64)> {
        let mut read = filled(from, buffer).at("read", path)?;
        let (mut hasher, mut size) = (blake3::Hasher::new(), read as u64);
        hasher.update(&buffer[..read]);
        // What fits is known before anything is written.
        if read < buffer.len() && self.known_sizes.contains(&size) {
            let content = ContentId::from_bytes(*hasher.finalize().as_bytes());
            if lock(&self.staged).contains(&content) || self.is_there(content, ctx)? {
                return Ok((content, size));
            }
        }
        let temp = self.stage.join(format!("n{}", self.number.fetch_add(1, Ordering::Relaxed)));
        let out = disk::create_exact(&temp, 0o444).at("make", &temp)?;
        let mut writer = Writer::new(&out, &temp, false);
        let read = loop {
            ctx.piece(read as u64)?;
            writer.piece(&buffer[..read])?;
            match filled(from, buffer) {
                Ok(0) => break Ok(()),
                Ok(more) => {
                    hasher.update(&buffer[..more]);
                    (size, read) = (size + more as u64, more);
                }
                Err(error) => break Err(Error::io("read", path, error)),
            }
        };
        let written = read.and_then(|()| writer.finish());
        if let Err(error) = written {
            // The whole stage goes away with the operation; this only frees the space sooner.
            let _ = disk::remove_file(&temp);
            return Err(error);
        }
        disk::set_mtime(&out, mtime).at("set the time of", &temp)?;
        let content = ContentId::from_bytes(*hasher.finalize().as_bytes());
        self.keep_staged(content, &temp, ctx)?;
        Ok((content, size))
    }

    /// As [`Putter::put`], of a file of this user's that nobody can write to any more, on the filesystem of the pool: it
    /// becomes the pool's by a rename, unless its content is known. `seen` is how it looks since nobody can. Returns whether
    /// it will.
    pub(crate) fn adopt(
        &self,
        file: &File,
        seen: &Stat,
        path: &Path,
        buffer: &mut [u8],
        ctx: &Ctx,
    ) -> Result<(ContentId, bool)> {
        let content = hash_unchanged(file, seen, path, buffer, ctx)?;
        let known = self.known_sizes.contains(&seen.size) && self.is_there(content, ctx)?;
        let adopts = !known && lock(&self.staged).insert(content);
        if adopts {
            lock(&self.adopted).insert(content, (path.into(), *seen));
        }
        Ok((content, adopts))
    }

    fn stage_one(
        &self,
        file: &File,
        seen: &Stat,
        path: &Path,
        temp: &Path,
        buffer: &mut [u8],
        ctx: &Ctx,
    ) -> Result<ContentId> {
        let out = disk::create_exact(temp, 0o444).at("make", temp)?;
        let content = if self.try_reflink(file, &out, path)? {
            // The clone is what gets hashed, so that the stored bytes are the hashed ones whatever the source does.
            hash(&out, temp, buffer, ctx)?
        } else {
            copy_hashing(file, &out, seen, path, temp, buffer, ctx)?
        };
        unchanged(file, seen, path)?;
        disk::set_mtime(&out, seen.mtime).at("set the time of", temp)?;
        self.keep_staged(content, temp, ctx)?;
        Ok(content)
    }

    /// Gives what was written the name of its content, unless that is known.
    fn keep_staged(&self, content: ContentId, temp: &Path, ctx: &Ctx) -> Result<()> {
        if !self.is_there(content, ctx)? && lock(&self.staged).insert(content) {
            disk::rename(temp, &self.stage.join(content.to_string()))
        } else {
            disk::remove_file(temp)
        }
    }

    /// Whether the pool has a content, and its file holds that.
    fn is_there(&self, content: ContentId, ctx: &Ctx) -> Result<bool> {
        if lock(&self.found).contains(&content) {
            return Ok(true);
        }
        match self.pool.ask(&self.ledger, content, false, &mut Vec::new(), ctx)? {
            Has::Nothing => Ok(false),
            Has::Right | Has::Lifted(_) => {
                lock(&self.found).insert(content);
                Ok(true)
            }
            Has::Wrong(stat) => {
                lock(&self.wrong).insert(content, stat.ino);
                Ok(false)
            }
        }
    }

    fn try_reflink(&self, from: &File, to: &File, path: &Path) -> Result<bool> {
        if !self.can_reflink.load(Ordering::Relaxed) {
            return Ok(false);
        }
        let cloned = disk::reflink(from, to).at("clone", path)?;
        if !cloned {
            self.can_reflink.store(false, Ordering::Relaxed);
        }
        Ok(cloned)
    }

    /// Whether nothing was staged or looked up.
    pub(crate) fn is_idle(&self) -> bool {
        lock(&self.staged).is_empty() && lock(&self.found).is_empty()
    }

    /// Makes what was staged survive a power loss. Done by [`Putter::publish`] too, which then holds the yard for longer.
    pub(crate) fn sync(&self) -> Result<()> {
        let staged = lock(&self.staged);
        if self.synced.load(Ordering::Relaxed) || staged.is_empty() {
            return Ok(());
        }
        if staged.len() as u64 <= SYNC_SINGLY {
            let adopted = lock(&self.adopted);
            for content in staged.iter() {
                let staged = || self.stage.join(content.to_string());
                let path = adopted.get(content).map_or_else(staged, |(path, _)| path.clone());
                disk::sync(&File::open(&path).at("open", &path)?, &path)?;
            }
        } else {
            disk::sync_filesystem(&self.stage)?;
        }
        self.synced.store(true, Ordering::Relaxed);
        Ok(())
    }

    /// Moves what was staged into the pool, in place of files that were found to hold something else. The caller holds the
    /// yard alone, and writes down the ledger, which it has read since.
    ///
    /// A crash in between leaves contents in the pool that nothing refers to yet: harmless, and used when they come again.
    pub(crate) fn publish(self, ledger: &Ledger, ctx: &Ctx) -> Result<PutTotals> {
        self.sync()?;
        ledger.take_over(&self.ledger, self.pool);
        let (staged, found, adopted) =
            (lock(&self.staged), std::mem::take(&mut *lock(&self.found)), lock(&self.adopted));
        for content in found.into_iter().filter(|content| !staged.contains(content)) {
            let has = self.pool.ask(ledger, content, false, &mut Vec::new(), ctx)?;
            if !has.is_right() {
                return Err(Error::ContentMissing {
                    path: self.pool.path(content),
                    needed_for: "this operation".into(),
                });
            }
        }
        drop(staged);
        // A great many may be staged: each is forgotten here as it is written down in the ledger.
        let mut staged = std::mem::take(&mut *lock(&self.staged));
        let published = Mutex::new((PutTotals::default(), HashSet::new()));
        let publish = |(): &mut (), &content: &ContentId| {
            ctx.check()?;
            if let Some((stat, path)) = self.publish_one(ledger, content, adopted.get(&content), ctx)? {
                ledger.set(content, &stat);
                let (totals, folders) = &mut *lock(&published);
                totals.contents += 1;
                totals.bytes += stat.size;
                folders.extend(path.parent().map(Path::to_path_buf));
            }
            Ok(())
        };
        while !staged.is_empty() {
            let some: Vec<ContentId> = std::iter::from_fn(|| staged.pop_first()).take(AT_ONCE).collect();
            self.pool.make_folders_for(&some)?;
            parallel::for_each(&some, ctx.threads(), || (), publish)?;
        }
        let (totals, folders) = parallel::into_inner(published);
        if folders.len() as u64 <= SYNC_SINGLY {
            folders.iter().try_for_each(|folder| disk::sync_folder(folder))?;
        } else {
            disk::sync_filesystem(self.pool.root())?;
        }
        Ok(totals)
    }

    /// Moves a staged content into the pool, or a file of the source if that still is what was read. `None` if another
    /// command has stored the same meanwhile.
    fn publish_one(
        &self,
        ledger: &Ledger,
        content: ContentId,
        adopted: Option<&(PathBuf, Stat)>,
        ctx: &Ctx,
    ) -> Result<Option<(Stat, PathBuf)>> {
        let to = self.pool.path(content);
        let from = adopted.map_or_else(|| self.stage.join(content.to_string()), |(path, _)| path.clone());
        let changed = || IntakeError::Changed(from.clone());
        match disk::rename_new(&from, &to) {
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {
                if !self.make_room(ledger, content, ctx)? {
                    return Ok(None);
                }
                disk::rename_new(&from, &to).at("store", &to)?;
            }
            Err(error) if error.kind() == io::ErrorKind::NotFound && adopted.is_some() => return Err(changed().into()),
            renamed => renamed.at("store", &to)?,
        }
        let stat = disk::lstat(&to).at("look at", &to)?;
        let Some((_, seen)) = adopted else { return Ok(Some((stat, to))) };
        let key = |stat: &Stat| (stat.ino, stat.size, stat.mtime, stat.mode, stat.nlink);
        if key(&stat) != key(&Stat { nlink: 1, ..*seen }) {
            disk::rename_new(&to, &from).at("put back", &from)?;
            return Err(changed().into());
        }
        if stat.mode & 0o7777 == 0o444 {
            return Ok(Some((stat, to)));
        }
        disk::set_mode(&to, 0o444)?;
        Ok(Some((disk::lstat(&to).at("look at", &to)?, to)))
    }

    /// Sees to it that a content's name is free, unless its file holds the content.
    fn make_room(&self, ledger: &Ledger, content: ContentId, ctx: &Ctx) -> Result<bool> {
        let known = lock(&self.wrong).get(&content).copied();
        let path = self.pool.path(content);
        let wrong = match (disk::lstat(&path), known) {
            (Err(error), _) if error.kind() == io::ErrorKind::NotFound => return Ok(true),
            (Ok(stat), Some(known)) if stat.ino == known && !ledger.holds(content, &stat) => known,
            _ => match self.pool.ask(ledger, content, false, &mut Vec::new(), ctx)? {
                Has::Nothing => return Ok(true),
                Has::Right | Has::Lifted(_) => return Ok(false),
                Has::Wrong(stat) => stat.ino,
            },
        };
        self.pool.set_aside(ledger, content, wrong)?;
        Ok(true)
    }
}

fn unchanged(file: &File, seen: &Stat, path: &Path) -> Result<()> {
    let now = disk::fstat(file).at("look at", path)?;
    if now.same_bytes(seen) { Ok(()) } else { Err(IntakeError::Changed(path.into()).into()) }
}

/// The content of the open file `file`, of which `seen` is the stat.
///
/// # Errors
/// [`IntakeError::Changed`] if the file changes meanwhile.
pub(crate) fn hash_unchanged(file: &File, seen: &Stat, path: &Path, buffer: &mut [u8], ctx: &Ctx) -> Result<ContentId> {
    if seen.size < buffer.len() as u64 {
        return hash_small(file, seen, path, buffer);
    }
    let content = hash(file, path, buffer, ctx)?;
    unchanged(file, seen, path)?;
    Ok(content)
}

/// The content that a file holds.
pub(crate) fn reads_as(path: &Path, buffer: &mut [u8], ctx: &Ctx) -> Result<ContentId> {
    let file: File = disk::open_file(rustix::fs::CWD, path).at("read", path)?;
    let stat = disk::fstat(&file).at("look at", path)?;
    hash_unchanged(&file, &stat, path, buffer, ctx)
}

/// As [`hash_unchanged`], of a file that one read gets whole: its size says so, and the look after it.
fn hash_small(mut file: &File, seen: &Stat, path: &Path, buffer: &mut [u8]) -> Result<ContentId> {
    let mut read = 0;
    while read < buffer.len() {
        match io::Read::read(&mut file, &mut buffer[read..]) {
            Ok(0) => break,
            Ok(more) => read += more,
            Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
            Err(error) => return Err(Error::io("read", path, error)),
        }
        if read as u64 >= seen.size {
            break;
        }
    }
    unchanged(file, seen, path)?;
    Ok(ContentId::from_bytes(*blake3::hash(&buffer[..read]).as_bytes()))
}

fn rewind(mut file: &File, path: &Path) -> Result<()> {
    io::Seek::rewind(&mut file).at("read", path)
}

fn hash(file: &File, path: &Path, buffer: &mut [u8], ctx: &Ctx) -> Result<ContentId> {
    let mut hasher = blake3::Hasher::new();
    disk::read_all(
        file,
        buffer,
        |piece| {
            hasher.update(piece);
            ctx.piece(piece.len() as u64)
        },
        path,
    )?;
    Ok(ContentId::from_bytes(*hasher.finalize().as_bytes()))
}

fn copy_hashing(
    from: &File,
    to: &File,
    seen: &Stat,
    path: &Path,
    temp: &Path,
    buffer: &mut [u8],
    ctx: &Ctx,
) -> Result<ContentId> {
    let mut hasher = blake3::Hasher::new();
    let mut writer = Writer::new(to, temp, disk::has_holes(seen));
    disk::read_all(
        from,
        buffer,
        |piece| {
            hasher.update(piece);
            writer.piece(piece)?;
            ctx.piece(piece.len() as u64)
        },
        path,
    )?;
    writer.finish()?;
    Ok(ContentId::from_bytes(*hasher.finalize().as_bytes()))
}
