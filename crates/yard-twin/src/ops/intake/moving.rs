//! A move by rename: files of the source become the pool's own, hashed where they lie. Nothing is copied.

use std::path::{Path, PathBuf};
use std::sync::Mutex;

use rustix::fs::CWD;

use crate::disk::{self, Stat};
use crate::error::{IntakeError, PathContext, Result};
use crate::ident::ContentId;
use crate::parallel::lock;
use crate::progress::Ctx;
use crate::scan::{Kind, Seen};
use crate::store::pool::Putter;
use crate::yard::moved::{self, Lent};

/// Takes files over that lie on the pool's filesystem, are this user's, and have no other name.
pub(crate) struct Mover<'a> {
    putter: &'a Putter<'a>,
    candidates: Vec<bool>,
    /// How each file looks since it was read.
    after: Mutex<Vec<Option<Stat>>>,
}

impl<'a> Mover<'a> {
    /// Writes down what it is about to do to `seen`, each at its path on disk; `None` where nothing can be taken over.
    pub(crate) fn new(
        putter: &'a Putter<'a>,
        op: &Path,
        seen: &[Seen],
        on_disk: impl Fn(&Seen) -> PathBuf,
    ) -> Result<Option<Self>> {
        let dev = disk::lstat(op).at("look at", op)?.dev;
        let fits = |seen: &Seen| fits(seen, dev);
        let candidates: Vec<bool> = seen.iter().map(fits).collect();
        let lent = seen.iter().filter(|seen| fits(seen)).map(|seen| {
            let Stat { ino, mode, .. } = seen.stat;
            Lent { path: on_disk(seen), ino, mode }
        });
        let lent: Vec<Lent> = lent.collect();
        // What says so must be readable after a crash.
        if lent.is_empty() || lent.iter().any(|lent| lent.path.to_str().is_none()) {
            return Ok(None);
        }
        moved::lend(op, &lent)?;
        Ok(Some(Self { putter, candidates, after: Mutex::new(vec![None; seen.len()]) }))
    }

    /// Takes a file into the pool, by its own inode if that can be.
    pub(crate) fn take(
        &self,
        (at, seen): (usize, &Seen),
        (file, path): (&std::fs::File, &Path),
        buffer: &mut [u8],
        ctx: &Ctx,
    ) -> Result<ContentId> {
        let fstat = || disk::fstat(file).at("look at", path);
        if !fstat()?.same_bytes(&seen.stat) {
            return Err(IntakeError::Changed(path.into()).into());
        }
        let plain = rustix::fs::flistxattr_query(file).is_ok_and(|len| len == 0);
        let content = if self.candidates[at] && plain {
            // First the mode, so that nobody opens it for writing, then the question whether somebody has.
            let set = |mode: u32| disk::change_mode(CWD, path, |_| mode & 0o7777).at("set the mode of", path);
            set(seen.stat.mode & !0o222)?;
            if disk::in_other_hands(file) {
                set(seen.stat.mode)?;
                self.putter.put(file, &still(seen, fstat()?, path)?, path, buffer, ctx)?
            } else {
                self.putter.adopt(file, &still(seen, fstat()?, path)?, path, buffer, ctx)?
            }
        } else {
            self.putter.put(file, &seen.stat, path, buffer, ctx)?
        };
        lock(&self.after)[at] = Some(still(seen, fstat()?, path)?);
        Ok(content)
    }

    /// What was seen, with how it looks since it was read.
    pub(crate) fn seen_now(&self, seen: &[Seen]) -> Vec<Seen> {
        let after = lock(&self.after);
        let now = |(seen, after): (&Seen, &Option<Stat>)| Seen {
            path: seen.path.clone(),
            kind: seen.kind.clone(),
            stat: after.unwrap_or(seen.stat),
        };
        seen.iter().zip(after.iter()).map(now).collect()
    }
}

/// Whether a file may become the pool's own, as far as a look at it tells: the pool's filesystem is `dev`.
fn fits(seen: &Seen, dev: u64) -> bool {
    let Stat { uid, nlink, size, dev: its, .. } = seen.stat;
    let mine = uid == rustix::process::geteuid().as_raw();
    let plain = matches!(seen.kind, Kind::File) && nlink == 1 && size > 0;
    mine && plain && its == dev && seen.path.as_str().starts_with("game/")
}

/// The bytes of what a move copies, as far as a look tells.
pub(crate) fn copied(seen: &[Seen], dev: u64) -> u64 {
    seen.iter().filter(|seen| matches!(seen.kind, Kind::File) && !fits(seen, dev)).map(|seen| seen.stat.size).sum()
}

/// How a file looks after a step of ours, if nobody has written to it.
fn still(seen: &Seen, now: Stat, path: &Path) -> Result<Stat> {
    let key = |stat: &Stat| (stat.dev, stat.ino, stat.size, stat.mtime);
    if key(&now) == key(&seen.stat) { Ok(now) } else { Err(IntakeError::Changed(path.into()).into()) }
}
