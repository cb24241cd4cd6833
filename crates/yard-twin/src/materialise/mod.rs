//! From a listing to a folder on disk: a new one, or one that is there and changes.

mod change;
mod lay;
mod out;
mod publish;
mod steps;
#[cfg(test)]
#[allow(clippy::unwrap_used)]
mod tests;

pub(crate) use change::{FolderChange, PATHS, Staged, TOGETHER, is_file_or_link, slot};
pub(crate) use lay::{Laid, Layout, Tree};
pub(crate) use out::{Discard, is_open_below};
pub(crate) use publish::{Doubtful, GivenUp, Published};
pub use steps::{Doing, Step, steps};
