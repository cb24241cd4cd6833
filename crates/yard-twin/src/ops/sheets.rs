//! Putting title sheets into a yard.
//!
//! ```
//! use yard_twin::{Ctx, Yard, sheets};
//! # let place = tempfile::tempdir()?;
//! # let (yard, ctx) = (Yard::init(place.path().join("yard"))?, Ctx::new());
//! // A sheet to begin with, which says in comments what can stand in it.
//! let plan = sheets::plan_new(&yard, &"wexcombe".parse()?)?;
//! sheets::apply(&yard, &plan, &ctx)?;
//! assert_eq!(sheets::paths(&yard)?.len(), 1);
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

use serde::Serialize;

use crate::Yard;
use crate::disk;
use crate::error::{Error, Noun, PathContext, Result, SheetError};
use crate::ident::{Title, TwinName};
use crate::listing::Listing;
use crate::ops::play;
use crate::path::RelPath;
use crate::progress::Ctx;
use crate::sheet::learn::Observed;
use crate::sheet::{self, Sheet};
use crate::text;
use crate::twin::planned;
use crate::twin::vouch;

pub use crate::sheet::learn::{Learned, Proposal};

/// What putting a sheet into the yard will do.
#[must_use = "a plan changes nothing until it is applied"]
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Plan {
    /// The title.
    pub title: Title,
    /// Its title as people write it.
    pub name: String,
    /// Where the sheet will be.
    pub path: PathBuf,
    /// Where the one that is there now will be kept.
    pub keeps: Option<PathBuf>,
    /// The lines that come, after `+`, and that go, after `-`, with some around them, where a sheet is changed.
    pub change: Vec<String>,
    #[serde(skip)]
    text: String,
    /// What the sheet held when this was planned, where that is changed.
    #[serde(skip)]
    changes: Option<String>,
}

/// The sheets of the yard, right or wrong, by title.
///
/// # Errors
/// [`Error::Io`].
pub fn paths(yard: &Yard) -> Result<Vec<PathBuf>> {
    let folder = yard.root().join("sheets");
    let mut paths = Vec::new();
    for entry in fs::read_dir(&folder).at("list", &folder)? {
        paths.push(entry.at("list", &folder)?.path());
    }
    paths.retain(|path| path.extension().is_some_and(|ending| ending == "toml"));
    paths.sort();
    Ok(paths)
}

/// Plans a commented sheet to start from.
///
/// # Errors
/// [`Error::Exists`] if the title has one.
pub fn plan_new(yard: &Yard, title: &Title) -> Result<Plan> {
    plan_sheet(yard, title.clone(), title.to_string(), sheet::new_sheet(title), false)
}

/// Checks a sheet that lies elsewhere, and plans to put it into the yard.
///
/// # Errors
/// [`crate::SheetError`] if it is wrong; [`Error::Exists`] if its title has one and `replace` is not set.
pub fn plan_add(yard: &Yard, file: &Path, replace: bool) -> Result<Plan> {
    let text = sheet::read_text(file)?;
    let sheet = Sheet::parse(&text, file)?;
    plan_sheet(yard, sheet.title, sheet.name, text, replace)
}

fn plan_sheet(yard: &Yard, title: Title, name: String, text: String, replace: bool) -> Result<Plan> {
    let path = yard.sheet_path(&title);
    let there = disk::exists(&path);
    if there && !replace {
        let name = title.to_string();
        return Err(Error::Exists { what: Noun::TitleSheet, existing: name.clone(), name });
    }
    Ok(Plan {
        keeps: there.then(|| path.with_extension("toml.old")),
        change: Vec::new(),
        changes: None,
        title,
        name,
        path,
        text,
    })
}

/// What a sheet could learn from a twin that was played.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Lesson {
    /// The title.
    pub title: Title,
    /// The twin.
    pub twin: TwinName,
    /// How many of its runs are known.
    pub runs: usize,
    /// Whether the sheet that is there is a draft that nobody has changed.
    pub draft: bool,
    /// What the sheet may say from now on.
    pub proposals: Vec<Proposal>,
}

/// Looks at what a title's sheet could learn from a twin: from what its runs wrote, from what is there and did not come with
/// the build, and from where the build's label stands. Nothing is proposed that the sheet says already; only the program that a
/// draft has guessed gives way to the one that was started.
///
/// # Errors
/// [`Error::NotFound`], [`Error::Busy`] while the twin runs, [`crate::SheetError`] if the sheet is wrong.
pub fn learn(yard: &Yard, name: &TwinName, ctx: &Ctx) -> Result<Lesson> {
    let (row, settled) = planned::see(yard, &yard.twin_row(name, false)?, ctx)?;
    let build = settled.state.build.clone();
    let stock = yard.store.listing(yard.stock_row(&build, true)?.listing)?;
    let laid = yard.store.listing(settled.state.laid)?;
    let path = yard.sheet_path(&build.title);
    let text = if disk::exists(&path) { Some(sheet::read_text(&path)?) } else { None };
    let draft = text.is_some_and(|text| text == sheet::draft(&build.title, &stock));
    let sheet = yard.sheet_of(&build)?;
    let reports: Vec<(String, Option<play::Report>)> =
        play::runs(yard, name, ctx)?.into_iter().map(|run| (run.record.program, run.report)).collect();
    let (mut programs, mut written) = (BTreeMap::new(), BTreeMap::new());
    let mut runs = 0;
    for (program, report) in reports {
        *programs.entry(program).or_insert(0) += 1;
        let Some(report) = report else { continue };
        runs += 1;
        let groups = report.changes.groups.iter().flat_map(|group| group.new.iter().chain(&group.changed));
        for path in groups.chain(&report.changes.unexpected) {
            if let Ok(path) = RelPath::new(path) {
                written.entry(path).or_insert_with(BTreeSet::new).insert(runs);
            }
        }
    }
    let texts = small_texts(yard, &stock)?;
    let (now, label) = (&settled.listing, build.build.to_string());
    let seen = Observed { laid: &laid, now, runs, written, programs, label, texts };
    let proposals = sheet::learn::learn(&seen, sheet.as_ref(), draft);
    Ok(Lesson { title: build.title, twin: row.name, runs, draft, proposals })
}

/// So many lines are shown around what changes.
const CONTEXT: usize = 2;

/// Texts of a build that may say which one it is: small ones, near its top.
fn small_texts(yard: &Yard, stock: &Listing) -> Result<Vec<(RelPath, String)>> {
    const SIZE: u64 = 16 << 10;
    const MOST: usize = 200;
    let near = |path: &RelPath| path.as_str().starts_with("game/") && path.as_str().matches('/').count() <= 3;
    let small = stock.entries().iter().filter(|entry| near(&entry.path) && (1..=SIZE).contains(&entry.node.size()));
    let mut texts = Vec::new();
    for entry in small.take(MOST) {
        let Some(content) = entry.node.content() else { continue };
        // A damaged file is reported elsewhere.
        let Some(bytes) = Error::pass_over(vouch::bytes_of(yard, content))? else { continue };
        if let Ok(text) = String::from_utf8(bytes) {
            texts.push((entry.path.clone(), text));
        }
    }
    Ok(texts)
}

/// Plans to write what was learned, or some of it, into the title's sheet.
///
/// # Errors
/// [`crate::SheetError`] if the sheet is wrong, or would be; [`Error::Io`].
pub fn plan_learned(yard: &Yard, lesson: &Lesson, accepted: &[&Learned]) -> Result<Plan> {
    let path = yard.sheet_path(&lesson.title);
    let old = if disk::exists(&path) { sheet::read_text(&path)? } else { String::new() };
    let base = if old.is_empty() { sheet::new_sheet(&lesson.title) } else { old.clone() };
    let wrong = || SheetError { path: path.clone(), line: 1, column: 1, message: "it can't be added to".into() };
    let new = sheet::learn::written(&base, accepted).ok_or_else(wrong)?;
    let sheet = Sheet::parse(&new, &path)?;
    let hunks = text::hunks(&old, &new, CONTEXT);
    let change =
        hunks.into_iter().flat_map(|hunk| hunk.lines).map(|(how, line)| format!("{}{line}", how.sign())).collect();
    Ok(Plan { change, changes: Some(old), ..plan_sheet(yard, sheet.title, sheet.name, new, true)? })
}

/// Writes the sheet as a whole, after the one that it replaces was written aside. After a crash the old one is in place
/// or the new one.
///
/// # Errors
/// [`Error::Io`]; [`crate::SheetError`] if a sheet that is to be changed is another one by now.
pub fn apply(yard: &Yard, plan: &Plan, ctx: &Ctx) -> Result<()> {
    let op = yard.begin(ctx)?;
    let _alone = yard.alone(ctx)?;
    let staged = op.path().join("sheet");
    if let Some(changes) = &plan.changes
        && plan.keeps.is_some()
        && sheet::read_text(&plan.path)? != *changes
    {
        let message = "somebody has changed it meanwhile: do it again".into();
        return Err(SheetError { path: plan.path.clone(), line: 1, column: 1, message }.into());
    }
    if let Some(old) = &plan.keeps {
        disk::write_whole(old, &staged, &fs::read(&plan.path).at("read", &plan.path)?)?;
    }
    disk::write_whole(&plan.path, &staged, plan.text.as_bytes())
}
