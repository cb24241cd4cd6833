//! What a program changed, looked at in its layer before anything is folded back.

use std::ffi::OsStr;
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::path::Path;

use rustix::fs::CWD;

use super::modes::Modes;
use super::{AREAS, Kind, RunLayer, is_folder, is_opaque, kind, look, names, same_bytes};
use crate::disk::{self, Stat};
use crate::error::{PathContext, Result};
use crate::listing::{Listing, Node};
use crate::path::RelPath;

/// How something in a layer differs from what was there.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum How {
    /// It was not there.
    New,
    /// It holds something else.
    Changed,
    /// It is gone.
    Gone,
}

pub(super) fn changes(
    layer: &RunLayer,
    (folder, home): (&Path, &Path),
    before: &Listing,
) -> Result<Vec<(RelPath, How)>> {
    let mut modes = Modes::load(layer)?;
    let areas = layer.areas(&mut modes)?;
    let mut looking = Looking { before, modes, found: Vec::new() };
    for (area, upper) in areas {
        let twin = if area == AREAS[1] { home.to_path_buf() } else { folder.join(area) };
        let lower = match disk::open_folder(CWD, &twin) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => None,
            lower => Some(lower.at("open", &twin)?),
        };
        let lower = lower.as_ref().map(AsFd::as_fd);
        looking.changes_in(upper.as_fd(), lower, &RelPath::new(area)?).at("look at", layer.upper(area))?;
    }
    let mut found = looking.found;
    found.sort_by(|a, b| crate::path::compare(a.0.as_str(), b.0.as_str()));
    found.dedup_by(|later, first| later.0 == first.0);
    Ok(found.into_iter().filter_map(|(path, how)| Some((path, how?))).collect())
}

/// Looking at what a program changed.
struct Looking<'a> {
    before: &'a Listing,
    modes: Modes,
    /// Paths of the layer; `None` for one that holds what was there before.
    found: Vec<(RelPath, Option<How>)>,
}

impl Looking<'_> {
    /// What was there at and below a path.
    fn gone(&mut self, path: &RelPath) {
        let entries = &self.before.entries()[self.before.range(path.as_str())];
        self.found.extend(entries.iter().map(|entry| (entry.path.clone(), Some(How::Gone))));
    }

    fn changes_in(&mut self, upper: BorrowedFd<'_>, lower: Option<BorrowedFd<'_>>, at: &RelPath) -> io::Result<()> {
        for name in names(upper)? {
            // What no listing can hold is no change of it: the next look names it.
            let Some(path) = name.to_str().and_then(|name| at.join(name).ok()) else { continue };
            let Some(stat) = look(upper, &name)? else { continue };
            let was = self.before.get(path.as_str()).map(|entry| &entry.node);
            match kind(&stat) {
                Kind::Gone => self.gone(&path),
                Kind::Folder => self.folder(upper, lower, &name, &path, &stat)?,
                Kind::Other if !stat.is_file() && !is_symlink(&stat) => {}
                Kind::Other => match was {
                    Some(node) if is_same(node, upper, lower, &name, &stat)? => self.found.push((path, None)),
                    Some(Node::EmptyFolder) | None => {
                        self.found.push((path.clone(), Some(How::New)));
                        self.gone(&path);
                    }
                    Some(_) => self.found.push((path, Some(How::Changed))),
                },
            }
        }
        Ok(())
    }

    fn folder(
        &mut self,
        upper: BorrowedFd<'_>,
        lower: Option<BorrowedFd<'_>>,
        name: &OsStr,
        path: &RelPath,
        stat: &Stat,
    ) -> io::Result<()> {
        let (folder, mode) = self.modes.open(upper, name, Path::new(path.as_str()))?;
        let (was, hides) = (self.before.get(path.as_str()).map(|entry| &entry.node), is_opaque(folder.as_fd())?);
        let below = lower.map(|lower| look(lower, name)).transpose()?.flatten().filter(is_folder);
        let before: Option<OwnedFd> = match (lower, &below) {
            (Some(lower), Some(_)) if !hides => disk::open_folder(lower, name).ok(),
            _ => None,
        };
        let known = self.found.len();
        self.changes_in(folder.as_fd(), before.as_ref().map(AsFd::as_fd), path)?;
        let empty = self.found.len() == known;
        match below {
            None if empty && !self.before.has(path.as_str()) => self.found.push((path.clone(), Some(How::New))),
            Some(below) if empty && (below.mode ^ mode) & 0o7777 != 0 => {
                self.found.push((path.clone(), Some(How::Changed)));
            }
            _ => {}
        }
        // What came first stays: what is in the folder now.
        if hides || was.is_some_and(|was| *was != Node::EmptyFolder) {
            self.gone(path);
        }
        let _ = stat;
        Ok(())
    }
}

fn is_symlink(stat: &Stat) -> bool {
    rustix::fs::FileType::from_raw_mode(stat.mode) == rustix::fs::FileType::Symlink
}

/// Whether a file or symlink of a layer is what was there before: a program that only opens it for writing has it copied
/// into the layer too. Times prove nothing: they can be put back.
fn is_same(
    node: &Node,
    upper: BorrowedFd<'_>,
    lower: Option<BorrowedFd<'_>>,
    name: &OsStr,
    stat: &Stat,
) -> io::Result<bool> {
    let Some(lower) = lower else { return Ok(false) };
    let Some(was) = look(lower, name)? else { return Ok(false) };
    match node {
        Node::Symlink { target } => {
            let now = rustix::fs::readlinkat(upper, name, Vec::new())?;
            Ok(now.to_bytes() == target.as_bytes())
        }
        Node::File { size, .. } if stat.is_file() && was.is_file() => {
            if *size != stat.size || (was.mode ^ stat.mode) & 0o7777 != 0 {
                return Ok(false);
            }
            match (disk::open_file(upper, name), disk::open_file(lower, name)) {
                (Ok(now), Ok(was)) => same_bytes(now, was),
                // One that can't be read can't be said to be the same.
                _ => Ok(false),
            }
        }
        _ => Ok(false),
    }
}
