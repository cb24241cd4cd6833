//! What a window does: takes a build in, clones it and launches the clone in one thread, and shows in another how far that is.
//!
//! usage: `window`, in a temporary folder; or `window YARD FOLDER TITLE TWIN`
#![allow(clippy::print_stdout)]

mod desk;

use std::error::Error;
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::sync::Arc;
use std::sync::mpsc::{Sender, channel};

use yard_twin::{
    CloneOptions, Ctx, IntakeOptions, LaunchOptions, Phase, Progress, RunOutcome, Source, Title, TwinName, Yard,
    launch_helper,
};

/// What the window is told.
enum News {
    Begins(Phase, u64),
    Starts(String),
}

/// Passes progress on to the thread that draws.
struct Teller(Sender<News>);

impl Progress for Teller {
    fn begin(&self, phase: Phase, files: u64, _: u64) {
        // The window may have been closed.
        let _ = self.0.send(News::Begins(phase, files));
    }

    fn advance(&self, _: u64, _: u64) {}

    fn end(&self) {}
}

/// All that takes long, in a thread of its own.
fn work(
    yard: &Yard,
    (folder, title, twin): (PathBuf, Title, TwinName),
    news: &Sender<News>,
) -> yard_twin::Result<RunOutcome> {
    let ctx = Ctx::new().with_progress(Arc::new(Teller(news.clone())));
    let taken = yard.apply_intake(&yard.plan_intake(IntakeOptions::new(folder, title), &ctx)?, &ctx)?;
    let plan = yard.plan_clone(&Source::Stock(taken.build), &twin, CloneOptions::default(), &ctx)?;
    yard.apply_clone(&plan, &ctx)?;
    let options = LaunchOptions::default();
    let plan = yard.plan_launch(&twin, &options, &ctx)?;
    let _ = news.send(News::Starts(plan.title_name.clone()));
    yard.launch(&plan, &options, &ctx)?.wait(&ctx)
}

fn main() -> Result<ExitCode, Box<dyn Error>> {
    // This process may have been started as the helper of a launch, or as the demo's game.
    launch_helper();
    if let Some(code) = standins::run_as_started() {
        return Ok(code);
    }
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let place = tempfile::tempdir()?;
    let (yard, folder, title, twin) = match arguments.as_slice() {
        [] => {
            let yard = Yard::init(place.path().join("yard"))?;
            std::fs::write(yard.sheet_path(&Title::new(desk::TITLE)?), standins::WEXCOMBE_SHEET)?;
            (yard, desk::Desk::install(place.path(), "2.1-rc")?, Title::new(desk::TITLE)?, TwinName::new("fresh air")?)
        }
        [yard, folder, title, twin] => {
            (Yard::open(Path::new(yard))?, folder.into(), Title::new(title)?, TwinName::new(twin)?)
        }
        _ => return Err("usage: window [YARD FOLDER TITLE TWIN]".into()),
    };
    let (news, told) = channel();
    let worker = std::thread::spawn(move || work(&yard, (folder, title, twin), &news));
    // It ends when the worker has dropped its end.
    for news in told {
        match news {
            News::Begins(phase, files) => println!("{phase:?}: {files} files"),
            News::Starts(title) => println!("{title} is running"),
        }
    }
    let outcome = worker.join().map_err(|_| "the worker panicked")??;
    println!("{} ran: {}", outcome.twin, outcome.report.summary());
    Ok(ExitCode::SUCCESS)
}
