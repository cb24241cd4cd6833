//! Failures: exit codes, and what to type next.

use std::io;

use yard_twin::{CarryError, Class, Error, IntakeError, LaunchError, Noun, TwinError, YardError};

use crate::screen::shell;

/// Why a command ends without having done what it was asked for.
pub(crate) enum Failure {
    /// The library said so.
    Library(Error),
    /// Something outside the library.
    Other { message: String, remedy: Option<String>, command: Option<String>, code: u8 },
}

impl From<Error> for Failure {
    fn from(error: Error) -> Self {
        Self::Library(error)
    }
}

impl Failure {
    /// It could not be done.
    pub(crate) fn failed(message: impl Into<String>) -> Self {
        Self::Other { message: message.into(), remedy: None, command: None, code: 1 }
    }

    /// A file operation of the command line's own failed.
    pub(crate) fn io(doing: &str, path: &std::path::Path, error: &io::Error) -> Self {
        Self::failed(format!("cannot {doing} {}: {error}", path.display()))
    }

    /// It was refused to protect data.
    pub(crate) fn refused(message: impl Into<String>, remedy: impl Into<String>) -> Self {
        Self::Other { message: message.into(), remedy: Some(remedy.into()), command: None, code: 4 }
    }

    /// What was asked for makes no sense as it was written.
    pub(crate) fn usage(message: impl Into<String>, command: impl std::fmt::Display) -> Self {
        Self::Other { message: message.into(), remedy: None, command: Some(command.to_string()), code: 2 }
    }

    pub(crate) fn code(&self) -> u8 {
        match self {
            Self::Other { code, .. } => *code,
            Self::Library(error) => match error.class() {
                Class::Failed => 1,
                Class::Usage => 2,
                Class::Refused => 4,
                Class::Busy => 5,
                Class::Cancelled => 130,
            },
        }
    }

    /// What happened, with its causes.
    pub(crate) fn message(&self) -> String {
        match self {
            Self::Other { message, .. } => message.clone(),
            Self::Library(error) => error.with_causes(),
        }
    }

    /// What to do.
    pub(crate) fn remedy(&self) -> Option<String> {
        match self {
            Self::Other { remedy, .. } => remedy.clone(),
            Self::Library(error) => error.remedy(),
        }
    }

    /// What to type.
    pub(crate) fn command(&self) -> Option<String> {
        let error = match self {
            Self::Other { command, .. } => return command.clone(),
            Self::Library(error) => error,
        };
        Some(match error {
            Error::Yard(YardError::NotAYard(path)) => format!("yardtwin init {}", shell(&path.display())),
            Error::NotFound { what: Noun::Twin, .. } | Error::Exists { what: Noun::Twin, .. } => "yardtwin list".into(),
            Error::NotFound { what: Noun::StockBuild, .. } | Error::Exists { what: Noun::StockBuild, .. } => {
                "yardtwin stock list".into()
            }
            Error::Exists { what: Noun::TitleSheet, .. } => "yardtwin sheet add FILE --replace".into(),
            Error::NotFound { what: Noun::EntryOf, name, .. } => format!("yardtwin entry add {}", shell(name)),
            Error::Intake(IntakeError::NoLabel { .. }) => "the same command with --build LABEL".into(),
            Error::Intake(IntakeError::OtherContents { .. }) => "the same command with --build ANOTHER-LABEL".into(),
            Error::Sheet(error) => format!("yardtwin sheet check {}", shell(&error.path.display())),
            Error::Twin(TwinError::FolderMissing { folder, found: Some(found), .. }) => {
                format!("mv {} {}", shell(&found.display()), shell(&folder.display()))
            }
            Error::Twin(TwinError::FolderMissing { name, .. }) => {
                format!("yardtwin remove {0} && yardtwin clone {0} {0}", shell(name))
            }
            Error::Twin(TwinError::StockInUse { twins, .. }) => {
                format!("yardtwin remove {}", twins.first().map(shell).unwrap_or_default())
            }
            Error::Twin(TwinError::Protected(name)) => format!("yardtwin protect {} --off", shell(name)),
            Error::Twin(
                TwinError::NothingToUndo(name) | TwinError::NoLine { name, .. } | TwinError::NoSnapshot { name, .. },
            ) => {
                format!("yardtwin history {}", shell(name))
            }
            Error::Twin(TwinError::Unexplained { .. }) => {
                "the same command with --leave-rest, or with --keep-rest".into()
            }
            Error::Carry(CarryError::Undecided { .. }) => {
                "the same command with --on-clash skip, replace, newer or both, or with --decide PATH=RULE for each"
                    .into()
            }
            Error::ContentMissing { .. } => "yardtwin intake FOLDER --title TITLE --build BUILD".into(),
            Error::Launch(LaunchError::NoProgram { twin, .. }) => {
                format!("yardtwin profile set {} program PATH-IN-THE-GAME-FOLDER", shell(twin))
            }
            Error::Launch(LaunchError::NotExecutable(path)) => format!("chmod +x {}", shell(&path.display())),
            _ => return None,
        })
    }
}
