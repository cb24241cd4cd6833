//! Whether a program keeps to its own folder: what a watched start left anywhere else, and what would keep it in.

use std::path::PathBuf;

use serde::Serialize;

use crate::Yard;
use crate::catalog::RunRecord;
use crate::error::Result;
use crate::ident::TwinName;
use crate::ops::play::plan::Plan;
use crate::ops::play::run;
use crate::ops::play::running::{Outcome, Report};
use crate::progress::Ctx;
use crate::sheet::Inside;
use crate::twin::settle;

/// Whether a program keeps to its own folder.
#[derive(Clone, Debug, Serialize)]
pub struct Contained {
    /// The twin.
    pub twin: TwinName,
    /// Whether it left nothing outside of its game folder, and no write of it was seen to be refused.
    pub self_contained: bool,
    /// What it wrote into its home: started in any other way, it would be the user's own. Paths below the home.
    pub in_home: Vec<String>,
    /// What it left in other places.
    pub outside: Vec<PathBuf>,
    /// Lines of its output that tell of a write which was refused.
    pub refused: Vec<String>,
    /// Whether all of this is known for sure, and is its own.
    pub exact: bool,
    /// What the title sheet names to keep it in.
    pub inside: Inside,
    /// Marker files and folders of those that the twin doesn't have.
    pub missing: Vec<String>,
}

/// A run of a twin, with what it changed.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct RunDetails {
    /// What the catalogue says.
    #[serde(flatten)]
    pub record: RunRecord,
    /// What it changed; `None` where nobody saw its end.
    pub report: Option<Report>,
}

/// Judges whether the program of a twin keeps to its own folder, by a run of it. Marker files and folders of the title
/// sheet that it was started without are named; [`markers::apply`](crate::markers::apply) lays them.
///
/// # Errors
/// [`crate::SheetError`] if the title sheet is wrong.
pub fn contained(yard: &Yard, plan: &Plan, outcome: &Outcome) -> Result<Contained> {
    let report = &outcome.report;
    let groups = report.changes.groups.iter();
    let paths = groups.flat_map(|group| group.new.iter().chain(&group.changed).chain(&group.gone));
    let mut in_home: Vec<_> = paths.filter_map(|path| path.strip_prefix("home/").map(str::to_owned)).collect();
    in_home.sort();
    let refused = report.refused.clone();
    Ok(Contained {
        twin: outcome.twin.clone(),
        self_contained: in_home.is_empty() && report.outside.is_empty() && refused.is_empty(),
        in_home,
        outside: report.outside.clone(),
        refused,
        exact: report.exact,
        inside: yard.sheet_of(&plan.build)?.map(|sheet| sheet.inside).unwrap_or_default(),
        missing: plan.markers_missing.clone(),
    })
}

/// The runs of a twin, the newest first, with what each changed. The twin is settled first, unless it is running or
/// removed: so a run that was cut off is complete too.
///
/// # Errors
/// As [`history::entries`](crate::history::entries).
pub fn runs(yard: &Yard, name: &TwinName, ctx: &Ctx) -> Result<Vec<RunDetails>> {
    let row = yard.twin_row(name, true)?;
    settle::settle_if_free(yard, &row, ctx)?;
    let runs = yard.catalog.runs(row.id)?.into_iter();
    runs.map(|record| Ok(RunDetails { report: run::read_report(yard, &row, record.id)?, record })).collect()
}
