//! The operations on a yard, each a few sentences in its words.

mod after_run;
mod change;
mod check;
mod clone;
mod compare;
#[cfg(test)]
#[allow(clippy::unwrap_used, clippy::print_stderr)]
mod faults;
mod finish;
mod history;
mod intake;
mod markers;
mod power;
mod profile;
mod protect;
mod recover;
mod remove;
mod rename;
mod settle;
mod sheets;
mod show;
mod space;
mod stock;
mod sweep;
mod take_away;

pub use after_run::Leaks;
pub use check::{
    About, CheckOptions, CheckReport, CheckedCounts, DamagedFile, Finding, Mend, MendOptions, Mended, Problem,
    Severity, Touched,
};
pub use clone::{CloneOptions, CloneOutcome, ClonePlan};
pub use compare::{Compared, Difference, Differing, Differs, Hunk, LineChange, Part, Tallies, Tally};
pub use history::{RestoreOptions, RestoreOutcome, RestorePlan, SnapshotOutcome};
pub use intake::{IntakeOptions, IntakeOutcome, IntakePlan, NotKept, SheetUse};
pub use profile::{ProfileChange, ProfileView};
pub use protect::ProtectOutcome;
pub use remove::{ForgetOutcome, OnlyHere, RemoveOutcome, RemovePlan};
pub use rename::RenameOutcome;
pub(crate) use settle::{Own, Settled};
pub use sheets::SheetPlan;
pub use show::{Guard, IsolationView, ShareTotals, Shares, TwinDetails, TwinSummary, Unsettled};
pub use space::{SharedWith, Space, YardSpace};
pub use stock::{StockDetails, StockRemovePlan, StockSummary};
pub use sweep::{Files, LetGo, SweepOutcome};
pub use take_away::TakenAway;
