//! Changing a twin's mods: what is to be laid is worked out, and put below what the player has.

use std::collections::{BTreeMap, BTreeSet};
use std::time::{Duration, Instant};

use serde::Serialize;

use super::fits::{check_build, check_together};
use super::packages::{Packed, keep};
use super::picture::{Top, picture};
use super::{Change, To, find};
use crate::Yard;
use crate::catalog::{Counts, ModDeed, TwinRow, What};
use crate::error::{Error, Result};
use crate::ident::{ModName, TwinName};
use crate::listing::{Entry, Layer, Listing, Node, Reason, Rebased, Totals, overlay};
use crate::ops::edits;
use crate::ops::recombine::{Finished, Scene, is_folder};
use crate::path::{RelPath, at_and_above};
use crate::placing::{ModUse, Placed};
use crate::progress::Ctx;
use crate::sheet::PathSet;
use crate::twin::Leaks;
use crate::twin::mods::{self, Coming};
use crate::twin::planned::{self, PlannedChange};
use crate::twin::room::{self, Room};
use crate::twin::settle::{PlayersOwn, Settled};

/// Where the player and a mod want different things: which of the two, by path.
#[derive(Clone, Debug, Default)]
pub struct Decisions {
    /// Paths at which the mod's is taken; everywhere else the player's stays.
    pub take_mods: BTreeSet<RelPath>,
}

/// What the files of a mod that comes or changes meet.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct Tally {
    /// Where nothing was.
    pub new: u64,
    /// In the place of a file of the stock build.
    pub over_stock: u64,
    /// In the place of another mod's.
    pub over_mods: u64,
    /// Just these files were there already: they count as the mod's from now on.
    pub already: u64,
    /// Below those of a mod that lies over it.
    pub covered: u64,
    /// In the place of what is the player's own, which stays.
    pub hidden: u64,
    /// What it takes away.
    pub removes: u64,
    /// What goes inside archives of the program.
    pub inside: u64,
}

/// What a change of a twin's mods will do.
#[must_use = "a plan changes nothing until it is applied"]
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Plan {
    /// The twin.
    pub name: TwinName,
    /// What is done.
    pub deed: ModDeed,
    /// With which mods.
    pub mods: Vec<ModName>,
    /// How one that comes is placed, and why so.
    pub placed: Option<(crate::placing::Choices, String)>,
    /// Files of its package that are for people, and are not laid.
    pub notes: Vec<String>,
    /// What its files meet, for one that comes.
    pub tally: Tally,
    /// What the player has in the place of a mod's file: it stays.
    pub mine: Vec<RelPath>,
    /// What the player had deleted, and comes back, since what is wanted there is another one now.
    pub back: Vec<RelPath>,
    /// What the player had, and gives way since that was said.
    pub given_way: Vec<RelPath>,
    /// What was written into the folders of a mod that goes: kept aside until it is on again.
    pub aside: Vec<RelPath>,
    /// What comes back of what was kept aside.
    pub from_aside: Vec<RelPath>,
    /// Paths that the mod's sheet expects, and that will not be there.
    pub missing: Vec<RelPath>,
    /// What the mod's sheet has to say to the player.
    pub note: Option<String>,
    /// The top of the game folder.
    pub top: Vec<Top>,
    /// The config edits of mods and profile, and what becomes of them.
    pub edits: Vec<edits::View>,
    /// Files that are written, changed or taken away to get there.
    pub game: Counts,
    /// The same for what is the player's own.
    pub own: Counts,
    /// What the twin will hold.
    pub totals: Totals,
    /// The room that it takes on disk.
    pub room: Room,
    /// Shared files that were found to be written through their guard.
    pub leaks: Leaks,
    #[serde(skip)]
    pub(super) package: Option<Packed>,
    #[serde(skip)]
    planned: PlannedChange,
    #[serde(skip)]
    put_aside: Vec<Listing>,
}

impl Plan {
    /// Whether the twin has just this already.
    #[must_use]
    pub fn changes_nothing(&self) -> bool {
        self.planned.changes_nothing()
    }
}

/// What a change of a twin's mods did.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Outcome {
    /// The twin.
    pub name: TwinName,
    /// The number of the change in the history; `None` if there was nothing to do.
    pub number: Option<u32>,
    /// The number of the state before it, which is the way back.
    pub before: u32,
    /// Paths that others wrote to meanwhile: what they held is in the history.
    pub late: Vec<String>,
    /// What stood in the way and could not be kept: where it is now.
    pub set_aside: Vec<String>,
    /// How long it took.
    #[serde(serialize_with = "crate::progress::seconds")]
    pub took: Duration,
}

/// What is aimed at.
pub(super) struct Aim {
    pub(super) deed: ModDeed,
    /// The mods that it is about.
    pub(super) about: Vec<ModName>,
    /// All of the twin's mods as they are to be.
    pub(super) wanted: Vec<ModUse>,
    /// The package of the one that comes.
    pub(super) package: Option<Packed>,
    pub(super) placed: Option<(crate::placing::Choices, String)>,
}

/// Looks at what a change of a twin's mods would do. What the player has changed stays, but where it was decided otherwise.
///
/// # Errors
/// [`crate::Error::NotFound`] for the twin or a mod; [`crate::ModError`] where they don't go together;
/// [`crate::TwinError::Protected`]; [`crate::Error::Obstructed`] where what the player has is in the way;
/// [`crate::Error::Busy`] while the twin runs.
pub fn plan(yard: &Yard, name: &TwinName, change: &Change, decisions: &Decisions, ctx: &Ctx) -> Result<Plan> {
    let (row, settled) = planned::see(yard, &yard.twin_row(name, false)?, ctx)?;
    let aim = aim(change, &settled.state.mods)?;
    plan_for(yard, (row, settled), aim, decisions, ctx)
}

fn aim(change: &Change, there: &[ModUse]) -> Result<Aim> {
    let mut wanted = there.to_vec();
    let (deed, about) = match change {
        Change::Off(names) | Change::On(names) => {
            let on = matches!(change, Change::On(_));
            for name in names {
                let at = find(&wanted, name)?;
                wanted[at].on = on;
            }
            (if on { ModDeed::On } else { ModDeed::Off }, names.clone())
        }
        Change::Remove(names) => {
            for name in names {
                let at = find(&wanted, name)?;
                wanted.remove(at);
            }
            (ModDeed::Removed, names.clone())
        }
        Change::Move(name, to) => {
            let moved = wanted.remove(find(&wanted, name)?);
            let at = match to {
                To::Top => wanted.len(),
                To::Over(other) => find(&wanted, other)? + 1,
                To::Under(other) => find(&wanted, other)?,
            };
            wanted.insert(at, moved);
            (ModDeed::Moved, vec![name.clone()])
        }
    };
    // As they are called, not as they were typed.
    let called = |name: &ModName| there.iter().find(|used| used.name.key() == name.key()).map(|used| used.name.clone());
    let about = about.iter().filter_map(called).collect();
    Ok(Aim { deed, about, wanted, package: None, placed: None })
}

pub(super) fn plan_for(
    yard: &Yard,
    (row, settled): (TwinRow, Settled),
    aim: Aim,
    decisions: &Decisions,
    ctx: &Ctx,
) -> Result<Plan> {
    let Aim { deed, about, mut wanted, package, placed } = aim;
    let before = settled.state.mods.clone();
    let build = settled.state.build.clone();
    let coming = package.as_ref().map(|packed| Coming {
        id: packed.package.encode().0,
        sheet: &packed.sheet,
        files: &packed.files,
    });
    let mut scene = Scene::look(yard, (row, settled), (&build, &wanted, coming.as_ref()), ctx)?;
    let is_about = |name: &ModName| about.iter().any(|about| about.key() == name.key());
    for placed in scene.mods.iter().filter(|placed| is_about(&placed.of.name)) {
        check_build(yard, (&scene.row.name, &build), &placed.of, &placed.sheet)?;
    }
    check_together(&scene.mods)?;
    let mut put_aside = Vec::new();
    let mut aside = Vec::new();
    for used in before.iter().filter(|used| used.on) {
        let goes = |other: &&mut ModUse| other.name.key() == used.name.key();
        let there = wanted.iter_mut().find(goes);
        if there.as_ref().is_some_and(|there| there.on) {
            continue;
        }
        let written = take_aside(yard, &mut scene, used)?;
        aside.extend(written.entries().iter().map(|entry| entry.path.clone()));
        if let Some(there) = there.filter(|_| !written.entries().is_empty()) {
            there.aside = Some(written.id());
            put_aside.push(written);
        }
    }
    let mut from_aside = Vec::new();
    for used in wanted.iter_mut().filter(|used| used.on) {
        if let Some(aside) = used.aside.take() {
            from_aside.extend(bring_back(&mut scene, &yard.store.listing(aside)?)?);
        }
    }
    let rebased = scene.rebase(yard, |path| !decisions.take_mods.contains(path), ctx)?;
    let mut named = Named::of(&rebased, &scene, &from_aside);
    named.given_way.retain(|path| !aside.contains(path));
    let tally = tally(&scene, &rebased.listing, &about);
    let missing = expected(&scene.mods, &rebased.listing, &about);
    let inlaid: Vec<&str> = scene.composed.inlaid.keys().map(RelPath::as_str).collect();
    let top = picture(&scene.plain, &rebased.listing, &inlaid);
    let note = scene.mods.iter().filter(|placed| is_about(&placed.of.name) && placed.of.on);
    let note = note.filter(|_| !matches!(deed, ModDeed::Moved)).find_map(|placed| placed.sheet.after.note.clone());
    let (name, leaks) = (scene.row.name.clone(), std::mem::take(&mut scene.settled.leaks));
    let next_sheet = scene.next_sheet.clone();
    let what = What::Mods { deed, mods: about.iter().map(ToString::to_string).collect() };
    let Finished { listing, there, planned, views, .. } = scene.finish(yard, &rebased.listing, (wanted, what))?;
    let (game, own) = PlayersOwn(next_sheet.as_ref()).counts(&there, &listing);
    let notes = placed.as_ref().map(|(choices, _)| notes(choices, package.as_ref())).unwrap_or_default();
    Ok(Plan {
        name,
        deed,
        mods: about,
        placed,
        notes,
        tally,
        mine: named.mine,
        back: named.back,
        given_way: named.given_way,
        aside,
        from_aside,
        missing,
        note,
        top,
        edits: views,
        game,
        own,
        totals: listing.totals(),
        room: room::room_between(yard, &planned.seen.there, &listing, &planned.to, ctx)?,
        leaks,
        package,
        planned,
        put_aside,
    })
}

/// Changes the twin: the package is kept first, then what differs is staged as a whole and published entry by entry.
///
/// When it returns, the change has survived a power loss. A crash is finished by the next opening of the yard, or leaves at
/// most a package that no twin has yet; an error or a wish to stop undoes what was done.
///
/// # Errors
/// As [`restore::apply`](crate::restore::apply).
pub fn apply(yard: &Yard, plan: &Plan, ctx: &Ctx) -> Result<Outcome> {
    let began = Instant::now();
    if let Some(package) = &plan.package {
        keep(yard, package, ctx)?;
    }
    if !plan.put_aside.is_empty() {
        let op = yard.begin(ctx)?;
        let _held = yard.shared(ctx)?;
        plan.put_aside.iter().try_for_each(|listing| yard.store.put_listing(listing, None, &op).map(drop))?;
    }
    let applied = planned::apply_planned(yard, &plan.planned, ctx)?;
    Ok(Outcome {
        name: plan.name.clone(),
        number: applied.number,
        before: applied.before,
        late: applied.late,
        set_aside: applied.set_aside,
        took: began.elapsed(),
    })
}

/// Takes what was written for a mod that goes out of what is there: what its sheet says that the program writes for it, and
/// what differs in folders that only it brings. What is in a group is the player's in any case.
fn take_aside(yard: &Yard, scene: &mut Scene, used: &ModUse) -> Result<Listing> {
    // Of one that can't be read nobody knows what its folders are.
    let placed = Error::pass_over(mods::placed(yard, std::slice::from_ref(used), None))?;
    let Some(placed) = placed.and_then(|mut placed| placed.pop()) else { return Ok(Listing::default()) };
    let folders: BTreeSet<String> = placed
        .entries
        .iter()
        .flat_map(|entry| at_and_above(entry.path.as_str()).skip(1))
        .filter(|folder| folder.contains('/') && !scene.next.has(folder))
        .map(str::to_owned)
        .collect();
    let live = PathSet::new(placed.sheet.after.live.iter().map(String::as_str), false).unwrap_or_default();
    let is_in = |path: &RelPath| at_and_above(path.as_str()).skip(1).any(|folder| folders.contains(folder));
    let in_group = |path: &RelPath| scene.sheet.as_ref().is_some_and(|sheet| sheet.group_of(path).is_some());
    let is_aside = |entry: &&Entry| {
        let path = &entry.path;
        let differs = || scene.laid.get(path.as_str()).is_none_or(|laid| laid.node != entry.node);
        entry.node != Node::EmptyFolder && (is_in(path) || live.contains(path.as_str())) && !in_group(path) && differs()
    };
    let written: Vec<Entry> = scene.plain.entries().iter().filter(is_aside).cloned().collect();
    let gone = written.iter().map(|entry| (entry.path.clone(), None)).collect();
    scene.plain = overlay(&scene.plain, &Layer::new(gone)?)?;
    Listing::with_folders_implied(written)
}

/// Puts what was kept aside back among what is there, where nothing else is by now.
fn bring_back(scene: &mut Scene, aside: &Listing) -> Result<Vec<RelPath>> {
    let free = |entry: &&Entry| entry.node != Node::EmptyFolder && !scene.plain.has(entry.path.as_str());
    let back: Vec<Entry> = aside.entries().iter().filter(free).cloned().collect();
    let layer = back.iter().map(|entry| (entry.path.clone(), Some(entry.clone()))).collect();
    scene.plain = overlay(&scene.plain, &Layer::new(layer)?)?;
    Ok(back.into_iter().map(|entry| entry.path).collect())
}

/// What a rebase has to say.
struct Named {
    mine: Vec<RelPath>,
    back: Vec<RelPath>,
    given_way: Vec<RelPath>,
}

impl Named {
    fn of(rebased: &Rebased, scene: &Scene, known: &[RelPath]) -> Self {
        let of = |reason: Reason| -> Vec<RelPath> {
            let folder = |path: &RelPath| is_folder(&scene.plain, path) || is_folder(&scene.next, path);
            let named = rebased.named.iter().filter(|named| named.reason == reason && !folder(&named.path));
            named.map(|named| named.path.clone()).filter(|path| !known.contains(path)).collect()
        };
        Self { mine: of(Reason::Clash), back: of(Reason::Back), given_way: of(Reason::Replaced) }
    }
}

/// What the files of the mods that this is about meet.
fn tally(scene: &Scene, after: &Listing, about: &[ModName]) -> Tally {
    let mut tally = Tally::default();
    let is_about = |at: &usize| about.iter().any(|name| name.key() == scene.mods[*at].of.name.key());
    let node = |listing: &Listing, path: &RelPath| listing.get(path.as_str()).map(|entry| entry.node.clone());
    for (path, by) in &scene.composed.by {
        let Some(at) = by.iter().rposition(is_about) else { continue };
        let (laid, there, next) = (node(&scene.laid, path), node(&scene.plain, path), node(&scene.next, path));
        let count = match () {
            () if at + 1 < by.len() => &mut tally.covered,
            () if node(after, path) != next => &mut tally.hidden,
            () if there.is_some() && there == next && laid != next => &mut tally.already,
            () if at > 0 => &mut tally.over_mods,
            () if scene.stock_listing.get(path.as_str()).is_some() => &mut tally.over_stock,
            () => &mut tally.new,
        };
        *count += 1;
    }
    let about = scene.mods.iter().enumerate().filter(|(at, placed)| placed.of.on && is_about(at));
    tally.inside = about.flat_map(|(_, placed)| &placed.inlays).map(|inlay| inlay.put.len() as u64).sum();
    tally.removes = scene.composed.removed.values().filter(|at| is_about(at)).count() as u64;
    tally
}

/// What the sheets of the mods that this is about expect, and that will not be there.
fn expected(mods: &[Placed], after: &Listing, about: &[ModName]) -> Vec<RelPath> {
    let of = mods.iter().filter(|placed| placed.of.on && about.iter().any(|name| name.key() == placed.of.name.key()));
    of.flat_map(|placed| &placed.sheet.after.expect).filter(|path| !after.has(path.as_str())).cloned().collect()
}

/// The files of a package that are left out because they are for people.
fn notes(choices: &crate::placing::Choices, package: Option<&Packed>) -> Vec<String> {
    let Some(package) = package else { return Vec::new() };
    let except: BTreeMap<String, ()> = choices.except.iter().map(|pattern| (pattern.clone(), ())).collect();
    let paths = package.files.entries().iter().filter_map(|entry| entry.path.as_str().strip_prefix("package/"));
    let notes = paths.filter(|path| except.contains_key(&crate::sheet::pattern::escape(path)));
    notes.filter(|path| crate::placing::is_note(path.rsplit('/').next().unwrap_or(path))).map(str::to_owned).collect()
}
