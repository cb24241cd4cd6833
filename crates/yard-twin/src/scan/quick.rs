//! Takes in what changed in a twin: lists it against what was there, reads only what can't be known from its index.

use std::collections::HashSet;
use std::ops::Range;
use std::path::Path;

use super::walk::{Behind, InFolder, Job, Lister, Name, Worker};
use super::{Index, Kind, Manner, Row};
use crate::disk::lock::Held;
use crate::disk::{FsClock, Stat};
use crate::error::Result;
use crate::ident::ContentId;
use crate::listing::{Entry, Layer, Listing, Node};
use crate::path::RelPath;
use crate::progress::Ctx;
use crate::sheet::Sheet;
use crate::store::pool::{Aside, Ledger, Pool, Putter, Share};

/// What a settle starts from.
pub(crate) struct Observer<'a> {
    /// The twin's folder, with `game` and `home` in it.
    pub(crate) folder: &'a Path,
    /// What was there the last time.
    pub(crate) last: &'a Listing,
    /// How it looked then, if that is known.
    pub(crate) index: Option<&'a Index>,
    /// How the pool's files look, which linked files are.
    pub(crate) ledger: &'a Ledger,
    /// Reads the ledger again, under the shared lock.
    pub(crate) ledger_again: &'a (dyn Fn() -> Result<(Held, Ledger)> + Sync),
    /// Files of the pool that are known to hold something else than they should.
    pub(crate) aside: &'a Aside,
    /// The title's sheet, which says what is worth nothing.
    pub(crate) sheet: Option<&'a Sheet>,
    pub(crate) pool: &'a Pool,
    /// Where what is new goes; without one it is only read.
    pub(crate) putter: Option<&'a Putter<'a>>,
    /// What is read whatever the index says.
    pub(crate) doubt: Doubt<'a>,
    pub(crate) clock: &'a FsClock,
    /// Whether a file's mode says anything here: else what was executable stays it.
    pub(crate) keeps_modes: bool,
    /// Whether a file keeps its inode's number for as long as it is there.
    pub(crate) trusts_inodes: bool,
    /// For how long after its last time stamp a file may be written to without any sign of it, by one who has it mapped: in
    /// nanoseconds; `None`: for ever.
    pub(crate) unseen_for: Option<i64>,
}

/// Files that are read though they look as they did.
#[derive(Clone, Copy)]
pub(crate) enum Doubt<'a> {
    Nothing,
    Inodes(&'a HashSet<u64>),
    AllBut(&'a HashSet<u64>),
}

impl Doubt<'_> {
    fn falls_on(self, ino: u64) -> bool {
        match self {
            Self::Nothing => false,
            Self::Inodes(inodes) => inodes.contains(&ino),
            Self::AllBut(inodes) => !inodes.contains(&ino),
        }
    }
}

/// What is at a path now; `None`: nothing. In a box, so that it takes little to say that a great many are gone.
pub(crate) type Now = Option<Box<(Entry, Row)>>;

/// What is different now.
#[derive(Default)]
pub(crate) struct Found {
    /// What is not as it was, in the order of the paths.
    pub(crate) changed: Vec<(RelPath, Now)>,
    /// Entries that are as they were and look different: by their place in the last listing.
    pub(crate) refreshed: Vec<(usize, Row)>,
    /// When the look began, by the filesystem's clock.
    pub(crate) looked_at: i64,
    /// Files that were read.
    pub(crate) read: usize,
    /// What no listing can hold, each with its reason.
    pub(crate) not_taken: Vec<String>,
    /// Linked files that someone wrote to directly.
    pub(crate) leaks: Vec<Leak>,
    /// Linked files whose bytes are right and whose guard was lifted, or whose time was set.
    pub(crate) lifted: Vec<Lifted>,
}

/// A file that shares an inode with the pool, which holds something else than it should.
#[derive(Clone, Debug)]
pub(crate) struct Leak {
    pub(crate) path: RelPath,
    pub(crate) inode: u64,
    /// What it should hold.
    pub(crate) right: ContentId,
}

/// A linked file whose guard was lifted.
#[derive(Clone, Debug)]
pub(crate) struct Lifted {
    pub(crate) path: RelPath,
    pub(crate) content: ContentId,
    /// How it looked when it was read.
    pub(crate) read: Stat,
    /// Whether it was made executable, or is no longer: what is shared can't be both.
    pub(crate) asked: Option<bool>,
}

impl Found {
    /// What changed, without how it looks.
    pub(crate) fn layer(&self) -> Result<Layer> {
        Layer::new(
            self.changed.iter().map(|(path, now)| (path.clone(), now.as_ref().map(|now| now.0.clone()))).collect(),
        )
    }

    /// The listing and its rows as they are now, from those of before.
    pub(crate) fn merged(&mut self, last: Listing, mut rows: Vec<Row>) -> Result<(Listing, Vec<Row>)> {
        rows.resize(last.entries().len(), Row::default());
        for (at, row) in &self.refreshed {
            rows[*at] = *row;
        }
        if self.changed.is_empty() {
            return Ok((last, rows));
        }
        let mut entries = Vec::with_capacity(last.entries().len() + self.changed.len());
        let mut merged = Vec::with_capacity(entries.capacity());
        let mut changed = std::mem::take(&mut self.changed).into_iter().peekable();
        let mut take = |entries: &mut Vec<Entry>, merged: &mut Vec<Row>, until: Option<&RelPath>| {
            let mut replaced = false;
            while let Some((path, now)) = changed.next_if(|(path, _)| until.is_none_or(|until| path <= until)) {
                replaced = until == Some(&path);
                if let Some((entry, row)) = now.map(|now| *now) {
                    entries.push(entry);
                    merged.push(row);
                }
            }
            replaced
        };
        for (entry, row) in last.into_entries().into_iter().zip(rows) {
            if !take(&mut entries, &mut merged, Some(&entry.path)) {
                entries.push(entry);
                merged.push(row);
            }
        }
        take(&mut entries, &mut merged, None);
        Ok((Listing::new(entries)?, merged))
    }
}

/// A file that must be read, and where it was in the last listing.
pub(super) struct Unread {
    pub(super) path: RelPath,
    pub(super) last: Option<usize>,
    pub(super) stat: Stat,
    pub(super) look: Look,
}

/// Why a file may have to be read.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum Look {
    /// Nothing tells what it holds.
    Unknown,
    /// Unchanged stat, recent mtime: a process that still maps it can write without moving any time.
    Recent,
    /// It is the pool's own, and doesn't look as the ledger says: which another command may be writing just now.
    Shared,
    /// Read although its stat is unchanged, because of a doubt about its inode.
    Doubted,
}

/// What one thread sees that is not as it was.
#[derive(Default)]
struct Sight {
    unread: Vec<Unread>,
    gone: Vec<usize>,
    other: Vec<Entry>,
    refreshed: Vec<(usize, Row)>,
}

/// What the last listing has at and below a folder, and when the folder was written.
struct Below {
    range: Range<usize>,
    mtime: i64,
}

/// Lists `game` and `home` below the twin's folder and stages new contents with the putter, which stays to be published.
pub(crate) fn settle_folder(observer: &Observer<'_>, ctx: &Ctx) -> Result<Found> {
    let mut found = Found { looked_at: observer.clock.now()?, ..Found::default() };
    let mut unread = Vec::new();
    for root in ["game", "home"] {
        let path = RelPath::new(root)?;
        let range = observer.last.range(root);
        let folder = observer.folder.join(root);
        let lister = Lister::new(&folder, path, Manner::Lenient);
        let workers = lister.crawl(
            Below { range: range.clone(), mtime: 0 },
            |job, names, worker, below| observer.visit(job, names, worker, below),
            ctx,
        )?;
        if workers.is_empty() {
            found.changed.extend(range.map(|at| (observer.path(at), None)));
        }
        for worker in workers {
            let Sight { unread: more, gone, other, refreshed } = worker.found;
            found.changed.extend(gone.into_iter().map(|at| (observer.path(at), None)));
            found
                .changed
                .extend(other.into_iter().map(|entry| (entry.path.clone(), Some(Box::new((entry, Row::default()))))));
            found.refreshed.extend(refreshed);
            found.not_taken.extend(worker.not_taken);
            unread.extend(more);
        }
    }
    observer.read_unknown(unread, &mut found, ctx)?;
    found.changed.sort_by(|a, b| a.0.cmp(&b.0).then(a.1.is_some().cmp(&b.1.is_some())));
    // Where one thing went and another came at the same path, what came counts.
    found.changed.dedup_by(|later, earlier| {
        let same = later.0 == earlier.0;
        if same {
            std::mem::swap(later, earlier);
        }
        same
    });
    found.not_taken.sort_unstable();
    Ok(found)
}

impl Observer<'_> {
    fn path(&self, at: usize) -> RelPath {
        self.last.entries()[at].path.clone()
    }

    fn is_scratch(&self, path: &RelPath) -> bool {
        self.sheet.is_some_and(|sheet| sheet.is_scratch(path))
    }

    /// Compares what is in a folder with what was.
    fn visit(
        &self,
        job: &Job<Below>,
        names: InFolder,
        worker: &mut Worker<Sight>,
        below: &mut Vec<(Box<str>, Below)>,
    ) -> Result<()> {
        let sight = &mut worker.found;
        let mut range = job.about.range.clone();
        let names = match names {
            InFolder::Names(names) => names,
            InFolder::Gone => {
                sight.gone.extend(range);
                return Ok(());
            }
            // What was in it counts as there: not to be able to look is not to see that nothing is there.
            InFolder::Untold => return Ok(()),
        };
        // The folder itself, if it was a file, a symlink or empty.
        let itself = self.last.entries()[range.clone()].first().filter(|entry| entry.path == job.path);
        range.start += usize::from(itself.is_some());
        let mut groups = Groups { entries: self.last.entries(), prefix: job.path.as_str().len() + 1, range };
        let mut visible = false;
        for name in names {
            let group = groups.skip_to(&name.name, &mut sight.gone);
            visible |= self.see(job, name, group, sight, below)?;
        }
        sight.gone.extend(groups.range);
        let stays = itself.is_some_and(|entry| entry.node == Node::EmptyFolder) && !visible;
        if let (Some(_), false) = (itself, stays) {
            sight.gone.push(job.about.range.start);
        }
        if !visible && !stays && !job.root {
            let entry = Entry { path: job.path.clone(), node: Node::EmptyFolder, mtime: job.about.mtime };
            sight.other.push(entry);
        }
        Ok(())
    }

    /// Judges one name, which had `group` in the last listing; says whether it is part of the twin.
    fn see(
        &self,
        job: &Job<Below>,
        Name { name, behind, stat }: Name,
        group: Range<usize>,
        sight: &mut Sight,
        below: &mut Vec<(Box<str>, Below)>,
    ) -> Result<bool> {
        let first = self.last.entries()[group.clone()].first();
        let leaf = first
            .filter(|entry| group.len() == 1 && entry.path.as_str().len() == job.path.as_str().len() + 1 + name.len());
        let path = leaf.map_or_else(|| job.path.join(&name), |entry| Ok(entry.path.clone()))?;
        if self.is_scratch(&path) {
            sight.gone.extend(group);
            return Ok(false);
        }
        match (behind, leaf) {
            (Behind::Folder, _) => below.push((name, Below { range: group, mtime: stat.mtime })),
            (Behind::Other(Kind::File), Some(entry)) => match self.know(entry, group.start, &stat) {
                Known::AsItWas => {}
                Known::Looks(row) => sight.refreshed.push((group.start, row)),
                Known::Unless(look) => {
                    sight.unread.push(Unread { path, last: Some(group.start), stat, look });
                }
            },
            (Behind::Other(Kind::File), None) => {
                sight.gone.extend(group);
                sight.unread.push(Unread { path, last: None, stat, look: Look::Unknown });
            }
            // It stays what it was: not to be able to look is not to see that nothing is there.
            (Behind::Untold, _) => {}
            (Behind::Other(kind), leaf) => {
                let node = match kind {
                    Kind::Symlink(target) => Node::Symlink { target },
                    _ => Node::EmptyFolder,
                };
                if leaf.is_none_or(|entry| entry.node != node) {
                    sight.gone.extend(group);
                    sight.other.push(Entry { path, node, mtime: stat.mtime });
                }
            }
        }
        Ok(true)
    }

    /// What can be told of a file without reading it.
    fn know(&self, entry: &Entry, at: usize, stat: &Stat) -> Known {
        let unknown = Known::Unless(Look::Unknown);
        let (Some(index), Node::File { size, content, executable }) = (self.index, &entry.node) else { return unknown };
        let Some((row, share)) = index.rows.get(at).and_then(|row| Some((row, row.share?))) else { return unknown };
        let ino = row.ino == stat.ino || (!self.trusts_inodes && row.ino != 0);
        if !ino || self.aside.contains_key(&stat.ino) {
            return unknown;
        }
        let doubted = self.doubt.falls_on(stat.ino);
        if share == Share::Link {
            let right = self.ledger.holds(*content, stat) && (!self.keeps_modes || stat.executable() == *executable);
            return match (right, doubted) {
                (true, false) => Known::AsItWas,
                (true, true) => Known::Unless(Look::Doubted),
                (false, false) => Known::Unless(Look::Shared),
                (false, true) => unknown,
            };
        }
        let same = (*size, row.mtime, row.mode, row.ctime) == (stat.size, stat.mtime, stat.mode, stat.ctime);
        if !same || row.racy(index.looked_at, self.clock.grain()) {
            return unknown;
        }
        let recent = self.unseen_for.is_none_or(|time| stat.ctime.saturating_add(time) >= index.looked_at);
        let now = Row::new(stat, share);
        match (matches!(share, Share::Own | Share::Arrived) && recent, doubted, now == *row) {
            (true, true, _) | (_, true, false) => unknown,
            (true, false, _) => Known::Unless(Look::Recent),
            (false, true, true) => Known::Unless(Look::Doubted),
            (false, false, true) => Known::AsItWas,
            (false, false, false) => Known::Looks(now),
        }
    }
}

/// What can be said of a file without reading it.
enum Known {
    /// It is as it was.
    AsItWas,
    /// Its bytes are as they were, and it looks different.
    Looks(Row),
    /// It has to be read, unless another look tells.
    Unless(Look),
}

/// What a listing has in one folder, name by name.
struct Groups<'a> {
    entries: &'a [Entry],
    /// Length of the folder's path and the `/` after it.
    prefix: usize,
    range: Range<usize>,
}

impl Groups<'_> {
    /// The entries at and below `name`; those of the names before it are gone.
    fn skip_to(&mut self, name: &str, gone: &mut Vec<usize>) -> Range<usize> {
        while let Some(entry) = self.entries[self.range.clone()].first() {
            let rest = &entry.path.as_str()[self.prefix..];
            let first = rest.split('/').next().unwrap_or(rest);
            if first > name {
                break;
            }
            let end = if first.len() == rest.len() { self.range.start + 1 } else { self.end_of(first) };
            let group = self.range.start..end;
            self.range.start = end;
            if first == name {
                return group;
            }
            gone.extend(group);
        }
        self.range.start..self.range.start
    }

    /// Where what is below a folder ends.
    fn end_of(&self, first: &str) -> usize {
        let below = |entry: &Entry| {
            let rest = &entry.path.as_str()[self.prefix..];
            rest.strip_prefix(first).is_some_and(|rest| rest.starts_with('/'))
        };
        self.range.start + self.entries[self.range.clone()].partition_point(below)
    }
}
