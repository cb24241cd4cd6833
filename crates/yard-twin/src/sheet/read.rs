//! Reads a sheet's TOML and checks it; every complaint has its line and column.

use std::collections::BTreeMap;
use std::ops::Range;
use std::path::Path;

use serde::Deserialize;
use toml::Spanned;

use super::pattern::{self, PathSet};
use super::{
    ArchiveOf, BuildPaths, Good, Group, IdKey, Inside, Label, Mods, OnClash, Place, Program, RenameRule, Sets, Sheet,
    Unit, WrittenPaths,
};
use crate::edit::Format;
use crate::error::SheetError;
use crate::ident::Title;
use crate::path::RelPath;
use crate::text::position;

/// Platforms that a program's path can be given for.
const PLATFORMS: [&str; 4] = ["linux", "windows", "macos", "any"];

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawSheet {
    title: Spanned<String>,
    name: Option<String>,
    program: Option<Spanned<String>>,
    #[serde(default)]
    ignore_case: bool,
    #[serde(default)]
    programs: BTreeMap<String, RawProgram>,
    #[serde(default)]
    good: RawGood,
    #[serde(default)]
    inside: RawInside,
    #[serde(default)]
    label: RawLabels,
    #[serde(default)]
    paths: RawPaths,
    #[serde(default)]
    home: RawHome,
    #[serde(default)]
    formats: BTreeMap<Spanned<String>, Format>,
    #[serde(default)]
    mods: RawMods,
    #[serde(default)]
    archives: BTreeMap<String, RawArchive>,
    #[serde(default)]
    belongings: BTreeMap<String, RawGroup>,
    #[serde(default)]
    rename: Vec<RawRename>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawProgram {
    path: BTreeMap<Spanned<String>, Spanned<String>>,
    #[serde(default)]
    arguments: Vec<String>,
    folder: Option<Spanned<String>>,
    #[serde(default)]
    several: bool,
}

#[derive(Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct RawGood {
    #[serde(default)]
    present: Vec<Spanned<String>>,
    #[serde(default)]
    absent: Vec<Spanned<String>>,
    #[serde(default)]
    executable: Vec<Spanned<String>>,
}

#[derive(Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct RawInside {
    #[serde(default)]
    files: Vec<Spanned<String>>,
    #[serde(default)]
    folders: Vec<Spanned<String>>,
    #[serde(default)]
    arguments: Vec<String>,
    #[serde(default)]
    environment: BTreeMap<Spanned<String>, String>,
}

/// One source of the label, or several in order.
#[derive(Default)]
struct RawLabels(Vec<Spanned<RawLabel>>);

impl<'de> Deserialize<'de> for RawLabels {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Visitor;
        impl<'de> serde::de::Visitor<'de> for Visitor {
            type Value = RawLabels;

            fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str("a [label], or several [[label]]")
            }

            fn visit_map<A: serde::de::MapAccess<'de>>(self, map: A) -> Result<RawLabels, A::Error> {
                let one = RawLabel::deserialize(serde::de::value::MapAccessDeserializer::new(map))?;
                Ok(RawLabels(vec![Spanned::new(0..0, one)]))
            }

            fn visit_seq<A: serde::de::SeqAccess<'de>>(self, mut seq: A) -> Result<RawLabels, A::Error> {
                let mut all = Vec::new();
                while let Some(one) = seq.next_element()? {
                    all.push(one);
                }
                Ok(RawLabels(all))
            }
        }
        deserializer.deserialize_any(Visitor)
    }
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawLabel {
    file: Option<Spanned<String>>,
    line: Option<Spanned<usize>>,
    pointer: Option<Spanned<String>>,
    after: Option<Spanned<String>>,
    name: Option<Spanned<String>>,
}

#[derive(Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct RawPaths {
    #[serde(default)]
    live: Vec<Spanned<String>>,
    #[serde(default)]
    scratch: Vec<Spanned<String>>,
    #[serde(default)]
    builds: BTreeMap<Spanned<String>, RawBuildPaths>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawBuildPaths {
    live: Option<Vec<Spanned<String>>>,
    scratch: Option<Vec<Spanned<String>>>,
}

#[derive(Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct RawHome {
    #[serde(default)]
    program: Vec<Spanned<String>>,
    #[serde(default)]
    builds: BTreeMap<Spanned<String>, Vec<Spanned<String>>>,
}

#[derive(Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct RawMods {
    place: Option<Spanned<String>>,
    #[serde(default)]
    whole: Vec<Spanned<String>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawArchive {
    path: Spanned<String>,
    #[serde(default)]
    seals: Vec<Spanned<String>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawRename {
    within: Spanned<String>,
    id: Option<String>,
    #[serde(default)]
    copy: bool,
    #[serde(default)]
    keys: Vec<RawKey>,
    #[serde(default)]
    text: Vec<Spanned<String>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawKey {
    file: Spanned<String>,
    key: String,
    format: Option<Format>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawGroup {
    patterns: Vec<Spanned<String>>,
    #[serde(default)]
    unit: Unit,
    note: Option<String>,
    on_clash: Option<Spanned<String>>,
    #[serde(default)]
    large: bool,
    #[serde(default)]
    builds: BTreeMap<Spanned<String>, Vec<Spanned<String>>>,
}

/// Turns places in the text of a sheet into errors.
pub(crate) struct Checker<'a> {
    pub(crate) text: &'a str,
    pub(crate) path: &'a Path,
}

impl Checker<'_> {
    pub(crate) fn fail(&self, span: &Range<usize>, message: impl Into<String>) -> SheetError {
        let (line, column) = position(self.text, span.start);
        SheetError { path: self.path.into(), line, column, message: message.into() }
    }

    /// A path below the game folder.
    fn inside(&self, text: Spanned<String>) -> Result<String, SheetError> {
        match RelPath::new(text.as_ref().as_str()) {
            Ok(_) => Ok(text.into_inner()),
            Err(_) => Err(self.fail(
                &text.span(),
                format!("{:?} is no path inside the game folder: no '..', no leading '/'", text.as_ref()),
            )),
        }
    }

    /// Where mods go: a folder of the game or the home.
    fn mods(&self, raw: RawMods) -> Result<Mods, SheetError> {
        let place = |text: Spanned<String>| {
            let path = RelPath::new(text.as_ref().trim_end_matches('/')).ok();
            path.filter(|path| pattern::check(path.as_str()).is_none() || matches!(path.as_str(), "game" | "home"))
                .ok_or_else(|| self.fail(&text.span(), format!("{:?} is no folder of game/ or home/", text.as_ref())))
        };
        let whole = |text: Spanned<String>| match PathSet::new([text.as_ref().as_str()], true) {
            Ok(_) if !text.as_ref().contains('/') => Ok(text.into_inner()),
            Ok(_) => Err(self.fail(&text.span(), "it is a pattern over the names of archives, without folders")),
            Err(why) => Err(self.fail(&text.span(), why)),
        };
        let whole = raw.whole.into_iter().map(whole).collect::<Result<_, _>>()?;
        Ok(Mods { place: raw.place.map(place).transpose()?, whole })
    }

    fn archive(&self, raw: RawArchive) -> Result<ArchiveOf, SheetError> {
        let path = RelPath::new(raw.path.as_ref()).ok().filter(|path| pattern::check(path.as_str()).is_none());
        let path = path.ok_or_else(|| {
            self.fail(&raw.path.span(), format!("{:?} is no path below game/ or home/", raw.path.as_ref()))
        })?;
        let seal = |text: Spanned<String>| match PathSet::new([text.as_ref().as_str()], false) {
            Ok(_) => Ok(text.into_inner()),
            Err(why) => Err(self.fail(&text.span(), why)),
        };
        Ok(ArchiveOf { path, seals: raw.seals.into_iter().map(seal).collect::<Result<_, _>>()? })
    }

    fn all_inside(&self, texts: Vec<Spanned<String>>) -> Result<Vec<String>, SheetError> {
        texts.into_iter().map(|text| self.inside(text)).collect()
    }

    pub(crate) fn patterns(&self, texts: Vec<Spanned<String>>) -> Result<Vec<String>, SheetError> {
        let check = |text: Spanned<String>| match pattern::check(text.as_ref()) {
            None => Ok(text.into_inner()),
            Some(why) => Err(self.fail(&text.span(), format!("{:?}: {why}", text.as_ref()))),
        };
        texts.into_iter().map(check).collect()
    }

    /// Patterns of what is the player's own: not all that there is.
    fn own_patterns(&self, texts: Vec<Spanned<String>>) -> Result<Vec<String>, SheetError> {
        if let Some(text) = texts.iter().find(|text| pattern::catches_all(text.as_ref())) {
            let why = "it catches every file of the game, and those are no belongings: name a folder or an ending";
            return Err(self.fail(&text.span(), format!("{:?}: {why}", text.as_ref())));
        }
        self.patterns(texts)
    }

    fn rename(&self, raw: RawRename) -> Result<RenameRule, SheetError> {
        let within = |text: &Spanned<String>| match pattern::check(&text.as_ref().replace("{id}", "id")) {
            None => Ok(text.as_ref().clone()),
            Some(why) => Err(self.fail(&text.span(), format!("{:?}: {why}", text.as_ref()))),
        };
        let key = |raw: &RawKey| {
            let key = IdKey { file: within(&raw.file)?, key: raw.key.clone(), format: raw.format };
            match key.format() {
                Some(_) => Ok(key),
                None => Err(self.fail(
                    &raw.file.span(),
                    "its ending says no format: name one (ini, lines, properties, json, toml, xml)",
                )),
            }
        };
        Ok(RenameRule {
            within: within(&raw.within)?.trim_end_matches('/').to_owned(),
            id: raw.id,
            copy: raw.copy,
            keys: raw.keys.iter().map(key).collect::<Result<_, _>>()?,
            text: raw.text.iter().map(within).collect::<Result<_, _>>()?,
        })
    }

    fn group(&self, raw: RawGroup) -> Result<Group, SheetError> {
        let on_clash = match raw.on_clash.as_ref().map(|text| text.as_ref().as_str()) {
            None => None,
            Some("skip") => Some(OnClash::Skip),
            Some("both") => Some(OnClash::Both),
            Some(_) => {
                let span = raw.on_clash.map_or(0..0, |text| text.span());
                let why =
                    "on_clash is \"skip\" or \"both\" in a sheet: what replaces something must be asked for each time";
                return Err(self.fail(&span, why));
            }
        };
        let builds = self.by_build(raw.builds, |patterns| self.own_patterns(patterns))?;
        let RawGroup { patterns, unit, note, large, .. } = raw;
        Ok(Group { patterns: self.own_patterns(patterns)?, unit, note, on_clash, large, builds })
    }

    fn program(&self, raw: RawProgram) -> Result<Program, SheetError> {
        let mut path = BTreeMap::new();
        for (platform, program) in raw.path {
            if !PLATFORMS.contains(&platform.as_ref().as_str()) {
                let known = PLATFORMS.join(", ");
                return Err(
                    self.fail(&platform.span(), format!("{:?} is no platform; there are {known}", platform.as_ref()))
                );
            }
            path.insert(platform.into_inner(), self.inside(program)?);
        }
        let folder = match raw.folder {
            Some(folder) if !matches!(folder.as_ref().as_str(), "" | ".") => self.inside(folder)?,
            _ => String::new(),
        };
        Ok(Program { path, arguments: raw.arguments, folder, several: raw.several })
    }

    fn kept_inside(&self, raw: RawInside) -> Result<Inside, SheetError> {
        let mut environment = BTreeMap::new();
        for (name, value) in raw.environment {
            if name.as_ref().is_empty() || name.as_ref().contains(['=', '\0']) || value.contains('\0') {
                return Err(self.fail(&name.span(), format!("{:?} can't be an environment variable", name.as_ref())));
            }
            environment.insert(name.into_inner(), value);
        }
        Ok(Inside {
            files: self.all_inside(raw.files)?,
            folders: self.all_inside(raw.folders)?,
            arguments: raw.arguments,
            environment,
        })
    }

    /// Other patterns in some builds, by patterns over their labels.
    fn by_build<T, U>(
        &self,
        raw: BTreeMap<Spanned<String>, T>,
        each: impl Fn(T) -> Result<U, SheetError>,
    ) -> Result<BTreeMap<String, U>, SheetError> {
        let mut builds = BTreeMap::new();
        for (label, patterns) in raw {
            if let Some(why) = pattern::check_label(label.as_ref()) {
                return Err(self.fail(&label.span(), format!("{:?}: {why}", label.as_ref())));
            }
            builds.insert(label.into_inner(), each(patterns)?);
        }
        Ok(builds)
    }

    /// Patterns of a home: what a program keeps of itself there.
    fn home_patterns(&self, texts: Vec<Spanned<String>>) -> Result<Vec<String>, SheetError> {
        match texts
            .iter()
            .find(|text| !text.as_ref().starts_with("home/") || text.as_ref().trim_matches('*') == "home/")
        {
            Some(text) => Err(self.fail(&text.span(), format!("{:?} names no part of the home", text.as_ref()))),
            None => self.patterns(texts),
        }
    }

    /// Patterns below the game folder.
    fn below_game(&self, texts: Vec<Spanned<String>>) -> Result<Vec<String>, SheetError> {
        let check = |text: Spanned<String>| match pattern::check(&format!("game/{}", text.as_ref())) {
            None => Ok(text.into_inner()),
            Some(why) => Err(self.fail(&text.span(), format!("{:?}: {why}", text.as_ref()))),
        };
        texts.into_iter().map(check).collect()
    }

    /// Endings or whole names of files, in lower case.
    fn formats(&self, raw: BTreeMap<Spanned<String>, Format>) -> Result<BTreeMap<String, Format>, SheetError> {
        let check = |(name, format): (Spanned<String>, Format)| {
            let plain = name.as_ref().strip_prefix("*.").unwrap_or(name.as_ref()).to_lowercase();
            match plain.is_empty() || plain.contains(['/', '*', '?', '[']) {
                true => {
                    Err(self.fail(&name.span(), format!("{:?} is neither an ending nor a file's name", name.as_ref())))
                }
                false => Ok((plain, format)),
            }
        };
        raw.into_iter().map(check).collect()
    }

    fn label(&self, raw: Spanned<RawLabel>) -> Result<Label, SheetError> {
        let span = raw.span();
        let raw = raw.into_inner();
        // A table's own place is not known; that of what it has is.
        let span = raw.file.as_ref().or(raw.name.as_ref()).map_or(span, Spanned::span);
        let place = match (raw.line, raw.pointer, raw.after, raw.name) {
            (Some(line), None, None, None) if *line.as_ref() == 0 => {
                return Err(self.fail(&line.span(), "lines count from 1"));
            }
            (Some(line), None, None, None) => Place::Line(line.into_inner()),
            (None, Some(pointer), None, None) if !pointer.as_ref().starts_with('/') => {
                return Err(self.fail(&pointer.span(), "a JSON pointer starts with '/', as in \"/build\""));
            }
            (None, Some(pointer), None, None) => Place::Pointer(pointer.into_inner()),
            (None, None, Some(after), None) if after.as_ref().trim().is_empty() => {
                return Err(self.fail(&after.span(), "the text before the label is empty"));
            }
            (None, None, Some(after), None) => Place::After(after.into_inner()),
            (None, None, None, Some(name)) if name.as_ref().matches("{build}").count() != 1 => {
                return Err(self.fail(&name.span(), "the name has {build} where the label is, as in \"game-{build}\""));
            }
            (None, None, None, Some(name)) => Place::Name(name.into_inner()),
            _ => return Err(self.fail(&span, "a [label] has a file with a line, a pointer or after; or a name")),
        };
        let wants_file = !matches!(place, Place::Name(_));
        if wants_file != raw.file.is_some() {
            return Err(self.fail(&span, "a [label] has a file with a line, a pointer or after; or a name"));
        }
        Ok(Label { file: raw.file.map(|file| self.inside(file)).transpose()?, place })
    }
}

pub(super) fn parse(text: &str, path: &Path) -> Result<Sheet, SheetError> {
    let checker = Checker { text, path };
    let raw: RawSheet =
        toml::from_str(text).map_err(|error| checker.fail(&error.span().unwrap_or(0..0), error.message().trim()))?;
    let title =
        Title::new(raw.title.as_ref().as_str()).map_err(|error| checker.fail(&raw.title.span(), error.to_string()))?;
    let mut programs = BTreeMap::new();
    for (name, program) in raw.programs {
        programs.insert(name, checker.program(program)?);
    }
    let program = match raw.program {
        Some(name) if !programs.contains_key(name.as_ref()) => {
            return Err(checker.fail(&name.span(), format!("there is no [programs.{}]", name.as_ref())));
        }
        Some(name) => Some(name.into_inner()),
        None if programs.len() == 1 => programs.keys().next().cloned(),
        None => None,
    };
    let mut belongings = BTreeMap::new();
    for (name, group) in raw.belongings {
        belongings.insert(name, checker.group(group)?);
    }
    let mut archives = BTreeMap::new();
    for (name, archive) in raw.archives {
        archives.insert(name, checker.archive(archive)?);
    }
    let rename = raw.rename.into_iter().map(|raw| checker.rename(raw)).collect::<Result<_, _>>()?;
    let paths = WrittenPaths {
        live: checker.patterns(raw.paths.live)?,
        scratch: checker.patterns(raw.paths.scratch)?,
        home_program: checker.home_patterns(raw.home.program)?,
    };
    let mut path_builds = checker.by_build(raw.paths.builds, |paths| {
        let patterns = |texts: Option<_>| texts.map(|texts| checker.patterns(texts)).transpose();
        Ok(BuildPaths { live: patterns(paths.live)?, scratch: patterns(paths.scratch)?, home_program: None })
    })?;
    for (label, program) in checker.by_build(raw.home.builds, |texts| checker.home_patterns(texts))? {
        path_builds.entry(label).or_default().home_program = Some(program);
    }
    let fail = |why| checker.fail(&(0..0), why);
    let executable = checker.below_game(raw.good.executable)?;
    let marked: Vec<String> = executable.iter().map(|pattern| format!("game/{pattern}")).collect();
    let sets = Sets::new(&belongings, &paths, raw.ignore_case).map_err(fail)?;
    Ok(Sheet {
        name: raw.name.unwrap_or_else(|| title.to_string()),
        title,
        programs,
        program,
        good: Good {
            present: checker.all_inside(raw.good.present)?,
            absent: checker.all_inside(raw.good.absent)?,
            executable,
        },
        is_executable: PathSet::new(marked.iter().map(String::as_str), raw.ignore_case).map_err(fail)?,
        inside: checker.kept_inside(raw.inside)?,
        labels: raw.label.0.into_iter().map(|label| checker.label(label)).collect::<Result<_, _>>()?,
        belongings,
        formats: checker.formats(raw.formats)?,
        mods: checker.mods(raw.mods)?,
        archives,
        rename,
        ignore_case: raw.ignore_case,
        live: paths.live,
        scratch: paths.scratch,
        home_program: paths.home_program,
        path_builds,
        sets,
    })
}
