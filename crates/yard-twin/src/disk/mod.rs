//! The file operations that everything else is built from: each a thin, named step with its path in its errors.
//!
//! Looking and reading is here; all that changes the disk is in [`change`].

mod change;
#[cfg(test)]
pub(crate) mod fault;
mod folders;
mod hands;
pub(crate) mod lock;
pub(crate) mod op_folder;
mod tree;

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::os::fd::{AsFd, OwnedFd};
use std::path::{Path, PathBuf};

use rustix::fs::{CWD, FileType, Mode, OFlags};
use rustix::io::Errno;

pub(crate) use change::{
    At, append, change_mode, change_mode_of, create_exact, create_file, exchange, link, make_folder, make_folder_at,
    make_folders, make_guarded, move_new, open_own, reflink, remove_attribute, remove_file, remove_file_at,
    remove_folder, remove_folder_at, remove_if_there, remove_tree, rename, rename_at, rename_new, replace_loose,
    set_attribute, set_mode, set_mtime, symlink, sync, sync_filesystem, sync_folder, sync_rename, write, write_json,
    write_loose, write_staged, write_synced, write_synced_by, write_whole,
};

pub(crate) use folders::Folders;
pub(crate) use hands::{flush, in_other_hands, is_held};
pub(crate) use tree::{remove_tree as remove_tree_telling, remove_tree_by};

use crate::error::{Error, PathContext, Result};

/// Bytes read at once; each thread has one such buffer.
pub(crate) const BUFFER: usize = 256 << 10;

/// Makes a buffer ready that is kept from file to file, where the first one needs it.
pub(crate) fn ready(buffer: &mut Vec<u8>) {
    if buffer.len() < BUFFER {
        *buffer = vec![0; BUFFER];
    }
}

/// Files from this size on are read first, the largest first, so that none of them ends the work alone.
pub(crate) const LARGE: u64 = 4 << 20;

/// What the system knows about a file without reading it. Times are nanoseconds since 1970.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct Stat {
    pub(crate) dev: u64,
    pub(crate) ino: u64,
    pub(crate) size: u64,
    pub(crate) mtime: i64,
    pub(crate) ctime: i64,
    pub(crate) mode: u32,
    /// How many names it has. (Linux counts up to this many, and numbers devices with as many bits.)
    pub(crate) nlink: u32,
    /// Which device it is, if it is one.
    pub(crate) rdev: u32,
    pub(crate) uid: u32,
    /// Bytes that its blocks take on disk; fewer than `size` if it has holes.
    pub(crate) allocated: u64,
}

impl Stat {
    /// Whether a file with this mode counts as executable.
    pub(crate) fn executable(&self) -> bool {
        self.mode & 0o111 != 0
    }

    /// Whether it is an ordinary file.
    pub(crate) fn is_file(&self) -> bool {
        FileType::from_raw_mode(self.mode) == FileType::RegularFile
    }

    /// Whether nobody wrote to the file between two looks at it. Another link to it does not count.
    pub(crate) fn same_bytes(&self, other: &Self) -> bool {
        (self.dev, self.ino, self.size, self.mtime) == (other.dev, other.ino, other.size, other.mtime)
            && (self.ctime == other.ctime || self.nlink != other.nlink)
    }
}

impl From<rustix::fs::Stat> for Stat {
    // The field types differ between architectures.
    #[allow(clippy::unnecessary_cast, clippy::cast_lossless, clippy::cast_sign_loss, clippy::useless_conversion)]
    fn from(stat: rustix::fs::Stat) -> Self {
        let nanos = |seconds: i64, nanos: i64| seconds.saturating_mul(1_000_000_000).saturating_add(nanos);
        Self {
            dev: stat.st_dev as u64,
            ino: stat.st_ino as u64,
            size: stat.st_size as u64,
            mtime: nanos(stat.st_mtime as i64, stat.st_mtime_nsec as i64),
            ctime: nanos(stat.st_ctime as i64, stat.st_ctime_nsec as i64),
            mode: stat.st_mode as u32,
            nlink: u32::try_from(stat.st_nlink).unwrap_or(u32::MAX),
            rdev: u32::try_from(stat.st_rdev).unwrap_or(u32::MAX),
            uid: stat.st_uid,
            allocated: (stat.st_blocks as u64).saturating_mul(512),
        }
    }
}

/// The stat of an open file.
pub(crate) fn fstat(file: impl AsFd) -> io::Result<Stat> {
    Ok(rustix::fs::fstat(file)?.into())
}

/// The stat of a path, of the link itself if it is one.
pub(crate) fn lstat(path: &Path) -> io::Result<Stat> {
    Ok(rustix::fs::lstat(path)?.into())
}

/// The stat of a name in an open folder, of the link itself if it is one.
pub(crate) fn stat_at(at: impl AsFd, name: impl rustix::path::Arg) -> io::Result<Stat> {
    Ok(rustix::fs::statat(at, name, rustix::fs::AtFlags::SYMLINK_NOFOLLOW)?.into())
}

/// The names of an open file's extended attributes; none where the filesystem has no such thing.
pub(crate) fn attributes(file: impl AsFd) -> io::Result<Vec<String>> {
    attribute_names(|| rustix::fs::flistxattr_query(&file), |list| rustix::fs::flistxattr(&file, list))
}

/// The same of what is at a path, which is followed.
pub(crate) fn attributes_by_path(path: &str) -> io::Result<Vec<String>> {
    attribute_names(|| rustix::fs::listxattr_query(path), |list| rustix::fs::listxattr(path, list))
}

fn attribute_names(
    size: impl Fn() -> rustix::io::Result<usize>,
    listed: impl Fn(&mut [u8]) -> rustix::io::Result<usize>,
) -> io::Result<Vec<String>> {
    let mut list = Vec::new();
    loop {
        let size = match size() {
            Ok(0) | Err(Errno::OPNOTSUPP) => return Ok(Vec::new()),
            size => size?,
        };
        list.resize(size, 0);
        match listed(&mut list) {
            // It has more of them by now.
            Err(Errno::RANGE) => continue,
            length => list.truncate(length?),
        }
        let names = list.split(|byte| *byte == 0).filter(|name| !name.is_empty());
        return Ok(names.map(|name| String::from_utf8_lossy(name).into_owned()).collect());
    }
}

/// Those of a file's attributes that somebody gave it, other than the system by itself.
pub(crate) fn given(names: &[String]) -> impl Iterator<Item = &str> {
    names.iter().map(String::as_str).filter(|name| name.starts_with("user.") || *name == "system.posix_acl_access")
}

/// Whether something is there, a broken symlink too.
pub(crate) fn exists(path: &Path) -> bool {
    path.symlink_metadata().is_ok()
}

/// Opens a folder; a symlink to one is refused.
pub(crate) fn open_folder(at: impl AsFd, name: impl rustix::path::Arg) -> io::Result<OwnedFd> {
    let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    Ok(rustix::fs::openat(at, name, flags, Mode::empty())?)
}

/// A descriptor of whatever is at a name, which no mode forbids; for looking at it only.
pub(crate) fn hold(at: impl AsFd, name: impl rustix::path::Arg) -> io::Result<OwnedFd> {
    let flags = OFlags::PATH | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    Ok(rustix::fs::openat(at, name, flags, Mode::empty())?)
}

/// Opens a file for reading; a symlink is refused, and a fifo doesn't block.
pub(crate) fn open_file(at: impl AsFd, name: impl rustix::path::Arg) -> io::Result<File> {
    let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
    Ok(rustix::fs::openat(at, name, flags, Mode::empty())?.into())
}

/// Reads a small file of our own, of which somebody may have made anything: what is no ordinary file is refused and never
/// waited for, and no more than `most` bytes are taken.
pub(crate) fn read_own(path: &Path, most: u64) -> io::Result<Vec<u8>> {
    let file =
        File::from(rustix::fs::openat(CWD, path, OFlags::RDONLY | OFlags::NONBLOCK | OFlags::CLOEXEC, Mode::empty())?);
    let stat = fstat(&file)?;
    if FileType::from_raw_mode(stat.mode) == FileType::Directory {
        return Err(Errno::ISDIR.into());
    }
    if !stat.is_file() {
        return Err(io::Error::other("it is no ordinary file"));
    }
    if stat.size > most {
        return Err(io::Error::other(format!("it has {} bytes, which is far more than it can have", stat.size)));
    }
    let mut bytes = Vec::new();
    file.take(most).read_to_end(&mut bytes)?;
    Ok(bytes)
}

/// More than any text of ours has.
pub(crate) const TEXT: u64 = 16 << 20;

/// Whether a failed link means "not here" (another filesystem, too many links), so that a copy is the way.
pub(crate) fn link_unsupported(error: &io::Error) -> bool {
    // ntfs-3g answers ERANGE where it has too many links.
    const UNSUPPORTED: [Errno; 6] =
        [Errno::MLINK, Errno::XDEV, Errno::PERM, Errno::OPNOTSUPP, Errno::NOSYS, Errno::RANGE];
    Errno::from_io_error(error).is_some_and(|errno| UNSUPPORTED.contains(&errno))
}

/// Reads `from` to its end, handing every piece to `each`. Returns how many bytes there were.
pub(crate) fn read_all(
    mut from: impl Read,
    buffer: &mut [u8],
    mut each: impl FnMut(&[u8]) -> Result<()>,
    path: &Path,
) -> Result<u64> {
    let mut total = 0;
    loop {
        let read = match from.read(buffer) {
            Ok(0) => return Ok(total),
            Ok(read) => read,
            Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
            Err(error) => return Err(Error::io("read", path, error)),
        };
        total += read as u64;
        each(&buffer[..read])?;
    }
}

/// Writes a file piece by piece, leaving holes for pieces that are nothing but zeros, if asked to.
pub(crate) struct Writer<'a> {
    file: &'a File,
    path: &'a Path,
    holes: bool,
    at: u64,
}

impl<'a> Writer<'a> {
    /// Writes to `file`, which is empty; with `holes`, where the source has some too.
    pub(crate) fn new(file: &'a File, path: &'a Path, holes: bool) -> Self {
        Self { file, path, holes, at: 0 }
    }

    /// The next piece.
    pub(crate) fn piece(&mut self, bytes: &[u8]) -> Result<()> {
        /// The size of the holes that are looked for.
        const HOLE: usize = 64 << 10;
        self.at += bytes.len() as u64;
        change::step().at("write", self.path)?;
        if !self.holes {
            return self.file.write_all(bytes).at("write", self.path);
        }
        for part in bytes.chunks(HOLE) {
            if part.iter().all(|&byte| byte == 0) {
                self.file.seek(SeekFrom::Current(part.len().cast_signed() as i64)).at("write", self.path)?;
            } else {
                self.file.write_all(part).at("write", self.path)?;
            }
        }
        Ok(())
    }

    /// Gives the file its full length, a hole at its end too.
    pub(crate) fn finish(self) -> Result<()> {
        if self.holes { self.file.set_len(self.at).at("write", self.path) } else { Ok(()) }
    }
}

/// Whether a file takes less room than its size says.
pub(crate) fn has_holes(stat: &Stat) -> bool {
    stat.size > 0 && stat.allocated < stat.size
}

/// What tells this run of the system from the one before; `None` where it doesn't say.
pub(crate) fn boot_id() -> Option<String> {
    #[cfg(test)]
    if let Some(boot) = fault::boot() {
        return Some(boot);
    }
    std::fs::read_to_string("/proc/sys/kernel/random/boot_id").ok().map(|id| id.trim().to_owned())
}

/// The path without links in it.
pub(crate) fn canonical(path: &Path) -> Result<PathBuf> {
    path.canonicalize().at("find", path)
}

/// Whether the filesystem of `folder` keeps the mode that a file is given, tried with one that none makes up by itself.
pub(crate) fn keeps_modes(folder: &Path) -> Result<bool> {
    const ODD: u32 = 0o300;
    let path = folder.join("modes");
    create_file(CWD, &path, ODD).at("make", &path)?;
    let stat = lstat(&path).at("look at", &path)?;
    remove_file(&path)?;
    Ok(stat.mode & 0o700 == ODD)
}

/// The types of filesystems (statfs(2)) whose files keep the number of their inode for as long as they are there, and
/// whose ctime moves with each write. No trial can tell that, since it may hold until the filesystem is mounted anew.
const STABLE: [i64; 8] = [
    0xef53,      // ext2, ext3, ext4
    0x9123_683e, // btrfs
    0x5846_5342, // xfs
    0x0102_1994, // tmpfs
    0xf2f5_2010, // f2fs
    0xca45_1a4e, // bcachefs
    0x2fc1_2fc1, // zfs
    0x3153_464a, // jfs
];

const TMPFS: i64 = 0x0102_1994;

fn kind_of(folder: &Path) -> i64 {
    rustix::fs::statfs(folder).map_or(0, |stat| stat.f_type)
}

/// Whether the number of an inode, and what is linked, can be relied on in a folder's filesystem.
pub(crate) fn trusts_inodes(folder: &Path) -> bool {
    STABLE.contains(&kind_of(folder))
}

/// For how long after its last time stamp a file can be written to in a folder's filesystem without any sign of it, by one
/// who has it mapped: until the system has written it out. In nanoseconds; `None`: for ever.
pub(crate) fn unseen_for(folder: &Path) -> Option<i64> {
    const WRITTEN_OUT: i64 = 120_000_000_000;
    (kind_of(folder) != TMPFS).then_some(WRITTEN_OUT)
}

/// The kernel's tick at its slowest, in nanoseconds.
const TICK: i64 = 10_000_000;

/// The clock by which a filesystem stamps its files, which need not be the system's.
pub(crate) struct FsClock {
    folder: PathBuf,
    grain: i64,
}

impl FsClock {
    /// Finds out how coarse the time stamps of the filesystem of `folder` are.
    ///
    /// Some kernels (Linux from 6.13, on most filesystems) give a change that follows a look at the file a time stamp of
    /// its own, however soon it comes: then every change after a look shows. Else it is the kernel's tick at worst, or
    /// 2 s on the FAT family.
    pub(crate) fn new(folder: &Path) -> Result<Self> {
        const MSDOS: i64 = 0x4d44;
        const EXFAT: i64 = 0x2011_bab0;
        let kind = rustix::fs::statfs(folder).map_or(0, |s| s.f_type);
        let mut clock = Self { folder: folder.into(), grain: TICK };
        let stamps = clock.stamps()?;
        if kind == MSDOS || kind == EXFAT || stamps.iter().all(|stamp| stamp % 1_000_000_000 == 0) {
            clock.grain = 2_000_000_000;
        } else if stamps.is_sorted_by(|earlier, later| earlier < later) {
            // With coarse stamps all of these would fall into one tick, or into two.
            clock.grain = 0;
        }
        Ok(clock)
    }

    /// The times that a file shows which is written to again right after each of several looks.
    fn stamps(&self) -> Result<[i64; 4]> {
        let path = self.folder.join("clock");
        let mut stamps = [0; 4];
        for stamp in &mut stamps {
            write(&path, "t")?;
            *stamp = lstat(&path).at("look at", &path)?.ctime;
        }
        Ok(stamps)
    }

    /// How coarse it is, in nanoseconds.
    pub(crate) fn grain(&self) -> i64 {
        self.grain
    }

    /// What it says now: the time stamp of a file made for that.
    pub(crate) fn now(&self) -> Result<i64> {
        let path = self.folder.join("clock");
        write(&path, "t")?;
        let stat = lstat(&path).at("look at", &path)?;
        remove_file(&path)?;
        Ok(stat.mtime.max(stat.ctime))
    }

    /// Waits until anything written from now on gets a later time stamp than `time`; says what time it is then.
    pub(crate) fn wait_past(&self, time: i64) -> Result<i64> {
        loop {
            let now = self.now()?;
            let left = time + self.grain - now;
            // A clock that was set back is not waited for: those files are read once more, that is all.
            if left < 0 || left > 2 * self.grain.max(TICK) {
                return Ok(now);
            }
            std::thread::sleep(std::time::Duration::from_nanos(left.cast_unsigned() + 1_000_000));
        }
    }
}

/// Whether names that differ by case only are one in a twin's folder, in which `game` is.
pub(crate) fn folds_case(folder: &Path) -> Result<bool> {
    let game = lstat(&folder.join("game")).at("look at", folder)?;
    Ok(lstat(&folder.join("GAME")).is_ok_and(|other| (other.dev, other.ino) == (game.dev, game.ino)))
}
