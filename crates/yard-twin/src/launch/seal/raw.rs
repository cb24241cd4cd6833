//! The system calls that no crate offers in safe Rust: all that is unsafe is here.
//!
//! Everything is called by [`super::stage`] only: between the fork of a program that may have threads and the start of
//! another one. There nothing may allocate memory or take a lock, since another thread may have held it when the process
//! was copied. None of these functions does.

use std::io;
use std::os::fd::{AsRawFd, BorrowedFd, FromRawFd, OwnedFd, RawFd};
use std::os::unix::process::CommandExt;
use std::process::Command;

use rustix::process::{Pid, Signal};
use rustix::thread::UnshareFlags;

/// Has `enter` called in the new process, after the standard library has prepared it and before the program starts.
pub(super) fn before_start(command: &mut Command, enter: impl FnMut() -> io::Result<()> + Send + Sync + 'static) {
    // SAFETY: `enter` is the stage, which keeps to what this module's head says.
    unsafe { command.pre_exec(enter) };
}

/// Copies this process, which has one thread. `None`: this is the copy.
pub(super) fn fork() -> io::Result<Option<Pid>> {
    // SAFETY: the copy goes on with the stage, which keeps to what this module's head says.
    match unsafe { libc::fork() } {
        -1 => Err(io::Error::last_os_error()),
        pid => Ok(Pid::from_raw(pid)),
    }
}

/// Takes over an open file that whoever started this process has left for it, and says so by its number.
pub(super) fn inherited(file: RawFd) -> OwnedFd {
    // SAFETY: only a helper calls this, first of all and once for each number that it was told; nothing else owns them.
    unsafe { OwnedFd::from_raw_fd(file) }
}

/// Ends this process without running anything that the standard library or the caller's program set up for its end.
pub(super) fn exit(code: i32) -> ! {
    // SAFETY: it has no preconditions.
    unsafe { libc::_exit(code) }
}

/// Moves this process, which has one thread, into new namespaces.
pub(super) fn unshare(flags: UnshareFlags) -> io::Result<()> {
    // SAFETY: unsafe only for the flag that gives a thread a table of open files of its own, which is never given.
    Ok(unsafe { rustix::thread::unshare_unsafe(flags) }?)
}

/// What `mount_setattr` is told: `struct mount_attr` of `linux/mount.h`.
#[repr(C)]
struct MountAttr {
    set: u64,
    clear: u64,
    propagation: u64,
    user_namespace: u64,
}

/// Sets attributes (`MOUNT_ATTR_…`) of the mount that is open as `mount`; with `below`, of all mounts below it too.
pub(super) fn set_attributes(mount: BorrowedFd<'_>, set: u64, below: bool) -> io::Result<()> {
    let attr = MountAttr { set, clear: 0, propagation: 0, user_namespace: 0 };
    let flags = libc::AT_EMPTY_PATH | if below { libc::AT_RECURSIVE } else { 0 };
    // SAFETY: the path is a C string, and `attr` is as large as is said and outlives the call.
    let done = unsafe {
        libc::syscall(
            libc::SYS_mount_setattr,
            mount.as_raw_fd(),
            c"".as_ptr(),
            flags,
            &raw const attr,
            size_of::<MountAttr>(),
        )
    };
    if done == 0 { Ok(()) } else { Err(io::Error::last_os_error()) }
}

/// Blocks the signals, and gives a file that they are read from.
pub(super) fn catch(signals: &[i32]) -> io::Result<OwnedFd> {
    let mut set = std::mem::MaybeUninit::uninit();
    // SAFETY: `sigemptyset` initialises the set before anything reads it; all pointers outlive the calls; the file that
    // `signalfd` opens belongs to nobody else.
    unsafe {
        libc::sigemptyset(set.as_mut_ptr());
        for &signal in signals {
            libc::sigaddset(set.as_mut_ptr(), signal);
        }
        if libc::sigprocmask(libc::SIG_BLOCK, set.as_ptr(), std::ptr::null_mut()) != 0 {
            return Err(io::Error::last_os_error());
        }
        match libc::signalfd(-1, set.as_ptr(), libc::SFD_CLOEXEC | libc::SFD_NONBLOCK) {
            -1 => Err(io::Error::last_os_error()),
            file => Ok(OwnedFd::from_raw_fd(file)),
        }
    }
}

/// Lets every signal through again.
pub(super) fn let_signals_through() -> io::Result<()> {
    let mut set = std::mem::MaybeUninit::uninit();
    // SAFETY: as above.
    let done = unsafe {
        libc::sigemptyset(set.as_mut_ptr());
        libc::sigprocmask(libc::SIG_SETMASK, set.as_ptr(), std::ptr::null_mut())
    };
    if done == 0 { Ok(()) } else { Err(io::Error::last_os_error()) }
}

/// Closes every open file but those in `keep`, which is sorted.
pub(super) fn close_all_but(keep: &[RawFd]) -> io::Result<()> {
    let mut from = 0;
    for &kept in keep {
        if kept > from {
            close_range(from, kept - 1, 0)?;
        }
        from = kept + 1;
    }
    close_range(from, RawFd::MAX, 0)
}

/// Closes one open file, of which this process has a copy only.
pub(super) fn close(file: RawFd) -> io::Result<()> {
    close_range(file, file, 0)
}

/// Has every open file but the standard ones closed when the program starts.
pub(super) fn close_at_start() -> io::Result<()> {
    close_range(3, RawFd::MAX, libc::CLOSE_RANGE_CLOEXEC)
}

/// Leaves an open file to the program.
pub(super) fn leave_open(file: RawFd) -> io::Result<()> {
    // SAFETY: the file is the launcher's, which has it open as long as this process was not told otherwise.
    let file = unsafe { BorrowedFd::borrow_raw(file) };
    Ok(rustix::io::fcntl_setfd(file, rustix::io::FdFlags::empty())?)
}

fn close_range(from: RawFd, to: RawFd, flags: u32) -> io::Result<()> {
    // SAFETY: nobody in this process uses the files any more: what owns them is the memory of the process that was copied.
    let done = unsafe { libc::syscall(libc::SYS_close_range, from, to, flags) };
    if done == 0 { Ok(()) } else { Err(io::Error::last_os_error()) }
}

/// Switches the loopback device of a new network namespace on.
pub(super) fn loopback_up() -> io::Result<()> {
    // SAFETY: `request` is the zeroed plain data that `SIOCSIFFLAGS` reads, with a name that ends within it; the socket
    // belongs to nobody else.
    unsafe {
        let socket = libc::socket(libc::AF_INET, libc::SOCK_DGRAM | libc::SOCK_CLOEXEC, 0);
        if socket == -1 {
            return Err(io::Error::last_os_error());
        }
        let socket = OwnedFd::from_raw_fd(socket);
        let mut request: libc::ifreq = std::mem::zeroed();
        for (to, from) in request.ifr_name.iter_mut().zip(c"lo".to_bytes()) {
            *to = from.cast_signed();
        }
        #[expect(clippy::cast_possible_truncation, reason = "the flag is 1")]
        {
            request.ifr_ifru.ifru_flags = libc::IFF_UP as libc::c_short;
        }
        if libc::ioctl(socket.as_raw_fd(), libc::SIOCSIFFLAGS, &raw const request) == 0 {
            Ok(())
        } else {
            Err(io::Error::last_os_error())
        }
    }
}

/// Leaves the keys of the user's session behind: an empty keyring takes their place (`keyctl(2)`,
/// `KEYCTL_JOIN_SESSION_KEYRING`).
pub(super) fn leave_keys() {
    const JOIN_SESSION_KEYRING: libc::c_long = 1;
    // SAFETY: no name is given, so nothing is read. A kernel without keys has none to leave.
    unsafe { libc::syscall(libc::SYS_keyctl, JOIN_SESSION_KEYRING, std::ptr::null::<libc::c_char>()) };
}

/// Whether there is another process in the namespace that this process is the first of.
pub(super) fn is_anyone_else_here() -> bool {
    // SAFETY: it has no preconditions, and signal 0 is none.
    unsafe { libc::kill(-1, 0) == 0 }
}

/// Sends a signal to every process of the namespace that this process is the first of.
pub(super) fn signal_everyone(signal: Signal) -> io::Result<()> {
    // SAFETY: it has no preconditions. The caller is pid 1 of its namespace: nothing outside is reached.
    if unsafe { libc::kill(-1, signal.as_raw()) } == 0 { Ok(()) } else { Err(io::Error::last_os_error()) }
}
