//! The names in an archive, and what is wrong with them: what means something to any system is refused on all.

use std::collections::HashMap;
use std::path::{Path, PathBuf};

use super::{BYTES, Is, MEMBERS, Member, RATIO, SMALL, Said, as_path, fault};
use crate::error::{Error, Result};
use crate::path::{at_and_above, fold_key};

/// Checks the members of an archive one after the other.
pub(super) struct Names {
    archive: PathBuf,
    /// Each name, and each folder above one: whether it is a folder's.
    known: HashMap<String, bool>,
    members: usize,
    total: u64,
}

impl Names {
    pub(super) fn new(archive: &Path) -> Self {
        Self { archive: archive.into(), known: HashMap::new(), members: 0, total: 0 }
    }

    pub(super) fn refuse(&self, why: impl Into<String>) -> Error {
        fault(&self.archive, why)
    }

    /// Takes a member; `None` for a folder. `packed` is what it takes in the archive, if that can be said.
    pub(super) fn take(&mut self, said: &Said<'_>, packed: Option<u64>) -> Result<Option<Member>> {
        let &Said { index, name, is, size, mtime, executable } = said;
        let refuse = |why: &str| Err(fault(&self.archive, format!("{name:?}: {why}")));
        self.members += 1;
        if self.members > MEMBERS {
            return Err(self.refuse(format!("it has more than {MEMBERS} members")));
        }
        let trimmed = name.trim_end_matches('/');
        if let Some(why) = wrong(trimmed) {
            return refuse(why);
        }
        match is {
            Is::Folder => return self.folder(trimmed).map(|()| None),
            Is::Link => return refuse("it is a link, and those are not taken from archives"),
            Is::Locked => return refuse("it is encrypted"),
            Is::Special => return refuse("it is neither a file nor a folder"),
            Is::File => {}
        }
        self.total = self.total.saturating_add(size);
        let most = packed.map_or(BYTES, |packed| packed.saturating_mul(RATIO).saturating_add(SMALL));
        if self.total > BYTES || size > most {
            return refuse(&format!("it would unpack to {size} bytes, which is out of proportion"));
        }
        for (at, above) in at_and_above(trimmed).enumerate() {
            // A name is that of one file, or that of folders.
            let known = self.known.insert(fold_key(above), at > 0);
            if known.is_some_and(|folder| !folder || at == 0) {
                return refuse("there is another one of that name, or in its place");
            }
        }
        Ok(Some(Member { index, path: trimmed.into(), size, mtime, executable }))
    }

    fn folder(&mut self, name: &str) -> Result<()> {
        for above in at_and_above(name) {
            if self.known.insert(fold_key(above), true) == Some(false) {
                return Err(self.refuse(format!("{name:?}: there is another one of that name, or in its place")));
            }
        }
        Ok(())
    }
}

/// What is wrong with a name, if anything.
fn wrong(name: &str) -> Option<&'static str> {
    if as_path(name).is_none() {
        return Some("it leads out of the archive");
    }
    if name.contains(|c: char| c.is_control() || matches!(c, '\\' | ':' | '<' | '>' | '"' | '|' | '?' | '*')) {
        return Some("it has a character that no name should have");
    }
    let odd = |part: &str| {
        let stem = part.split('.').next().unwrap_or(part).to_ascii_uppercase();
        let numbered = |word: &str| stem.strip_prefix(word).is_some_and(|rest| rest.len() == 1 && rest != "0");
        part.ends_with(['.', ' '])
            || matches!(stem.as_str(), "CON" | "PRN" | "AUX" | "NUL")
            || ((numbered("COM") || numbered("LPT")) && stem.as_bytes()[3].is_ascii_digit())
    };
    name.split('/').any(odd).then_some("it is no name on every system")
}
