//! Makes many clones of a twin or stock build of an existing yard, and says what they take.
//!
//! usage: `clone_many YARD SOURCE COUNT`
#![allow(clippy::print_stdout)]

use std::error::Error;
use std::path::Path;
use std::time::Instant;

use yard_twin::{CloneOptions, Ctx, Source, TwinName, Yard};

fn main() -> Result<(), Box<dyn Error>> {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let [yard, source, count] = arguments.as_slice() else {
        return Err("usage: clone_many YARD SOURCE COUNT".into());
    };
    let (yard, ctx) = (Yard::open(Path::new(yard))?, Ctx::new());
    let (source, count): (Source, u32) = (source.parse()?, count.parse()?);
    let (began, mut seen, mut alone) = (Instant::now(), 0, 0);
    for number in 1..=count {
        let name = TwinName::new(format!("copy {number}"))?;
        let plan = yard.plan_clone(&source, &name, CloneOptions::default(), &ctx)?;
        let twin = yard.apply_clone(&plan, &ctx)?;
        seen += twin.totals.bytes;
        alone += twin.shares.alone();
    }
    println!(
        "{count} clones in {} ms: {seen} bytes as seen, {alone} on disk of their own",
        began.elapsed().as_millis()
    );
    Ok(())
}
