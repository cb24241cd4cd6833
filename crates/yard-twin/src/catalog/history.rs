//! What happened to each twin: every change, with the state that came of it.

use std::collections::HashMap;

use jiff::Timestamp;
use rusqlite::params;
use serde::{Deserialize, Serialize};

use super::records::parsed;
use super::{Catalog, DbContext, Intent};
use crate::error::Result;
use crate::ident::{ContentId, SnapshotLabel, StateId, TwinId};
use crate::listing::{Listing, Node, diff};
use crate::store::pool::Sharing;

/// What kind of change it was.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "what", rename_all = "snake_case")]
#[non_exhaustive]
pub enum What {
    /// The twin was made.
    Made {
        /// Of what, as it was named then.
        from: String,
    },
    /// Something else than this crate changed it: an installer, an editor, a file manager.
    Outside,
    /// A run of its program changed it.
    Run {
        /// The run.
        run: i64,
    },
    /// Its settings were changed, and no file.
    Settings,
    /// It was put back to an earlier state.
    Restore {
        /// The number of that state in the history.
        to: u32,
        /// Whether belongings went back too.
        all: bool,
    },
    /// Nothing changed: someone asked for the state to be kept.
    Snapshot,
    /// Files that others wrote while a change was replacing them: what they held is kept here.
    Meanwhile,
    /// Game files that a run changed in a protected twin, or all that a run changed that was to be thrown away, went back
    /// to what they were.
    PutBack {
        /// The run.
        run: i64,
    },
    /// Somebody wrote directly to files that twins share: what this one had there since.
    WrittenDirectly,
    /// Files that twins share, and that somebody wrote to directly, have their bytes again.
    Repaired,
    /// Files and folders were laid that keep the program inside its folder.
    Marked,
    /// Belongings were carried to it.
    Carried {
        /// From where, as it was named then.
        from: String,
    },
    /// Belongings were taken out of it, once they were in another twin.
    CarriedAway {
        /// That twin, as it was named then.
        to: String,
    },
    /// A folder inside it was cloned under another name.
    ClonedInside {
        /// That folder.
        folder: String,
    },
    /// Config edits were set, or taken back.
    Edited,
    /// It was put on a stock build around its belongings.
    Renewed,
    /// Files share storage in another way; their bytes are as before.
    Shared {
        /// In which.
        sharing: Sharing,
    },
    /// Mods were added, turned off or on, taken away, moved in their order, or replaced.
    Mods {
        /// What was done.
        deed: ModDeed,
        /// With which.
        mods: Vec<String>,
    },
    /// What an earlier change did was taken back, and what came after it stayed.
    TakenBack {
        /// The number of that change in the history.
        line: u32,
    },
    /// Its folder was moved, and what names that folder by its absolute path was mended.
    Mended,
}

/// What was done with mods.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum ModDeed {
    /// They were added.
    Added,
    /// They were turned off.
    Off,
    /// They were turned on.
    On,
    /// They were taken away.
    Removed,
    /// They got another place in the order.
    Moved,
    /// Other packages took their places.
    Updated,
    /// They were made of what was there.
    Adopted,
}

/// How many paths a change touched.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Counts {
    /// Paths that are new.
    pub new: u64,
    /// Paths that hold something else.
    pub changed: u64,
    /// Paths that are gone.
    pub gone: u64,
}

impl Counts {
    /// Counts one path. A folder that comes or goes with what is in it is no change of its own.
    pub(crate) fn add(&mut self, before: Option<&Node>, after: Option<&Node>) {
        match (before, after) {
            (None, None) | (Some(Node::EmptyFolder), None) | (None, Some(Node::EmptyFolder)) => {}
            (None, Some(_)) => self.new += 1,
            (Some(_), None) => self.gone += 1,
            (Some(before), Some(after)) => self.changed += u64::from(before != after),
        }
    }

    /// Of what differs between two listings.
    pub(crate) fn between(before: &Listing, after: &Listing) -> Self {
        let mut counts = Self::default();
        diff(before, after).for_each(|change| {
            let (was, is) = change.nodes();
            counts.add(was, is);
        });
        counts
    }

    /// All of them together.
    #[must_use]
    pub fn total(&self) -> u64 {
        self.new + self.changed + self.gone
    }
}

/// One line of a twin's history.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct HistoryEntry {
    /// Counts up from 1 for each twin.
    pub number: u32,
    /// When it was found or done.
    pub at: Timestamp,
    /// What happened.
    #[serde(flatten)]
    pub what: What,
    /// Game files that it changed.
    pub game: Counts,
    /// Belongings, live and scratch paths, and paths in the twin's home that it changed.
    pub own: Counts,
    /// The label of the snapshot.
    pub label: Option<SnapshotLabel>,
    /// Whether a run began with this state and ended well.
    pub started_fine: bool,
    /// The state that came of it.
    #[serde(skip)]
    pub(crate) state: StateId,
}

/// A change that is about to be recorded.
pub(crate) struct NewChange<'a> {
    pub(crate) what: What,
    pub(crate) game: Counts,
    pub(crate) own: Counts,
    pub(crate) label: Option<&'a SnapshotLabel>,
    pub(crate) state: StateId,
}

fn json<T: Serialize>(value: &T) -> rusqlite::Result<String> {
    serde_json::to_string(value).map_err(|error| rusqlite::Error::ToSqlConversionFailure(Box::new(error)))
}

pub(super) fn from_json<T: for<'a> Deserialize<'a>>(row: &rusqlite::Row<'_>, at: usize) -> rusqlite::Result<T> {
    let text: String = row.get(at)?;
    serde_json::from_str(&text)
        .map_err(|error| rusqlite::Error::FromSqlConversionFailure(at, rusqlite::types::Type::Text, Box::new(error)))
}

fn entry(row: &rusqlite::Row<'_>) -> rusqlite::Result<HistoryEntry> {
    Ok(HistoryEntry {
        number: row.get(0)?,
        at: parsed(row, 1)?,
        what: from_json(row, 2)?,
        game: from_json(row, 3)?,
        own: from_json(row, 4)?,
        label: row.get::<_, Option<String>>(5)?.and_then(|label| label.parse().ok()),
        started_fine: row.get(6)?,
        state: parsed(row, 7)?,
    })
}

impl Catalog {
    /// Adds a change to a twin's history and moves the twin to the state that came of it: the instant at which a change
    /// is committed. Returns its number.
    pub(crate) fn add_change(&self, twin: TwinId, change: &NewChange<'_>) -> Result<u32> {
        let db = self.db();
        self.run(
            "INSERT INTO changes (twin, number, at, what, game, own, label, state)
             VALUES (?1, (SELECT coalesce(max(number), 0) + 1 FROM changes WHERE twin = ?1), ?2, ?3, ?4, ?5, ?6, ?7)",
            params![
                twin.to_string(),
                Timestamp::now().to_string(),
                json(&change.what).of(&self.path)?,
                json(&change.game).of(&self.path)?,
                json(&change.own).of(&self.path)?,
                change.label.map(SnapshotLabel::as_str),
                change.state.to_string()
            ],
        )?;
        let id = db.last_insert_rowid();
        self.set_state(twin, change.state)?;
        db.query_row("SELECT number FROM changes WHERE id = ?1", [id], |row| row.get(0)).of(&self.path)
    }

    /// A twin's history, the newest first.
    pub(crate) fn history(&self, twin: TwinId) -> Result<Vec<HistoryEntry>> {
        self.all(
            "SELECT number, at, what, game, own, label, started_fine, state FROM changes WHERE twin = ?1
             ORDER BY number DESC",
            [twin.to_string()],
            entry,
        )
    }

    /// Notes that the state a twin has now was started from, and that the run ended well.
    pub(crate) fn started_fine(&self, twin: TwinId, number: u32) -> Result<()> {
        self.run(
            "UPDATE changes SET started_fine = 1 WHERE twin = ?1 AND number = ?2",
            params![twin.to_string(), number],
        )?;
        Ok(())
    }

    /// Whether a run began with the newest state of a twin and ended well.
    pub(crate) fn newest_started_fine(&self, twin: TwinId) -> Result<bool> {
        self.db()
            .query_row(
                "SELECT coalesce((SELECT started_fine FROM changes WHERE twin = ?1 ORDER BY number DESC LIMIT 1), 0)",
                [twin.to_string()],
                |row| row.get(0),
            )
            .of(&self.path)
    }

    /// The number of a twin's newest change.
    pub(crate) fn newest_change(&self, twin: TwinId) -> Result<u32> {
        self.db()
            .query_row("SELECT coalesce(max(number), 0) FROM changes WHERE twin = ?1", [twin.to_string()], |row| {
                row.get(0)
            })
            .of(&self.path)
    }

    /// Forgets one change; its state goes with the next sweep.
    pub(crate) fn drop_change(&self, twin: TwinId, number: u32) -> Result<()> {
        self.run("DELETE FROM changes WHERE twin = ?1 AND number = ?2", params![twin.to_string(), number])?;
        Ok(())
    }

    /// Lets a twin's newest change go, which was nobody's: the one before has its state from now on, and so has the twin.
    pub(crate) fn fold_newest(&self, twin: TwinId, state: StateId) -> Result<()> {
        const NEWEST: &str = "twin = ?1 AND number = (SELECT max(number) FROM changes WHERE twin = ?1)";
        self.run(&format!("DELETE FROM changes WHERE {NEWEST}"), [twin.to_string()])?;
        self.run(
            &format!("UPDATE changes SET state = ?2 WHERE {NEWEST}"),
            params![twin.to_string(), state.to_string()],
        )?;
        self.set_state(twin, state)
    }

    /// Every state that a twin has, had and keeps, or is on its way to.
    pub(crate) fn states_in_use(&self) -> Result<Vec<(TwinId, StateId)>> {
        let mut states = self.all(
            "SELECT id, state FROM twins UNION SELECT twin, state FROM changes
             UNION SELECT id, protected FROM twins WHERE protected IS NOT NULL",
            [],
            |row| Ok((parsed(row, 0)?, parsed(row, 1)?)),
        )?;
        for (_, intent) in self.intents()? {
            match intent {
                Intent::Change { twin, from, to, .. }
                | Intent::Rename { twin, mend: Some(super::Mend { from, to }), .. } => {
                    states.extend([(twin, from), (twin, to)]);
                }
                _ => {}
            }
        }
        Ok(states)
    }

    /// The files of the yard's own that were found to be needed by nothing, below its root, and since when.
    pub(crate) fn unneeded(&self) -> Result<HashMap<String, Timestamp>> {
        let rows = self.all("SELECT path, since FROM unneeded", [], |row| Ok((row.get(0)?, parsed(row, 1)?)))?;
        Ok(rows.into_iter().collect())
    }

    /// Replaces the list of what is needed by nothing.
    pub(crate) fn set_unneeded<'a>(&self, files: impl Iterator<Item = (&'a str, Timestamp)>) -> Result<()> {
        self.run("DELETE FROM unneeded", [])?;
        let db = self.db();
        let mut statement = db.prepare("INSERT INTO unneeded (path, since) VALUES (?1, ?2)").of(&self.path)?;
        for (path, since) in files {
            statement.execute(params![path, since.to_string()]).of(&self.path)?;
        }
        Ok(())
    }

    /// What a transform made before.
    pub(crate) fn made(&self, key: &str) -> Result<Option<ContentId>> {
        self.one("SELECT content FROM made WHERE key = ?1", [key], |row| parsed(row, 0))
    }

    pub(crate) fn add_made(&self, key: &str, content: ContentId) -> Result<()> {
        self.run("INSERT OR REPLACE INTO made (key, content) VALUES (?1, ?2)", [key, &content.to_string()])?;
        Ok(())
    }

    /// Forgets what transforms made and what listings were counted to hold: both are worked out again when they are wanted.
    pub(crate) fn forget_made(&self) -> Result<()> {
        self.run("DELETE FROM made", [])?;
        self.run("DELETE FROM totals", [])?;
        Ok(())
    }

    /// How many sweeps there were.
    pub(crate) fn generation(&self) -> Result<u32> {
        Ok(self.one("SELECT number FROM generation", [], |row| row.get(0))?.unwrap_or_default())
    }

    pub(crate) fn set_generation(&self, number: u32) -> Result<()> {
        self.run("DELETE FROM generation", [])?;
        self.run("INSERT INTO generation (number) VALUES (?1)", [number])?;
        Ok(())
    }
}
