//! Reads the files that a settle knows nothing about, and tells what each has to do with the pool.

use std::collections::HashMap;
use std::fs::File;
use std::io;
use std::os::fd::BorrowedFd;
use std::path::Path;
use std::sync::Mutex;

use super::Row;
use super::quick::{Found, Leak, Lifted, Look, Observer, Sight, Unread};
use super::standing::Looked;
use crate::disk::{self, Folders, Stat};
use crate::error::{Error, IntakeError, Result};
use crate::ident::ContentId;
use crate::listing::{Entry, Listing, Node};
use crate::parallel;
use crate::path::RelPath;
use crate::progress::{Ctx, Phase};
use crate::store::pool::{Putter, Share, hash_unchanged};

/// How often a file is read again that changes while it is being read.
const TRIES: usize = 3;

/// Reads what a look at a twin could not tell.
pub(crate) struct Reading<'a> {
    pub(crate) observer: &'a Observer<'a>,
    /// Where what is new goes; without one it is only read.
    pub(crate) putter: Option<&'a Putter<'a>>,
    /// What was there the last time.
    last: &'a Listing,
}

impl<'a> Reading<'a> {
    pub(crate) fn new(observer: &'a Observer<'a>, putter: Option<&'a Putter<'a>>) -> Result<Self> {
        Ok(Self { observer, putter, last: observer.last.get()? })
    }

    /// Reads what nothing is known about, and stages new contents with the putter, which stays to be published.
    pub(crate) fn settle(&self, sight: Sight, ctx: &Ctx) -> Result<Found> {
        let mut found = Found { looked_at: self.observer.looked_at, ..Found::default() };
        self.stamp(&sight, &mut found);
        let Sight { unread, gone, other, refreshed, not_taken, .. } = sight;
        let path = |at: usize| self.last.entries()[at].path.clone();
        found.changed.extend(gone.into_iter().map(|at| (path(at), None)));
        found.changed.extend(other.into_iter().map(|(entry, row)| (entry.path.clone(), Some(Box::new((entry, row))))));
        (found.refreshed, found.not_taken) = (refreshed, not_taken);
        self.read_unknown(unread, &mut found, ctx)?;
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

    /// How folders look by which the next look can spare them: where no change since can have the same time stamp.
    fn stamp(&self, sight: &Sight, found: &mut Found) {
        let Observer { trusts_inodes, sheet_key: sheet, .. } = *self.observer;
        let looked = Looked { device: sight.device, grain: self.observer.grain, sheet, quiet: false };
        found.folders.looked = looked;
        if trusts_inodes {
            let known = sight.stamps.iter().filter(|(_, stamp)| !looked.racy(*stamp, self.observer.looked_at));
            found.folders.stamps = known.cloned().collect();
            found.folders.doubt(sight.untold.iter());
        }
        found.new_folders.clone_from(&sight.new);
    }

    /// Leaves out of what is to be read what turns out to be known.
    fn leave_out_known(&self, unread: &mut Vec<Unread>) -> Result<()> {
        // Linking and unlinking happen under the exclusive lock, and the ledger is written before it is released.
        let again = if unread.iter().any(|name| name.look == Look::Shared) {
            Some((self.observer.ledger_again)()?)
        } else {
            None
        };
        let mut reader = Reader::new(self.observer.folder);
        unread.retain_mut(|name| {
            let known = match (name.look, &again) {
                (Look::Unknown | Look::Doubted, _) | (Look::Shared, None) => false,
                (Look::Recent, _) => {
                    let opened = reader.open(&name.path, false);
                    opened.is_ok_and(|file| !disk::in_other_hands(&file))
                }
                (Look::Shared, Some((_, ledger))) => {
                    let entry = name.last().map(|at| &self.last.entries()[at].node);
                    let looked = reader.folder(&name.path).and_then(|folder| disk::stat_at(folder, name.path.name()));
                    match (entry, looked) {
                        (Some(Node::File { content, executable, .. }), Ok(stat)) => {
                            name.stat = stat;
                            ledger.holds(*content, &stat)
                                && (!self.observer.keeps_modes || stat.executable() == *executable)
                        }
                        _ => false,
                    }
                }
            };
            !known
        });
        Ok(())
    }

    /// Reads the files that nothing is known about; each inode once.
    fn read_unknown(&self, mut unread: Vec<Unread>, found: &mut Found, ctx: &Ctx) -> Result<()> {
        // Once it is long enough ago, the next look need not ask.
        let unseen = |name: &Unread| self.observer.unseen_for.map(|time| name.stat.ctime.saturating_add(time));
        found.aged = unread
            .iter()
            .any(|name| name.look == Look::Recent && unseen(name).is_some_and(|until| until < self.observer.looked_at));
        self.leave_out_known(&mut unread)?;
        found.read = unread.len();
        let inode = |name: &Unread| (name.stat.dev, name.stat.ino);
        let mut more = HashMap::<_, Vec<Unread>>::new();
        let (mut again, mut at) = (further_names(&unread).into_iter().peekable(), 0);
        for name in unread.extract_if(.., |_| {
            at += 1;
            again.next_if_eq(&(at - 1)).is_some()
        }) {
            more.entry(inode(&name)).or_default().push(name);
        }
        let mut large: Vec<Unread> = unread.extract_if(.., |name| name.stat.size >= disk::LARGE).collect();
        let small = unread;
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
                read.push(ctx.file(name.stat.size, |ctx| self.read(name, reader, ctx))?);
            }
            let mut found = parallel::lock(&done);
            for (name, read) in batch.iter().zip(&read) {
                let others = more.get(&inode(name)).into_iter().flatten();
                [name].into_iter().chain(others).try_for_each(|name| self.take_down(name, read, &mut found))?;
            }
            Ok(())
        };
        let phase = if self.putter.is_some() { Phase::Storing } else { Phase::Checking };
        ctx.phase(phase, count as u64, bytes, || {
            parallel::for_each(&batches, ctx.threads(), || Reader::new(self.observer.folder), work)
        })
    }

    /// What was read of a file becomes part of what was found.
    fn take_down(&self, name: &Unread, read: &Read, found: &mut Found) -> Result<()> {
        let last = name.last().map(|at| (at, &self.last.entries()[at]));
        let (content, stat, given) = match read {
            Read::Content { content, stat, given } => (*content, *stat, *given),
            Read::Gone => {
                found.changed.extend(last.map(|(_, entry)| (entry.path.clone(), None)));
                return Ok(());
            }
            Read::NotTaken(why) => {
                // What it holds is not known: it counts as what it was, and is looked at again, also where it is new.
                found.folders.doubt(std::iter::once(&name.path));
                found.refreshed.extend(last.map(|(at, _)| (at, Row::default())));
                found.not_taken.push(why.clone());
                return Ok(());
            }
        };
        if self.is_confirmed(name, content) {
            return Ok(());
        }
        let bond = self.bond(name, content, &stat)?;
        match &bond {
            Bond::Wrong { right } => {
                found.leaks.push(Leak { path: name.path.clone(), inode: stat.ino, right: *right });
            }
            Bond::Pool { executable } if given || !self.looks_guarded(content, *executable, &stat) => {
                let asked = (self.observer.keeps_modes && stat.executable() != *executable).then(|| stat.executable());
                found.lifted.push(Lifted { path: name.path.clone(), content, read: stat, asked });
            }
            Bond::Pool { .. } => self.observer.ledger.set(content, &stat),
            Bond::Own { .. } => {}
        }
        let (entry, row) = self.entry(name, content, &stat, &bond);
        match last {
            Some((at, before)) if before.node == entry.node => {
                let known = self.observer.index.is_some_and(|index| {
                    index.rows.get(at) == Some(&row) && !row.racy(index.looked_at, self.observer.grain)
                });
                found.refreshed.extend((!known).then_some((at, row)));
            }
            _ => found.changed.push((entry.path.clone(), Some(Box::new((entry, row))))),
        }
        Ok(())
    }

    /// Whether reading a file has shown what was known of it: how it looks has vouched for the rest.
    fn is_confirmed(&self, name: &Unread, content: ContentId) -> bool {
        let before = name.last().and_then(|at| self.last.entries()[at].node.content());
        name.look == Look::Doubted && before == Some(content)
    }

    /// What a file that was read has to do with the pool.
    fn bond(&self, name: &Unread, content: ContentId, stat: &Stat) -> Result<Bond> {
        if let Some(&right) = self.observer.aside.get(&stat.ino) {
            return Ok(Bond::Wrong { right });
        }
        let before = name.last().and_then(|at| Some((self.last.entries()[at].node.content()?, at)));
        let row = before.and_then(|(_, at)| self.observer.index?.rows.get(at)).filter(|row| row.ino == stat.ino);
        if let Some((right, _)) = before.filter(|(before, _)| *before != content)
            && (row.is_some_and(|row| row.share == Some(Share::Link)) || self.pool_file(right, stat)?.is_some())
        {
            return Ok(Bond::Wrong { right });
        }
        if let Some(executable) = self.pool_file(content, stat)? {
            return Ok(Bond::Pool { executable });
        }
        let same = before.is_some_and(|(before, _)| before == content);
        // Only as long as the bytes are those of before does the way they are shared still hold.
        let share = row.and_then(|row| row.share).filter(|share| same && *share != Share::Link);
        Ok(Bond::Own { share: share.unwrap_or(Share::Own) })
    }

    /// Whether an inode is the pool's own file of a content: the one for executables, or the other.
    fn pool_file(&self, content: ContentId, stat: &Stat) -> Result<Option<bool>> {
        if stat.nlink < 2 || !self.observer.ledger.is_beside(stat) {
            return Ok(None);
        }
        Ok(self.observer.pool.file_with(content, stat.ino)?.map(|path| path.extension().is_some()))
    }

    /// Whether a linked file has the guard, and the time, that the pool's file has.
    fn looks_guarded(&self, content: ContentId, executable: bool, stat: &Stat) -> bool {
        let guarded = if executable { 0o555 } else { 0o444 };
        let looked = self.observer.ledger.looked(stat).filter(|looked| looked.is_of(content));
        (!self.observer.keeps_modes || stat.mode & 0o7777 == guarded)
            && looked.is_none_or(|looked| looked.mtime == stat.mtime)
    }

    fn entry(&self, name: &Unread, content: ContentId, stat: &Stat, bond: &Bond) -> (Entry, Row) {
        let before = name.last().map(|at| &self.last.entries()[at]);
        let as_before = before.filter(|before| before.node.content() == Some(content));
        let executable = match (bond, before.map(|before| &before.node)) {
            (Bond::Pool { executable }, _) => *executable,
            (_, Some(Node::File { executable, .. })) if !self.observer.keeps_modes => *executable,
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
        let path = name.path.below(self.observer.folder);
        let (mut last, mut stat) = (None, name.stat);
        for _ in 0..TRIES {
            // The mode of a shared file is the pool's to say.
            let opened = reader.open(&name.path, name.look == Look::Shared && self.putter.is_some());
            let file = match opened {
                Ok(file) => file,
                Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Read::Gone),
                Err(error) if crate::error::is_lack(&error) => return Err(Error::io("open", &path, error)),
                Err(error) => return Ok(Read::NotTaken(format!("{} ({error})", path.display()))),
            };
            if name.look != Look::Doubted && disk::in_other_hands(&file) {
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
                    let ask = stat.nlink > 1 && !self.is_confirmed(name, content);
                    let names = if ask { disk::attributes(&file) } else { Ok(Vec::new()) };
                    let names = names.map_err(|error| Error::io("look at the attributes of", &path, error))?;
                    let given = disk::given(&names).next().is_some();
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

/// Which of some files are further names of one that comes before: a great many names may be looked at, most of them alone.
fn further_names(unread: &[Unread]) -> Vec<usize> {
    let inode = |at: &usize| (unread[*at].stat.dev, unread[*at].stat.ino);
    let mut linked: Vec<usize> = (0..unread.len()).filter(|at| unread[*at].stat.nlink > 1).collect();
    linked.sort_unstable_by_key(|at| (inode(at), *at));
    let mut further: Vec<usize> =
        linked.windows(2).filter(|pair| inode(&pair[0]) == inode(&pair[1])).map(|pair| pair[1]).collect();
    further.sort_unstable();
    further
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
            none => none.insert(Folders::new(self.root).map_err(Error::into_io)?),
        };
        folders.get(path.parent().unwrap_or_default()).map_err(Error::into_io)
    }

    /// Opens a file by its name in its folder; a missing read permission on a file of ours is put back.
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
