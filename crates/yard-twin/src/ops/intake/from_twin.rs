//! A twin becomes a stock build: one that a first start or a patch program has completed.

use std::path::PathBuf;
use std::time::Instant;

use jiff::Timestamp;
use serde::Serialize;

use crate::Yard;
use crate::catalog::{Counts, StockRow};
use crate::error::{IntakeError, Result, TwinError};
use crate::ident::{BuildLabel, BuildRef, TwinName};
use crate::listing::{Entry, Listing, Node, Totals};
use crate::ops::intake;
use crate::ops::intake::Outcome;
use crate::ops::intake::source::NotKept;
use crate::progress::Ctx;
use crate::sheet::Sheet;
use crate::twin::names;
use crate::twin::planned::{self, Seen};

/// What can be said about a stock build that is made of a twin.
#[derive(Clone, Debug, Default)]
pub struct FromTwinOptions {
    /// Its label; read from the twin's game folder as the sheet says if it is not given.
    pub build: Option<BuildLabel>,
    /// The release channel.
    pub channel: Option<String>,
    /// When it was released.
    pub dated: Option<String>,
    /// A word about it.
    pub note: Option<String>,
}

/// What an intake of a twin will do.
#[must_use = "a plan changes nothing until it is applied"]
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct FromTwinPlan {
    /// The twin.
    pub twin: TwinName,
    /// The stock build that its game folder becomes.
    pub build: BuildRef,
    /// The one that the twin is on.
    pub from: BuildRef,
    /// What will be taken in.
    pub totals: Totals,
    /// How that differs from the build that the twin is on.
    pub game: Counts,
    /// Belongings that are the player's own: they are not taken in, and what was shipped in their place is.
    pub left_out: Vec<String>,
    #[serde(skip)]
    folder: PathBuf,
    #[serde(skip)]
    listing: Listing,
    #[serde(skip)]
    options: FromTwinOptions,
    #[serde(skip)]
    seen: Seen,
}

/// Looks at what would be taken in of a twin: its game folder as it is now, without what is worth nothing, and without
/// belongings. What is new in the twin is stored, and written down when the plan is applied.
///
/// # Errors
/// [`crate::Error::NotFound`], [`IntakeError::NoLabel`], [`IntakeError::NotGood`], [`TwinError::NotTaken`],
/// [`crate::Error::Busy`] while it runs; [`crate::Error::Exists`] and [`IntakeError::OtherContents`] if there is another
/// build of that label.
pub fn plan_from_twin(yard: &Yard, name: &TwinName, options: FromTwinOptions, ctx: &Ctx) -> Result<FromTwinPlan> {
    let (row, settled) = planned::see(yard, &yard.twin_row(name, false)?, ctx)?;
    if !settled.not_taken.is_empty() {
        return Err(TwinError::NotTaken { name: row.name.to_string(), paths: settled.not_taken }.into());
    }
    let from = settled.state.build.clone();
    let sheet = yard.sheet_of(&from)?;
    let laid = yard.store.listing(settled.state.laid)?;
    let (listing, left_out) = stock_of(&settled.listing, &laid, sheet.as_ref())?;
    // A build has the id that its own come with.
    let ids = names::from_stock(sheet.as_ref(), settled.state.named_as.as_deref()).map(|(stock, own)| (own, stock));
    let listing = names::renamed(yard, listing, (sheet.as_ref(), ids), false, ctx)?.listing;
    let folder = yard.folder_of(&row).join("game");
    if let Some(sheet) = &sheet {
        let (missing, unwanted) = sheet.faults(&listing);
        if !missing.is_empty() || !unwanted.is_empty() {
            let title = sheet.name.clone();
            return Err(IntakeError::NotGood { folder, title, missing, unwanted }.into());
        }
    }
    let label = match (&options.build, &sheet) {
        (Some(label), _) => label.clone(),
        (None, Some(sheet)) => {
            let text = sheet.read_label(&folder);
            BuildLabel::new(text.map_err(|why| IntakeError::NoLabel { folder: folder.clone(), why })?)?
        }
        (None, None) => {
            return Err(IntakeError::NoLabel { folder, why: "the title has no sheet that says it".into() }.into());
        }
    };
    let build = BuildRef { title: from.title.clone(), build: label };
    intake::already(yard, &build, &listing)?;
    let game = Counts::between(&yard.store.listing(yard.stock_row(&from, true)?.listing)?, &listing);
    let totals = listing.totals();
    let (twin, seen) = (row.name.clone(), Seen::new(row, settled));
    Ok(FromTwinPlan { twin, build, from, totals, game, left_out, folder, listing, options, seen })
}

/// Makes the stock build. Its contents are in the pool already, so that this takes next to no time and space. When it
/// returns, the stock build has survived a power loss.
///
/// # Errors
/// As [`plan_from_twin`]; nothing is taken in then.
pub fn apply_from_twin(yard: &Yard, plan: &FromTwinPlan, ctx: &Ctx) -> Result<Outcome> {
    let began = Instant::now();
    plan.seen.write_down(yard, ctx)?;
    let op = yard.begin(ctx)?;
    let _alone = yard.alone(ctx)?;
    let was_there = intake::already(yard, &plan.build, &plan.listing)?;
    let listing = yard.store.put_listing(&plan.listing, None, &op)?;
    if !was_there {
        let FromTwinOptions { channel, dated, note, .. } = plan.options.clone();
        let mut private = yard.stock_row(&plan.from, true)?.private;
        private.retain(|path| plan.listing.get(path.as_str()).is_some());
        yard.catalog.add_stock(&StockRow {
            build: plan.build.clone(),
            listing,
            channel,
            dated,
            note,
            source: plan.folder.to_string_lossy().into_owned(),
            taken_at: Timestamp::now(),
            removed_at: None,
            private,
        })?;
    }
    Ok(Outcome {
        build: plan.build.clone(),
        listing,
        totals: plan.totals,
        new_contents: 0,
        new_bytes: 0,
        was_there,
        links_made_relative: 0,
        links_outside: Vec::new(),
        not_kept: NotKept::default(),
        taken_away: None,
        took: began.elapsed(),
    })
}

/// The game folder without what is worth nothing, and with what was shipped in place of the player's own belongings.
fn stock_of(there: &Listing, laid: &Listing, sheet: Option<&Sheet>) -> Result<(Listing, Vec<String>)> {
    let game = |entry: &&Entry| entry.path.as_str().starts_with("game/");
    let (mut entries, mut left_out) = (Vec::new(), Vec::new());
    for entry in there.entries().iter().filter(game) {
        let shipped = laid.get(entry.path.as_str());
        if sheet.is_some_and(|sheet| sheet.is_scratch(&entry.path)) {
            continue;
        }
        let belonging = sheet.is_some_and(|sheet| sheet.group_of(&entry.path).is_some());
        if belonging && entry.node != Node::EmptyFolder && shipped.map(|shipped| &shipped.node) != Some(&entry.node) {
            left_out.push(entry.path.to_string());
            continue;
        }
        entries.push(entry.clone());
    }
    // What was shipped as a belonging is shipped again, whatever became of it here; a folder without any stays one.
    let belonging = |entry: &&Entry| sheet.is_some_and(|sheet| sheet.group_of(&entry.path).is_some());
    let folders =
        laid.entries().iter().filter(|entry| entry.node == Node::EmptyFolder && there.has(entry.path.as_str()));
    entries.extend(laid.entries().iter().filter(game).filter(belonging).chain(folders.filter(game)).cloned());
    entries.sort_by(|a, b| a.path.cmp(&b.path));
    entries.dedup_by(|a, b| a.path == b.path);
    Ok((Listing::with_folders_implied(entries)?, left_out))
}
