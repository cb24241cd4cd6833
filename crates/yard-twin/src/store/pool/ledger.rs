//! The ledger: how each file of the pool looked when its bytes were last known to be those that its name says.
//!
//! A name in the pool proves nothing about bytes: whoever shares a file of it can lift the guard and write. So nothing of
//! the pool is linked, copied or counted as there unless its file looks as its row says; anything else is read once.
//! Rows are written again, under the yard's exclusive lock, after each step of ours that moves a file's ctime. A kill
//! before that, a torn file or a copied yard cost reading, never trust. The format is written down in `docs/formats.md`.

mod encode;

use std::collections::BTreeMap;
use std::io;
use std::os::fd::AsFd;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicI64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard};

use encode::Encoder;

use super::Pool;
use crate::disk::{self, Stat};
use crate::error::{PathContext, Result};
use crate::ident::ContentId;
use crate::parallel::lock;

/// Two threads seldom want the same one.
const SHARDS: usize = 64;

/// The first half of a content's id: with an inode it tells contents apart.
pub(crate) type Half = [u8; 16];

pub(crate) fn half(content: ContentId) -> Half {
    let mut half = [0; 16];
    half.copy_from_slice(&content.as_bytes()[..16]);
    half
}

/// How a file of the pool looked.
#[derive(Debug)]
struct Row {
    ino: u64,
    size: u64,
    mtime: i64,
    ctime: AtomicI64,
    mode: u32,
    /// Whether the ctime is known since this ledger was read, and so may not be written down.
    found_out: AtomicBool,
    half: Half,
}

impl Clone for Row {
    fn clone(&self) -> Self {
        let ctime = AtomicI64::new(self.ctime.load(Ordering::Relaxed));
        let found_out = AtomicBool::new(self.found_out.load(Ordering::Relaxed));
        Self { ctime, found_out, ..*self }
    }
}

impl Row {
    fn new(content: ContentId, stat: &Stat) -> Self {
        let &Stat { ino, size, mtime, ctime, mode, .. } = stat;
        let (ctime, found_out) = (AtomicI64::new(ctime), AtomicBool::new(true));
        Self { ino, size, mtime, ctime, mode, found_out, half: half(content) }
    }

    fn fits(&self, stat: &Stat) -> bool {
        self.fits_but_ctime(stat) && self.ctime.load(Ordering::Relaxed) == stat.ctime
    }

    fn fits_but_ctime(&self, stat: &Stat) -> bool {
        (self.ino, self.size, self.mtime, self.mode) == (stat.ino, stat.size, stat.mtime, stat.mode)
    }

    fn is_but_for_ctime(&self, other: &Self) -> bool {
        let but_ctime = |row: &Self| (row.ino, row.size, row.mtime, row.mode, row.half);
        but_ctime(self) == but_ctime(other)
    }

    /// Its bytes were found to be right when it had this ctime.
    fn renew(&self, ctime: i64) {
        self.ctime.store(ctime, Ordering::Relaxed);
        self.found_out.store(true, Ordering::Relaxed);
    }
}

/// Where the row of an inode is.
enum Places {
    /// By its distance from the first: the row's number and one, or 0. Files that were made together have inodes that lie
    /// together.
    Table { first: u64, at: Vec<u32> },
    /// They lie too far apart for that.
    Search,
}

impl Places {
    fn of(rows: &[Row]) -> Self {
        /// A table of more than so many places for each row is not worth making.
        const SPARSE: u64 = 8;
        let (Some(first), Some(last)) = (rows.first(), rows.last()) else { return Self::Search };
        let span = last.ino - first.ino;
        let (Ok(places), true) = (usize::try_from(span), span < rows.len() as u64 * SPARSE) else {
            return Self::Search;
        };
        let mut at = vec![0; places + 1];
        for (row, number) in rows.iter().zip(1_u32..) {
            if let Some(place) = usize::try_from(row.ino - first.ino).ok().and_then(|place| at.get_mut(place)) {
                *place = number;
            }
        }
        Self::Table { first: first.ino, at }
    }
}

/// How a file of the pool should look, where that was known once.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Looked {
    pub(crate) mtime: i64,
    pub(crate) half: [u8; 16],
}

impl Looked {
    /// Whether it was a file of that content.
    pub(crate) fn is_of(&self, content: ContentId) -> bool {
        self.half == half(content)
    }
}

/// Rows that are new, or in place of others: of a new build these are as many as it has files.
#[derive(Default)]
struct Fresh {
    /// With the second half of the content's id.
    rows: Vec<(Row, Half)>,
    /// The row of an inode; `None` for one that counts no more.
    at: BTreeMap<u64, Option<u32>>,
}

impl Fresh {
    fn set(&mut self, content: ContentId, row: Row) {
        let mut rest = Half::default();
        rest.copy_from_slice(&content.as_bytes()[16..]);
        match self.at.get(&row.ino).copied().flatten() {
            Some(at) => self.rows[at as usize] = (row, rest),
            // More rows than have a number are not kept: they are read again.
            None if self.rows.len() >= u32::MAX as usize => {
                self.at.insert(row.ino, None);
            }
            None => {
                self.at.insert(row.ino, u32::try_from(self.rows.len()).ok());
                self.rows.push((row, rest));
            }
        }
    }

    /// What is known of an inode here: nothing, that it counts no more, or its row.
    fn get(&self, ino: u64) -> Option<Option<&Row>> {
        Some(self.at.get(&ino)?.map(|at| &self.rows[at as usize].0))
    }

    /// In the order of their inodes.
    fn rows(&self) -> impl Iterator<Item = &Row> {
        self.at.values().flatten().map(|at| &self.rows[*at as usize].0)
    }

    /// The rows with their contents.
    fn contents(&self) -> impl Iterator<Item = (ContentId, &Row)> {
        self.at.values().flatten().map(|at| {
            let (row, rest) = &self.rows[*at as usize];
            let mut id = [0; 32];
            id[..16].copy_from_slice(&row.half);
            id[16..].copy_from_slice(rest);
            (ContentId::from_bytes(id), row)
        })
    }
}

/// The ledger as it was read, and what has come to it since.
pub(crate) struct Ledger {
    path: PathBuf,
    /// The device and inode of the pool's folder: another one than was written down makes all rows void.
    dev: u64,
    pool: u64,
    /// Whether the mode of a file says anything on the pool's filesystem.
    keeps_modes: bool,
    /// The end of its file, which tells whether it is still that one.
    check: Option<[u8; encode::CHECK]>,
    /// By inode.
    rows: Vec<Row>,
    places: Places,
    fresh: Mutex<Fresh>,
    /// Whether there are any: most look-ups need no lock.
    has_fresh: AtomicBool,
    changed: AtomicBool,
    shards: [Mutex<()>; SHARDS],
}

/// What came of a link.
pub(crate) enum Linked {
    /// The link is there.
    Done(Stat),
    /// The pool's file is not as the ledger says.
    Doubtful,
    /// Links can't be had here.
    Unsupported,
}

impl Ledger {
    /// Reads the ledger of a pool; one that is torn, or of another pool, has no rows.
    pub(crate) fn load(pool: &Pool) -> Result<Self> {
        let root = disk::lstat(pool.root()).at("look at", pool.root())?;
        let path = pool.root().join("ledger");
        let decoded = match disk::open_file(rustix::fs::CWD, &path) {
            Ok(file) => {
                let decoded = encode::decode(&file, root.ino);
                if decoded.is_none() {
                    tracing::info!(path = %path.display(), "can't be believed: what it would say is read instead");
                }
                decoded
            }
            Err(error) if error.kind() == io::ErrorKind::NotFound => None,
            Err(error) if crate::error::is_lack(&error) => return Err(error).at("open", &path),
            Err(error) => {
                tracing::warn!(path = %path.display(), %error, "what it would say is read instead");
                None
            }
        };
        let (check, rows) = decoded.map_or_else(Default::default, |(check, rows)| (Some(check), rows));
        Ok(Self {
            path,
            dev: root.dev,
            pool: root.ino,
            keeps_modes: disk::trusts_inodes(pool.root()),
            check,
            places: Places::of(&rows),
            rows,
            fresh: Mutex::default(),
            has_fresh: AtomicBool::new(false),
            changed: AtomicBool::new(false),
            shards: std::array::from_fn(|_| Mutex::new(())),
        })
    }

    /// This one, if nobody has written it since; else what it says now, with what this one found out. The caller holds the
    /// yard alone.
    pub(crate) fn renewed(self: &Arc<Self>, pool: &Pool) -> Result<Arc<Self>> {
        if self.check.is_some() && encode::check_of(&self.path).ok() == self.check {
            return Ok(Arc::clone(self));
        }
        let newer = Self::load(pool)?;
        newer.take_over(self, pool);
        Ok(Arc::new(newer))
    }

    fn with_row<T>(&self, ino: u64, work: impl FnOnce(&Row) -> T) -> Option<T> {
        if self.has_fresh.load(Ordering::Acquire)
            && let Some(fresh) = lock(&self.fresh).get(ino)
        {
            return fresh.map(work);
        }
        let at = match &self.places {
            Places::Table { first, at } => {
                let place = usize::try_from(ino.checked_sub(*first)?).ok()?;
                usize::try_from(at.get(place)?.checked_sub(1)?).ok()?
            }
            Places::Search => self.rows.binary_search_by_key(&ino, |row| row.ino).ok()?,
        };
        Some(work(&self.rows[at]))
    }

    /// Whether a file is the pool's file of a content, and looks as it did when its bytes were known to be right.
    pub(crate) fn holds(&self, content: ContentId, stat: &Stat) -> bool {
        self.holds_half(half(content), stat)
    }

    /// As [`Ledger::holds`], by the first half of a content's id.
    pub(crate) fn holds_half(&self, half: Half, stat: &Stat) -> bool {
        stat.dev == self.dev && self.with_row(stat.ino, |row| row.half == half && row.fits(stat)).unwrap_or(false)
    }

    /// Whether the mode of a file can guard it on the pool's filesystem.
    pub(crate) fn keeps_modes(&self) -> bool {
        self.keeps_modes
    }

    /// Whether a file is on the pool's filesystem.
    pub(crate) fn is_beside(&self, stat: &Stat) -> bool {
        stat.dev == self.dev
    }

    /// How the file with that inode looked, if it was one of the pool's.
    pub(crate) fn looked(&self, stat: &Stat) -> Option<Looked> {
        if stat.dev != self.dev {
            return None;
        }
        self.with_row(stat.ino, |row| Looked { mtime: row.mtime, half: row.half })
    }

    /// Writes down how a file of the pool looks whose bytes are known to be right.
    pub(crate) fn set(&self, content: ContentId, stat: &Stat) {
        // Most that is read again has just one more name, or one less: its row is there, but for the ctime.
        let renewed = self.renew(stat.ino, stat.ctime, |row| row.half == half(content) && row.fits_but_ctime(stat));
        if !renewed {
            self.freshen(|fresh| fresh.set(content, Row::new(content, stat)));
        }
    }

    /// Renews the row of an inode if it is the right one.
    fn renew(&self, ino: u64, ctime: i64, is_right: impl FnOnce(&Row) -> bool) -> bool {
        let renewed = self.with_row(ino, |row| is_right(row).then(|| row.renew(ctime))).flatten().is_some();
        if renewed {
            self.changed.store(true, Ordering::Relaxed);
        }
        renewed
    }

    fn freshen(&self, change: impl FnOnce(&mut Fresh)) {
        self.changed.store(true, Ordering::Relaxed);
        change(&mut lock(&self.fresh));
        self.has_fresh.store(true, Ordering::Release);
    }

    /// A file counts no more.
    pub(crate) fn forget(&self, ino: u64) {
        if self.with_row(ino, |_| ()).is_some() {
            self.freshen(|fresh| {
                fresh.at.insert(ino, None);
            });
        }
    }

    /// A step of ours has moved a file's ctime, and nothing else: if it was as its row says before, it is so again.
    pub(crate) fn moved(&self, before: &Stat, after: &Stat) {
        let same = (before.size, before.mtime, before.mode) == (after.size, after.mtime, after.mode);
        if before.ino != after.ino || before.dev != self.dev || !same {
            return;
        }
        let renewed = self.with_row(before.ino, |row| {
            row.ctime.compare_exchange(before.ctime, after.ctime, Ordering::Relaxed, Ordering::Relaxed).is_ok()
        });
        if renewed == Some(true) && before.ctime != after.ctime {
            self.changed.store(true, Ordering::Relaxed);
        }
    }

    /// Nobody else of this process does a step with a file of that content meanwhile.
    fn only_one(&self, content: ContentId) -> MutexGuard<'_, ()> {
        lock(&self.shards[usize::from(content.as_bytes()[0]) % SHARDS])
    }

    /// Links the pool's file `name`, which should hold `content`, if it looks as its row says. The caller holds the
    /// yard alone.
    pub(crate) fn link(
        &self,
        content: ContentId,
        (pool, name): (impl AsFd, &str),
        (to, new): (impl AsFd, &str),
    ) -> io::Result<Linked> {
        let _one = self.only_one(content);
        let before = disk::stat_at(&pool, name)?;
        if !self.holds(content, &before) {
            return Ok(Linked::Doubtful);
        }
        match disk::link(&pool, name, &to, new) {
            Ok(()) => {}
            Err(error) if disk::link_unsupported(&error) => return Ok(Linked::Unsupported),
            Err(error) => return Err(error),
        }
        let after = disk::stat_at(&to, new)?;
        self.moved(&before, &after);
        Ok(Linked::Done(after))
    }

    /// Whether anything in it is not written down yet.
    pub(crate) fn is_changed(&self) -> bool {
        self.changed.load(Ordering::Relaxed)
    }

    /// Counts what another one found out as found out here too.
    pub(crate) fn learn(&self, other: &Self) {
        self.renew_by(other);
        let theirs = std::mem::take(&mut *lock(&other.fresh));
        if theirs.at.is_empty() {
            return;
        }
        self.freshen(|fresh| {
            for (content, row) in theirs.contents() {
                fresh.set(content, row.clone());
            }
            fresh.at.extend(theirs.at.iter().filter(|(_, row)| row.is_none()));
        });
    }

    /// Renews the rows that another one has renewed. Of two ctimes at which the bytes were found to be right, the file can
    /// only have the later one still.
    fn renew_by(&self, other: &Self) {
        for row in other.rows.iter().filter(|row| row.found_out.load(Ordering::Relaxed)) {
            let ctime = row.ctime.load(Ordering::Relaxed);
            self.renew(row.ino, ctime, |own| own.is_but_for_ctime(row) && own.ctime.load(Ordering::Relaxed) < ctime);
        }
    }

    /// Takes over what another one found out, as far as the files still look so. The caller holds the yard alone, and has
    /// read this one since.
    pub(crate) fn take_over(&self, found: &Self, pool: &Pool) {
        if std::ptr::eq(self, found) {
            return;
        }
        self.renew_by(found);
        for (content, row) in lock(&found.fresh).contents() {
            for executable in [false, true] {
                let path = pool.root().join(Pool::name(content, executable));
                if let Ok(stat) = disk::lstat(&path)
                    && row.fits(&stat)
                {
                    self.set(content, &stat);
                }
            }
        }
    }

    /// Writes it down, if anything has changed: first at `op`, on the same filesystem. The caller holds the yard alone.
    pub(crate) fn save(&self, op: &Path) -> Result<()> {
        if !self.is_changed() {
            return Ok(());
        }
        let fresh = lock(&self.fresh);
        let mut new = fresh.rows().peekable();
        disk::write_loose(&self.path, &op.join("ledger"), |out| {
            let mut out = Encoder::begin(out, self.pool)?;
            for row in self.rows.iter().filter(|row| !fresh.at.contains_key(&row.ino)) {
                while let Some(first) = new.next_if(|first| first.ino < row.ino) {
                    out.row(first)?;
                }
                out.row(row)?;
            }
            new.try_for_each(|row| out.row(row))?;
            out.end()
        })
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)]
mod tests {
    use std::collections::BTreeMap;

    use proptest::prelude::*;

    use super::*;

    fn stat(ino: u64, (size, mtime, ctime): (u64, i64, i64), dev: u64) -> Stat {
        Stat { dev, ino, size, mtime, ctime, mode: 0o100_444, nlink: 2, ..Stat::default() }
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

        /// What is written is what is read, and damage makes it void: it never vouches for more.
        #[test]
        fn a_ledger_vouches_for_what_was_written_down_and_for_nothing_once_it_is_torn(
            rows in prop::collection::btree_map(prop_oneof![0_u64..500, any::<u64>()], any::<(u64, i64, i64)>(), 0..40),
            gone in any::<prop::sample::Index>(),
            at in any::<prop::sample::Index>(),
            flip in 1_u8..,
        ) {
            let place = tempfile::tempdir().unwrap();
            let pool = Pool::new(place.path().join("pool"));
            std::fs::create_dir(pool.root()).unwrap();
            let content = |ino: u64| ContentId::from_bytes(*blake3::hash(&ino.to_le_bytes()).as_bytes());
            type Looks = (u64, i64, i64);
            let (first, last): (BTreeMap<u64, Looks>, BTreeMap<u64, Looks>) =
                rows.clone().into_iter().partition(|(ino, _)| ino % 2 == 0);
            // In two goes, so that what comes is merged with what is there.
            for part in [&first, &last] {
                let ledger = Ledger::load(&pool).unwrap();
                part.iter().for_each(|(&ino, &looks)| ledger.set(content(ino), &stat(ino, looks, ledger.dev)));
                ledger.save(place.path()).unwrap();
            }
            let ledger = Ledger::load(&pool).unwrap();
            let dev = ledger.dev;
            for (&ino, &looks) in &rows {
                prop_assert!(ledger.holds(content(ino), &stat(ino, looks, dev)));
                prop_assert!(!ledger.holds(content(ino ^ 1), &stat(ino, looks, dev)), "another content");
                prop_assert!(!ledger.holds(content(ino), &stat(ino, looks, dev ^ 1)), "another disk");
                let later = (looks.0, looks.1, looks.2.wrapping_add(1));
                prop_assert!(!ledger.holds(content(ino), &stat(ino, later, dev)), "written to");
                ledger.moved(&stat(ino, looks, dev), &stat(ino, later, dev));
                prop_assert!(ledger.holds(content(ino), &stat(ino, later, dev)), "by a step of ours");
            }
            // What is read again under the same inode is known to whoever learns of it, and to one that was read since; and
            // of two who read it, the one who did so later is right.
            let (reader, learner) = (Ledger::load(&pool).unwrap(), Ledger::load(&pool).unwrap());
            for (&ino, &looks) in rows.iter().filter(|(ino, _)| *ino % 3 == 0) {
                let at = |age: i64| stat(ino, (looks.0, looks.1, looks.2.saturating_add(age)), dev);
                reader.set(content(ino), &at(2));
                learner.set(content(ino), &at(if ino % 2 == 0 { 1 } else { 3 }));
            }
            learner.learn(&reader);
            let renewed = Ledger::load(&pool).unwrap();
            renewed.take_over(&learner, &pool);
            for (&ino, &looks) in &rows {
                let age = if ino % 3 > 0 { 0 } else if ino % 2 == 0 { 2 } else { 3 };
                let at = |age: i64| stat(ino, (looks.0, looks.1, looks.2.saturating_add(age)), dev);
                prop_assert!(learner.holds(content(ino), &at(age)) && renewed.holds(content(ino), &at(age)));
                prop_assert_eq!(renewed.holds(content(ino), &at(1)), at(1) == at(age), "looked so in between");
            }
            if let Some(&ino) = rows.keys().nth(gone.index(rows.len().max(1))) {
                ledger.forget(ino);
                prop_assert!(ledger.looked(&stat(ino, rows[&ino], dev)).is_none());
            }
            let path = pool.root().join("ledger");
            if let Ok(mut bytes) = std::fs::read(&path) {
                let at = at.index(bytes.len());
                bytes[at] ^= flip;
                std::fs::write(&path, bytes).unwrap();
                let torn = Ledger::load(&pool).unwrap();
                prop_assert!(rows.iter().all(|(&ino, &looks)| !torn.holds(content(ino), &stat(ino, looks, dev))));
            }
        }
    }
}
