//! Trying how far a program can be kept inside its twin here.

use std::os::unix::fs::MetadataExt;
use std::path::Path;

use crate::Yard;
use crate::disk;
use crate::error::{PathContext, Result};
use crate::launch::layer::{About as LayerAbout, Fate, RunLayer};
use crate::launch::seal::{self, Confinement, FencePlan, Refusal, TrialPlan};
use crate::launch::surroundings::{About, Surroundings};
use crate::launch::{Isolation, Possible};
use crate::profile::Profile;
use crate::progress::Ctx;

/// What is possible here: found out by doing it, once each time that the system is started; where a sealed launch is not,
/// each time that it is asked.
///
/// # Errors
/// [`crate::Error::Io`] if not even the trial could be prepared.
pub fn possible_isolation(yard: &Yard, ctx: &Ctx) -> Result<Possible> {
    let key = probe_key(yard)?;
    if let Some(known) = yard.catalog.probe(&key)?.and_then(|text| serde_json::from_str(&text).ok()) {
        return Ok(known);
    }
    let possible = Possible { no_sealed: try_sealed(yard, ctx)?, no_fenced: try_fenced(yard, ctx)? };
    tracing::info!(?possible, "tried how far programs can be kept inside");
    // What stood in the way may be gone the next time.
    if possible.no_sealed.is_none()
        && let Ok(text) = serde_json::to_string(&possible)
    {
        yard.catalog.set_probe(&key, &text)?;
    }
    Ok(possible)
}

/// Whether programs of a twin with this profile are sealed.
pub(crate) fn is_sealed(yard: &Yard, profile: &str, ctx: &Ctx) -> Result<bool> {
    let profile = Profile::parse(profile, Path::new("profile.toml"))?;
    let asked = profile.isolation.is_none_or(|isolation| isolation == Isolation::Sealed);
    Ok(asked && possible_isolation(yard, ctx)?.best() == Isolation::Sealed)
}

/// Forgets what was found out, so that it is tried once more.
pub(crate) fn forget_possible(yard: &Yard) -> Result<()> {
    yard.catalog.forget_probe(&probe_key(yard)?)
}

/// What the answer depends on: the boot, the user, the filesystem of the yard, and whether the asking process is kept
/// inside something itself.
fn probe_key(yard: &Yard) -> Result<String> {
    let stat = disk::lstat(yard.root()).at("look at", yard.root())?;
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
fn try_sealed(yard: &Yard, ctx: &Ctx) -> Result<Option<String>> {
    let op = yard.begin(ctx)?;
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
    let about = About { twin: &twin, yard: yard.root(), isolation: Isolation::Sealed, ..About::default() };
    let made = std::fs::metadata(&twin).at("look at", &twin)?;
    if !rustix::process::geteuid().is_root() && made.gid() != rustix::process::getegid().as_raw() {
        disk::remove_tree(layer.root())?;
        let why = "what is made in the yard is of another group than yours (its folder has the setgid bit, or its \
                   filesystem gives it one), and a sealed program's files must be of yours";
        return Ok(Some(why.into()));
    }
    let around = Surroundings::new(about)?;
    let game = disk::canonical(&twin.join("game"))?;
    let confinement = Confinement {
        view: around.view.as_ref(),
        fence: around.fence.clone(),
        network: true,
        own_ipc: around.own_ipc,
        folder: &game,
        lock: None,
        join: None,
        terminal: None,
    };
    let trial = TrialPlan {
        file: &game.join("file"),
        folder: &game.join("folder"),
        outside: &outside,
        attributes: true,
        lock: op.lock_file(),
    };
    let why = match seal::trial(&confinement, &trial) {
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
fn try_fenced(yard: &Yard, ctx: &Ctx) -> Result<Option<String>> {
    let op = yard.begin(ctx)?;
    let folder = op.path().join("inside");
    disk::make_folders(&folder.join("folder"))?;
    let (file, outside) = (folder.join("file"), op.path().join("outside"));
    disk::write(&file, "as it was")?;
    let fence = FencePlan { folders: vec![folder.clone()], required: true, sockets: true };
    let confinement = Confinement {
        view: None,
        fence: Some(fence),
        network: true,
        own_ipc: false,
        folder: &folder,
        lock: None,
        join: None,
        terminal: None,
    };
    let trial = TrialPlan {
        file: &file,
        folder: &folder.join("folder"),
        outside: &outside,
        attributes: false,
        lock: op.lock_file(),
    };
    Ok(seal::trial(&confinement, &trial).err().map(|refusal: Refusal| refusal.to_string()))
}
