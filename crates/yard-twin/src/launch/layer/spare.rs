//! An empty layer that is kept from one run of a twin to its next: to make its folders and to delete them again is most of
//! what a start waits for on a disk in use.

use std::io;
use std::os::fd::{AsFd, BorrowedFd};
use std::path::{Path, PathBuf};

use rustix::fs::CWD;

use super::super::surroundings::{COOKIE, DISPLAYS, RUNTIME};
use super::modes::Modes;
use super::{ABOUT, AREAS, ATTRIBUTES, About, RunLayer, UUID, by_descriptor, names};
use crate::disk::{self, Stat};
use crate::error::{PathContext, Result};

impl RunLayer {
    /// Beside the layer's own folder.
    const SPARE: &str = "layer-empty";

    fn spare(&self) -> PathBuf {
        self.root.with_file_name(Self::SPARE)
    }

    /// Takes the empty layer that the run before left, with what is said of the new one in it from the beginning; `false` where
    /// there is none that is as one made anew would be.
    pub(super) fn take_spare(&self, about: &About) -> Result<bool> {
        let spare = self.spare();
        if !is_as_made(&spare) {
            // Somebody else's may stay: it is in nobody's way.
            if let Err(error) = disk::remove_tree(&spare) {
                tracing::info!(%error, "a layer that can't be used again is left");
            }
            return Ok(false);
        }
        let taken = Self { root: spare.clone() };
        if !taken.is_mounted_on(about) && disk::exists(&taken.displays()) {
            disk::remove_folder(&taken.displays())?;
        }
        taken.write_about(about)?;
        disk::rename(&spare, &self.root)?;
        Ok(true)
    }

    /// Keeps an empty layer for the next run. One that holds anything, or is not as it was made, is deleted.
    pub(crate) fn put_away(&self) -> Result<()> {
        if self.keep().is_ok_and(|kept| kept) { Ok(()) } else { self.remove() }
    }

    /// Whether it could be kept: it is deleted else, whatever stood in the way.
    fn keep(&self) -> Result<bool> {
        disk::remove_if_there(&self.temporary("tmp").join(COOKIE))?;
        disk::remove_if_there(&self.root.join(Modes::FILE))?;
        for area in AREAS {
            wipe(&self.upper(area)).at("clear", self.upper(area))?;
            // The kernel makes one of its own that nobody may look into: whoever copies a yard would stumble over it.
            let kernels = self.work(area).join("work");
            // What it leaves there, as the one thing that all gone files share, is its own too.
            if disk::exists(&kernels) && disk::remove_folder(&kernels).is_err() {
                disk::remove_tree(&kernels)?;
            }
        }
        if !is_as_made(&self.root) || disk::exists(&self.spare()) {
            return Ok(false);
        }
        // What it says of this run must never be taken for the next one's.
        disk::remove_if_there(&self.root.join(ABOUT))?;
        disk::rename(&self.root, &self.spare())?;
        Ok(true)
    }
}

/// Takes off what the kernel notes at the top of a layer about what was in it: nothing is any more.
fn wipe(area: &Path) -> io::Result<()> {
    let area = disk::open_folder(CWD, area)?;
    let noted = disk::attributes(&area)?.into_iter().filter(|name| name != UUID);
    for name in noted.filter(|name| ATTRIBUTES.contains(&name.as_str())) {
        disk::remove_attribute(&by_descriptor(area.as_fd()), &name)?;
    }
    Ok(())
}

/// A folder of a layer in which nothing was written.
struct Folder {
    name: &'static str,
    /// Whether it is there in any case: else after some runs.
    always: bool,
    /// Which of the layer's own permissions it has.
    mode: u32,
    has: &'static [Folder],
}

const fn made(name: &'static str, has: &'static [Folder]) -> Folder {
    Folder { name, always: true, mode: 0o7777, has }
}

const FOLDERS: [Folder; 5] =
    [made("game", &[]), made("home", &[]), made("tmp", &IN_TMP), made("var-tmp", &[]), made("work", &IN_WORK)];
/// The second one was mounted on.
const IN_TMP: [Folder; 2] = [
    Folder { name: RUNTIME, always: false, mode: 0o700, has: &[] },
    Folder { name: DISPLAYS, always: false, mode: 0o755, has: &[] },
];
const IN_WORK: [Folder; 2] = [made("game", &[]), made("home", &[])];

/// Whether a layer is as one that was just made, and its user's whose the twin is. One that can't be looked at is not.
fn is_as_made(layer: &Path) -> bool {
    let looked = || -> io::Result<bool> {
        let root = disk::open_folder(CWD, layer)?;
        let (model, user) = (Make::of(root.as_fd())?, rustix::process::geteuid().as_raw());
        let is_ours = model.stat.uid == user && disk::lstat(layer.parent().unwrap_or(layer))?.uid == user;
        Ok(is_ours && holds(root.as_fd(), &FOLDERS, Some(ABOUT), &model)?)
    };
    looked().unwrap_or(false)
}

/// Whether nothing is in a folder but what may be, each as the layer's own was made.
fn holds(at: BorrowedFd<'_>, folders: &[Folder], file: Option<&str>, model: &Make) -> io::Result<bool> {
    let there = names(at)?;
    let may_be = |name: &str| file == Some(name) || folders.iter().any(|folder| folder.name == name);
    if !there.iter().all(|name| name.to_str().is_some_and(may_be)) {
        return Ok(false);
    }
    for Folder { name, always, mode, has } in folders {
        if there.iter().any(|there| there == name) {
            let folder = disk::open_folder(at, *name)?;
            if !Make::of(folder.as_fd())?.is_as(model, model.stat.mode & mode)
                || !holds(folder.as_fd(), has, None, model)?
            {
                return Ok(false);
            }
        } else if *always {
            return Ok(false);
        }
    }
    Ok(true)
}

/// What a folder was made with.
struct Make {
    stat: Stat,
    /// The names of its extended attributes, but for that by which the kernel knows a layer again.
    attributes: Vec<String>,
}

impl Make {
    fn of(folder: BorrowedFd<'_>) -> io::Result<Self> {
        let mut attributes = disk::attributes(folder)?;
        attributes.retain(|name| name != UUID);
        attributes.sort_unstable();
        Ok(Self { stat: disk::fstat(folder)?, attributes })
    }

    fn is_as(&self, model: &Self, mode: u32) -> bool {
        let (ours, theirs) = (&self.stat, &model.stat);
        (ours.uid, ours.dev, ours.mode & 0o7777) == (theirs.uid, theirs.dev, mode)
            && self.attributes == model.attributes
    }
}
