//! What to do about each error.

use std::io;

use super::{Error, IntakeError, LaunchError, Noun, TwinError, YardError};

impl Error {
    /// What happened, with its causes.
    #[must_use]
    pub fn with_causes(&self) -> String {
        let mut text = self.to_string();
        let mut cause = std::error::Error::source(self);
        while let Some(error) = cause {
            text.push_str(&format!(": {error}"));
            cause = error.source();
        }
        text
    }

    /// What to do about it, in a sentence.
    #[must_use]
    pub fn remedy(&self) -> Option<String> {
        Some(match self {
            Self::Io { source, .. } => io_remedy(source)?.into(),
            Self::NotFound { what: Noun::Variant, known, .. } if known.is_empty() => {
                "Its profile has no variants.".into()
            }
            Self::NotFound { what: Noun::Command, .. } => {
                "Neither the system nor the twin's game folder has it: check its name, or name it with its path.".into()
            }
            Self::NotFound { known, .. } if known.is_empty() => return None,
            Self::NotFound { name, known, .. } => nearest(name, known),
            Self::Exists { what: Noun::TitleSheet, .. } => "Change it in an editor, or replace it.".into(),
            Self::Exists { .. } => "Choose another name.".into(),
            Self::NoRoom { .. } => "The disk is full: nothing was begun. Make room on it, then try again.".into(),
            Self::Busy { .. } => "Wait until it is done, then try again.".into(),
            Self::Catalogue { .. } => "The pool, the stock builds' listings and the twins' folders are untouched. \
                Put catalog.db back from a backup (without the catalog.db-wal and catalog.db-shm that lie there now)."
                .into(),
            Self::Damaged { .. } => "Put the file back from a backup of the yard.".into(),
            Self::ContentMissing { .. } => {
                "Take the same build in again from its folder, with the same title and build: that puts back what is \
                 missing and changes nothing else."
                    .into()
            }
            Self::Yard(error) => error.remedy()?.into(),
            Self::Intake(error) => error.remedy()?.into(),
            Self::Twin(error) => error.remedy()?,
            Self::Launch(error) => error.remedy()?,
            Self::Carry(error) => error.remedy()?.into(),
            Self::Mod(error) => error.remedy()?,
            Self::Obstructed { .. } => {
                "Nothing was changed. Move the one or the other out of the way, then try again.".into()
            }
            Self::Sheet(_) | Self::Clash { .. } | Self::Path { .. } | Self::Name { .. } | Self::Cancelled => {
                return None;
            }
        })
    }
}

fn io_remedy(source: &io::Error) -> Option<&'static str> {
    let too_many = [rustix::io::Errno::MFILE, rustix::io::Errno::NFILE].map(|errno| Some(errno.raw_os_error()));
    if too_many.contains(&source.raw_os_error()) {
        return Some("Close other programs, or raise the limit (ulimit -n), then try again.");
    }
    Some(match source.kind() {
        io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded => {
            "The disk is full: make room on it, then try again. What was half done has been taken away."
        }
        io::ErrorKind::NotFound => "Check the path.",
        io::ErrorKind::NotADirectory => "Name a folder.",
        io::ErrorKind::PermissionDenied => "Give your user the right to do this, or choose another folder.",
        io::ErrorKind::ResourceBusy => {
            "Something is mounted there, or the system uses it: let go of it, then try again."
        }
        io::ErrorKind::ReadOnlyFilesystem => "The filesystem is mounted read-only: mount it writable.",
        _ => return None,
    })
}

impl YardError {
    fn remedy(&self) -> Option<&'static str> {
        Some(match self {
            Self::NotAYard(_) => "Make a yard there first, or name the folder of an existing one.",
            Self::NotEmpty(_) => "Choose an empty folder, or one that doesn't exist yet.",
            Self::AlreadyAYard(_) | Self::Settings { .. } => return None,
            Self::NotYours { .. } => "Do it as that user: what you made in it would be yours, and theirs no more.",
            Self::NewerFormat { .. } => "Update this program; the yard was not touched.",
            Self::UnknownTwins(_) => {
                "Nothing was let go. A check says what can be done about each: yardtwin check --fix writes twins into the \
                 catalogue again; a folder that is none of the yard's belongs elsewhere."
            }
            Self::CatalogueMissing(_) | Self::CatalogueEmpty(_) => {
                "Nothing else was touched: each twins/NAME/game is a plain folder. Put catalog.db back from a backup; \
                 without one, make a new yard elsewhere and take those folders in there."
            }
        })
    }
}

/// So many names are shown of those that there are.
const NAMED: usize = 6;

/// From here on two names look alike: one may be the other, mistyped. (Jaro and Winkler's measure, from 0 to 1.)
const ALIKE: f64 = 0.75;

/// What there is instead of a name: where there is much, only what is like it.
fn nearest(name: &str, known: &[String]) -> String {
    let name = name.to_lowercase();
    let likeness = |other: &String| strsim::jaro_winkler(&name, &other.to_lowercase());
    let mut shown: Vec<&String> = known.iter().collect();
    if known.len() > NAMED {
        shown.retain(|other| likeness(other) >= ALIKE);
        shown.sort_by(|a, b| likeness(b).total_cmp(&likeness(a)).then_with(|| a.cmp(b)));
        shown.truncate(NAMED);
    }
    let names = shown.iter().map(|name| format!("{name:?}")).collect::<Vec<_>>().join(", ");
    match (shown.len(), known.len() - shown.len()) {
        (0, all) => format!("None of the {all} that there are is called anything like it."),
        (1, 0) => format!("There is only {names}."),
        (_, 0) => format!("There are {names}."),
        (1, more) => format!("The closest is {names}, and there are {more} more."),
        (_, more) => format!("The closest are {names}, and there are {more} more."),
    }
}

/// Which lines a history has instead of one.
fn lines_there(asked: u32, lines: Option<(u32, u32)>) -> String {
    match lines {
        None => "It has none.".into(),
        Some((first, last)) if first == last => format!("It has line {first} alone."),
        Some((first, last)) if (1..last).contains(&asked) => {
            format!("It was let go: what is left is from {first} to {last}.")
        }
        Some((first, last)) => format!("Its lines go from {first} to {last}."),
    }
}

impl IntakeError {
    fn remedy(&self) -> Option<&'static str> {
        Some(match self {
            Self::NotAnArchive(_) => "Name one folder by itself, or archives.",
            Self::NotAFolder(_) => "Name the folder that the program is installed in.",
            Self::InsideYard(_) => "To make a twin's folder a twin again, clone the twin.",
            Self::AroundYard(_) => "Name the program's own folder, or move the yard out of it.",
            Self::PartOfTheOther { .. } => "Name two folders that lie apart.",
            Self::Names { .. } => "Say how its names are written: --names ENCODING.",
            Self::Archive { .. } => "Get it again from where it came, or unpack it yourself and name the folder.",
            Self::Nothing(_) => "Check that it is the right folder.",
            Self::NotUtf8(_) => "Rename it, then try again.",
            Self::Special { .. } => "It is no part of a program: remove it, or stop the program that made it.",
            Self::Changed(_) => "Close the program that writes there, then try again.",
            Self::LinkIntoYard { .. } => "A stock build can't lean on the yard: replace the link by what it leads to.",
            Self::NotGood { .. } => {
                "Check that it is the right folder, and complete; if the sheet is wrong, correct it."
            }
            Self::NoLabel { .. } => "Say which build it is.",
            Self::OtherContents { .. } => "Give this one another label.",
        })
    }
}

impl TwinError {
    fn remedy(&self) -> Option<String> {
        Some(match self {
            Self::FolderMissing { folder, found: Some(found), .. } => format!(
                "It was renamed by hand and is now {}: give that folder its name {:?} back.",
                found.display(),
                folder.file_name().unwrap_or_default()
            ),
            Self::NotItsFolder { .. } => {
                "Nothing was changed. Put its own folder back there, with its game in it as a folder; yardtwin check says more."
                    .into()
            }
            Self::FolderMissing { .. } => {
                "Put the folder back. If it is gone for good, remove the twin: its last known \
                state stays, and a new twin can be cloned from it."
                    .into()
            }
            Self::ChangedMeanwhile { .. } => {
                "Nothing was changed. Do it again: what is there now is taken in first.".into()
            }
            Self::InTheWay { .. } => "Move it elsewhere, then try again.".into(),
            Self::LineOfBuild { build, .. } => format!("Renew the twin onto {build}: what it owns stays as it is now."),
            Self::LineOfMods { .. } => "Turn off, on or remove the mods themselves: yardtwin mod list NAME.".into(),
            Self::RemovedFolderMissing(_) => "Clone it: what it held is kept.".into(),
            Self::NoLine { number, lines, .. } => lines_there(*number, *lines),
            Self::NoSnapshot { known, .. } if known.is_empty() => "No snapshot of it has a label: name a line.".into(),
            Self::NoSnapshot { label, known, .. } => nearest(label, known),
            Self::NothingToUndo(_) => "Name a state from its history.".into(),
            Self::Protected(_) => "Nothing was changed. Take the protection off first.".into(),
            Self::Unfinished { .. } => {
                "Everything that was there is kept. Put right what is named; any command on this twin then finishes the \
                 change."
                    .into()
            }
            Self::NotTaken { .. } => "Remove those, or close the program that made them; then try again.".into(),
            Self::NotVerified { .. } => {
                "Something else writes there. Nothing was taken out of any other place, and the state before is in the \
                 history: close what writes there, then try again."
                    .into()
            }
            Self::Unexplained { .. } => {
                "Nothing was changed. Say whether the rest is to be kept or left behind: what is left behind stays in the \
                 twin's history."
                    .into()
            }
            Self::OtherTitle { .. } => "Name a build of the same title.".into(),
            Self::FolderInTheWay(_) => "Move it elsewhere, or choose another name.".into(),
            Self::StockInUse { twins, .. } if twins.len() == 1 => "Remove that twin first.".into(),
            Self::StockInUse { .. } => "Remove those twins first.".into(),
        })
    }
}

impl LaunchError {
    fn remedy(&self) -> Option<String> {
        let text = match self {
            Self::Isolation { asked, best, .. } if asked == best => {
                "It was possible when it was tried just now: try again."
            }
            Self::Isolation { best, .. } => {
                return Some(format!(
                    "Launch it {best}, which is the best there is here: set its profile's isolation to {best}, or unset it."
                ));
            }
            Self::NoProgram { .. } => "Set the program in the twin's profile, or name one in the title sheet.",
            Self::SeveralPrograms { .. } => {
                "Name one of them in the profile, or make the pattern in the title sheet match just one."
            }
            Self::ProgramMissing(_) => "Set another program in the profile, or mend the title sheet.",
            Self::NotExecutable(_) => "Mark the file as executable.",
            Self::NotAProgram { .. } => "Mend it; or, for a program of another system, set a wrapper in the profile.",
            Self::Command { .. } => "Nothing was started. Mend that setting of the profile, or unset it.",
            Self::StillRunning { .. } => "Close it yourself, or stop it once more.",
            Self::Edit { .. } => "Nothing was changed. Name the format or the encoding that it has, or mend the file.",
            Self::EditFile { .. }
            | Self::Profile { .. }
            | Self::Setting { .. }
            | Self::Entry { .. }
            | Self::NotRunning { .. } => return None,
        };
        Some(text.into())
    }
}
