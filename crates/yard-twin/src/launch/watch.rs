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

/// So many names of a folder are looked at before it is asked whether to go on.
const TOGETHER: usize = 256;

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
    /// Folders that are there, of which not all was looked at.
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
        Self::at(places, yard, |files| files < AT_MOST && Instant::now() < until)
    }

    /// Looks at places for as long as `go_on` says so, of how many files were seen.
    fn at(places: Vec<PathBuf>, yard: &Path, go_on: impl Fn(usize) -> bool) -> Self {
        let seen = look(&places, yard, |_, files| go_on(files));
        Self { places, yard: yard.into(), seen }
    }

    /// Looks again, where all could be looked at before.
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

/// Looks at what is in places, and on in a folder as long as `go_on` says so of it, and of how many files were seen.
fn look(places: &[PathBuf], yard: &Path, go_on: impl Fn(&Path, usize) -> bool) -> Sight {
    let mut sight = Sight::default();
    let mut waiting: VecDeque<_> = places.iter().cloned().collect();
    while let Some(folder) = waiting.pop_front() {
        let mut whole = go_on(&folder, sight.files.len());
        // What can't be read can't be watched.
        let entries = whole.then(|| fs::read_dir(&folder)).into_iter().flatten().flatten();
        for (number, entry) in entries.flatten().enumerate() {
            // The clock is not asked for each of a great many.
            if number % TOGETHER == TOGETHER - 1 && !go_on(&folder, sight.files.len()) {
                whole = false;
                break;
            }
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
        if !whole {
            sight.left_out.insert(folder);
        }
    }
    sight
}

#[cfg(test)]
#[allow(clippy::unwrap_used)]
mod tests {
    use super::*;

    #[test]
    fn a_folder_of_very_many_files_is_given_up_and_what_was_looked_at_is_compared() {
        let place = tempfile::tempdir().unwrap();
        let at = |path: &str| place.path().join(path);
        for folder in ["few", "many/below", "yard"] {
            fs::create_dir_all(at(folder)).unwrap();
        }
        for (folder, files) in [("few", 3), ("many", 4 * TOGETHER), ("yard", 3)] {
            (0..files).for_each(|number| fs::write(at(&format!("{folder}/{number}")), "").unwrap());
        }
        for most in [0, TOGETHER, usize::MAX] {
            let watch = Watch::at(vec![at("few"), at("many")], &at("yard"), |files| files < most);
            assert!(watch.seen.files.len() <= most.saturating_add(TOGETHER));
            for path in ["few/new", "many/new", "many/below/new", "yard/new"] {
                fs::write(at(path), most.to_string()).unwrap();
            }
            fs::remove_file(at("few/0")).unwrap();
            let Watched { mut changed, whole, .. } = watch.end();
            changed.sort();
            let few = [at("few/0"), at("few/new")];
            let wanted: Vec<PathBuf> = match most {
                0 => Vec::new(),
                TOGETHER => few.to_vec(),
                _ => few.into_iter().chain([at("many/below/new"), at("many/new")]).collect(),
            };
            assert_eq!((changed, whole), (wanted, most == usize::MAX), "at most {most}");
            fs::write(at("few/0"), "").unwrap();
        }
    }
}
