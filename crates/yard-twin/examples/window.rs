//! What a window does: takes a build in, clones it and launches the clone in one thread, and shows in another how far
//! that is.
//!
//! usage: `window`, in a temporary folder; or `window YARD FOLDER TITLE TWIN`
#![allow(clippy::print_stdout)]

mod desk;

use std::error::Error;
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::sync::Arc;
use std::sync::mpsc::{Sender, channel};

use yard_twin::{Ctx, Phase, Progress, Source, Title, TwinName, Yard, clone, intake, launch_helper, play};

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
) -> yard_twin::Result<play::Outcome> {
    let ctx = Ctx::new().with_progress(Arc::new(Teller(news.clone())));
    let taken = intake::apply(yard, &intake::plan(yard, intake::Options::new(folder, title), &ctx)?, &ctx)?;
    let plan = clone::plan(yard, &Source::Stock(taken.build), &twin, clone::Options::default(), &ctx)?;
    clone::apply(yard, &plan, &ctx)?;
    let options = play::Options::default();
    let plan = play::plan(yard, &twin, &options, &ctx)?;
    let _ = news.send(News::Starts(plan.title_name.clone()));
    play::start(yard, &plan, &options, &ctx)?.wait(&ctx)
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
