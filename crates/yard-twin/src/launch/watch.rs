//! Below a sealed launch: what changed in the usual places outside the twin while a program ran, by a look before and one
//! after.

use std::collections::{HashMap, VecDeque};
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

/// So many files are looked at, those in the outer folders first: it takes a fifth of a second. Who has more there learns
/// that not all was.
const AT_MOST: usize = 50_000;

/// How something looked: size, and the times of its bytes and of its inode.
type Looks = (u64, i64, i64, i64, i64);

/// The usual places as they were.
pub(crate) struct Watch {
    places: Vec<PathBuf>,
    /// What is not looked at.
    yard: PathBuf,
    seen: HashMap<PathBuf, Looks>,
    whole: bool,
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
        let (seen, whole) = look(&places, yard);
        Self { places, yard: yard.into(), seen, whole }
    }

    /// What is new, different or gone, and whether everything was looked at. Other programs may have done it.
    pub(crate) fn end(self) -> (Vec<PathBuf>, bool) {
        let (now, whole) = look(&self.places, &self.yard);
        let mut changed: Vec<_> = now
            .iter()
            .filter(|(path, looks)| self.seen.get(*path) != Some(looks))
            .map(|(path, _)| path.clone())
            .collect();
        changed.extend(self.seen.keys().filter(|path| !now.contains_key(*path)).cloned());
        changed.sort();
        (changed, whole && self.whole)
    }
}

fn look(places: &[PathBuf], yard: &Path) -> (HashMap<PathBuf, Looks>, bool) {
    let mut seen = HashMap::new();
    let mut waiting: VecDeque<_> = places.iter().cloned().collect();
    while let Some(folder) = waiting.pop_front() {
        // What can't be read can't be watched.
        for entry in fs::read_dir(&folder).into_iter().flatten().flatten() {
            let path = entry.path();
            if path == yard {
                continue;
            }
            let Ok(meta) = entry.metadata() else { continue };
            if seen.len() == AT_MOST {
                return (seen, false);
            }
            if meta.is_dir() {
                waiting.push_back(path);
            } else {
                let looks = (meta.len(), meta.mtime(), meta.mtime_nsec(), meta.ctime(), meta.ctime_nsec());
                seen.insert(path, looks);
            }
        }
    }
    (seen, true)
}
