//! Undoes what changed the game's files of a twin, and keeps what was played since.
//!
//! usage: `undo YARD TWIN [NUMBER-OR-LABEL]`
#![allow(clippy::print_stdout)]

use std::error::Error;
use std::path::Path;

use yard_twin::{Ctx, RestoreOptions, TwinName, Yard};

fn main() -> Result<(), Box<dyn Error>> {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let (yard, twin, to) = match arguments.as_slice() {
        [yard, twin] => (yard, twin, None),
        [yard, twin, to] => (yard, twin, Some(to.parse()?)),
        _ => return Err("usage: undo YARD TWIN [NUMBER-OR-LABEL]".into()),
    };
    let (yard, twin, ctx) = (Yard::open(Path::new(yard))?, TwinName::new(twin)?, Ctx::new());
    let plan = yard.plan_restore(&twin, &RestoreOptions { to, all: false, ..RestoreOptions::default() }, &ctx)?;
    for step in &plan.steps {
        println!("{:?} {}", step.doing, step.path);
    }
    let undone = yard.apply_restore(&plan, &ctx)?;
    println!("{twin} is back at {}; {} other files stay as they are", undone.to, plan.own.total());
    Ok(())
}
