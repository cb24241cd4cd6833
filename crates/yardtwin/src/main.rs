//! `yardtwin`: several isolated copies of a game side by side, from the command line.

mod answers;
mod args;
mod commands;
mod fail;
mod memory;
mod progress;
mod screen;

use std::ffi::OsString;
use std::io::IsTerminal;
use std::process::ExitCode;

use tracing_subscriber::Layer;
use tracing_subscriber::filter::{LevelFilter, Targets};
use tracing_subscriber::layer::SubscriberExt;
use tracing_subscriber::util::SubscriberInitExt;

fn main() -> ExitCode {
    // So that other programs can launch by way of this one.
    yard_twin::launch_helper();
    // Started under the name of a stand-in of the demo, this program becomes it.
    if let Some(code) = standins::run_as_started() {
        return code;
    }
    memory::give_back();
    let words = args::with_marks(std::env::args_os().collect());
    let args = match args::understood(&words) {
        Ok(args) => args,
        Err(error) => return misunderstood(&error, &words),
    };
    start_logging(args.verbose);
    let screen = screen::Screen::new(args.json);
    let done = commands::run(args, &screen);
    let written = screen.finish();
    match (done, written) {
        (Ok(code), Ok(())) => {
            screen.tell_notes();
            code
        }
        (Err(failure), _) | (Ok(_), Err(Some(failure))) => {
            screen.failure(&failure);
            ExitCode::from(failure.code())
        }
        // A program's own exit code says more.
        (Ok(code), Err(None)) if code != ExitCode::SUCCESS => code,
        (Ok(_), Err(None)) => ExitCode::FAILURE,
    }
}

/// Says what is wrong with the words of a command, or helps.
fn misunderstood(error: &clap::Error, words: &[OsString]) -> ExitCode {
    let json = words.iter().take_while(|word| *word != "--").any(|word| word == "--json");
    if json && error.use_stderr() {
        let text = error.render().to_string();
        let said = text.split("\n\n").next().unwrap_or_default().trim_start_matches("error: ");
        let message = said.split_whitespace().collect::<Vec<_>>().join(" ");
        let remedy = text.lines().find(|line| line.starts_with("Usage: ")).map(str::to_owned);
        screen::Screen::new(true).failure(&fail::Failure::Other { message, remedy, command: None, code: 2 });
        return ExitCode::from(2);
    }
    // Of a pipe that nobody reads is nothing to be said.
    let _ = error.print();
    ExitCode::from(u8::try_from(error.exit_code()).unwrap_or(2))
}

/// What goes on inside is logged to standard error with `-v`, or as `YARDTWIN_LOG` says.
fn start_logging(verbose: u8) {
    let default = match verbose {
        0 => LevelFilter::WARN,
        1 => LevelFilter::INFO,
        2 => LevelFilter::DEBUG,
        _ => LevelFilter::TRACE,
    };
    let asked = std::env::var("YARDTWIN_LOG").ok().and_then(|levels| levels.parse::<Targets>().ok());
    let lines = tracing_subscriber::fmt::layer()
        .with_writer(std::io::stderr)
        .with_ansi(std::io::stderr().is_terminal())
        .without_time();
    tracing_subscriber::registry()
        .with(lines.with_filter(asked.unwrap_or_else(|| Targets::new().with_default(default))))
        .init();
}
