//! What an error is about.

use std::fmt;

/// What kind of thing a name in an error stands for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Noun {
    /// A belonging, by where it goes.
    BelongingAt,
    /// What a build is called.
    BuildLabel,
    /// A command.
    Command,
    /// The name of a content.
    ContentId,
    /// A way to write text as bytes.
    Encoding,
    /// A launch entry, by its twin.
    EntryOf,
    /// A file or a folder.
    FileOrFolder,
    /// A folder.
    Folder,
    /// A folder in a twin.
    FolderInTwin,
    /// A folder that is looked for in files.
    FolderToFind,
    /// A group of belongings.
    Group,
    /// The name of a listing.
    ListingId,
    /// A mod.
    Mod,
    /// The id of a mod's package.
    ModId,
    /// What a mod is called.
    ModName,
    /// A path in a twin.
    Path,
    /// A part of a profile.
    ProfilePart,
    /// The record of a twin in a folder.
    RecordIn,
    /// A removed twin, by the name that it had.
    RemovedTwin,
    /// A kept state.
    Snapshot,
    /// What a snapshot is called.
    SnapshotLabel,
    /// What a folder is compared with.
    SourceForFolder,
    /// The name of a state.
    StateId,
    /// A stock build.
    StockBuild,
    /// A title.
    Title,
    /// A title sheet.
    TitleSheet,
    /// A twin, by its name.
    Twin,
    /// The id of a twin.
    TwinId,
    /// What a twin is called.
    TwinName,
    /// A twin, by its id.
    TwinWithId,
    /// A variant of a profile.
    Variant,
}

impl fmt::Display for Noun {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::BelongingAt => "belonging that goes to",
            Self::BuildLabel => "build label",
            Self::Command => "command",
            Self::ContentId => "content id",
            Self::Encoding => "encoding",
            Self::EntryOf => "launch entry of",
            Self::FileOrFolder => "file or folder",
            Self::Folder => "folder",
            Self::FolderInTwin => "folder in the twin",
            Self::FolderToFind => "folder to look for",
            Self::Group => "group of belongings",
            Self::ListingId => "listing id",
            Self::Mod => "mod",
            Self::ModId => "mod id",
            Self::ModName => "mod name",
            Self::Path => "path",
            Self::ProfilePart => "part of a profile",
            Self::RecordIn => "record of the twin in",
            Self::RemovedTwin => "removed twin",
            Self::Snapshot => "snapshot",
            Self::SnapshotLabel => "snapshot label",
            Self::SourceForFolder => "source for a folder",
            Self::StateId => "state id",
            Self::StockBuild => "stock build",
            Self::Title => "title",
            Self::TitleSheet => "title sheet",
            Self::Twin => "twin",
            Self::TwinId => "twin id",
            Self::TwinName => "twin name",
            Self::TwinWithId => "twin with the id",
            Self::Variant => "variant",
        })
    }
}
