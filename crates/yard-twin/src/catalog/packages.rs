//! Packages of mods: their names. What they are is in their records.

use jiff::Timestamp;
use rusqlite::params;

use super::Catalog;
use super::records::parsed;
use crate::error::Result;
use crate::ident::{ModId, ModName, Title, TwinId};

/// A package that is kept.
#[derive(Clone, Debug)]
pub(crate) struct PackageRow {
    pub(crate) id: ModId,
    pub(crate) title: Title,
    pub(crate) name: ModName,
    /// What it came from: file names.
    pub(crate) origin: String,
    pub(crate) added_at: Timestamp,
}

impl Catalog {
    /// All packages, by title and name, the newest first.
    pub(crate) fn packages(&self) -> Result<Vec<PackageRow>> {
        self.all(
            "SELECT id, title, name, origin, added_at FROM mods ORDER BY title, name_key, added_at DESC, id",
            [],
            |row| {
                Ok(PackageRow {
                    id: parsed(row, 0)?,
                    title: parsed(row, 1)?,
                    name: parsed(row, 2)?,
                    origin: row.get(3)?,
                    added_at: parsed(row, 4)?,
                })
            },
        )
    }

    /// Adds a package; adding it again changes nothing but the time.
    pub(crate) fn add_package(&self, row: &PackageRow) -> Result<()> {
        self.run(
            "INSERT INTO mods (id, title, name, name_key, origin, added_at) VALUES (?1, ?2, ?3, ?4, ?5, ?6)
             ON CONFLICT (id) DO UPDATE SET added_at = excluded.added_at",
            params![
                row.id.to_string(),
                row.title.as_str(),
                row.name.as_str(),
                row.name.key(),
                row.origin,
                row.added_at.to_string(),
            ],
        )?;
        Ok(())
    }

    /// Whether what a key stands for was tried in a trial of a twin's mods, and failed.
    pub(crate) fn tried(&self, twin: TwinId, key: &str) -> Result<Option<bool>> {
        let rows = self.all(
            "SELECT fails FROM trials WHERE twin = ?1 AND key = ?2",
            [twin.to_string().as_str(), key],
            |row| row.get(0),
        )?;
        Ok(rows.first().copied())
    }

    pub(crate) fn add_try(&self, twin: TwinId, key: &str, fails: bool) -> Result<()> {
        self.run(
            "INSERT OR REPLACE INTO trials (twin, key, fails) VALUES (?1, ?2, ?3)",
            params![twin.to_string(), key, fails],
        )?;
        Ok(())
    }

    /// The copies on which trials are, or were when they were killed, each with the operation's folder that it has.
    pub(crate) fn trial_copies(&self) -> Result<Vec<(TwinId, String)>> {
        self.all("SELECT copy, stage FROM trial_copies ORDER BY copy", [], |row| Ok((parsed(row, 0)?, row.get(1)?)))
    }

    pub(crate) fn add_trial_copy(&self, copy: TwinId, stage: &str) -> Result<()> {
        self.run("INSERT INTO trial_copies (copy, stage) VALUES (?1, ?2)", params![copy.to_string(), stage])?;
        Ok(())
    }

    pub(crate) fn delete_package(&self, id: ModId) -> Result<()> {
        self.run("DELETE FROM mods WHERE id = ?1", [id.to_string()])?;
        Ok(())
    }
}
