//! Stand-ins for the demo and the tests: a made-up game, emulator and store client, small but real programs.
//!
//! A program that calls [`run_as_started`] first becomes one of them when it is started under its name; so the demo needs
//! nothing but the one program that was installed.

mod builds;
mod emulator;
mod game;
mod mods;
mod store;

use std::path::Path;
use std::process::ExitCode;

pub use builds::{
    PELLWICK_SHEET, WEXCOMBE_BUILDS, WEXCOMBE_SHEET, write_pellwick, write_small_wexcombe, write_wexcombe,
};

pub use mods::write_mods;

/// Becomes the stand-in under whose name this process was started; `None` if it was started under any other.
#[must_use]
pub fn run_as_started() -> Option<ExitCode> {
    let mut arguments = std::env::args_os().map(|argument| argument.to_string_lossy().into_owned());
    let name = arguments.next()?;
    let arguments: Vec<String> = arguments.collect();
    let result = match Path::new(&name).file_stem()?.to_str()? {
        "wexcombe" => game::run(&arguments),
        "pellwick" => emulator::run(&arguments),
        "parcelgate" => store::run(&arguments),
        _ => return None,
    };
    Some(result.unwrap_or_else(|error| {
        say_error(&error.to_string());
        ExitCode::FAILURE
    }))
}

/// A line for whoever plays.
fn say(line: &str) {
    use std::io::Write;
    // Nobody may be listening.
    let _ = writeln!(std::io::stdout(), "{line}");
}

fn say_error(line: &str) {
    use std::io::Write;
    // Nobody may be listening.
    let _ = writeln!(std::io::stderr(), "{line}");
}
