//! A terminal of the program's own, in place of the one that its launcher was started at: nothing can be typed into that
//! one, and no signal of the keyboard reaches anyone but the program.
//!
//! Whoever waits for the program is the leader of a new session and takes the terminal; the program has a group of its own
//! in the foreground of it. A program that leads its session itself could not be stopped by the keyboard (POSIX.1-2024,
//! "Orphaned Process Group").
//!
//! What runs in the new processes allocates no memory: see [`super::raw`].

use std::fs::File;
use std::io::{self, IoSlice, IoSliceMut, IsTerminal};
use std::mem::MaybeUninit;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::path::Path;
use std::sync::Arc;

use rustix::fs::{CWD, FileType, Mode, OFlags};
use rustix::net::{
    AddressFamily, RecvAncillaryBuffer, RecvAncillaryMessage, RecvFlags, SendAncillaryBuffer, SendAncillaryMessage,
    SendFlags, SocketFlags, SocketType,
};
use rustix::pty::OpenptFlags;
use rustix::termios::{OptionalActions, Termios, Winsize, tcgetattr, tcsetattr, tcsetwinsize};
use serde::{Deserialize, Serialize};

/// A terminal for a program: of its own, not the one of the process that launches it.
#[derive(Clone, Debug)]
pub struct Terminal {
    /// Lines.
    pub rows: u16,
    /// Characters in a line.
    pub columns: u16,
    /// Which of the program's standard input, output and error output are at it.
    pub at: [bool; 3],
    /// The terminal that it stands in for: it begins with the settings of that one, which are put back if the launching
    /// process is killed after it has made that one raw.
    pub stands_for: Option<Arc<OwnedFd>>,
}

impl Terminal {
    /// One of that size, with all three standard streams at it.
    #[must_use]
    pub fn new(rows: u16, columns: u16) -> Self {
        Self { rows, columns, at: [true; 3], stands_for: None }
    }

    /// One that stands in for the terminal that this process was started at; those standard streams that are not at one
    /// are not for the program either. `None` if none of them is, if the system has none to give, or if the output goes
    /// into a pipe: whoever reads that, a pager for instance, may listen to the keyboard.
    #[must_use]
    pub fn here() -> Option<Self> {
        let (input, output, errors) = (io::stdin(), io::stdout(), io::stderr());
        let at = [input.is_terminal(), output.is_terminal(), errors.is_terminal()];
        let streams = [input.as_fd(), output.as_fd(), errors.as_fd()];
        let piped = rustix::fs::fstat(streams[1]).is_ok_and(|out| FileType::from_raw_mode(out.st_mode).is_fifo());
        if piped || !Path::new("/dev/ptmx").exists() {
            return None;
        }
        let stream = streams.into_iter().zip(at).find_map(|(stream, is_one)| is_one.then_some(stream))?;
        // The one that the keyboard belongs to, whichever of the streams are at it.
        let opened = File::options().read(true).write(true).open("/dev/tty").map(OwnedFd::from);
        let outer = opened.or_else(|_| stream.try_clone_to_owned()).ok()?;
        let size = rustix::termios::tcgetwinsize(&outer).ok()?;
        Some(Self { rows: size.ws_row, columns: size.ws_col, at, stands_for: Some(Arc::new(outer)) })
    }

    pub(super) fn ordered(&self) -> Ordered {
        Ordered { rows: self.rows, columns: self.columns, at: self.at }
    }
}

/// The launcher's end of a program's terminal: what is typed goes in here. What the program writes comes as output of
/// [`crate::play::Stream::Terminal`].
#[derive(Clone, Debug)]
pub struct TerminalEnd(Arc<OwnedFd>);

impl TerminalEnd {
    /// Types: returns how many of the bytes have been taken.
    ///
    /// # Errors
    /// [`io::ErrorKind::WouldBlock`] while the program reads nothing of what was typed before.
    pub fn write(&self, bytes: &[u8]) -> io::Result<usize> {
        Ok(rustix::io::write(&self.0, bytes)?)
    }

    /// Changes the size, which the program gets a signal of.
    ///
    /// # Errors
    /// Whatever the system says.
    pub fn resize(&self, rows: u16, columns: u16) -> io::Result<()> {
        Ok(tcsetwinsize(&self.0, size(rows, columns))?)
    }

    /// What the program writes.
    pub(crate) fn output(&self) -> io::Result<File> {
        Ok(self.0.try_clone()?.into())
    }
}

impl AsFd for TerminalEnd {
    fn as_fd(&self) -> BorrowedFd<'_> {
        self.0.as_fd()
    }
}

fn size(rows: u16, columns: u16) -> Winsize {
    Winsize { ws_row: rows, ws_col: columns, ws_xpixel: 0, ws_ypixel: 0 }
}

/// What the new processes are told about a terminal.
#[derive(Clone, Copy, Debug, Serialize, Deserialize)]
pub(super) struct Ordered {
    rows: u16,
    columns: u16,
    pub(super) at: [bool; 3],
}

/// The socket by which the launcher gets its end: its own end of it, and the other.
pub(super) fn sockets() -> rustix::io::Result<(OwnedFd, OwnedFd)> {
    rustix::net::socketpair(AddressFamily::UNIX, SocketType::STREAM, SocketFlags::CLOEXEC, None)
}

/// A terminal, ready to be made.
pub(super) struct Pair {
    /// Where the launcher's end goes.
    to: OwnedFd,
    size: Winsize,
    at: [bool; 3],
    /// Whether it is one of the view's.
    sealed: bool,
    /// Its settings.
    like: Option<Termios>,
}

impl Pair {
    pub(super) fn new(ordered: Ordered, to: OwnedFd, outer: Option<&Outer>, sealed: bool) -> Self {
        let like = outer.map(|outer| outer.settings.clone());
        Self { to, size: size(ordered.rows, ordered.columns), at: ordered.at, sealed, like }
    }

    /// Makes it the terminal of the session that this process leads, and gives the launcher its end. Returns the
    /// program's.
    pub(super) fn lead(&self) -> rustix::io::Result<OwnedFd> {
        let flags = OpenptFlags::RDWR | OpenptFlags::NOCTTY | OpenptFlags::CLOEXEC;
        let ours = if self.sealed {
            let flags = OFlags::RDWR | OFlags::NOCTTY | OFlags::CLOEXEC;
            rustix::fs::openat(CWD, c"/dev/pts/ptmx", flags, Mode::empty())?
        } else {
            rustix::pty::openpt(flags)?
        };
        rustix::pty::unlockpt(&ours)?;
        let theirs = rustix::pty::ioctl_tiocgptpeer(&ours, flags)?;
        if let Some(like) = &self.like {
            tcsetattr(&theirs, OptionalActions::Now, like)?;
        }
        tcsetwinsize(&theirs, self.size)?;
        // Whoever copies it must not wait for a program that reads nothing.
        rustix::fs::fcntl_setfl(&ours, OFlags::RDWR | OFlags::NONBLOCK)?;
        rustix::process::ioctl_tiocsctty(&theirs)?;
        send(self.to.as_fd(), ours.as_fd())?;
        Ok(theirs)
    }

    /// Puts this process in the foreground of it.
    pub(super) fn take(&self, terminal: BorrowedFd<'_>) -> rustix::io::Result<()> {
        rustix::process::setpgid(None, None)?;
        // The signal that this would bring is blocked.
        rustix::termios::tcsetpgrp(terminal, rustix::process::getpid())?;
        let streams = [rustix::stdio::dup2_stdin, rustix::stdio::dup2_stdout, rustix::stdio::dup2_stderr];
        for (put, is_at) in streams.into_iter().zip(self.at) {
            if is_at {
                put(terminal)?;
            }
        }
        Ok(())
    }
}

fn send(to: BorrowedFd<'_>, file: BorrowedFd<'_>) -> rustix::io::Result<()> {
    let mut space = [MaybeUninit::uninit(); rustix::cmsg_space!(ScmRights(1))];
    let mut along = SendAncillaryBuffer::new(&mut space);
    let files = [file];
    along.push(SendAncillaryMessage::ScmRights(&files));
    rustix::net::sendmsg(to, &[IoSlice::new(b"t")], &mut along, SendFlags::NOSIGNAL).map(|_| ())
}

/// The launcher's end, once the program is about to start.
pub(super) fn receive(from: &OwnedFd) -> io::Result<TerminalEnd> {
    let mut space = [MaybeUninit::uninit(); rustix::cmsg_space!(ScmRights(1))];
    let mut along = RecvAncillaryBuffer::new(&mut space);
    let mut byte = [0];
    rustix::net::recvmsg(from, &mut [IoSliceMut::new(&mut byte)], &mut along, RecvFlags::CMSG_CLOEXEC)?;
    let file = along.drain().find_map(|message| match message {
        RecvAncillaryMessage::ScmRights(mut files) => files.next(),
        _ => None,
    });
    file.map(|file| TerminalEnd(Arc::new(file))).ok_or_else(|| io::Error::other("its terminal was not handed over"))
}

/// The terminal that the launcher was started at, and how it was set.
pub(super) struct Outer {
    pub(super) file: OwnedFd,
    settings: Termios,
}

impl Outer {
    /// `None` if it is none.
    pub(super) fn new(file: OwnedFd) -> Option<Self> {
        let settings = tcgetattr(&file).ok()?;
        Some(Self { file, settings })
    }

    /// Puts the settings back that it had, if it was left raw: whoever uses it by now may have set it otherwise.
    pub(super) fn give_back(&self) {
        let mut raw = self.settings.clone();
        raw.make_raw();
        let left_raw = tcgetattr(&self.file).is_ok_and(|now| {
            (now.input_modes, now.output_modes, now.local_modes) == (raw.input_modes, raw.output_modes, raw.local_modes)
        });
        if left_raw {
            // It may be gone.
            let _ = tcsetattr(&self.file, OptionalActions::Now, &self.settings);
        }
    }
}
