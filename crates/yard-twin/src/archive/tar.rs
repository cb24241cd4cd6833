//! Tar archives, packed as a whole or not. They have no list: it is read through once to be listed, and once for what it holds.

use std::fs::File;
use std::io::{self, BufReader, Read};
use std::path::{Path, PathBuf};

use bzip2::bufread::MultiBzDecoder;
use flate2::bufread::MultiGzDecoder;
use lzma_rust2::XzReader;
use tar::{Archive, Entry, EntryType};

use super::kind::Packing;
use super::names::Names;
use super::{BYTES, Is, Member, RATIO, SMALL, Said, fault};
use crate::disk;
use crate::error::{PathContext, Result};

/// The most that a packing may hold in memory, in KiB, to unpack: what the strongest usual setting of `xz` asks for, and some.
const MEMORY: u32 = 96 << 10;

/// The same for zstd: the binary logarithm of a window.
const WINDOW: u32 = 26;

/// What is done with each entry, by its number.
type Each<'a> = dyn FnMut(usize, &mut Entry<'_, &mut dyn Read>) -> Result<()> + 'a;

/// A tar archive.
pub(super) struct Tar {
    path: PathBuf,
    packing: Packing,
}

impl Tar {
    pub(super) fn open(path: &Path, packing: Packing, names: &mut Names) -> Result<(Self, Vec<Member>)> {
        let tar = Self { path: path.into(), packing };
        let mut members = Vec::new();
        tar.each(&mut |index, entry| {
            let size = entry.size();
            let header = entry.header();
            let (mode, seconds) = (header.mode().unwrap_or_default(), header.mtime().unwrap_or_default());
            let is = match header.entry_type() {
                EntryType::Regular | EntryType::Continuous | EntryType::GNUSparse => Is::File,
                EntryType::Directory => Is::Folder,
                EntryType::Link | EntryType::Symlink => Is::Link,
                // What is said of all members says nothing that is taken.
                EntryType::XGlobalHeader => return Ok(()),
                _ => Is::Special,
            };
            let name = entry.path_bytes();
            let name = name.strip_prefix(b"./").unwrap_or(&name);
            if name.is_empty() || name == b"." {
                return Ok(());
            }
            let mtime = i64::try_from(seconds).ok().and_then(|seconds| seconds.checked_mul(1_000_000_000));
            let (mtime, executable) = (mtime.unwrap_or_default(), mode & 0o111 != 0);
            let said = Said { index, name, is, size, mtime, executable };
            members.extend(names.take(&said, None)?);
            Ok(())
        })?;
        if members.is_empty() {
            return Err(names.refuse("it holds no files"));
        }
        Ok((tar, members))
    }

    pub(super) fn read_each<'a>(
        &mut self,
        wanted: impl Iterator<Item = &'a Member>,
        each: &mut dyn FnMut(&Member, &mut dyn Read) -> Result<()>,
    ) -> Result<()> {
        let mut wanted = wanted.peekable();
        self.each(&mut |index, entry| match wanted.next_if(|member| member.index == index) {
            Some(member) => each(member, entry),
            None => Ok(()),
        })
    }

    /// Goes through all entries, to the end of the file.
    fn each(&self, each: &mut Each<'_>) -> Result<()> {
        let wrong = |error: io::Error| fault(&self.path, error.to_string());
        let file = disk::open_file(rustix::fs::CWD, &self.path).at("read", &self.path)?;
        let packed = disk::fstat(&file).at("look at", &self.path)?.size;
        let most = match self.packing {
            Packing::None => BYTES,
            _ => packed.saturating_mul(RATIO).saturating_add(SMALL).min(BYTES),
        };
        let mut from = Counted { from: unpacked(file, self.packing).map_err(wrong)?, left: most, zeros: 0 };
        let mut archive = Archive::new(&mut from as &mut dyn Read);
        for (index, entry) in archive.entries().map_err(wrong)?.enumerate() {
            each(index, &mut entry.map_err(wrong)?)?;
        }
        // Two blocks of zeros are the end (POSIX.1-1988): without them, something may be missing.
        io::copy(&mut from, &mut io::sink()).map_err(wrong)?;
        if from.zeros >= 2 * BLOCK {
            return Ok(());
        }
        Err(fault(&self.path, "its end is missing: it is not all there, or no tar archive"))
    }
}

/// A tar archive is made of blocks of this size.
pub(super) const BLOCK: usize = 512;

/// Whether a first block is that of a tar archive: its checksum is right.
pub(super) fn begins(block: &[u8]) -> bool {
    let Ok(block) = <&[u8; BLOCK]>::try_from(block) else { return false };
    let mut header = tar::Header::new_old();
    header.as_mut_bytes().copy_from_slice(block);
    let sum: u32 = block[..148].iter().chain(&block[156..]).map(|byte| u32::from(*byte)).sum::<u32>() + 8 * 32;
    header.cksum().is_ok_and(|said| said == sum)
}

/// Whether what is packed in a file begins as a tar archive does.
///
/// # Errors
/// [`crate::Error::Io`] if the file can't be read.
pub(super) fn is_packed(path: &Path, packing: Packing) -> Result<bool> {
    let file = disk::open_file(rustix::fs::CWD, path).at("read", path)?;
    let mut block = Vec::new();
    // One that is damaged may have been one.
    let read = unpacked(file, packing).and_then(|from| from.take(BLOCK as u64).read_to_end(&mut block));
    Ok(read.is_err() || begins(&block))
}

fn unpacked(file: File, packing: Packing) -> io::Result<Box<dyn Read>> {
    let file = BufReader::with_capacity(disk::BUFFER, file);
    Ok(match packing {
        Packing::None => Box::new(file),
        Packing::Gzip => Box::new(MultiGzDecoder::new(file)),
        Packing::Bzip2 => Box::new(MultiBzDecoder::new(file)),
        Packing::Xz => Box::new(XzReader::new_mem_limit(file, true, MEMORY)),
        Packing::Zstd => {
            let mut decoder = zstd::Decoder::with_buffer(file)?;
            decoder.window_log_max(WINDOW)?;
            Box::new(decoder)
        }
    })
}

/// A stream of which so much is read at most, and that knows how many zeros it had last.
struct Counted {
    from: Box<dyn Read>,
    left: u64,
    zeros: usize,
}

impl Read for Counted {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.from.read(buffer)?;
        let out = || io::Error::other("it unpacks to far more than it should");
        self.left = self.left.checked_sub(read as u64).ok_or_else(out)?;
        let zeros = buffer[..read].iter().rev().take_while(|byte| **byte == 0).count();
        self.zeros = if zeros == read { self.zeros + zeros } else { zeros };
        Ok(read)
    }
}
