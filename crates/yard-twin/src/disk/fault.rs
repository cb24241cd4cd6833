//! Faults for tests: the n-th change of the disk fails or ends the process, or something happens just before it.
//!
//! All of it is about the changes that the calling thread makes.

use std::cell::{Cell, RefCell};
use std::io;

use super::At;

type Meanwhile = Box<dyn FnMut(u64) -> io::Result<()>>;
type Moved = Box<dyn FnMut(At<'_>)>;

thread_local! {
    static DONE: Cell<u64> = const { Cell::new(0) };
    static BEFORE_EACH: RefCell<Option<Meanwhile>> = const { RefCell::new(None) };
    static AFTER_MOVE: RefCell<Option<Moved>> = const { RefCell::new(None) };
    static BOOT: RefCell<Option<String>> = const { RefCell::new(None) };
}

/// Counts a change, after what is to happen before it.
pub(super) fn step() -> io::Result<()> {
    let number = DONE.replace(DONE.get() + 1);
    // Taken out meanwhile, so that nothing happens before what it does itself.
    let Some(mut before) = BEFORE_EACH.take() else { return Ok(()) };
    let done = before(number);
    BEFORE_EACH.set(Some(before));
    done
}

/// Runs `work` with `before` called before each change, which fails if that does. Says how many changes there were.
pub(crate) fn before_each<T>(
    before: impl FnMut(u64) -> io::Result<()> + 'static,
    work: impl FnOnce() -> T,
) -> (T, u64) {
    DONE.set(0);
    BEFORE_EACH.set(Some(Box::new(before)));
    let result = work();
    BEFORE_EACH.set(None);
    (result, DONE.get())
}

/// Runs `work` with its `number`-th change (from 0) failing; `None`: with none.
pub(crate) fn failing<T>(number: Option<u64>, work: impl FnOnce() -> T) -> (T, u64) {
    let fail = move |at| match number {
        Some(number) if number == at => Err(io::Error::from_raw_os_error(rustix::io::Errno::IO.raw_os_error())),
        _ => Ok(()),
    };
    before_each(fail, work)
}

/// Runs `work` and ends the process before its `number`-th change.
pub(crate) fn dying<T>(number: u64, work: impl FnOnce() -> T) -> T {
    let die = move |at| if at == number { std::process::abort() } else { Ok(()) };
    before_each(die, work).0
}

/// Runs `work` with `meanwhile` happening just before its `number`-th change.
pub(crate) fn meanwhile<T>(number: u64, mut meanwhile: impl FnMut() + 'static, work: impl FnOnce() -> T) -> T {
    let before = move |at| {
        if at == number {
            meanwhile();
        }
        Ok(())
    };
    before_each(before, work).0
}

/// Something was moved there.
pub(super) fn moved(to: At<'_>) {
    if let Some(mut after) = AFTER_MOVE.take() {
        after(to);
        AFTER_MOVE.set(Some(after));
    }
}

/// Runs `work` with `after` called right after each move of an entry from one open folder to another.
pub(crate) fn after_each_move<T>(after: impl FnMut(At<'_>) + 'static, work: impl FnOnce() -> T) -> T {
    AFTER_MOVE.set(Some(Box::new(after)));
    let result = work();
    AFTER_MOVE.set(None);
    result
}

/// From now on, the system says that it was started anew.
pub(crate) fn start_anew(boot: &str) {
    BOOT.set(Some(boot.into()));
}

pub(super) fn boot() -> Option<String> {
    BOOT.with_borrow(Clone::clone)
}
