//! Protecting a twin's game files.
//!
//! ```
//! use yard_twin::protect;
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
//! protect::apply(&yard, &protect::plan(&yard, &"main".parse()?, true)?, &ctx)?;
//! let free = protect::plan(&yard, &"main".parse()?, false)?;
//! assert!(free.would.changed);
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

use serde::Serialize;

use crate::Yard;
use crate::error::Result;
use crate::ident::TwinName;
use crate::progress::Ctx;
use crate::twin::protection;
use crate::twin::settle;

/// What protecting a twin did.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Outcome {
    /// The twin.
    pub name: TwinName,
    /// Whether it is protected now.
    pub protected: bool,
    /// Whether that is new.
    pub changed: bool,
    /// Whether the title sheet knows no belongings and no live paths: then nothing that its program writes beside its game
    /// files stays there, and only its home is the player's own.
    pub nothing_own: bool,
}

/// What protecting a twin, or taking the protection off, will do.
#[must_use = "a plan changes nothing until it is applied"]
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Plan {
    /// What comes of it.
    #[serde(flatten)]
    pub would: Outcome,
}

/// Looks at what protecting a twin means, or taking the protection off: as long as it is on, every operation that would
/// change game files outside belongings, live paths and the home is refused. What changes them in other ways is shown by
/// [`show::twin`](crate::show::twin).
///
/// # Errors
/// [`crate::Error::NotFound`].
pub fn plan(yard: &Yard, name: &TwinName, on: bool) -> Result<Plan> {
    let row = yard.twin_row(name, false)?;
    let changed = row.protected.is_some() != on;
    let nothing_own = on && protection::knows_nothing_own(yard, &yard.store.state(row.state)?.build)?;
    Ok(Plan { would: Outcome { name: row.name, protected: on, changed, nothing_own } })
}

/// Protects a twin as it is now, or takes the protection off.
///
/// # Errors
/// As [`plan`], and [`crate::Error::Busy`] while it runs.
pub fn apply(yard: &Yard, plan: &Plan, ctx: &Ctx) -> Result<Outcome> {
    let Plan { would } = self::plan(yard, &plan.would.name, plan.would.protected)?;
    if would.changed {
        let row = yard.twin_row(&would.name, false)?;
        settle::settle(yard, &row, ctx)?;
        let state = yard.twin_row(&would.name, false)?.state;
        yard.catalog.protect_twin(row.id, would.protected.then_some(state))?;
    }
    Ok(would)
}
