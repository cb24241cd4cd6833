//! What can go wrong: what happened, to which path, what to do.

mod carry;
mod launch;
mod mods;
mod noun;
mod remedy;
mod yard;

pub use carry::CarryError;
pub use launch::LaunchError;
pub use mods::{ModError, WrongBuild};
pub use noun::Noun;
pub use yard::YardError;

use crate::edit::EditFault;
use std::io;
use std::path::{Path, PathBuf};

use serde::Serialize;

/// The result of every fallible call of this crate.
pub type Result<T, E = Error> = std::result::Result<T, E>;

/// What an error asks of the caller; a command line derives its exit code from it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Class {
    /// What was asked for makes no sense as it was written: a bad name or option.
    Usage,
    /// It could not be done; [`Error::remedy`] says what to do.
    Failed,
    /// It was refused to protect data.
    Refused,
    /// Another command is at work on the same thing: try again.
    Busy,
    /// The caller stopped it.
    Cancelled,
}

/// A process that holds what another one waits for.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Holder {
    /// Its process id.
    pub pid: u32,
    /// Its command line, as far as the system tells.
    pub command: String,
}

/// Everything that an operation of this crate can fail with.
///
/// Unless a variant says otherwise, the failed operation changed nothing.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum Error {
    /// A file operation failed.
    #[error("cannot {doing} {}", path.display())]
    Io {
        /// What was tried, as a verb: `open`, `read`, …
        doing: &'static str,
        /// On which path.
        path: PathBuf,
        /// What the system said.
        source: io::Error,
    },
    /// Text that is no relative path.
    #[error("{path:?} is no path inside a twin: {why}")]
    Path {
        /// The text.
        path: String,
        /// The reason.
        why: &'static str,
    },
    /// A file would stand where a folder is needed.
    #[error("{file} is no folder, and {below} needs one there")]
    Obstructed {
        /// What stands there.
        file: String,
        /// What should be below it.
        below: String,
    },
    /// Two paths differ by case or accents' spelling only, where that makes them one.
    #[error("{one} and {other} are one path here: they differ only in case, or in how accents are written")]
    Clash {
        /// The one.
        one: String,
        /// The other.
        other: String,
    },
    /// Text that can't be used as a name or an id.
    #[error("{name:?} can't be used as a {what}: {why}")]
    Name {
        /// What it should name.
        what: Noun,
        /// The text.
        name: String,
        /// The reason.
        why: &'static str,
    },
    /// Nothing has this name.
    #[error("there is no {what} {name:?}")]
    NotFound {
        /// What was looked for.
        what: Noun,
        /// Its name.
        name: String,
        /// The names that do exist.
        known: Vec<String>,
    },
    /// The name is taken.
    #[error("there is a {what} {existing:?} already{}", if name == existing { "" } else { ", and the names differ only in case, or in how accents are written" })]
    Exists {
        /// What is there.
        what: Noun,
        /// The name asked for.
        name: String,
        /// The name that is in its way.
        existing: String,
    },
    /// Another command is at work.
    #[error("{what} is in use{}", holders_text(holders))]
    Busy {
        /// The yard, or a twin by name.
        what: String,
        /// Who holds it, where the system tells.
        holders: Vec<Holder>,
    },
    /// There is less room on the disk than this needs.
    #[error("this needs {needs} bytes on the disk of {}, and {free} are free", path.display())]
    NoRoom {
        /// The yard.
        path: PathBuf,
        /// Bytes that are needed.
        needs: u64,
        /// Bytes that are free.
        free: u64,
    },
    /// The caller stopped the operation, which undid what it had begun.
    #[error("stopped before anything was changed")]
    Cancelled,
    /// The catalogue can't be read or written.
    #[error("the catalogue {} can't be used", path.display())]
    Catalogue {
        /// The database file.
        path: PathBuf,
        /// What SQLite said.
        source: Box<dyn std::error::Error + Send + Sync>,
    },
    /// A file of the yard's own does not hold what was written into it.
    #[error("{} is damaged: {why}", path.display())]
    Damaged {
        /// The file.
        path: PathBuf,
        /// What is wrong with it.
        why: String,
    },
    /// A content is gone from the pool.
    #[error("the yard has lost a stored file: {} is missing, needed for {needed_for}", path.display())]
    ContentMissing {
        /// Where the pool should hold it.
        path: PathBuf,
        /// A path that needs it.
        needed_for: String,
    },
    /// The yard itself can't be opened or made.
    #[error(transparent)]
    Yard(#[from] YardError),
    /// A title sheet is wrong.
    #[error(transparent)]
    Sheet(#[from] SheetError),
    /// A folder can't be taken in.
    #[error(transparent)]
    Intake(#[from] IntakeError),
    /// A twin is not in the state that the operation needs.
    #[error(transparent)]
    Twin(#[from] TwinError),
    /// A profile or a launch is wrong.
    #[error(transparent)]
    Launch(#[from] LaunchError),
    /// Belongings can't be carried.
    #[error(transparent)]
    Carry(#[from] CarryError),
    /// About mods.
    #[error(transparent)]
    Mod(#[from] ModError),
}

/// What is wrong with a title sheet, and where.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error, Serialize)]
#[error("{}, line {line}, column {column}: {message}", path.display())]
pub struct SheetError {
    /// The sheet.
    pub path: PathBuf,
    /// Counted from 1.
    pub line: usize,
    /// Counted from 1, in characters.
    pub column: usize,
    /// What is wrong there, and what would be right.
    pub message: String,
}

/// Why a folder can't be taken in as a stock build.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum IntakeError {
    /// The source is no folder.
    #[error("{} is not a folder", .0.display())]
    NotAFolder(PathBuf),
    /// One of several sources is no archive: only those can be laid over each other.
    #[error("{} is neither a folder nor an archive", .0.display())]
    NotAnArchive(PathBuf),
    /// The source lies inside the yard.
    #[error("{} lies inside the yard", .0.display())]
    InsideYard(PathBuf),
    /// The yard lies inside the source.
    #[error("{} has the yard itself inside it", .0.display())]
    AroundYard(PathBuf),
    /// The folder of the game and that for the home lie one in the other.
    #[error("{} and {} lie one in the other, so that files would be taken in twice", game.display(), home.display())]
    PartOfTheOther {
        /// The folder of the game.
        game: PathBuf,
        /// The one for the home.
        home: PathBuf,
    },
    /// An archive can't be read, or what it says about itself is not sound.
    #[error("the archive {} can't be used: {why}", path.display())]
    Archive {
        /// The archive.
        path: PathBuf,
        /// What is wrong, and with which of its members.
        why: String,
    },
    /// Names in an archive are not UTF-8, and nobody has said what they are.
    #[error("a name in {} is not written in UTF-8{}", path.display(), as_readings(readings))]
    Names {
        /// The archive.
        path: PathBuf,
        /// What it could be: how it would be written, and what it would read then.
        readings: Vec<(String, String)>,
    },
    /// The source holds no file.
    #[error("{} holds no files", .0.display())]
    Nothing(PathBuf),
    /// A name is not UTF-8.
    #[error("{} has a name that is not UTF-8", .0.display())]
    NotUtf8(PathBuf),
    /// A socket, a device or a fifo.
    #[error("{} is a {kind}, not a file", path.display())]
    Special {
        /// Where.
        path: PathBuf,
        /// What it is.
        kind: &'static str,
    },
    /// A file changed or vanished while it was being read.
    #[error("{} changed while it was being read", .0.display())]
    Changed(PathBuf),
    /// A symlink leads into the yard.
    #[error("the symlink {} leads into the yard: {target}", path.display())]
    LinkIntoYard {
        /// The link.
        path: PathBuf,
        /// Where it leads.
        target: String,
    },
    /// The folder is not what the sheet calls good.
    #[error("{} is no good copy of {title}: {}", folder.display(), goodness(missing, unwanted))]
    NotGood {
        /// The source.
        folder: PathBuf,
        /// The title.
        title: String,
        /// What must be there and is not.
        missing: Vec<String>,
        /// What must not be there and is.
        unwanted: Vec<String>,
    },
    /// The build label was not given and can't be read.
    #[error("the build label of {} is not known: {why}", folder.display())]
    NoLabel {
        /// The source.
        folder: PathBuf,
        /// Why it can't be read from the folder.
        why: String,
    },
    /// The same stock build was taken in before, with other contents.
    #[error("there is a stock build {build} already, and it holds something else: {different} files differ")]
    OtherContents {
        /// The build.
        build: String,
        /// How many paths differ.
        different: u64,
    },
}

fn as_readings(readings: &[(String, String)]) -> String {
    let one = |(encoding, name): &(String, String)| format!("; as {encoding} it is {name:?}");
    readings.iter().map(one).collect()
}

/// Why a twin can't be used as it is.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum TwinError {
    /// Its folder is gone or was renamed by hand.
    #[error("the folder of the twin {name:?} is missing: {}", folder.display())]
    FolderMissing {
        /// The twin.
        name: String,
        /// Where its folder should be.
        folder: PathBuf,
        /// Where it is now, if it was found.
        found: Option<PathBuf>,
    },
    /// What stands where its folder should be is not what its commands may work on.
    #[error("{} is not the folder of the twin {name:?}: {why}", folder.display())]
    NotItsFolder {
        /// The twin.
        name: String,
        /// Where its folder should be.
        folder: PathBuf,
        /// What is there.
        why: &'static str,
    },
    /// It holds what can't be taken along.
    #[error("the twin {name:?} holds what can't be copied: {}", paths.join(", "))]
    NotTaken {
        /// The twin.
        name: String,
        /// Each path with the reason.
        paths: Vec<String>,
    },
    /// Something in its folder is not as it was when the change was planned.
    #[error("{} of the twin {name:?} changed after this was planned", path.display())]
    ChangedMeanwhile {
        /// The twin.
        name: String,
        /// The path.
        path: PathBuf,
    },
    /// Something that no listing holds stands where a file should go.
    #[error("{} is in the way in the twin {name:?}, and can't be kept", path.display())]
    InTheWay {
        /// The twin.
        name: String,
        /// The path.
        path: PathBuf,
    },
    /// Its history has no line of that number.
    #[error("the history of the twin {name:?} has no line {number}")]
    NoLine {
        /// The twin.
        name: String,
        /// The number.
        number: u32,
        /// The lowest and the highest that there is.
        lines: Option<(u32, u32)>,
    },
    /// Its history has no snapshot of that label.
    #[error("the history of the twin {name:?} has no snapshot {label:?}")]
    NoSnapshot {
        /// The twin.
        name: String,
        /// The label.
        label: String,
        /// The labels that there are, newest first.
        known: Vec<String>,
    },
    /// Nothing in its history can be undone.
    #[error("nothing has changed in the game files of the twin {0:?} that could be undone")]
    NothingToUndo(String),
    /// A change that is not the last one, and put it on another stock build.
    #[error(
        "the change {number} of the twin {name:?} put it on another stock build, and can't be taken back by itself"
    )]
    LineOfBuild {
        /// The twin.
        name: String,
        /// The number of the change.
        number: u32,
        /// The stock build that it was on before.
        build: String,
    },
    /// A line of the history changed a twin's mods, and they have been changed again since.
    #[error("the change {number} of the twin {name:?} was one of its mods, and those have been changed again since")]
    LineOfMods {
        /// The twin.
        name: String,
        /// The number of the change.
        number: u32,
    },
    /// A removed twin's folder is not there any more.
    #[error("the folder of the removed twin {0:?} is not there any more")]
    RemovedFolderMissing(String),
    /// It is protected.
    #[error("the twin {0:?} is protected: its game files may not be changed")]
    Protected(String),
    /// A change of it was cut off half way, and could not be finished so far.
    #[error("a change of the twin {name:?} was cut off, and can't be finished: {why}")]
    Unfinished {
        /// The twin.
        name: String,
        /// What keeps it from being finished.
        why: String,
    },
    /// What was put into it, or was to stay, is not there as it should be.
    #[error("afterwards, these are not in the twin {name:?} as they should be: {}", paths.join(", "))]
    NotVerified {
        /// The twin.
        name: String,
        /// The paths.
        paths: Vec<String>,
    },
    /// It has files that nobody can explain.
    #[error(
        "the twin {name:?} has {} that neither its stock build nor a group of belongings explains",
        files_text(paths)
    )]
    Unexplained {
        /// The twin.
        name: String,
        /// Those files.
        paths: Vec<String>,
    },
    /// It is a twin of another title.
    #[error("the twin {name:?} is one of the title {title}, and {build} is a build of another")]
    OtherTitle {
        /// The twin.
        name: String,
        /// Its title.
        title: String,
        /// The build.
        build: String,
    },
    /// Something stands where the folder of a twin goes.
    #[error("{} is in the way: it belongs to no twin of this yard", .0.display())]
    FolderInTheWay(PathBuf),
    /// Twins still need this stock build.
    #[error("the stock build {build} is what {} made from", twins_text(twins))]
    StockInUse {
        /// The build.
        build: String,
        /// The twins that are on it.
        twins: Vec<String>,
    },
}

impl Error {
    pub(crate) fn io(doing: &'static str, path: impl AsRef<Path>, source: io::Error) -> Self {
        Self::Io { doing, path: path.as_ref().into(), source }
    }

    /// Whether it tells of what this process or the machine lacks just now, and nothing of the file.
    pub(crate) fn is_lack(&self) -> bool {
        matches!(self, Self::Io { source, .. } if is_lack(source))
    }

    /// `None` for what can't be read. A lack (of file descriptors, of memory) and a cancellation stay errors.
    pub(crate) fn pass_over<T>(read: Result<T>) -> Result<Option<T>> {
        match read {
            Err(error) if error.is_lack() || matches!(error, Self::Cancelled) => Err(error),
            read => Ok(read.ok()),
        }
    }

    /// What the system said, for one who knows the path.
    pub(crate) fn into_io(self) -> io::Error {
        match self {
            Self::Io { source, .. } => source,
            error => io::Error::other(error),
        }
    }

    /// What kind of answer it asks for.
    #[must_use]
    pub fn class(&self) -> Class {
        match self {
            Self::Path { .. }
            | Self::Twin(TwinError::OtherTitle { .. })
            | Self::Name { .. }
            | Self::Launch(
                LaunchError::Setting { .. }
                | LaunchError::EditFile { .. }
                | LaunchError::Edit {
                    fault: EditFault::Key { .. } | EditFault::Value { .. } | EditFault::UnknownEncoding(_),
                    ..
                },
            )
            | Self::Mod(ModError::Pattern { .. } | ModError::PlacedBySheet(_) | ModError::OtherTitle { .. })
            | Self::Carry(
                CarryError::SameTwin(_)
                | CarryError::InsideYard(_)
                | CarryError::Nothing
                | CarryError::Pattern { .. }
                | CarryError::OnlyNamed,
            ) => Class::Usage,
            Self::Twin(
                TwinError::NotTaken { .. }
                | TwinError::StockInUse { .. }
                | TwinError::FolderInTheWay(_)
                | TwinError::InTheWay { .. }
                | TwinError::Protected(_)
                | TwinError::Unexplained { .. },
            )
            | Self::Yard(YardError::UnknownTwins(_))
            | Self::Mod(
                ModError::Ambiguous { .. }
                | ModError::SameName { .. }
                | ModError::There { .. }
                | ModError::Build(_)
                | ModError::NoFolder { .. }
                | ModError::Needs { .. }
                | ModError::Clashes { .. }
                | ModError::Obstructed { .. }
                | ModError::CannotChange { .. },
            )
            | Self::Carry(CarryError::Undecided { .. })
            | Self::Obstructed { .. }
            | Self::Clash { .. }
            | Self::Intake(IntakeError::OtherContents { .. })
            | Self::Exists { .. } => Class::Refused,
            Self::Busy { .. } | Self::Twin(TwinError::ChangedMeanwhile { .. }) => Class::Busy,
            Self::Cancelled => Class::Cancelled,
            _ => Class::Failed,
        }
    }
}

fn holders_text(holders: &[Holder]) -> String {
    if holders.is_empty() {
        return String::new();
    }
    let each: Vec<_> = holders.iter().map(|h| format!("process {} ({})", h.pid, h.command)).collect();
    format!(" by {}", each.join(", "))
}

fn goodness(missing: &[String], unwanted: &[String]) -> String {
    let mut parts = Vec::new();
    if !missing.is_empty() {
        parts.push(format!("it lacks {}", missing.join(", ")));
    }
    if !unwanted.is_empty() {
        parts.push(format!("it has {}, which must not be there", unwanted.join(", ")));
    }
    parts.join("; ")
}

fn twins_text(twins: &[String]) -> String {
    match twins {
        [one] => format!("the twin {one} was"),
        many => format!("the twins {} were", many.join(", ")),
    }
}

fn files_text(paths: &[String]) -> String {
    match paths {
        [one] => format!("a file ({one})"),
        many => format!("{} files", many.len()),
    }
}

/// Adds what was tried, and on which path, to an error of the system.
pub(crate) trait PathContext<T> {
    /// Makes it an [`Error::Io`].
    fn at(self, doing: &'static str, path: impl AsRef<Path>) -> Result<T>;
}

impl<T, E: Into<io::Error>> PathContext<T> for Result<T, E> {
    fn at(self, doing: &'static str, path: impl AsRef<Path>) -> Result<T> {
        self.map_err(|source| Error::io(doing, path, source.into()))
    }
}

/// Whether an error tells of what this process or the machine lacks just now, and nothing of the file.
pub(crate) fn is_lack(error: &io::Error) -> bool {
    let lacks = [rustix::io::Errno::MFILE, rustix::io::Errno::NFILE, rustix::io::Errno::NOMEM]
        .map(|errno| Some(errno.raw_os_error()));
    lacks.contains(&error.raw_os_error())
}
