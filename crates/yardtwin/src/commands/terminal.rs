//! What stands between this process and a program that it has started: signals, and the terminal that it was started at,
//! while the program has one of its own. Keys go to the program, and what it draws comes here.

use std::fs::File;
use std::os::fd::{AsFd, OwnedFd};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::thread::JoinHandle;
use std::time::Duration;

use nix::sys::signal::{SigSet, Signal as Blocked};
use rustix::event::{PollFd, PollFlags, poll};
use rustix::io::Errno;
use rustix::process::Signal;
use rustix::termios::{OptionalActions, Termios};
use signal_hook::consts::{SIGCONT, SIGHUP, SIGINT, SIGQUIT, SIGTERM, SIGTSTP, SIGUSR1, SIGUSR2, SIGWINCH};
use signal_hook::iterator::Signals;
use yard_twin::play::{Signaller, Terminal, TerminalEnd};

/// What is caught as long as a program runs. A keyboard that is passed on stops the program, and that this job; any other
/// stops this process alone.
pub(super) fn signals(at_terminal: bool) -> std::io::Result<Signals> {
    let last = if at_terminal { SIGWINCH } else { SIGTSTP };
    Signals::new([SIGHUP, SIGINT, SIGQUIT, SIGTERM, SIGUSR1, SIGUSR2, SIGCONT, last])
}

/// What passes signals and keys on to a program.
pub(super) struct Between {
    program: Signaller,
    attached: Mutex<Option<Attached>>,
    /// Whether this process was asked to stop, and the program has not stopped since.
    asked_to_stop: AtomicBool,
    /// Whether the program itself has ended.
    over: AtomicBool,
}

impl Between {
    pub(super) fn new(terminals: Option<(&Terminal, TerminalEnd)>, program: Signaller) -> Self {
        let attached = Mutex::new(terminals.and_then(|(ours, theirs)| Attached::new(ours, theirs)));
        Self { program, attached, asked_to_stop: AtomicBool::new(false), over: AtomicBool::new(false) }
    }

    fn attached(&self) -> MutexGuard<'_, Option<Attached>> {
        self.attached.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The program has a session of its own: whatever comes to this process is for it.
    pub(super) fn pass_signals(self: &Arc<Self>, mut signals: Signals) -> JoinHandle<()> {
        let between = Arc::clone(self);
        std::thread::spawn(move || {
            let mut asked_to_end = false;
            for signal in signals.forever() {
                match signal {
                    // What a shell leaves in the background listens to no Ctrl-C.
                    SIGINT if between.over.load(Ordering::Relaxed) => {
                        if asked_to_end {
                            between.program.end_all();
                        } else {
                            between.program.send(SIGTERM);
                        }
                        asked_to_end = true;
                    }
                    SIGWINCH => between.attached().iter().for_each(Attached::resize),
                    SIGCONT => between.go_on(),
                    _ => {
                        if signal == SIGTSTP {
                            between.asked_to_stop.store(true, Ordering::Relaxed);
                        }
                        between.program.send(signal);
                    }
                }
            }
        })
    }

    fn go_on(&self) {
        self.attached().iter().for_each(Attached::take);
        self.program.send(SIGCONT);
    }

    /// The program was stopped. If it was by the keyboard, this job stops too, and when it goes on, so does the program.
    pub(super) fn stop_too(&self) {
        let at_terminal = self.attached().as_ref().map(Attached::give_back).is_some();
        if at_terminal {
            stop_this_job();
        } else if self.asked_to_stop.swap(false, Ordering::Relaxed) {
            let _ = signal_hook::low_level::emulate_default_handler(SIGTSTP);
        } else {
            // Whoever has stopped the program alone has it go on.
            return;
        }
        self.go_on();
    }

    /// The program itself has ended.
    pub(super) fn is_over(&self) {
        self.over.store(true, Ordering::Relaxed);
    }

    /// The terminal is the player's again.
    pub(super) fn leave_terminal(&self) {
        drop(self.attached().take());
    }
}

/// The player's terminal, which passes everything on to a program's.
struct Attached {
    ours: Arc<OwnedFd>,
    /// How it is when no program has it.
    settings: Termios,
    theirs: TerminalEnd,
    /// A byte has the thread that passes keys on look again; its end ends that.
    wake: OwnedFd,
}

impl Attached {
    /// `None` if it is gone already.
    fn new(terminal: &Terminal, theirs: TerminalEnd) -> Option<Self> {
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
    fn take(&self) {
        if is_ours(&self.ours) {
            let mut raw = self.settings.clone();
            raw.make_raw();
            let _ = rustix::termios::tcsetattr(&self.ours, OptionalActions::Now, &raw);
        }
        self.resize();
        let _ = rustix::io::write(&self.wake, &[0]);
    }

    /// The program's is as large as this one.
    fn resize(&self) {
        fit(&self.ours, &self.theirs);
    }

    /// As it was before.
    fn give_back(&self) {
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

/// Makes a program's terminal as large as the player's; a program is told of it where that is another size.
fn fit(ours: &OwnedFd, theirs: &TerminalEnd) {
    if let Ok(size) = rustix::termios::tcgetwinsize(ours) {
        let _ = theirs.resize(size.ws_row, size.ws_col);
    }
}

/// Stops this job as the keyboard would, and returns when it goes on.
fn stop_this_job() {
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
        // Whatever became of the signal that tells of it.
        fit(from, to);
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
