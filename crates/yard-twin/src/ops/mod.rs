//! The operations on a yard, each a few sentences in its words.

mod after_run;
mod aim;
mod belongings;
mod carry;
mod change;
mod check;
mod clone;
mod coming;
mod compare;
mod edits;
#[cfg(test)]
#[allow(clippy::unwrap_used, clippy::print_stderr)]
mod faults;
mod finish;
mod history;
mod inside;
mod intake;
mod intake_twin;
mod leaks;
mod making;
mod markers;
mod power;
mod profile;
mod protect;
mod recover;
mod remove;
mod rename;
mod renew;
mod repath;
mod room;
mod settle;
mod sheets;
mod show;
mod space;
mod stock;
mod sweep;
mod take_away;
mod taking;
mod vouch;

pub use belongings::{BelongingsView, Catch, GroupDetails, Overlap, SheetView};
pub use carry::{CarryFrom, CarryOptions, CarryOutcome, CarryPlan, CarrySide};
pub use check::{
    About, CheckOptions, CheckReport, CheckedCounts, DamagedFile, Finding, Mend, MendOptions, Mended, Problem,
    Severity, Touched,
};
pub use clone::{CloneOptions, CloneOutcome, ClonePlan};
pub use compare::{Compared, Difference, Differing, Differs, Hunk, LineChange, Part, Tallies, Tally};
pub use edits::{EditChange, EditDoes, EditOutcome, EditPlan, EditView};
pub use history::{RestoreOptions, RestoreOutcome, RestorePlan, SnapshotOutcome};
pub use inside::{InsideOutcome, InsidePlan};
pub use intake::{HomePart, IntakeOptions, IntakeOutcome, IntakePlan, SheetUse};
pub use intake_twin::{TwinIntakeOptions, TwinIntakePlan};
pub use leaks::Leaks;
pub use profile::{ProfileChange, ProfileView};
pub use protect::ProtectOutcome;
pub(crate) use recover::Recovered;
pub use remove::{ForgetOutcome, OnlyHere, RemoveOutcome, RemovePlan};
pub use rename::RenameOutcome;
pub use renew::{RenewOptions, RenewOutcome, RenewPlan, Rest};
pub use repath::{FolderRepathOutcome, FolderRepathPlan, NamedPlace, Place, PlaceKind, RepathOutcome, RepathPlan};
pub use room::Room;
pub(crate) use settle::Settled;
pub use sheets::SheetPlan;
pub use show::{Guard, IsolationView, ShareTotals, Shares, TwinDetails, TwinSummary, Unsettled};
pub use space::{SharedWith, Space, YardSpace};
pub use stock::{StockDetails, StockRemovePlan, StockSummary};
pub use sweep::{Files, LetGo, SweepOutcome};
pub use take_away::TakenAway;
pub use taking::NotKept;
