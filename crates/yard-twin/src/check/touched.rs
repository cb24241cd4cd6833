//! What needs a listing or a content.

use std::collections::{BTreeMap, HashMap, HashSet};

use super::{About, Touched};
use crate::Yard;
use crate::error::Result;
use crate::ident::{ContentId, ListingId, StateId};
use crate::listing::Listing;

/// A listing that is needed, and by what.
pub(crate) struct Need {
    pub(crate) listing: ListingId,
    pub(crate) about: About,
    /// Whether it is only an earlier state that needs it.
    pub(crate) earlier: bool,
}

/// Where a content is in what needs a listing.
#[derive(Default)]
struct Places {
    path: Option<String>,
    more: u64,
}

/// The listings that stock builds and states need, each use of them. States that can't be read are passed over.
pub(crate) fn needs(yard: &Yard) -> Result<Vec<Need>> {
    let mut needs = Vec::new();
    for row in yard.catalog.stock_builds()? {
        let earlier = row.removed_at.is_some();
        needs.push(Need { listing: row.listing, about: About::Stock(row.build), earlier });
    }
    let rows = yard.catalog.twins()?;
    for (twin, id) in yard.catalog.states_in_use()? {
        let (Some(row), Ok(state)) = (rows.iter().find(|row| row.id == twin), yard.store.state(id)) else {
            continue;
        };
        let about = About::Twin(row.name.clone());
        let earlier = row.state != id || row.removed_at.is_some();
        needs.push(Need { listing: state.disk, about: about.clone(), earlier });
        let more = state.listings().filter(|listing| *listing != state.disk);
        needs.extend(more.map(|listing| Need { listing, about: about.clone(), earlier: true }));
    }
    Ok(needs)
}

/// What needs each of the contents: stock builds and twins as they are, and earlier states where nothing else of the
/// same does.
pub(crate) fn touched(yard: &Yard, contents: &HashSet<ContentId>) -> Result<HashMap<ContentId, Vec<Touched>>> {
    let mut uses: HashMap<ContentId, BTreeMap<(About, bool), Places>> = HashMap::new();
    let mut seen = HashSet::new();
    for need in needs(yard)? {
        if contents.is_empty() || !seen.insert((need.listing, need.about.clone(), need.earlier)) {
            continue;
        }
        let Ok(listing) = yard.store.listing(need.listing) else { continue };
        let mut here: HashMap<ContentId, Places> = HashMap::new();
        for entry in listing.entries() {
            let Some(content) = entry.node.content().filter(|content| contents.contains(content)) else { continue };
            let places = here.entry(content).or_default();
            match places.path {
                None => places.path = Some(entry.path.to_string()),
                Some(_) => places.more += 1,
            }
        }
        for (content, places) in here {
            uses.entry(content).or_default().entry((need.about.clone(), need.earlier)).or_insert(places);
        }
    }
    Ok(uses.into_iter().map(|(content, uses)| (content, as_touched(uses))).collect())
}

/// What needs a listing.
pub(crate) fn needed_by(needs: &[Need], listing: ListingId) -> Vec<Touched> {
    let mut uses: BTreeMap<(About, bool), Places> = BTreeMap::new();
    for need in needs.iter().filter(|need| need.listing == listing) {
        uses.entry((need.about.clone(), need.earlier)).or_default();
    }
    as_touched(uses)
}

/// The listing of a state, if both can be read.
pub(crate) fn listing_of(yard: &Yard, state: StateId) -> Option<Listing> {
    yard.store.listing(yard.store.state(state).ok()?.disk).ok()
}

fn as_touched(uses: BTreeMap<(About, bool), Places>) -> Vec<Touched> {
    let now: HashSet<About> = uses.keys().filter(|(_, earlier)| !earlier).map(|(about, _)| about.clone()).collect();
    let counts = |(about, earlier): &(About, bool)| !earlier || !now.contains(about);
    let uses = uses.into_iter().filter(|(key, _)| counts(key));
    uses.map(|((about, earlier), places)| Touched { about, path: places.path, more: places.more, earlier }).collect()
}
