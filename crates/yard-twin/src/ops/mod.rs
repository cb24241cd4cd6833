//! What is done to a yard, each a plan and its application in the words of `docs/design.md`.

pub(crate) mod carry;
pub(crate) mod clone;
pub(crate) mod edits;
pub(crate) mod inside;
pub(crate) mod intake;
pub(crate) mod play;
pub(crate) mod protect;
pub(crate) mod rename;
pub(crate) mod renew;
pub(crate) mod repath;
pub(crate) mod restore;
pub(crate) mod sheets;

pub use carry::{CarryFrom, CarryOptions, CarryOutcome, CarryPlan, CarrySide};
pub use clone::{CloneOptions, CloneOutcome, ClonePlan};
pub use edits::profile::{ProfileChange, ProfilePlan, ProfileView};
pub use edits::{EditChange, EditDoes, EditOutcome, EditPlan, EditView};
pub use inside::{InsideOutcome, InsidePlan};
pub use intake::from_twin::{TwinIntakeOptions, TwinIntakePlan};
pub use intake::source::NotKept;
pub use intake::take_away::TakenAway;
pub use intake::{HomePart, IntakeOptions, IntakeOutcome, IntakePlan, SheetUse};
pub use play::{Contained, Keep, LaunchOptions, LaunchPlan, RunDetails, RunOutcome, RunReport, Running, Signaller};
pub use protect::{ProtectOutcome, ProtectPlan};
pub use rename::{RenameOutcome, RenamePlan};
pub use renew::{RenewOptions, RenewOutcome, RenewPlan, Rest};
pub use repath::{FolderRepathOutcome, FolderRepathPlan, NamedPlace, Place, PlaceKind, RepathOutcome, RepathPlan};
pub use restore::{RestoreOptions, RestoreOutcome, RestorePlan, SnapshotDropPlan, SnapshotOutcome, SnapshotPlan};
pub use sheets::SheetPlan;
