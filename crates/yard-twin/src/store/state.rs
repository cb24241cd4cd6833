//! Everything about a twin at one instant.

use serde::{Deserialize, Serialize};

use crate::edit::{Format, Put};
use crate::ident::{BuildRef, ListingId, StateId};
use crate::path::RelPath;
use crate::placing::ModUse;
use crate::store::pool::Sharing;

/// The format of states that this version writes.
const FORMAT: u32 = 1;

/// A state: immutable, named by the BLAKE3 of its text. The catalogue says which one a twin has; a change commits by
/// moving that pointer.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct State {
    pub(crate) format: u32,
    /// The stock build that it is on.
    pub(crate) build: BuildRef,
    /// How its files are to be shared.
    pub(crate) sharing: Sharing,
    /// What was combined and laid last.
    pub(crate) laid: ListingId,
    /// What was there at the last settle.
    pub(crate) disk: ListingId,
    /// The text of its profile.
    pub(crate) profile: String,
    /// Files that its programs write in place, in the order of paths: they stay its own.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub(crate) written: Vec<RelPath>,
    /// Files of the player's own that nobody but their user may read, in the order of paths: they stay that.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub(crate) private: Vec<RelPath>,
    /// The config edits that stand in its files.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub(crate) edits: Vec<Applied>,
    /// The mods that it has, from the lowest on.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub(crate) mods: Vec<ModUse>,
    /// The id that its names are by, where rename rules have given it one: the name that it was made under.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) named_as: Option<String>,
}

/// A config edit that was applied, with what it takes to take it back.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Applied {
    pub(crate) file: RelPath,
    pub(crate) key: String,
    pub(crate) value: String,
    pub(crate) format: Format,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) encoding: Option<String>,
    pub(crate) put: Put,
}

impl Applied {
    /// The same in a file in which other texts have come in the place of some.
    pub(crate) fn mapped(&self, other: &dyn Fn(&str) -> Option<String>) -> Self {
        let value = other(&self.value).unwrap_or_else(|| self.value.clone());
        Self { value, put: self.put.mapped(other), ..self.clone() }
    }
}

impl State {
    pub(crate) fn new(build: BuildRef, sharing: Sharing, laid: ListingId, disk: ListingId, profile: String) -> Self {
        Self {
            format: FORMAT,
            build,
            sharing,
            laid,
            disk,
            profile,
            written: Vec::new(),
            private: Vec::new(),
            edits: Vec::new(),
            mods: Vec::new(),
            named_as: None,
        }
    }

    /// The listings that it needs.
    pub(crate) fn listings(&self) -> impl Iterator<Item = ListingId> {
        [self.laid, self.disk].into_iter().chain(self.mods.iter().flat_map(ModUse::listings))
    }

    /// With more files that are written in place.
    pub(crate) fn with_written(mut self, more: impl IntoIterator<Item = RelPath>) -> Self {
        self.written.extend(more);
        self.written.sort_unstable();
        self.written.dedup();
        self
    }

    /// With what is said of files under the new names of those that move.
    pub(crate) fn with_moved(mut self, moved: &[(RelPath, RelPath)]) -> Self {
        for paths in [&mut self.written, &mut self.private] {
            let new: Vec<RelPath> =
                moved.iter().filter(|(from, _)| paths.binary_search(from).is_ok()).map(|(_, to)| to.clone()).collect();
            paths.extend(new);
            paths.sort_unstable();
            paths.dedup();
        }
        self
    }

    /// With more files that nobody but their user may read.
    pub(crate) fn with_private(mut self, more: impl IntoIterator<Item = RelPath>) -> Self {
        self.private.extend(more);
        self.private.sort_unstable();
        self.private.dedup();
        self
    }

    /// Its text and the id that follows from it.
    pub(crate) fn encode(&self) -> (StateId, Vec<u8>) {
        // A struct of strings and numbers always has a JSON form.
        let text = serde_json::to_vec(self).unwrap_or_default();
        (StateId::from_bytes(*blake3::hash(&text).as_bytes()), text)
    }

    pub(crate) fn decode(bytes: &[u8], id: StateId) -> Result<Self, String> {
        if blake3::hash(bytes).as_bytes() != id.as_bytes() {
            return Err("it is not what its name says".into());
        }
        let state: Self = serde_json::from_slice(bytes).map_err(|e| e.to_string())?;
        if state.format == FORMAT { Ok(state) } else { Err(format!("its format {} is not known", state.format)) }
    }
}
