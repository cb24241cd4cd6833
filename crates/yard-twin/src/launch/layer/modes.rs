//! The modes that folders and files of a layer had before they were opened up.

use std::collections::HashMap;
use std::ffi::OsStr;
use std::io;
use std::os::fd::{BorrowedFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use super::RunLayer;
use crate::disk;
use crate::error::{PathContext, Result};

/// Written down before they are changed, so that a crash loses none. By their paths below the layer, since a yard may be
/// moved before it is folded.
pub(super) struct Modes {
    file: PathBuf,
    known: HashMap<PathBuf, u32>,
}

impl Modes {
    pub(super) const FILE: &str = "modes";

    pub(super) fn load(layer: &RunLayer) -> Result<Self> {
        let file = layer.root.join(Self::FILE);
        let text = match disk::read_own(&file, 1 << 30) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => Vec::new(),
            text => text.at("read", &file)?,
        };
        let mut known = HashMap::new();
        for line in text.split(|byte| *byte == 0) {
            let mut parts = line.splitn(2, |byte| *byte == b' ');
            let mode = parts.next().and_then(|mode| std::str::from_utf8(mode).ok()?.parse().ok());
            if let (Some(mode), Some(path)) = (mode, parts.next()) {
                // What was written first was there first.
                known.entry(PathBuf::from(OsStr::from_bytes(path))).or_insert(mode);
            }
        }
        Ok(Self { file, known })
    }

    /// The mode that the program left something with, if it had to be changed.
    pub(super) fn of(&self, path: &Path) -> Option<u32> {
        self.known.get(path).copied()
    }

    /// Changes the mode of what is at a name, once what it was is written down.
    pub(super) fn change(
        &mut self,
        at: BorrowedFd<'_>,
        name: &OsStr,
        path: &Path,
        (was, mode): (u32, u32),
    ) -> io::Result<()> {
        if !self.known.contains_key(path) {
            let line = [was.to_string().as_bytes(), b" ", path.as_os_str().as_bytes(), b"\0"].concat();
            disk::append(&self.file, &line).map_err(io::Error::other)?;
            self.known.insert(path.to_path_buf(), was);
        }
        disk::change_mode(at, name, |_| mode)
    }

    /// Opens a folder of the layer that we have to list and change. Gives the mode that the program left it with too.
    pub(super) fn open(&mut self, at: BorrowedFd<'_>, name: &OsStr, path: &Path) -> io::Result<(OwnedFd, u32)> {
        let mode = disk::stat_at(at, name)?.mode & 0o7777;
        if mode & 0o700 != 0o700 {
            self.change(at, name, path, (mode, mode | 0o700))?;
        }
        Ok((disk::open_folder(at, name)?, self.of(path).unwrap_or(mode)))
    }
}
