//! A ledger as it is written down, as `docs/formats.md` describes it.

use std::fs::File;
use std::io::{self, BufReader, Read, Seek, SeekFrom, Write};
use std::path::Path;
use std::sync::atomic::{AtomicBool, AtomicI64, Ordering};

use super::Row;
use crate::disk;

const MAGIC: &[u8; 8] = b"ytledgr\x01";
const HEAD: usize = 8 + 8;
pub(super) const CHECK: usize = 32;
const ROW: usize = 8 + 8 + 8 + 8 + 4 + 4 + 16;

/// So much is read and written at once.
const PIECE: usize = ROW * 4096;

/// Writes rows, and the hash of all at their end.
pub(super) struct Encoder<'a> {
    out: &'a mut File,
    hasher: blake3::Hasher,
    piece: Vec<u8>,
}

impl<'a> Encoder<'a> {
    /// With the head of a ledger of the pool's folder with that inode.
    pub(super) fn begin(out: &'a mut File, pool: u64) -> io::Result<Self> {
        let mut encoder = Self { out, hasher: blake3::Hasher::new(), piece: Vec::with_capacity(PIECE) };
        encoder.put(MAGIC)?;
        encoder.put(&pool.to_le_bytes())?;
        Ok(encoder)
    }

    fn put(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.piece.extend_from_slice(bytes);
        if self.piece.len() >= PIECE { self.flush() } else { Ok(()) }
    }

    fn flush(&mut self) -> io::Result<()> {
        self.hasher.update(&self.piece);
        self.out.write_all(&self.piece)?;
        self.piece.clear();
        Ok(())
    }

    pub(super) fn row(&mut self, row: &Row) -> io::Result<()> {
        let mut bytes = [0; ROW];
        bytes[..8].copy_from_slice(&row.ino.to_le_bytes());
        bytes[8..16].copy_from_slice(&row.size.to_le_bytes());
        bytes[16..24].copy_from_slice(&row.mtime.to_le_bytes());
        bytes[24..32].copy_from_slice(&row.ctime.load(Ordering::Relaxed).to_le_bytes());
        bytes[32..36].copy_from_slice(&row.mode.to_le_bytes());
        bytes[40..].copy_from_slice(&row.half);
        self.put(&bytes)
    }

    pub(super) fn end(mut self) -> io::Result<()> {
        self.flush()?;
        self.out.write_all(self.hasher.finalize().as_bytes())
    }
}

/// The hash at the end of a ledger.
pub(super) fn check_of(path: &Path) -> io::Result<[u8; CHECK]> {
    let (mut file, mut check) = (disk::open_file(rustix::fs::CWD, path)?, [0; CHECK]);
    file.seek(SeekFrom::End(-(CHECK as i64)))?;
    file.read_exact(&mut check)?;
    Ok(check)
}

/// The rows of a ledger that is whole and that of a pool's folder with this inode, and its hash.
pub(super) fn decode(file: &File, pool: u64) -> Option<([u8; CHECK], Vec<Row>)> {
    let len = usize::try_from(file.metadata().ok()?.len()).ok()?;
    let mut left = len.checked_sub(HEAD + CHECK).filter(|rows| rows % ROW == 0)?;
    let mut file = BufReader::with_capacity(PIECE, file);
    let mut hasher = blake3::Hasher::new();
    let mut head = [0; HEAD];
    file.read_exact(&mut head).ok()?;
    hasher.update(&head);
    if head.strip_prefix(MAGIC)? != pool.to_le_bytes() {
        return None;
    }
    let (mut rows, mut piece) = (Vec::<Row>::new(), vec![0; PIECE.min(left)]);
    // Somebody may have made the file as long as no memory is.
    rows.try_reserve_exact(left / ROW).ok()?;
    while left > 0 {
        let piece = &mut piece[..PIECE.min(left)];
        file.read_exact(piece).ok()?;
        hasher.update(piece);
        for row in piece.as_chunks::<ROW>().0.iter().map(row_of) {
            if rows.last().is_some_and(|last| last.ino >= row.ino) {
                return None;
            }
            rows.push(row);
        }
        left -= piece.len();
    }
    let mut check = [0; CHECK];
    file.read_exact(&mut check).ok()?;
    (*hasher.finalize().as_bytes() == check).then_some((check, rows))
}

fn row_of(bytes: &[u8; ROW]) -> Row {
    let eight = |at: usize| {
        let mut eight = [0; 8];
        eight.copy_from_slice(&bytes[at..at + 8]);
        eight
    };
    let (mut mode, mut half) = ([0; 4], [0; 16]);
    mode.copy_from_slice(&bytes[32..36]);
    half.copy_from_slice(&bytes[40..]);
    Row {
        ino: u64::from_le_bytes(eight(0)),
        size: u64::from_le_bytes(eight(8)),
        mtime: i64::from_le_bytes(eight(16)),
        ctime: AtomicI64::new(i64::from_le_bytes(eight(24))),
        mode: u32::from_le_bytes(mode),
        found_out: AtomicBool::new(false),
        half,
    }
}
