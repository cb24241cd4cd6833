//! A twin whose lock is held. Settling and changing are methods of this type, so that neither can happen without the
//! lock.

use std::os::fd::BorrowedFd;
use std::path::PathBuf;

use jiff::Timestamp;

use crate::Yard;
use crate::catalog::TwinRow;
use crate::disk;
use crate::disk::lock::{self, Held, Mode};
use crate::error::{Error, Noun, Result};
use crate::launch::OUTPUT;
use crate::path::RelPath;
use crate::progress::Ctx;

/// A twin that nobody else changes, settles or starts meanwhile.
#[must_use = "the twin is let go when this is dropped"]
#[derive(Debug)]
pub(crate) struct Twin {
    pub(crate) yard: Yard,
    /// What the catalogue says of it. Only who holds it changes its state.
    pub(crate) row: TwinRow,
    /// What a run wrote in place, as far as its layer tells, until the next settle.
    pub(crate) in_place: Vec<RelPath>,
    lock: Held,
}

impl Twin {
    /// Holds a twin: refuses at once where it runs, and waits a while where another command is at it.
    pub(crate) fn hold(yard: &Yard, row: &TwinRow, ctx: &Ctx) -> Result<Self> {
        let what = format!("the twin {:?}", row.name.as_str());
        let lock = lock::take(&yard.twin_lock_path(row.id), Mode::Alone, &what, ctx)?;
        Self::new(yard, row, lock)
    }

    /// Holds a twin if it is free just now.
    pub(crate) fn try_hold(yard: &Yard, row: &TwinRow) -> Result<Option<Self>> {
        let lock = lock::try_take(&yard.twin_lock_path(row.id), Mode::Alone)?;
        lock.map(|lock| Self::new(yard, row, lock)).transpose()
    }

    fn new(yard: &Yard, row: &TwinRow, lock: Held) -> Result<Self> {
        let mut twin = Self { yard: yard.clone(), row: row.clone(), in_place: Vec::new(), lock };
        twin.renew()?;
        twin.end_runs_of_the_dead()?;
        Ok(twin)
    }

    /// Writes down that runs have ended whose launchers were killed: whoever has just got the lock knows that nothing runs.
    /// They count as long as their output tells.
    fn end_runs_of_the_dead(&self) -> Result<()> {
        for run in self.yard.catalog.open_runs(self.row.id)? {
            let output = self.yard.run_folder(&self.row, run.id).join(OUTPUT);
            let last = disk::lstat(&output).ok().and_then(|stat| Timestamp::from_nanosecond(stat.mtime.into()).ok());
            let ended = last.filter(|last| *last > run.started_at).unwrap_or(run.started_at);
            self.yard.catalog.end_cut_off(run.id, ended)?;
        }
        Ok(())
    }

    /// Reads the row again: the previous holder may have changed it.
    ///
    /// # Errors
    /// [`Error::NotFound`] if it was let go of meanwhile.
    pub(crate) fn renew(&mut self) -> Result<()> {
        let (id, name) = (self.row.id, self.row.name.to_string());
        self.row = self.yard.catalog.twin(id)?.ok_or(Error::NotFound { what: Noun::Twin, name, known: Vec::new() })?;
        Ok(())
    }

    /// Marks the lock as held for long, so that others fail at once instead of waiting.
    pub(crate) fn for_long(&self) -> Result<()> {
        self.lock.for_long(&self.yard.twin_lock_path(self.row.id))
    }

    /// The lock for a process that holds the twin too from then on.
    pub(crate) fn lend(&self) -> BorrowedFd<'_> {
        self.lock.lend()
    }

    /// Whoever the lock was lent to has ended.
    pub(crate) fn take_back(&self) {
        self.lock.take_back();
    }

    /// Its folder, if that is there and its own.
    pub(crate) fn folder(&self) -> Result<PathBuf> {
        crate::twin::settle::present_folder(&self.yard, &self.row)
    }
}
