//! The pool: every content once, as a plain read-only file named by its BLAKE3.

mod aside;
mod ledger;
mod put;
mod share;
#[cfg(test)]
#[allow(clippy::unwrap_used)]
mod tests;

use std::collections::BTreeSet;
use std::io;
use std::path::{Path, PathBuf};

pub(crate) use aside::Aside;
pub(crate) use ledger::{Half, Ledger, Linked, half};
pub(crate) use put::{PutTotals, Putter, hash_unchanged, reads_as};
pub(crate) use share::{Facts, Policy, masses};
pub use share::{Share, Sharing, Unshared};

use crate::disk::{self, Stat};
use crate::error::{Error, IntakeError, PathContext, Result};
use crate::ident::ContentId;
use crate::progress::Ctx;

/// The folder of contents: `pool/ab/HEX`, mode 0444, and `pool/ab/HEX.x`, mode 0555, where an executable was linked.
#[derive(Clone)]
pub(crate) struct Pool {
    root: PathBuf,
}

/// What the pool's file of a content is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Has {
    /// There is none.
    Nothing,
    /// It holds the content's bytes.
    Right,
    /// So it does, and somebody made it writable, gave it attributes, or set its time: it counts as known only once it is
    /// guarded again ([`Pool::guard`]). This is how it looked when it was read.
    Lifted(Stat),
    /// It holds something else.
    Wrong(Stat),
}

impl Has {
    /// Whether it holds the content's bytes.
    pub(crate) fn is_right(self) -> bool {
        matches!(self, Self::Right | Self::Lifted(_))
    }
}

impl Pool {
    pub(crate) fn new(root: PathBuf) -> Self {
        Self { root }
    }

    /// Makes the folders that contents go to, as far as they aren't there: they last before anything is in them. Only under
    /// the yard's exclusive lock.
    fn make_folders_for<'a>(&self, contents: impl IntoIterator<Item = &'a ContentId>) -> Result<()> {
        let firsts: BTreeSet<u8> = contents.into_iter().map(|content| content.as_bytes()[0]).collect();
        let folders = firsts.into_iter().map(|first| self.root.join(format!("{first:02x}")));
        let missing: Vec<PathBuf> = folders.filter(|folder| !disk::exists(folder)).collect();
        missing.iter().try_for_each(|folder| disk::make_folder(folder))?;
        if missing.is_empty() { Ok(()) } else { disk::sync_folder(&self.root) }
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

    /// The two files that a content can have.
    pub(crate) fn files(&self, content: ContentId) -> [PathBuf; 2] {
        [false, true].map(|executable| self.root.join(Self::name(content, executable)))
    }

    /// The inode of the pool's folder: another one after the yard was copied or restored, which voids every index.
    pub(crate) fn inode(&self) -> Result<u64> {
        Ok(disk::lstat(&self.root).at("look at", &self.root)?.ino)
    }

    /// What the file of a content really is: by the ledger, else by reading it. What was read and is right is in the ledger
    /// from then on.
    ///
    /// # Errors
    /// [`Error::Io`] if it can't be looked at or read.
    pub(crate) fn ask(
        &self,
        ledger: &Ledger,
        content: ContentId,
        executable: bool,
        buffer: &mut Vec<u8>,
        ctx: &Ctx,
    ) -> Result<Has> {
        let path = self.root.join(Self::name(content, executable));
        let stat = match disk::lstat(&path) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Has::Nothing),
            stat => stat.at("look at", &path)?,
        };
        if ledger.holds(content, &stat) {
            return Ok(Has::Right);
        }
        if !stat.is_file() {
            return Ok(Has::Wrong(stat));
        }
        disk::ready(buffer);
        /// Others may link or write to it meanwhile.
        const TRIES: usize = 3;
        for _ in 0..TRIES {
            let file = disk::open_own(&path).at("read", &path)?;
            if disk::in_other_hands(&file) {
                // What is written into it from now on moves its times, also by somebody who has it mapped.
                disk::flush(&file);
            }
            let stat = disk::fstat(&file).at("look at", &path)?;
            match hash_unchanged(&file, &stat, &path, buffer, ctx) {
                Ok(found) if found == content => {
                    // Others may have linked it meanwhile.
                    let stat = disk::fstat(&file).at("look at", &path)?;
                    if !is_guarded(&file, &stat, executable, ledger, content).at("look at", &path)? {
                        return Ok(Has::Lifted(stat));
                    }
                    ledger.set(content, &stat);
                    return Ok(Has::Right);
                }
                Ok(_) => return Ok(Has::Wrong(stat)),
                Err(Error::Intake(IntakeError::Changed(_))) => {}
                Err(error) => return Err(error),
            }
        }
        Err(Error::Busy { what: path.display().to_string(), holders: Vec::new() })
    }

    /// The name, with its content's mode, of the file of a content that has this inode.
    pub(crate) fn file_with(&self, content: ContentId, ino: u64) -> Result<Option<PathBuf>> {
        for path in self.files(content) {
            match disk::lstat(&path) {
                Ok(stat) if stat.ino == ino => return Ok(Some(path)),
                Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(error).at("look at", &path),
                _ => {}
            }
        }
        Ok(None)
    }

    /// Deletes contents, and says how many bytes that was. Only under the yard's exclusive lock, and only for contents
    /// that nothing refers to.
    pub(crate) fn delete(&self, contents: impl IntoIterator<Item = ContentId>, ledger: &Ledger) -> Result<u64> {
        let mut freed = 0;
        for path in contents.into_iter().flat_map(|content| self.files(content)) {
            match disk::lstat(&path) {
                Ok(stat) => {
                    disk::remove_file(&path)?;
                    ledger.forget(stat.ino);
                    freed += stat.allocated;
                }
                Err(error) if error.kind() == io::ErrorKind::NotFound => {}
                Err(error) => return Err(error).at("look at", &path),
            }
        }
        Ok(freed)
    }

    /// Gives a file of the pool its guard and its time back: its mode, no attributes of anyone's, and the time that it had.
    /// The caller holds the yard alone, and has read its bytes and found them right when it looked like `read`; one
    /// that looks different by now is left to the next look.
    pub(crate) fn guard(&self, ledger: &Ledger, content: ContentId, path: &Path, read: &Stat) -> Result<()> {
        let file = disk::open_own(path).at("open", path)?;
        let seen = disk::fstat(&file).at("look at", path)?;
        if !seen.same_bytes(read) {
            return Ok(());
        }
        let executable = path.extension().is_some_and(|ending| ending == "x");
        let mtime = ledger.looked(&seen).filter(|looked| looked.is_of(content)).map_or(seen.mtime, |l| l.mtime);
        disk::make_guarded(&file, if executable { 0o555 } else { 0o444 }, mtime).at("guard", path)?;
        ledger.set(content, &disk::fstat(&file).at("look at", path)?);
        Ok(())
    }
}

/// Whether a file of the pool has the mode that guards it, no attributes of anyone's, and the time that it had.
fn is_guarded(
    file: &std::fs::File,
    stat: &Stat,
    executable: bool,
    ledger: &Ledger,
    content: ContentId,
) -> io::Result<bool> {
    let looked = ledger.looked(stat).filter(|looked| looked.is_of(content));
    let mode = if executable { 0o555 } else { 0o444 };
    let guarded = !ledger.keeps_modes() || stat.mode & 0o7777 == mode;
    let given = disk::given(&disk::attributes(file)?).next().is_some();
    Ok(guarded && !given && looked.is_none_or(|looked| looked.mtime == stat.mtime))
}
