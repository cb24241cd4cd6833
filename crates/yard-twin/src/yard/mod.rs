//! An open yard: its layout, its locks, its rows.

pub(crate) mod forget;
pub(crate) mod intents;
pub(crate) mod moved;
mod only;
pub(crate) mod recovered;
pub(crate) mod settings;

use std::collections::HashSet;
use std::fs;
use std::io::{ErrorKind, Read};
use std::path::{Path, PathBuf};
use std::sync::{Arc, OnceLock};

use crate::catalog::{Catalog, HistoryEntry, StockRow, TwinRow};
use crate::disk;
use crate::disk::lock::{self as file_lock, Held, Mode};
use crate::disk::op_folder::OpFolder;
use crate::error::{Error, Noun, PathContext, Result, TwinError};
use crate::ident::{BuildLabel, BuildRef, ListingId, SnapshotRef, Source, Title, TwinId, TwinName};
use crate::listing::{Entry, Totals};
use crate::progress::Ctx;
use crate::scan::{Index, index_path};
use crate::sheet::Sheet;
use crate::store::Store;
use crate::store::pool::{Facts, Sharing};
use crate::store::state::State;
use crate::yard::recovered::Recovered;
use crate::yard::settings::{KeepPolicy, Settings};

/// An open yard: the root folder that holds everything.
///
/// A cheap handle: clones of it share one catalogue connection, and may be used by any thread. One process may have several
/// yards open at once, and several processes one; they keep out of each other's way by locks. Whatever a process leaves
/// half done, the next opening finishes or undoes.
#[derive(Clone)]
pub struct Yard {
    pub(crate) root: Arc<Path>,
    pub(crate) settings: Settings,
    pub(crate) catalog: Arc<Catalog>,
    pub(crate) store: Store,
    /// What the opening found half done, and finished or undid.
    pub(crate) recovered: Arc<Recovered>,
    /// Whether the opening had to keep others out.
    pub(crate) closed: bool,
    /// What its filesystem can do, once it was tried.
    pub(crate) facts: Arc<OnceLock<Facts>>,
}

impl std::fmt::Debug for Yard {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Yard").field("root", &self.root).finish_non_exhaustive()
    }
}

impl Yard {
    /// The yard's root folder, without links in its path.
    #[must_use]
    pub fn root(&self) -> &Path {
        &self.root
    }

    /// How new twins share storage unless it is said otherwise.
    #[must_use]
    pub fn default_sharing(&self) -> Sharing {
        self.settings.share
    }

    /// Whether others could look into the yard until it was opened now: it is its owner's alone from now on, unless its
    /// settings say `private = false`.
    #[must_use]
    pub fn was_open_to_others(&self) -> bool {
        self.closed
    }

    /// What of the past is kept.
    #[must_use]
    pub fn keep_policy(&self) -> KeepPolicy {
        self.settings.keep
    }

    /// Where the sheet of a title is.
    #[must_use]
    pub fn sheet_path(&self, title: &Title) -> PathBuf {
        self.root.join("sheets").join(format!("{title}.toml"))
    }

    /// The sheet of a title; `None` if nobody has written one.
    ///
    /// # Errors
    /// [`crate::SheetError`] if it is wrong.
    pub fn sheet(&self, title: &Title) -> Result<Option<Sheet>> {
        let path = self.sheet_path(title);
        if disk::exists(&path) { Sheet::load(&path).map(Some) } else { Ok(None) }
    }

    /// The sheet of a build's title, with the places that its groups of belongings have in that build.
    ///
    /// # Errors
    /// As [`Yard::sheet`].
    pub fn sheet_of(&self, build: &BuildRef) -> Result<Option<Sheet>> {
        self.sheet(&build.title)?.map(|sheet| Ok(sheet.of_build(&build.build)?)).transpose()
    }

    /// What tells the sheet of a build apart from another, or from itself before somebody changed it, without understanding it.
    pub(crate) fn sheet_key(&self, build: &BuildRef) -> Result<[u8; 32]> {
        let path = self.sheet_path(&build.title);
        let mut hasher = blake3::Hasher::new();
        hasher.update(concat!(env!("CARGO_PKG_VERSION"), "\0").as_bytes()).update(build.to_string().as_bytes());
        match std::fs::read(&path) {
            Ok(text) => drop(hasher.update(b"\0").update(&text)),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {}
            Err(error) => return Err(error).at("read", &path),
        }
        Ok(*hasher.finalize().as_bytes())
    }

    pub(crate) fn twins_folder(&self) -> PathBuf {
        self.root.join("twins")
    }

    pub(crate) fn removed_folder(&self) -> PathBuf {
        self.root.join("removed")
    }

    /// The yard's lock file.
    pub(crate) fn lock_path(&self) -> PathBuf {
        self.root.join("locks/yard")
    }

    /// Holds the yard together with other readers.
    pub(crate) fn shared(&self, ctx: &Ctx) -> Result<Held> {
        file_lock::take(&self.lock_path(), Mode::Shared, "the yard", ctx)
    }

    /// Holds the yard alone: to publish, to link and unlink pool files.
    ///
    /// Whoever intends something that is done in one hold of the yard, and is no more, is no more now: that is finished or
    /// undone first, as far as it can be.
    pub(crate) fn alone(&self, ctx: &Ctx) -> Result<Held> {
        let held = file_lock::take(&self.lock_path(), Mode::Alone, "the yard", ctx)?;
        intents::finish_for_the_dead(self)?;
        Ok(held)
    }

    pub(crate) fn twin_lock_path(&self, twin: TwinId) -> PathBuf {
        self.root.join("locks").join(twin.to_string())
    }

    /// Whether a twin's program is running, or a command is at work on it.
    pub(crate) fn is_held(&self, row: &TwinRow) -> Result<bool> {
        Ok(file_lock::try_take(&self.twin_lock_path(row.id), Mode::Alone)?.is_none())
    }

    /// Deletes the lock file of a deleted twin.
    pub(crate) fn drop_twin_lock(&self, twin: TwinId) {
        // A leftover lock file is empty and means nothing.
        let _ = disk::remove_file(&self.twin_lock_path(twin));
    }

    /// A folder below `tmp/` for one operation.
    pub(crate) fn begin(&self, ctx: &Ctx) -> Result<OpFolder> {
        let _held = self.shared(ctx)?;
        self.op_folder()
    }

    /// What the filesystem of the yard can do for this user: tried once, and believed as long as the yard is open.
    pub(crate) fn facts(&self, ctx: &Ctx) -> Result<Facts> {
        self.facts.get().map_or_else(|| self.facts_by(&self.begin(ctx)?), |facts| Ok(*facts))
    }

    /// As [`Yard::facts`], in the folder of an operation that is under way.
    pub(crate) fn facts_by(&self, op: &OpFolder) -> Result<Facts> {
        if let Some(facts) = self.facts.get() {
            return Ok(*facts);
        }
        let facts = Facts::probe(op.path())?;
        Ok(*self.facts.get_or_init(|| facts))
    }

    /// As [`Yard::begin`]; the caller holds the yard's lock.
    pub(crate) fn op_folder(&self) -> Result<OpFolder> {
        OpFolder::make(&self.root.join("tmp"))
    }

    /// Whether no other operation is under way. The caller holds the yard's exclusive lock.
    pub(crate) fn is_only_operation(&self, op: &OpFolder) -> Result<bool> {
        let tmp = self.root.join("tmp");
        for entry in fs::read_dir(&tmp).at("list", &tmp)? {
            if entry.at("list", &tmp)?.path() != op.path() {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// As [`Yard::begin`]; the caller holds the yard's exclusive lock. Refuses while another operation is under way.
    pub(crate) fn begin_alone(&self, _alone: &Held) -> Result<OpFolder> {
        let tmp = self.root.join("tmp");
        if fs::read_dir(&tmp).at("list", &tmp)?.next().is_some() {
            return Err(Error::Busy { what: "the yard".into(), holders: Vec::new() });
        }
        OpFolder::make(&tmp)
    }

    /// The twin of that name; with `removed`, the one of that name that was removed last if none is there.
    pub(crate) fn twin_row(&self, name: &TwinName, removed: bool) -> Result<TwinRow> {
        let rows = self.catalog.twins()?;
        let key = name.key();
        let mut same: Vec<&TwinRow> = rows.iter().filter(|row| row.name.key() == key).collect();
        same.sort_by_key(|row| (row.removed_at.is_some(), std::cmp::Reverse(row.removed_at)));
        match same.first() {
            Some(row) if removed || row.removed_at.is_none() => Ok((*row).clone()),
            _ => Err(Error::NotFound {
                what: Noun::Twin,
                name: name.to_string(),
                known: rows.iter().filter(|r| r.removed_at.is_none()).map(|r| r.name.to_string()).collect(),
            }),
        }
    }

    /// The stock build of that name; a removed one only where `removed` is set.
    pub(crate) fn stock_row(&self, build: &BuildRef, removed: bool) -> Result<StockRow> {
        let all = || Ok::<_, Error>(self.catalog.stock_builds()?.into_iter());
        let same =
            |row: &StockRow| row.build.title.key() == build.title.key() && row.build.build.key() == build.build.key();
        let row = match self.catalog.stock(build)? {
            // However its title is spelt: there is none that differs by case only.
            None => all()?.find(same),
            row => row,
        };
        match row {
            Some(row) if removed || row.removed_at.is_none() => Ok(row),
            _ => Err(Error::NotFound {
                what: Noun::StockBuild,
                name: build.to_string(),
                known: all()?.filter(|row| row.removed_at.is_none()).map(|row| row.build.to_string()).collect(),
            }),
        }
    }

    /// How much a listing holds. Counted once: it never changes.
    pub(crate) fn totals(&self, id: ListingId) -> Result<Totals> {
        if let Some(totals) = self.catalog.totals(id)? {
            return Ok(totals);
        }
        let totals = self.store.listing(id)?.totals();
        // Another command may be at the catalogue; then it is counted again.
        if let Err(error) = self.catalog.loosely(|| self.catalog.set_totals(id, &totals)) {
            tracing::debug!(%error, "what a listing holds was counted, and not written down");
        }
        Ok(totals)
    }

    /// Sizes of the contents that the pool may have, by the listings of what there is.
    pub(crate) fn known_sizes(&self) -> Result<HashSet<u64>> {
        let mut sizes = HashSet::new();
        // An unreadable record only costs storing a known file once more.
        self.each_needed(|entry| sizes.extend([entry.node.size()]))?;
        Ok(sizes)
    }

    /// Every listing that a stock build or a state of a twin needs, removed ones too.
    pub(crate) fn listings_in_use(&self) -> Result<HashSet<ListingId>> {
        let mut ids: HashSet<_> = self.catalog.stock_builds()?.into_iter().map(|row| row.listing).collect();
        for (_, state) in self.catalog.states_in_use()? {
            let state = self.store.state(state)?;
            ids.extend(state.listings());
        }
        Ok(ids)
    }

    /// Goes through the entries of what stock builds and twins need. Says whether that is all of it: what a record needs that
    /// can't be read is not known, and keeps nobody from the rest.
    pub(crate) fn each_needed(&self, each: impl FnMut(&Entry)) -> Result<bool> {
        let (listings, all) = self.listings_elsewhere(None, None)?;
        Ok(self.store.each_readable(listings, each)? && all)
    }

    /// The title as people write it; a sheet that is wrong doesn't keep anything from being listed.
    pub(crate) fn title_name(&self, build: &BuildRef) -> String {
        self.sheet_of(build).ok().flatten().map_or_else(|| build.title.to_string(), |sheet| sheet.name)
    }

    /// The state that a twin has, or else the newest one that can be read; where none can, what is known of where it comes
    /// from.
    pub(crate) fn newest_whole(&self, row: &TwinRow) -> Result<State> {
        if let Some(state) = Error::pass_over(self.store.state(row.state))? {
            return Ok(state);
        }
        for entry in self.catalog.history(row.id)? {
            if let Some(state) = Error::pass_over(self.store.state(entry.state))? {
                return Ok(state);
            }
        }
        let build = match row.origin.parse() {
            Ok(Source::Stock(build)) => build,
            _ => BuildRef { title: Title::new("unknown")?, build: BuildLabel::new("unknown")? },
        };
        let nothing = ListingId::from_bytes([0; 32]);
        Ok(State::new(build, self.default_sharing(), nothing, nothing, String::new()))
    }

    /// The line of a twin's history that is meant.
    pub(crate) fn find_entry(&self, row: &TwinRow, snapshot: &SnapshotRef) -> Result<HistoryEntry> {
        let history = self.catalog.history(row.id)?;
        let is_it = |entry: &HistoryEntry| match snapshot {
            SnapshotRef::Number(number) => entry.number == *number,
            SnapshotRef::Label(label) => entry.label.as_ref().is_some_and(|there| there.key() == label.key()),
        };
        match history.iter().find(|entry| is_it(entry)) {
            Some(entry) => Ok(entry.clone()),
            None => {
                let (name, numbers) = (row.name.to_string(), || history.iter().map(|entry| entry.number));
                Err(match snapshot {
                    SnapshotRef::Number(number) => {
                        let lines = numbers().min().zip(numbers().max());
                        TwinError::NoLine { name, number: *number, lines }
                    }
                    SnapshotRef::Label(label) => {
                        let known = history.iter().filter_map(|entry| entry.label.as_ref()).map(ToString::to_string);
                        TwinError::NoSnapshot { name, label: label.to_string(), known: known.collect() }
                    }
                }
                .into())
            }
        }
    }

    /// The index of the twin in a folder, if there is one for its state's listing, which has so many entries.
    pub(crate) fn index(&self, folder: &Path, state: &State, entries: usize) -> Result<Option<Index>> {
        let index = Index::load(&index_path(folder), state.disk, self.store.pool.inode()?)?;
        Ok(index.filter(|index| index.fits(entries)))
    }

    /// The folder of a run.
    pub(crate) fn run_folder(&self, row: &TwinRow, run: i64) -> PathBuf {
        self.folder_of(row).join("runs").join(run.to_string())
    }

    /// Where the folder of a twin is, or should be.
    pub(crate) fn folder_of(&self, row: &TwinRow) -> PathBuf {
        let base = if row.removed_at.is_some() { self.removed_folder() } else { self.twins_folder() };
        base.join(&row.folder)
    }
}

/// The id of the twin whose folder this is; `None` where there is none, or the file that says so holds something else.
///
/// # Errors
/// [`Error::Io`] if that can't be told.
pub(crate) fn folder_id(folder: &Path) -> Result<Option<TwinId>> {
    /// Ids are short; whatever else stands here may be endless.
    const ENOUGH: u64 = 256;
    let path = folder.join("id");
    let file = match disk::open_file(rustix::fs::CWD, &path) {
        Err(error) if matches!(error.kind(), ErrorKind::NotFound | ErrorKind::NotADirectory) => return Ok(None),
        // A symlink is no file of ours.
        Err(error) if error.raw_os_error() == Some(rustix::io::Errno::LOOP.raw_os_error()) => return Ok(None),
        file => file.at("read", &path)?,
    };
    if !disk::fstat(&file).at("look at", &path)?.is_file() {
        return Ok(None);
    }
    let mut text = Vec::new();
    file.take(ENOUGH).read_to_end(&mut text).at("read", &path)?;
    Ok(std::str::from_utf8(&text).ok().and_then(|text| text.trim().parse().ok()))
}
