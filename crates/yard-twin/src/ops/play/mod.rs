//! Launching a twin: what is planned, what runs, what comes of it.

pub(crate) mod command;
pub(crate) mod contained;
pub(crate) mod isolation;
pub(crate) mod plan;
pub(crate) mod run;
pub(crate) mod running;
pub(crate) mod stop;

pub use contained::{Contained, RunDetails};
pub use plan::{Keep, LaunchOptions, LaunchPlan};
pub use running::{RunOutcome, RunReport, Running, Signaller};
