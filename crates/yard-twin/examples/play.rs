//! Launches a twin, as isolated as is possible here and at a terminal of its own, and says what it changed, what it drew, and
//! what it tried to.
//!
//! usage: `play`, with demo data in a temporary folder; or `play YARD TWIN HELPER [ARGUMENTS]`     HELPER is `copy`,
//! `self` or the path of a program
#![allow(clippy::print_stdout)]

mod desk;

use std::error::Error;
use std::path::Path;
use std::process::ExitCode;

use yard_twin::{Ctx, TwinName, Yard, launch_helper, play};

fn main() -> Result<ExitCode, Box<dyn Error>> {
    // First of all: this process may have been started as the helper of a launch, or as the demo's game.
    launch_helper();
    if let Some(code) = standins::run_as_started() {
        return Ok(code);
    }
    let demo;
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let (yard, twin, helper, rest) = match arguments.as_slice() {
        [] => {
            demo = desk::Desk::new()?;
            (demo.yard.clone(), TwinName::new(desk::TWINS[0].0)?, "self", &[][..])
        }
        [yard, twin, helper, rest @ ..] => (Yard::open(Path::new(yard))?, TwinName::new(twin)?, helper.as_str(), rest),
        _ => return Err("usage: play [YARD TWIN HELPER [ARGUMENTS]]".into()),
    };
    let ctx = Ctx::new();
    let mut options = play::Options { arguments: rest.iter().map(Into::into).collect(), ..play::Options::default() };
    options.terminal = Some(play::Terminal::new(24, 80));
    options.helper = match helper {
        "copy" => play::Helper::Copy,
        "self" => play::Helper::SelfExe,
        program => play::Helper::Program(program.into()),
    };
    let plan = play::plan(&yard, &twin, &options, &ctx)?;
    let outcome = play::start(&yard, &plan, &options, &ctx)?.wait(&ctx)?;
    println!("{twin} ran {}: {}", plan.isolation, outcome.report.summary());
    print!("{}", String::from_utf8_lossy(&std::fs::read(&outcome.output)?));
    for path in &outcome.report.outside {
        println!("outside: {}", path.display());
    }
    match outcome.record.exit_code {
        Some(0) => Ok(ExitCode::SUCCESS),
        code => Err(format!("it ended with {code:?}").into()),
    }
}
