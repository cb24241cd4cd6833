//! The pool against what is needed of it, and against the names of its files.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use rustix::fs::{AtFlags, Dir};

use super::{About, Checker, DamagedFile, Mend, Problem, Severity, Touched};
use crate::Yard;
use crate::catalog::TwinRow;
use crate::check::touched;
use crate::disk::{self, Stat};
use crate::error::{PathContext, Result};
use crate::ident::{ContentId, ListingId};
use crate::listing::Entry;
use crate::parallel::{self, lock};
use crate::progress::{Ctx, Phase};
use crate::store::pool::{Ledger, Pool, Share, reads_as};
use crate::twin::sources;

/// A content that is needed.
#[derive(Clone, Copy)]
struct Need {
    content: ContentId,
    size: u64,
    /// The inode of a file that links it, which somebody else looks at; 0 if there is none.
    linked: u64,
}

/// A file of the pool.
struct PoolFile {
    content: ContentId,
    executable: bool,
    ino: u64,
    size: u64,
}

impl PoolFile {
    fn path(&self, root: &Path) -> PathBuf {
        root.join(Pool::name(self.content, self.executable))
    }

    fn damaged(&self, why: String) -> DamagedFile {
        DamagedFile { content: self.content, executable: self.executable, why, inode: self.ino }
    }
}

/// What was found in folders of the pool.
#[derive(Default)]
struct InFolders {
    /// Those that are read if all is.
    files: Vec<PoolFile>,
    missing: HashSet<ContentId>,
    damaged: Vec<DamagedFile>,
    unguarded: Vec<PathBuf>,
}

impl InFolders {
    fn add(&mut self, other: Self) {
        self.files.extend(other.files);
        self.missing.extend(other.missing);
        self.damaged.extend(other.damaged);
        self.unguarded.extend(other.unguarded);
    }
}

/// Contents that the same things need.
type ByNeed<T> = BTreeMap<Vec<Touched>, Vec<T>>;

impl Checker<'_> {
    /// The contents that are needed, or those that one stock build or twin needs as it is.
    pub(super) fn pool(&mut self, only: Option<&About>) -> Result<()> {
        let needs = contents_needed(self.yard, only)?;
        self.counts.contents = needs.len() as u64;
        let mut found = pool_folders(self.yard, &needs, only.is_none(), self.ctx)?;
        // A twin's own check reads its files, and with them what it links; a stock build has nothing but the pool.
        if self.options.full && !matches!(only, Some(About::Twin(_))) {
            let files = std::mem::take(&mut found.files);
            found.damaged.extend(self.wrong_bytes(files)?);
        }
        self.wrong.extend(found.damaged.iter().map(|file| file.inode));
        distrust(self.yard, found.damaged.iter().map(|file| file.inode), self.ctx)?;
        self.unguarded(found.unguarded)?;
        self.missing(found.missing)?;
        found.damaged.sort_by_key(|file| (file.content, file.executable));
        self.damaged(found.damaged)
    }

    /// Files that may be written to, where modes say anything.
    fn unguarded(&mut self, mut unguarded: Vec<PathBuf>) -> Result<()> {
        unguarded.sort();
        if !unguarded.is_empty() && disk::keeps_modes(self.yard.begin(self.ctx)?.path())? {
            self.found(Severity::Wrong, &About::Yard, Problem::Unguarded { paths: unguarded }, Mend::Safe);
        }
        Ok(())
    }

    /// Reads files, the largest first, and says which don't hold what their names say.
    fn wrong_bytes(&mut self, mut files: Vec<PoolFile>) -> Result<Vec<DamagedFile>> {
        let large = |file: &PoolFile| Some(file.size).filter(|&size| size >= disk::LARGE);
        files.sort_unstable_by_key(|file| (std::cmp::Reverse(large(file)), file.content));
        let bytes = files.iter().map(|file| file.size).sum();
        let (wrong, right) = (Mutex::new(Vec::new()), Mutex::new(HashSet::new()));
        let (ctx, root) = (self.ctx, self.yard.store.pool.root());
        let work = |buffer: &mut Vec<u8>, file: &PoolFile| {
            let read = ctx.file(file.size, |ctx| Ok(reads_as(&file.path(root), buffer, ctx)))?;
            match read {
                Ok(content) if content == file.content => drop(lock(&right).insert(file.ino)),
                Ok(_) => lock(&wrong).push(file.damaged("other bytes than its name says".into())),
                Err(error @ crate::Error::Cancelled) => return Err(error),
                Err(error) => lock(&wrong).push(file.damaged(super::records::text(&error))),
            }
            Ok(())
        };
        ctx.phase(Phase::Checking, files.len() as u64, bytes, || {
            parallel::for_each(&files, ctx.threads(), || vec![0; disk::BUFFER], work)
        })?;
        self.right.extend(parallel::into_inner(right));
        Ok(parallel::into_inner(wrong))
    }

    fn missing(&mut self, missing: HashSet<ContentId>) -> Result<()> {
        let mut touched = touched::touched(self.yard, &missing)?;
        let sources = sources::sources(self.yard, &missing, &self.wrong)?;
        let mut by_need: ByNeed<ContentId> = BTreeMap::new();
        for content in missing {
            by_need.entry(touched.remove(&content).unwrap_or_default()).or_default().push(content);
        }
        for (touches, mut contents) in by_need {
            contents.sort_unstable();
            let mend = self.contents_mend(&contents, &touches, &sources)?;
            self.found(Severity::Damaged, &About::Yard, Problem::ContentMissing { contents, touches }, mend);
        }
        Ok(())
    }

    fn damaged(&mut self, damaged: Vec<DamagedFile>) -> Result<()> {
        let contents = damaged.iter().map(|file| file.content).collect();
        let touched = touched::touched(self.yard, &contents)?;
        let sources = sources::sources(self.yard, &contents, &self.wrong)?;
        let mut by_need: ByNeed<DamagedFile> = BTreeMap::new();
        for file in damaged {
            by_need.entry(touched.get(&file.content).cloned().unwrap_or_default()).or_default().push(file);
        }
        for (touches, files) in by_need {
            let contents: Vec<_> = files.iter().map(|file| file.content).collect();
            let (severity, mend) = if touches.is_empty() {
                (Severity::Note, Mend::Safe)
            } else {
                (Severity::Damaged, self.contents_mend(&contents, &touches, &sources)?)
            };
            self.found(severity, &About::Yard, Problem::ContentDamaged { files, touches }, mend);
        }
        Ok(())
    }

    /// What brings contents back: another file that should hold the same, or taking a build in again.
    fn contents_mend(
        &self,
        contents: &[ContentId],
        touches: &[Touched],
        sources: &HashMap<ContentId, Vec<PathBuf>>,
    ) -> Result<Mend> {
        if !self.options.from.is_empty() || contents.iter().any(|content| sources.contains_key(content)) {
            return Ok(Mend::Safe);
        }
        for touched in touches {
            if let About::Stock(build) = &touched.about
                && let Some(row) = self.yard.catalog.stock(build)?
            {
                return Ok(Mend::TakeIn { build: row.build, source: Some(row.source.into()) });
            }
        }
        Ok(Mend::Elsewhere)
    }
}

/// From now on, files of the pool that were found damaged are read before anything is made of them. Only the ledger is
/// written, which is advisory.
fn distrust(yard: &Yard, inodes: impl Iterator<Item = u64>, ctx: &Ctx) -> Result<()> {
    let mut inodes = inodes.peekable();
    if inodes.peek().is_none() {
        return Ok(());
    }
    let op = yard.begin(ctx)?;
    let _alone = yard.alone(ctx)?;
    let ledger = Ledger::load(&yard.store.pool)?;
    inodes.for_each(|inode| ledger.forget(inode));
    ledger.save(op.path())
}

/// The contents that everything needs, or one thing as it is, in the order of their ids. Listings that can't be read are
/// passed over.
fn contents_needed(yard: &Yard, only: Option<&About>) -> Result<Vec<Need>> {
    let mut needs = Vec::new();
    if let Some(About::Twin(name)) = only {
        needs = contents_of_twin(yard, &yard.twin_row(name, false)?)?;
    } else {
        let wanted = touched::needs(yard)?.into_iter();
        let wanted = wanted.filter(|need| only.is_none_or(|only| need.about == *only && !need.earlier));
        let listings: HashSet<ListingId> = wanted.map(|need| need.listing).collect();
        yard.store.each_readable(listings, |entry| {
            let content = entry.node.content();
            needs.extend(content.map(|content| Need { content, size: entry.node.size(), linked: 0 }));
        })?;
    }
    needs.sort_unstable_by_key(|need| need.content);
    needs.dedup_by_key(|need| need.content);
    Ok(needs)
}

/// The contents of a twin, with the inodes that those had at the last look which it links.
fn contents_of_twin(yard: &Yard, row: &TwinRow) -> Result<Vec<Need>> {
    let Ok(state) = yard.store.state(row.state) else { return Ok(Vec::new()) };
    let Ok(listing) = yard.store.listing(state.disk) else { return Ok(Vec::new()) };
    let index = yard.index(&yard.folder_of(row), &state, listing.entries().len())?;
    let rows = index.map(|index| index.rows).unwrap_or_default();
    let need = |(at, entry): (usize, &Entry)| {
        let row = rows.get(at).filter(|row| row.share == Some(Share::Link));
        Some(Need { content: entry.node.content()?, size: entry.node.size(), linked: row.map_or(0, |row| row.ino) })
    };
    Ok(listing.entries().iter().enumerate().filter_map(need).collect())
}

/// Looks through the pool for what is needed; at `all` that is in it, or else only at that.
fn pool_folders(yard: &Yard, needs: &[Need], all: bool, ctx: &Ctx) -> Result<InFolders> {
    let folders: Vec<u8> = (0..=255).collect();
    let (found, root) = (Mutex::new(InFolders::default()), yard.store.pool.root());
    parallel::for_each(
        &folders,
        ctx.threads(),
        || (),
        |(), &first| {
            ctx.check()?;
            let folder = root.join(format!("{first:02x}"));
            let begin = needs.partition_point(|need| need.content.as_bytes()[0] < first);
            let end = needs.partition_point(|need| need.content.as_bytes()[0] <= first);
            let here = look(&folder, &needs[begin..end], all)?;
            lock(&found).add(here);
            Ok(())
        },
    )?;
    Ok(parallel::into_inner(found))
}

/// Looks at one folder of the pool. What is no content's name is passed over: a sweep takes it away.
fn look(folder: &Path, needs: &[Need], all: bool) -> Result<InFolders> {
    let mut here = InFolders::default();
    let mut there = vec![false; needs.len()];
    if folder.is_dir() {
        let fd = disk::open_folder(rustix::fs::CWD, folder).at("open", folder)?;
        for entry in Dir::read_from(&fd).at("list", folder)? {
            let entry = entry.at("list", folder)?;
            let Ok(name) = entry.file_name().to_str() else { continue };
            let (id, executable) = name.strip_suffix(".x").map_or((name, false), |id| (id, true));
            let Ok(content) = id.parse::<ContentId>() else { continue };
            let need = needs.binary_search_by_key(&content, |need| need.content).ok();
            if let Some(at) = need.filter(|_| !executable) {
                there[at] = true;
            }
            let linked = need.is_some_and(|at| needs[at].linked == entry.ino());
            if all || (need.is_some() && !linked) {
                let stat = rustix::fs::statat(&fd, entry.file_name(), AtFlags::SYMLINK_NOFOLLOW);
                let stat = Stat::from(stat.at("look at", folder.join(name))?);
                here.see(folder.join(name), &stat, content, executable, need.map(|at| needs[at].size));
            }
        }
    }
    here.missing.extend(needs.iter().zip(there).filter(|(_, there)| !there).map(|(need, _)| need.content));
    Ok(here)
}

impl InFolders {
    /// Takes down what a file of the pool looks like, which should have so many bytes if it is needed.
    fn see(&mut self, path: PathBuf, stat: &Stat, content: ContentId, executable: bool, size: Option<u64>) {
        let file = PoolFile { content, executable, ino: stat.ino, size: stat.size };
        if stat.mode & 0o222 != 0 {
            self.unguarded.push(path);
        }
        match size.filter(|size| *size != stat.size) {
            Some(size) => {
                let why = format!("it has {} bytes and should have {size}", stat.size);
                self.damaged.push(file.damaged(why));
            }
            None => self.files.push(file),
        }
    }
}
