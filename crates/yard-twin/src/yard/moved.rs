//! Taking the source of an intake away, and files of it that become the pool's own where they lie.
//!
//! What is done to such files is written down first, so that a move that was cut off is taken to its end or taken back. Until
//! the intent is written, only modes have changed. From then on the stock build decides: where it is in the catalogue, the
//! rest of the source goes; where it isn't, the files that are in the pool by then go back.

use std::collections::BTreeSet;
use std::io;
use std::path::{Path, PathBuf};

use rustix::fs::{CWD, FileType};
use serde::{Deserialize, Serialize};

use crate::Yard;
use crate::disk::{self, Stat};
use crate::error::{Error, PathContext, Result};
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
    /// The inode of a file that becomes the pool's by a rename.
    pub(crate) own: Option<u64>,
    /// How it looked when it was read: not known any more after a crash.
    #[serde(skip)]
    pub(crate) stat: Option<Stat>,
}

/// What became of a source folder that was to be taken away.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct TakenAway {
    /// Files and symlinks that were deleted.
    pub deleted: u64,
    /// What was left, each with its reason: it changed since it was taken in, another program has it open, or it could not
    /// be deleted.
    pub left: Vec<String>,
    /// Whether the folder is gone altogether.
    pub folder_gone: bool,
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
    for Lent { path, ino, mode } in lent(op)? {
        let lent = |now: &Stat| now.ino == ino && now.is_file() && now.mode & 0o222 == 0 && now.mode != mode;
        if disk::lstat(&path).is_ok_and(|now| lent(&now)) {
            disk::change_mode(CWD, &path, |_| mode & 0o7777).at("set the mode of", &path)?;
        }
    }
    Ok(())
}

fn lent(op: &Path) -> Result<Vec<Lent>> {
    let text = read(&op.join(MODES))?;
    // One that was cut off while it was written: no mode had changed yet.
    Ok(text.and_then(|text| serde_json::from_slice(&text).ok()).unwrap_or_default())
}

/// Takes a move to its end that was cut off, or takes it back. The caller holds the yard's exclusive lock.
///
/// # Errors
/// [`Error::Damaged`] if what was written down can't be understood: then nothing is done.
pub(crate) fn finish(yard: &Yard, op: &Path, committed: bool) -> Result<()> {
    let path = op.join(MOVES);
    let Some(text) = read(&path)? else { return put_modes_back(op) };
    let unreadable = |error: serde_json::Error| Error::Damaged { path: path.clone(), why: error.to_string() };
    let (source, moving): (PathBuf, Vec<Moving>) = serde_json::from_slice(&text).map_err(unreadable)?;
    let ledger = Ledger::load(&yard.store.pool)?;
    let done = if committed {
        let TakenAway { left, .. } = take_away(&source, &moving, &ledger);
        left.iter().for_each(|left| tracing::warn!(left, "was moved, and is left at its source"));
        Ok(())
    } else {
        take_all_back(yard, &moving, &lent(op)?, &ledger)
    };
    ledger.save(op)?;
    done.and_then(|()| put_modes_back(op))?;
    // Whoever deletes the folder later finds nothing to put back: other files may have these names by then.
    disk::remove_if_there(&op.join(MODES))?;
    disk::remove_if_there(&path)
}

/// Deletes what was taken in from a folder, or a file, and the folders of it that are empty then. What was left out of the intake stays, and so does what
/// changed since, or what somebody has open. The caller holds the yard's exclusive lock.
pub(crate) fn take_away(source: &Path, moving: &[Moving], ledger: &Ledger) -> TakenAway {
    let (mut taken, mut folders) = (TakenAway::default(), BTreeSet::from([source.to_path_buf()]));
    for moving in moving {
        let mut parent = moving.path.parent();
        let inside = |folder: &Path| folder != source && folder.starts_with(source);
        while let Some(folder) = parent.filter(|folder| inside(folder) && folders.insert(folder.to_path_buf())) {
            parent = folder.parent();
        }
        match take_one_away(moving, ledger) {
            // By the rename.
            Ok(Away::Gone) => taken.deleted += u64::from(moving.own.is_some()),
            Ok(Away::Folder) => {
                folders.insert(moving.path.clone());
            }
            Ok(Away::Deleted) => taken.deleted += 1,
            Err(why) => taken.left.push(format!("{} ({why})", moving.path.display())),
        }
    }
    for folder in folders.iter().rev() {
        // A folder that isn't empty stays.
        let _ = disk::remove_folder(folder);
    }
    taken.folder_gone = !disk::exists(source);
    taken
}

/// As [`take_away`], by itself.
pub(crate) fn take_away_alone(yard: &Yard, source: &Path, moving: &[Moving], ctx: &Ctx) -> Result<TakenAway> {
    let op = yard.begin(ctx)?;
    let _alone = yard.alone(ctx)?;
    let ledger = Ledger::load(&yard.store.pool)?;
    let taken = take_away(source, moving, &ledger);
    ledger.save(op.path())?;
    Ok(taken)
}

/// What became of one name.
enum Away {
    /// It was not there any more.
    Gone,
    /// It is a folder, which goes once it is empty.
    Folder,
    Deleted,
}

/// Deletes one name; or says why not.
fn take_one_away(moving: &Moving, ledger: &Ledger) -> Result<Away, String> {
    let now = match disk::lstat(&moving.path) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Away::Gone),
        now => now.map_err(|error| error.to_string())?,
    };
    if FileType::from_raw_mode(now.mode) == FileType::Directory {
        return Ok(Away::Folder);
    }
    if !is_as_taken_in(moving, &now) {
        return Err("it changed since it was taken in".into());
    }
    if now.is_file() && disk::is_held(CWD, &moving.path).map_err(|error| error.to_string())? {
        return Err("another program has it open".into());
    }
    let telling = |before: &Stat, after: &Stat| ledger.moved(before, after);
    disk::remove_tree_telling(&moving.path, &telling).map_err(|error| error.with_causes())?;
    Ok(Away::Deleted)
}

/// Whether a name still is what was taken in: by how it looked then or, after a crash, by what it holds.
fn is_as_taken_in(moving: &Moving, now: &Stat) -> bool {
    let is_link = FileType::from_raw_mode(now.mode) == FileType::Symlink;
    match (moving.stat, moving.content) {
        (Some(seen), _) => now.same_bytes(&seen),
        (None, None) => is_link,
        (None, Some(content)) => {
            let reads = reads_as(&moving.path, &mut vec![0; disk::BUFFER], &Ctx::default());
            !is_link && reads.is_ok_and(|is| is == content)
        }
    }
}

/// Gives the source back what is the pool's already, and survives a power loss.
fn take_all_back(yard: &Yard, moving: &[Moving], lent: &[Lent], ledger: &Ledger) -> Result<()> {
    let mut taken = false;
    for moving in moving {
        let Some(path) = take_back(yard, moving, ledger)? else { continue };
        taken = true;
        if path != moving.path {
            let beside = lent.iter().find(|lent| Some(lent.ino) == moving.own);
            beside.map_or(Ok(()), |lent| disk::set_mode(&path, lent.mode & 0o7777))?;
        }
    }
    if taken { disk::sync_filesystem(yard.store.pool.root()) } else { Ok(()) }
}

/// Where it is again, if the pool had it.
fn take_back(yard: &Yard, moving: &Moving, ledger: &Ledger) -> Result<Option<PathBuf>> {
    let (Some(content), Some(own)) = (moving.content, moving.own) else { return Ok(None) };
    let pooled = yard.store.pool.path(content);
    match disk::lstat(&pooled) {
        Ok(there) if there.ino == own => {}
        Ok(_) => return Ok(None),
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
        Err(error) => return Err(error).at("look at", &pooled),
    }
    moving.path.parent().map_or(Ok(()), disk::make_folders)?;
    ledger.forget(own);
    let mut to = moving.path.clone();
    loop {
        match disk::rename_new(&pooled, &to) {
            // Something else has got its name.
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {
                to.as_mut_os_string().push(".back");
                tracing::warn!(path = %to.display(), "is given back beside what has its name by now");
            }
            renamed => return renamed.map(|()| Some(to.clone())).at("give back", &to),
        }
    }
}

fn read(path: &Path) -> Result<Option<Vec<u8>>> {
    match disk::read_own(path, 1 << 30) {
        Err(error) if matches!(error.kind(), io::ErrorKind::NotFound | io::ErrorKind::NotADirectory) => Ok(None),
        text => text.at("read", path).map(Some),
    }
}
