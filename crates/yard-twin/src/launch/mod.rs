//! Starting a twin's program: what is started, in which surroundings, how far it is isolated, what it changed.

mod changes;
mod command;
mod home;
mod isolation;
mod run;

pub use changes::{Changes, GroupChange, changes};
pub(crate) use command::{check_program, choose};
pub use isolation::Isolation;
pub use run::{LaunchOptions, LaunchPlan, OutputSink, RunOutcome, Running, Signaller, Stream};
