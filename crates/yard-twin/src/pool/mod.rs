//! The pool: every content once, as a plain read-only file named by its BLAKE3.

mod put;
mod share;
#[cfg(test)]
#[allow(clippy::unwrap_used)]
mod tests;

use std::path::{Path, PathBuf};

pub(crate) use put::{Putter, hash_unchanged};
pub(crate) use share::{Facts, Policy};
pub use share::{Share, Sharing, Unshared};

use crate::disk;
use crate::error::{PathContext, Result};
use crate::ident::ContentId;

/// The folder of contents: `pool/ab/HEX`, mode 0444, and `pool/ab/HEX.x`, mode 0555, where an executable was linked.
#[derive(Clone)]
pub(crate) struct Pool {
    root: PathBuf,
}

impl Pool {
    pub(crate) fn new(root: PathBuf) -> Self {
        Self { root }
    }

    /// Makes the 256 folders of a new pool.
    pub(crate) fn make(&self) -> Result<()> {
        for first in 0..=255u8 {
            disk::make_folders(&self.root.join(format!("{first:02x}")))?;
        }
        Ok(())
    }

    pub(crate) fn root(&self) -> &Path {
        &self.root
    }

    /// The name of a content's file below the root: `ab/HEX` or `ab/HEX.x`.
    pub(crate) fn name(content: ContentId, executable: bool) -> String {
        let id = content.to_string();
        [&id[..2], "/", &id, if executable { ".x" } else { "" }].concat()
    }

    pub(crate) fn path(&self, content: ContentId) -> PathBuf {
        self.root.join(Self::name(content, false))
    }

    pub(crate) fn has(&self, content: ContentId) -> bool {
        disk::exists(&self.path(content))
    }

    /// The inode of the pool's folder: another one after the yard was copied or restored, which voids every index.
    pub(crate) fn inode(&self) -> Result<u64> {
        Ok(disk::lstat(&self.root).at("look at", &self.root)?.ino)
    }

    /// Deletes contents, and says how many bytes that was. Only under the yard's exclusive lock, and only for contents
    /// that nothing refers to.
    pub(crate) fn delete(&self, contents: impl IntoIterator<Item = ContentId>) -> Result<u64> {
        let mut freed = 0;
        for content in contents {
            for executable in [false, true] {
                let path = self.root.join(Self::name(content, executable));
                if let Ok(stat) = disk::lstat(&path) {
                    disk::remove_file(&path)?;
                    freed += stat.allocated;
                }
            }
        }
        Ok(freed)
    }

    /// Deletes the file of a content that has this inode: it no longer holds what its name says.
    pub(crate) fn delete_inode(&self, content: ContentId, ino: u64) -> Result<()> {
        for executable in [false, true] {
            let path = self.root.join(Self::name(content, executable));
            if disk::lstat(&path).is_ok_and(|stat| stat.ino == ino) {
                disk::remove_file(&path)?;
            }
        }
        Ok(())
    }
}
