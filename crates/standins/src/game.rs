//! Wexcombe Junction, a railway-signalling game: reads its panel settings, writes a shift into its folder and one
//! setting into its home, and says which build it is.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::time::Duration;

use crate::say;

struct Options {
    shifts: u32,
    leave_with: u8,
    stay: bool,
}

fn options(arguments: &[String]) -> io::Result<Options> {
    let mut options = Options { shifts: 1, leave_with: 0, stay: false };
    let mut arguments = arguments.iter();
    while let Some(argument) = arguments.next() {
        let number = || io::Error::other(format!("{argument} wants a number"));
        match argument.as_str() {
            "--shifts" => {
                options.shifts = arguments.next().and_then(|n| n.parse().ok()).ok_or_else(number)?;
            }
            "--leave-with" => {
                options.leave_with = arguments.next().and_then(|n| n.parse().ok()).ok_or_else(number)?;
            }
            "--stay" => options.stay = true,
            other => return Err(io::Error::other(format!("the signalman knows no {other}"))),
        }
    }
    Ok(options)
}

pub(crate) fn run(arguments: &[String]) -> io::Result<ExitCode> {
    let options = options(arguments)?;
    let folder = own_folder()?;
    let release: serde_json::Value = serde_json::from_str(&fs::read_to_string(folder.join("release.json"))?)?;
    let build = release["build"].as_str().unwrap_or("of unknown build");
    let width = panel_width(&folder).unwrap_or_else(|| "1280".into());
    say(&format!("Wexcombe Junction {build}, panel {width} wide"));
    for _ in 0..options.shifts {
        let shift = work_shift(&folder, build)?;
        say(&format!("shift worked: {shift}"));
    }
    remember_signalman(options.shifts)?;
    if options.stay {
        say("waiting for the relief signalman");
        // Until somebody closes the game.
        loop {
            std::thread::sleep(Duration::from_secs(1));
        }
    }
    Ok(ExitCode::from(options.leave_with))
}

/// The game's folder: the program is in its `bin`.
fn own_folder() -> io::Result<PathBuf> {
    let program = std::env::current_exe()?;
    let folder = program.parent().and_then(Path::parent);
    folder.map(Path::to_path_buf).ok_or_else(|| io::Error::other("the game is not in a folder"))
}

fn panel_width(folder: &Path) -> Option<String> {
    let text = fs::read_to_string(folder.join("cabin/panel.ini")).ok()?;
    text.lines().find_map(|line| Some(line.strip_prefix("width")?.trim().strip_prefix('=')?.trim().to_owned()))
}

fn work_shift(folder: &Path, build: &str) -> io::Result<String> {
    let shifts = folder.join("cabin/shifts");
    fs::create_dir_all(&shifts)?;
    let number = (1..).find(|n| !shifts.join(format!("shift-{n:03}.wjs")).exists()).unwrap_or(1);
    let name = format!("shift-{number:03}.wjs");
    fs::write(shifts.join(&name), format!("shift {number}\nbuild {build}\ntrains {}\n", 7 * number + 3))?;
    Ok(name)
}

/// One setting that the game keeps in the user's home.
fn remember_signalman(shifts: u32) -> io::Result<()> {
    let home = std::env::var_os("HOME").map(PathBuf::from);
    let base = std::env::var_os("XDG_CONFIG_HOME").map(PathBuf::from).or(home.map(|home| home.join(".config")));
    let base = base.ok_or_else(|| io::Error::other("nobody has a home here"))?.join("wexcombe");
    fs::create_dir_all(&base)?;
    let path = base.join("signalman.ini");
    let worked = fs::read_to_string(&path)
        .ok()
        .and_then(|text| text.lines().find_map(|line| line.strip_prefix("worked = ")?.parse::<u32>().ok()))
        .unwrap_or(0);
    fs::write(path, format!("[signalman]\nworked = {}\n", worked + shifts))
}
