//! Opening a yard: made, read, and whatever a command that died left half done put in order.

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use crate::Yard;
use crate::catalog::Catalog;
use crate::disk;
use crate::error::{PathContext, Result, YardError};
use crate::progress::Ctx;
use crate::store::Store;
use crate::upkeep::recover;
use crate::yard::settings;

/// The folders of a yard.
const FOLDERS: [&str; 8] = ["listings", "locks", "pool", "removed", "sheets", "states", "tmp", "twins"];

impl Yard {
    /// Makes a new yard at `root`, an empty folder or one that doesn't exist yet, and opens it.
    ///
    /// # Errors
    /// [`YardError::AlreadyAYard`], [`YardError::NotEmpty`], or [`crate::Error::Io`]. A crash leaves folders that the
    /// next call completes.
    pub fn init(root: impl AsRef<Path>) -> Result<Self> {
        let root = root.as_ref();
        Self::check_new(root)?;
        disk::make_folders(root)?;
        close(root)?;
        for folder in FOLDERS {
            disk::make_folders(&root.join(folder))?;
        }
        drop(Catalog::make(&root.join("catalog.db"))?);
        // The settings make it a yard, so they come last.
        disk::write_whole(&root.join("yard.toml"), &root.join("tmp/settings"), settings::NEW.as_bytes())?;
        Self::open(root)
    }

    /// Whether a yard can be made at `root`.
    ///
    /// # Errors
    /// As [`Yard::init`]; nothing is changed.
    pub fn check_new(root: impl AsRef<Path>) -> Result<()> {
        let root = root.as_ref();
        if disk::exists(&root.join("yard.toml")) {
            return Err(YardError::AlreadyAYard(root.into()).into());
        }
        let entries = match fs::read_dir(root) {
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(()),
            entries => entries.at("list", root)?,
        };
        for entry in entries {
            let name = entry.at("list", root)?.file_name();
            let ours = name
                .to_str()
                .is_some_and(|name| FOLDERS.contains(&name) || name == "reserve" || name.starts_with("catalog.db"));
            if !ours {
                return Err(YardError::NotEmpty(root.into()).into());
            }
        }
        Ok(())
    }

    /// Opens the yard at `root`, and finishes or undoes what a command that died left half done.
    ///
    /// # Errors
    /// [`YardError`], [`crate::Error::Catalogue`] if the catalogue is damaged, or [`crate::Error::Io`].
    pub fn open(root: impl AsRef<Path>) -> Result<Self> {
        Self::open_with(root, &Ctx::new())
    }

    /// As [`Yard::open`]; finishing what was left half done can be stopped, and shows its progress. What can't be
    /// finished is named by [`check::look`](crate::check::look) and [`show::twins`](crate::show::twins), and keeps
    /// nobody from the rest of the yard.
    ///
    /// # Errors
    /// As [`Yard::open`], and [`crate::Error::Cancelled`].
    pub fn open_with(root: impl AsRef<Path>, ctx: &Ctx) -> Result<Self> {
        let root = root.as_ref();
        let path = root.join("yard.toml");
        let read = disk::read_own(&path, disk::TEXT);
        let text = match read.map(|text| String::from_utf8_lossy(&text).into_owned()) {
            Err(error) if matches!(error.kind(), std::io::ErrorKind::NotFound | std::io::ErrorKind::NotADirectory) => {
                return Err(YardError::NotAYard(root.into()).into());
            }
            text => text.at("read", &path)?,
        };
        let settings = settings::read(&text, &path)?;
        let root = disk::canonical(root)?;
        tracing::info!(yard = %root.display(), "opened");
        if let Some(owner) = other_owner(&root)? {
            return Err(YardError::NotYours { path: root, owner }.into());
        }
        // SQLite would only say that it can't.
        rustix::fs::access(&root, rustix::fs::Access::WRITE_OK).at("write in", &root)?;
        let closed = settings.private && close(&root)?;
        keep_reserve(&root);
        let catalog = Arc::new(Catalog::open(&root.join("catalog.db"))?);
        // Those that hold nothing between commands may not have come along from a backup.
        for folder in ["locks", "removed", "tmp"].map(|folder| root.join(folder)) {
            if !folder.is_dir() {
                disk::make_folders(&folder)?;
            }
        }
        let root: Arc<Path> = root.into();
        let (store, recovered) = (Store::new(Arc::clone(&root)), Arc::default());
        let mut yard = Self { settings, catalog, store, root, recovered, closed, facts: Arc::default() };
        yard.recovered = Arc::new(recover::recover(&yard, ctx)?);
        // Once it is elsewhere, files that name this place can be found; a full disk is no reason not to open it.
        if let Err(error) = yard.catalog.roots(&yard.root.to_string_lossy()) {
            tracing::info!(%error, "where the yard is could not be written down");
        }
        Ok(yard)
    }

    /// The nearest folder that is a yard, from `start` upward.
    #[must_use]
    pub fn find_upward(start: impl AsRef<Path>) -> Option<PathBuf> {
        start.as_ref().ancestors().find(|folder| folder.join("yard.toml").is_file()).map(Path::to_path_buf)
    }
}

/// Whose a yard is, if it is another user's.
fn other_owner(root: &Path) -> Result<Option<u32>> {
    // The folder itself may be a disk's own.
    let Ok(stat) = disk::lstat(&root.join("pool")) else { return Ok(None) };
    if stat.uid == rustix::process::geteuid().as_raw() {
        return Ok(None);
    }
    // Some filesystems know no owners: what is made there just now looks the same.
    let mine = owner_of_new_in(&root.join("tmp"))?;
    Ok((mine != Some(stat.uid)).then_some(stat.uid))
}

/// Whose a new file in a folder is; `None` where none can be made.
fn owner_of_new_in(folder: &Path) -> Result<Option<u32>> {
    let path = folder.join(format!("owner-{}", std::process::id()));
    if disk::create_exact(&path, 0o600).is_err() {
        return Ok(None);
    }
    let uid = disk::lstat(&path).at("look at", &path).map(|stat| stat.uid);
    // Another command may have taken it for something left behind.
    disk::remove_if_there(&path)?;
    uid.map(Some)
}

/// Keeps everyone but its owner out of a yard, if it is ours and its modes are nobody's arrangement. Says whether that was
/// to be done.
fn close(root: &Path) -> Result<bool> {
    const SET_GROUP: u32 = 0o2000;
    let stat = disk::lstat(root).at("look at", root)?;
    if stat.mode & 0o077 == 0 || stat.mode & SET_GROUP != 0 || stat.uid != rustix::process::geteuid().as_raw() {
        return Ok(false);
    }
    let arranged = |name: &String| name.starts_with("system.posix_acl");
    let names = disk::attributes_by_path(&root.to_string_lossy()).unwrap_or_default();
    if names.iter().any(arranged) {
        return Ok(false);
    }
    // Where modes mean nothing, there is nothing to be done.
    let done = disk::set_mode(root, 0o700).and_then(|()| disk::lstat(root).at("look at", root));
    Ok(done.is_ok_and(|now| now.mode & 0o077 == 0))
}

/// Keeps some room in reserve, so that a yard on a full disk can still be worked with: given up where there is none
/// left, and made again where there is plenty. Without it all works as well, until the disk is full.
fn keep_reserve(root: &Path) {
    /// What a few commands need: the catalogue's log, small listings and states.
    const RESERVE: u64 = 4 << 20;
    const FULL: u64 = 1 << 20;
    const PLENTY: u64 = 64 << 20;
    let path = root.join("reserve");
    let Ok(stat) = rustix::fs::statvfs(root) else { return };
    let free = stat.f_bavail.saturating_mul(stat.f_frsize);
    let there = disk::exists(&path);
    if there && free < FULL {
        tracing::info!("the disk is full: what was kept in reserve is given up");
        let _ = fs::remove_file(&path);
    } else if !there && free > PLENTY {
        let made = fs::File::create(&path)
            .and_then(|file| Ok(rustix::fs::fallocate(file, rustix::fs::FallocateFlags::empty(), 0, RESERVE)?));
        if made.is_err() {
            let _ = fs::remove_file(&path);
        }
    }
}
