//! Snapshots: keeping a twin's states, looking at them, and going back to one.

use std::collections::HashSet;
use std::time::{Duration, Instant};

use serde::Serialize;

use crate::Yard;
use crate::catalog::{Counts, HistoryEntry, NewChange, TwinRow, What};
use crate::error::{Error, Result, TwinError};
use crate::ident::{BuildRef, SnapshotLabel, SnapshotRef, StateId, TwinId, TwinName};
use crate::listing::{Listing, Named, diff, rebase};
use crate::materialise::{Step, steps};
use crate::path::RelPath;
use crate::progress::Ctx;
use crate::store::state::{Applied, State};
use crate::twin::Leaks;
use crate::twin::Room;
use crate::twin::planned::PlannedChange;
use crate::twin::settle::{PlayersOwn, Settled};

/// A snapshot that was made.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct SnapshotOutcome {
    /// The twin.
    pub name: TwinName,
    /// Its number in the history.
    pub number: u32,
    /// Its label.
    pub label: Option<SnapshotLabel>,
    /// What had changed since the last look, in game files and in others.
    pub game: Counts,
    /// As above, in belongings, live and scratch paths, and the home.
    pub own: Counts,
    /// What can't be kept, each with its reason.
    pub not_taken: Vec<String>,
}

/// A snapshot that will be made.
#[must_use = "a plan changes nothing until it is applied"]
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct SnapshotPlan {
    /// What comes of it.
    #[serde(flatten)]
    pub would: SnapshotOutcome,
    #[serde(skip)]
    twin: TwinId,
    #[serde(skip)]
    state: StateId,
}

/// A snapshot that will be let go.
#[must_use = "a plan changes nothing until it is applied"]
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct SnapshotDropPlan {
    /// The twin.
    pub twin: TwinName,
    /// Its line in the history.
    pub entry: HistoryEntry,
}

/// What a restore may be told. The default goes back by one change of the game files.
#[derive(Clone, Debug, Default)]
pub struct RestoreOptions {
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
pub struct RestorePlan {
    /// The twin.
    pub name: TwinName,
    /// The state that it goes back to.
    pub to: HistoryEntry,
    /// Whether belongings go back too.
    pub all: bool,
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
    /// Files and symlinks that come back and name the folder of another twin, which may have been this one's then.
    pub names_others: Vec<RelPath>,
    /// What can't be kept, each with its reason.
    pub not_taken: Vec<String>,
    /// Shared files that were found to be written through their guard.
    pub leaks: Leaks,
    #[serde(skip)]
    planned: PlannedChange,
}

/// What a restore did.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct RestoreOutcome {
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

impl Yard {
    /// Settles a twin and looks at what a snapshot of it would keep.
    ///
    /// # Errors
    /// [`Error::NotFound`], [`Error::Exists`] if the twin has a snapshot of that label, [`Error::Busy`] while it runs.
    pub fn plan_snapshot(&self, name: &TwinName, label: Option<&SnapshotLabel>, ctx: &Ctx) -> Result<SnapshotPlan> {
        let row = self.twin_row(name, false)?;
        if let Some(label) = label {
            self.check_label_free(&row, label)?;
        }
        let held = self.hold_twin(&row, ctx)?;
        let before = self.catalog.newest_change(row.id)?;
        let settled = self.settle_held(&row, &held, What::Outside, ctx)?;
        let found = self.catalog.history(row.id)?.into_iter().next().filter(|entry| entry.number > before);
        let (game, own) = found.map_or_else(Default::default, |entry| (entry.game, entry.own));
        let (state, _) = settled.state.encode();
        let number = self.catalog.newest_change(row.id)? + 1;
        let not_taken = settled.not_taken;
        let would = SnapshotOutcome { name: row.name, number, label: label.cloned(), game, own, not_taken };
        Ok(SnapshotPlan { would, twin: row.id, state })
    }

    /// Keeps the state that a twin had when this was planned until it is let go by [`Yard::apply_snapshot_drop`].
    ///
    /// # Errors
    /// As [`Yard::plan_snapshot`], and [`TwinError::ChangedMeanwhile`] if the twin is known to have another state by now.
    pub fn apply_snapshot(&self, plan: &SnapshotPlan, ctx: &Ctx) -> Result<SnapshotOutcome> {
        let mut made = plan.would.clone();
        let row = self.twin_row(&made.name, false)?;
        let _held = self.hold_twin(&row, ctx)?;
        let row = self.catalog.twin(row.id)?.unwrap_or(row);
        if (row.id, row.state) != (plan.twin, plan.state) {
            let (name, path) = (row.name.to_string(), self.folder_of(&row));
            return Err(TwinError::ChangedMeanwhile { name, path }.into());
        }
        if let Some(label) = &made.label {
            self.check_label_free(&row, label)?;
        }
        let (none, label) = (Counts::default(), made.label.as_ref());
        self.catalog.together(|| {
            let change = NewChange { what: What::Snapshot, game: none, own: none, label, state: row.state };
            made.number = self.catalog.add_change(row.id, &change)?;
            Ok(())
        })?;
        Ok(made)
    }

    fn check_label_free(&self, row: &TwinRow, label: &SnapshotLabel) -> Result<()> {
        if label.as_str().bytes().all(|byte| byte.is_ascii_digit()) {
            let why = "numbers name the lines of the history";
            return Err(Error::Name { what: "snapshot label", name: label.to_string(), why });
        }
        let history = self.catalog.history(row.id)?;
        match history.into_iter().filter_map(|entry| entry.label).find(|there| there.key() == label.key()) {
            None => Ok(()),
            Some(there) => {
                let (name, existing) = (label.to_string(), there.to_string());
                Err(Error::Exists { what: "snapshot", name, existing })
            }
        }
    }

    /// Looks for a snapshot that is to be let go.
    ///
    /// # Errors
    /// [`Error::NotFound`].
    pub fn plan_snapshot_drop(&self, name: &TwinName, snapshot: &SnapshotRef) -> Result<SnapshotDropPlan> {
        let row = self.twin_row(name, true)?;
        let entry = self.find_entry(&row, snapshot)?;
        if entry.what != What::Snapshot {
            let why = "it is a change, which the keep policy lets go, and no snapshot";
            return Err(Error::Name { what: "snapshot", name: snapshot.to_string(), why });
        }
        Ok(SnapshotDropPlan { twin: row.name, entry })
    }

    /// Lets a snapshot go: nothing keeps its state but the keep policy.
    ///
    /// # Errors
    /// As [`Yard::plan_snapshot_drop`].
    pub fn apply_snapshot_drop(&self, plan: &SnapshotDropPlan) -> Result<()> {
        let again = self.plan_snapshot_drop(&plan.twin, &SnapshotRef::Number(plan.entry.number))?;
        self.catalog.drop_change(self.twin_row(&plan.twin, true)?.id, again.entry.number)
    }

    /// Every change of a twin that is kept, the newest first. The twin is settled first, unless it is running or removed.
    ///
    /// # Errors
    /// [`Error::NotFound`], [`TwinError::FolderMissing`], [`Error::Io`].
    pub fn history(&self, name: &TwinName, ctx: &Ctx) -> Result<Vec<HistoryEntry>> {
        let row = self.twin_row(name, true)?;
        if row.removed_at.is_none() {
            match self.settle(&row, ctx) {
                Ok(_) | Err(Error::Busy { .. }) => {}
                Err(error) => return Err(error),
            }
        }
        self.catalog.history(row.id)
    }

    pub(crate) fn find_entry(&self, row: &TwinRow, snapshot: &SnapshotRef) -> Result<HistoryEntry> {
        let history = self.catalog.history(row.id)?;
        let is_it = |entry: &HistoryEntry| match snapshot {
            SnapshotRef::Number(number) => entry.number == *number,
            SnapshotRef::Label(label) => entry.label.as_ref().is_some_and(|there| there.key() == label.key()),
        };
        match history.iter().find(|entry| is_it(entry)) {
            Some(entry) => Ok(entry.clone()),
            None => Err(Error::NotFound {
                what: "snapshot",
                name: snapshot.to_string(),
                known: history
                    .iter()
                    .map(|entry| entry.label.as_ref().map_or_else(|| entry.number.to_string(), ToString::to_string))
                    .take(12)
                    .collect(),
            }),
        }
    }

    /// The state before the last change of the game files, or with `all` of anything.
    fn one_back(&self, row: &TwinRow, all: bool) -> Result<HistoryEntry> {
        let history = self.catalog.history(row.id)?;
        let counts = |entry: &HistoryEntry| entry.game.total() > 0 || (all && entry.own.total() > 0);
        let changed = history.iter().position(counts);
        match changed.and_then(|at| history.get(at + 1)) {
            Some(entry) => Ok(entry.clone()),
            None => Err(TwinError::NothingToUndo(row.name.to_string()).into()),
        }
    }

    /// Looks at what a restore would do. The twin is settled first, so that what is there now can be gone back to.
    ///
    /// ```
    /// # use yard_twin::*;
    /// # let place = tempfile::tempdir()?;
    /// # let installed = place.path().join("installed");
    /// # std::fs::create_dir_all(installed.join("cabin"))?;
    /// # std::fs::write(installed.join("board.txt"), "a board")?;
    /// # std::fs::write(installed.join("cabin/panel.ini"), "[video]\nwidth = 1280\n")?;
    /// # let (yard, ctx) = (Yard::init(&place.path().join("yard"))?, Ctx::new());
    /// # let sheet = "title = \"wexcombe\"\n[belongings.shifts]\npatterns = [\"game/cabin/*.wjs\"]\n";
    /// # std::fs::write(yard.sheet_path(&Title::new("wexcombe")?), sheet)?;
    /// # let mut options = IntakeOptions::new(&installed, Title::new("wexcombe")?);
    /// # options.build = Some("1.4".parse()?);
    /// # yard.apply_intake(&yard.plan_intake(options, &ctx)?, &ctx)?;
    /// # for name in ["main"] {
    /// #     let plan = yard.plan_clone(&"wexcombe@1.4".parse()?, &name.parse()?, CloneOptions::default(), &ctx)?;
    /// #     yard.apply_clone(&plan, &ctx)?;
    /// # }
    /// # let game = |twin: &str| place.path().join("yard/twins").join(twin).join("game");
    /// let label = "before the mod".parse()?;
    /// yard.apply_snapshot(&yard.plan_snapshot(&"main".parse()?, Some(&label), &ctx)?, &ctx)?;
    /// std::fs::write(game("main").join("board.txt"), "broken by a mod")?;
    /// let options = RestoreOptions { to: Some(SnapshotRef::Label(label)), ..RestoreOptions::default() };
    /// let plan = yard.plan_restore(&"main".parse()?, &options, &ctx)?;
    /// let outcome = yard.apply_restore(&plan, &ctx)?;
    /// assert_eq!(std::fs::read_to_string(game("main").join("board.txt"))?, "a board");
    /// println!("the way back is {}", outcome.before);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    ///
    /// # Errors
    /// [`Error::NotFound`] for a twin or a state, [`TwinError::Protected`], [`TwinError::NothingToUndo`],
    /// [`Error::Obstructed`] if a belonging that stays would need a folder where a file is to come, [`Error::Busy`] while
    /// the twin runs.
    pub fn plan_restore(&self, name: &TwinName, options: &RestoreOptions, ctx: &Ctx) -> Result<RestorePlan> {
        let (row, mut settled) = self.settle_for_change(self.twin_row(name, false)?, ctx)?;
        let to = match &options.to {
            Some(snapshot) => self.find_entry(&row, snapshot)?,
            None => self.one_back(&row, options.all)?,
        };
        let then = self.store.state(to.state)?;
        let target = self.store.listing(then.disk)?.sharing_paths(&settled.listing);
        let sheet = self.sheet_of(&then.build)?;
        let own = PlayersOwn(sheet.as_ref());
        let shipped = self.shipped(&settled, &then, &target)?;
        let some = !options.only.is_empty();
        check_only(&options.only, &target, &settled.listing)?;
        let wanted = |path: &RelPath| options.only.iter().any(|only| path.is_at_or_below(only));
        let own_stays = |path: &RelPath| !options.all && own.holds(path) && !shipped.contains(path);
        let stays = |path: &RelPath| if some { !wanted(path) } else { own_stays(path) };
        let rebased = rebase(&target, &settled.listing, &target, stays)?;
        let (game, others) = own.counts(&settled.listing, if some { &rebased.listing } else { &target });
        // An edit goes with its file.
        let stays = |edit: &Applied| if some { !wanted(&edit.file) } else { !options.all && own.holds(&edit.file) };
        let now = settled.state.edits.iter().filter(|edit| stays(edit));
        let edits = then.edits.iter().filter(|edit| !stays(edit)).chain(now).cloned().collect();
        let profile = if options.all { then.profile } else { settled.state.profile.clone() };
        let (build, laid) =
            if some { (settled.state.build.clone(), settled.state.laid) } else { (then.build.clone(), then.laid) };
        let state = State { edits, build, laid, profile, ..settled.state.clone() };
        let draft = rebased.listing.clone().into();
        self.check_protected(&row, &settled.listing, &draft, &state)?;
        let build = (state.build != settled.state.build).then(|| (settled.state.build.clone(), then.build));
        let what = What::Restore { to: to.number, all: options.all };
        let next = &rebased.listing;
        let room = self.room_between(&settled.listing, next, (state.sharing, &state.build), ctx)?;
        let names_others = self.names_others(&row, &settled.listing, next)?;
        Ok(RestorePlan {
            room,
            names_others,
            name: row.name.clone(),
            all: options.all,
            to,
            build,
            game,
            own: others,
            steps: steps(&settled.listing, &rebased.listing),
            named: rebased.named,
            not_taken: std::mem::take(&mut settled.not_taken),
            leaks: std::mem::take(&mut settled.leaks),
            planned: PlannedChange::new(row, settled, state, draft, what),
        })
    }

    /// Paths that are now as they were shipped with the build that the twin is on, and were then as they were shipped with
    /// another one: they are nobody's own, wherever they lie, and go with the build.
    fn shipped(&self, settled: &Settled, then: &State, target: &Listing) -> Result<HashSet<RelPath>> {
        if then.build == settled.state.build {
            return Ok(HashSet::new());
        }
        let (now, before) = (self.store.listing(settled.state.laid)?, self.store.listing(then.laid)?);
        let node = |listing: &Listing, path: &RelPath| listing.get(path.as_str()).map(|entry| entry.node.clone());
        // What a home has before the first start came with no build.
        let prepared: HashSet<String> = crate::launch::prepared().collect();
        let both = diff(&now, &before).map(|change| change.path().clone()).filter(|path| {
            !prepared.contains(path.as_str())
                && node(&settled.listing, path) == node(&now, path)
                && node(target, path) == node(&before, path)
        });
        Ok(both.collect())
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
    pub fn apply_restore(&self, plan: &RestorePlan, ctx: &Ctx) -> Result<RestoreOutcome> {
        let began = Instant::now();
        let applied = self.apply_planned(&plan.planned, ctx)?;
        Ok(RestoreOutcome {
            name: plan.name.clone(),
            to: plan.to.number,
            number: applied.number,
            before: applied.before,
            late: applied.late,
            set_aside: applied.set_aside,
            took: began.elapsed(),
        })
    }
}

/// An error for a path that has nothing at or below it, now or then.
fn check_only(only: &[RelPath], then: &Listing, now: &Listing) -> Result<()> {
    match only.iter().find(|path| !then.has(path.as_str()) && !now.has(path.as_str())) {
        Some(path) => Err(Error::NotFound { what: "path", name: path.to_string(), known: Vec::new() }),
        None => Ok(()),
    }
}
