//! What commands answer in JSON where it is more than one of the library's types. `docs/json.md` is made from these and from
//! those, by their documentation.

use std::path::PathBuf;

use serde::Serialize;
use yard_twin::{BuildRef, Entry, RelPath, TwinName, check, compare, edits, mods, play, sheets, show, space, stock};

/// A yard that was made.
#[derive(Serialize)]
pub(crate) struct YardMade {
    /// Its folder.
    pub(crate) yard: PathBuf,
    /// Whether it was only looked at.
    pub(crate) dry_run: bool,
}

/// A stock build that is on the list again.
#[derive(Serialize)]
pub(crate) struct BuildBack {
    /// The build.
    pub(crate) build: BuildRef,
    /// Whether it was only looked at.
    pub(crate) dry_run: bool,
}

/// All about a stock build.
#[derive(Serialize)]
pub(crate) struct ShownBuild {
    #[serde(flatten)]
    pub(crate) details: stock::Details,
    /// What it holds, sorted by path; with `--files` only.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) files: Option<Vec<Entry>>,
}

/// Sheets that were checked.
#[derive(Serialize)]
pub(crate) struct SheetsChecked {
    /// How many there are.
    pub(crate) checked: usize,
    /// What is wrong with them.
    pub(crate) problems: Vec<yard_twin::SheetError>,
}

/// What was learned of a title, and what becomes of its sheet.
#[derive(Serialize)]
pub(crate) struct SheetLearned<'a> {
    /// What was found, and what speaks for it.
    pub(crate) lesson: &'a sheets::Lesson,
    /// The sheet with what was agreed to.
    pub(crate) plan: &'a sheets::Plan,
}

/// All about a twin, and about its launches.
#[derive(Serialize)]
pub(crate) struct ShownTwin {
    #[serde(flatten)]
    pub(crate) twin: show::Details,
    /// How far a launch keeps it inside.
    pub(crate) isolation: show::IsolationView,
    /// What it takes on disk.
    pub(crate) space: space::Space,
}

/// Where a folder is.
#[derive(Serialize)]
pub(crate) struct FolderOf {
    /// The folder.
    pub(crate) folder: PathBuf,
}

/// A profile, and what is in the files that it edits.
#[derive(Serialize)]
pub(crate) struct ShownProfile {
    #[serde(flatten)]
    pub(crate) view: edits::ProfileView,
    /// Each config edit, and what is in its file now.
    pub(crate) edits: Vec<edits::View>,
}

/// A launch that goes on in the background.
#[derive(Serialize)]
pub(crate) struct Detached<'a> {
    /// The twin.
    pub(crate) twin: &'a TwinName,
    /// The number of its process, if it is known.
    pub(crate) process: Option<u32>,
}

/// What a tool did.
#[derive(Serialize)]
pub(crate) struct ToolRun<'a> {
    /// The run.
    pub(crate) run: &'a play::Outcome,
    /// What it left in the twin.
    pub(crate) left: &'a mods::LeftByTool,
    /// The mod that it became, with `--as-mod`.
    #[serde(rename = "mod")]
    pub(crate) adopted: Option<&'a mods::Outcome>,
}

/// The lines in which one file differs.
#[derive(Serialize)]
pub(crate) struct Text {
    /// Its path.
    pub(crate) path: RelPath,
    /// The places in it that differ.
    pub(crate) hunks: Vec<compare::Hunk>,
}

/// What differs between two sides.
#[derive(Serialize)]
pub(crate) struct Differences {
    #[serde(flatten)]
    pub(crate) difference: compare::Difference,
    /// The lines in which small text files differ; with `--text` only.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) texts: Option<Vec<Text>>,
}

/// What a check found.
#[derive(Serialize)]
pub(crate) struct Checked {
    #[serde(flatten)]
    pub(crate) report: check::Report,
    /// What was mended; with `--fix` only.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) mended: Option<check::Mended>,
}

/// An error, on standard error.
#[derive(Serialize)]
pub(crate) struct Failed {
    /// What happened, and to which path.
    pub(crate) error: String,
    /// What to do about it.
    pub(crate) remedy: Option<String>,
    /// What to type.
    pub(crate) command: Option<String>,
    /// What is to be minded besides.
    pub(crate) notes: Vec<String>,
    /// The exit code.
    pub(crate) exit_code: u8,
}
