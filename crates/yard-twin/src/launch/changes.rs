//! What changed between two listings of a twin, summed up by groups of belongings.

use std::collections::BTreeMap;

use serde::Serialize;

use crate::listing::{Change, Entry, Listing, Node, diff};
use crate::sheet::Sheet;

/// Counts of changes, in one group of belongings or outside them all.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct GroupChange {
    /// The group; `None` for what is no belonging.
    pub group: Option<String>,
    /// Paths that are new.
    pub new: Vec<String>,
    /// Paths that hold something else.
    pub changed: Vec<String>,
    /// Paths that are gone.
    pub gone: Vec<String>,
}

/// What changed, belongings first.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Changes {
    /// One for each group in which something changed.
    pub groups: Vec<GroupChange>,
}

/// Which files and symlinks changed from `before` to `after`, by the groups of `sheet`.
#[must_use]
pub fn changes(before: &Listing, after: &Listing, sheet: Option<&Sheet>) -> Changes {
    let mut groups: BTreeMap<(bool, Option<String>), GroupChange> = BTreeMap::new();
    for change in diff(before, after) {
        let path = change.path();
        // A folder that comes or goes with what is in it, or with what is worth nothing, is no change of its own.
        if let Change::New(Entry { node: Node::EmptyFolder, .. })
        | Change::Gone(Entry { node: Node::EmptyFolder, .. }) = change
        {
            continue;
        }
        let group = sheet.and_then(|sheet| sheet.group_of(path)).map(str::to_owned);
        let key = (group.is_none(), group.clone());
        let counts = groups.entry(key).or_insert_with(|| GroupChange { group, ..GroupChange::default() });
        let paths = match change {
            Change::New(_) => &mut counts.new,
            Change::Changed { .. } => &mut counts.changed,
            Change::Gone(_) => &mut counts.gone,
        };
        paths.push(path.to_string());
    }
    Changes { groups: groups.into_values().collect() }
}

impl Changes {
    /// Whether nothing changed.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.groups.is_empty()
    }

    /// How many paths changed.
    #[must_use]
    pub fn count(&self) -> usize {
        self.groups.iter().map(|group| group.new.len() + group.changed.len() + group.gone.len()).sum()
    }

    /// In a few words: `2 shifts new, panel.ini changed`.
    #[must_use]
    pub fn summary(&self) -> String {
        let parts: Vec<_> = self.groups.iter().flat_map(GroupChange::parts).collect();
        if parts.is_empty() { "nothing".into() } else { parts.join(", ") }
    }
}

impl GroupChange {
    fn parts(&self) -> impl Iterator<Item = String> {
        let what = self.group.as_deref().unwrap_or("other files");
        [(&self.new, "new"), (&self.changed, "changed"), (&self.gone, "gone")].into_iter().filter_map(
            move |(paths, how)| match paths.as_slice() {
                [] => None,
                [one] => Some(format!("{} {how}", one.rsplit('/').next().unwrap_or(one))),
                many => Some(format!("{} {what} {how}", many.len())),
            },
        )
    }
}
