//! The canonical stream of a listing, and the file that keeps it: flat columns, compressed with zstd.
//!
//! The format is written down in `docs/formats.md`. The stream has one encoding per listing, so that its BLAKE3 is the
//! listing's id; times follow it in the file but are no part of it.

use std::io::{self, Read, Write};

use zstd::stream::Encoder;

use super::{Entry, Listing, Node};
use crate::error::{Error, Result};
use crate::ident::{ContentId, ListingId};
use crate::path::RelPath;

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
    canonical(&listing.entries, &mut piece, |piece| {
        hasher.update(piece);
        piece.clear();
    });
    hasher.update(&piece);
    ListingId::from_bytes(*hasher.finalize().as_bytes())
}

/// The file of a listing as a whole.
pub(super) fn encode(listing: &Listing) -> Result<Vec<u8>> {
    let mut packer = packer(MAGIC.to_vec())?;
    columns(&listing.entries, &mut packer).and_then(|()| packer.finish()).map_err(packing)
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

/// Reads a whole listing; one that keeps only what differs from another is for [`super::delta`].
pub(super) fn decode(bytes: &[u8], id: ListingId) -> Result<Listing, String> {
    let columns = unpack(bytes.strip_prefix(MAGIC).ok_or("it does not begin as a listing does")?)?;
    let mut reader = Reader { rest: &columns };
    let mut entries = reader.entries().ok_or(CUT_OFF)?;
    let canonical = &columns[..columns.len() - reader.rest.len()];
    if blake3::hash(canonical).as_bytes() != id.as_bytes() {
        return Err(NOT_ITSELF.into());
    }
    reader.times(&mut entries).filter(|()| reader.rest.is_empty()).ok_or("its times are cut off")?;
    Listing::new(entries).map_err(|e| e.to_string())
}

pub(super) const CUT_OFF: &str = "it ends too early or holds what no listing holds";
pub(super) const NOT_ITSELF: &str = "it is not what its name says";

/// Decompresses columns, up to a limit that no yard reaches.
pub(super) fn unpack(packed: &[u8]) -> Result<Vec<u8>, String> {
    let decoder = zstd::stream::Decoder::new(packed).map_err(|e| e.to_string())?;
    let mut columns = Vec::new();
    decoder.take(DECODED_MAX).read_to_end(&mut columns).map_err(|e| e.to_string())?;
    Ok(columns)
}

/// Reads columns; every step answers `None` where the bytes make no sense.
pub(super) struct Reader<'a> {
    pub(super) rest: &'a [u8],
}

impl Reader<'_> {
    pub(super) fn number(&mut self) -> Option<u64> {
        let mut value = 0u64;
        for shift in (0..64).step_by(7) {
            let (&byte, rest) = self.rest.split_first()?;
            self.rest = rest;
            value |= u64::from(byte & 0x7f).checked_shl(shift)?;
            if byte & 0x80 == 0 {
                return Some(value);
            }
        }
        None
    }

    fn take(&mut self, len: u64) -> Option<&[u8]> {
        let (head, rest) = self.rest.split_at_checked(usize::try_from(len).ok()?)?;
        self.rest = rest;
        Some(head)
    }

    fn bytes(&mut self) -> Option<&[u8]> {
        let len = self.number()?;
        self.take(len)
    }

    pub(super) fn paths(&mut self, count: usize) -> Option<Vec<RelPath>> {
        let mut paths = Vec::new();
        let mut last = Vec::new();
        for _ in 0..count {
            let shared = usize::try_from(self.number()?).ok()?;
            if shared > last.len() {
                return None;
            }
            last.truncate(shared);
            last.extend_from_slice(self.bytes()?);
            paths.push(RelPath::new(std::str::from_utf8(&last).ok()?).ok()?);
        }
        Some(paths)
    }

    fn node(&mut self, kind: u8) -> Option<Node> {
        let unknown = ContentId::from_bytes([0; 32]);
        Some(match kind {
            FILE | EXECUTABLE => Node::File { content: unknown, size: self.number()?, executable: kind == EXECUTABLE },
            SYMLINK => Node::Symlink { target: std::str::from_utf8(self.bytes()?).ok()?.into() },
            EMPTY_FOLDER => Node::EmptyFolder,
            _ => return None,
        })
    }

    pub(super) fn entries(&mut self) -> Option<Vec<Entry>> {
        let count = self.number()?;
        let kinds = self.take(count)?.to_vec();
        let paths = self.paths(kinds.len())?;
        let mut entries = Vec::with_capacity(kinds.len());
        for (path, &kind) in paths.into_iter().zip(&kinds) {
            entries.push(Entry { path, node: self.node(kind)?, mtime: 0 });
        }
        for entry in &mut entries {
            if let Node::File { content, .. } = &mut entry.node {
                *content = ContentId::from_bytes(self.take(32)?.try_into().ok()?);
            }
        }
        Some(entries)
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
