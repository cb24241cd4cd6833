//! Takes in what changed in a twin: lists it against what was there, reads only what can't be known from its index.

use std::collections::{HashMap, HashSet};
use std::fs::File;
use std::io;
use std::ops::Range;
use std::os::fd::OwnedFd;
use std::path::Path;
use std::sync::Mutex;

use rustix::fs::CWD;

use super::walk::{Job, Lister, Name, Worker};
use super::{Index, Kind, Manner, Row};
use crate::disk::{self, FsClock, Stat};
use crate::error::{Error, IntakeError, Result};
use crate::ident::ContentId;
use crate::listing::{Entry, Layer, Listing, Node};
use crate::parallel;
use crate::path::RelPath;
use crate::pool::{Pool, Putter, Share, hash_unchanged};
use crate::progress::{Ctx, Phase};
use crate::sheet::Sheet;

/// How often a file is read again that changes while it is being read.
const TRIES: usize = 3;

/// What a settle starts from.
pub(crate) struct Settling<'a> {
    /// The twin's folder, with `game` and `home` in it.
    pub(crate) folder: &'a Path,
    /// What was there the last time.
    pub(crate) last: &'a Listing,
    /// How it looked then, if that is known.
    pub(crate) index: Option<&'a Index>,
    /// When our own commands linked and unlinked: that moves a linked file's ctime and means nothing.
    pub(crate) windows: &'a [(i64, i64)],
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
    /// Linked files that someone wrote through their guard into the pool: path, inode, and the content that is now wrong.
    pub(crate) leaks: Vec<(RelPath, u64, ContentId)>,
    /// Linked files whose bytes are right and whose guard was lifted, or whose time was set: how they were before.
    pub(crate) lifted: Vec<(RelPath, Row)>,
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
struct Unread {
    path: RelPath,
    last: Option<usize>,
    stat: Stat,
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
pub(crate) fn settle_folder(settling: &Settling<'_>, ctx: &Ctx) -> Result<Found> {
    let mut found = Found { looked_at: settling.clock.now()?, ..Found::default() };
    let mut unread = Vec::new();
    for root in ["game", "home"] {
        let path = RelPath::new(root)?;
        let range = settling.last.range(root);
        let folder = settling.folder.join(root);
        let lister = Lister::new(&folder, path, Manner::Lenient);
        let workers = lister.crawl(
            Below { range: range.clone(), mtime: 0 },
            |job, names, worker, below| settling.visit(job, names, worker, below),
            ctx,
        )?;
        if workers.is_empty() {
            found.changed.extend(range.map(|at| (settling.path(at), None)));
        }
        for worker in workers {
            let Sight { unread: more, gone, other, refreshed } = worker.found;
            found.changed.extend(gone.into_iter().map(|at| (settling.path(at), None)));
            found
                .changed
                .extend(other.into_iter().map(|entry| (entry.path.clone(), Some(Box::new((entry, Row::default()))))));
            found.refreshed.extend(refreshed);
            found.not_taken.extend(worker.not_taken);
            unread.extend(more);
        }
    }
    settling.read_unknown(unread, &mut found, ctx)?;
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

impl Settling<'_> {
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
        names: Option<Vec<Name>>,
        worker: &mut Worker<Sight>,
        below: &mut Vec<(Box<str>, Below)>,
    ) -> Result<()> {
        let sight = &mut worker.found;
        let mut range = job.about.range.clone();
        let Some(names) = names else {
            sight.gone.extend(range);
            return Ok(());
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
        Name { name, kind, stat }: Name,
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
        match (kind, leaf) {
            (None, _) => below.push((name, Below { range: group, mtime: stat.mtime })),
            (Some(Kind::File), Some(entry)) => match self.know(entry, group.start, &stat) {
                Some(Known::AsItWas) => {}
                Some(Known::Looks(row)) => sight.refreshed.push((group.start, row)),
                None => sight.unread.push(Unread { path, last: Some(group.start), stat }),
            },
            (Some(Kind::File), None) => {
                sight.gone.extend(group);
                sight.unread.push(Unread { path, last: None, stat });
            }
            (Some(kind), leaf) => {
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

    /// Whether a file is the one of the last listing, if that can be told without reading it.
    fn know(&self, entry: &Entry, at: usize, stat: &Stat) -> Option<Known> {
        let (index, Node::File { size, .. }) = (self.index?, &entry.node) else { return None };
        let row = index.rows.get(at)?;
        let racy = row.racy(index.looked_at, self.clock.grain());
        let same = (row.ino, *size, row.mtime, row.mode) == (stat.ino, stat.size, stat.mtime, stat.mode);
        let share = row.share?;
        if racy || !same || !self.ctime_explained(row, stat.ctime) || self.doubt.falls_on(stat.ino) {
            return None;
        }
        let now = Row::new(stat, share);
        Some(if now == *row { Known::AsItWas } else { Known::Looks(now) })
    }

    fn ctime_explained(&self, row: &Row, ctime: i64) -> bool {
        let ours = || self.windows.iter().any(|&(start, end)| (start..=end).contains(&ctime));
        row.ctime == ctime || (row.share == Some(Share::Link) && ours())
    }

    /// Reads the files that nothing is known about; each inode once.
    fn read_unknown(&self, unread: Vec<Unread>, found: &mut Found, ctx: &Ctx) -> Result<()> {
        found.read = unread.len();
        let inode = |name: &Unread| (name.stat.dev, name.stat.ino);
        let (mut seen, mut more) = (HashSet::new(), HashMap::<_, Vec<Unread>>::new());
        let (mut large, mut small) = (Vec::new(), Vec::with_capacity(unread.len()));
        for name in unread {
            if name.stat.nlink > 1 && !seen.insert(inode(&name)) {
                more.entry(inode(&name)).or_default().push(name);
            } else if name.stat.size >= disk::LARGE {
                large.push(name);
            } else {
                small.push(name);
            }
        }
        let count = large.len() + small.len();
        if count == 0 {
            return Ok(());
        }
        let bytes = large.iter().chain(&small).map(|name| name.stat.size).sum();
        // The largest first, so that none of them is read alone at the end. Of small ones some at a time, so that the threads
        // don't meet at each file, and stay in one folder for a while.
        large.sort_unstable_by_key(|name| std::cmp::Reverse(name.stat.size));
        let batches: Vec<&[Unread]> = large.chunks(1).chain(small.chunks(BATCH)).collect();
        let done = Mutex::new(found);
        let work = |reader: &mut Reader, batch: &&[Unread]| {
            let mut read = Vec::with_capacity(batch.len());
            for name in *batch {
                read.push(self.read(name, reader, ctx)?);
            }
            ctx.progress().advance(batch.len() as u64, batch.iter().map(|name| name.stat.size).sum());
            let mut found = parallel::lock(&done);
            for (name, read) in batch.iter().zip(&read) {
                let others = more.get(&inode(name)).into_iter().flatten();
                [name].into_iter().chain(others).for_each(|name| self.take_down(name, read, &mut found));
            }
            Ok(())
        };
        let phase = if self.putter.is_some() { Phase::Storing } else { Phase::Checking };
        ctx.phase(phase, count as u64, bytes, || parallel::for_each(&batches, ctx.threads(), Reader::new, work))
    }

    /// What was read of a file becomes part of what was found.
    fn take_down(&self, name: &Unread, read: &Read, found: &mut Found) {
        let last = name.last.map(|at| (at, &self.last.entries()[at]));
        let Read::Content(content, stat) = read else {
            found.changed.extend(last.map(|(_, entry)| (entry.path.clone(), None)));
            if let Read::NotTaken(why) = read {
                found.not_taken.push(why.clone());
            }
            return;
        };
        if let Some(row) = self.lifted(name, *content, stat) {
            // Its row stays: it is as that says again once it is put right.
            found.lifted.push((name.path.clone(), row));
            return;
        }
        let (entry, row, leaked) = self.read_entry(name, *content, stat);
        found.leaks.extend(leaked.map(|content| (entry.path.clone(), stat.ino, content)));
        match last {
            Some((at, before)) if before.node == entry.node => {
                let known = self.index.is_some_and(|index| {
                    index.rows.get(at) == Some(&row) && !row.racy(index.looked_at, self.clock.grain())
                });
                found.refreshed.extend((!known).then_some((at, row)));
            }
            _ => found.changed.push((entry.path.clone(), Some(Box::new((entry, row))))),
        }
    }

    /// How a linked file looked before someone changed its mode or its time, and with them those of all that share it.
    fn lifted(&self, name: &Unread, content: ContentId, stat: &Stat) -> Option<Row> {
        let at = name.last?;
        let row = *self.index?.rows.get(at)?;
        let same = row.ino == stat.ino && self.last.entries()[at].node.content() == Some(content);
        let looks = row.mtime != stat.mtime || (self.keeps_modes && row.mode != stat.mode);
        (row.share == Some(Share::Link) && same && looks).then_some(row)
    }

    /// The entry and row of a file that was read, and the content that it should still have if it is a leak.
    fn read_entry(&self, name: &Unread, content: ContentId, stat: &Stat) -> (Entry, Row, Option<ContentId>) {
        let before = name.last.and_then(|at| {
            let row = *self.index?.rows.get(at)?;
            Some((&self.last.entries()[at], row)).filter(|(_, row)| row.ino == stat.ino)
        });
        let (mut share, mut mtime, mut leaked) = (Share::Own, stat.mtime, None);
        if let Some((entry, row)) = before {
            let same = entry.node.content() == Some(content);
            match row.share {
                // The file still is the pool's, and its bytes are not: someone lifted the guard and wrote.
                Some(Share::Link) if !same => leaked = entry.node.content(),
                // All names of a linked file show one time: the pool's. The twin's own is the one in its listing.
                Some(Share::Link) => (share, mtime) = (Share::Link, entry.mtime),
                // Only as long as the bytes are those of before does the way they are shared still hold.
                Some(before) if same => share = before,
                _ => {}
            }
        }
        if leaked.is_some() || (share != Share::Link && self.is_pool_file(content, stat)) {
            share = Share::Link;
        }
        let executable = match name.last.map(|at| &self.last.entries()[at].node) {
            Some(Node::File { executable, .. }) if !self.keeps_modes => *executable,
            _ => stat.executable(),
        };
        let node = Node::File { content, size: stat.size, executable };
        (Entry { path: name.path.clone(), node, mtime }, Row::new(stat, share), leaked)
    }

    /// Whether an inode is the pool's own file of a content.
    fn is_pool_file(&self, content: ContentId, stat: &Stat) -> bool {
        stat.nlink > 1
            && [false, true].into_iter().any(|executable| {
                let path = self.pool.root().join(Pool::name(content, executable));
                disk::lstat(&path).is_ok_and(|pool| pool.ino == stat.ino)
            })
    }

    fn read(&self, name: &Unread, reader: &mut Reader, ctx: &Ctx) -> Result<Read> {
        let path = name.path.below(self.folder);
        let (mut last, mut stat) = (None, name.stat);
        for _ in 0..TRIES {
            let file = match reader.open(self.folder, &name.path) {
                Ok(file) => file,
                Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Read::Gone),
                Err(error) => return Ok(Read::NotTaken(format!("{} ({error})", path.display()))),
            };
            let read = match self.putter {
                Some(putter) => putter.put(&file, &stat, &path, &mut reader.buffer, ctx),
                None => hash_unchanged(&file, &stat, &path, &mut reader.buffer, ctx),
            };
            match read {
                Ok(content) => return Ok(Read::Content(content, stat)),
                Err(error @ Error::Intake(IntakeError::Changed(_))) => {
                    last = Some(error);
                    stat = disk::fstat(&file).map_err(|error| Error::io("look at", &path, error))?;
                }
                Err(error) => return Err(error),
            }
        }
        tracing::debug!(?last, "a file changes faster than it can be read");
        Err(Error::Busy { what: path.display().to_string(), holders: Vec::new() })
    }
}

/// So many small files are read by one thread before it says what they hold.
const BATCH: usize = 64;

/// Reads files one after the other, most often of one folder: that is kept open.
struct Reader {
    buffer: Vec<u8>,
    folder: Option<(String, OwnedFd)>,
}

impl Reader {
    fn new() -> Self {
        Self { buffer: vec![0; disk::BUFFER], folder: None }
    }

    /// Opens a file below `root` by its name in its folder.
    fn open(&mut self, root: &Path, path: &RelPath) -> io::Result<File> {
        let parent = path.parent().unwrap_or_default();
        let folder = match &self.folder {
            Some((open, folder)) if open == parent => folder,
            _ => {
                let folder = disk::open_folder(CWD, root.join(parent))?;
                &self.folder.insert((parent.into(), folder)).1
            }
        };
        disk::open_file(folder, path.name())
    }
}

/// What can be said of a file without reading it.
enum Known {
    /// It is as it was.
    AsItWas,
    /// Its bytes are as they were, and it looks different.
    Looks(Row),
}

enum Read {
    Content(ContentId, Stat),
    Gone,
    NotTaken(String),
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
