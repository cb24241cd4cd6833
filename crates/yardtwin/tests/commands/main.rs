//! The real program, run as an ordinary user.
//!
//! One program, so that tests which wait and tests which work run beside each other.
#![allow(
    missing_docs,
    unreachable_pub,
    clippy::cast_possible_truncation,
    clippy::print_stderr,
    clippy::print_stdout,
    clippy::unwrap_used
)]

mod support;

mod adversity;
mod archives;
mod back;
mod bad_input;
mod belongings;
mod builds;
mod damage;
mod diff;
mod entry;
mod full;
mod guide;
mod isolation;
mod json;
mod killed;
mod launch;
mod learn;
mod lives;
mod long_life;
mod manners;
mod mods;
mod mods_beside;
mod packages;
mod sealed;
mod sharing;
mod space;
mod spare;
mod terminal;
mod together;
mod undo;
mod ways;
