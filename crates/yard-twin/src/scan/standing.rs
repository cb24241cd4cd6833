//! What lets an index stand by itself: how folders looked, and which names were in them. Where a folder still looks so, the
//! same names are in it, and neither the listing nor the title's sheet has to be read to know that nothing has changed.
//!
//! A name that comes, goes, or is given to something else moves the ctime of its folder, which nobody can set. That holds
//! wherever a file keeps its inode's number (`disk::trusts_inodes`).

use std::collections::HashMap;
use std::ffi::CStr;
use std::io::ErrorKind;
use std::path::Path;

use crate::disk::{self, Stat};
use crate::error::{PathContext, Result};
use crate::listing::{Listing, Node};
use crate::path::{RelPath, at_and_above};
use crate::store::pool::{Half, half};

/// How a folder looked before it was listed. All zeros, as no folder looks, for one that is to be listed again.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct Stamp {
    pub(crate) ino: u64,
    pub(crate) ctime: i64,
    /// Whether names are in it that no listing has, as scratch is.
    pub(crate) holds_more: bool,
}

impl Stamp {
    pub(crate) fn new(stat: &Stat, holds_more: bool) -> Self {
        Self { ino: stat.ino, ctime: stat.ctime, holds_more }
    }
}

/// The folders of a twin that was looked at, in which all was as its index says.
#[derive(Debug)]
pub(crate) struct SeenFolders {
    pub(crate) device: u64,
    /// Bytes that the folders themselves take on disk.
    pub(crate) allocated: u64,
    /// Those of them that hold more than the listing has.
    pub(crate) hold_more: Vec<RelPath>,
}

/// When and where folders were looked at.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct Looked {
    /// The device that the twin is on; what is on another one is always looked at as a whole.
    pub(crate) device: u64,
    /// How coarse the time stamps are, in nanoseconds.
    pub(crate) grain: i64,
    /// What was taken for scratch then: [`crate::Yard::sheet_key`].
    pub(crate) sheet: [u8; 32],
    /// Whether nothing was to be said about what no listing can hold.
    pub(crate) quiet: bool,
}

impl Looked {
    /// Whether a change of a folder after a look that began at that time could have left it the same time stamp. (Where
    /// time stamps have no grain, a change after a look never does.)
    pub(super) fn racy(&self, stamp: Stamp, looked_at: i64) -> bool {
        self.grain > 0 && stamp.ctime + self.grain >= looked_at
    }
}

/// What the folders of a twin looked like when they were listed.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Folders {
    pub(crate) looked: Looked,
    pub(crate) stamps: HashMap<RelPath, Stamp>,
}

impl Folders {
    /// How the folders of a listing, all of them, look that was just laid at `folder`, which nobody else knows yet; `now` by
    /// the filesystem's clock. Where a build has what is scratch by the sheet of today, the next look finds that gone.
    pub(crate) fn of_new<'a>(
        (listing, all): (&Listing, impl Iterator<Item = &'a str>),
        folder: &Path,
        looked: Looked,
        now: i64,
        is_scratch: impl Fn(&RelPath) -> bool,
    ) -> Result<Self> {
        let mut folders = Self { looked, stamps: HashMap::new() };
        for path in all {
            let at = folder.join(path);
            let stat = match disk::lstat(&at) {
                Ok(stat) => stat,
                Err(error) if error.kind() == ErrorKind::NotFound => continue,
                Err(error) => return Err(error).at("look at", at),
            };
            let stamp = Stamp::new(&stat, false);
            if !looked.racy(stamp, now) {
                folders.stamps.insert(RelPath::new(path)?, stamp);
            }
        }
        folders.doubt(listing.entries().iter().map(|entry| &entry.path).filter(|path| is_scratch(path)));
        Ok(folders)
    }

    /// What is at `paths`, and every folder above, is to be listed again.
    pub(crate) fn doubt<'a>(&mut self, paths: impl Iterator<Item = &'a RelPath>) {
        for path in paths {
            for folder in at_and_above(path.as_str()) {
                self.stamps.remove(folder);
            }
        }
    }
}

/// What a folder without one above it is in.
pub(super) const NONE: u32 = u32::MAX;

/// A folder's row.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) struct FolderRow {
    pub(super) stamp: Stamp,
    /// The folder that it is in, or [`NONE`].
    pub(super) parent: u32,
    /// Where its name ends among all names.
    pub(super) name_end: u32,
}

/// What an entry's row has beside how it looked.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) struct Placed {
    pub(super) folder: u32,
    pub(super) name_end: u32,
    /// Of its content; zeros for what is no file.
    pub(super) half: Half,
    pub(super) executable: bool,
}

/// The rows of folders, the places of entries, and all names, as they are written down.
#[derive(Debug, Default, PartialEq, Eq)]
pub(super) struct Shape {
    pub(super) folders: Vec<FolderRow>,
    pub(super) placed: Vec<Placed>,
    /// Names of folders, then of entries, each with a NUL behind it.
    pub(super) names: Vec<u8>,
}

/// Folders that get their numbers when they are first met.
#[derive(Default)]
struct Numbers<'a> {
    numbers: HashMap<&'a str, u32>,
    rows: Vec<(&'a str, u32)>,
    /// Entries of one folder follow each other.
    latest: Option<(&'a str, u32)>,
}

impl<'a> Numbers<'a> {
    /// Those of all folders of a listing, the two at the top first, and for each entry that of the folder that it is in.
    fn of_listing(listing: &'a Listing) -> (Self, Vec<u32>) {
        let mut numbers = Self::default();
        numbers.of("game");
        numbers.of("home");
        let mut above = Vec::with_capacity(listing.entries().len());
        for entry in listing.entries() {
            let path = entry.path.as_str();
            if entry.node == Node::EmptyFolder {
                numbers.of(path);
            }
            above.push(path.rfind('/').map_or(NONE, |at| numbers.of(&path[..at])));
        }
        (numbers, above)
    }

    fn of(&mut self, folder: &'a str) -> u32 {
        if let Some((_, number)) = self.latest.filter(|(latest, _)| *latest == folder) {
            return number;
        }
        let number = match self.numbers.get(folder) {
            Some(number) => *number,
            None => {
                let parent = folder.rfind('/').map_or(NONE, |at| self.of(&folder[..at]));
                let number = u32::try_from(self.rows.len()).unwrap_or(NONE);
                self.rows.push((folder, parent));
                self.numbers.insert(folder, number);
                number
            }
        };
        self.latest = Some((folder, number));
        number
    }
}

impl Shape {
    /// That of a listing. Every folder in it has a row, without a stamp where it was not looked at.
    pub(super) fn of(listing: &Listing, folders: &Folders) -> Self {
        let (numbers, above) = Numbers::of_listing(listing);
        let placed = listing.entries().iter().zip(above).map(|(entry, folder)| {
            let half = entry.node.content().map(half).unwrap_or_default();
            let executable = matches!(entry.node, Node::File { executable: true, .. });
            Placed { folder, name_end: 0, half, executable }
        });
        let mut shape = Self { placed: placed.collect(), ..Self::default() };
        for (path, parent) in numbers.rows {
            let stamp = folders.stamps.get(path).copied().unwrap_or_default();
            let name_end = shape.add_name(path);
            shape.folders.push(FolderRow { stamp, parent, name_end });
        }
        for (at, entry) in listing.entries().iter().enumerate() {
            shape.placed[at].name_end = shape.add_name(entry.path.as_str());
        }
        shape
    }

    /// Adds the last part of a path, and says where it ends.
    fn add_name(&mut self, path: &str) -> u32 {
        self.names.extend_from_slice(path.rsplit('/').next().unwrap_or(path).as_bytes());
        self.names.push(0);
        // Names of four gigabytes in all don't fit: then no name ends where its row says, and the index is void.
        u32::try_from(self.names.len()).unwrap_or(0)
    }
}

/// Numbers, by the folder that they belong to.
#[derive(Debug)]
struct Grouped {
    /// Where those of each folder begin, and where those of the last one end.
    starts: Vec<u32>,
    all: Vec<u32>,
}

impl Grouped {
    /// `None` where a folder is named that there is not.
    fn of(folders: usize, belongs: impl Iterator<Item = u32> + Clone) -> Option<Self> {
        let mut starts = vec![0_u32; folders + 1];
        for folder in belongs.clone().filter(|folder| *folder != NONE) {
            *starts.get_mut(folder as usize + 1)? += 1;
        }
        for at in 1..starts.len() {
            starts[at] += starts[at - 1];
        }
        let (mut next, mut all) = (starts.clone(), vec![0; *starts.last()? as usize]);
        for (number, folder) in (0_u32..).zip(belongs).filter(|(_, folder)| *folder != NONE) {
            let place = next.get_mut(folder as usize)?;
            *all.get_mut(*place as usize)? = number;
            *place += 1;
        }
        Some(Self { starts, all })
    }

    fn of_folder(&self, folder: u32) -> &[u32] {
        let at = |folder: usize| self.starts.get(folder).map_or(0, |at| *at as usize);
        let folder = folder as usize;
        self.all.get(at(folder)..at(folder + 1)).unwrap_or_default()
    }
}

/// The folders of an index, and what was in each of them.
#[derive(Debug)]
pub(crate) struct Standing {
    pub(crate) looked: Looked,
    shape: Shape,
    entries: Grouped,
    folders: Grouped,
}

impl Standing {
    /// `None` where it doesn't fit together.
    pub(super) fn of(looked: Looked, shape: Shape) -> Option<Self> {
        let folders = Grouped::of(shape.folders.len(), shape.folders.iter().map(|row| row.parent))?;
        let entries = Grouped::of(shape.folders.len(), shape.placed.iter().map(|placed| placed.folder))?;
        Some(Self { looked, shape, entries, folders })
    }

    /// The folder at the top of that name.
    pub(super) fn root(&self, name: &str) -> Option<u32> {
        // They come first.
        (0..2).find(|folder| {
            self.folder_name(*folder) == Some(name) && self.shape.folders[*folder as usize].parent == NONE
        })
    }

    /// Whether there was nothing in a folder.
    pub(super) fn is_bare(&self, folder: u32) -> bool {
        self.entries(folder).is_empty() && self.folders(folder).is_empty()
    }

    /// How a folder looked, if it still does.
    pub(super) fn still(&self, folder: u32, stat: &Stat) -> Option<Stamp> {
        let stamp = self.shape.folders.get(folder as usize)?.stamp;
        let same = stamp == Stamp::new(stat, stamp.holds_more);
        (stat.dev == self.looked.device && stat.ino != 0 && same).then_some(stamp)
    }

    /// The numbers of the entries that were in a folder itself.
    pub(super) fn entries(&self, folder: u32) -> &[u32] {
        self.entries.of_folder(folder)
    }

    /// The folders that were in a folder itself.
    pub(super) fn folders(&self, folder: u32) -> &[u32] {
        self.folders.of_folder(folder)
    }

    /// The folder of that name which was in a folder.
    pub(super) fn folder_in(&self, folder: u32, name: &str) -> Option<u32> {
        let folders = self.folders(folder);
        // In the order in which they were met, which is that of their names where no folder was empty.
        let at = folders.binary_search_by(|folder| self.folder_name(*folder).unwrap_or_default().cmp(name)).ok();
        let slow = || folders.iter().position(|folder| self.folder_name(*folder) == Some(name));
        at.or_else(slow).map(|at| folders[at])
    }

    pub(super) fn folder_name(&self, folder: u32) -> Option<&str> {
        let rows = &self.shape.folders;
        let start = (folder as usize).checked_sub(1).map_or(Some(0), |before| Some(rows.get(before)?.name_end))?;
        self.name(start, rows.get(folder as usize)?.name_end)?.to_str().ok()
    }

    pub(super) fn entry_name(&self, entry: u32) -> Option<&CStr> {
        let placed = &self.shape.placed;
        let first = || Some(self.shape.folders.last()?.name_end);
        let start = match (entry as usize).checked_sub(1) {
            Some(before) => placed.get(before)?.name_end,
            None => first()?,
        };
        self.name(start, placed.get(entry as usize)?.name_end)
    }

    fn name(&self, start: u32, end: u32) -> Option<&CStr> {
        CStr::from_bytes_with_nul(self.shape.names.get(start as usize..end as usize)?).ok()
    }

    #[cfg(test)]
    pub(super) fn stamp(&self, folder: u32) -> Option<Stamp> {
        self.shape.folders.get(folder as usize).map(|row| row.stamp)
    }

    pub(super) fn placed(&self, entry: u32) -> Option<&Placed> {
        self.shape.placed.get(entry as usize)
    }
}
