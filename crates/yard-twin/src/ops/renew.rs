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
//! let options = renew::Options { rest: Some(renew::Rest::Leave), ..renew::Options::default() };
//! let outcome = renew::apply(&yard, &renew::plan(&yard, &"main".parse()?, &options, &ctx)?, &ctx)?;
//! assert_eq!(std::fs::read_to_string(game("main").join("cabin/shifts/one.wjs"))?, "a long shift");
//! assert_ne!(std::fs::read_to_string(game("main").join("guide/READ ME first.txt"))?, "spoiled");
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

use std::time::{Duration, Instant};

use serde::Serialize;

use crate::Yard;
use crate::catalog::What;
use crate::error::{Result, TwinError};
use crate::ident::{BuildRef, ModName, TwinName};
use crate::launch::Changes;
use crate::listing::{Change, Listing, Named, Node, Reason, Totals, diff};
use crate::ops::edits;
use crate::ops::mods;
use crate::ops::recombine::{Aside, Finished, Scene, is_folder};
use crate::path::RelPath;
use crate::progress::Ctx;
use crate::sheet::Sheet;
use crate::twin::Leaks;
use crate::twin::Room;
use crate::twin::planned;
use crate::twin::planned::PlannedChange;
use crate::twin::room;
use crate::twin::settle::PlayersOwn;

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
    /// Mods that are turned off first.
    pub without_mods: Vec<ModName>,
    /// Whether mods stay on that are not for that build.
    pub any_build: bool,
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
    /// Mods that will be off.
    pub without_mods: Vec<ModName>,
    /// What was written into their folders: kept aside until they are on again.
    pub aside: Vec<RelPath>,
    /// The config edits of mods and profile, and what becomes of them.
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
    let (row, settled) = planned::see(yard, &yard.twin_row(name, false)?, ctx)?;
    let from = settled.state.build.clone();
    let to = options.stock.clone().unwrap_or_else(|| from.clone());
    if to.title != from.title {
        let (name, build) = (row.name.to_string(), to.to_string());
        return Err(TwinError::OtherTitle { name, title: from.title.to_string(), build }.into());
    }
    // Whether there is such a build comes first.
    yard.stock_row(&to, to == from)?;
    let mut mods = mods::for_build(yard, (&row.name, &settled.state), &to, options)?;
    let mut scene = Scene::look(yard, (row, settled), (&to, &mods, None), ctx)?;
    let Aside { taken: aside, .. } = scene.set_aside(yard, &mut mods)?;
    let (sheet, next_sheet) = (scene.sheet.as_ref(), scene.next_sheet.as_ref());
    let own = Explained { sheets: [sheet, next_sheet] };
    let rest = own.rest(&scene.laid, &scene.plain, &scene.next);
    let keep_rest = options.rest == Some(Rest::Keep);
    // A file that is gone is nothing of the player's: it comes back.
    let is_there = |path: &RelPath| scene.plain.get(path.as_str()).is_some();
    let rebased = scene.rebase(yard, |path| is_there(path) && (keep_rest || own.holds(path)), ctx)?;
    let named = |reason: Reason| -> Vec<RelPath> {
        // A folder that is there with something in it is no loss and no gain.
        let folder = |path: &RelPath| is_folder(&scene.plain, path) || is_folder(&scene.next, path);
        let of = rebased.named.iter().filter(|named: &&Named| named.reason == reason && !folder(&named.path));
        of.map(|named| named.path.clone()).collect()
    };
    let (left, back, clashes) = (named(Reason::Replaced), named(Reason::Back), named(Reason::Clash));
    let (name, moved, leaks) =
        (scene.row.name.clone(), std::mem::take(&mut scene.moved), std::mem::take(&mut scene.settled.leaks));
    let (next, next_sheet, build) = (scene.next.clone(), scene.next_sheet.clone(), scene.stock.build.clone());
    let without = options.without_mods.clone();
    let Finished { listing, there, planned, views, moves, .. } =
        scene.finish(yard, &rebased.listing, (mods, What::Renewed))?;
    let (game, _) = PlayersOwn(next_sheet.as_ref()).counts(&there, &listing);
    let room = room::room_between(yard, &planned.seen.there, &listing, &planned.to, ctx)?;
    Ok(Plan {
        room,
        name,
        from,
        to: build,
        kept: kept(&next, &listing, next_sheet.as_ref()),
        moved,
        not_moved: moves.left,
        without_mods: without,
        aside,
        edits: views,
        rest,
        what_of_the_rest: options.rest,
        left,
        back,
        clashes,
        game,
        totals: listing.totals(),
        leaks,
        planned,
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
