//! Check: what is wrong in a yard, worst first. Nothing is changed by looking; `mend` does what is safe.
//!
//! ```
//! use yard_twin::check;
//! # use yard_twin::{Ctx, Yard, clone, intake};
//! # let place = tempfile::tempdir()?;
//! # let installed = place.path().join("installed");
//! # standins::write_small_wexcombe(&installed, "1.4")?;
//! # let (yard, ctx) = (Yard::init(place.path().join("yard"))?, Ctx::new());
//! # std::fs::write(yard.sheet_path(&"wexcombe".parse()?), standins::WEXCOMBE_SHEET)?;
//! # let options = intake::Options::new(&installed, "wexcombe".parse()?);
//! # intake::apply(&yard, &intake::plan(&yard, options, &ctx)?, &ctx)?;
//! # for name in ["main"] {
//! #     let plan = clone::plan(&yard, &"wexcombe@1.4".parse()?, &name.parse()?, clone::Options::default(), &ctx)?;
//! #     clone::apply(&yard, &plan, &ctx)?;
//! # }
//! let report = check::look(&yard, &check::Options::default(), &ctx)?;
//! for finding in &report.findings {
//!     println!("{:?}: {}: {}", finding.severity, finding.about, finding.problem);
//! }
//! let mended = check::mend(&yard, &report.findings, &check::MendOptions::default(), &ctx)?;
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

mod finding;
mod from_stock;
mod mend;
mod pool;
mod records;
mod repair;
mod touched;
mod twin;

use std::collections::HashSet;
use std::path::PathBuf;
use std::time::{Duration, Instant};

use serde::Serialize;

pub use finding::{About, DamagedFile, Finding, Mend, Problem, Severity, Touched};
pub use mend::{MendOptions, Mended, mend};

use crate::Yard;
use crate::catalog::TwinRow;
use crate::error::{PathContext, Result};
use crate::ident::Source;
use crate::progress::Ctx;

/// What to check, and how closely. The default is all of the yard, without reading contents.
#[derive(Clone, Debug, Default)]
pub struct Options {
    /// Only this stock build or twin.
    pub what: Option<Source>,
    /// Read every content and compare it with its name.
    pub full: bool,
    /// Folders that may hold the right bytes of what is damaged.
    pub from: Vec<PathBuf>,
}

/// How much a check looked at.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub struct CheckedCounts {
    /// Stock builds.
    pub stock_builds: u64,
    /// Twins.
    pub twins: u64,
    /// Contents in the pool.
    pub contents: u64,
    /// Files in twins.
    pub files: u64,
}

/// What a check found.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Report {
    /// What was found, the worst first.
    pub findings: Vec<Finding>,
    /// How much was looked at.
    pub looked_at: CheckedCounts,
    /// Whether every content was read.
    pub full: bool,
    /// How long it took.
    #[serde(serialize_with = "crate::progress::seconds")]
    pub took: Duration,
}

/// A check under way.
struct Checker<'a> {
    yard: &'a Yard,
    options: &'a Options,
    ctx: &'a Ctx,
    findings: Vec<Finding>,
    counts: CheckedCounts,
    /// Inodes of the pool that were read, and hold what they should.
    right: HashSet<u64>,
    /// Those that don't.
    wrong: HashSet<u64>,
}

impl Checker<'_> {
    fn found(&mut self, severity: Severity, about: &About, problem: Problem, mend: Mend) {
        self.findings.push(Finding::new(severity, about, problem, mend));
    }
}

/// Looks for whatever is wrong: in the catalogue, the pool, the records, the title sheets, the stock builds, the twins
/// against their last state, their stock build and their sheet, the launch entries. Nothing is changed or taken in.
///
/// # Errors
/// [`crate::Error::NotFound`] for a stock build or twin that isn't there, [`crate::Error::Io`] for a folder of
/// [`Options::from`] that can't be listed, [`crate::Error::Cancelled`]. What is wrong with the yard is a finding, and
/// no error.
pub fn look(yard: &Yard, options: &Options, ctx: &Ctx) -> Result<Report> {
    let began = Instant::now();
    for folder in &options.from {
        std::fs::read_dir(folder).at("list", folder)?;
    }
    let mut checker = Checker {
        yard,
        options,
        ctx,
        findings: Vec::new(),
        counts: CheckedCounts::default(),
        right: HashSet::new(),
        wrong: HashSet::new(),
    };
    match &options.what {
        None => checker.everything()?,
        Some(Source::Stock(build)) => {
            let row = yard.stock_row(build, false)?;
            checker.sheet(&row.build.title);
            checker.records(&|about| *about == About::Stock(row.build.clone()))?;
            checker.pool(Some(&About::Stock(row.build.clone())))?;
            checker.counts.stock_builds = 1;
        }
        Some(Source::Twin(name)) => {
            let row = yard.twin_row(name, false)?;
            checker.records(&|about| *about == About::Twin(row.name.clone()))?;
            checker.pool(Some(&About::Twin(row.name.clone())))?;
            checker.twin(&row)?;
        }
    }
    let Checker { mut findings, counts, .. } = checker;
    findings.sort_by(|a, b| (a.severity, &a.about).cmp(&(b.severity, &b.about)));
    Ok(Report { findings, looked_at: counts, full: options.full, took: began.elapsed() })
}

impl Checker<'_> {
    fn everything(&mut self) -> Result<()> {
        self.catalogue()?;
        self.folders()?;
        let mut titles = HashSet::new();
        for row in self.yard.catalog.stock_builds()?.iter().filter(|row| row.removed_at.is_none()) {
            self.counts.stock_builds += 1;
            if titles.insert(row.build.title.clone()) {
                self.sheet(&row.build.title);
            }
        }
        self.records(&|_| true)?;
        self.pool(None)?;
        let rows: Vec<TwinRow> = self.yard.catalog.twins()?;
        rows.iter().filter(|row| row.removed_at.is_none()).try_for_each(|row| self.twin(row))
    }
}
