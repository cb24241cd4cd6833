//! What a twin is to hold when something else is wanted below the player's own: another build, other mods.

mod aside;

pub(super) use aside::Aside;

use std::collections::BTreeMap;

use crate::Yard;
use crate::catalog::{StockRow, TwinRow, What};
use crate::combine::{Draft, Moves, Wholes};
use crate::disk;
use crate::edit::Edit;
use crate::error::{Error, Result};
use crate::ident::BuildRef;
use crate::listing::{Entry, Layer, Listing, Node, Reason, Rebased, Spellings, overlay, rebase};
use crate::ops::edits;
use crate::ops::edits::{Again, Synced};
use crate::path::RelPath;
use crate::placing::{Composed, ModUse, Placed, compose};
use crate::profile::Profile;
use crate::progress::Ctx;
use crate::sheet::Sheet;
use crate::store::state::{Applied, State};
use crate::twin::inlay;
use crate::twin::markers::with_markers;
use crate::twin::mods::{self, Coming};
use crate::twin::names;
use crate::twin::planned::PlannedChange;
use crate::twin::protection;
use crate::twin::settle::Settled;

/// A twin with what was laid in it and what is to be laid next, spelt and placed alike.
pub(in crate::ops) struct Scene {
    pub(in crate::ops) row: TwinRow,
    pub(in crate::ops) settled: Settled,
    pub(in crate::ops) stock: StockRow,
    /// What the sheet says of the build that it is on, and of the one that it goes to.
    pub(in crate::ops) sheet: Option<Sheet>,
    pub(in crate::ops) next_sheet: Option<Sheet>,
    /// What was laid.
    pub(in crate::ops) laid: Listing,
    /// What is there, without config edits.
    pub(in crate::ops) plain: Listing,
    /// What is there.
    there: Listing,
    /// Files with config edits.
    edited: Vec<RelPath>,
    pub(in crate::ops) moves: Moves,
    /// What of the player's own moves.
    pub(in crate::ops) moved: Vec<(RelPath, RelPath)>,
    /// What is to be laid.
    pub(in crate::ops) next: Listing,
    /// What of it comes of the build alone.
    pub(in crate::ops) stock_listing: Listing,
    pub(in crate::ops) mods: Vec<Placed>,
    pub(in crate::ops) composed: Composed,
    /// Archives into which mods put something, now or then, with the mods.
    archives: BTreeMap<RelPath, String>,
    /// Listings that the state to come needs, and that are kept nowhere yet.
    kept: Vec<Listing>,
}

impl Scene {
    /// Of a twin that was seen just now, on a build and with mods that are wanted.
    ///
    /// # Errors
    /// [`crate::ModError`] where the mods don't go together; whatever reading records fails with.
    pub(in crate::ops) fn look(
        yard: &Yard,
        (row, settled): (TwinRow, Settled),
        (to, wanted, coming): (&BuildRef, &[ModUse], Option<&Coming<'_>>),
        ctx: &Ctx,
    ) -> Result<Self> {
        let from = &settled.state.build;
        // Its own build may have been taken off the list meanwhile; another one must be on it.
        let stock = yard.stock_row(to, to == from)?;
        let (sheet, next_sheet) = (yard.sheet_of(from)?, yard.sheet_of(&stock.build)?);
        let folds = disk::folds_case(&yard.folder_of(&row))?;
        let ignores_case = next_sheet.as_ref().is_some_and(Sheet::ignores_case);
        let laid = yard.store.listing(settled.state.laid)?.sharing_paths(&settled.listing);
        let (stock_listing, _) =
            with_markers(yard.store.listing(stock.listing)?.sharing_paths(&settled.listing), next_sheet.as_ref())?;
        let placed = mods::placed(yard, wanted, coming)?;
        let mut composed = compose(stock_listing.clone(), &placed, folds || ignores_case)?;
        inlay::inlaid(yard, &mut composed, (&placed, next_sheet.as_ref()), ctx)?;
        // Under the id that its names are by.
        let ids = (next_sheet.as_ref(), names::from_stock(next_sheet.as_ref(), settled.state.named_as.as_deref()));
        let named = names::renamed(yard, std::mem::take(&mut composed.listing), ids, false, ctx)?;
        composed.rename(&named.places());
        let mut next = with_prepared(named.listing, &laid)?;
        // Edits are the last step: without them is seen whether a file is as it was laid.
        let (plain, edited) = without_edits(yard, &settled)?;
        let mut moves = Moves::between(&settled.listing, &laid, (sheet.as_ref(), next_sheet.as_ref()))?;
        if folds {
            next = Spellings::of(&settled.listing)?.respelt(next)?;
        } else if ignores_case {
            moves.spell_as(&next, &settled.listing, &laid)?;
        }
        let moved = moves.own(&settled.listing, &laid);
        let (laid, plain, there) = (moves.apply(&laid)?, moves.apply(&plain)?, moves.apply(&settled.listing)?);
        let mut archives: BTreeMap<RelPath, Vec<String>> = BTreeMap::new();
        for (path, by) in &composed.inlaid {
            archives.entry(path.clone()).or_default().extend(by.iter().map(|at| placed[*at].of.name.to_string()));
        }
        for used in settled.state.mods.iter().filter(|used| used.on) {
            // What can't be read is about to go, or was refused above.
            let sheet = Error::pass_over(mods::package(yard, used))?;
            let inlays = sheet.map(|(_, sheet)| sheet.inlay).unwrap_or_default();
            for inlay in inlays {
                archives.entry(moves.of(&inlay.archive).clone()).or_default().push(used.name.to_string());
            }
        }
        let names = |(path, mut names): (RelPath, Vec<String>)| {
            names.sort_unstable();
            names.dedup();
            (path, names.join(", "))
        };
        let archives = archives.into_iter().map(names).collect();
        let edited = edited.iter().map(|path| moves.of(path).clone()).collect();
        Ok(Self {
            row,
            settled,
            stock,
            sheet,
            next_sheet,
            laid,
            plain,
            there,
            edited,
            moves,
            moved,
            next,
            stock_listing,
            archives,
            kept: Vec::new(),
            mods: placed,
            composed,
        })
    }

    /// What is to be there, where `stays` says at which paths the player's own is kept. Things stay whole.
    pub(in crate::ops) fn rebase(&self, yard: &Yard, stays: impl Fn(&RelPath) -> bool, ctx: &Ctx) -> Result<Rebased> {
        let Self { laid, plain, next, .. } = self;
        let mut rebased = rebase(laid, plain, next, &stays)?;
        let wholes = Wholes::of(plain, laid, self.next_sheet.as_ref());
        if let Some(wanted) = wholes.kept_in(next, plain)? {
            // That the build has something else is still said; that a part would come or go is not, since it doesn't.
            rebased.named.retain(|named| named.reason == Reason::Clash || !wholes.has(&named.path));
            rebased.listing = rebase(laid, plain, &wanted, &stays)?.listing;
        }
        // In archives, what a mod puts there and what the player has changed go together.
        let archives = self.archives.iter().filter(|(path, _)| stays(path));
        let archives = archives.map(|(path, mods)| (path.clone(), mods.clone())).collect();
        let merged = inlay::merged(yard, &archives, (laid, plain, next), ctx)?;
        rebased.named.retain(|named| !merged.iter().any(|entry| entry.path == named.path));
        let merged = merged.into_iter().map(|entry| (entry.path.clone(), Some(entry)));
        rebased.listing = overlay(&rebased.listing, &Layer::new(merged.collect())?)?;
        Ok(rebased)
    }

    /// The change that makes it so, and what becomes of the edits.
    pub(in crate::ops) fn finish(
        mut self,
        yard: &Yard,
        rebased: &Listing,
        (mods, what): (Vec<ModUse>, What),
    ) -> Result<Finished> {
        let listing = with_edits(rebased, &self.plain, &self.there, &self.edited)?;
        let state = self.settled.state.clone();
        let sheets = (self.sheet.as_ref(), self.next_sheet.as_ref());
        let profile = edits::moved(&state.profile, &self.moves, sheets);
        let state = State { profile, mods, ..state };
        let synced = edits_after(yard, &listing, (&self.there, &self.moves), (&state, &self.mods), &self.row)?;
        let private = std::mem::take(&mut self.stock.private);
        let comes_private = private.into_iter().filter(|path| self.there.get(path.as_str()).is_none());
        let state = state.with_private(comes_private).with_moved(&self.moves.pairs());
        let build = self.stock.build.clone();
        let Synced { views, derived, applied } = synced;
        let state = State { build, laid: self.next.id(), edits: applied, ..state };
        let draft = Draft { base: listing.clone(), derived };
        protection::check_protected(yard, &self.row, &self.settled.listing, &draft, &state)?;
        let planned =
            PlannedChange::new(self.row, self.settled, state, draft, what).with_laid(self.next).with_kept(self.kept);
        Ok(Finished { listing, there: self.there, planned, views, moves: self.moves })
    }
}

/// A change that is planned.
pub(in crate::ops) struct Finished {
    /// What will be there.
    pub(in crate::ops) listing: Listing,
    /// What is there, with what moves in its new places.
    pub(in crate::ops) there: Listing,
    pub(in crate::ops) planned: PlannedChange,
    pub(in crate::ops) views: Vec<edits::View>,
    pub(in crate::ops) moves: Moves,
}

/// A twin's listing as it would be without its config edits, and the files that have some. What they hold then is put into the
/// pool: a package, or what goes aside, may need it.
pub(in crate::ops) fn without_edits(yard: &Yard, settled: &Settled) -> Result<(Listing, Vec<RelPath>)> {
    let synced = edits::sync_edits(yard, &settled.listing, &settled.state.edits, &[], &Again::None)?;
    let edited = synced.derived.iter().map(|derive| derive.of.path.clone()).collect();
    let draft = Draft { base: settled.listing.clone(), derived: synced.derived };
    Ok((names::made(yard, draft, false, &Ctx::default())?.0, edited))
}

/// The edits of mods and profile in what will be there: those whose file comes anew are made in that one.
fn edits_after(
    yard: &Yard,
    next: &Listing,
    (there, moves): (&Listing, &Moves),
    (state, mods): (&State, &[Placed]),
    row: &TwinRow,
) -> Result<Synced> {
    let path = yard.folder_of(row).join("profile.toml");
    let profile = Profile::parse(&state.profile, &path)?.in_use()?;
    let same = |edit: &Applied| {
        let node = |listing: &Listing| listing.get(edit.file.as_str()).map(|entry| entry.node.clone());
        node(next) == node(there)
    };
    let applied = state.edits.iter().map(|edit| Applied { file: moves.of(&edit.file).clone(), ..edit.clone() });
    let applied: Vec<Applied> = applied.filter(same).collect();
    let of_mods: Vec<Edit> = mods::edits_of(mods);
    edits::sync_edits(yard, next, &applied, &mods::with_edits_of(of_mods, profile.edits), &Again::None)
}

/// What is to be there, with the files that stay as they are in their edited form.
fn with_edits(next: &Listing, plain: &Listing, there: &Listing, edited: &[RelPath]) -> Result<Listing> {
    let node = |listing: &Listing, path: &RelPath| listing.get(path.as_str()).map(|entry| entry.node.clone());
    // What goes aside is in neither any more.
    let stay = edited.iter().filter(|path| next.has(path.as_str()) && node(next, path) == node(plain, path));
    let entries = stay.filter_map(|path| Some((path.clone(), Some(there.get(path.as_str())?.clone()))));
    overlay(next, &Layer::new(entries.collect())?)
}

/// The stock listing with what was laid in the home before the first start: it is laid again.
fn with_prepared(next: Listing, laid: &Listing) -> Result<Listing> {
    let prepared: Vec<Entry> = crate::launch::prepared()
        .filter(|path: &String| !next.has(path))
        .filter_map(|path: String| laid.get(&path).cloned())
        .collect();
    if prepared.is_empty() {
        return Ok(next);
    }
    let mut entries = next.into_entries();
    entries.extend(prepared);
    entries.sort_by(|a, b| a.path.cmp(&b.path));
    Listing::with_folders_implied(entries)
}

/// Whether an entry is a folder with nothing in it.
pub(in crate::ops) fn is_folder(listing: &Listing, path: &RelPath) -> bool {
    listing.get(path.as_str()).is_some_and(|entry| entry.node == Node::EmptyFolder)
}
