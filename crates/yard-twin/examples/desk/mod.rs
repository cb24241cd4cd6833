//! A yard of made-up data in a temporary folder, for an example that is started without arguments.
#![allow(dead_code)]

use std::error::Error;
use std::path::Path;

use yard_twin::{Ctx, Source, Title, TwinName, Yard, clone, intake};

/// Two twins, each on a build of its own.
pub(crate) const TWINS: [(&str, &str); 2] = [("evening shift", "1.4"), ("night turn", "2.0")];

/// The title of the demo.
pub(crate) const TITLE: &str = "wexcombe";

pub(crate) struct Desk {
    pub(crate) yard: Yard,
    pub(crate) place: tempfile::TempDir,
}

impl Desk {
    /// Two builds of the demo's game, taken in, and a twin of each.
    pub(crate) fn new() -> Result<Self, Box<dyn Error>> {
        let place = tempfile::Builder::new().prefix("yard-twin-example").tempdir()?;
        let (yard, ctx) = (Yard::init(place.path().join("yard"))?, Ctx::new());
        std::fs::write(yard.sheet_path(&Title::new(TITLE)?), standins::WEXCOMBE_SHEET)?;
        for (twin, build) in TWINS {
            let installed = Self::install(place.path(), build)?;
            let options = intake::Options::new(installed, Title::new(TITLE)?);
            let taken = intake::apply(&yard, &intake::plan(&yard, options, &ctx)?, &ctx)?;
            let (source, name) = (Source::Stock(taken.build), TwinName::new(twin)?);
            let plan = clone::plan(&yard, &source, &name, clone::Options::default(), &ctx)?;
            clone::apply(&yard, &plan, &ctx)?;
        }
        Ok(Self { yard, place })
    }

    /// Installs a build: its program is this very one, which becomes the game when it is started as `wexcombe`.
    pub(crate) fn install(place: &Path, build: &str) -> Result<std::path::PathBuf, Box<dyn Error>> {
        let folder = place.join("installed").join(build);
        standins::write_wexcombe(&folder, build, &std::env::current_exe()?)?;
        Ok(folder)
    }
}
