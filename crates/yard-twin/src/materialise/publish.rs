//! Publishes a staged change entry by entry, and undoes it.
//!
//! Nothing is deleted here: what comes out of the folder lies in the operation's folder until the change is committed, and
//! is compared with what should have come out, in both directions.

use std::cell::RefCell;
use std::collections::BTreeSet;
use std::io;
use std::path::PathBuf;

use rustix::fs::AtFlags;

use super::change::{FolderChange, Staged, is_file_or_link, slot};
use super::steps::{Doing, Step};
use crate::disk::{self, At, Folders, Stat};
use crate::error::{Error, PathContext, Result};
use crate::path::RelPath;
use crate::store::pool::{Ledger, Share};

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
    /// Folders that could not go, since something new was in them.
    pub(crate) left: Vec<RelPath>,
    pub(crate) doubtful: Vec<Doubtful>,
    /// What stood in the way and can't be kept in the pool: where it is now.
    pub(crate) set_aside: Vec<String>,
    touched: BTreeSet<String>,
    done: Vec<Done>,
}

/// What was done, so that it can be undone; by the number of the step.
#[derive(Clone, Copy)]
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

/// A change that was given up.
pub(crate) struct GivenUp {
    pub(crate) error: Error,
    /// What came out again and was written to since it was put there; `None` where undoing failed too, and the folder is
    /// half changed.
    pub(crate) undone: Option<Vec<Doubtful>>,
}

impl FolderChange<'_> {
    /// Does the steps. On an error, or when the caller asks to stop, what was done is undone. Links are moved with `ledger`
    /// told of it, by one who holds the yard alone.
    pub(crate) fn publish(&self, staged: &Staged, ledger: Option<&Ledger>) -> Result<Published, GivenUp> {
        let publisher = match self.publisher(staged, ledger) {
            Ok(publisher) => publisher,
            Err(error) => return Err(GivenUp { error, undone: Some(Vec::new()) }),
        };
        let (mut outs, mut published) = (Vec::new(), Published::default());
        published.done.reserve_exact(staged.steps.len());
        let mut steps = || {
            for number in 0..staged.steps.len() {
                self.ctx().check()?;
                publisher.step(number, &mut outs, &mut published)?;
            }
            publisher.look_again(&outs, &mut published)?;
            self.sync(&published.touched)
        };
        match steps() {
            Ok(()) => Ok(published),
            Err(error) => {
                let undone = publisher.undo(&published);
                if let Err(why) = &undone {
                    tracing::info!(%error, %why, "a change was given up, and could not be undone");
                }
                Err(GivenUp { error, undone: undone.ok() })
            }
        }
    }

    /// Undoes what was published. Gives what was written to since it was put there.
    pub(crate) fn undo(
        &self,
        staged: &Staged,
        published: &Published,
        ledger: Option<&Ledger>,
    ) -> Result<Vec<Doubtful>> {
        self.publisher(staged, ledger)?.undo(published)
    }

    fn publisher<'a>(&'a self, staged: &'a Staged, ledger: Option<&'a Ledger>) -> Result<Publisher<'a>> {
        Ok(Publisher {
            folder_change: self,
            staged,
            ledger,
            live: RefCell::new(Folders::new(self.folder)?),
            stage: RefCell::new(Folders::new(self.layout.op)?),
        })
    }
}

struct Publisher<'a> {
    folder_change: &'a FolderChange<'a>,
    staged: &'a Staged,
    ledger: Option<&'a Ledger>,
    live: RefCell<Folders<'a>>,
    stage: RefCell<Folders<'a>>,
}

impl Publisher<'_> {
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
        let shown = || self.folder_change.on_disk(path);
        match doing {
            Doing::MakeFolder => match disk::make_folder_at(here.0, here.1) {
                Ok(()) => published.done.push(Done::MadeFolder(number)),
                Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {}
                Err(error) => return Err(Error::io("make", shown(), error)),
            },
            Doing::RemoveFolder => match disk::remove_folder_at(here.0, here.1) {
                Ok(()) => {
                    published.done.push(Done::RemovedFolder(number));
                    published.touched.remove(path.as_str());
                }
                Err(error) if error.kind() == io::ErrorKind::NotFound => {}
                Err(error) if error.kind() == io::ErrorKind::DirectoryNotEmpty => published.left.push(path.clone()),
                Err(error) => return Err(Error::io("delete", shown(), error)),
            },
            Doing::Remove => {
                if let Some(stat) = self.folder_change.stat(at, name, path)? {
                    let expected = self.folder_change.as_expected(at, path, &stat, self.ledger)?;
                    self.with_slot("old", number, |slot| disk::move_new(here, slot)).at("move aside", shown())?;
                    published.done.push(Done::Removed(number));
                    self.came_out(number, "old", expected.then_some(stat), here, outs, published)?;
                }
            }
            Doing::Put | Doing::Replace => {
                let staged = self.look_in("new", number)?;
                let put = self.with_slot("new", number, |slot| disk::move_new(slot, here));
                match put {
                    Ok(()) => published.done.push(Done::Put(number)),
                    Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {
                        self.replace(number, here, outs, published)?;
                    }
                    Err(error) => return Err(Error::io("put in place", shown(), error)),
                }
                let now = disk::stat_at(at, name).at("look at", shown())?;
                self.moved(&staged, &now);
                let row = &self.staged.rows[number];
                row.set(row.get().moved_to(&now));
            }
        }
        Ok(())
    }

    fn moved(&self, before: &Stat, after: &Stat) {
        if let Some(ledger) = self.ledger {
            ledger.moved(before, after);
        }
    }

    fn look_in(&self, area: &str, number: usize) -> Result<Stat> {
        let path = &self.staged.steps[number].path;
        self.with_slot(area, number, |slot| disk::stat_at(slot.0, slot.1))
            .at("look at", self.folder_change.on_disk(path))
    }

    /// Puts a staged entry where another one is.
    fn replace(&self, number: usize, here: At<'_>, outs: &mut Vec<Out>, published: &mut Published) -> Result<()> {
        let path = &self.staged.steps[number].path;
        let shown = || self.folder_change.on_disk(path);
        let stat = self.folder_change.stat(here.0, here.1, path)?;
        let expected = match &stat {
            Some(stat) => self.folder_change.as_expected(here.0, path, stat, self.ledger)?,
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
        let shown = || self.folder_change.on_disk(path);
        let stat = self.look_in(area, number)?;
        if !is_file_or_link(&stat) {
            let aside = self.free_beside(here);
            self.with_slot(area, number, |slot| disk::move_new(slot, At(here.0, &aside))).at("move aside", shown())?;
            published.set_aside.push(shown().with_file_name(aside).display().to_string());
            return Ok(());
        }
        let same = expected.is_some_and(|e| (e.ino, e.size, e.mtime) == (stat.ino, stat.size, stat.mtime));
        if let Some(before) = expected {
            self.moved(&before, &stat);
        }
        outs.push(Out { step: number, area, size: stat.size, mtime: stat.mtime, ctime: stat.ctime, doubtful: !same });
        Ok(())
    }

    /// Moves what no pool can keep, and somebody has made, to a name beside it.
    fn move_beside(&self, here: At<'_>) -> io::Result<()> {
        disk::move_new(here, At(here.0, &self.free_beside(here)))
    }

    /// A name that is free beside another one.
    fn free_beside(&self, here: At<'_>) -> String {
        let free = |name: &String| rustix::fs::statat(here.0, name.as_str(), AtFlags::SYMLINK_NOFOLLOW).is_err();
        (1..).map(|at| format!("{}.aside{at}", here.1)).find(free).unwrap_or_default()
    }

    /// Looks at what came out once more: someone may still have had it open.
    fn look_again(&self, outs: &[Out], published: &mut Published) -> Result<()> {
        for out in outs {
            let now = self.look_in(out.area, out.step)?;
            let same = (now.size, now.mtime) == (out.size, out.mtime);
            // What is linked may have come out under another name of it since.
            if out.doubtful || !same || (now.ctime != out.ctime && now.nlink < 2) {
                published.doubtful.push(self.doubtful(out.area, out.step));
            }
        }
        Ok(())
    }

    fn doubtful(&self, area: &str, number: usize) -> Doubtful {
        let (folder, name) = slot(area, number);
        let out = self.folder_change.layout.op.join(folder).join(name);
        Doubtful { path: self.staged.steps[number].path.clone(), out }
    }

    fn with_slot<T>(&self, area: &str, number: usize, work: impl FnOnce(At<'_>) -> io::Result<T>) -> io::Result<T> {
        let (folder, name) = slot(area, number);
        let mut stage = self.stage.borrow_mut();
        let at = stage.get(&folder).map_err(Error::into_io)?;
        work(At(at, &name))
    }

    /// Undoes what was done, the last first. What comes out again is compared with what was put there.
    fn undo(&self, published: &Published) -> Result<Vec<Doubtful>> {
        self.live.borrow_mut().forget();
        let mut late = Vec::new();
        for done in published.done.iter().rev() {
            self.undo_one(*done, &mut late)?;
        }
        Ok(late)
    }

    fn undo_one(&self, done: Done, late: &mut Vec<Doubtful>) -> Result<()> {
        let (Done::MadeFolder(number)
        | Done::RemovedFolder(number)
        | Done::Put(number)
        | Done::Removed(number)
        | Done::Exchanged(number)) = done;
        let path = &self.staged.steps[number].path;
        let shown = || self.folder_change.on_disk(path);
        let mut live = self.live.borrow_mut();
        let here = At(live.get(path.parent().unwrap_or_default())?, path.name());
        match done {
            Done::MadeFolder(_) => match disk::remove_folder_at(here.0, here.1) {
                Ok(()) => live.forget(),
                // Somebody has put something into it, or taken it away.
                Err(error) if is_kept_or_gone(&error) => {}
                Err(error) => return Err(Error::io("delete", shown(), error)),
            },
            Done::RemovedFolder(_) => match disk::make_folder_at(here.0, here.1) {
                Err(error) if error.kind() != io::ErrorKind::AlreadyExists => {
                    return Err(Error::io("make", shown(), error));
                }
                _ => {}
            },
            Done::Put(_) => {
                let before = self.folder_change.stat(here.0, here.1, path)?;
                // What is none of ours stays: there was nothing before.
                if let Some(before) = before.filter(is_file_or_link) {
                    self.with_slot("new", number, |slot| disk::move_new(here, slot)).at("take away", shown())?;
                    self.came_back(number, &before, late)?;
                }
            }
            Done::Removed(_) => self.put_back(number, here, late)?,
            Done::Exchanged(_) => {
                let (before, out) = (self.folder_change.stat(here.0, here.1, path)?, self.look_in("new", number)?);
                match before {
                    Some(before) if is_file_or_link(&before) => {
                        self.with_slot("new", number, |slot| disk::exchange(slot, here)).at("put back", shown())?;
                        self.came_back(number, &before, late)?;
                    }
                    before => {
                        if before.is_some() {
                            self.move_beside(here).at("move aside", shown())?;
                        }
                        self.with_slot("new", number, |slot| disk::move_new(slot, here)).at("put back", shown())?;
                    }
                }
                self.moved(&out, &disk::stat_at(here.0, here.1).at("look at", shown())?);
            }
        }
        Ok(())
    }

    /// Puts an entry back that was moved aside; what somebody has made in its place since comes out.
    fn put_back(&self, number: usize, here: At<'_>, late: &mut Vec<Doubtful>) -> Result<()> {
        let shown = || self.folder_change.on_disk(&self.staged.steps[number].path);
        let out = self.look_in("old", number)?;
        let back = || self.with_slot("old", number, |slot| disk::move_new(slot, here));
        match back() {
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {
                let there = disk::stat_at(here.0, here.1).at("look at", shown())?;
                if is_file_or_link(&there) {
                    self.with_slot("new", number, |slot| disk::move_new(here, slot)).at("take out", shown())?;
                    late.push(self.doubtful("new", number));
                } else {
                    self.move_beside(here).at("move aside", shown())?;
                }
                back().at("put back", shown())?;
            }
            done => done.at("put back", shown())?,
        }
        self.moved(&out, &disk::stat_at(here.0, here.1).at("look at", shown())?);
        Ok(())
    }

    /// An entry that was put in place, looked like `before` there, and has come out again.
    fn came_back(&self, number: usize, before: &Stat, late: &mut Vec<Doubtful>) -> Result<()> {
        let now = self.look_in("new", number)?;
        self.moved(before, &now);
        let put = self.staged.rows[number].get();
        let entry = self.folder_change.next.get(self.staged.steps[number].path.as_str());
        let content = entry.and_then(|entry| entry.node.content());
        let same = match (put.share, content) {
            // Only the ledger tells of a file that others share.
            (Some(Share::Link), Some(content)) => self.ledger.is_some_and(|ledger| ledger.holds(content, &now)),
            _ => (put.ino, put.mtime, put.ctime) == (now.ino, now.mtime, before.ctime),
        };
        if !same || put.share.is_none() {
            late.push(self.doubtful("new", number));
        }
        Ok(())
    }
}

fn is_kept_or_gone(error: &io::Error) -> bool {
    matches!(error.kind(), io::ErrorKind::DirectoryNotEmpty | io::ErrorKind::NotFound | io::ErrorKind::NotADirectory)
}
