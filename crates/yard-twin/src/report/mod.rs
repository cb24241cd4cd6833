//! What there is, told: one twin and all of them, their belongings, how two sides differ, what they take on disk.

pub mod belongings;
pub mod compare;
pub mod history;
mod peek;
pub mod show;
pub mod space;
