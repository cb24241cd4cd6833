//! Sweep: lets go what the keep policy no longer keeps, and deletes what nothing needs any more.
//!
//! ```
//! use yard_twin::sweep;
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
//! let plan = sweep::plan(&yard, &ctx)?;
//! let outcome = sweep::apply(&yard, &plan, &ctx)?;
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

use std::collections::{HashMap, HashSet};
use std::fs;
use std::path::Path;
use std::time::{Duration, Instant};

use jiff::{SignedDuration, Timestamp};
use serde::Serialize;

use crate::catalog::{HistoryEntry, Intent, StockRow, TwinRow, What};
use crate::disk;
use crate::disk::op_folder::OpFolder;
use crate::error::{Error, PathContext, Result, YardError};
use crate::ident::{BuildRef, ContentId, ListingId, ModId, TwinId, TwinName};
use crate::progress::{Ctx, Phase};
use crate::store::pool::{Ledger, Pool};
use crate::upkeep::remove;
use crate::yard::folder_id;
use crate::yard::forget;
use crate::{KeepPolicy, Yard};

/// Files of the yard's own, counted.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Files {
    /// How many.
    pub files: u64,
    /// Bytes on disk that deleting them frees: 0 for one that a twin still has under another name.
    pub bytes: u64,
}

/// States of a twin that are let go.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct LetGo {
    /// The twin.
    pub twin: TwinName,
    /// Their numbers in its history.
    pub numbers: Vec<u32>,
}

/// What a sweep did, or would do.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Outcome {
    /// What it went by.
    pub policy: KeepPolicy,
    /// States that the policy doesn't keep.
    pub states: Vec<LetGo>,
    /// Removed twins that have had their days.
    pub twins: Vec<TwinName>,
    /// Removed stock builds that have had theirs, and that no twin is on.
    pub builds: Vec<BuildRef>,
    /// Packages of mods that have had theirs, and that no twin has.
    pub packages: u64,
    /// What nothing needs, and whose days of grace are over: deleted.
    pub deleted: Files,
    /// What nothing needs, and that stays for the days of grace.
    pub waiting: Files,
    /// Removed twins that have had their days, and stay: something is in their folders that no state has. Each with what
    /// that is.
    pub held_back: Vec<(TwinName, Vec<String>)>,
    /// When the first of it can go.
    pub waiting_until: Option<Timestamp>,
    /// Set where the catalogue is not the one that the pool was swept with last (it came from a backup, it seems): then
    /// nothing is let go, and every content that it needs is looked for. These are missing, each with a path that needs it.
    pub missing: Option<Vec<String>>,
    /// How long it took.
    #[serde(serialize_with = "crate::progress::seconds")]
    pub took: Duration,
}

/// What a sweep will let go and delete.
#[must_use = "a plan changes nothing until it is applied"]
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Plan {
    /// What comes of it.
    #[serde(flatten)]
    pub would: Outcome,
    #[serde(skip)]
    agreed: Agreed,
}

/// What the plan showed, and the user agreed to. What may go by now and is not in it stays for the next sweep.
#[derive(Clone, Debug, Default)]
struct Agreed {
    states: HashSet<(TwinId, u32)>,
    twins: HashSet<TwinId>,
    builds: HashSet<String>,
    packages: HashSet<ModId>,
    files: HashSet<String>,
}

/// A sweep under way.
struct Sweeping<'a> {
    ledger: &'a Ledger,
    op: &'a OpFolder,
    /// `None` where it only looks.
    agreed: Option<&'a Agreed>,
}

/// What goes by the policy.
#[derive(Default)]
struct Goes {
    states: Vec<(TwinRow, Vec<u32>)>,
    twins: Vec<TwinRow>,
    builds: Vec<StockRow>,
    packages: HashSet<ModId>,
}

impl Goes {
    fn keep_agreed(&mut self, agreed: &Agreed) {
        for (row, numbers) in &mut self.states {
            numbers.retain(|number| agreed.states.contains(&(row.id, *number)));
        }
        self.states.retain(|(_, numbers)| !numbers.is_empty());
        self.twins.retain(|row| agreed.twins.contains(&row.id));
        self.builds.retain(|row| agreed.builds.contains(&row.build.to_string()));
        self.packages.retain(|id| agreed.packages.contains(id));
    }

    fn agreed(&self, files: impl Iterator<Item = String>) -> Agreed {
        let states = self.states.iter().flat_map(|(row, numbers)| numbers.iter().map(|number| (row.id, *number)));
        Agreed {
            states: states.collect(),
            twins: self.twins.iter().map(|row| row.id).collect(),
            builds: self.builds.iter().map(|row| row.build.to_string()).collect(),
            packages: self.packages.clone(),
            files: files.collect(),
        }
    }
}

/// A file of the yard's own that nothing needs.
struct Unneeded {
    /// Below the yard's root.
    path: String,
    bytes: u64,
    since: Timestamp,
}

/// Looks at what a sweep would let go: what the keep policy of `yard.toml` no longer keeps, and the contents, listings
/// and states that nothing has needed for the days of grace.
///
/// # Errors
/// [`Error::Busy`] while another command is at work, [`Error::Io`].
pub fn plan(yard: &Yard, ctx: &Ctx) -> Result<Plan> {
    let (would, agreed) = sweep(yard, None, ctx)?;
    Ok(Plan { would, agreed })
}

/// Lets go of what was planned, and deletes it. What has come to be needed since stays.
///
/// A crash leaves what was not deleted to the next sweep. What goes is committed and synced before the first file is
/// deleted.
///
/// # Errors
/// As [`plan`].
pub fn apply(yard: &Yard, plan: &Plan, ctx: &Ctx) -> Result<Outcome> {
    Ok(sweep(yard, Some(&plan.agreed), ctx)?.0)
}

/// Sweeps what is agreed to, or looks what there is to agree to.
fn sweep(yard: &Yard, agreed: Option<&Agreed>, ctx: &Ctx) -> Result<(Outcome, Agreed)> {
    let began = Instant::now();
    // Looked at before the yard is held, which looking needs too.
    let held_back = held_back(yard, &what_goes(yard, Timestamp::now())?, ctx)?;
    let alone = yard.alone(ctx)?;
    let op = yard.begin_alone(&alone)?;
    let mut outcome = Outcome {
        policy: yard.keep_policy(),
        states: Vec::new(),
        twins: Vec::new(),
        builds: Vec::new(),
        packages: 0,
        deleted: Files::default(),
        waiting: Files::default(),
        held_back: held_back.iter().map(|(row, beside)| (row.name.clone(), beside.clone())).collect(),
        waiting_until: None,
        missing: None,
        took: Duration::ZERO,
    };
    let mut seen = Agreed::default();
    check_all_known(yard)?;
    let generation = yard.catalog.generation()?;
    let swept = yard.store.pool.generation()?;
    // A sweep that was cut off has counted in the catalogue, and not yet in the pool.
    if generation == swept || generation == swept + 1 {
        let ledger = Ledger::load(&yard.store.pool)?;
        let sweeping = Sweeping { ledger: &ledger, op: &op, agreed };
        let gone = let_go(yard, &mut outcome, generation, &held_back, &sweeping, ctx);
        ledger.save(op.path())?;
        seen = gone?;
    } else {
        outcome.missing = Some(missing_contents(yard, ctx)?);
        if agreed.is_some() {
            let next = generation.max(swept) + 1;
            yard.catalog.together(|| {
                yard.catalog.set_unneeded(std::iter::empty())?;
                yard.catalog.set_generation(next)
            })?;
            yard.store.pool.set_generation(next, op.path())?;
        }
    }
    outcome.took = began.elapsed();
    Ok((outcome, seen))
}

fn let_go(
    yard: &Yard,
    outcome: &mut Outcome,
    generation: u32,
    held_back: &[(TwinRow, Vec<String>)],
    &Sweeping { ledger, op, agreed }: &Sweeping<'_>,
    ctx: &Ctx,
) -> Result<Agreed> {
    let now = Timestamp::now();
    let mut goes = what_goes(yard, now)?;
    goes.twins.retain(|row| !held_back.iter().any(|(held, _)| held.id == row.id));
    if let Some(agreed) = agreed {
        goes.keep_agreed(agreed);
    }
    outcome.states =
        goes.states.iter().map(|(row, numbers)| LetGo { twin: row.name.clone(), numbers: numbers.clone() }).collect();
    outcome.twins = goes.twins.iter().map(|row| row.name.clone()).collect();
    outcome.builds = goes.builds.iter().map(|row| row.build.clone()).collect();
    outcome.packages = goes.packages.len() as u64;
    let unneeded = unneeded_files(yard, &goes, now, ctx)?;
    let grace = days(yard.keep_policy().grace_days);
    let over = |file: &Unneeded| {
        now.duration_since(file.since) >= grace && agreed.is_none_or(|agreed| agreed.files.contains(&file.path))
    };
    for file in &unneeded {
        let files = if over(file) { &mut outcome.deleted } else { &mut outcome.waiting };
        files.files += 1;
        files.bytes += file.bytes;
    }
    let first = unneeded.iter().filter(|file| !over(file)).map(|file| file.since).min();
    outcome.waiting_until = first.and_then(|since| since.checked_add(grace).ok());
    if agreed.is_none() {
        return Ok(goes.agreed(unneeded.iter().filter(|file| over(file)).map(|file| file.path.clone())));
    }
    let mut forgotten = Vec::new();
    yard.catalog.together(|| {
        for (row, numbers) in &goes.states {
            numbers.iter().try_for_each(|number| yard.catalog.drop_change(row.id, *number))?;
        }
        goes.builds.iter().try_for_each(|row| yard.catalog.delete_stock(row))?;
        goes.packages.iter().try_for_each(|id| yard.catalog.delete_package(*id))?;
        let waiting = unneeded.iter().filter(|file| !over(file));
        yard.catalog.set_unneeded(waiting.map(|file| (file.path.as_str(), file.since)))?;
        for row in &goes.twins {
            forgotten.push((row.clone(), yard.catalog.intend(&Intent::Forget { twin: row.id })?));
        }
        yard.catalog.forget_made()?;
        yard.catalog.set_generation(generation + 1)
    })?;
    // Should this be the last that is done, the opening of the yard does the rest.
    yard.store.pool.set_generation(generation + 1, op.path())?;
    for (row, intent) in forgotten {
        let kept = forget::forget(yard, &row, op, ledger, ctx.threads())?;
        if !kept.is_empty() {
            outcome.held_back.push((row.name.clone(), kept));
        }
        yard.catalog.intent_done(intent)?;
    }
    let gone: Vec<_> = unneeded.iter().filter(|file| over(file)).collect();
    ctx.phase(Phase::Deleting, gone.len() as u64, 0, || {
        gone.iter().try_for_each(|file| {
            ctx.check()?;
            ctx.progress().advance(1, 0);
            let path = yard.root().join(&file.path);
            let stat = disk::lstat(&path).at("look at", &path)?;
            disk::remove_file(&path)?;
            if file.path.starts_with("pool/") {
                ledger.forget(stat.ino);
            }
            Ok(())
        })
    })?;
    Ok(Agreed::default())
}

/// An error if folders of twins are there that the catalogue doesn't know: it can't say what they need.
fn check_all_known(yard: &Yard) -> Result<()> {
    let known: HashSet<_> = yard.catalog.twins()?.into_iter().map(|row| row.id).collect();
    let mut unknown = Vec::new();
    for base in [yard.twins_folder(), yard.removed_folder()] {
        for folder in fs::read_dir(&base).at("list", &base)? {
            let folder = folder.at("list", &base)?.path();
            if folder_id(&folder)?.is_some_and(|id| !known.contains(&id)) {
                unknown.push(folder);
            }
        }
    }
    if unknown.is_empty() { Ok(()) } else { Err(YardError::UnknownTwins(unknown).into()) }
}

/// Removed twins whose folders hold something that no state has: not deleted unasked.
fn held_back(yard: &Yard, goes: &Goes, ctx: &Ctx) -> Result<Vec<(TwinRow, Vec<String>)>> {
    let mut held_back = Vec::new();
    for row in &goes.twins {
        let folder = yard.folder_of(row);
        let beside = match remove::beside_state(yard, row, ctx) {
            // A folder that can't be looked at may hold something.
            Err(Error::Io { path, source, .. }) if path.starts_with(&folder) => {
                vec![format!("{} ({source})", path.display())]
            }
            beside => beside?,
        };
        if !beside.is_empty() {
            held_back.push((row.clone(), beside));
        }
    }
    Ok(held_back)
}

/// What the policy no longer keeps.
fn what_goes(yard: &Yard, now: Timestamp) -> Result<Goes> {
    let policy = yard.keep_policy();
    let old = |at: Timestamp, limit: u32| now.duration_since(at) >= days(limit);
    let mut goes = Goes::default();
    let twins = yard.catalog.twins()?;
    for row in &twins {
        if row.removed_at.is_some_and(|at| old(at, policy.removed_days)) {
            goes.twins.push(row.clone());
            continue;
        }
        let history = yard.catalog.history(row.id)?;
        let goes_by_age = |(at, entry): (usize, &HistoryEntry)| {
            let kept =
                at == 0 || at < policy.states as usize || entry.what == What::Snapshot || !old(entry.at, policy.days);
            (!kept).then_some(entry.number)
        };
        let numbers: Vec<u32> = history.iter().enumerate().filter_map(goes_by_age).collect();
        if !numbers.is_empty() {
            goes.states.push((row.clone(), numbers));
        }
    }
    let mut on = HashSet::new();
    for row in twins.iter().filter(|row| !goes.twins.iter().any(|gone| gone.id == row.id)) {
        on.insert(yard.store.state(row.state)?.build);
    }
    let mut packages = yard.catalog.packages()?;
    packages.retain(|row| old(row.added_at, policy.removed_days));
    if !packages.is_empty() {
        let used = mods_in_use(yard)?;
        goes.packages = packages.into_iter().map(|row| row.id).filter(|id| !used.contains(id)).collect();
    }
    goes.builds = yard.catalog.stock_builds()?;
    goes.builds.retain(|row| row.removed_at.is_some_and(|at| old(at, policy.removed_days)) && !on.contains(&row.build));
    Ok(goes)
}

/// The packages that a state of a twin has.
fn mods_in_use(yard: &Yard) -> Result<HashSet<ModId>> {
    let mut used = HashSet::new();
    for (_, state) in yard.catalog.states_in_use()? {
        used.extend(yard.store.state(state)?.mods.iter().map(|used| used.id));
    }
    Ok(used)
}

/// The files of the yard's own that nothing needs once what goes has gone, and since when that is known.
fn unneeded_files(yard: &Yard, goes: &Goes, now: Timestamp, ctx: &Ctx) -> Result<Vec<Unneeded>> {
    let needed = needed(yard, goes)?;
    let known = yard.catalog.unneeded()?;
    let mut unneeded = Vec::new();
    for kind in ["pool", "listings", "states", "mods"] {
        let root = yard.root().join(kind);
        // Yards of earlier versions have none of these until the first mod comes.
        if kind == "mods" && !disk::exists(&root) {
            continue;
        }
        for folder in fs::read_dir(&root).at("list", &root)? {
            ctx.check()?;
            let folder = folder.at("list", &root)?;
            // What is aside goes once no twin shares it any more.
            let plain = folder.file_name() != "aside";
            if !plain || !folder.file_type().at("look at", folder.path())?.is_dir() {
                continue;
            }
            unneeded_in(yard, kind, &folder.path(), &needed, &known, now, &mut unneeded)?;
        }
    }
    Ok(unneeded)
}

fn unneeded_in(
    yard: &Yard,
    kind: &str,
    folder: &Path,
    needed: &Needed,
    known: &HashMap<String, Timestamp>,
    now: Timestamp,
    unneeded: &mut Vec<Unneeded>,
) -> Result<()> {
    for file in fs::read_dir(folder).at("list", folder)? {
        let path = file.at("list", folder)?.path();
        let name = path.file_name().unwrap_or_default().to_string_lossy();
        let stat = disk::lstat(&path).at("look at", &path)?;
        if needed.has(kind, &name, stat.nlink) {
            continue;
        }
        let Some(path) = path.strip_prefix(yard.root()).ok().and_then(Path::to_str) else { continue };
        let since = known.get(path).copied().unwrap_or(now);
        let bytes = if stat.nlink > 1 { 0 } else { stat.allocated };
        unneeded.push(Unneeded { path: path.to_owned(), bytes, since });
    }
    Ok(())
}

fn needed(yard: &Yard, goes: &Goes) -> Result<Needed> {
    let mut needed = Needed::default();
    let gone = |row: &StockRow| goes.builds.iter().any(|gone| gone.build == row.build && gone.taken_at == row.taken_at);
    let stock = yard.catalog.stock_builds()?;
    let mut listings: HashSet<ListingId> = stock.iter().filter(|row| !gone(row)).map(|row| row.listing).collect();
    let let_go: HashSet<_> = states_let_go(yard, goes)?;
    for (twin, id) in yard.catalog.states_in_use()? {
        if !let_go.contains(&(twin, id)) {
            let state = yard.store.state(id)?;
            needed.names.insert(id.to_string());
            listings.extend(state.listings());
            needed.names.extend(state.mods.iter().map(|used| used.id.to_string()));
        }
    }
    for row in yard.catalog.packages()?.iter().filter(|row| !goes.packages.contains(&row.id)) {
        needed.names.insert(row.id.to_string());
        // What a twin has of one whose record is lost, its state says.
        listings.extend(Error::pass_over(yard.store.package(row.id))?.map(|package| package.files));
    }
    for &id in &listings {
        needed.names.insert(id.to_string());
        needed.names.extend(yard.store.base_of(id)?.map(|base| base.to_string()));
    }
    needed.contents = yard.store.contents_of(listings)?;
    Ok(needed)
}

/// The states that only what goes still has.
fn states_let_go(yard: &Yard, goes: &Goes) -> Result<HashSet<(crate::TwinId, crate::StateId)>> {
    let mut gone = HashSet::new();
    for row in yard.catalog.twins()? {
        let history = yard.catalog.history(row.id)?;
        let whole = goes.twins.iter().any(|gone| gone.id == row.id);
        let some = goes.states.iter().find(|(gone, _)| gone.id == row.id).map(|(_, numbers)| numbers);
        let goes = |entry: &HistoryEntry| whole || some.is_some_and(|numbers| numbers.contains(&entry.number));
        let stays: HashSet<_> = history.iter().filter(|entry| !goes(entry)).map(|entry| entry.state).collect();
        let kept = |state| !whole && (state == row.state || Some(state) == row.protected || stays.contains(&state));
        gone.extend(history.iter().map(|e| e.state).chain([row.state]).filter(|s| !kept(*s)).map(|s| (row.id, s)));
    }
    Ok(gone)
}

/// The contents that the catalogue needs and the pool doesn't have, or not in their size.
fn missing_contents(yard: &Yard, ctx: &Ctx) -> Result<Vec<String>> {
    let mut missing = Vec::new();
    let mut seen = HashSet::new();
    for id in yard.listings_in_use()? {
        ctx.check()?;
        for entry in yard.store.listing(id)?.entries() {
            let Some(content) = entry.node.content().filter(|content| seen.insert(*content)) else { continue };
            let whole = disk::lstat(&yard.store.pool.path(content)).is_ok_and(|stat| stat.size == entry.node.size());
            if !whole {
                missing.push(format!("{} ({})", entry.path, Pool::name(content, false)));
            }
        }
    }
    missing.sort();
    Ok(missing)
}

/// What of the yard's own files is needed.
#[derive(Default)]
struct Needed {
    /// Of listings and states.
    names: HashSet<String>,
    contents: HashSet<ContentId>,
}

impl Needed {
    fn has(&self, kind: &str, name: &str, links: u32) -> bool {
        if kind != "pool" {
            return self.names.contains(name);
        }
        // An executable's second file is made again when it is wanted.
        let (name, dispensable) = name.strip_suffix(".x").map_or((name, false), |name| (name, links == 1));
        name.parse().is_ok_and(|content: ContentId| self.contents.contains(&content)) && !dispensable
    }
}

fn days(count: u32) -> SignedDuration {
    SignedDuration::from_hours(24 * i64::from(count))
}

impl Pool {
    const GENERATION: &str = "generation";

    /// How many sweeps the pool has seen.
    pub(crate) fn generation(&self) -> Result<u32> {
        let path = self.root().join(Self::GENERATION);
        match disk::read_own(&path, disk::TEXT).map(|text| String::from_utf8_lossy(&text).into_owned()) {
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(0),
            text => {
                let why = "it should hold a number".to_owned();
                text.at("read", &path)?.trim().parse().map_err(|_| Error::Damaged { path, why })
            }
        }
    }

    pub(crate) fn set_generation(&self, number: u32, op: &Path) -> Result<()> {
        disk::write_whole(&self.root().join(Self::GENERATION), &op.join("generation"), format!("{number}\n").as_bytes())
    }
}
