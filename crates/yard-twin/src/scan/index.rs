//! What a twin's files and folders looked like when they were last read, so that only changed ones are read again.
//!
//! Advisory: a lost or damaged index costs reading everything once more, never data. The format is written down in
//! `docs/formats.md`.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};

use super::standing::{FolderRow, Folders, Looked, Placed, Shape, Stamp, Standing};
use crate::disk::{self, Stat};
use crate::error::{Error, Result};
use crate::ident::ListingId;
use crate::listing::Listing;
use crate::store::pool::Share;

const MAGIC: &[u8; 8] = b"ytindex\x04";
const HEAD: usize = 8 + 8 + 8 + 8 + 8 + 32 + 8 + 8 + 8 + 8;
const FOLDER: usize = 8 + 8 + 4 + 4 + 4;
const ROW: usize = 8 + 8 + 8 + 8 + 8 + 4 + 1 + 1 + 2 + 4 + 4 + 16;
/// The listing's id, and a hash of all before it and of that.
const TAIL: usize = 32 + 32;

/// So many rows are read and written at once.
const PIECE: usize = 4096;

/// What one file or symlink looked like. All zeros for an empty folder, and for what is to be read again.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct Row {
    pub(crate) ino: u64,
    pub(crate) size: u64,
    pub(crate) mtime: i64,
    pub(crate) ctime: i64,
    /// Bytes that it takes on disk.
    pub(crate) allocated: u64,
    pub(crate) mode: u32,
    /// How many names it has, or so many that it hardly matters.
    pub(crate) links: u16,
    /// `None` for what is no file.
    pub(crate) share: Option<Share>,
}

impl Row {
    pub(crate) fn new(stat: &Stat, share: Share) -> Self {
        Self { share: Some(share), ..Self::of_symlink(stat) }
    }

    pub(crate) fn of_symlink(stat: &Stat) -> Self {
        Self {
            ino: stat.ino,
            size: stat.size,
            mtime: stat.mtime,
            ctime: stat.ctime,
            allocated: stat.allocated,
            mode: stat.mode,
            links: u16::try_from(stat.nlink).unwrap_or(u16::MAX),
            share: None,
        }
    }

    /// The row of a file of ours that was moved, by how it looks since. Whoever wrote to it in between has it read again.
    pub(crate) fn moved_to(&self, now: &Stat) -> Self {
        let same = (self.ino, self.size, self.mtime, self.mode) == (now.ino, now.size, now.mtime, now.mode);
        self.share.filter(|_| same).map_or_else(Self::default, |share| Self::new(now, share))
    }

    /// As far as it is known how the file looked on that device: a link's file has one more name in the pool, whatever became
    /// of those in other twins.
    pub(super) fn stat(&self, dev: u64) -> Stat {
        let Self { ino, size, mtime, ctime, allocated, mode, links, share } = *self;
        let nlink = if share == Some(Share::Link) { u32::MAX } else { u32::from(links) };
        Stat { dev, ino, size, mtime, ctime, allocated, mode, nlink, ..Stat::default() }
    }

    /// Whether the file may have been written to after it was looked at, without any sign of it: a time stamp lies
    /// within the clock's grain of that moment.
    pub(crate) fn racy(&self, looked_at: i64, grain: i64) -> bool {
        self.ctime + grain >= looked_at || (self.mtime - looked_at).abs() <= grain
    }

    /// Whether nothing has touched it since: not even another link to it.
    pub(super) fn fits(&self, stat: &Stat) -> bool {
        *self == Self { share: self.share, ..Self::of_symlink(stat) }
    }

    fn put(&self, placed: &Placed, out: &mut Vec<u8>) {
        for number in [self.ino, self.size, self.mtime.cast_unsigned(), self.ctime.cast_unsigned(), self.allocated] {
            out.extend_from_slice(&number.to_le_bytes());
        }
        out.extend_from_slice(&self.mode.to_le_bytes());
        out.extend_from_slice(&[share_code(self.share), u8::from(placed.executable)]);
        out.extend_from_slice(&self.links.to_le_bytes());
        out.extend_from_slice(&placed.folder.to_le_bytes());
        out.extend_from_slice(&placed.name_end.to_le_bytes());
        out.extend_from_slice(&placed.half);
    }

    fn read(bytes: &[u8; ROW]) -> Option<(Self, Placed)> {
        let mut fields = Fields(bytes);
        let row = Self {
            ino: fields.long()?,
            size: fields.long()?,
            mtime: fields.time()?,
            ctime: fields.time()?,
            allocated: fields.long()?,
            mode: fields.short()?,
            links: 0,
            share: None,
        };
        let [share, executable] = fields.take()?;
        let links = u16::from_le_bytes(fields.take()?);
        let (folder, name_end, half) = (fields.short()?, fields.short()?, fields.take()?);
        let placed = Placed { folder, name_end, half, executable: executable != 0 };
        Some((Self { share: share_of(share)?, links, ..row }, placed))
    }
}

/// The numbers of a row, one after the other.
struct Fields<'a>(&'a [u8]);

impl Fields<'_> {
    fn take<const N: usize>(&mut self) -> Option<[u8; N]> {
        let (field, rest) = self.0.split_first_chunk()?;
        self.0 = rest;
        Some(*field)
    }

    fn long(&mut self) -> Option<u64> {
        self.take().map(u64::from_le_bytes)
    }

    fn time(&mut self) -> Option<i64> {
        self.take().map(i64::from_le_bytes)
    }

    fn short(&mut self) -> Option<u32> {
        self.take().map(u32::from_le_bytes)
    }
}

/// One row for each entry of a listing, in the same order.
#[derive(Debug)]
pub(crate) struct Index {
    /// The listing that the rows go with.
    pub(crate) listing: ListingId,
    /// The inode of the pool's folder at that time; another one now makes the index void.
    pub(crate) pool: u64,
    /// Every row was looked at when the filesystem's clock said this or more.
    pub(crate) looked_at: i64,
    pub(crate) rows: Vec<Row>,
    /// What the rows are rows of, once it was read from a file.
    pub(crate) standing: Option<Standing>,
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
        let (mut magic, mut listing) = ([0; MAGIC.len()], [0; 32]);
        let mut file = File::open(path).ok()?;
        file.read_exact(&mut magic).ok().filter(|()| magic == *MAGIC)?;
        file.seek(SeekFrom::End(-(TAIL as i64))).ok()?;
        file.read_exact(&mut listing).ok()?;
        Some(ListingId::from_bytes(listing))
    }

    /// Reads one of `len` bytes, piece by piece.
    fn decode(file: impl Read, len: u64) -> Option<Self> {
        let mut file = Hashed { inner: file, hasher: blake3::Hasher::new() };
        let head = file.read_array::<HEAD>()?;
        let mut fields = Fields(&head);
        let (magic, pool, looked_at) = (fields.take::<8>()?, fields.long()?, fields.time()?);
        let (device, grain, sheet, quiet) = (fields.long()?, fields.time()?, fields.take()?, fields.long()? == 1);
        let mut count = || usize::try_from(fields.long()?).ok();
        let (folders, entries, names) = (count()?, count()?, count()?);
        let all = folders.checked_mul(FOLDER)?.checked_add(entries.checked_mul(ROW)?)?.checked_add(names)?;
        // Somebody may have written down as many as no memory holds.
        if magic != *MAGIC || all.checked_add(HEAD + TAIL)? as u64 != len {
            return None;
        }
        let mut shape = Shape::default();
        let mut rows = Vec::with_capacity(entries);
        shape.folders.reserve_exact(folders);
        shape.placed.reserve_exact(entries);
        file.each_row(folders, |row: &[u8; FOLDER]| {
            let mut fields = Fields(row);
            let (ino, ctime) = (fields.long()?, fields.time()?);
            let (parent, name_end, holds_more) = (fields.short()?, fields.short()?, fields.short()? == 1);
            shape.folders.push(FolderRow { stamp: Stamp { ino, ctime, holds_more }, parent, name_end });
            Some(())
        })?;
        file.each_row(entries, |row: &[u8; ROW]| {
            let (row, placed) = Row::read(row)?;
            rows.push(row);
            shape.placed.push(placed);
            Some(())
        })?;
        shape.names = vec![0; names];
        file.read(&mut shape.names)?;
        let listing = ListingId::from_bytes(file.read_array()?);
        let right = *file.hasher.finalize().as_bytes();
        let mut check = [0; 32];
        file.inner.read_exact(&mut check).ok()?;
        let standing = (right == check).then(|| Standing::of(Looked { device, grain, sheet, quiet }, shape))??;
        Some(Self { listing, pool, looked_at, rows, standing: Some(standing) })
    }
}

/// Reads through a hash.
struct Hashed<R> {
    inner: R,
    hasher: blake3::Hasher,
}

impl<R: Read> Hashed<R> {
    fn read(&mut self, bytes: &mut [u8]) -> Option<()> {
        self.inner.read_exact(bytes).ok()?;
        self.hasher.update(bytes);
        Some(())
    }

    fn read_array<const N: usize>(&mut self) -> Option<[u8; N]> {
        let mut bytes = [0; N];
        self.read(&mut bytes)?;
        Some(bytes)
    }

    fn each_row<const N: usize>(&mut self, rows: usize, mut each: impl FnMut(&[u8; N]) -> Option<()>) -> Option<()> {
        let mut piece = vec![0; N * PIECE.min(rows)];
        let mut left = rows;
        while left > 0 {
            let piece = &mut piece[..N * PIECE.min(left)];
            self.read(piece)?;
            piece.as_chunks::<N>().0.iter().try_for_each(&mut each)?;
            left -= piece.len() / N;
        }
        Some(())
    }
}

/// An index as it is to be written down.
pub(crate) struct NewIndex<'a> {
    /// What the rows are rows of.
    pub(crate) listing: &'a Listing,
    pub(crate) rows: &'a [Row],
    pub(crate) pool: u64,
    pub(crate) looked_at: i64,
    /// How folders looked; those that are missing are listed at the next look.
    pub(crate) folders: &'a Folders,
}

impl NewIndex<'_> {
    /// Writes it as a whole: first at `staged`, on the same filesystem.
    pub(crate) fn save(&self, path: &Path, staged: &Path) -> Result<()> {
        disk::write_loose(path, staged, |out| self.encode(out))
    }

    /// Writes it down for a rename to its place.
    pub(crate) fn stage(&self, staged: &Path) -> Result<()> {
        disk::write_staged(staged, |out| self.encode(out))
    }

    fn encode(&self, out: &mut impl Write) -> io::Result<()> {
        let shape = Shape::of(self.listing, self.folders);
        let mut hasher = blake3::Hasher::new();
        let mut put = |piece: &mut Vec<u8>| {
            hasher.update(piece);
            out.write_all(piece)?;
            piece.clear();
            io::Result::Ok(())
        };
        let mut piece = self.head(&shape);
        for folder in &shape.folders {
            piece.extend_from_slice(&folder.stamp.ino.to_le_bytes());
            piece.extend_from_slice(&folder.stamp.ctime.to_le_bytes());
            piece.extend_from_slice(&folder.parent.to_le_bytes());
            piece.extend_from_slice(&folder.name_end.to_le_bytes());
            piece.extend_from_slice(&u32::from(folder.stamp.holds_more).to_le_bytes());
        }
        put(&mut piece)?;
        for (rows, placed) in self.rows.chunks(PIECE).zip(shape.placed.chunks(PIECE)) {
            rows.iter().zip(placed).for_each(|(row, placed)| row.put(placed, &mut piece));
            put(&mut piece)?;
        }
        let mut names = shape.names;
        put(&mut names)?;
        // Last, since to work it out takes about as long as the rest, and is done beside it.
        put(&mut self.listing.id().as_bytes().to_vec())?;
        out.write_all(hasher.finalize().as_bytes())
    }

    fn head(&self, shape: &Shape) -> Vec<u8> {
        let Looked { device, grain, sheet, quiet } = self.folders.looked;
        let long = |number: usize| (number as u64).to_le_bytes();
        let mut head = Vec::with_capacity(HEAD + shape.folders.len() * FOLDER);
        head.extend_from_slice(MAGIC);
        head.extend_from_slice(&self.pool.to_le_bytes());
        head.extend_from_slice(&self.looked_at.to_le_bytes());
        head.extend_from_slice(&device.to_le_bytes());
        head.extend_from_slice(&grain.to_le_bytes());
        head.extend_from_slice(&sheet);
        head.extend_from_slice(&u64::from(quiet).to_le_bytes());
        head.extend_from_slice(&long(shape.folders.len()));
        head.extend_from_slice(&long(shape.placed.len()));
        head.extend_from_slice(&long(shape.names.len()));
        head
    }
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
    use crate::ident::ContentId;
    use crate::listing::{Entry, Node};
    use crate::path::RelPath;
    use crate::store::pool::{Half, half};

    fn row() -> impl Strategy<Value = Row> {
        let share = prop::sample::select(vec![
            None,
            Some(Share::Reflink),
            Some(Share::Link),
            Some(Share::Copy),
            Some(Share::Own),
            Some(Share::Arrived),
        ]);
        let numbers = any::<(u64, u64, i64, i64, u64, u32, u16)>();
        (numbers, share).prop_map(|((ino, size, mtime, ctime, allocated, mode, links), share)| Row {
            ino,
            size,
            mtime,
            ctime,
            allocated,
            mode,
            links,
            share,
        })
    }

    /// A listing of some files, with their rows.
    fn rows() -> impl Strategy<Value = (Listing, Vec<Row>)> {
        let path = "(game|home)(/d[0-2]){0,3}/f[0-9]";
        prop::collection::btree_map(path, (row(), any::<bool>()), 0..20).prop_map(|files| {
            let mut files: Vec<_> = files.into_iter().map(|(path, file)| (RelPath::new(path).unwrap(), file)).collect();
            files.sort_by(|a, b| a.0.cmp(&b.0));
            let rows = files.iter().map(|(_, (row, _))| *row).collect();
            let entries = files.into_iter().map(|(path, (row, executable))| {
                let content = ContentId::from_bytes(*blake3::hash(path.as_str().as_bytes()).as_bytes());
                Entry { path, node: Node::File { size: row.size, content, executable }, mtime: row.mtime }
            });
            (Listing::new(entries.collect()).unwrap(), rows)
        })
    }

    type PlacedEntry = (String, bool, Half);

    /// The paths of the entries, with what else there is to an entry, and the stamps of folders, as they were read.
    fn placed(standing: &Standing, root: &str) -> (Vec<PlacedEntry>, Vec<(String, Stamp)>) {
        let (mut entries, mut stamps) = (Vec::new(), Vec::new());
        let mut folders = vec![(standing.root(root).unwrap(), root.to_owned())];
        while let Some((folder, path)) = folders.pop() {
            for &entry in standing.entries(folder) {
                let (name, placed) = (standing.entry_name(entry).unwrap(), standing.placed(entry).unwrap());
                entries.push((format!("{path}/{}", name.to_str().unwrap()), placed.executable, placed.half));
            }
            for &below in standing.folders(folder) {
                let name = standing.folder_name(below).unwrap();
                assert_eq!(standing.folder_in(folder, name), Some(below));
                folders.push((below, format!("{path}/{name}")));
            }
            stamps.push((path, standing.stamp(folder).unwrap()));
        }
        (entries, stamps)
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

        #[test]
        fn an_index_is_read_as_it_was_written_and_damage_makes_it_void(
            (listing, rows) in rows(),
            (pool, looked_at) in any::<(u64, i64)>(),
            (device, grain, sheet, quiet) in any::<(u64, i64, [u8; 32], bool)>(),
            stamps in prop::collection::hash_map("game(/d[0-2]){0,3}", any::<(u64, i64, bool)>(), 0..10),
            at in any::<prop::sample::Index>(),
            flip in 1u8..,
        ) {
            let stamp = |(path, (ino, ctime, holds_more))| (RelPath::new(path).unwrap(), Stamp { ino, ctime, holds_more });
            let looked = Looked { device, grain, sheet, quiet };
            let folders = Folders { looked, stamps: stamps.into_iter().map(stamp).collect() };
            let mut bytes = Vec::new();
            NewIndex { listing: &listing, rows: &rows, pool, looked_at, folders: &folders }.encode(&mut bytes).unwrap();
            let decode = |bytes: &[u8]| Index::decode(bytes, bytes.len() as u64);
            let index = decode(&bytes).unwrap();
            prop_assert_eq!((index.listing, index.pool, index.looked_at), (listing.id(), pool, looked_at));
            prop_assert_eq!(&index.rows, &rows);
            let standing = index.standing.unwrap();
            prop_assert_eq!(standing.looked, looked);
            let (mut entries, mut seen) = placed(&standing, "game");
            let home = placed(&standing, "home");
            entries.extend(home.0);
            seen.extend(home.1);
            entries.sort();
            let mut there: Vec<_> = listing.entries().iter().map(|entry| {
                let Node::File { content, executable, .. } = entry.node else { unreachable!() };
                (entry.path.to_string(), executable, half(content))
            }).collect();
            there.sort();
            prop_assert_eq!(entries, there);
            for (path, stamp) in seen {
                prop_assert_eq!(stamp, folders.stamps.get(path.as_str()).copied().unwrap_or_default());
            }
            prop_assert!(decode(&bytes[..at.index(bytes.len())]).is_none());
            let at = at.index(bytes.len());
            bytes[at] ^= flip;
            prop_assert!(decode(&bytes).is_none());
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
