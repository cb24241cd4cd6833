//! How memory is given back to the system.

/// Pieces from this size on come from the system and go back to it, in bytes.
#[cfg(all(target_os = "linux", target_env = "gnu"))]
const LARGE: libc::c_int = 4 << 20;

/// Keeps to that size. The allocator would raise it, up to 32 MiB, with each larger piece that is freed (mallopt(3)): the
/// lists that a command needs for a million files would then leave holes as they grow, and none of it would go back.
#[cfg(all(target_os = "linux", target_env = "gnu"))]
#[expect(unsafe_code, reason = "no crate offers it in safe Rust")]
pub(crate) fn give_back() {
    // SAFETY: it takes two numbers, and no other thread has been started that could be asking for memory.
    let _ = unsafe { libc::mallopt(libc::M_MMAP_THRESHOLD, LARGE) };
}

#[cfg(not(all(target_os = "linux", target_env = "gnu")))]
pub(crate) fn give_back() {}
