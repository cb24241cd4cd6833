//! What a folder takes on disk: every file and folder below it, whatever its name and kind.

use std::collections::HashSet;
use std::ffi::{CStr, CString};
use std::mem::MaybeUninit;
use std::os::fd::OwnedFd;
use std::path::Path;
use std::sync::Arc;

use rustix::fs::{AtFlags, CWD, FileType, RawDir};

use super::{Row, SeenFolders};
use crate::disk::{self, Stat};
use crate::error::{Error, PathContext, Result};
use crate::listing::Listing;
use crate::parallel;
use crate::progress::Ctx;

/// What was found below a folder.
#[derive(Default)]
pub(crate) struct Usage {
    /// Everything that is no folder.
    pub(crate) files: Vec<Used>,
    /// Bytes on disk that the folders themselves take, that one among them.
    pub(crate) folders: u64,
    /// The device and inode of that one.
    pub(crate) top: Option<(u64, u64)>,
}

/// What is to be known of a file that takes room: of a great many that is less than all that is known of one.
pub(crate) struct Used {
    pub(crate) dev: u64,
    pub(crate) ino: u64,
    /// How many it has.
    pub(crate) names: u32,
    /// The number of the row that it was known by, or [`NO_ROW`].
    pub(crate) row: u32,
    pub(crate) size: u64,
    pub(crate) allocated: u64,
}

/// Of a file that was not known by a row.
pub(crate) const NO_ROW: u32 = u32::MAX;

impl Used {
    fn new(stat: &Stat, row: u32) -> Self {
        let Stat { dev, ino, size, allocated, .. } = *stat;
        Self { dev, ino, names: stat.nlink, row, size, allocated }
    }

    /// Whether the two are names of one file.
    pub(crate) fn is(&self, other: &Self) -> bool {
        (self.dev, self.ino) == (other.dev, other.ino)
    }
}

impl Usage {
    /// Puts the files in the order of their inodes, so that the names of one are beside each other.
    pub(crate) fn in_order(&mut self) {
        self.files.sort_unstable_by_key(|file| (file.dev, file.ino));
    }
}

struct Job {
    parent: Arc<OwnedFd>,
    name: CString,
}

/// What one thread has found: files, bytes of folders, and what was noted of files.
type Found<T> = (Vec<Used>, u64, Vec<T>);

/// Looks at all that is below `folder`; what can't be listed, or goes meanwhile, is passed over.
pub(crate) fn usage(folder: &Path, ctx: &Ctx) -> Result<Usage> {
    usage_but(folder, &HashSet::new(), ctx)
}

/// As [`usage`], without the folders that have one of these devices and inodes.
pub(crate) fn usage_but(folder: &Path, without: &HashSet<(u64, u64)>, ctx: &Ctx) -> Result<Usage> {
    usage_of(folder, without, ctx, |_, _| None::<()>).map(|(usage, _)| usage)
}

/// As [`usage_but`], with what `note` has to say of each file by its name.
pub(crate) fn usage_of<T: Send>(
    folder: &Path,
    without: &HashSet<(u64, u64)>,
    ctx: &Ctx,
    note: impl Fn(&CStr, &Stat) -> Option<T> + Sync,
) -> Result<(Usage, Vec<T>)> {
    let root = Arc::new(disk::open_folder(CWD, folder).at("open", folder)?);
    let top = disk::fstat(&*root).at("look at", folder)?;
    let worker = || ((Vec::new(), 0, Vec::new()), Box::new_uninit_slice(32 << 10));
    let first = vec![Job { parent: root, name: c".".into() }];
    let workers = parallel::crawl(first, ctx.threads(), worker, |(found, buffer), job, jobs| {
        ctx.check()?;
        look(&job, found, buffer, jobs, without, &note).or_else(|error| {
            match error.raw_os_error().map(rustix::io::Errno::from_raw_os_error) {
                Some(rustix::io::Errno::NOENT | rustix::io::Errno::ACCESS | rustix::io::Errno::NOTDIR) => Ok(()),
                _ => Err(Error::io("list", folder.join(job.name.to_string_lossy().as_ref()), error)),
            }
        })
    })?;
    let mut all = Usage { files: Vec::new(), folders: top.allocated, top: Some((top.dev, top.ino)) };
    let mut notes = Vec::new();
    for ((files, folders, noted), _) in workers {
        all.files.extend(files);
        all.folders += folders;
        notes.extend(noted);
    }
    Ok((all, notes))
}

/// As [`usage`] of a twin's folder, of which nothing has changed since its rows were looked at: only what no listing has is
/// looked for.
pub(crate) fn usage_by_rows(
    folder: &Path,
    listing: &Listing,
    rows: &[Row],
    seen: &SeenFolders,
    ctx: &Ctx,
) -> Result<Usage> {
    let tops = ["game", "home"].map(|top| disk::lstat(&folder.join(top)));
    let mut all = usage_but(folder, &tops.into_iter().flatten().map(|stat| (stat.dev, stat.ino)).collect(), ctx)?;
    all.folders += seen.allocated;
    let there = (0..).zip(rows).filter(|(_, row)| row.ino != 0);
    all.files.extend(there.map(|(number, row)| Used::new(&row.stat(seen.device), number)));
    for path in &seen.hold_more {
        let at = path.below(folder);
        for name in std::fs::read_dir(&at).at("list", &at)? {
            let name = name.at("list", &at)?.file_name();
            let known = name.to_str().is_some_and(|name| !listing.range(&format!("{path}/{name}")).is_empty());
            let more = at.join(&name);
            // What goes meanwhile is passed over.
            let Some(stat) = disk::lstat(&more).ok().filter(|_| !known) else { continue };
            if FileType::from_raw_mode(stat.mode) == FileType::Directory {
                let below = usage(&more, ctx)?;
                all.files.extend(below.files);
                all.folders += below.folders;
            } else {
                all.files.push(Used::new(&stat, NO_ROW));
            }
        }
    }
    Ok(all)
}

fn look<T>(
    job: &Job,
    (files, folders, notes): &mut Found<T>,
    buffer: &mut [MaybeUninit<u8>],
    jobs: &mut Vec<Job>,
    without: &HashSet<(u64, u64)>,
    note: &impl Fn(&CStr, &Stat) -> Option<T>,
) -> std::io::Result<()> {
    let folder = Arc::new(disk::open_folder(&*job.parent, &*job.name)?);
    let mut names = RawDir::new(&*folder, buffer);
    while let Some(name) = names.next() {
        let name = name?;
        let name = name.file_name();
        if name == c"." || name == c".." {
            continue;
        }
        let Ok(stat) = rustix::fs::statat(&*folder, name, AtFlags::SYMLINK_NOFOLLOW) else { continue };
        let is_folder = FileType::from_raw_mode(stat.st_mode) == FileType::Directory;
        let stat = Stat::from(stat);
        if !is_folder {
            notes.extend(note(name, &stat));
            files.push(Used::new(&stat, NO_ROW));
        } else if !without.contains(&(stat.dev, stat.ino)) {
            *folders += stat.allocated;
            jobs.push(Job { parent: Arc::clone(&folder), name: name.into() });
        }
    }
    Ok(())
}
