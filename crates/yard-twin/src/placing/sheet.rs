//! Mod sheets: TOML files that say of a package what it is for and where its files go. They are data, and run nothing.

use std::path::Path;

use serde::{Deserialize, Serialize};
use toml::Spanned;

use crate::edit::Format;
use crate::error::{Result, SheetError};
use crate::ident::ModName;
use crate::path::RelPath;
use crate::sheet::{Checker, PathSet, pattern};

/// What a mod sheet says.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct ModSheet {
    /// What the mod is called.
    pub name: Option<ModName>,
    /// Which version of it this is.
    pub version: Option<String>,
    /// Patterns over the labels of the builds that it is for; none: all.
    pub builds: Vec<String>,
    /// Mods that must lie below it.
    pub needs: Vec<ModName>,
    /// Mods beside which it can't be.
    pub clashes: Vec<ModName>,
    /// How the archives are called that it comes in, as patterns, where there are several.
    pub parts: Vec<String>,
    /// Where its files go. None: all as was found out when it was added.
    pub place: Vec<Placement>,
    /// What goes into archives of the program.
    pub inlay: Vec<InlayRule>,
    /// Patterns of files that it takes away from what lies below it.
    pub remove: Vec<String>,
    /// Config edits.
    pub edit: Vec<crate::edit::Edit>,
    /// What is to be said and looked at once it is laid.
    pub after: After,
}

/// Where some files of a package go.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Placement {
    /// Which: a pattern over paths in the package.
    pub from: String,
    /// The folder in the twin.
    pub to: RelPath,
    /// Patterns of those that do not.
    pub except: Vec<String>,
}

/// What a mod changes inside one of the program's own zip-format archives.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct InlayRule {
    /// The archive.
    pub archive: RelPath,
    /// Which files of the package go in: a pattern over paths in it.
    pub from: Option<String>,
    /// The folder in the archive that they go into; empty for its top.
    pub to: String,
    /// Patterns over the names of entries that come out.
    pub remove: Vec<String>,
}

/// What is so once a mod is laid.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct After {
    /// Paths that must be there.
    pub expect: Vec<RelPath>,
    /// Patterns of what the program writes of its own for this mod: goes aside with it.
    pub live: Vec<String>,
    /// What the player is told.
    pub note: Option<String>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Raw {
    name: Option<Spanned<String>>,
    version: Option<String>,
    #[serde(default)]
    builds: Vec<Spanned<String>>,
    #[serde(default)]
    needs: Vec<Spanned<String>>,
    #[serde(default)]
    clashes: Vec<Spanned<String>>,
    #[serde(default)]
    parts: Vec<Spanned<String>>,
    #[serde(default)]
    place: Vec<RawPlace>,
    #[serde(default)]
    inlay: Vec<RawInlay>,
    #[serde(default)]
    remove: Vec<Spanned<String>>,
    #[serde(default)]
    edit: Vec<Spanned<RawEdit>>,
    #[serde(default)]
    after: RawAfter,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawPlace {
    from: Spanned<String>,
    to: Spanned<String>,
    #[serde(default)]
    except: Vec<Spanned<String>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawInlay {
    archive: Spanned<String>,
    from: Option<Spanned<String>>,
    #[serde(default)]
    to: Option<Spanned<String>>,
    #[serde(default)]
    remove: Vec<Spanned<String>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawEdit {
    file: Spanned<String>,
    key: String,
    value: String,
    format: Option<Format>,
    encoding: Option<String>,
}

#[derive(Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct RawAfter {
    #[serde(default)]
    expect: Vec<Spanned<String>>,
    #[serde(default)]
    live: Vec<Spanned<String>>,
    note: Option<String>,
}

/// Reads a mod sheet and checks all of it; an empty text is that of a mod without one.
///
/// # Errors
/// [`SheetError`] with line and column: for what points outside of a twin, too, and for anything but placing.
pub(crate) fn read(text: &str, path: &Path) -> Result<ModSheet> {
    let checker = Checker { text, path };
    let raw: Raw = match toml::from_str(text) {
        Ok(raw) => raw,
        Err(error) => return Err(checker.fail(&error.span().unwrap_or(0..0), error.message()).into()),
    };
    Ok(checker.checked(raw)?)
}

impl Checker<'_> {
    fn checked(&self, raw: Raw) -> Result<ModSheet, SheetError> {
        let name = |name: &Spanned<String>| {
            ModName::new(name.get_ref()).map_err(|error| self.fail(&name.span(), error.to_string()))
        };
        let names = |names: &[Spanned<String>]| names.iter().map(name).collect::<Result<Vec<_>, _>>();
        let builds = raw.builds.into_iter().map(|build| match pattern::check_label(build.get_ref()) {
            None => Ok(build.into_inner()),
            Some(why) => Err(self.fail(&build.span(), why)),
        });
        let place = raw.place.into_iter().map(|place| {
            let except = place.except.into_iter().map(|pattern| self.of_package(pattern)).collect::<Result<_, _>>()?;
            Ok(Placement { from: self.of_package(place.from)?, to: self.folder(&place.to)?, except })
        });
        let inlay = raw.inlay.into_iter().map(|inlay| {
            let to =
                inlay.to.map_or(Ok(String::new()), |to| match RelPath::new(to.get_ref().trim_end_matches('/')) {
                    Ok(path) => Ok(path.to_string()),
                    Err(_) if to.get_ref().is_empty() => Ok(String::new()),
                    Err(_) => Err(self.fail(&to.span(), "it is no folder in an archive")),
                })?;
            let remove = inlay.remove.into_iter().map(|pattern| self.of_package(pattern)).collect::<Result<_, _>>()?;
            let from = inlay.from.map(|from| self.of_package(from)).transpose()?;
            Ok(InlayRule { archive: self.in_twin(&inlay.archive)?, from, to, remove })
        });
        let edit = raw.edit.into_iter().map(|edit| {
            let span = edit.span();
            let RawEdit { file, key, value, format, encoding } = edit.into_inner();
            let file = self.in_twin(&file)?.to_string();
            let edit = crate::edit::Edit { file, key, value, format, encoding, enforce: false };
            match edit.format() {
                Some(_) => Ok(edit),
                None => Err(self.fail(&span, "its file's ending says no format: add format = \"ini\", or another")),
            }
        });
        let expect = raw.after.expect.iter().map(|path| self.in_twin(path)).collect::<Result<_, _>>()?;
        let live = self.patterns(raw.after.live)?;
        Ok(ModSheet {
            name: raw.name.as_ref().map(name).transpose()?,
            version: raw.version,
            builds: builds.collect::<Result<_, _>>()?,
            needs: names(&raw.needs)?,
            clashes: names(&raw.clashes)?,
            parts: raw.parts.into_iter().map(|part| self.of_package(part)).collect::<Result<_, _>>()?,
            place: place.collect::<Result<_, SheetError>>()?,
            inlay: inlay.collect::<Result<_, SheetError>>()?,
            remove: self.patterns(raw.remove)?,
            edit: edit.collect::<Result<_, SheetError>>()?,
            after: After { expect, live, note: raw.after.note },
        })
    }

    /// A pattern over the paths of a package.
    fn of_package(&self, pattern: Spanned<String>) -> Result<String, SheetError> {
        let text = pattern.get_ref();
        let leads_out = text.starts_with('/') || text.split('/').any(|part| part == ".." || part == ".");
        let why = match PathSet::new([text.as_str()], true) {
            _ if text.is_empty() => "it is empty".to_owned(),
            _ if leads_out => "it leads out of the package".to_owned(),
            Err(why) => why,
            Ok(_) => return Ok(pattern.into_inner()),
        };
        Err(self.fail(&pattern.span(), why))
    }

    /// A folder of a twin, which may be all of the game or the home.
    fn folder(&self, path: &Spanned<String>) -> Result<RelPath, SheetError> {
        match RelPath::new(path.get_ref().trim_end_matches('/')) {
            Ok(folder) if matches!(folder.as_str(), "game" | "home") => Ok(folder),
            _ => self.in_twin(path),
        }
    }

    /// A path in a twin.
    fn in_twin(&self, path: &Spanned<String>) -> Result<RelPath, SheetError> {
        let fail = |why: &str| self.fail(&path.span(), format!("{:?}: {why}", path.get_ref()));
        match RelPath::new(path.get_ref().trim_end_matches('/')) {
            Ok(inside) if inside.as_str().starts_with("game/") || inside.as_str().starts_with("home/") => Ok(inside),
            Ok(_) => Err(fail("it is neither below game/ nor below home/")),
            Err(_) => Err(fail("it is no path inside the twin")),
        }
    }
}
