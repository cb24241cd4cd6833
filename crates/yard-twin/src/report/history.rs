//! What became of a twin: every change that is kept.
//!
//! ```
//! use yard_twin::history;
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
//! # let game = |twin: &str| place.path().join("yard/twins").join(twin).join("game");
//! std::fs::write(game("main").join("guide/READ ME first.txt"), "written anew")?;
//! let entries = history::entries(&yard, &"main".parse()?, &ctx)?;
//! assert_eq!(entries[0].game.changed, 1);
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

use crate::Yard;
use crate::catalog::HistoryEntry;
use crate::error::Result;
use crate::ident::TwinName;
use crate::progress::Ctx;
use crate::twin::settle;

/// Every change of a twin that is kept, the newest first. The twin is settled first, unless it is running or removed.
///
/// # Errors
/// [`crate::Error::NotFound`], [`crate::TwinError::FolderMissing`], [`crate::Error::Io`].
pub fn entries(yard: &Yard, name: &TwinName, ctx: &Ctx) -> Result<Vec<HistoryEntry>> {
    let row = yard.twin_row(name, true)?;
    settle::settle_if_free(yard, &row, ctx)?;
    yard.catalog.history(row.id)
}
