//! A twin: its folder, its files against its last state, its stock build and its sheet, its launches and entries.

use std::collections::HashSet;
use std::path::{Path, PathBuf};

use super::records::text;
use super::{About, Checker, Mend, Problem, Severity};
use crate::catalog::{Counts, TwinRow};
use crate::check::touched;
use crate::disk;
use crate::error::{Error, Result, TwinError};
use crate::ident::ContentId;
use crate::link::{Fate, fate};
use crate::listing::{Listing, Node};
use crate::path::RelPath;
use crate::profile::Profile;
use crate::report::show;
use crate::report::show::Guard;
use crate::scan::{Doubt, Now, Row};
use crate::twin::ShareTotals;
use crate::twin::Twin;
use crate::twin::look::{Glance, Look, Stage, Want, look_only};
use crate::twin::protection;
use crate::twin::settle;
use crate::twin::settle::PlayersOwn;

/// A twin as it is now, and what is odd about that.
pub(super) struct Seen {
    pub(super) about: About,
    pub(super) row: TwinRow,
    pub(super) look: Look,
    pub(super) folder: PathBuf,
    pub(super) now: Listing,
}

impl Checker<'_> {
    /// Everything about one twin. What is wrong with it keeps no other from being looked at.
    pub(super) fn twin(&mut self, row: &TwinRow) -> Result<()> {
        let about = About::Twin(row.name.clone());
        self.counts.twins += 1;
        self.entries(row, &about);
        let seen = match self.see(row, &about) {
            Ok(Some(seen)) => seen,
            Ok(None) => return Ok(()),
            Err(error @ Error::Cancelled) => return Err(error),
            Err(Error::Busy { .. }) => {
                self.found(Severity::Note, &about, Problem::InUse, Mend::Wait);
                return Ok(());
            }
            Err(Error::Twin(TwinError::Unfinished { why, .. })) => {
                self.found(Severity::Damaged, &about, Problem::Unfinished { why }, Mend::Wait);
                return Ok(());
            }
            Err(error) => {
                self.found(Severity::Damaged, &about, Problem::Unreadable { why: text(&error) }, Mend::Nothing);
                return Ok(());
            }
        };
        self.counts.files += seen.now.totals().files;
        self.against_sheet(&seen);
        self.against_stock(&seen)?;
        self.launches(&seen)
    }

    /// Looks at the folder; `None` where it is not there, or its records can't be read, which is said elsewhere.
    fn see(&mut self, row: &TwinRow, about: &About) -> Result<Option<Seen>> {
        let yard = self.yard;
        if let Err(Error::Twin(TwinError::FolderMissing { folder, found, .. })) = settle::present_folder(yard, row) {
            self.folder_missing(row, about, folder, found);
            return Ok(None);
        }
        if let Err(Error::Twin(TwinError::NotItsFolder { folder, why, .. })) = settle::present_folder(yard, row) {
            let problem = Problem::NotItsFolder { folder, why: why.into() };
            self.found(Severity::Damaged, about, problem, Mend::PutBack);
            return Ok(None);
        }
        let mut twin = Twin::hold(yard, row, self.ctx)?;
        twin.make_whole(self.ctx)?;
        let row = twin.row.clone();
        if touched::listing_of(yard, row.state).is_none() {
            return Ok(None);
        }
        let folder = settle::present_folder(yard, &row)?;
        let mut look = match self.glance(&row, &folder)? {
            Some(still) => still,
            None => self.look_closer(&row, &folder, about)?,
        };
        let (before, rows) = (std::mem::take(&mut look.before), std::mem::take(&mut look.rows));
        let (now, rows) = look.found.merged(before, rows)?;
        look.rows = rows;
        Ok(Some(Seen { about: about.clone(), row, look, folder, now }))
    }

    /// What there is where nothing has changed, unless every byte is to be read.
    fn glance(&self, row: &TwinRow, folder: &Path) -> Result<Option<Look>> {
        if self.options.full {
            return Ok(None);
        }
        let glance = Glance::at(self.yard, row, folder, None, Want::Listing, self.ctx)?;
        glance.filter(|glance| glance.still().is_some()).map(|still| still.into_look(row)).transpose()
    }

    /// Looks at all of it, and says what is odd about what changed.
    fn look_closer(&mut self, row: &TwinRow, folder: &Path, about: &About) -> Result<Look> {
        let yard = self.yard;
        let op = yard.begin(self.ctx)?;
        let right = std::mem::take(&mut self.right);
        let doubt = if self.options.full { Doubt::AllBut(&right) } else { Doubt::Nothing };
        let looked = look_only(yard, row, folder, Stage { op: &op, putter: None }, doubt, self.ctx);
        self.right = right;
        let mut look = looked?;
        if look.stale_index {
            self.found(Severity::Note, about, Problem::IndexLost, Mend::Nothing);
        }
        // Before anything is taken out of what changed: a name that no listing has must be led to again.
        look.rows = look.keep_index(yard, folder, &op)?;
        self.altered(&mut look, about);
        self.written_through(&mut look, about);
        self.changed_since(row, &look, about)?;
        Ok(look)
    }

    fn folder_missing(&mut self, row: &TwinRow, about: &About, folder: PathBuf, found: Option<PathBuf>) {
        if found.is_none() && folder.join("game").is_dir() && !disk::exists(&folder.join("id")) {
            return self.found(Severity::Wrong, about, Problem::NoId { folder }, Mend::Safe);
        }
        let build = self.yard.store.state(row.state).ok().map(|state| state.build);
        let mend = match (&found, build) {
            (Some(_), _) if !disk::exists(&folder) => Mend::Safe,
            (None, Some(from)) => Mend::Clone { from },
            _ => Mend::MoveAway { path: folder.clone() },
        };
        self.found(Severity::Damaged, about, Problem::FolderMissing { folder, found }, mend);
    }

    /// Files whose bytes are others though nothing that a write leaves behind shows it.
    fn altered(&mut self, look: &mut Look, about: &About) {
        let (before, rows) = (&look.before, &look.rows);
        let unseen = |path: &RelPath, now: &Now| {
            let row = before.position(path.as_str()).and_then(|at| rows.get(at));
            matches!((row, now), (Some(was), Some(now)) if looks_alike(was, &now.1))
        };
        let leaks: HashSet<&RelPath> = look.found.leaks.iter().map(|leak| &leak.path).collect();
        let altered = look.found.changed.iter().filter(|(path, now)| !leaks.contains(path) && unseen(path, now));
        let paths: Vec<String> = altered.map(|(path, _)| path.to_string()).collect();
        if !paths.is_empty() {
            look.found.changed.retain(|(path, _)| !paths.iter().any(|altered| altered == path.as_str()));
            self.found(Severity::Damaged, about, Problem::Altered { paths }, Mend::Safe);
        }
    }

    /// Linked files with wrong bytes, or with their guard lifted: they count as they were.
    fn written_through(&mut self, look: &mut Look, about: &About) {
        let leaks = std::mem::take(&mut look.found.leaks);
        look.found.changed.retain(|(path, _)| !leaks.iter().any(|leak| leak.path == *path));
        let mut fresh: Vec<(String, ContentId, u64)> = Vec::new();
        for leak in leaks {
            // What the pool was found to have wrong is said once.
            if !self.wrong.contains(&leak.inode) {
                fresh.push((leak.path.to_string(), leak.right, leak.inode));
            }
        }
        if !fresh.is_empty() {
            let paths = fresh.iter().map(|(path, ..)| path.clone()).collect();
            let wrong = fresh.into_iter().map(|(_, content, inode)| (content, inode)).collect();
            self.found(Severity::Damaged, about, Problem::WrittenThrough { paths, wrong }, Mend::Safe);
        }
        if !look.found.lifted.is_empty() {
            let paths = look.found.lifted.iter().map(|lifted| lifted.path.to_string()).collect();
            self.found(Severity::Wrong, about, Problem::GuardLifted { paths }, Mend::Safe);
        }
    }

    fn changed_since(&mut self, row: &TwinRow, look: &Look, about: &About) -> Result<()> {
        let changed = look.found.changed.iter().map(|(path, now)| (path, now.as_ref().map(|now| &now.0.node)));
        let (game, own) = PlayersOwn(look.sheet.as_ref()).counts_at(&look.before, changed);
        if game.total() + own.total() > 0 {
            let from = format!("{}:{}", row.name, self.yard.catalog.newest_change(row.id)?);
            let mend = Mend::Look { from, to: row.name.to_string() };
            self.found(Severity::Note, about, Problem::ChangedSince { game, own }, mend);
        }
        Ok(())
    }

    fn against_sheet(&mut self, seen: &Seen) {
        let Some(sheet) = &seen.look.sheet else { return };
        let (missing, mut unwanted) = sheet.faults(&seen.now);
        // What a mod lays is not what a wrong folder is known by.
        if !seen.look.state.mods.is_empty()
            && let Ok(laid) = self.yard.store.listing(seen.look.state.laid)
        {
            unwanted.retain(|path| !laid.has(&format!("game/{path}")));
        }
        if !(missing.is_empty() && unwanted.is_empty()) {
            let problem = Problem::NotGood { missing, unwanted };
            self.found(Severity::Wrong, &seen.about, problem, Mend::Restore);
        }
        let markers = sheet.missing_markers(&seen.now);
        if !markers.is_empty() {
            let paths = markers.iter().map(|(path, _)| path.to_string()).collect();
            let mend = if seen.row.protected.is_some() { Mend::Nothing } else { Mend::Safe };
            self.found(Severity::Wrong, &seen.about, Problem::NoMarkers { paths }, mend);
        }
    }

    /// The profile, how far a launch is isolated, how far the files are guarded, what can't be copied.
    fn launches(&mut self, seen: &Seen) -> Result<()> {
        let Seen { about, row, look, folder, now } = seen;
        let path = folder.join("profile.toml");
        if let Err(error) = Profile::load(&path) {
            self.found(Severity::Wrong, about, Problem::ProfileWrong { why: text(&error) }, Mend::Edit { path });
        }
        let view = show::isolation(self.yard, &row.name, self.ctx)?;
        match (view.asked, view.gets, view.why) {
            (Some(asked), None, why) => {
                let problem = Problem::NoIsolation { asked, why: why.unwrap_or_default() };
                self.found(Severity::Wrong, about, problem, Mend::AskForLess);
            }
            (_, Some(gets), Some(why)) => {
                self.found(Severity::Note, about, Problem::LessIsolation { gets, why }, Mend::Nothing);
            }
            _ => {}
        }
        if show::guard(self.yard, &ShareTotals::new(now, &look.rows), self.ctx)? == Guard::WeakLinks {
            self.found(Severity::Note, about, Problem::WeakGuard, Mend::CloneUnshared);
        }
        if let Some(game) =
            protection::changed_though_protected(self.yard, row, now)?.filter(|game: &Counts| game.total() > 0)
        {
            self.found(Severity::Wrong, about, Problem::ChangedThoughProtected { game }, Mend::Restore);
        }
        if !look.found.not_taken.is_empty() {
            let paths = look.found.not_taken.clone();
            self.found(Severity::Note, about, Problem::NotTaken { paths }, Mend::Nothing);
        }
        self.links(seen);
        Ok(())
    }

    /// Symlinks that lead into another part of the yard.
    fn links(&mut self, seen: &Seen) {
        for entry in seen.now.entries() {
            let Node::Symlink { target } = &entry.node else { continue };
            let link = entry.path.below(&seen.folder);
            if fate(&link, target, &seen.folder, &seen.folder, self.yard.root()) == Fate::Forbidden {
                let problem =
                    Problem::LeadsElsewhere { path: entry.path.to_string(), line: None, to: target.to_string() };
                self.found(Severity::Wrong, &seen.about, problem, Mend::MoveAway { path: link });
            }
        }
    }

    fn entries(&mut self, row: &TwinRow, about: &About) {
        for entry in self.yard.catalog.entries().unwrap_or_default().into_iter().filter(|entry| entry.twin == row.id) {
            let path = entry.path;
            if !disk::exists(&path) {
                self.found(Severity::Wrong, about, Problem::EntryMissing { path }, Mend::Safe);
            } else if let Some((why, ours)) = crate::entry::fault(&path, row.id) {
                // A foreign file in its place is not replaced.
                let mend = if ours { Mend::Safe } else { Mend::MoveAway { path: path.clone() } };
                self.found(Severity::Wrong, about, Problem::EntryWrong { path, why }, mend);
            }
        }
    }
}

/// Whether two looks at a file show nothing of a write between them.
fn looks_alike(was: &Row, now: &Row) -> bool {
    (was.ino, was.mtime, was.ctime, was.mode, was.allocated) == (now.ino, now.mtime, now.ctime, now.mode, now.allocated)
        && was.share.is_some()
}
