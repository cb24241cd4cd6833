//! Renew: putting a twin on a stock build, its own or another, around its belongings.
//!
//! ```
//! use yard_twin::renew;
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
//! std::fs::write(game("main").join("cabin/shifts/one.wjs"), "a long shift")?;
//! std::fs::write(game("main").join("guide/READ ME first.txt"), "spoiled")?;
//! // What is neither shipped nor a belonging waits for a word.
//! let options = renew::Options { stock: None, rest: Some(renew::Rest::Leave) };
//! let outcome = renew::apply(&yard, &renew::plan(&yard, &"main".parse()?, &options, &ctx)?, &ctx)?;
//! assert_eq!(std::fs::read_to_string(game("main").join("cabin/shifts/one.wjs"))?, "a long shift");
//! assert_ne!(std::fs::read_to_string(game("main").join("guide/READ ME first.txt"))?, "spoiled");
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

use std::time::{Duration, Instant};

use serde::Serialize;

use crate::Yard;
use crate::catalog::{TwinRow, What};
use crate::combine::{Draft, Moves, Wholes, realise};
use crate::disk;
use crate::error::{Result, TwinError};
use crate::ident::{BuildRef, TwinName};
use crate::launch::Changes;
use crate::listing::{Change, Entry, Layer, Listing, Named, Node, Reason, Spellings, Totals, diff, overlay, rebase};
use crate::ops::edits;
use crate::ops::edits::{Again, Synced};
use crate::path::RelPath;
use crate::profile::Profile;
use crate::progress::Ctx;
use crate::sheet::Sheet;
use crate::store::state::{Applied, State};
use crate::twin::Leaks;
use crate::twin::Room;
use crate::twin::derive::Deriver;
use crate::twin::markers::with_markers;
use crate::twin::names;
use crate::twin::planned;
use crate::twin::planned::PlannedChange;
use crate::twin::protection;
use crate::twin::room;
use crate::twin::settle::{PlayersOwn, Settled};

/// What is done with game files that the player added or changed, and no group of belongings explains.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Rest {
    /// They stay. What the build has changed in the same place stays as the player has it, and is named.
    Keep,
    /// They go: the state before has them.
    Leave,
}

/// What a renew may be told. By default the twin goes back on its own build, and unexplained files make it refuse.
#[derive(Clone, Debug, Default)]
pub struct Options {
    /// The stock build to put it on, of the same title.
    pub stock: Option<BuildRef>,
    /// What is done with files that nobody can explain.
    pub rest: Option<Rest>,
}

/// What a renew will do.
#[must_use = "a plan changes nothing until it is applied"]
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Plan {
    /// The twin.
    pub name: TwinName,
    /// The stock build that it is on.
    pub from: BuildRef,
    /// The one that it will be on.
    pub to: BuildRef,
    /// What the player owns and keeps, by group of belongings; other paths that the program writes, and the home, come
    /// last.
    pub kept: Changes,
    /// What of it the build keeps in another place: from where to where it goes.
    pub moved: Vec<(RelPath, RelPath)>,
    /// What stays where it is although its group is elsewhere there, each with the reason.
    pub not_moved: Vec<String>,
    /// Game files that the player added, changed or deleted, and that no group explains.
    pub rest: Vec<String>,
    /// What is done with them.
    pub what_of_the_rest: Option<Rest>,
    /// What is there now and gives way: the state before has it.
    pub left: Vec<RelPath>,
    /// What was deleted or moved away, and comes back.
    pub back: Vec<RelPath>,
    /// What the player has and the build has in another form: the player's stays.
    pub clashes: Vec<RelPath>,
    /// The profile's config edits, and what becomes of them.
    pub edits: Vec<edits::View>,
    /// Files that are written, changed or taken away to get there.
    pub game: crate::catalog::Counts,
    /// What it will hold.
    pub totals: Totals,
    /// The room that it takes on disk.
    pub room: Room,
    /// Shared files that were found to be written through their guard.
    pub leaks: Leaks,
    #[serde(skip)]
    planned: PlannedChange,
}

impl Plan {
    /// Whether it waits for a word about files that nobody can explain.
    #[must_use]
    pub fn undecided(&self) -> bool {
        !self.rest.is_empty() && self.what_of_the_rest.is_none()
    }
}

/// What a renew did.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Outcome {
    /// The twin.
    pub name: TwinName,
    /// The stock build that it is on.
    pub build: BuildRef,
    /// The number of this renew in the history; `None` if there was nothing to do.
    pub number: Option<u32>,
    /// The number of the state before it, which is the way back.
    pub before: u32,
    /// How many files of the player's were read afterwards, and are there byte for byte.
    pub verified: u64,
    /// Paths that others wrote to meanwhile: what they held is in the history.
    pub late: Vec<String>,
    /// What stood in the way and could not be kept: where it is now.
    pub set_aside: Vec<String>,
    /// How long it took.
    #[serde(serialize_with = "crate::progress::seconds")]
    pub took: Duration,
}

/// Looks at what a renew would do. What is new in the twin by then is stored, and becomes a line of its history when
/// the plan is applied.
///
/// # Errors
/// [`crate::Error::NotFound`] for the twin or the stock build, [`TwinError::OtherTitle`], [`TwinError::Protected`] if
/// game files would change, [`crate::Error::Obstructed`] where a file of the one would stand where the other has a
/// folder, [`crate::Error::Busy`] while the twin runs.
pub fn plan(yard: &Yard, name: &TwinName, options: &Options, ctx: &Ctx) -> Result<Plan> {
    let (row, mut settled) = planned::see(yard, &yard.twin_row(name, false)?, ctx)?;
    let from = settled.state.build.clone();
    let to = options.stock.clone().unwrap_or_else(|| from.clone());
    if to.title != from.title {
        let (name, build) = (row.name.to_string(), to.to_string());
        return Err(TwinError::OtherTitle { name, title: from.title.to_string(), build }.into());
    }
    // Its own build may have been taken off the list meanwhile; another one must be on it.
    let stock = yard.stock_row(&to, to == from)?;
    let (sheet, next_sheet) = (yard.sheet_of(&from)?, yard.sheet_of(&stock.build)?);
    let laid = yard.store.listing(settled.state.laid)?.sharing_paths(&settled.listing);
    let (next, _) =
        with_markers(yard.store.listing(stock.listing)?.sharing_paths(&settled.listing), next_sheet.as_ref())?;
    // Under the id that its names are by.
    let ids = names::from_stock(next_sheet.as_ref(), settled.state.named_as.as_deref());
    let next = names::renamed(yard, next, (next_sheet.as_ref(), ids), false, ctx)?.listing;
    let next = with_prepared(next, &laid)?;
    let own = Explained { sheets: [sheet.as_ref(), next_sheet.as_ref()] };
    // Edits are the last step: without them is seen whether a file is as it was laid.
    let (plain, edited) = without_edits(yard, &settled)?;
    let mut moves = Moves::between(&settled.listing, &laid, (sheet.as_ref(), next_sheet.as_ref()))?;
    let mut next = next;
    if disk::folds_case(&yard.folder_of(&row))? {
        next = Spellings::of(&settled.listing)?.respelt(next)?;
    } else if next_sheet.as_ref().is_some_and(Sheet::ignores_case) {
        moves.spell_as(&next, &settled.listing, &laid)?;
    }
    let (moved, laid) = (moves.own(&settled.listing, &laid), moves.apply(&laid)?);
    let (plain, there) = (moves.apply(&plain)?, moves.apply(&settled.listing)?);
    let edited: Vec<RelPath> = edited.iter().map(|path| moves.of(path).clone()).collect();
    let rest = own.rest(&laid, &plain, &next);
    let keep_rest = options.rest == Some(Rest::Keep);
    // A file that is gone is nothing of the player's: it comes back.
    let is_there = |path: &RelPath| plain.get(path.as_str()).is_some();
    let stays = |path: &RelPath| is_there(path) && (keep_rest || own.holds(path));
    let mut rebased = rebase(&laid, &plain, &next, stays)?;
    let wholes = Wholes::of(&plain, &laid, next_sheet.as_ref());
    if let Some(wanted) = wholes.kept_in(&next, &plain)? {
        // That the build has something else is still said; that a part would come or go is not, since it doesn't.
        rebased.named.retain(|named| named.reason == Reason::Clash || !wholes.has(&named.path));
        rebased.listing = rebase(&laid, &plain, &wanted, stays)?.listing;
    }
    let named = |reason: Reason| -> Vec<RelPath> {
        // A folder that is there with something in it is no loss and no gain.
        let folder = |path: &RelPath| {
            [&plain, &next]
                .iter()
                .any(|listing| listing.get(path.as_str()).is_some_and(|entry| entry.node == Node::EmptyFolder))
        };
        let of = rebased.named.iter().filter(|named: &&Named| named.reason == reason && !folder(&named.path));
        of.map(|named| named.path.clone()).collect()
    };
    let listing = with_edits(&rebased.listing, &plain, &there, &edited)?;
    let profile = edits::moved(&settled.state.profile, &moves, (sheet.as_ref(), next_sheet.as_ref()));
    let moved_state = State { profile, ..settled.state.clone() };
    let synced = edits_after(yard, &listing, (&there, &moves), &moved_state, &row)?;
    let comes_private = stock.private.into_iter().filter(|path| there.get(path.as_str()).is_none());
    let state = moved_state.with_private(comes_private).with_moved(&moves.pairs());
    let state = State { build: stock.build.clone(), laid: next.id(), edits: synced.applied, ..state };
    let (game, _) = PlayersOwn(next_sheet.as_ref()).counts(&there, &listing);
    let draft = Draft { base: listing.clone(), derived: synced.derived };
    protection::check_protected(yard, &row, &settled.listing, &draft, &state)?;
    let room = room::room_between(yard, &settled.listing, &listing, &state, ctx)?;
    Ok(Plan {
        room,
        name: row.name.clone(),
        from,
        to: stock.build,
        kept: kept(&next, &listing, next_sheet.as_ref()),
        moved,
        not_moved: moves.left,
        edits: synced.views,
        rest,
        what_of_the_rest: options.rest,
        left: named(Reason::Replaced),
        back: named(Reason::Back),
        clashes: named(Reason::Clash),
        game,
        totals: listing.totals(),
        leaks: std::mem::take(&mut settled.leaks),
        planned: PlannedChange::new(row, settled, state, draft, What::Renewed).with_laid(next),
    })
}

/// Renews a twin: what differs is staged as a whole, then published entry by entry. Belongings and the profile are not
/// touched; what gives way stays in the history.
///
/// When it returns, the change has survived a power loss. A crash is finished by the next opening of the yard; an error
/// or a wish to stop undoes what was done.
///
/// # Errors
/// [`TwinError::NotVerified`] if something else wrote to the player's files at once;
/// [`TwinError::Unexplained`] if the plan waits for a word about the rest; then as
/// [`restore::apply`](crate::restore::apply).
pub fn apply(yard: &Yard, plan: &Plan, ctx: &Ctx) -> Result<Outcome> {
    let began = Instant::now();
    if plan.undecided() {
        return Err(TwinError::Unexplained { name: plan.name.to_string(), paths: plan.rest.clone() }.into());
    }
    let applied = planned::apply_planned(yard, &plan.planned, ctx)?;
    let kept = plan.kept.groups.iter().flat_map(|group| group.new.iter().chain(&group.changed));
    let made = |path: &String| plan.planned.draft.derived.iter().any(|derive| derive.of.path.as_str() == path);
    let kept = kept.filter(|path| !made(path)).filter_map(|path| plan.planned.draft.base.get(path));
    let (verified, _) = planned::verify(yard, &plan.planned.seen.row, kept, ctx)?;
    Ok(Outcome {
        name: plan.name.clone(),
        build: plan.to.clone(),
        number: applied.number,
        before: applied.before,
        verified,
        late: applied.late,
        set_aside: applied.set_aside,
        took: began.elapsed(),
    })
}

/// A twin's listing as it would be without its config edits, and the files that have some.
fn without_edits(yard: &Yard, settled: &Settled) -> Result<(Listing, Vec<RelPath>)> {
    let synced = edits::sync_edits(yard, &settled.listing, &settled.state.edits, &[], &Again::None)?;
    let edited = synced.derived.iter().map(|derive| derive.of.path.clone()).collect();
    let op = yard.begin(&Ctx::default())?;
    let draft = Draft { base: settled.listing.clone(), derived: synced.derived };
    Ok((realise(draft, &Deriver::new(yard, &op, true)?, &Ctx::default())?, edited))
}

/// The profile's edits in what will be there: those whose file the new build brings are made in that one.
fn edits_after(
    yard: &Yard,
    next: &Listing,
    (there, moves): (&Listing, &Moves),
    state: &State,
    row: &TwinRow,
) -> Result<Synced> {
    let path = yard.folder_of(row).join("profile.toml");
    let profile = Profile::parse(&state.profile, &path)?.in_use()?;
    let same = |edit: &Applied| {
        let node = |listing: &Listing| listing.get(edit.file.as_str()).map(|entry| entry.node.clone());
        node(next) == node(there)
    };
    let applied = state.edits.iter().map(|edit| Applied { file: moves.of(&edit.file).clone(), ..edit.clone() });
    let applied: Vec<Applied> = applied.filter(same).collect();
    edits::sync_edits(yard, next, &applied, &profile.edits, &Again::None)
}

/// What is to be there, with the files that stay as they are in their edited form.
fn with_edits(next: &Listing, plain: &Listing, there: &Listing, edited: &[RelPath]) -> Result<Listing> {
    let node = |listing: &Listing, path: &RelPath| listing.get(path.as_str()).map(|entry| entry.node.clone());
    let stay = edited.iter().filter(|path| node(next, path) == node(plain, path));
    let entries = stay.filter_map(|path| Some((path.clone(), Some(there.get(path.as_str())?.clone()))));
    overlay(next, &Layer::new(entries.collect())?)
}

/// The player's own in a listing, by group.
fn kept(laid: &Listing, there: &Listing, sheet: Option<&Sheet>) -> Changes {
    let mut kept = crate::launch::changes(laid, there, sheet);
    kept.groups.iter_mut().for_each(|group| group.gone.clear());
    kept.groups.retain(|group| group.new.len() + group.changed.len() > 0);
    kept
}

/// What a sheet explains, in the build that the twin comes from or the one that it goes to.
struct Explained<'a> {
    sheets: [Option<&'a Sheet>; 2],
}

impl Explained<'_> {
    /// Whether what is there is the player's or the program's own, and stays. What is worth nothing does not.
    fn holds(&self, path: &RelPath) -> bool {
        let scratch = |sheet: &Option<&Sheet>| sheet.is_some_and(|sheet| sheet.is_scratch(path));
        !self.sheets.iter().any(scratch) && self.sheets.iter().any(|sheet| PlayersOwn(*sheet).holds(path))
    }

    /// Game files that are neither as they were laid nor as they are wanted, and that nothing explains. What is only gone
    /// is no file that could be lost.
    fn rest(&self, laid: &Listing, there: &Listing, next: &Listing) -> Vec<String> {
        let scratch = |path: &RelPath| self.sheets.iter().flatten().any(|sheet| sheet.is_scratch(path));
        let unexplained = diff(laid, there).filter_map(|change| match change {
            Change::New(after) | Change::Changed { after, .. } => Some(after),
            Change::Gone(_) => None,
        });
        unexplained
            .filter(|entry| entry.node != Node::EmptyFolder && !scratch(&entry.path) && !self.holds(&entry.path))
            .filter(|entry| next.get(entry.path.as_str()).is_none_or(|wanted| wanted.node != entry.node))
            .map(|entry| entry.path.to_string())
            .collect()
    }
}

/// The stock listing with what was laid in the home before the first start: it is laid again.
fn with_prepared(next: Listing, laid: &Listing) -> Result<Listing> {
    let prepared: Vec<Entry> = crate::launch::prepared()
        .filter(|path: &String| !next.has(path))
        .filter_map(|path: String| laid.get(&path).cloned())
        .collect();
    if prepared.is_empty() {
        return Ok(next);
    }
    let mut entries = next.into_entries();
    entries.extend(prepared);
    entries.sort_by(|a, b| a.path.cmp(&b.path));
    Listing::with_folders_implied(entries)
}
