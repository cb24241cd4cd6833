//! Files of a source that become the pool's own where they lie: what was done to them is written down first, so that a move
//! that was cut off is taken to its end or taken back.
//!
//! Until the intent is written, only modes have changed, and links in the operation's folder were made. From then on the
//! stock build decides: where it is in the catalogue, the source's names go; where it isn't, the pool's do.

use std::collections::BTreeSet;
use std::io;
use std::path::{Path, PathBuf};

use rustix::fs::{CWD, FileType};
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};

use crate::Yard;
use crate::disk::{self, Stat};
use crate::error::{PathContext, Result};
use crate::ident::ContentId;
use crate::progress::Ctx;
use crate::store::pool::{Ledger, reads_as};

/// The file in the operation's folder that says which modes files had.
const MODES: &str = "modes";
/// The one that says what the source's files hold.
const MOVES: &str = "moves";

/// A file whose mode is changed for the time of a move.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct Lent {
    pub(crate) path: PathBuf,
    pub(crate) ino: u64,
    pub(crate) mode: u32,
}

/// A file that goes once the build is in the catalogue.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct Moving {
    pub(crate) path: PathBuf,
    pub(crate) content: Option<ContentId>,
    /// How it looked when it was read: not known any more after a crash.
    #[serde(skip)]
    pub(crate) stat: Option<Stat>,
}

/// What of a source has gone.
#[derive(Debug, Default)]
pub(crate) struct Gone {
    pub(crate) deleted: u64,
    /// What was left, each with its reason.
    pub(crate) left: Vec<String>,
}

/// Writes down which files are about to lose their right to be written, and survives a power loss.
pub(crate) fn lend(op: &Path, lent: &[Lent]) -> Result<()> {
    disk::write_synced(&op.join(MODES), &serde_json::to_vec(lent).unwrap_or_default())
}

/// Writes down what is about to move.
pub(crate) fn announce(op: &Path, source: &Path, moving: &[Moving]) -> Result<()> {
    disk::write_synced(&op.join(MOVES), &serde_json::to_vec(&(source, moving)).unwrap_or_default())
}

/// Gives files their modes back that are still where they were.
pub(crate) fn put_modes_back(op: &Path) -> Result<()> {
    let lent: Vec<Lent> = read(&op.join(MODES))?.unwrap_or_default();
    for Lent { path, ino, mode } in lent {
        let lent = |now: &Stat| now.ino == ino && now.is_file() && now.mode & 0o222 == 0 && now.mode != mode;
        if disk::lstat(&path).is_ok_and(|now| lent(&now)) {
            disk::change_mode(CWD, &path, |_| mode & 0o7777).at("set the mode of", &path)?;
        }
    }
    Ok(())
}

/// Takes a move to its end that was cut off, or takes it back. The caller holds the yard's exclusive lock.
pub(crate) fn finish(yard: &Yard, op: &Path, committed: bool) -> Result<()> {
    if let Some((source, moving)) = read::<(PathBuf, Vec<Moving>)>(&op.join(MOVES))? {
        let ledger = Ledger::load(&yard.store.pool)?;
        let done = if committed {
            let gone = take_away(yard, &source, &moving, &ledger);
            gone.left.iter().for_each(|left| tracing::warn!(left, "was moved, and is left at its source"));
            Ok(())
        } else {
            moving.iter().try_for_each(|moving| take_back(yard, moving, &ledger))
        };
        ledger.save(op)?;
        done?;
    }
    put_modes_back(op)
}

/// Deletes what was taken in, and the folders that are empty then. What has changed since stays.
pub(crate) fn take_away(yard: &Yard, source: &Path, moving: &[Moving], ledger: &Ledger) -> Gone {
    let (mut gone, mut folders) = (Gone::default(), BTreeSet::from([source.to_path_buf()]));
    for moving in moving {
        let mut parent = moving.path.parent();
        while let Some(folder) = parent.filter(|folder| *folder != source && folders.insert(folder.to_path_buf())) {
            parent = folder.parent();
        }
        let now = match disk::lstat(&moving.path) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => continue,
            Err(error) => {
                gone.left.push(format!("{} ({error})", moving.path.display()));
                continue;
            }
            Ok(now) => now,
        };
        if FileType::from_raw_mode(now.mode) == FileType::Directory {
            folders.insert(moving.path.clone());
            continue;
        }
        let why = if is_taken_in(yard, moving, &now) {
            let telling = |before: &Stat, after: &Stat| ledger.moved(before, after);
            disk::remove_tree_telling(&moving.path, &telling).err().map(|error| error.to_string())
        } else {
            Some("it changed since it was taken in".to_owned())
        };
        match why {
            None => gone.deleted += 1,
            Some(why) => gone.left.push(format!("{} ({why})", moving.path.display())),
        }
    }
    for folder in folders.iter().rev() {
        // A folder that isn't empty stays.
        let _ = disk::remove_folder(folder);
    }
    gone
}

/// Whether the pool has what a file of the source holds now.
fn is_taken_in(yard: &Yard, moving: &Moving, now: &Stat) -> bool {
    let Some(content) = moving.content else {
        // A symlink is in the listing.
        let is_link = FileType::from_raw_mode(now.mode) == FileType::Symlink;
        return is_link && moving.stat.is_none_or(|seen| now.same_bytes(&seen));
    };
    let Ok(pooled) = disk::lstat(&yard.store.pool.path(content)) else { return false };
    if (pooled.dev, pooled.ino) == (now.dev, now.ino) {
        // The pool's own, which the ledger vouches for.
        return true;
    }
    let reads = || reads_as(&moving.path, &mut vec![0; disk::BUFFER], &Ctx::default());
    moving.stat.map_or_else(|| reads().is_ok_and(|is| is == content), |seen| now.same_bytes(&seen))
}

/// Takes the pool's name from a file that stays at its source.
fn take_back(yard: &Yard, moving: &Moving, ledger: &Ledger) -> Result<()> {
    let Some(content) = moving.content else { return Ok(()) };
    let (Ok(now), Ok(pooled)) = (disk::lstat(&moving.path), disk::lstat(&yard.store.pool.path(content))) else {
        return Ok(());
    };
    if (pooled.dev, pooled.ino) == (now.dev, now.ino) {
        yard.store.pool.delete([content], ledger)?;
    }
    Ok(())
}

fn read<T: DeserializeOwned>(path: &Path) -> Result<Option<T>> {
    match disk::read_own(path, 1 << 30) {
        Err(error) if matches!(error.kind(), io::ErrorKind::NotFound | io::ErrorKind::NotADirectory) => Ok(None),
        text => Ok(serde_json::from_slice(&text.at("read", path)?).ok()),
    }
}
