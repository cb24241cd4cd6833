//! What a run brought in masses, which is stored once from then on, and what it wrote in place, which stays the twin's own.

use std::path::Path;

use rustix::fs::CWD;
use serde::{Deserialize, Serialize};

use crate::Yard;
use crate::disk;
use crate::error::Result;
use crate::listing::{Entry, Listing, Node};
use crate::path::RelPath;
use crate::progress::Ctx;
use crate::scan::Row;
use crate::sheet::{PathSet, Sheet};
use crate::store::pool::{Facts, Policy, Pool, Share, Sharing, masses};
use crate::store::state::State;
use crate::twin::Twin;
use crate::twin::change::{Anew, Goal, Start};
use crate::twin::look::Look;
use crate::twin::private::is_private;
use crate::twin::settle::Settled;

/// Files, and their bytes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Files {
    /// How many.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
}

impl Files {
    pub(crate) fn of<'a>(entries: impl Iterator<Item = &'a Entry>) -> Self {
        entries.fold(Self::default(), |sum, entry| Self { files: sum.files + 1, bytes: sum.bytes + entry.node.size() })
    }
}

/// Marks what a run brought in masses, and what it brought beside that and the pool had already: as a rule the same was
/// brought to another twin. Settings and saves are left out, and so is what it wrote in place.
pub(super) fn mark(look: &mut Look, from_layer: &[RelPath], pool: &Pool) {
    let Look { sheet, before, rows, found, .. } = look;
    let own = |path: &RelPath| {
        sheet.as_ref().is_some_and(|sheet| sheet.group_of(path).is_some() || sheet.written().contains(path.as_str()))
    };
    let may_come = |path: &RelPath, row: &Row| {
        let in_place = from_layer.binary_search(path).is_ok() || is_same_file(before, rows, path, row.ino);
        row.share == Some(Share::Own) && !is_private(row.mode) && !in_place && !own(path)
    };
    let came = found.changed.iter_mut().filter_map(|(path, now)| {
        let (entry, row) = &mut **now.as_mut()?;
        (matches!(entry.node, Node::File { size: 1.., .. }) && may_come(path, row)).then_some((&*path, (&*entry, row)))
    });
    let (in_masses, few) = masses(came.collect(), |(path, _)| path);
    if in_masses.is_empty() {
        return;
    }
    // What this run brought is not in the pool yet.
    let is_known = |entry: &Entry| entry.node.content().is_some_and(|content| disk::exists(&pool.path(content)));
    let known = few.into_iter().filter(|(_, (entry, _))| is_known(entry));
    for (_, (_, row)) in in_masses.into_iter().chain(known) {
        row.share = Some(Share::Arrived);
    }
}

/// What a run wrote in place that would be shared otherwise: what is known from its layer, and files that are the same ones
/// as before with other bytes.
pub(super) fn written_in_place(look: &Look, from_layer: &[RelPath]) -> Vec<RelPath> {
    let changed = look.found.changed.iter().filter_map(|(path, now)| {
        let (entry, row) = &**now.as_ref()?;
        let in_place = from_layer.binary_search(path).is_ok() || is_same_file(&look.before, &look.rows, path, row.ino);
        (in_place && matches!(entry.node, Node::File { .. })).then_some(entry)
    });
    let changed: Vec<&Entry> = changed.collect();
    if changed.is_empty() {
        return Vec::new();
    }
    let nothing = PathSet::default();
    let facts = Facts { reflink: false, link: true, guard: true };
    let policy =
        Policy::new(Sharing::Careful, facts, &look.before, look.sheet.as_ref().map_or(&nothing, Sheet::written));
    let shared = |entry: &&Entry| {
        let was = row_before(&look.before, &look.rows, &entry.path).and_then(|row| row.share);
        matches!(was, Some(Share::Link | Share::Arrived)) || policy.way(entry) == Share::Link
    };
    changed.into_iter().filter(shared).map(|entry| entry.path.clone()).collect()
}

fn row_before<'a>(before: &Listing, rows: &'a [Row], path: &RelPath) -> Option<&'a Row> {
    rows.get(before.position(path.as_str())?)
}

fn is_same_file(before: &Listing, rows: &[Row], path: &RelPath, ino: u64) -> bool {
    row_before(before, rows, path).is_some_and(|row| row.ino == ino)
}

/// Whether a path lies in the home of a twin.
pub(crate) fn is_in_home(path: &RelPath) -> bool {
    path.as_str().starts_with("home/")
}

/// The files of a twin that are links, as its index says: those of them that `which` takes.
pub(crate) fn linked(yard: &Yard, folder: &Path, state: &State, which: impl Fn(&RelPath) -> bool) -> Result<Files> {
    let listing = yard.store.listing(state.disk)?;
    let index = yard.index(folder, state, listing.entries().len())?;
    let rows = index.iter().flat_map(|index| listing.entries().iter().zip(&index.rows));
    let linked = rows.filter(|(entry, row)| row.share == Some(Share::Link) && which(&entry.path));
    Ok(Files::of(linked.map(|(entry, _)| entry)))
}

impl Twin {
    /// Gives the files of the home that are links bytes of their own: for programs that are not kept from writing through
    /// them. Says what somebody had open, and where it is now.
    pub(crate) fn own_home(&mut self, settled: &Settled, ctx: &Ctx) -> Result<Vec<String>> {
        let rows = settled.listing.entries().iter().zip(&settled.rows);
        let linked = rows.filter(|(entry, row)| is_in_home(&entry.path) && row.share == Some(Share::Link));
        let paths: Vec<RelPath> = linked.map(|(entry, _)| entry.path.clone()).collect();
        if paths.is_empty() {
            return Ok(Vec::new());
        }
        self.lay_anew(settled, Anew { paths, sharing: Sharing::None }, ctx)
    }

    /// Lays files anew, as no change of the twin. Says what somebody had open, and where it is now.
    pub(crate) fn lay_anew(&mut self, settled: &Settled, anew: Anew, ctx: &Ctx) -> Result<Vec<String>> {
        let (state, next) = (self.yard.store.state(self.row.state)?, settled.listing.clone());
        let start = Start { state: &state, ..Start::of(settled) };
        let goal = Goal { state: state.clone(), next, what: None, intent: None, anew: Some(anew) };
        self.change(&start, goal, ctx).map(|changed| changed.set_aside)
    }

    /// Stores once what runs brought in masses, but what somebody has open: for a twin whose programs are kept from writing
    /// through links. Says what shares storage now, and what somebody has opened meanwhile, with where it is now.
    pub(crate) fn share_arrived(&mut self, settled: &Settled, ctx: &Ctx) -> Result<(Files, Vec<String>)> {
        let linked = self.to_link(settled, ctx)?;
        if linked.is_empty() {
            return Ok((Files::default(), Vec::new()));
        }
        let anew = Anew { paths: linked.iter().map(|entry| entry.path.clone()).collect(), sharing: Sharing::All };
        let set_aside = self.lay_anew(settled, anew, ctx)?;
        Ok((Files::of(linked.into_iter()), set_aside))
    }

    /// What came in masses and can be a link now.
    fn to_link<'a>(&self, settled: &'a Settled, ctx: &Ctx) -> Result<Vec<&'a Entry>> {
        let came = settled.listing.entries().iter().zip(&settled.rows);
        let came: Vec<&Entry> =
            came.filter(|(_, row)| row.share == Some(Share::Arrived)).map(|(entry, _)| entry).collect();
        if came.is_empty() || settled.state.sharing == Sharing::None {
            return Ok(Vec::new());
        }
        let facts = self.yard.facts(ctx)?;
        let (nothing, sheet) = (PathSet::default(), self.yard.sheet_of(&settled.state.build)?);
        let written = sheet.as_ref().map_or(&nothing, Sheet::written);
        let policy = Policy::new(Sharing::All, facts, &settled.listing, written)
            .with_own(&settled.state.written, &[])
            .with_home(came.iter().map(|entry| &entry.path));
        if settled.state.sharing == Sharing::Careful && !facts.guard {
            return Ok(Vec::new());
        }
        let folder = self.folder()?;
        // One that can't be asked stays as it is.
        let is_free = |entry: &&Entry| matches!(disk::is_held(CWD, entry.path.below(&folder)), Ok(false));
        Ok(came.iter().copied().filter(|entry| policy.way(entry) == Share::Link).filter(is_free).collect())
    }
}
