//! Remove: a twin goes out of the way, and its last state stays until it is forgotten.

use std::collections::HashSet;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use jiff::Timestamp;
use rustix::fs::CWD;
use serde::Serialize;

use crate::Yard;
use crate::catalog::{Intent, TwinRow, What};
use crate::disk;
use crate::disk::op_folder::OpFolder;
use crate::error::{Error, PathContext, Result, TwinError};
use crate::ident::{BuildRef, ContentId, TwinName};
use crate::listing::{Listing, Totals};
use crate::materialise::is_open_below;
use crate::progress::{Ctx, Phase};
use crate::scan::Doubt;
use crate::store::pool::{Ledger, Share};
use crate::twin::Leaks;
use crate::yard::folder_id;

/// Files whose bytes exist nowhere else in the yard.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct OnlyHere {
    /// Their paths.
    pub paths: Vec<String>,
    /// Their bytes.
    pub bytes: u64,
}

/// What removing a twin will do.
#[must_use = "a plan changes nothing until it is applied"]
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct RemovePlan {
    /// The twin.
    pub name: TwinName,
    /// The stock build that it is on.
    pub build: BuildRef,
    /// What it holds.
    pub totals: Totals,
    /// What exists nowhere else: not in a stock build, not in another twin.
    pub only_here: OnlyHere,
    /// What is in its folder and in no state of it: what can't be kept, and what was changed there since it was removed. Only
    /// [`Yard::forget_twin`] deletes it.
    pub not_taken: Vec<String>,
    /// Shared files that were found to be written through their guard.
    pub leaks: Leaks,
    /// Launch entries that go with it.
    pub entries: Vec<PathBuf>,
    /// Whether its folder is missing, so that only its record is removed.
    pub folder_missing: bool,
    /// Whether it is removed already, so that it can only be forgotten.
    pub removed: bool,
    #[serde(skip)]
    row: TwinRow,
}

/// What a removal did.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct RemoveOutcome {
    /// The twin.
    pub name: TwinName,
    /// Where its folder is now; `None` where it was missing.
    pub folder: Option<PathBuf>,
    /// How long it took.
    #[serde(serialize_with = "crate::progress::seconds")]
    pub took: Duration,
}

/// What letting a twin go for good did.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct ForgetOutcome {
    /// The twin.
    pub name: TwinName,
    /// Contents that nothing else needed, deleted from the pool: their bytes on disk. They stay for a sweep while another
    /// command is at work.
    pub freed: u64,
    /// What is kept all the same: a folder in which somebody still has files open, or that is not this twin's.
    pub kept: Vec<String>,
    /// How long it took.
    #[serde(serialize_with = "crate::progress::seconds")]
    pub took: Duration,
}

impl Yard {
    /// Looks at what removing a twin means. It is settled first, so that its last state is kept; a twin whose folder is
    /// missing can be removed too. With a twin that is removed already, the plan is for [`Yard::forget_twin`].
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
    /// let plan = yard.plan_remove(&"main".parse()?, &ctx)?;
    /// yard.apply_remove(&plan, &ctx)?;
    /// // Its last state is kept: it can be cloned from.
    /// let back = yard.plan_clone(&"main".parse()?, &"main".parse()?, CloneOptions::default(), &ctx)?;
    /// yard.apply_clone(&back, &ctx)?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    ///
    /// # Errors
    /// [`Error::NotFound`], or [`Error::Busy`] while it runs.
    pub fn plan_remove(&self, name: &TwinName, ctx: &Ctx) -> Result<RemovePlan> {
        let row = self.twin_row(name, true)?;
        let removed = row.removed_at.is_some();
        let (mut not_taken, mut leaks, mut folder_missing) = (Vec::new(), Leaks::default(), false);
        if !removed {
            match self.settle(&row, ctx) {
                Ok(settled) => (not_taken, leaks) = (settled.not_taken, settled.leaks),
                Err(Error::Twin(TwinError::FolderMissing { found: None, .. })) => folder_missing = true,
                Err(error) => return Err(error),
            }
        } else {
            not_taken = self.beside_state(&row, ctx)?;
        }
        let row = self.catalog.twin(row.id)?.unwrap_or(row);
        let state = self.store.state(row.state)?;
        // In this order only one listing is in memory at a time.
        let elsewhere = self.contents_elsewhere(Some(&row), None)?;
        let listing = self.store.listing(state.disk)?;
        Ok(RemovePlan {
            name: row.name.clone(),
            build: state.build,
            totals: listing.totals(),
            only_here: only_here(&listing, &elsewhere),
            not_taken,
            leaks,
            entries: self.catalog.entries()?.into_iter().filter(|e| e.twin == row.id).map(|e| e.path).collect(),
            folder_missing,
            removed,
            row,
        })
    }

    /// Moves the twin's folder to `removed/` by one rename, and deletes its launch entries. Its last state stays, and a
    /// new twin can be cloned from it by its name.
    ///
    /// A crash leaves the twin either as it was or removed.
    ///
    /// # Errors
    /// [`Error::NotFound`] if it is removed already, [`Error::Busy`] while it runs, [`Error::Io`].
    pub fn apply_remove(&self, plan: &RemovePlan, ctx: &Ctx) -> Result<RemoveOutcome> {
        let began = Instant::now();
        let row = self.twin_row(&plan.name, false)?;
        let _twin = self.hold_twin(&row, ctx)?;
        if row.protected.is_some() {
            return Err(TwinError::Protected(row.name.to_string()).into());
        }
        let _alone = self.alone(ctx)?;
        let from = self.folder_of(&row);
        let removed_folder = row.removed_folder();
        let to = self.removed_folder().join(&removed_folder);
        let intent = self.catalog.intend(&Intent::Remove {
            twin: row.id,
            folder: row.folder.clone(),
            removed_folder: removed_folder.clone(),
        })?;
        if !plan.folder_missing {
            if let Err(error) = disk::rename_new(&from, &to) {
                self.catalog.intent_done(intent)?;
                return Err(Error::io("move aside", from, error));
            }
            disk::sync_rename(&from, &to)?;
        }
        self.catalog.together(|| {
            self.catalog.mark_removed(row.id, &removed_folder, Timestamp::now())?;
            self.catalog.intent_done(intent)
        })?;
        for path in &plan.entries {
            self.delete_entry(path)?;
        }
        let folder = (!plan.folder_missing).then_some(to);
        Ok(RemoveOutcome { name: plan.name.clone(), folder, took: began.elapsed() })
    }

    /// What is in the folder of a removed twin, and in no state of it, each with its reason.
    pub(crate) fn beside_state(&self, row: &TwinRow, ctx: &Ctx) -> Result<Vec<String>> {
        let folder = self.folder_of(row);
        if folder_id(&folder)? != Some(row.id) {
            return Ok(Vec::new());
        }
        let op = self.begin(ctx)?;
        let look = self.look_only(row, &folder, &op, None, Doubt::Nothing, ctx)?;
        let mut beside = look.found.not_taken;
        let leaks = &look.found.leaks;
        let changed = look.found.changed.iter().filter(|(path, _)| !leaks.iter().any(|leak| leak.path == *path));
        let there =
            changed.filter_map(|(path, now)| now.as_ref().filter(|now| now.0.node.content().is_some()).map(|_| path));
        beside.extend(there.map(|path| format!("{} (changed since it was removed)", path.below(&folder).display())));
        Ok(beside)
    }

    /// Lets a twin go for good: its folder, its states, and every content that nothing else needs. It is settled once more
    /// before: whoever agreed to the plan has not agreed to what came into the folder since.
    ///
    /// A crash is finished by the next opening of the yard; contents that it had no time for stay in the pool.
    ///
    /// # Errors
    /// [`TwinError::ChangedMeanwhile`] if it is not as it was when this was planned, [`Error::Busy`] while it runs,
    /// [`Error::Io`].
    pub fn forget_twin(&self, plan: &RemovePlan, ctx: &Ctx) -> Result<ForgetOutcome> {
        let began = Instant::now();
        let held = self.hold_twin(&plan.row, ctx)?;
        let row = self.catalog.twin(plan.row.id)?.unwrap_or_else(|| plan.row.clone());
        if row.protected.is_some() {
            return Err(TwinError::Protected(row.name.to_string()).into());
        }
        let not_taken = if row.removed_at.is_some() {
            self.beside_state(&row, ctx)?
        } else if plan.folder_missing {
            Vec::new()
        } else {
            self.settle_held(&row, &held, What::Outside, ctx)?.not_taken
        };
        let row = self.catalog.twin(row.id)?.unwrap_or(row);
        if row.state != plan.row.state || not_taken != plan.not_taken {
            let (name, path) = (row.name.to_string(), self.folder_of(&row));
            return Err(TwinError::ChangedMeanwhile { name, path }.into());
        }
        let op = self.begin(ctx)?;
        let _alone = self.alone(ctx)?;
        let only_mine = if self.is_only_operation(&op)? { self.contents_only_of(&row)? } else { HashSet::new() };
        let ledger = Ledger::load(&self.store.pool)?;
        let intent = self.catalog.intend(&Intent::Forget { twin: row.id })?;
        for path in &plan.entries {
            self.delete_entry(path)?;
        }
        let forgotten = ctx.phase(Phase::Deleting, plan.totals.files, 0, || self.forget(&row, &op, &ledger));
        let freed = forgotten.and_then(|kept| {
            self.catalog.intent_done(intent)?;
            Ok((kept, self.store.pool.delete(only_mine, &ledger)?))
        });
        ledger.save(op.path())?;
        let (kept, freed) = freed?;
        Ok(ForgetOutcome { name: plan.name.clone(), freed, kept, took: began.elapsed() })
    }

    /// Whether somebody can still write to a file of a twin: to one that was written in it before, as far as its index tells,
    /// else to any.
    fn is_open(&self, row: &TwinRow, folder: &Path) -> Result<bool> {
        let known = || {
            let state = self.store.state(row.state).ok()?;
            let listing = self.store.listing(state.disk).ok()?;
            let index = self.index(folder, &state, listing.entries().len()).ok()??;
            Some((listing, index))
        };
        let Some((listing, index)) = known() else { return is_open_below(folder).at("look through", folder) };
        let own = listing.entries().iter().zip(&index.rows).filter(|(_, row)| row.share == Some(Share::Own));
        for path in own.map(|(entry, _)| entry.path.below(folder)) {
            if disk::is_held(CWD, &path).at("open", &path)? {
                return Ok(true);
            }
        }
        Ok(false)
    }

    /// Moves a twin's folder to where it is kept as a whole, and says where that is.
    fn keep_whole(&self, row: &TwinRow, folder: &Path) -> Result<String> {
        let kept = self.kept_folder(row)?;
        disk::make_folders(&kept)?;
        let to = kept.join(row.name.as_str());
        disk::rename_new(folder, &to).at("keep", folder)?;
        disk::sync_rename(folder, &to)?;
        Ok(format!("{} (another program has it open)", to.display()))
    }

    /// Deletes a twin's folder and its record. The caller holds the yard alone. Says what is kept.
    pub(crate) fn forget(&self, row: &TwinRow, op: &OpFolder, ledger: &Ledger) -> Result<Vec<String>> {
        let (folder, mut kept) = (self.folder_of(row), Vec::new());
        if folder_id(&folder)? == Some(row.id) {
            // Looked at while it is in its place: whatever fails there leaves it there, for the next command.
            if self.is_open(row, &folder)? {
                kept.push(self.keep_whole(row, &folder)?);
            } else {
                // Out of the way first, so that nobody takes what is half deleted for a twin, or opens more of it.
                let slot = op.path().join("old");
                disk::make_folders(&slot)?;
                disk::rename_new(&folder, &slot.join("0")).at("move aside", &folder)?;
                disk::sync_rename(&folder, &slot.join("0"))?;
                if self.is_open(row, &slot.join("0"))? {
                    kept.push(self.keep_whole(row, &slot.join("0"))?);
                } else {
                    disk::remove_tree_telling(&slot, &|before, after| ledger.moved(before, after))?;
                }
            }
        } else if disk::exists(&folder) {
            kept.push(format!("{} (it is not this twin's)", folder.display()));
        }
        self.catalog.delete_twin(row.id)?;
        self.drop_twin_lock(row.id);
        Ok(kept)
    }

    /// The contents that states of one twin need, and nothing else: none where that can't be told.
    pub(crate) fn contents_only_of(&self, row: &TwinRow) -> Result<HashSet<ContentId>> {
        let mut listings = HashSet::new();
        for (_, state) in self.catalog.states_in_use()?.into_iter().filter(|(twin, _)| *twin == row.id) {
            let state = Error::pass_over(self.store.state(state))?;
            listings.extend(state.into_iter().flat_map(|state| [state.laid, state.disk]));
        }
        let mut contents = HashSet::new();
        self.store.each_readable(listings, |entry| contents.extend(entry.node.content()))?;
        let all = self.each_elsewhere(Some(row), None, |entry| {
            entry.node.content().map(|content| contents.remove(&content));
        })?;
        Ok(if all { contents } else { HashSet::new() })
    }

    /// The contents that stock builds and twins need, as far as that can be told, other than the one twin and the one stock
    /// build.
    pub(crate) fn contents_elsewhere(
        &self,
        but: Option<&TwinRow>,
        but_stock: Option<&BuildRef>,
    ) -> Result<HashSet<ContentId>> {
        let mut contents = HashSet::new();
        self.each_elsewhere(but, but_stock, |entry| contents.extend(entry.node.content()))?;
        Ok(contents)
    }
}

/// The files of a listing whose contents are not among those that are elsewhere.
pub(crate) fn only_here(listing: &Listing, elsewhere: &HashSet<ContentId>) -> OnlyHere {
    let mut only = OnlyHere::default();
    for entry in listing.entries() {
        if entry.node.size() > 0 && entry.node.content().is_some_and(|content| !elsewhere.contains(&content)) {
            only.paths.push(entry.path.to_string());
            only.bytes += entry.node.size();
        }
    }
    only
}
