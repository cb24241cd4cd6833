//! What the opening of a yard found half done.

use crate::error::{Error, Result};
use crate::ident::TwinId;

/// What the opening of a yard found half done.
#[derive(Debug, Default)]
pub(crate) struct Recovered {
    /// What was finished or undone.
    pub(crate) done: Vec<String>,
    /// What could not be.
    pub(crate) left: Vec<Left>,
}

/// What is half done, and stays so for now.
#[derive(Debug)]
pub(crate) struct Left {
    /// What it is: a folder of `tmp/`, or what was under way.
    pub(crate) what: String,
    /// The twin that it is about.
    pub(crate) twin: Option<TwinId>,
    /// Why it could not be finished.
    pub(crate) why: String,
}

impl Recovered {
    /// Takes down what came of one thing; only a wish to stop ends it all.
    pub(crate) fn note(&mut self, what: String, twin: Option<TwinId>, came: Result<bool>) -> Result<()> {
        match came {
            Ok(true) => self.done.push(what),
            Ok(false) => {}
            Err(Error::Cancelled) => return Err(Error::Cancelled),
            // Somebody is at it just now.
            Err(Error::Busy { .. }) => {}
            Err(error) => {
                tracing::info!(what, %error, "could not be finished yet");
                self.left.push(Left { what, twin, why: error.with_causes() });
            }
        }
        Ok(())
    }
}
