//! What can go wrong with a launch.

use std::path::PathBuf;

use crate::edit::EditFault;

/// Why a program can't be started, or a profile is wrong.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum LaunchError {
    /// The profile can't be read.
    #[error("{}, line {line}, column {column}: {message}", path.display())]
    Profile {
        /// The profile.
        path: PathBuf,
        /// Counted from 1.
        line: usize,
        /// Counted from 1.
        column: usize,
        /// What is wrong there.
        message: String,
    },
    /// A setting of a name that profiles don't have, or of a value that it can't take.
    #[error("the profile setting {key:?} can't be {what}: {why}")]
    Setting {
        /// The setting.
        key: String,
        /// `set` or `unset`.
        what: &'static str,
        /// The reason.
        why: String,
    },
    /// Neither the profile nor the sheet says which program to start.
    #[error(
        "it is not known which program starts {twin:?}: the title sheet of {title} names {}",
        programs_text(programs)
    )]
    NoProgram {
        /// The twin.
        twin: String,
        /// Its title.
        title: String,
        /// The programs that the sheet names for this platform.
        programs: Vec<String>,
    },
    /// A pattern of a program matches several files.
    #[error("{} programs match {pattern:?}: {}", found.len(), found.join(", "))]
    SeveralPrograms {
        /// The pattern.
        pattern: String,
        /// What it matches, below the game folder.
        found: Vec<String>,
    },
    /// The program is not in the twin.
    #[error("the program {} is missing", .0.display())]
    ProgramMissing(PathBuf),
    /// The program is there but may not be executed.
    #[error("the program {} is not marked as executable", .0.display())]
    NotExecutable(PathBuf),
    /// The isolation that was asked for is not possible here.
    #[error("a {asked} launch is not possible here: {why}")]
    Isolation {
        /// What was asked for.
        asked: &'static str,
        /// What would be possible.
        best: &'static str,
        /// The step that fails, and why.
        why: String,
    },
    /// A config file can't be edited.
    #[error("the config file {file} can't be edited: {fault}")]
    Edit {
        /// The file, below the twin's folder.
        file: String,
        /// Why.
        fault: EditFault,
    },
    /// Nobody says which file of a twin is meant.
    #[error("{name:?} names no config file: {why}")]
    EditFile {
        /// What was given.
        name: String,
        /// The reason.
        why: String,
    },
    /// The system would not start it as a program.
    #[error("{} can't be started: {why}", path.display())]
    NotAProgram {
        /// The file.
        path: PathBuf,
        /// The reason.
        why: String,
    },
    /// A command of the profile's, before or after the program, or the one in front of it, failed.
    #[error("the command {command:?} that the profile names as {what:?} failed: {why}")]
    Command {
        /// The setting.
        what: &'static str,
        /// The command.
        command: String,
        /// What came of it.
        why: String,
    },
    /// It can't be stopped: it doesn't run, or its launcher can't be told.
    #[error("{twin:?} does not run")]
    NotRunning {
        /// The twin.
        twin: String,
    },
    /// It was told to end and has not.
    #[error("{twin:?} has not ended")]
    StillRunning {
        /// The twin.
        twin: String,
    },
    /// A launch entry can't be written there.
    #[error("{} can't be written as a launch entry: {why}", path.display())]
    Entry {
        /// The entry.
        path: PathBuf,
        /// The reason.
        why: &'static str,
    },
}

fn programs_text(programs: &[String]) -> String {
    if programs.is_empty() { "none for this platform".into() } else { programs.join(", ") }
}
