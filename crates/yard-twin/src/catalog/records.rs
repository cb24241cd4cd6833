//! Reading and writing the catalogue's rows.

use std::path::{Path, PathBuf};
use std::time::Duration;

use jiff::Timestamp;
use rusqlite::types::Type;
use rusqlite::{OptionalExtension, Row, params};
use serde::{Deserialize, Serialize};

use super::history::{Counts, NewChange, What, from_json};
use super::{Catalog, DbContext};
use crate::error::Result;
use crate::ident::{BuildRef, ListingId, StateId, TwinId, TwinName};
use crate::listing::Totals;
use crate::path::RelPath;

/// A stock build.
#[derive(Clone, Debug)]
pub(crate) struct StockRow {
    pub(crate) build: BuildRef,
    pub(crate) listing: ListingId,
    pub(crate) channel: Option<String>,
    pub(crate) dated: Option<String>,
    pub(crate) note: Option<String>,
    pub(crate) source: String,
    pub(crate) taken_at: Timestamp,
    pub(crate) removed_at: Option<Timestamp>,
    /// Files that nobody but their user could read, sorted.
    pub(crate) private: Vec<RelPath>,
}

/// A twin.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct TwinRow {
    pub(crate) id: TwinId,
    pub(crate) name: TwinName,
    /// The name of its folder below `twins/`, or below `removed/`.
    pub(crate) folder: String,
    pub(crate) state: StateId,
    /// What it was cloned from, as it was named then.
    pub(crate) origin: String,
    pub(crate) made_at: Timestamp,
    pub(crate) removed_at: Option<Timestamp>,
    /// The state that it had when it was protected.
    #[serde(default)]
    pub(crate) protected: Option<StateId>,
    /// The boot during which its folder was made, until that has been synced.
    #[serde(default)]
    pub(crate) unsynced: Option<String>,
}

impl TwinRow {
    /// The name of the folder that the twin has below `removed/` once it is removed.
    pub(crate) fn removed_folder(&self) -> String {
        format!("{} {}", self.folder, self.id)
    }

    /// The name of the folder that a removed twin had below `twins/`.
    pub(crate) fn folder_before_removal(&self) -> &str {
        self.folder.strip_suffix(&format!(" {}", self.id)).unwrap_or(&self.folder)
    }
}

/// One run of a twin's program.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct RunRecord {
    /// Counts up over all runs of the yard; the run's folder is named by it.
    pub id: i64,
    /// The program, below the game folder.
    pub program: String,
    /// The isolation that it really had.
    pub isolation: String,
    /// When it was started.
    pub started_at: Timestamp,
    /// When it ended; unknown while it runs, and where the launcher died first.
    pub ended_at: Option<Timestamp>,
    /// Its exit code, if it ended by itself.
    pub exit_code: Option<i32>,
    /// The signal that ended it.
    pub signal: Option<i32>,
    /// What it changed, in a few words.
    pub summary: Option<String>,
    /// The process that waits for it.
    #[serde(skip)]
    pub(crate) keeper: Option<i32>,
}

impl RunRecord {
    /// How long it ran, if that is known.
    #[must_use]
    pub fn ran(&self) -> Option<Duration> {
        // A clock that was set back meanwhile is no reason for less than nothing.
        self.ended_at.map(|end| end.duration_since(self.started_at).try_into().unwrap_or_default())
    }
}

/// A launch entry that was written.
#[derive(Clone, Debug)]
pub(crate) struct EntryRow {
    pub(crate) path: PathBuf,
    pub(crate) twin: TwinId,
    pub(crate) name: String,
}

/// What an operation is about to do, written before its first step, so that the next command can finish or undo it.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(tag = "operation", rename_all = "snake_case")]
pub(crate) enum Intent {
    /// A new twin is renamed into place.
    Clone { twin: TwinRow },
    /// A twin's folder is moved to `removed/`, under another name.
    Remove { twin: TwinId, folder: String, removed_folder: String },
    /// A removed twin's folder is moved back, under this name.
    BringBack { twin: TwinId, name: TwinName, folder: String },
    /// A twin and all that is left of it goes for good.
    Forget { twin: TwinId },
    /// A twin gets another name, and its folder too where the two differ; then what names that folder is mended.
    Rename { twin: TwinId, name: TwinName, folder: String, new_folder: String, mend: Option<Mend> },
    /// Files of a source become the pool's own, and then a stock build. `stage` is the operation's folder, which says what
    /// was done to them.
    Move { stage: String, build: BuildRef, listing: ListingId },
    /// A twin's folder is changed entry by entry from one state to another. `stage` is the operation's folder, which
    /// holds what came out.
    Change { twin: TwinId, from: StateId, to: StateId, stage: String, what: Option<What> },
}

impl Intent {
    /// The twin that it is about.
    pub(crate) fn twin(&self) -> Option<TwinId> {
        Some(match self {
            Self::Move { .. } => return None,
            Self::Clone { twin } => twin.id,
            Self::Remove { twin, .. }
            | Self::BringBack { twin, .. }
            | Self::Forget { twin }
            | Self::Rename { twin, .. }
            | Self::Change { twin, .. } => *twin,
        })
    }

    /// What was under way, in a few words.
    pub(crate) fn doing(&self) -> String {
        match self {
            Self::Move { build, .. } => format!("the move of {build} into the yard"),
            Self::Clone { twin } => format!("the making of {}", twin.name),
            Self::Remove { folder, .. } => format!("the removal of {folder}"),
            Self::BringBack { name, .. } => format!("the return of {name}"),
            Self::Forget { twin } => format!("the deletion of the twin {twin}"),
            Self::Rename { name, .. } => format!("a renaming to {name}"),
            Self::Change { twin, .. } => format!("a change of the twin {twin}"),
        }
    }
}

/// A change of a twin that follows at once when its folder has been moved.
#[derive(Clone, Copy, Debug, Serialize, Deserialize)]
pub(crate) struct Mend {
    pub(crate) from: StateId,
    pub(crate) to: StateId,
}

pub(super) fn parsed<T: std::str::FromStr<Err: std::error::Error + Send + Sync + 'static>>(
    row: &Row<'_>,
    at: usize,
) -> rusqlite::Result<T> {
    let text: String = row.get(at)?;
    text.parse().map_err(|error| rusqlite::Error::FromSqlConversionFailure(at, Type::Text, Box::new(error)))
}

fn parsed_if<T: std::str::FromStr<Err: std::error::Error + Send + Sync + 'static>>(
    row: &Row<'_>,
    at: usize,
) -> rusqlite::Result<Option<T>> {
    if row.get_ref(at)? == rusqlite::types::ValueRef::Null { Ok(None) } else { parsed(row, at).map(Some) }
}

const STOCK_COLUMNS: &str =
    "title || '@' || build, listing, channel, dated, note, source, taken_at, removed_at, private";

fn stock_row(row: &Row<'_>) -> rusqlite::Result<StockRow> {
    Ok(StockRow {
        build: parsed(row, 0)?,
        listing: parsed(row, 1)?,
        channel: row.get(2)?,
        dated: row.get(3)?,
        note: row.get(4)?,
        source: row.get(5)?,
        taken_at: parsed(row, 6)?,
        removed_at: parsed_if(row, 7)?,
        private: from_json(row, 8)?,
    })
}

const TWIN_COLUMNS: &str = "id, name, folder, state, origin, made_at, removed_at, protected, unsynced";

fn twin_row(row: &Row<'_>) -> rusqlite::Result<TwinRow> {
    Ok(TwinRow {
        id: parsed(row, 0)?,
        name: parsed(row, 1)?,
        folder: row.get(2)?,
        state: parsed(row, 3)?,
        origin: row.get(4)?,
        made_at: parsed(row, 5)?,
        removed_at: parsed_if(row, 6)?,
        protected: parsed_if(row, 7)?,
        unsynced: row.get(8)?,
    })
}

impl Catalog {
    pub(super) fn all<T>(
        &self,
        sql: &str,
        values: impl rusqlite::Params,
        read: impl FnMut(&Row<'_>) -> rusqlite::Result<T>,
    ) -> Result<Vec<T>> {
        let db = self.db();
        let mut statement = db.prepare_cached(sql).of(&self.path)?;
        let rows = statement.query_map(values, read).of(&self.path)?;
        rows.collect::<rusqlite::Result<_>>().of(&self.path)
    }

    /// The first row, if there is one.
    pub(super) fn one<T>(
        &self,
        sql: &str,
        values: impl rusqlite::Params,
        read: impl FnOnce(&Row<'_>) -> rusqlite::Result<T>,
    ) -> Result<Option<T>> {
        let db = self.db();
        let mut statement = db.prepare_cached(sql).of(&self.path)?;
        statement.query_row(values, read).optional().of(&self.path)
    }

    pub(super) fn run(&self, sql: &str, values: impl rusqlite::Params) -> Result<usize> {
        self.db().prepare_cached(sql).and_then(|mut statement| statement.execute(values)).of(&self.path)
    }

    /// Runs `work` in one transaction: all of it is kept, or nothing.
    pub(crate) fn together(&self, work: impl FnOnce() -> Result<()>) -> Result<()> {
        let db = self.db();
        let transaction = db.unchecked_transaction().of(&self.path)?;
        work()?;
        transaction.commit().of(&self.path)
    }

    /// All stock builds, by title and age; removed ones too.
    pub(crate) fn stock_builds(&self) -> Result<Vec<StockRow>> {
        self.all(&format!("SELECT {STOCK_COLUMNS} FROM stock_builds ORDER BY title, id"), [], stock_row)
    }

    /// The stock build of that name that is there, or else the one of that name that was removed last.
    pub(crate) fn stock(&self, build: &BuildRef) -> Result<Option<StockRow>> {
        self.one(
            &format!(
                "SELECT {STOCK_COLUMNS} FROM stock_builds WHERE title = ?1 AND build_key = ?2
                 ORDER BY removed_at IS NOT NULL, id DESC LIMIT 1"
            ),
            params![build.title.as_str(), build.build.key()],
            stock_row,
        )
    }

    pub(crate) fn add_stock(&self, row: &StockRow) -> Result<()> {
        self.run(
            "INSERT INTO stock_builds (title, build, build_key, listing, channel, dated, note, source, taken_at, private)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10)",
            params![
                row.build.title.as_str(),
                row.build.build.as_str(),
                row.build.build.key(),
                row.listing.to_string(),
                row.channel,
                row.dated,
                row.note,
                row.source,
                row.taken_at.to_string(),
                serde_json::to_string(&row.private).unwrap_or_else(|_| "[]".into()),
            ],
        )?;
        Ok(())
    }

    /// Marks a stock build as removed at that time, or as there again.
    pub(crate) fn mark_stock(&self, row: &StockRow, removed_at: Option<Timestamp>) -> Result<()> {
        self.run(
            "UPDATE stock_builds SET removed_at = ?3 WHERE title = ?1 AND build = ?2 AND taken_at = ?4",
            params![
                row.build.title.as_str(),
                row.build.build.as_str(),
                removed_at.map(|t| t.to_string()),
                row.taken_at.to_string()
            ],
        )?;
        Ok(())
    }

    /// Forgets a stock build that was removed.
    pub(crate) fn delete_stock(&self, row: &StockRow) -> Result<()> {
        self.run(
            "DELETE FROM stock_builds WHERE title = ?1 AND build = ?2 AND taken_at = ?3 AND removed_at IS NOT NULL",
            params![row.build.title.as_str(), row.build.build.as_str(), row.taken_at.to_string()],
        )?;
        Ok(())
    }

    /// All twins by name; removed ones too.
    pub(crate) fn twins(&self) -> Result<Vec<TwinRow>> {
        self.all(&format!("SELECT {TWIN_COLUMNS} FROM twins ORDER BY name_key, made_at"), [], twin_row)
    }

    pub(crate) fn twin(&self, id: TwinId) -> Result<Option<TwinRow>> {
        self.one(&format!("SELECT {TWIN_COLUMNS} FROM twins WHERE id = ?1"), [id.to_string()], twin_row)
    }

    /// Adds a twin; adding it again changes nothing.
    pub(crate) fn add_twin(&self, row: &TwinRow) -> Result<()> {
        let added = self.run(
            "INSERT INTO twins (id, name, name_key, folder, state, origin, made_at, unsynced)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8) ON CONFLICT (id) DO NOTHING",
            params![
                row.id.to_string(),
                row.name.as_str(),
                row.name.key(),
                row.folder,
                row.state.to_string(),
                row.origin,
                row.made_at.to_string(),
                row.unsynced
            ],
        )?;
        if added > 0 {
            let what = What::Made { from: row.origin.clone() };
            let (game, own) = (Counts::default(), Counts::default());
            self.add_change(row.id, &NewChange { what, game, own, label: None, state: row.state })?;
        }
        Ok(())
    }

    /// Moves a twin to another state.
    pub(crate) fn set_state(&self, twin: TwinId, state: StateId) -> Result<()> {
        self.run("UPDATE twins SET state = ?2 WHERE id = ?1", params![twin.to_string(), state.to_string()])?;
        Ok(())
    }

    /// Gives a twin another name and folder.
    pub(crate) fn rename_twin(&self, twin: TwinId, name: &TwinName, folder: &str) -> Result<()> {
        self.run(
            "UPDATE twins SET name = ?2, name_key = ?3, folder = ?4 WHERE id = ?1",
            params![twin.to_string(), name.as_str(), name.key(), folder],
        )?;
        Ok(())
    }

    /// Marks a twin as protected since it had that state, or as open to changes.
    pub(crate) fn protect_twin(&self, twin: TwinId, since: Option<StateId>) -> Result<()> {
        let since = since.map(|state| state.to_string());
        self.run("UPDATE twins SET protected = ?2 WHERE id = ?1", params![twin.to_string(), since])?;
        Ok(())
    }

    /// Notes that a twin's folder has been synced.
    pub(crate) fn mark_synced(&self, twin: TwinId) -> Result<()> {
        self.run("UPDATE twins SET unsynced = NULL WHERE id = ?1", [twin.to_string()])?;
        Ok(())
    }

    pub(crate) fn mark_removed(&self, twin: TwinId, folder: &str, at: Timestamp) -> Result<()> {
        self.run(
            "UPDATE twins SET removed_at = ?2, folder = ?3 WHERE id = ?1",
            params![twin.to_string(), at.to_string(), folder],
        )?;
        Ok(())
    }

    /// Notes that a removed twin is back.
    pub(crate) fn mark_back(&self, twin: TwinId) -> Result<()> {
        self.run("UPDATE twins SET removed_at = NULL WHERE id = ?1", [twin.to_string()])?;
        Ok(())
    }

    pub(crate) fn delete_twin(&self, twin: TwinId) -> Result<()> {
        self.run("DELETE FROM twins WHERE id = ?1", [twin.to_string()])?;
        Ok(())
    }

    pub(crate) fn begin_run(&self, twin: TwinId, program: &str, isolation: &str, at: Timestamp) -> Result<i64> {
        let db = self.db();
        self.run(
            "INSERT INTO runs (twin, program, isolation, started_at) VALUES (?1, ?2, ?3, ?4)",
            params![twin.to_string(), program, isolation, at.to_string()],
        )?;
        Ok(db.last_insert_rowid())
    }

    /// How much a listing holds, if that was counted before.
    pub(crate) fn totals(&self, listing: ListingId) -> Result<Option<Totals>> {
        let sql = "SELECT files, bytes, symlinks, empty_folders FROM totals WHERE listing = ?1";
        let number = |row: &Row<'_>, at| row.get::<_, i64>(at).map(i64::cast_unsigned);
        let read = |row: &Row<'_>| {
            let (files, bytes) = (number(row, 0)?, number(row, 1)?);
            Ok(Totals { files, bytes, symlinks: number(row, 2)?, empty_folders: number(row, 3)? })
        };
        self.one(sql, [listing.to_string()], read)
    }

    /// Keeps what was counted.
    pub(crate) fn set_totals(&self, listing: ListingId, totals: &Totals) -> Result<()> {
        let numbers = [totals.files, totals.bytes, totals.symlinks, totals.empty_folders].map(u64::cast_signed);
        let [files, bytes, symlinks, folders] = numbers;
        self.run(
            "INSERT OR REPLACE INTO totals VALUES (?1, ?2, ?3, ?4, ?5)",
            params![listing.to_string(), files, bytes, symlinks, folders],
        )?;
        Ok(())
    }

    /// Notes which process waits for a run.
    pub(crate) fn set_keeper(&self, run: i64, keeper: u32) -> Result<()> {
        self.run("UPDATE runs SET keeper = ?2 WHERE id = ?1", params![run, keeper])?;
        Ok(())
    }

    /// Forgets a run that never began.
    pub(crate) fn drop_run(&self, run: i64) -> Result<()> {
        self.run("DELETE FROM runs WHERE id = ?1", [run])?;
        Ok(())
    }

    /// Notes what a run changed whose launcher died before its end.
    pub(crate) fn summarise_run(&self, run: i64, summary: &str) -> Result<()> {
        self.run("UPDATE runs SET summary = ?2 WHERE id = ?1 AND summary IS NULL", params![run, summary])?;
        Ok(())
    }

    /// What was found out about the system under a key.
    pub(crate) fn probe(&self, key: &str) -> Result<Option<String>> {
        self.one("SELECT answer FROM probes WHERE key = ?1", [key], |row| row.get(0))
    }

    /// Forgets what was found out under a key.
    pub(crate) fn forget_probe(&self, key: &str) -> Result<()> {
        self.run("DELETE FROM probes WHERE key = ?1", [key])?;
        Ok(())
    }

    /// Keeps what was found out; of earlier boots, a few answers stay.
    pub(crate) fn set_probe(&self, key: &str, answer: &str) -> Result<()> {
        self.run("DELETE FROM probes WHERE (SELECT count(*) FROM probes) > 50", [])?;
        self.run("INSERT OR REPLACE INTO probes (key, answer) VALUES (?1, ?2)", [key, answer])?;
        Ok(())
    }

    pub(crate) fn end_run(&self, record: &RunRecord) -> Result<()> {
        self.run(
            "UPDATE runs SET ended_at = ?2, exit_code = ?3, signal = ?4, summary = ?5 WHERE id = ?1",
            params![record.id, record.ended_at.map(|t| t.to_string()), record.exit_code, record.signal, record.summary],
        )?;
        Ok(())
    }

    /// Notes when a run ended whose launcher died, unless its end is written down by now.
    pub(crate) fn end_cut_off(&self, run: i64, at: Timestamp) -> Result<()> {
        self.run("UPDATE runs SET ended_at = ?2 WHERE id = ?1 AND ended_at IS NULL", params![run, at.to_string()])?;
        Ok(())
    }

    /// Remembers the name that a twin's folder had.
    pub(crate) fn add_former_folder(&self, twin: TwinId, folder: &str) -> Result<()> {
        let sql = "INSERT OR IGNORE INTO former_folders (twin, folder) VALUES (?1, ?2)";
        self.run(sql, params![twin.to_string(), folder]).map(|_| ())
    }

    /// The names that a twin's folder had.
    pub(crate) fn former_folders(&self, twin: TwinId) -> Result<Vec<String>> {
        self.all("SELECT folder FROM former_folders WHERE twin = ?1", [twin.to_string()], |row| row.get(0))
    }

    /// The places where the yard was, with the one where it is: that is remembered if it is new.
    pub(crate) fn roots(&self, here: &str) -> Result<Vec<String>> {
        let roots: Vec<String> = self.all("SELECT root FROM roots", [], |row| row.get(0))?;
        if !roots.iter().any(|root| root == here) {
            self.loosely(|| self.run("INSERT OR IGNORE INTO roots (root) VALUES (?1)", [here]).map(|_| ()))?;
        }
        Ok(roots)
    }

    /// A twin's runs, the newest first.
    pub(crate) fn runs(&self, twin: TwinId) -> Result<Vec<RunRecord>> {
        self.runs_where(twin, "1", i64::MAX)
    }

    /// Its newest one: it may have had thousands.
    pub(crate) fn newest_run(&self, twin: TwinId) -> Result<Option<RunRecord>> {
        Ok(self.runs_where(twin, "1", 1)?.pop())
    }

    /// The runs of a twin whose end nobody has written down, the latest first.
    pub(crate) fn open_runs(&self, twin: TwinId) -> Result<Vec<RunRecord>> {
        self.runs_where(twin, "ended_at IS NULL", i64::MAX)
    }

    fn runs_where(&self, twin: TwinId, condition: &str, most: i64) -> Result<Vec<RunRecord>> {
        self.all(
            &format!(
                "SELECT id, program, isolation, started_at, ended_at, exit_code, signal, summary, keeper
                 FROM runs WHERE twin = ?1 AND {condition} ORDER BY id DESC LIMIT ?2"
            ),
            params![twin.to_string(), most],
            |row| {
                Ok(RunRecord {
                    id: row.get(0)?,
                    program: row.get(1)?,
                    isolation: row.get(2)?,
                    started_at: parsed(row, 3)?,
                    ended_at: parsed_if(row, 4)?,
                    exit_code: row.get(5)?,
                    signal: row.get(6)?,
                    summary: row.get(7)?,
                    keeper: row.get(8)?,
                })
            },
        )
    }

    /// Records a launch entry; one at the same path before is replaced.
    pub(crate) fn add_entry(&self, row: &EntryRow, at: Timestamp) -> Result<()> {
        self.run(
            "INSERT OR REPLACE INTO entries (path, twin, name, made_at, kept) VALUES (?1, ?2, ?3, ?4, NULL)",
            params![row.path.to_string_lossy(), row.twin.to_string(), row.name, at.to_string()],
        )?;
        Ok(())
    }

    pub(crate) fn remove_entry(&self, path: &Path) -> Result<()> {
        self.run("DELETE FROM entries WHERE path = ?1", [path.to_string_lossy()])?;
        Ok(())
    }

    /// Keeps the text of a launch entry whose file is deleted with its twin.
    pub(crate) fn keep_entry(&self, path: &Path, text: &str) -> Result<()> {
        self.run("UPDATE entries SET kept = ?2 WHERE path = ?1", params![path.to_string_lossy(), text])?;
        Ok(())
    }

    /// The launch entries that are there.
    pub(crate) fn entries(&self) -> Result<Vec<EntryRow>> {
        self.all("SELECT path, twin, name FROM entries WHERE kept IS NULL ORDER BY name, path", [], entry_row)
    }

    /// The launch entries that went with a twin, with their texts.
    pub(crate) fn kept_entries(&self, twin: TwinId) -> Result<Vec<(EntryRow, String)>> {
        let sql = "SELECT path, twin, name, kept FROM entries WHERE twin = ?1 AND kept IS NOT NULL ORDER BY path";
        self.all(sql, [twin.to_string()], |row| Ok((entry_row(row)?, row.get(3)?)))
    }

    /// Writes an intent; it has survived a power loss when this returns.
    pub(crate) fn intend(&self, intent: &Intent) -> Result<i64> {
        let body = serde_json::to_string(intent)
            .map_err(|error| rusqlite::Error::ToSqlConversionFailure(Box::new(error)))
            .of(&self.path)?;
        let db = self.db();
        self.run("INSERT INTO intents (body) VALUES (?1)", [body])?;
        Ok(db.last_insert_rowid())
    }

    pub(crate) fn intents(&self) -> Result<Vec<(i64, Intent)>> {
        self.all("SELECT id, body FROM intents ORDER BY id", [], |row| {
            let body: String = row.get(1)?;
            let intent = serde_json::from_str(&body)
                .map_err(|error| rusqlite::Error::FromSqlConversionFailure(1, Type::Text, Box::new(error)))?;
            Ok((row.get(0)?, intent))
        })
    }

    /// Writes another intent in the place of one.
    pub(crate) fn replace_intent(&self, id: i64, intent: &Intent) -> Result<()> {
        let body = serde_json::to_string(intent)
            .map_err(|error| rusqlite::Error::ToSqlConversionFailure(Box::new(error)))
            .of(&self.path)?;
        self.run("UPDATE intents SET body = ?2 WHERE id = ?1", params![id, body])?;
        Ok(())
    }

    pub(crate) fn intent_done(&self, id: i64) -> Result<()> {
        self.run("DELETE FROM intents WHERE id = ?1", [id])?;
        Ok(())
    }
}

fn entry_row(row: &Row<'_>) -> rusqlite::Result<EntryRow> {
    Ok(EntryRow { path: PathBuf::from(row.get::<_, String>(0)?), twin: parsed(row, 1)?, name: row.get(2)? })
}
