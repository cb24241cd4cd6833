//! From two installed folders to two twins that stand side by side and start separately.
//!
//! usage: `two_builds`, in a temporary folder; or `two_builds YARD TITLE FOLDER BUILD FOLDER BUILD`
#![allow(clippy::print_stdout)]

mod desk;

use std::error::Error;
use std::path::Path;
use std::process::ExitCode;

use yard_twin::{Ctx, Source, Title, TwinName, Yard, clone, intake, launch_helper, play};

fn main() -> Result<ExitCode, Box<dyn Error>> {
    // This process may have been started as the helper of a launch, or as the demo's game.
    launch_helper();
    if let Some(code) = standins::run_as_started() {
        return Ok(code);
    }
    let mut arguments: Vec<String> = std::env::args().skip(1).collect();
    let place = tempfile::tempdir()?;
    if arguments.is_empty() {
        let path = |path: &Path| path.display().to_string();
        arguments = vec![path(&place.path().join("yard")), desk::TITLE.into()];
        for (_, build) in desk::TWINS {
            arguments.extend([path(&desk::Desk::install(place.path(), build)?), build.into()]);
        }
    }
    let [yard, title, old, old_build, new, new_build] = arguments.as_slice() else {
        return Err("usage: two_builds [YARD TITLE FOLDER BUILD FOLDER BUILD]".into());
    };
    let (ctx, title) = (Ctx::new(), Title::new(title)?);
    let yard = Yard::init(Path::new(yard))?;
    for (folder, build) in [(old, old_build), (new, new_build)] {
        let mut options = intake::Options::new(folder, title.clone());
        options.build = Some(build.parse()?);
        let taken = intake::apply(&yard, &intake::plan(&yard, options, &ctx)?, &ctx)?;
        println!("{}: {} files, {} new contents", taken.build, taken.totals.files, taken.new_contents);

        let name = TwinName::new(format!("my {build}"))?;
        let plan = clone::plan(&yard, &Source::Stock(taken.build), &name, clone::Options::default(), &ctx)?;
        let twin = clone::apply(&yard, &plan, &ctx)?;
        println!("{} is in {}", twin.name, twin.folder.display());
    }
    for build in [old_build, new_build] {
        let name = TwinName::new(format!("my {build}"))?;
        let options = play::Options::default();
        let run = play::start(&yard, &play::plan(&yard, &name, &options, &ctx)?, &options, &ctx)?.wait(&ctx)?;
        println!("{name} ran: {}", run.report.summary());
    }
    Ok(ExitCode::SUCCESS)
}
