//! How far a program is kept inside its twin: what there is, what is possible here, and what a twin gets.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use crate::error::{Error, LaunchError, Result};

/// How far a program is kept inside its twin while it runs; the furthest first.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum Isolation {
    /// In namespaces of its own: whatever it writes in its game folder or home lands in a layer that is folded back
    /// afterwards, and everything else is read-only. No other twin, stock build or content can be changed by it.
    Sealed,
    /// By rules of the kernel's (Landlock): it writes only inside its twin and a private folder for temporary files. It
    /// can still change modes, times and attributes of the user's files elsewhere, and reach a shared file by lifting
    /// its guard first.
    Fenced,
    /// By its surroundings only: home and base folders lead into the twin. A program that ignores them can write
    /// elsewhere.
    Redirected,
}

impl Isolation {
    /// All there are, the furthest first.
    pub const ALL: [Self; 3] = [Self::Sealed, Self::Fenced, Self::Redirected];

    /// Its name, as in a profile.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Sealed => "sealed",
            Self::Fenced => "fenced",
            Self::Redirected => "redirected",
        }
    }
}

impl fmt::Display for Isolation {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

impl FromStr for Isolation {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self> {
        Self::ALL.into_iter().find(|one| one.name() == text).ok_or_else(|| {
            let why = "it is sealed, fenced or redirected".into();
            LaunchError::Setting { key: "isolation".into(), what: "set", why }.into()
        })
    }
}

/// Whose shared memory and semaphores (System V IPC) a sealed program has.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ipc {
    /// Its own.
    Own,
    /// The system's.
    Shared,
}

/// What is possible on this system, in this yard, for this user.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Possible {
    /// Why a sealed launch is not; `None`: it is.
    pub no_sealed: Option<String>,
    /// Why a fenced launch is not; `None`: it is.
    pub no_fenced: Option<String>,
}

impl Possible {
    /// Why it can't be had; `None`: it can.
    #[must_use]
    pub fn why_not(&self, isolation: Isolation) -> Option<&str> {
        match isolation {
            Isolation::Sealed => self.no_sealed.as_deref(),
            Isolation::Fenced => self.no_fenced.as_deref(),
            Isolation::Redirected => None,
        }
    }

    /// The furthest that can be had.
    #[must_use]
    pub fn best(&self) -> Isolation {
        Isolation::ALL.into_iter().find(|one| self.why_not(*one).is_none()).unwrap_or(Isolation::Redirected)
    }

    /// Why it is not the furthest of all.
    #[must_use]
    pub fn why_not_better(&self, than: Isolation) -> Option<String> {
        let better = Isolation::ALL.into_iter().filter(|one| *one < than);
        let why: Vec<_> =
            better.filter_map(|one| Some(format!("{one} is not possible: {}", self.why_not(one)?))).collect();
        if why.is_empty() { None } else { Some(why.join("; ")) }
    }

    /// What is asked for, or the best there is; never less than was asked for.
    pub(crate) fn choose(&self, asked: Option<Isolation>) -> Result<Isolation> {
        let Some(asked) = asked else { return Ok(self.best()) };
        match self.why_not(asked) {
            None => Ok(asked),
            Some(why) => {
                let (asked, best) = (asked.name(), self.best().name());
                Err(LaunchError::Isolation { asked, best, why: why.into() }.into())
            }
        }
    }
}
