//! Pellwick, an emulator of a made-up home micro: without `inplace.flag` and `reels/` beside it, it writes into the
//! user's home.

use std::fs;
use std::io;
use std::path::PathBuf;
use std::process::ExitCode;

use crate::say;

pub(crate) fn run(_arguments: &[String]) -> io::Result<ExitCode> {
    let program = std::env::current_exe()?;
    let folder = program.parent().ok_or_else(|| io::Error::other("the emulator is not in a folder"))?;
    let version = fs::read_to_string(folder.join("VERSION"))?;
    let in_place = folder.join("inplace.flag").exists() && folder.join("reels").is_dir();
    let reels = if in_place {
        folder.join("reels")
    } else {
        let home = std::env::var_os("HOME").ok_or_else(|| io::Error::other("nobody has a home here"))?;
        PathBuf::from(home).join(".pellwick/reels")
    };
    fs::create_dir_all(&reels)?;
    let number = (1..).find(|n| !reels.join(format!("reel-{n}.tape")).exists()).unwrap_or(1);
    fs::write(reels.join(format!("reel-{number}.tape")), format!("10 PRINT {number}\n"))?;
    let place = if in_place { "in place" } else { "in the home" };
    say(&format!("Pellwick {}: reel {number} written {place}", version.trim()));
    Ok(ExitCode::SUCCESS)
}
