//! Marker files and folders, by which a program is told to keep to its own folder.
//!
//! ```
//! use yard_twin::markers;
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
//! let plan = markers::plan(&yard, &"main".parse()?, &ctx)?;
//! let laid = markers::apply(&yard, &plan, &ctx)?;
//! assert_eq!(laid, plan.missing);
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

use crate::Yard;
use crate::catalog::What;
use crate::disk;
use crate::disk::op_folder::OpFolder;
use crate::error::Result;
use crate::ident::{ContentId, TwinName};
use crate::listing::{Entry, Layer, Listing, Node, overlay};
use crate::progress::Ctx;
use crate::sheet::Sheet;
use crate::store::pool::Ledger;
use crate::store::state::State;
use crate::twin::Twin;
use crate::twin::change::{Goal, Start};
use crate::twin::planned;
use crate::twin::sources;

/// The listing with the markers of the sheet that it doesn't have, and those.
pub(crate) fn with_markers(listing: Listing, sheet: Option<&Sheet>) -> Result<(Listing, Vec<String>)> {
    let missing = sheet.map(|sheet| sheet.missing_markers(&listing)).unwrap_or_default();
    if missing.is_empty() {
        return Ok((listing, Vec::new()));
    }
    let names = missing.iter().map(|(path, _)| path.to_string()).collect();
    let entry = |(path, folder)| {
        let node =
            if folder { Node::EmptyFolder } else { Node::File { content: nothing(), size: 0, executable: false } };
        (crate::RelPath::clone(&path), Some(Entry { path, node, mtime: 0 }))
    };
    Ok((overlay(&listing, &Layer::new(missing.into_iter().map(entry).collect())?)?, names))
}

/// The content of an empty file.
fn nothing() -> ContentId {
    ContentId::from_bytes(*blake3::hash(b"").as_bytes())
}

/// Marker files and folders that a twin will get.
#[must_use = "a plan changes nothing until it is applied"]
#[derive(Clone, Debug, serde::Serialize)]
#[non_exhaustive]
pub struct Plan {
    /// The twin.
    pub twin: TwinName,
    /// Those that it doesn't have.
    pub missing: Vec<String>,
}

/// Makes sure that the pool has the content of an empty file.
pub(crate) fn keep_nothing(yard: &Yard, op: &OpFolder, ctx: &Ctx) -> Result<()> {
    let has = yard.store.pool.ask(&Ledger::load(&yard.store.pool)?, nothing(), false, &mut Vec::new(), ctx)?;
    if has.is_right() {
        return Ok(());
    }
    // The caller may stage contents of its own in this folder.
    let below = OpFolder::below(op, "nothing")?;
    let path = below.path().join("empty");
    disk::write(&path, "")?;
    sources::take_from(yard, nothing(), &path, &below, ctx).map(|_| ())
}

/// Looks for the marker files and folders of the title sheet that a twin doesn't have.
///
/// # Errors
/// [`crate::Error::NotFound`], [`crate::Error::Busy`].
pub fn plan(yard: &Yard, name: &TwinName, ctx: &Ctx) -> Result<Plan> {
    let row = yard.twin_row(name, false)?;
    let (_, settled) = planned::see(yard, &row, ctx)?;
    let sheet = yard.sheet_of(&settled.state.build)?;
    let (_, missing) = with_markers(settled.listing, sheet.as_ref())?;
    Ok(Plan { twin: row.name, missing })
}

/// Lays the marker files and folders that a twin doesn't have, and says which.
///
/// # Errors
/// As a restore: [`crate::Error::NotFound`], [`crate::Error::Busy`], [`crate::TwinError::Protected`].
pub fn apply(yard: &Yard, plan: &Plan, ctx: &Ctx) -> Result<Vec<String>> {
    let row = yard.twin_row(&plan.twin, false)?;
    let mut twin = Twin::hold(yard, &row, ctx)?;
    let settled = twin.settle(What::Outside, ctx)?;
    let sheet = yard.sheet_of(&settled.state.build)?;
    let (next, missing) = with_markers(settled.listing.clone(), sheet.as_ref())?;
    if missing.is_empty() {
        return Ok(missing);
    }
    if row.protected.is_some() {
        return Err(crate::TwinError::Protected(row.name.to_string()).into());
    }
    let op = yard.begin(ctx)?;
    keep_nothing(yard, &op, ctx)?;
    let (laid, _) = with_markers(yard.store.listing(settled.state.laid)?, sheet.as_ref())?;
    let state = State { laid: yard.store.put_listing(&laid, None, &op)?, ..settled.state.clone() };
    let start = Start::of(&settled);
    twin.change(&start, Goal { state, next, what: Some(What::Marked), intent: None, anew: None }, ctx)?;
    Ok(missing)
}
