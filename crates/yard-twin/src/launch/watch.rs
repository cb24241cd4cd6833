//! Below a sealed launch: what changed in the usual places outside the twin while a program ran, by a look before and one
//! after.

use std::collections::{HashMap, HashSet, VecDeque};
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

/// So many files are looked at, those in the outer folders first. Who has more there learns that not all was.
const AT_MOST: usize = 50_000;

/// So long the look before a start takes at most.
const PATIENCE: Duration = Duration::from_millis(250);

/// How something looked: size, and the times of its bytes and of its inode.
type Looks = (u64, i64, i64, i64, i64);

/// The usual places as they were.
pub(crate) struct Watch {
    places: Vec<PathBuf>,
    /// What is not looked at.
    yard: PathBuf,
    seen: Sight,
}

/// What a look saw.
#[derive(Default)]
struct Sight {
    files: HashMap<PathBuf, Looks>,
    /// Folders that are there and were not looked into.
    left_out: HashSet<PathBuf>,
}

/// What a watch tells.
pub(crate) struct Watched {
    /// What is new, different or gone. Other programs may have done it.
    pub(crate) changed: Vec<PathBuf>,
    /// Where was looked.
    pub(crate) places: Vec<PathBuf>,
    /// Whether all that is there was looked at.
    pub(crate) whole: bool,
}

impl Watch {
    /// Looks at the user's own home and the system's places for temporary files.
    pub(crate) fn begin(yard: &Path) -> Self {
        let home = std::env::var_os("HOME").map(PathBuf::from).filter(|home| home.is_absolute());
        let bases = ["XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_STATE_HOME", "XDG_CACHE_HOME", "TMPDIR"];
        let bases = bases.iter().filter_map(std::env::var_os).map(PathBuf::from).filter(|path| path.is_absolute());
        let mut places: Vec<PathBuf> = home
            .into_iter()
            .chain(bases)
            .chain(["/tmp", "/var/tmp", "/dev/shm"].map(PathBuf::from))
            .filter_map(|place| place.canonicalize().ok())
            .filter(|place| place.parent().is_some())
            .collect();
        places.sort();
        // What lies in another place is looked at with that.
        places.dedup_by(|inner, outer| inner.starts_with(&*outer));
        let until = Instant::now() + PATIENCE;
        let seen = look(&places, yard, |_, files| files < AT_MOST && Instant::now() < until);
        Self { places, yard: yard.into(), seen }
    }

    /// Looks again, where it could be looked before.
    pub(crate) fn end(self) -> Watched {
        let Self { places, yard, seen: before } = self;
        let now = look(&places, &yard, |folder, files| files < 2 * AT_MOST && !before.left_out.contains(folder));
        let mut changed: Vec<_> = now
            .files
            .iter()
            .filter(|(path, looks)| before.files.get(*path) != Some(looks))
            .map(|(path, _)| path.clone())
            .collect();
        let unseen = |path: &Path| path.ancestors().any(|folder| now.left_out.contains(folder));
        changed.extend(before.files.keys().filter(|path| !now.files.contains_key(*path) && !unseen(path)).cloned());
        changed.sort();
        Watched { changed, places, whole: before.left_out.is_empty() && now.left_out.is_empty() }
    }
}

/// Looks at what is in places, and into folders as long as `into` says so of one, and of how many files were seen.
fn look(places: &[PathBuf], yard: &Path, into: impl Fn(&Path, usize) -> bool) -> Sight {
    let mut sight = Sight::default();
    let mut waiting: VecDeque<_> = places.iter().cloned().collect();
    while let Some(folder) = waiting.pop_front() {
        if !into(&folder, sight.files.len()) {
            sight.left_out.insert(folder);
            continue;
        }
        // What can't be read can't be watched.
        for entry in fs::read_dir(&folder).into_iter().flatten().flatten() {
            let path = entry.path();
            if path == yard {
                continue;
            }
            let Ok(meta) = entry.metadata() else { continue };
            if meta.is_dir() {
                waiting.push_back(path);
            } else {
                let looks = (meta.len(), meta.mtime(), meta.mtime_nsec(), meta.ctime(), meta.ctime_nsec());
                sight.files.insert(path, looks);
            }
        }
    }
    sight
}
