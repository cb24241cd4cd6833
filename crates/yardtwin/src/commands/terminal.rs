//! The terminal that a program was started at, while it has one of its own: keys go to the program, and what it draws
//! comes here.

use std::fs::File;
use std::os::fd::{AsFd, OwnedFd};
use std::sync::Arc;
use std::time::Duration;

use nix::sys::signal::{SigSet, Signal as Blocked};
use rustix::event::{PollFd, PollFlags, poll};
use rustix::io::Errno;
use rustix::process::Signal;
use rustix::termios::{OptionalActions, Termios};
use yard_twin::play::{Terminal, TerminalEnd};

/// The player's terminal, which passes everything on to a program's.
pub(super) struct Attached {
    ours: Arc<OwnedFd>,
    /// How it is when no program has it.
    settings: Termios,
    theirs: TerminalEnd,
    /// A byte has the thread that passes keys on look again; its end ends that.
    wake: OwnedFd,
}

impl Attached {
    /// `None` if it is gone already.
    pub(super) fn new(terminal: &Terminal, theirs: TerminalEnd) -> Option<Self> {
        let ours = Arc::clone(terminal.stands_for.as_ref()?);
        let settings = rustix::termios::tcgetattr(&ours).ok()?;
        let (woken, wake) = rustix::pipe::pipe_with(rustix::pipe::PipeFlags::CLOEXEC).ok()?;
        let (from, to) = (Arc::clone(&ours), theirs.clone());
        std::thread::spawn(move || {
            // In the background a read is an error then, and stops nobody.
            let _ = SigSet::from_iter([Blocked::SIGTTIN]).thread_block();
            let _ = pass_keys(&from, &to, &woken);
        });
        let attached = Self { ours, settings, theirs, wake };
        attached.take();
        Some(attached)
    }

    /// Every key is the program's from now on, unless another job has the terminal: at the start, and when this job goes
    /// on.
    pub(super) fn take(&self) {
        if is_ours(&self.ours) {
            let mut raw = self.settings.clone();
            raw.make_raw();
            let _ = rustix::termios::tcsetattr(&self.ours, OptionalActions::Now, &raw);
        }
        self.resize();
        let _ = rustix::io::write(&self.wake, &[0]);
    }

    /// The program's is as large as this one.
    pub(super) fn resize(&self) {
        if let Ok(size) = rustix::termios::tcgetwinsize(&self.ours) {
            let _ = self.theirs.resize(size.ws_row, size.ws_col);
        }
    }

    /// As it was before.
    pub(super) fn give_back(&self) {
        if is_ours(&self.ours) {
            let _ = rustix::termios::tcsetattr(&self.ours, OptionalActions::Drain, &self.settings);
        }
    }
}

impl Drop for Attached {
    fn drop(&mut self) {
        self.give_back();
    }
}

/// Stops this job as the keyboard would, and returns when it goes on.
pub(super) fn stop_this_job() {
    /// Where there is no shell that would continue a job, the system does not stop it.
    const STOPPED_BY_NOW: Duration = Duration::from_millis(100);
    let _ = rustix::process::kill_current_process_group(Signal::TSTP);
    std::thread::sleep(STOPPED_BY_NOW);
}

/// Whether this job is in the foreground of it.
fn is_ours(terminal: &OwnedFd) -> bool {
    rustix::termios::tcgetpgrp(terminal).is_ok_and(|job| job == rustix::process::getpgrp())
}

/// Passes on what is typed, until `woken` ends.
fn pass_keys(from: &OwnedFd, to: &TerminalEnd, woken: &OwnedFd) -> Result<(), Errno> {
    let mut keys = [0; 4096];
    loop {
        // What is typed is another job's otherwise, until this one is told that it goes on.
        let listened = is_ours(from).then(|| PollFd::new(from, PollFlags::IN));
        if !wait(woken, listened)? {
            continue;
        }
        let read = match rustix::io::read(from, &mut keys) {
            Ok(0) => return Ok(()),
            // Another job has just got it, or it is gone.
            Err(Errno::IO) if !is_ours(from) => continue,
            Err(Errno::INTR) => continue,
            read => read?,
        };
        let mut rest = &keys[..read];
        while !rest.is_empty() {
            match to.write(rest) {
                Ok(taken) => rest = &rest[taken..],
                Err(error) if error.kind() == std::io::ErrorKind::WouldBlock => {
                    wait(woken, Some(PollFd::from_borrowed_fd(to.as_fd(), PollFlags::OUT)))?;
                }
                // The program has ended.
                Err(_) => return Ok(()),
            }
        }
    }
}

/// Waits for a file or to be woken; whether it was the file. That nobody will wake it any more is an error.
fn wait(woken: &OwnedFd, file: Option<PollFd<'_>>) -> Result<bool, Errno> {
    let count = if file.is_some() { 2 } else { 1 };
    let mut waiting = [PollFd::new(woken, PollFlags::IN), file.unwrap_or_else(|| PollFd::new(woken, PollFlags::IN))];
    match poll(&mut waiting[..count], None) {
        Err(Errno::INTR) => return Ok(false),
        polled => polled?,
    };
    if !waiting[0].revents().is_empty() && rustix::io::read(woken, &mut [0; 64])? == 0 {
        return Err(Errno::PIPE);
    }
    Ok(count == 2 && !waiting[1].revents().is_empty())
}

/// Where what a program draws goes.
pub(super) fn drawn(terminal: &Terminal) -> Option<File> {
    terminal.stands_for.as_ref()?.try_clone().ok().map(File::from)
}
