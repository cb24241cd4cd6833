//! Carry: bringing belongings from one twin to another, or from outside into a twin.
//!
//! ```
//! use yard_twin::{OnClash, carry};
//! # use yard_twin::{Ctx, Yard, clone, intake};
//! # let place = tempfile::tempdir()?;
//! # let installed = place.path().join("installed");
//! # standins::write_small_wexcombe(&installed, "1.4")?;
//! # let (yard, ctx) = (Yard::init(place.path().join("yard"))?, Ctx::new());
//! # std::fs::write(yard.sheet_path(&"wexcombe".parse()?), standins::WEXCOMBE_SHEET)?;
//! # let options = intake::Options::new(&installed, "wexcombe".parse()?);
//! # intake::apply(&yard, &intake::plan(&yard, options, &ctx)?, &ctx)?;
//! # for name in ["old", "new"] {
//! #     let plan = clone::plan(&yard, &"wexcombe@1.4".parse()?, &name.parse()?, clone::Options::default(), &ctx)?;
//! #     clone::apply(&yard, &plan, &ctx)?;
//! # }
//! # let game = |twin: &str| place.path().join("yard/twins").join(twin).join("game");
//! std::fs::write(game("old").join("cabin/shifts/one.wjs"), "a long shift")?;
//! std::fs::write(game("new").join("cabin/shifts/one.wjs"), "another")?;
//! let options = carry::Options { groups: vec!["shifts".into()], ..carry::Options::default() };
//! let mut plan = carry::plan(&yard, &carry::Origin::Twin("old".parse()?), &"new".parse()?, &options, &ctx)?;
//! while let Some(clash) = plan.items().iter().find(|item| item.does == carry::Does::Undecided) {
//!     let place = clash.to.clone();
//!     plan = plan.decide(&yard, &place, OnClash::Both, &ctx)?;
//! }
//! let outcome = carry::apply(&yard, &plan, &ctx)?;
//! assert_eq!(outcome.verified, 1);
//! assert!(game("new").join("cabin/shifts/one 2.wjs").is_file());
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

pub(crate) mod incoming;
mod outward;

pub use incoming::AsShipped;
pub use outward::{FolderOutcome, FolderPlan, apply_to_folder, plan_to_folder};

pub use crate::combine::{CarryItem, Does, Met};

use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::path::PathBuf;
use std::time::{Duration, Instant};

use jiff::Timestamp;
use serde::Serialize;

use crate::Yard;
use crate::archive::NameEncoding;
use crate::catalog::{TwinRow, What};
use crate::combine::{Decided, Incoming, Target, decide, without};
use crate::disk;
use crate::error::{CarryError, Error, Noun, Result};
use crate::ident::{BuildRef, TwinName};
use crate::listing::{Entry, Layer, Listing, Node, overlay};
use crate::ops::carry::incoming::{Found, Selection, incoming_from_home, incoming_from_place};
use crate::path::RelPath;
use crate::progress::Ctx;
use crate::sheet::{OnClash, Sheet};
use crate::twin::Leaks;
use crate::twin::Room;
use crate::twin::planned;
use crate::twin::planned::{Fetch, PlannedChange, Seen};
use crate::twin::protection;
use crate::twin::room;
use crate::twin::settle::Settled;
use crate::yard::moved::{self, Moving, TakenAway};

/// Where belongings come from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Origin {
    /// Another twin, as it is now.
    Twin(TwinName),
    /// A real home, in which the title was played before. It is only read.
    Home(PathBuf),
    /// A folder or one file that was downloaded. It is only read.
    Place(PathBuf),
}

/// What is carried, and how. Nothing is by default.
#[derive(Clone, Debug, Default)]
pub struct Options {
    /// Groups of belongings; just one for what was downloaded.
    pub groups: Vec<String>,
    /// Patterns over the paths of a twin: what the player added or changed there is carried, in a group or in none.
    pub files: Vec<String>,
    /// What is done where both have something of their own in one place; the sheet says it otherwise, or nobody.
    pub on_clash: Option<OnClash>,
    /// What is done in single places, by the path in the twin that they go to, whatever is said of the others.
    pub decisions: BTreeMap<RelPath, OnClash>,
    /// Take them out of the other twin, or of the folder or file that is named, once they are verified in this one.
    pub take_out: bool,
    /// Carry what is as it was shipped, too, where the other twin has nothing in its place: of a build that was taken in after
    /// it was played, it may be the player's.
    pub shipped_too: bool,
    /// How names in an archive are written that are not UTF-8.
    pub names: Option<NameEncoding>,
}

/// One end of a carry.
#[derive(Clone, Debug, Serialize)]
pub struct End {
    /// The twin, or the place outside.
    pub name: String,
    /// The stock build that the twin is on.
    pub build: Option<BuildRef>,
    /// How many things of the player's own are in the groups that are carried, by group: files, slots or worlds. The rest
    /// are files, under an empty name.
    pub things: Vec<(String, u64)>,
    /// When the twin's program was last started, if it is a twin and it ever was.
    pub last_run: Option<Timestamp>,
}

/// What a carry will do.
#[must_use = "a plan changes nothing until it is applied"]
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Plan {
    /// Where they come from.
    pub from: End,
    /// Where they go.
    pub to: End,
    /// The room that it takes on disk.
    pub room: Room,
    items: Vec<CarryItem>,
    /// What goes, since it is a part of something that is replaced as a whole. The history has it.
    pub gone: Vec<RelPath>,
    /// What is no belonging, since it was shipped just so.
    pub as_shipped: AsShipped,
    /// Files in those groups that a mod brought and that are missing there, by the mod: mods are added, not carried.
    pub of_mods: BTreeMap<String, u64>,
    /// What can't be carried, each with its reason.
    pub left: Vec<String>,
    /// Whether they are taken out of where they come from afterwards.
    pub take_out: bool,
    /// Shared files that were found to be written through their guard.
    pub leaks: Leaks,
    /// What it was planned from, so that it can be planned again.
    #[serde(skip)]
    asked: (Origin, Options),
    #[serde(skip)]
    entries: Vec<Entry>,
    #[serde(skip)]
    planned: PlannedChange,
    #[serde(skip)]
    out: Option<PlannedChange>,
    /// Files outside the yard that go.
    #[serde(skip)]
    outside: Vec<Moving>,
    /// The twin that they come from and stay in.
    #[serde(skip)]
    source: Option<Seen>,
}

/// What a carry did.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Outcome {
    /// The twin that they are in now.
    pub name: TwinName,
    /// How many were put there, under a free name or not.
    pub put: u64,
    /// How many were there already.
    pub same: u64,
    /// Where they come from that were not carried, since something of the twin's own is there.
    pub skipped: Vec<String>,
    /// How many were read again in the twin, and are there byte for byte.
    pub verified: u64,
    /// Their bytes.
    pub bytes: u64,
    /// The number of this carry in the twin's history; `None` if there was nothing to do.
    pub number: Option<u32>,
    /// The number of the state before it, which is the way back.
    pub before: u32,
    /// How many were taken out of the other twin.
    pub taken_out: u64,
    /// The number of the state before that in the other twin's history.
    pub before_taken_out: Option<u32>,
    /// What became of the files outside the yard that were to be taken out of their place.
    pub taken_away: Option<TakenAway>,
    /// Paths that others wrote to meanwhile: what they held is in the history.
    pub late: Vec<String>,
    /// What stood in the way and could not be kept: where it is now.
    pub set_aside: Vec<String>,
    /// How long it took.
    #[serde(serialize_with = "crate::progress::seconds")]
    pub took: Duration,
}

impl Plan {
    /// Each belonging and what is done with it, by where it goes.
    #[must_use]
    pub fn items(&self) -> &[CarryItem] {
        &self.items
    }

    /// The same carry with a decision about one thing more: by its place in the twin that they go to, or by that of one of
    /// its parts, as in [`CarryItem::thing`] and [`CarryItem::to`]. It is planned again, from both twins as they are now.
    ///
    /// # Errors
    /// As [`plan`]; [`crate::Error::NotFound`] if nothing comes to that place.
    pub fn decide(&self, yard: &Yard, place: &RelPath, does: OnClash, ctx: &Ctx) -> Result<Self> {
        let (from, mut options) = self.asked.clone();
        options.decisions.insert(place.clone(), does);
        plan(yard, &from, &self.planned.seen.row.name, &options, ctx)
    }

    /// How many things wait for a word about what is to be done with them.
    #[must_use]
    pub fn undecided(&self) -> usize {
        let waiting = self.items.iter().filter(|item| item.does == Does::Undecided);
        waiting.map(|item| (&item.group, &item.thing)).collect::<BTreeSet<_>>().len()
    }
}

/// So many places are named where another one was meant.
const KNOWN: usize = 20;

/// A twin that takes part, settled just now.
struct Party {
    row: TwinRow,
    settled: Settled,
    laid: Listing,
    sheet: Sheet,
}

/// Looks at what a carry would do. What is as it was shipped is no belonging, and what was shipped with the twin that
/// they go to, and nobody touched there, is no clash. What is new in the twins is stored, and becomes a line of their
/// history when the plan is applied.
///
/// # Errors
/// [`CarryError`], [`crate::Error::NotFound`] for a twin or a group, [`crate::Error::Obstructed`] where a file would
/// take a folder's place, [`crate::Error::Clash`] where two would be one, [`crate::TwinError::Protected`] if game files
/// of a protected twin would change, [`crate::Error::Busy`] while a twin runs.
pub fn plan(yard: &Yard, from: &Origin, to: &TwinName, options: &Options, ctx: &Ctx) -> Result<Plan> {
    if options.take_out && matches!(from, Origin::Home(_)) {
        return Err(CarryError::OnlyNamed.into());
    }
    let mut to = party(yard, yard.twin_row(to, false)?, ctx)?;
    let wish = Selection::new(options, &to.sheet)?;
    let (source, found) = match from {
        Origin::Home(home) => (None, incoming_from_home(home, &wish, &to.sheet, ctx)?),
        Origin::Place(place) => {
            (None, incoming_from_place(yard, place, (one_group(options)?, options.names), &to.sheet, ctx)?)
        }
        Origin::Twin(name) => {
            let row = yard.twin_row(name, false)?;
            if row.id == to.row.id {
                return Err(CarryError::SameTwin(name.to_string()).into());
            }
            let source = party(yard, row, ctx)?;
            let folder = yard.folder_of(&source.row);
            let twin = (&source.settled, &source.laid, folder.as_path());
            let there = (&to.settled.listing, to.settled.state.named_as.as_deref());
            let found = incoming::incoming_from_twin(yard, twin, (&source.sheet, &to.sheet), there, &wish, ctx)?;
            (Some(source), found)
        }
    };
    let nothing = options.groups.is_empty() && found.coming.is_empty() && found.left.is_empty();
    if let Some(pattern) = options.files.first().filter(|_| nothing) {
        let why = "it catches nothing that the player added or changed".into();
        return Err(CarryError::Pattern { pattern: pattern.clone(), why }.into());
    }
    let asked = (from.clone(), options.clone());
    let from = End {
        name: match from {
            Origin::Twin(_) => source.as_ref().map(|source| source.row.name.to_string()).unwrap_or_default(),
            Origin::Home(path) | Origin::Place(path) => path.display().to_string(),
        },
        build: source.as_ref().map(|source| source.settled.state.build.clone()),
        things: counts(found.coming.iter().map(|coming| {
            let (group, path) = (coming.group.as_deref(), &coming.entry.path);
            (group, to.sheet.unit_of(path, group.filter(|_| coming.whole)))
        })),
        last_run: source.as_ref().map(|source| last_run(yard, &source.row)).transpose()?.flatten(),
    };
    let to_side = End {
        name: to.row.name.to_string(),
        build: Some(to.settled.state.build.clone()),
        things: own(&to, &wish),
        last_run: last_run(yard, &to.row)?,
    };
    let leaks = std::mem::take(&mut to.settled.leaks);
    let Found { coming, fetch, left, private, as_shipped, of_mods } = found;
    if options.take_out && fetch.iter().any(|fetch| fetch.member.is_some()) {
        return Err(CarryError::OnlyNamed.into());
    }
    let Decided { items: decided, gone } = decided(yard, coming, &to, options)?;
    let outside = if options.take_out { outside(&decided, &fetch) } else { Vec::new() };
    let (out, source) = match source {
        Some(source) if options.take_out => (Some(take_out(yard, source, &decided, &to.row)?), None),
        Some(source) => (None, Some(Seen::new(source.row, source.settled))),
        None => (None, None),
    };
    let (items, entries): (Vec<_>, Vec<_>) = decided.into_iter().unzip();
    let mut planned = planned_for(yard, to, (&items, &entries, &gone), (&from.name, &private))?;
    let puts: HashSet<_> = puts(&items, &entries).filter_map(|entry| entry.node.content()).collect();
    planned.fetch = fetch.into_iter().filter(|fetch| puts.contains(&fetch.content)).collect();
    // What comes from outside is stored as well as laid.
    let fetched: u64 = planned.fetch.iter().map(|fetch| fetch.stat.size).sum();
    let (there, next) = (&planned.seen.there, &planned.draft.base);
    let mut room = room::room_between(yard, there, next, &planned.to, ctx)?;
    room.needs += fetched;
    let take_out = options.take_out;
    Ok(Plan {
        room,
        from,
        to: to_side,
        items,
        gone,
        as_shipped,
        of_mods,
        left,
        take_out,
        leaks,
        asked,
        entries,
        planned,
        out,
        outside,
        source,
    })
}

/// The files outside the yard that go once they are in the twin.
fn outside(decided: &[(CarryItem, Entry)], fetch: &[Fetch]) -> Vec<Moving> {
    let carried: HashSet<&str> = decided
        .iter()
        .filter(|(item, _)| !matches!(item.does, Does::Leave | Does::Undecided))
        .map(|(item, _)| item.from.as_str())
        .collect();
    let goes = fetch.iter().filter(|fetch| carried.contains(fetch.path.display().to_string().as_str()));
    goes.map(|fetch| Moving {
        path: fetch.path.clone(),
        content: Some(fetch.content),
        own: None,
        stat: Some(fetch.stat),
    })
    .collect()
}

fn party(yard: &Yard, row: TwinRow, ctx: &Ctx) -> Result<Party> {
    let (row, settled) = planned::see(yard, &row, ctx)?;
    let (laid, sheet) = (planned::laid(yard, &settled)?, planned::sheet_needed(yard, &settled.state.build)?);
    Ok(Party { row, settled, laid, sheet })
}

pub(crate) fn last_run(yard: &Yard, row: &TwinRow) -> Result<Option<Timestamp>> {
    Ok(yard.catalog.newest_run(row.id)?.map(|run| run.started_at))
}

fn decided(yard: &Yard, coming: Vec<Incoming>, to: &Party, options: &Options) -> Result<Decided> {
    let folds = to.sheet.ignores_case() || disk::folds_case(&yard.folder_of(&to.row))?;
    let target = Target { there: &to.settled.listing, laid: &to.laid, sheet: &to.sheet, folds };
    let by_sheet = |group: Option<&str>| to.sheet.belongings.get(group?)?.on_clash;
    // Places are spelt as they are in the twin, which only who decides knows.
    let met = RefCell::new(HashSet::new());
    let rule = |places: &[&str], group: Option<&str>| {
        met.borrow_mut().extend(places.iter().map(|place| (*place).to_owned()));
        let said = options.decisions.iter().find(|(place, _)| places.contains(&place.as_str()));
        said.map(|(_, does)| *does).or(options.on_clash).or_else(|| by_sheet(group))
    };
    let decided = decide(coming, &target, rule)?;
    if let Some(other) = options.decisions.keys().find(|place| !met.borrow().contains(place.as_str())) {
        let mut known: Vec<String> = decided.items.iter().map(|(item, _)| item.thing.clone()).collect();
        known.dedup();
        known.truncate(KNOWN);
        return Err(Error::NotFound { what: Noun::BelongingAt, name: other.to_string(), known });
    }
    Ok(decided)
}

fn planned_for(
    yard: &Yard,
    to: Party,
    (items, entries, gone): (&[CarryItem], &[Entry], &[RelPath]),
    (from, private): (&str, &HashSet<String>),
) -> Result<PlannedChange> {
    let put = puts(items, entries).map(|entry| (entry.path.clone(), Some(entry.clone())));
    let put = put.chain(gone.iter().map(|path| (path.clone(), None)));
    let next = overlay(&to.settled.listing, &Layer::new(put.collect())?)?;
    let private = items.iter().zip(entries).filter(|(item, _)| is_put(item) && private.contains(&item.from));
    let state = to.settled.state.clone().with_private(private.map(|(_, entry)| entry.path.clone()));
    let draft = next.into();
    protection::check_protected(yard, &to.row, &to.settled.listing, &draft, &state)?;
    Ok(PlannedChange::new(to.row, to.settled, state, draft, What::Carried { from: from.into() }))
}

/// The other twin without what is in this one then.
fn take_out(yard: &Yard, source: Party, decided: &[(CarryItem, Entry)], to: &TwinRow) -> Result<PlannedChange> {
    let carried = decided.iter().filter(|(item, _)| !matches!(item.does, Does::Leave | Does::Undecided));
    let gone = carried.map(|(item, _)| RelPath::new(&item.from)).collect::<Result<Vec<_>>>()?;
    let next = without(&source.settled.listing, &source.laid, &gone.iter().collect())?;
    let state = source.settled.state.clone();
    let draft = next.into();
    protection::check_protected(yard, &source.row, &source.settled.listing, &draft, &state)?;
    Ok(PlannedChange::new(source.row, source.settled, state, draft, What::CarriedAway { to: to.name.to_string() }))
}

/// Carries: what comes is staged as a whole, then put in place entry by entry; then all of it is read again in the twin,
/// and only then taken out of the other one, where that was asked for.
///
/// When it returns, the change has survived a power loss. A crash is finished by the next opening of the yard, and never
/// takes anything out that has not arrived; an error or a wish to stop undoes what was done.
///
/// # Errors
/// [`CarryError::Undecided`], [`crate::TwinError::ChangedMeanwhile`] if a twin is not as it was when this was planned,
/// [`crate::IntakeError::Changed`] if a file outside is not, [`crate::Error::Busy`], [`crate::Error::Io`]: nothing is
/// changed then. [`crate::TwinError::NotVerified`] if something else wrote there at once: nothing is taken out then.
pub fn apply(yard: &Yard, plan: &Plan, ctx: &Ctx) -> Result<Outcome> {
    let began = Instant::now();
    let name = plan.planned.seen.row.name.clone();
    match plan.undecided() {
        0 => {}
        count => return Err(CarryError::Undecided { count, twin: name.to_string() }.into()),
    }
    plan.source.as_ref().map_or(Ok(()), |source| source.write_down(yard, ctx))?;
    let applied = planned::apply_planned(yard, &plan.planned, ctx)?;
    let carried = plan.items.iter().zip(&plan.entries).filter(|(item, _)| item.does != Does::Leave);
    let (verified, bytes) = planned::verify(yard, &plan.planned.seen.row, carried.map(|(_, entry)| entry), ctx)?;
    let out = plan.out.as_ref().map(|out| planned::apply_planned(yard, out, ctx)).transpose()?;
    let taken_away = take_away(yard, plan, ctx)?;
    let count = |does: &[Does]| plan.items.iter().filter(|item| does.contains(&item.does)).count() as u64;
    let skipped = plan.items.iter().filter(|item| item.does == Does::Leave).map(|item| item.from.clone()).collect();
    let (put, same) = (count(&[Does::Put, Does::Beside]), count(&[Does::Nothing]));
    Ok(Outcome {
        name,
        put,
        same,
        skipped,
        verified,
        bytes,
        number: applied.number,
        before: applied.before,
        taken_out: out.as_ref().map_or(0, |_| put + same),
        before_taken_out: out.as_ref().map(|out| out.before),
        taken_away,
        late: applied.late.into_iter().chain(out.into_iter().flat_map(|out| out.late)).collect(),
        set_aside: applied.set_aside,
        took: began.elapsed(),
    })
}

/// Deletes files outside the yard that are in the twin by now.
fn take_away(yard: &Yard, plan: &Plan, ctx: &Ctx) -> Result<Option<TakenAway>> {
    let (Origin::Place(place), true) = (&plan.asked.0, plan.take_out) else { return Ok(None) };
    // As the paths of its files were found.
    let place = disk::canonical(place).unwrap_or_else(|_| place.clone());
    moved::take_away_alone(yard, &place, &plan.outside, ctx).map(Some)
}

/// The entries that are put into the twin.
fn puts<'a>(items: &'a [CarryItem], entries: &'a [Entry]) -> impl Iterator<Item = &'a Entry> {
    items.iter().zip(entries).filter(|(item, _)| is_put(item)).map(|(_, entry)| entry)
}

fn is_put(item: &CarryItem) -> bool {
    matches!(item.does, Does::Put | Does::Beside)
}

fn one_group(options: &Options) -> Result<&str> {
    match options.groups.as_slice() {
        [one] if options.files.is_empty() => Ok(one),
        _ => Err(CarryError::Nothing.into()),
    }
}

/// How many things of the player's own a twin has, as far as they are wished for, by group.
fn own(party: &Party, wish: &Selection) -> Vec<(String, u64)> {
    let files = party.settled.listing.entries().iter().filter(|entry| entry.node != Node::EmptyFolder);
    let things = files.filter_map(|entry| {
        let group = party.sheet.group_of(&entry.path);
        let shipped = || party.laid.get(entry.path.as_str()).is_some_and(|laid| laid.node == entry.node);
        let wished = wish.has(&entry.path, group) && !shipped();
        wished.then(|| (group, party.sheet.unit_of(&entry.path, group)))
    });
    counts(things)
}

fn counts<'a>(things: impl Iterator<Item = (Option<&'a str>, &'a str)>) -> Vec<(String, u64)> {
    let mut counts: BTreeMap<String, u64> = BTreeMap::new();
    let things: BTreeSet<_> = things.collect();
    things.into_iter().for_each(|(group, _)| *counts.entry(group.unwrap_or_default().into()).or_default() += 1);
    counts.into_iter().collect()
}
