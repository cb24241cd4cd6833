//! The catalogue's tables, and the steps that bring an older one up to date.

use std::path::Path;

use rusqlite::{Connection, TransactionBehavior};

use super::DbContext;
use crate::error::{Result, YardError};

/// Each step takes the catalogue from the version that is its place in the list to the next one.
pub(super) const STEPS: [&str; 11] = [
    "
    CREATE TABLE stock_builds (
        id INTEGER PRIMARY KEY,
        title TEXT NOT NULL,
        build TEXT NOT NULL,
        build_key TEXT NOT NULL,
        listing TEXT NOT NULL,
        channel TEXT,
        dated TEXT,
        note TEXT,
        source TEXT NOT NULL,
        taken_at TEXT NOT NULL,
        removed_at TEXT
    ) STRICT;
    CREATE UNIQUE INDEX stock_builds_by_name ON stock_builds (title, build_key) WHERE removed_at IS NULL;

    CREATE TABLE twins (
        id TEXT PRIMARY KEY,
        name TEXT NOT NULL,
        name_key TEXT NOT NULL,
        folder TEXT NOT NULL,
        state TEXT NOT NULL,
        origin TEXT NOT NULL,
        made_at TEXT NOT NULL,
        removed_at TEXT
    ) STRICT, WITHOUT ROWID;
    CREATE UNIQUE INDEX twins_by_name ON twins (name_key) WHERE removed_at IS NULL;

    CREATE TABLE runs (
        id INTEGER PRIMARY KEY,
        twin TEXT NOT NULL REFERENCES twins (id) ON DELETE CASCADE,
        program TEXT NOT NULL,
        isolation TEXT NOT NULL,
        started_at TEXT NOT NULL,
        ended_at TEXT,
        exit_code INTEGER,
        signal INTEGER,
        summary TEXT
    ) STRICT;
    CREATE INDEX runs_by_twin ON runs (twin, id);

    CREATE TABLE entries (
        path TEXT PRIMARY KEY,
        twin TEXT NOT NULL REFERENCES twins (id) ON DELETE CASCADE,
        name TEXT NOT NULL,
        made_at TEXT NOT NULL
    ) STRICT, WITHOUT ROWID;

    CREATE TABLE intents (
        id INTEGER PRIMARY KEY,
        body TEXT NOT NULL
    ) STRICT;

    CREATE TABLE windows (
        started INTEGER NOT NULL,
        ended INTEGER NOT NULL
    ) STRICT;
",
    "
    ALTER TABLE twins ADD COLUMN protected TEXT;
    ALTER TABLE twins ADD COLUMN unsynced TEXT;

    CREATE TABLE changes (
        id INTEGER PRIMARY KEY,
        twin TEXT NOT NULL REFERENCES twins (id) ON DELETE CASCADE,
        number INTEGER NOT NULL,
        at TEXT NOT NULL,
        what TEXT NOT NULL,
        game TEXT NOT NULL,
        own TEXT NOT NULL,
        label TEXT,
        started_fine INTEGER NOT NULL DEFAULT 0,
        state TEXT NOT NULL
    ) STRICT;
    CREATE UNIQUE INDEX changes_by_number ON changes (twin, number);
    CREATE UNIQUE INDEX changes_by_label ON changes (twin, label) WHERE label IS NOT NULL;
    INSERT INTO changes (twin, number, at, what, game, own, state)
        SELECT id, 1, made_at, json_object('what', 'made', 'from', origin),
            '{\"new\":0,\"changed\":0,\"gone\":0}', '{\"new\":0,\"changed\":0,\"gone\":0}', state
        FROM twins;

    CREATE TABLE unneeded (
        path TEXT PRIMARY KEY,
        since TEXT NOT NULL
    ) STRICT, WITHOUT ROWID;

    CREATE TABLE generation (
        number INTEGER NOT NULL
    ) STRICT;

    CREATE TABLE made (
        key TEXT PRIMARY KEY,
        content TEXT NOT NULL
    ) STRICT, WITHOUT ROWID;
",
    "
    ALTER TABLE runs ADD COLUMN keeper INTEGER;

    CREATE TABLE probes (
        key TEXT PRIMARY KEY,
        answer TEXT NOT NULL
    ) STRICT, WITHOUT ROWID;
",
    "
    CREATE TABLE totals (
        listing TEXT PRIMARY KEY,
        files INTEGER NOT NULL,
        bytes INTEGER NOT NULL,
        symlinks INTEGER NOT NULL,
        empty_folders INTEGER NOT NULL
    ) STRICT, WITHOUT ROWID;
",
    "
    CREATE TABLE former_folders (
        twin TEXT NOT NULL,
        folder TEXT NOT NULL,
        PRIMARY KEY (twin, folder)
    ) STRICT, WITHOUT ROWID;

    CREATE TABLE roots (
        root TEXT PRIMARY KEY
    ) STRICT, WITHOUT ROWID;
",
    "
    DROP TABLE windows;
",
    "
    ALTER TABLE stock_builds ADD COLUMN private TEXT NOT NULL DEFAULT '[]';
",
    "
    ALTER TABLE entries ADD COLUMN kept TEXT;
",
    "
    CREATE TABLE mods (
        id TEXT PRIMARY KEY,
        title TEXT NOT NULL,
        name TEXT NOT NULL,
        name_key TEXT NOT NULL,
        origin TEXT NOT NULL,
        added_at TEXT NOT NULL
    ) STRICT, WITHOUT ROWID;

    CREATE TABLE trials (
        twin TEXT NOT NULL REFERENCES twins (id) ON DELETE CASCADE,
        key TEXT NOT NULL,
        fails INTEGER NOT NULL,
        PRIMARY KEY (twin, key)
    ) STRICT, WITHOUT ROWID;
",
    "
    CREATE TABLE trial_copies (
        copy TEXT PRIMARY KEY REFERENCES twins (id) ON DELETE CASCADE,
        stage TEXT NOT NULL
    ) STRICT, WITHOUT ROWID;
",
    "
    CREATE INDEX open_runs ON runs (twin) WHERE ended_at IS NULL;
",
];

/// The version that this crate writes, and the newest one that it reads.
fn newest() -> u32 {
    u32::try_from(STEPS.len()).unwrap_or(u32::MAX)
}

/// Takes the missing steps, in one transaction that keeps others from doing the same. Only a `new` catalogue may have none
/// behind it: one that lost its tables is damaged.
pub(super) fn migrate(db: &mut Connection, path: &Path, new: bool) -> Result<()> {
    let version = |db: &Connection| db.query_row("PRAGMA user_version", [], |row| row.get(0));
    if version(db).of(path)? == newest() {
        return Ok(());
    }
    let transaction = db.transaction_with_behavior(TransactionBehavior::Immediate).of(path)?;
    let version: u32 = version(&transaction).of(path)?;
    if version > newest() {
        return Err(YardError::NewerFormat { path: path.into(), found: version, known: newest() }.into());
    }
    let tables: u32 = transaction.query_row("SELECT count(*) FROM sqlite_schema", [], |row| row.get(0)).of(path)?;
    if tables == 0 && !new {
        return Err(YardError::CatalogueEmpty(path.into()).into());
    }
    for step in STEPS.iter().skip(version as usize) {
        transaction.execute_batch(step).of(path)?;
    }
    transaction.pragma_update(None, "user_version", newest()).of(path)?;
    transaction.commit().of(path)
}
