//! Brings belongings from one twin to another, and decides about each clash by itself: the larger one stays.
//!
//! usage: `decide`, with demo data in a temporary folder; or `decide YARD GROUP FROM TO`
#![allow(clippy::print_stdout)]

mod desk;

use std::error::Error;
use std::path::Path;
use std::process::ExitCode;

use yard_twin::{Ctx, OnClash, TwinName, Yard, carry, launch_helper, play};

/// Plays each twin of the demo once, so that both have shifts of their own.
fn play(yard: &Yard, ctx: &Ctx) -> Result<(), Box<dyn Error>> {
    for (twin, _) in desk::TWINS {
        let (name, options) = (TwinName::new(twin)?, play::Options::default());
        play::start(yard, &play::plan(yard, &name, &options, ctx)?, &options, ctx)?.wait(ctx)?;
    }
    Ok(())
}

fn main() -> Result<ExitCode, Box<dyn Error>> {
    launch_helper();
    if let Some(code) = standins::run_as_started() {
        return Ok(code);
    }
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let (ctx, demo);
    ctx = Ctx::new();
    let (yard, group, from, to) = match arguments.as_slice() {
        [] => {
            demo = desk::Desk::new()?;
            play(&demo.yard, &ctx)?;
            (demo.yard.clone(), "shifts".to_owned(), desk::TWINS[0].0.to_owned(), desk::TWINS[1].0.to_owned())
        }
        [yard, group, from, to] => (Yard::open(Path::new(yard))?, group.clone(), from.clone(), to.clone()),
        _ => return Err("usage: decide [YARD GROUP FROM TO]".into()),
    };
    let (from, to) = (carry::Origin::Twin(TwinName::new(from)?), TwinName::new(to)?);
    let options = carry::Options { groups: vec![group], ..carry::Options::default() };
    let mut plan = carry::plan(&yard, &from, &to, &options, &ctx)?;
    // Each decision gives a plan anew: nothing is done before all of it is decided.
    while let Some(item) = plan.items().iter().find(|item| item.does == carry::Does::Undecided) {
        let there = item.there.map_or(0, |(bytes, _)| bytes);
        let rule = if item.bytes > there { OnClash::Replace } else { OnClash::Skip };
        println!("{}: {} bytes come, {there} are there: {rule:?}", item.to, item.bytes);
        let place = item.to.clone();
        plan = plan.decide(&yard, &place, rule, &ctx)?;
    }
    let outcome = carry::apply(&yard, &plan, &ctx)?;
    println!("{} put, {} skipped, {} verified", outcome.put, outcome.skipped.len(), outcome.verified);
    Ok(ExitCode::SUCCESS)
}
