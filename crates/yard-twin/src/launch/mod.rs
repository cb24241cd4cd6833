//! Starting a twin's program: what is started, in which surroundings, how far it is isolated, what it changed.

pub(crate) mod changes;
pub(crate) mod home;
pub(crate) mod isolation;
pub(crate) mod layer;
pub(crate) mod output;
pub(crate) mod reach;
pub(crate) mod seal;
pub(crate) mod surroundings;
pub(crate) mod watch;

pub use changes::{Changes, GroupChange, changes};
pub(crate) use home::prepared;
pub use isolation::{Ipc, Isolation, Possible};
pub(crate) use layer::{About as LayerAbout, Fate, Fold, RunLayer};
pub(crate) use output::OUTPUT;
pub use output::{OutputSink, Stream};
pub use seal::{Change, Helper, Terminal, TerminalEnd, launch_helper};
