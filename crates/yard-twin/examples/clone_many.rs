//! Makes many clones of a twin or stock build of an existing yard, and says what they take.
//!
//! usage: `clone_many`, with demo data in a temporary folder; or `clone_many YARD SOURCE COUNT`
#![allow(clippy::print_stdout)]

mod desk;

use std::error::Error;
use std::path::Path;
use std::process::ExitCode;
use std::time::Instant;

use yard_twin::{Ctx, Source, TwinName, Yard, clone};

fn main() -> Result<ExitCode, Box<dyn Error>> {
    // This process may have been started as the demo's game.
    if let Some(code) = standins::run_as_started() {
        return Ok(code);
    }
    let demo;
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let (yard, source, count): (Yard, Source, u32) = match arguments.as_slice() {
        [] => {
            demo = desk::Desk::new()?;
            (demo.yard.clone(), desk::TWINS[0].0.parse()?, 5)
        }
        [yard, source, count] => (Yard::open(Path::new(yard))?, source.parse()?, count.parse()?),
        _ => return Err("usage: clone_many [YARD SOURCE COUNT]".into()),
    };
    let ctx = Ctx::new();
    let (began, mut seen, mut alone) = (Instant::now(), 0, 0);
    for number in 1..=count {
        let name = TwinName::new(format!("copy {number}"))?;
        let plan = clone::plan(&yard, &source, &name, clone::Options::default(), &ctx)?;
        let twin = clone::apply(&yard, &plan, &ctx)?;
        seen += twin.totals.bytes;
        alone += twin.shares.alone();
    }
    println!(
        "{count} clones in {} ms: {seen} bytes as seen, {alone} on disk of their own",
        began.elapsed().as_millis()
    );
    Ok(ExitCode::SUCCESS)
}
