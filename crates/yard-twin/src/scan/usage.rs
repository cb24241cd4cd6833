//! What a folder takes on disk: every file and folder below it, whatever its name and kind.

use std::ffi::CString;
use std::mem::MaybeUninit;
use std::os::fd::OwnedFd;
use std::path::Path;
use std::sync::Arc;

use rustix::fs::{AtFlags, CWD, FileType, RawDir};

use crate::disk::{self, Stat};
use crate::error::{Error, PathContext, Result};
use crate::parallel;
use crate::progress::Ctx;

/// What was found below a folder.
#[derive(Default)]
pub(crate) struct Usage {
    /// Everything that is no folder.
    pub(crate) files: Vec<Stat>,
    /// Bytes on disk that the folders themselves take, that one among them.
    pub(crate) folders: u64,
}

struct Job {
    parent: Arc<OwnedFd>,
    name: CString,
}

/// Looks at all that is below `folder`; what can't be listed, or goes meanwhile, is passed over.
pub(crate) fn usage(folder: &Path, ctx: &Ctx) -> Result<Usage> {
    let root = Arc::new(disk::open_folder(CWD, folder).at("open", folder)?);
    let allocated = disk::fstat(&*root).at("look at", folder)?.allocated;
    let worker = || (Usage::default(), Box::new_uninit_slice(32 << 10));
    let first = vec![Job { parent: root, name: c".".into() }];
    let workers = parallel::crawl(first, ctx.threads(), worker, |(usage, buffer), job, jobs| {
        ctx.check()?;
        look(&job, usage, buffer, jobs).or_else(|error| {
            match error.raw_os_error().map(rustix::io::Errno::from_raw_os_error) {
                Some(rustix::io::Errno::NOENT | rustix::io::Errno::ACCESS | rustix::io::Errno::NOTDIR) => Ok(()),
                _ => Err(Error::io("list", folder.join(job.name.to_string_lossy().as_ref()), error)),
            }
        })
    })?;
    let mut all = Usage { files: Vec::new(), folders: allocated };
    for (usage, _) in workers {
        all.files.extend(usage.files);
        all.folders += usage.folders;
    }
    Ok(all)
}

fn look(job: &Job, usage: &mut Usage, buffer: &mut [MaybeUninit<u8>], jobs: &mut Vec<Job>) -> std::io::Result<()> {
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
        if is_folder {
            usage.folders += stat.allocated;
            jobs.push(Job { parent: Arc::clone(&folder), name: name.into() });
        } else {
            usage.files.push(stat);
        }
    }
    Ok(())
}
