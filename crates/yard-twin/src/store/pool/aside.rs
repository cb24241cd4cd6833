//! Files of the pool that hold something else than their names say: set aside, so that nothing is made of them any more.
//!
//! `pool/aside/HEX.N`, `HEX.N.x` for executables: the content that it should hold, and a number. The name is the whole
//! record, so a kill can't part the two. It keeps the file's inode from being used again while twins still share it:
//! each of them mends itself in its own settle, whenever that is. The last one's mending lets the file go.

use std::collections::HashMap;
use std::fs;
use std::io;
use std::path::PathBuf;

use super::{Ledger, Pool};
use crate::disk;
use crate::error::{PathContext, Result};
use crate::ident::ContentId;

/// What is set aside: by inode, what it should hold.
pub(crate) type Aside = HashMap<u64, ContentId>;

impl Pool {
    fn aside_folder(&self) -> PathBuf {
        self.root.join("aside")
    }

    /// What is set aside, with where it is.
    fn list_aside(&self) -> Result<Vec<(PathBuf, ContentId, disk::Stat)>> {
        let folder = self.aside_folder();
        let names = match fs::read_dir(&folder) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
            names => names.at("list", &folder)?,
        };
        let mut found = Vec::new();
        for name in names {
            let path = name.at("list", &folder)?.path();
            let content = path.file_name().and_then(|name| name.to_str()?.split('.').next()?.parse().ok());
            // Foreign names are no records.
            let Some(content) = content else { continue };
            match disk::lstat(&path) {
                Ok(stat) => found.push((path, content, stat)),
                Err(error) if error.kind() == io::ErrorKind::NotFound => {}
                Err(error) => return Err(error).at("look at", &path),
            }
        }
        Ok(found)
    }

    /// The inodes that are set aside, and what each should hold.
    pub(crate) fn aside(&self) -> Result<Aside> {
        Ok(self.list_aside()?.into_iter().map(|(_, content, stat)| (stat.ino, content)).collect())
    }

    /// Sets the file of a content that has this inode aside, if the pool has it. The caller holds the yard alone.
    pub(crate) fn set_aside(&self, ledger: &Ledger, content: ContentId, ino: u64) -> Result<()> {
        let Some(path) = self.file_with(content, ino)? else { return Ok(()) };
        let folder = self.aside_folder();
        disk::make_folders(&folder)?;
        ledger.forget(ino);
        let ending = if path.extension().is_some() { ".x" } else { "" };
        disk::rename_new(&path, &folder.join(format!("{content}.{ino}{ending}"))).at("set aside", &path)?;
        disk::sync_folder(&folder)
    }

    /// Whether the file aside with this inode was a content's file for executables.
    pub(crate) fn executable_aside(&self, content: ContentId, ino: u64) -> Result<bool> {
        let is = |path: &std::path::Path| path.to_string_lossy().ends_with(".x");
        Ok(self.list_aside()?.iter().any(|(path, of, stat)| *of == content && stat.ino == ino && is(path)))
    }

    /// Takes the name of a content away from the file that has this inode: its bytes are somebody's own from now on. The
    /// caller holds the yard alone.
    pub(crate) fn let_go(&self, ledger: &Ledger, content: ContentId, ino: u64) -> Result<()> {
        let Some(path) = self.file_with(content, ino)? else { return Ok(()) };
        ledger.forget(ino);
        disk::remove_file(&path)
    }

    /// Lets those files aside go that nobody needs any more: no other name is left of them, or `unneeded` says so of their
    /// inode. The caller holds the yard alone.
    pub(crate) fn tidy_aside(&self, unneeded: impl Fn(u64) -> bool) -> Result<()> {
        for (path, _, stat) in self.list_aside()? {
            if stat.nlink == 1 || unneeded(stat.ino) {
                disk::remove_file(&path)?;
            }
        }
        Ok(())
    }
}
