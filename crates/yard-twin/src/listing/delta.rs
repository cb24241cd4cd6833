//! A listing kept as what differs from another one, so that a snapshot of a few changes among many files costs little.
//!
//! Depth is one: what it differs from is kept whole. The format is written down in `docs/formats.md`.

use std::io::{Read, Write};

use super::encode::{self, CUT_OFF, Reader, put, put_bytes};
use super::splice::overlay_in;
use super::{Entry, Layer, Listing};
use crate::error::Result;
use crate::ident::ListingId;

const MAGIC: &[u8; 8] = b"ytdelta\x01";

/// Bytes at the beginning of a file that say which kind it is.
pub(crate) const HEAD: usize = 40;

/// What a listing's file holds.
pub(crate) enum Packed {
    /// All of it.
    Whole(Listing),
    /// How it differs from another one.
    Delta {
        /// The other one.
        base: ListingId,
        /// What differs.
        layer: Layer,
    },
}

/// The file of a listing that is `base` with `layer` on top.
pub(crate) fn encode(base: ListingId, layer: &Layer) -> Result<Vec<u8>> {
    let gone: Vec<_> = layer.changes().iter().filter(|(_, entry)| entry.is_none()).map(|(path, _)| path).collect();
    let entries: Vec<Entry> = layer.changes().iter().filter_map(|(_, entry)| entry.clone()).collect();
    let mut paths = Vec::new();
    put(&mut paths, gone.len() as u64);
    for path in gone {
        // Nothing is shared with the path before: there are few of them.
        put(&mut paths, 0);
        put_bytes(&mut paths, path.as_str().as_bytes());
    }
    let mut packer = encode::packer([MAGIC.as_slice(), base.as_bytes()].concat())?;
    packer
        .write_all(&paths)
        .and_then(|()| encode::columns(&entries, &mut packer))
        .and_then(|()| packer.finish())
        .map_err(encode::packing)
}

/// Reads a listing's file of either kind; a whole one is checked against `id`. Memory is that of the listing.
pub(crate) fn decode(mut file: impl Read, id: ListingId) -> Result<Packed, String> {
    let (mut magic, mut base) = ([0; 8], [0; 32]);
    file.read_exact(&mut magic).map_err(|_| CUT_OFF)?;
    if encode::is_whole(magic) {
        return encode::decode(file, id).map(Packed::Whole);
    }
    if magic != *MAGIC {
        return Err("it does not begin as a listing does".into());
    }
    file.read_exact(&mut base).map_err(|_| CUT_OFF)?;
    let mut reader = Reader::new(file)?;
    let layer = read(&mut reader).filter(|_| reader.is_at_end()).ok_or(CUT_OFF)?;
    Ok(Packed::Delta { base: ListingId::from_bytes(base), layer })
}

/// Whether a listing's file keeps it whole, and is that of `id`; `None` for one that keeps a difference. None of it is kept.
pub(crate) fn verify_whole(mut file: impl Read, id: ListingId) -> Option<Result<(), String>> {
    let mut magic = [0; 8];
    let read = file.read_exact(&mut magic);
    (read.is_ok() && encode::is_whole(magic)).then(|| encode::verify(file, id))
}

/// The listing that another one is kept as a difference from, by the first [`HEAD`] bytes of its file.
pub(crate) fn base(head: &[u8]) -> Option<ListingId> {
    head.strip_prefix(MAGIC)?.first_chunk().map(|base| ListingId::from_bytes(*base))
}

fn read(reader: &mut Reader<impl Read>) -> Option<Layer> {
    let count = usize::try_from(reader.number()?).ok()?;
    let gone = reader.paths(count)?;
    let mut entries = reader.entries()?;
    reader.times(&mut entries)?;
    let gone = gone.into_iter().map(|path| (path, None));
    let there = entries.into_iter().map(|entry| (entry.path.clone(), Some(entry)));
    Layer::new(gone.chain(there).collect()).ok()
}

/// The listing that differs so from `base`.
pub(crate) fn resolve(base: Listing, layer: &Layer, id: ListingId) -> Result<Listing, String> {
    let listing = overlay_in(base, layer).map_err(|e| e.to_string())?;
    if listing.id() == id { Ok(listing) } else { Err(encode::NOT_ITSELF.into()) }
}
