//! A twin's own home: the folders that a program expects to find there, and the variables that lead to it.

use std::collections::BTreeMap;
use std::ffi::OsString;
use std::fs;
use std::io::ErrorKind;
use std::path::{Path, PathBuf};

use crate::disk;
use crate::error::{Error, Result};

/// The base folders of the XDG Base Directory Specification, by variable, below the home.
const BASES: [(&str, &str); 4] = [
    ("XDG_CONFIG_HOME", ".config"),
    ("XDG_DATA_HOME", ".local/share"),
    ("XDG_STATE_HOME", ".local/state"),
    ("XDG_CACHE_HOME", ".cache"),
];

/// The well-known user folders that every home has; the others are the home itself, which stands for "none".
const FOLDERS: [(&str, &str); 5] = [
    ("XDG_DOCUMENTS_DIR", "Documents"),
    ("XDG_DOWNLOAD_DIR", "Downloads"),
    ("XDG_MUSIC_DIR", "Music"),
    ("XDG_PICTURES_DIR", "Pictures"),
    ("XDG_VIDEOS_DIR", "Videos"),
];

/// Makes what is missing: the base folders, the well-known ones, and the file that says where they are.
///
/// Programs ignore a base folder that isn't there, and without the file some find no documents folder at all.
/// Says whether anything was.
pub(crate) fn prepare(home: &Path) -> Result<bool> {
    let mut made = false;
    for folder in BASES.iter().chain(&FOLDERS).map(|(_, folder)| home.join(folder)) {
        if !folder.is_dir() {
            match disk::make_folders(&folder) {
                Ok(()) => made = true,
                Err(error) if is_in_the_way(&error) => tracing::debug!(%error, "something else is there: it stays"),
                Err(error) => return Err(error),
            }
        }
    }
    let file = home.join(".config/user-dirs.dirs");
    if disk::exists(&file) {
        return Ok(made);
    }
    let none =
        ["XDG_DESKTOP_DIR", "XDG_PUBLICSHARE_DIR", "XDG_TEMPLATES_DIR"].map(|name| format!("{name}=\"$HOME/\"\n"));
    let own = FOLDERS.map(|(name, folder)| format!("{name}=\"$HOME/{folder}\"\n"));
    match disk::write(&file, none.concat() + &own.concat()) {
        Err(error) if !is_in_the_way(&error) => Err(error),
        written => Ok(made || written.is_ok()),
    }
}

/// Whether a file stands where a folder should be: a program put it there, and it is its own.
fn is_in_the_way(error: &Error) -> bool {
    let kind = |error: &std::io::Error| matches!(error.kind(), ErrorKind::AlreadyExists | ErrorKind::NotADirectory);
    matches!(error, Error::Io { source, .. } if kind(source))
}

/// The paths that [`prepare`] makes, below the twin's folder.
pub(crate) fn prepared() -> impl Iterator<Item = String> {
    let folders = BASES.iter().chain(&FOLDERS).map(|(_, folder)| *folder);
    folders.chain([".config/user-dirs.dirs"]).map(|path| format!("home/{path}"))
}

/// Whether there is nothing in a home yet.
pub(crate) fn is_empty(home: &Path) -> bool {
    fs::read_dir(home).map_or(true, |mut entries| entries.next().is_none())
}

/// The variables that lead a program into `home`. The session's own (runtime folder, display, bus) stay as they are.
pub(crate) fn variables(home: &Path) -> BTreeMap<OsString, OsString> {
    let mut variables = folders(home);
    // Without it, X programs look for their key in the home, which is another one now.
    if let (None, Some(cookie)) = (std::env::var_os("XAUTHORITY"), cookie()) {
        variables.insert("XAUTHORITY".into(), cookie.into());
    }
    variables
}

/// The home and the base folders in it.
pub(crate) fn folders(home: &Path) -> BTreeMap<OsString, OsString> {
    let bases = BASES.iter().map(|(name, folder)| ((*name).into(), home.join(folder).into()));
    bases.chain([("HOME".into(), home.into())]).collect()
}

/// The file with the key to the display, if there is one.
pub(crate) fn cookie() -> Option<PathBuf> {
    let named = std::env::var_os("XAUTHORITY").map(PathBuf::from);
    let usual = || std::env::var_os("HOME").map(|home| Path::new(&home).join(".Xauthority"));
    named.or_else(usual).filter(|cookie| cookie.is_file())
}
