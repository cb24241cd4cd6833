//! Mods: packages of files that are laid over a stock build, and how each is placed. Pure: it knows neither yard nor twin.

mod compose;
mod guess;
mod parts;
mod place;
mod search;
mod sheet;

use serde::{Deserialize, Serialize};

pub(crate) use compose::{Composed, Placed, compose};
pub use guess::Picture;
pub(crate) use guess::{Guess, Tree, guess, notes, wrappers, wrappings};
pub(crate) use parts::missing;
pub(crate) use place::{Inlaid, Named, Places, SHEET, is_note, place};
pub(crate) use search::{Found, Set, smallest};
pub(crate) use sheet::read as read_sheet;
pub use sheet::{After, InlayRule, ModSheet, Placement};

use crate::ident::{ListingId, ModId, ModName, Title};
use crate::path::RelPath;

/// The format of package records that this version writes.
const FORMAT: u32 = 1;

/// The folder of a listing in which a package's files are, as they came.
pub(crate) const ROOT: &str = "package";

/// A package of a mod, as it came: immutable, named by the BLAKE3 of its text.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Package {
    format: u32,
    /// What the mod is called.
    pub name: ModName,
    /// Which version of it this is, if that was said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub version: Option<String>,
    /// The title that it is for.
    pub title: Title,
    /// Its files, below `package/`.
    pub files: ListingId,
    /// The text of its mod sheet; empty if it has none.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub sheet: String,
}

impl Package {
    pub(crate) fn new(name: ModName, title: Title, files: ListingId, (sheet, text): (&ModSheet, String)) -> Self {
        Self { format: FORMAT, name, version: sheet.version.clone(), title, files, sheet: text }
    }

    /// Its text and the id that follows from it.
    pub(crate) fn encode(&self) -> (ModId, Vec<u8>) {
        // A struct of strings and numbers always has a JSON form.
        let text = serde_json::to_vec(self).unwrap_or_default();
        (ModId::from_bytes(*blake3::hash(&text).as_bytes()), text)
    }

    pub(crate) fn decode(bytes: &[u8], id: ModId) -> Result<Self, String> {
        if blake3::hash(bytes).as_bytes() != id.as_bytes() {
            return Err("it is not what its name says".into());
        }
        let package: Self = serde_json::from_slice(bytes).map_err(|error| error.to_string())?;
        if package.format == FORMAT { Ok(package) } else { Err(format!("its format {} is not known", package.format)) }
    }
}

/// A mod in a twin: a part of the twin's state.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ModUse {
    /// The package.
    pub id: ModId,
    /// Its files, as the package says: whoever only asks what is needed doesn't have to read that.
    pub files: ListingId,
    /// What the mod is called.
    pub name: ModName,
    /// Whether its files are laid.
    pub on: bool,
    /// How it is placed.
    pub choices: Choices,
    /// While it is off: what the program or the player had written in its folders.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub aside: Option<ListingId>,
    /// Folders that only it brings, and in which the player had files before it came: what is the player's there stays when
    /// it goes.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub beside: Vec<RelPath>,
}

impl ModUse {
    /// The listings that it needs.
    pub(crate) fn listings(&self) -> impl Iterator<Item = ListingId> {
        std::iter::once(self.files).chain(self.aside)
    }
}

/// How a mod is placed: complete, so that nothing is guessed twice.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Choices {
    /// The folder of the package whose contents are placed; empty for all of it.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub strip: String,
    /// The folder in the twin into which they go.
    pub into: RelPath,
    /// Patterns of what is not placed: over paths in the package, those below `strip`, or single names.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub except: Vec<String>,
    /// What goes into other folders of the twin: pattern and folder.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub place: Vec<(String, RelPath)>,
    /// Whether it is laid over builds that its sheet doesn't name, too.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub any_build: bool,
}
