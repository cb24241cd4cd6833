//! A command that is run on a twin in its program's place: an installer, a patcher, a file manager.

use std::ffi::OsString;
use std::path::{Path, PathBuf};

use crate::disk;
use crate::error::{Error, LaunchError, Noun, Result};

/// The system's own programs and what they need: every program sees these.
const SYSTEM: [&str; 8] = ["/usr", "/bin", "/sbin", "/lib", "/lib64", "/etc", "/opt", "/nix"];

/// What is started, and which folders outside it must see.
pub(super) struct Tool {
    pub(super) program: PathBuf,
    pub(super) arguments: Vec<OsString>,
    /// Read-only.
    pub(super) sees: Vec<PathBuf>,
}

impl Tool {
    /// Of a command as it was typed: relative paths in it count from the current folder, unless the twin has such a file.
    pub(super) fn of(command: &[OsString], (twin, yard): (&Path, &Path)) -> Result<Self> {
        let Some((program, arguments)) = command.split_first() else {
            return Err(LaunchError::ProgramMissing(PathBuf::new()).into());
        };
        let name = program.display().to_string();
        let missing = || Error::NotFound { what: Noun::Command, name, known: Vec::new() };
        let program = found(Path::new(program), &twin.join("game")).ok_or_else(missing)?;
        let mut sees = vec![folder_of(&program)];
        let arguments = arguments.iter().map(|argument| {
            let path = Path::new(argument);
            // A word is no path, even where a file is called so by chance.
            let is_path = path.components().count() > 1 || path.extension().is_some();
            if !is_path || twin.join("game").join(path).exists() {
                return argument.clone();
            }
            let Ok(there) = disk::canonical(path) else { return argument.clone() };
            sees.push(folder_of(&there));
            there.into_os_string()
        });
        let arguments = arguments.collect();
        let is_seen =
            |folder: &PathBuf| SYSTEM.iter().any(|place| folder.starts_with(place)) || folder.starts_with(twin);
        sees.retain(|folder| !is_seen(folder) && !folder.starts_with(yard));
        sees.sort();
        sees.dedup();
        Ok(Self { program, arguments, sees })
    }
}

/// Where a program is: one with a path from the current folder on or in the game, one without in the system's.
fn found(program: &Path, game: &Path) -> Option<PathBuf> {
    let is_file = |path: &PathBuf| path.is_file();
    if program.components().count() > 1 {
        let here = disk::canonical(program).ok().filter(is_file);
        return here.or_else(|| Some(game.join(program)).filter(is_file));
    }
    let path = std::env::var_os("PATH")?;
    std::env::split_paths(&path).map(|folder| folder.join(program)).find(is_file)
}

/// The folder that must be seen for a file, or for a folder itself.
fn folder_of(path: &Path) -> PathBuf {
    if path.is_dir() { path.to_owned() } else { path.parent().map_or_else(PathBuf::new, Path::to_owned) }
}
