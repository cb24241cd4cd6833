//! Errors of carrying belongings.

/// Why belongings can't be carried.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum CarryError {
    /// They would go where they come from.
    #[error("{0:?} is both the twin to carry from and the one to carry to")]
    SameTwin(String),
    /// Nothing was said about what to carry.
    #[error("no group of belongings was named, and no pattern")]
    Nothing,
    /// A pattern over files is of no use.
    #[error("the pattern {pattern:?} can't be used: {why}")]
    Pattern {
        /// The pattern.
        pattern: String,
        /// What is wrong with it.
        why: String,
    },
    /// Both twins have something of their own in one place, and nobody said what is to be done.
    #[error("{} the player's own in {twin:?} too, and not the same there", if *count == 1 { "one of these is".into() } else { format!("{count} of these are") })]
    Undecided {
        /// How many.
        count: usize,
        /// The twin that they would come to.
        twin: String,
    },
    /// What is in an archive, or found in the user's own home, can't be taken from its place.
    #[error("only what comes from another twin, or from a folder or file that is named, can be taken out of its place")]
    OnlyNamed,
    /// Belongings are to leave the yard, and would not.
    #[error("{} is inside the yard", .0.display())]
    InsideYard(std::path::PathBuf),
    /// A twin has nothing of its own in what is to be carried.
    #[error("the twin {0:?} has nothing of the player's own in that")]
    NothingThere(String),
    /// What was written is not what should be there.
    #[error("{} was written, and reads as something else", .0.display())]
    NotVerified(std::path::PathBuf),
    /// Nothing below a folder goes into the group.
    #[error("nothing in {from} has a place in the group {group:?}")]
    NoPlace {
        /// The folder or file.
        from: String,
        /// The group.
        group: String,
    },
}

impl CarryError {
    pub(super) fn remedy(&self) -> Option<&'static str> {
        Some(match self {
            Self::SameTwin(_) => "Name two twins.",
            Self::Nothing => "Name a group of belongings, or a pattern over files.",
            Self::Undecided { .. } => {
                "Nothing was changed. Say what is to be done with them: skip them, replace what is there, take the newer \
                 one, or keep both."
            }
            Self::InsideYard(_) => "Name a folder outside of it.",
            Self::NothingThere(_) => "Look at what it has: yardtwin show NAME --belongings.",
            Self::NotVerified(_) => "Nothing was left there. Check that disk, then try again.",
            Self::OnlyNamed => "Carry a copy, and delete the other one yourself.",
            Self::NoPlace { .. } => "Look where the group keeps its files; name another group, or what is inside.",
            Self::Pattern { .. } => return None,
        })
    }
}
