//! The pool against what is needed of it, and against the names of its files.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::fs::File;
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use rustix::fs::{AtFlags, Dir};

use super::{About, Checking, DamagedFile, Mend, Problem, Severity, Touched};
use crate::Yard;
use crate::disk::{self, Stat};
use crate::error::{PathContext, Result};
use crate::ident::{ContentId, ListingId};
use crate::parallel::{self, lock};
use crate::pool::{Pool, hash_unchanged};
use crate::progress::{Ctx, Phase};

/// A file of the pool.
struct PoolFile {
    content: ContentId,
    executable: bool,
    stat: Stat,
}

impl PoolFile {
    fn path(&self, root: &Path) -> PathBuf {
        root.join(Pool::name(self.content, self.executable))
    }
}

/// Contents that the same things need.
type ByNeed<T> = BTreeMap<Vec<Touched>, Vec<T>>;

impl Checking<'_> {
    /// The contents that are needed, or those that one stock build or twin needs as it is.
    pub(super) fn pool(&mut self, only: Option<&About>) -> Result<()> {
        let needed = self.yard.contents_needed(only)?;
        self.counts.contents = needed.len() as u64;
        let files = match only {
            None => self.whole_pool()?,
            Some(_) => self.yard.pool_files(needed.keys().copied().collect(), self.ctx)?,
        };
        let there: HashSet<ContentId> = files.iter().filter(|file| !file.executable).map(|file| file.content).collect();
        let missing: HashSet<ContentId> = needed.keys().copied().filter(|content| !there.contains(content)).collect();
        let mut damaged = self.wrong_sizes(&files, &needed);
        // A twin's own check reads its files, and with them what it links; a stock build has nothing but the pool.
        if self.options.full && !matches!(only, Some(About::Twin(_))) {
            let read = files.iter().filter(|file| !damaged.contains_key(&(file.content, file.executable)));
            damaged.extend(self.wrong_bytes(read.collect())?);
        }
        self.wrong.extend(damaged.values().map(|file| file.inode));
        self.missing(missing)?;
        self.damaged(damaged.into_values().collect())
    }

    fn whole_pool(&mut self) -> Result<Vec<PoolFile>> {
        let mut folders = Vec::new();
        for first in 0..=255u8 {
            let folder = self.yard.pool.root().join(format!("{first:02x}"));
            if folder.is_dir() {
                folders.push(folder);
            } else {
                self.found(Severity::Wrong, &About::Yard, Problem::PoolFolder { folder }, Mend::Safe);
            }
        }
        let files = Mutex::new(Vec::new());
        parallel::for_each(
            &folders,
            self.ctx.threads(),
            || (),
            |(), folder| {
                self.ctx.check()?;
                let found = list(folder)?;
                lock(&files).extend(found);
                Ok(())
            },
        )?;
        let files = files.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner);
        self.unguarded(&files)?;
        Ok(files)
    }

    /// Files of the pool that may be written to, where modes say anything.
    fn unguarded(&mut self, files: &[PoolFile]) -> Result<()> {
        let open = |file: &&PoolFile| file.stat.mode & 0o222 != 0;
        let paths: Vec<PathBuf> = files.iter().filter(open).map(|file| file.path(self.yard.pool.root())).collect();
        if !paths.is_empty() && disk::keeps_modes(self.yard.begin(self.ctx)?.path())? {
            self.found(Severity::Wrong, &About::Yard, Problem::Unguarded { paths }, Mend::Safe);
        }
        Ok(())
    }

    fn wrong_sizes(
        &self,
        files: &[PoolFile],
        needed: &HashMap<ContentId, u64>,
    ) -> BTreeMap<(ContentId, bool), DamagedFile> {
        let wrong = files.iter().filter_map(|file| {
            let should = *needed.get(&file.content)?;
            let why = format!("it has {} bytes and should have {should}", file.stat.size);
            (file.stat.size != should).then(|| ((file.content, file.executable), damaged(file, why)))
        });
        wrong.collect()
    }

    /// Reads files, the largest first, and says which don't hold what their names say.
    fn wrong_bytes(&mut self, mut files: Vec<&PoolFile>) -> Result<BTreeMap<(ContentId, bool), DamagedFile>> {
        let large = |file: &PoolFile| Some(file.stat.size).filter(|&size| size >= disk::LARGE);
        files.sort_unstable_by_key(|file| (std::cmp::Reverse(large(file)), file.content));
        let bytes = files.iter().map(|file| file.stat.size).sum();
        let (wrong, right) = (Mutex::new(BTreeMap::new()), Mutex::new(HashSet::new()));
        let (ctx, root) = (self.ctx, self.yard.pool.root());
        ctx.phase(Phase::Checking, files.len() as u64, bytes, || {
            parallel::for_each(
                &files,
                ctx.threads(),
                || vec![0; disk::BUFFER],
                |buffer, file| {
                    match reads_as(&file.path(root), buffer, ctx) {
                        Ok(content) if content == file.content => drop(lock(&right).insert(file.stat.ino)),
                        Ok(_) => drop(lock(&wrong).insert(
                            (file.content, file.executable),
                            damaged(file, "other bytes than its name says".into()),
                        )),
                        Err(error @ crate::Error::Cancelled) => return Err(error),
                        Err(error) => drop(
                            lock(&wrong)
                                .insert((file.content, file.executable), damaged(file, super::records::text(&error))),
                        ),
                    }
                    ctx.progress().advance(1, file.stat.size);
                    Ok(())
                },
            )
        })?;
        self.right.extend(right.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner));
        Ok(wrong.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner))
    }

    fn missing(&mut self, missing: HashSet<ContentId>) -> Result<()> {
        let mut touched = self.yard.touched(&missing)?;
        let mut by_need: ByNeed<ContentId> = BTreeMap::new();
        for content in missing {
            by_need.entry(touched.remove(&content).unwrap_or_default()).or_default().push(content);
        }
        for (touches, mut contents) in by_need {
            contents.sort_unstable();
            let mend = self.contents_mend(&contents, &touches)?;
            self.found(Severity::Damaged, &About::Yard, Problem::ContentMissing { contents, touches }, mend);
        }
        Ok(())
    }

    fn damaged(&mut self, damaged: Vec<DamagedFile>) -> Result<()> {
        let contents = damaged.iter().map(|file| file.content).collect();
        let touched = self.yard.touched(&contents)?;
        let mut by_need: ByNeed<DamagedFile> = BTreeMap::new();
        for file in damaged {
            by_need.entry(touched.get(&file.content).cloned().unwrap_or_default()).or_default().push(file);
        }
        for (touches, files) in by_need {
            let contents: Vec<_> = files.iter().map(|file| file.content).collect();
            let (severity, mend) = if touches.is_empty() {
                (Severity::Note, Mend::Safe)
            } else {
                (Severity::Damaged, self.contents_mend(&contents, &touches)?)
            };
            self.found(severity, &About::Yard, Problem::ContentDamaged { files, touches }, mend);
        }
        Ok(())
    }

    /// What brings contents back: another file that should hold the same, or taking a build in again.
    fn contents_mend(&self, contents: &[ContentId], touches: &[Touched]) -> Result<Mend> {
        let sources = self.yard.sources(&contents.iter().copied().collect(), &self.wrong)?;
        if !self.options.from.is_empty() || contents.iter().any(|content| sources.contains_key(content)) {
            return Ok(Mend::Safe);
        }
        for touched in touches {
            if let About::Stock(build) = &touched.about
                && let Some(row) = self.yard.catalog.stock(build)?
            {
                return Ok(Mend::TakeIn { build: row.build, source: row.source.into() });
            }
        }
        Ok(Mend::Elsewhere)
    }
}

impl Yard {
    /// The contents that everything needs, or one thing as it is, with their sizes. Listings that can't be read are passed
    /// over.
    fn contents_needed(&self, only: Option<&About>) -> Result<HashMap<ContentId, u64>> {
        let needs = self.needs()?;
        let listings: HashSet<ListingId> = needs
            .iter()
            .filter(|need| only.is_none_or(|only| need.about == *only && !need.earlier))
            .map(|need| need.listing)
            .collect();
        let mut contents = HashMap::new();
        self.each_readable(listings, |entry| {
            contents.extend(entry.node.content().map(|content| (content, entry.node.size())));
        });
        Ok(contents)
    }

    /// The pool's files of some contents, as far as they are there.
    fn pool_files(&self, contents: HashSet<ContentId>, ctx: &Ctx) -> Result<Vec<PoolFile>> {
        let pool = disk::open_folder(rustix::fs::CWD, self.pool.root()).at("open", self.pool.root())?;
        let mut contents: Vec<_> = contents.into_iter().collect();
        contents.sort_unstable();
        let chunks: Vec<_> = contents.chunks(512).collect();
        let files = Mutex::new(Vec::with_capacity(contents.len()));
        parallel::for_each(
            &chunks,
            ctx.threads(),
            || (),
            |(), chunk| {
                ctx.check()?;
                let look = |content: &ContentId| {
                    let stat =
                        rustix::fs::statat(&pool, Pool::name(*content, false), AtFlags::SYMLINK_NOFOLLOW).ok()?;
                    Some(PoolFile { content: *content, executable: false, stat: stat.into() })
                };
                let found: Vec<_> = chunk.iter().filter_map(look).collect();
                lock(&files).extend(found);
                Ok(())
            },
        )?;
        Ok(files.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner))
    }
}

/// The contents in one folder of the pool; what is no content's name is passed over: a sweep takes it away.
fn list(folder: &Path) -> Result<Vec<PoolFile>> {
    let fd = disk::open_folder(rustix::fs::CWD, folder).at("open", folder)?;
    let mut files = Vec::new();
    for entry in Dir::read_from(&fd).at("list", folder)? {
        let entry = entry.at("list", folder)?;
        let Ok(name) = entry.file_name().to_str() else { continue };
        let (id, executable) = name.strip_suffix(".x").map_or((name, false), |id| (id, true));
        let Ok(content) = id.parse() else { continue };
        let stat = rustix::fs::statat(&fd, name, AtFlags::SYMLINK_NOFOLLOW).at("look at", folder.join(name))?;
        files.push(PoolFile { content, executable, stat: stat.into() });
    }
    Ok(files)
}

fn damaged(file: &PoolFile, why: String) -> DamagedFile {
    DamagedFile { content: file.content, executable: file.executable, why, inode: file.stat.ino }
}

/// The content that a file holds.
pub(super) fn reads_as(path: &Path, buffer: &mut [u8], ctx: &Ctx) -> Result<ContentId> {
    let file: File = disk::open_file(rustix::fs::CWD, path).at("read", path)?;
    let stat = disk::fstat(&file).at("look at", path)?;
    hash_unchanged(&file, &stat, path, buffer, ctx)
}
