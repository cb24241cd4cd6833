//! What keeps a yard small and whole: letting go of twins and stock builds, sweeping, and finishing what a command that died
//! left half done.

pub(crate) mod recover;
pub(crate) mod remove;
pub(crate) mod stock;
pub(crate) mod sweep;

pub use remove::{ForgetOutcome, OnlyHere, RemoveOutcome, RemovePlan};
pub use stock::{StockDetails, StockRemovePlan, StockSummary, StockUnremovePlan};
pub use sweep::{Files, LetGo, SweepOutcome, SweepPlan};
