//! Undoes what changed the game's files of a twin, and keeps what was played since.
//!
//! usage: `undo`, with demo data in a temporary folder; or `undo YARD TWIN [NUMBER-OR-LABEL]`
#![allow(clippy::print_stdout)]

mod desk;

use std::error::Error;
use std::path::Path;
use std::process::ExitCode;

use yard_twin::{Ctx, TwinName, Yard, restore};

fn main() -> Result<ExitCode, Box<dyn Error>> {
    // This process may have been started as the demo's game.
    if let Some(code) = standins::run_as_started() {
        return Ok(code);
    }
    let demo;
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let (yard, twin, to) = match arguments.as_slice() {
        [] => {
            demo = desk::Desk::new()?;
            let twin = TwinName::new(desk::TWINS[0].0)?;
            // A mod that went wrong.
            std::fs::write(demo.yard.root().join("twins").join(twin.as_str()).join("game/broken.dat"), "a mod")?;
            (demo.yard.clone(), twin, None)
        }
        [yard, twin] => (Yard::open(Path::new(yard))?, TwinName::new(twin)?, None),
        [yard, twin, to] => (Yard::open(Path::new(yard))?, TwinName::new(twin)?, Some(to.parse()?)),
        _ => return Err("usage: undo [YARD TWIN [NUMBER-OR-LABEL]]".into()),
    };
    let (ctx, options) = (Ctx::new(), restore::Options { to, ..restore::Options::default() });
    let plan = match restore::plan(&yard, &twin, &options, &ctx) {
        Ok(plan) => plan,
        // Each error has a class, which says what kind of answer it asks for, and most say what to do.
        Err(error) => {
            println!("{twin} can't go back ({:?}): {}", error.class(), error.with_causes());
            println!("{}", error.remedy().unwrap_or_default());
            return Ok(ExitCode::FAILURE);
        }
    };
    for step in &plan.steps {
        println!("{:?} {}", step.doing, step.path);
    }
    let undone = restore::apply(&yard, &plan, &ctx)?;
    println!("{twin} is back at {}; {} other files stay as they are", undone.to, plan.own.total());
    Ok(ExitCode::SUCCESS)
}
