//! From two installed folders to two twins that stand side by side and start separately.
//!
//! usage: `two_builds`, in a temporary folder; or `two_builds YARD TITLE FOLDER BUILD FOLDER BUILD`
#![allow(clippy::print_stdout)]

mod desk;

use std::error::Error;
use std::path::Path;
use std::process::ExitCode;

use yard_twin::{CloneOptions, Ctx, IntakeOptions, LaunchOptions, Source, Title, TwinName, Yard, launch_helper};

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
        let mut options = IntakeOptions::new(folder, title.clone());
        options.build = Some(build.parse()?);
        let taken = yard.apply_intake(&yard.plan_intake(options, &ctx)?, &ctx)?;
        println!("{}: {} files, {} new contents", taken.build, taken.totals.files, taken.new_contents);

        let name = TwinName::new(format!("my {build}"))?;
        let plan = yard.plan_clone(&Source::Stock(taken.build), &name, CloneOptions::default(), &ctx)?;
        let twin = yard.apply_clone(&plan, &ctx)?;
        println!("{} is in {}", twin.name, twin.folder.display());
    }
    for build in [old_build, new_build] {
        let name = TwinName::new(format!("my {build}"))?;
        let options = LaunchOptions::default();
        let run = yard.launch(&yard.plan_launch(&name, &options, &ctx)?, &options, &ctx)?.wait(&ctx)?;
        println!("{name} ran: {}", run.report.summary());
    }
    Ok(ExitCode::SUCCESS)
}
