//! One entry of a listing.

use serde::Serialize;

use crate::ident::ContentId;
use crate::path::RelPath;

/// What stands at a path.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum Node {
    /// A file.
    File {
        /// Its bytes.
        content: ContentId,
        /// How many there are.
        size: u64,
        /// Whether it may be executed.
        executable: bool,
    },
    /// A symlink.
    Symlink {
        /// Where it leads, as it is written in the link.
        target: Box<str>,
    },
    /// A folder with nothing in it. Any other folder is implied by what is below it.
    EmptyFolder,
}

impl Node {
    /// Size of a file in bytes; 0 for anything else.
    #[must_use]
    pub fn size(&self) -> u64 {
        match self {
            Self::File { size, .. } => *size,
            _ => 0,
        }
    }

    /// The bytes of a file.
    #[must_use]
    pub fn content(&self) -> Option<ContentId> {
        match self {
            Self::File { content, .. } => Some(*content),
            _ => None,
        }
    }
}

/// A path and what stands there.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Entry {
    /// Below the twin's folder: starts with `game/` or `home/`.
    pub path: RelPath,
    /// What stands there.
    #[serde(flatten)]
    pub node: Node,
    /// When the file was last written, in nanoseconds since 1970. Advisory: no part of the listing's id.
    pub mtime: i64,
}
