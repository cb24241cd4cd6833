//! `yardtwin`: several isolated copies of a game side by side, from the command line.

mod args;
mod commands;
mod fail;
mod progress;
mod screen;

use std::process::ExitCode;

use clap::Parser;

fn main() -> ExitCode {
    // So that other programs can launch by way of this one.
    yard_twin::launch_helper();
    // Started under the name of a stand-in of the demo, this program becomes it.
    if let Some(code) = standins::run_as_started() {
        return code;
    }
    let args = args::Args::parse();
    start_logging(args.verbose);
    let screen = screen::Screen::new(args.json);
    match commands::run(args, &screen) {
        Ok(code) => code,
        Err(failure) => {
            screen.failure(&failure);
            failure.exit_code()
        }
    }
}

/// What goes on inside is logged to standard error with `-v`, or as `YARDTWIN_LOG` says.
fn start_logging(verbose: u8) {
    let default = match verbose {
        0 => "warn",
        1 => "info",
        2 => "debug",
        _ => "trace",
    };
    let filter = tracing_subscriber::EnvFilter::try_from_env("YARDTWIN_LOG").unwrap_or_else(|_| default.into());
    tracing_subscriber::fmt().with_env_filter(filter).with_writer(std::io::stderr).without_time().init();
}
