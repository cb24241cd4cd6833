//! Errors of mods.

use std::path::PathBuf;

/// Why a mod can't be added, or a twin's mods can't be changed.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ModError {
    /// A pattern over the files of a package is of no use.
    #[error("the pattern {pattern:?} can't be used: {why}")]
    Pattern {
        /// The pattern.
        pattern: String,
        /// What is wrong with it.
        why: String,
    },
    /// Where a package goes is said twice.
    #[error("the sheet of {0:?} says where its files go")]
    PlacedBySheet(String),
    /// Two files of a package would be one.
    #[error("{one} and {other} of the package would both be {path}")]
    Twice {
        /// The one.
        one: String,
        /// The other.
        other: String,
        /// Where.
        path: String,
    },
    /// A file would stand where a folder is, or the reverse.
    #[error("{path} of {name:?} can't be there: {at} is in its way")]
    Obstructed {
        /// The mod.
        name: String,
        /// What it has.
        path: String,
        /// What is there, of another mod or the stock build.
        at: String,
    },
    /// A package holds nothing that can be placed.
    #[error("{} holds nothing that could be placed", .0.display())]
    Nothing(PathBuf),
    /// A package belongs in one of several places.
    #[error("it can't be said where {name:?} belongs: there are several ways")]
    Ambiguous {
        /// The mod.
        name: String,
        /// How it would look: what is to be said, and where some of its files would be.
        ways: Vec<(String, Vec<String>)>,
    },
    /// Archives of a mod are missing.
    #[error("{name:?} comes in several parts, and these are missing: {}", parts.join(", "))]
    Parts {
        /// The mod.
        name: String,
        /// What is missing.
        parts: Vec<String>,
    },
    /// The folder that a mod was put into is not there in another build.
    #[error("{build} has no folder {folder}, into which {name:?} was put")]
    NoFolder {
        /// The mod.
        name: String,
        /// The folder.
        folder: String,
        /// The build.
        build: String,
    },
    /// There is another mod of that name.
    #[error("there is another mod {name:?} for this title, with other files")]
    SameName {
        /// The name.
        name: String,
        /// The twins that have it.
        twins: Vec<String>,
    },
    /// It is there already.
    #[error("the twin {twin:?} has the mod {name:?}, with other files or in another place")]
    There {
        /// The mod.
        name: String,
        /// The twin.
        twin: String,
    },
    /// It is for other builds.
    #[error("{:?} is for {}, and {:?} is on {}", .0.name, .0.builds.join(", "), .0.twin, .0.build)]
    Build(Box<WrongBuild>),
    /// It needs another one, which is not there, or not below it.
    #[error("{name:?} needs {needs:?}, which {why}")]
    Needs {
        /// The mod.
        name: String,
        /// The one that it needs.
        needs: String,
        /// What is the matter with that.
        why: &'static str,
    },
    /// Two can't be on together.
    #[error("{name:?} and {other:?} can't be on together")]
    Clashes {
        /// The one.
        name: String,
        /// The other.
        other: String,
    },
    /// There is nothing to make a mod of.
    #[error("nothing in {0:?} that was named differs from its build and mods")]
    NothingToAdopt(String),
    /// The player has changed what a mod would take, in a way that can't be kept.
    #[error("{path} can't be changed as {name:?} wants it: {why}")]
    CannotChange {
        /// The mod.
        name: String,
        /// The path.
        path: String,
        /// Why.
        why: String,
    },
    /// A title has other mods than this one.
    #[error("{name:?} is for the title {title}, and {twin:?} is of another")]
    OtherTitle {
        /// The mod.
        name: String,
        /// The title that it is for.
        title: String,
        /// The twin.
        twin: String,
    },
}

/// A mod that is not for the build that a twin is on, or would be on.
#[derive(Debug)]
pub struct WrongBuild {
    /// The mod.
    pub name: String,
    /// The builds that it is for, as patterns over labels.
    pub builds: Vec<String>,
    /// The twin.
    pub twin: String,
    /// The build.
    pub build: String,
    /// Other twins, and stock builds, that fit.
    pub fit: Vec<String>,
}

impl ModError {
    pub(super) fn remedy(&self) -> Option<String> {
        Some(match self {
            Self::Pattern { .. } => return None,
            Self::PlacedBySheet(_) => {
                "Send single files elsewhere with --place, or add it with another sheet: --sheet.".into()
            }
            Self::Twice { .. } => "Leave one of them out, or send it elsewhere: --except, --place.".into(),
            Self::Obstructed { .. } => "Leave it out (--except), or turn the one that has the other off.".into(),
            Self::Nothing(_) => "Check that it is the right file, and complete.".into(),
            Self::Ambiguous { ways, .. } => {
                let way = |(say, shows): &(String, Vec<String>)| format!("{say}: {}", shows.join(", "));
                format!("Say which one:\n{}", ways.iter().map(way).collect::<Vec<_>>().join("\n"))
            }
            Self::Parts { .. } => "Get them, then name all of them together. Nothing was changed.".into(),
            Self::SameName { twins, .. } if twins.is_empty() => "Give it another name: --name.".into(),
            Self::SameName { twins, .. } => {
                format!("Give it another name (--name), or update the one in {}: mod update.", twins.join(", "))
            }
            Self::There { .. } => "Update it (mod update), or give this one another name (--name).".into(),
            Self::Build(wrong) if wrong.fit.is_empty() => "--any-build adds it all the same.".into(),
            Self::Build(wrong) => format!("These fit: {}. --any-build adds it all the same.", wrong.fit.join(", ")),
            Self::NoFolder { .. } => {
                "Where it belongs there is for you to say: turn it off for now (--without-mod), then add it once more with --into. \
                 --any-build lays it where it was all the same."
                    .into()
            }
            Self::Needs { .. } => "Add that one first, or turn it on; mod move changes the order.".into(),
            Self::Clashes { .. } => "Turn one of them off first.".into(),
            Self::NothingToAdopt(_) => "Look at what differs: yardtwin diff NAME.".into(),
            Self::CannotChange { .. } => {
                "Nothing was changed. Put that file back first, or leave the mod as it is.".into()
            }
            Self::OtherTitle { .. } => "Name a twin of that title.".into(),
        })
    }
}
