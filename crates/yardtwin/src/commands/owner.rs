//! Root at work in a user's yard: the command goes on as that user, so that everything in it stays theirs.

use std::os::unix::fs::MetadataExt;
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::Command;

use nix::unistd::{Uid, User, geteuid, initgroups, setgid, setuid};

use crate::fail::Failure;
use crate::screen::Screen;

/// Starts this program once more as the user whose yard it is, where root has started it. Returns if there is no need.
pub(crate) fn go_on_as(root: &Path, screen: &Screen) -> Result<(), Failure> {
    let Ok(owner) = std::fs::metadata(root.join("pool")).map(|meta| Uid::from_raw(meta.uid())) else { return Ok(()) };
    if !geteuid().is_root() || owner.is_root() {
        return Ok(());
    }
    let failed = |why: &dyn std::fmt::Display| {
        Failure::failed(format!("this is the yard of user {owner}, and root could not become that user: {why}"))
    };
    let user = User::from_uid(owner).map_err(|error| failed(&error))?;
    let Some(user) = user else { return Err(failed(&"the system knows no such user")) };
    let name = std::ffi::CString::new(user.name.as_str()).map_err(|error| failed(&error))?;
    initgroups(&name, user.gid)
        .and_then(|()| setgid(user.gid))
        .and_then(|()| setuid(owner))
        .map_err(|error| failed(&error))?;
    screen.warn(format_args!("this is the yard of {}: the command goes on as that user", user.name));
    let mut again = Command::new("/proc/self/exe");
    again.args(std::env::args_os().skip(1)).env("HOME", user.dir);
    // Root's own places are not that user's.
    for name in ["XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_STATE_HOME", "XDG_CACHE_HOME", "XDG_RUNTIME_DIR"] {
        again.env_remove(name);
    }
    Err(failed(&again.exec()))
}
