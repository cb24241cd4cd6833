//! What twins take on disk: of their own, and together with others.
//!
//! ```
//! use yard_twin::space;
//! # use yard_twin::{Ctx, Yard, clone, intake};
//! # let place = tempfile::tempdir()?;
//! # let installed = place.path().join("installed");
//! # standins::write_small_wexcombe(&installed, "1.4")?;
//! # let (yard, ctx) = (Yard::init(place.path().join("yard"))?, Ctx::new());
//! # std::fs::write(yard.sheet_path(&"wexcombe".parse()?), standins::WEXCOMBE_SHEET)?;
//! # let options = intake::Options::new(&installed, "wexcombe".parse()?);
//! # intake::apply(&yard, &intake::plan(&yard, options, &ctx)?, &ctx)?;
//! # for name in ["main"] {
//! #     let plan = clone::plan(&yard, &"wexcombe@1.4".parse()?, &name.parse()?, clone::Options::default(), &ctx)?;
//! #     clone::apply(&yard, &plan, &ctx)?;
//! # }
//! let space = space::yard(&yard, &ctx)?;
//! println!("{} bytes on disk", space.on_disk);
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

use std::borrow::Cow;
use std::collections::HashSet;
use std::path::Path;
use std::sync::Arc;

use rustix::fs::CWD;
use serde::Serialize;

use crate::Yard;
use crate::catalog::TwinRow;
use crate::disk;
use crate::error::{Error, Result};
use crate::ident::{ContentId, TwinName};
use crate::listing::Listing;
use crate::path::RelPath;
use crate::progress::Ctx;
use crate::scan::{NO_ROW, Row, Usage, Used, usage, usage_but, usage_by_rows, usage_of};
use crate::store::pool::{Half, Ledger, Pool, Share, half};
use crate::twin::look::{Before, Glance, Want};
use crate::twin::settle::Settled;

/// Bytes that are shared with something else of the yard.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct SharedWith {
    /// The stock build or twin, as it is typed.
    pub name: String,
    /// Bytes on disk. What is shared with several counts with each of them.
    pub bytes: u64,
}

/// What a twin takes on disk, in bytes. Measured by the blocks of files and folders and by the numbers of their links.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Space {
    /// The twin.
    pub name: TwinName,
    /// The sizes of its files, as a file manager adds them up.
    pub seen: u64,
    /// What a copy of it made by hand would take: the blocks of every file and folder.
    pub copied_by_hand: u64,
    /// What is its own: blocks that nothing else has a part in.
    pub own: u64,
    /// What it shares.
    pub shared: u64,
    /// With what, the most first.
    pub shared_with: Vec<SharedWith>,
    /// What deleting it for good would free: its own, and contents of the pool that nothing else needs.
    pub frees: u64,
    /// Whether the part that shares blocks is an estimate, since this filesystem doesn't tell which blocks are shared.
    pub estimated: bool,
}

/// What a yard takes on disk, in bytes.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct YardSpace {
    /// The twins by name.
    pub twins: Vec<Space>,
    /// All of the yard: each block once.
    pub on_disk: u64,
    /// Contents in the pool.
    pub pool: u64,
    /// What removed twins still take of their own.
    pub removed: u64,
    /// What the stock builds and twins would take as folders copied by hand.
    pub copied_by_hand: u64,
}

/// The files of a twin by its last look.
struct Known<'a> {
    listing: Listing,
    rows: Cow<'a, [Row]>,
}

impl Known<'_> {
    /// Those that may share storage.
    fn files(&self) -> impl Iterator<Item = (&RelPath, ContentId, Share)> {
        (0..self.rows.len()).filter_map(|at| self.file(at))
    }

    fn file(&self, at: usize) -> Option<(&RelPath, ContentId, Share)> {
        let entry = self.listing.entries().get(at)?;
        Some((&entry.path, entry.node.content()?, self.rows.get(at)?.share?))
    }

    /// Finds the rows of files that were found in the folder, by their inodes.
    fn find_rows(&self, files: &mut [Used]) {
        let rows = (0_u32..).zip(&*self.rows).filter(|(at, _)| self.file(*at as usize).is_some());
        let mut rows: Vec<(u64, u32)> = rows.map(|(at, row)| (row.ino, at)).collect();
        rows.sort_unstable();
        for file in files {
            let at = rows.partition_point(|(inode, _)| *inode < file.ino);
            file.row = rows.get(at).filter(|(inode, _)| *inode == file.ino).map_or(NO_ROW, |(_, at)| *at);
        }
    }
}

/// Bytes on disk of contents, each once, in the order of their ids' first halves.
type Bytes = Vec<(Half, u64)>;

/// What halves are sorted by: the order of their bytes, in one step.
fn order(half: &Half) -> u128 {
    u128::from_be_bytes(*half)
}

/// A stock build or twin, as it is typed, and what it may share, each once.
struct Party {
    name: String,
    contents: Vec<Half>,
}

impl Party {
    fn new(name: impl ToString, contents: impl Iterator<Item = Half>) -> Self {
        let mut contents: Vec<_> = contents.collect();
        contents.sort_unstable_by_key(order);
        Self::of(name, contents)
    }

    /// Of contents in their order.
    fn of(name: impl ToString, mut contents: Vec<Half>) -> Self {
        contents.dedup();
        Self { name: name.to_string(), contents }
    }
}

/// Stock builds and twins by what they may share, so that many twins beside many others cost as much as they share, and no
/// more.
struct Parties {
    names: Vec<String>,
    /// The numbers of those that may share a content, by that.
    with: Vec<(Half, u32)>,
}

impl Parties {
    fn of(parties: Vec<Party>) -> Self {
        let mut with = Vec::with_capacity(parties.iter().map(|party| party.contents.len()).sum());
        let mut names = Vec::with_capacity(parties.len());
        for (number, party) in (0..).zip(parties) {
            with.extend(party.contents.into_iter().map(|content| (content, number)));
            names.push(party.name);
        }
        with.sort_unstable_by_key(|(content, party)| (order(content), *party));
        Self { names, with }
    }

    /// With whom so many bytes of each content are shared, the most first.
    fn sharing(&self, shared: &Bytes, but: &TwinName) -> Vec<SharedWith> {
        let (mut sums, mut with) = (vec![0; self.names.len()], self.with.iter().peekable());
        for (content, bytes) in shared {
            while let Some((there, party)) = with.next_if(|(there, _)| order(there) <= order(content)) {
                if there == content {
                    sums[*party as usize] += bytes;
                }
            }
        }
        let sums = self.names.iter().zip(sums).filter(|(name, bytes)| *bytes > 0 && *name != but.as_str());
        let mut sharing: Vec<_> = sums.map(|(name, bytes)| SharedWith { name: name.clone(), bytes }).collect();
        sharing.sort_by(|a, b| b.bytes.cmp(&a.bytes).then_with(|| a.name.cmp(&b.name)));
        sharing
    }
}

/// A twin's files on disk.
#[derive(Default)]
pub(crate) struct Measured {
    seen: u64,
    copied_by_hand: u64,
    own: u64,
    /// What it shares, by one name or block of each file.
    shared: Bytes,
    /// Those of them that share blocks and no inode: they count twice where inodes are added up.
    by_blocks: u64,
    /// What is shared and no content of the last look.
    unknown: u64,
    estimated: bool,
}

/// What one twin takes on disk. It is not settled: what is not known yet counts as its own.
///
/// # Errors
/// [`crate::Error::NotFound`], [`crate::Error::Io`].
pub fn twin(yard: &Yard, name: &TwinName, ctx: &Ctx) -> Result<Space> {
    let row = yard.twin_row(name, true)?;
    let ledger = Arc::new(Ledger::load(&yard.store.pool)?);
    let (measured, _) = measure(yard, &row, &ledger, yard.facts(ctx)?.reflink, ctx)?;
    beside_others(yard, &row, &measured)
}

/// What a settle has seen of what a twin takes: nothing where anything had changed.
pub(crate) fn seen_by(yard: &Yard, row: &TwinRow, settled: &Settled, ctx: &Ctx) -> Result<Option<Measured>> {
    let Settled { listing, rows, folders: Some(seen), .. } = settled else { return Ok(None) };
    let (folder, reflink) = (yard.folder_of(row), yard.facts(ctx)?.reflink);
    let usage = Error::pass_over(usage_by_rows(&folder, listing, rows, seen, ctx))?;
    let known = Known { listing: listing.clone(), rows: rows.into() };
    Ok(usage.map(|mut usage| Measured::of(&folder, &mut usage, &known, reflink)))
}

/// What a twin takes: by what was seen of it, if it was.
pub(crate) fn of(yard: &Yard, row: &TwinRow, seen: Option<&Measured>, ctx: &Ctx) -> Result<Space> {
    seen.map_or_else(|| twin(yard, &row.name, ctx), |seen| beside_others(yard, row, seen))
}

fn beside_others(yard: &Yard, row: &TwinRow, measured: &Measured) -> Result<Space> {
    let (mut others, _) = stock_parties(yard, None)?;
    for other in yard.catalog.twins()?.into_iter().filter(|other| other.removed_at.is_none() && other.id != row.id) {
        // A twin without a readable index is left out.
        let Some(known) = Error::pass_over(known(yard, &other))? else { continue };
        let shared = known.files().filter(|(.., share)| matches!(share, Share::Link | Share::Reflink));
        others.push(Party::new(&other.name, shared.map(|(_, content, _)| half(content))));
    }
    let only = yard.contents_only_of(row)?;
    Ok(to_space(row, measured, &Parties::of(others), Some(&only), &|content| pooled(yard, content)))
}

/// What the yard and its twins take on disk.
///
/// # Errors
/// [`crate::Error::Damaged`], [`crate::Error::Io`].
pub fn yard(yard: &Yard, ctx: &Ctx) -> Result<YardSpace> {
    let (mut rows, mut measured, mut blocks) = (Vec::new(), Vec::new(), Blocks::default());
    let ((mut in_all, pool), reflinks) = (PoolFiles::of(yard, ctx)?, yard.facts(ctx)?.reflink);
    blocks.add(&mut in_all);
    drop(in_all);
    let (in_pool, ledger) = (blocks.sum, Arc::new(Ledger::load(&yard.store.pool)?));
    for row in yard.catalog.twins()? {
        match measure(yard, &row, &ledger, reflinks, ctx) {
            Ok((twin, mut usage)) => {
                blocks.add(&mut usage);
                rows.push(row);
                measured.push(twin);
            }
            Err(error @ Error::Cancelled) => return Err(error),
            // A twin that disappears meanwhile, or is sick, is left out; a check says what is wrong.
            Err(error) => tracing::info!(twin = %row.name, %error, "could not be measured"),
        }
    }
    let (mut parties, stock_by_hand) = stock_parties(yard, Some(&pool))?;
    let there = || rows.iter().zip(&measured).filter(|(row, _)| row.removed_at.is_none());
    parties.extend(there().map(|(row, twin)| Party::new(&row.name, twin.shared.iter().map(|(content, _)| *content))));
    let parties = Parties::of(parties);
    drop(ledger);
    let pooled = |content| pool.allocated(content);
    let only = yard.contents_only(|_| true)?;
    let twins: Vec<_> = there().map(|(row, twin)| to_space(row, twin, &parties, only.get(&row.id), &pooled)).collect();
    let removed = rows.iter().zip(&measured).filter(|(row, _)| row.removed_at.is_some());
    let by_blocks: u64 = measured.iter().map(|twin| twin.by_blocks).sum();
    // All that has not been looked at yet.
    let mut rest = usage_but(yard.root(), &blocks.folders, ctx)?;
    blocks.add(&mut rest);
    Ok(YardSpace {
        removed: removed.map(|(_, twin)| twin.own).sum(),
        on_disk: blocks.sum.saturating_sub(by_blocks),
        pool: in_pool,
        copied_by_hand: twins.iter().map(|twin| twin.copied_by_hand).sum::<u64>() + stock_by_hand,
        twins,
    })
}

/// The stock builds with their contents, and what they would take as folders, by the blocks of these contents in the pool.
fn stock_parties(yard: &Yard, pool: Option<&PoolFiles>) -> Result<(Vec<Party>, u64)> {
    let (mut parties, mut by_hand) = (Vec::new(), 0);
    for row in yard.catalog.stock_builds()?.into_iter().filter(|row| row.removed_at.is_none()) {
        if let Some(listing) = Error::pass_over(yard.store.listing(row.listing))? {
            let contents = listing.entries().iter().filter_map(|entry| entry.node.content());
            let mut contents: Vec<_> = contents.map(half).collect();
            contents.sort_unstable_by_key(order);
            by_hand += pool.map_or(0, |pool| pool.sum(&contents));
            parties.push(Party::of(&row.build, contents));
        }
    }
    Ok((parties, by_hand))
}

/// Bytes on disk of all that was looked at, each inode once.
#[derive(Default)]
struct Blocks {
    sum: u64,
    /// Devices and inodes with several names, in their order.
    counted: Vec<(u64, u64)>,
    /// The folders that were looked through.
    folders: HashSet<(u64, u64)>,
}

impl Blocks {
    fn add(&mut self, usage: &mut Usage) {
        self.folders.extend(usage.top);
        self.sum += usage.folders;
        usage.in_order();
        let (mut counted, mut new) = (self.counted.iter().peekable(), Vec::new());
        for names in usage.files.chunk_by(|one, other| one.is(other)) {
            let (file, inode) = (&names[0], (names[0].dev, names[0].ino));
            while counted.next_if(|there| **there < inode).is_some() {}
            if file.names < 2 {
                self.sum += file.allocated;
            } else if counted.peek() != Some(&&inode) {
                self.sum += file.allocated;
                new.push(inode);
            }
        }
        if !new.is_empty() {
            self.counted.append(&mut new);
            // Two runs, each in order.
            self.counted.sort();
        }
    }
}

/// What each content of the pool takes, with its second file for executables.
struct PoolFiles(Bytes);

impl PoolFiles {
    /// Also what all of the pool takes.
    fn of(yard: &Yard, ctx: &Ctx) -> Result<(Usage, Self)> {
        let (all, mut allocated) = usage_of(yard.store.pool.root(), &HashSet::new(), ctx, |name, stat| {
            let name = name.to_str().ok()?;
            let content: ContentId = name.strip_suffix(".x").unwrap_or(name).parse().ok()?;
            Some((half(content), stat.allocated))
        })?;
        add_up(&mut allocated);
        Ok((all, Self(allocated)))
    }

    fn allocated(&self, content: ContentId) -> u64 {
        let at = self.0.binary_search_by_key(&order(&half(content)), |(there, _)| order(there));
        at.map_or(0, |at| self.0[at].1)
    }

    /// That of contents in their order, each as often as it is named.
    fn sum(&self, contents: &[Half]) -> u64 {
        let (mut sum, mut there) = (0, self.0.iter().peekable());
        for content in contents {
            while there.next_if(|(there, _)| order(there) < order(content)).is_some() {}
            sum += there.peek().filter(|(there, _)| there == content).map_or(0, |(_, bytes)| *bytes);
        }
        sum
    }
}

/// Sorts, with what comes of one content in one sum.
fn add_up(bytes: &mut Bytes) {
    bytes.sort_unstable_by_key(|(content, _)| order(content));
    bytes.dedup_by(|again, first| {
        let same = again.0 == first.0;
        first.1 += if same { again.1 } else { 0 };
        same
    });
}

/// Bytes on disk of a content in the pool, with its second file for executables.
fn pooled(yard: &Yard, content: ContentId) -> u64 {
    let files = [false, true].map(|executable| yard.store.pool.root().join(Pool::name(content, executable)));
    files.iter().filter_map(|path| disk::lstat(path).ok()).map(|stat| stat.allocated).sum()
}

fn known(yard: &Yard, row: &TwinRow) -> Result<Known<'static>> {
    let state = yard.store.state(row.state)?;
    let (listing, folder) = (yard.store.listing(state.disk)?, yard.folder_of(row));
    let index = yard.index(&folder, &state, listing.entries().len())?;
    Ok(Known { listing, rows: index.map(|index| index.rows).unwrap_or_default().into() })
}

/// Looks at a twin: by its index where nothing has changed, else through all of its folder. `reflink`: whether files may
/// share blocks.
fn measure(yard: &Yard, row: &TwinRow, ledger: &Arc<Ledger>, reflink: bool, ctx: &Ctx) -> Result<(Measured, Usage)> {
    let folder = yard.folder_of(row);
    if !folder.is_dir() {
        return Ok((Measured::default(), Usage::default()));
    }
    // Whatever keeps an index from being believed, a folder can be looked through.
    let (known, mut usage) = match Error::pass_over(by_index(yard, row, &folder, ledger, ctx))?.flatten() {
        Some(seen) => seen,
        None => by_walk(yard, row, &folder, ctx)?,
    };
    Ok((Measured::of(&folder, &mut usage, &known, reflink), usage))
}

/// What is in a twin, and what of it may share storage; `None` where something is not as the index says.
fn by_index(
    yard: &Yard,
    row: &TwinRow,
    folder: &Path,
    ledger: &Arc<Ledger>,
    ctx: &Ctx,
) -> Result<Option<(Known<'static>, Usage)>> {
    let glance = Glance::at(yard, row, folder, Some(Arc::clone(ledger)), Want::Listing, ctx)?;
    let Some(glance) = glance.filter(|glance| glance.still().is_some()) else { return Ok(None) };
    let Before { listing, rows, folders: Some(seen), .. } = glance.into_before()? else { return Ok(None) };
    let usage = usage_by_rows(folder, &listing, &rows, &seen, ctx)?;
    Ok(Some((Known { listing, rows: rows.into() }, usage)))
}

fn by_walk(yard: &Yard, row: &TwinRow, folder: &Path, ctx: &Ctx) -> Result<(Known<'static>, Usage)> {
    let (known, mut usage) = (known(yard, row)?, usage(folder, ctx)?);
    known.find_rows(&mut usage.files);
    Ok((known, usage))
}

impl Measured {
    fn of(folder: &Path, all: &mut Usage, known: &Known<'_>, reflink: bool) -> Self {
        let mut measured = Self { copied_by_hand: all.folders, own: all.folders, ..Self::default() };
        all.in_order();
        for names in all.files.chunk_by(|one, other| one.is(other)) {
            let file = &names[0];
            measured.seen += names.iter().map(|file| file.size).sum::<u64>();
            measured.copied_by_hand += names.iter().map(|file| file.allocated).sum::<u64>();
            let elsewhere = file.names as usize > names.len();
            match names.iter().find_map(|name| known.file(name.row as usize)) {
                Some((_, content, _)) if elsewhere => measured.shared.push((half(content), file.allocated)),
                None if elsewhere => measured.unknown += file.allocated,
                // What was written in the twin shares its blocks with the pool, which has taken it in.
                Some((path, content, share)) if reflink && share != Share::Copy => {
                    let told = in_shared_blocks(&path.below(folder));
                    measured.estimated |= told.is_none();
                    let all = if share == Share::Reflink { file.allocated } else { 0 };
                    let shared = told.unwrap_or(all).min(file.allocated);
                    measured.own += file.allocated - shared;
                    measured.by_blocks += shared;
                    measured.shared.extend((shared > 0).then(|| (half(content), shared)));
                }
                _ => measured.own += file.allocated,
            }
        }
        // An executable with the same bytes is another file.
        add_up(&mut measured.shared);
        measured
    }
}

/// What was measured of a twin, beside whatever else is there; among that may be the twin itself.
fn to_space(
    row: &TwinRow,
    measured: &Measured,
    parties: &Parties,
    only: Option<&Vec<ContentId>>,
    pooled: &dyn Fn(ContentId) -> u64,
) -> Space {
    Space {
        name: row.name.clone(),
        seen: measured.seen,
        copied_by_hand: measured.copied_by_hand,
        own: measured.own,
        shared: measured.shared.iter().map(|(_, bytes)| bytes).sum::<u64>() + measured.unknown,
        shared_with: parties.sharing(&measured.shared, &row.name),
        frees: measured.own + only.into_iter().flatten().copied().map(pooled).sum::<u64>(),
        estimated: measured.estimated,
    }
}

/// Bytes of a file that lie in shared blocks; `None` where that isn't told.
fn in_shared_blocks(path: &Path) -> Option<u64> {
    let file = disk::open_file(CWD, path).ok()?;
    let mut shared = 0;
    for extent in fiemap::Fiemap::new(file) {
        let extent = extent.ok()?;
        if extent.fe_flags.contains(fiemap::FiemapExtentFlags::SHARED) {
            shared += extent.fe_length;
        }
    }
    Some(shared)
}

#[cfg(test)]
#[allow(clippy::unwrap_used)]
mod tests {
    use std::fs;
    use std::os::unix::fs::symlink;
    use std::time::{Duration, Instant};

    use super::*;
    use crate::ops::{clone, intake};
    use crate::report::show;
    use crate::store::pool::Sharing;

    const SHEET: &str = "title = \"some\"\n[paths]\nscratch = [\"game/logs/**\", \"game/data/*.log\"]\n";

    fn write(path: &Path, bytes: usize) {
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, vec![bytes.to_le_bytes()[0]; bytes]).unwrap();
    }

    /// A twin with scratch, a symlink, an empty folder, and files that are the same one.
    fn make(place: &Path, sharing: Sharing, ctx: &Ctx) -> Yard {
        let source = place.join("source");
        for (path, bytes) in [("bin/run", 5000), ("data/large.dat", 300_000), ("data/same.dat", 5000), ("empty", 0)] {
            write(&source.join(path), bytes);
        }
        fs::create_dir(source.join("later")).unwrap();
        symlink("large.dat", source.join("data/link")).unwrap();
        let yard = Yard::init(place.join("yard")).unwrap();
        fs::write(yard.sheet_path(&"some".parse().unwrap()), SHEET).unwrap();
        let mut options = intake::Options::new(&source, "some".parse().unwrap());
        options.build = Some("1".parse().unwrap());
        intake::apply(&yard, &intake::plan(&yard, options, ctx).unwrap(), ctx).unwrap();
        for name in ["a", "b"] {
            let options = clone::Options { sharing: Some(sharing), ..clone::Options::default() };
            let plan = clone::plan(&yard, &"some@1".parse().unwrap(), &name.parse().unwrap(), options, ctx).unwrap();
            clone::apply(&yard, &plan, ctx).unwrap();
        }
        yard
    }

    /// What a twin takes by its index, once a look finds all as that says; and by a walk.
    fn both(yard: &Yard, name: &TwinName, ctx: &Ctx) -> (Space, Space) {
        let (folder, start) = (yard.root().join("twins").join(name.as_str()), Instant::now());
        let (reflink, ledger) =
            (yard.facts(ctx).unwrap().reflink, || Arc::new(Ledger::load(&yard.store.pool).unwrap()));
        let space = |row: &TwinRow, (known, mut usage): (Known<'_>, Usage)| {
            beside_others(yard, row, &Measured::of(&folder, &mut usage, &known, reflink)).unwrap()
        };
        loop {
            show::twin(yard, name, ctx).unwrap();
            let row = yard.twin_row(name, false).unwrap();
            if let Some(seen) = by_index(yard, &row, &folder, &ledger(), ctx).unwrap() {
                return (space(&row, seen), space(&row, by_walk(yard, &row, &folder, ctx).unwrap()));
            }
            assert!(start.elapsed() < Duration::from_secs(60), "never still");
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    #[test]
    fn what_a_still_twin_takes_by_its_index_is_what_a_walk_through_it_finds() {
        let ctx = Ctx::new();
        for sharing in [Sharing::All, Sharing::Careful, Sharing::None] {
            let place = tempfile::tempdir().unwrap();
            let (yard, name) = (make(place.path(), sharing, &ctx), "a".parse().unwrap());
            let game = place.path().join("yard/twins/a/game");
            let steps: [(&str, &dyn Fn()); 5] = [
                ("as it was laid", &|| {}),
                ("scratch in folders of the listing", &|| {
                    write(&game.join("data/some.log"), 20_000);
                    write(&game.join("data/other.log"), 0);
                }),
                ("a folder of scratch", &|| write(&game.join("logs/deep/some.txt"), 9000)),
                ("more scratch in that", &|| write(&game.join("logs/deep/more.txt"), 70_000)),
                ("a file of the player's", &|| write(&game.join("save.dat"), 8000)),
            ];
            for (step, take) in steps {
                take();
                let (by_index, by_walk) = both(&yard, &name, &ctx);
                let (_, shown) = show::twin_and_space(&yard, &name, &ctx).unwrap();
                for space in [by_index, shown] {
                    assert_eq!(format!("{space:?}"), format!("{by_walk:?}"), "{step}, {sharing:?}");
                }
            }
            // What was written just now is believed only while nobody can go on writing it.
            let (row, folder) = (yard.twin_row(&name, false).unwrap(), place.path().join("yard/twins/a"));
            let ledger = Arc::new(Ledger::load(&yard.store.pool).unwrap());
            let is_still = || by_index(&yard, &row, &folder, &ledger, &ctx).unwrap().is_some();
            let held = fs::File::options().append(true).open(game.join("save.dat")).unwrap();
            assert!(!is_still());
            drop(held);
            // A program that another test starts has it open, too, until it is what it was started as.
            let start = Instant::now();
            while !is_still() {
                assert!(start.elapsed() < Duration::from_secs(60), "never free");
            }
        }
    }
}
