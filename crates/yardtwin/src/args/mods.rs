//! Arguments of `mod`.

use std::ffi::OsString;
use std::path::PathBuf;

use clap::{Args as Group, Subcommand};
use yard_twin::{ModName, NameEncoding, RelPath, SnapshotRef, TwinName};

use super::DryRun;

#[derive(Subcommand)]
pub(crate) enum ModCommand {
    /// Lay a package over a twin's game: a folder, an archive, or several that belong together
    Add(Add),
    /// List a twin's mods, the topmost first
    List {
        /// The twin
        name: TwinName,
    },
    /// Show a mod that the yard keeps: what it holds, what its sheet says, and what it has to read
    Show {
        /// The mod
        name: ModName,
        /// List its files too
        #[arg(long)]
        files: bool,
    },
    /// Take the files of mods out of the game; what lay below them comes back, and they keep their places in the order
    Off(Change),
    /// Lay the files of mods again
    On(Change),
    /// Take mods out of a twin; their packages stay in the yard for a while
    Remove(Change),
    /// Give a mod another place in the order: of two that have one file, the upper one's is laid
    Move {
        /// The twin
        twin: TwinName,
        /// The mod
        name: ModName,
        /// Put it just above this one
        #[arg(long, value_name = "MOD", required_unless_present_any = ["under", "top"])]
        over: Option<ModName>,
        /// Put it just below this one
        #[arg(long, value_name = "MOD", conflicts_with = "over")]
        under: Option<ModName>,
        /// Put it above all others
        #[arg(long, conflicts_with_all = ["over", "under"])]
        top: bool,
        #[command(flatten)]
        how: Decided,
    },
    /// Put another package in the place of a mod: it keeps its place, its choices and what you have changed of it
    Update {
        /// The twin
        twin: TwinName,
        /// The mod
        name: ModName,
        /// The new package: a folder, an archive, or several that belong together
        #[arg(required = true)]
        package: Vec<PathBuf>,
        #[command(flatten)]
        place: Place,
        #[command(flatten)]
        how: Decided,
    },
    /// Make a mod of what was dropped into a twin by hand; nothing moves on disk
    Adopt {
        /// The twin
        twin: TwinName,
        /// What the mod is to be called
        name: ModName,
        /// Only what matches, belongings too: 'game/boards/*' (may be given more than once) [default: what nothing explains]
        #[arg(long, value_name = "PATTERN")]
        files: Vec<String>,
        /// Only what has changed since this state: a number from the history, or a label
        #[arg(long, value_name = "STATE")]
        since: Option<SnapshotRef>,
        #[command(flatten)]
        how: DryRun,
    },
    /// Explain one file of a twin through all that lies over each other
    Explain {
        /// The twin
        twin: TwinName,
        /// The path: game/boards/plain.wjb
        path: RelPath,
    },
    /// Find the smallest set of a twin's mods that breaks it, on a copy that is thrown away: start it with fewer and fewer
    Trial(Trial),
    /// List the packages that the yard keeps
    Kept,
}

#[derive(Group)]
pub(crate) struct Add {
    /// The package: a folder, an archive, several that belong together, or the name of a mod that the yard keeps
    #[arg(required = true)]
    pub(crate) package: Vec<PathBuf>,
    /// The twin (may be given more than once)
    #[arg(long, value_name = "NAME", required = true)]
    pub(crate) to: Vec<TwinName>,
    /// What the mod is to be called [default: as its sheet says, or as the package is called]
    #[arg(long)]
    pub(crate) name: Option<ModName>,
    /// A mod sheet that says what it is for and where its files go
    #[arg(long, value_name = "FILE")]
    pub(crate) sheet: Option<PathBuf>,
    /// Turn the twin's other mods off
    #[arg(long)]
    pub(crate) alone: bool,
    /// Delete the package once everything is safe
    #[arg(long = "move")]
    pub(crate) take_away: bool,
    /// Write a mod sheet of how it was placed
    #[arg(long, value_name = "FILE")]
    pub(crate) write_sheet: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) place: Place,
    #[command(flatten)]
    pub(crate) how: Decided,
}

#[derive(Group)]
pub(crate) struct Place {
    /// The folder in the twin that the package's contents go into: game, game/boards
    #[arg(long, value_name = "FOLDER")]
    pub(crate) into: Option<RelPath>,
    /// How many wrapping folders of the package are left away
    #[arg(long, value_name = "N")]
    pub(crate) strip: Option<usize>,
    /// Leave out what matches: a pattern over paths in the package, or over names (may be given more than once)
    #[arg(long, value_name = "PATTERN")]
    pub(crate) except: Vec<String>,
    /// Send what matches into another folder: 'rules/*.txt=home/.config/wexcombe' (may be given more than once)
    #[arg(long, value_name = "PATTERN=FOLDER", value_parser = placed)]
    pub(crate) place: Vec<(String, RelPath)>,
    /// Lay it over a build that it is not for, too
    #[arg(long)]
    pub(crate) any_build: bool,
    /// How names in archives are written that are not UTF-8, as in shift_jis or ibm437
    #[arg(long, value_name = "ENCODING")]
    pub(crate) names: Option<NameEncoding>,
}

#[derive(Group)]
pub(crate) struct Trial {
    /// The twin
    pub(crate) twin: TwinName,
    /// Run this in the game folder, by a shell, in place of the program: exit code 0 means that it works
    #[arg(long, value_name = "COMMAND", conflicts_with = "ask")]
    pub(crate) run: Option<String>,
    /// Start the program each time, and ask whether it worked [default: its exit code says so]
    #[arg(long, conflicts_with = "json")]
    pub(crate) ask: bool,
    /// Try once more what seems to work: for what fails only now and then
    #[arg(long)]
    pub(crate) unsure: bool,
    /// Arguments for the program, after its usual ones
    #[arg(last = true, conflicts_with = "run")]
    pub(crate) arguments: Vec<OsString>,
}

#[derive(Group)]
pub(crate) struct Change {
    /// The twin
    pub(crate) twin: TwinName,
    /// The mods
    #[arg(required = true)]
    pub(crate) name: Vec<ModName>,
    #[command(flatten)]
    pub(crate) how: Decided,
}

#[derive(Group)]
pub(crate) struct Decided {
    /// Whose file it is to be where you and a mod have different ones: game/panel.ini=mod, or =mine (may be given more than
    /// once) [default: yours stay]
    #[arg(long, value_name = "PATH=WHOSE", value_parser = decided)]
    pub(crate) decide: Vec<(RelPath, bool)>,
    #[command(flatten)]
    pub(crate) how: DryRun,
}

/// `PATTERN=FOLDER`.
fn placed(text: &str) -> Result<(String, RelPath), String> {
    let (pattern, folder) = text.rsplit_once('=').ok_or("it is PATTERN=FOLDER, as in '*.wjb=game/boards'")?;
    let folder = RelPath::new(folder.trim_end_matches('/')).map_err(|error| error.to_string())?;
    if !matches!(folder.as_str().split('/').next(), Some("game" | "home")) {
        return Err("the folder is one in the twin: it begins with game or home".into());
    }
    Ok((pattern.to_owned(), folder))
}

/// `PATH=mod` or `PATH=mine`.
fn decided(text: &str) -> Result<(RelPath, bool), String> {
    let (path, whose) = text.rsplit_once('=').ok_or("a decision is PATH=mod or PATH=mine")?;
    let path = RelPath::new(path).map_err(|error| error.to_string())?;
    match whose {
        "mod" => Ok((path, true)),
        "mine" => Ok((path, false)),
        _ => Err(format!("{whose:?} is neither mod nor mine")),
    }
}
