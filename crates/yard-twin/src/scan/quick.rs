//! Takes in what changed in a twin: lists it against what was there, reads only what can't be known from its index.

use std::collections::HashSet;
use std::ffi::CStr;
use std::num::NonZeroU32;
use std::ops::Range;
use std::path::Path;

use rustix::fs::AtFlags;

use super::standing::{Folders, SeenFolders, Stamp, Standing};
use super::walk::{Behind, Below, InFolder, Job, Lister, Name, Opened, Worker};
use super::{Index, Kind, Manner, Row};
use crate::disk::lock::Held;
use crate::disk::{self, Stat};
use crate::error::{PathContext, Result};
use crate::ident::ContentId;
use crate::listing::{Entry, Layer, Listing, Node, Splice};
use crate::parallel::Late;
use crate::path::RelPath;
use crate::progress::Ctx;
use crate::sheet::Sheet;
use crate::store::pool::{Aside, Ledger, Pool, Share};

/// What a look at a twin starts from.
pub(crate) struct Observer<'a> {
    /// The twin's folder, with `game` and `home` in it.
    pub(crate) folder: &'a Path,
    /// What was there the last time: read once something is not as its index says.
    pub(crate) last: &'a Late<'a, Listing>,
    /// How it looked then, if that is known.
    pub(crate) index: Option<&'a Index>,
    /// How the pool's files look, which linked files are.
    pub(crate) ledger: &'a Ledger,
    /// Reads the ledger again, under the shared lock.
    pub(crate) ledger_again: &'a (dyn Fn() -> Result<(Held, Ledger)> + Sync),
    /// Files of the pool that are known to hold something else than they should.
    pub(crate) aside: &'a Aside,
    /// The title's sheet, which says what is worth nothing.
    pub(crate) sheet: &'a Late<'a, Option<Sheet>>,
    /// What tells whether that is still the one of the last time.
    pub(crate) sheet_key: [u8; 32],
    pub(crate) pool: &'a Pool,
    /// What is read whatever the index says.
    pub(crate) doubt: Doubt<'a>,
    /// Whether a file's mode says anything here: else what was executable stays it.
    pub(crate) keeps_modes: bool,
    /// Whether a file keeps its inode's number for as long as it is there.
    pub(crate) trusts_inodes: bool,
    /// For how long after its last time stamp a file may be written to without any sign of it, by one who has it mapped: in
    /// nanoseconds; `None`: for ever.
    pub(crate) unseen_for: Option<i64>,
    /// How coarse time stamps are, where no index says it.
    pub(crate) grain: i64,
    /// When this look began, by the filesystem's clock.
    pub(crate) looked_at: i64,
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
    /// How the folders look, by which the next look can spare them.
    pub(crate) folders: Folders,
    /// Folders that look otherwise than the index says.
    pub(crate) new_folders: Vec<RelPath>,
    /// Whether files that had to be asked about need not be any more, once it is known that they were.
    pub(crate) aged: bool,
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
    /// Whether an index of this look would spare the next one something.
    pub(crate) fn learned(&self) -> bool {
        let known = |path: &RelPath| self.folders.stamps.contains_key(path);
        !self.refreshed.is_empty() || self.aged || self.new_folders.iter().any(known)
    }

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
        let changed = std::mem::take(&mut self.changed);
        let paths: Vec<RelPath> = changed.iter().map(|(path, _)| path.clone()).collect();
        let mut entries = last.into_entries();
        let (of_entries, of_rows) = Splice::of(&entries, changed.into_iter()).unzip(|now: Box<(Entry, Row)>| *now);
        of_entries.apply(&mut entries);
        of_rows.apply(&mut rows);
        // Of a twin that has lost most of its files, the room of all of them would be kept.
        entries.shrink_to(entries.len() * 2);
        rows.shrink_to(rows.len() * 2);
        Ok((Listing::of_spliced(entries, &paths)?, rows))
    }
}

/// A file that must be read, and where it was in the last listing.
pub(super) struct Unread {
    pub(super) path: RelPath,
    /// Its place, and one: a great many may have to be read.
    last: Option<NonZeroU32>,
    pub(super) stat: Stat,
    pub(super) look: Look,
}

impl Unread {
    fn new(path: RelPath, last: Option<usize>, stat: Stat, look: Look) -> Self {
        let place = |at: usize| u32::try_from(at + 1).ok().and_then(NonZeroU32::new);
        Self { path, last: last.and_then(place), stat, look }
    }

    pub(super) fn last(&self) -> Option<usize> {
        self.last.map(|place| place.get() as usize - 1)
    }
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

/// What is seen that is not as it was.
#[derive(Default)]
pub(crate) struct Sight {
    pub(super) unread: Vec<Unread>,
    pub(super) gone: Vec<usize>,
    pub(super) other: Vec<(Entry, Row)>,
    pub(super) refreshed: Vec<(usize, Row)>,
    pub(super) not_taken: Vec<String>,
    /// How folders looked in which nothing is that can't be told.
    pub(super) stamps: Vec<(RelPath, Stamp)>,
    /// How many folders had to be listed.
    listed: usize,
    /// Those of them that look otherwise than the index says.
    pub(super) new: Vec<RelPath>,
    /// Folders that could not be listed: no listing has them, so that whatever is above must lead to them again.
    pub(super) untold: Vec<RelPath>,
    /// How much had been passed over before the folder at hand.
    told: usize,
    /// The device that the twin is on.
    pub(super) device: u64,
    /// Bytes that the folders themselves take on disk, as far as they could be opened.
    folders: u64,
}

impl Sight {
    /// Whether everything is as the index says.
    pub(crate) fn is_still(&self) -> bool {
        self.listed == 0
    }

    /// The folders, if everything is as the index says.
    pub(crate) fn seen(&self) -> SeenFolders {
        let hold_more = self.stamps.iter().filter(|(_, stamp)| stamp.holds_more).map(|(path, _)| path.clone());
        SeenFolders { device: self.device, allocated: self.folders, hold_more: hold_more.collect() }
    }

    fn add(&mut self, other: Self) {
        take_over(&mut self.unread, other.unread);
        self.gone.extend(other.gone);
        self.other.extend(other.other);
        self.refreshed.extend(other.refreshed);
        self.not_taken.extend(other.not_taken);
        self.stamps.extend(other.stamps);
        self.listed += other.listed;
        self.new.extend(other.new);
        self.untold.extend(other.untold);
        self.folders += other.folders;
    }
}

/// Adds what is in `more`, from its end on and bit by bit: it may be as much as all that is there, and is not to be there twice.
fn take_over<T>(all: &mut Vec<T>, mut more: Vec<T>) {
    const BIT: usize = 1 << 14;
    if all.is_empty() {
        *all = more;
        return;
    }
    all.reserve_exact(more.len());
    while !more.is_empty() {
        all.extend(more.drain(more.len().saturating_sub(BIT)..));
        more.shrink_to_fit();
    }
}

/// The number that a folder has in the index.
type Number = Option<u32>;

/// Goes through `game` and `home` below the twin's folder, and says what is not as it was.
pub(crate) fn sight(observer: &Observer<'_>, ctx: &Ctx) -> Result<Sight> {
    let device = disk::lstat(observer.folder).at("look at", observer.folder)?.dev;
    let mut all = Sight { device, ..Sight::default() };
    for root in ["game", "home"] {
        let folder = observer.folder.join(root);
        let lister = Lister::new(&folder, RelPath::new(root)?, Manner::Lenient);
        let number = observer.standing().and_then(|(_, standing)| standing.root(root));
        let workers = lister.crawl(
            number,
            |job, opened, worker, below| observer.spares(job, opened, worker, below),
            |job, names, worker, below| observer.visit(job, names, worker, below),
            ctx,
        )?;
        let bare = || observer.standing().zip(number).is_some_and(|((_, standing), root)| standing.is_bare(root));
        if workers.is_empty() && !bare() {
            all.gone.extend(observer.last.get()?.range(root));
            all.listed += 1;
        }
        for worker in workers {
            all.add(Sight { not_taken: worker.not_taken, ..worker.found });
        }
    }
    Ok(all)
}

impl<'a> Observer<'a> {
    fn is_scratch(&self, path: &RelPath) -> Result<bool> {
        Ok(self.sheet.get()?.as_ref().is_some_and(|sheet| sheet.is_scratch(path)))
    }

    /// The index, if it can stand by itself.
    fn standing(&self) -> Option<(&'a Index, &'a Standing)> {
        let (index, nothing) = (self.index?, matches!(self.doubt, Doubt::Nothing));
        let standing = index.standing.as_ref().filter(|standing| standing.looked.sheet == self.sheet_key)?;
        (nothing && self.trusts_inodes).then_some((index, standing))
    }

    /// Whether a folder and all that is in it look as the index says; then it need not be listed.
    fn spares(
        &self,
        job: &Job<Number>,
        opened: &Opened,
        worker: &mut Worker<Sight>,
        below: &mut Below<Number>,
    ) -> Option<u64> {
        worker.found.told = worker.not_taken.len();
        let ((index, standing), folder) = (self.standing()?, job.about?);
        let stamp = standing.still(folder, &opened.stat)?;
        let entries = standing.entries(folder);
        for &entry in entries {
            let name = standing.entry_name(entry)?;
            let row = index.rows.get(entry as usize)?;
            if row.ino == 0 {
                // A folder that was empty is gone to itself.
                standing.folder_in(folder, name.to_str().ok()?)?;
                continue;
            }
            let stat = rustix::fs::statat(&*opened.folder, name, AtFlags::SYMLINK_NOFOLLOW).ok()?.into();
            let is_free = || self.is_free(opened, name, &stat);
            if !self.looks_as(index, standing, entry, row, &stat, is_free) {
                return None;
            }
        }
        for &folder in standing.folders(folder) {
            below.push((standing.folder_name(folder)?.into(), Some(folder)));
        }
        worker.found.stamps.push((job.path.clone(), stamp));
        worker.found.folders += opened.stat.allocated;
        Some(entries.len() as u64)
    }

    /// Whether an entry looks as the index says, in which what was told by its looks then can be told by them now.
    /// `is_free` says whether nobody has it in hands.
    fn looks_as(
        &self,
        index: &Index,
        standing: &Standing,
        entry: u32,
        row: &Row,
        stat: &Stat,
        is_free: impl FnOnce() -> bool,
    ) -> bool {
        if stat.dev != standing.looked.device || row.ino != stat.ino || self.aside.contains_key(&stat.ino) {
            return false;
        }
        let Some(placed) = standing.placed(entry) else { return false };
        match row.share {
            Some(Share::Link) => {
                self.ledger.holds_half(placed.half, stat)
                    && (!self.keeps_modes || stat.executable() == placed.executable)
            }
            Some(share) => {
                let written = matches!(share, Share::Own | Share::Arrived);
                let racy = row.racy(index.looked_at, standing.looked.grain);
                row.fits(stat) && !racy && (!written || !self.is_recent(stat, index) || is_free())
            }
            None => row.fits(stat),
        }
    }

    /// Whether a file could have been written to without any sign of it since the index was made.
    fn is_recent(&self, stat: &Stat, index: &Index) -> bool {
        self.unseen_for.is_none_or(|time| stat.ctime.saturating_add(time) >= index.looked_at)
    }

    /// Whether nobody has a recent file open for writing or mapped. One that need not be asked about any more is passed over:
    /// then the index is written anew, and says so.
    fn is_free(&self, opened: &Opened, name: &CStr, stat: &Stat) -> bool {
        let is_old = self.unseen_for.is_some_and(|time| stat.ctime.saturating_add(time) < self.looked_at);
        !is_old && disk::open_file(&*opened.folder, name).is_ok_and(|file| !disk::in_other_hands(&file))
    }

    /// Compares what is in a folder with what was.
    fn visit(
        &self,
        job: &Job<Number>,
        names: InFolder,
        worker: &mut Worker<Sight>,
        below: &mut Below<Number>,
    ) -> Result<()> {
        let sight = &mut worker.found;
        sight.listed += 1;
        let last = self.last.get()?;
        let mut range = last.range(job.path.as_str());
        let (names, stat) = match names {
            InFolder::Names(names, stat) => (names, stat),
            InFolder::Gone => {
                sight.gone.extend(range);
                return Ok(());
            }
            // What was in it counts as there: not to be able to look is not to see that nothing is there.
            InFolder::Untold => {
                sight.untold.push(job.path.clone());
                return Ok(());
            }
        };
        // The folder itself, if it was a file, a symlink or empty.
        let itself = last.entries()[range.clone()].first().filter(|entry| entry.path == job.path);
        let at = range.start;
        range.start += usize::from(itself.is_some());
        let mut groups = Groups { entries: last.entries(), prefix: job.path.as_str().len() + 1, range };
        let (mut visible, mut holds_more) = (false, false);
        for name in names {
            let group = groups.skip_to(&name.name, &mut sight.gone);
            let seen = self.see(job, name, group, sight, below)?;
            (visible, holds_more) = (visible || seen, holds_more || !seen);
        }
        sight.gone.extend(groups.range);
        let stays = itself.is_some_and(|entry| entry.node == Node::EmptyFolder) && !visible;
        if let (Some(_), false) = (itself, stays) {
            sight.gone.push(at);
        }
        if !visible && !stays && !job.root {
            let entry = Entry { path: job.path.clone(), node: Node::EmptyFolder, mtime: stat.mtime };
            sight.other.push((entry, Row::default()));
        }
        if worker.not_taken.len() == sight.told {
            let stamp = Stamp::new(&stat, holds_more);
            sight.stamps.push((job.path.clone(), stamp));
            let before = self.standing().zip(job.about).and_then(|((_, at), folder)| at.still(folder, &stat));
            sight.new.extend((before != Some(stamp)).then(|| job.path.clone()));
        }
        Ok(())
    }

    /// Judges one name, which had `group` in the last listing; says whether it is part of the twin.
    fn see(
        &self,
        job: &Job<Number>,
        Name { name, behind, stat }: Name,
        group: Range<usize>,
        sight: &mut Sight,
        below: &mut Below<Number>,
    ) -> Result<bool> {
        let first = self.last.get()?.entries()[group.clone()].first();
        let leaf = first
            .filter(|entry| group.len() == 1 && entry.path.as_str().len() == job.path.as_str().len() + 1 + name.len());
        let path = leaf.map_or_else(|| job.path.join(&name), |entry| Ok(entry.path.clone()))?;
        if self.is_scratch(&path)? {
            sight.gone.extend(group);
            return Ok(false);
        }
        match (behind, leaf) {
            (Behind::Folder, _) => {
                let number = self.standing().zip(job.about).and_then(|((_, at), folder)| at.folder_in(folder, &name));
                below.push((name, number));
            }
            (Behind::Other(Kind::File), Some(entry)) => match self.know(entry, group.start, &stat) {
                Known::AsItWas => {}
                Known::Looks(row) => sight.refreshed.push((group.start, row)),
                Known::Unless(look) => {
                    sight.unread.push(Unread::new(path, Some(group.start), stat, look));
                }
            },
            (Behind::Other(Kind::File), None) => {
                sight.gone.extend(group);
                sight.unread.push(Unread::new(path, None, stat, Look::Unknown));
            }
            // It stays what it was: not to be able to look is not to see that nothing is there.
            (Behind::Untold, _) => {}
            (Behind::Other(kind), leaf) => {
                let node = match kind {
                    Kind::Symlink(target) => Node::Symlink { target },
                    _ => Node::EmptyFolder,
                };
                let row = Row::of_symlink(&stat);
                if leaf.is_none_or(|entry| entry.node != node) {
                    sight.gone.extend(group);
                    sight.other.push((Entry { path, node, mtime: stat.mtime }, row));
                } else if self.trusts_inodes && self.index.and_then(|index| index.rows.get(group.start)) != Some(&row) {
                    sight.refreshed.push((group.start, row));
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
        if !same || row.racy(index.looked_at, self.grain) {
            return unknown;
        }
        let now = Row::new(stat, share);
        let written = matches!(share, Share::Own | Share::Arrived);
        match (written && self.is_recent(stat, index), doubted, now == *row) {
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
