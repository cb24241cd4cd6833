//! Work shared out to threads.

use std::cell::Cell;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Condvar, Mutex, OnceLock};

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
            let ended = StopUnless { stop: &stop, well: Cell::new(false) };
            match work(&mut state, item) {
                Ok(()) => ended.well.set(true),
                Err(error) => {
                    lock(&failure).get_or_insert(error);
                }
            }
        }
    };
    std::thread::scope(|scope| {
        for _ in 1..threads.min(items.len()) {
            scope.spawn(run);
        }
        run();
    });
    into_inner(failure).map_or(Ok(()), Err)
}

/// Has no new item begun if one did not end well, also where it panicked.
struct StopUnless<'a> {
    stop: &'a AtomicBool,
    well: Cell<bool>,
}

impl Drop for StopUnless<'_> {
    fn drop(&mut self) {
        if !self.well.get() {
            self.stop.store(true, Ordering::Relaxed);
        }
    }
}

/// Does two things, at the same time where there may be more threads than one; else the second one first.
pub(crate) fn both<A: Send, B>(threads: usize, beside: impl FnOnce() -> A + Send, here: impl FnOnce() -> B) -> (A, B) {
    if threads < 2 {
        let here = here();
        return (beside(), here);
    }
    std::thread::scope(|scope| {
        let beside = scope.spawn(beside);
        let here = here();
        (beside.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)), here)
    })
}

/// Jobs that are left, and how many threads are at one just now: it is over when both are none.
struct Queue<J> {
    jobs: Vec<J>,
    busy: usize,
    failed: bool,
}

/// A thread at a job. When it is dropped the job is over, also where it panics: so that the others don't wait for ever.
struct AtWork<'a, J> {
    queue: &'a Mutex<Queue<J>>,
    more: &'a Condvar,
    below: &'a mut Vec<J>,
    failed: bool,
}

impl<J> Drop for AtWork<'_, J> {
    fn drop(&mut self) {
        let mut queue = lock(self.queue);
        queue.busy -= 1;
        queue.failed |= self.failed;
        queue.jobs.append(self.below);
        self.more.notify_all();
    }
}

/// Does `first` and all jobs that come of it, on `threads` threads, each with state of its own; returns those states.
/// `work` puts the jobs that come of one into the list. The newest are done first; after an error no new one is begun.
pub(crate) fn crawl<J: Send, S: Send>(
    first: Vec<J>,
    threads: usize,
    state: impl Fn() -> S + Sync,
    work: impl Fn(&mut S, J, &mut Vec<J>) -> Result<()> + Sync,
) -> Result<Vec<S>> {
    let queue = Mutex::new(Queue { jobs: first, busy: 0, failed: false });
    let more = Condvar::new();
    let next = || {
        let mut queue = lock(&queue);
        loop {
            match queue.jobs.pop() {
                _ if queue.failed => return None,
                Some(job) => {
                    queue.busy += 1;
                    return Some(job);
                }
                None if queue.busy == 0 => return None,
                None => queue = more.wait(queue).unwrap_or_else(std::sync::PoisonError::into_inner),
            }
        }
    };
    let run = || {
        let (mut state, mut below) = (state(), Vec::new());
        while let Some(job) = next() {
            let mut at = AtWork { queue: &queue, more: &more, below: &mut below, failed: true };
            let done = work(&mut state, job, at.below);
            at.failed = done.is_err();
            drop(at);
            done?;
        }
        Ok(state)
    };
    std::thread::scope(|scope| {
        let others: Vec<_> = (1..threads).map(|_| scope.spawn(run)).collect();
        let mine = run();
        let others = others.into_iter().map(|thread| thread.join().unwrap_or_else(|p| std::panic::resume_unwind(p)));
        others.chain([mine]).collect()
    })
}

/// What is read once it is wanted first, by whichever thread wants it.
pub(crate) struct Late<'a, T> {
    value: OnceLock<T>,
    reading: Mutex<()>,
    read: Box<dyn Fn() -> Result<T> + Send + Sync + 'a>,
}

impl<'a, T> Late<'a, T> {
    pub(crate) fn new(read: impl Fn() -> Result<T> + Send + Sync + 'a) -> Self {
        Self { value: OnceLock::new(), reading: Mutex::new(()), read: Box::new(read) }
    }

    pub(crate) fn get(&self) -> Result<&T> {
        if let Some(value) = self.value.get() {
            return Ok(value);
        }
        let _one = lock(&self.reading);
        if let Some(value) = self.value.get() {
            return Ok(value);
        }
        let value = (self.read)()?;
        Ok(self.value.get_or_init(|| value))
    }

    pub(crate) fn into_inner(self) -> Result<T> {
        self.value.into_inner().map_or_else(|| (self.read)(), Ok)
    }
}

/// Locks a mutex; one whose holder panicked still holds whole values here, since the panic goes on to the caller.
pub(crate) fn lock<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
}

/// The value of a lock, poisoned or not.
pub(crate) fn into_inner<T>(mutex: Mutex<T>) -> T {
    mutex.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner)
}
