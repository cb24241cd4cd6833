//! The one place that knows how far a program is kept inside its twin.

use std::fmt;
use std::io;
use std::process::{Child, Command, Stdio};

use serde::Serialize;

use super::LaunchPlan;

/// How far a program is kept inside its twin while it runs.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum Isolation {
    /// By its surroundings only: home and base folders lead into the twin. A program that ignores them can write
    /// elsewhere.
    Redirected,
}

impl fmt::Display for Isolation {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Redirected => "redirected",
        })
    }
}

impl Isolation {
    /// The best that this system can do.
    pub(super) fn best() -> Self {
        Self::Redirected
    }

    /// Starts the program: directly, with no shell in between. Its output goes through pipes.
    pub(super) fn start(self, plan: &LaunchPlan) -> io::Result<Child> {
        match self {
            Self::Redirected => Command::new(&plan.program)
                .args(&plan.arguments)
                .current_dir(&plan.folder)
                .envs(&plan.environment)
                .stdin(Stdio::inherit())
                .stdout(Stdio::piped())
                .stderr(Stdio::piped())
                .spawn(),
        }
    }
}
