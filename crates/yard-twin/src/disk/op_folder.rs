//! Folders of operations below `tmp/`, each locked by its owner.

use std::io::ErrorKind;
use std::os::fd::RawFd;
use std::path::{Path, PathBuf};

use crate::disk;
use crate::disk::lock::{self, Held, Mode};
use crate::error::{Error, Result};
use crate::ident::TwinId;
use crate::progress::Ctx;

/// A folder of one operation below `tmp/`: deleted when the operation ends, or by the next command if it can't.
pub(crate) struct OpFolder {
    path: PathBuf,
    /// `None` for one inside another.
    lock: Option<Held>,
    leave: bool,
}

impl OpFolder {
    const LOCK: &str = "lock";

    pub(crate) fn make(tmp: &Path) -> Result<Self> {
        let path = tmp.join(TwinId::random()?.to_string());
        disk::make_folder(&path)?;
        let lock = lock::take(&path.join(Self::LOCK), Mode::Alone, "the operation", &Ctx::default())?;
        Ok(Self { path, lock: Some(lock), leave: false })
    }

    /// A folder inside another one.
    pub(crate) fn below(other: &Self, name: &str) -> Result<Self> {
        let path = other.path.join(name);
        disk::make_folder(&path)?;
        Ok(Self { path, lock: None, leave: false })
    }

    /// Its name below `tmp/`.
    pub(crate) fn name(&self) -> String {
        self.path.file_name().unwrap_or_default().to_string_lossy().into_owned()
    }

    /// The file of its lock, which a copy of this process that goes on without it lets go of.
    pub(crate) fn lock_file(&self) -> Option<RawFd> {
        self.lock.as_ref().map(Held::file)
    }

    /// Keeps the folder on drop, for the recovery of what it is for.
    pub(crate) fn leave(&mut self) {
        self.leave = true;
    }

    /// Deletes the folder on drop, after all.
    pub(crate) fn done(&mut self) {
        self.leave = false;
    }

    /// Whether the folder stays on drop.
    pub(crate) fn is_left(&self) -> bool {
        self.leave
    }

    pub(crate) fn path(&self) -> &Path {
        &self.path
    }

    /// Deletes the folder of a dead process, after `last` has seen it. The caller holds the yard's exclusive lock.
    pub(crate) fn remove_if_left(path: &Path, last: impl FnOnce(&Path) -> Result<()>) -> Result<bool> {
        let lock = path.join(Self::LOCK);
        // ENOENT: its owner has just deleted it.
        let none = |error: &std::io::Error| matches!(error.kind(), ErrorKind::NotFound | ErrorKind::NotADirectory);
        let gone = |error: &Error| matches!(error, Error::Io { source, .. } if none(source));
        match lock::try_take_there(&lock, Mode::Alone) {
            Ok(None) => return Ok(false),
            Err(error) if !gone(&error) => return Err(error),
            _ => {}
        }
        if !disk::exists(path) {
            return Ok(false);
        }
        tracing::info!(path = %path.display(), "left by a command that died: deleted");
        last(path)?;
        let removed = if path.is_dir() { disk::remove_tree(path) } else { disk::remove_file(path) };
        match removed {
            Err(error) if gone(&error) => Ok(false),
            removed => removed.map(|()| true),
        }
    }
}

impl Drop for OpFolder {
    fn drop(&mut self) {
        if self.leave {
            return;
        }
        // Some filesystems keep a hidden name for a file that is deleted while it is open, so its folder could not go.
        drop(self.lock.take());
        if let Err(error) = disk::remove_tree(&self.path) {
            tracing::warn!(%error, "left for the next command");
        }
    }
}
