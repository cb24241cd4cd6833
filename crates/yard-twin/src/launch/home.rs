//! A twin's own home: the folders that a program expects to find there, and the variables that lead to it.

use std::collections::BTreeMap;
use std::ffi::OsString;
use std::fs;
use std::io::{ErrorKind, Write};
use std::path::{Path, PathBuf};

use crate::disk::{self, Folders};
use crate::error::{Error, PathContext, Result};

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
    if !disk::exists(home) {
        disk::make_folders(home)?;
    }
    // A program may have put symlinks there: nothing is written through one.
    let mut inside = Folders::new(home)?;
    let mut made = false;
    for (_, folder) in BASES.iter().chain(&FOLDERS) {
        made |= unless_in_the_way(make_below(&mut inside, folder))?;
    }
    Ok(unless_in_the_way(say_where(&mut inside, home))? || made)
}

/// Makes a folder below the home, and those that lead to it. Says whether there was anything to make.
fn make_below(inside: &mut Folders<'_>, folder: &str) -> Result<bool> {
    let mut made = false;
    for (end, _) in folder.match_indices('/').chain([(folder.len(), "")]) {
        let (parent, name) = folder[..end].rsplit_once('/').unwrap_or(("", &folder[..end]));
        if inside.find(&folder[..end])?.is_none() {
            disk::make_folder_at(inside.get(parent)?, name).at("make the folder", name)?;
            made = true;
        }
    }
    Ok(made)
}

/// Makes the file that says where the well-known folders are, if there is none.
fn say_where(inside: &mut Folders<'_>, home: &Path) -> Result<bool> {
    const FILE: &str = "user-dirs.dirs";
    let Some(folder) = inside.find(".config")? else { return Ok(false) };
    if disk::stat_at(folder, FILE).is_ok() {
        return Ok(false);
    }
    let none =
        ["XDG_DESKTOP_DIR", "XDG_PUBLICSHARE_DIR", "XDG_TEMPLATES_DIR"].map(|name| format!("{name}=\"$HOME/\"\n"));
    let own = FOLDERS.map(|(name, folder)| format!("{name}=\"$HOME/{folder}\"\n"));
    let path = || home.join(".config").join(FILE);
    let mut file = disk::create_file(folder, FILE, 0o666).at("make", path())?;
    file.write_all((none.concat() + &own.concat()).as_bytes()).at("write", path())?;
    Ok(true)
}

/// Something else that is there stays: that is no error.
fn unless_in_the_way(made: Result<bool>) -> Result<bool> {
    match made {
        Err(error) if is_in_the_way(&error) => {
            tracing::debug!(%error, "something else is there: it stays");
            Ok(false)
        }
        made => made,
    }
}

/// Whether a file stands where a folder should be: a program put it there, and it is its own.
fn is_in_the_way(error: &Error) -> bool {
    let kind = |error: &std::io::Error| {
        let link = rustix::io::Errno::LOOP.raw_os_error();
        matches!(error.kind(), ErrorKind::AlreadyExists | ErrorKind::NotADirectory)
            || error.raw_os_error() == Some(link)
    };
    matches!(error, Error::Io { source, .. } if kind(source))
}

/// The paths that [`prepare`] makes, below the twin's folder.
pub(crate) fn prepared() -> impl Iterator<Item = String> {
    let folders = BASES.iter().chain(&FOLDERS).map(|(_, folder)| *folder);
    folders.chain([".config/user-dirs.dirs"]).map(|path| format!("home/{path}"))
}

/// Whether [`prepare`] makes what is at a path below the twin's folder, or makes something in it.
pub(crate) fn makes(path: &str) -> bool {
    prepared().any(|made| made.strip_prefix(path).is_some_and(|rest| rest.is_empty() || rest.starts_with('/')))
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
