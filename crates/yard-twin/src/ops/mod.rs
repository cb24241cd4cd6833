//! What is done to a yard, each a plan and its application in the words of `docs/design.md`.

pub mod carry;
pub mod clone;
pub mod edits;
pub mod inside;
pub mod intake;
pub mod mods;
pub mod play;
pub mod protect;
mod recombine;
pub mod rename;
pub mod renew;
pub mod repath;
pub mod restore;
pub mod share;
pub mod sheets;
pub mod snapshot;
pub mod undo;
