//! What can be wrong with a yard as a whole.

use std::path::PathBuf;

/// Why a yard can't be opened or made.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum YardError {
    /// There is no `yard.toml`.
    #[error("{} is no yard: it has no yard.toml", .0.display())]
    NotAYard(PathBuf),
    /// A new yard needs an empty or missing folder.
    #[error("{} is not empty, so no yard is made there", .0.display())]
    NotEmpty(PathBuf),
    /// A yard is there already.
    #[error("{} is a yard already", .0.display())]
    AlreadyAYard(PathBuf),
    /// It is another user's: what is done in it must stay that user's own.
    #[error("{} is the yard of another user (id {owner})", path.display())]
    NotYours {
        /// The yard.
        path: PathBuf,
        /// Whose it is.
        owner: u32,
    },
    /// A newer version of this crate made it.
    #[error("{} is of format {found}, and this version knows formats up to {known}", path.display())]
    NewerFormat {
        /// The file that says so.
        path: PathBuf,
        /// Its format.
        found: u32,
        /// The newest format known here.
        known: u32,
    },
    /// The settings file is wrong.
    #[error("{}, line {line}, column {column}: {message}", path.display())]
    Settings {
        /// `yard.toml`.
        path: PathBuf,
        /// Counted from 1.
        line: usize,
        /// Counted from 1.
        column: usize,
        /// What is wrong there.
        message: String,
    },
    /// The catalogue is gone.
    #[error("the yard's catalogue {} is missing", .0.display())]
    CatalogueMissing(PathBuf),
    /// The catalogue is there, and nothing is in it: it was cut off, or another file took its place.
    #[error("the yard's catalogue {} is empty: what was in it is lost", .0.display())]
    CatalogueEmpty(PathBuf),
    /// Twins are there that the catalogue doesn't know, so that it can't say what is needed.
    #[error("the catalogue doesn't know what these folders are: {}", .0.iter().map(|folder| folder.display().to_string()).collect::<Vec<_>>().join(", "))]
    UnknownTwins(Vec<PathBuf>),
}
