//! Reading archives that strangers made: zip, by now. Everything is listed and checked before anything is read, names are
//! never repaired, and nothing is ever unpacked to where a name says.

use std::collections::HashMap;
use std::fs::File;
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};

use zip::ZipArchive;
use zip::result::ZipError;

use crate::disk;
use crate::error::{Error, IntakeError, PathContext, Result};
use crate::ident::ContentId;
use crate::path::{RelPath, at_and_above, fold_key};
use crate::progress::Ctx;

/// More members than these are no download of a player's.
const MEMBERS: usize = 100_000;

/// More bytes than these in one archive are refused.
const BYTES: u64 = 64 << 30;

/// A member may unpack to so many times its packed size, and this much more.
const RATIO: u64 = 1100;
const SMALL: u64 = 1 << 20;

/// An archive that was opened, and its list found to be sound.
pub(crate) struct Archive {
    zip: ZipArchive<File>,
    path: PathBuf,
    members: Vec<Member>,
}

/// A file in an archive.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Member {
    pub(crate) index: usize,
    /// Its path in the archive.
    pub(crate) path: String,
    pub(crate) size: u64,
    /// When it was written, in nanoseconds since 1970, if the archive says so. It knows no time zone.
    pub(crate) mtime: i64,
}

impl Archive {
    /// Whether a file begins as a zip archive does.
    pub(crate) fn is_one(path: &Path) -> Result<bool> {
        let mut head = [0; 4];
        let mut file = disk::open_file(rustix::fs::CWD, path).at("read", path)?;
        Ok(file.read_exact(&mut head).is_ok() && (head == *b"PK\x03\x04" || head == *b"PK\x05\x06"))
    }

    /// Opens an archive, lists it and checks the whole list.
    ///
    /// # Errors
    /// [`IntakeError::Archive`] if anything about it is not as it should be.
    pub(crate) fn open(path: &Path) -> Result<Self> {
        let file = disk::open_file(rustix::fs::CWD, path).at("read", path)?;
        let zip = ZipArchive::new(file).map_err(|error| fault(path, &error))?;
        let mut archive = Self { zip, path: path.into(), members: Vec::new() };
        archive.check()?;
        archive.members = archive.list()?;
        Ok(archive)
    }

    pub(crate) fn members(&self) -> &[Member] {
        &self.members
    }

    fn refuse(&self, why: impl Into<String>) -> Error {
        IntakeError::Archive { path: self.path.clone(), why: why.into() }.into()
    }

    fn check(&mut self) -> Result<()> {
        if self.zip.len() > MEMBERS {
            return Err(self.refuse(format!("it has {} members", self.zip.len())));
        }
        let path = self.path.clone();
        if self.zip.has_overlapping_entries().map_err(|error| fault(&path, &error))? {
            return Err(self.refuse("members lie over one another"));
        }
        self.zip.validate_header_consistency().map_err(|error| fault(&path, &error))
    }

    fn list(&mut self) -> Result<Vec<Member>> {
        let (mut members, mut total) = (Vec::new(), 0u64);
        let mut names: HashMap<String, bool> = HashMap::new();
        for index in 0..self.zip.len() {
            let path = self.path.clone();
            let member = self.zip.by_index_raw(index).map_err(|error| fault(&path, &error))?;
            let name = std::str::from_utf8(member.name_raw()).map(str::to_owned);
            let (folder, link, locked) = (member.is_dir(), member.is_symlink(), member.encrypted());
            let (size, packed) = (member.size(), member.compressed_size());
            let mtime = member.last_modified().and_then(nanoseconds).unwrap_or_default();
            drop(member);
            let Ok(name) = name else { return Err(self.refuse("a name in it is not UTF-8")) };
            let trimmed = name.trim_end_matches('/');
            if let Some(why) = wrong(trimmed) {
                return Err(self.refuse(format!("{name:?}: {why}")));
            }
            if link || locked {
                let why =
                    if link { "it is a symlink, and those are not taken from archives" } else { "it is encrypted" };
                return Err(self.refuse(format!("{name:?}: {why}")));
            }
            if folder {
                continue;
            }
            total = total.saturating_add(size);
            if total > BYTES || size > packed.saturating_mul(RATIO).saturating_add(SMALL) {
                return Err(
                    self.refuse(format!("{name:?}: it would unpack to {size} bytes, which is out of proportion"))
                );
            }
            for (at, above) in at_and_above(trimmed).enumerate() {
                // A name is that of one file, or that of folders.
                let known = names.insert(fold_key(above), at > 0);
                if known.is_some_and(|folder| !folder || at == 0) {
                    return Err(self.refuse(format!("{name:?}: there is another one of that name, or in its place")));
                }
            }
            members.push(Member { index, path: trimmed.into(), size, mtime });
        }
        Ok(members)
    }

    /// The content of a member.
    pub(crate) fn hash(&mut self, member: &Member, ctx: &Ctx) -> Result<ContentId> {
        let mut hasher = blake3::Hasher::new();
        self.read(member, &mut hasher, ctx)?;
        Ok(ContentId::from_bytes(*hasher.finalize().as_bytes()))
    }

    /// Writes a member to a new file of our own.
    pub(crate) fn extract(&mut self, member: &Member, to: &Path, ctx: &Ctx) -> Result<()> {
        let mut out = disk::create_exact(to, 0o600).at("make", to)?;
        self.read(member, &mut out, ctx)?;
        disk::set_mtime(&out, member.mtime).at("set the time of", to)
    }

    fn read(&mut self, member: &Member, to: &mut impl Write, ctx: &Ctx) -> Result<()> {
        let path = self.path.clone();
        let file = self.zip.by_index(member.index).map_err(|error| fault(&path, &error))?;
        let failed =
            |error: &io::Error| IntakeError::Archive { path: path.clone(), why: format!("{:?}: {error}", member.path) };
        // One byte more than it says is one too many.
        let mut file = file.take(member.size + 1);
        let (mut buffer, mut done) = (vec![0; disk::BUFFER], 0);
        loop {
            ctx.check()?;
            let read = file.read(&mut buffer).map_err(|error| failed(&error))?;
            if read == 0 {
                break;
            }
            done += read as u64;
            to.write_all(&buffer[..read]).at("write", &path)?;
        }
        if done == member.size {
            Ok(())
        } else {
            Err(failed(&io::Error::other("its size is not the one that it says")).into())
        }
    }
}

fn fault(path: &Path, error: &ZipError) -> Error {
    IntakeError::Archive { path: path.into(), why: error.to_string() }.into()
}

/// What is wrong with a name, if anything: what means something to any system is refused on all.
fn wrong(name: &str) -> Option<&'static str> {
    if RelPath::new(name).is_err() {
        return Some("it leads out of the archive");
    }
    if name.contains(|c: char| c.is_control() || matches!(c, '\\' | ':' | '<' | '>' | '"' | '|' | '?' | '*')) {
        return Some("it has a character that no name should have");
    }
    let odd = |part: &str| {
        let stem = part.split('.').next().unwrap_or(part).to_ascii_uppercase();
        let numbered = |word: &str| stem.strip_prefix(word).is_some_and(|rest| rest.len() == 1 && rest != "0");
        part.ends_with(['.', ' '])
            || matches!(stem.as_str(), "CON" | "PRN" | "AUX" | "NUL")
            || ((numbered("COM") || numbered("LPT")) && stem.as_bytes()[3].is_ascii_digit())
    };
    name.split('/').any(odd).then_some("it is no name on every system")
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
