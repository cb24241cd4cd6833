//! Folds a layer back into the twin's folder.

use std::ffi::OsStr;
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::path::{Path, PathBuf};

use rustix::fs::CWD;
use rustix::io::Errno;

use super::modes::Modes;
use super::{ATTRIBUTES, Kind, ORIGIN, RunLayer, by_descriptor, is_folder, is_opaque, kind, look, names, same_bytes};
use crate::disk::{self, Stat};
use crate::error::{Error, PathContext, Result};
use crate::materialise::Doubtful;
use crate::path::RelPath;
use crate::store::pool::Ledger;

/// What folding needs to know.
pub(crate) struct Fold<'a> {
    /// The twin's folder.
    pub(crate) folder: &'a Path,
    /// The operation's folder: what is replaced goes to `out` in it.
    pub(crate) op: &'a Path,
    /// Where what can't be folded goes; made if there is any.
    pub(crate) kept: &'a Path,
    pub(crate) ledger: &'a Ledger,
    /// Whether a file of the twin is as it was when it was settled.
    pub(crate) expected: &'a dyn Fn(&str, &Stat) -> bool,
    /// Takes in what somebody wrote since.
    pub(crate) late: &'a mut dyn FnMut(&[Doubtful]) -> Result<()>,
}

/// What folding did beside what was to be done.
#[derive(Debug, Default)]
pub(crate) struct Folded {
    /// What came out of the twin's folder, and may still be open somewhere.
    pub(crate) out: Vec<RelPath>,
    /// What could not be folded back, with where it is now and why.
    pub(crate) not_folded: Vec<String>,
    /// Files that were written in place, in the order of paths.
    pub(crate) in_place: Vec<RelPath>,
}

pub(super) fn fold(layer: &RunLayer, fold: &mut Fold<'_>) -> Result<Folded> {
    let mut modes = Modes::load(layer)?;
    let areas = layer.areas(&mut modes)?;
    let mut folding = Folding { fold, modes, out: None, folded: Folded::default(), error: None };
    for (area, upper) in areas {
        let shown = folding.fold.folder.join(area);
        let root = disk::open_folder(CWD, folding.fold.folder).at("open", folding.fold.folder)?;
        let (target, was) = open_target(root.as_fd(), OsStr::new(area)).at("open", &shown)?;
        let folded = folding.fold(upper.as_fd(), target.as_fd(), Path::new(area));
        if let Some(error) = folding.error.take() {
            return Err(error);
        }
        folded.at("fold what a run wrote into", &shown)?;
        // The twin's own two folders keep the mode that they have.
        disk::change_mode(root.as_fd(), OsStr::new(area), |_| was).at("set the mode of", &shown)?;
    }
    folding.folded.in_place.sort_unstable();
    Ok(folding.folded)
}

/// Opens a folder of the twin so that it can be changed. Gives the mode that it had too.
fn open_target(at: BorrowedFd<'_>, name: &OsStr) -> io::Result<(OwnedFd, u32)> {
    let mode = disk::stat_at(at, name)?.mode & 0o7777;
    if mode & 0o700 != 0o700 {
        disk::change_mode(at, name, |mode| mode | 0o700)?;
    }
    Ok((disk::open_folder(at, name)?, mode))
}

/// Folding a layer back.
struct Folding<'f, 'a> {
    fold: &'f mut Fold<'a>,
    modes: Modes,
    /// Where what is replaced goes, and how many such folders there were before it.
    out: Option<(usize, OwnedFd)>,
    folded: Folded,
    /// An error that came of something else than the disk, and ends it all.
    error: Option<Error>,
}

impl Folding<'_, '_> {
    /// Folds what is in the open folder `upper` into `target`.
    fn fold(&mut self, upper: BorrowedFd<'_>, target: BorrowedFd<'_>, at: &Path) -> io::Result<()> {
        for name in names(upper)? {
            let path = at.join(&name);
            match self.one(upper, target, &name, &path) {
                Err(error) if self.error.is_none() && is_out_of_reach(&error) => {
                    self.keep_apart(upper, &name, &path, &error)?;
                }
                done => done?,
            }
        }
        Ok(())
    }

    fn one(&mut self, upper: BorrowedFd<'_>, target: BorrowedFd<'_>, name: &OsStr, path: &Path) -> io::Result<()> {
        let Some(stat) = look(upper, name)? else { return Ok(()) };
        match kind(&stat) {
            Kind::Gone => {
                self.take_out(target, name, path)?;
                disk::remove_file_at(upper, name)
            }
            Kind::Folder => self.fold_folder(upper, target, name, path, &stat),
            Kind::Other => {
                let mut mode = stat.mode & 0o7777;
                let below = look(target, name)?.filter(|below| below.is_file() && stat.is_file());
                if let Some(below) = below {
                    if is_nothing_new(upper, target, name, (&stat, &below))? {
                        return disk::remove_file_at(upper, name);
                    }
                    if is_copied_up(upper, name, (&stat, &below))? {
                        let listed = path.to_str().and_then(|path| RelPath::new(path).ok());
                        self.folded.in_place.extend(listed);
                        mode |= if is_guarded(&below) { 0o200 } else { 0 };
                    }
                }
                self.strip(upper, name, path, (&stat, mode))?;
                self.take_out(target, name, path)?;
                disk::rename_at((upper, name), (target, name))
            }
        }
    }

    fn fold_folder(
        &mut self,
        upper: BorrowedFd<'_>,
        target: BorrowedFd<'_>,
        name: &OsStr,
        path: &Path,
        stat: &Stat,
    ) -> io::Result<()> {
        let (from, mode) = self.modes.open(upper, name, path)?;
        let there = look(target, name)?.filter(is_folder);
        if is_opaque(from.as_fd())? || there.is_none() {
            self.clean(from.as_fd(), path)?;
            self.take_out(target, name, path)?;
            // Not before: it says that what was there goes, to whoever has to do this again.
            self.strip(upper, name, path, (stat, stat.mode & 0o7777))?;
            disk::set_mtime(&from, stat.mtime)?;
            if mode & 0o700 == 0o700 {
                return disk::rename_at((upper, name), (target, name));
            }
            // A folder of that mode can't be moved.
            disk::make_folder_at(target, name)?;
        }
        let (to, _) = open_target(target, name)?;
        self.fold(from.as_fd(), to.as_fd(), path)?;
        copy_attributes(from.as_fd(), to.as_fd())?;
        disk::set_mtime(&to, stat.mtime)?;
        disk::change_mode(target, name, |_| mode)?;
        disk::remove_folder_at(upper, name)
    }

    /// Makes what is in a folder that is moved as a whole ordinary.
    fn clean(&mut self, folder: BorrowedFd<'_>, at: &Path) -> io::Result<()> {
        for name in names(folder)? {
            let path = at.join(&name);
            let Some(stat) = look(folder, &name)? else { continue };
            match kind(&stat) {
                Kind::Gone => disk::remove_file_at(folder, &name)?,
                Kind::Folder => {
                    let (below, mode) = self.modes.open(folder, &name, &path)?;
                    self.clean(below.as_fd(), &path)?;
                    self.strip(folder, &name, &path, (&stat, stat.mode & 0o7777))?;
                    disk::set_mtime(&below, stat.mtime)?;
                    if mode & 0o700 != 0o700 {
                        disk::change_mode(folder, &name, |_| mode)?;
                    }
                }
                Kind::Other => self.strip(folder, &name, &path, (&stat, stat.mode & 0o7777))?,
            }
        }
        Ok(())
    }

    /// Takes the layer's own attributes off a file or folder; most have none. What may not be written is opened up for
    /// that, and has the mode that it should have afterwards.
    fn strip(&mut self, at: BorrowedFd<'_>, name: &OsStr, path: &Path, (stat, mode): (&Stat, u32)) -> io::Result<()> {
        if !stat.is_file() && !is_folder(stat) {
            return Ok(());
        }
        let fd = disk::hold(at, name)?;
        let there = disk::attributes_by_path(&by_descriptor(fd.as_fd()))?;
        let ours: Vec<&str> = ATTRIBUTES.into_iter().filter(|name| there.iter().any(|there| there == name)).collect();
        if !ours.is_empty() {
            if stat.mode & 0o200 == 0 {
                self.modes.change(at, name, path, (mode, stat.mode & 0o7777 | 0o200))?;
            }
            for attribute in ours {
                disk::remove_attribute(&by_descriptor(fd.as_fd()), attribute)?;
            }
        }
        match self.modes.of(path) {
            Some(was) if stat.is_file() => disk::change_mode(at, name, |_| was),
            None if mode != stat.mode & 0o7777 => disk::change_mode(at, name, |_| mode),
            _ => Ok(()),
        }
    }

    /// Takes what is at a name out of the twin's folder. What somebody wrote there since it was settled is taken in first.
    fn take_out(&mut self, at: BorrowedFd<'_>, name: &OsStr, path: &Path) -> io::Result<()> {
        let Some(before) = look(at, name)? else { return Ok(()) };
        let mut late = Vec::new();
        if is_folder(&before) {
            // A folder that may not be written can't be moved: the entry in it that leads upward would change.
            let (folder, _) = open_target(at, name)?;
            self.unexpected_in(folder.as_fd(), path, &mut late)?;
        } else {
            self.unexpected(path, &before, &mut late);
        }
        self.take_in(&late)?;
        let number = self.folded.out.len().to_string();
        let out = self.slot(self.folded.out.len())?;
        disk::rename_at((at, name), (out, OsStr::new(&number)))?;
        let after = disk::stat_at(out, number.as_str())?;
        let shown = path.to_str().and_then(|path| RelPath::new(path).ok());
        // What has no name that a listing can hold is a thing that no listing held.
        let shown = shown.map_or_else(|| RelPath::new(format!("game/{number}")), Ok).map_err(io::Error::other)?;
        self.folded.out.push(shown.clone());
        self.fold.ledger.moved(&before, &after);
        if !is_folder(&before) && (before.size, before.mtime) != (after.size, after.mtime) {
            self.take_in(&[Doubtful { path: shown, out: self.slot_path(self.folded.out.len() - 1).join(number) }])?;
        }
        Ok(())
    }

    fn slot_path(&self, number: usize) -> PathBuf {
        self.fold.op.join(crate::materialise::slot("old", number).0)
    }

    /// The folder that what comes out with this number goes to.
    fn slot(&mut self, number: usize) -> io::Result<BorrowedFd<'_>> {
        let path = self.slot_path(number);
        let chunk = number / crate::materialise::TOGETHER;
        if self.out.as_ref().is_none_or(|(open, _)| *open != chunk) {
            disk::make_folders(&path).map_err(io::Error::other)?;
            self.out = Some((chunk, disk::open_folder(CWD, &path)?));
        }
        self.out.as_ref().map(|(_, fd)| fd.as_fd()).ok_or_else(|| io::ErrorKind::NotFound.into())
    }

    fn unexpected_in(&self, folder: BorrowedFd<'_>, at: &Path, late: &mut Vec<Doubtful>) -> io::Result<()> {
        for name in names(folder)? {
            let path = at.join(&name);
            let Some(stat) = look(folder, &name)? else { continue };
            if is_folder(&stat) {
                let (below, _) = open_target(folder, &name)?;
                self.unexpected_in(below.as_fd(), &path, late)?;
            } else {
                self.unexpected(&path, &stat, late);
            }
        }
        Ok(())
    }

    fn unexpected(&self, path: &Path, stat: &Stat, late: &mut Vec<Doubtful>) {
        let listed = path.to_str().and_then(|path| RelPath::new(path).ok());
        if let Some(listed) = listed
            && crate::materialise::is_file_or_link(stat)
            && !(self.fold.expected)(listed.as_str(), stat)
        {
            late.push(Doubtful { out: self.fold.folder.join(path), path: listed });
        }
    }

    fn take_in(&mut self, late: &[Doubtful]) -> io::Result<()> {
        if late.is_empty() {
            return Ok(());
        }
        (self.fold.late)(late).map_err(|error| {
            self.error = Some(error);
            io::Error::other("what was written meanwhile could not be taken in")
        })
    }

    /// Moves what can't be folded back to where it is kept, so that the rest can be.
    fn keep_apart(&mut self, at: BorrowedFd<'_>, name: &OsStr, path: &Path, why: &io::Error) -> io::Result<()> {
        let number = self.folded.not_folded.len();
        let kept: PathBuf = self.fold.kept.join(format!("not folded {number}"));
        disk::make_folders(self.fold.kept).map_err(io::Error::other)?;
        disk::rename_at((at, name), (CWD, kept.as_os_str()))?;
        let shown = path.to_string_lossy();
        let shown: String =
            if shown.len() > 200 { shown.chars().take(200).chain(['…']).collect() } else { shown.into() };
        self.folded.not_folded.push(format!("{shown} ({why}): it is kept as {}", kept.display()));
        Ok(())
    }
}

/// Whether a file of the layer was copied from what lies below, when a program opened it for writing or changed its mode.
fn is_copied_up(upper: BorrowedFd<'_>, name: &OsStr, (stat, below): (&Stat, &Stat)) -> io::Result<bool> {
    // The kernel marks no copy of a file that has several names: only the guard, which no program gives its files, tells.
    if is_guarded(below) && stat.mode == below.mode {
        return Ok(true);
    }
    let fd = disk::hold(upper, name)?;
    let there = disk::attributes_by_path(&by_descriptor(fd.as_fd()))?;
    Ok(there.iter().any(|name| name == ORIGIN))
}

/// Whether a file has the guard of one that is shared.
fn is_guarded(stat: &Stat) -> bool {
    stat.nlink > 1 && stat.mode & 0o222 == 0
}

/// Whether a file that was copied into the layer is as it was there, its time too: one that is shared stays shared whatever
/// was done to its guard.
fn is_nothing_new(
    upper: BorrowedFd<'_>,
    target: BorrowedFd<'_>,
    name: &OsStr,
    (stat, below): (&Stat, &Stat),
) -> io::Result<bool> {
    let as_shared = is_guarded(below) && stat.executable() == below.executable() && stat.mode & 0o444 == 0o444;
    let same_mode = as_shared || stat.mode == below.mode;
    if stat.nlink > 1 || !same_mode || (stat.size, stat.mtime) != (below.size, below.mtime) {
        return Ok(false);
    }
    let fd = disk::hold(upper, name)?;
    let there = disk::attributes_by_path(&by_descriptor(fd.as_fd()))?;
    if disk::given(&there).any(|name| !ATTRIBUTES.contains(&name)) {
        return Ok(false);
    }
    match (disk::open_file(upper, name), disk::open_file(target, name)) {
        (Ok(now), Ok(was)) => same_bytes(now, was),
        // One that can't be read can't be said to be the same.
        _ => Ok(false),
    }
}

/// Whether something can't be reached, or not be moved, whatever is tried.
fn is_out_of_reach(error: &io::Error) -> bool {
    const OUT: [Errno; 5] = [Errno::NAMETOOLONG, Errno::ACCESS, Errno::PERM, Errno::LOOP, Errno::MFILE];
    Errno::from_io_error(error).is_some_and(|errno| OUT.contains(&errno))
}

/// Gives a folder the attributes that the program left it with.
fn copy_attributes(from: BorrowedFd<'_>, to: BorrowedFd<'_>) -> io::Result<()> {
    /// The kernel allows no larger ones.
    const MOST: usize = 64 << 10;
    let names = disk::attributes(from)?;
    for name in disk::given(&names).filter(|name| !name.starts_with("user.overlay.")) {
        let mut value = vec![0_u8; MOST];
        let size = rustix::fs::fgetxattr(from, name, &mut value[..])?;
        disk::set_attribute(to, name, &value[..size])?;
    }
    Ok(())
}
