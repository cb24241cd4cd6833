//! From a listing to a folder on disk.

mod lay;

pub(crate) use lay::{Laid, Laying};
