//! Stock builds: what there is, and letting one go.
//!
//! ```
//! use yard_twin::stock;
//! # use yard_twin::{Ctx, Yard, intake};
//! # let place = tempfile::tempdir()?;
//! # let installed = place.path().join("installed");
//! # standins::write_small_wexcombe(&installed, "1.4")?;
//! # let (yard, ctx) = (Yard::init(place.path().join("yard"))?, Ctx::new());
//! # std::fs::write(yard.sheet_path(&"wexcombe".parse()?), standins::WEXCOMBE_SHEET)?;
//! # let options = intake::Options::new(&installed, "wexcombe".parse()?);
//! # intake::apply(&yard, &intake::plan(&yard, options, &ctx)?, &ctx)?;
//! assert_eq!(stock::list(&yard, false)?[0].build.to_string(), "wexcombe@1.4");
//! stock::apply_remove(&yard, &stock::plan_remove(&yard, &"wexcombe@1.4".parse()?)?, &ctx)?;
//! stock::apply_unremove(&yard, &stock::plan_unremove(&yard, &"wexcombe@1.4".parse()?)?, &ctx)?;
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

use std::collections::HashSet;

use jiff::Timestamp;
use serde::Serialize;

use crate::Yard;
use crate::catalog::StockRow;
use crate::error::{Error, Noun, Result, TwinError};
use crate::ident::{BuildRef, ListingId};
use crate::listing::{Listing, Totals};
use crate::progress::Ctx;
use crate::upkeep::remove::{OnlyHere, only_here};

/// A stock build in a list.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Summary {
    /// Its name.
    pub build: BuildRef,
    /// Its title as people write it.
    pub title_name: String,
    /// The release channel.
    pub channel: Option<String>,
    /// When it was released.
    pub dated: Option<String>,
    /// A word about it.
    pub note: Option<String>,
    /// When it was taken in.
    pub taken_at: Timestamp,
    /// When it was removed; `None` if it is there.
    pub removed_at: Option<Timestamp>,
    /// What it holds.
    pub totals: Totals,
    /// The twins on it, by name.
    pub twins: Vec<String>,
}

/// All about a stock build.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Details {
    /// What is in a list.
    #[serde(flatten)]
    pub summary: Summary,
    /// The folder that it was taken in from.
    pub source: String,
    /// Its listing.
    pub listing: ListingId,
    /// What no other stock build and no twin has.
    pub only_here: OnlyHere,
    /// Bytes that it has in common with other stock builds of any title, each content once.
    pub shared_with_others: u64,
    /// What looks like a player's own, by the title's sheet.
    pub belongings: Vec<crate::Belongings>,
}

/// What removing a stock build will do.
#[must_use = "a plan changes nothing until it is applied"]
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct RemovePlan {
    /// The stock build.
    pub build: BuildRef,
    /// What it holds.
    pub totals: Totals,
    /// What exists nowhere else.
    pub only_here: OnlyHere,
}

/// A removed stock build that will be on the list again.
#[must_use = "a plan changes nothing until it is applied"]
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct UnremovePlan {
    /// The stock build.
    pub build: BuildRef,
}

/// The stock builds, by title and age; with `removed`, the removed ones instead.
///
/// # Errors
/// [`Error::Catalogue`], [`Error::Damaged`], [`Error::Io`].
pub fn list(yard: &Yard, removed: bool) -> Result<Vec<Summary>> {
    let rows = yard.catalog.stock_builds()?;
    rows.iter().filter(|row| row.removed_at.is_some() == removed).map(|row| stock_summary(yard, row)).collect()
}

fn stock_summary(yard: &Yard, row: &StockRow) -> Result<Summary> {
    Ok(Summary {
        build: row.build.clone(),
        title_name: yard.title_name(&row.build),
        channel: row.channel.clone(),
        dated: row.dated.clone(),
        note: row.note.clone(),
        taken_at: row.taken_at,
        removed_at: row.removed_at,
        totals: yard.totals(row.listing)?,
        twins: twins_on(yard, &row.build)?,
    })
}

fn twins_on(yard: &Yard, build: &BuildRef) -> Result<Vec<String>> {
    let mut names = Vec::new();
    for row in yard.catalog.twins()?.into_iter().filter(|row| row.removed_at.is_none()) {
        if yard.newest_whole(&row)?.build == *build {
            names.push(row.name.to_string());
        }
    }
    Ok(names)
}

/// All about a stock build, and its listing.
///
/// # Errors
/// [`Error::NotFound`], [`Error::Damaged`], [`Error::Io`].
pub fn details(yard: &Yard, build: &BuildRef) -> Result<(Details, Listing)> {
    let row = yard.stock_row(build, false)?;
    let others = yard.catalog.stock_builds()?.into_iter().filter(|other| other.build != row.build);
    let (others, mut theirs) = (others.map(|other| other.listing).collect(), HashSet::new());
    yard.store.each_readable(others, |entry| theirs.extend(entry.node.content()))?;
    let (summary, listing) = (stock_summary(yard, &row)?, yard.store.listing(row.listing)?);
    let only = yard.contents_only_in(&listing, None, Some(&row.build))?;
    // Each content counts once.
    let shared =
        listing.entries().iter().filter(|entry| entry.node.content().is_some_and(|content| theirs.remove(&content)));
    let details = Details {
        source: row.source,
        listing: row.listing,
        only_here: only_here(&listing, &only),
        shared_with_others: shared.map(|entry| entry.node.size()).sum(),
        belongings: yard.sheet_of(build)?.map(|sheet| sheet.belongings(&listing)).unwrap_or_default(),
        summary,
    };
    Ok((details, listing))
}

/// Looks at what removing a stock build means.
///
/// # Errors
/// [`Error::NotFound`]; [`TwinError::StockInUse`] while twins are on it.
pub fn plan_remove(yard: &Yard, build: &BuildRef) -> Result<RemovePlan> {
    let (details, _) = details(yard, build)?;
    let summary = details.summary;
    if !summary.twins.is_empty() {
        return Err(TwinError::StockInUse { build: build.to_string(), twins: summary.twins }.into());
    }
    Ok(RemovePlan { build: summary.build, totals: summary.totals, only_here: details.only_here })
}

/// Takes a stock build off the list. Its contents stay in the pool, and [`apply_unremove`] brings it back.
///
/// # Errors
/// As [`plan_remove`].
pub fn apply_remove(yard: &Yard, plan: &RemovePlan, ctx: &Ctx) -> Result<()> {
    let _alone = yard.alone(ctx)?;
    let again = plan_remove(yard, &plan.build)?;
    let row = yard.stock_row(&again.build, false)?;
    yard.catalog.mark_stock(&row, Some(Timestamp::now()))
}

/// Looks whether a removed stock build can be put back on the list.
///
/// # Errors
/// [`Error::NotFound`] if none of that name was removed, [`Error::Exists`] if one of that name is there.
pub fn plan_unremove(yard: &Yard, build: &BuildRef) -> Result<UnremovePlan> {
    let row = yard.stock_row(build, true)?;
    if row.removed_at.is_none() {
        let name = build.to_string();
        return Err(Error::Exists { what: Noun::StockBuild, existing: row.build.to_string(), name });
    }
    Ok(UnremovePlan { build: row.build })
}

/// Puts a removed stock build back on the list.
///
/// # Errors
/// As [`plan_unremove`].
pub fn apply_unremove(yard: &Yard, plan: &UnremovePlan, ctx: &Ctx) -> Result<()> {
    let _alone = yard.alone(ctx)?;
    let again = plan_unremove(yard, &plan.build)?;
    yard.catalog.mark_stock(&yard.stock_row(&again.build, true)?, None)
}
