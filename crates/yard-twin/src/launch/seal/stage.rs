//! From the copy of the launching process to the program: namespaces, mounts, the second layer, and who waits for whom.
//!
//! Three processes come of a launch. The **keeper** is the copy itself; it holds the twin's lock, watches the launcher and
//! passes signals on. In a sealed launch the **init** is the first process of the new process namespace: it makes the
//! view, and whatever the program leaves behind becomes its child. The **program** gives up what it must not have and
//! starts. Below a sealed launch the keeper does the init's waiting. Who waits for the program leads a session of its own.
//!
//! Nothing here allocates memory or gives any back: see [`super::raw`]. What is needed is made beforehand, by
//! [`Stage::new`].

use std::ffi::CString;
use std::io;
use std::mem::ManuallyDrop;
use std::os::fd::{AsFd, AsRawFd, BorrowedFd, OwnedFd, RawFd};
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

use landlock::{AccessFs, BitFlags, PathBeneath, RulesetCreated, RulesetCreatedAttr};
use rustix::fs::{AtFlags, CWD, FileType, Mode, OFlags, StatVfsMountFlags};
use rustix::io::Errno;
use rustix::mount::{FsMountFlags, FsOpenFlags, MountAttrFlags, MountPropagationFlags, MoveMountFlags, OpenTreeFlags};
use rustix::process::{DumpableBehavior, Pid, Signal};
use rustix::thread::{
    CapabilitiesSecureBits, CapabilitySet, CapabilitySets, LinkNameSpaceType, ThreadNameSpaceType, UnshareFlags,
};

use super::plan::{View, What};
use super::supervise::{Everyone, SIGNALS, supervise};
use super::terminal::{Outer, Pair};
use super::{Record, Step, TrialPlan, raw};
use crate::error::{Error, Result};

/// A path for the kernel.
fn c_string(path: &Path) -> Result<CString> {
    CString::new(path.as_os_str().as_bytes())
        .map_err(|_| Error::io("mount", path, io::ErrorKind::InvalidFilename.into()))
}

fn c_strings<'a>(paths: impl IntoIterator<Item = &'a std::path::PathBuf>) -> Result<Vec<CString>> {
    paths.into_iter().map(|path| c_string(path)).collect()
}

/// A mount, ready to be made.
struct Mount {
    what: Made,
    at: CString,
    folders: Vec<CString>,
    file: bool,
    /// It, once it is made.
    tree: Option<OwnedFd>,
}

enum Made {
    Overlay { lower: CString, upper: CString, work: CString },
    Same { from: CString, read_only: bool },
    Empty { closed: bool },
    Processes,
    Terminals,
}

/// The view of a sealed program, ready to be made.
pub(super) struct Sealing {
    mounts: Vec<Mount>,
    links: Vec<(CString, CString)>,
    closed: Vec<CString>,
    network: bool,
    own_ipc: bool,
    user_map: Vec<u8>,
    group_map: Vec<u8>,
}

impl Sealing {
    /// In it the user's own ids are each mapped to itself.
    pub(super) fn new(view: &View, (network, own_ipc): (bool, bool), (user, group): (u32, u32)) -> Result<Self> {
        let mount = |mount: &super::plan::Mount| -> Result<Mount> {
            let what = match &mount.what {
                What::Overlay { lower, upper, work } => {
                    Made::Overlay { lower: c_string(lower)?, upper: c_string(upper)?, work: c_string(work)? }
                }
                What::Same { from, read_only } => Made::Same { from: c_string(from)?, read_only: *read_only },
                What::Empty { closed } => Made::Empty { closed: *closed },
                What::Processes => Made::Processes,
                What::Terminals => Made::Terminals,
            };
            Ok(Mount {
                what,
                at: c_string(&mount.at)?,
                folders: c_strings(&mount.folders)?,
                file: mount.file,
                tree: None,
            })
        };
        let links = view.links.iter().map(|(to, at)| Ok((c_string(to)?, c_string(at)?)));
        Ok(Self {
            mounts: view.mounts.iter().map(mount).collect::<Result<_>>()?,
            links: links.collect::<Result<_>>()?,
            closed: c_strings(&view.closed)?,
            network,
            own_ipc,
            user_map: format!("{user} {user} 1").into_bytes(),
            group_map: format!("{group} {group} 1").into_bytes(),
        })
    }
}

/// What the second layer lets a program do in one place.
pub(super) struct Allowed {
    at: CString,
    access: BitFlags<AccessFs>,
}

impl Allowed {
    pub(super) fn new(at: &Path, access: BitFlags<AccessFs>) -> Result<Self> {
        Ok(Self { at: c_string(at)?, access })
    }
}

/// The second layer: who may write where, by Landlock.
pub(super) struct Fence {
    pub(super) rules: RulesetCreated,
    pub(super) allowed: Vec<Allowed>,
}

/// A trial of the view in place of a program: paths below the trial's folders.
pub(super) struct Trial {
    file: CString,
    folder: CString,
    outside: CString,
    attributes: bool,
    lock: Option<RawFd>,
}

/// All that stands between a copy of the launching process and the program.
pub(crate) struct Stage {
    pub(super) sealing: Option<Sealing>,
    pub(super) fence: Option<Fence>,
    pub(super) trial: Option<Trial>,
    pub(super) folder: CString,
    /// Where records go.
    pub(super) status: OwnedFd,
    /// The launching process.
    pub(super) launcher: OwnedFd,
    /// The twin's lock, which the keeper holds.
    pub(super) lock: Option<RawFd>,
    /// The keeper of a sealed program that is joined in place of sealing, and the namespace of its processes.
    pub(super) join: Option<(OwnedFd, OwnedFd)>,
    /// The terminal that the program gets.
    pub(super) terminal: Option<Pair>,
    /// The one that it stands in for.
    pub(super) outer: Option<Outer>,
}

type Done<T = ()> = std::result::Result<T, (Step, Errno)>;

/// Names the step that an error is of.
trait Of<T> {
    fn of(self, step: Step) -> Done<T>;
}

impl<T> Of<T> for rustix::io::Result<T> {
    fn of(self, step: Step) -> Done<T> {
        self.map_err(|errno| (step, errno))
    }
}

impl<T> Of<T> for io::Result<T> {
    fn of(self, step: Step) -> Done<T> {
        self.map_err(|error| (step, Errno::from_io_error(&error).unwrap_or(Errno::IO)))
    }
}

impl Stage {
    pub(super) fn folder(path: &Path) -> Result<CString> {
        c_string(path)
    }

    /// Becomes the keeper, or the program that is about to start: only the latter returns, with nothing wrong.
    pub(super) fn enter(&mut self) -> io::Result<()> {
        match self.pass() {
            Ok(()) => Ok(()),
            Err((step, errno)) => {
                Record::Failed(step, errno.raw_os_error()).write(self.status.as_fd());
                Err(errno.into())
            }
        }
    }

    fn pass(&mut self) -> Done {
        if let Some(lock) = self.trial.as_ref().and_then(|trial| trial.lock) {
            raw::close(lock).of(Step::Files)?;
        }
        let signals = raw::catch(&SIGNALS).of(Step::Signals)?;
        // No keyboard but the program's own has a say in it, and the program's signals to its session reach nobody else.
        rustix::process::setsid().of(Step::Start)?;
        if let Some((keeper, space)) = self.join.take() {
            let mut spaces = ThreadNameSpaceType::USER | ThreadNameSpaceType::MOUNT;
            if self.sealing.as_ref().is_some_and(|sealing| !sealing.network) {
                spaces |= ThreadNameSpaceType::NETWORK;
            }
            if self.sealing.as_ref().is_some_and(|sealing| sealing.own_ipc) {
                spaces |= ThreadNameSpaceType::INTER_PROCESS_COMMUNICATION;
            }
            join(keeper.as_fd(), spaces)?;
            let processes = Some(LinkNameSpaceType::ProcessID);
            rustix::thread::move_into_link_name_space(space.as_fd(), processes).of(Step::Join)?;
            let terminal = self.lead()?;
            let Some(program) = raw::fork().of(Step::Start)? else {
                rustix::process::chdir(self.folder.as_c_str()).of(Step::Folder)?;
                return self.be_program(true, terminal);
            };
            return self.wait_for(program, signals);
        }
        // What is taken apart here is not let go of: that would give memory back.
        match self.sealing.take().map(ManuallyDrop::new) {
            Some(mut sealing) => {
                sealing.leave_the_rest_behind()?;
                let Some(init) = raw::fork().of(Step::Start)? else {
                    drop(signals);
                    return self.be_init(&mut sealing);
                };
                self.keep(&[self.launcher.as_raw_fd(), signals.as_raw_fd()])?;
                let launcher = Some((self.launcher.as_fd(), self.outer.as_ref()));
                supervise(init, signals.as_fd(), launcher, None, Everyone::DiesWithIt)
            }
            None => {
                // Whatever the program leaves behind becomes a child of the keeper.
                rustix::process::set_child_subreaper(Some(rustix::process::getpid())).of(Step::Start)?;
                let terminal = self.lead()?;
                let Some(program) = raw::fork().of(Step::Start)? else { return self.be_program(false, terminal) };
                self.wait_for(program, signals)
            }
        }
    }

    /// As the keeper of a program that is its child.
    fn wait_for(&self, program: Pid, signals: OwnedFd) -> Done {
        self.keep(&[self.launcher.as_raw_fd(), signals.as_raw_fd(), self.status.as_raw_fd()])?;
        let launcher = Some((self.launcher.as_fd(), self.outer.as_ref()));
        supervise(program, signals.as_fd(), launcher, Some(self.status.as_fd()), Everyone::BecomesAChild)
    }

    /// Takes the program's terminal as that of the session that this process leads.
    fn lead(&self) -> Done<Option<OwnedFd>> {
        self.terminal.as_ref().map(Pair::lead).transpose().of(Step::Terminal)
    }

    /// Closes what a process that only waits has no use for: among it the pipe by which the standard library learns that
    /// the program started.
    fn keep(&self, files: &[RawFd]) -> Done {
        let mut keep = [RawFd::MAX - 1; 5];
        let outer = self.outer.as_ref().map(|outer| outer.file.as_raw_fd());
        for (to, file) in keep.iter_mut().zip(files.iter().copied().chain(self.lock).chain(outer)) {
            *to = file;
        }
        keep.sort_unstable();
        raw::close_all_but(&keep).of(Step::Files)
    }

    /// The first process of the new namespace.
    fn be_init(&mut self, sealing: &mut Sealing) -> Done {
        // A failure is told by the record alone, since the keeper has closed the other way.
        let terminal = match self.begin(sealing) {
            Ok(terminal) => terminal,
            Err((step, errno)) => {
                Record::Failed(step, errno.raw_os_error()).write(self.status.as_fd());
                raw::exit(1);
            }
        };
        let signals = raw::catch(&SIGNALS).of(Step::Signals)?;
        let Some(program) = raw::fork().of(Step::Start)? else { return self.be_program(true, terminal) };
        // The program may look at this process, but not into it.
        rustix::process::set_dumpable_behavior(DumpableBehavior::NotDumpable).of(Step::Start)?;
        let mut keep = [signals.as_raw_fd(), self.status.as_raw_fd()];
        keep.sort_unstable();
        raw::close_all_but(&keep).of(Step::Files)?;
        supervise(program, signals.as_fd(), None, Some(self.status.as_fd()), Everyone::InTheNamespace)
    }

    fn begin(&self, sealing: &mut Sealing) -> Done<Option<OwnedFd>> {
        // The keeper has one thread, so that it is its end that counts.
        rustix::process::set_parent_process_death_signal(Some(Signal::KILL)).of(Step::Start)?;
        sealing.make_view()?;
        rustix::process::chdir(self.folder.as_c_str()).of(Step::Folder)?;
        rustix::process::setsid().of(Step::Start)?;
        self.lead()
    }

    /// The process that the program replaces.
    fn be_program(&mut self, sealed: bool, terminal: Option<OwnedFd>) -> Done {
        match (&self.terminal, terminal) {
            (Some(pair), Some(end)) => pair.take(end.as_fd()).of(Step::Terminal)?,
            _ => rustix::process::setpgid(None, None).of(Step::Start)?,
        }
        if sealed {
            raw::leave_keys();
            give_up_rights().of(Step::Rights)?;
        } else {
            // The keeper has one thread, so that it is its end that counts.
            rustix::process::set_parent_process_death_signal(Some(Signal::KILL)).of(Step::Start)?;
            rustix::process::chdir(self.folder.as_c_str()).of(Step::Folder)?;
        }
        if let Some(fence) = self.fence.take() {
            fence.close().of(Step::Fence)?;
        }
        if let Some(trial) = &self.trial {
            let tried = trial.run();
            if let Err((step, errno)) = tried {
                Record::Failed(step, errno.raw_os_error()).write(self.status.as_fd());
            }
            raw::exit(i32::from(tried.is_err()));
        }
        raw::let_signals_through().of(Step::Signals)?;
        raw::close_at_start().of(Step::Files)?;
        if let Some(lock) = self.lock.filter(|_| !sealed) {
            // If the keeper is killed, what the program has started lives on: it holds the twin then.
            raw::leave_open(lock).of(Step::Files)?;
        }
        Record::Ready.write(self.status.as_fd());
        Ok(())
    }
}

fn join(process: BorrowedFd<'_>, spaces: ThreadNameSpaceType) -> Done {
    rustix::thread::move_into_thread_name_spaces(process, spaces).of(Step::Join)
}

impl Sealing {
    /// New namespaces, in which the user is who they were.
    fn leave_the_rest_behind(&self) -> Done {
        let mut flags = UnshareFlags::NEWUSER | UnshareFlags::NEWNS | UnshareFlags::NEWPID;
        if !self.network {
            flags |= UnshareFlags::NEWNET;
        }
        if self.own_ipc {
            flags |= UnshareFlags::NEWIPC;
        }
        raw::unshare(flags).of(Step::Namespaces)?;
        // A process that was another user's may not write about itself otherwise.
        let before = rustix::process::dumpable_behavior().of(Step::Ids)?;
        rustix::process::set_dumpable_behavior(DumpableBehavior::Dumpable).of(Step::Ids)?;
        write_to("/proc/self/setgroups", b"deny").of(Step::Ids)?;
        write_to("/proc/self/uid_map", &self.user_map).of(Step::Ids)?;
        write_to("/proc/self/gid_map", &self.group_map).of(Step::Ids)?;
        if before != DumpableBehavior::Dumpable {
            rustix::process::set_dumpable_behavior(DumpableBehavior::NotDumpable).of(Step::Ids)?;
        }
        Ok(())
    }

    /// Everything is made while the real paths are still seen, then the rest is frozen, then it is put in place.
    fn make_view(&mut self) -> Done {
        let private = MountPropagationFlags::PRIVATE | MountPropagationFlags::REC;
        rustix::mount::mount_change(c"/", private).of(Step::View)?;
        for mount in &mut self.mounts {
            mount.tree = mount.make()?;
        }
        let root = rustix::fs::openat(CWD, c"/", OFlags::PATH | OFlags::CLOEXEC, Mode::empty()).of(Step::View)?;
        let frozen = MountAttrFlags::MOUNT_ATTR_RDONLY | MountAttrFlags::MOUNT_ATTR_NOSUID;
        raw::set_attributes(root.as_fd(), frozen.bits().into(), true).of(Step::View)?;
        for mount in &self.mounts {
            mount.attach()?;
        }
        for (to, at) in &self.links {
            rustix::fs::symlinkat(to.as_c_str(), CWD, at.as_c_str()).of(Step::Devices)?;
        }
        for at in &self.closed {
            let tree = same(at, OpenTreeFlags::empty()).of(Step::View)?;
            close(tree.as_fd(), true).of(Step::View)?;
            attach(tree.as_fd(), at).of(Step::View)?;
        }
        let closed = self.mounts.iter().filter(|mount| matches!(mount.what, Made::Empty { closed: true }));
        for tree in closed.filter_map(|mount| mount.tree.as_ref()) {
            close(tree.as_fd(), false).of(Step::View)?;
        }
        if !self.network {
            raw::loopback_up().of(Step::Network)?;
        }
        Ok(())
    }
}

impl Mount {
    fn step(&self) -> Step {
        match self.what {
            Made::Overlay { .. } => Step::Overlay,
            Made::Processes => Step::Processes,
            Made::Terminals => Step::Devices,
            _ => Step::View,
        }
    }

    /// Makes it, nowhere yet. `None`: it can be done without.
    fn make(&self) -> Done<Option<OwnedFd>> {
        let tree = match &self.what {
            Made::Overlay { lower, upper, work } => overlay(lower, upper, work),
            Made::Same { from, read_only } => same(from, OpenTreeFlags::AT_RECURSIVE).and_then(|tree| {
                if *read_only {
                    close(tree.as_fd(), true)?;
                }
                Ok(tree)
            }),
            Made::Empty { closed: true } => filesystem("tmpfs", &[(c"mode", c"0755")]),
            Made::Empty { closed: false } => filesystem("tmpfs", &[(c"mode", c"0700")]),
            Made::Terminals => filesystem("devpts", &[(c"ptmxmode", c"0666"), (c"mode", c"0600")]),
            Made::Processes => match filesystem("proc", &[]) {
                // Where parts of the old one are covered, as in containers, there is no new one: the old one does.
                Err(error) if Errno::from_io_error(&error) == Some(Errno::PERM) => return Ok(None),
                tree => tree,
            },
        };
        tree.map(Some).of(self.step())
    }

    fn attach(&self) -> Done {
        let Some(tree) = &self.tree else { return Ok(()) };
        let (last, above) = match self.folders.split_last() {
            Some((last, above)) => (Some(last), above),
            None => (None, [].as_slice()),
        };
        for folder in above {
            there(rustix::fs::mkdirat(CWD, folder.as_c_str(), Mode::from_raw_mode(0o755))).of(self.step())?;
        }
        if let Some(last) = last {
            let made = if self.file {
                let mode = Mode::from_raw_mode(0o644);
                rustix::fs::mknodat(CWD, last.as_c_str(), FileType::RegularFile, mode, 0)
            } else {
                rustix::fs::mkdirat(CWD, last.as_c_str(), Mode::from_raw_mode(0o755))
            };
            there(made).of(self.step())?;
        }
        attach(tree.as_fd(), &self.at).of(self.step())
    }
}

/// It is well if what should be made is there.
fn there(made: rustix::io::Result<()>) -> rustix::io::Result<()> {
    if made == Err(Errno::EXIST) { Ok(()) } else { made }
}

/// A folder or file as it is, as a tree of its own.
fn same(from: &CString, more: OpenTreeFlags) -> io::Result<OwnedFd> {
    let flags = OpenTreeFlags::OPEN_TREE_CLONE | OpenTreeFlags::OPEN_TREE_CLOEXEC | more;
    Ok(rustix::mount::open_tree(CWD, from.as_c_str(), flags)?)
}

/// Makes a tree read-only; with `below`, what is mounted in it too.
fn close(tree: BorrowedFd<'_>, below: bool) -> io::Result<()> {
    raw::set_attributes(tree, MountAttrFlags::MOUNT_ATTR_RDONLY.bits().into(), below)
}

fn attach(tree: BorrowedFd<'_>, at: &CString) -> io::Result<()> {
    let flags = MoveMountFlags::MOVE_MOUNT_F_EMPTY_PATH;
    Ok(rustix::mount::move_mount(tree, c"", CWD, at.as_c_str(), flags)?)
}

const KEPT_DOWN: MountAttrFlags = MountAttrFlags::MOUNT_ATTR_NOSUID.union(MountAttrFlags::MOUNT_ATTR_NODEV);

fn filesystem(kind: &str, settings: &[(&std::ffi::CStr, &std::ffi::CStr)]) -> io::Result<OwnedFd> {
    let context = rustix::mount::fsopen(kind, FsOpenFlags::FSOPEN_CLOEXEC)?;
    for (name, value) in settings {
        rustix::mount::fsconfig_set_string(context.as_fd(), *name, *value)?;
    }
    rustix::mount::fsconfig_create(context.as_fd())?;
    // Terminals are devices.
    let attributes = if kind == "devpts" { MountAttrFlags::MOUNT_ATTR_NOSUID } else { KEPT_DOWN };
    Ok(rustix::mount::fsmount(context.as_fd(), FsMountFlags::FSMOUNT_CLOEXEC, attributes)?)
}

/// Changes to `lower` go into `upper`.
fn overlay(lower: &CString, upper: &CString, work: &CString) -> io::Result<OwnedFd> {
    let context = rustix::mount::fsopen("overlay", FsOpenFlags::FSOPEN_CLOEXEC)?;
    let context = context.as_fd();
    rustix::mount::fsconfig_set_flag(context, c"userxattr")?;
    // By number, since the kernel takes signs in a path for its own.
    for (name, path) in [(c"lowerdir+", lower), (c"upperdir", upper), (c"workdir", work)] {
        let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
        let folder = rustix::fs::openat(CWD, path.as_c_str(), flags, Mode::empty())?;
        rustix::mount::fsconfig_set_string(context, name, Numbered::new(folder.as_fd()).path())?;
    }
    rustix::mount::fsconfig_create(context)?;
    let tree = rustix::mount::fsmount(context, FsMountFlags::FSMOUNT_CLOEXEC, KEPT_DOWN)?;
    // If the kernel can't use the upper folder, the mount succeeds read-only.
    let flags = rustix::fs::fstatvfs(tree.as_fd())?.f_flag;
    if flags.contains(StatVfsMountFlags::RDONLY) { Err(Errno::ROFS.into()) } else { Ok(tree) }
}

/// The path of an open file, `/proc/self/fd/N`, without memory of its own.
struct Numbered {
    text: [u8; 32],
}

impl Numbered {
    fn new(file: BorrowedFd<'_>) -> Self {
        const HEAD: &[u8] = b"/proc/self/fd/";
        let mut text = [0; 32];
        text[..HEAD.len()].copy_from_slice(HEAD);
        let (mut number, mut digits, mut at) = (file.as_raw_fd().unsigned_abs(), [0; 10], 0);
        loop {
            digits[at] = b'0' + u8::try_from(number % 10).unwrap_or_default();
            (number, at) = (number / 10, at + 1);
            if number == 0 {
                break;
            }
        }
        for (to, digit) in text[HEAD.len()..].iter_mut().zip(digits[..at].iter().rev()) {
            *to = *digit;
        }
        Self { text }
    }

    fn path(&self) -> &std::ffi::CStr {
        std::ffi::CStr::from_bytes_until_nul(&self.text).unwrap_or(c"")
    }
}

fn write_to(path: &str, bytes: &[u8]) -> io::Result<()> {
    let file = rustix::fs::openat(CWD, path, OFlags::WRONLY | OFlags::CLOEXEC, Mode::empty())?;
    rustix::io::write(&file, bytes)?;
    Ok(())
}

/// Gives up every right in the namespace but one: to open files whatever their mode says, which only reaches what is the
/// user's own, and writes of which the overlay keeps apart.
fn give_up_rights() -> rustix::io::Result<()> {
    let all = CapabilitiesSecureBits::NO_ROOT
        | CapabilitiesSecureBits::NO_ROOT_LOCKED
        | CapabilitiesSecureBits::NO_SETUID_FIXUP
        | CapabilitiesSecureBits::NO_SETUID_FIXUP_LOCKED;
    rustix::thread::set_capabilities_secure_bits(all)?;
    let kept = CapabilitySet::DAC_OVERRIDE;
    for capability in (0..64).filter_map(|bit| CapabilitySet::from_bits(1 << bit)).filter(|one| *one != kept) {
        match rustix::thread::remove_capability_from_bounding_set(capability) {
            // Unknown to this kernel.
            Err(Errno::INVAL) => break,
            removed => removed?,
        }
    }
    rustix::thread::set_capabilities(None, CapabilitySets { effective: kept, permitted: kept, inheritable: kept })?;
    rustix::thread::configure_capability_in_ambient_set(kept, true)?;
    rustix::thread::set_no_new_privs(true)
}

impl Fence {
    /// From here on, writes go only where it is allowed.
    fn close(self) -> io::Result<()> {
        let Self { mut rules, allowed } = self;
        let allowed = ManuallyDrop::new(allowed);
        for place in allowed.iter() {
            let opened = rustix::fs::openat(CWD, place.at.as_c_str(), OFlags::PATH | OFlags::CLOEXEC, Mode::empty());
            let folder = match opened {
                // There need not be each of them everywhere.
                Err(Errno::NOENT) => continue,
                opened => opened?,
            };
            (&mut rules).add_rule(PathBeneath::new(folder, place.access)).map_err(|_| Errno::INVAL)?;
        }
        rules.restrict_self().map(|_| ()).map_err(|_| Errno::PERM.into())
    }
}

impl Trial {
    pub(super) fn new(plan: &TrialPlan<'_>) -> Result<Self> {
        let (file, folder, outside) = (c_string(plan.file)?, c_string(plan.folder)?, c_string(plan.outside)?);
        Ok(Self { file, folder, outside, attributes: plan.attributes, lock: plan.lock })
    }

    /// Does what programs do to the files of a twin, and one thing that must fail.
    fn run(&self) -> Done {
        let of = |result: rustix::io::Result<()>| result.of(Step::Trial);
        let flags = OFlags::WRONLY | OFlags::CLOEXEC;
        let file = rustix::fs::openat(CWD, self.file.as_c_str(), flags, Mode::empty()).of(Step::Trial)?;
        rustix::io::write(&file, b"written").of(Step::Trial)?;
        if self.attributes {
            of(rustix::fs::setxattr(self.file.as_c_str(), c"user.yardtwin", b"1", rustix::fs::XattrFlags::empty()))?;
        }
        of(rustix::fs::unlinkat(CWD, self.folder.as_c_str(), AtFlags::REMOVEDIR))?;
        of(rustix::fs::mkdirat(CWD, self.folder.as_c_str(), Mode::from_raw_mode(0o755)))?;
        let flags = flags | OFlags::CREATE;
        match rustix::fs::openat(CWD, self.outside.as_c_str(), flags, Mode::from_raw_mode(0o644)) {
            Ok(_) => Err((Step::Leaks, Errno::PERM)),
            Err(_) => Ok(()),
        }
    }
}
