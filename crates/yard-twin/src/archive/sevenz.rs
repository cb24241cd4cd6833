//! 7z archives. Most are one stream: they are read once, from the beginning on.

use std::collections::HashMap;
use std::fs::File;
use std::io::Read;
use std::path::{Path, PathBuf};

use sevenz_rust2::{ArchiveEntry, ArchiveReader, Password};

use super::names::Names;
use super::{Is, Member, RATIO, SMALL, Said, fault};
use crate::disk;
use crate::error::{Error, PathContext, Result};

/// The most that a dictionary or a list may take, in KiB.
const MEMORY: usize = 96 << 10;

/// Windows attributes have a file's Unix mode in their upper half, where an archive was made there.
const UNIX: u32 = 16;
const KIND: u32 = 0o170_000;
const LINK: u32 = 0o120_000;

/// A 7z archive, with its list.
pub(super) struct SevenZ {
    reader: ArchiveReader<File>,
    path: PathBuf,
}

impl SevenZ {
    pub(super) fn open(path: &Path, names: &mut Names) -> Result<(Self, Vec<Member>)> {
        let file = disk::open_file(rustix::fs::CWD, path).at("read", path)?;
        let packed = disk::fstat(&file).at("look at", path)?.size;
        let reader = ArchiveReader::new_with_memory_limit(file, Password::empty(), MEMORY);
        let mut reader = reader.map_err(|error| wrong(path, &error))?;
        // Several threads hold a dictionary each.
        reader.set_thread_count(1);
        let (mut members, mut total) = (Vec::new(), 0u64);
        for (index, entry) in reader.archive().files.iter().enumerate() {
            let mode = entry.windows_attributes() >> UNIX;
            let is = match mode & KIND {
                LINK => Is::Link,
                _ if entry.is_directory() => Is::Folder,
                _ if reader.archive().is_file_encrypted(index) => Is::Locked,
                _ => Is::File,
            };
            if entry.is_anti_item() {
                return Err(names.refuse(format!("{:?}: it says that a file is to be deleted", entry.name())));
            }
            let mtime = nanoseconds(entry);
            let (size, executable) = (entry.size(), mode & 0o111 != 0);
            total = total.saturating_add(size);
            let name = entry.name().as_bytes();
            let said = Said { index, name, is, size, mtime, executable };
            members.extend(names.take(&said, None)?);
        }
        if total > packed.saturating_mul(RATIO).saturating_add(SMALL) {
            return Err(names.refuse(format!("it would unpack to {total} bytes, which is out of proportion")));
        }
        Ok((Self { reader, path: path.into() }, members))
    }

    pub(super) fn read_each<'a>(
        &mut self,
        wanted: impl Iterator<Item = &'a Member>,
        each: &mut dyn FnMut(&Member, &mut dyn Read) -> Result<()>,
    ) -> Result<()> {
        let wanted: HashMap<&str, &Member> = wanted.map(|member| (member.path.as_str(), member)).collect();
        let mut failed: Option<Error> = None;
        let read = self.reader.for_each_entries(|entry, from| {
            let Some(member) = wanted.get(entry.name()).filter(|_| !entry.is_directory()) else { return Ok(true) };
            each(member, from).map(|()| true).map_err(|error| {
                failed = Some(error);
                std::io::Error::other("stopped").into()
            })
        });
        match (failed, read) {
            (Some(error), _) => Err(error),
            (None, read) => read.map_err(|error| wrong(&self.path, &error)),
        }
    }
}

fn wrong(path: &Path, error: &sevenz_rust2::Error) -> Error {
    use sevenz_rust2::Error as Fault;
    fault(
        path,
        match error {
            Fault::PasswordRequired | Fault::MaybeBadPassword(_) => "it is encrypted".to_owned(),
            Fault::MaxMemLimited { .. } => format!("it would take more than {} MiB of memory to unpack", MEMORY >> 10),
            Fault::ChecksumVerificationFailed | Fault::NextHeaderCrcMismatch => "it is damaged".to_owned(),
            other => format!("it is no 7z archive that can be read: {other}"),
        },
    )
}

/// When it was written, in nanoseconds since 1970; 0 if the archive doesn't say.
fn nanoseconds(entry: &ArchiveEntry) -> i64 {
    if !entry.has_last_modified_date {
        return 0;
    }
    let time = std::time::SystemTime::from(entry.last_modified_date());
    let since = time.duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
    i64::try_from(since.as_nanos()).unwrap_or_default()
}
