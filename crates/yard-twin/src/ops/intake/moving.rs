//! A move by rename: files of the source become the pool's own, hashed where they lie. Nothing is copied.

use std::path::{Path, PathBuf};
use std::sync::Mutex;

use rustix::fs::{Access, AtFlags, CWD, accessat};

use crate::disk::op_folder::OpFolder;
use crate::disk::{self, Stat};
use crate::error::{IntakeError, PathContext, Result};
use crate::ident::ContentId;
use crate::ops::intake::source::SourceTree;
use crate::parallel::lock;
use crate::progress::Ctx;
use crate::scan::{Kind, Seen};
use crate::store::pool::{Facts, Putter};
use crate::yard::moved::{self, Lent};

/// Takes files over that lie on the pool's filesystem, are this user's, and have no other name.
pub(crate) struct Mover<'a> {
    putter: &'a Putter<'a>,
    candidates: Vec<bool>,
    /// How each file looks since it was read, and whether it becomes the pool's.
    after: Mutex<Vec<Option<(Stat, bool)>>>,
}

impl<'a> Mover<'a> {
    /// Writes down what it is about to do to files; `None` where nothing can be taken over, or need be: where blocks can be
    /// shared, a copy takes no room, and the source's files stay their own.
    pub(crate) fn new(putter: &'a Putter<'a>, op: &Path, taking: &SourceTree) -> Result<Option<Self>> {
        let candidates = candidates(op, taking)?;
        let wanted = taking.seen.iter().zip(&candidates).filter(|(_, wanted)| **wanted);
        let lent = wanted.map(|(seen, _)| {
            let Stat { ino, mode, .. } = seen.stat;
            Lent { path: taking.on_disk(&seen.path), ino, mode }
        });
        let lent: Vec<Lent> = lent.collect();
        // What says so must be readable after a crash.
        if lent.is_empty() || lent.iter().any(|lent| lent.path.to_str().is_none()) {
            return Ok(None);
        }
        moved::lend(op, &lent)?;
        let after = Mutex::new(vec![None; candidates.len()]);
        Ok(Some(Self { putter, candidates, after }))
    }

    /// Takes a file into the pool, as it is if that can be. Returns whether it has attributes, too.
    pub(crate) fn take(
        &self,
        (at, seen): (usize, &Seen),
        (file, path): (&std::fs::File, &Path),
        buffer: &mut [u8],
        ctx: &Ctx,
    ) -> Result<(ContentId, bool)> {
        let fstat = || disk::fstat(file).at("look at", path);
        if !fstat()?.same_bytes(&seen.stat) {
            return Err(IntakeError::Changed(path.into()).into());
        }
        let attributes = disk::attributes(file).at("look at", path)?;
        let mut now = seen.stat;
        let (content, adopted) = if self.candidates[at] && disk::given(&attributes).next().is_none() {
            // First the mode, so that nobody opens it for writing, then the question whether somebody has.
            let set = |mode: u32| disk::change_mode_of(file, mode & 0o7777).at("set the mode of", path);
            set(seen.stat.mode & !0o222)?;
            let in_other_hands = disk::in_other_hands(file);
            if in_other_hands {
                set(seen.stat.mode)?;
            }
            now = still(seen, fstat()?, path)?;
            if in_other_hands {
                (self.putter.put(file, &now, path, buffer, ctx)?, false)
            } else {
                self.putter.adopt(file, &now, path, buffer, ctx)?
            }
        } else {
            (self.putter.put(file, &now, path, buffer, ctx)?, false)
        };
        lock(&self.after)[at] = Some((now, adopted));
        Ok((content, !attributes.is_empty()))
    }

    /// What was seen, with how it looks since it was read.
    pub(crate) fn seen_now(&self, seen: &[Seen]) -> Vec<Seen> {
        let after = lock(&self.after);
        let now = |(seen, after): (&Seen, &Option<(Stat, bool)>)| Seen {
            path: seen.path.clone(),
            kind: seen.kind.clone(),
            stat: after.map_or(seen.stat, |(stat, _)| stat),
        };
        seen.iter().zip(after.iter()).map(now).collect()
    }

    /// Whether a file becomes the pool's.
    pub(crate) fn adopts(&self, at: usize) -> bool {
        lock(&self.after)[at].is_some_and(|(_, adopted)| adopted)
    }
}

/// Which files may become the pool's own, as far as a look tells.
fn candidates(op: &Path, taking: &SourceTree) -> Result<Vec<bool>> {
    let facts = Facts::probe(op)?;
    let (me, dev) = (rustix::process::geteuid().as_raw(), disk::lstat(op).at("look at", op)?.dev);
    let mut last = (PathBuf::new(), false);
    let fits = |seen: &Seen| {
        let Stat { uid, nlink, size, dev: its, .. } = seen.stat;
        let plain = matches!(seen.kind, Kind::File) && nlink == 1 && size > 0;
        if !plain || (uid, its) != (me, dev) || !seen.path.as_str().starts_with("game/") {
            return false;
        }
        // A name that can't be taken from its folder would stay beside the pool's.
        let folder = taking.on_disk(&seen.path).parent().map(Path::to_path_buf).unwrap_or_default();
        if folder != last.0 {
            let may = accessat(CWD, &folder, Access::WRITE_OK | Access::EXEC_OK, AtFlags::EACCESS).is_ok();
            last = (folder, may);
        }
        last.1
    };
    let takes_over = facts.link && !facts.reflink;
    Ok(if takes_over { taking.seen.iter().map(fits).collect() } else { vec![false; taking.seen.len()] })
}

/// The bytes of what a move copies, as far as a look tells.
pub(crate) fn copied(op: &OpFolder, taking: &SourceTree) -> Result<u64> {
    let candidates = candidates(op.path(), taking)?;
    let copied = taking.seen.iter().zip(candidates).filter(|(seen, taken)| !taken && matches!(seen.kind, Kind::File));
    Ok(copied.map(|(seen, _)| seen.stat.size).sum())
}

/// How a file looks after a step of ours, if nobody has written to it.
fn still(seen: &Seen, now: Stat, path: &Path) -> Result<Stat> {
    let key = |stat: &Stat| (stat.dev, stat.ino, stat.size, stat.mtime);
    if key(&now) == key(&seen.stat) { Ok(now) } else { Err(IntakeError::Changed(path.into()).into()) }
}
