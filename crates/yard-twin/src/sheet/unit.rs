//! What belongs together in a group: a save with its picture, a world with all that is in it.

use serde::{Deserialize, Serialize};

use super::Sheet;
use crate::path::RelPath;

/// What one thing of a group is. What a carry decides about is things, never a part of one.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Unit {
    /// Each file for itself.
    #[default]
    File,
    /// The files of one folder that are called the same up to the first dot: a slot and its picture.
    Stem,
    /// A folder with all that is in it, at the place where the pattern says `**`: a world.
    Folder,
}

/// Endings of the files that a database has beside its own while it is open, or after it was not closed (SQLite: "Temporary
/// Files Used By SQLite"). They are worth nothing without it, and spoil another one.
const BESIDE: [&str; 3] = ["-wal", "-shm", "-journal"];

/// The file that a file beside it belongs to; else the file itself.
pub(crate) fn main_file(path: &str) -> &str {
    let main = BESIDE.iter().find_map(|ending| path.strip_suffix(ending));
    main.filter(|main| !main.is_empty() && !main.ends_with('/')).unwrap_or(path)
}

/// A file, and those that may be beside it.
pub(crate) fn with_beside(main: &str) -> impl Iterator<Item = String> {
    std::iter::once(main.to_owned()).chain(BESIDE.iter().map(move |ending| format!("{main}{ending}")))
}

impl Unit {
    /// The thing that a file is a part of, as a beginning of its path; `depth` is the number of the folders that things
    /// are in.
    fn of(self, path: &str, depth: usize) -> &str {
        let main = main_file(path);
        let name = main.rfind('/').map_or(0, |slash| slash + 1);
        match self {
            Self::File => main,
            // A name that begins with a dot has its first one later.
            Self::Stem => match main[name..].char_indices().skip(1).find(|(_, c)| *c == '.') {
                Some((dot, _)) => &main[..name + dot],
                None => main,
            },
            Self::Folder => match path.match_indices('/').nth(depth) {
                Some((end, _)) => &path[..end],
                None => main,
            },
        }
    }
}

/// How many folders a pattern names before the things that it catches.
fn depth(pattern: &str) -> usize {
    let parts = || pattern.trim_end_matches('/').split('/');
    let wild = |part: &str| part.contains(['*', '?', '[', '{', '\\']);
    let all = parts().position(|part| part.contains("**"));
    all.or_else(|| parts().position(wild)).unwrap_or_else(|| parts().count())
}

impl Sheet {
    /// The thing of its group that a path is a part of, as a beginning of the path.
    pub(crate) fn unit_of<'a>(&self, path: &'a RelPath, group: Option<&str>) -> &'a str {
        let group = group.and_then(|name| Some((self.belongings.get(name)?, self.sets.caught.get(name)?)));
        let Some((group, caught)) = group else { return main_file(path.as_str()) };
        let by = caught.each.iter().position(|set| set.contains(path.as_str())).unwrap_or_default();
        group.unit.of(path.as_str(), group.patterns.get(by).map_or(0, |pattern| depth(pattern)))
    }
}

impl Sheet {
    /// Whether a group's things are of several files each.
    pub(crate) fn is_of_several(&self, group: Option<&str>) -> bool {
        group.and_then(|name| self.belongings.get(name)).is_some_and(|group| group.unit != Unit::File)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_thing_is_a_file_with_what_a_database_has_beside_it_a_slot_or_a_folder() {
        for (unit, pattern, path, expected) in [
            (Unit::File, "game/saves/**", "game/saves/a.db-wal", "game/saves/a.db"),
            (Unit::File, "game/saves/**", "game/saves/-wal", "game/saves/-wal"),
            (Unit::Stem, "game/saves/*", "game/saves/slot 1.sav.png", "game/saves/slot 1"),
            (Unit::Stem, "game/saves/*", "game/saves/.auto.sav", "game/saves/.auto"),
            (Unit::Stem, "game/saves/*", "game/saves/é", "game/saves/é"),
            (Unit::Stem, "game/saves/*", "game/saves/slot.db-shm", "game/saves/slot"),
            (Unit::Folder, "game/saves/**", "game/saves/wide/r/0.bin", "game/saves/wide"),
            (Unit::Folder, "game/saves/**", "game/saves/list.dat-journal", "game/saves/list.dat"),
            (Unit::Folder, "game/saves", "game/saves/wide/r/0.bin", "game/saves/wide"),
            (Unit::Folder, "game/*/saves/**", "game/you/saves/wide/0.bin", "game/you/saves/wide"),
            (Unit::Folder, "game/saves/*/level.dat", "game/saves/wide/level.dat", "game/saves/wide"),
        ] {
            assert_eq!(unit.of(path, depth(pattern)), expected, "{unit:?} {pattern}");
        }
    }
}
