//! The catalogue, the records and the folders of a yard.

use std::collections::{BTreeMap, HashSet};
use std::fs;

use super::touched::Need;
use super::{About, Checker, Mend, Problem, Severity};
use crate::Yard;
use crate::catalog::TwinRow;
use crate::check::mend;
use crate::check::touched;
use crate::disk;
use crate::disk::lock::{self, Mode};
use crate::error::{Error, PathContext, Result};
use crate::ident::{ListingId, StateId, Title};
use crate::yard::folder_id;
use crate::yard::recovered::{Left, Recovered};

impl Checker<'_> {
    /// The database, and what the opening of the yard had to look after.
    pub(super) fn catalogue(&mut self) -> Result<()> {
        let why = match self.yard.catalog.faults() {
            Ok(why) => why,
            Err(error) => vec![text(&error)],
        };
        if !why.is_empty() {
            // What only concerns an index can be made anew from the rows.
            let index = why.iter().all(|fault| fault.contains("index"));
            let mend = if index { Mend::Safe } else { Mend::Backup };
            self.found(Severity::Damaged, &About::Yard, Problem::Catalogue { why }, mend);
        }
        let Recovered { done, left } = &*self.yard.recovered;
        if !done.is_empty() {
            self.found(Severity::Note, &About::Yard, Problem::Recovered { what: done.clone() }, Mend::Nothing);
        }
        let rows = self.yard.catalog.twins()?;
        for Left { what, twin, why } in left {
            let row = rows.iter().find(|row| Some(row.id) == *twin && row.removed_at.is_none());
            let about = row.map_or(About::Yard, |row| About::Twin(row.name.clone()));
            let problem = Problem::HalfDone { what: what.clone(), why: why.clone() };
            self.found(Severity::Wrong, &about, problem, Mend::Wait);
        }
        Ok(())
    }

    /// The title's sheet.
    pub(super) fn sheet(&mut self, title: &Title) {
        let path = self.yard.sheet_path(title);
        match self.yard.sheet(title) {
            Ok(Some(_)) => {}
            Ok(None) => {
                let mend = Mend::WriteSheet { title: title.clone() };
                self.found(Severity::Wrong, &About::Yard, Problem::NoSheet { title: title.clone() }, mend);
            }
            Err(error) => {
                let problem = Problem::SheetWrong { path: path.clone(), why: text(&error) };
                self.found(Severity::Wrong, &About::Yard, problem, Mend::Edit { path });
            }
        }
    }

    /// Folders that are no twin's, and what is left in `tmp/`.
    pub(super) fn folders(&mut self) -> Result<()> {
        let rows = self.yard.catalog.twins()?;
        for base in [self.yard.twins_folder(), self.yard.removed_folder()] {
            let removed = base == self.yard.removed_folder();
            for entry in fs::read_dir(&base).at("list", &base)? {
                let folder = entry.at("list", &base)?.path();
                if !rows.iter().any(|row| self.yard.folder_of(row) == folder) {
                    self.stray(folder, removed, &rows);
                }
            }
        }
        let tmp = self.yard.root().join("tmp");
        for entry in fs::read_dir(&tmp).at("list", &tmp)? {
            let path = entry.at("list", &tmp)?.path();
            let lock = path.join("lock");
            let alive = lock::try_take_there(&lock, Mode::Alone).is_ok_and(|held| held.is_none());
            if !disk::exists(&path) {
                continue;
            }
            let intended = self.yard.catalog.intents()?.iter().any(
                |(_, intent)| matches!(intent, crate::catalog::Intent::Change { stage, .. } if path.ends_with(stage)),
            );
            if !alive && !intended {
                self.found(
                    Severity::Note,
                    &About::Yard,
                    Problem::LeftOver { path: path.clone() },
                    Mend::MoveAway { path },
                );
            }
        }
        Ok(())
    }

    fn stray(&mut self, folder: std::path::PathBuf, removed: bool, rows: &[TwinRow]) {
        // An unreadable folder counts as unknown.
        let of = folder_id(&folder).unwrap_or_default();
        let known = rows.iter().find(|row| Some(row.id) == of);
        if !removed
            && known.is_some_and(|row| row.removed_at.is_none() && !disk::exists(&self.yard.folder_of(row).join("id")))
        {
            // The twin's own, under another name: said there.
            return;
        }
        match of {
            Some(id) if !removed && known.is_none() => {
                let safe = mend::adoptable(self.yard, &folder, id).is_some();
                let mend = if safe { Mend::Safe } else { Mend::MoveAway { path: folder.clone() } };
                self.found(Severity::Wrong, &About::Yard, Problem::UnknownTwin { folder, id }, mend);
            }
            _ => {
                let mend = Mend::MoveAway { path: folder.clone() };
                self.found(Severity::Note, &About::Yard, Problem::StrayFolder { folder }, mend);
            }
        }
    }

    /// States and listings, as far as `wanted` holds what needs them.
    pub(super) fn records(&mut self, wanted: &dyn Fn(&About) -> bool) -> Result<()> {
        let rows = self.yard.catalog.twins()?;
        for row in rows.iter().filter(|row| wanted(&About::Twin(row.name.clone()))) {
            self.states(row)?;
        }
        let needs = touched::needs(self.yard)?;
        let mut damaged: BTreeMap<ListingId, String> = BTreeMap::new();
        let (mut seen, mut whole) = (HashSet::new(), HashSet::new());
        for need in needs.iter().filter(|need| wanted(&need.about)) {
            self.ctx.check()?;
            if seen.insert(need.listing) {
                check_listing(self.yard, need.listing, self.options.full, &mut whole, &mut damaged);
            }
        }
        for (listing, why) in damaged {
            let touches = touched::needed_by(&self.with_bases(&needs), listing);
            let mend =
                if mend::can_be_listed_anew(self.yard, listing)? { Mend::Safe } else { self.taken_from(listing)? };
            self.found(Severity::Damaged, &About::Yard, Problem::ListingDamaged { listing, why, touches }, mend);
        }
        Ok(())
    }

    /// Every need, and the same of the listing that it is kept as a difference from.
    fn with_bases(&self, needs: &[Need]) -> Vec<Need> {
        let own = needs.iter().map(|need| (need.listing, need));
        let bases = needs.iter().filter_map(|need| Some((self.yard.store.base_of(need.listing).ok()??, need)));
        own.chain(bases)
            .map(|(listing, need)| Need { listing, about: need.about.clone(), earlier: need.earlier })
            .collect()
    }

    fn taken_from(&self, listing: ListingId) -> Result<Mend> {
        let stock = self.yard.catalog.stock_builds()?.into_iter().find(|row| row.listing == listing);
        Ok(stock.map_or(Mend::Backup, |row| Mend::TakeIn { build: row.build, source: Some(row.source.into()) }))
    }

    /// The states of a twin that can't be read.
    fn states(&mut self, row: &TwinRow) -> Result<()> {
        let about = About::Twin(row.name.clone());
        let mut damaged: BTreeMap<StateId, (String, Vec<u32>)> = BTreeMap::new();
        let history = self.yard.catalog.history(row.id)?;
        for (state, number) in history.iter().map(|e| (e.state, Some(e.number))).chain([(row.state, None)]) {
            if let Err(error) = self.yard.store.state(state) {
                damaged.entry(state).or_insert_with(|| (text(&error), Vec::new())).1.extend(number);
            }
        }
        // What a twin has now is the newest line's, but for what was laid in its home before its first start.
        let disk = |state: StateId| self.yard.store.state(state).ok().map(|state| state.disk);
        let newest = history.first().map(|entry| entry.state);
        let told = newest.is_some_and(|newest| newest == row.state || disk(newest) == disk(row.state));
        if !told && !damaged.contains_key(&row.state) && newest.is_none_or(|newest| !damaged.contains_key(&newest)) {
            self.found(Severity::Wrong, &about, Problem::NoHistory, Mend::Safe);
        }
        for (state, (why, numbers)) in damaged {
            let current = state == row.state;
            let back = current && history.iter().any(|entry| touched::listing_of(self.yard, entry.state).is_some());
            let remade = mend::remade(self.yard, row, state)?.is_some();
            let mend = if back || remade { Mend::Safe } else { Mend::Backup };
            let severity = if current { Severity::Damaged } else { Severity::Wrong };
            self.found(severity, &about, Problem::StateDamaged { state, why, numbers, current }, mend);
        }
        Ok(())
    }
}

/// Whether a listing can be read, and the one that it is kept as a difference from.
fn check_listing(
    yard: &Yard,
    id: ListingId,
    full: bool,
    whole: &mut HashSet<ListingId>,
    damaged: &mut BTreeMap<ListingId, String>,
) {
    let base = match yard.store.base_of(id) {
        Ok(base) => base,
        Err(error) => return drop(damaged.insert(id, text(&error))),
    };
    if let Some(base) = base
        && !whole.contains(&base)
        && !damaged.contains_key(&base)
    {
        check_listing(yard, base, full, whole, damaged);
    }
    if base.is_some_and(|base| damaged.contains_key(&base)) || whole.contains(&id) {
        return;
    }
    // A difference is put together with what it differs from only where everything is to be looked at.
    let read = if base.is_some() && !full {
        yard.store.packed_listing(id).map(drop)
    } else {
        yard.store.listing(id).map(drop)
    };
    match read {
        Ok(()) => drop(whole.insert(id)),
        Err(error) => drop(damaged.insert(id, text(&error))),
    }
}

/// An error with its causes.
pub(super) fn text(error: &Error) -> String {
    if let Error::Damaged { why, .. } = error {
        return why.clone();
    }
    error.with_causes()
}
