//! Clone: a new twin from a stock build or from another twin, in moments and with next to no space.
//!
//! ```
//! use yard_twin::clone;
//! # use yard_twin::{Ctx, Yard, intake};
//! # let place = tempfile::tempdir()?;
//! # let installed = place.path().join("installed");
//! # standins::write_small_wexcombe(&installed, "1.4")?;
//! # let (yard, ctx) = (Yard::init(place.path().join("yard"))?, Ctx::new());
//! # std::fs::write(yard.sheet_path(&"wexcombe".parse()?), standins::WEXCOMBE_SHEET)?;
//! # let options = intake::Options::new(&installed, "wexcombe".parse()?);
//! # intake::apply(&yard, &intake::plan(&yard, options, &ctx)?, &ctx)?;
//! let plan = clone::plan(&yard, &"wexcombe@1.4".parse()?, &"night turn".parse()?, clone::Options::default(), &ctx)?;
//! println!("{} files, {} bytes on disk at most", plan.totals.files, plan.room.needs);
//! let twin = clone::apply(&yard, &plan, &ctx)?;
//! assert!(twin.folder.join("game/bin/wexcombe").is_file());
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

mod start;

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

use jiff::Timestamp;
use serde::Serialize;

use self::start::{KeptOwn, NamedAnew, Start};
use crate::Yard;
use crate::catalog::{Counts, Intent, TwinRow};
use crate::disk::lock::Held;
use crate::disk::op_folder::OpFolder;
use crate::disk::{self, FsClock};
use crate::error::{Error, Noun, PathContext, Result};
use crate::ident::{BuildRef, ContentId, ListingId, Source, TwinId, TwinName};
use crate::listing::{Entry, Listing, Node, Totals};
use crate::materialise::{Laid, Layout, Tree};
use crate::ops::intake;
use crate::ops::intake::TakenAway;
use crate::ops::intake::source::{Out, Part, SourceTree, list};
use crate::parallel;
use crate::path::RelPath;
use crate::placing::ModUse;
use crate::progress::Ctx;
use crate::scan::{Folders, Looked, NewIndex, index_path};
use crate::sheet::{PathSet, Sheet};
use crate::store::pool::{Facts, Ledger, Policy, Pool, Putter, Share, Sharing, Unshared};
use crate::store::state::{Applied, State};
use crate::twin::Leaks;
use crate::twin::Room;
use crate::twin::ShareTotals;
use crate::twin::change;
use crate::twin::change::VOUCHES;
use crate::twin::look::forbidden_links;
use crate::twin::markers;
use crate::twin::markers::with_markers;
use crate::twin::names;
use crate::twin::planned::Seen;
use crate::twin::room;
use crate::twin::settle::PlayersOwn;
use crate::twin::vouch;
use crate::yard::moved::{self, Moving};

/// What can be said about a clone beyond its source and name. The default is the source twin's or the yard's sharing.
#[derive(Clone, Debug, Default)]
pub struct Options {
    /// How the new twin shares storage.
    pub sharing: Option<Sharing>,
    /// A folder that is a copy of the stock build which was changed by hand: the twin holds what it holds, and what differs
    /// from the stock build is the player's own. For a clone of a stock build only.
    pub folder: Option<PathBuf>,
    /// Delete that folder once the twin is there.
    pub take_away: bool,
}

/// What a clone will do.
#[must_use = "a plan changes nothing until it is applied"]
#[derive(Debug, Serialize)]
#[non_exhaustive]
pub struct Plan {
    /// What is cloned.
    pub source: Source,
    /// The new twin.
    pub name: TwinName,
    /// The stock build that it will be on.
    pub build: BuildRef,
    /// How it shares storage.
    pub sharing: Sharing,
    /// Whether the source is a removed twin.
    pub from_removed: bool,
    /// What it will hold.
    pub totals: Totals,
    /// The room that it takes on disk.
    pub room: Room,
    /// Shared files of the source twin that were found to be written through their guard.
    pub leaks: Leaks,
    /// Marker files and folders that are laid beside what the source holds, so that the program keeps to its own folder.
    pub markers: Vec<String>,
    /// What gets another name in the new twin, by the title sheet's rename rules.
    pub renamed: Vec<(RelPath, RelPath)>,
    /// Files in which the name is changed.
    pub changed: Vec<RelPath>,
    #[serde(skip)]
    named_as: Option<String>,
    #[serde(skip)]
    mods: Vec<ModUse>,
    /// Files and symlinks of the player's own in the source that name its folder by an absolute path, and still will.
    pub names_source: Vec<RelPath>,
    /// The folder that it holds a copy of, in place of what the stock build holds.
    pub folder: Option<PathBuf>,
    /// Whether the folder goes away afterwards.
    pub take_away: bool,
    #[serde(skip)]
    taking: Option<SourceTree>,
    #[serde(skip)]
    listing: Arc<Listing>,
    /// How each entry of it is shared, on a disk that can do this.
    #[serde(skip)]
    ways: (Facts, Vec<Share>),
    /// What was laid in the source twin, where that differs from what is there.
    #[serde(skip)]
    laid: Option<ListingId>,
    /// The same, where no state has it yet.
    #[serde(skip)]
    laid_anew: Option<Listing>,
    #[serde(skip)]
    profile: String,
    #[serde(skip)]
    edits: Vec<Applied>,
    #[serde(skip)]
    kept_own: KeptOwn,
    /// The twin that is cloned, if something in it was new.
    #[serde(skip)]
    seen: Option<Seen>,
}

/// What a clone did.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Outcome {
    /// The new twin.
    pub name: TwinName,
    /// Its id, for ever.
    pub id: TwinId,
    /// Its folder; `game` and `home` are in it.
    pub folder: PathBuf,
    /// What it holds.
    pub totals: Totals,
    /// How it differs from the stock build, where it was made of a folder that was changed by hand.
    pub differs: Option<Counts>,
    /// How many of those are game files that no group of belongings explains.
    pub unexplained: u64,
    /// How its files really share storage.
    pub shares: ShareTotals,
    /// Why it shares nothing, if that is so.
    pub unshared: Option<Unshared>,
    /// What became of the folder, if it was to be taken away.
    pub taken_away: Option<TakenAway>,
    /// How long it took.
    #[serde(serialize_with = "crate::progress::seconds")]
    pub took: Duration,
}

/// Looks at what a clone would do. The clone of a twin takes what it holds *now*, its game
/// folder, its home and its profile, but not its entries or runs. Contents that rename rules make are stored.
///
/// # Errors
/// [`Error::NotFound`], [`Error::Exists`], [`crate::TwinError::NotTaken`] if the source holds what can't be copied.
pub fn plan(yard: &Yard, source: &Source, name: &TwinName, options: Options, ctx: &Ctx) -> Result<Plan> {
    names::check_free(yard, name)?;
    let taking = options.folder.as_ref().map(|folder| take_folder(yard, source, folder, ctx)).transpose()?;
    let mut start = match source {
        Source::Stock(build) => Start::of_stock(yard, build)?,
        Source::Twin(twin) => Start::of_twin(yard, twin, ctx)?,
    };
    if let Some(taking) = &taking {
        start.kept_own.add_private(taking.private());
    }
    let sheet = yard.sheet_of(&start.build)?;
    // A folder that was changed by hand has its own names.
    let named = match &taking {
        None => start.name(yard, (source, name), sheet.as_ref(), ctx)?,
        Some(_) => NamedAnew::default(),
    };
    let sharing = options.sharing.unwrap_or(start.sharing);
    let ways = {
        let nothing = PathSet::default();
        let (written, facts) = (sheet.as_ref().map_or(&nothing, Sheet::written), yard.facts(ctx)?);
        let policy = start.kept_own.apply(Policy::new(sharing, facts, &start.listing, written));
        (facts, policy.ways(&start.listing, ctx.threads()))
    };
    let entries = start.listing.entries().iter();
    let room = room::room(yard, room::taken_by(yard, entries.zip(ways.1.iter().copied())))?;
    Ok(Plan {
        room,
        renamed: named.moved,
        changed: named.changed,
        named_as: start.named_as,
        mods: start.mods,
        source: source.clone(),
        name: name.clone(),
        build: start.build,
        sharing,
        from_removed: start.from_removed,
        totals: taking.as_ref().map_or_else(|| start.listing.totals(), SourceTree::totals),
        take_away: options.take_away && taking.is_some(),
        folder: options.folder,
        taking,
        leaks: start.leaks,
        seen: start.seen,
        markers: start.markers,
        names_source: start.names_source,
        listing: Arc::new(start.listing),
        ways,
        laid: start.laid,
        laid_anew: named.laid,
        profile: start.profile,
        edits: start.edits,
        kept_own: start.kept_own,
    })
}

/// Lists a folder that was changed by hand.
fn take_folder(yard: &Yard, source: &Source, folder: &Path, ctx: &Ctx) -> Result<SourceTree> {
    let Source::Stock(build) = source else {
        let why = "a folder can be compared with a stock build only, and this is a twin";
        return Err(Error::Name { what: Noun::SourceForFolder, name: source.to_string(), why });
    };
    let prefix = RelPath::new("game")?;
    let parts = vec![Part { folder: intake::check_source(yard, folder)?, named: folder.into(), prefix }];
    let seen = list(&parts, ctx)?;
    SourceTree::new(parts, None, seen, Out { sheet: yard.sheet_of(build)?, ..Out::default() })
}

/// Makes the new twin: staged whole, then renamed into place.
///
/// A crash leaves no half twin: the next opening of the yard either finds it whole or deletes the stage. Its contents
/// are durable in the pool; its folder may have to be made again after a power loss. A folder that is to be taken away is
/// there until the twin is: a crash in between leaves some of it, and nothing goes that changed since it was read.
///
/// # Errors
/// As [`plan`]; [`Error::ContentMissing`] if the pool was damaged; [`Error::Io`], on a full disk among
/// others. Nothing is changed then.
pub fn apply(yard: &Yard, plan: &Plan, ctx: &Ctx) -> Result<Outcome> {
    let began = Instant::now();
    plan.seen.as_ref().map_or(Ok(()), |seen| seen.write_down(yard, ctx))?;
    // Should the sheet change in between, this is another one's, and all is looked at again.
    let (sheet_key, sheet) = (yard.sheet_key(&plan.build)?, yard.sheet_of(&plan.build)?);
    let nothing = PathSet::default();
    let written = sheet.as_ref().map_or(&nothing, |sheet| sheet.written());
    let op = yard.begin(ctx)?;
    if !plan.markers.is_empty() || plan.taking.is_some() {
        markers::keep_nothing(yard, &op, ctx)?;
    }
    let read = |taking| read_folder(yard, (taking, plan.take_away), sheet.as_ref(), &op, ctx);
    let folder = plan.taking.as_ref().map(read).transpose()?;
    let (folder, moving) = folder.unzip();
    let listing = folder.as_ref().unwrap_or(&plan.listing);
    let facts = yard.facts_by(&op)?;
    let policy = plan.kept_own.apply(Policy::new(plan.sharing, facts, listing, written));
    let as_planned = facts == plan.ways.0 && std::ptr::eq(listing, &*plan.listing);
    let ways = (!as_planned).then(|| policy.ways(listing, ctx.threads()));
    let ways = ways.as_ref().unwrap_or(&plan.ways.1);
    room::check_room(yard, listing.entries().iter().zip(ways.iter().copied()))?;
    let clock = FsClock::new(op.path())?;
    let stage = op.path().join("twin");
    let row = TwinRow {
        id: TwinId::random()?,
        name: plan.name.clone(),
        folder: plan.name.to_string(),
        state: put_first_state(yard, plan, listing, &op)?,
        origin: plan.source.to_string(),
        made_at: Timestamp::now(),
        removed_at: None,
        protected: None,
        unsynced: disk::boot_id(),
    };
    // What is synced is, before there is much else that the system would have to write with it.
    furnish(&stage, &row, plan)?;
    let tree = Tree::of(listing);
    let asked = Arc::new(folders_and_ledger(&tree, &stage, &yard.store.pool, ctx)?);
    let layout = Layout { pool: &yard.store.pool, policy: &policy, ledger: &asked, op: op.path(), ctx };
    let needed: Vec<&Entry> = listing.entries().iter().collect();
    // The others are asked as they are laid.
    let is_program = |entry: &&Entry| matches!(entry.node, Node::File { executable: true, .. });
    let programs: Vec<&Entry> = needed.iter().copied().filter(is_program).collect();
    let executables = vouch::vouch(yard, &programs, &layout)?;
    let mut laid = match layout.lay(&tree, ways, &stage) {
        Err(Error::ContentMissing { .. } | Error::Damaged { .. }) => {
            vouch::vouch(yard, &needed, &layout)?;
            disk::remove_tree(&stage)?;
            furnish(&stage, &row, plan)?;
            tree.make_folders(&stage, ctx)?;
            layout.lay(&tree, ways, &stage)?
        }
        laid => laid?,
    };
    let looked_at = clock.wait_past(laid.latest)?;
    ctx.check()?;
    // Copying needs no exclusive lock. Linking, and the rename that makes the twin, do.
    let (alone, ledger) = link_new(yard, &layout, (&tree, ways), &stage, &mut laid, (executables, &needed))?;
    let (shares, rows) = (ShareTotals::new(listing, &laid.rows), laid.rows);
    // Nobody else knows the folders yet: how they look now is how they are once all is laid.
    let quiet = forbidden_links(yard, &yard.folder_of(&row), listing).is_empty();
    let device = disk::lstat(&stage).at("look at", &stage)?.dev;
    let looked = Looked { device, grain: clock.grain(), sheet: sheet_key, quiet };
    let (now, pool) = (clock.now()?, yard.store.pool.inode()?);
    let save = || {
        if let Err(error) = ledger.save(op.path()) {
            tracing::warn!(%error, "the next look at the pool will read more than it had to");
        }
    };
    let look = || {
        let is_scratch = |path: &RelPath| sheet.as_ref().is_some_and(|sheet| sheet.is_scratch(path));
        let folders = &Folders::of_new((listing, tree.folders()), &stage, looked, now, is_scratch)?;
        let index = NewIndex { listing, rows: &rows, pool, looked_at, folders };
        index.save(&index_path(&stage), &stage.join("index.new"))
    };
    let before = || parallel::both(ctx.threads(), save, look).1;
    let published = ctx.check().and_then(|()| publish_twin(yard, row, &stage, before, ctx));
    let row = match published {
        Ok(row) => row,
        Err(error) => {
            take_links_back(&stage, &ledger, op.path());
            return Err(error);
        }
    };
    drop(alone);
    let taken_away = match (&plan.taking, moving) {
        (Some(taking), Some(moving)) if plan.take_away => {
            Some(moved::take_away_alone(yard, taking.folder(), &moving, ctx)?)
        }
        _ => None,
    };
    Ok(Outcome {
        name: plan.name.clone(),
        id: row.id,
        folder: yard.folder_of(&row),
        totals: listing.totals(),
        differs: folder.as_ref().map(|folder| Counts::between(&plan.listing, folder)),
        unexplained: folder
            .as_ref()
            .map_or(0, |folder| PlayersOwn(sheet.as_ref()).counts(&plan.listing, folder).0.total()),
        shares,
        unshared: policy.unshared(),
        taken_away,
        took: began.elapsed(),
    })
}

/// Takes the yard alone and adds the links of a new twin.
fn link_new(
    yard: &Yard,
    layout: &Layout<'_>,
    tree: (&Tree<'_>, &[Share]),
    stage: &Path,
    laid: &mut Laid,
    (mut executables, needed): (Vec<ContentId>, &[&Entry]),
) -> Result<(Held, Arc<Ledger>)> {
    for _ in 0..VOUCHES {
        let alone = yard.alone(layout.ctx)?;
        let current = layout.ledger.renewed(&yard.store.pool)?;
        layout.store_executables(&current, &executables)?;
        let doubtful = match layout.lay_links(&current, tree, stage, laid) {
            Ok(doubtful) => doubtful,
            Err(error) => {
                take_links_back(stage, &current, layout.op);
                return Err(error);
            }
        };
        if doubtful.is_empty() {
            return Ok((alone, current));
        }
        current.save(layout.op)?;
        drop(alone);
        // Something came in between; nothing is read while the yard is held alone.
        let again = Arc::new(Ledger::load(&yard.store.pool)?);
        executables = vouch::vouch(yard, needed, &Layout { ledger: &again, ..*layout })?;
        layout.ledger.learn(&again);
    }
    Err(Error::Busy { what: "the pool".into(), holders: Vec::new() })
}

/// Takes back the links of a twin that comes to nothing, so that they needn't be read again.
fn take_links_back(stage: &Path, ledger: &Ledger, op: &Path) {
    let taken = disk::remove_tree_telling(stage, &|before, after| ledger.moved(before, after));
    if let Err(error) = taken.and_then(|()| ledger.save(op)) {
        tracing::warn!(%error, "what was staged is left for the next command");
    }
}

fn put_first_state(yard: &Yard, plan: &Plan, listing: &Listing, op: &OpFolder) -> Result<crate::StateId> {
    let anew = plan.laid_anew.as_ref().or_else(|| plan.taking.is_some().then_some(&*plan.listing));
    let laid = match (plan.laid, anew) {
        (_, Some(anew)) => Some(yard.store.put_listing(anew, None, op)?),
        (laid, None) => laid,
    };
    let listing = yard.store.put_listing(listing, None, op)?;
    let laid = laid.unwrap_or(listing);
    let state = State::new(plan.build.clone(), plan.sharing, laid, listing, plan.profile.clone());
    let KeptOwn { written, private, .. } = &plan.kept_own;
    let (edits, named_as, mods) = (plan.edits.clone(), plan.named_as.clone(), plan.mods.clone());
    let state = State { edits, named_as, mods, written: written.clone(), private: private.clone(), ..state };
    yard.store.put_state(&state, op)
}

/// Takes a folder that was changed by hand into the pool, and gives what the twin is to hold and, where it `moves`, what may go
/// from there.
fn read_folder(
    yard: &Yard,
    (taking, moves): (&SourceTree, bool),
    sheet: Option<&Sheet>,
    op: &OpFolder,
    ctx: &Ctx,
) -> Result<(Listing, Vec<Moving>)> {
    let putter = Putter::new(&yard.store.pool, op.path(), yard.known_sizes()?)?;
    let taken = taking.read(&putter, None, moves, yard.root(), ctx)?;
    change::publish(yard, putter, op, None, ctx)?;
    with_markers(taken.listing, sheet).map(|(listing, _)| (listing, taken.moving))
}

/// Puts what belongs beside `game` and `home` into the stage of a new twin.
fn furnish(stage: &Path, row: &TwinRow, plan: &Plan) -> Result<()> {
    disk::make_folder(stage)?;
    // The game's files may reach the disk later, since the pool has them; nothing else has these.
    disk::write_synced(&stage.join("id"), format!("{}\n", row.id).as_bytes())?;
    disk::write_synced(&stage.join("profile.toml"), plan.profile.as_bytes())?;
    disk::make_folder(&stage.join("runs"))
}

/// Renames a staged twin into place and records it: the instant at which it exists. The caller holds the yard alone. What has
/// to be done with the stage before is done while a record that it is coming is waited for.
fn publish_twin(
    yard: &Yard,
    mut row: TwinRow,
    stage: &Path,
    before: impl FnOnce() -> Result<()> + Send,
    ctx: &Ctx,
) -> Result<TwinRow> {
    names::check_free(yard, &row.name)?;
    row.folder = names::free_folder(yard, &row.name)?;
    let folder = yard.twins_folder().join(&row.folder);
    let intend = || yard.catalog.intend(&Intent::Clone { twin: row.clone() });
    let (done, intent) = parallel::both(ctx.threads(), before, intend);
    let intent = intent?;
    let put = || disk::rename_new(stage, &folder);
    if let Err(error) = done.and_then(|()| put().map_err(|e| Error::io("put the new twin in place at", &folder, e))) {
        yard.catalog.intent_done(intent)?;
        return Err(error);
    }
    disk::sync_rename(stage, &folder)?;
    yard.catalog.together(|| {
        yard.catalog.add_twin(&row)?;
        yard.catalog.intent_done(intent)
    })?;
    Ok(row)
}

/// Makes the folders of a new twin, and reads the ledger meanwhile.
fn folders_and_ledger(tree: &Tree<'_>, stage: &Path, pool: &Pool, ctx: &Ctx) -> Result<Ledger> {
    let (ledger, made) = parallel::both(ctx.threads(), || Ledger::load(pool), || tree.make_folders(stage, ctx));
    made?;
    ledger
}
