//! The catalogue: which stock builds, twins, runs and launch entries there are.

#[cfg(test)]
#[allow(clippy::unwrap_used)]
mod former;
mod history;
mod loosely;
mod packages;
mod records;
mod schema;

use std::path::{Path, PathBuf};

use parking_lot::{ReentrantMutex, ReentrantMutexGuard};
use rusqlite::{Connection, OpenFlags};

pub(crate) use history::NewChange;
pub use history::{Counts, HistoryEntry, ModDeed, What};
pub(crate) use packages::PackageRow;
pub use records::RunRecord;
pub(crate) use records::{EntryRow, Intent, Mend, StockRow, TwinRow};

use crate::error::{Error, PathContext, Result, YardError};

/// An open catalogue. Threads take turns; one that has begun something has it to itself until that is done.
pub(crate) struct Catalog {
    db: ReentrantMutex<Connection>,
    path: PathBuf,
}

/// Adds the catalogue's path to SQLite's errors.
trait DbContext<T> {
    fn of(self, catalog: &Path) -> Result<T>;
}

impl<T> DbContext<T> for rusqlite::Result<T> {
    fn of(self, catalog: &Path) -> Result<T> {
        self.map_err(|error| match error.sqlite_error_code() {
            Some(rusqlite::ErrorCode::DatabaseBusy) => {
                Error::Busy { what: format!("the catalogue {}", catalog.display()), holders: Vec::new() }
            }
            _ if says_full(&error) || (cannot_open(&error) && is_full(catalog)) => {
                Error::io("write", catalog, std::io::ErrorKind::StorageFull.into())
            }
            _ => Error::Catalogue { path: catalog.into(), source: Box::new(error) },
        })
    }
}

fn cannot_open(error: &rusqlite::Error) -> bool {
    error.sqlite_error_code() == Some(rusqlite::ErrorCode::CannotOpen)
}

/// Whether the filesystem has no room: on some, SQLite only says that it can't open its file.
fn is_full(catalog: &Path) -> bool {
    let folder = catalog.parent().unwrap_or(catalog);
    rustix::fs::statvfs(folder).is_ok_and(|stat| stat.f_bavail.saturating_mul(stat.f_frsize) < 1 << 20)
}

/// Whether SQLite had no room: for the catalogue, or for the file by which processes share memory.
fn says_full(error: &rusqlite::Error) -> bool {
    let code = error.sqlite_error().map(|error| error.extended_code);
    matches!(code, Some(rusqlite::ffi::SQLITE_FULL | rusqlite::ffi::SQLITE_IOERR_SHMSIZE))
}

impl Catalog {
    /// Makes a new one, with its tables.
    pub(crate) fn make(path: &Path) -> Result<Self> {
        Self::connect(path, OpenFlags::SQLITE_OPEN_CREATE)
    }

    /// Opens the one that is there.
    pub(crate) fn open(path: &Path) -> Result<Self> {
        if !crate::disk::exists(path) {
            return Err(YardError::CatalogueMissing(path.into()).into());
        }
        // A file of no bytes would be taken for a new database.
        let size = crate::disk::lstat(path).at("look at", path)?.size;
        if size == 0 {
            return Err(YardError::CatalogueEmpty(path.into()).into());
        }
        let catalog = Self::connect(path, OpenFlags::empty())?;
        Ok(catalog)
    }

    fn connect(path: &Path, more: OpenFlags) -> Result<Self> {
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX | more;
        let mut db = Connection::open_with_flags(path, flags).of(path)?;
        prepare(&mut db, path, more.contains(OpenFlags::SQLITE_OPEN_CREATE))?;
        Ok(Self { db: ReentrantMutex::new(db), path: path.into() })
    }

    fn db(&self) -> ReentrantMutexGuard<'_, Connection> {
        self.db.lock()
    }

    /// What SQLite finds wrong with the database.
    pub(crate) fn faults(&self) -> Result<Vec<String>> {
        let mut faults: Vec<String> = self.all("PRAGMA integrity_check", [], |row| row.get(0))?;
        faults.retain(|fault| fault != "ok");
        Ok(faults)
    }

    /// Makes the database's indexes anew from its rows.
    pub(crate) fn reindex(&self) -> Result<()> {
        self.run("REINDEX", []).map(|_| ())
    }
}

fn prepare(db: &mut Connection, path: &Path, new: bool) -> Result<()> {
    // FULL: a commit has survived a power loss when it returns. Another command's commit takes milliseconds.
    db.execute_batch(
        "PRAGMA busy_timeout = 5000; PRAGMA journal_mode = WAL; PRAGMA synchronous = FULL; PRAGMA foreign_keys = ON;",
    )
    .of(path)?;
    schema::migrate(db, path, new)
}
