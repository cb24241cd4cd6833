//! Starting a program so that it can do what it likes in its twin, and nothing anywhere else.
//!
//! [`plan`] works out what the program will see, [`stage`] makes it so between the copy of the launching process and the
//! start of the program, [`supervise`] waits for it and for whatever it leaves behind.

mod helper;
pub(crate) mod plan;
#[expect(unsafe_code, reason = "the one place for what no crate offers in safe Rust")]
mod raw;
mod stage;
mod supervise;
mod terminal;

use std::fs::File;
use std::io::{self, IsTerminal, Read};
use std::os::fd::{AsRawFd, BorrowedFd, OwnedFd, RawFd};
use std::os::unix::process::ExitStatusExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, ExitStatus, Stdio};
use std::time::Duration;

use landlock::{ABI, Access, AccessFs, CompatLevel, Compatible, Ruleset, RulesetAttr, Scope};
use rustix::event::{PollFd, PollFlags, Timespec};
use rustix::pipe::PipeFlags;
use rustix::process::{Pid, PidfdFlags, Signal};
use serde::{Deserialize, Serialize};

pub use self::helper::{Helper, launch_helper};
use self::plan::View;
use self::stage::{Allowed, Fence, Sealing, Stage, Trial};
pub(crate) use self::supervise::END_ALL;
use self::terminal::{Ordered, Outer, Pair};
pub use self::terminal::{Terminal, TerminalEnd};
use crate::error::{Error, PathContext, Result};

/// A step on the way to a program that is kept inside.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[repr(u8)]
pub(crate) enum Step {
    Signals,
    Namespaces,
    Ids,
    Start,
    Overlay,
    Processes,
    View,
    Devices,
    Network,
    Folder,
    Rights,
    Fence,
    Files,
    Trial,
    Leaks,
    Join,
    Terminal,
}

impl Step {
    const ALL: [Self; 17] = [
        Self::Signals,
        Self::Namespaces,
        Self::Ids,
        Self::Start,
        Self::Overlay,
        Self::Processes,
        Self::View,
        Self::Devices,
        Self::Network,
        Self::Folder,
        Self::Rights,
        Self::Fence,
        Self::Files,
        Self::Trial,
        Self::Leaks,
        Self::Join,
        Self::Terminal,
    ];

    /// What was tried.
    fn name(self) -> &'static str {
        match self {
            Self::Signals => "catching signals",
            Self::Namespaces => "new namespaces",
            Self::Ids => "the user's id in a namespace",
            Self::Start => "a process of its own",
            Self::Overlay => "a layer over the twin's folders",
            Self::Processes => "a view of its own processes",
            Self::View => "a read-only view of the rest",
            Self::Devices => "devices of its own",
            Self::Network => "a network of its own",
            Self::Folder => "entering the working folder",
            Self::Rights => "giving up rights",
            Self::Fence => "rules for writing (Landlock)",
            Self::Files => "closing files",
            Self::Trial => "writing in a layer",
            Self::Join => "joining the program that runs",
            Self::Terminal => "a terminal of its own",
            Self::Leaks => "a trial write to the rest was not refused",
        }
    }
}

/// What the processes of a launch tell the launcher.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Record {
    /// The program is about to start.
    Ready,
    /// A step failed, with the system's number of the error.
    Failed(Step, i32),
    /// The program ended, with the status that `wait` gives.
    Ended(i32),
    /// It was stopped, by the keyboard for instance, and may go on later.
    Stopped,
}

impl Record {
    const LEN: usize = 6;

    fn write(self, to: BorrowedFd<'_>) {
        let (kind, step, value) = match self {
            Self::Ready => (0, 0, 0),
            Self::Failed(step, errno) => (1, step as u8, errno),
            Self::Ended(status) => (2, 0, status),
            Self::Stopped => (3, 0, 0),
        };
        let [a, b, c, d] = value.to_ne_bytes();
        // So little goes into a pipe at once or not at all; nobody may be reading any more.
        let _ = rustix::io::write(to, &[kind, step, a, b, c, d]);
    }

    fn read(mut from: &File) -> Option<Self> {
        let mut bytes = [0; Self::LEN];
        from.read_exact(&mut bytes).ok()?;
        let [kind, step, value @ ..] = bytes;
        let value = i32::from_ne_bytes(value);
        match kind {
            0 => Some(Self::Ready),
            1 => Step::ALL.get(usize::from(step)).map(|step| Self::Failed(*step, value)),
            2 => Some(Self::Ended(value)),
            _ => Some(Self::Stopped),
        }
    }
}

/// Why a program could not be started as it should.
#[derive(Debug)]
pub(crate) enum Refusal {
    /// A step of keeping it inside failed: in words.
    Isolation(String),
    /// The program itself could not be started.
    Program(io::Error),
}

impl std::fmt::Display for Refusal {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Isolation(why) => f.write_str(why),
            Self::Program(error) => write!(f, "{error}"),
        }
    }
}

impl Refusal {
    fn step(step: Step, errno: i32) -> Self {
        let error = io::Error::from_raw_os_error(errno);
        let hint = match (step, errno) {
            (Step::Leaks, _) => return Self::Isolation(step.name().into()),
            (Step::Namespaces, libc::ENOSPC) => "; user namespaces are switched off or used up",
            (Step::Namespaces, libc::EPERM | libc::EACCES) => "; this system or container forbids user namespaces",
            (Step::Ids | Step::View | Step::Processes, libc::EPERM | libc::EACCES) => {
                "; this system restricts user namespaces, or the launcher itself is kept inside something"
            }
            (Step::Overlay, libc::EINVAL) => "; the filesystem of the yard can't carry a layer",
            (Step::Overlay, libc::EACCES | libc::EROFS) => {
                "; the filesystem of the yard can't carry a layer for this user"
            }
            _ => "",
        };
        Self::Isolation(format!("{}: {error}{hint}", step.name()))
    }
}

/// How a program is kept inside.
pub(crate) struct Confinement<'a> {
    /// What it sees; `None` below a sealed launch.
    pub(crate) view: Option<&'a View>,
    /// Where it may write, and whether nothing but that is allowed: `None` for everywhere.
    pub(crate) fence: Option<FencePlan>,
    pub(crate) network: bool,
    /// Whether it has shared memory and semaphores of its own.
    pub(crate) own_ipc: bool,
    /// Where it starts.
    pub(crate) folder: &'a Path,
    /// The twin's lock.
    pub(crate) lock: Option<BorrowedFd<'a>>,
    /// The keeper of a sealed program of the twin, which is joined.
    pub(crate) join: Option<i32>,
    /// The terminal that it gets.
    pub(crate) terminal: Option<&'a Terminal>,
}

/// The places that a second layer lets a program write in.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub(crate) struct FencePlan {
    /// Folders that it may do everything in.
    pub(crate) folders: Vec<PathBuf>,
    /// Whether the system must have the whole of it.
    pub(crate) required: bool,
    /// Whether it may reach abstract sockets outside.
    pub(crate) sockets: bool,
}

impl FencePlan {
    /// The oldest version of Landlock that guards against cutting files off.
    const LEAST: ABI = ABI::V3;
    const NEWEST: ABI = ABI::V6;

    /// `None` where the system has no Landlock, and need not.
    fn make(&self) -> Result<Option<Fence>, Refusal> {
        let refused = |_: landlock::RulesetError| {
            let why = "rules for writing (Landlock, version 3 or later): this kernel doesn't have them switched on";
            Refusal::Isolation(why.into())
        };
        let all = AccessFs::from_all(Self::NEWEST);
        let mut rules = Ruleset::default();
        if self.required {
            let least = AccessFs::from_all(Self::LEAST);
            rules = rules.set_compatibility(CompatLevel::HardRequirement).handle_access(least).map_err(refused)?;
        }
        rules = rules.set_compatibility(CompatLevel::BestEffort).handle_access(all).map_err(refused)?;
        rules = rules.scope(Scope::Signal).map_err(refused)?;
        if !self.sockets {
            rules = rules.scope(Scope::AbstractUnixSocket).map_err(refused)?;
        }
        let rules = match rules.create() {
            Err(error) if self.required => return Err(refused(error)),
            Err(_) => return Ok(None),
            Ok(rules) => rules,
        };
        let io = |error: Error| Refusal::Program(io::Error::other(error));
        let read = AccessFs::from_read(Self::NEWEST);
        let device = AccessFs::WriteFile | AccessFs::IoctlDev | AccessFs::Truncate;
        let shared = device | AccessFs::MakeReg | AccessFs::RemoveFile;
        let mut allowed = vec![
            Allowed::new(Path::new("/"), read).map_err(io)?,
            Allowed::new(Path::new("/dev"), read | device).map_err(io)?,
            Allowed::new(Path::new("/dev/shm"), read | shared).map_err(io)?,
            Allowed::new(Path::new("/proc"), read | AccessFs::WriteFile | AccessFs::Truncate).map_err(io)?,
        ];
        for folder in &self.folders {
            allowed.push(Allowed::new(folder, all).map_err(io)?);
        }
        Ok(Some(Fence { rules, allowed }))
    }
}

/// A program that runs, and the process that waits for it.
pub(crate) struct Kept {
    /// The keeper.
    pub(crate) child: Child,
    status: File,
    /// The other end of its terminal.
    pub(crate) terminal: Option<TerminalEnd>,
}

impl Kept {
    /// Whether the keeper ends within that time, which is when all that it keeps has ended.
    pub(crate) fn is_over_within(&self, time: Duration) -> bool {
        let keeper = i32::try_from(self.child.id()).ok().and_then(Pid::from_raw);
        let Some(Ok(keeper)) = keeper.map(|pid| rustix::process::pidfd_open(pid, PidfdFlags::empty())) else {
            return false;
        };
        let seconds = i64::try_from(time.as_secs()).unwrap_or(i64::MAX);
        let time = Timespec { tv_sec: seconds, tv_nsec: time.subsec_nanos().into() };
        rustix::event::poll(&mut [PollFd::new(&keeper, PollFlags::IN)], Some(&time)).is_ok_and(|ended| ended > 0)
    }
}

/// What becomes of a program.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Change {
    /// It was stopped, by the keyboard for instance, and goes on when it gets the signal to.
    Stopped,
    /// It has ended.
    Ended,
}

impl Kept {
    /// Ends the program and all that it started, and waits for that.
    pub(crate) fn end(mut self) {
        let keeper = i32::try_from(self.child.id()).ok().and_then(Pid::from_raw);
        if let (Some(keeper), Some(all)) = (keeper, Signal::from_named_raw(END_ALL)) {
            // It may have ended just now.
            let _ = rustix::process::kill_process(keeper, all);
        }
        let _ = self.child.wait();
    }

    /// Waits until the program has ended or is stopped; there is no status if nobody will ever know how it ended.
    pub(crate) fn changed(&self) -> (Change, Option<ExitStatus>) {
        loop {
            match Record::read(&self.status) {
                None => return (Change::Ended, None),
                Some(Record::Ended(status)) => return (Change::Ended, Some(ExitStatus::from_raw(status))),
                Some(Record::Stopped) => return (Change::Stopped, None),
                Some(Record::Ready | Record::Failed(..)) => {}
            }
        }
    }
}

/// Starts `command` as `confinement` says, by way of `helper`.
pub(crate) fn start(mut command: Command, confinement: &Confinement<'_>, helper: &Helper) -> Result<Kept, Refusal> {
    let program = |error: Error| Refusal::Program(io::Error::other(error));
    streams(&mut command, confinement.terminal);
    match helper {
        Helper::Copy => {}
        Helper::SelfExe => return helper::start("/proc/self/exe".into(), &command, confinement).map_err(program)?,
        Helper::Program(path) => return helper::start(path.clone(), &command, confinement).map_err(program)?,
    }
    let (mut stage, answers) = prepare(confinement, None).map_err(program)??;
    raw::before_start(&mut command, move || stage.enter());
    let spawned = command.spawn();
    // With it go this process's ends of the pipe and the socket.
    drop(command);
    let first = Record::read(&answers.status);
    outcome(spawned, first, answers)
}

/// What a program's standard streams are to begin with. It never gets a terminal that isn't its own.
fn streams(command: &mut Command, terminal: Option<&Terminal>) {
    let [input, output, errors] = terminal.map_or([false; 3], |terminal| terminal.at);
    let pipe = |at: bool| if at { Stdio::null() } else { Stdio::piped() };
    let input = if input || io::stdin().is_terminal() { Stdio::null() } else { Stdio::inherit() };
    command.stdin(input).stdout(pipe(output)).stderr(pipe(errors));
}

/// Where the launcher hears of the new processes.
struct Answers {
    status: File,
    /// Its end of the program's terminal comes here.
    terminal: Option<OwnedFd>,
}

/// What came of a start, by what the system says and what the new processes told first.
fn outcome(spawned: io::Result<Child>, first: Option<Record>, answers: Answers) -> Result<Kept, Refusal> {
    match (spawned, first) {
        (Ok(child), Some(Record::Ready)) => {
            let kept = Kept { child, status: answers.status, terminal: None };
            match answers.terminal.as_ref().map(terminal::receive).transpose() {
                Ok(terminal) => Ok(Kept { terminal, ..kept }),
                Err(error) => {
                    kept.end();
                    Err(Refusal::Isolation(format!("{}: {error}", Step::Terminal.name())))
                }
            }
        }
        (spawned, Some(Record::Failed(step, errno))) => {
            let _ = spawned.and_then(|mut child| child.wait());
            Err(Refusal::step(step, errno))
        }
        (Err(error), _) => Err(Refusal::Program(error)),
        (Ok(mut child), _) => {
            let ended = child.wait().map(|status| status.to_string()).unwrap_or_default();
            Err(Refusal::Isolation(format!("the process that should start the program ended: {ended}")))
        }
    }
}

/// What a trial of a view is tried on, as the program would see it.
pub(crate) struct TrialPlan<'a> {
    /// A file that may not be written by its mode.
    pub(crate) file: &'a Path,
    /// An empty folder.
    pub(crate) folder: &'a Path,
    /// A file outside, which must not be written.
    pub(crate) outside: &'a Path,
    /// Whether extended attributes are tried too.
    pub(crate) attributes: bool,
    /// The lock of the folder that all this is in: the caller's alone. If it dies, the next command deletes the folder, and
    /// doesn't find it taken by a trial that takes its time.
    pub(crate) lock: Option<RawFd>,
}

/// Tries a view with no program at all.
pub(crate) fn trial(confinement: &Confinement<'_>, trial: &TrialPlan<'_>) -> Result<(), Refusal> {
    let program = |error: Error| Refusal::Program(io::Error::other(error));
    let (mut stage, answers) = prepare(confinement, Some(trial)).map_err(program)??;
    let mut command = Command::new("/");
    raw::before_start(&mut command, move || stage.enter());
    let spawned = command.spawn();
    drop(command);
    let ended = spawned.and_then(|mut child| child.wait());
    match Record::read(&answers.status) {
        Some(Record::Failed(step, errno)) => Err(Refusal::step(step, errno)),
        Some(Record::Ended(0)) => Ok(()),
        _ => Err(ended
            .err()
            .map_or_else(|| Refusal::Isolation("the process that should try it was killed".into()), Refusal::Program)),
    }
}

type Prepared = (Stage, Answers);

fn prepare(confinement: &Confinement<'_>, trial: Option<&TrialPlan<'_>>) -> Result<Result<Prepared, Refusal>> {
    let (ours, theirs) = rustix::pipe::pipe_with(PipeFlags::CLOEXEC).at("make a pipe for", confinement.folder)?;
    let launcher: OwnedFd = rustix::process::pidfd_open(rustix::process::getpid(), PidfdFlags::empty())
        .at("watch", Path::new("/proc/self"))?;
    let lock = confinement.lock.map(|lock| lock.as_raw_fd());
    let sockets =
        confinement.terminal.map(|_| terminal::sockets()).transpose().at("make a socket for", confinement.folder)?;
    let (terminal, its_terminal) = sockets.unzip();
    let outer = confinement.outer()?;
    let files = Files { status: theirs, launcher, lock, terminal: its_terminal, outer };
    let mut stage = match Stage::of(&confinement.orders(), files)? {
        Ok(stage) => stage,
        Err(refusal) => return Ok(Err(refusal)),
    };
    if let Some(trial) = trial {
        stage.trial = Some(Trial::new(trial)?);
    }
    Ok(Ok((stage, Answers { status: ours.into(), terminal })))
}

/// All that the new processes have to know.
#[derive(Clone, Debug, Serialize, Deserialize)]
struct Orders {
    view: Option<View>,
    fence: Option<FencePlan>,
    network: bool,
    own_ipc: bool,
    folder: PathBuf,
    user: u32,
    group: u32,
    join: Option<i32>,
    terminal: Option<Ordered>,
}

/// Files that the new processes have open.
struct Files {
    status: OwnedFd,
    launcher: OwnedFd,
    lock: Option<RawFd>,
    terminal: Option<OwnedFd>,
    outer: Option<OwnedFd>,
}

impl Confinement<'_> {
    fn orders(&self) -> Orders {
        let (user, group) = (rustix::process::geteuid().as_raw(), rustix::process::getegid().as_raw());
        let (view, fence) = (self.view.cloned(), self.fence.clone());
        let (network, own_ipc, folder) = (self.network, self.own_ipc, self.folder.into());
        let terminal = self.terminal.map(Terminal::ordered);
        Orders { view, fence, network, own_ipc, folder, user, group, join: self.join, terminal }
    }

    /// The terminal that the program's stands in for.
    fn outer(&self) -> Result<Option<OwnedFd>> {
        let outer = self.terminal.and_then(|terminal| terminal.stands_for.as_ref());
        outer.map(|file| file.try_clone()).transpose().at("hand over", Path::new("/dev/tty"))
    }
}

impl Stage {
    /// What was ordered, ready to be done.
    fn of(orders: &Orders, files: Files) -> Result<Result<Self, Refusal>> {
        // One that joins another has what that one has.
        let own_ipc = orders.join.map_or(orders.own_ipc, has_own_ipc);
        let ids = (orders.user, orders.group);
        let sealing = orders.view.as_ref().map(|view| Sealing::new(view, (orders.network, own_ipc), ids));
        let fence = match orders.fence.as_ref().map(FencePlan::make).transpose() {
            Ok(fence) => fence.flatten(),
            Err(refusal) => return Ok(Err(refusal)),
        };
        let (sealing, folder) = (sealing.transpose()?, Self::folder(&orders.folder)?);
        let join = match orders.join.map(joined).transpose() {
            Ok(join) => join,
            Err(error) => return Ok(Err(Refusal::Isolation(format!("{}: {error}", Step::Join.name())))),
        };
        let Files { status, launcher, lock, terminal, outer } = files;
        let outer = outer.and_then(Outer::new);
        let terminal = orders.terminal.zip(terminal);
        let terminal = terminal.map(|(ordered, to)| Pair::new(ordered, to, outer.as_ref(), orders.view.is_some()));
        Ok(Ok(Self { sealing, fence, trial: None, folder, status, launcher, lock, join, terminal, outer }))
    }
}

fn has_own_ipc(keeper: i32) -> bool {
    let space = |process: &str| std::fs::read_link(format!("/proc/{process}/ns/ipc")).ok();
    space(&keeper.to_string()) != space("self")
}

/// The keeper of a sealed program, and the namespace of the processes in it.
fn joined(keeper: i32) -> io::Result<(OwnedFd, OwnedFd)> {
    let pid = Pid::from_raw(keeper).ok_or_else(|| io::Error::other("it has just ended"))?;
    let space = File::open(format!("/proc/{keeper}/ns/pid_for_children"))?;
    Ok((rustix::process::pidfd_open(pid, PidfdFlags::empty())?, space.into()))
}
