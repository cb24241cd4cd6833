//! Launching by way of a helper: a small process that is started for it, in place of a copy of the caller's.

use std::fs::File;
use std::io::{self, Read, Write};
use std::os::fd::{AsFd, AsRawFd, OwnedFd, RawFd};
use std::os::unix::ffi::OsStringExt;
use std::os::unix::process::CommandExt;
use std::path::PathBuf;
use std::process::Command;

use rustix::io::FdFlags;
use rustix::pipe::PipeFlags;
use rustix::process::{Pid, PidfdFlags};
use serde::{Deserialize, Serialize};

use super::{Answers, Confinement, Files, Kept, Orders, Record, Refusal, Stage, outcome, raw, terminal};
use crate::error::{PathContext, Result};

/// The variable by which a program learns that it is started as a helper.
const VARIABLE: &str = "YARDTWIN_HELPER";

/// What stands between the calling process and the program that it launches.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum Helper {
    /// A copy of the calling process, which waits as long as the program runs. Nothing has to be set up, and for a small
    /// program this is the fastest. A large one (a gigabyte) takes a tenth of a second to copy, and pages that it rewrites
    /// meanwhile are there twice.
    #[default]
    Copy,
    /// The calling program, started once more: its `main` must call [`launch_helper`] before anything else.
    SelfExe,
    /// Another program whose `main` calls [`launch_helper`] before anything else, made with the same version of this crate.
    Program(PathBuf),
}

/// What a helper is told.
#[derive(Serialize, Deserialize)]
struct Task {
    version: String,
    /// The process that launches.
    launcher: i32,
    orders: Orders,
    program: Vec<u8>,
    arguments: Vec<Vec<u8>>,
    /// Numbers of the files that it has open for it.
    status: RawFd,
    started: RawFd,
    lock: Option<RawFd>,
    terminal: Option<RawFd>,
    outer: Option<RawFd>,
}

/// Starts `command` by way of a helper.
pub(super) fn start(
    helper: PathBuf,
    command: &Command,
    confinement: &Confinement<'_>,
) -> Result<Result<Kept, Refusal>> {
    let pipe = || rustix::pipe::pipe_with(PipeFlags::CLOEXEC).at("make a pipe for", &helper);
    let ((status, its_status), (started, its_started), (its_task, task)) = (pipe()?, pipe()?, pipe()?);
    let lock = confinement.lock.map(|lock| lock.try_clone_to_owned()).transpose().at("hand over", &helper)?;
    let sockets = confinement.terminal.map(|_| terminal::sockets()).transpose().at("make a socket for", &helper)?;
    let (terminal, its_terminal) = sockets.unzip();
    let outer = confinement.outer()?;
    let text = serde_json::to_vec(&Task {
        version: env!("CARGO_PKG_VERSION").into(),
        launcher: rustix::process::getpid().as_raw_pid(),
        orders: confinement.orders(),
        program: command.get_program().to_owned().into_vec(),
        arguments: command.get_args().map(|argument| argument.to_owned().into_vec()).collect(),
        status: its_status.as_raw_fd(),
        started: its_started.as_raw_fd(),
        lock: lock.as_ref().map(AsRawFd::as_raw_fd),
        terminal: its_terminal.as_ref().map(AsRawFd::as_raw_fd),
        outer: outer.as_ref().map(AsRawFd::as_raw_fd),
    })
    .map_err(io::Error::other)
    .at("write down what is started by", &helper)?;
    let mut starting = Command::new(&helper);
    super::streams(&mut starting, confinement.terminal);
    starting.env(VARIABLE, its_task.as_raw_fd().to_string());
    starting.envs(command.get_envs().filter_map(|(name, value)| Some((name, value?))));
    // Another child that this program starts at this very moment gets them too, and holds them to its end.
    let more = [lock.as_ref(), its_terminal.as_ref(), outer.as_ref()];
    for file in [&its_status, &its_started, &its_task].into_iter().chain(more.into_iter().flatten()) {
        rustix::io::fcntl_setfd(file, FdFlags::empty()).at("hand over", &helper)?;
    }
    let spawned = starting.spawn();
    drop((its_status, its_started, its_task, lock, its_terminal, outer));
    let mut child = match spawned {
        Ok(child) => child,
        Err(error) => return Ok(Err(Refusal::Program(error))),
    };
    // One that doesn't listen is noticed below.
    let _ = File::from(task).write_all(&text);
    let mut errno = [0; 4];
    // It is closed once the program has started, and if there will be none.
    let said = File::from(started).read_exact(&mut errno);
    let status = File::from(status);
    let first = Record::read(&status);
    let answers = Answers { status, terminal };
    if said.is_ok() {
        let _ = child.wait();
        return Ok(Err(Refusal::Program(io::Error::from_raw_os_error(i32::from_ne_bytes(errno)))));
    }
    Ok(outcome(Ok(child), first, answers))
}

/// Does what a helper is started for, and does not return, if this process is one; returns at once if it is not.
///
/// A program that launches by way of itself ([`Helper::SelfExe`]) calls this as the first thing in its `main`, before it
/// starts a thread or opens a file.
pub fn launch_helper() {
    let Some(task) = std::env::var_os(VARIABLE).and_then(|number| number.to_str()?.parse().ok()) else { return };
    let mut text = Vec::new();
    let read = File::from(raw::inherited(task)).read_to_end(&mut text);
    let task = read.ok().and_then(|_| serde_json::from_slice::<Task>(&text).ok());
    // The parent sees that it ended without an answer.
    let Some(task) = task.filter(|task| task.version == env!("CARGO_PKG_VERSION")) else { raw::exit(125) };
    if let Err(error) = take_over(task) {
        tracing::error!(%error, "the helper could not start a program");
        raw::exit(126);
    }
}

fn take_over(task: Task) -> Result<()> {
    let [program, folder] = [PathBuf::from(std::ffi::OsString::from_vec(task.program)), task.orders.folder.clone()];
    let started: OwnedFd = raw::inherited(task.started);
    let ended = || io::Error::other("its launcher has ended");
    let number = Pid::from_raw(task.launcher).ok_or_else(ended).at("watch", &folder)?;
    let launcher = rustix::process::pidfd_open(number, PidfdFlags::empty()).at("watch", &folder)?;
    // Looked at last: the number of one that has ended may be another process's.
    if rustix::process::getppid() != Some(number) {
        return Err(ended()).at("watch", &folder);
    }
    let files = Files {
        status: raw::inherited(task.status),
        launcher,
        lock: task.lock,
        terminal: task.terminal.map(raw::inherited),
        outer: task.outer.map(raw::inherited),
    };
    let made = Stage::of(&task.orders, files)?;
    let mut stage = match made {
        Ok(stage) => stage,
        Err(refusal) => return Err(io::Error::other(refusal.to_string())).at("keep inside", &folder),
    };
    // Only the process that becomes the program returns; a refusal has been told.
    if stage.enter().is_err() {
        raw::exit(1);
    }
    let arguments = task.arguments.into_iter().map(std::ffi::OsString::from_vec);
    let error = Command::new(program).args(arguments).env_remove(VARIABLE).exec();
    let errno = error.raw_os_error().unwrap_or(rustix::io::Errno::IO.raw_os_error());
    let _ = rustix::io::write(started.as_fd(), &errno.to_ne_bytes());
    raw::exit(127)
}
