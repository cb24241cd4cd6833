//! What only one twin, or only one stock build, needs.

use std::collections::{HashMap, HashSet};

use super::Yard;
use crate::catalog::TwinRow;
use crate::error::{Error, Result};
use crate::ident::{BuildRef, ContentId, ListingId, TwinId};
use crate::listing::Listing;
use crate::store::state::State;

/// Who needs a listing.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Owner {
    Only(TwinId),
    /// Several twins, or a stock build.
    Several,
}

/// Listings, by who needs each: those that others are kept as differences from are needed by whoever needs those.
type Owners = HashMap<ListingId, Owner>;

fn add(owners: &mut Owners, listing: ListingId, owner: Owner) {
    owners
        .entry(listing)
        .and_modify(|there| *there = if *there == owner { owner } else { Owner::Several })
        .or_insert(owner);
}

/// In the place of the one twin's number that needs a content.
const SEVERAL: u32 = u32::MAX;

impl Yard {
    /// The contents that states of one twin need, and nothing else, in their order: none where that can't be told.
    pub(crate) fn contents_only_of(&self, row: &TwinRow) -> Result<Vec<ContentId>> {
        Ok(self.contents_only(|twin| twin == row.id)?.remove(&row.id).unwrap_or_default())
    }

    /// As [`Yard::contents_only_of`] of each twin that is asked for: each state and listing is read once, however many
    /// twins there are.
    pub(crate) fn contents_only(&self, of: impl Fn(TwinId) -> bool) -> Result<HashMap<TwinId, Vec<ContentId>>> {
        let (owners, mut untold) = self.listing_owners()?;
        // What is listed elsewhere as a whole is needed there, so that only what is listed for one twin has to be remembered.
        let (mut needed, mut elsewhere) = (Vec::new(), Vec::new());
        let (mut twins, mut numbers) = (Vec::new(), HashMap::new());
        for (listing, owner) in owners {
            let Owner::Only(twin) = owner else {
                elsewhere.push(listing);
                continue;
            };
            if !of(twin) {
                elsewhere.push(listing);
                continue;
            }
            let number = *numbers.entry(twin).or_insert_with(|| {
                twins.push(twin);
                u32::try_from(twins.len() - 1).unwrap_or(SEVERAL)
            });
            let told = self.store.each_own_entry(listing, |entry| {
                needed.extend(entry.node.content().map(|content| (content, number)));
            });
            if Error::pass_over(told)?.is_none() {
                untold.insert(twin);
            }
        }
        needed.sort_unstable();
        needed.dedup_by(|again, first| {
            let same = again.0 == first.0;
            if same && again.1 != first.1 {
                first.1 = SEVERAL;
            }
            same
        });
        for listing in if needed.is_empty() { Vec::new() } else { elsewhere } {
            let told = self.store.each_own_entry(listing, |entry| {
                let at = entry.node.content().map(|content| needed.binary_search_by(|(there, _)| there.cmp(&content)));
                if let Some(Ok(at)) = at {
                    needed[at].1 = SEVERAL;
                }
            });
            if Error::pass_over(told)?.is_none() {
                return Ok(HashMap::new());
            }
        }
        let mut only: HashMap<TwinId, Vec<ContentId>> = HashMap::new();
        for (content, number) in needed {
            if let Some(twin) = twins.get(number as usize)
                && untold.iter().all(|untold| untold == twin)
            {
                only.entry(*twin).or_default().push(content);
            }
        }
        Ok(only)
    }

    /// The contents of a listing that nothing needs but the one twin or the one stock build, as far as that can be told, in
    /// their order.
    pub(crate) fn contents_only_in(
        &self,
        listing: &Listing,
        but: Option<&TwinRow>,
        but_stock: Option<&BuildRef>,
    ) -> Result<Vec<ContentId>> {
        let (elsewhere, _) = self.listings_elsewhere(but, but_stock)?;
        let mut contents = self.contents_beside(listing, &elsewhere);
        contents.sort_unstable();
        contents.dedup();
        if contents.is_empty() {
            return Ok(Vec::new());
        }
        let mut only: Vec<_> = contents.into_iter().map(|content| (content, true)).collect();
        self.store.each_readable(elsewhere, |entry| {
            let at = entry.node.content().map(|content| only.binary_search_by(|(there, _)| there.cmp(&content)));
            if let Some(Ok(at)) = at {
                only[at].1 = false;
            }
        })?;
        Ok(only.into_iter().filter_map(|(content, only)| only.then_some(content)).collect())
    }

    /// The contents of a listing that need be looked for in `elsewhere`: none where it is one of these itself, and where it is
    /// kept as the difference from one of these, what differs.
    fn contents_beside(&self, listing: &Listing, elsewhere: &HashSet<ListingId>) -> Vec<ContentId> {
        let (id, mut contents) = (listing.id(), Vec::new());
        if elsewhere.contains(&id) {
            return contents;
        }
        let base = self.store.base_of(id).ok().flatten().filter(|base| elsewhere.contains(base));
        let differs = base.is_some() && self.store.verify(id).is_ok();
        // Where that can't be read, all are looked for.
        if !differs || self.store.each_own_entry(id, |entry| contents.extend(entry.node.content())).is_err() {
            contents.extend(listing.entries().iter().filter_map(|entry| entry.node.content()));
        }
        contents
    }

    /// The listings that stock builds and twins need, other than the one twin and the one stock build, and whether these are
    /// all.
    pub(super) fn listings_elsewhere(
        &self,
        but: Option<&TwinRow>,
        but_stock: Option<&BuildRef>,
    ) -> Result<(HashSet<ListingId>, bool)> {
        let stock = self.catalog.stock_builds()?.into_iter().filter(|stock| but_stock != Some(&stock.build));
        let (mut listings, mut all): (HashSet<ListingId>, bool) = (stock.map(|stock| stock.listing).collect(), true);
        for (twin, state) in self.catalog.states_in_use()? {
            if but.is_none_or(|but| but.id != twin) {
                let state = Error::pass_over(self.store.state(state))?;
                all &= state.is_some();
                listings.extend(state.iter().flat_map(State::listings));
            }
        }
        Ok((listings, all))
    }

    /// The listings that stock builds and twins need; and twins of which not all can be told, so that nothing is known to be
    /// only another's.
    fn listing_owners(&self) -> Result<(Owners, HashSet<TwinId>)> {
        let stock = self.catalog.stock_builds()?.into_iter().map(|stock| (stock.listing, Owner::Several));
        let (mut owners, mut untold): (Owners, _) = (stock.collect(), HashSet::new());
        for (twin, state) in self.catalog.states_in_use()? {
            if let Some(state) = Error::pass_over(self.store.state(state))? {
                state.listings().for_each(|listing| add(&mut owners, listing, Owner::Only(twin)));
            } else {
                untold.insert(twin);
            }
        }
        let mut bases = Vec::new();
        for (listing, owner) in &owners {
            // One that can't be read is met again when its entries are wanted.
            bases.extend(Error::pass_over(self.store.base_of(*listing))?.flatten().map(|base| (base, *owner)));
        }
        bases.into_iter().for_each(|(base, owner)| add(&mut owners, base, owner));
        Ok((owners, untold))
    }
}
