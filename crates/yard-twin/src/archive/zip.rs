//! Zip archives.

use std::fs::File;
use std::io::Read;
use std::path::{Path, PathBuf};

use zip::ZipArchive;
use zip::result::ZipError;

use super::names::Names;
use super::{Is, Member, Said, fault};
use crate::disk;
use crate::error::{Error, PathContext, Result};

/// A zip archive, with its list.
pub(super) struct Zip {
    zip: ZipArchive<File>,
    path: PathBuf,
}

impl Zip {
    pub(super) fn open(path: &Path, names: &mut Names) -> Result<(Self, Vec<Member>)> {
        let file = disk::open_file(rustix::fs::CWD, path).at("read", path)?;
        let zip = ZipArchive::new(file).map_err(|error| wrong(path, &error))?;
        let mut zip = Self { zip, path: path.into() };
        if zip.zip.has_overlapping_entries().map_err(|error| wrong(path, &error))? {
            return Err(names.refuse("members lie over one another"));
        }
        zip.zip.validate_header_consistency().map_err(|error| wrong(path, &error))?;
        let members = zip.list(names)?;
        Ok((zip, members))
    }

    fn list(&mut self, names: &mut Names) -> Result<Vec<Member>> {
        let mut members = Vec::new();
        for index in 0..self.zip.len() {
            let member = self.zip.by_index_raw(index).map_err(|error| wrong(&self.path, &error))?;
            let is = match () {
                () if member.is_symlink() => Is::Link,
                () if member.encrypted() => Is::Locked,
                () if member.is_dir() => Is::Folder,
                () => Is::File,
            };
            let said = Said {
                index,
                name: member.name_raw(),
                is,
                size: member.size(),
                mtime: member.last_modified().and_then(nanoseconds).unwrap_or_default(),
                executable: member.unix_mode().is_some_and(|mode| mode & 0o111 != 0),
            };
            members.extend(names.take(&said, Some(member.compressed_size()))?);
        }
        Ok(members)
    }

    pub(super) fn read_each<'a>(
        &mut self,
        wanted: impl Iterator<Item = &'a Member>,
        each: &mut dyn FnMut(&Member, &mut dyn Read) -> Result<()>,
    ) -> Result<()> {
        for member in wanted {
            let mut file = self.zip.by_index(member.index).map_err(|error| wrong(&self.path, &error))?;
            each(member, &mut file)?;
        }
        Ok(())
    }
}

fn wrong(path: &Path, error: &ZipError) -> Error {
    fault(path, error.to_string())
}

fn nanoseconds(time: zip::DateTime) -> Option<i64> {
    let part = |number: u8| i8::try_from(number).ok();
    let date = jiff::civil::DateTime::new(
        i16::try_from(time.year()).ok()?,
        part(time.month())?,
        part(time.day())?,
        part(time.hour())?,
        part(time.minute())?,
        part(time.second())?,
        0,
    );
    let time = jiff::tz::TimeZone::UTC.to_timestamp(date.ok()?).ok()?;
    i64::try_from(time.as_nanosecond()).ok()
}
