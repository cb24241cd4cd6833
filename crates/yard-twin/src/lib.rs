//! Yard Twin keeps several isolated, self-contained copies of a game or emulator side by side.
//!
//! A **yard** is a folder that holds everything. A folder that a program is installed in is taken in once, as a **stock
//! build**; of it, and of each other, **twins** are cloned: plain folders that share storage, each with its own home,
//! profile, runs and launch entry.
//!
//! ```
//! use yard_twin::{CloneOptions, Ctx, IntakeOptions, Source, Title, TwinName, Yard};
//!
//! # fn main() -> Result<(), Box<dyn std::error::Error>> {
//! # let place = tempfile::tempdir()?;
//! # let installed = place.path().join("installed");
//! # std::fs::create_dir_all(installed.join("boards"))?;
//! # std::fs::write(installed.join("boards/plain.txt"), "a board")?;
//! let ctx = Ctx::new();
//! let yard = Yard::init(&place.path().join("yard"))?;
//!
//! let mut options = IntakeOptions::new(&installed, Title::new("wexcombe")?);
//! options.build = Some("1.4".parse()?);
//! let taken = yard.apply_intake(&yard.plan_intake(options, &ctx)?, &ctx)?;
//!
//! let name = TwinName::new("old line")?;
//! let plan = yard.plan_clone(&Source::Stock(taken.build), &name, CloneOptions::default(), &ctx)?;
//! let twin = yard.apply_clone(&plan, &ctx)?;
//! assert_eq!(std::fs::read_to_string(twin.folder.join("game/boards/plain.txt"))?, "a board");
//! # Ok(())
//! # }
//! ```
//!
//! Every change is planned first: `plan_…` looks and changes nothing, its result is plain data that can be printed or
//! serialised, and `apply_…` does it. Errors say what happened and to which path; [`Error::class`] and [`Error::remedy`]
//! say what to do.
//!
//! Whatever changed a twin, be it this crate, a run or an installer, is a line in its history ([`Yard::history`]) with the
//! state that came of it, and [`Yard::plan_restore`] goes back to any of them, around what the player owns.
//!
//! What the player owns is brought from one twin to another by [`Yard::plan_carry`], stays when a twin is put on another
//! stock build by [`Yard::plan_renew`], and fits by config edits ([`Yard::plan_edits`]): [`set_value`] and [`unset_value`]
//! are what these are made of.
//!
//! # Limitations
//! - Linux, by now. Names that are not UTF-8 are refused at intake and passed over in a twin.
//! - Not kept: owners, other mode bits than the executable one, access control lists, extended attributes, hard links
//!   among the files of a source. An intake counts them.
//! - How far a launch is isolated depends on the system ([`Yard::possible_isolation`]). A sealed program reaches the
//!   session's display, sound and bus, and what answers there is not sealed.
//! - A sealed program's files must be of its user's own group to be written whatever their mode.
//! - A write to a guarded link between the look before and the look after one of our own steps at that very file, which also sets
//!   its time back, is not seen.
//! - Config edits are for files up to 16 MiB. Of archives, zip is read.
//! - Where a twin or a yard was before this version recorded it, is not known to [`Yard::plan_repath`].
//! - A new twin's files are not synced when it is made. After a power loss the first command that needs the twin puts
//!   right what did not reach the disk; all else is durable when a call returns.
//! - A program that keeps a file open across a change of the twin writes on into a file that has come out of it: that is kept
//!   below `kept/`, and named. (A change is refused while the twin runs.)

mod archive;
mod catalog;
mod check;
mod combine;
mod disk;
mod edit;
mod entry;
mod error;
#[cfg(test)]
#[allow(clippy::unwrap_used, clippy::print_stderr)]
mod faults;
mod ident;
mod launch;
mod link;
mod listing;
mod materialise;
mod ops;
mod parallel;
mod path;
mod profile;
mod progress;
mod report;
mod scan;
mod sheet;
mod store;
mod text;
mod twin;
mod upkeep;
mod yard;

// The yard and what is done to it.
pub use check::{
    About, CheckOptions, CheckReport, CheckedCounts, DamagedFile, Finding, Mend, MendOptions, Mended, Problem,
    Severity, Touched,
};
pub use materialise::{Doing, Step, steps};
pub use ops::{
    CarryFrom, CarryOptions, CarryOutcome, CarryPlan, CarrySide, CloneOptions, CloneOutcome, ClonePlan, Contained,
    EditChange, EditDoes, EditOutcome, EditPlan, EditView, FolderRepathOutcome, FolderRepathPlan, HomePart,
    InsideOutcome, InsidePlan, IntakeOptions, IntakeOutcome, IntakePlan, Keep, LaunchOptions, LaunchPlan, NamedPlace,
    NotKept, PlaceKind, ProfileChange, ProfilePlan, ProfileView, ProtectOutcome, ProtectPlan, RenameOutcome,
    RenamePlan, RenewOptions, RenewOutcome, RenewPlan, RepathOutcome, RepathPlan, Rest, RestoreOptions, RestoreOutcome,
    RestorePlan, RunDetails, RunOutcome, RunReport, Running, SheetPlan, SheetUse, Signaller, SnapshotDropPlan,
    SnapshotOutcome, SnapshotPlan, TakenAway, TwinIntakeOptions, TwinIntakePlan,
};
pub use progress::{Cancel, Ctx, Phase, Progress};
pub use report::{
    BelongingsView, Catch, Compared, Difference, Differing, Differs, GroupDetails, Guard, Hunk, IsolationView,
    LineChange, Overlap, Part, ShareTotals, SharedWith, Shares, SheetView, Space, Tallies, Tally, TwinDetails,
    TwinSummary, Unsettled, YardSpace,
};
pub use twin::{Leaks, MarkersPlan, Room};
pub use upkeep::{
    Files, ForgetOutcome, LetGo, OnlyHere, RemoveOutcome, RemovePlan, StockDetails, StockRemovePlan, StockSummary,
    StockUnremovePlan, SweepOutcome, SweepPlan,
};
pub use yard::{KeepPolicy, Yard};

// Names, ids and values.
pub use catalog::{Counts, HistoryEntry, RunRecord, What};
pub use combine::{CarryItem, Does, Met, PathForm};
pub use edit::{EditFault, Format, Put, Set, get as get_value, set as set_value, unset as unset_value};
pub use ident::{
    BuildLabel, BuildRef, ContentId, ListingId, Side, SnapshotLabel, SnapshotRef, Source, StateId, Title, TwinId,
    TwinName,
};
pub use listing::{Change, Entry, Layer, Listing, Named, Node, Reason, Rebased, Totals, diff, overlay, rebase};
pub use ops::Place as NamedFolder;
pub use path::RelPath;
pub use profile::{Edit, Profile, Seen, Setting, Switch, Variant};
pub use sheet::{Belongings, Good, Group, IdKey, Inside, Label, OnClash, Place, Program, RenameRule, Sheet, new_sheet};
pub use store::pool::{Share, Sharing, Unshared};

// Starting programs.
pub use entry::{EntryOptions, EntryPlan, EntrySummary, RemoveEntriesPlan};
pub use launch::{Changes, GroupChange, Helper, Isolation, OutputSink, Possible, Stream, changes, launch_helper};

pub use error::{CarryError, Class, Error, Holder, IntakeError, LaunchError, Result, SheetError, TwinError, YardError};

/// A window may do its work in another thread than the one that draws.
const _: () = {
    const fn can_move<T: Send + 'static>() {}
    const fn can_be_shared<T: Send + Sync + 'static>() {}
    can_be_shared::<Yard>();
    can_be_shared::<Ctx>();
    can_move::<Running>();
    can_move::<ClonePlan>();
    can_move::<CarryPlan>();
    can_move::<RestorePlan>();
    can_move::<LaunchPlan>();
};
