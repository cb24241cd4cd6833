//! Puts contents into the pool: read, hashed and stored in one pass, published all at once.

use std::collections::HashSet;
use std::fs::File;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

use super::Pool;
use crate::disk::{self, Stat, Writer};
use crate::error::{Error, IntakeError, PathContext, Result};
use crate::ident::ContentId;
use crate::parallel::lock;
use crate::progress::Ctx;

/// Up to so many new contents are synced one by one; above, the filesystem is synced once, which also waits for
/// whatever other programs have written.
const SYNC_SINGLY: u64 = 32;

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
    /// Contents that are staged, and those found in the pool, which must still be there in the end.
    staged: Mutex<HashSet<ContentId>>,
    found: Mutex<HashSet<ContentId>>,
    synced: AtomicBool,
}

/// What a publish did.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct Published {
    /// Contents that are new in the pool.
    pub(crate) contents: u64,
    /// Their bytes.
    pub(crate) bytes: u64,
}

impl<'a> Putter<'a> {
    /// Stages below `op`, a folder on the filesystem of the pool.
    pub(crate) fn new(pool: &'a Pool, op: &Path, known_sizes: HashSet<u64>) -> Result<Self> {
        let stage = op.join("contents");
        disk::make_folder(&stage)?;
        Ok(Self {
            pool,
            stage,
            known_sizes,
            can_reflink: AtomicBool::new(true),
            number: AtomicU64::new(0),
            staged: Mutex::default(),
            found: Mutex::default(),
            synced: AtomicBool::new(false),
        })
    }

    /// Reads the open file `file`, which was `seen` when it was listed, and stages its content unless it is known.
    ///
    /// # Errors
    /// [`IntakeError::Changed`] if the file is not as it was seen, or changes meanwhile.
    pub(crate) fn put(&self, file: &File, seen: &Stat, path: &Path, buffer: &mut [u8], ctx: &Ctx) -> Result<ContentId> {
        unchanged(file, seen, path)?;
        if self.known_sizes.contains(&seen.size) || seen.size == 0 {
            let content = hash_unchanged(file, seen, path, buffer, ctx)?;
            if self.pool.has(content) || lock(&self.staged).contains(&content) {
                lock(&self.found).insert(content);
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
        let named = self.stage.join(content.to_string());
        if self.pool.has(content) {
            disk::remove_file(temp)?;
            lock(&self.found).insert(content);
        } else if lock(&self.staged).insert(content) {
            disk::rename(temp, &named)?;
        } else {
            disk::remove_file(temp)?;
        }
        Ok(content)
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
            for content in staged.iter() {
                let path = self.stage.join(content.to_string());
                disk::sync(&File::open(&path).at("open", &path)?, &path)?;
            }
        } else {
            disk::sync_filesystem(&self.stage)?;
        }
        self.synced.store(true, Ordering::Relaxed);
        Ok(())
    }

    /// Moves what was staged into the pool. The caller holds the yard alone.
    ///
    /// A crash in between leaves contents in the pool that nothing refers to yet: harmless, and used when they come again.
    pub(crate) fn publish(self, ctx: &Ctx) -> Result<Published> {
        self.sync()?;
        let (staged, found) = (lock(&self.staged), lock(&self.found));
        if let Some(&gone) = found.iter().find(|content| !staged.contains(content) && !self.pool.has(**content)) {
            return Err(Error::ContentMissing { path: self.pool.path(gone), needed_for: "this operation".into() });
        }
        let (mut published, mut folders) = (Published::default(), HashSet::new());
        for content in staged.iter() {
            ctx.check()?;
            let (from, to) = (self.stage.join(content.to_string()), self.pool.path(*content));
            let size = disk::lstat(&from).at("look at", &from)?.size;
            match disk::rename_new(&from, &to) {
                Ok(()) => {
                    published.contents += 1;
                    published.bytes += size;
                    folders.extend(to.parent().map(Path::to_path_buf));
                }
                // Another command stored the same bytes meanwhile; these go away with the stage.
                Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {}
                Err(error) => return Err(Error::io("store", to, error)),
            }
        }
        if folders.len() as u64 <= SYNC_SINGLY {
            folders.iter().try_for_each(|folder| disk::sync_folder(folder))?;
        } else {
            disk::sync_filesystem(self.pool.root())?;
        }
        Ok(published)
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
            ctx.check()
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
            ctx.check()
        },
        path,
    )?;
    writer.finish()?;
    Ok(ContentId::from_bytes(*hasher.finalize().as_bytes()))
}
