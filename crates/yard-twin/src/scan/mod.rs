//! From a folder on disk to a listing.

mod index;
mod quick;
mod reading;
mod usage;
mod walk;
mod without;

pub(crate) use index::{Index, Row, index_path};
pub(crate) use quick::{Doubt, Found, Lifted, Now, Observer, settle_folder};
pub(crate) use usage::usage;
pub(crate) use walk::{Kind, Manner, Seen, Sum, walk, walk_sum};
pub(crate) use without::without;
