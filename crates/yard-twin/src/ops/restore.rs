//! Restore: going back to a state that a twin had.
//!
//! ```
//! use yard_twin::{SnapshotRef, restore, snapshot};
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
//! # let game = |twin: &str| place.path().join("yard/twins").join(twin).join("game");
//! let label = "before the mod".parse()?;
//! snapshot::apply(&yard, &snapshot::plan(&yard, &"main".parse()?, Some(&label), &ctx)?, &ctx)?;
//! let guide = game("main").join("guide/READ ME first.txt");
//! std::fs::write(&guide, "broken by a mod")?;
//! let options = restore::Options { to: Some(SnapshotRef::Label(label)), ..restore::Options::default() };
//! let outcome = restore::apply(&yard, &restore::plan(&yard, &"main".parse()?, &options, &ctx)?, &ctx)?;
//! assert_ne!(std::fs::read_to_string(&guide)?, "broken by a mod");
//! println!("the way back is {}", outcome.before);
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

use std::collections::HashSet;
use std::path::Path;
use std::time::{Duration, Instant};

use serde::Serialize;

use crate::Yard;
use crate::catalog::{Counts, HistoryEntry, TwinRow, What};
use crate::combine::{Moves, Wholes};
use crate::disk;
use crate::error::{Error, Noun, Result, TwinError};
use crate::ident::{BuildRef, SnapshotRef, TwinName};
use crate::listing::{Listing, Named, diff, rebase};
use crate::materialise::{Step, steps};
use crate::ops::{edits, repath};
use crate::path::RelPath;
use crate::placing::ModUse;
use crate::progress::Ctx;
use crate::sheet::Sheet;
use crate::store::state::{Applied, State};
use crate::twin::Leaks;
use crate::twin::Room;
use crate::twin::planned;
use crate::twin::planned::PlannedChange;
use crate::twin::protection;
use crate::twin::room;
use crate::twin::settle::{News, PlayersOwn, Settled};

/// What a restore may be told. The default goes back by one change of the game files.
#[derive(Clone, Debug, Default)]
pub struct Options {
    /// The state to go back to; without one, that before the last change of the game files (with `all`, of anything).
    pub to: Option<SnapshotRef>,
    /// Belongings, live paths, the home and the profile go back too, instead of staying as they are now.
    pub all: bool,
    /// Only what is at and below these paths goes back, whatever it is: `game/bin/rules.wja`. Default: no such limit.
    pub only: Vec<RelPath>,
}

/// What a restore will do.
#[must_use = "a plan changes nothing until it is applied"]
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Plan {
    /// The twin.
    pub name: TwinName,
    /// The state that it goes back to.
    pub to: HistoryEntry,
    /// Whether belongings go back too.
    pub all: bool,
    /// The line of the history that is taken back, if it is only that.
    pub line: Option<Line>,
    /// The stock build that the twin is on now, and the one that it will be on, where they differ.
    pub build: Option<(BuildRef, BuildRef)>,
    /// Game files that differ between now and then: these go back.
    pub game: Counts,
    /// Belongings, live paths and paths in the home that differ: these stay as they are now, unless `all` is set.
    pub own: Counts,
    /// The room that it takes on disk.
    pub room: Room,
    /// What is done, in order.
    pub steps: Vec<Step>,
    /// What is there now and gives way: it stays in the history.
    pub named: Vec<Named>,
    /// Belongings that the build of then keeps in another place: from where to where they go, as they are now.
    pub moved: Vec<(RelPath, RelPath)>,
    /// Those that stay where they are, each with the reason.
    pub not_moved: Vec<String>,
    /// Files and symlinks that come back and name the folder of another twin, which may have been this one's then.
    pub names_others: Vec<RelPath>,
    /// What can't be kept, each with its reason.
    pub not_taken: Vec<String>,
    /// Shared files that were found to be written through their guard.
    pub leaks: Leaks,
    #[serde(skip)]
    planned: PlannedChange,
}

/// A line of the history that is taken back.
#[derive(Clone, Debug, Serialize)]
pub struct Line {
    /// The line.
    pub entry: HistoryEntry,
    /// What it changed and something else has changed since: that stays as it is.
    pub later: Vec<RelPath>,
}

/// What a restore did.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Outcome {
    /// The twin.
    pub name: TwinName,
    /// The number of the state that it went back to.
    pub to: u32,
    /// The number of this restore in the history; `None` if there was nothing to do.
    pub number: Option<u32>,
    /// The number of the state before it, which is the way back.
    pub before: u32,
    /// Paths that others wrote to meanwhile: what they held is in the history, before the restore.
    pub late: Vec<String>,
    /// What stood in the way and could not be kept: where it is now.
    pub set_aside: Vec<String>,
    /// How long it took.
    #[serde(serialize_with = "crate::progress::seconds")]
    pub took: Duration,
}

/// The state before the last change of the game files, or with `all` of anything: that may be what is new just now.
fn one_back(yard: &Yard, row: &TwinRow, all: bool, news: Option<&News>) -> Result<HistoryEntry> {
    let history = yard.catalog.history(row.id)?;
    let counts = |game: &Counts, own: &Counts| game.total() > 0 || (all && own.total() > 0);
    let before = match news.filter(|news| counts(&news.game, &news.own)) {
        Some(_) => Some(0),
        None => history.iter().position(|entry| counts(&entry.game, &entry.own)).map(|at| at + 1),
    };
    match before.and_then(|at| history.get(at)) {
        Some(entry) => Ok(entry.clone()),
        None => Err(TwinError::NothingToUndo(row.name.to_string()).into()),
    }
}

/// Looks at what a restore would do. What is new in the twin by then is stored, and becomes a line of its history when
/// the plan is applied.
///
/// # Errors
/// [`Error::NotFound`] for a twin or a state, [`TwinError::Protected`], [`TwinError::NothingToUndo`],
/// [`Error::Obstructed`] if a belonging that stays would need a folder where a file is to come, [`Error::Busy`] while
/// the twin runs.
pub fn plan(yard: &Yard, name: &TwinName, options: &Options, ctx: &Ctx) -> Result<Plan> {
    let (row, mut settled) = planned::see(yard, &yard.twin_row(name, false)?, ctx)?;
    let to = match &options.to {
        Some(snapshot) => yard.find_entry(&row, snapshot)?,
        None => one_back(yard, &row, options.all, settled.news.as_ref())?,
    };
    let then = yard.store.state(to.state)?;
    let target = yard.store.listing(then.disk)?.sharing_paths(&settled.listing);
    let (sheet_now, sheet) = (yard.sheet_of(&settled.state.build)?, yard.sheet_of(&then.build)?);
    let own = PlayersOwn(sheet.as_ref());
    let some = !options.only.is_empty();
    let across = if some || options.all || then.build == settled.state.build {
        None
    } else {
        Some(Across::new((yard, &yard.folder_of(&row)), &settled, (&then, &target), sheet.as_ref())?)
    };
    let there = across.as_ref().map_or(&settled.listing, |across| &across.there);
    let is_shipped = |path: &RelPath| across.as_ref().is_some_and(|across| across.shipped.contains(path));
    check_only(&options.only, &target, &settled.listing)?;
    let wanted = |path: &RelPath| options.only.iter().any(|only| path.is_at_or_below(only));
    let own_stays = |path: &RelPath| !options.all && own.holds(path) && !is_shipped(path);
    let stays = |path: &RelPath| if some { !wanted(path) } else { own_stays(path) };
    let rebased = rebase(&target, there, &target, stays)?;
    let (game, others) = own.counts(there, if some { &rebased.listing } else { &target });
    // An edit goes with its file.
    let stays = |edit: &Applied| if some { !wanted(&edit.file) } else { !options.all && own.holds(&edit.file) };
    let Across { moves, moved, .. } = across.unwrap_or_default();
    let now = settled.state.edits.iter().map(|edit| Applied { file: moves.of(&edit.file).clone(), ..edit.clone() });
    let now = now.filter(|edit| stays(edit));
    let edits = then.edits.iter().filter(|edit| !stays(edit)).cloned().chain(now).collect();
    let profile = if options.all {
        then.profile
    } else {
        edits::moved(&settled.state.profile, &moves, (sheet_now.as_ref(), sheet.as_ref()))
    };
    let (build, laid) =
        if some { (settled.state.build.clone(), settled.state.laid) } else { (then.build.clone(), then.laid) };
    let mods = if some { settled.state.mods.clone() } else { mods_of(&then.mods, &settled.state.mods) };
    let state = State { edits, build, laid, profile, mods, ..settled.state.clone() }
        .with_written(then.written)
        .with_private(then.private)
        .with_moved(&moves.pairs());
    let draft = rebased.listing.clone().into();
    protection::check_protected(yard, &row, &settled.listing, &draft, &state)?;
    let build = (state.build != settled.state.build).then(|| (settled.state.build.clone(), then.build));
    let what = What::Restore { to: to.number, all: options.all };
    let next = &rebased.listing;
    let room = room::room_between(yard, &settled.listing, next, &state, ctx)?;
    let names_others = repath::names_others(yard, &row, (&settled.listing, next), ctx)?;
    Ok(Plan {
        room,
        names_others,
        name: row.name.clone(),
        all: options.all,
        to,
        line: None,
        build,
        game,
        own: others,
        steps: steps(&settled.listing, &rebased.listing),
        named: rebased.named,
        moved,
        not_moved: moves.left,
        not_taken: std::mem::take(&mut settled.not_taken),
        leaks: std::mem::take(&mut settled.leaks),
        planned: PlannedChange::new(row, settled, state, draft, what),
    })
}

/// The mods of an earlier state; what is kept aside of those that were off then and are off now is what it is now.
fn mods_of(then: &[ModUse], now: &[ModUse]) -> Vec<ModUse> {
    let aside = |used: &ModUse| {
        let same = now.iter().find(|other| other.name.key() == used.name.key() && !other.on && !used.on);
        same.map_or(used.aside, |other| other.aside)
    };
    then.iter().map(|used| ModUse { aside: aside(used), ..used.clone() }).collect()
}

/// A plan around a change that is worked out already.
pub(super) fn planned_for(
    yard: &Yard,
    planned: PlannedChange,
    (to, line, not_taken): (HistoryEntry, Option<Line>, Vec<String>),
    ctx: &Ctx,
) -> Result<Plan> {
    let (row, there, state) = (&planned.seen.row, &planned.seen.there, &planned.to);
    protection::check_protected(yard, row, there, &planned.draft, state)?;
    let next = &planned.draft.base;
    let (game, own) = PlayersOwn(yard.sheet_of(&state.build)?.as_ref()).counts(there, next);
    Ok(Plan {
        room: room::room_between(yard, there, next, state, ctx)?,
        names_others: repath::names_others(yard, row, (there, next), ctx)?,
        name: row.name.clone(),
        to,
        all: true,
        line,
        build: None,
        game,
        own,
        steps: steps(there, next),
        named: Vec::new(),
        moved: Vec::new(),
        not_moved: Vec::new(),
        not_taken,
        leaks: Leaks::default(),
        planned,
    })
}

/// What a restore to a state on another build has to know.
#[derive(Default)]
struct Across {
    /// What is there, with belongings in the places that they have in that build.
    there: Listing,
    moves: Moves,
    /// The player's own that moves.
    moved: Vec<(RelPath, RelPath)>,
    /// Paths that are now as they were shipped with the build that the twin is on, and were then as they were shipped with
    /// the other one: they are not the player's own, wherever they lie, and go with the build.
    shipped: HashSet<RelPath>,
}

impl Across {
    fn new(
        (yard, folder): (&Yard, &Path),
        settled: &Settled,
        (then, target): (&State, &Listing),
        sheet: Option<&Sheet>,
    ) -> Result<Self> {
        let (now, before) = (yard.store.listing(settled.state.laid)?, yard.store.listing(then.laid)?);
        let sheet_now = yard.sheet_of(&settled.state.build)?;
        let mut moves = Moves::between(&settled.listing, &now, (sheet_now.as_ref(), sheet))?;
        if sheet.is_some_and(Sheet::ignores_case) && !disk::folds_case(folder)? {
            moves.spell_as(target, &settled.listing, &now)?;
        }
        let moved = moves.own(&settled.listing, &now);
        let (there, now) = (moves.apply(&settled.listing)?, moves.apply(&now)?);
        let node = |listing: &Listing, path: &RelPath| listing.get(path.as_str()).map(|entry| entry.node.clone());
        // What a home has before the first start came with no build.
        let prepared: HashSet<String> = crate::launch::prepared().collect();
        let wholes = Wholes::of(&there, &now, sheet);
        let shipped = diff(&now, &before).map(|change| change.path().clone()).filter(|path| {
            !prepared.contains(path.as_str())
                && !wholes.has(path)
                && node(&there, path) == node(&now, path)
                && node(target, path) == node(&before, path)
        });
        let shipped = shipped.collect();
        Ok(Self { there, moves, moved, shipped })
    }
}

/// Puts a twin back: what differs is staged as a whole, then published entry by entry. What is there now stays in the
/// history, so that the restore itself can be undone.
///
/// When it returns, the change has survived a power loss. A crash is finished by the next opening of the yard; an
/// error or a wish to stop undoes what was done.
///
/// # Errors
/// [`TwinError::ChangedMeanwhile`] if the twin is not as it was when this was planned, [`TwinError::InTheWay`],
/// [`TwinError::NotTaken`], [`Error::Busy`] while it runs, [`Error::Io`]. Nothing is changed then.
pub fn apply(yard: &Yard, plan: &Plan, ctx: &Ctx) -> Result<Outcome> {
    let began = Instant::now();
    let applied = planned::apply_planned(yard, &plan.planned, ctx)?;
    Ok(Outcome {
        name: plan.name.clone(),
        to: plan.to.number,
        number: applied.number,
        before: applied.before,
        late: applied.late,
        set_aside: applied.set_aside,
        took: began.elapsed(),
    })
}

/// An error for a path that has nothing at or below it, now or then.
fn check_only(only: &[RelPath], then: &Listing, now: &Listing) -> Result<()> {
    match only.iter().find(|path| !then.has(path.as_str()) && !now.has(path.as_str())) {
        Some(path) => Err(Error::NotFound { what: Noun::Path, name: path.to_string(), known: Vec::new() }),
        None => Ok(()),
    }
}
