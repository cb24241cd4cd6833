//! Putting entries into a zip archive, and taking some out: all others keep their contents, names, times and order, and their
//! compressed bytes are copied as they are.

use std::collections::{BTreeMap, HashMap};
use std::fs::File;
use std::io::{self, BufReader, BufWriter};
use std::path::{Path, PathBuf};

use zip::read::ZipFile;
use zip::write::SimpleFileOptions;
use zip::{CompressionMethod, ZipArchive, ZipWriter};

use super::fault;
use crate::disk;
use crate::error::{PathContext, Result};
use crate::progress::Ctx;
use crate::sheet::PathSet;

/// Larger entries need the 64-bit form of the format.
const LARGE: u64 = u32::MAX as u64;

type Reader = ZipArchive<BufReader<File>>;
type Writer = ZipWriter<BufWriter<File>>;

/// A file that becomes an entry.
#[derive(Clone, Debug)]
pub(crate) struct Put {
    /// The entry's name.
    pub(crate) name: String,
    /// Where its bytes are.
    pub(crate) from: PathBuf,
    /// When it was written, in nanoseconds since 1970.
    pub(crate) mtime: i64,
}

/// Writes an archive as it is, but without some entries, and with others in the places of those of their names or at the end.
///
/// # Errors
/// [`crate::IntakeError::Archive`] if it is no zip archive that can be read.
pub(crate) fn inlay(archive: &Path, to: &Path, remove: &dyn Fn(&str) -> bool, put: &[Put], ctx: &Ctx) -> Result<()> {
    let mut from = open(archive)?;
    let mut out = create(to)?;
    let mut left: BTreeMap<&str, &Put> = put.iter().map(|put| (put.name.as_str(), put)).collect();
    for index in 0..from.len() {
        ctx.check()?;
        let entry = from.by_index_raw(index).map_err(|error| fault(archive, error.to_string()))?;
        let name = name_of(&entry);
        if let Some(put) = left.remove(name.as_str()) {
            drop(entry);
            write(&mut out, put, to, ctx)?;
        } else if !remove(&name) {
            out.raw_copy_file(entry).map_err(|error| fault(archive, format!("{name:?}: {error}")))?;
        }
    }
    left.values().try_for_each(|put| write(&mut out, put, to, ctx))?;
    finish(out, &from, to)
}

/// The entries of a zip archive, but for folders, whose names match one of some patterns.
///
/// # Errors
/// As [`inlay`].
pub(crate) fn entries_named(archive: &Path, patterns: &[String]) -> Result<Vec<String>> {
    let set = PathSet::new(patterns.iter().map(String::as_str), false).unwrap_or_default();
    let mut from = open(archive)?;
    let names = marks(&mut from, archive)?.into_iter().filter(|(_, ((.., folder), _))| !folder);
    let mut names: Vec<String> = names.map(|(name, _)| name).filter(|name| set.contains(name)).collect();
    names.sort_unstable();
    Ok(names)
}

/// What an entry holds, as far as its archive says: checksum, size, and whether it is a folder.
type Mark = (u32, u64, bool);

/// Writes an archive in which what changed from `laid` to `next` is changed in `there` too. Gives the entries that are changed
/// in both, and not alike; nothing is of use then.
///
/// # Errors
/// As [`inlay`].
pub(crate) fn merge((laid, there, next): (&Path, &Path, &Path), to: &Path, ctx: &Ctx) -> Result<Vec<String>> {
    let (mut was, mut is, mut wanted) = (open(laid)?, open(there)?, open(next)?);
    let (was, names, mut new) = (marks(&mut was, laid)?, marks(&mut is, there)?, marks(&mut wanted, next)?);
    let mut out = create(to)?;
    let mut clashes = Vec::new();
    for index in 0..is.len() {
        ctx.check()?;
        let name = name_of(&is.by_index_raw(index).map_err(|error| fault(there, error.to_string()))?);
        let (before, now, then) = (was.get(&name).map(mark), names.get(&name).map(mark), new.remove(&name));
        let (mark_then, at) = (then.as_ref().map(mark), then.map(|(_, at)| at));
        match () {
            () if now == mark_then || before == mark_then => {
                let entry = is.by_index_raw(index).map_err(|error| fault(there, error.to_string()))?;
                out.raw_copy_file(entry).map_err(|error| fault(there, format!("{name:?}: {error}")))?;
            }
            () if now == before => {
                if let Some(at) = at {
                    let entry = wanted.by_index_raw(at).map_err(|error| fault(next, error.to_string()))?;
                    out.raw_copy_file(entry).map_err(|error| fault(next, format!("{name:?}: {error}")))?;
                }
            }
            () => clashes.push(name),
        }
    }
    let mut new: Vec<(String, (Mark, usize))> = new.into_iter().collect();
    new.sort_by_key(|(_, (_, at))| *at);
    for (name, (mark, at)) in new {
        match was.get(&name) {
            // The player has taken it out.
            Some((before, _)) if *before == mark => {}
            Some(_) => clashes.push(name),
            None => {
                let entry = wanted.by_index_raw(at).map_err(|error| fault(next, error.to_string()))?;
                out.raw_copy_file(entry).map_err(|error| fault(next, format!("{name:?}: {error}")))?;
            }
        }
    }
    finish(out, &is, to)?;
    Ok(clashes)
}

/// An entry's name; what is no UTF-8 in it is only compared.
fn name_of<R: io::Read>(entry: &ZipFile<'_, R>) -> String {
    String::from_utf8_lossy(entry.name_raw()).into_owned()
}

fn mark(entry: &(Mark, usize)) -> Mark {
    entry.0
}

/// The entries of an archive by their names, each with its place.
fn marks(archive: &mut Reader, path: &Path) -> Result<HashMap<String, (Mark, usize)>> {
    let mut marks = HashMap::with_capacity(archive.len().min(super::MEMBERS));
    for index in 0..archive.len() {
        let entry = archive.by_index_raw(index).map_err(|error| fault(path, error.to_string()))?;
        marks.insert(name_of(&entry), ((entry.crc32(), entry.size(), entry.is_dir()), index));
    }
    Ok(marks)
}

fn open(path: &Path) -> Result<Reader> {
    let file = disk::open_file(rustix::fs::CWD, path).at("read", path)?;
    ZipArchive::new(BufReader::with_capacity(disk::BUFFER, file)).map_err(|error| fault(path, error.to_string()))
}

fn create(to: &Path) -> Result<Writer> {
    let file = disk::create_exact(to, 0o600).at("make", to)?;
    Ok(ZipWriter::new(BufWriter::with_capacity(disk::BUFFER, file)))
}

fn write(out: &mut Writer, put: &Put, to: &Path, ctx: &Ctx) -> Result<()> {
    let mut from = disk::open_file(rustix::fs::CWD, &put.from).at("read", &put.from)?;
    let size = disk::fstat(&from).at("look at", &put.from)?.size;
    let options = SimpleFileOptions::default()
        .compression_method(CompressionMethod::Deflated)
        .last_modified_time(time(put.mtime))
        .large_file(size >= LARGE);
    out.start_file(put.name.as_str(), options).map_err(|error| fault(to, format!("{:?}: {error}", put.name)))?;
    ctx.check()?;
    io::copy(&mut from, out).at("write", to).map(drop)
}

fn finish(mut out: Writer, from: &Reader, to: &Path) -> Result<()> {
    out.set_raw_comment(from.comment().into()).map_err(|error| fault(to, error.to_string()))?;
    let file = out.finish().map_err(|error| fault(to, error.to_string()))?;
    file.into_inner().map_err(io::IntoInnerError::into_error).at("write", to).map(drop)
}

/// A time as the format has it: in steps of two seconds, from 1980 on, without a zone.
fn time(mtime: i64) -> zip::DateTime {
    let time = jiff::Timestamp::from_nanosecond(mtime.into()).unwrap_or(jiff::Timestamp::UNIX_EPOCH);
    let time = jiff::tz::TimeZone::UTC.to_datetime(time);
    let part = |number: i8| u8::try_from(number).unwrap_or_default();
    let (year, month, day) = (u16::try_from(time.year()).unwrap_or_default(), part(time.month()), part(time.day()));
    let (hour, minute, second) = (part(time.hour()), part(time.minute()), part(time.second()));
    zip::DateTime::from_date_and_time(year, month, day, hour, minute, second).unwrap_or_default()
}
