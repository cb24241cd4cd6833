//! Launches a twin, as isolated as is possible here, and says what it changed and what it tried to.
//!
//! usage: `play YARD TWIN HELPER [ARGUMENTS]`     HELPER is `copy`, `self` or the path of a program
#![allow(clippy::print_stdout)]

use std::error::Error;
use std::path::Path;

use yard_twin::{Ctx, Helper, LaunchOptions, TwinName, Yard, launch_helper};

fn main() -> Result<(), Box<dyn Error>> {
    // First of all: this process may have been started as the helper of a launch.
    launch_helper();
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let [yard, twin, helper, rest @ ..] = arguments.as_slice() else {
        return Err("usage: play YARD TWIN HELPER [ARGUMENTS]".into());
    };
    let (yard, twin, ctx) = (Yard::open(Path::new(yard))?, TwinName::new(twin)?, Ctx::new());
    let mut options = LaunchOptions { arguments: rest.iter().map(Into::into).collect(), ..LaunchOptions::default() };
    options.helper = match helper.as_str() {
        "copy" => Helper::Copy,
        "self" => Helper::SelfExe,
        program => Helper::Program(program.into()),
    };
    let plan = yard.plan_launch(&twin, &options, &ctx)?;
    let outcome = yard.launch(&plan, &options, &ctx)?.wait(&ctx)?;
    println!("{twin} ran {}: {}", plan.isolation, outcome.report.summary());
    for path in &outcome.report.outside {
        println!("outside: {}", path.display());
    }
    match outcome.record.exit_code {
        Some(0) => Ok(()),
        code => Err(format!("it ended with {code:?}").into()),
    }
}
