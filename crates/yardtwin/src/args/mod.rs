//! The command line's arguments.

mod carry;
mod examples;
mod mods;
mod profile;

use std::ffi::OsString;
use std::path::PathBuf;

pub(crate) use carry::Carry;
use clap::{Args as Group, CommandFactory, FromArgMatches, Parser, Subcommand, ValueEnum};
pub(crate) use mods::{Add as ModAdd, Change as ModChange, Decided, ModCommand, Place as ModPlace, Trial};
pub(crate) use profile::Profile;
use yard_twin::{
    BuildLabel, BuildRef, ModName, NameEncoding, Sharing, Side, SnapshotLabel, SnapshotRef, Source, Title, TwinId,
    TwinName,
};

const AFTER: &str = "\
Exit codes: 0 done, 1 failed, 2 wrong usage, 3 differences or problems found,
4 refused to protect data, 5 busy, 130 cancelled. A launch ends with the program's own, or 128 and
the number of the signal that ended it.";

/// Keep several isolated, self-contained copies of a game or emulator side by side.
#[derive(Parser)]
#[command(name = "yardtwin", version, after_help = AFTER, max_term_width = 110)]
pub(crate) struct Args {
    /// The yard [default: $YARDTWIN_YARD, else the nearest yard upward, else the one in your data folder]
    #[arg(long, global = true, value_name = "DIR")]
    pub(crate) yard: Option<PathBuf>,
    /// Answer in JSON
    #[arg(long, global = true)]
    pub(crate) json: bool,
    /// Log what goes on inside; twice for more
    #[arg(short, long, global = true, action = clap::ArgAction::Count)]
    pub(crate) verbose: u8,
    #[command(subcommand)]
    pub(crate) command: Command,
}

#[derive(Subcommand)]
pub(crate) enum Command {
    /// Make a yard
    Init {
        /// Its folder: empty, or not there yet [default: as --yard, else in your data folder]
        dir: Option<PathBuf>,
        #[command(flatten)]
        how: DryRun,
    },
    /// Take a folder in as a stock build, or archives
    Intake(Intake),
    /// Look at stock builds, or let one go
    #[command(subcommand)]
    Stock(Stock),
    /// Write and check title sheets
    #[command(subcommand)]
    Sheet(SheetCommand),
    /// Make a twin from a stock build (TITLE@BUILD) or from another twin
    Clone {
        /// TITLE@BUILD, or the name of a twin; a removed one can be named too
        source: Source,
        /// What the new twin is called; with --inside, the new folder
        name: String,
        /// How it shares storage where the filesystem can't share blocks by itself
        #[arg(long, value_enum)]
        share: Option<Share>,
        /// A copy of the stock build that was changed by hand: the twin gets what is in it, as the player's own changes
        #[arg(long, value_name = "DIR", conflicts_with = "inside")]
        from_folder: Option<PathBuf>,
        /// Delete that folder once the twin is there; what is worth nothing stays
        #[arg(long = "move", requires = "from_folder")]
        take_away: bool,
        /// Clone this folder inside the twin SOURCE instead, and call it NAME: what is named after it gets the new name too
        #[arg(long, value_name = "FOLDER", conflicts_with = "share")]
        inside: Option<String>,
        #[command(flatten)]
        how: Careful,
    },
    /// List the twins
    List {
        /// The removed ones instead
        #[arg(long)]
        removed: bool,
        /// What each takes on disk, what it shares, and what deleting it would free
        #[arg(long, conflicts_with = "removed")]
        space: bool,
    },
    /// Show all about a twin
    Show {
        /// The twin
        name: TwinName,
        /// Show where its belongings are instead, by group
        #[arg(long)]
        belongings: bool,
    },
    /// Print where a twin's folder is
    Folder {
        /// The twin
        name: TwinName,
        /// "home", or a group of belongings [default: the game folder]
        place: Option<String>,
        /// Open it in the file manager
        #[arg(long)]
        open: bool,
    },
    /// Remove a twin; it stays for a while, and can come back
    Remove {
        /// The twin
        name: TwinName,
        /// Delete it for good, a removed one too
        #[arg(long)]
        for_good: bool,
        #[command(flatten)]
        how: Careful,
    },
    /// Give a twin another name; its folder and what its launch entries start stay
    Rename {
        /// The twin
        name: TwinName,
        /// Its new name
        new: TwinName,
        /// Rename its folder too, and mend text files and links that name it by its absolute path
        #[arg(long)]
        move_folder: bool,
        #[command(flatten)]
        how: DryRun,
    },
    /// Change how a twin's files share storage with the other twins: its bytes stay
    Share {
        /// The twin
        name: TwinName,
        /// How
        sharing: Share,
        /// Only files at and below these paths and patterns: "game/bin/*"
        #[arg(value_name = "PATTERN")]
        patterns: Vec<String>,
        #[command(flatten)]
        how: DryRun,
    },
    /// Refuse whatever would change a twin's game files
    Protect {
        /// The twin
        name: TwinName,
        /// Take the protection off
        #[arg(long)]
        off: bool,
        #[command(flatten)]
        how: DryRun,
    },
    /// Keep a twin as it is now, to go back to
    Snapshot {
        /// The twin
        name: TwinName,
        /// What the snapshot is called
        label: Option<SnapshotLabel>,
        /// Let the snapshot of that label or number go
        #[arg(long, requires = "label")]
        drop: bool,
        #[command(flatten)]
        how: DryRun,
    },
    /// Take back the last change of a twin, or an earlier one around what came after it
    Undo {
        /// The twin
        name: TwinName,
        /// The number that the history gives it [default: the last one]
        number: Option<u32>,
        #[command(flatten)]
        how: Careful,
    },
    /// Put a twin's game files back, around its belongings; or bring a removed twin back
    Restore {
        /// The twin; a removed one comes back as it was, with its history
        name: TwinName,
        /// A number from the history, or a label [default: before the last change of the game files]
        snapshot: Option<SnapshotRef>,
        /// Belongings, live paths, the home and the profile go back too
        #[arg(long)]
        all: bool,
        /// Only what is at or below this path goes back, belongings too: game/panel.ini; can be given several times. Without a
        /// path: only what that line of the history did is taken back, as undo NAME NUMBER does
        #[arg(long, value_name = "PATH", conflicts_with = "all", requires = "snapshot", num_args = 0..=1, default_missing_value = "")]
        only: Vec<String>,
        /// Bring the removed twin back under this name
        #[arg(long = "as", value_name = "NAME", conflicts_with_all = ["snapshot", "all", "only"])]
        as_name: Option<TwinName>,
        #[command(flatten)]
        how: Careful,
    },
    /// List what happened to a twin, and what it can go back to
    History {
        /// The twin; a removed one too
        name: TwinName,
        /// List its runs instead, with what each changed and how long it was played
        #[arg(long)]
        runs: bool,
    },
    /// Show what differs: between two sides, or in one twin since its last state; nothing is taken in
    Diff {
        /// A stock build (TITLE@BUILD), a twin, or a state in its history (NAME:LABEL or NAME:NUMBER)
        a: Side,
        /// The same [default: A, a twin, is compared with its own last state]
        b: Option<Side>,
        /// Show the lines in which small text files differ
        #[arg(long)]
        text: bool,
        /// Compare only belongings, by group: what each has that the other lacks
        #[arg(long, requires = "b")]
        belongings: bool,
        /// List every path, however many there are
        #[arg(long)]
        all: bool,
    },
    /// Look for whatever is wrong, in all of the yard or in one stock build or twin, and say what mends it
    Check {
        /// A stock build (TITLE@BUILD) or a twin [default: all of the yard]
        #[arg(required_if_eq("start", "true"))]
        what: Option<Source>,
        /// Read every content, and compare it with what it should be
        #[arg(long, conflicts_with = "start")]
        full: bool,
        /// Mend what can be mended without losing anything, once it has been shown; with --start, lay missing markers first
        #[arg(long)]
        fix: bool,
        /// A folder that may have the right bytes of what is damaged (may be given more than once)
        #[arg(long, value_name = "DIR", conflicts_with = "start")]
        look_in: Vec<PathBuf>,
        /// Start the twin once, watched, and see whether it keeps to its own folder; what it changes is thrown away
        #[arg(long)]
        start: bool,
        /// With --start: end it after so many seconds [default: wait until it ends]
        #[arg(long, value_name = "SECONDS", requires = "start")]
        seconds: Option<u64>,
        /// With --start: arguments for the program, after its usual ones
        #[arg(last = true, requires = "start")]
        arguments: Vec<OsString>,
        #[command(flatten)]
        how: DryRun,
    },
    /// Bring belongings from one twin to others, or from outside into a twin
    Carry(Carry),
    /// Put a twin on a stock build, its own or another, around its belongings
    Renew {
        /// The twin
        name: TwinName,
        /// The stock build, of the same title [default: its own]
        #[arg(long, value_name = "TITLE@BUILD")]
        stock: Option<BuildRef>,
        /// Keep game files that neither the stock build nor a group of belongings explains
        #[arg(long, conflicts_with = "leave_rest")]
        keep_rest: bool,
        /// Leave them behind: the state before has them
        #[arg(long)]
        leave_rest: bool,
        /// Turn this mod off, which is not for that build (may be given more than once)
        #[arg(long, value_name = "MOD")]
        without_mod: Vec<ModName>,
        /// Keep mods on that are not for that build
        #[arg(long)]
        any_build: bool,
        #[command(flatten)]
        how: DryRun,
    },
    /// Mods: add, list, turn off and on, order, replace, explain
    #[command(subcommand)]
    Mod(ModCommand),
    /// Find absolute paths in a twin's files that lead to where it was before or to other twins, and rewrite them; what was
    /// there stays in the history
    Repath {
        /// The twin
        #[arg(required_unless_present_all = ["old", "inside"])]
        name: Option<TwinName>,
        /// Look for this folder instead
        #[arg(long, value_name = "FOLDER", requires = "new")]
        old: Option<PathBuf>,
        /// What to name in its place
        #[arg(long, value_name = "FOLDER", requires = "old")]
        new: Option<PathBuf>,
        /// Look through this folder outside the yard; what is rewritten is kept in the yard first
        #[arg(long = "in", value_name = "DIR", id = "inside")]
        inside: Option<PathBuf>,
        /// List every place, however many there are
        #[arg(long)]
        all: bool,
        #[command(flatten)]
        how: DryRun,
    },
    /// Let go of old states and delete what nothing needs, as yard.toml says
    Sweep {
        #[command(flatten)]
        how: DryRun,
    },
    /// Look at a twin's profile, and change it
    #[command(subcommand)]
    Profile(Profile),
    /// Start a twin's program
    Launch {
        /// The twin
        #[arg(required_unless_present = "id")]
        name: Option<TwinName>,
        /// The twin's id instead of its name, as launch entries use it
        #[arg(long, conflicts_with = "name")]
        id: Option<TwinId>,
        /// Throw away what it changes
        #[arg(long)]
        discard: bool,
        /// Use this variant of the profile for this run only; its config edits are taken back afterwards
        #[arg(long)]
        variant: Option<String>,
        /// Ask what becomes of what it changed, once it has ended
        #[arg(long, conflicts_with_all = ["discard", "json"])]
        ask: bool,
        /// Start it and come back at once; its output goes to the run's folder only
        #[arg(long, conflicts_with = "ask")]
        detach: bool,
        /// End the running program: it is asked to, and made to after ten seconds
        #[arg(long, conflicts_with_all = ["discard", "ask", "detach", "variant", "arguments", "dry_run"])]
        stop: bool,
        /// Arguments for the program, after its usual ones
        #[arg(last = true)]
        arguments: Vec<OsString>,
        /// As the part of a detached launch that stays
        #[arg(long, hide = true)]
        in_background: bool,
        #[command(flatten)]
        how: DryRun,
    },
    /// Run any program on a twin: an installer, a patcher, a file manager; the folder of the program is seen, read-only
    Tool {
        /// The twin
        name: TwinName,
        /// Keep what it changes of the game files as a mod of this name
        #[arg(long, value_name = "MOD")]
        as_mod: Option<ModName>,
        /// Throw away what it changes
        #[arg(long, conflicts_with = "as_mod")]
        discard: bool,
        /// The program and its arguments
        #[arg(last = true, required = true)]
        command: Vec<OsString>,
        #[command(flatten)]
        how: DryRun,
    },
    /// Launch entries: what stands in your menu and starts one twin
    #[command(subcommand)]
    Entry(Entry),
    /// Make a yard from made-up data and go through the first steps, in eight chapters
    Demo {
        /// Where; a folder that doesn't exist yet [default: yardtwin-demo, with a number if that is there]
        dir: Option<PathBuf>,
        /// Show only this chapter: those before it are gone through unseen
        #[arg(long, value_name = "N")]
        chapter: Option<usize>,
        /// Show only what each chapter is about
        #[arg(long)]
        quiet: bool,
    },
    /// Print completions for a shell
    Completions {
        /// The shell
        shell: clap_complete::Shell,
    },
}

#[derive(Group, Clone, Copy)]
pub(crate) struct DryRun {
    /// Only show what would be done
    #[arg(long)]
    pub(crate) dry_run: bool,
}

#[derive(Group, Clone, Copy)]
pub(crate) struct Careful {
    /// Only show what would be done
    #[arg(long)]
    pub(crate) dry_run: bool,
    /// Don't ask
    #[arg(long)]
    pub(crate) yes: bool,
}

#[derive(Group)]
pub(crate) struct Intake {
    /// Folders that the program is installed in, each of which becomes a stock build; or one archive, or several that are laid
    /// over each other in this order and become one
    #[arg(required_unless_present = "twin")]
    pub(crate) source: Vec<PathBuf>,
    /// The title that it is a build of [asked for in a terminal]
    #[arg(long)]
    pub(crate) title: Option<Title>,
    /// Make a stock build of a twin that a first start or a patch program has completed; belongings are left out
    #[arg(long, value_name = "NAME", conflicts_with_all = ["source", "title", "leave_out", "take_away", "as_home"])]
    pub(crate) twin: Option<TwinName>,
    /// A second folder, with what the program keeps in its user's home: it becomes a part of each twin's home, in the place
    /// that it has in yours
    #[arg(long, value_name = "DIR")]
    pub(crate) as_home: Option<PathBuf>,
    /// The build [default: read from the folder, as the title sheet says]
    #[arg(long)]
    pub(crate) build: Option<BuildLabel>,
    /// The release channel
    #[arg(long)]
    pub(crate) channel: Option<String>,
    /// When it was released: YYYY, YYYY-MM or YYYY-MM-DD
    #[arg(long, value_parser = date)]
    pub(crate) dated: Option<String>,
    /// A word about it
    #[arg(long)]
    pub(crate) note: Option<String>,
    /// Don't take this group of belongings in (may be given more than once)
    #[arg(long, value_name = "GROUP")]
    pub(crate) leave_out: Vec<String>,
    /// Leave out what matches: a pattern over paths below the game folder, or over names, as in redist or '*.pdb' (may be given
    /// more than once)
    #[arg(long, value_name = "PATTERN", conflicts_with = "twin")]
    pub(crate) without: Vec<String>,
    /// How many folders of the archives that hold all the rest are left away [default: found out]
    #[arg(long, value_name = "N", conflicts_with = "twin")]
    pub(crate) strip: Option<usize>,
    /// How names in archives are written that are not UTF-8, as in shift_jis or ibm437
    #[arg(long, value_name = "ENCODING", conflicts_with = "twin")]
    pub(crate) names: Option<NameEncoding>,
    /// Take a build in again that came with what somebody had played: the old one gives its label to the new one
    #[arg(long, conflicts_with = "twin")]
    pub(crate) again: bool,
    /// Delete the source once everything is safe; what was left out stays
    #[arg(long = "move")]
    pub(crate) take_away: bool,
    #[command(flatten)]
    pub(crate) how: Careful,
}

fn date(text: &str) -> Result<String, String> {
    let full = match text.len() {
        4 => format!("{text}-01-01"),
        7 => format!("{text}-01"),
        _ => text.to_owned(),
    };
    match full.parse::<jiff::civil::Date>() {
        Ok(date) if date.to_string() == full => Ok(text.to_owned()),
        _ => Err("a date is YYYY, YYYY-MM or YYYY-MM-DD".into()),
    }
}

#[derive(Subcommand)]
pub(crate) enum Stock {
    /// List the stock builds
    List {
        /// The removed ones instead
        #[arg(long)]
        removed: bool,
    },
    /// Show all about a stock build
    Show {
        /// TITLE@BUILD
        build: BuildRef,
        /// List its files too
        #[arg(long)]
        files: bool,
    },
    /// Take a stock build off the list; its contents stay
    Remove {
        /// TITLE@BUILD
        build: BuildRef,
        /// Bring a removed one back
        #[arg(long)]
        undo: bool,
        #[command(flatten)]
        how: DryRun,
    },
}

#[derive(Subcommand)]
pub(crate) enum SheetCommand {
    /// Write a commented sheet for a title into the yard
    New {
        /// The title
        title: Title,
        /// Print it instead
        #[arg(long)]
        print: bool,
        #[command(flatten)]
        how: DryRun,
    },
    /// Write a title's sheet from what its programs did: look at a twin that was played once or twice, and ask
    Learn {
        /// The title
        title: Title,
        /// The twin that was played
        #[arg(long, value_name = "NAME")]
        from: TwinName,
        #[command(flatten)]
        how: Careful,
    },
    /// Check sheets: those of the yard, or the files that are named
    Check {
        /// Files
        file: Vec<PathBuf>,
        /// Show what each pattern of its title's sheet catches in this twin
        #[arg(long, value_name = "NAME", conflicts_with = "file")]
        on: Option<TwinName>,
    },
    /// Check a sheet that somebody gave you, and put it into the yard
    Add {
        /// The file
        file: PathBuf,
        /// Replace the one that is there; the old one is kept beside it as TITLE.toml.old
        #[arg(long)]
        replace: bool,
        #[command(flatten)]
        how: DryRun,
    },
}

#[derive(Subcommand)]
pub(crate) enum Entry {
    /// Write a launch entry for a twin
    Add {
        /// The twin
        name: TwinName,
        /// The folder that it goes into [default: applications in your data folder, which menus read]
        #[arg(long, value_name = "DIR")]
        folder: Option<PathBuf>,
        #[command(flatten)]
        how: DryRun,
    },
    /// List the launch entries
    List,
    /// Delete the launch entries of a twin
    Remove {
        /// The twin
        name: TwinName,
        #[command(flatten)]
        how: DryRun,
    },
}

#[derive(Clone, Copy, ValueEnum)]
pub(crate) enum Share {
    /// Link all that is neither live, scratch nor empty
    All,
    /// Link large files, and kinds that come in masses
    Careful,
    /// Copy everything
    None,
}

impl From<Share> for Sharing {
    fn from(share: Share) -> Self {
        match share {
            Share::All => Self::All,
            Share::Careful => Self::Careful,
            Share::None => Self::None,
        }
    }
}

/// Settings whose values are a program's own words.
const WORDS: [&str; 4] = ["arguments", "wrapper", "before", "after"];

/// The words of a command line, with `--` behind a setting whose values are another program's words: nothing of those is meant
/// for this one.
pub(crate) fn with_marks(mut words: Vec<OsString>) -> Vec<OsString> {
    let end = words.iter().position(|word| word == "--").unwrap_or(words.len());
    let Some(set) = words[..end].windows(2).position(|two| two[0] == "profile" && two[1] == "set") else {
        return words;
    };
    let mut plain = Vec::new();
    let mut at = set + 2;
    while at < end && plain.len() < 2 {
        match words[at].to_str() {
            Some("--variant" | "--file" | "--format" | "--encoding" | "--line" | "--yard") => at += 1,
            Some(option) if option.starts_with('-') => {}
            _ => plain.push(at),
        }
        at += 1;
    }
    if let [_, setting] = plain[..]
        && WORDS.iter().any(|word| words[setting] == *word)
        && setting + 1 < end
    {
        words.insert(setting + 1, "--".into());
    }
    words
}

/// The arguments in a command's words.
///
/// # Errors
/// What is wrong with them, or the help that they ask for.
pub(crate) fn understood(words: &[OsString]) -> Result<Args, clap::Error> {
    let matches = examples::with_examples(Args::command()).try_get_matches_from(words)?;
    Args::from_arg_matches(&matches)
}
