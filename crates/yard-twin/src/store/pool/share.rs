//! How a twin's file and the pool's share their bytes: what is wished for, what the disk can do, what is used.

use std::collections::{HashMap, HashSet};
use std::fs::File;
use std::io::Write;
use std::path::Path;

use rustix::fs::CWD;
use serde::{Deserialize, Serialize};

use crate::disk;
use crate::error::{PathContext, Result};
use crate::listing::{Entry, Listing, Node};
use crate::path::RelPath;
use crate::sheet::PathSet;

/// What the user wants shared between twins where the filesystem has no reflinks.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Sharing {
    /// Link every file that is neither live, scratch nor empty, even where the read-only guard is weak.
    All,
    /// Link what games hardly ever rewrite (large files, and kinds that come in masses), if the guard holds.
    #[default]
    Careful,
    /// Give the twin its own copy of everything.
    None,
}

/// How one file's bytes are really shared.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Share {
    /// Blocks shared by the filesystem, until one side writes.
    Reflink,
    /// The pool's own file under another name, guarded by its read-only mode.
    Link,
    /// A copy of the twin's own.
    Copy,
    /// Written by a program in the twin, or by hand.
    Own,
    /// Brought by a run, among many of its kind: still the twin's own, and shared as soon as that may be.
    Arrived,
}

/// Why a twin shares no storage.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Unshared {
    /// It was asked for so.
    Wish,
    /// The filesystem has neither shared blocks nor links.
    NoLinks,
    /// It has no shared blocks, and a write to a read-only file is not refused here: to root, or where modes mean nothing.
    NoGuard,
}

/// What the filesystem of a yard can do, found out by trying it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub(crate) struct Facts {
    pub(crate) reflink: bool,
    pub(crate) link: bool,
    /// A write to a read-only file is refused to this user.
    pub(crate) guard: bool,
}

impl Facts {
    /// Tries each way once, between a file like the pool's and one like a twin's, in the folder `scratch`.
    pub(crate) fn probe(scratch: &Path) -> Result<Self> {
        let (from, to, linked) = (scratch.join("probe-a"), scratch.join("probe-b"), scratch.join("probe-c"));
        let mut source = disk::create_exact(&from, 0o444).at("make", &from)?;
        source.write_all(&[7; 4096]).at("write", &from)?;
        let target = disk::create_exact(&to, 0o644).at("make", &to)?;
        let facts = Self {
            reflink: disk::reflink(&source, &target).at("clone", &from)?,
            link: disk::trusts_inodes(scratch) && disk::link(CWD, &from, CWD, &linked).is_ok(),
            guard: File::options().write(true).open(&from).is_err(),
        };
        tracing::debug!(?facts, "what the disk can do");
        for path in [from, to, linked] {
            // One of them may not have been made; the folder goes away as a whole later.
            let _ = disk::remove_file(&path);
        }
        Ok(facts)
    }
}

/// Endings of settings, saves, logs and databases: files that programs write in place at any size.
const WRITTEN: [&str; 26] = [
    "bak",
    "cfg",
    "cnf",
    "conf",
    "config",
    "db",
    "db3",
    "ini",
    "journal",
    "ldb",
    "lock",
    "log",
    "old",
    "opt",
    "opts",
    "pid",
    "prefs",
    "properties",
    "sav",
    "save",
    "settings",
    "sqlite",
    "sqlite3",
    "state",
    "tmp",
    "wal",
];

/// From this size on a file is linked whatever its ending.
const LARGE: u64 = 1 << 20;

/// So many files of one ending are a mass: data, not settings.
const MASS: usize = 64;

/// The wish, resolved for one filesystem and one listing: which way each file is to be shared.
pub(crate) struct Policy<'a> {
    wish: Sharing,
    facts: Facts,
    written: &'a PathSet,
    /// Files that this twin writes in place, and files that nobody but their user may read; in the order of paths.
    in_place: &'a [RelPath],
    private: &'a [RelPath],
    /// Files of the home that may be links.
    home: HashSet<&'a str>,
    endings: HashMap<String, usize>,
}

impl<'a> Policy<'a> {
    /// Resolves `sharing` for the files of `listing`; `written` are the live and scratch paths.
    pub(crate) fn new(sharing: Sharing, facts: Facts, listing: &Listing, written: &'a PathSet) -> Self {
        let (in_place, private, home) = (&[] as &[_], &[] as &[_], HashSet::new());
        let mut policy = Self { wish: sharing, facts, written, in_place, private, home, endings: HashMap::new() };
        // Only a careful choice asks what comes in masses.
        if policy.links() && sharing == Sharing::Careful {
            // As they are spelt first: there are few spellings, and many files.
            let mut spelt: HashMap<&str, usize> = HashMap::new();
            for (_, ending) in listing.entries().iter().filter_map(|e| e.path.name().rsplit_once('.')) {
                *spelt.entry(ending).or_insert(0) += 1;
            }
            for (ending, count) in spelt {
                *policy.endings.entry(ending.to_lowercase()).or_insert(0) += count;
            }
        }
        policy
    }

    /// With files that are written in place, and files that nobody but their user may read: all of them stay the twin's
    /// own. In the order of paths.
    pub(crate) fn with_own(self, in_place: &'a [RelPath], private: &'a [RelPath]) -> Self {
        Self { in_place, private, ..self }
    }

    /// Whether nobody but its user may read a file.
    pub(crate) fn is_private(&self, path: &RelPath) -> bool {
        self.private.binary_search(path).is_ok()
    }

    /// With files of the home that may be links: where nothing runs there that would write to them.
    pub(crate) fn with_home(self, home: impl IntoIterator<Item = &'a RelPath>) -> Self {
        Self { home: home.into_iter().map(RelPath::as_str).collect(), ..self }
    }

    /// Why files that could have been shared are not, if that is so.
    pub(crate) fn unshared(&self) -> Option<Unshared> {
        match (self.wish, self.facts) {
            (Sharing::None, _) => Some(Unshared::Wish),
            (_, Facts { reflink: true, .. }) => None,
            (_, Facts { link: false, .. }) => Some(Unshared::NoLinks),
            (Sharing::Careful, Facts { guard: false, .. }) => Some(Unshared::NoGuard),
            _ => None,
        }
    }

    /// Whether any file may be linked, so that the yard must be held alone.
    pub(crate) fn links(&self) -> bool {
        !self.facts.reflink
            && self.facts.link
            && match self.wish {
                Sharing::All => true,
                Sharing::Careful => self.facts.guard,
                Sharing::None => false,
            }
    }

    /// The way to try first for `entry`; a failure that means "not here" falls back to a copy.
    pub(crate) fn way(&self, entry: &Entry) -> Share {
        let Node::File { size, .. } = entry.node else { return Share::Copy };
        if self.wish == Sharing::None || size == 0 {
            Share::Copy
        } else if self.facts.reflink {
            Share::Reflink
        } else if self.links() && self.linkable(entry, size) {
            Share::Link
        } else {
            Share::Copy
        }
    }

    /// [`Policy::way`] of each entry of a listing.
    pub(crate) fn ways(&self, listing: &Listing, threads: usize) -> Vec<Share> {
        let mut ways = vec![Share::Copy; listing.entries().len()];
        let each = ways.len().div_ceil(threads.max(1)).max(1);
        std::thread::scope(|scope| {
            for (ways, entries) in ways.chunks_mut(each).zip(listing.entries().chunks(each)) {
                scope.spawn(move || ways.iter_mut().zip(entries).for_each(|(way, entry)| *way = self.way(entry)));
            }
        });
        ways
    }

    fn linkable(&self, entry: &Entry, size: u64) -> bool {
        let path = entry.path.as_str();
        let is_own = self.in_place.binary_search(&entry.path).is_ok() || self.is_private(&entry.path);
        if self.written.contains(path) || is_own {
            return false;
        }
        // A twin's home is its programs' to write in.
        if !path.starts_with("game/") {
            return self.home.contains(path);
        }
        if self.wish == Sharing::All {
            return true;
        }
        let ending = entry.path.ending().unwrap_or_default();
        let mass = !ending.is_empty() && self.endings.get(&ending).is_some_and(|&count| count >= MASS);
        !is_written(&ending) && (size >= LARGE || mass)
    }
}

/// Whether files of an ending are ones that programs write in place.
fn is_written(ending: &str) -> bool {
    WRITTEN.contains(&ending)
}

/// Those that came in masses, so many of one ending, and the others; files of an ending that are written in place are
/// neither.
pub(crate) fn masses<T>(files: Vec<T>, path: impl Fn(&T) -> &RelPath) -> (Vec<T>, Vec<T>) {
    let ending = |file: &T| path(file).ending().filter(|ending| !ending.is_empty() && !is_written(ending));
    let mut count: HashMap<String, usize> = HashMap::new();
    for ending in files.iter().filter_map(&ending) {
        *count.entry(ending).or_default() += 1;
    }
    let is_mass = |file: &T| ending(file).is_some_and(|ending| count[&ending] >= MASS);
    files.into_iter().filter(|file| ending(file).is_some()).partition(is_mass)
}
