//! Taking in: what lies in folders outside the yard becomes contents and a listing.

use std::collections::HashSet;
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::sync::atomic::{AtomicU64, Ordering};

use rustix::fs::CWD;
use serde::Serialize;

use crate::disk;
use crate::error::{IntakeError, PathContext, Result};
use crate::ident::ContentId;
use crate::link::{Fate, fate};
use crate::listing::{Entry, Listing, Node, Totals};
use crate::ops::intake::moving::Mover;
use crate::ops::intake::packed::Packed;
use crate::parallel::{self, lock};
use crate::path::RelPath;
use crate::placing::Named;
use crate::progress::{Ctx, Phase};
use crate::scan::{Kind, Manner, Seen, Sum, walk, walk_sum, without};
use crate::sheet::Sheet;
use crate::store::pool::Putter;
use crate::twin::private::{is_own, is_private};
use crate::yard::moved::Moving;

/// A folder that is taken in, and where what is in it goes. Archives that are laid over each other stand for one.
pub(crate) struct Part {
    pub(crate) folder: PathBuf,
    /// The same as it was named.
    pub(crate) named: PathBuf,
    pub(crate) prefix: RelPath,
}

/// What was there and is not kept, in counts of files.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub struct NotKept {
    /// Files of another owner than you.
    pub owners: u64,
    /// Files with a set-user-id, set-group-id or sticky bit, or without the right to write for their owner.
    pub modes: u64,
    /// Files with extended attributes or access control lists.
    pub attributes: u64,
    /// Files that were further names of another one: each is a file of its own now.
    pub hard_links: u64,
}

/// What is to be taken in, as it was seen.
pub(crate) struct SourceTree {
    parts: Vec<Part>,
    /// The archives that the first part is, if it is no folder.
    packed: Option<Packed>,
    pub(crate) seen: Vec<Seen>,
    sum: Sum,
    out: Out,
}

/// What is left out: what is worth nothing, some groups of belongings, and what was named.
#[derive(Default)]
pub(crate) struct Out {
    pub(crate) sheet: Option<Sheet>,
    pub(crate) groups: Vec<String>,
    /// What else is, by its path below the game folder.
    pub(crate) without: Named,
}

impl Out {
    fn has(&self, path: &RelPath) -> bool {
        let in_group = |sheet: &Sheet| {
            !self.groups.is_empty() && sheet.group_of(path).is_some_and(|group| self.groups.iter().any(|g| g == group))
        };
        let named = |below: &str| self.without.has(below, None);
        self.sheet.as_ref().is_some_and(|sheet| sheet.is_scratch(path) || in_group(sheet))
            || path.as_str().strip_prefix("game/").is_some_and(named)
    }
}

/// What was taken in.
pub(crate) struct StoredTree {
    pub(crate) listing: Listing,
    pub(crate) not_kept: NotKept,
    pub(crate) links: Links,
    /// What goes from the source, if it is taken away.
    pub(crate) moving: Vec<Moving>,
}

impl std::fmt::Debug for SourceTree {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("SourceTree").finish_non_exhaustive()
    }
}

impl SourceTree {
    /// Of what was seen by [`list`].
    pub(crate) fn new(parts: Vec<Part>, packed: Option<Packed>, seen: Vec<Seen>, out: Out) -> Result<Self> {
        let in_folder = |path: &RelPath| packed.is_none() || !path.is_at_or_below(&parts[0].prefix);
        let sum = Sum::of(&seen, |path| out.has(path) || !in_folder(path));
        let seen = without(seen, |path| out.has(path))?;
        Ok(Self { parts, packed, seen, sum, out })
    }

    /// The parts that are folders.
    fn folders(&self) -> &[Part] {
        &self.parts[usize::from(self.packed.is_some())..]
    }

    pub(crate) fn totals(&self) -> Totals {
        totals(&self.seen)
    }

    /// Files that nobody but their user may read, of the home and of belongings.
    pub(crate) fn private(&self) -> Vec<RelPath> {
        let sheet = self.out.sheet.as_ref();
        let private = |seen: &&Seen| matches!(seen.kind, Kind::File) && is_private(seen.stat.mode);
        // Where all are, a mask has it so, or the filesystem.
        let says_something: HashSet<u64> = self
            .seen
            .iter()
            .filter(|seen| matches!(seen.kind, Kind::File) && !private(seen))
            .map(|seen| seen.stat.dev)
            .collect();
        let of = self.seen.iter().filter(private).filter(|seen| says_something.contains(&seen.stat.dev));
        of.map(|seen| seen.path.clone()).filter(|path| is_own(path, sheet)).collect()
    }

    /// Reads everything, once; then looks at the source a second time. What goes from it is only worked out where it `moves`.
    ///
    /// # Errors
    /// [`IntakeError::Changed`] if anything is not as it was seen.
    pub(crate) fn read(
        &self,
        putter: &Putter<'_>,
        mover: Option<&Mover<'_>>,
        moves: bool,
        yard: &Path,
        ctx: &Ctx,
    ) -> Result<StoredTree> {
        let stored = store(self, putter, mover, ctx)?;
        let now = mover.map(|mover| mover.seen_now(&self.seen));
        look_again(self, now.as_deref(), ctx)?;
        let mut links = Links::default();
        let listing = links.listing(self, &stored.contents, yard)?;
        let adopts = |at| mover.is_some_and(|mover| mover.adopts(at));
        let now = now.as_deref().unwrap_or(&self.seen);
        let moving = if moves { self.moving(now, &stored.contents, adopts) } else { Vec::new() };
        Ok(StoredTree { listing, not_kept: stored.not_kept, links, moving })
    }

    /// The folder that becomes the game's.
    pub(crate) fn folder(&self) -> &Path {
        &self.parts[0].folder
    }

    /// Where something of it lies.
    pub(crate) fn on_disk(&self, path: &RelPath) -> PathBuf {
        source_path(&self.parts, path).0
    }

    /// What goes once it is taken in.
    fn moving(&self, now: &[Seen], contents: &[Option<ContentId>], adopts: impl Fn(usize) -> bool) -> Vec<Moving> {
        if let Some(packed) = &self.packed {
            return packed.moving();
        }
        let of = now.iter().enumerate().filter(|(_, seen)| seen.path.as_str().starts_with("game/"));
        of.map(|(at, seen)| Moving {
            path: self.on_disk(&seen.path),
            content: contents[at],
            own: adopts(at).then_some(seen.stat.ino),
            stat: Some(seen.stat),
        })
        .collect()
    }
}

/// Lists what is taken in strictly.
pub(crate) fn list(parts: &[Part], ctx: &Ctx) -> Result<Vec<Seen>> {
    let mut all = Vec::new();
    for part in parts {
        let (seen, _) = ctx.phase(Phase::Listing, 0, 0, || walk(&part.folder, &part.prefix, Manner::Strict, ctx))?;
        if !seen.iter().any(|seen| !matches!(seen.kind, Kind::EmptyFolder)) {
            return Err(IntakeError::Nothing(part.folder.clone()).into());
        }
        all.extend(seen);
    }
    Ok(all)
}

/// The listing of what was seen, before any content is known.
pub(crate) fn provisional(seen: &[Seen]) -> Result<Listing> {
    let unknown = ContentId::from_bytes([0; 32]);
    let entries = seen.iter().map(|seen| entry(seen, unknown));
    Listing::new(entries.collect())
}

fn totals(seen: &[Seen]) -> Totals {
    seen.iter().fold(Totals::default(), |mut totals, seen| {
        match seen.kind {
            Kind::File => {
                totals.files += 1;
                totals.bytes += seen.stat.size;
            }
            Kind::Symlink(_) => totals.symlinks += 1,
            Kind::EmptyFolder => totals.empty_folders += 1,
        }
        totals
    })
}

fn entry(seen: &Seen, content: ContentId) -> Entry {
    let node = match &seen.kind {
        Kind::File => Node::File { content, size: seen.stat.size, executable: seen.stat.executable() },
        Kind::Symlink(target) => Node::Symlink { target: target.clone() },
        Kind::EmptyFolder => Node::EmptyFolder,
    };
    Entry { path: seen.path.clone(), node, mtime: seen.stat.mtime }
}

/// The contents of what was read, in the order of what was seen.
struct Stored {
    contents: Vec<Option<ContentId>>,
    not_kept: NotKept,
}

fn store(taking: &SourceTree, putter: &Putter<'_>, mover: Option<&Mover<'_>>, ctx: &Ctx) -> Result<Stored> {
    let in_folder = |at: &usize| {
        let seen = &taking.seen[*at];
        matches!(seen.kind, Kind::File) && taking.folders().iter().any(|part| seen.path.is_at_or_below(&part.prefix))
    };
    let mut order: Vec<usize> = (0..taking.seen.len()).filter(in_folder).collect();
    order.sort_by_key(|&at| {
        let size = taking.seen[at].stat.size;
        if size >= disk::LARGE { (0, u64::MAX - size, 0) } else { (1, 0, at) }
    });
    let contents = Mutex::new(vec![None; taking.seen.len()]);
    let attributes = AtomicU64::new(0);
    let totals = taking.totals();
    ctx.phase(Phase::Storing, totals.files, totals.bytes, || {
        if let Some(packed) = &taking.packed {
            packed.read(&taking.seen, putter, &mut lock(&contents), ctx)?;
        }
        parallel::for_each(
            &order,
            ctx.threads(),
            || vec![0; disk::BUFFER],
            |buffer, &at| {
                ctx.check()?;
                let seen = &taking.seen[at];
                let (path, _) = source_path(&taking.parts, &seen.path);
                let file = match disk::open_file(CWD, &path) {
                    Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
                        return Err(IntakeError::Changed(path).into());
                    }
                    file => file.at("read", &path)?,
                };
                let (content, has_attributes) = ctx.file(seen.stat.size, |ctx| match mover {
                    Some(mover) => mover.take((at, seen), (&file, &path), buffer, ctx),
                    None => {
                        let some = rustix::fs::flistxattr_query(&file).is_ok_and(|len| len > 0);
                        Ok((putter.put(&file, &seen.stat, &path, buffer, ctx)?, some))
                    }
                })?;
                attributes.fetch_add(has_attributes.into(), Ordering::Relaxed);
                lock(&contents)[at] = Some(content);
                Ok(())
            },
        )
    })?;
    let not_kept = NotKept { attributes: attributes.into_inner(), ..not_kept(&taking.seen) };
    Ok(Stored { contents: parallel::into_inner(contents), not_kept })
}

/// Where a path comes from, and the part that it is in.
fn source_path<'a>(parts: &'a [Part], path: &RelPath) -> (PathBuf, &'a Part) {
    let of = |part: &&Part| path.is_at_or_below(&part.prefix);
    // Every path begins with the prefix of a part.
    let part = parts.iter().find(of).unwrap_or(&parts[0]);
    let below = path.as_str().strip_prefix(part.prefix.as_str()).unwrap_or_default();
    (part.folder.join(below.trim_start_matches('/')), part)
}

fn not_kept(seen: &[Seen]) -> NotKept {
    let me = rustix::process::geteuid().as_raw();
    let mut counts = NotKept::default();
    let mut inodes = HashSet::new();
    for stat in seen.iter().filter(|seen| matches!(seen.kind, Kind::File)).map(|seen| &seen.stat) {
        counts.owners += u64::from(stat.uid != me);
        counts.modes += u64::from(stat.mode & 0o7000 != 0 || stat.mode & 0o200 == 0);
        counts.hard_links += u64::from(stat.nlink > 1 && !inodes.insert((stat.dev, stat.ino)));
    }
    counts
}

/// Looks at the source a second time: what was added, changed or taken away since the first time shows.
fn look_again(taking: &SourceTree, now: Option<&[Seen]>, ctx: &Ctx) -> Result<()> {
    if let Some(packed) = &taking.packed {
        packed.look_again()?;
    }
    let sum = || {
        taking.folders().iter().try_fold(Sum::default(), |sum, part| {
            Ok(sum.and(walk_sum(&part.folder, &part.prefix, |path| taking.out.has(path), ctx)?))
        })
    };
    // What is moved looks otherwise than at first in any case.
    if now.is_none() && ctx.phase(Phase::Listing, 0, 0, sum)? == taking.sum {
        return Ok(());
    }
    let again = without(list(taking.folders(), ctx)?, |path| taking.out.has(path))?;
    // What comes from archives is not looked at here, and is in front.
    let of_archives = |seen: &Seen| taking.packed.is_some() && seen.path.is_at_or_below(&taking.parts[0].prefix);
    let first = taking.seen.partition_point(of_archives);
    match first_difference(now.unwrap_or(&taking.seen[first..]), &again) {
        None => Ok(()),
        Some(path) => Err(IntakeError::Changed(source_path(&taking.parts, path).0).into()),
    }
}

/// The first path at which two looks at a source differ.
fn first_difference<'a>(before: &'a [Seen], after: &'a [Seen]) -> Option<&'a RelPath> {
    let empty = |seen: &Seen| matches!(seen.kind, Kind::EmptyFolder);
    let same = |a: &Seen, b: &Seen| a.path == b.path && ((empty(a) && empty(b)) || a.stat.same_bytes(&b.stat));
    match before.iter().zip(after).find(|(a, b)| !same(a, b)) {
        Some((a, b)) => Some((&a.path).min(&b.path)),
        None => before.get(after.len()).or(after.get(before.len())).map(|seen| &seen.path),
    }
}

/// What became of the symlinks.
#[derive(Default)]
pub(crate) struct Links {
    pub(crate) made_relative: u64,
    pub(crate) outside: Vec<String>,
}

impl Links {
    fn listing(&mut self, taking: &SourceTree, contents: &[Option<ContentId>], yard: &Path) -> Result<Listing> {
        let none = ContentId::from_bytes([0; 32]);
        let mut entries = Vec::with_capacity(taking.seen.len());
        for (at, seen) in taking.seen.iter().enumerate() {
            let mut entry = entry(seen, contents[at].unwrap_or(none));
            if let Node::Symlink { target } = &entry.node {
                entry.node = Node::Symlink { target: self.target(taking, &seen.path, target, yard)? };
            }
            let is_program = taking.out.sheet.as_ref().is_some_and(|sheet| sheet.is_program(&seen.path));
            if let Node::File { executable, .. } = &mut entry.node {
                *executable |= is_program;
            }
            entries.push(entry);
        }
        Listing::new(entries)
    }

    fn target(&mut self, taking: &SourceTree, path: &RelPath, target: &str, yard: &Path) -> Result<Box<str>> {
        let (link, part) = source_path(&taking.parts, path);
        match fate(&link, target, &part.folder, &part.named, yard) {
            Fate::Relative(target) => {
                self.made_relative += 1;
                Ok(target.into())
            }
            Fate::Forbidden => Err(IntakeError::LinkIntoYard { path: link, target: target.into() }.into()),
            Fate::Keep => {
                if Path::new(target).is_absolute() {
                    self.outside.push(format!("{path} to {target}"));
                }
                Ok(target.into())
            }
        }
    }
}
