//! Launching a twin: what is planned, what runs, what comes of it.
//!
//! ```
//! use yard_twin::play;
//! # use yard_twin::{Ctx, Yard, clone, intake};
//! # let place = tempfile::tempdir()?;
//! # let installed = place.path().join("installed");
//! # standins::write_small_wexcombe(&installed, "1.4")?;
//! # let (yard, ctx) = (Yard::init(place.path().join("yard"))?, Ctx::new());
//! # std::fs::write(yard.sheet_path(&"wexcombe".parse()?), standins::WEXCOMBE_SHEET)?;
//! # let options = intake::Options::new(&installed, "wexcombe".parse()?);
//! # intake::apply(&yard, &intake::plan(&yard, options, &ctx)?, &ctx)?;
//! # for name in ["main"] {
//! #     let plan = clone::plan(&yard, &"wexcombe@1.4".parse()?, &name.parse()?, clone::Options::default(), &ctx)?;
//! #     clone::apply(&yard, &plan, &ctx)?;
//! # }
//! // A program of your own calls `launch_helper` first thing in `main`, and leaves this at its default.
//! let options = play::Options { helper: play::Helper::Copy, ..play::Options::default() };
//! let plan = play::plan(&yard, &"main".parse()?, &options, &ctx)?;
//! println!("{}, {:?}", plan.title_name, plan.isolation);
//! let outcome = play::start(&yard, &plan, &options, &ctx)?.wait(&ctx)?;
//! println!("{}", outcome.report.summary());
//! assert_eq!(play::runs(&yard, &"main".parse()?, &ctx)?.len(), 1);
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

pub(crate) mod command;
pub(crate) mod contained;
pub(crate) mod isolation;
pub(crate) mod plan;
pub(crate) mod run;
pub(crate) mod running;
pub(crate) mod stop;
mod tool;

pub use crate::launch::reach::Reached;
pub use crate::launch::{Change, Helper, OutputSink, Stream, Terminal, TerminalEnd};
pub use contained::{Contained, RunDetails, contained, runs};
pub use isolation::possible_isolation;
pub use plan::{Keep, Options, Plan, plan, twin_by_id};
pub use run::start;
pub use running::{Outcome, Report, Running, Signaller};
pub use stop::{Stopped, stop};
