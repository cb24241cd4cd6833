//! Mods: packages that are laid over a twin's stock build, in an order, each on or off.
//!
//! ```
//! use yard_twin::mods;
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
//! # let download = place.path().join("Brass Boards");
//! # std::fs::create_dir_all(download.join("v3/boards"))?;
//! std::fs::write(download.join("v3/boards/brass.wjb"), "a board of brass")?;
//! let packed = mods::read(&yard, &[download], &"wexcombe".parse()?, &mods::ReadOptions::default(), &ctx)?;
//! let plan = mods::plan_add(&yard, &"main".parse()?, &packed, &mods::AddOptions::default(), &ctx)?;
//! mods::apply(&yard, &plan, &ctx)?;
//! assert_eq!(std::fs::read_to_string(game("main").join("boards/brass.wjb"))?, "a board of brass");
//!
//! let off = mods::Change::Off(vec!["Brass Boards".parse()?]);
//! mods::apply(&yard, &mods::plan(&yard, &"main".parse()?, &off, &mods::Decisions::default(), &ctx)?, &ctx)?;
//! assert!(!game("main").join("boards/brass.wjb").exists());
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

mod add;
mod adopt;
mod change;
mod fits;
mod look;
mod packages;
mod picture;
mod tool;
mod trial;

pub use add::{AddOptions, plan_add, plan_update, written_sheet};
pub use adopt::{AdoptOptions, plan_adopt};
pub use change::{Decisions, Outcome, Plan, Tally, apply, plan};
pub(super) use fits::for_build;
pub use look::{Explained, InTwin, Is, Shown, explain, list, places, show, title_of};
pub use packages::{Kept, Packed, ReadOptions, kept, kept_package, read, take_away};
pub use picture::{Mark, Top};
pub use tool::{LeftByTool, left_by_tool};
pub use trial::{Answer, Attempt, Culprits, TrialOptions, Verdict, trial};

use crate::error::{Error, Noun, Result};
use crate::ident::ModName;
use crate::placing::ModUse;

/// What is to become of a twin's mods.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Change {
    /// These are not laid any more; they stay where they are in the order.
    Off(Vec<ModName>),
    /// These are laid again.
    On(Vec<ModName>),
    /// The twin doesn't have these any more. Their packages stay in the yard.
    Remove(Vec<ModName>),
    /// One gets another place in the order.
    Move(ModName, To),
}

/// A place in the order.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum To {
    /// Above all others.
    Top,
    /// Just above that one.
    Over(ModName),
    /// Just below that one.
    Under(ModName),
}

/// Which of a twin's mods has that name.
fn find(mods: &[ModUse], name: &ModName) -> Result<usize> {
    mods.iter().position(|used| used.name.key() == name.key()).ok_or_else(|| Error::NotFound {
        what: Noun::Mod,
        name: name.to_string(),
        known: mods.iter().map(|used| used.name.to_string()).collect(),
    })
}
