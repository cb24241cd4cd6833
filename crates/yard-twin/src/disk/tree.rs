//! Deleting a folder with all that is in it, by descriptors, so that no symlink leads astray.

use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::path::Path;

use rustix::fs::{AtFlags, CWD, Dir, FileType, Mode};
use rustix::io::Errno;

use super::change::{change_mode, step};
use super::{Stat, fstat, hold, open_folder, stat_at};
use crate::error::{PathContext, Result};

/// Told of each file with more names than one that lost one: how it looked before, and after.
pub(crate) type Moved<'a> = &'a dyn Fn(&Stat, &Stat);

/// Deletes a folder and all below it; nothing there is fine, and so is what another process deletes meanwhile. Folders that
/// may not be listed or changed are opened up first.
pub(crate) fn remove_tree(path: &Path, moved: Moved<'_>) -> Result<()> {
    let (Some(parent), Some(name)) = (path.parent(), path.file_name()) else { return Ok(()) };
    let parent = match open_folder(CWD, parent) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(()),
        parent => parent.at("open", path)?,
    };
    step().at("delete", path)?;
    let removed = match stat_at(&parent, name) {
        Ok(stat) if FileType::from_raw_mode(stat.mode) != FileType::Directory => {
            unlink_telling(parent.as_fd(), name, moved)
        }
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(()),
        _ => remove_folder(parent.as_fd(), name, moved),
    };
    gone(removed).at("delete", path)
}

/// Whether something is gone: by us, or because it was already.
fn gone(removed: io::Result<()>) -> io::Result<()> {
    removed.or_else(|error| if error.kind() == io::ErrorKind::NotFound { Ok(()) } else { Err(error) })
}

fn remove_folder(at: BorrowedFd<'_>, name: impl rustix::path::Arg + Copy, moved: Moved<'_>) -> io::Result<()> {
    let folder = match open_folder(at, name) {
        Err(error) if error.kind() == io::ErrorKind::PermissionDenied => {
            change_mode(at, name, |_| 0o700)?;
            open_folder(at, name)?
        }
        folder => folder?,
    };
    if fstat(&folder)?.mode & 0o300 != 0o300 {
        rustix::fs::fchmod(&folder, Mode::RWXU)?;
    }
    // A listing may skip names where another process deletes some meanwhile.
    let mut again = 0..3;
    loop {
        empty_folder(&folder, moved)?;
        match rustix::fs::unlinkat(at, name, AtFlags::REMOVEDIR) {
            Err(Errno::NOTEMPTY) if again.next().is_some() => {}
            removed => return Ok(removed?),
        }
    }
}

fn empty_folder(folder: &OwnedFd, moved: Moved<'_>) -> io::Result<()> {
    for entry in Dir::read_from(folder)? {
        let entry = entry?;
        let name = entry.file_name();
        if matches!(name.to_bytes(), b"." | b"..") {
            continue;
        }
        let is_folder = match entry.file_type() {
            FileType::Unknown => FileType::from_raw_mode(stat_at(folder, name)?.mode) == FileType::Directory,
            kind => kind == FileType::Directory,
        };
        // Two commands may be at the folder of one that has just died.
        gone(if is_folder {
            remove_folder(folder.as_fd(), name, moved)
        } else {
            unlink_telling(folder.as_fd(), name, moved)
        })?;
    }
    Ok(())
}

/// Takes one name away from a file. One that has more is held by a descriptor that no mode forbids, so that it can be
/// looked at once the name is gone.
fn unlink_telling(at: BorrowedFd<'_>, name: impl rustix::path::Arg + Copy, moved: Moved<'_>) -> io::Result<()> {
    if stat_at(at, name)?.nlink < 2 {
        return Ok(rustix::fs::unlinkat(at, name, AtFlags::empty())?);
    }
    let held = hold(at, name)?;
    let before = fstat(&held)?;
    rustix::fs::unlinkat(at, name, AtFlags::empty())?;
    moved(&before, &fstat(&held)?);
    Ok(())
}

#[cfg(test)]
#[allow(clippy::unwrap_used)]
mod tests {
    use std::fs;

    use super::*;

    #[test]
    fn several_may_delete_one_folder_at_the_same_time() {
        let place = tempfile::tempdir().unwrap();
        let folder = place.path().join("folder");
        for round in 0..20 {
            for number in 0..60 {
                let below = folder.join(format!("{}/deep", number % 6));
                fs::create_dir_all(&below).unwrap();
                fs::write(below.join(number.to_string()), "").unwrap();
            }
            std::thread::scope(|scope| {
                let all: Vec<_> = (0..4).map(|_| scope.spawn(|| remove_tree(&folder, &|_, _| {}))).collect();
                all.into_iter().for_each(|one| one.join().unwrap().unwrap());
            });
            assert!(!folder.exists(), "round {round}");
        }
    }
}
