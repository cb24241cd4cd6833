//! Which kind of archive a file is, by how it begins.

use std::io::Read;
use std::path::Path;

use super::ENDINGS;
use crate::disk;
use crate::error::{PathContext, Result};

/// A kind of archive.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Kind {
    /// PKWARE's APPNOTE.
    Zip,
    /// POSIX ustar and pax, and GNU's.
    Tar(Packing),
    /// 7z, by its description in the LZMA SDK.
    SevenZ,
    /// One that can't be read: what to say of it.
    Other(&'static str),
}

/// How a tar archive is packed as a whole.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Packing {
    /// Not at all.
    None,
    /// RFC 1952.
    Gzip,
    Bzip2,
    Xz,
    /// RFC 8878.
    Zstd,
}

const CUT: &str = "it is one part of an archive that was cut into several: put them together first";

/// How files of a kind begin.
const BEGINNINGS: [(&[u8], Kind); 10] = [
    (b"PK\x03\x04", Kind::Zip),
    (b"PK\x05\x06", Kind::Zip),
    (b"7z\xbc\xaf\x27\x1c", Kind::SevenZ),
    (b"\x1f\x8b", Kind::Tar(Packing::Gzip)),
    (b"BZh", Kind::Tar(Packing::Bzip2)),
    (b"\xfd7zXZ\x00", Kind::Tar(Packing::Xz)),
    (b"\x28\xb5\x2f\xfd", Kind::Tar(Packing::Zstd)),
    (b"Rar!\x1a\x07", Kind::Other("it is a rar archive, which can't be read: unpack it yourself and name the folder")),
    (b"MSCF", Kind::Other("it is a cabinet file, which can't be read: unpack it yourself and name the folder")),
    (b"PK\x07\x08", Kind::Other(CUT)),
];

impl Kind {
    /// The kind of archive that a file is; `None` if it is none.
    ///
    /// # Errors
    /// [`crate::Error::Io`].
    pub(super) fn of(path: &Path) -> Result<Option<Self>> {
        let mut head = Vec::new();
        let mut file = disk::open_file(rustix::fs::CWD, path).at("read", path)?;
        file.by_ref().take(super::tar::BLOCK as u64).read_to_end(&mut head).at("read", path)?;
        if super::tar::begins(&head) {
            return Ok(Some(Self::Tar(Packing::None)));
        }
        let name = path.file_name().unwrap_or_default().to_string_lossy().to_lowercase();
        if [".7z.001", ".zip.001", ".z01"].iter().any(|ending| name.ends_with(ending)) {
            return Ok(Some(Self::Other(CUT)));
        }
        let kind = BEGINNINGS.iter().find(|(begins, _)| head.starts_with(begins)).map(|(_, kind)| *kind);
        match kind {
            // Any file may be packed so.
            Some(Self::Tar(packing)) if !super::tar::is_packed(path, packing)? => Ok(None),
            kind => Ok(kind),
        }
    }
}

/// Whether a file is an archive, if maybe one that can't be read.
///
/// # Errors
/// [`crate::Error::Io`].
pub(crate) fn is_archive(path: &Path) -> Result<bool> {
    Ok(Kind::of(path)?.is_some())
}

/// Whether a file is a program that is started by itself, by its ending and how it begins. (Libraries begin so too.)
///
/// # Errors
/// [`crate::Error::Io`].
pub(crate) fn is_program(path: &Path) -> Result<bool> {
    let mut head = Vec::new();
    let file = disk::open_file(rustix::fs::CWD, path).at("read", path)?;
    file.take(4).read_to_end(&mut head).at("read", path)?;
    let ending = path.extension().unwrap_or_default().to_string_lossy().to_lowercase();
    let windows = head.starts_with(b"MZ") && ending == "exe";
    Ok(windows || head == b"\x7fELF" && matches!(ending.as_str(), "" | "run" | "bin"))
}

/// What a file or folder is called.
pub(crate) fn name_of(path: &Path) -> String {
    path.file_name().unwrap_or_default().to_string_lossy().into_owned()
}

/// Endings of archives that programs take as they are: a name goes without those too, but what is in one is not looked for.
const TAKEN_AS_THEY_ARE: [&str; 2] = [".jar", ".pack"];

/// The name of an archive without its endings.
pub(crate) fn stem(name: &str) -> &str {
    let ending = |name: &str| {
        let mut all = ENDINGS.iter().chain(&TAKEN_AS_THEY_ARE);
        all.find(|ending| name.to_lowercase().ends_with(*ending)).map(|end| end.len())
    };
    let shorter = |name: &str| name.len().checked_sub(ending(name)?).and_then(|end| name.get(..end)).map(str::len);
    let mut stem = name;
    while let Some(len) = shorter(stem).filter(|len| *len > 0) {
        stem = &stem[..len];
    }
    stem
}
