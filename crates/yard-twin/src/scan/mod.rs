//! From a folder on disk to a listing.

mod index;
mod quick;
mod reading;
mod standing;
mod usage;
mod walk;
mod without;

pub(crate) use index::{Index, NewIndex, Row, index_path};
pub(crate) use quick::{Doubt, Found, Lifted, Now, Observer, Sight, sight};
pub(crate) use reading::Reading;
pub(crate) use standing::{Folders, Looked, SeenFolders};
pub(crate) use usage::{NO_ROW, Usage, Used, usage, usage_but, usage_by_rows, usage_of};
pub(crate) use walk::{Kind, Manner, Seen, Sum, walk, walk_sum};
pub(crate) use without::without;
