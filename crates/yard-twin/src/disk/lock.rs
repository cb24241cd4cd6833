//! Locks on the yard and on its twins, and who holds them.

use std::ffi::{OsStr, OsString};
use std::fs::{self, File, TryLockError};
use std::os::fd::{AsFd, AsRawFd, BorrowedFd, RawFd};
use std::os::unix::fs::{FileExt, MetadataExt};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use crate::error::{Error, Holder, PathContext, Result};
use crate::progress::{Ctx, Phase};

/// A lock that is held; dropping it lets go, and so does the end of the process, however it ends.
#[must_use = "the lock is let go when this is dropped"]
#[derive(Debug)]
pub(crate) struct Held {
    file: File,
    lent: AtomicBool,
}

/// What a lock file says while its holder won't let go for long, and what it says afterwards. As long as each other: to cut a
/// file off and to fill it again takes longer than to write over it, on a disk that is told of each block that is let go.
const LONG: &[u8] = b"long\n";
const SOON: &[u8] = b"soon\n";

impl Held {
    fn new(file: File) -> Self {
        Self { file, lent: AtomicBool::new(false) }
    }

    /// The lock for another process, which holds it too from then on: dropping this one lets go of its own part only.
    pub(crate) fn lend(&self) -> BorrowedFd<'_> {
        self.lent.store(true, Ordering::Relaxed);
        self.file.as_fd()
    }

    /// Whoever it was lent to has ended: dropping this one lets go of it wholly.
    pub(crate) fn take_back(&self) {
        self.lent.store(false, Ordering::Relaxed);
    }

    /// The number of the open file that is locked.
    pub(crate) fn file(&self) -> RawFd {
        self.file.as_raw_fd()
    }

    /// Marks the lock as held for long, so that others fail at once instead of waiting.
    pub(crate) fn for_long(&self, path: &Path) -> Result<()> {
        self.file.write_all_at(LONG, 0).and_then(|()| self.file.set_len(LONG.len() as u64)).at("write", path)
    }
}

impl Drop for Held {
    fn drop(&mut self) {
        // A process that another thread is just starting has a copy of each open file until it runs its program: closing
        // this one alone would leave the lock taken for so long.
        if !*self.lent.get_mut() {
            let _ = self.file.unlock();
        }
    }
}

/// How a lock is wanted.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Mode {
    /// With others that want it so too.
    Shared,
    /// Alone.
    Alone,
}

fn open(path: &Path) -> Result<File> {
    File::options().read(true).write(true).create(true).truncate(false).open(path).at("open", path)
}

/// Takes the lock if it is free.
pub(crate) fn try_take(path: &Path, mode: Mode) -> Result<Option<Held>> {
    try_lock(open(path)?, path, mode)
}

/// As [`try_take`], of a lock file that must be there.
pub(crate) fn try_take_there(path: &Path, mode: Mode) -> Result<Option<Held>> {
    try_lock(File::options().read(true).write(true).open(path).at("open", path)?, path, mode)
}

fn try_lock(file: File, path: &Path, mode: Mode) -> Result<Option<Held>> {
    let tried = match mode {
        Mode::Shared => file.try_lock_shared(),
        Mode::Alone => file.try_lock(),
    };
    match tried {
        Ok(()) => {
            if mode == Mode::Alone {
                // The last holder may have died holding it for long. A full disk may have no room to write over anything.
                if says_long(&file).at("read", path)? {
                    file.write_all_at(SOON, 0).or_else(|_| file.set_len(0)).at("write", path)?;
                }
            }
            Ok(Some(Held::new(file)))
        }
        Err(TryLockError::WouldBlock) => Ok(None),
        Err(TryLockError::Error(error)) => Err(Error::io("lock", path, error)),
    }
}

fn says_long(file: &File) -> std::io::Result<bool> {
    let mut word = [0; LONG.len() + 1];
    let read = file.read_at(&mut word, 0)?;
    Ok(word[..read] == *LONG)
}

/// Takes the lock, waiting a while for it, and says so through the progress sink. It does not wait for a holder that
/// won't let go for long.
pub(crate) fn take(path: &Path, mode: Mode, what: &str, ctx: &Ctx) -> Result<Held> {
    if let Some(held) = try_take(path, mode)? {
        return Ok(held);
    }
    let began = Instant::now();
    refuse_if_long(path, what, began)?;
    ctx.phase(Phase::Waiting, 0, 0, || {
        while began.elapsed() < ctx.patience() {
            ctx.check()?;
            std::thread::sleep(Duration::from_millis(10));
            if let Some(held) = try_take(path, mode)? {
                return Ok(held);
            }
            refuse_if_long(path, what, began)?;
        }
        Err(busy(path, what))
    })
}

/// Refuses where somebody holds the lock for long. Where it says so and nobody is found that does, it may have been let go of
/// just now; after a moment it is somebody who can't be seen from here, as from within a container.
fn refuse_if_long(path: &Path, what: &str, began: Instant) -> Result<()> {
    const MOMENT: Duration = Duration::from_secs(1);
    let long = fs::read(path).at("read", path)? == LONG;
    if !long || (began.elapsed() < MOMENT && holders(path).is_empty()) { Ok(()) } else { Err(busy(path, what)) }
}

fn busy(path: &Path, what: &str) -> Error {
    Error::Busy { what: what.into(), holders: holders(path) }
}

/// The processes that hold a lock, as far as the kernel tells: whoever has taken it, or else those that it was left to.
pub(crate) fn holders(path: &Path) -> Vec<Holder> {
    let takers = takers(path);
    if takers.is_empty() { share_it(path) } else { takers }
}

/// The processes that a lock was left to: whoever has taken it has ended.
pub(crate) fn left_with(path: &Path) -> Vec<Holder> {
    if takers(path).is_empty() { share_it(path) } else { Vec::new() }
}

/// The processes, but this one, that hold a lock by an open file: one that only has the lock's file open does not.
fn share_it(path: &Path) -> Vec<Holder> {
    let holds = |pid: u32| {
        let locked = |number: &OsStr| {
            let about = fs::read_to_string(PathBuf::from(format!("/proc/{pid}/fdinfo")).join(number));
            about.is_ok_and(|about| about.lines().any(|line| line.starts_with("lock:") && line.contains("FLOCK")))
        };
        opened(pid, path).any(|number| locked(&number))
    };
    let processes = fs::read_dir("/proc").into_iter().flatten().flatten();
    let pids = processes.filter_map(|entry| entry.file_name().to_str()?.parse::<u32>().ok());
    let others = pids.filter(|pid| *pid != std::process::id() && holds(*pid));
    others.map(|pid| Holder { pid, command: command_line(pid) }).collect()
}

/// Whether a process has a file open.
pub(crate) fn has_open(pid: u32, file: &Path) -> bool {
    opened(pid, file).next().is_some()
}

/// The numbers by which a process has a file open.
fn opened(pid: u32, file: &Path) -> impl Iterator<Item = OsString> {
    let open = fs::read_dir(format!("/proc/{pid}/fd")).into_iter().flatten().flatten();
    let is_it = move |entry: &fs::DirEntry| fs::read_link(entry.path()).is_ok_and(|path| path == file);
    open.filter(is_it).map(|entry| entry.file_name())
}

/// Whether nothing can be told of what a process has open.
fn is_closed_to_us(pid: u32) -> bool {
    let open = fs::read_dir(format!("/proc/{pid}/fd"));
    open.is_err_and(|error| error.kind() == std::io::ErrorKind::PermissionDenied)
}

/// The processes that have taken a lock.
fn takers(path: &Path) -> Vec<Holder> {
    let (Ok(meta), Ok(locks)) = (fs::metadata(path), fs::read_to_string("/proc/locks")) else { return Vec::new() };
    let inode = format!(":{}", meta.ino());
    let mut holders: Vec<_> = locks
        .lines()
        // `1: FLOCK  ADVISORY  WRITE 4711 fe:00:1048 0 EOF`; a waiting one has `->` in second place.
        .map(|line| line.split_whitespace().collect::<Vec<_>>())
        .filter(|parts| parts.len() > 5 && parts[1] == "FLOCK" && parts[5].ends_with(&inode))
        .filter_map(|parts| parts[4].parse().ok())
        // The number of one that has ended may be another one's by now.
        .filter(|pid| has_open(*pid, path) || is_closed_to_us(*pid))
        .map(|pid| Holder { pid, command: command_line(pid) })
        .collect();
    holders.dedup();
    holders
}

pub(crate) fn command_line(pid: u32) -> String {
    let bytes = fs::read(PathBuf::from(format!("/proc/{pid}/cmdline"))).unwrap_or_default();
    String::from_utf8_lossy(&bytes).trim_end_matches('\0').replace('\0', " ")
}

#[cfg(test)]
#[allow(clippy::unwrap_used)]
mod tests {
    use super::*;

    #[test]
    fn what_is_lent_is_let_go_by_all_who_have_it_or_once_it_was_taken_back() {
        let place = tempfile::tempdir().unwrap();
        let path = place.path().join("lock");
        for taken_back in [false, true] {
            let held = try_take(&path, Mode::Alone).unwrap().unwrap();
            let lent = held.lend().try_clone_to_owned().unwrap();
            if taken_back {
                held.take_back();
            }
            drop(held);
            assert_eq!(try_take(&path, Mode::Alone).unwrap().is_some(), taken_back);
            drop(lent);
            assert!(try_take(&path, Mode::Alone).unwrap().is_some());
        }
    }

    #[test]
    fn a_holder_that_is_not_to_be_seen_is_waited_for_just_a_moment() {
        let place = tempfile::tempdir().unwrap();
        let [path, other] = ["lock", "other"].map(|name| place.path().join(name));
        let ctx = Ctx::new().with_patience(Duration::from_secs(3600));
        let held = try_take(&other, Mode::Alone).unwrap().unwrap();
        held.for_long(&other).unwrap();
        // By this name nobody has it open.
        fs::hard_link(&other, &path).unwrap();
        let taken = take(&path, Mode::Alone, "it", &ctx).map(drop);
        assert!(matches!(taken, Err(Error::Busy { holders, .. }) if holders.is_empty()));
        std::thread::scope(|scope| {
            let waiting = scope.spawn(|| take(&path, Mode::Alone, "it", &ctx).map(drop));
            std::thread::sleep(Duration::from_millis(30));
            drop(held);
            waiting.join().unwrap().unwrap();
        });
    }

    #[test]
    fn what_one_holder_said_says_nothing_of_the_next() {
        let place = tempfile::tempdir().unwrap();
        let path = place.path().join("lock");
        // Whoever waits where nobody should would wait for an hour.
        let ctx = Ctx::new().with_patience(Duration::from_secs(3600));
        for _ in 0..3 {
            let held = try_take(&path, Mode::Alone).unwrap().unwrap();
            held.for_long(&path).unwrap();
            assert!(try_take(&path, Mode::Shared).unwrap().is_none());
            assert!(matches!(take(&path, Mode::Alone, "it", &ctx), Err(Error::Busy { .. })));
            drop(held);
            let held = try_take(&path, Mode::Alone).unwrap().unwrap();
            std::thread::scope(|scope| {
                let waiting = scope.spawn(|| take(&path, Mode::Alone, "it", &ctx).map(drop));
                std::thread::sleep(Duration::from_millis(30));
                assert!(!waiting.is_finished(), "it is waited for");
                drop(held);
                waiting.join().unwrap().unwrap();
            });
        }
    }
}
