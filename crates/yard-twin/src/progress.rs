//! What an operation is told by its caller, and what it tells back while it runs.

use std::num::NonZeroUsize;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, LazyLock};
use std::time::{Duration, Instant};

use serde::{Serialize, Serializer};

use crate::error::{Error, Result};

/// A duration as a number of seconds, for those who read outcomes in JSON.
pub(crate) fn seconds<S: Serializer>(time: &Duration, serializer: S) -> std::result::Result<S::Ok, S::Error> {
    serializer.serialize_f64(time.as_secs_f64())
}

/// What an operation is doing just now.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Phase {
    /// Waiting until another command lets go of the yard.
    Waiting,
    /// Listing folders.
    Listing,
    /// Reading contents, and storing those that are new.
    Storing,
    /// Making sure that what was stored survives a power loss.
    Syncing,
    /// Reading contents, and comparing them with what they should be.
    Checking,
    /// Looking through files for what they name.
    Searching,
    /// Building a twin's folder.
    Building,
    /// Writing files that leave the yard.
    Writing,
    /// Deleting files.
    Deleting,
}

/// Receives progress as counts and bytes: one phase after another, a large file piece by piece. Called from several threads;
/// must be quick.
pub trait Progress: Send + Sync {
    /// A phase begins; the totals are 0 where they are not known beforehand.
    fn begin(&self, phase: Phase, files: u64, bytes: u64);
    /// So many more files and bytes are done.
    fn advance(&self, files: u64, bytes: u64);
    /// The phase is over.
    fn end(&self);
}

struct Silent;

impl Progress for Silent {
    fn begin(&self, _: Phase, _: u64, _: u64) {}
    fn advance(&self, _: u64, _: u64) {}
    fn end(&self) {}
}

/// A flag that stops an operation: it then undoes what it began and returns [`Error::Cancelled`].
#[derive(Clone, Debug, Default)]
pub struct Cancel(Arc<AtomicBool>);

impl Cancel {
    /// Asks the operation to stop.
    pub fn cancel(&self) {
        self.0.store(true, Ordering::Relaxed);
    }

    /// Whether it was asked to.
    #[must_use]
    pub fn is_cancelled(&self) -> bool {
        self.0.load(Ordering::Relaxed)
    }

    /// The flag itself, for a signal handler to set.
    #[must_use]
    pub fn flag(&self) -> Arc<AtomicBool> {
        Arc::clone(&self.0)
    }
}

/// Files of at least so many bytes are reported piece by piece.
const LARGE: u64 = 4 << 20;

/// How long a command waits for the yard: others hold it alone for moments only.
const PATIENCE: Duration = Duration::from_secs(20);

/// How an operation is run: where progress goes, how it is stopped, how many threads it may use, how long it waits for
/// others.
///
/// The default is silent, never cancelled, waits for 20 seconds, and uses as many threads as there are processors, but 2
/// at least and 4 at most: more bring nothing, or do harm.
#[derive(Clone)]
pub struct Ctx {
    progress: Arc<dyn Progress>,
    cancel: Cancel,
    threads: usize,
    patience: Duration,
    /// The bytes of the one large file that is worked on which are not reported yet.
    unreported: Option<Arc<AtomicU64>>,
}

impl std::fmt::Debug for Ctx {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let mut shown = f.debug_struct("Ctx");
        shown.field("cancelled", &self.cancel.is_cancelled()).field("threads", &self.threads).finish_non_exhaustive()
    }
}

impl Default for Ctx {
    fn default() -> Self {
        // Asked once: the answer is read from files.
        static PROCESSORS: LazyLock<usize> =
            LazyLock::new(|| std::thread::available_parallelism().map_or(2, NonZeroUsize::get));
        Self {
            progress: Arc::new(Silent),
            cancel: Cancel::default(),
            threads: PROCESSORS.clamp(2, 4),
            patience: PATIENCE,
            unreported: None,
        }
    }
}

impl Ctx {
    /// The default: silent, never cancelled.
    #[must_use]
    pub fn new() -> Self {
        Self::default()
    }

    /// Sends progress to `sink`.
    #[must_use]
    pub fn with_progress(mut self, sink: Arc<dyn Progress>) -> Self {
        self.progress = sink;
        self
    }

    /// Stops when `cancel` is set.
    #[must_use]
    pub fn with_cancel(mut self, cancel: Cancel) -> Self {
        self.cancel = cancel;
        self
    }

    /// Uses `threads` threads.
    #[must_use]
    pub fn with_threads(mut self, threads: NonZeroUsize) -> Self {
        self.threads = threads.get();
        self
    }

    /// Waits so long for whoever holds the yard or a twin for moments, before the call fails with [`Error::Busy`]. Nobody
    /// waits for a program that runs in a twin.
    #[must_use]
    pub fn with_patience(mut self, patience: Duration) -> Self {
        self.patience = patience;
        self
    }

    /// The same, for what has to be done whether the caller asked to stop or not.
    pub(crate) fn without_cancel(&self) -> Self {
        Self { cancel: Cancel::default(), ..self.clone() }
    }

    pub(crate) fn threads(&self) -> usize {
        self.threads
    }

    pub(crate) fn patience(&self) -> Duration {
        self.patience
    }

    pub(crate) fn progress(&self) -> &dyn Progress {
        &*self.progress
    }

    /// Runs `work` as one phase.
    pub(crate) fn phase<T>(&self, phase: Phase, files: u64, bytes: u64, work: impl FnOnce() -> Result<T>) -> Result<T> {
        let began = Instant::now();
        self.progress.begin(phase, files, bytes);
        let result = work();
        self.progress.end();
        tracing::info!(took = ?began.elapsed(), files, bytes, failed = result.is_err(), "{phase:?}");
        result
    }

    /// Works on one file of so many bytes, and reports it: a large one piece by piece, as [`Ctx::piece`] is told.
    pub(crate) fn file<T>(&self, bytes: u64, work: impl FnOnce(&Self) -> Result<T>) -> Result<T> {
        if bytes < LARGE {
            let result = work(self)?;
            self.progress.advance(1, bytes);
            return Ok(result);
        }
        let unreported = Arc::new(AtomicU64::new(bytes));
        let result = work(&Self { unreported: Some(Arc::clone(&unreported)), ..self.clone() })?;
        self.progress.advance(1, unreported.load(Ordering::Relaxed));
        Ok(result)
    }

    /// So many more bytes of a file are read or written; [`Error::Cancelled`] if the caller asked to stop. What is read a
    /// second time is not reported again.
    pub(crate) fn piece(&self, bytes: u64) -> Result<()> {
        if let Some(unreported) = &self.unreported {
            let left = unreported.load(Ordering::Relaxed);
            let now = bytes.min(left);
            unreported.store(left - now, Ordering::Relaxed);
            self.progress.advance(0, now);
        }
        self.check()
    }

    /// [`Error::Cancelled`] if the caller asked to stop.
    pub(crate) fn check(&self) -> Result<()> {
        if self.cancel.is_cancelled() { Err(Error::Cancelled) } else { Ok(()) }
    }
}
