//! Config edits and variants in a profile.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use serde::{Deserialize, Serialize};
use toml_edit::{Array, ArrayOfTables, DocumentMut, Item, Table, TableLike, value};

use super::{Profile, Setting, item, put, refuse};
use crate::edit::Edit;
use crate::error::{LaunchError, Noun, Result};
use crate::path::RelPath;
use crate::text::position;

/// A named set of changes to a profile.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Variant {
    /// A word about it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
    /// A program, in place of the profile's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub program: Option<String>,
    /// Arguments, in place of the profile's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub arguments: Option<Vec<String>>,
    /// Environment variables on top of the profile's.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub environment: BTreeMap<String, String>,
    /// Config edits on top of the profile's, or in place of those of the same places.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub edits: Vec<Edit>,
}

impl Profile {
    /// The profile with a variant's changes; without one, as it is.
    ///
    /// # Errors
    /// [`crate::Error::NotFound`] if it has no such variant.
    pub(crate) fn with_variant(mut self, name: Option<&str>) -> Result<Self> {
        let Some(name) = name else { return Ok(self) };
        let Some(variant) = self.variants.get(name).cloned() else {
            let known = self.variants.into_keys().collect();
            return Err(crate::Error::NotFound { what: Noun::Variant, name: name.into(), known });
        };
        self.program = variant.program.or(self.program);
        self.arguments = variant.arguments.or(self.arguments);
        self.environment.extend(variant.environment);
        self.edits
            .retain(|edit| !variant.edits.iter().any(|other| (&other.file, &other.key) == (&edit.file, &edit.key)));
        self.edits.extend(variant.edits);
        Ok(self)
    }

    /// The profile as it holds now: with the variant that is in use.
    pub(crate) fn in_use(self) -> Result<Self> {
        let variant = self.variant.clone();
        self.with_variant(variant.as_deref())
    }

    /// An error about the edits, if any is wrong by itself.
    pub(super) fn check_edits(&self, text: &str, path: &Path) -> Result<()> {
        let variants = self.variants.iter().map(|(name, variant)| (format!("variants.{name}."), &variant.edits));
        for (of, edits) in std::iter::once((String::new(), &self.edits)).chain(variants) {
            for (at, edit) in edits.iter().enumerate() {
                let twice = edits[..at].iter().any(|other| (&other.file, &other.key) == (&edit.file, &edit.key));
                let inside = edit.file.starts_with("game/") || edit.file.starts_with("home/");
                let why = match RelPath::new(&edit.file) {
                    Ok(_) if !inside => "its file is neither below game/ nor below home/",
                    Err(_) => "its file is no path inside the twin",
                    Ok(_) if twice => "there are two edits of one place",
                    Ok(_) if edit.format().is_none() => {
                        "its file's ending says no format: add format = \"ini\", or another"
                    }
                    Ok(_) => continue,
                };
                let quoted = toml_edit::Value::from(edit.file.as_str()).to_string();
                let (line, column) = position(text, text.find(&quoted).unwrap_or(0));
                let message = format!("{of}edits, {} in {}: {why}", edit.key, edit.file);
                return Err(LaunchError::Profile { path: path.into(), line, column, message }.into());
            }
        }
        match &self.variant {
            Some(name) if !self.variants.contains_key(name) => {
                let (line, column) = position(text, text.find("variant").unwrap_or(0));
                let message = format!("there is no [variants.{name}]");
                Err(LaunchError::Profile { path: path.into(), line, column, message }.into())
            }
            _ => Ok(()),
        }
    }
}

/// A profile's text, taken apart to be changed.
pub(crate) struct ProfileText(DocumentMut);

impl ProfileText {
    pub(crate) fn parse(text: &str, path: &Path) -> Result<Self> {
        Profile::parse(text, path)?;
        match text.parse() {
            Ok(document) => Ok(Self(document)),
            Err(error) => {
                let error: toml_edit::TomlError = error;
                let (line, column) = position(text, error.span().map_or(0, |span| span.start));
                Err(LaunchError::Profile { path: path.into(), line, column, message: error.message().into() }.into())
            }
        }
    }

    pub(crate) fn text(&self) -> String {
        self.0.to_string()
    }

    /// Sets a setting, or takes it out where there are no values; of the profile itself, or of a variant.
    pub(crate) fn change(&mut self, variant: Option<&str>, setting: &Setting, values: Option<&[String]>) -> Result<()> {
        if values.is_some_and(|values| values.iter().any(|value| value.contains('\0'))) {
            return Err(refuse(&setting.to_string(), "set", "a value can't hold a NUL"));
        }
        let fits = matches!(setting, Setting::Program | Setting::Arguments | Setting::Note | Setting::Environment(_));
        if variant.is_some() && !fits {
            let why = "a variant has a note, a program, arguments, environment variables and edits";
            return Err(refuse(&setting.to_string(), "set", why));
        }
        if matches!(setting, Setting::Reach | Setting::ReachMore { .. } | Setting::ReachLess) {
            return self.change_reach(setting, values);
        }
        let new = values.map(|values| item(setting, values)).transpose()?;
        let table = self.table(variant)?;
        match setting {
            Setting::Environment(name) => {
                let inner = table.entry("environment").or_insert_with(|| Item::Table(Table::new()));
                let Some(inner) = inner.as_table_like_mut() else {
                    return Err(refuse(&setting.to_string(), "set", "environment is no table in this profile"));
                };
                put(inner, name, new);
                if inner.is_empty() {
                    table.remove("environment");
                }
            }
            _ => put(table, &setting.to_string(), new),
        }
        Ok(())
    }

    fn change_reach(&mut self, setting: &Setting, values: Option<&[String]>) -> Result<()> {
        const LISTS: [&str; 2] = ["reach", "reach_writable"];
        let table = self.table(None)?;
        let list = |table: &dyn toml_edit::TableLike, name| -> Vec<String> {
            let all = table.get(name).and_then(Item::as_array).into_iter().flatten();
            all.filter_map(|folder| folder.as_str().map(str::to_owned)).collect()
        };
        let [mut read, mut written] = LISTS.map(|name| list(table, name));
        let named = values.unwrap_or_default();
        if values.is_none() && !matches!(setting, Setting::Reach) {
            return Err(refuse("reach+ or reach-", "unset", "unset reach takes all of its folders out"));
        }
        if let (Setting::ReachLess, Some(none)) =
            (setting, named.iter().find(|folder| !read.contains(folder) && !written.contains(folder)))
        {
            return Err(refuse("reach", "changed", &format!("{none} is none of its folders")));
        }
        let all = matches!(setting, Setting::Reach);
        for list in [&mut read, &mut written] {
            list.retain(|folder| !all && !named.contains(folder));
        }
        match setting {
            Setting::ReachMore { writable: true } => written.extend_from_slice(named),
            Setting::ReachLess => {}
            _ => read.extend_from_slice(named),
        }
        for (name, list) in LISTS.into_iter().zip([read, written]) {
            let item = (!list.is_empty()).then(|| value(list.iter().collect::<Array>()));
            put(table, name, item);
        }
        Ok(())
    }

    /// Sets an edit, or changes the one of the same place.
    pub(crate) fn set_edit(&mut self, variant: Option<&str>, edit: &Edit) -> Result<()> {
        let table = self.table(variant)?;
        let edits = table.entry("edits").or_insert_with(|| Item::ArrayOfTables(ArrayOfTables::new()));
        let Some(edits) = edits.as_array_of_tables_mut() else { return Err(no_tables(&edit.key)) };
        let index = edits.iter().position(|there| is_of(there, &edit.file, &edit.key));
        if index.is_none() {
            edits.push(Table::new());
        }
        let index = index.unwrap_or(edits.len().saturating_sub(1));
        let Some(there) = edits.get_mut(index) else { return Err(no_tables(&edit.key)) };
        put(there, "file", Some(value(edit.file.as_str())));
        put(there, "key", Some(value(edit.key.as_str())));
        put(there, "value", Some(value(edit.value.as_str())));
        put(there, "format", edit.format.map(|format| value(format.to_string())));
        put(there, "encoding", edit.encoding.as_deref().map(value));
        put(there, "enforce", edit.enforce.then(|| value(true)));
        Ok(())
    }

    /// Takes an edit out; says whether there was one.
    pub(crate) fn unset_edit(&mut self, variant: Option<&str>, file: &str, key: &str) -> Result<bool> {
        let table = self.table(variant)?;
        let Some(edits) = table.get_mut("edits") else { return Ok(false) };
        let Some(edits) = edits.as_array_of_tables_mut() else { return Err(no_tables(key)) };
        let before = edits.len();
        edits.retain(|there| !is_of(there, file, key));
        let (after, empty) = (edits.len(), edits.is_empty());
        if empty {
            table.remove("edits");
        }
        Ok(after < before)
    }

    /// Says of each edit, those of variants too, where its file is now; `place` gives a new place, or none.
    pub(crate) fn move_edits(&mut self, place: &dyn Fn(&str) -> Option<String>) {
        let variants = self.0.get("variants").and_then(Item::as_table_like);
        let names: Vec<String> =
            variants.into_iter().flat_map(|all| all.iter().map(|(name, _)| name.to_owned())).collect();
        for variant in std::iter::once(None).chain(names.iter().map(|name| Some(name.as_str()))) {
            let table = self.table(variant);
            let Some(edits) = table.ok().and_then(|table| table.get_mut("edits")?.as_array_of_tables_mut()) else {
                continue;
            };
            for edit in edits.iter_mut() {
                let Some(file) = edit.get_mut("file") else { continue };
                if let Some(to) = file.as_str().and_then(place) {
                    *file = value(to);
                }
            }
        }
    }

    /// Puts a variant in use, or none.
    pub(crate) fn use_variant(&mut self, name: Option<&str>) {
        put(self.0.as_table_mut(), "variant", name.map(value));
    }

    /// Takes parts over from another profile's text, in place of what is here; says which there were in either.
    pub(crate) fn copy(&mut self, other: &Self, parts: &[&'static str]) -> Vec<&'static str> {
        let mut copied = Vec::new();
        for part in parts {
            let (from, to) = (other.0.get(part).cloned(), self.0.contains_key(part));
            if from.is_some() || to {
                copied.push(*part);
            }
            self.take(other, part);
        }
        copied
    }

    /// Takes one part over, or out where the other text has none.
    fn take(&mut self, other: &Self, part: &str) {
        match other.0.get(part).cloned() {
            Some(mut item) => {
                // Where a table stood in the other text means nothing here.
                forget_position(&mut item);
                drop(self.0.insert(part, item));
            }
            None => drop(self.0.remove(part)),
        }
    }

    /// The text `now` without what led from one text to another, part by part and edit by edit, as far as that is still so; and
    /// whether something of it has been changed since, and stays.
    pub(crate) fn without(now: &str, (then, after): (&str, &str), path: &Path) -> Result<(String, bool)> {
        if then == after || now == after {
            return Ok((if now == after { then } else { now }.to_owned(), false));
        }
        let [old, new] = [Self::parse(then, path)?, Self::parse(after, path)?];
        let (mut text, mut later) = (Self::parse(now, path)?, false);
        let said = |text: &Self, part: &str| text.0.get(part).map(|item| item.to_string().trim().to_owned());
        let parts: BTreeSet<String> = old.0.iter().chain(new.0.iter()).map(|(part, _)| part.to_owned()).collect();
        for part in parts.iter().filter(|part| *part != "edits" && said(&old, part) != said(&new, part)) {
            if said(&text, part) == said(&new, part) {
                text.take(&old, part);
            } else {
                later |= said(&text, part) != said(&old, part);
            }
        }
        let edits = |text: &str| Ok::<_, crate::Error>(Profile::parse(text, path)?.edits);
        let (old, new, there) = (edits(then)?, edits(after)?, edits(now)?);
        let of = |edits: &[Edit], edit: &Edit| {
            edits.iter().find(|other| (&other.file, &other.key) == (&edit.file, &edit.key)).cloned()
        };
        for edit in old.iter().chain(&new) {
            let (before, set, is) = (of(&old, edit), of(&new, edit), of(&there, edit));
            if before == set || is == before {
                continue;
            }
            match before {
                _ if is != set => later = true,
                Some(before) => text.set_edit(None, &before)?,
                None => drop(text.unset_edit(None, &edit.file, &edit.key)?),
            }
        }
        let text = text.text();
        Profile::parse(&text, path)?;
        Ok((text, later))
    }

    fn table(&mut self, variant: Option<&str>) -> Result<&mut dyn TableLike> {
        let Some(name) = variant else { return Ok(self.0.as_table_mut()) };
        let wrong = || refuse("variants", "set", "variants is no table in this profile");
        let implicit = || {
            let mut table = Table::new();
            table.set_implicit(true);
            Item::Table(table)
        };
        let variants = self.0.entry("variants").or_insert_with(implicit).as_table_like_mut().ok_or_else(wrong)?;
        let variant = variants.entry(name).or_insert_with(|| Item::Table(Table::new()));
        variant.as_table_like_mut().ok_or_else(wrong)
    }
}

fn forget_position(item: &mut Item) {
    match item {
        Item::Table(table) => {
            table.set_position(None);
            table.iter_mut().for_each(|(_, item)| forget_position(item));
        }
        Item::ArrayOfTables(tables) => tables.iter_mut().for_each(|table| {
            table.set_position(None);
            table.iter_mut().for_each(|(_, item)| forget_position(item));
        }),
        _ => {}
    }
}

fn is_of(table: &Table, file: &str, key: &str) -> bool {
    let text = |name| table.get(name).and_then(Item::as_str);
    text("file") == Some(file) && text("key") == Some(key)
}

fn no_tables(key: &str) -> crate::Error {
    refuse(key, "set", "edits are no [[edits]] in this profile")
}
