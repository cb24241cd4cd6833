//! Which program starts a twin, with which arguments, where.

use std::path::{Path, PathBuf};

use crate::disk;
use crate::error::{Error, LaunchError, Result};
use crate::path::RelPath;
use crate::profile::Profile;
use crate::sheet::Sheet;

/// The program that is chosen: paths below the game folder.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Chosen {
    pub(crate) program: String,
    pub(crate) arguments: Vec<String>,
    pub(crate) folder: String,
    /// Whether it may be started again while it runs.
    pub(crate) several: bool,
}

/// The program that the profile names, else the sheet's.
pub(crate) fn choose(sheet: Option<&Sheet>, profile: &Profile) -> Option<Chosen> {
    let named = profile.program.as_ref().or_else(|| sheet?.program.as_ref())?;
    let known = sheet.and_then(|sheet| sheet.programs.get(named));
    let mut chosen = match known {
        Some(program) => Chosen {
            program: program.here()?.to_owned(),
            arguments: program.arguments.clone(),
            folder: program.folder.clone(),
            several: program.several,
        },
        // A path of its own: it starts in the game folder.
        None => Chosen { program: named.clone(), arguments: Vec::new(), folder: String::new(), several: false },
    };
    if let Some(arguments) = &profile.arguments {
        chosen.arguments.clone_from(arguments);
    }
    Some(chosen)
}

/// Whether the program that a profile names can be one: a program of the sheet, or a path inside the game folder.
pub(crate) fn check_program(profile: &Profile, sheet: Option<&Sheet>) -> Result<()> {
    let Some(named) = &profile.program else { return Ok(()) };
    if sheet.is_some_and(|sheet| sheet.programs.contains_key(named)) || RelPath::new(named.as_str()).is_ok() {
        return Ok(());
    }
    let why = "it is neither a program of the title sheet nor a path inside the game folder".into();
    Err(LaunchError::Setting { key: "program".into(), what: "set", why }.into())
}

/// Where the chosen program and its working folder are, if they are there and nothing leads out of the game folder.
pub(crate) fn locate(chosen: &Chosen, game: &Path) -> Result<(PathBuf, PathBuf)> {
    let program = inside(game, &chosen.program)?;
    let stat = match program.metadata() {
        Ok(meta) if meta.is_file() => meta,
        _ => return Err(LaunchError::ProgramMissing(program).into()),
    };
    if std::os::unix::fs::PermissionsExt::mode(&stat.permissions()) & 0o111 == 0 {
        return Err(LaunchError::NotExecutable(program).into());
    }
    let folder = if chosen.folder.is_empty() { game.to_path_buf() } else { inside(game, &chosen.folder)? };
    if folder.is_dir() { Ok((program, folder)) } else { Err(LaunchError::ProgramMissing(folder).into()) }
}

/// The path below `game`, if it really is there once every symlink is followed.
fn inside(game: &Path, path: &str) -> Result<PathBuf> {
    let missing = || Error::from(LaunchError::ProgramMissing(game.join(path)));
    let below = RelPath::new(path)?.below(game);
    let real = disk::canonical(&below).map_err(|_| missing())?;
    if real.starts_with(disk::canonical(game)?) { Ok(below) } else { Err(missing()) }
}
