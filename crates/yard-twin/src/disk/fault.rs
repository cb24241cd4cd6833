//! Faults for tests: the n-th change of the disk fails, or ends the process.

use std::io;
use std::sync::atomic::{AtomicU64, Ordering};

static DONE: AtomicU64 = AtomicU64::new(0);
static FAIL_AT: AtomicU64 = AtomicU64::new(u64::MAX);
static ABORT_AT: AtomicU64 = AtomicU64::new(u64::MAX);

/// Counts a change; fails or aborts if it is the one.
pub(super) fn step() -> io::Result<()> {
    let number = DONE.fetch_add(1, Ordering::SeqCst);
    if number == ABORT_AT.load(Ordering::SeqCst) {
        std::process::abort();
    }
    if number == FAIL_AT.load(Ordering::SeqCst) {
        return Err(io::Error::from_raw_os_error(rustix::io::Errno::IO.raw_os_error()));
    }
    Ok(())
}

/// Runs `work` with its `number`-th change (from 0) failing; `None`: with none. Says how many changes there were.
pub(crate) fn failing<T>(number: Option<u64>, work: impl FnOnce() -> T) -> (T, u64) {
    DONE.store(0, Ordering::SeqCst);
    FAIL_AT.store(number.unwrap_or(u64::MAX), Ordering::SeqCst);
    let result = work();
    FAIL_AT.store(u64::MAX, Ordering::SeqCst);
    (result, DONE.load(Ordering::SeqCst))
}

/// From now on, ends the process at the `number`-th change.
pub(crate) fn abort_at(number: u64) {
    DONE.store(0, Ordering::SeqCst);
    ABORT_AT.store(number, Ordering::SeqCst);
}
