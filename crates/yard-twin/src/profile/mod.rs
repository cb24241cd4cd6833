//! A twin's profile: the settings that its user edits, in `profile.toml`.

use std::collections::BTreeMap;
use std::fmt;
use std::path::Path;
use std::str::FromStr;

use serde::{Deserialize, Serialize};
use toml_edit::{Array, DocumentMut, Item, Table, value};

use crate::error::{Error, LaunchError, PathContext, Result, position};

/// The text of a new twin's profile.
pub(crate) const NEW: &str = "\
# Profile of this twin: what it starts, and how. Everything is optional.
# program = \"play\"              a program of the title sheet, or a path in the game folder
# arguments = [\"--windowed\"]    given to the program, in place of the sheet's
# note = \"for the old mods\"
# [environment]
# NAME = \"value\"
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
    /// Environment variables that the program gets on top of the usual ones.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub environment: BTreeMap<String, String>,
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
            _ => match text.strip_prefix("environment.") {
                Some(name) if !name.is_empty() && !name.contains(['=', '\0']) => Ok(Self::Environment(name.into())),
                _ => Err(refuse(
                    text,
                    "set",
                    "there are program, arguments, note, and environment.NAME for each variable",
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
        toml::from_str(text).map_err(|error: toml::de::Error| {
            let (line, column) = position(text, error.span().map_or(0, |span| span.start));
            LaunchError::Profile { path: path.into(), line, column, message: error.message().trim().into() }.into()
        })
    }

    /// The value of a setting as text; `None` where it isn't set.
    #[must_use]
    pub fn get(&self, setting: &Setting) -> Option<String> {
        match setting {
            Setting::Program => self.program.clone(),
            Setting::Arguments => self.arguments.as_ref().map(|all| all.join(" ")),
            Setting::Note => self.note.clone(),
            Setting::Environment(name) => self.environment.get(name).cloned(),
        }
    }
}

/// The text of the profile at `path`, right or wrong; a missing one is an empty one.
pub(crate) fn text(path: &Path) -> Result<String> {
    match std::fs::read(path) {
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(String::new()),
        read => Ok(String::from_utf8_lossy(&read.at("read", path)?).into_owned()),
    }
}

/// The profile's text with a setting changed, or taken out where there is no value; all else stays as it is.
pub(crate) fn edited(text: &str, path: &Path, setting: &Setting, values: Option<&[String]>) -> Result<String> {
    Profile::parse(text, path)?;
    let mut document: DocumentMut = text.parse().map_err(|error: toml_edit::TomlError| {
        let (line, column) = position(text, error.span().map_or(0, |span| span.start));
        LaunchError::Profile { path: path.into(), line, column, message: error.message().into() }
    })?;
    if values.is_some_and(|values| values.iter().any(|value| value.contains('\0'))) {
        return Err(refuse(&setting.to_string(), "set", "a value can't hold a NUL"));
    }
    let item = values.map(|values| item(setting, values)).transpose()?;
    match setting {
        Setting::Environment(name) => {
            let table = document.entry("environment").or_insert_with(|| Item::Table(Table::new()));
            let Some(table) = table.as_table_like_mut() else {
                return Err(refuse(&setting.to_string(), "set", "environment is no table in this profile"));
            };
            put(table, name, item);
            if table.is_empty() {
                document.remove("environment");
            }
        }
        _ => put(document.as_table_mut(), &setting.to_string(), item),
    }
    Ok(document.to_string())
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
        (Setting::Arguments, all) => Ok(value(all.iter().collect::<Array>())),
        (_, [one]) => Ok(value(one)),
        _ => Err(refuse(&setting.to_string(), "set", "it takes one value: put quotes around it")),
    }
}
