//! Work shared out to threads.

use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};

use crate::error::Result;

/// Calls `work` for every item, on up to `threads` threads, each with state of its own from `state` (a buffer, say).
/// Items are taken in order; after the first error no new one is begun, and that error is returned.
pub(crate) fn for_each<'a, T: Sync, S>(
    items: &'a [T],
    threads: usize,
    state: impl Fn() -> S + Sync,
    work: impl Fn(&mut S, &'a T) -> Result<()> + Sync,
) -> Result<()> {
    let (next, stop, failure) = (AtomicUsize::new(0), AtomicBool::new(false), Mutex::new(None));
    let run = || {
        let mut state = state();
        while !stop.load(Ordering::Relaxed) {
            let Some(item) = items.get(next.fetch_add(1, Ordering::Relaxed)) else { break };
            if let Err(error) = work(&mut state, item) {
                stop.store(true, Ordering::Relaxed);
                lock(&failure).get_or_insert(error);
            }
        }
    };
    std::thread::scope(|scope| {
        for _ in 1..threads.min(items.len()) {
            scope.spawn(run);
        }
        run();
    });
    failure.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner).map_or(Ok(()), Err)
}

/// Locks a mutex; one whose holder panicked still holds whole values here, since the panic goes on to the caller.
pub(crate) fn lock<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
}
