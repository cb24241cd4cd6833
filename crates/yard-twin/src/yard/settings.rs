//! What `yard.toml` says.

use std::path::Path;

use serde::{Deserialize, Serialize};

use crate::error::{Result, YardError};
use crate::store::pool::Sharing;
use crate::text::position;

/// The format of yards that this version makes.
const FORMAT: u32 = 1;

/// What a new yard says.
pub(crate) const NEW: &str = "\
# A yard: builds taken in once, and the twins made of them.
format = 1

# How new twins share storage where the filesystem can't share blocks by itself:
# \"careful\" links large files and kinds that come in masses, \"all\" links all that programs don't write, \"none\" copies.
share = \"careful\"

# Nobody but you can look into the yard. Turned off, what is in it has the modes that it has.
private = true

# What can be gone back to. A state of a twin is kept while it is one of the last `states`, or younger than `days`;
# snapshots are kept until they are dropped. Removed twins and stock builds go after `removed_days`. What nothing needs any
# more stays for another `grace_days`, so that a catalogue from a backup still works. All of it goes by `sweep` only.
[keep]
states = 50
days = 30
removed_days = 30
grace_days = 7
";

#[derive(Clone, Copy, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Settings {
    #[expect(dead_code, reason = "read on its own first, since a newer format may have other fields")]
    format: u32,
    #[serde(default)]
    pub(crate) share: Sharing,
    #[serde(default = "yes")]
    pub(crate) private: bool,
    #[serde(default)]
    pub(crate) keep: KeepPolicy,
}

fn yes() -> bool {
    true
}

/// What of the past is kept, and how long. Nothing goes but by a sweep.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct KeepPolicy {
    /// So many of the newest states of each twin are kept at least. Default: 50.
    pub states: u32,
    /// States younger than so many days are kept. Default: 30.
    pub days: u32,
    /// Removed twins and stock builds are kept for so many days. Default: 30.
    pub removed_days: u32,
    /// What nothing needs stays for so many days more. Default: 7.
    pub grace_days: u32,
}

impl Default for KeepPolicy {
    fn default() -> Self {
        Self { states: 50, days: 30, removed_days: 30, grace_days: 7 }
    }
}

/// Reads the text of `yard.toml`.
pub(crate) fn read(text: &str, path: &Path) -> Result<Settings> {
    #[derive(Deserialize)]
    struct Format {
        format: u32,
    }
    let fail = |error: toml::de::Error| {
        let (line, column) = position(text, error.span().map_or(0, |span| span.start));
        YardError::Settings { path: path.into(), line, column, message: error.message().trim().into() }
    };
    let Format { format } = toml::from_str(text).map_err(fail)?;
    if format > FORMAT {
        return Err(YardError::NewerFormat { path: path.into(), found: format, known: FORMAT }.into());
    }
    Ok(toml::from_str(text).map_err(fail)?)
}
