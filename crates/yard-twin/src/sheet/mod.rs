//! Title sheets: TOML files that describe a title.

mod draft;
mod label;
pub(crate) mod learn;
pub(crate) mod pattern;
mod read;
mod unit;

use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::path::Path;

pub(crate) use draft::draft;
pub(crate) use pattern::PathSet;
pub(crate) use read::Checker;
use serde::{Deserialize, Serialize};
pub use unit::Unit;
pub(crate) use unit::{main_file, with_beside};

use crate::edit::Format;
use crate::error::{PathContext, Result, SheetError};
use crate::ident::{BuildLabel, Title};
use crate::listing::{Entry, Listing, Node};
use crate::path::RelPath;
use crate::text::position;

/// A title sheet, read and checked.
#[derive(Clone, Debug, Serialize)]
pub struct Sheet {
    /// The title it is for.
    pub title: Title,
    /// The title's name as people write it; the title itself if the sheet gives none.
    pub name: String,
    /// The programs that can be started, by name.
    pub programs: BTreeMap<String, Program>,
    /// The program that is started if the profile names none: `program` of the sheet, else the only one.
    pub program: Option<String>,
    /// What a good folder has and has not, below the game folder.
    pub good: Good,
    /// What keeps the program inside its own folder.
    pub inside: Inside,
    /// How the build label is read from a folder: the first that says one counts.
    pub labels: Vec<Label>,
    /// The player's own files, by group.
    pub belongings: BTreeMap<String, Group>,
    /// The formats of config files whose endings say none, or another one: by ending or by whole name, in lower case.
    pub formats: BTreeMap<String, Format>,
    /// Where the title has its mods.
    pub mods: Mods,
    /// The program's own zip-format archives, by name.
    pub archives: BTreeMap<String, ArchiveOf>,
    /// What is renamed when a copy gets a name of its own.
    pub rename: Vec<RenameRule>,
    /// Patterns of the paths that the program writes.
    pub live: Vec<String>,
    /// Patterns of those that are worth nothing.
    pub scratch: Vec<String>,
    #[serde(skip)]
    is_executable: PathSet,
    /// Patterns of what the program keeps of itself in the home: versions, libraries, mods. They are game files.
    pub home_program: Vec<String>,
    /// What holds in the place of these three in some builds, by pattern over build labels; the first one that matches counts.
    pub path_builds: BTreeMap<String, BuildPaths>,
    #[serde(skip)]
    sets: Sets,
    #[serde(skip)]
    ignore_case: bool,
}

/// How one program is started.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Program {
    /// Its path below the game folder, for each platform (`linux`, `windows`, `macos`, `any`).
    pub path: BTreeMap<String, String>,
    /// Its arguments.
    pub arguments: Vec<String>,
    /// Its working folder below the game folder; empty for the game folder itself.
    pub folder: String,
    /// Whether it may be started again while it runs.
    pub several: bool,
}

impl Program {
    /// Its path on this platform.
    #[must_use]
    pub fn here(&self) -> Option<&str> {
        self.path.get(std::env::consts::OS).or_else(|| self.path.get("any")).map(String::as_str)
    }
}

/// Where a title has its mods.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Mods {
    /// The folder in which it looks for them.
    pub place: Option<RelPath>,
    /// Patterns over the names of archives that it takes as they are.
    pub whole: Vec<String>,
}

/// An archive of the program's own.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct ArchiveOf {
    /// Where it is.
    pub path: RelPath,
    /// Patterns of entries that tell of changes to it, and must go once there are some.
    pub seals: Vec<String>,
}

/// What a good folder has, and what it has not.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Good {
    /// Paths below the game folder that must be there.
    pub present: Vec<String>,
    /// Paths below the game folder that must not be there.
    pub absent: Vec<String>,
    /// Patterns below the game folder: files that are programs, whatever their modes say. Archives and some disks lose those.
    pub executable: Vec<String>,
}

/// What keeps a program inside its own folder, where it would write into its user's home otherwise.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Inside {
    /// Empty files below the game folder that say so.
    pub files: Vec<String>,
    /// Folders below the game folder that must be there for it.
    pub folders: Vec<String>,
    /// Arguments that say so, before all others.
    pub arguments: Vec<String>,
    /// Environment variables that say so.
    pub environment: BTreeMap<String, String>,
}

/// Where a folder says which build it is.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Label {
    /// A file below the game folder; none where the folder's own name says it.
    pub file: Option<String>,
    /// Where in it.
    pub place: Place,
}

/// The place of a build label in its file.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Place {
    /// A line of a text file, counted from 1.
    Line(usize),
    /// A JSON pointer (RFC 6901) to a string or a number.
    Pointer(String),
    /// Behind the first place where a text stands, up to a space, a quote or what else ends a word.
    After(String),
    /// In the name of the folder or archive, where this has `{build}`.
    Name(String),
}

/// A group of belongings.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Group {
    /// Patterns over `game/` and `home/`.
    pub patterns: Vec<String>,
    /// What one thing of it is.
    pub unit: Unit,
    /// A word about it.
    pub note: Option<String>,
    /// What is done when it is carried and both twins have something of their own in one place, unless one is told.
    pub on_clash: Option<OnClash>,
    /// Whether its files are large and not written in place, such as recordings: they may share storage as data does.
    pub large: bool,
    /// Patterns that hold in their place in some builds, by pattern over build labels; the first one that matches counts.
    pub builds: BTreeMap<String, Vec<String>>,
}

/// What is renamed when a twin, or a folder inside one, is cloned under another name.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct RenameRule {
    /// The folder below which files and folders are named by an id: the twin's name, or that of the folder which is cloned
    /// inside a twin.
    pub within: String,
    /// The id that a stock build comes with.
    pub id: Option<String>,
    /// Whether what has the old id stays, and is there a second time under the new one.
    pub copy: bool,
    /// Config files that hold the id, by their paths with `{id}` for it, and where in them it is.
    pub keys: Vec<IdKey>,
    /// Files in which the id, wherever it stands as a whole word, is changed; patterns with `{id}` for it.
    pub text: Vec<String>,
}

/// Where a config file holds an id.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct IdKey {
    /// The file, below the twin's folder, with `{id}` for the id.
    pub file: String,
    /// The place in it.
    pub key: String,
    /// The file's format; unset, the one that its ending usually has.
    pub format: Option<Format>,
}

/// What is done where both twins have something of their own in one place.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum OnClash {
    /// What is there stays.
    Skip,
    /// What comes replaces it; what was there is in the history.
    Replace,
    /// The newer one of the two, by the times of the files; what is there stays where both are of one time.
    Newer,
    /// What comes gets a free name beside what is there.
    Both,
}

impl IdKey {
    /// The file's format, if that is known.
    pub(crate) fn format(&self) -> Option<Format> {
        self.format.or_else(|| Format::of_ending(&RelPath::new(&self.file).ok()?.ending()?))
    }
}

/// Paths that are elsewhere in some builds; what is not said is as in the others.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct BuildPaths {
    /// Patterns of the paths that the program writes.
    pub live: Option<Vec<String>>,
    /// Patterns of those that are worth nothing.
    pub scratch: Option<Vec<String>>,
    /// Patterns of what the program keeps of itself in the home.
    pub home_program: Option<Vec<String>>,
}

/// The same of one build.
struct WrittenPaths {
    live: Vec<String>,
    scratch: Vec<String>,
    home_program: Vec<String>,
}

/// The patterns of a sheet, ready to be matched.
#[derive(Clone, Debug)]
struct Sets {
    caught: BTreeMap<String, Caught>,
    written: PathSet,
    scratch: PathSet,
    home_program: PathSet,
}

/// What a group catches.
#[derive(Clone, Debug)]
struct Caught {
    all: PathSet,
    /// Pattern by pattern, where it matters which one it is.
    each: Vec<PathSet>,
}

impl Sets {
    fn new(belongings: &BTreeMap<String, Group>, paths: &WrittenPaths, ignore_case: bool) -> Result<Self, String> {
        let WrittenPaths { live, scratch, home_program } = paths;
        let set = |patterns: &[String]| PathSet::new(patterns.iter().map(String::as_str), ignore_case);
        let caught = belongings.iter().map(|(name, group)| {
            let one_by_one = group.unit == Unit::Folder && group.patterns.len() > 1;
            let each = group.patterns.iter().take(if one_by_one { usize::MAX } else { 0 });
            let each = each.map(|pattern| set(std::slice::from_ref(pattern))).collect::<Result<_, _>>()?;
            Ok((name.clone(), Caught { all: set(&group.patterns)?, each }))
        });
        let caught = caught.collect::<Result<_, String>>()?;
        // What is a player's own is written by the program too.
        let own = belongings.values().filter(|group| !group.large).flat_map(|group| &group.patterns);
        let written = live.iter().chain(scratch).chain(own).map(String::as_str);
        let written = PathSet::new(written, ignore_case)?;
        Ok(Self { caught, written, scratch: set(scratch)?, home_program: set(home_program)? })
    }
}

impl Sheet {
    /// Reads the sheet at `path`.
    ///
    /// # Errors
    /// [`SheetError`] with line and column; [`crate::Error::Io`] if the file can't be read.
    pub fn load(path: &Path) -> Result<Self> {
        Ok(Self::parse(&read_text(path)?, path)?)
    }

    /// Reads a sheet from text; `path` is for messages only.
    ///
    /// # Errors
    /// [`SheetError`] with line and column.
    pub fn parse(text: &str, path: &Path) -> Result<Self, SheetError> {
        read::parse(text, path)
    }

    /// The sheet with the places that groups have in one build.
    pub(crate) fn of_build(mut self, build: &BuildLabel) -> Result<Self, SheetError> {
        let mut moved = false;
        for group in self.belongings.values_mut() {
            let here = group.builds.iter().find(|(label, _)| pattern::fits_label(label, build.as_str()));
            if let Some((_, patterns)) = here {
                group.patterns.clone_from(patterns);
                moved = true;
            }
        }
        let fits = |(label, _): &(&String, &BuildPaths)| pattern::fits_label(label, build.as_str());
        let first = |paths: fn(&BuildPaths) -> &Option<Vec<String>>| {
            self.path_builds.iter().filter(fits).find_map(|(_, here)| paths(here).clone())
        };
        let here = [first(|paths| &paths.live), first(|paths| &paths.scratch), first(|paths| &paths.home_program)];
        for (new, old) in here.into_iter().zip([&mut self.live, &mut self.scratch, &mut self.home_program]) {
            if let Some(new) = new {
                *old = new;
                moved = true;
            }
        }
        if moved {
            let fail =
                |message| SheetError { path: format!("{}.toml", self.title).into(), line: 1, column: 1, message };
            let (live, scratch, home_program) = (self.live.clone(), self.scratch.clone(), self.home_program.clone());
            let paths = WrittenPaths { live, scratch, home_program };
            self.sets = Sets::new(&self.belongings, &paths, self.ignore_case).map_err(fail)?;
        }
        Ok(self)
    }

    /// The format that config files of a name have in this title, if the sheet says it.
    pub(crate) fn format_of(&self, file: &RelPath) -> Option<Format> {
        let by_name = self.formats.get(&file.name().to_lowercase()).copied();
        by_name.or_else(|| self.formats.get(&file.ending()?).copied())
    }

    /// Whether names that differ only by case are one to this title.
    pub(crate) fn ignores_case(&self) -> bool {
        self.ignore_case
    }

    /// The paths that the program writes: live and scratch.
    pub(crate) fn written(&self) -> &PathSet {
        &self.sets.written
    }

    /// Patterns of the entries of an archive that must go once anything in it is changed.
    pub(crate) fn seals_of(&self, path: &RelPath) -> Vec<String> {
        let is = |archive: &&ArchiveOf| archive.path == *path || self.ignore_case && archive.path.key() == path.key();
        self.archives.values().filter(is).flat_map(|archive| archive.seals.iter().cloned()).collect()
    }

    /// Whether it says what a path is.
    pub(crate) fn explains(&self, path: &RelPath) -> bool {
        let below = path.as_str().strip_prefix("game/");
        self.group_of(path).is_some()
            || self.written().contains(path.as_str())
            || self.is_home_program(path)
            || self.inside.files.iter().any(|file| below == Some(file))
    }

    /// Whether a path in the home is a game file: the program keeps a part of itself there.
    pub(crate) fn is_home_program(&self, path: &RelPath) -> bool {
        self.sets.home_program.contains(path.as_str())
    }

    /// Whether a path is scratch: worth nothing, so neither kept nor carried along.
    #[must_use]
    pub fn is_scratch(&self, path: &RelPath) -> bool {
        self.sets.scratch.contains(path.as_str())
    }

    /// The path of the program that is started here unless a profile says otherwise.
    #[must_use]
    pub fn default_program(&self) -> Option<String> {
        self.programs.get(self.program.as_ref()?)?.here().map(str::to_owned)
    }

    /// Whether a file is a program, whatever its mode says.
    pub(crate) fn is_program(&self, path: &RelPath) -> bool {
        self.is_executable.contains(path.as_str())
    }

    /// The group of belongings that a path is in: the first by name whose patterns match. What a database has beside its
    /// file is in the group of that.
    #[must_use]
    pub fn group_of(&self, path: &RelPath) -> Option<&str> {
        let group = |path: &str| {
            self.sets.caught.iter().find(|(_, caught)| caught.all.contains(path)).map(|(name, _)| name.as_str())
        };
        let (path, main) = (path.as_str(), main_file(path.as_str()));
        group(path).or_else(|| if main.len() == path.len() { None } else { group(main) })
    }

    /// All groups that catch a path, by name.
    pub(crate) fn groups_of(&self, path: &RelPath) -> impl Iterator<Item = &str> {
        let all = self.sets.caught.iter().filter(|(_, caught)| caught.all.contains(path.as_str()));
        all.map(|(name, _)| name.as_str())
    }

    /// All patterns over paths, each with the part of the sheet that it is in.
    pub(crate) fn patterns(&self) -> Vec<(String, String)> {
        let groups = self.belongings.iter().flat_map(|(name, group)| {
            group.patterns.iter().map(move |pattern| (format!("belongings.{name}"), pattern.clone()))
        });
        let live = self.live.iter().map(|pattern| ("paths.live".to_owned(), pattern.clone()));
        let scratch = self.scratch.iter().map(|pattern| ("paths.scratch".to_owned(), pattern.clone()));
        let home = self.home_program.iter().map(|pattern| ("home.program".to_owned(), pattern.clone()));
        groups.chain(live).chain(scratch).chain(home).collect()
    }

    /// What must be there and is not, and what must not be there and is.
    #[must_use]
    pub fn faults(&self, listing: &Listing) -> (Vec<String>, Vec<String>) {
        let has = |path: &&String| listing.has(&format!("game/{path}"));
        (
            self.good.present.iter().filter(|path| !has(path)).cloned().collect(),
            self.good.absent.iter().filter(has).cloned().collect(),
        )
    }

    /// The marker files and folders of the sheet that a listing doesn't have: paths below the twin's folder, and whether
    /// each is a folder.
    pub(crate) fn missing_markers(&self, listing: &Listing) -> Vec<(RelPath, bool)> {
        let files = self.inside.files.iter().map(|path| (path, false));
        let folders = self.inside.folders.iter().map(|path| (path, true));
        let below = |(path, folder): (&String, bool)| Some((RelPath::new(format!("game/{path}")).ok()?, folder));
        files.chain(folders).filter_map(below).filter(|(path, _)| !listing.has(path.as_str())).collect()
    }

    /// The files below the game folder that a build label may stand in.
    pub(crate) fn label_files(&self) -> Vec<&str> {
        self.labels.iter().filter_map(|label| label.file.as_deref()).collect()
    }

    /// Reads the build label of the folder `game`.
    pub(crate) fn read_label(&self, game: &Path) -> Result<String, String> {
        let mut why = "the title sheet has no [label]".to_owned();
        for label in &self.labels {
            match label::read(label, game) {
                Ok(label) => return Ok(label),
                Err(error) => why = error,
            }
        }
        Err(why)
    }
}

/// The text of a sheet's file; what is not UTF-8 is an error with its place.
pub(crate) fn read_text(path: &Path) -> Result<String> {
    let bytes = crate::disk::read_own(path, crate::disk::TEXT).at("read", path)?;
    let text = std::str::from_utf8(&bytes).map_err(|error| {
        let before = String::from_utf8_lossy(&bytes[..error.valid_up_to()]);
        let (line, column) = position(&before, before.len());
        SheetError { path: path.into(), line, column, message: "this is not UTF-8".into() }
    })?;
    Ok(text.to_owned())
}

/// A commented sheet to start from.
#[must_use]
pub fn new_sheet(title: &Title) -> String {
    template(title, &[], &[], &[])
}

/// The sheet's text, with what is known filled in and the rest explained.
fn template(title: &Title, programs: &[(&str, &str)], live: &[String], groups: &[(&str, Vec<String>)]) -> String {
    let quote = |text: &str| toml_edit::Value::from(text).to_string().trim().to_owned();
    let mut out = format!(
        "# Title sheet: what there is to know about one title. Lines that start with '#' are explanations.\n\
         title = {0}\n\
         # How people write it.\n\
         name = {0}\n\
         # Which program is started, where there are several.\n\
         # program = \"play\"\n\n",
        quote(title.as_str())
    );
    out.push_str(
        "# A program: its path in the game folder for each platform (linux, windows, macos, any).\n\
         # folder is its working folder; \"\" is the game folder itself. several = true lets it be started more than once.\n",
    );
    let (mark, (platform, path)) =
        programs.first().map_or(("# ", (std::env::consts::OS, "bin/game")), |program| ("", *program));
    if let Some(others) = programs.get(1..).filter(|others| !others.is_empty()) {
        // Names may hold line ends, and a comment ends with its line.
        let others: Vec<_> = others.iter().map(|(_, path)| format!("{path:?}")).collect();
        let _ = writeln!(out, "# Others that may be one: {}.", others.join(", "));
    }
    let _ = write!(
        out,
        "{mark}[programs.play]\n{mark}path = {{ {} = {} }}\n{mark}arguments = []\n{mark}folder = \"\"\n\n",
        platform,
        quote(path)
    );
    out.push_str(
        "# What a good folder has, and what it must not have: paths in the game folder.\n\
         [good]\npresent = []\nabsent = []\n# executable = [\"bin/*\"]       # programs whose modes an archive has lost\n\n\
         # What keeps the program inside its own folder, where it would write into your home otherwise: empty marker\n\
         # files, folders that must be there (both are laid when a twin is made), arguments, environment variables.\n\
         # [inside]\n# files = [\"stay-here.flag\"]\n# folders = [\"user\"]\n# arguments = [\"--here\"]\n# environment = { NAME = \"value\" }\n\n\
         # Where a folder says which build it is: a line of a text file, a JSON pointer, what is behind a text, or its own\n\
         # name. Several are asked in order: [[label]].\n\
         # [label]\n# file = \"release.json\"\n# pointer = \"/build\"        # or: line = 1, or: after = \"version \"; without a file: name = \"game-{build}\"\n\n\
         # How config files are written whose endings don't say it (ini, lines, properties, json, toml, xml).\n\
         # [formats]\n# opt = \"lines\"\n\n\
         # What is named by an id: the twin's name, or that of a folder that is cloned inside a twin. Below the folder, files\n\
         # and folders whose names hold the id get the new one; keys are places in config files that hold it.\n\
         # [[rename]]\n# within = \"game/versions\"\n# keys = [{ file = \"game/versions/{id}/{id}.json\", key = \"id\" }]\n\n\
         # Paths that the program writes: never shared between twins. Those in scratch are worth nothing (caches,\n\
         # logs), and neither kept nor copied along. Patterns start with game/ or home/; * stays within a folder, ** doesn't; a folder stands for all in it.\n\
         [paths]\n",
    );
    let list = |patterns: &[String]| {
        let each: Vec<_> = patterns.iter().map(|p| format!("\n    {},", quote(p))).collect();
        if each.is_empty() { "[]".to_owned() } else { format!("[{}\n]", each.concat()) }
    };
    let _ = write!(out, "live = {}\nscratch = []\n\n", list(live));
    out.push_str("# The player's own files, in groups: what you can't download again.\n");
    if groups.is_empty() {
        out.push_str("# [belongings.saves]\n# patterns = [\"game/saves/**\", \"home/.local/share/game/**\"]\n# note = \"saved games\"\n# unit = \"folder\"              what belongs together: a file, a stem (one.sav and one.png), a folder\n# on_clash = \"skip\"            when it is carried: skip or both, unless you say otherwise\n# [belongings.saves.builds]      where they are in other builds\n# \"1.*\" = [\"game/old saves/**\"]\n");
    }
    for (group, patterns) in groups {
        let _ = write!(out, "[belongings.{group}]\npatterns = {}\n\n", list(patterns));
    }
    out
}

/// Counts of belongings in a listing, by group, in the order of the groups' names.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Belongings {
    /// The group.
    pub group: String,
    /// How many files are in it.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// Some of their paths.
    pub examples: Vec<String>,
}

impl Sheet {
    /// What a listing has of each group; groups without a file are left out.
    #[must_use]
    pub fn belongings(&self, listing: &Listing) -> Vec<Belongings> {
        self.belongings_beside(listing, &Listing::default())
    }

    /// As [`Sheet::belongings`], without what another listing has just so.
    pub(crate) fn belongings_beside(&self, listing: &Listing, laid: &Listing) -> Vec<Belongings> {
        let mut groups: BTreeMap<&str, Belongings> = BTreeMap::new();
        let own = |entry: &&Entry| laid.get(entry.path.as_str()).is_none_or(|laid| laid.node != entry.node);
        let files = listing.entries().iter().filter(|entry| matches!(entry.node, Node::File { .. }));
        for entry in files.filter(own) {
            let Some(name) = self.group_of(&entry.path) else { continue };
            let group = groups.entry(name).or_insert_with(|| Belongings {
                group: name.into(),
                files: 0,
                bytes: 0,
                examples: Vec::new(),
            });
            group.files += 1;
            group.bytes += entry.node.size();
            if group.examples.len() < 3 {
                group.examples.push(entry.path.to_string());
            }
        }
        groups.into_values().collect()
    }
}
