//! What a program finds around it: its variables, its home, its places for temporary files, the session's sockets.

use std::collections::BTreeMap;
use std::ffi::OsString;
use std::fs;
use std::path::{Path, PathBuf};

use super::home;
use super::layer::{AREAS, MEMORY, RunLayer, SESSION, TEMPORARY};
use super::reach::Reached;
use super::seal::FencePlan;
use super::seal::plan::{Overlay, View, Wanted, view};
use super::{Ipc, Isolation};
use crate::disk;
use crate::error::{PathContext, Result};

/// The name that the key to the display has among the temporary files of a sealed program.
pub(crate) const COOKIE: &str = ".display-key";

/// Sockets of the session that a sealed program reaches: windows, sound, cameras, and the bus that desktops talk by.
/// What starts programs or holds keys is not among them.
const SOCKETS: [&str; 6] = ["bus", "pipewire-0", "pipewire-0-manager", "pulse/native", "wayland-0", "wayland-1"];

/// Places below `/proc` where the kernel asks who the user is outside, not what they may do inside.
const CLOSED: [&str; 7] =
    ["/proc/acpi", "/proc/bus", "/proc/fs", "/proc/irq", "/proc/scsi", "/proc/sys", "/proc/sysrq-trigger"];

/// Where the session's folder is where the system has none, below the program's own `/tmp`.
pub(crate) const RUNTIME: &str = ".runtime";

/// The folder below `/tmp` with the sockets of X11 displays.
pub(crate) const DISPLAYS: &str = ".X11-unix";

/// Devices that a sealed program of root's gets, where the system's own would give it the whole machine.
const DEVICES: [&str; 10] = ["null", "zero", "full", "random", "urandom", "tty", "dri", "input", "snd", "nvidiactl"];

/// What the caller says of a launch's surroundings.
#[derive(Clone, Copy)]
pub(crate) struct About<'a> {
    /// The twin's folder, with `game` and `home` in it.
    pub(crate) twin: &'a Path,
    pub(crate) yard: &'a Path,
    pub(crate) isolation: Isolation,
    /// Whether the program may look at the rest of the yard.
    pub(crate) yard_shown: bool,
    pub(crate) network: bool,
    /// Whether a sealed program has shared memory and semaphores of its own, if the profile says.
    pub(crate) ipc: Option<Ipc>,
    /// Folders outside that it is shown.
    pub(crate) reached: &'a [Reached],
    /// Whether it is started to see where it writes: with an empty home, and nowhere to write unseen.
    pub(crate) watched: bool,
}

impl Default for About<'_> {
    fn default() -> Self {
        Self {
            twin: Path::new(""),
            yard: Path::new(""),
            isolation: Isolation::Sealed,
            yard_shown: false,
            network: true,
            ipc: None,
            reached: &[],
            watched: false,
        }
    }
}

/// What a program finds around it.
#[derive(Clone, Debug, Default)]
pub(crate) struct Surroundings {
    /// What it sees, if it is sealed.
    pub(crate) view: Option<View>,
    /// Where it may write, if that is limited.
    pub(crate) fence: Option<FencePlan>,
    /// Variables that lead it to its places.
    pub(crate) environment: BTreeMap<OsString, OsString>,
    /// The file with the key to the display, which it gets a copy of.
    pub(crate) cookie: Option<PathBuf>,
    /// Whether a sealed program has shared memory and semaphores of its own.
    pub(crate) own_ipc: bool,
    /// What is left in the layer of what was made to mount on, below its folder.
    pub(crate) placeholders: Vec<String>,
}

impl Surroundings {
    /// Works them out, from the twin's folder and this process's own variables.
    pub(crate) fn new(about: About<'_>) -> Result<Self> {
        let twin = disk::canonical(about.twin)?;
        let layer = RunLayer::of(&twin);
        let home = twin.join("home");
        match about.isolation {
            Isolation::Sealed => sealed(about, &twin, &layer),
            Isolation::Fenced => {
                let mut environment = home::variables(&home);
                environment.insert("TMPDIR".into(), layer.temporary("tmp").into());
                let writable = about.reached.iter().filter(|reached| reached.writable && !reached.missing);
                let folders = [twin.join("game"), home, layer.temporary("tmp")].into_iter();
                let folders = folders.chain(writable.map(|reached| reached.folder.clone())).collect();
                let fence = Some(FencePlan { folders, required: true, sockets: true });
                Ok(Self { fence, environment, ..Self::default() })
            }
            Isolation::Redirected => {
                let environment = home::variables(&home);
                Ok(Self { environment, ..Self::default() })
            }
        }
    }

    /// Gives a sealed program its copy of the key to the display, and a folder for sockets where the session has none.
    pub(crate) fn lay(&self, layer: &RunLayer) -> Result<()> {
        if self.view.is_some() {
            let runtime = layer.temporary("tmp").join(RUNTIME);
            // One that an earlier run left is as this makes it.
            if !disk::exists(&runtime) {
                disk::make_folders(&runtime)?;
                disk::set_mode(&runtime, 0o700)?;
            }
        }
        let Some(cookie) = &self.cookie else { return Ok(()) };
        let copy = layer.temporary("tmp").join(COOKIE);
        let bytes = fs::read(cookie).at("read", cookie)?;
        disk::write(&copy, bytes)?;
        disk::set_mode(&copy, 0o600)
    }
}

fn sealed(about: About<'_>, twin: &Path, layer: &RunLayer) -> Result<Surroundings> {
    let real_home = own_home().and_then(|home| disk::canonical(&home).ok());
    let yard = disk::canonical(about.yard)?;
    let seen_home = real_home.filter(|home| can_be_bound(home, twin, &yard)).unwrap_or_else(|| twin.join("home"));
    let lower = |area: &str| if about.watched && area == AREAS[1] { layer.empty_home() } else { twin.join(area) };
    let overlay =
        |area: &str, at: PathBuf| Overlay { lower: lower(area), upper: layer.upper(area), work: layer.work(area), at };
    let mut wanted = Wanted {
        overlays: vec![overlay(AREAS[0], twin.join(AREAS[0])), overlay(AREAS[1], seen_home.clone())],
        ..Wanted::default()
    };
    for (name, place) in TEMPORARY {
        let there = disk::canonical(Path::new(place)).ok().filter(|path| path.is_dir());
        wanted.private.extend(there.map(|place| (layer.temporary(name), place)));
    }
    let memory = disk::canonical(Path::new(MEMORY.1)).ok();
    let (session, usual) = session();
    if about.watched {
        wanted.private.extend(memory.map(|place| (layer.temporary(MEMORY.0), place)));
        wanted.private.extend(session.as_ref().map(|(folder, _)| (layer.temporary(SESSION), folder.clone())));
    } else {
        wanted.empty.extend(memory);
    }
    // Where both are one place, the first stands for it.
    wanted.private.dedup_by(|later, first| later.1 == first.1);
    // The user's own session is nobody's to look into.
    wanted.hidden.extend(usual.filter(|usual| session.as_ref().is_none_or(|(folder, _)| folder != usual)));
    let runtime = session.as_ref().map_or_else(|| Path::new("/tmp").join(RUNTIME), |(folder, _)| folder.clone());
    wanted.session = session;
    wanted.terminals = Path::new("/dev/pts").is_dir();
    wanted.reached =
        about.reached.iter().filter(|one| !one.missing).map(|one| (one.folder.clone(), one.writable)).collect();
    wanted.shown.extend(disk::canonical(&Path::new("/tmp").join(DISPLAYS)).ok());
    if about.yard_shown {
        wanted.shown.push(yard)
    } else {
        wanted.hidden.push(yard)
    }
    if rustix::process::geteuid().is_root() {
        let devices = DEVICES.iter().map(|name| Path::new("/dev").join(name)).filter(|path| path.exists());
        wanted.devices = Some(devices.collect());
        wanted.closed = CLOSED.iter().map(PathBuf::from).filter(|path| path.exists()).collect();
    }
    // What stands in for a folder may not be made yet.
    let view = view(&wanted).with_files(|path| path.exists() && !path.is_dir());
    let mut environment = home::folders(&seen_home);
    environment.insert("TMPDIR".into(), "/tmp".into());
    environment.insert("XDG_RUNTIME_DIR".into(), runtime.into());
    let cookie = home::cookie();
    if cookie.is_some() {
        environment.insert("XAUTHORITY".into(), Path::new("/tmp").join(COOKIE).into());
    }
    let uppers = wanted.overlays.iter().map(|overlay| (&overlay.upper, &overlay.at));
    let private = wanted.private.iter().map(|(from, at)| (from, at));
    let mut placeholders = Vec::new();
    for (from, at) in uppers.chain(private) {
        let left = view.left_in(at).into_iter().filter_map(|path| {
            let path = from.join(path.strip_prefix(at).ok()?);
            path.strip_prefix(layer.root()).ok()?.to_str().map(str::to_owned)
        });
        placeholders.extend(left);
    }
    let fence = FencePlan { folders: view.writable.clone(), required: false, sockets: about.network };
    let own_ipc = has_own_ipc(about.ipc);
    Ok(Surroundings { view: Some(view), fence: Some(fence), environment, cookie, own_ipc, placeholders })
}

/// Whether a sealed program has shared memory and semaphores of its own: an X11 display draws from memory that both share.
pub(crate) fn has_own_ipc(asked: Option<Ipc>) -> bool {
    let draws = std::env::var_os("DISPLAY").is_some_and(|display| !display.is_empty());
    asked.map_or(!draws, |ipc| ipc == Ipc::Own)
}

/// The home of the user who starts the program.
fn own_home() -> Option<PathBuf> {
    std::env::var_os("HOME").map(PathBuf::from).filter(|home| home.is_absolute())
}

/// Whether the twin's home can be put in the place of `home`.
fn can_be_bound(home: &Path, twin: &Path, yard: &Path) -> bool {
    // What is seen there too must not be hidden by it, nor stand in for the system's own places.
    let taken = ["/tmp", "/var/tmp", "/dev/shm", "/proc", "/run", "/sys", "/usr", "/etc"];
    home.is_dir()
        && !taken.iter().any(|path| Path::new(path).starts_with(home))
        && !home.starts_with(yard)
        && !home.starts_with(twin)
}

/// The folder of the user's session, with the sockets in it that are let through; and where such a folder is usually.
fn session() -> (Option<(PathBuf, Vec<PathBuf>)>, Option<PathBuf>) {
    let there = |folder: PathBuf| {
        let folder = folder.is_absolute().then(|| disk::canonical(&folder).ok())?;
        folder.filter(|folder| folder.is_dir())
    };
    let usual = there(format!("/run/user/{}", rustix::process::geteuid().as_raw()).into());
    let named = std::env::var_os("XDG_RUNTIME_DIR").map(PathBuf::from).and_then(there);
    let folder = named.or_else(|| usual.clone()).filter(|folder| can_be_emptied(folder));
    (folder.map(sockets), usual)
}

/// Whether an empty folder can stand in for this one.
fn can_be_emptied(folder: &Path) -> bool {
    !["/", "/run", "/tmp", "/var", "/var/tmp", "/dev", "/dev/shm", "/proc", "/usr", "/etc"]
        .iter()
        .any(|place| folder == Path::new(place))
}

fn sockets(folder: PathBuf) -> (PathBuf, Vec<PathBuf>) {
    let display = std::env::var_os("WAYLAND_DISPLAY").map(PathBuf::from);
    let named = display.into_iter().filter(|name| name.is_relative()).map(|name| folder.join(name));
    let mut sockets: Vec<_> =
        SOCKETS.iter().map(|name| folder.join(name)).chain(named).filter(|path| path.exists()).collect();
    sockets.sort();
    sockets.dedup();
    (folder, sockets)
}
