//! Remove: a twin goes out of the way, and its last state stays until it is forgotten.

use std::collections::HashSet;
use std::path::PathBuf;
use std::time::{Duration, Instant};

use jiff::Timestamp;
use serde::Serialize;

use super::Leaks;
use crate::Yard;
use crate::catalog::{Intent, TwinRow};
use crate::disk::{self, FsClock};
use crate::error::{Error, Result, TwinError};
use crate::ident::{BuildRef, ContentId, ListingId, TwinName};
use crate::listing::{Listing, Totals};
use crate::progress::{Ctx, Phase};

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
pub struct RemovePlan {
    /// The twin.
    pub name: TwinName,
    /// The stock build that it is on.
    pub build: BuildRef,
    /// What it holds.
    pub totals: Totals,
    /// What exists nowhere else: not in a stock build, not in another twin.
    pub only_here: OnlyHere,
    /// What is in its folder and can't be kept; only [`Yard::forget_twin`] deletes it.
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
pub struct ForgetOutcome {
    /// The twin.
    pub name: TwinName,
    /// Contents that nothing else needed, deleted from the pool: their bytes on disk.
    pub freed: u64,
    /// How long it took.
    #[serde(serialize_with = "crate::progress::seconds")]
    pub took: Duration,
}

impl Yard {
    /// Looks at what removing a twin means. It is settled first, so that its last state is kept; a twin whose folder is
    /// missing can be removed too. With a twin that is removed already, the plan is for [`Yard::forget_twin`].
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
        }
        let row = self.catalog.twin(row.id)?.unwrap_or(row);
        let state = self.state(row.state)?;
        // In this order only one listing is in memory at a time.
        let elsewhere = self.contents_of(self.listings_elsewhere(Some(&row), None)?)?;
        let listing = self.listing(state.disk)?;
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

    /// Lets a twin go for good: its folder, its states, and every content that nothing else needs.
    ///
    /// A crash is finished by the next opening of the yard; contents that it had no time for stay in the pool.
    ///
    /// # Errors
    /// [`Error::Busy`] while it runs, [`Error::Io`].
    pub fn forget_twin(&self, plan: &RemovePlan, ctx: &Ctx) -> Result<ForgetOutcome> {
        let began = Instant::now();
        let _twin = self.hold_twin(&plan.row, ctx)?;
        let op = self.begin(ctx)?;
        let _alone = self.alone(ctx)?;
        let row = self.catalog.twin(plan.row.id)?.unwrap_or_else(|| plan.row.clone());
        if row.protected.is_some() {
            return Err(TwinError::Protected(row.name.to_string()).into());
        }
        let only_mine = self.contents_only_of(&row)?;
        let clock = FsClock::new(op.path())?;
        let started = clock.now()?;
        let intent = self.catalog.intend(&Intent::Forget { twin: row.id })?;
        for path in &plan.entries {
            self.delete_entry(path)?;
        }
        ctx.phase(Phase::Deleting, plan.totals.files, 0, || self.forget(row.id))?;
        self.catalog.intent_done(intent)?;
        let freed = self.pool.delete(only_mine)?;
        self.catalog.add_window(started, clock.wait_past(clock.now()?)?)?;
        Ok(ForgetOutcome { name: plan.name.clone(), freed, took: began.elapsed() })
    }

    /// The listings that stock builds and twins need, other than the one twin and the one stock build.
    pub(crate) fn listings_elsewhere(
        &self,
        but: Option<&TwinRow>,
        but_stock: Option<&BuildRef>,
    ) -> Result<HashSet<ListingId>> {
        let stock = self.catalog.stock_builds()?.into_iter().filter(|stock| but_stock != Some(&stock.build));
        let mut listings: HashSet<ListingId> = stock.map(|stock| stock.listing).collect();
        for (twin, state) in self.catalog.states_in_use()? {
            if but.is_none_or(|but| but.id != twin) {
                let state = self.state(state)?;
                listings.extend([state.laid, state.disk]);
            }
        }
        Ok(listings)
    }

    /// The contents that states of one twin need, and nothing else.
    pub(super) fn contents_only_of(&self, row: &TwinRow) -> Result<HashSet<ContentId>> {
        let mut listings = HashSet::new();
        for (_, state) in self.catalog.states_in_use()?.into_iter().filter(|(twin, _)| *twin == row.id) {
            let state = self.state(state)?;
            listings.extend([state.laid, state.disk]);
        }
        let mut contents = self.contents_of(listings)?;
        self.each_entry(self.listings_elsewhere(Some(row), None)?, |entry| {
            entry.node.content().map(|content| contents.remove(&content));
        })?;
        Ok(contents)
    }
}

/// The files of a listing whose contents are not among those that are elsewhere.
pub(super) fn only_here(listing: &Listing, elsewhere: &HashSet<ContentId>) -> OnlyHere {
    let mut only = OnlyHere::default();
    for entry in listing.entries() {
        if entry.node.size() > 0 && entry.node.content().is_some_and(|content| !elsewhere.contains(&content)) {
            only.paths.push(entry.path.to_string());
            only.bytes += entry.node.size();
        }
    }
    only
}
