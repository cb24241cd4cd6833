//! What came out of a folder, and is not needed any more: deleted name by name, unless somebody still has it open.

use std::fs;
use std::io;
use std::os::fd::{AsFd, BorrowedFd};
use std::path::{Path, PathBuf};

use rustix::fs::{CWD, Dir, FileType};

use super::change::TOGETHER;
use crate::disk::{self, Stat};
use crate::error::{PathContext, Result};
use crate::path::RelPath;

/// Deletes what came out of a twin's folder.
pub(crate) struct Discard<'a> {
    /// The folder of the operation that it lies in.
    pub(crate) op: &'a Path,
    /// Where what somebody still has open goes; made if there is any.
    pub(crate) kept: &'a Path,
    /// Told of each file with more names that loses one.
    pub(crate) moved: &'a (dyn Fn(&Stat, &Stat) + Sync),
}

impl Discard<'_> {
    /// Deletes the areas `new` and `old` of a change, whose steps are about these paths. Says what was kept, and who has it
    /// open.
    pub(crate) fn areas(&self, paths: &[&RelPath]) -> Result<Vec<String>> {
        let mut kept = Vec::new();
        for area in ["new", "old"] {
            for chunk in 0..paths.len().div_ceil(TOGETHER) {
                let folder = self.op.join(area).join(chunk.to_string());
                let Some(fd) = there(disk::open_folder(CWD, &folder)).at("open", &folder)? else { continue };
                // Most of what was staged is in its place by now, and nothing stood there before.
                for number in numbers_in(fd.as_fd()).at("list", &folder)? {
                    if let Some(path) = paths.get(number) {
                        self.one(fd.as_fd(), &folder, number, path, &mut kept)?;
                    }
                }
            }
            disk::remove_tree_telling(&self.op.join(area), self.moved)?;
        }
        Ok(kept)
    }

    fn one(
        &self,
        at: BorrowedFd<'_>,
        folder: &Path,
        number: usize,
        path: &RelPath,
        kept: &mut Vec<String>,
    ) -> Result<()> {
        let name = number.to_string();
        let shown = || folder.join(&name);
        let Some(stat) = there(disk::stat_at(at, name.as_str())).at("look at", shown())? else { return Ok(()) };
        if in_other_hands(at, name.as_str(), &stat).at("look at", shown())? {
            kept.push(self.keep(&shown(), path, &stat)?);
        }
        Ok(())
    }

    /// Moves what somebody has open to where it is kept.
    fn keep(&self, from: &Path, path: &RelPath, stat: &Stat) -> Result<String> {
        let to = path.below(self.kept);
        let parent = to.parent().unwrap_or(self.kept);
        disk::make_folders(parent)?;
        disk::rename_new(from, &to).at("keep", from)?;
        if let Ok(after) = disk::lstat(&to) {
            (self.moved)(stat, &after);
        }
        let holders: Vec<String> = holders(stat);
        let by = if holders.is_empty() { "another program".to_owned() } else { holders.join(", ") };
        Ok(format!("{} ({by} has it open)", to.display()))
    }
}

/// The steps of which something lies in a folder, in their order.
fn numbers_in(folder: BorrowedFd<'_>) -> io::Result<Vec<usize>> {
    let mut numbers = Vec::new();
    for entry in Dir::read_from(folder)? {
        numbers.extend(entry?.file_name().to_str().ok().and_then(|name| name.parse::<usize>().ok()));
    }
    numbers.sort_unstable();
    Ok(numbers)
}

fn there<T>(result: io::Result<T>) -> io::Result<Option<T>> {
    match result {
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
        other => other.map(Some),
    }
}

/// Whether somebody can still write to a folder's files, or to those below it.
pub(crate) fn is_open_below(folder: &Path) -> io::Result<bool> {
    in_other_hands(CWD, folder, &disk::stat_at(CWD, folder)?)
}

/// Whether somebody can still write to what is at a name, or to something below it.
fn in_other_hands(at: BorrowedFd<'_>, name: impl rustix::path::Arg + Copy, stat: &Stat) -> io::Result<bool> {
    if stat.is_file() {
        return disk::is_held(at, name);
    }
    if FileType::from_raw_mode(stat.mode) != FileType::Directory {
        return Ok(false);
    }
    let folder = match disk::open_folder(at, name) {
        Err(error) if crate::error::is_lack(&error) => return Err(error),
        Err(_) => return Ok(false),
        Ok(folder) => folder,
    };
    for entry in Dir::read_from(&folder)? {
        let entry = entry?;
        let name = entry.file_name();
        if !matches!(name.to_bytes(), b"." | b"..")
            && in_other_hands(folder.as_fd(), name, &disk::stat_at(&folder, name)?)?
        {
            return Ok(true);
        }
    }
    Ok(false)
}

/// The processes that have a file open, as far as they can be looked at.
fn holders(stat: &Stat) -> Vec<String> {
    let Ok(processes) = fs::read_dir("/proc") else { return Vec::new() };
    let mut found = Vec::new();
    for process in processes.flatten() {
        let Some(pid) = process.file_name().to_str().and_then(|name| name.parse::<u32>().ok()) else { continue };
        if pid == std::process::id() {
            continue;
        }
        let links = |folder: &str| -> Vec<PathBuf> {
            let entries = fs::read_dir(process.path().join(folder));
            entries.map(|entries| entries.flatten().map(|entry| entry.path()).collect()).unwrap_or_default()
        };
        let is = |path: &PathBuf| {
            rustix::fs::stat(path).map(Stat::from).is_ok_and(|open| (open.dev, open.ino) == (stat.dev, stat.ino))
        };
        if links("fd").iter().chain(&links("map_files")).any(is) {
            found.push(format!("process {pid} ({})", crate::disk::lock::command_line(pid)));
        }
    }
    found
}
