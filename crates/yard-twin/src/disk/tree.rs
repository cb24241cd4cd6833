//! Deleting a folder with all that is in it, by descriptors, so that no symlink leads astray.

use std::ffi::{CStr, OsString};
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::ffi::OsStringExt;
use std::path::Path;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};

use rustix::fs::{AtFlags, CWD, Dir, FileType, Mode};
use rustix::io::Errno;

use super::change::{change_mode, step};
use super::{Stat, fstat, hold, open_folder, stat_at};
use crate::error::{PathContext, Result};
use crate::parallel;

/// Told of each file with more names than one that lost one: how it looked before, and after.
pub(crate) type Moved<'a> = &'a (dyn Fn(&Stat, &Stat) + Sync);

/// Deletes a folder and all below it; nothing there is fine, and so is what another process deletes meanwhile. Folders that
/// may not be listed or changed are opened up first.
pub(crate) fn remove_tree(path: &Path, moved: Moved<'_>) -> Result<()> {
    remove_tree_by(1, path, moved)
}

/// As [`remove_tree`], by so many threads: a folder each.
pub(crate) fn remove_tree_by(threads: usize, path: &Path, moved: Moved<'_>) -> Result<()> {
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
        _ if threads > 1 => {
            let top =
                Doomed { parent: Arc::new(parent), name: name.to_owned(), left: AtomicUsize::new(1), above: None };
            return remove_together(threads, Arc::new(top), path, moved);
        }
        _ => remove_folder(parent.as_fd(), name, moved),
    };
    gone(removed).at("delete", path)
}

/// Names of one file are taken away one after the other, so that how it looks after one is how it looks before the next:
/// each file has one of these by its inode.
static ONE_FILE: [Mutex<()>; 64] = [const { Mutex::new(()) }; 64];

/// A folder that is to be deleted once all in it is.
struct Doomed {
    parent: Arc<OwnedFd>,
    name: OsString,
    /// Folders in it that are still there, and one for the files in it.
    left: AtomicUsize,
    above: Option<Arc<Doomed>>,
}

impl Doomed {
    /// Something that was in it is gone. The last one takes the folder with it, and so on upwards.
    fn less(self: Arc<Self>, moved: Moved<'_>) -> io::Result<()> {
        let mut folder = Some(self);
        while let Some(empty) = folder.take_if(|folder| folder.left.fetch_sub(1, Ordering::AcqRel) == 1) {
            gone(match rustix::fs::unlinkat(&*empty.parent, &empty.name, AtFlags::REMOVEDIR) {
                // Somebody has put something into it meanwhile, or the listing had skipped some.
                Err(Errno::NOTEMPTY) => remove_folder(empty.parent.as_fd(), &empty.name, moved),
                removed => removed.map_err(io::Error::from),
            })?;
            folder.clone_from(&empty.above);
        }
        Ok(())
    }
}

fn remove_together(threads: usize, top: Arc<Doomed>, path: &Path, moved: Moved<'_>) -> Result<()> {
    parallel::crawl(
        vec![top],
        threads,
        || (),
        |(), folder, jobs| {
            let mut below = Vec::new();
            let emptied = opened_up(folder.parent.as_fd(), &folder.name).map(Arc::new).and_then(|fd| {
                each_in(&fd, |name, is_folder, ino| {
                    if is_folder {
                        below.push(OsString::from_vec(name.to_bytes().to_vec()));
                        return Ok(());
                    }
                    let _one = parallel::lock(&ONE_FILE[usize::from(ino.to_le_bytes()[0]) % ONE_FILE.len()]);
                    unlink_telling(fd.as_fd(), name, moved)
                })?;
                folder.left.fetch_add(below.len(), Ordering::AcqRel);
                jobs.extend(below.drain(..).map(|name| {
                    let (left, above) = (AtomicUsize::new(1), Some(Arc::clone(&folder)));
                    Arc::new(Doomed { parent: Arc::clone(&fd), name, left, above })
                }));
                Ok(())
            });
            gone(emptied).and_then(|()| folder.less(moved)).at("delete", path)
        },
    )
    .map(|_| ())
}

/// Whether something is gone: by us, or because it was already.
fn gone(removed: io::Result<()>) -> io::Result<()> {
    removed.or_else(|error| if error.kind() == io::ErrorKind::NotFound { Ok(()) } else { Err(error) })
}

/// Opens a folder, with its mode changed so that what is in it can be deleted.
fn opened_up(at: BorrowedFd<'_>, name: impl rustix::path::Arg + Copy) -> io::Result<OwnedFd> {
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
    Ok(folder)
}

fn remove_folder(at: BorrowedFd<'_>, name: impl rustix::path::Arg + Copy, moved: Moved<'_>) -> io::Result<()> {
    let folder = opened_up(at, name)?;
    // A listing may skip names where another process deletes some meanwhile.
    let mut again = 0..3;
    loop {
        each_in(&folder, |name, is_folder, _| {
            if is_folder {
                remove_folder(folder.as_fd(), name, moved)
            } else {
                unlink_telling(folder.as_fd(), name, moved)
            }
        })?;
        match rustix::fs::unlinkat(at, name, AtFlags::REMOVEDIR) {
            Err(Errno::NOTEMPTY) if again.next().is_some() => {}
            removed => return Ok(removed?),
        }
    }
}

/// Deletes each thing in a folder by `remove`, which is told whether it is a folder, and its inode. Two commands may be at
/// the folder of one that has just died: what is gone is gone.
fn each_in(folder: &OwnedFd, mut remove: impl FnMut(&CStr, bool, u64) -> io::Result<()>) -> io::Result<()> {
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
        gone(remove(name, is_folder, entry.ino()))?;
    }
    Ok(())
}

/// Takes one name away from a file. One that has more is held by a descriptor that no mode forbids, so that it can be
/// looked at once the name is gone.
fn unlink_telling(at: BorrowedFd<'_>, name: impl rustix::path::Arg + Copy, moved: Moved<'_>) -> io::Result<()> {
    let before = stat_at(at, name)?;
    if before.nlink < 2 {
        return Ok(rustix::fs::unlinkat(at, name, AtFlags::empty())?);
    }
    let held = hold(at, name)?;
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
                let remove = |threads| remove_tree_by(threads, &folder, &|_, _| {});
                let all: Vec<_> = (1..5).map(|number| scope.spawn(move || remove(number))).collect();
                all.into_iter().for_each(|one| one.join().unwrap().unwrap());
            });
            assert!(!folder.exists(), "round {round}");
        }
    }

    #[test]
    fn what_is_told_of_a_file_with_many_names_follows_one_from_the_other() {
        let place = tempfile::tempdir().unwrap();
        let (folder, kept) = (place.path().join("folder"), place.path().join("kept"));
        fs::write(&kept, "").unwrap();
        for _ in 0..40 {
            for number in 0..64 {
                let below = folder.join((number % 8).to_string());
                fs::create_dir_all(&below).unwrap();
                fs::hard_link(&kept, below.join(number.to_string())).unwrap();
            }
            let names = Mutex::new(65);
            let moved = |before: &Stat, after: &Stat| {
                let mut names = parallel::lock(&names);
                assert_eq!((before.nlink, after.nlink), (*names, *names - 1));
                *names -= 1;
            };
            remove_tree_by(4, &folder, &moved).unwrap();
            assert_eq!(*parallel::lock(&names), 1);
        }
    }
}
