//! Starting a twin's program: what is started, in which surroundings, how far it is isolated, what it changed.

mod changes;
mod command;
mod contained;
mod home;
mod isolation;
mod layer;
mod output;
mod plan;
mod run;
mod running;
mod seal;
mod stop;
mod surroundings;
mod watch;

pub use changes::{Changes, GroupChange, changes};
pub(crate) use command::{check_program, choose};
pub use contained::{Contained, RunDetails};
pub(crate) use home::prepared;
pub use isolation::{Isolation, Possible};
pub(crate) use layer::{About as LayerAbout, Fate, Fold, RunLayer};
pub use output::{OutputSink, Stream};
pub use plan::{Keep, LaunchOptions, LaunchPlan};
pub use running::{RunOutcome, RunReport, Running, Signaller};
pub use seal::{Helper, launch_helper};
