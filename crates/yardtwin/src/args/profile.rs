//! Arguments of `profile`.

use clap::{Subcommand, ValueEnum};
use yard_twin::{Format, TwinName};

use super::DryRun;

#[derive(Subcommand)]
pub(crate) enum Profile {
    /// Show what is set, and what is started
    Show {
        /// The twin
        name: TwinName,
    },
    /// Change a setting (program, arguments, note, isolation, network, yard, ipc, reach+, reach-, wrapper, before, after,
    /// environment.NAME), or with --file one value in a config file
    Set {
        /// The twin
        name: TwinName,
        /// The setting; with --file, the place in the file: section.key, the beginning of a line, outer.inner, /outer/@name
        #[arg(required_unless_present = "line")]
        setting: Option<String>,
        /// Its value; several for arguments, wrapper, before and after (behind -- if they begin with -)
        #[arg(required_unless_present = "line")]
        value: Vec<String>,
        /// A config file of the twin: the end of its path, or all of it from game/ or home/ on
        #[arg(long)]
        file: Option<String>,
        /// A whole line, as key=value: put in the place of the one that begins so, or on top
        #[arg(long, value_name = "LINE", requires = "file", conflicts_with_all = ["setting", "format"])]
        line: Option<String>,
        /// Its format [default: as the title sheet says, or by its ending]
        #[arg(long, value_enum, requires = "file")]
        format: Option<FileFormat>,
        /// Its encoding, where that can't be told: windows-1251, utf-16le, ...
        #[arg(long, requires = "file")]
        encoding: Option<String>,
        /// Set it again at each launch, if anything has changed it
        #[arg(long, requires = "file")]
        enforce: bool,
        /// With reach+: programs may write to the folder too, which nothing here can undo
        #[arg(long, conflicts_with = "file")]
        writable: bool,
        /// In this variant only
        #[arg(long)]
        variant: Option<String>,
        #[command(flatten)]
        how: DryRun,
    },
    /// Take a setting out, so that the title sheet's holds again, or with --file an edit: what was there before comes back
    Unset {
        /// The twin
        name: TwinName,
        /// The setting; with --file, the place in the file
        setting: String,
        /// The config file of the edit
        #[arg(long)]
        file: Option<String>,
        /// In this variant only
        #[arg(long)]
        variant: Option<String>,
        #[command(flatten)]
        how: DryRun,
    },
    /// Set all config edits again that something has changed since, and those that waited for their file
    Apply {
        /// The twin
        name: TwinName,
        #[command(flatten)]
        how: DryRun,
    },
    /// Use a variant of the profile, with its config edits
    Use {
        /// The twin
        name: TwinName,
        /// The variant
        #[arg(required_unless_present = "none")]
        variant: Option<String>,
        /// Use none
        #[arg(long, conflicts_with = "variant")]
        none: bool,
        #[command(flatten)]
        how: DryRun,
    },
    /// Take another twin's profile over, or parts of it
    Copy {
        /// Parts: arguments, environment, edits, variants, ... [default: all but the note]
        part: Vec<String>,
        /// The twin whose profile it is
        #[arg(long, value_name = "NAME")]
        from: TwinName,
        /// The twin that gets it
        #[arg(long, value_name = "NAME")]
        to: TwinName,
        #[command(flatten)]
        how: DryRun,
    },
}

#[derive(Clone, Copy, ValueEnum)]
pub(crate) enum FileFormat {
    /// Sections, key = value or key: value
    Ini,
    /// A key, then its value, on a line of its own
    Lines,
    /// key=value with escapes, as the Java platform writes it
    Properties,
    /// JSON, with comments too
    Json,
    /// TOML
    Toml,
    /// XML
    Xml,
}

impl From<FileFormat> for Format {
    fn from(format: FileFormat) -> Self {
        match format {
            FileFormat::Ini => Self::Ini,
            FileFormat::Lines => Self::Lines,
            FileFormat::Properties => Self::Properties,
            FileFormat::Json => Self::Json,
            FileFormat::Toml => Self::Toml,
            FileFormat::Xml => Self::Xml,
        }
    }
}
