//! What a twin's files looked like when they were last read, so that only changed ones are read again.
//!
//! Advisory: a lost or damaged index costs reading everything once more, never data. The format is written down in
//! `docs/formats.md`.

use std::fs::File;
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};

use crate::disk::{self, Stat};
use crate::error::{Error, Result};
use crate::ident::ListingId;
use crate::store::pool::Share;

const MAGIC: &[u8; 8] = b"ytindex\x01";
const ROW: usize = 8 + 8 + 8 + 8 + 4 + 1;
const HEAD: usize = 8 + 32 + 8 + 8;

/// So much is read at once.
const PIECE: usize = ROW * 4096;

/// What one file looked like. All zeros for a symlink or an empty folder.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct Row {
    pub(crate) ino: u64,
    pub(crate) mtime: i64,
    pub(crate) ctime: i64,
    /// Bytes that it takes on disk.
    pub(crate) allocated: u64,
    pub(crate) mode: u32,
    /// `None` for what is no file.
    pub(crate) share: Option<Share>,
}

impl Row {
    pub(crate) fn new(stat: &Stat, share: Share) -> Self {
        Self {
            ino: stat.ino,
            mtime: stat.mtime,
            ctime: stat.ctime,
            allocated: stat.allocated,
            mode: stat.mode,
            share: Some(share),
        }
    }

    /// Whether the file may have been written to after it was looked at, without any sign of it: a time stamp lies
    /// within the clock's grain of that moment.
    pub(crate) fn racy(&self, looked_at: i64, grain: i64) -> bool {
        self.ctime + grain >= looked_at || (self.mtime - looked_at).abs() <= grain
    }
}

/// One row for each entry of a listing, in the same order.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Index {
    /// The listing that the rows go with.
    pub(crate) listing: ListingId,
    /// The inode of the pool's folder at that time; another one now makes the index void.
    pub(crate) pool: u64,
    /// Every row was looked at when the filesystem's clock said this or more.
    pub(crate) looked_at: i64,
    pub(crate) rows: Vec<Row>,
}

impl Index {
    /// Whether it has a row for each of so many entries.
    pub(crate) fn fits(&self, entries: usize) -> bool {
        self.rows.len() == entries
    }

    /// Reads an index; `None` if there is none, or none that can be believed.
    pub(crate) fn load(path: &Path, listing: ListingId, pool: u64) -> Result<Option<Self>> {
        let file = match File::open(path) {
            Ok(file) => file,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
            Err(error) => return Err(Error::io("read", path, error)),
        };
        let len = file.metadata().map_err(|error| Error::io("look at", path, error))?.len();
        let index = Self::decode(file, len);
        Ok(index.filter(|index| index.listing == listing && index.pool == pool))
    }

    /// The listing that an index says it was made for; whether the rest of it can be believed is not looked at.
    pub(crate) fn made_for(path: &Path) -> Option<ListingId> {
        let mut head = [0; HEAD];
        File::open(path).ok()?.read_exact(&mut head).ok()?;
        let listing = head.strip_prefix(MAGIC)?.first_chunk()?;
        Some(ListingId::from_bytes(*listing))
    }

    /// Writes it as a whole: first at `staged`, on the same filesystem.
    pub(crate) fn save(&self, path: &Path, staged: &Path) -> Result<()> {
        disk::write_loose(path, staged, |out| self.encode(out))
    }

    pub(crate) fn encode(&self, out: &mut impl Write) -> io::Result<()> {
        let mut hasher = blake3::Hasher::new();
        let mut piece = Vec::with_capacity(PIECE);
        piece.extend_from_slice(MAGIC);
        piece.extend_from_slice(self.listing.as_bytes());
        piece.extend_from_slice(&self.pool.to_le_bytes());
        piece.extend_from_slice(&self.looked_at.to_le_bytes());
        for rows in self.rows.chunks(PIECE / ROW) {
            for row in rows {
                piece.extend_from_slice(&row.ino.to_le_bytes());
                piece.extend_from_slice(&row.mtime.to_le_bytes());
                piece.extend_from_slice(&row.ctime.to_le_bytes());
                piece.extend_from_slice(&row.allocated.to_le_bytes());
                piece.extend_from_slice(&row.mode.to_le_bytes());
                piece.push(share_code(row.share));
            }
            hasher.update(&piece);
            out.write_all(&piece)?;
            piece.clear();
        }
        hasher.update(&piece);
        out.write_all(&piece)?;
        out.write_all(hasher.finalize().as_bytes())
    }

    /// Reads one of `len` bytes, piece by piece.
    fn decode(mut file: impl Read, len: u64) -> Option<Self> {
        let mut head = [0; HEAD];
        file.read_exact(&mut head).ok()?;
        let mut left = usize::try_from(len).ok()?.checked_sub(HEAD + 32).filter(|rows| rows % ROW == 0)?;
        let mut hasher = blake3::Hasher::new();
        hasher.update(&head);
        let (magic, rest) = head.split_first_chunk::<8>()?;
        let (listing, rest) = rest.split_first_chunk::<32>()?;
        let (pool, rest) = rest.split_first_chunk::<8>()?;
        let looked_at = i64::from_le_bytes(rest.try_into().ok()?);
        let (mut rows, mut piece) = (Vec::with_capacity(left / ROW), vec![0; PIECE.min(left)]);
        while left > 0 {
            let piece = &mut piece[..PIECE.min(left)];
            file.read_exact(piece).ok()?;
            hasher.update(piece);
            for row in piece.as_chunks::<ROW>().0 {
                rows.push(decode_row(row)?);
            }
            left -= piece.len();
        }
        let mut check = [0; 32];
        file.read_exact(&mut check).ok()?;
        let whole = magic == MAGIC && *hasher.finalize().as_bytes() == check;
        let (listing, pool) = (ListingId::from_bytes(*listing), u64::from_le_bytes(*pool));
        whole.then_some(Self { listing, pool, looked_at, rows })
    }
}

fn decode_row(bytes: &[u8; ROW]) -> Option<Row> {
    let (ino, rest) = bytes.split_first_chunk()?;
    let (mtime, rest) = rest.split_first_chunk()?;
    let (ctime, rest) = rest.split_first_chunk()?;
    let (allocated, rest) = rest.split_first_chunk()?;
    let (mode, rest) = rest.split_first_chunk()?;
    Some(Row {
        ino: u64::from_le_bytes(*ino),
        mtime: i64::from_le_bytes(*mtime),
        ctime: i64::from_le_bytes(*ctime),
        allocated: u64::from_le_bytes(*allocated),
        mode: u32::from_le_bytes(*mode),
        share: share_of(*rest.first()?)?,
    })
}

fn share_code(share: Option<Share>) -> u8 {
    match share {
        None => 0,
        Some(Share::Reflink) => 1,
        Some(Share::Link) => 2,
        Some(Share::Copy) => 3,
        Some(Share::Own) => 4,
        Some(Share::Arrived) => 5,
    }
}

#[allow(clippy::option_option)]
fn share_of(code: u8) -> Option<Option<Share>> {
    Some(match code {
        0 => None,
        1 => Some(Share::Reflink),
        2 => Some(Share::Link),
        3 => Some(Share::Copy),
        4 => Some(Share::Own),
        5 => Some(Share::Arrived),
        _ => return None,
    })
}

/// Where a twin's index is.
pub(crate) fn index_path(folder: &Path) -> PathBuf {
    folder.join("index")
}

#[cfg(test)]
#[allow(clippy::unwrap_used)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn row() -> impl Strategy<Value = Row> {
        let share = prop::sample::select(vec![
            None,
            Some(Share::Reflink),
            Some(Share::Link),
            Some(Share::Copy),
            Some(Share::Own),
            Some(Share::Arrived),
        ]);
        (any::<(u64, i64, i64, u64, u32)>(), share).prop_map(|((ino, mtime, ctime, allocated, mode), share)| Row {
            ino,
            mtime,
            ctime,
            allocated,
            mode,
            share,
        })
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

        #[test]
        fn an_index_is_read_as_it_was_written_and_damage_makes_it_void(
            rows in prop::collection::vec(row(), 0..20),
            (pool, looked_at) in any::<(u64, i64)>(),
            at in any::<prop::sample::Index>(),
            flip in 1u8..,
        ) {
            let listing = ListingId::from_bytes([3; 32]);
            let index = Index { listing, pool, looked_at, rows };
            let mut bytes = Vec::new();
            index.encode(&mut bytes).unwrap();
            let decode = |bytes: &[u8]| Index::decode(bytes, bytes.len() as u64);
            prop_assert_eq!(decode(&bytes), Some(index));
            prop_assert_eq!(decode(&bytes[..at.index(bytes.len())]), None);
            let at = at.index(bytes.len());
            bytes[at] ^= flip;
            prop_assert_eq!(decode(&bytes), None);
        }
    }

    #[test]
    fn a_time_stamp_near_the_look_makes_a_row_racy_and_a_future_one_does_not() {
        let row = |mtime, ctime| Row { mtime, ctime, ..Row::default() };
        assert!(row(0, 995).racy(1000, 10) && row(0, 1000).racy(1000, 10) && row(0, 2000).racy(1000, 10));
        assert!(!row(0, 900).racy(1000, 10) && !row(5000, 900).racy(1000, 10));
        assert!(row(1001, 900).racy(1000, 10));
    }
}
