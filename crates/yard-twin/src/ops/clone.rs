//! Clone: a new twin from a stock build or from another twin, in moments and with next to no space.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

use jiff::Timestamp;
use serde::Serialize;

use super::Leaks;
use super::ShareTotals;
use super::markers::with_markers;
use super::settle::index_path;
use crate::Yard;
use crate::catalog::{Intent, TwinRow};
use crate::disk::{self, FsClock};
use crate::error::{Error, Result, TwinError};
use crate::ident::{BuildRef, Source, TwinId, TwinName};
use crate::link::{Fate, fate};
use crate::listing::{Entry, Listing, Node, Totals};
use crate::lock::Held;
use crate::materialise::{Laid, Laying};
use crate::pool::{Facts, Policy, Sharing, Unshared};
use crate::profile;
use crate::progress::Ctx;
use crate::scan::Index;
use crate::sheet::PathSet;
use crate::state::State;
use crate::yard::OpFolder;

/// What can be said about a clone beyond its source and name. The default is the source twin's or the yard's sharing.
#[derive(Clone, Copy, Debug, Default)]
pub struct CloneOptions {
    /// How the new twin shares storage.
    pub sharing: Option<Sharing>,
}

/// What a clone will do.
#[must_use = "a plan changes nothing until it is applied"]
#[derive(Clone, Debug, Serialize)]
pub struct ClonePlan {
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
    /// Shared files of the source twin that were found to be written through their guard.
    pub leaks: Leaks,
    /// Marker files and folders that are laid beside what the source holds, so that the program keeps to its own folder.
    pub markers: Vec<String>,
    #[serde(skip)]
    listing: Arc<Listing>,
    #[serde(skip)]
    profile: String,
}

/// What a clone did.
#[derive(Clone, Debug, Serialize)]
pub struct CloneOutcome {
    /// The new twin.
    pub name: TwinName,
    /// Its id, for ever.
    pub id: TwinId,
    /// Its folder; `game` and `home` are in it.
    pub folder: PathBuf,
    /// What it holds.
    pub totals: Totals,
    /// How its files really share storage.
    pub shares: ShareTotals,
    /// Why it shares nothing, if that is so.
    pub unshared: Option<Unshared>,
    /// How long it took.
    #[serde(serialize_with = "crate::progress::seconds")]
    pub took: Duration,
}

/// What a new twin starts as.
struct Start {
    build: BuildRef,
    listing: Listing,
    profile: String,
    sharing: Sharing,
    from_removed: bool,
    leaks: Leaks,
    markers: Vec<String>,
}

impl Yard {
    /// Looks at what a clone would do. A source twin is settled first: the clone takes what it holds *now*, its game
    /// folder, its home and its profile, but not its entries or runs.
    ///
    /// # Errors
    /// [`Error::NotFound`], [`Error::Exists`], [`TwinError::NotTaken`] if the source holds what can't be copied.
    pub fn plan_clone(&self, source: &Source, name: &TwinName, options: CloneOptions, ctx: &Ctx) -> Result<ClonePlan> {
        self.check_free(name)?;
        let start = match source {
            Source::Stock(build) => {
                let row = self.stock_row(build, false)?;
                let sheet = self.sheet(&row.build.title)?;
                let (listing, markers) = with_markers(self.listing(row.listing)?, sheet.as_ref())?;
                Start {
                    listing,
                    markers,
                    build: row.build,
                    profile: profile::NEW.into(),
                    sharing: self.default_sharing(),
                    from_removed: false,
                    leaks: Leaks::default(),
                }
            }
            Source::Twin(twin) => self.start_from_twin(twin, ctx)?,
        };
        Ok(ClonePlan {
            source: source.clone(),
            name: name.clone(),
            build: start.build,
            sharing: options.sharing.unwrap_or(start.sharing),
            from_removed: start.from_removed,
            totals: start.listing.totals(),
            leaks: start.leaks,
            markers: start.markers,
            listing: Arc::new(start.listing),
            profile: start.profile,
        })
    }

    fn start_from_twin(&self, name: &TwinName, ctx: &Ctx) -> Result<Start> {
        let row = self.twin_row(name, true)?;
        if row.removed_at.is_some() {
            let state = self.state(row.state)?;
            let listing = self.listing(state.disk)?;
            let listing = portable(&listing, &self.twins_folder().join(row.folder_before_removal()), self.root())?;
            let (build, profile, sharing) = (state.build, state.profile, state.sharing);
            return Ok(Start {
                build,
                listing,
                profile,
                sharing,
                from_removed: true,
                leaks: Leaks::default(),
                markers: Vec::new(),
            });
        }
        let settled = self.settle(&row, ctx)?;
        if !settled.not_taken.is_empty() {
            return Err(TwinError::NotTaken { name: name.to_string(), paths: settled.not_taken }.into());
        }
        let listing = portable(&settled.listing, &self.folder_of(&row), self.root())?;
        let State { build, sharing, profile, .. } = settled.state;
        Ok(Start { build, listing, profile, sharing, from_removed: false, leaks: settled.leaks, markers: Vec::new() })
    }

    /// Makes the new twin: staged whole, then renamed into place.
    ///
    /// A crash leaves no half twin: the next opening of the yard either finds it whole or deletes the stage. Its contents
    /// are durable in the pool; its folder may have to be made again after a power loss.
    ///
    /// # Errors
    /// As [`Yard::plan_clone`]; [`Error::ContentMissing`] if the pool was damaged; [`Error::Io`], on a full disk among
    /// others. Nothing is changed then.
    pub fn apply_clone(&self, plan: &ClonePlan, ctx: &Ctx) -> Result<CloneOutcome> {
        let began = Instant::now();
        let sheet = self.sheet(&plan.build.title)?;
        let nothing = PathSet::default();
        let written = sheet.as_ref().map_or(&nothing, |sheet| sheet.written());
        let op = self.begin(ctx)?;
        if !plan.markers.is_empty() {
            self.keep_nothing(&op, ctx)?;
        }
        let policy = Policy::new(plan.sharing, Facts::probe(op.path())?, &plan.listing, written);
        let clock = FsClock::new(op.path())?;
        let held = if policy.links() { self.alone(ctx)? } else { self.shared(ctx)? };
        let started = clock.now()?;
        let stage = op.path().join("twin");
        disk::make_folder(&stage)?;
        let laid = Laying { pool: &self.pool, policy: &policy, op: op.path(), ctx }.lay(&plan.listing, &stage)?;
        let row = TwinRow {
            id: TwinId::random()?,
            name: plan.name.clone(),
            folder: plan.name.to_string(),
            state: self.put_first_state(plan, &op)?,
            origin: plan.source.to_string(),
            made_at: Timestamp::now(),
            removed_at: None,
            protected: None,
            unsynced: disk::boot_id(),
        };
        let looked_at = clock.wait_past(laid.latest)?;
        self.furnish(&stage, &row, plan, &laid, looked_at)?;
        ctx.check()?;
        let window = policy.links().then_some((started, looked_at));
        let row = self.publish_twin(held, row, &stage, window, ctx)?;
        Ok(CloneOutcome {
            name: plan.name.clone(),
            id: row.id,
            folder: self.folder_of(&row),
            totals: plan.totals,
            shares: ShareTotals::new(&plan.listing, &laid.rows),
            unshared: policy.unshared(),
            took: began.elapsed(),
        })
    }

    fn put_first_state(&self, plan: &ClonePlan, op: &OpFolder) -> Result<crate::StateId> {
        let listing = self.put_listing(&plan.listing, None, op)?;
        let state = State::new(plan.build.clone(), plan.sharing, listing, listing, plan.profile.clone());
        self.put_state(&state, op)
    }

    /// Puts what belongs beside `game` and `home` into the stage of a new twin.
    fn furnish(&self, stage: &Path, row: &TwinRow, plan: &ClonePlan, laid: &Laid, looked_at: i64) -> Result<()> {
        // The game's files may reach the disk later, since the pool has them; nothing else has these.
        disk::write_synced(&stage.join("id"), format!("{}\n", row.id).as_bytes())?;
        disk::write_synced(&stage.join("profile.toml"), plan.profile.as_bytes())?;
        disk::make_folder(&stage.join("runs"))?;
        let index = Index { listing: plan.listing.id(), pool: self.pool.inode()?, looked_at, rows: laid.rows.clone() };
        index.save(&index_path(stage), &stage.join("index.new"))
    }

    /// Renames a staged twin into place and records it: the instant at which it exists.
    fn publish_twin(
        &self,
        held: Held,
        mut row: TwinRow,
        stage: &Path,
        window: Option<(i64, i64)>,
        ctx: &Ctx,
    ) -> Result<TwinRow> {
        // A lock that is held with others can't be turned into one held alone without letting go.
        let _alone = if window.is_some() {
            held
        } else {
            drop(held);
            self.alone(ctx)?
        };
        self.check_free(&row.name)?;
        row.folder = self.free_folder(&row.name)?;
        let folder = self.twins_folder().join(&row.folder);
        let intent = self.catalog.intend(&Intent::Clone { twin: row.clone() })?;
        if let Err(error) = disk::rename_new(stage, &folder) {
            self.catalog.intent_done(intent)?;
            return Err(Error::io("put the new twin in place at", folder, error));
        }
        disk::sync_rename(stage, &folder)?;
        self.catalog.together(|| {
            self.catalog.add_twin(&row)?;
            if let Some((started, ended)) = window {
                self.catalog.add_window(started, ended)?;
            }
            self.catalog.intent_done(intent)
        })?;
        Ok(row)
    }

    /// Whether a twin can get this name.
    pub(crate) fn check_free(&self, name: &TwinName) -> Result<()> {
        let key = name.key();
        let twins = self.catalog.twins()?;
        match twins.iter().find(|row| row.removed_at.is_none() && row.name.key() == key) {
            None => Ok(()),
            Some(row) => Err(Error::Exists { what: "twin", name: name.to_string(), existing: row.name.to_string() }),
        }
    }

    /// A folder name for a twin: its name, unless a renamed twin still has that folder.
    pub(crate) fn free_folder(&self, name: &TwinName) -> Result<String> {
        let taken: Vec<_> = self
            .catalog
            .twins()?
            .iter()
            .filter(|row| row.removed_at.is_none())
            .map(|row| crate::path::fold_key(&row.folder))
            .collect();
        let numbered = (2..).map(|number| format!("{name} {number}"));
        let free = std::iter::once(name.to_string())
            .chain(numbered)
            .find(|folder| !taken.contains(&crate::path::fold_key(folder)))
            .unwrap_or_default();
        let path = self.twins_folder().join(&free);
        if disk::exists(&path) { Err(TwinError::FolderInTheWay(path).into()) } else { Ok(free) }
    }
}

/// The listing with its symlinks fit for another folder: those that lead inside by an absolute path become relative.
fn portable(listing: &Listing, folder: &Path, yard: &Path) -> Result<Listing> {
    let entries = listing.entries().iter().map(|entry| match &entry.node {
        Node::Symlink { target } => match fate(&entry.path.below(folder), target, folder, folder, yard) {
            Fate::Relative(target) => Entry { node: Node::Symlink { target: target.into() }, ..entry.clone() },
            _ => entry.clone(),
        },
        _ => entry.clone(),
    });
    Listing::new(entries.collect())
}
