//! What there is, told: one twin and all of them, their belongings, how two sides differ, what they take on disk.

pub(crate) mod belongings;
pub(crate) mod compare;
pub(crate) mod show;
pub(crate) mod space;

pub use belongings::{BelongingsView, Catch, GroupDetails, Overlap, SheetView};
pub use compare::{Compared, Difference, Differing, Differs, Hunk, LineChange, Part, Tallies, Tally};
pub use show::{Guard, IsolationView, ShareTotals, Shares, TwinDetails, TwinSummary, Unsettled};
pub use space::{SharedWith, Space, YardSpace};
