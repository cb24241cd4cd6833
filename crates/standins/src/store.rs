//! Parcelgate, the stand-in store client: owns one folder per title, fetches a channel, overwrites what it finds.

use std::io;
use std::path::Path;
use std::process::ExitCode;

use crate::{WEXCOMBE_BUILDS, say, write_wexcombe};

pub(crate) fn run(arguments: &[String]) -> io::Result<ExitCode> {
    let [library, channel] = arguments else {
        return Err(io::Error::other("usage: parcelgate LIBRARY CHANNEL"));
    };
    let Some((build, _)) = WEXCOMBE_BUILDS.iter().find(|(_, known)| known == channel) else {
        let known: Vec<_> = WEXCOMBE_BUILDS.iter().map(|(_, channel)| *channel).collect();
        return Err(io::Error::other(format!("there is no channel {channel:?}; there are {}", known.join(", "))));
    };
    let folder = Path::new(library).join("Wexcombe Junction");
    write_wexcombe(&folder, build, &std::env::current_exe()?)?;
    say(&format!("Wexcombe Junction, channel {channel}: build {build} is in {}", folder.display()));
    Ok(ExitCode::SUCCESS)
}
