//! Waiting for a program and for whatever it leaves behind, passing signals on meanwhile.
//!
//! Nothing here allocates memory: see [`super::raw`].

use std::os::fd::BorrowedFd;

use rustix::event::{PollFd, PollFlags, Timespec};
use rustix::io::Errno;
use rustix::process::{Pid, Signal, WaitOptions};

use super::terminal::Outer;
use super::{Record, raw};

/// What a keeper listens to: what it passes on, the end of a child, and the wish to end everything at once.
pub(super) const SIGNALS: [i32; 12] = [
    libc::SIGHUP,
    libc::SIGINT,
    libc::SIGQUIT,
    libc::SIGTERM,
    libc::SIGUSR1,
    libc::SIGUSR2,
    libc::SIGTSTP,
    libc::SIGCONT,
    // Whoever puts itself into the foreground of its terminal gets this one.
    libc::SIGTTOU,
    // A launcher that was killed hears no more of it; there is still something to do.
    libc::SIGPIPE,
    libc::SIGCHLD,
    END_ALL,
];

/// How often it is seen whether a namespace is empty that has no child of ours in it.
const LOOK_AGAIN: Timespec = Timespec { tv_sec: 0, tv_nsec: 50_000_000 };

/// Ends everything at once.
pub(crate) const END_ALL: i32 = libc::SIGALRM;

/// How the processes that a program leaves behind are reached.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum Everyone {
    /// They die with the one that is waited for.
    DiesWithIt,
    /// They are all that is in the namespace.
    InTheNamespace,
    /// They have become children.
    BecomesAChild,
}

/// Waits until `first` and everything that came of it has ended, then ends this process.
pub(super) fn supervise(
    first: Pid,
    signals: BorrowedFd<'_>,
    launcher: Option<(BorrowedFd<'_>, Option<&Outer>)>,
    status: Option<BorrowedFd<'_>>,
    everyone: Everyone,
) -> ! {
    let (mut first, mut launcher, mut ending) = (Some(first), launcher, false);
    loop {
        // Reap first: a dead process gets no signal.
        let joined = || everyone == Everyone::InTheNamespace && raw::is_anyone_else_here();
        if !reap(&mut first, status) && !joined() {
            raw::exit(0);
        }
        if ending {
            // Killing reparents their children to this process; those are next.
            end(first, Signal::KILL, everyone);
        }
        let mut waiting = [
            PollFd::from_borrowed_fd(signals, PollFlags::IN),
            PollFd::from_borrowed_fd(launcher.map_or(signals, |(launcher, _)| launcher), PollFlags::IN),
        ];
        // Processes that joined the namespace later are not our children: no SIGCHLD tells of their end.
        let patience = if everyone == Everyone::InTheNamespace && first.is_none() { Some(&LOOK_AGAIN) } else { None };
        if rustix::event::poll(&mut waiting, patience).is_err() {
            continue;
        }
        let gone = !waiting[1].revents().is_empty();
        if let Some((_, outer)) = launcher.take_if(|_| gone) {
            ending = true;
            if let Some(outer) = outer {
                outer.give_back();
            }
        }
        while let Some((signal, sent)) = next(signals) {
            let Some(signal) = Signal::from_named_raw(signal) else { continue };
            // A dead process gets no signal.
            reap(&mut first, status);
            match (signal, first) {
                (Signal::CHILD | Signal::TTOU | Signal::PIPE, _) => {}
                _ if signal.as_raw() == END_ALL => ending = true,
                // What a terminal sends, it sends to all of its processes.
                _ if !sent => {}
                // What comes of a terminal, and what goes on after it, is for all of a job.
                (Signal::HUP | Signal::INT | Signal::QUIT | Signal::TSTP | Signal::CONT, Some(first)) => {
                    to_job(first, signal);
                }
                (_, Some(first)) => {
                    let _ = rustix::process::kill_process(first, signal);
                }
                (_, None) => end(None, signal, everyone),
            }
        }
    }
}

/// Sends a signal to a program and to all that it has started as parts of itself.
fn to_job(first: Pid, signal: Signal) {
    // It may not have a group of its own yet.
    if rustix::process::kill_process_group(first, signal).is_err() {
        let _ = rustix::process::kill_process(first, signal);
    }
}

/// Takes note of what has ended or was stopped; `false`: nothing is left.
fn reap(first: &mut Option<Pid>, status: Option<BorrowedFd<'_>>) -> bool {
    loop {
        match rustix::process::wait(WaitOptions::NOHANG | WaitOptions::UNTRACED) {
            Ok(None) => return true,
            Ok(Some((pid, ended))) if ended.stopped() => {
                if let Some(status) = status.filter(|_| Some(pid) == *first) {
                    Record::Stopped.write(status);
                }
            }
            Ok(Some((pid, ended))) if Some(pid) == *first => {
                *first = None;
                if let Some(status) = status {
                    Record::Ended(ended.as_raw()).write(status);
                }
            }
            Ok(Some(_)) | Err(Errno::INTR) => {}
            Err(_) => return false,
        }
    }
}

/// The next signal, and whether a process sent it.
fn next(signals: BorrowedFd<'_>) -> Option<(i32, bool)> {
    let mut info = [0_u8; 128];
    let read = rustix::io::read(signals, &mut info).ok()?;
    let number = |at: usize| info.get(at..at + 4).and_then(|bytes| Some(i32::from_ne_bytes(bytes.try_into().ok()?)));
    // `ssi_signo` and `ssi_code` of `struct signalfd_siginfo`.
    if read == info.len() { Some((number(0)?, number(8)? <= 0)) } else { None }
}

/// Sends a signal to all that is left.
fn end(first: Option<Pid>, signal: Signal, everyone: Everyone) {
    match (everyone, first) {
        (Everyone::DiesWithIt, Some(first)) => {
            let _ = rustix::process::kill_process(first, signal);
        }
        (Everyone::DiesWithIt, None) => {}
        (Everyone::InTheNamespace, _) => {
            let _ = raw::signal_everyone(signal);
        }
        (Everyone::BecomesAChild, _) => signal_children(signal, first),
    }
}

fn signal_children(signal: Signal, first: Option<Pid>) {
    let mut text = [0_u8; 4096];
    let read = children(&mut text).unwrap_or(0);
    for pid in text[..read].split(|byte| *byte == b' ').filter_map(number) {
        let _ = rustix::process::kill_process(pid, signal);
    }
    // A kernel that doesn't list children.
    if let (0, Some(first)) = (read, first) {
        let _ = rustix::process::kill_process(first, signal);
    }
}

/// The children of this process by number, as the kernel lists them.
fn children(text: &mut [u8]) -> rustix::io::Result<usize> {
    let flags = rustix::fs::OFlags::RDONLY | rustix::fs::OFlags::CLOEXEC;
    let file = rustix::fs::openat(rustix::fs::CWD, c"/proc/thread-self/children", flags, rustix::fs::Mode::empty())?;
    rustix::io::read(&file, text)
}

fn number(digits: &[u8]) -> Option<Pid> {
    let value = digits.iter().try_fold(0_i32, |value, digit| match digit {
        b'0'..=b'9' => value.checked_mul(10)?.checked_add(i32::from(digit - b'0')),
        _ => None,
    });
    value.and_then(Pid::from_raw)
}
