//! Names that people choose, and ids that never change.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use crate::error::{Error, Noun, Result};
use crate::path::fold_key;

/// Longest name, in bytes of UTF-8: leaves room for endings within the usual 255 of a file name.
const NAME_MAX: usize = 100;

/// Names that Windows keeps for devices, with any ending; folded.
const RESERVED: [&str; 24] = [
    "con", "prn", "aux", "nul", "conin$", "conout$", "com1", "com2", "com3", "com4", "com5", "com6", "com7", "com8",
    "com9", "lpt1", "lpt2", "lpt3", "lpt4", "lpt5", "lpt6", "lpt7", "lpt8", "lpt9",
];

/// Why `name` can't be a file name on every platform, if it can't.
fn fault(name: &str) -> Option<&'static str> {
    let stem = fold_key(name.split('.').next().unwrap_or_default().trim_end());
    if name.is_empty() {
        Some("it is empty")
    } else if name.len() > NAME_MAX {
        Some("it is longer than 100 bytes")
    } else if name.contains(['/', '\\']) {
        Some("it has a path in it")
    } else if name == "." || name == ".." {
        Some("it names a folder relative to another")
    } else if name.chars().any(char::is_control) {
        Some("it holds a control character")
    } else if name.contains(['<', '>', ':', '"', '|', '?', '*']) {
        Some("it holds one of < > : \" | ? *, which some filesystems can't store")
    } else if name.contains('@') {
        Some("it holds an '@', which stands between a title and a build")
    } else if name.starts_with(['-', ' ', '.']) {
        Some("it starts with '-', '.' or a space")
    } else if name.ends_with([' ', '.']) {
        Some("it ends in a space or a dot, which some filesystems drop")
    } else if RESERVED.contains(&stem.as_str()) {
        Some("some platforms keep it for a device")
    } else {
        None
    }
}

macro_rules! name_type {
    ($(#[$doc:meta])* $name:ident, $what:expr) => {
        $(#[$doc])*
        ///
        /// Usable as a file name on every platform: 1 to 100 bytes, none of `/ \ < > : " | ? * @`, no control
        /// characters, no leading `-`, `.` or space, no trailing dot or space, no device name.
        #[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
        #[serde(try_from = "String", into = "String")]
        pub struct $name(String);

        impl $name {
            /// Checks `text` and takes it as a name.
            ///
            /// # Errors
            /// [`Error::Name`] with the reason.
            pub fn new(text: impl Into<String>) -> Result<Self> {
                let text = text.into();
                match fault(&text) {
                    None => Ok(Self(text)),
                    Some(why) => Err(Error::Name { what: $what, name: text, why }),
                }
            }

            /// The name as text.
            #[must_use]
            pub fn as_str(&self) -> &str {
                &self.0
            }

            /// Two names with one key can't stand side by side: they differ by case or normalisation only.
            #[must_use]
            pub fn key(&self) -> String {
                fold_key(&self.0)
            }
        }

        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str(&self.0)
            }
        }

        impl FromStr for $name {
            type Err = Error;
            fn from_str(text: &str) -> Result<Self> {
                Self::new(text)
            }
        }

        impl TryFrom<String> for $name {
            type Error = Error;
            fn try_from(text: String) -> Result<Self> {
                Self::new(text)
            }
        }

        impl From<$name> for String {
            fn from(name: $name) -> Self {
                name.0
            }
        }
    };
}

name_type!(
    /// What a twin is called.
    TwinName,
    Noun::TwinName
);
name_type!(
    /// The short name of a title: the name of its sheet, and what stands before the `@` of a build.
    Title,
    Noun::Title
);
name_type!(
    /// What tells one released state of a title from another, such as `1.4`.
    BuildLabel,
    Noun::BuildLabel
);

name_type!(
    /// What a mod is called.
    ModName,
    Noun::ModName
);

name_type!(
    /// What a snapshot is called. One that looks like a number is refused where it is set, since numbers name states.
    SnapshotLabel,
    Noun::SnapshotLabel
);

/// A state in a twin's history: by its number, or by its label.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum SnapshotRef {
    /// By the number that the history shows.
    Number(u32),
    /// By the label of a snapshot.
    Label(SnapshotLabel),
}

impl FromStr for SnapshotRef {
    type Err = Error;
    fn from_str(text: &str) -> Result<Self> {
        text.parse().map_or_else(|_| text.parse().map(Self::Label), |number| Ok(Self::Number(number)))
    }
}

impl fmt::Display for SnapshotRef {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Number(number) => number.fmt(f),
            Self::Label(label) => label.fmt(f),
        }
    }
}

/// A stock build by name: `title@build`.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct BuildRef {
    /// The title.
    pub title: Title,
    /// The build.
    pub build: BuildLabel,
}

impl fmt::Display for BuildRef {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}@{}", self.title, self.build)
    }
}

impl FromStr for BuildRef {
    type Err = Error;
    fn from_str(text: &str) -> Result<Self> {
        let (title, build) = text.split_once('@').ok_or_else(|| Error::Name {
            what: Noun::StockBuild,
            name: text.into(),
            why: "it is not of the form TITLE@BUILD",
        })?;
        Ok(Self { title: Title::new(title)?, build: BuildLabel::new(build)? })
    }
}

impl TryFrom<String> for BuildRef {
    type Error = Error;
    fn try_from(text: String) -> Result<Self> {
        text.parse()
    }
}

impl From<BuildRef> for String {
    fn from(build: BuildRef) -> Self {
        build.to_string()
    }
}

/// What a clone is made from: a stock build (`title@build`) or a twin.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Source {
    /// A stock build.
    Stock(BuildRef),
    /// A twin, as it is now; a removed one as it was when it was removed.
    Twin(TwinName),
}

impl FromStr for Source {
    type Err = Error;
    fn from_str(text: &str) -> Result<Self> {
        if text.contains('@') { text.parse().map(Self::Stock) } else { text.parse().map(Self::Twin) }
    }
}

impl fmt::Display for Source {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Stock(build) => build.fmt(f),
            Self::Twin(name) => name.fmt(f),
        }
    }
}

/// One side of a comparison: a stock build (`title@build`), a twin, or a kept state of one (`twin:label`, `twin:number`).
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Side {
    /// A stock build.
    Stock(BuildRef),
    /// A twin, as it is now; a removed one as it was when it was removed.
    Twin(TwinName),
    /// A state in a twin's history.
    Kept(TwinName, SnapshotRef),
}

impl FromStr for Side {
    type Err = Error;
    fn from_str(text: &str) -> Result<Self> {
        match text.split_once(':') {
            Some((twin, snapshot)) => Ok(Self::Kept(twin.parse()?, snapshot.parse()?)),
            None if text.contains('@') => text.parse().map(Self::Stock),
            None => text.parse().map(Self::Twin),
        }
    }
}

impl fmt::Display for Side {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Stock(build) => build.fmt(f),
            Self::Twin(name) => name.fmt(f),
            Self::Kept(name, snapshot) => write!(f, "{name}:{snapshot}"),
        }
    }
}

/// Writes `bytes` in lower-case hexadecimal.
fn to_hex(bytes: &[u8], f: &mut fmt::Formatter<'_>) -> fmt::Result {
    const DIGITS: &[u8; 16] = b"0123456789abcdef";
    // The longest id.
    let mut text = [0; 64];
    for (pair, byte) in text.as_chunks_mut::<2>().0.iter_mut().zip(bytes) {
        *pair = [DIGITS[usize::from(byte >> 4)], DIGITS[usize::from(byte & 15)]];
    }
    f.write_str(std::str::from_utf8(&text[..bytes.len() * 2]).unwrap_or_default())
}

fn from_hex<const N: usize>(text: &str) -> Option<[u8; N]> {
    let digit = |digit: u8| match digit {
        b'0'..=b'9' => Some(digit - b'0'),
        b'a'..=b'f' => Some(digit - b'a' + 10),
        _ => None,
    };
    let (pairs, []) = text.as_bytes().as_chunks::<2>() else { return None };
    if pairs.len() != N {
        return None;
    }
    let mut bytes = [0; N];
    for (byte, [high, low]) in bytes.iter_mut().zip(pairs) {
        *byte = digit(*high)? << 4 | digit(*low)?;
    }
    Some(bytes)
}

macro_rules! id_type {
    ($(#[$doc:meta])* $name:ident, $what:expr, $len:literal) => {
        $(#[$doc])*
        #[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
        #[serde(try_from = "String", into = "String")]
        pub struct $name([u8; $len]);

        // Its bytes are as good as random already: a few of them tell it from others.
        impl std::hash::Hash for $name {
            fn hash<H: std::hash::Hasher>(&self, state: &mut H) {
                let few = self.0.first_chunk().map_or(0, |few| u64::from_le_bytes(*few));
                state.write_u64(few);
            }
        }

        impl $name {
            /// The raw bytes.
            #[must_use]
            pub fn as_bytes(&self) -> &[u8; $len] {
                &self.0
            }
        }

        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                to_hex(&self.0, f)
            }
        }

        impl fmt::Debug for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                to_hex(&self.0, f)
            }
        }

        impl FromStr for $name {
            type Err = Error;
            fn from_str(text: &str) -> Result<Self> {
                from_hex(text).map(Self).ok_or_else(|| Error::Name {
                    what: $what,
                    name: text.into(),
                    why: concat!("it is not ", stringify!($len), " bytes in lower-case hexadecimal"),
                })
            }
        }

        impl TryFrom<String> for $name {
            type Error = Error;
            fn try_from(text: String) -> Result<Self> {
                text.parse()
            }
        }

        impl From<$name> for String {
            fn from(id: $name) -> Self {
                id.to_string()
            }
        }
    };
}

id_type!(
    /// The bytes of one file: their BLAKE3-256.
    ContentId, Noun::ContentId, 32
);
id_type!(
    /// What a folder holds: BLAKE3-256 of the listing's canonical stream.
    ListingId, Noun::ListingId, 32
);
id_type!(
    /// Everything about a twin at one instant: BLAKE3-256 of the state's text.
    StateId, Noun::StateId, 32
);
id_type!(
    /// A package of a mod: BLAKE3-256 of the text of its record.
    ModId, Noun::ModId, 32
);
id_type!(
    /// A twin, for ever: random, kept through every rename.
    TwinId, Noun::TwinId, 8
);

macro_rules! from_hash {
    ($($name:ident),*) => {
        $(impl $name {
            pub(crate) fn from_bytes(bytes: [u8; 32]) -> Self {
                Self(bytes)
            }
        })*
    };
}

from_hash!(ContentId, ListingId, ModId, StateId);

impl TwinId {
    /// A new random id.
    ///
    /// # Errors
    /// [`Error::Io`] if the system has no random numbers to give.
    pub(crate) fn random() -> Result<Self> {
        let mut bytes = [0; 8];
        rustix::rand::getrandom(&mut bytes, rustix::rand::GetRandomFlags::empty())
            .map_err(|e| Error::io("read random numbers from", "the system", e.into()))?;
        Ok(Self(bytes))
    }
}
