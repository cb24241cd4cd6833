//! Says what differs between two things of a yard, what is wrong with it, and what its twins take on disk. Changes nothing.
//!
//! usage: `look`, with demo data in a temporary folder; or `look YARD FROM TO`: each TITLE@BUILD, a twin, or TWIN:SNAPSHOT
#![allow(clippy::print_stdout)]

mod desk;

use std::error::Error;
use std::path::Path;
use std::process::ExitCode;

use yard_twin::{Ctx, Yard, check, compare, space};

fn main() -> Result<ExitCode, Box<dyn Error>> {
    // This process may have been started as the demo's game.
    if let Some(code) = standins::run_as_started() {
        return Ok(code);
    }
    let demo;
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let (yard, from, to) = match arguments.as_slice() {
        [] => {
            demo = desk::Desk::new()?;
            (demo.yard.clone(), desk::TWINS[0].0.parse()?, desk::TWINS[1].0.parse()?)
        }
        [yard, from, to] => (Yard::open(Path::new(yard))?, from.parse()?, to.parse()?),
        _ => return Err("usage: look [YARD FROM TO]".into()),
    };
    let ctx = Ctx::new();
    let difference = compare::sides(&yard, &from, &to, &ctx)?;
    for differing in &difference.paths {
        println!("{:?} {}", differing.how, differing.path);
    }
    println!("{} files are the same", difference.same.paths);
    let report = check::look(&yard, &check::Options { full: true, ..check::Options::default() }, &ctx)?;
    for finding in &report.findings {
        println!("{:?}: {}: {}", finding.severity, finding.about, finding.problem);
    }
    for twin in space::yard(&yard, &ctx)?.twins {
        println!("{}: {} bytes of its own, {} shared", twin.name, twin.own, twin.shared);
    }
    Ok(ExitCode::SUCCESS)
}
