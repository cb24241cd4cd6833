//! From a listing to a folder on disk: a new one, or one that is there and changes.

mod change;
mod folders;
mod lay;
mod steps;
#[cfg(test)]
#[allow(clippy::unwrap_used)]
mod tests;

pub(crate) use change::{Changing, Doubtful, PATHS, Published, Staged};
pub(crate) use lay::{Laid, Laying};
pub use steps::{Doing, Step, steps};
