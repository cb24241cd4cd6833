//! Lists a folder: names, kinds and stats, nothing read. A folder is the unit of work for the threads.

use std::io;
use std::mem::MaybeUninit;
use std::os::fd::{AsFd, OwnedFd};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Condvar, Mutex};

use rustix::fs::{AtFlags, CWD, FileType, RawDir};
use rustix::io::Errno;

use crate::disk::{self, Stat};
use crate::error::{Error, IntakeError, PathContext, Result};
use crate::parallel::lock;
use crate::path::RelPath;
use crate::progress::Ctx;

/// What to do about names and files that no listing can hold.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Manner {
    /// An error: what is taken in must be whole.
    Strict,
    /// They are named and passed over: a program may have made them.
    Lenient,
}

pub(crate) enum Kind {
    File,
    Symlink(Box<str>),
    EmptyFolder,
}

/// One thing that was seen.
pub(crate) struct Seen {
    pub(crate) path: RelPath,
    pub(crate) kind: Kind,
    pub(crate) stat: Stat,
}

/// All that was seen, in the order of the paths.
#[derive(Default)]
pub(crate) struct Walked {
    pub(crate) seen: Vec<Seen>,
    /// What was passed over, each with its reason.
    pub(crate) not_taken: Vec<String>,
}

struct Job {
    parent: Arc<OwnedFd>,
    name: Box<str>,
    path: RelPath,
    root: bool,
}

/// Folders to do, and how many threads are at one just now: it is over when both are none.
struct Queue {
    jobs: Vec<Job>,
    busy: usize,
    failed: bool,
}

struct Walk<'a> {
    folder: &'a Path,
    prefix: &'a RelPath,
    manner: Manner,
    queue: Mutex<Queue>,
    more: Condvar,
    ctx: &'a Ctx,
}

/// Lists `folder`; what is in it gets paths below `prefix`.
///
/// The folder itself may be empty or (leniently) missing: then nothing is seen.
pub(crate) fn walk(folder: &Path, prefix: &RelPath, manner: Manner, ctx: &Ctx) -> Result<Walked> {
    let parent = match rustix::fs::openat(
        CWD,
        folder,
        rustix::fs::OFlags::RDONLY | rustix::fs::OFlags::DIRECTORY | rustix::fs::OFlags::CLOEXEC,
        rustix::fs::Mode::empty(),
    ) {
        Err(Errno::NOENT) if manner == Manner::Lenient => return Ok(Walked::default()),
        opened => Arc::new(opened.at("open", folder)?),
    };
    let job = Job { parent, name: ".".into(), path: prefix.clone(), root: true };
    let walk = Walk {
        folder,
        prefix,
        manner,
        queue: Mutex::new(Queue { jobs: vec![job], busy: 0, failed: false }),
        more: Condvar::new(),
        ctx,
    };
    let parts: Vec<Result<Walked>> = std::thread::scope(|scope| {
        let others: Vec<_> = (1..ctx.threads()).map(|_| scope.spawn(|| walk.worker())).collect();
        let mine = walk.worker();
        others
            .into_iter()
            .map(|thread| thread.join().unwrap_or_else(|p| std::panic::resume_unwind(p)))
            .chain([mine])
            .collect()
    });
    let mut all = Walked::default();
    for part in parts {
        let mut part = part?;
        // The larger one takes the smaller one in, so that little is moved.
        if part.seen.len() > all.seen.len() {
            std::mem::swap(&mut part, &mut all);
        }
        all.seen.reserve_exact(part.seen.len());
        all.seen.append(&mut part.seen);
        all.not_taken.append(&mut part.not_taken);
    }
    all.seen.sort_unstable_by(|a, b| a.path.cmp(&b.path));
    all.not_taken.sort_unstable();
    Ok(all)
}

impl Walk<'_> {
    fn worker(&self) -> Result<Walked> {
        let mut found = Walked::default();
        let mut buffer = vec![MaybeUninit::uninit(); 32 << 10];
        while let Some(job) = self.next() {
            let listed = self.list(&job, &mut buffer, &mut found);
            let mut queue = lock(&self.queue);
            queue.busy -= 1;
            queue.failed |= listed.is_err();
            self.more.notify_all();
            drop(queue);
            listed?;
        }
        Ok(found)
    }

    fn next(&self) -> Option<Job> {
        let mut queue = lock(&self.queue);
        loop {
            if queue.failed {
                return None;
            }
            // The newest first, so that few folders are open at once.
            if let Some(job) = queue.jobs.pop() {
                queue.busy += 1;
                return Some(job);
            }
            if queue.busy == 0 {
                return None;
            }
            queue = self.more.wait(queue).unwrap_or_else(std::sync::PoisonError::into_inner);
        }
    }

    /// Where `path` is on disk, for messages.
    fn on_disk(&self, path: &RelPath) -> PathBuf {
        let below = path.as_str().strip_prefix(self.prefix.as_str()).unwrap_or_default();
        self.folder.join(below.trim_start_matches('/'))
    }

    fn list(&self, job: &Job, buffer: &mut [MaybeUninit<u8>], found: &mut Walked) -> Result<()> {
        self.ctx.check()?;
        let before = found.seen.len();
        let folder = match disk::open_folder(&*job.parent, &*job.name) {
            Ok(folder) => Arc::new(folder),
            Err(error) => return self.pass_over(&job.path, error, "open", found),
        };
        let mut names = RawDir::new(&*folder, buffer);
        let (mut empty, mut below) = (true, Vec::new());
        while let Some(name) = names.next() {
            let name = match name {
                Ok(name) => name,
                Err(error) => return self.pass_over(&job.path, error.into(), "list", found),
            };
            let bytes = name.file_name().to_bytes();
            if bytes == b"." || bytes == b".." {
                continue;
            }
            empty = false;
            let Ok(text) = std::str::from_utf8(bytes) else {
                let shown = self.on_disk(&job.path).join(String::from_utf8_lossy(bytes).as_ref());
                if self.manner == Manner::Strict {
                    return Err(IntakeError::NotUtf8(shown).into());
                }
                found.not_taken.push(format!("{} (its name is not UTF-8)", shown.display()));
                continue;
            };
            let path = job.path.join(text)?;
            if let Some(path) = self.see(&folder, text, path, found)? {
                below.push(Job { parent: Arc::clone(&folder), name: text.into(), path, root: false });
            }
        }
        if empty && !job.root {
            let stat = disk::fstat(&*folder).at("look at", self.on_disk(&job.path))?;
            found.seen.push(Seen { path: job.path.clone(), kind: Kind::EmptyFolder, stat });
        }
        self.ctx.progress().advance((found.seen.len() - before) as u64, 0);
        lock(&self.queue).jobs.append(&mut below);
        Ok(())
    }

    /// Takes one name down; hands the path back if it is a folder, to be listed later.
    fn see(&self, folder: impl AsFd, name: &str, path: RelPath, found: &mut Walked) -> Result<Option<RelPath>> {
        let stat = match rustix::fs::statat(&folder, name, AtFlags::SYMLINK_NOFOLLOW) {
            Ok(stat) => stat,
            Err(error) => return self.pass_over(&path, error.into(), "look at", found).map(|()| None),
        };
        let kind = match FileType::from_raw_mode(stat.st_mode) {
            FileType::Directory => return Ok(Some(path)),
            FileType::RegularFile => Kind::File,
            FileType::Symlink => match rustix::fs::readlinkat(&folder, name, Vec::new()) {
                Err(error) => return self.pass_over(&path, error.into(), "read the link", found).map(|()| None),
                Ok(target) => match target.into_string() {
                    Ok(target) => Kind::Symlink(target.into()),
                    Err(_) => return self.special(&path, "symlink whose target is not UTF-8", found).map(|()| None),
                },
            },
            FileType::Socket => return self.special(&path, "socket", found).map(|()| None),
            FileType::Fifo => return self.special(&path, "fifo", found).map(|()| None),
            _ => return self.special(&path, "device", found).map(|()| None),
        };
        found.seen.push(Seen { path, kind, stat: stat.into() });
        Ok(None)
    }

    fn special(&self, path: &RelPath, kind: &'static str, found: &mut Walked) -> Result<()> {
        let shown = self.on_disk(path);
        if self.manner == Manner::Strict {
            return Err(IntakeError::Special { path: shown, kind }.into());
        }
        found.not_taken.push(format!("{} (a {kind})", shown.display()));
        Ok(())
    }

    fn pass_over(&self, path: &RelPath, error: io::Error, doing: &'static str, found: &mut Walked) -> Result<()> {
        let shown = self.on_disk(path);
        let vanished = error.kind() == io::ErrorKind::NotFound;
        match (self.manner, vanished) {
            (Manner::Strict, true) => Err(IntakeError::Changed(shown).into()),
            (Manner::Strict, false) => Err(Error::io(doing, shown, error)),
            (Manner::Lenient, true) => Ok(()),
            (Manner::Lenient, false) => {
                found.not_taken.push(format!("{} ({error})", shown.display()));
                Ok(())
            }
        }
    }
}
