//! The library, through its public API.
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

#[allow(dead_code, reason = "the rest of it is what the tests of the program use")]
mod common;

mod archives;
mod belongings;
mod clone;
mod examples;
mod filesystems;
mod hands;
mod house;
mod model;
mod mods;
mod plans;
mod progress;
mod recovery;
mod repath;
mod settle;
mod still;
mod threads;
mod wholes;
mod words;
