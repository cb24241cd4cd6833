//! Takes in what changed in a twin: lists it, reads only what can't be known from its index.

use std::collections::HashMap;
use std::io;
use std::path::Path;
use std::sync::Mutex;

use rustix::fs::CWD;

use super::{Index, Kind, Manner, Row, Seen, Walked, walk, without};
use crate::disk::{self, FsClock, Stat};
use crate::error::{Error, IntakeError, Result};
use crate::ident::ContentId;
use crate::listing::{Entry, Listing, Node};
use crate::parallel;
use crate::path::RelPath;
use crate::pool::{Pool, Putter, Share};
use crate::progress::Ctx;
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
    pub(crate) putter: &'a Putter<'a>,
    pub(crate) clock: &'a FsClock,
}

/// What is there now.
pub(crate) struct Found {
    pub(crate) listing: Listing,
    pub(crate) rows: Vec<Row>,
    pub(crate) looked_at: i64,
    /// Files that were read.
    pub(crate) read: usize,
    /// What no listing can hold, each with its reason.
    pub(crate) not_taken: Vec<String>,
    /// Linked files that someone wrote through their guard into the pool: path, and the content that is now wrong.
    pub(crate) leaks: Vec<(RelPath, ContentId)>,
}

/// A file that must be read, and every place among the seen that is one of its names.
struct Unread {
    seen: usize,
    names: Vec<usize>,
}

/// Lists `game` and `home` below the twin's folder and stages new contents with the putter, which stays to be published.
pub(crate) fn settle_folder(settling: &Settling<'_>, ctx: &Ctx) -> Result<Found> {
    let looked_at = settling.clock.now()?;
    let mut walked = Walked::default();
    for root in ["game", "home"] {
        let part = walk(&settling.folder.join(root), &RelPath::new(root)?, Manner::Lenient, ctx)?;
        walked.seen.extend(part.seen);
        walked.not_taken.extend(part.not_taken);
    }
    if let Some(sheet) = settling.sheet {
        walked.seen = without(walked.seen, |path| sheet.is_scratch(path))?;
    }
    let mut known: Vec<Option<(Entry, Row)>> = Vec::with_capacity(walked.seen.len());
    let mut last = settling.last.entries().iter().enumerate().peekable();
    for seen in &walked.seen {
        while last.next_if(|(_, entry)| entry.path < seen.path).is_some() {}
        let before = last.next_if(|(_, entry)| entry.path == seen.path);
        known.push(settling.know(seen, before));
    }
    let read = known.iter().filter(|known| known.is_none()).count();
    let leaks = settling.read_unknown(&mut walked, &mut known, ctx)?;
    let (entries, rows) = known.into_iter().flatten().unzip();
    Ok(Found { listing: Listing::new(entries)?, rows, looked_at, read, not_taken: walked.not_taken, leaks })
}

impl Settling<'_> {
    /// What stands at a seen path, if that can be told without reading it.
    fn know(&self, seen: &Seen, before: Option<(usize, &Entry)>) -> Option<(Entry, Row)> {
        let entry = |node| Entry { path: seen.path.clone(), node, mtime: seen.stat.mtime };
        match &seen.kind {
            Kind::Symlink(target) => return Some((entry(Node::Symlink { target: target.clone() }), Row::default())),
            Kind::EmptyFolder => return Some((entry(Node::EmptyFolder), Row::default())),
            Kind::File => {}
        }
        let (at, before) = before?;
        let (index, Node::File { content, size, .. }) = (self.index?, &before.node) else { return None };
        let row = index.rows.get(at)?;
        let racy = row.racy(index.looked_at, self.clock.grain());
        let same =
            (row.ino, *size, row.mtime, row.mode) == (seen.stat.ino, seen.stat.size, seen.stat.mtime, seen.stat.mode);
        if racy || !same || !self.ctime_explained(row, seen.stat.ctime) {
            return None;
        }
        let share = row.share?;
        let node = Node::File { content: *content, size: *size, executable: seen.stat.executable() };
        // All names of a linked file show one time: the pool's. The twin's own is the one in its listing.
        let mtime = if share == Share::Link { before.mtime } else { seen.stat.mtime };
        Some((Entry { path: seen.path.clone(), node, mtime }, Row::new(&seen.stat, share)))
    }

    fn ctime_explained(&self, row: &Row, ctime: i64) -> bool {
        let ours = || self.windows.iter().any(|&(start, end)| (start..=end).contains(&ctime));
        row.ctime == ctime || (row.share == Some(Share::Link) && ours())
    }

    fn read_unknown(
        &self,
        walked: &mut Walked,
        known: &mut [Option<(Entry, Row)>],
        ctx: &Ctx,
    ) -> Result<Vec<(RelPath, ContentId)>> {
        let mut unread: Vec<Unread> = Vec::new();
        let mut by_inode = HashMap::new();
        for (at, seen) in walked.seen.iter().enumerate().filter(|&(at, _)| known[at].is_none()) {
            let first = *by_inode.entry((seen.stat.dev, seen.stat.ino)).or_insert(unread.len());
            if first == unread.len() {
                unread.push(Unread { seen: at, names: Vec::new() });
            }
            unread[first].names.push(at);
        }
        if unread.is_empty() {
            return Ok(Vec::new());
        }
        let bytes = unread.iter().map(|u| walked.seen[u.seen].stat.size).sum();
        let results = Mutex::new((Vec::new(), Vec::new()));
        ctx.phase(crate::Phase::Storing, unread.len() as u64, bytes, || {
            parallel::for_each(
                &unread,
                ctx.threads(),
                || vec![0; disk::BUFFER],
                |buffer, unread| {
                    let seen = &walked.seen[unread.seen];
                    match self.read(seen, buffer, ctx)? {
                        Read::Content(content, stat) => parallel::lock(&results).0.push((&unread.names, content, stat)),
                        Read::Gone => {}
                        Read::NotTaken(why) => parallel::lock(&results).1.push(why),
                    }
                    ctx.progress().advance(1, seen.stat.size);
                    Ok(())
                },
            )
        })?;
        let (read, not_taken) = results.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner);
        let mut leaks = Vec::new();
        for (names, content, stat) in read {
            for &at in names {
                let (entry, row, leaked) = self.read_entry(&walked.seen[at], content, &stat);
                leaks.extend(leaked.map(|content| (entry.path.clone(), content)));
                known[at] = Some((entry, row));
            }
        }
        walked.not_taken.extend(not_taken);
        Ok(leaks)
    }

    /// The entry and row of a file that was read, and the content that it should still have if it is a leak.
    fn read_entry(&self, seen: &Seen, content: ContentId, stat: &Stat) -> (Entry, Row, Option<ContentId>) {
        let before = self.last.position(seen.path.as_str()).and_then(|at| {
            let row = *self.index?.rows.get(at)?;
            Some((&self.last.entries()[at], row)).filter(|(_, row)| row.ino == stat.ino)
        });
        let linked = self.is_pool_file(content, stat.ino);
        let (mut share, mut mtime, mut leaked) = (Share::Own, stat.mtime, None);
        if let Some((entry, row)) = before {
            let same = entry.node.content() == Some(content);
            match row.share {
                // The file still is the pool's, and its bytes are not: someone lifted the guard and wrote.
                Some(Share::Link) if !same => leaked = entry.node.content(),
                // All names of a linked file show one time: the pool's. The twin's own is the one in its listing.
                Some(Share::Link) => mtime = entry.mtime,
                // Only as long as the bytes are those of before does the way they are shared still hold.
                Some(before) if same => share = before,
                _ => {}
            }
        }
        if linked || leaked.is_some() {
            share = Share::Link;
        }
        let node = Node::File { content, size: stat.size, executable: stat.executable() };
        (Entry { path: seen.path.clone(), node, mtime }, Row::new(stat, share), leaked)
    }

    /// Whether an inode is the pool's own file of a content.
    fn is_pool_file(&self, content: ContentId, ino: u64) -> bool {
        [false, true].into_iter().any(|executable| {
            let path = self.pool.root().join(Pool::name(content, executable));
            disk::lstat(&path).is_ok_and(|stat| stat.ino == ino)
        })
    }

    fn read(&self, seen: &Seen, buffer: &mut [u8], ctx: &Ctx) -> Result<Read> {
        let path = seen.path.below(self.folder);
        let mut last = None;
        for _ in 0..TRIES {
            let file = match disk::open_file(CWD, &path) {
                Ok(file) => file,
                Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Read::Gone),
                Err(error) => return Ok(Read::NotTaken(format!("{} ({error})", path.display()))),
            };
            let stat = disk::fstat(&file).map_err(|error| Error::io("look at", &path, error))?;
            match self.putter.put(&file, &stat, &path, buffer, ctx) {
                Ok(content) => return Ok(Read::Content(content, stat)),
                Err(error @ Error::Intake(IntakeError::Changed(_))) => last = Some(error),
                Err(error) => return Err(error),
            }
        }
        tracing::debug!(?last, "a file changes faster than it can be read");
        Err(Error::Busy { what: path.display().to_string(), holders: Vec::new() })
    }
}

enum Read {
    Content(ContentId, Stat),
    Gone,
    NotTaken(String),
}
