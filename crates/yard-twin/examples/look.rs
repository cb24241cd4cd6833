//! Says what differs between two things of a yard, what is wrong with it, and what its twins take on disk. Changes nothing.
//!
//! usage: `look YARD FROM TO`: each TITLE@BUILD, a twin, or TWIN:SNAPSHOT
#![allow(clippy::print_stdout)]

use std::error::Error;
use std::path::Path;

use yard_twin::{CheckOptions, Ctx, Yard};

fn main() -> Result<(), Box<dyn Error>> {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let [yard, from, to] = arguments.as_slice() else { return Err("usage: look YARD FROM TO".into()) };
    let (yard, ctx) = (Yard::open(Path::new(yard))?, Ctx::new());
    let difference = yard.diff(&from.parse()?, &to.parse()?, &ctx)?;
    for differing in &difference.paths {
        println!("{:?} {}", differing.how, differing.path);
    }
    println!("{} files are the same", difference.same.paths);
    let report = yard.check(&CheckOptions { full: true, ..CheckOptions::default() }, &ctx)?;
    for finding in &report.findings {
        println!("{:?}: {}: {}", finding.severity, finding.about, finding.problem);
    }
    for twin in yard.yard_space(&ctx)?.twins {
        println!("{}: {} bytes of its own, {} shared", twin.name, twin.own, twin.shared);
    }
    Ok(())
}
