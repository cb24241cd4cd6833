//! The top of the game folder, as it will look: what people look at to see whether a mod is in the right place.

use std::collections::BTreeMap;

use serde::Serialize;

use crate::listing::{Listing, diff};

/// A name at the top of the game folder.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct Top {
    /// The name.
    pub name: String,
    /// Whether it is a folder.
    pub folder: bool,
    /// What becomes of it.
    pub mark: Option<Mark>,
}

/// What becomes of what is at the top of the game folder.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Mark {
    /// It comes.
    New,
    /// The file is another one.
    Replaced,
    /// Something in the folder, or in the archive, comes, goes or is another one.
    Inside,
    /// It goes.
    Gone,
}

/// The top of the game folder, before and after in one.
pub(super) fn picture(before: &Listing, after: &Listing, inlaid: &[&str]) -> Vec<Top> {
    let names = |listing: &Listing| -> BTreeMap<String, bool> {
        let below = listing.entries().iter().filter_map(|entry| {
            let below = entry.path.as_str().strip_prefix("game/")?;
            Some(match below.split_once('/') {
                Some((top, _)) => (top.to_owned(), true),
                None => (below.to_owned(), entry.node == crate::listing::Node::EmptyFolder),
            })
        });
        below.collect()
    };
    let (was, is) = (names(before), names(after));
    let mut marks: BTreeMap<&str, Mark> = BTreeMap::new();
    let changed: Vec<String> = diff(before, after).map(|change| change.path().to_string()).collect();
    for path in &changed {
        let Some(below) = path.strip_prefix("game/") else { continue };
        let (top, inside) = below.split_once('/').map_or((below, false), |(top, _)| (top, true));
        let mark = match (was.contains_key(top), is.contains_key(top)) {
            (false, _) => Mark::New,
            (true, false) => Mark::Gone,
            (true, true) if inside || inlaid.contains(&path.as_str()) => Mark::Inside,
            (true, true) => Mark::Replaced,
        };
        marks.insert(top, mark);
    }
    let mut tops: BTreeMap<String, bool> = was;
    tops.extend(is);
    tops.into_iter().map(|(name, folder)| Top { mark: marks.get(name.as_str()).copied(), name, folder }).collect()
}
