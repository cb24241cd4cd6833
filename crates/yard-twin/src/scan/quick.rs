//! Takes in what changed in a twin: lists it against what was there, reads only what can't be known from its index.

use std::collections::{HashMap, HashSet};
use std::fs::File;
use std::io;
use std::ops::Range;
use std::os::fd::BorrowedFd;
use std::path::Path;
use std::sync::Mutex;

use super::walk::{Behind, InFolder, Job, Lister, Name, Worker};
use super::{Index, Kind, Manner, Row};
use crate::disk::{self, Folders, FsClock, Stat};
use crate::error::{Error, IntakeError, Result};
use crate::ident::ContentId;
use crate::listing::{Entry, Layer, Listing, Node};
use crate::lock::Held;
use crate::parallel;
use crate::path::RelPath;
use crate::pool::{Aside, Ledger, Pool, Putter, Share, hash_unchanged};
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
    /// How the pool's files look, which linked files are.
    pub(crate) ledger: &'a Ledger,
    /// Reads the ledger again, once nobody links or unlinks just now.
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
struct Unread {
    path: RelPath,
    last: Option<usize>,
    stat: Stat,
    look: Look,
}

/// Why a file may have to be read.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Look {
    /// Nothing tells what it holds.
    Unknown,
    /// It looks as it did, and was written lately: whoever still has it mapped can write without any sign of it.
    Recent,
    /// It is the pool's own, and doesn't look as the ledger says: which another command may be writing just now.
    Shared,
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
        if !ino || self.doubt.falls_on(stat.ino) || self.aside.contains_key(&stat.ino) {
            return unknown;
        }
        if share == Share::Link {
            let right = self.ledger.holds(*content, stat) && (!self.keeps_modes || stat.executable() == *executable);
            return if right { Known::AsItWas } else { Known::Unless(Look::Shared) };
        }
        let same = (*size, row.mtime, row.mode, row.ctime) == (stat.size, stat.mtime, stat.mode, stat.ctime);
        if !same || row.racy(index.looked_at, self.clock.grain()) {
            return unknown;
        }
        let recent = self.unseen_for.is_none_or(|time| stat.ctime.saturating_add(time) >= index.looked_at);
        if share == Share::Own && recent {
            return Known::Unless(Look::Recent);
        }
        let now = Row::new(stat, share);
        if now == *row { Known::AsItWas } else { Known::Looks(now) }
    }

    /// Leaves out of what is to be read what turns out to be known.
    fn still_unknown(&self, unread: Vec<Unread>) -> Result<Vec<Unread>> {
        // Whoever links or unlinks holds the yard alone, and has written the ledger by the time that it doesn't.
        let again =
            if unread.iter().any(|name| name.look == Look::Shared) { Some((self.ledger_again)()?) } else { None };
        let mut left = Vec::with_capacity(unread.len());
        let mut reader = Reader::new(self.folder);
        for mut name in unread {
            let known = match (name.look, &again) {
                (Look::Unknown, _) | (Look::Shared, None) => false,
                (Look::Recent, _) => {
                    let opened = reader.open(&name.path, false);
                    opened.is_ok_and(|file| !disk::in_other_hands(&file))
                }
                (Look::Shared, Some((_, ledger))) => {
                    let entry = name.last.map(|at| &self.last.entries()[at].node);
                    let looked = reader.folder(&name.path).and_then(|folder| disk::stat_at(folder, name.path.name()));
                    match (entry, looked) {
                        (Some(Node::File { content, executable, .. }), Ok(stat)) => {
                            name.stat = stat;
                            ledger.holds(*content, &stat) && (!self.keeps_modes || stat.executable() == *executable)
                        }
                        _ => false,
                    }
                }
            };
            if !known {
                left.push(name);
            }
        }
        Ok(left)
    }

    /// Reads the files that nothing is known about; each inode once.
    fn read_unknown(&self, unread: Vec<Unread>, found: &mut Found, ctx: &Ctx) -> Result<()> {
        let unread = self.still_unknown(unread)?;
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
        let work = |reader: &mut Reader<'_>, batch: &&[Unread]| {
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
        ctx.phase(phase, count as u64, bytes, || {
            parallel::for_each(&batches, ctx.threads(), || Reader::new(self.folder), work)
        })
    }

    /// What was read of a file becomes part of what was found.
    fn take_down(&self, name: &Unread, read: &Read, found: &mut Found) {
        let last = name.last.map(|at| (at, &self.last.entries()[at]));
        let (content, stat, given) = match read {
            Read::Content { content, stat, given } => (*content, *stat, *given),
            Read::Gone => return found.changed.extend(last.map(|(_, entry)| (entry.path.clone(), None))),
            Read::NotTaken(why) => {
                // What it holds is not known: it counts as what it was, and is looked at again.
                found.refreshed.extend(last.map(|(at, _)| (at, Row::default())));
                return found.not_taken.push(why.clone());
            }
        };
        let bond = self.bond(name, content, &stat);
        match &bond {
            Bond::Wrong { right } => {
                found.leaks.push(Leak { path: name.path.clone(), inode: stat.ino, right: *right });
            }
            Bond::Pool { executable } if given || !self.looks_guarded(content, *executable, &stat) => {
                let asked = (self.keeps_modes && stat.executable() != *executable).then(|| stat.executable());
                found.lifted.push(Lifted { path: name.path.clone(), content, read: stat, asked });
            }
            Bond::Pool { .. } => self.ledger.set(content, &stat),
            Bond::Own { .. } => {}
        }
        let (entry, row) = self.entry(name, content, &stat, &bond);
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

    /// What a file that was read has to do with the pool.
    fn bond(&self, name: &Unread, content: ContentId, stat: &Stat) -> Bond {
        if let Some(&right) = self.aside.get(&stat.ino) {
            return Bond::Wrong { right };
        }
        let before = name.last.and_then(|at| Some((self.last.entries()[at].node.content()?, at)));
        let row = before.and_then(|(_, at)| self.index?.rows.get(at)).filter(|row| row.ino == stat.ino);
        if let Some((right, _)) = before.filter(|(before, _)| *before != content)
            && (row.is_some_and(|row| row.share == Some(Share::Link)) || self.pool_file(right, stat).is_some())
        {
            return Bond::Wrong { right };
        }
        if let Some(executable) = self.pool_file(content, stat) {
            return Bond::Pool { executable };
        }
        let same = before.is_some_and(|(before, _)| before == content);
        // Only as long as the bytes are those of before does the way they are shared still hold.
        let share = row.and_then(|row| row.share).filter(|share| same && *share != Share::Link);
        Bond::Own { share: share.unwrap_or(Share::Own) }
    }

    /// Whether an inode is the pool's own file of a content: the one for executables, or the other.
    fn pool_file(&self, content: ContentId, stat: &Stat) -> Option<bool> {
        if stat.nlink < 2 {
            return None;
        }
        let has = |executable: bool| {
            let path = self.pool.root().join(Pool::name(content, executable));
            disk::lstat(&path).is_ok_and(|pool| (pool.dev, pool.ino) == (stat.dev, stat.ino))
        };
        [false, true].into_iter().find(|executable| has(*executable))
    }

    /// Whether a linked file has the guard, and the time, that the pool's file has.
    fn looks_guarded(&self, content: ContentId, executable: bool, stat: &Stat) -> bool {
        let guarded = if executable { 0o555 } else { 0o444 };
        let looked = self.ledger.looked(stat).filter(|looked| looked.is_of(content));
        (!self.keeps_modes || stat.mode & 0o7777 == guarded) && looked.is_none_or(|looked| looked.mtime == stat.mtime)
    }

    fn entry(&self, name: &Unread, content: ContentId, stat: &Stat, bond: &Bond) -> (Entry, Row) {
        let before = name.last.map(|at| &self.last.entries()[at]);
        let as_before = before.filter(|before| before.node.content() == Some(content));
        let executable = match (bond, before.map(|before| &before.node)) {
            (Bond::Pool { executable }, _) => *executable,
            (_, Some(Node::File { executable, .. })) if !self.keeps_modes => *executable,
            _ => stat.executable(),
        };
        // All names of a linked file show one time: the pool's. The twin's own is the one in its listing.
        let (share, mtime) = match bond {
            Bond::Own { share } => (*share, stat.mtime),
            Bond::Wrong { .. } => (Share::Link, stat.mtime),
            Bond::Pool { .. } => (Share::Link, as_before.map_or(stat.mtime, |before| before.mtime)),
        };
        let node = Node::File { content, size: stat.size, executable };
        (Entry { path: name.path.clone(), node, mtime }, Row::new(stat, share))
    }

    fn read(&self, name: &Unread, reader: &mut Reader<'_>, ctx: &Ctx) -> Result<Read> {
        let path = name.path.below(self.folder);
        let (mut last, mut stat) = (None, name.stat);
        for _ in 0..TRIES {
            // The mode of a shared file is the pool's to say.
            let opened = reader.open(&name.path, name.look == Look::Shared && self.putter.is_some());
            let file = match opened {
                Ok(file) => file,
                Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Read::Gone),
                Err(error) => return Ok(Read::NotTaken(format!("{} ({error})", path.display()))),
            };
            if disk::in_other_hands(&file) {
                // What is written into it from now on moves its times, also by somebody who has it mapped.
                disk::flush(&file);
                stat = disk::fstat(&file).map_err(|error| Error::io("look at", &path, error))?;
            }
            let read = match self.putter {
                Some(putter) => putter.put(&file, &stat, &path, &mut reader.buffer, ctx),
                None => hash_unchanged(&file, &stat, &path, &mut reader.buffer, ctx),
            };
            match read {
                Ok(content) => {
                    let given = stat.nlink > 1
                        && disk::attributes(&file).is_ok_and(|names| disk::given(&names).next().is_some());
                    return Ok(Read::Content { content, stat, given });
                }
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

/// Reads files one after the other, most often of one folder: that is kept open. No symlink leads it elsewhere.
struct Reader<'a> {
    buffer: Vec<u8>,
    root: &'a Path,
    folders: Option<Folders<'a>>,
}

impl<'a> Reader<'a> {
    fn new(root: &'a Path) -> Self {
        Self { buffer: vec![0; disk::BUFFER], root, folders: None }
    }

    /// The folder that a file is in.
    fn folder(&mut self, path: &RelPath) -> io::Result<BorrowedFd<'_>> {
        let folders = match &mut self.folders {
            Some(folders) => folders,
            none => none.insert(Folders::new(self.root).map_err(into_io)?),
        };
        folders.get(path.parent().unwrap_or_default()).map_err(into_io)
    }

    /// Opens a file by its name in its folder; one of ours also where somebody took the right to read it away.
    fn open(&mut self, path: &RelPath, own: bool) -> io::Result<File> {
        let folder = self.folder(path)?;
        match disk::open_file(folder, path.name()) {
            Err(error) if own && error.kind() == io::ErrorKind::PermissionDenied => {
                disk::change_mode(folder, path.name(), |mode| mode | 0o400)?;
                disk::open_file(folder, path.name())
            }
            opened => opened,
        }
    }
}

/// What the system said.
fn into_io(error: Error) -> io::Error {
    match error {
        Error::Io { source, .. } => source,
        error => io::Error::other(error),
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

/// What a file has to do with the pool.
enum Bond {
    /// It is the twin's own.
    Own { share: Share },
    /// It is the pool's file of what it holds: the one for executables, or the other.
    Pool { executable: bool },
    /// It is, or was, the pool's file of something else.
    Wrong { right: ContentId },
}

enum Read {
    /// Its content, how it looked then, and whether somebody gave it attributes or an access list.
    Content {
        content: ContentId,
        stat: Stat,
        given: bool,
    },
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
