//! Records that may be lost, and are not waited for.

use std::fs;

use rusqlite::{Connection, Transaction, TransactionBehavior};

use super::{Catalog, DbContext};
use crate::error::Result;

impl Catalog {
    /// Does `work` without waiting for the disk: after a power loss the catalogue is whole, and may not know of it. For
    /// records of runs, which nothing depends on. `work` begins no transaction.
    ///
    /// The head of a log is waited for all the same where SQLite writes it over that of another one, of which something
    /// may still be there: what is left of both could be read as one (<https://sqlite.org/src/info/ff5be73dee>). Before the
    /// first record of a new log there is nothing: that of a run is most often the first.
    pub(crate) fn loosely<T>(&self, work: impl FnOnce() -> Result<T>) -> Result<T> {
        let db = self.db();
        let wait = |how| db.pragma_update(None, "synchronous", how).of(&self.path);
        let first = if self.log_is_empty() { wait("OFF").and_then(|()| self.first_of_log(&db)) } else { Ok(None) };
        let done = first.and_then(|first| match first {
            Some(first) => work().and_then(|done| first.commit().of(&self.path).map(|()| done)),
            None => wait("NORMAL").and_then(|()| work()),
        });
        wait("FULL")?;
        done
    }

    /// Begins a transaction whose records are the first of the log; `None` where somebody else's are by now.
    fn first_of_log<'a>(&self, db: &'a Connection) -> Result<Option<Transaction<'a>>> {
        // Nobody else can write from here on.
        let transaction = Transaction::new_unchecked(db, TransactionBehavior::Immediate).of(&self.path)?;
        Ok(Some(transaction).filter(|_| self.log_is_empty()))
    }

    /// Whether no record has been written to the log since it was made.
    fn log_is_empty(&self) -> bool {
        let mut log = self.path.clone().into_os_string();
        log.push("-wal");
        fs::symlink_metadata(log).is_ok_and(|stat| stat.len() == 0)
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)]
mod tests {
    use std::path::Path;

    use jiff::Timestamp;

    use super::*;
    use crate::ident::TwinId;

    fn runs(catalog: &Catalog) -> i64 {
        catalog.db().query_row("SELECT count(*) FROM runs", [], |row| row.get(0)).unwrap()
    }

    /// What SQLite waits for just now: nothing (0), what a new log over an old one needs (1), each record (2).
    fn waits(catalog: &Catalog) -> i64 {
        catalog.db().query_row("PRAGMA synchronous", [], |row| row.get(0)).unwrap()
    }

    /// Writes a record of a run; gives what was waited for.
    fn begin(catalog: &Catalog, twin: TwinId) -> Result<i64> {
        catalog.loosely(|| {
            catalog.begin_run(twin, "a program", "sealed", Timestamp::now())?;
            Ok(waits(catalog))
        })
    }

    /// The catalogue as a power loss may have left it: with so much of its log.
    fn after_power_loss(path: &Path, log: &[u8]) -> i64 {
        let place = tempfile::tempdir().unwrap();
        let copy = place.path().join("catalog.db");
        fs::copy(path, &copy).unwrap();
        fs::write(place.path().join("catalog.db-wal"), log).unwrap();
        let catalog = Catalog::open(&copy).unwrap();
        assert!(catalog.faults().unwrap().is_empty());
        runs(&catalog)
    }

    #[test]
    fn whatever_is_left_of_a_log_that_was_not_waited_for_the_catalogue_is_whole() {
        let place = tempfile::tempdir().unwrap();
        let path = place.path().join("catalog.db");
        let twin = TwinId::random().unwrap();
        let made = Catalog::make(&path).unwrap();
        made.db().pragma_update(None, "foreign_keys", false).unwrap();
        begin(&made, twin).unwrap();
        drop(made);
        let (catalog, other) = (Catalog::open(&path).unwrap(), Catalog::open(&path).unwrap());
        catalog.db().pragma_update(None, "foreign_keys", false).unwrap();
        assert!(catalog.log_is_empty());
        // What fails is not there, also as the first of a log.
        let failed = catalog.loosely(|| {
            catalog.begin_run(twin, "a program", "sealed", Timestamp::now())?;
            catalog.run("INSERT INTO runs VALUES (nothing)", [])
        });
        assert!(failed.is_err() && runs(&other) == 1);
        assert_eq!(waits(&catalog), 2, "the next record is waited for, also after a failure");
        assert_eq!(begin(&catalog, twin).unwrap(), 0, "the first of a log");
        assert!(!catalog.log_is_empty() && runs(&other) == 2, "others see it at once");
        // Somebody else was first, just before: the log is let go again.
        assert!(catalog.first_of_log(&catalog.db()).unwrap().is_none() && catalog.db().is_autocommit());
        assert_eq!(begin(&catalog, twin).unwrap(), 1, "behind another one");
        assert_eq!(waits(&catalog), 2, "the next record is waited for");
        let log = fs::read(place.path().join("catalog.db-wal")).unwrap();
        let mut seen = Vec::new();
        for len in (0..log.len()).step_by(97).chain([log.len()]) {
            let mut holed = log.clone();
            holed[..len].fill(0);
            assert_eq!(
                after_power_loss(&path, &holed),
                if len == 0 { 3 } else { 1 },
                "{len} bytes at its start are lost"
            );
            seen.push(after_power_loss(&path, &log[..len]));
        }
        assert!(seen.is_sorted() && seen.first() == Some(&1) && seen.last() == Some(&3), "{seen:?}");
    }
}
