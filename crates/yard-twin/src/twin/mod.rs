//! A twin: what is there, taken in; and the one way to change it.

pub(crate) mod after_run;
pub(crate) mod arrived;
pub(crate) mod change;
pub(crate) mod derive;
pub(crate) mod finish;
pub(crate) mod held;
pub(crate) mod inlay;
pub(crate) mod leaks;
pub(crate) mod look;
pub mod markers;
pub(crate) mod mods;
pub(crate) mod names;
pub(crate) mod planned;
pub(crate) mod power;
pub(crate) mod private;
pub(crate) mod protection;
pub(crate) mod room;
pub(crate) mod settle;
pub(crate) mod shares;
pub(crate) mod sources;
pub(crate) mod vouch;

pub(crate) use held::Twin;
pub use leaks::Leaks;
pub use room::Room;
pub(crate) use settle::Settled;
pub use shares::{ShareTotals, Shares};
