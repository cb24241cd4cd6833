//! Reading archives that strangers made. Everything is listed and checked before anything is read, names are never repaired,
//! and nothing is ever unpacked to where a name says.

mod inlay;
mod kind;
mod names;
mod opened;
mod sevenz;
mod tar;
mod zip;

pub(crate) use self::inlay::{Put, entries_named, inlay, merge};
pub(crate) use self::kind::{is_archive, is_program, name_of, stem};
pub use self::names::NameEncoding;
pub(crate) use self::opened::opened;

use self::kind::Kind;

use std::io::{self, Read};
use std::path::{Path, PathBuf};

use self::names::Names;
use crate::disk;
use crate::error::{Error, IntakeError, PathContext, Result};
use crate::ident::ContentId;
use crate::path::RelPath;
use crate::progress::Ctx;

/// How downloads end that are archives.
const ENDINGS: [&str; 11] = [".zip", ".7z", ".gz", ".tgz", ".xz", ".txz", ".zst", ".bz2", ".tbz", ".tar", ".rar"];

/// More members than these are no download of a player's.
const MEMBERS: usize = 100_000;

/// More bytes than these in one archive are refused.
const BYTES: u64 = 64 << 30;

/// What is packed may unpack to so many times its size, and this much more.
const RATIO: u64 = 1100;
const SMALL: u64 = 1 << 20;

/// An archive that was opened, and its list found to be sound.
pub(crate) struct Archive {
    path: PathBuf,
    packed: Packed,
    members: Vec<Member>,
    empty_folders: Vec<String>,
}

/// An archive by its format.
enum Packed {
    Zip(Box<zip::Zip>),
    Tar(tar::Tar),
    SevenZ(Box<sevenz::SevenZ>),
}

/// A file in an archive.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Member {
    /// Which of the archive's members it is.
    pub(crate) index: usize,
    /// Its path in the archive.
    pub(crate) path: String,
    pub(crate) size: u64,
    /// When it was written, in nanoseconds since 1970, if the archive says so; 0 if not. Zip archives know no time zone.
    pub(crate) mtime: i64,
    /// Whether it may be run; many archives don't say so.
    pub(crate) executable: bool,
}

/// What a format says of one member, before anything of it is believed.
struct Said<'a> {
    index: usize,
    name: &'a [u8],
    is: Is,
    size: u64,
    mtime: i64,
    executable: bool,
}

/// What a member is.
#[derive(Clone, Copy)]
enum Is {
    File,
    Folder,
    Link,
    Locked,
    Special,
}

impl Archive {
    /// Opens an archive, lists it and checks the whole list. `written` is how names are written that are not UTF-8.
    ///
    /// # Errors
    /// [`IntakeError::Names`] if there are such, and nobody has said it;
    /// [`IntakeError::Archive`] if anything about it is not as it should be, or it is of a kind that can't be read.
    pub(crate) fn open(path: &Path, written: Option<NameEncoding>) -> Result<Self> {
        let Some(kind) = Kind::of(path)? else {
            return Err(fault(path, "it is no archive of a kind that is known"));
        };
        let mut names = Names::new(path, written);
        let (packed, members) = match kind {
            Kind::Zip => {
                zip::Zip::open(path, &mut names).map(|(zip, members)| (Packed::Zip(Box::new(zip)), members))?
            }
            Kind::Tar(packing) => {
                tar::Tar::open(path, packing, &mut names).map(|(tar, members)| (Packed::Tar(tar), members))?
            }
            Kind::SevenZ => {
                sevenz::SevenZ::open(path, &mut names).map(|(all, members)| (Packed::SevenZ(Box::new(all)), members))?
            }
            Kind::Other(what) => return Err(fault(path, what)),
        };
        let empty_folders = names.into_empty_folders(&members);
        Ok(Self { path: path.into(), packed, members, empty_folders })
    }

    pub(crate) fn members(&self) -> &[Member] {
        &self.members
    }

    /// The folders in it that have nothing in them.
    pub(crate) fn empty_folders(&self) -> &[String] {
        &self.empty_folders
    }

    /// Reads those members that are wanted, in the order in which they are stored: each is given to `each`, which reads as
    /// much of it as it likes, and is then read to its end. So what is damaged, or is not as long as it says, shows.
    ///
    /// # Errors
    /// [`IntakeError::Archive`] if it is damaged, or whatever `each` fails with.
    pub(crate) fn read_each(
        &mut self,
        wanted: &dyn Fn(&Member) -> bool,
        each: &mut dyn FnMut(&Member, &mut dyn Read) -> Result<()>,
        ctx: &Ctx,
    ) -> Result<()> {
        let path = &self.path;
        let mut one = |member: &Member, from: &mut dyn Read| {
            let mut whole = Whole { from, left: member.size, failed: None, ctx };
            let read = each(member, &mut whole);
            let read = read.and_then(|()| io::copy(&mut whole, &mut io::sink()).at("read", path).map(drop));
            ctx.check()?;
            match whole.failed {
                Some(why) => Err(fault(path, format!("{:?}: {why}", member.path))),
                None => read,
            }
        };
        let wanted = self.members.iter().filter(|member| wanted(member));
        match &mut self.packed {
            Packed::Zip(zip) => zip.read_each(wanted, &mut one),
            Packed::Tar(tar) => tar.read_each(wanted, &mut one),
            Packed::SevenZ(all) => all.read_each(wanted, &mut one),
        }
    }

    /// The contents of some members, in their order.
    pub(crate) fn hash(&mut self, wanted: &dyn Fn(&Member) -> bool, ctx: &Ctx) -> Result<Vec<(Member, ContentId)>> {
        let (mut contents, mut buffer) = (Vec::new(), vec![0; disk::BUFFER]);
        let path = self.path.clone();
        let mut each = |member: &Member, from: &mut dyn Read| {
            let mut hasher = blake3::Hasher::new();
            loop {
                match from.read(&mut buffer).at("read", &path)? {
                    0 => break,
                    read => drop(hasher.update(&buffer[..read])),
                }
            }
            contents.push((member.clone(), ContentId::from_bytes(*hasher.finalize().as_bytes())));
            Ok(())
        };
        self.read_each(wanted, &mut each, ctx)?;
        contents.sort_by_key(|(member, _)| member.index);
        Ok(contents)
    }
}

/// A member as it is read: it has as many bytes as it says, or that is an error.
struct Whole<'a> {
    from: &'a mut dyn Read,
    left: u64,
    /// What was wrong with it.
    failed: Option<String>,
    ctx: &'a Ctx,
}

impl Whole<'_> {
    fn more(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.from.read(buffer)?;
        let wrong = || io::Error::other("its size is not the one that it says");
        self.left = self.left.checked_sub(read as u64).ok_or_else(wrong)?;
        if read == 0 && self.left > 0 && !buffer.is_empty() { Err(wrong()) } else { Ok(read) }
    }
}

impl Read for Whole<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        self.ctx.check().map_err(io::Error::other)?;
        self.more(buffer).inspect_err(|error| self.failed = Some(error.to_string()))
    }
}

fn fault(path: &Path, why: impl Into<String>) -> Error {
    IntakeError::Archive { path: path.into(), why: why.into() }.into()
}

/// Whether a path in an archive is a path at all.
fn as_path(name: &str) -> Option<RelPath> {
    RelPath::new(name).ok()
}
