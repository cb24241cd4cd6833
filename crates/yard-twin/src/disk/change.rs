//! Everything that changes the disk: each a thin, named step.
//!
//! All of them pass through [`step`], so that tests can count them, make each one fail, and end the process at it.

use std::fs::{self, File};
use std::io::{self, Write};
use std::os::fd::{AsFd, AsRawFd, BorrowedFd};
use std::path::Path;

use rustix::fs::{AtFlags, CWD, FileType, Mode, OFlags, RenameFlags, Timespec, Timestamps};
use rustix::io::Errno;
use serde::Serializer as _;

use super::{exists, open_folder};
use crate::error::{PathContext, Result};

/// The seam: called before each change.
pub(super) fn step() -> io::Result<()> {
    #[cfg(test)]
    super::fault::step()?;
    Ok(())
}

/// Makes a folder whose parent is there.
pub(crate) fn make_folder(path: &Path) -> Result<()> {
    step().and_then(|()| fs::create_dir(path)).at("make", path)
}

/// Makes a folder and those above it, as far as they aren't there.
pub(crate) fn make_folders(path: &Path) -> Result<()> {
    step().and_then(|()| fs::create_dir_all(path)).at("make", path)
}

/// Deletes a file or a symlink.
pub(crate) fn remove_file(path: &Path) -> Result<()> {
    step().and_then(|()| fs::remove_file(path)).at("delete", path)
}

/// As [`remove_file`]; nothing there is fine.
pub(crate) fn remove_if_there(path: &Path) -> Result<()> {
    if exists(path) { remove_file(path) } else { Ok(()) }
}

/// Deletes an empty folder.
pub(crate) fn remove_folder(path: &Path) -> Result<()> {
    step().and_then(|()| fs::remove_dir(path)).at("delete", path)
}

/// Renames, replacing what is there.
pub(crate) fn rename(from: &Path, to: &Path) -> Result<()> {
    step().and_then(|()| fs::rename(from, to)).at("rename", from)
}

/// Writes a file whose loss would not matter.
pub(crate) fn write(path: &Path, bytes: impl AsRef<[u8]>) -> Result<()> {
    step().and_then(|()| fs::write(path, bytes)).at("write", path)
}

/// As [`write`], of things as JSON, one by one.
pub(crate) fn write_json<T: serde::Serialize>(path: &Path, things: impl Iterator<Item = T>) -> Result<()> {
    let write = |file: File| {
        let mut out = io::BufWriter::new(file);
        serde_json::Serializer::new(&mut out).collect_seq(things)?;
        out.flush()
    };
    step().and_then(|()| File::create(path)).and_then(write).at("write", path)
}

/// Makes a symlink.
pub(crate) fn symlink(target: &str, at: impl AsFd, name: &str) -> io::Result<()> {
    step()?;
    Ok(rustix::fs::symlinkat(target, at, name)?)
}

/// Makes a file that isn't there yet, open for writing whatever its mode, which the user's umask narrows.
pub(crate) fn create_file(at: impl AsFd, name: impl rustix::path::Arg, mode: u32) -> io::Result<File> {
    step()?;
    let flags = OFlags::RDWR | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    Ok(rustix::fs::openat(at, name, flags, Mode::from_raw_mode(mode))?.into())
}

/// As [`create_file`], with exactly this mode, whatever the umask.
pub(crate) fn create_exact(path: &Path, mode: u32) -> io::Result<File> {
    let file = create_file(CWD, path, mode)?;
    rustix::fs::fchmod(&file, Mode::from_raw_mode(mode))?;
    Ok(file)
}

/// Sets when a file was last written.
pub(crate) fn set_mtime(file: impl AsFd, mtime: i64) -> io::Result<()> {
    step()?;
    let time = Timespec { tv_sec: mtime.div_euclid(1_000_000_000), tv_nsec: mtime.rem_euclid(1_000_000_000) };
    Ok(rustix::fs::futimens(file, &Timestamps { last_access: time, last_modification: time })?)
}

/// Gives the file another name.
pub(crate) fn link(
    from: impl AsFd,
    old: impl rustix::path::Arg,
    to: impl AsFd,
    new: impl rustix::path::Arg,
) -> io::Result<()> {
    step()?;
    Ok(rustix::fs::linkat(from, old, to, new, AtFlags::empty())?)
}

/// Makes `to` share the blocks of `from`; `Ok(false)` where that can't be done here.
pub(crate) fn reflink(from: &File, to: &File) -> io::Result<bool> {
    step()?;
    match rustix::fs::ioctl_ficlone(to, from) {
        Ok(()) => Ok(true),
        Err(Errno::OPNOTSUPP | Errno::XDEV | Errno::INVAL | Errno::NOTTY | Errno::NOSYS | Errno::PERM) => Ok(false),
        Err(error) => Err(error.into()),
    }
}

/// Renames, refusing to replace anything. Filesystems without that promise are asked first, which is enough under the
/// yard's exclusive lock.
pub(crate) fn rename_new(from: &Path, to: &Path) -> io::Result<()> {
    step()?;
    match rustix::fs::renameat_with(CWD, from, CWD, to, RenameFlags::NOREPLACE) {
        Err(Errno::INVAL | Errno::NOSYS) if exists(to) => Err(io::ErrorKind::AlreadyExists.into()),
        Err(Errno::INVAL | Errno::NOSYS) => fs::rename(from, to),
        result => Ok(result?),
    }
}

/// Makes a rename survive a power loss, so that a record may say that it is done.
pub(crate) fn sync_rename(from: &Path, to: &Path) -> Result<()> {
    [from.parent(), to.parent()].into_iter().flatten().try_for_each(sync_folder)
}

/// A name in an open folder.
#[derive(Clone, Copy)]
pub(crate) struct At<'a>(pub(crate) BorrowedFd<'a>, pub(crate) &'a str);

/// Renames within open folders, refusing to replace anything.
pub(crate) fn move_new(from: At<'_>, to: At<'_>) -> io::Result<()> {
    step()?;
    let moved = match rustix::fs::renameat_with(from.0, from.1, to.0, to.1, RenameFlags::NOREPLACE) {
        // Filesystems without that promise are asked first.
        Err(Errno::INVAL | Errno::NOSYS) => match rustix::fs::statat(to.0, to.1, AtFlags::SYMLINK_NOFOLLOW) {
            Err(Errno::NOENT) => Ok(rustix::fs::renameat(from.0, from.1, to.0, to.1)?),
            Err(error) => Err(error.into()),
            Ok(_) => Err(io::ErrorKind::AlreadyExists.into()),
        },
        result => Ok(result?),
    };
    #[cfg(test)]
    if moved.is_ok() {
        super::fault::moved(to);
    }
    moved
}

/// Makes two names in open folders change places; `Ok(false)` where that can't be done here.
pub(crate) fn exchange(a: At<'_>, b: At<'_>) -> io::Result<bool> {
    step()?;
    match rustix::fs::renameat_with(a.0, a.1, b.0, b.1, RenameFlags::EXCHANGE) {
        Err(Errno::INVAL | Errno::NOSYS) => Ok(false),
        Err(error) => Err(error.into()),
        Ok(()) => {
            #[cfg(test)]
            super::fault::moved(b);
            Ok(true)
        }
    }
}

/// Deletes a file or symlink in an open folder.
pub(crate) fn remove_file_at(at: BorrowedFd<'_>, name: impl rustix::path::Arg) -> io::Result<()> {
    step()?;
    Ok(rustix::fs::unlinkat(at, name, AtFlags::empty())?)
}

/// Deletes an empty folder in an open one.
pub(crate) fn remove_folder_at(at: BorrowedFd<'_>, name: impl rustix::path::Arg) -> io::Result<()> {
    step()?;
    Ok(rustix::fs::unlinkat(at, name, AtFlags::REMOVEDIR)?)
}

/// Makes a folder in an open one, whatever its name.
pub(crate) fn make_folder_at(at: BorrowedFd<'_>, name: impl rustix::path::Arg) -> io::Result<()> {
    step()?;
    Ok(rustix::fs::mkdirat(at, name, Mode::from_raw_mode(0o777))?)
}

/// Renames within open folders, replacing what is there.
pub(crate) fn rename_at<N: rustix::path::Arg>(from: (impl AsFd, N), to: (impl AsFd, N)) -> io::Result<()> {
    step()?;
    Ok(rustix::fs::renameat(from.0, from.1, to.0, to.1)?)
}

/// Gives a file or folder an extended attribute.
pub(crate) fn set_attribute(file: impl AsFd, name: &str, value: &[u8]) -> io::Result<()> {
    step()?;
    Ok(rustix::fs::fsetxattr(file, name, value, rustix::fs::XattrFlags::empty())?)
}

/// Makes the contents and names of everything on the filesystem of `folder` survive a power loss.
pub(crate) fn sync_filesystem(folder: &Path) -> Result<()> {
    let fd = open_folder(CWD, folder).at("open", folder)?;
    step().and_then(|()| Ok(rustix::fs::syncfs(fd)?)).at("sync", folder)
}

/// Makes a file's bytes survive a power loss.
pub(crate) fn sync(file: &File, path: &Path) -> Result<()> {
    step().and_then(|()| file.sync_all()).at("sync", path)
}

/// Makes the names in `folder` survive a power loss.
pub(crate) fn sync_folder(folder: &Path) -> Result<()> {
    let fd = open_folder(CWD, folder).at("open", folder)?;
    step().and_then(|()| Ok(rustix::fs::fsync(fd)?)).at("sync", folder)
}

/// Opens a file of ours for reading; a missing read permission is put back.
pub(crate) fn open_own(path: &Path) -> io::Result<File> {
    match super::open_file(CWD, path) {
        Err(error) if error.kind() == io::ErrorKind::PermissionDenied => {
            change_mode(CWD, path, |mode| mode | 0o400)?;
            super::open_file(CWD, path)
        }
        opened => opened,
    }
}

/// Sets the mode of a file or folder by what it is now, following no symlink, whatever it may be opened for.
pub(crate) fn change_mode(
    at: impl AsFd,
    name: impl rustix::path::Arg,
    mode: impl FnOnce(u32) -> u32,
) -> io::Result<()> {
    let fd = super::hold(at, name)?;
    let now = super::fstat(&fd)?.mode;
    if FileType::from_raw_mode(now) == FileType::Symlink {
        return Err(Errno::LOOP.into());
    }
    // A descriptor of this kind has no mode to be set but by this name of it.
    let by_descriptor = format!("/proc/self/fd/{}", fd.as_fd().as_raw_fd());
    step()?;
    Ok(rustix::fs::chmod(by_descriptor, Mode::from_raw_mode(mode(now & 0o7777)))?)
}

/// Gives an open file this mode.
pub(crate) fn change_mode_of(file: &File, mode: u32) -> io::Result<()> {
    step()?;
    Ok(rustix::fs::fchmod(file, Mode::from_raw_mode(mode))?)
}

/// Gives an open file of ours just this mode and time, and takes attributes and access lists off that somebody gave it.
pub(crate) fn make_guarded(file: &File, mode: u32, mtime: i64) -> io::Result<()> {
    let names = super::attributes(file)?;
    let mut given = super::given(&names).peekable();
    if given.peek().is_some() {
        // They can only be taken off what may be written.
        step().and_then(|()| Ok(rustix::fs::fchmod(file, Mode::from_raw_mode(mode | 0o600))?))?;
        for name in given {
            step()?;
            rustix::fs::fremovexattr(file, name)?;
        }
    }
    step().and_then(|()| Ok(rustix::fs::fchmod(file, Mode::from_raw_mode(mode))?))?;
    set_mtime(file, mtime)
}

/// Sets the mode of a file or folder, which is no symlink.
pub(crate) fn set_mode(path: &Path, mode: u32) -> Result<()> {
    step().and_then(|()| Ok(rustix::fs::chmod(path, Mode::from_raw_mode(mode & 0o7777))?)).at("set the mode of", path)
}

/// Takes an extended attribute off, if it is there.
pub(crate) fn remove_attribute(path: &str, name: &str) -> io::Result<()> {
    step()?;
    match rustix::fs::removexattr(path, name) {
        Err(Errno::NODATA) => Ok(()),
        removed => Ok(removed?),
    }
}

/// Deletes a folder and all below it, following no link. Folders that their owner may not write are opened up first.
pub(crate) fn remove_tree(path: &Path) -> Result<()> {
    super::remove_tree_telling(path, &|_, _| {})
}

/// Adds to the end of a file, which is made if it isn't there.
pub(crate) fn append(path: &Path, bytes: &[u8]) -> Result<()> {
    let open = || File::options().append(true).create(true).open(path);
    step().and_then(|()| open()?.write_all(bytes)).at("write", path)
}

/// Writes a file as a whole: at `staged`, on the same filesystem, then synced and renamed into place. After a crash the
/// old bytes are there or the new ones, and maybe what was staged.
pub(crate) fn write_whole(path: &Path, staged: &Path, bytes: &[u8]) -> Result<()> {
    write_synced(staged, bytes)?;
    rename(staged, path)?;
    path.parent().map_or(Ok(()), sync_folder)
}

/// As [`write_whole`] for what may be lost: a power loss may leave anything.
pub(crate) fn write_loose(path: &Path, staged: &Path, write: impl FnOnce(&mut File) -> io::Result<()>) -> Result<()> {
    write_staged(staged, write)?;
    replace_loose(staged, path)
}

/// Renames a file that may be lost, replacing what is there.
///
/// Where a file is renamed over another one, ext4 at once writes out what is in it, for programs that don't sync; and then
/// whoever syncs next waits for that, too. Two files that change places are just renamed.
pub(crate) fn replace_loose(staged: &Path, path: &Path) -> Result<()> {
    let there = super::lstat(path).is_ok_and(|stat| stat.is_file());
    let exchange = || rustix::fs::renameat_with(CWD, staged, CWD, path, RenameFlags::EXCHANGE);
    step().at("rename", staged)?;
    // Where two can't change places, the new one replaces the old.
    if there && exchange().is_ok() { remove_file(staged) } else { rename(staged, path) }
}

/// The first half of [`write_loose`]: what is to be renamed later.
pub(crate) fn write_staged(staged: &Path, write: impl FnOnce(&mut File) -> io::Result<()>) -> Result<()> {
    step().and_then(|()| write(&mut File::create(staged)?)).at("write", staged)
}

/// Writes a new file, or one of ours from before, and syncs it.
pub(crate) fn write_synced(path: &Path, bytes: &[u8]) -> Result<()> {
    write_synced_by(path, |file| file.write_all(bytes))
}

/// As [`write_synced`], bit by bit.
pub(crate) fn write_synced_by(path: &Path, write: impl FnOnce(&mut File) -> io::Result<()>) -> Result<()> {
    let mut file = step().and_then(|()| File::create(path)).at("write", path)?;
    write(&mut file).at("write", path)?;
    sync(&file, path)
}
