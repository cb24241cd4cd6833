//! Launching a twin: what is planned, what runs, what comes of it.

pub(crate) mod command;
pub(crate) mod contained;
pub(crate) mod isolation;
pub(crate) mod plan;
pub(crate) mod run;
pub(crate) mod running;
pub(crate) mod stop;

pub use crate::launch::{Helper, OutputSink, Stream};
pub use contained::{Contained, RunDetails, contained, runs};
pub use isolation::possible_isolation;
pub use plan::{Keep, Options, Plan, plan, twin_by_id};
pub use run::start;
pub use running::{Outcome, Report, Running, Signaller};
pub use stop::stop;
