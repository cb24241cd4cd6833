//! A run's layer: what a sealed program writes is kept apart, and folded back into the twin's folder when it is over.
//!
//! The layer is in the form that the kernel's overlay filesystem leaves (Documentation/filesystems/overlayfs.rst, with
//! `userxattr`): a character device 0:0 says that something is gone, the attribute `user.overlay.opaque` that a folder
//! hides what was there before. Every step of folding is a rename or a deletion and consumes the layer, so that what was
//! cut off is finished by doing it again. All of it goes by descriptors: paths in it may be as long as a program likes.

mod changes;
mod fold;
mod modes;
mod spare;

use std::ffi::{OsStr, OsString};
use std::fs::{self, File};
use std::io::{self, BufRead, BufReader};
use std::os::fd::{AsFd, AsRawFd, BorrowedFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use rustix::fs::{CWD, Dir, FileType};
use serde::{Deserialize, Serialize};

pub(crate) use changes::How;
pub(crate) use fold::{Fold, Folded};
use modes::Modes;

use crate::disk::{self, Stat};
use crate::error::{PathContext, Result};
use crate::ident::StateId;
use crate::listing::Listing;
use crate::path::RelPath;

/// The parts of a twin that a layer covers.
pub(crate) const AREAS: [&str; 2] = ["game", "home"];

/// The folders of a layer that stand in for the system's for temporary files, and where those are.
pub(crate) const TEMPORARY: [(&str, &str); 2] = [("tmp", "/tmp"), ("var-tmp", "/var/tmp")];

/// The folders that stand in for shared memory, and for that of the session, where a program is watched.
pub(crate) const MEMORY: (&str, &str) = ("shm", "/dev/shm");
pub(crate) const SESSION: &str = "session";

const OPAQUE: &str = "user.overlay.opaque";

/// A file or folder has it that was copied from what lies below.
const ORIGIN: &str = "user.overlay.origin";

/// The top of a layer has it, by which the kernel knows it again.
const UUID: &str = "user.overlay.uuid";

/// What says whose a layer is, in its folder.
const ABOUT: &str = "about.json";

/// What a run leaves in the attributes of its files, which mean nothing elsewhere.
const ATTRIBUTES: [&str; 6] =
    [OPAQUE, ORIGIN, "user.overlay.impure", "user.overlay.nlink", UUID, "user.overlay.protattr"];

/// The folder of a run's layer, beside the twin's `game` and `home`.
#[derive(Clone, Debug)]
pub(crate) struct RunLayer {
    root: PathBuf,
}

/// What must be known to take in what a run wrote, also where nobody saw it end.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct About {
    /// The run that it is of.
    pub(crate) run: i64,
    /// Folders and files in the layer's own folders that were made to mount on, the innermost first.
    pub(crate) placeholders: Vec<String>,
    /// What becomes of what the run wrote: said before it begins.
    #[serde(default)]
    pub(crate) fate: Fate,
    /// The state that the twin had before, where the run writes into the twin's folder itself.
    #[serde(default)]
    pub(crate) direct: Option<StateId>,
}

/// What becomes of what a run wrote.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub(crate) enum Fate {
    /// It is kept. So it is where it was to be asked about, and nobody is there any more.
    #[default]
    Kept,
    Asked,
    ThrownAway,
}

/// What is at a name of a layer.
enum Kind {
    Gone,
    Folder,
    Other,
}

fn kind(stat: &Stat) -> Kind {
    match FileType::from_raw_mode(stat.mode) {
        FileType::CharacterDevice if stat.rdev == 0 => Kind::Gone,
        FileType::Directory => Kind::Folder,
        _ => Kind::Other,
    }
}

/// What is in a folder, in the order of names.
fn names(folder: BorrowedFd<'_>) -> io::Result<Vec<OsString>> {
    let mut names = Vec::new();
    for entry in Dir::read_from(folder)? {
        let entry = entry?;
        let name = entry.file_name().to_bytes();
        if !matches!(name, b"." | b"..") {
            names.push(OsStr::from_bytes(name).to_owned());
        }
    }
    names.sort_unstable();
    Ok(names)
}

fn is_folder(stat: &Stat) -> bool {
    FileType::from_raw_mode(stat.mode) == FileType::Directory
}

/// What is at a name, if anything is.
fn look(at: BorrowedFd<'_>, name: &OsStr) -> io::Result<Option<Stat>> {
    match disk::stat_at(at, name) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
        stat => stat.map(Some),
    }
}

/// A path by which what is behind a descriptor can be asked for its attributes whatever it may be opened for.
fn by_descriptor(fd: BorrowedFd<'_>) -> String {
    format!("/proc/self/fd/{}", fd.as_raw_fd())
}

/// Whether a folder hides what was there before.
fn is_opaque(folder: BorrowedFd<'_>) -> io::Result<bool> {
    let mut value = [0_u8; 4];
    match rustix::fs::getxattr(by_descriptor(folder), OPAQUE, &mut value) {
        Ok(length) => Ok(value[..length] == *b"y"),
        Err(rustix::io::Errno::NODATA | rustix::io::Errno::OPNOTSUPP) => Ok(false),
        Err(error) => Err(error.into()),
    }
}

/// Whether two files hold the same bytes.
fn same_bytes(a: File, b: File) -> io::Result<bool> {
    let (mut a, mut b) = (BufReader::with_capacity(disk::BUFFER, a), BufReader::with_capacity(disk::BUFFER, b));
    loop {
        let (left, right) = (a.fill_buf()?, b.fill_buf()?);
        let length = left.len().min(right.len());
        if length == 0 {
            return Ok(left.len() == right.len());
        }
        if left[..length] != right[..length] {
            return Ok(false);
        }
        a.consume(length);
        b.consume(length);
    }
}

impl RunLayer {
    pub(crate) const FOLDER: &str = "layer";

    /// The layer of the twin in `folder`, if there is one or not.
    pub(crate) fn of(folder: &Path) -> Self {
        Self { root: folder.join(Self::FOLDER) }
    }

    pub(crate) fn root(&self) -> &Path {
        &self.root
    }

    /// Where changes to `game` or `home` go.
    pub(crate) fn upper(&self, area: &str) -> PathBuf {
        self.root.join(area)
    }

    /// A folder of the kernel's own.
    pub(crate) fn work(&self, area: &str) -> PathBuf {
        self.root.join("work").join(area)
    }

    /// A folder that stands in for one of the system's for temporary files.
    pub(crate) fn temporary(&self, name: &str) -> PathBuf {
        self.root.join(name)
    }

    /// An empty folder that stands in for the twin's home, where a program is watched.
    pub(crate) fn empty_home(&self) -> PathBuf {
        self.root.join("empty")
    }

    /// What else it takes where a program is watched.
    pub(crate) fn make_watched(&self) -> Result<()> {
        [self.empty_home(), self.temporary(MEMORY.0), self.temporary(SESSION)]
            .iter()
            .try_for_each(|folder| disk::make_folders(folder))
    }

    /// Makes an empty one, of what an earlier run left if that is empty.
    pub(crate) fn make(&self, about: &About) -> Result<()> {
        if self.take_spare(about)? {
            return Ok(());
        }
        for folder in AREAS.iter().flat_map(|area| [self.upper(area), self.work(area)]) {
            disk::make_folders(&folder)?;
        }
        for (name, _) in TEMPORARY {
            disk::make_folders(&self.temporary(name))?;
        }
        self.write_about(about)
    }

    fn write_about(&self, about: &About) -> Result<()> {
        disk::write_json(&self.root.join(ABOUT), std::iter::once(about))
    }

    /// Whether there is one.
    ///
    /// # Errors
    /// [`crate::Error::Io`] if that can't be told.
    pub(crate) fn exists(&self) -> Result<bool> {
        match disk::lstat(&self.root) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(false),
            stat => stat.at("look at", &self.root).map(|_| true),
        }
    }

    /// What it is of; `None` where that was never written as a whole.
    pub(crate) fn about(&self) -> Result<Option<About>> {
        let path = self.root.join(ABOUT);
        let text = match disk::read_own(&path, disk::TEXT) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
            text => text.at("read", &path)?,
        };
        Ok(serde_json::from_slice::<Vec<About>>(&text).ok().and_then(|mut about| about.pop()))
    }

    /// Takes out again what was made to mount on, where nothing has come into it. That for the sockets of displays stays for
    /// the next run.
    pub(crate) fn tidy(&self) -> Result<()> {
        let placeholders = self.about()?.map(|about| about.placeholders).unwrap_or_default();
        let displays = self.displays();
        for path in placeholders.iter().map(|path| self.root.join(path)).filter(|path| *path != displays) {
            match path.symlink_metadata() {
                // One that something has come into stays.
                Ok(meta) if meta.is_dir() => drop(disk::remove_folder(&path)),
                Ok(meta) if meta.is_file() && meta.len() == 0 => disk::remove_file(&path)?,
                _ => {}
            }
        }
        Ok(())
    }

    /// The folders of its areas, open, each with its name; those that aren't there are left out.
    fn areas(&self, modes: &mut Modes) -> Result<Vec<(&'static str, OwnedFd)>> {
        let mut areas = Vec::new();
        let root = match disk::open_folder(CWD, &self.root) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(areas),
            root => root.at("open", &self.root)?,
        };
        for area in AREAS {
            if look(root.as_fd(), OsStr::new(area))
                .at("look at", self.upper(area))?
                .is_some_and(|stat| is_folder(&stat))
            {
                let (fd, _) =
                    modes.open(root.as_fd(), OsStr::new(area), Path::new(area)).at("open", self.upper(area))?;
                areas.push((area, fd));
            }
        }
        Ok(areas)
    }

    /// Whether nothing was written.
    ///
    /// # Errors
    /// [`crate::Error::Io`]: one that can't be looked into is not empty.
    pub(crate) fn is_empty(&self) -> Result<bool> {
        for (area, fd) in self.areas(&mut Modes::load(self)?)? {
            if !names(fd.as_fd()).at("list", self.upper(area))?.is_empty() {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// What is left in the folders for temporary files.
    pub(crate) fn left_in_temporary(&self) -> Vec<PathBuf> {
        // Sockets come and go: only where a program is watched it matters that it has left any.
        let runtime = Path::new("tmp").join(super::surroundings::RUNTIME);
        let session = [SESSION.into(), runtime].into_iter().filter(|_| self.empty_home().is_dir());
        let session = session.map(|name: PathBuf| (name, "$XDG_RUNTIME_DIR"));
        let usual = TEMPORARY.into_iter().chain([MEMORY]).map(|(name, place)| (name.into(), place));
        let left = usual.chain(session).flat_map(|(name, place)| {
            let folder = disk::open_folder(CWD, self.root.join(name));
            let names = folder.and_then(|folder| names(folder.as_fd())).unwrap_or_default();
            names.into_iter().map(move |name| Path::new(place).join(name))
        });
        let displays = Path::new(TEMPORARY[0].1).join(super::surroundings::DISPLAYS);
        let is_ours = |path: &Path| match path.file_name().and_then(OsStr::to_str) {
            Some(super::surroundings::COOKIE | super::surroundings::RUNTIME) => true,
            _ => path == displays && self.mounted_on_displays(),
        };
        left.filter(|path| !is_ours(path)).collect()
    }

    /// The folder that those with the sockets of displays are mounted on.
    fn displays(&self) -> PathBuf {
        self.temporary(TEMPORARY[0].0).join(super::surroundings::DISPLAYS)
    }

    /// Whether that folder is there for nothing else.
    fn mounted_on_displays(&self) -> bool {
        let there = || disk::open_folder(CWD, self.displays()).and_then(|folder| names(folder.as_fd()));
        self.about().ok().flatten().is_some_and(|about| self.is_mounted_on(&about))
            && there().is_ok_and(|names| names.is_empty())
    }

    /// Whether there were displays' sockets to mount.
    fn is_mounted_on(&self, about: &About) -> bool {
        about.placeholders.iter().any(|path| self.root.join(path) == self.displays())
    }

    /// What the program changed, against what was there before it in the twin's folder, and in what it had for a home.
    pub(crate) fn changes(&self, folder: &Path, home: &Path, before: &Listing) -> Result<Vec<(RelPath, How)>> {
        changes::changes(self, (folder, home), before)
    }

    /// Folds everything back into the twin's folder. Says what became of what could not be.
    pub(crate) fn fold(&self, fold: &mut Fold<'_>) -> Result<Folded> {
        fold::fold(self, fold)
    }

    /// Deletes it, and what it still holds.
    pub(crate) fn remove(&self) -> Result<()> {
        // What says whose it is goes last.
        if self.exists()? {
            for entry in fs::read_dir(&self.root).at("list", &self.root)? {
                let path = entry.at("list", &self.root)?.path();
                if path.file_name() == Some(OsStr::new(ABOUT)) {
                    continue;
                }
                if path.symlink_metadata().is_ok_and(|meta| meta.is_dir()) {
                    disk::remove_tree(&path)?;
                } else {
                    disk::remove_file(&path)?;
                }
            }
        }
        disk::remove_tree(&self.root)
    }
}
