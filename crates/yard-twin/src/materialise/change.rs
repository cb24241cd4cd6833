//! Changes a folder from one listing to another: checked and staged as a whole first, then published entry by entry.
//!
//! No file that is there is ever opened for writing. What comes out of the folder is kept in the operation's folder until
//! the change is committed, and compared with what should have come out.

use std::cell::RefCell;
use std::collections::{BTreeSet, HashSet};
use std::io;
use std::os::fd::{AsFd, BorrowedFd};
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use rustix::fs::{Access, AtFlags, FileType};
use rustix::io::Errno;

use super::folders::Folders;
use super::lay::{Laying, Placer};
use super::steps::{Doing, Step};
use crate::disk::{self, At, Stat};
use crate::error::{Error, PathContext, Result, TwinError};
use crate::listing::{Entry, Listing, Node};
use crate::parallel::{self, lock};
use crate::path::{RelPath, at_and_above};
use crate::pool::Share;
use crate::progress::{Ctx, Phase};
use crate::scan::Row;

/// Entries that are staged in one folder.
const TOGETHER: usize = 256;

/// Up to so many folders are synced one by one; above, the filesystem is synced once, which also waits for whatever other
/// programs have written. What changed in them goes to the disk together, with the first of them.
const SYNC_FOLDERS: usize = 256;

/// The same for files.
const SYNC_SINGLY: usize = 32;

/// The file in an operation's folder that says which path each step is about.
pub(crate) const PATHS: &str = "paths";

/// A change of a twin's folder.
#[derive(Clone, Copy)]
pub(crate) struct Changing<'a> {
    pub(crate) laying: &'a Laying<'a>,
    /// The twin, for messages.
    pub(crate) twin: &'a str,
    /// Its folder.
    pub(crate) folder: &'a Path,
    /// What is there, and how it looks.
    pub(crate) there: &'a Listing,
    pub(crate) rows: &'a [Row],
    /// What should be there.
    pub(crate) next: &'a Listing,
    /// Which paths are worth nothing: they stay where they are, and their folders with them.
    pub(crate) worthless: &'a (dyn Fn(&RelPath) -> bool + Sync),
}

/// A change that is staged, ready to be published.
pub(crate) struct Staged {
    steps: Vec<Step>,
    /// One for each step: how the bytes of the staged file are shared; `None` for what is no file.
    shares: Vec<Option<Share>>,
}

/// What came out of the folder, and may not be what should have.
#[derive(Clone, Debug)]
pub(crate) struct Doubtful {
    pub(crate) path: RelPath,
    /// Where it is now.
    pub(crate) out: PathBuf,
}

/// A published change.
#[derive(Default)]
pub(crate) struct Published {
    /// How what came looks in the folder: the number of the step, and its row. What comes, comes in the order of paths.
    rows: Vec<(usize, Row)>,
    /// Folders that could not go, since something new was in them.
    pub(crate) left: Vec<RelPath>,
    pub(crate) doubtful: Vec<Doubtful>,
    /// What stood in the way and can't be kept in the pool: where it is now.
    pub(crate) set_aside: Vec<String>,
    touched: BTreeSet<String>,
    done: Vec<Done>,
}

/// What was done, so that it can be undone; by the number of the step.
enum Done {
    MadeFolder(usize),
    RemovedFolder(usize),
    /// Staged entry to live.
    Put(usize),
    /// Live entry to `old`.
    Removed(usize),
    /// The staged and the live one changed places.
    Exchanged(usize),
}

/// How something looked when it came out.
struct Out {
    step: usize,
    area: &'static str,
    size: u64,
    mtime: i64,
    ctime: i64,
    doubtful: bool,
}

impl Staged {
    /// What came into the folder, in the order of the paths.
    pub(crate) fn rows<'a>(&'a self, published: &'a Published) -> impl Iterator<Item = (&'a RelPath, Row)> {
        published.rows.iter().map(|(number, row)| (&self.steps[*number].path, *row))
    }
}

impl Changing<'_> {
    fn ctx(&self) -> &Ctx {
        self.laying.ctx
    }

    fn before(&self, path: &RelPath) -> Option<(&Entry, Row)> {
        let at = self.there.position(path.as_str())?;
        Some((&self.there.entries()[at], self.rows.get(at).copied().unwrap_or_default()))
    }

    fn on_disk(&self, path: &RelPath) -> PathBuf {
        path.below(self.folder)
    }

    /// Whether all steps can be done; returns the folders that would go, and stay since something worth nothing is in
    /// them. Changes nothing.
    pub(crate) fn check(&self, steps: &[Step]) -> Result<Vec<RelPath>> {
        let going: HashSet<&RelPath> =
            steps.iter().filter(|s| matches!(s.doing, Doing::Remove | Doing::RemoveFolder)).map(|s| &s.path).collect();
        let mut folders = Folders::new(self.folder)?;
        let (mut stay, mut writable) = (Vec::new(), "");
        for step in steps {
            self.ctx().check()?;
            let parent = step.path.parent().unwrap_or_default();
            if let Some(at) = self.parent(&mut folders, parent, &going)? {
                if writable != parent {
                    rustix::fs::accessat(at, ".", Access::WRITE_OK | Access::EXEC_OK, AtFlags::EACCESS)
                        .at("write in", self.folder.join(parent))?;
                    writable = parent;
                }
                self.check_step(at, step, &going)?;
            }
            if step.doing == Doing::RemoveFolder && self.must_stay(&mut folders, &step.path, &going)? {
                stay.push(step.path.clone());
            }
        }
        let kept = |path: &RelPath| stay.iter().any(|folder: &RelPath| folder.is_at_or_below(path));
        match steps.iter().find(|s| matches!(s.doing, Doing::Put | Doing::Replace) && kept(&s.path)) {
            Some(step) => Err(self.in_the_way(&step.path)),
            None => Ok(stay),
        }
    }

    /// The folder that a step is done in, if it is there already.
    fn parent<'f>(
        &self,
        folders: &'f mut Folders<'_>,
        path: &str,
        going: &HashSet<&RelPath>,
    ) -> Result<Option<BorrowedFd<'f>>> {
        match folders.find(path) {
            Err(Error::Io { source, path: shown, .. }) if source.kind() == io::ErrorKind::NotADirectory => {
                // A file that is to become a folder, or else something that was a folder when it was looked at.
                let mut above = at_and_above(path);
                if above.any(|path| RelPath::new(path).is_ok_and(|path| going.contains(&path))) {
                    return Ok(None);
                }
                Err(TwinError::ChangedMeanwhile { name: self.twin.into(), path: shown }.into())
            }
            found => found,
        }
    }

    fn in_the_way(&self, path: &RelPath) -> Error {
        TwinError::InTheWay { name: self.twin.into(), path: self.on_disk(path) }.into()
    }

    fn stale(&self, path: &RelPath) -> Error {
        TwinError::ChangedMeanwhile { name: self.twin.into(), path: self.on_disk(path) }.into()
    }

    fn check_step(&self, at: BorrowedFd<'_>, step: &Step, going: &HashSet<&RelPath>) -> Result<()> {
        let name = step.path.name();
        let live = self.stat(at, name, &step.path)?;
        match (step.doing, live) {
            (Doing::Remove | Doing::Replace, Some(stat)) if self.as_expected(at, &step.path, &stat)? => Ok(()),
            (Doing::Remove | Doing::Replace, _) => Err(self.stale(&step.path)),
            // What no listing can hold, or what was not there when it was looked at.
            (Doing::Put, Some(_)) if !going.contains(&step.path) => Err(self.in_the_way(&step.path)),
            (Doing::MakeFolder, Some(stat)) if !going.contains(&step.path) && !is_folder(&stat) => {
                Err(self.in_the_way(&step.path))
            }
            _ => Ok(()),
        }
    }

    /// Whether what is worth nothing keeps a folder from going. What can't be kept, or is new, is an error.
    fn must_stay(&self, folders: &mut Folders<'_>, path: &RelPath, going: &HashSet<&RelPath>) -> Result<bool> {
        let Some(at) = folders.find(path.as_str())? else { return Ok(false) };
        let mut stays = false;
        for name in rustix::fs::Dir::read_from(at).at("list", self.on_disk(path))? {
            let name = name.at("list", self.on_disk(path))?;
            let bytes = name.file_name().to_bytes();
            if bytes == b"." || bytes == b".." {
                continue;
            }
            let shown = self.on_disk(path).join(String::from_utf8_lossy(bytes).as_ref());
            let not_taken = || TwinError::NotTaken { name: self.twin.into(), paths: vec![shown.display().to_string()] };
            let below = path.join(std::str::from_utf8(bytes).map_err(|_| not_taken())?)?;
            if going.contains(&below) {
                continue;
            }
            if !(self.worthless)(&below) {
                let stat = self.stat(at, below.name(), &below)?;
                let listable = stat.is_none_or(|stat| is_file_or_link(&stat) || is_folder(&stat));
                return Err(if listable { self.stale(&below) } else { not_taken().into() });
            }
            stays = true;
        }
        Ok(stays)
    }

    fn stat(&self, at: BorrowedFd<'_>, name: &str, path: &RelPath) -> Result<Option<Stat>> {
        match rustix::fs::statat(at, name, AtFlags::SYMLINK_NOFOLLOW) {
            Err(Errno::NOENT) => Ok(None),
            stat => Ok(Some(stat.at("look at", self.on_disk(path))?.into())),
        }
    }

    /// Whether what is there is what the listing says.
    fn as_expected(&self, at: BorrowedFd<'_>, path: &RelPath, stat: &Stat) -> Result<bool> {
        let Some((entry, row)) = self.before(path) else { return Ok(false) };
        Ok(match &entry.node {
            Node::File { size, .. } => {
                (row.ino, *size, row.mtime, row.mode) == (stat.ino, stat.size, stat.mtime, stat.mode)
                    && (row.ctime == stat.ctime || row.share == Some(Share::Link))
            }
            Node::Symlink { target } if FileType::from_raw_mode(stat.mode) == FileType::Symlink => {
                let now =
                    rustix::fs::readlinkat(at, path.name(), Vec::new()).at("read the link", self.on_disk(path))?;
                now.to_bytes() == target.as_bytes()
            }
            Node::Symlink { .. } => false,
            Node::EmptyFolder => is_folder(stat),
        })
    }

    /// Builds all that is to come below the operation's folder, so that a full disk shows before the first change, and
    /// makes it survive a power loss.
    pub(crate) fn stage(&self, steps: Vec<Step>) -> Result<Staged> {
        let op = self.laying.op;
        // For whoever has to find out what came out, should this process die.
        disk::write_json(&op.join(PATHS), steps.iter().map(|step| &step.path))?;
        for area in ["new", "old"] {
            disk::make_folder(&op.join(area))?;
        }
        let numbered: Vec<(usize, &Step)> = steps.iter().enumerate().collect();
        let chunks: Vec<&[(usize, &Step)]> = numbered.chunks(TOGETHER).collect();
        for chunk in 0..chunks.len() {
            disk::make_folder(&op.join(format!("new/{chunk}")))?;
            disk::make_folder(&op.join(format!("old/{chunk}")))?;
        }
        let placer = self.laying.placer(self.folder)?;
        let shares = Mutex::new(vec![None; steps.len()]);
        let puts = steps.iter().filter(|step| matches!(step.doing, Doing::Put | Doing::Replace)).count();
        self.ctx().phase(Phase::Building, puts as u64, 0, || {
            parallel::for_each(&chunks, self.ctx().threads(), Vec::new, |buffer, chunk| {
                let made = self.stage_chunk(&placer, chunk, buffer)?;
                for (at, share) in made {
                    lock(&shares)[at] = share;
                }
                Ok(())
            })
        })?;
        let shares = shares.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner);
        self.sync_staged(&shares)?;
        Ok(Staged { steps, shares })
    }

    fn stage_chunk(
        &self,
        placer: &Placer<'_>,
        chunk: &[(usize, &Step)],
        buffer: &mut Vec<u8>,
    ) -> Result<Vec<(usize, Option<Share>)>> {
        let Some((first, _)) = chunk.first() else { return Ok(Vec::new()) };
        let path = self.laying.op.join(slot("new", *first).0);
        let folder = disk::open_folder(rustix::fs::CWD, &path).at("open", &path)?;
        let mut shares = Vec::new();
        for (number, step) in chunk.iter().filter(|(_, step)| matches!(step.doing, Doing::Put | Doing::Replace)) {
            self.ctx().check()?;
            let Some(entry) = self.next.get(step.path.as_str()) else { continue };
            shares.push((*number, placer.place(folder.as_fd(), &number.to_string(), entry, buffer)?.share));
            self.ctx().progress().advance(1, entry.node.size());
        }
        Ok(shares)
    }

    fn sync_staged(&self, shares: &[Option<Share>]) -> Result<()> {
        let own: Vec<usize> =
            (0..shares.len()).filter(|&at| shares[at].is_some_and(|share| share != Share::Link)).collect();
        if own.len() > SYNC_SINGLY {
            return disk::sync_filesystem(self.laying.op);
        }
        for number in own {
            let (folder, name) = slot("new", number);
            let path = self.laying.op.join(folder).join(name);
            disk::sync(&std::fs::File::open(&path).at("open", &path)?, &path)?;
        }
        Ok(())
    }

    /// Does the steps. On an error, or when the caller asks to stop, what was done is undone; `Err` with `false` says that
    /// this failed too, and the folder is half changed.
    pub(crate) fn publish(&self, staged: &Staged) -> Result<Published, (Error, bool)> {
        let publishing = self.publishing(staged).map_err(|error| (error, true))?;
        let (mut outs, mut published) = (Vec::new(), Published::default());
        published.done.reserve_exact(staged.steps.len());
        published.rows.reserve_exact(staged.shares.iter().flatten().count());
        let mut steps = || {
            for number in 0..staged.steps.len() {
                self.ctx().check()?;
                publishing.step(number, &mut outs, &mut published)?;
            }
            publishing.look_again(&outs, &mut published)?;
            self.sync(&published)
        };
        match steps() {
            Ok(()) => Ok(published),
            Err(error) => {
                let undone = publishing.undo(&published.done);
                tracing::info!(%error, ?undone, "a change was given up");
                Err((error, undone.is_ok()))
            }
        }
    }

    /// Undoes what was published.
    pub(crate) fn undo(&self, staged: &Staged, published: &Published) -> Result<()> {
        self.publishing(staged)?.undo(&published.done)
    }

    fn publishing<'a>(&'a self, staged: &'a Staged) -> Result<Publishing<'a>> {
        Ok(Publishing {
            changing: self,
            staged,
            live: RefCell::new(Folders::new(self.folder)?),
            stage: RefCell::new(Folders::new(self.laying.op)?),
        })
    }

    /// Makes the changed folders survive a power loss.
    fn sync(&self, published: &Published) -> Result<()> {
        if published.touched.len() > SYNC_FOLDERS {
            return disk::sync_filesystem(self.folder);
        }
        for folder in &published.touched {
            let path = self.folder.join(folder);
            if disk::exists(&path) {
                disk::sync_folder(&path)?;
            }
        }
        Ok(())
    }
}

struct Publishing<'a> {
    changing: &'a Changing<'a>,
    staged: &'a Staged,
    live: RefCell<Folders<'a>>,
    stage: RefCell<Folders<'a>>,
}

impl Publishing<'_> {
    fn step(&self, number: usize, outs: &mut Vec<Out>, published: &mut Published) -> Result<()> {
        let Step { path, doing } = &self.staged.steps[number];
        let (parent, name) = (path.parent().unwrap_or_default(), path.name());
        let mut live = self.live.borrow_mut();
        let at = match doing {
            Doing::Remove | Doing::RemoveFolder => {
                let Some(at) = live.find(parent)? else { return Ok(()) };
                at
            }
            _ => live.get(parent)?,
        };
        published.touched.insert(parent.to_owned());
        let here = At(at, name);
        let shown = || self.changing.on_disk(path);
        match doing {
            Doing::MakeFolder => match disk::make_folder_at(here) {
                Ok(()) => published.done.push(Done::MadeFolder(number)),
                Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {}
                Err(error) => return Err(Error::io("make", shown(), error)),
            },
            Doing::RemoveFolder => match disk::remove_folder_at(here) {
                Ok(()) => {
                    published.done.push(Done::RemovedFolder(number));
                    published.touched.remove(path.as_str());
                }
                Err(error) if error.kind() == io::ErrorKind::NotFound => {}
                Err(error) if error.kind() == io::ErrorKind::DirectoryNotEmpty => published.left.push(path.clone()),
                Err(error) => return Err(Error::io("delete", shown(), error)),
            },
            Doing::Remove => {
                if let Some(stat) = self.changing.stat(at, name, path)? {
                    let expected = self.changing.as_expected(at, path, &stat)?;
                    self.with_slot("old", number, |slot| disk::move_new(here, slot)).at("move aside", shown())?;
                    published.done.push(Done::Removed(number));
                    self.came_out(number, "old", expected.then_some(stat), here, outs, published)?;
                }
            }
            Doing::Put | Doing::Replace => {
                let put = self.with_slot("new", number, |slot| disk::move_new(slot, here));
                match put {
                    Ok(()) => published.done.push(Done::Put(number)),
                    Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {
                        self.replace(number, here, outs, published)?;
                    }
                    Err(error) => return Err(Error::io("put in place", shown(), error)),
                }
                let now = rustix::fs::statat(at, name, AtFlags::SYMLINK_NOFOLLOW).at("look at", shown())?;
                let row = self.staged.shares[number].map_or_else(Row::default, |share| Row::new(&now.into(), share));
                published.rows.push((number, row));
            }
        }
        Ok(())
    }

    /// Puts a staged entry where another one is.
    fn replace(&self, number: usize, here: At<'_>, outs: &mut Vec<Out>, published: &mut Published) -> Result<()> {
        let path = &self.staged.steps[number].path;
        let shown = || self.changing.on_disk(path);
        let stat = self.changing.stat(here.0, here.1, path)?;
        let expected = match &stat {
            Some(stat) => self.changing.as_expected(here.0, path, stat)?,
            None => false,
        };
        let exchanged = self.with_slot("new", number, |slot| disk::exchange(slot, here)).at("exchange", shown())?;
        if exchanged {
            published.done.push(Done::Exchanged(number));
            return self.came_out(number, "new", stat.filter(|_| expected), here, outs, published);
        }
        self.with_slot("old", number, |slot| disk::move_new(here, slot)).at("move aside", shown())?;
        published.done.push(Done::Removed(number));
        self.with_slot("new", number, |slot| disk::move_new(slot, here)).at("put in place", shown())?;
        published.done.push(Done::Put(number));
        self.came_out(number, "old", stat.filter(|_| expected), here, outs, published)
    }

    /// Compares what came out with what should have. What no pool can keep goes back, under another name.
    fn came_out(
        &self,
        number: usize,
        area: &'static str,
        expected: Option<Stat>,
        here: At<'_>,
        outs: &mut Vec<Out>,
        published: &mut Published,
    ) -> Result<()> {
        let path = &self.staged.steps[number].path;
        let shown = || self.changing.on_disk(path);
        let stat: Stat = self
            .with_slot(area, number, |slot| Ok(rustix::fs::statat(slot.0, slot.1, AtFlags::SYMLINK_NOFOLLOW)?))
            .at("look at", shown())?
            .into();
        if !is_file_or_link(&stat) {
            let aside = (1..)
                .map(|at| format!("{}.aside{at}", here.1))
                .find(|name| rustix::fs::statat(here.0, name.as_str(), AtFlags::SYMLINK_NOFOLLOW).is_err());
            let aside = aside.unwrap_or_default();
            self.with_slot(area, number, |slot| disk::move_new(slot, At(here.0, &aside))).at("move aside", shown())?;
            published.set_aside.push(shown().with_file_name(aside).display().to_string());
            return Ok(());
        }
        let same = expected.is_some_and(|e| (e.ino, e.size, e.mtime) == (stat.ino, stat.size, stat.mtime));
        outs.push(Out { step: number, area, size: stat.size, mtime: stat.mtime, ctime: stat.ctime, doubtful: !same });
        Ok(())
    }

    /// Looks at what came out once more: someone may still have had it open.
    fn look_again(&self, outs: &[Out], published: &mut Published) -> Result<()> {
        for out in outs {
            let path = &self.staged.steps[out.step].path;
            let looked = self.with_slot(out.area, out.step, |slot| {
                Ok(rustix::fs::statat(slot.0, slot.1, AtFlags::SYMLINK_NOFOLLOW)?)
            });
            let now: Stat = looked.at("look at", self.changing.on_disk(path))?.into();
            if out.doubtful || (now.size, now.mtime, now.ctime) != (out.size, out.mtime, out.ctime) {
                let (folder, name) = slot(out.area, out.step);
                let out = self.changing.laying.op.join(folder).join(name);
                published.doubtful.push(Doubtful { path: path.clone(), out });
            }
        }
        Ok(())
    }

    fn with_slot<T>(&self, area: &str, number: usize, work: impl FnOnce(At<'_>) -> io::Result<T>) -> io::Result<T> {
        let (folder, name) = slot(area, number);
        let mut stage = self.stage.borrow_mut();
        let at = stage.get(&folder).map_err(io::Error::other)?;
        work(At(at, &name))
    }

    /// Undoes what was done, the last first.
    fn undo(&self, done: &[Done]) -> Result<()> {
        self.live.borrow_mut().forget();
        for done in done.iter().rev() {
            let (Done::MadeFolder(number)
            | Done::RemovedFolder(number)
            | Done::Put(number)
            | Done::Removed(number)
            | Done::Exchanged(number)) = *done;
            let path = &self.staged.steps[number].path;
            let shown = || self.changing.on_disk(path);
            let mut live = self.live.borrow_mut();
            let here = At(live.get(path.parent().unwrap_or_default())?, path.name());
            match done {
                Done::MadeFolder(_) => {
                    disk::remove_folder_at(here).at("delete", shown())?;
                    live.forget();
                }
                Done::RemovedFolder(_) => disk::make_folder_at(here).at("make", shown())?,
                Done::Put(_) => {
                    self.with_slot("new", number, |slot| disk::move_new(here, slot)).at("take away", shown())?;
                }
                Done::Removed(_) => {
                    self.with_slot("old", number, |slot| disk::move_new(slot, here)).at("put back", shown())?;
                }
                Done::Exchanged(_) => {
                    self.with_slot("new", number, |slot| disk::exchange(slot, here)).at("put back", shown())?;
                }
            }
        }
        Ok(())
    }
}

/// The folder below the operation's, and the name in it, of what a step stages or takes out.
fn slot(area: &str, number: usize) -> (String, String) {
    (format!("{area}/{}", number / TOGETHER), number.to_string())
}

fn is_folder(stat: &Stat) -> bool {
    FileType::from_raw_mode(stat.mode) == FileType::Directory
}

fn is_file_or_link(stat: &Stat) -> bool {
    matches!(FileType::from_raw_mode(stat.mode), FileType::RegularFile | FileType::Symlink)
}
