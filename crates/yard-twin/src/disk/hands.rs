//! Whether somebody else has a file open for writing, or mapped so that it can be written to.
//!
//! Who has a file mapped writes into a page that is dirty already without moving any time, until the system has written
//! that page out (measured on ext4, btrfs, xfs; on tmpfs, which writes nothing out, for ever). A read lease (fcntl(2),
//! `F_SETLEASE`) is refused while there is anybody of the kind.

use std::fs::File;
use std::io;
use std::os::fd::{AsFd, AsRawFd};

/// Which signal tells of what has happened to a descriptor (include/uapi/asm-generic/fcntl.h).
const F_SETSIG: libc::c_int = 10;

/// Whether somebody has the file open for writing, or mapped for it. Where that can't be told (network filesystems, FUSE,
/// files of others), they may have.
pub(crate) fn in_other_hands(file: &File) -> bool {
    !lease(file)
}

/// As [`in_other_hands`], by name. A file that can't be opened for the question, or is none, can still be written by
/// a process that had it open before.
///
/// # Errors
/// What this process lacks for asking.
pub(crate) fn is_held(at: impl AsFd, name: impl rustix::path::Arg) -> io::Result<bool> {
    match super::open_file(at, name) {
        Err(error) if crate::error::is_lack(&error) => Err(error),
        opened => Ok(opened.is_ok_and(|file| in_other_hands(&file))),
    }
}

/// Takes a read lease and gives it back at once: whether it was to be had.
#[allow(unsafe_code)]
fn lease(file: &File) -> bool {
    let fd = file.as_raw_fd();
    // SAFETY: three calls of fcntl on a descriptor that is open for as long as `file` is borrowed; none takes a pointer.
    unsafe {
        // Whoever opens it for writing meanwhile has us told by a signal: by this one, which means nothing to a program that
        // doesn't ask for it. The default ends the process.
        if libc::fcntl(fd, F_SETSIG, libc::SIGURG) != 0 {
            return false;
        }
        let taken = libc::fcntl(fd, libc::F_SETLEASE, libc::F_RDLCK) == 0;
        if taken {
            libc::fcntl(fd, libc::F_SETLEASE, libc::F_UNLCK);
        }
        taken
    }
}

/// Has what was written to the file go to the disk, so that whatever is written into it from now on moves its times.
pub(crate) fn flush(file: &File) {
    // A file that can't be flushed is read as it is.
    if let Err(error) = file.sync_data() {
        tracing::debug!(%error, "could not be flushed");
    }
}
