//! Changing a twin's mods: what is to be laid is worked out, and put below what the player has.

use std::collections::BTreeSet;
use std::time::{Duration, Instant};

use serde::Serialize;

use super::fits::{check_build, check_together};
use super::packages::{Packed, keep};
use super::picture::{Top, picture};
use super::{Change, To, find};
use crate::Yard;
use crate::catalog::{Counts, ModDeed, TwinRow, What};
use crate::error::Result;
use crate::ident::{ModName, TwinName};
use crate::listing::{Listing, Reason, Rebased, Totals};
use crate::ops::edits;
use crate::ops::recombine::{Aside, Finished, Scene, is_folder};
use crate::path::RelPath;
use crate::placing::{self, Choices, ModUse, Placed};
use crate::progress::Ctx;
use crate::sheet::pattern::escape;
use crate::twin::Leaks;
use crate::twin::mods::Coming;
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
    pub placed: Option<(Choices, String)>,
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
    /// What was written into the folders of a mod that goes: kept aside until it is on again; of one that the twin has no more,
    /// in the history.
    pub aside: Vec<RelPath>,
    /// What comes back of what was kept aside.
    pub from_aside: Vec<RelPath>,
    /// What was kept aside, and does not come back since something else is in its place: the history has it.
    pub aside_hidden: Vec<RelPath>,
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
    pub(super) placed: Option<(Choices, String)>,
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
    let Aside { taken, back: from_aside, hidden } = scene.set_aside(yard, &mut wanted)?;
    let rebased = scene.rebase(yard, |path| !decisions.take_mods.contains(path), ctx)?;
    let mut named = Named::of(&rebased, &scene, &from_aside);
    named.given_way.retain(|path| !taken.contains(path));
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
        aside: taken,
        from_aside,
        aside_hidden: hidden,
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
fn notes(choices: &Choices, package: Option<&Packed>) -> Vec<String> {
    let notes = package.map(|package| placing::notes(&package.files)).unwrap_or_default();
    notes.into_iter().filter(|path| choices.except.contains(&escape(path))).collect()
}
