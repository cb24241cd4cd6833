//! A value that is wanted in a config file.

use serde::{Deserialize, Serialize};

use super::Format;

/// A config edit: one value in one file.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Edit {
    /// The file, below the twin's folder: starts with `game/` or `home/`.
    pub file: String,
    /// The place in it, as its format names places.
    pub key: String,
    /// The value, as text.
    pub value: String,
    /// The file's format; unset, the one that its ending usually has.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub format: Option<Format>,
    /// Its encoding, where it can't be told: UTF-8 and UTF-16 with a byte order mark can, and what is neither is taken for
    /// Windows-1252.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub encoding: Option<String>,
    /// Whether it is set again at each launch, if the program or somebody else has changed it.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub enforce: bool,
}

impl Edit {
    /// The edit of a file of lines that puts a line there, in the place of the one that begins in the same way: `key=value`,
    /// `key: value`, or words of which the last one, or what is in quotes, is the value. `None` if there is no value.
    #[must_use]
    pub fn line(file: &str, line: &str) -> Option<Self> {
        let line = line.trim();
        let separated = line.find(['=', ':']).filter(|at| !line[..*at].trim_end().contains(char::is_whitespace));
        let quoted = line.ends_with('"').then(|| line[..line.len() - 1].rfind('"')).flatten();
        let (key, value) = match separated {
            Some(at) => (format!("{}{}", line[..at].trim_end(), &line[at..=at]), &line[at + 1..]),
            None => {
                let at = quoted.or_else(|| Some(line.rfind(char::is_whitespace)? + 1))?;
                (line[..at].trim_end().to_owned(), &line[at..])
            }
        };
        let (file, value, format) = (file.to_owned(), value.trim().to_owned(), Some(Format::Lines));
        (key.len() > 1 && !key.starts_with(['=', ':'])).then_some(Self {
            file,
            key,
            value,
            format,
            encoding: None,
            enforce: false,
        })
    }

    /// Its format: the one that it says, or that its file's ending usually has.
    pub(crate) fn format(&self) -> Option<Format> {
        let ending = || Some(self.file.rsplit('/').next()?.rsplit_once('.')?.1.to_lowercase());
        self.format.or_else(|| Format::of_ending(&ending()?))
    }
}
