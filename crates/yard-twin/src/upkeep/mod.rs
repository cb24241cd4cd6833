//! What keeps a yard small and whole: letting go of twins and stock builds, sweeping, and finishing what a command that
//! died left half done.

pub mod bring_back;
pub(crate) mod recover;
pub mod remove;
pub mod stock;
pub mod sweep;
