//! Yard Twin keeps several isolated, self-contained copies of a game or emulator side by side.
//!
//! A **yard** is a folder that holds everything. A folder that a program is installed in is taken in once, as a **stock
//! build**; of it, and of each other, **twins** are cloned: plain folders that share storage, each with its own home,
//! profile, runs and launch entry.
//!
//! ```
//! use yard_twin::{Ctx, Source, Title, TwinName, Yard, clone, intake};
//!
//! # fn main() -> Result<(), Box<dyn std::error::Error>> {
//! # let place = tempfile::tempdir()?;
//! # let installed = place.path().join("installed");
//! # std::fs::create_dir_all(installed.join("boards"))?;
//! # std::fs::write(installed.join("boards/plain.txt"), "a board")?;
//! let ctx = Ctx::new();
//! let yard = Yard::init(place.path().join("yard"))?;
//!
//! let mut options = intake::Options::new(&installed, Title::new("wexcombe")?);
//! options.build = Some("1.4".parse()?);
//! let taken = intake::apply(&yard, &intake::plan(&yard, options, &ctx)?, &ctx)?;
//!
//! let name = TwinName::new("old line")?;
//! let plan = clone::plan(&yard, &Source::Stock(taken.build), &name, clone::Options::default(), &ctx)?;
//! let twin = clone::apply(&yard, &plan, &ctx)?;
//! assert_eq!(std::fs::read_to_string(twin.folder.join("game/boards/plain.txt"))?, "a board");
//! # Ok(())
//! # }
//! ```
//!
//! A [`Yard`] is a cheap handle. What can be done with it is in one module for each operation, with its options, its plan
//! and its outcome:
//!
//! | | |
//! | --- | --- |
//! | taking builds in | [`intake`], [`stock`], [`sheets`] |
//! | twins | [`clone`], [`inside`], [`rename`], [`share`], [`protect`], [`remove`] |
//! | settings | [`edits`], [`markers`] |
//! | playing | [`play`], [`entry`] |
//! | a twin's past | [`history`], [`snapshot`], [`restore`], [`undo`], [`bring_back`], [`sweep`] |
//! | mods | [`mods`] |
//! | what the player owns | [`belongings`], [`carry`], [`renew`], [`repath`] |
//! | looking | [`show`], [`compare`], [`space`], [`check`] |
//!
//! Every change is planned first: `plan` looks, and changes no file of a twin; the plan is plain data that can be printed
//! or serialised; `apply` does it, or refuses if what is there is not what was planned for. Errors say what happened and to
//! which path; [`Error::class`] and [`Error::remedy`] say what to do.
//!
//! Whatever changed a twin, be it this crate, a run or an installer, is a line in its history ([`history::entries`]) with
//! the state that came of it. [`restore`] goes back to any of them, around what the player owns.
//!
//! # Limitations
//! - Linux, by now. Names that are not UTF-8 are refused at intake and passed over in a twin.
//! - Not kept: owners, other mode bits than the executable one, access control lists, extended attributes, hard links
//!   among the files of a source. An intake counts them.
//! - How far a launch is isolated depends on the system ([`play::possible_isolation`]). A sealed program reaches the
//!   session's display, sound and bus, and what answers there is not sealed.
//! - A sealed program's files must be of its user's own group to be written whatever their mode.
//! - A write to a guarded link between the look before and the look after one of our own steps at that very file, which also sets
//!   its time back, is not seen.
//! - Config edits are for files up to 16 MiB. Of archives, zip, 7z and tar (as it is, or packed by gzip, bzip2, xz or zstd) are read.
//! - Where a twin or a yard was before this version recorded it, is not known to [`repath::plan`].
//! - A new twin's files are not synced when it is made. After a power loss the first command that needs the twin puts
//!   right what did not reach the disk; all else is durable when a call returns.
//! - A program that keeps a file open across a change of the twin writes on into a file that has come out of it: that is kept
//!   below `kept/`, and named. (A change is refused while the twin runs.)

mod archive;
mod catalog;
pub mod check;
mod combine;
mod disk;
mod edit;
pub mod entry;
mod error;
#[cfg(test)]
#[allow(clippy::unwrap_used, clippy::print_stderr)]
mod faults;
mod ident;
mod launch;
mod link;
mod listing;
mod materialise;
mod open;
mod ops;
mod parallel;
mod path;
mod placing;
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

pub use ops::{
    carry, clone, edits, inside, intake, mods, play, protect, rename, renew, repath, restore, share, sheets, snapshot,
    undo,
};
pub use report::{belongings, compare, history, show, space};
pub use twin::markers;
pub use upkeep::{bring_back, remove, stock, sweep};

pub use progress::{Cancel, Ctx, Phase, Progress};
pub use yard::Yard;
pub use yard::settings::KeepPolicy;

// Names, ids and values.
pub use archive::NameEncoding;
pub use catalog::{Counts, HistoryEntry, ModDeed, RunRecord, What};
pub use edit::{Edit, EditFault, Format, Put, Set, get as get_value, set as set_value, unset as unset_value};
pub use ident::{
    BuildLabel, BuildRef, ContentId, ListingId, ModId, ModName, Side, SnapshotLabel, SnapshotRef, Source, StateId,
    Title, TwinId, TwinName,
};
pub use launch::{Changes, GroupChange, Ipc, Isolation, Possible, changes, launch_helper};
pub use listing::{Change, Entry, Layer, Listing, Named, Node, Reason, Rebased, Totals, diff, overlay, rebase};
pub use materialise::{Doing, Step, steps};
pub use path::RelPath;
pub use placing::{After, Choices, InlayRule, ModSheet, ModUse, Package, Picture, Placement};
pub use profile::{Profile, Seen, Setting, Switch, Variant};
pub use sheet::{
    ArchiveOf, Belongings, Good, Group, IdKey, Inside, Label, Mods, OnClash, Place, Program, RenameRule, Sheet, Unit,
    new_sheet,
};
pub use store::pool::{Share, Sharing, Unshared};
pub use twin::{Leaks, Room, ShareTotals, Shares};

pub use error::{
    CarryError, Class, Error, Holder, IntakeError, LaunchError, ModError, Noun, Result, SheetError, TwinError,
    WrongBuild, YardError,
};

/// A window may do its work in another thread than the one that draws.
const _: () = {
    const fn can_move<T: Send + 'static>() {}
    const fn can_be_shared<T: Send + Sync + 'static>() {}
    can_be_shared::<Yard>();
    can_be_shared::<Ctx>();
    can_move::<play::Running>();
    can_move::<clone::Plan>();
    can_move::<carry::Plan>();
    can_move::<restore::Plan>();
    can_move::<play::Plan>();
};
