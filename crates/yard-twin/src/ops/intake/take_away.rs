//! Taking the source of an intake away once everything is safe.

use std::collections::BTreeSet;
use std::path::Path;

use serde::Serialize;

use crate::disk;
use crate::scan::{Kind, Seen};

/// What became of a source folder that was to be taken away.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct TakenAway {
    /// Files and symlinks that were deleted.
    pub deleted: u64,
    /// What was left, each with its reason: it changed since it was taken in, or could not be deleted.
    pub left: Vec<String>,
    /// Whether the folder is gone altogether.
    pub folder_gone: bool,
}

/// Deletes what was taken in, and the folders that are empty then. What was left out of the intake stays, and so does
/// what changed since.
pub(crate) fn take_away(source: &Path, taken: &[Seen]) -> TakenAway {
    let mut outcome = TakenAway::default();
    let mut folders = BTreeSet::new();
    for seen in taken {
        let Some(below) = seen.path.as_str().strip_prefix("game/") else { continue };
        let path = source.join(below);
        let mut parent = Path::new(below).parent();
        while let Some(folder) = parent.filter(|folder| folders.insert(source.join(folder))) {
            parent = folder.parent();
        }
        let deleted = match (&seen.kind, disk::lstat(&path)) {
            (Kind::EmptyFolder, _) => {
                folders.insert(path);
                continue;
            }
            (_, Ok(now)) if !now.same_bytes(&seen.stat) => Err("it changed since it was taken in".to_owned()),
            (_, Ok(_)) => disk::remove_file(&path).map_err(|error| error.to_string()),
            (_, Err(error)) => Err(error.to_string()),
        };
        match deleted {
            Ok(()) => outcome.deleted += 1,
            Err(why) => outcome.left.push(format!("{} ({why})", path.display())),
        }
    }
    folders.insert(source.into());
    for folder in folders.iter().rev() {
        // A folder that isn't empty stays.
        let _ = disk::remove_folder(folder);
    }
    outcome.folder_gone = !disk::exists(source);
    outcome
}
