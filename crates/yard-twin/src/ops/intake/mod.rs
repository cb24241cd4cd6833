//! Intake: a folder, or some archives, become a stock build.
//!
//! ```
//! use yard_twin::{Ctx, Yard, intake};
//! # let place = tempfile::tempdir()?;
//! # let installed = place.path().join("installed");
//! # standins::write_small_wexcombe(&installed, "1.4")?;
//! # let (yard, ctx) = (Yard::init(place.path().join("yard"))?, Ctx::new());
//! # std::fs::write(yard.sheet_path(&"wexcombe".parse()?), standins::WEXCOMBE_SHEET)?;
//! // The title's sheet says where the build's name stands.
//! let options = intake::Options::new(&installed, "wexcombe".parse()?);
//! let plan = intake::plan(&yard, options, &ctx)?;
//! let taken = intake::apply(&yard, &plan, &ctx)?;
//! assert_eq!(taken.build.to_string(), "wexcombe@1.4");
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

mod found;
pub(crate) mod from_twin;
pub(crate) mod moving;
pub(crate) mod packed;
pub(crate) mod source;

pub use crate::yard::moved::TakenAway;
pub(crate) use found::check_source;
pub use from_twin::{FromTwinOptions, FromTwinPlan, apply_from_twin, plan_from_twin};
pub use source::NotKept;

use std::collections::HashSet;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use jiff::Timestamp;
use serde::Serialize;

use crate::Yard;
use crate::archive::{self, NameEncoding};
use crate::catalog::{Intent, StockRow};
use crate::disk;
use crate::disk::op_folder::OpFolder;
use crate::error::{Error, IntakeError, Noun, Result};
use crate::ident::{BuildLabel, BuildRef, ListingId, Title, TwinName};
use crate::listing::{Entry, Listing, Node, Totals, diff, merged};
use crate::ops::intake::found::{Found, find};
use crate::ops::intake::moving::Mover;
use crate::ops::intake::packed::Packed;
use crate::ops::intake::source::{Links, Out, SourceTree, StoredTree, provisional};
use crate::ops::play::command;
use crate::path::RelPath;
use crate::placing::Named;
use crate::progress::{Ctx, Phase};
use crate::scan::{Kind, Seen};
use crate::sheet::{self, Belongings, Sheet};
use crate::store::pool::{Ledger, PutTotals, Putter};
use crate::twin::Room;
use crate::twin::room;
use crate::yard::moved;

/// What to take in, and as what.
#[derive(Clone, Debug)]
pub struct Options {
    /// The folder that the program is installed in, or an archive of it.
    pub source: PathBuf,
    /// Further archives: what they hold is laid over what `source` holds, in this order.
    pub more: Vec<PathBuf>,
    /// How many folders of archives that hold all the rest are left away; found out if it isn't said.
    pub strip: Option<usize>,
    /// How names in archives are written that are not UTF-8.
    pub names: Option<NameEncoding>,
    /// A folder with what the program keeps in its user's home, if that is a part of it.
    pub home: Option<HomePart>,
    /// Its title.
    pub title: Title,
    /// Its build; read from the folder as the sheet says if it is not given.
    pub build: Option<BuildLabel>,
    /// The release channel.
    pub channel: Option<String>,
    /// When it was released.
    pub dated: Option<String>,
    /// A word about it.
    pub note: Option<String>,
    /// Groups of belongings that are not taken in.
    pub leave_out: Vec<String>,
    /// Patterns over paths below the game folder, or over names: what matches one, or lies in a folder that does, is not taken
    /// in. Case doesn't count.
    pub without: Vec<String>,
    /// Delete the source once everything is safe.
    pub take_away: bool,
    /// Take the build in again under the label that another one has: that one is a removed build then.
    pub again: bool,
}

impl Options {
    /// Takes `source` in for `title`; all else as the defaults are: label read from the folder, nothing left out, the
    /// source left alone.
    #[must_use]
    pub fn new(source: impl Into<PathBuf>, title: Title) -> Self {
        Self {
            source: source.into(),
            more: Vec::new(),
            strip: None,
            names: None,
            home: None,
            title,
            build: None,
            channel: None,
            dated: None,
            note: None,
            leave_out: Vec::new(),
            without: Vec::new(),
            take_away: false,
            again: false,
        }
    }
}

/// A folder that becomes a part of the home of each twin.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct HomePart {
    /// The folder.
    pub folder: PathBuf,
    /// Where below the home it belongs; `None` for the home itself.
    pub at: Option<RelPath>,
}

/// Which title sheet an intake goes by.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum SheetUse {
    /// The one that the yard has.
    Known,
    /// A cautious draft, written into the yard by this intake.
    Drafted,
}

/// What an intake will do.
#[must_use = "a plan changes nothing until it is applied"]
#[derive(Debug, Serialize)]
#[non_exhaustive]
pub struct Plan {
    /// The folder, or the first archive.
    pub source: PathBuf,
    /// What there is to say of it, if it is an archive.
    pub archives: Option<Archives>,
    /// The stock build that it becomes.
    pub build: BuildRef,
    /// What will be taken in.
    pub totals: Totals,
    /// The room that it takes on disk, if the yard has none of it yet.
    pub room: Room,
    /// Whose sheet says what is what.
    pub sheet: SheetUse,
    /// The program that the sheet starts on this platform.
    pub program: Option<String>,
    /// What looks like a player's own and will be taken in with the rest.
    pub belongings: Vec<Belongings>,
    /// Whether it takes the label of another one, which is a removed build then.
    pub again: bool,
    /// Twins on the build that was taken in before under this label and is taken in again: nothing becomes of them until they
    /// are renewed.
    pub twins: Vec<TwinName>,
    /// Groups of those of which no other build of the title has anything: most likely somebody has played here.
    pub only_here: Vec<String>,
    /// What is left out.
    pub left_out: Vec<Belongings>,
    /// Files that are worth nothing by the sheet (caches, logs), and are not taken in.
    pub scratch: u64,
    /// Files that are left out because a pattern names them.
    pub without: u64,
    /// Whether the source goes away afterwards.
    pub take_away: bool,
    /// The folder that becomes a part of the home.
    pub home: Option<HomePart>,
    #[serde(skip)]
    options: Options,
    #[serde(skip)]
    taking: SourceTree,
    #[serde(skip)]
    sheet_text: Option<String>,
}

/// What there is to say of archives that are taken in.
#[derive(Clone, Debug, Serialize)]
pub struct Archives {
    /// All of them, in the order in which they are laid over each other.
    pub from: Vec<PathBuf>,
    /// The folder in them that is the program's, where there is one.
    pub folder: Option<String>,
    /// Files that a later one has in place of an earlier one's.
    pub overlaps: Vec<String>,
    /// What lies beside that folder, for people to read, and is not taken in.
    pub beside: Vec<String>,
}

/// What an intake did.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Outcome {
    /// The stock build.
    pub build: BuildRef,
    /// What it holds.
    pub listing: ListingId,
    /// How much that is.
    pub totals: Totals,
    /// Contents that the yard did not have yet.
    pub new_contents: u64,
    /// Their bytes.
    pub new_bytes: u64,
    /// Whether just this stock build was there already.
    pub was_there: bool,
    /// Symlinks that led inside the folder by an absolute path, and are relative now.
    pub links_made_relative: u64,
    /// Symlinks that lead out of the folder; they are kept as they are.
    pub links_outside: Vec<String>,
    /// What was not kept.
    pub not_kept: NotKept,
    /// What became of the source, if it was to be taken away.
    pub taken_away: Option<TakenAway>,
    /// How long it took.
    #[serde(serialize_with = "crate::progress::seconds")]
    pub took: Duration,
}

/// Looks at a folder: what it holds, which build it is, whether it is a good copy. Reads no contents but the build
/// label's, and changes nothing.
///
/// # Errors
/// [`IntakeError`] for whatever is wrong with the folder, [`crate::SheetError`] if the title's sheet is wrong.
pub fn plan(yard: &Yard, options: Options, ctx: &Ctx) -> Result<Plan> {
    check_title(yard, &options.title)?;
    let op = yard.begin(ctx)?;
    let Found { source, parts, packed, seen } = find(yard, &options, &op, ctx)?;
    let listing = provisional(&seen)?;
    let (sheet, sheet_text) = sheet_for(yard, &options.title, &listing)?;
    let (missing, unwanted) = sheet.faults(&listing);
    if !missing.is_empty() || !unwanted.is_empty() {
        let title = sheet.name;
        return Err(IntakeError::NotGood { folder: source, title, missing, unwanted }.into());
    }
    let build = match (&options.build, &packed) {
        (Some(build), _) => build.clone(),
        (None, None) => label(&sheet, &source, &source)?,
        (None, Some(packed)) => label(&sheet, &packed.some(&sheet.label_files(), &op, ctx)?, &source)?,
    };
    let build = BuildRef { title: options.title.clone(), build };
    let sheet = sheet.of_build(&build.build)?;
    let (left_out, belongings) = split(&sheet, &listing, &options.leave_out)?;
    let only_here = only_here(yard, &build, &belongings)?;
    drop(listing);
    let scratch = seen.iter().filter(|seen| sheet.is_scratch(&seen.path)).count() as u64;
    let named = Named::new(options.without.iter())?;
    let is_named = |seen: &&Seen| seen.path.as_str().strip_prefix("game/").is_some_and(|below| named.has(below, None));
    let left_out_by_name = seen.iter().filter(is_named).count() as u64;
    let out = Out { sheet: Some(sheet.clone()), groups: options.leave_out.clone(), without: named };
    let archives = packed.as_ref().map(Packed::told);
    let program = match (sheet.default_program(), &packed) {
        (Some(path), None) => Some(command::resolved(&source, &path)?),
        (path, _) => path,
    };
    let taking = SourceTree::new(parts, packed, seen, out)?;
    let twins = if options.again {
        on_build(yard, &build)?
    } else {
        check_label(yard, &build, (&taking.seen, &sheet))?;
        Vec::new()
    };
    let needs = if options.take_away { moving::copied(&op, &taking)? } else { taking.totals().bytes };
    Ok(Plan {
        build,
        room: room::room(yard, needs)?,
        totals: taking.totals(),
        sheet: if sheet_text.is_some() { SheetUse::Drafted } else { SheetUse::Known },
        program,
        belongings,
        only_here,
        left_out,
        scratch,
        without: left_out_by_name,
        archives,
        again: options.again,
        twins,
        take_away: options.take_away,
        home: options.home.clone(),
        source,
        options,
        taking,
        sheet_text,
    })
}

/// Whether no other title differs from this one by case only: their sheets could not stand side by side.
fn check_title(yard: &Yard, title: &Title) -> Result<()> {
    let same = |row: &StockRow| row.build.title != *title && row.build.title.key() == title.key();
    match yard.catalog.stock_builds()?.into_iter().find(same) {
        None => Ok(()),
        Some(row) => {
            let (name, existing) = (title.to_string(), row.build.title.to_string());
            Err(Error::Exists { what: Noun::Title, name, existing })
        }
    }
}

/// The title's sheet, or a draft of one with its text.
fn sheet_for(yard: &Yard, title: &Title, listing: &Listing) -> Result<(Sheet, Option<String>)> {
    if let Some(sheet) = yard.sheet(title)? {
        return Ok((sheet, None));
    }
    let text = sheet::draft(title, listing);
    Ok((Sheet::parse(&text, &yard.sheet_path(title))?, Some(text)))
}

/// Whether the name is free, or what has it looks the same: better said now than after minutes of reading.
fn check_label(yard: &Yard, build: &BuildRef, (seen, sheet): (&[Seen], &Sheet)) -> Result<()> {
    match yard.catalog.stock(build)?.filter(|row| row.removed_at.is_none()) {
        Some(row) => {
            // An unreadable listing is mended by this intake.
            let Ok(there) = yard.store.listing(row.listing) else { return Ok(()) };
            let pairs = merged(there.entries(), seen, |entry, seen| entry.path.cmp(&seen.path));
            let same =
                |pair: &(Option<&Entry>, Option<&Seen>)| matches!(pair, (Some(a), Some(b)) if looks_like(a, b, sheet));
            same_or_error(build, &row, pairs.filter(|pair| !same(pair)).count() as u64)
        }
        None => Ok(()),
    }
}

/// Takes the folder in: every file is read once, hashed and stored in the same pass; where the filesystem can share
/// blocks, it is cloned and the clone hashed. Memory does not grow with the sizes of files.
///
/// When it returns, the stock build has survived a power loss. A crash before that leaves no stock build, and at most
/// contents in the pool that are used when they come again. Taking the same folder in again changes nothing, but puts
/// contents back that the pool has lost, and a listing that is damaged.
///
/// # Errors
/// [`IntakeError`], [`Error::Io`], [`Error::Exists`], [`Error::Cancelled`]: nothing is taken in then.
pub fn apply(yard: &Yard, plan: &Plan, ctx: &Ctx) -> Result<Outcome> {
    let began = Instant::now();
    let mut op = yard.begin(ctx)?;
    let done = take_in(yard, plan, &mut op, ctx);
    if done.is_err()
        && let Err(error) = moved::put_modes_back(op.path())
    {
        tracing::warn!(%error, "files of the source are left read-only for the next command");
        op.leave();
    }
    let Taken { listing, not_kept, links, published, was_there, taken_away } = done?;
    Ok(Outcome {
        build: plan.build.clone(),
        listing: listing.id(),
        totals: listing.totals(),
        new_contents: published.contents,
        new_bytes: published.bytes,
        was_there,
        links_made_relative: links.made_relative,
        links_outside: links.outside,
        not_kept,
        taken_away,
        took: began.elapsed(),
    })
}

/// What was taken in.
struct Taken {
    listing: Listing,
    not_kept: NotKept,
    links: Links,
    published: PutTotals,
    was_there: bool,
    taken_away: Option<TakenAway>,
}

fn take_in(yard: &Yard, plan: &Plan, op: &mut OpFolder, ctx: &Ctx) -> Result<Taken> {
    let putter = Putter::new(&yard.store.pool, op.path(), yard.known_sizes()?)?;
    let mover = if plan.take_away { Mover::new(&putter, op.path(), &plan.taking)? } else { None };
    let StoredTree { listing, not_kept, links, moving } =
        plan.taking.read(&putter, mover.as_ref(), plan.take_away, yard.root(), ctx)?;
    let takes_over = mover.is_some();
    drop(mover);
    ctx.phase(Phase::Syncing, 0, 0, || putter.sync())?;
    if takes_over {
        moved::announce(op.path(), &plan.source, &moving)?;
    }
    let mut alone = Some(yard.alone(ctx)?);
    let mut intent = None;
    if takes_over {
        let (stage, build, listing) = (op.name(), plan.build.clone(), listing.id());
        intent = Some(yard.catalog.intend(&Intent::Move { stage, build, listing })?);
        // What it says is needed until the intent is done.
        op.leave();
    }
    let stored = commit(yard, plan, &listing, putter, op, ctx);
    if !takes_over {
        // Nothing of the source is the pool's: others needn't wait for it to go.
        alone = None;
    }
    let mut taken_away = None;
    match &stored {
        Ok(_) if plan.take_away => {
            let ledger = Ledger::load(&yard.store.pool)?;
            let away = moved::take_away(&plan.source, &moving, &ledger);
            ledger.save(op.path())?;
            if !away.left.is_empty() {
                moved::put_modes_back(op.path())?;
            }
            taken_away = Some(away);
        }
        Err(_) if takes_over => moved::finish(yard, op.path(), false)?,
        _ => {}
    }
    if let Some(intent) = intent {
        yard.catalog.intent_done(intent)?;
        op.done();
    }
    drop(alone);
    let (published, was_there) = stored?;
    Ok(Taken { listing, not_kept, links, published, was_there, taken_away })
}

/// Moves what is staged into the pool, and makes it a stock build. The caller holds the yard's exclusive lock.
fn commit(
    yard: &Yard,
    plan: &Plan,
    listing: &Listing,
    putter: Putter<'_>,
    op: &OpFolder,
    ctx: &Ctx,
) -> Result<(PutTotals, bool)> {
    let id = listing.id();
    let replaces = if plan.options.again { Some(yard.stock_row(&plan.build, false)?) } else { None };
    let replaces = replaces.filter(|row| row.listing != id);
    let was_there = replaces.is_none() && already(yard, &plan.build, listing)?;
    let ledger = putter.ledger().renewed(&yard.store.pool)?;
    let published = putter.publish(&ledger, ctx);
    ledger.save(op.path())?;
    drop(ledger);
    let published = published?;
    if !was_there {
        yard.store.put_listing(listing, None, op)?;
        if let Some(text) = &plan.sheet_text {
            disk::write_whole(&yard.sheet_path(&plan.build.title), &op.path().join("sheet"), text.as_bytes())?;
        }
        yard.catalog.together(|| {
            // The one that was there is a removed one from now on.
            replaces.iter().try_for_each(|row| yard.catalog.mark_stock(row, Some(Timestamp::now())))?;
            yard.catalog.add_stock(&stock_row(plan, id, plan.taking.private()))
        })?;
    }
    if was_there && yard.store.listing(id).is_err() {
        disk::remove_if_there(&yard.store.blob_path("listings", &id.to_string()))?;
        yard.store.put_listing(listing, None, op)?;
    }
    Ok((published, was_there))
}

/// Whether just this stock build is there already; an error if its name is taken by something else.
pub(crate) fn already(yard: &Yard, build: &BuildRef, listing: &Listing) -> Result<bool> {
    match yard.catalog.stock(build)?.filter(|row| row.removed_at.is_none()) {
        // Most often it is the very same one, and needs no look.
        Some(row) if row.build == *build && row.listing == listing.id() => Ok(true),
        Some(row) => {
            let different = diff(&yard.store.listing(row.listing)?, listing).count() as u64;
            same_or_error(build, &row, different).map(|()| true)
        }
        None => Ok(false),
    }
}

/// An error if the stock build that has this name is spelt differently, or holds something else.
pub(crate) fn same_or_error(build: &BuildRef, row: &StockRow, different: u64) -> Result<()> {
    if row.build != *build {
        let (name, existing) = (build.to_string(), row.build.to_string());
        return Err(Error::Exists { what: Noun::StockBuild, name, existing });
    }
    match different {
        0 => Ok(()),
        different => Err(IntakeError::OtherContents { build: build.to_string(), different }.into()),
    }
}

/// Whether they are the same as far as is known before anything is read: neither contents, nor what becomes of symlinks.
fn looks_like(entry: &Entry, seen: &Seen, sheet: &Sheet) -> bool {
    match (&entry.node, &seen.kind) {
        (Node::File { size, executable, .. }, Kind::File) => {
            (*size, *executable) == (seen.stat.size, seen.stat.executable() || sheet.is_program(&seen.path))
        }
        (Node::Symlink { .. }, Kind::Symlink(_)) | (Node::EmptyFolder, Kind::EmptyFolder) => true,
        _ => false,
    }
}

fn stock_row(plan: &Plan, listing: ListingId, private: Vec<RelPath>) -> StockRow {
    StockRow {
        build: plan.build.clone(),
        listing,
        channel: plan.options.channel.clone(),
        dated: plan.options.dated.clone(),
        note: plan.options.note.clone(),
        source: plan.source.to_string_lossy().into_owned(),
        taken_at: Timestamp::now(),
        removed_at: None,
        private,
    }
}

/// The twins on a build that is taken in again.
fn on_build(yard: &Yard, build: &BuildRef) -> Result<Vec<TwinName>> {
    let row = yard.stock_row(build, false)?;
    let mut twins = Vec::new();
    for twin in yard.catalog.twins()?.into_iter().filter(|twin| twin.removed_at.is_none()) {
        // A sick one is named when it is looked at.
        if Error::pass_over(yard.store.state(twin.state))?.is_some_and(|state| state.build == row.build) {
            twins.push(twin.name);
        }
    }
    Ok(twins)
}

/// Those of some groups of which no other build of the title has anything, where there is another one.
fn only_here(yard: &Yard, build: &BuildRef, groups: &[Belongings]) -> Result<Vec<String>> {
    let is_other = |row: &StockRow| row.removed_at.is_none() && row.build.title == build.title && row.build != *build;
    let others: Vec<StockRow> = yard.catalog.stock_builds()?.into_iter().filter(is_other).collect();
    let (mut there, mut known) = (HashSet::new(), false);
    for row in others {
        let (Some(listing), Some(sheet)) =
            (Error::pass_over(yard.store.listing(row.listing))?, yard.sheet_of(&row.build)?)
        else {
            continue;
        };
        known = true;
        there.extend(sheet.belongings(&listing).into_iter().map(|group| group.group));
    }
    let lacking = groups.iter().filter(|group| known && !there.contains(&group.group));
    Ok(lacking.map(|group| group.group.clone()).collect())
}

/// The title and the build label that the name of a folder or archive may mean, as `Hill Lines 1.4` does.
#[must_use]
pub fn from_name(source: &Path) -> (Option<Title>, Option<BuildLabel>) {
    let name = archive::name_of(source);
    let name = if source.is_dir() { name.as_str() } else { archive::stem(&name) };
    let version = name.rmatch_indices([' ', '-', '_', '(']).find_map(|(at, _)| {
        let label = name[at + 1..].trim_end_matches(')').trim_start_matches(['v', 'V']);
        label.starts_with(|c: char| c.is_ascii_digit()).then_some((at, label))
    });
    let (title, label) = version.map_or((name, None), |(at, label)| (&name[..at], Some(label)));
    let words = title.split(|c: char| !c.is_alphanumeric()).filter(|word| !word.is_empty());
    let title = words.collect::<Vec<_>>().join("-").to_lowercase();
    (Title::new(title).ok(), label.and_then(|label| BuildLabel::new(label).ok()))
}

/// The build label that stands in a folder, which comes from `source`.
fn label(sheet: &Sheet, folder: &Path, source: &Path) -> Result<BuildLabel> {
    let text = sheet.read_label(folder).map_err(|why| IntakeError::NoLabel { folder: source.into(), why })?;
    BuildLabel::new(text)
}

/// The belongings found, parted into those that are left out and those that are taken in.
fn split(sheet: &Sheet, listing: &Listing, leave_out: &[String]) -> Result<(Vec<Belongings>, Vec<Belongings>)> {
    if let Some(unknown) = leave_out.iter().find(|name| !sheet.belongings.contains_key(*name)) {
        let known = sheet.belongings.keys().cloned().collect();
        return Err(Error::NotFound { what: Noun::Group, name: unknown.clone(), known });
    }
    Ok(sheet.belongings(listing).into_iter().partition(|group| leave_out.contains(&group.group)))
}
