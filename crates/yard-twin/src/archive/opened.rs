//! Archives that hold nothing but another one: that is the one which is meant.

use std::io;
use std::path::Path;

use super::{Archive, ENDINGS, NameEncoding, is_archive};
use crate::disk;
use crate::error::{Error, IntakeError, PathContext, Result};
use crate::progress::Ctx;

/// So many may be in one another.
const DEPTH: usize = 3;

/// Opens an archive, or the one that is all it holds, which is put into `scratch` and stays there. `is_item` says of a name
/// that it is what is wanted as it is.
///
/// # Errors
/// As [`Archive::open`]; [`crate::Error::Io`].
pub(crate) fn opened(
    path: &Path,
    scratch: &Path,
    written: Option<NameEncoding>,
    is_item: &dyn Fn(&str) -> bool,
    ctx: &Ctx,
) -> Result<Archive> {
    let mut archive = Archive::open(path, written)?;
    for depth in 0..DEPTH {
        let [only] = archive.members() else { break };
        let name = only.path.rsplit('/').next().unwrap_or_default();
        if is_item(name) || !ENDINGS.iter().any(|ending| name.to_lowercase().ends_with(ending)) {
            break;
        }
        let inner = scratch.join(format!("inner{depth}"));
        let mut out = disk::create_exact(&inner, 0o600).at("make", &inner)?;
        let mut copy = |_: &_, from: &mut dyn io::Read| io::copy(from, &mut out).at("write", &inner).map(drop);
        archive.read_each(&|_| true, &mut copy, ctx)?;
        if !is_archive(&inner)? {
            disk::remove_file(&inner)?;
            break;
        }
        archive = Archive::open(&inner, written).map_err(|error| about(path, error))?;
        // What is wrong with it is wrong with what was named.
        archive.path = path.into();
    }
    Ok(archive)
}

/// The same error, said of the archive that was named.
fn about(path: &Path, error: Error) -> Error {
    let path = path.to_path_buf();
    match error {
        Error::Intake(IntakeError::Archive { why, .. }) => IntakeError::Archive { path, why }.into(),
        Error::Intake(IntakeError::Names { readings, .. }) => IntakeError::Names { path, readings }.into(),
        other => other,
    }
}
