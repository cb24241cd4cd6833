//! Folders outside a twin that its programs are shown on purpose.

use std::path::{Path, PathBuf};

use serde::Serialize;

use crate::disk;
use crate::error::{LaunchError, Result};

/// A folder outside that a program is shown.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct Reached {
    /// The folder.
    pub folder: PathBuf,
    /// Whether it may be written to: what is done there can't be undone.
    pub writable: bool,
    /// Whether it is not there now, and so is not shown.
    pub missing: bool,
}

/// The system's own places, which no program's view can do without, or gets of its own.
const SYSTEM: [&str; 7] = ["/dev", "/proc", "/run", "/sys", "/tmp", "/var", "/var/tmp"];

/// The folders that are named to be read, and to be written to.
///
/// # Errors
/// [`LaunchError::Setting`] for one that can't be shown.
pub(crate) fn reached((read, written): (&[PathBuf], &[PathBuf]), yard: &Path) -> Result<Vec<Reached>> {
    let named = read.iter().map(|folder| (folder, false));
    let named = named.chain(written.iter().map(|folder| (folder, true)));
    let reached = named.map(|(folder, writable)| match disk::canonical(folder) {
        Ok(there) if there.is_dir() => {
            check(&there, yard)?;
            Ok(Reached { folder: there, writable, missing: false })
        }
        _ => Ok(Reached { folder: folder.clone(), writable, missing: true }),
    });
    reached.collect()
}

/// The folder as it is written down: absolute, and without links in its path.
///
/// # Errors
/// [`LaunchError::Setting`] if there is none, or it can't be shown.
pub(crate) fn named(folder: &str, yard: &Path) -> Result<PathBuf> {
    let there = disk::canonical(Path::new(folder)).ok().filter(|there| there.is_dir());
    let there = there.ok_or_else(|| refuse(folder, "there is no such folder"))?;
    check(&there, yard)?;
    if there.to_str().is_none() { Err(refuse(folder, "its name is not UTF-8")) } else { Ok(there) }
}

fn check(folder: &Path, yard: &Path) -> Result<()> {
    let home = std::env::var_os("HOME").and_then(|home| disk::canonical(Path::new(&home)).ok());
    let why = if folder.parent().is_none() {
        "it is all there is"
    } else if yard.starts_with(folder) || folder.starts_with(yard) {
        "the yard is in it, or it is in the yard"
    } else if home.is_some_and(|home| home.starts_with(folder)) {
        "it is your home, or your home is in it: the twin has one of its own"
    } else if SYSTEM.iter().any(|place| folder == Path::new(place))
        || ["/dev", "/proc", "/sys"].iter().any(|place| folder.starts_with(place))
    {
        "it is the system's own"
    } else {
        return Ok(());
    };
    Err(refuse(&folder.display().to_string(), why))
}

fn refuse(folder: &str, why: &str) -> crate::Error {
    LaunchError::Setting { key: "reach".into(), what: "set", why: format!("{folder} can't be shown: {why}") }.into()
}
