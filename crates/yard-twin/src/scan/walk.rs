//! Lists folders: names, kinds and stats, nothing read. A folder is the unit of work for the threads.

use std::ffi::CStr;
use std::io;
use std::mem::MaybeUninit;
use std::os::fd::{AsFd, OwnedFd};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use rustix::fs::{AtFlags, CWD, FileType, RawDir};

use crate::disk::{self, Stat};
use crate::error::{Error, IntakeError, PathContext, Result};
use crate::parallel;
use crate::path::{RelPath, SharedPaths};
use crate::progress::Ctx;

/// What to do about names and files that no listing can hold.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Manner {
    /// An error: what is taken in must be whole.
    Strict,
    /// They are named and passed over: a program may have made them.
    Lenient,
}

#[derive(Clone)]
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

/// A name in a folder.
pub(super) struct Name {
    pub(super) name: Box<str>,
    pub(super) behind: Behind,
    pub(super) stat: Stat,
}

/// What is behind a name.
pub(super) enum Behind {
    Folder,
    Other(Kind),
    /// It is there, and what it is can't be told.
    Untold,
}

/// What is in a folder.
pub(super) enum InFolder {
    /// These, in their order; and how it looked before it was listed.
    Names(Vec<Name>, Stat),
    /// It has vanished.
    Gone,
    /// It can't be listed.
    Untold,
}

/// A folder that is open, and how it looked then.
pub(super) struct Opened {
    pub(super) folder: Arc<OwnedFd>,
    pub(super) stat: Stat,
}

/// The folders below one, by name, and what is to be known about each.
pub(super) type Below<T> = Vec<(Box<str>, T)>;

/// A folder to be listed.
pub(super) struct Job<T> {
    parent: Arc<OwnedFd>,
    name: Box<str>,
    pub(super) path: RelPath,
    pub(super) root: bool,
    /// What the visitor needs to know about it.
    pub(super) about: T,
}

/// How folders below one root are listed.
pub(super) struct Lister<'a> {
    folder: &'a Path,
    prefix: RelPath,
    manner: Manner,
}

/// What lister and visitor find out on one thread.
pub(super) struct Worker<S> {
    pub(super) found: S,
    /// What was passed over, each with its reason.
    pub(super) not_taken: Vec<String>,
    buffer: Box<[MaybeUninit<u8>]>,
}

impl<'a> Lister<'a> {
    /// Lists below `folder`; what is in it gets paths below `prefix`.
    pub(super) fn new(folder: &'a Path, prefix: RelPath, manner: Manner) -> Self {
        Self { folder, prefix, manner }
    }

    /// The root as a job; `None` (leniently) where it is missing.
    fn root<T>(&self, about: T) -> Result<Option<Job<T>>> {
        let parent = match disk::open_folder(CWD, self.folder) {
            Err(error) if error.kind() == io::ErrorKind::NotFound && self.manner == Manner::Lenient => return Ok(None),
            opened => Arc::new(opened.at("open", self.folder)?),
        };
        Ok(Some(Job { parent, name: ".".into(), path: self.prefix.clone(), root: true, about }))
    }

    /// Where `path` is on disk.
    pub(super) fn on_disk(&self, path: &RelPath) -> PathBuf {
        let below = path.as_str().strip_prefix(self.prefix.as_str()).unwrap_or_default();
        self.folder.join(below.trim_start_matches('/'))
    }

    /// Leniently, what is known of a folder that can't be opened or listed: whether it has vanished.
    fn not_listed(
        &self,
        path: &RelPath,
        error: io::Error,
        doing: &'static str,
        not_taken: &mut Vec<String>,
    ) -> Result<InFolder> {
        let there = if error.kind() == io::ErrorKind::NotFound { InFolder::Gone } else { InFolder::Untold };
        self.pass_over(path, error, doing, not_taken).map(|()| there)
    }

    fn open<T, S>(&self, job: &Job<T>, worker: &mut Worker<S>) -> Result<Result<Opened, InFolder>> {
        let opened = disk::open_folder(&*job.parent, &*job.name)
            .and_then(|folder| Ok(Opened { stat: disk::fstat(&folder)?, folder: Arc::new(folder) }));
        match opened {
            Ok(opened) => Ok(Ok(opened)),
            Err(error) => self.not_listed(&job.path, error, "open", &mut worker.not_taken).map(Err),
        }
    }

    /// The names in a folder, in their order.
    fn names<T, S>(&self, job: &Job<T>, Opened { folder, stat }: &Opened, worker: &mut Worker<S>) -> Result<InFolder> {
        let mut found = Vec::new();
        let mut names = RawDir::new(&**folder, &mut worker.buffer);
        while let Some(name) = names.next() {
            let name = match name {
                Ok(name) => name,
                Err(error) => return self.not_listed(&job.path, error.into(), "list", &mut worker.not_taken),
            };
            let bytes = name.file_name().to_bytes();
            if bytes == b"." || bytes == b".." {
                continue;
            }
            let Ok(text) = std::str::from_utf8(bytes) else {
                let shown = self.on_disk(&job.path).join(String::from_utf8_lossy(bytes).as_ref());
                if self.manner == Manner::Strict {
                    return Err(IntakeError::NotUtf8(shown).into());
                }
                worker.not_taken.push(format!("{} (its name is not UTF-8)", shown.display()));
                continue;
            };
            found.extend(self.look(folder, name.file_name(), text, job, &mut worker.not_taken)?);
        }
        found.sort_unstable_by(|a, b| a.name.cmp(&b.name));
        Ok(InFolder::Names(found, *stat))
    }

    fn look<T>(
        &self,
        folder: impl AsFd,
        at: &CStr,
        name: &str,
        job: &Job<T>,
        not_taken: &mut Vec<String>,
    ) -> Result<Option<Name>> {
        let path = || job.path.join(name);
        let stat = match rustix::fs::statat(&folder, at, AtFlags::SYMLINK_NOFOLLOW) {
            Ok(stat) => stat,
            Err(error) => return self.untold(&path()?, name, error.into(), "look at", not_taken),
        };
        let special = match FileType::from_raw_mode(stat.st_mode) {
            FileType::Directory => {
                return Ok(Some(Name { name: name.into(), behind: Behind::Folder, stat: stat.into() }));
            }
            FileType::RegularFile => {
                return Ok(Some(Name { name: name.into(), behind: Behind::Other(Kind::File), stat: stat.into() }));
            }
            FileType::Symlink => match rustix::fs::readlinkat(&folder, at, Vec::new()).map(|t| t.into_string()) {
                Err(error) => return self.untold(&path()?, name, error.into(), "read the link", not_taken),
                Ok(Ok(target)) => {
                    let behind = Behind::Other(Kind::Symlink(target.into()));
                    return Ok(Some(Name { name: name.into(), behind, stat: stat.into() }));
                }
                Ok(Err(_)) => "symlink whose target is not UTF-8",
            },
            FileType::Socket => "socket",
            FileType::Fifo => "fifo",
            _ => "device",
        };
        let shown = self.on_disk(&path()?);
        if self.manner == Manner::Strict {
            return Err(IntakeError::Special { path: shown, kind: special }.into());
        }
        not_taken.push(format!("{} (a {special})", shown.display()));
        Ok(None)
    }

    /// Something that can't be looked at; `None` where it has vanished.
    fn untold(
        &self,
        path: &RelPath,
        name: &str,
        error: io::Error,
        doing: &'static str,
        not_taken: &mut Vec<String>,
    ) -> Result<Option<Name>> {
        let vanished = error.kind() == io::ErrorKind::NotFound;
        self.pass_over(path, error, doing, not_taken)?;
        Ok((!vanished).then(|| Name { name: name.into(), behind: Behind::Untold, stat: Stat::default() }))
    }

    fn pass_over(
        &self,
        path: &RelPath,
        error: io::Error,
        doing: &'static str,
        not_taken: &mut Vec<String>,
    ) -> Result<()> {
        let shown = self.on_disk(path);
        let vanished = error.kind() == io::ErrorKind::NotFound;
        match (self.manner, vanished) {
            (Manner::Strict, true) => Err(IntakeError::Changed(shown).into()),
            (Manner::Lenient, true) => Ok(()),
            (Manner::Lenient, false) if !crate::error::is_lack(&error) => {
                not_taken.push(format!("{} ({error})", shown.display()));
                Ok(())
            }
            (_, false) => Err(Error::io(doing, shown, error)),
        }
    }

    /// Goes to every folder, each by one thread, to the ones below after it. `spares` sees it before it is listed, and says
    /// how many names are in it if it need not be; `visit` is told what is in it. Both say which of its folders are to be
    /// gone to, with what is to be known about them then.
    pub(super) fn crawl<T: Send, S: Send + Default>(
        &self,
        about: T,
        spares: impl Fn(&Job<T>, &Opened, &mut Worker<S>, &mut Below<T>) -> Option<u64> + Sync,
        visit: impl Fn(&Job<T>, InFolder, &mut Worker<S>, &mut Below<T>) -> Result<()> + Sync,
        ctx: &Ctx,
    ) -> Result<Vec<Worker<S>>> {
        let Some(root) = self.root(about)? else { return Ok(Vec::new()) };
        let worker = || Worker { found: S::default(), not_taken: Vec::new(), buffer: Box::new_uninit_slice(32 << 10) };
        parallel::crawl(vec![root], ctx.threads(), worker, |worker, job, jobs| {
            ctx.check()?;
            let mut below = Vec::new();
            let opened = match self.open(&job, worker)? {
                Ok(opened) => opened,
                Err(not) => return visit(&job, not, worker, &mut below),
            };
            if let Some(names) = spares(&job, &opened, worker, &mut below) {
                ctx.progress().advance(names, 0);
            } else {
                below.clear();
                let names = self.names(&job, &opened, worker)?;
                if let InFolder::Names(names, _) = &names {
                    ctx.progress().advance(names.len() as u64, 0);
                }
                visit(&job, names, worker, &mut below)?;
            }
            for (name, about) in below {
                let path = job.path.join(&name)?;
                jobs.push(Job { parent: Arc::clone(&opened.folder), name, path, root: false, about });
            }
            Ok(())
        })
    }
}

/// A sum over what was seen, which differs where anything does: two looks are compared without keeping both.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct Sum(u128);

impl Sum {
    /// The order does not matter.
    fn add(&mut self, path: &RelPath, kind: &Kind, stat: &Stat) {
        let mut hasher = blake3::Hasher::new();
        hasher.update(path.as_str().as_bytes()).update(&[0]);
        if !matches!(kind, Kind::EmptyFolder) {
            for number in [stat.dev, stat.ino, stat.size, stat.mtime.cast_unsigned(), stat.ctime.cast_unsigned()] {
                hasher.update(&number.to_le_bytes());
            }
        }
        let mut half = [0; 16];
        hasher.finalize_xof().fill(&mut half);
        self.0 = self.0.wrapping_add(u128::from_le_bytes(half));
    }

    /// Of both together.
    pub(crate) fn and(self, other: Self) -> Self {
        Self(self.0.wrapping_add(other.0))
    }

    /// Of what was seen and is not left `out`.
    pub(crate) fn of(seen: &[Seen], out: impl Fn(&RelPath) -> bool) -> Self {
        let mut sum = Self::default();
        seen.iter().filter(|seen| !out(&seen.path)).for_each(|seen| sum.add(&seen.path, &seen.kind, &seen.stat));
        sum
    }
}

/// As [`Sum::of`] what a strict [`walk`] lists, without keeping that.
pub(crate) fn walk_sum(
    folder: &Path,
    prefix: &RelPath,
    out: impl Fn(&RelPath) -> bool + Sync,
    ctx: &Ctx,
) -> Result<Sum> {
    let workers = walk_each(&Lister::new(folder, prefix.clone(), Manner::Strict), ctx, |sum: &mut Sum, seen| {
        if !out(&seen.path) {
            sum.add(&seen.path, &seen.kind, &seen.stat);
        }
    })?;
    Ok(workers.into_iter().fold(Sum::default(), |sum, worker| sum.and(worker.found)))
}

/// Lists all that is below `folder`, in the order of the paths, which begin with `prefix`. Gives what was passed over too,
/// each with its reason; in the strict manner that is nothing.
pub(crate) fn walk(folder: &Path, prefix: &RelPath, manner: Manner, ctx: &Ctx) -> Result<(Vec<Seen>, Vec<String>)> {
    let (mut all, mut not_taken) = (Vec::new(), Vec::new());
    for Worker { mut found, not_taken: passed_over, .. } in
        walk_each(&Lister::new(folder, prefix.clone(), manner), ctx, Vec::push)?
    {
        // The larger one takes the smaller one in, so that little is moved.
        if found.len() > all.len() {
            std::mem::swap(&mut found, &mut all);
        }
        all.reserve_exact(found.len());
        all.append(&mut found);
        not_taken.extend(passed_over);
    }
    all.sort_unstable_by(|a: &Seen, b| a.path.cmp(&b.path));
    Ok((all, not_taken))
}

/// Lists, and shows all that is seen to `each`, with what its thread has found so far.
fn walk_each<S: Send + Default>(
    lister: &Lister<'_>,
    ctx: &Ctx,
    each: impl Fn(&mut S, Seen) + Sync,
) -> Result<Vec<Worker<S>>> {
    let visit = |job: &Job<()>, names: InFolder, worker: &mut Worker<S>, below: &mut Below<()>| {
        // A folder that can't be listed is named; what is in it is not known.
        let InFolder::Names(names, stat) = names else { return Ok(()) };
        if names.is_empty() && !job.root {
            each(&mut worker.found, Seen { path: job.path.clone(), kind: Kind::EmptyFolder, stat });
        }
        let mut paths = SharedPaths::new();
        let mut show = |paths: &mut SharedPaths<_>| {
            paths.take().for_each(|(path, (kind, stat))| each(&mut worker.found, Seen { path, kind, stat }));
        };
        for Name { name, behind, stat } in names {
            match behind {
                Behind::Folder => below.push((name, ())),
                Behind::Untold => {}
                Behind::Other(kind) => {
                    if paths.add(&format!("{}/{name}", job.path), (kind, stat))? {
                        show(&mut paths);
                    }
                }
            }
        }
        show(&mut paths);
        Ok(())
    };
    lister.crawl((), |_, _, _, _| None, visit, ctx)
}
