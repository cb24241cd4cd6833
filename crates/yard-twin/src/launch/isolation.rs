//! How far a program is kept inside its twin: what there is, what is possible here, and what a twin gets.

use std::fmt;
use std::os::unix::fs::MetadataExt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use super::layer::{About as LayerAbout, Fate, RunLayer};
use super::seal::{self, FencePlan, Keeping, Refusal, TrialPlan};
use super::surroundings::{About, Surroundings};
use crate::Yard;
use crate::disk;
use crate::error::{Error, LaunchError, PathContext, Result};
use crate::progress::Ctx;

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
            let why = "there are sealed, fenced and redirected".into();
            LaunchError::Setting { key: "isolation".into(), what: "set", why }.into()
        })
    }
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
    pub(super) fn choose(&self, asked: Option<Isolation>) -> Result<Isolation> {
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

impl Yard {
    /// What is possible here: found out by doing it, once each time that the system is started.
    ///
    /// # Errors
    /// [`Error::Io`] if not even the trial could be prepared.
    pub fn possible_isolation(&self, ctx: &Ctx) -> Result<Possible> {
        let key = self.probe_key()?;
        if let Some(known) = self.catalog.probe(&key)?.and_then(|text| serde_json::from_str(&text).ok()) {
            return Ok(known);
        }
        let possible = Possible { no_sealed: self.try_sealed(ctx)?, no_fenced: self.try_fenced(ctx)? };
        tracing::info!(?possible, "tried how far programs can be kept inside");
        if let Ok(text) = serde_json::to_string(&possible) {
            self.catalog.set_probe(&key, &text)?;
        }
        Ok(possible)
    }

    /// Forgets what was found out, so that it is tried once more.
    pub(super) fn forget_possible(&self) -> Result<()> {
        self.catalog.forget_probe(&self.probe_key()?)
    }

    /// What the answer depends on: the boot, the user, the filesystem of the yard, and whether the asking process is kept
    /// inside something itself.
    fn probe_key(&self) -> Result<String> {
        let stat = disk::lstat(self.root()).at("look at", self.root())?;
        let link = |path: &str| std::fs::read_link(path).map(|to| to.display().to_string()).unwrap_or_default();
        let namespaces = format!("{} {}", link("/proc/self/ns/user"), link("/proc/self/ns/mnt"));
        let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
        let confined = status.lines().any(|line| line.starts_with("NoNewPrivs:") && line.ends_with('1'));
        let user = rustix::process::geteuid().as_raw();
        let boot = disk::boot_id().unwrap_or_default();
        let home = std::env::var_os("HOME").unwrap_or_default();
        Ok(format!("{boot} {user} {} {namespaces} {confined} {}", stat.dev, home.display()))
    }

    /// Why a sealed launch is not possible, found out by one with no program.
    fn try_sealed(&self, ctx: &Ctx) -> Result<Option<String>> {
        let op = self.begin(ctx)?;
        let twin = op.path().join("trial");
        for folder in ["game/folder", "home"] {
            disk::make_folders(&twin.join(folder))?;
        }
        let file = twin.join("game/file");
        disk::write(&file, "as it was")?;
        disk::set_mode(&file, 0o444)?;
        let layer = RunLayer::of(&twin);
        layer.make(&LayerAbout { run: 0, placeholders: Vec::new(), fate: Fate::Kept, direct: None })?;
        let outside = op.path().join("outside");
        disk::write(&outside, "as it was")?;
        let about =
            About { twin: &twin, yard: self.root(), isolation: Isolation::Sealed, yard_shown: false, network: true };
        // As the twins are: then a launch by root becomes the user whose yard it is.
        let owner = std::fs::metadata(self.root()).at("look at", self.root())?;
        if rustix::process::geteuid().is_root() {
            disk::give(&twin, owner.uid(), owner.gid())?;
        }
        let around = Surroundings::new(about)?;
        let game = disk::canonical(&twin.join("game"))?;
        let keeping = Keeping {
            view: around.view.as_ref(),
            fence: around.fence.clone(),
            network: true,
            folder: &game,
            owner: around.owner,
            lock: None,
            join: None,
        };
        let trial =
            TrialPlan { file: &game.join("file"), folder: &game.join("folder"), outside: &outside, attributes: true };
        let why = match seal::trial(&keeping, &trial) {
            Err(refusal) => Some(refusal.to_string()),
            Ok(()) if std::fs::read(&file).at("read", &file)? != b"as it was" => {
                Some("a write in a layer reached what lies below it".into())
            }
            Ok(()) => None,
        };
        disk::remove_tree(layer.root())?;
        Ok(why)
    }

    /// Why a fenced launch is not possible.
    fn try_fenced(&self, ctx: &Ctx) -> Result<Option<String>> {
        let op = self.begin(ctx)?;
        let folder = op.path().join("inside");
        disk::make_folders(&folder.join("folder"))?;
        let (file, outside) = (folder.join("file"), op.path().join("outside"));
        disk::write(&file, "as it was")?;
        let fence = FencePlan { folders: vec![folder.clone()], required: true, sockets: true };
        let keeping = Keeping {
            view: None,
            fence: Some(fence),
            network: true,
            folder: &folder,
            owner: None,
            lock: None,
            join: None,
        };
        let trial = TrialPlan { file: &file, folder: &folder.join("folder"), outside: &outside, attributes: false };
        Ok(seal::trial(&keeping, &trial).err().map(|refusal: Refusal| refusal.to_string()))
    }
}
