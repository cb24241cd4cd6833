//! The canonical stream of a listing, and the file that keeps it: flat columns, compressed with zstd.
//!
//! The format is written down in `docs/formats.md`. The stream has one encoding per listing, so that its BLAKE3 is the
//! listing's id; times follow it in the file but are no part of it.

use std::io::{self, BufReader, Read, Write};

use zstd::stream::{Decoder, Encoder};

use super::{Entry, Listing, Node};
use crate::error::{Error, Result};
use crate::ident::{ContentId, ListingId};
use crate::path::{RelPath, SharedPaths};

const MAGIC: &[u8; 8] = b"ytlist\x00\x01";

/// Compression level: the contents' ids, most of the file, don't compress at any.
const LEVEL: i32 = 3;

/// Largest decoded listing that is accepted, in bytes: some 20 million entries.
const DECODED_MAX: u64 = 2 << 30;

/// So many bytes of columns are gathered before they are hashed or compressed.
const PIECE: usize = 64 << 10;

const FILE: u8 = 0;
const EXECUTABLE: u8 = 1;
const SYMLINK: u8 = 2;
const EMPTY_FOLDER: u8 = 3;

pub(super) fn id(listing: &Listing) -> ListingId {
    let mut hasher = blake3::Hasher::new();
    let mut piece = Vec::with_capacity(PIECE * 2);
    canonical(listing.entries(), &mut piece, |piece| {
        hasher.update(piece);
        piece.clear();
    });
    hasher.update(&piece);
    ListingId::from_bytes(*hasher.finalize().as_bytes())
}

/// The file of a listing as a whole.
pub(super) fn encode(listing: &Listing) -> Result<Vec<u8>> {
    let mut packer = packer(MAGIC.to_vec())?;
    columns(listing.entries(), &mut packer).and_then(|()| packer.finish()).map_err(packing)
}

/// Something to write columns to; they come out compressed, after `head`.
pub(super) fn packer(head: Vec<u8>) -> Result<Encoder<'static, Vec<u8>>> {
    Encoder::new(head, LEVEL).map_err(packing)
}

pub(super) fn packing(error: io::Error) -> Error {
    Error::io("compress", "a listing", error)
}

/// The columns of sorted entries, their times too.
pub(super) fn columns(entries: &[Entry], out: &mut impl Write) -> io::Result<()> {
    let mut piece = Vec::with_capacity(PIECE * 2);
    let mut failure = Ok(());
    canonical(entries, &mut piece, |piece| {
        if failure.is_ok() {
            failure = out.write_all(piece);
        }
        piece.clear();
    });
    failure?;
    let mut last = 0;
    for entry in entries {
        put_signed(&mut piece, entry.mtime.wrapping_sub(last));
        last = entry.mtime;
    }
    out.write_all(&piece)
}

/// The canonical stream, into `out`, which is handed to `full` whenever much has gathered.
fn canonical(entries: &[Entry], out: &mut Vec<u8>, mut full: impl FnMut(&mut Vec<u8>)) {
    let mut enough = |out: &mut Vec<u8>| {
        if out.len() >= PIECE {
            full(out);
        }
    };
    put(out, entries.len() as u64);
    for entry in entries {
        out.push(match entry.node {
            Node::File { executable: false, .. } => FILE,
            Node::File { executable: true, .. } => EXECUTABLE,
            Node::Symlink { .. } => SYMLINK,
            Node::EmptyFolder => EMPTY_FOLDER,
        });
        enough(out);
    }
    let mut last = "";
    for entry in entries {
        let path = entry.path.as_str();
        let shared = last.bytes().zip(path.bytes()).take_while(|(a, b)| a == b).count();
        put(out, shared as u64);
        put_bytes(out, &path.as_bytes()[shared..]);
        last = path;
        enough(out);
    }
    for entry in entries {
        match &entry.node {
            Node::File { size, .. } => put(out, *size),
            Node::Symlink { target } => put_bytes(out, target.as_bytes()),
            Node::EmptyFolder => {}
        }
        enough(out);
    }
    for content in entries.iter().filter_map(|e| e.node.content()) {
        out.extend_from_slice(content.as_bytes());
        enough(out);
    }
}

/// Reads a whole listing, what follows its magic; one that keeps only what differs from another is for [`super::delta`].
pub(super) fn decode(packed: impl Read, id: ListingId) -> Result<Listing, String> {
    let mut reader = Reader::new(packed)?;
    let mut entries = reader.entries().ok_or(CUT_OFF)?;
    if reader.hash().as_bytes() != id.as_bytes() {
        return Err(NOT_ITSELF.into());
    }
    reader.times(&mut entries).filter(|()| reader.is_at_end()).ok_or("its times are cut off")?;
    Listing::of_stream(entries, id).map_err(|e| e.to_string())
}

/// Whether a whole listing is the one of that id and can be read, what follows its magic. None of it is kept.
pub(super) fn verify(packed: impl Read, id: ListingId) -> Result<(), String> {
    let mut reader = Reader::new(packed)?;
    let entries = reader.pass_over_entries().ok_or(CUT_OFF)?;
    // Nothing but that listing has this hash, and a listing's entries stand side by side.
    if reader.hash().as_bytes() != id.as_bytes() {
        return Err(NOT_ITSELF.into());
    }
    let times = (0..entries).try_for_each(|_| reader.number().map(drop));
    times.filter(|()| reader.is_at_end()).ok_or_else(|| "its times are cut off".into())
}

/// Whether a listing's file begins as one that keeps all of it.
pub(super) fn is_whole(magic: [u8; 8]) -> bool {
    magic == *MAGIC
}

pub(super) const CUT_OFF: &str = "it ends too early or holds what no listing holds";
pub(super) const NOT_ITSELF: &str = "it is not what its name says";

/// Longest piece of a path, and longest target of a symlink, that is accepted: well above what systems have.
const TEXT_MAX: usize = 1 << 16;

/// So many entries are believed to be there before they have been read.
const BELIEVED: usize = 1 << 22;

/// Reads compressed columns, up to a limit that no yard reaches; every step answers `None` where the bytes make no sense.
pub(super) struct Reader<R: Read> {
    inner: R,
    hasher: blake3::Hasher,
    /// What was unpacked and is still wanted: from `at` on it was not read yet, from `hashed` on not hashed.
    piece: Vec<u8>,
    at: usize,
    hashed: usize,
}

impl<'a, P: Read + 'a> Reader<io::Take<Decoder<'a, BufReader<P>>>> {
    pub(super) fn new(packed: P) -> Result<Self, String> {
        let inner = Decoder::new(packed).map_err(|e| e.to_string())?.take(DECODED_MAX);
        let piece = Vec::with_capacity(PIECE + TEXT_MAX);
        Ok(Self { inner, hasher: blake3::Hasher::new(), piece, at: 0, hashed: 0 })
    }
}

impl<R: Read> Reader<R> {
    /// What is unpacked and not read yet: at least `wanted` bytes of it, unless there are no more.
    fn ahead(&mut self, wanted: usize) -> Option<&[u8]> {
        if self.piece.len() - self.at < wanted {
            self.unpack(wanted)?;
        }
        Some(&self.piece[self.at..])
    }

    fn unpack(&mut self, wanted: usize) -> Option<()> {
        self.hash_read();
        self.piece.drain(..self.at);
        (self.at, self.hashed) = (0, 0);
        while self.piece.len() < wanted {
            let read = (&mut self.inner).take(PIECE as u64).read_to_end(&mut self.piece).ok()?;
            if read == 0 {
                break;
            }
        }
        Some(())
    }

    fn hash_read(&mut self) {
        self.hasher.update(&self.piece[self.hashed..self.at]);
        self.hashed = self.at;
    }

    /// BLAKE3 of all that was read.
    fn hash(&mut self) -> blake3::Hash {
        self.hash_read();
        self.hasher.finalize()
    }

    pub(super) fn is_at_end(&mut self) -> bool {
        self.ahead(1).is_some_and(<[u8]>::is_empty)
    }

    pub(super) fn number(&mut self) -> Option<u64> {
        /// The longest one.
        const LONGEST: usize = 10;
        let (mut value, mut read) = (0u64, 0);
        for &byte in self.ahead(LONGEST)?.iter().take(LONGEST) {
            value |= u64::from(byte & 0x7f).checked_shl(7 * read)?;
            read += 1;
            if byte & 0x80 == 0 {
                self.at += read as usize;
                return Some(value);
            }
        }
        None
    }

    /// The next `len` bytes, which are few.
    fn bytes(&mut self, len: usize) -> Option<&[u8]> {
        self.ahead(len)?;
        let bytes = self.piece.get(self.at..self.at + len)?;
        self.at += len;
        Some(bytes)
    }

    /// Reads text with its length before it to the end of `out`.
    fn text(&mut self, out: &mut Vec<u8>) -> Option<()> {
        let len = usize::try_from(self.number()?).ok().filter(|&len| len <= TEXT_MAX)?;
        out.extend_from_slice(self.bytes(len)?);
        Some(())
    }

    /// Reads so many bytes, which may be many, to the end of `out`.
    fn take(&mut self, len: u64, out: &mut Vec<u8>) -> Option<()> {
        let mut left = usize::try_from(len).ok()?;
        while left > 0 {
            let part = self.ahead(1)?.len().min(left);
            if part == 0 {
                return None;
            }
            out.extend_from_slice(self.bytes(part)?);
            left -= part;
        }
        Some(())
    }

    pub(super) fn paths(&mut self, count: usize) -> Option<Vec<RelPath>> {
        let mut paths = Vec::with_capacity(count.min(BELIEVED));
        self.each_path(count, |path| paths.push(path))?;
        Some(paths)
    }

    /// So many paths, each as it differs from the one before.
    fn each_path(&mut self, count: usize, mut each: impl FnMut(RelPath)) -> Option<()> {
        let (mut last, mut paths) = (Vec::new(), SharedPaths::new());
        for _ in 0..count {
            let shared = usize::try_from(self.number()?).ok()?;
            if shared > last.len() {
                return None;
            }
            last.truncate(shared);
            self.text(&mut last)?;
            if paths.add(std::str::from_utf8(&last).ok()?, ()).ok()? {
                paths.take().for_each(|(path, ())| each(path));
            }
        }
        paths.take().for_each(|(path, ())| each(path));
        Some(())
    }

    fn node(&mut self, kind: u8) -> Option<Node> {
        let unknown = ContentId::from_bytes([0; 32]);
        Some(match kind {
            FILE | EXECUTABLE => Node::File { content: unknown, size: self.number()?, executable: kind == EXECUTABLE },
            SYMLINK => {
                let mut target = Vec::new();
                self.text(&mut target)?;
                Node::Symlink { target: String::from_utf8(target).ok()?.into() }
            }
            EMPTY_FOLDER => Node::EmptyFolder,
            _ => return None,
        })
    }

    pub(super) fn entries(&mut self) -> Option<Vec<Entry>> {
        let (count, mut kinds) = (self.number()?, Vec::new());
        self.take(count, &mut kinds)?;
        let mut entries = Vec::with_capacity(kinds.len().min(BELIEVED));
        self.each_path(kinds.len(), |path| entries.push(Entry { path, node: Node::EmptyFolder, mtime: 0 }))?;
        for (entry, kind) in entries.iter_mut().zip(kinds) {
            entry.node = self.node(kind)?;
        }
        for entry in &mut entries {
            if let Node::File { content, .. } = &mut entry.node {
                *content = ContentId::from_bytes(*self.bytes(32)?.first_chunk()?);
            }
        }
        Some(entries)
    }

    /// Passes over entries, and says how many there are.
    fn pass_over_entries(&mut self) -> Option<usize> {
        let (count, mut kinds, mut text) = (self.number()?, Vec::new(), Vec::new());
        self.take(count, &mut kinds)?;
        for _ in &kinds {
            self.number()?;
            text.clear();
            self.text(&mut text)?;
        }
        for kind in &kinds {
            text.clear();
            match *kind {
                FILE | EXECUTABLE => drop(self.number()?),
                SYMLINK => self.text(&mut text)?,
                EMPTY_FOLDER => {}
                _ => return None,
            }
        }
        for _ in kinds.iter().filter(|kind| matches!(**kind, FILE | EXECUTABLE)) {
            self.bytes(32)?;
        }
        Some(kinds.len())
    }

    pub(super) fn times(&mut self, entries: &mut [Entry]) -> Option<()> {
        let mut last = 0i64;
        for entry in entries {
            last = last.wrapping_add(unzigzag(self.number()?));
            entry.mtime = last;
        }
        Some(())
    }
}

pub(super) fn put(out: &mut Vec<u8>, mut value: u64) {
    while value >= 0x80 {
        out.push(value.to_le_bytes()[0] | 0x80);
        value >>= 7;
    }
    out.push(value.to_le_bytes()[0]);
}

pub(super) fn put_bytes(out: &mut Vec<u8>, bytes: &[u8]) {
    put(out, bytes.len() as u64);
    out.extend_from_slice(bytes);
}

fn put_signed(out: &mut Vec<u8>, value: i64) {
    put(out, ((value << 1) ^ (value >> 63)).cast_unsigned());
}

fn unzigzag(value: u64) -> i64 {
    (value >> 1).cast_signed() ^ -((value & 1).cast_signed())
}
