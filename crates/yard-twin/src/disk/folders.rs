//! Open folders of a twin, one component at a time, so that no symlink leads a change astray.

use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::path::{Path, PathBuf};

use rustix::fs::CWD;

use crate::disk;
use crate::error::{PathContext, Result};

/// The folders on the way to the one that was asked for last.
pub(crate) struct Folders<'a> {
    root: &'a Path,
    base: OwnedFd,
    open: Vec<(String, OwnedFd)>,
}

impl<'a> Folders<'a> {
    pub(crate) fn new(root: &'a Path) -> Result<Self> {
        Ok(Self { root, base: disk::open_folder(CWD, root).at("open", root)?, open: Vec::new() })
    }

    /// The folder at a path below the root; what is no folder on the way, a symlink to one too, is an error.
    pub(crate) fn get(&mut self, path: &str) -> Result<BorrowedFd<'_>> {
        let parts: Vec<&str> = path.split('/').filter(|part| !part.is_empty()).collect();
        let shared = self.open.iter().zip(&parts).take_while(|((open, _), part)| open == *part).count();
        self.open.truncate(shared);
        for &part in &parts[shared..] {
            let at = self.open.last().map_or(self.base.as_fd(), |(_, fd)| fd.as_fd());
            let fd = disk::open_folder(at, part).at("open the folder", self.shown(&parts, part))?;
            self.open.push((part.to_owned(), fd));
        }
        Ok(self.open.last().map_or(self.base.as_fd(), |(_, fd)| fd.as_fd()))
    }

    /// As [`Folders::get`]; `None` where it isn't there.
    pub(crate) fn find(&mut self, path: &str) -> Result<Option<BorrowedFd<'_>>> {
        match self.get(path) {
            Err(crate::Error::Io { source, .. }) if source.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(error),
            Ok(_) => Ok(Some(self.open.last().map_or(self.base.as_fd(), |(_, fd)| fd.as_fd()))),
        }
    }

    /// Closes what is open: a folder among it may have gone.
    pub(crate) fn forget(&mut self) {
        self.open.clear();
    }

    fn shown(&self, parts: &[&str], last: &str) -> PathBuf {
        let mut path = self.root.to_path_buf();
        path.extend(&parts[..self.open.len()]);
        path.join(last)
    }
}
