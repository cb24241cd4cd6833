//! A twin's profile: the settings that its user edits, in `profile.toml`.

mod edits;

use std::collections::BTreeMap;
use std::fmt;
use std::path::{Path, PathBuf};
use std::str::FromStr;

pub(crate) use edits::ProfileText;
pub use edits::Variant;
use serde::{Deserialize, Serialize};
use toml_edit::{Array, Item, value};

use crate::edit::Edit;
use crate::error::{Error, LaunchError, PathContext, Result};
use crate::text::position;
use crate::{Ipc, Isolation};

/// The text of a new twin's profile.
pub(crate) const NEW: &str = "\
# Profile of this twin: what it starts, and how. Everything is optional.
# program = \"play\"              a program of the title sheet, or a path in the game folder
# arguments = [\"--windowed\"]    given to the program, in place of the sheet's
# note = \"for the old mods\"
# isolation = \"sealed\"          sealed, fenced or redirected; unset: the best that is possible
# network = \"off\"               no network; a sealed launch only
# yard = \"shown\"                the program may read the rest of the yard, which is hidden otherwise
# ipc = \"own\"                  a sealed program's own shared memory, also where it draws on an X11 display
# reach = [\"/home/me/songs\"]   folders outside that a sealed program sees; those in reach_writable it writes to, too
# wrapper = [\"some-layer\"]      put in front of the program: its name, then its arguments
# before = [\"some-command\"]     run before the program is started, and after it has ended
# after = [\"some-command\"]
# variant = \"windowed\"         the one of the variants below that is in use
# [environment]
# NAME = \"value\"
# [[edits]]                     one value in a config file, all else in it stays as it is
# file = \"game/panel.ini\"
# key = \"video.width\"
# value = \"2560\"
# enforce = true                set again at each launch
# [variants.windowed]           has what changes: program, arguments, environment, edits
# arguments = [\"--windowed\"]
";

/// A twin's settings. What is not set is as the title sheet says.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Profile {
    /// A program of the title sheet by name, or a path below the game folder.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub program: Option<String>,
    /// Arguments, in place of the title sheet's.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub arguments: Option<Vec<String>>,
    /// A word of the user's about the twin.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
    /// How far the program is kept inside its twin; unset, as far as is possible.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub isolation: Option<Isolation>,
    /// Whether it has a network; without one, it must be sealed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub network: Option<Switch>,
    /// Whether a sealed program may look at the rest of the yard.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub yard: Option<Seen>,
    /// Whether a sealed program has shared memory and semaphores of its own; unset, it has unless it is let draw on an X11
    /// display.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ipc: Option<Ipc>,
    /// Folders outside that a sealed program sees, read-only.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub reach: Vec<PathBuf>,
    /// Folders outside that a program may write to: what it does there can't be undone.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub reach_writable: Vec<PathBuf>,
    /// A command that is started in the program's place, with the program as its last arguments.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub wrapper: Option<Vec<String>>,
    /// A command that is run before the program is started. If it fails, nothing is started.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub before: Option<Vec<String>>,
    /// A command that is run when everything is over and taken in.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub after: Option<Vec<String>>,
    /// The variant that is in use.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub variant: Option<String>,
    /// Environment variables that the program gets on top of the usual ones.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub environment: BTreeMap<String, String>,
    /// Config edits.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub edits: Vec<Edit>,
    /// Named sets of changes.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub variants: BTreeMap<String, Variant>,
}

/// Something that is on or off.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Switch {
    /// As always.
    On,
    /// Not at all.
    Off,
}

/// Whether something can be seen.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Seen {
    /// As if it were not there.
    Hidden,
    /// Read-only.
    Shown,
}

/// One setting of a profile, by the name that users give it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Setting {
    /// `program`
    Program,
    /// `arguments`
    Arguments,
    /// `note`
    Note,
    /// `isolation`
    Isolation,
    /// `network`
    Network,
    /// `yard`
    Yard,
    /// `ipc`
    Ipc,
    /// `reach`: all of its folders.
    Reach,
    /// `reach+`: one more folder; with `writable`, to write to.
    ReachMore {
        /// Whether it may be written to.
        writable: bool,
    },
    /// `reach-`: one folder less.
    ReachLess,
    /// `wrapper`
    Wrapper,
    /// `before`
    Before,
    /// `after`
    After,
    /// `environment.NAME`
    Environment(String),
}

impl FromStr for Setting {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self> {
        match text {
            "program" => Ok(Self::Program),
            "arguments" => Ok(Self::Arguments),
            "note" => Ok(Self::Note),
            "isolation" => Ok(Self::Isolation),
            "network" => Ok(Self::Network),
            "yard" => Ok(Self::Yard),
            "ipc" => Ok(Self::Ipc),
            "reach" => Ok(Self::Reach),
            "reach+" => Ok(Self::ReachMore { writable: false }),
            "reach-" => Ok(Self::ReachLess),
            "wrapper" => Ok(Self::Wrapper),
            "before" => Ok(Self::Before),
            "after" => Ok(Self::After),
            _ => match text.strip_prefix("environment.") {
                Some(name) if !name.is_empty() && !name.contains(['=', '\0']) => Ok(Self::Environment(name.into())),
                _ => Err(refuse(
                    text,
                    "set",
                    "a profile has no such setting: it has program, arguments, note, isolation, network, yard, ipc, reach+, reach-, wrapper, before, after, \
                     and environment.NAME for each variable",
                )),
            },
        }
    }
}

impl fmt::Display for Setting {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Program => f.write_str("program"),
            Self::Arguments => f.write_str("arguments"),
            Self::Note => f.write_str("note"),
            Self::Isolation => f.write_str("isolation"),
            Self::Network => f.write_str("network"),
            Self::Yard => f.write_str("yard"),
            Self::Ipc => f.write_str("ipc"),
            Self::Reach | Self::ReachMore { .. } | Self::ReachLess => f.write_str("reach"),
            Self::Wrapper => f.write_str("wrapper"),
            Self::Before => f.write_str("before"),
            Self::After => f.write_str("after"),
            Self::Environment(name) => write!(f, "environment.{name}"),
        }
    }
}

fn refuse(key: &str, what: &'static str, why: &str) -> Error {
    LaunchError::Setting { key: key.into(), what, why: why.into() }.into()
}

impl Profile {
    /// Reads the profile at `path`; a missing one is an empty one.
    pub(crate) fn load(path: &Path) -> Result<(Self, String)> {
        let text = text(path)?;
        Ok((Self::parse(&text, path)?, text))
    }

    pub(crate) fn parse(text: &str, path: &Path) -> Result<Self> {
        let profile: Self = toml::from_str(text).map_err(|error: toml::de::Error| {
            let (line, column) = position(text, error.span().map_or(0, |span| span.start));
            Error::from(LaunchError::Profile {
                path: path.into(),
                line,
                column,
                message: error.message().trim().into(),
            })
        })?;
        profile.check_edits(text, path)?;
        Ok(profile)
    }

    /// The value of a setting of the profile itself, or of a variant; `None` where it isn't set.
    pub(crate) fn get_of(&self, variant: Option<&str>, setting: &Setting) -> Option<String> {
        let Some(name) = variant else { return self.get(setting) };
        let variant = self.variants.get(name)?;
        match setting {
            Setting::Program => variant.program.clone(),
            Setting::Arguments => joined(variant.arguments.as_ref()),
            Setting::Note => variant.note.clone(),
            Setting::Environment(name) => variant.environment.get(name).cloned(),
            _ => None,
        }
    }

    /// The value of a setting as text; `None` where it isn't set.
    #[must_use]
    pub fn get(&self, setting: &Setting) -> Option<String> {
        match setting {
            Setting::Program => self.program.clone(),
            Setting::Arguments => joined(self.arguments.as_ref()),
            Setting::Note => self.note.clone(),
            Setting::Isolation => self.isolation.map(|isolation| isolation.to_string()),
            Setting::Network => self.network.map(|switch| if switch == Switch::On { "on" } else { "off" }.into()),
            Setting::Yard => self.yard.map(|seen| if seen == Seen::Shown { "shown" } else { "hidden" }.into()),
            Setting::Ipc => self.ipc.map(|ipc| if ipc == Ipc::Own { "own" } else { "shared" }.into()),
            Setting::Reach | Setting::ReachMore { .. } | Setting::ReachLess => self.reached(),
            Setting::Wrapper => joined(self.wrapper.as_ref()),
            Setting::Before => joined(self.before.as_ref()),
            Setting::After => joined(self.after.as_ref()),
            Setting::Environment(name) => self.environment.get(name).cloned(),
        }
    }
}

impl Profile {
    /// The folders outside that its programs see, and those that they may write to.
    pub(crate) fn reaches(&self) -> (&[PathBuf], &[PathBuf]) {
        (&self.reach, &self.reach_writable)
    }

    fn reached(&self) -> Option<String> {
        let read = self.reach.iter().map(|folder| folder.display().to_string());
        let written = self.reach_writable.iter().map(|folder| format!("{} (writable)", folder.display()));
        let all: Vec<_> = read.chain(written).collect();
        (!all.is_empty()).then(|| all.join(", "))
    }
}

fn joined(words: Option<&Vec<String>>) -> Option<String> {
    words.map(|words| words.join(" "))
}

impl Setting {
    /// Whether its value is a list of words.
    #[must_use]
    pub fn is_list(&self) -> bool {
        matches!(self, Self::Arguments | Self::Wrapper | Self::Before | Self::After | Self::Reach)
    }
}

/// The text of the profile at `path`, right or wrong; a missing one is an empty one.
pub(crate) fn text(path: &Path) -> Result<String> {
    match crate::disk::read_own(path, crate::disk::TEXT) {
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(String::new()),
        read => Ok(String::from_utf8_lossy(&read.at("read", path)?).into_owned()),
    }
}

/// Sets a key and keeps the comments around its value, or takes it out.
fn put(table: &mut dyn toml_edit::TableLike, key: &str, item: Option<Item>) {
    match (item, table.get_mut(key)) {
        (None, _) => {
            table.remove(key);
        }
        (Some(Item::Value(mut new)), Some(Item::Value(old))) => {
            *new.decor_mut() = old.decor().clone();
            *old = new;
        }
        (Some(item), _) => {
            table.insert(key, item);
        }
    }
}

fn item(setting: &Setting, values: &[String]) -> Result<Item> {
    match (setting, values) {
        (list, all) if list.is_list() => Ok(value(all.iter().collect::<Array>())),
        (Setting::Isolation, [one]) => Ok(value(one.parse::<Isolation>()?.name())),
        (Setting::Network, [one]) if one != "on" && one != "off" => Err(refuse("network", "set", "it is on or off")),
        (Setting::Yard, [one]) if one != "hidden" && one != "shown" => {
            Err(refuse("yard", "set", "it is hidden or shown"))
        }
        (Setting::Ipc, [one]) if one != "own" && one != "shared" => Err(refuse("ipc", "set", "it is own or shared")),
        (_, [one]) => Ok(value(one)),
        _ => Err(refuse(&setting.to_string(), "set", "it takes one value: put quotes around it")),
    }
}
