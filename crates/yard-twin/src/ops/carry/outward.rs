//! Belongings as plain files in a folder: a backup that needs no yard.

use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use serde::Serialize;

use super::incoming::{Selection, incoming_from_twin};
use super::{Options, party};
use crate::Yard;
use crate::combine::Incoming;
use crate::disk;
use crate::error::{CarryError, Error, Noun, PathContext, Result};
use crate::ident::TwinName;
use crate::listing::{Listing, Node};
use crate::progress::{Ctx, Phase};
use crate::store::pool::reads_as;
use crate::twin::planned::Seen;

/// What carrying belongings to a folder will do.
#[must_use = "a plan changes nothing until it is applied"]
#[derive(Debug, Serialize)]
#[non_exhaustive]
pub struct FolderPlan {
    /// The twin that they come from.
    pub from: TwinName,
    /// The folder that will hold them.
    pub folder: PathBuf,
    /// Each file: its path in the twin, which it has in the folder too.
    pub files: Vec<String>,
    /// Their bytes.
    pub bytes: u64,
    /// What can't be carried, each with its reason.
    pub left: Vec<String>,
    #[serde(skip)]
    coming: Vec<Incoming>,
    #[serde(skip)]
    private: Vec<bool>,
    #[serde(skip)]
    source: Seen,
}

/// What carrying belongings to a folder did.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct FolderOutcome {
    /// The folder.
    pub folder: PathBuf,
    /// How many files were written, read again, and found to be there byte for byte.
    pub verified: u64,
    /// Their bytes.
    pub bytes: u64,
    /// How long it took.
    #[serde(serialize_with = "crate::progress::seconds")]
    pub took: Duration,
}

/// Looks at what carrying belongings of a twin to a folder would do, which must not be there yet, or be empty. In it they have
/// the paths that they have in the twin, below `game` and `home`; [`Origin::Place`](super::Origin::Place) carries them from
/// there to a twin.
///
/// # Errors
/// As [`super::plan`]; [`Error::Exists`] if the folder holds anything, [`CarryError::NothingThere`] if the twin has nothing of
/// its own in those groups.
pub fn plan_to_folder(yard: &Yard, from: &TwinName, folder: &Path, options: &Options, ctx: &Ctx) -> Result<FolderPlan> {
    let folder = std::path::absolute(folder).at("find", folder)?;
    // By what is there of it already: a symlink may lead into the yard.
    let there = folder.ancestors().find(|above| above.exists()).unwrap_or(&folder);
    if disk::canonical(there)?.starts_with(yard.root()) {
        return Err(CarryError::InsideYard(folder).into());
    }
    check_free(&folder)?;
    let source = party(yard, yard.twin_row(from, false)?, ctx)?;
    let wish = Selection::new(options, &source.sheet)?;
    let at = yard.folder_of(&source.row);
    let twin = (&source.settled, &source.laid, at.as_path());
    let sheets = (&source.sheet, &source.sheet);
    let found = incoming_from_twin(yard, twin, sheets, (&Listing::default(), None), &wish, ctx)?;
    let (mut coming, mut left) = (Vec::new(), found.left);
    for one in found.coming {
        match &one.entry.node {
            Node::File { .. } => coming.push(one),
            _ => left.push(format!("{} (a symlink: what it leads to is carried by itself)", one.entry.path)),
        }
    }
    if coming.is_empty() {
        return Err(CarryError::NothingThere(source.row.name.to_string()).into());
    }
    Ok(FolderPlan {
        from: source.row.name.clone(),
        folder,
        files: coming.iter().map(|one| one.entry.path.to_string()).collect(),
        bytes: coming.iter().map(|one| one.entry.node.size()).sum(),
        left,
        private: coming.iter().map(|one| found.private.contains(&one.from)).collect(),
        coming,
        source: Seen::new(source.row, source.settled),
    })
}

/// Writes the files beside where they are to be, reads them again, and puts the folder in place by one rename: after a crash
/// it is there whole, or not at all, and `.NAME.PROCESS.new` beside it is what was written by then.
///
/// # Errors
/// As [`plan_to_folder`]; [`CarryError::NotVerified`] if what was written is not what should be there, [`Error::Io`] on a full
/// disk among others. Nothing is left there then.
pub fn apply_to_folder(yard: &Yard, plan: &FolderPlan, ctx: &Ctx) -> Result<FolderOutcome> {
    let began = Instant::now();
    plan.source.write_down(yard, ctx)?;
    check_free(&plan.folder)?;
    let (Some(parent), Some(name)) = (plan.folder.parent(), plan.folder.file_name()) else {
        return Err(Error::Path { path: plan.folder.display().to_string(), why: "it is no folder that can be made" });
    };
    disk::make_folders(parent)?;
    let stage = parent.join(format!(".{}.{}.new", name.to_string_lossy(), std::process::id()));
    let done = ctx
        .phase(Phase::Writing, plan.coming.len() as u64, plan.bytes, || write(yard, plan, &stage, ctx))
        .and_then(|()| put_in_place(&stage, &plan.folder));
    if done.is_err() {
        disk::remove_tree(&stage)?;
    }
    done?;
    let (folder, verified) = (plan.folder.clone(), plan.coming.len() as u64);
    Ok(FolderOutcome { folder, verified, bytes: plan.bytes, took: began.elapsed() })
}

/// An error unless nothing is at a path, or an empty folder.
fn check_free(folder: &Path) -> Result<()> {
    let exists = || Error::Exists {
        what: Noun::FileOrFolder,
        name: folder.display().to_string(),
        existing: folder.display().to_string(),
    };
    match std::fs::read_dir(folder) {
        Ok(mut entries) => {
            if entries.next().is_none() {
                Ok(())
            } else {
                Err(exists())
            }
        }
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(()),
        Err(error) if error.kind() == std::io::ErrorKind::NotADirectory => Err(exists()),
        Err(error) => Err(error).at("look into", folder),
    }
}

fn write(yard: &Yard, plan: &FolderPlan, stage: &Path, ctx: &Ctx) -> Result<()> {
    for (one, private) in plan.coming.iter().zip(&plan.private) {
        ctx.check()?;
        let Node::File { content, size, executable } = one.entry.node else { continue };
        let path = one.entry.path.below(stage);
        disk::make_folders(path.parent().unwrap_or(stage))?;
        let mode = match (private, executable) {
            (true, false) => 0o600,
            (true, true) => 0o700,
            (false, false) => 0o644,
            (false, true) => 0o755,
        };
        let from = yard.store.pool.path(content);
        let mut from = disk::open_file(rustix::fs::CWD, &from).at("read", &from)?;
        let mut file = disk::create_exact(&path, mode).at("write", &path)?;
        std::io::copy(&mut from, &mut file).at("write", &path)?;
        disk::set_mtime(&file, one.entry.mtime).at("write", &path)?;
        disk::sync(&file, &path)?;
        drop(file);
        if reads_as(&path, &mut vec![0; disk::BUFFER], ctx)? != content {
            return Err(CarryError::NotVerified(path).into());
        }
        ctx.progress().advance(1, size);
    }
    Ok(())
}

fn put_in_place(stage: &Path, folder: &Path) -> Result<()> {
    // An empty folder gives way.
    if disk::exists(folder) {
        disk::remove_folder(folder)?;
    }
    disk::rename_new(stage, folder).at("put in place", folder)?;
    disk::sync_rename(stage, folder)
}
