//! What a new twin starts as: what a stock build or another twin holds, and how its files share storage.

use std::path::Path;

use crate::Yard;
use crate::combine::new_places;
use crate::error::{Result, TwinError};
use crate::ident::{BuildRef, ListingId, Source, TwinName};
use crate::link::{Fate, fate};
use crate::listing::{Entry, Listing, Node};
use crate::ops::play::isolation::is_sealed;
use crate::ops::repath;
use crate::path::RelPath;
use crate::placing::ModUse;
use crate::profile;
use crate::progress::Ctx;
use crate::sheet::Sheet;
use crate::store::pool::{Policy, Share, Sharing};
use crate::store::state::{Applied, State};
use crate::twin::arrived::is_in_home;
use crate::twin::markers::with_markers;
use crate::twin::names;
use crate::twin::planned::{self, Seen};
use crate::twin::private::private_files;
use crate::twin::{Leaks, Settled};

/// What a new twin starts as.
pub(super) struct Start {
    pub(super) build: BuildRef,
    pub(super) listing: Listing,
    pub(super) laid: Option<ListingId>,
    pub(super) profile: String,
    pub(super) edits: Vec<Applied>,
    /// The id that its names are by.
    pub(super) named_as: Option<String>,
    /// The mods that it has.
    pub(super) mods: Vec<ModUse>,
    pub(super) kept_own: KeptOwn,
    pub(super) names_source: Vec<RelPath>,
    pub(super) sharing: Sharing,
    pub(super) from_removed: bool,
    pub(super) leaks: Leaks,
    pub(super) markers: Vec<String>,
    pub(super) seen: Option<Seen>,
}

impl Start {
    /// As a stock build.
    pub(super) fn of_stock(yard: &Yard, build: &BuildRef) -> Result<Self> {
        let row = yard.stock_row(build, false)?;
        let sheet = yard.sheet_of(&row.build)?;
        let (listing, markers) = with_markers(yard.store.listing(row.listing)?, sheet.as_ref())?;
        let (profile, sharing) = (profile::NEW.into(), yard.default_sharing());
        let kept_own = KeptOwn { private: row.private, ..KeptOwn::default() };
        Ok(Self {
            build: row.build,
            listing,
            laid: None,
            profile,
            edits: Vec::new(),
            named_as: None,
            mods: Vec::new(),
            kept_own,
            names_source: Vec::new(),
            sharing,
            from_removed: false,
            leaks: Leaks::default(),
            markers,
            seen: None,
        })
    }

    /// As another twin: as it is now, or as it was when it was removed.
    pub(super) fn of_twin(yard: &Yard, name: &TwinName, ctx: &Ctx) -> Result<Self> {
        let row = yard.twin_row(name, true)?;
        if row.removed_at.is_some() {
            let state = yard.store.state(row.state)?;
            let listing = yard.store.listing(state.disk)?;
            let folder = yard.twins_folder().join(row.folder_before_removal());
            let (written, private) = (state.written.clone(), state.private.clone());
            let kept_own = KeptOwn { written, private, home: Vec::new() };
            return Ok(Self { from_removed: true, ..Self::of_state(yard, state, (&listing, &folder), kept_own, ctx)? });
        }
        let (row, mut settled) = planned::see(yard, &row, ctx)?;
        if !settled.not_taken.is_empty() {
            return Err(TwinError::NotTaken { name: name.to_string(), paths: settled.not_taken }.into());
        }
        let (kept_own, folder) = (KeptOwn::of(yard, &settled, ctx)?, yard.folder_of(&row));
        let start = Self::of_state(yard, settled.state.clone(), (&settled.listing, &folder), kept_own, ctx)?;
        let leaks = std::mem::take(&mut settled.leaks);
        let seen = settled.news.is_some().then(|| Seen::new(row, settled));
        Ok(Self { leaks, seen, ..start })
    }

    fn of_state(
        yard: &Yard,
        state: State,
        (listing, folder): (&Listing, &Path),
        kept_own: KeptOwn,
        ctx: &Ctx,
    ) -> Result<Self> {
        let listing = portable(listing, folder, yard.root())?;
        // Where something else is there now, what differs is the player's own in a clone too.
        let laid = (state.laid != state.disk).then_some(state.laid);
        let names_source = repath::names_origin(yard, &listing, laid, folder, ctx)?;
        let State { build, sharing, profile, edits, named_as, mods, .. } = state;
        let (from_removed, leaks, markers, seen) = (false, Leaks::default(), Vec::new(), None);
        Ok(Self {
            build,
            listing,
            laid,
            profile,
            edits,
            named_as,
            mods,
            kept_own,
            names_source,
            sharing,
            from_removed,
            leaks,
            markers,
            seen,
        })
    }
}

/// What the files of a new twin share otherwise than those of a stock build do, as in the twin that it is cloned from.
#[derive(Debug, Default)]
pub(super) struct KeptOwn {
    /// Files that are written in place: they stay private.
    pub(super) written: Vec<RelPath>,
    /// Files that nobody but their user may read.
    pub(super) private: Vec<RelPath>,
    /// Files of the home that came in masses: they are shared.
    home: Vec<RelPath>,
}

impl KeptOwn {
    pub(super) fn apply<'a>(&'a self, policy: Policy<'a>) -> Policy<'a> {
        policy.with_own(&self.written, &self.private).with_home(&self.home)
    }

    /// As in a twin that was settled.
    fn of(yard: &Yard, settled: &Settled, ctx: &Ctx) -> Result<Self> {
        let rows = settled.listing.entries().iter().zip(&settled.rows);
        let shared = rows
            .filter(|(entry, row)| is_in_home(&entry.path) && matches!(row.share, Some(Share::Link | Share::Arrived)));
        let mut home: Vec<_> = shared.map(|(entry, _)| entry.path.clone()).collect();
        if !home.is_empty() && !is_sealed(yard, &settled.state.profile, ctx)? {
            home.clear();
        }
        let sheet = yard.sheet_of(&settled.state.build)?;
        let private = private_files(&settled.listing, &settled.rows, sheet.as_ref(), &settled.state);
        Ok(Self { written: settled.state.written.clone(), private, home })
    }

    pub(super) fn add_private(&mut self, more: Vec<RelPath>) {
        self.private.extend(more);
        self.private.sort_unstable();
        self.private.dedup();
    }

    /// With the new names of what is renamed, beside the old ones.
    pub(super) fn rename(&mut self, moved: &[(RelPath, RelPath)]) {
        for paths in [&mut self.written, &mut self.private, &mut self.home] {
            paths.extend(new_places(moved, paths));
            paths.sort_unstable();
        }
    }
}

impl Start {
    /// Under the new twin's name, where the title sheet has rename rules: the id is the one that the twin was named by which is
    /// cloned, or what the stock build comes with. What was laid gets the same names, so that nothing of it counts as changed.
    pub(super) fn name(
        &mut self,
        yard: &Yard,
        (source, name): (&Source, &TwinName),
        sheet: Option<&Sheet>,
        ctx: &Ctx,
    ) -> Result<NamedAnew> {
        if sheet.is_none_or(|sheet| sheet.rename.is_empty()) {
            return Ok(NamedAnew::default());
        }
        let new = name.to_string();
        let old = match source {
            Source::Twin(twin) => Some(self.named_as.take().unwrap_or_else(|| twin.to_string())),
            Source::Stock(_) => names::from_stock(sheet, Some(&new)).map(|(old, _)| old.to_owned()),
        };
        let Some(old) = old else { return Ok(NamedAnew::default()) };
        let ids = (sheet, Some((old.as_str(), new.as_str())));
        let renamed = names::renamed(yard, std::mem::take(&mut self.listing), ids, false, ctx)?;
        let laid =
            self.laid.map(|laid| names::renamed(yard, yard.store.listing(laid)?, ids, false, ctx)).transpose()?;
        let places = renamed.places();
        for edit in &mut self.edits {
            if let Some(to) = places.get(&edit.file) {
                edit.file = (*to).clone();
            }
        }
        self.kept_own.rename(&renamed.moved);
        self.named_as = Some(new);
        self.listing = renamed.listing;
        Ok(NamedAnew { moved: renamed.moved, changed: renamed.changed, laid: laid.map(|laid| laid.listing) })
    }
}

/// What rename rules made of what a new twin starts as.
#[derive(Default)]
pub(super) struct NamedAnew {
    pub(super) moved: Vec<(RelPath, RelPath)>,
    pub(super) changed: Vec<RelPath>,
    /// What was laid in the source twin, where that differs from what is there.
    pub(super) laid: Option<Listing>,
}

/// The listing with its symlinks fit for another folder: those that lead inside by an absolute path become relative. Most
/// often there are none, and it is the very same one.
fn portable(listing: &Listing, folder: &Path, yard: &Path) -> Result<Listing> {
    let fit = |entry: &Entry| match &entry.node {
        Node::Symlink { target } => match fate(&entry.path.below(folder), target, folder, folder, yard) {
            Fate::Relative(target) => Some(Entry { node: Node::Symlink { target: target.into() }, ..entry.clone() }),
            _ => None,
        },
        _ => None,
    };
    let mut entries = listing.entries().iter();
    if entries.all(|entry| fit(entry).is_none()) {
        return Ok(listing.clone());
    }
    Listing::new(listing.entries().iter().map(|entry| fit(entry).unwrap_or_else(|| entry.clone())).collect())
}
