//! What changed in a twin, summed up by groups of belongings.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::layer::How;
use crate::listing::{Change, Entry, Listing, Node, diff};
use crate::path::RelPath;
use crate::sheet::Sheet;

/// Counts of changes, in one group of belongings or outside them all.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct GroupChange {
    /// The group; `None` for what is no belonging.
    pub group: Option<String>,
    /// Whether its things are of several files each.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub of_several: bool,
    /// Paths that are new.
    pub new: Vec<String>,
    /// Paths that hold something else.
    pub changed: Vec<String>,
    /// Paths that are gone.
    pub gone: Vec<String>,
}

/// What changed, belongings first.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Changes {
    /// One for each group in which something changed.
    pub groups: Vec<GroupChange>,
    /// Those of the paths that lie outside all that the title sheet says the program writes.
    pub unexpected: Vec<String>,
}

/// Which files and symlinks changed from `before` to `after`, by the groups of `sheet`.
#[must_use]
pub fn changes(before: &Listing, after: &Listing, sheet: Option<&Sheet>) -> Changes {
    let found = diff(before, after).filter_map(|change| {
        // A folder that comes or goes with what is in it, or with what is worth nothing, is no change of its own.
        let how = match change {
            Change::New(Entry { node: Node::EmptyFolder, .. })
            | Change::Gone(Entry { node: Node::EmptyFolder, .. }) => return None,
            Change::New(_) => How::New,
            Change::Changed { .. } => How::Changed,
            Change::Gone(_) => How::Gone,
        };
        Some((change.path().clone(), how))
    });
    Changes::new(found, sheet)
}

impl Changes {
    pub(crate) fn new(found: impl Iterator<Item = (RelPath, How)>, sheet: Option<&Sheet>) -> Self {
        let mut groups: BTreeMap<(bool, Option<String>), GroupChange> = BTreeMap::new();
        let mut unexpected = Vec::new();
        for (path, how) in found {
            if sheet.is_some_and(|sheet| sheet.is_scratch(&path)) {
                continue;
            }
            let group = sheet.and_then(|sheet| sheet.group_of(&path)).map(str::to_owned);
            if sheet.is_some_and(|sheet| !sheet.written().contains(path.as_str())) {
                unexpected.push(path.to_string());
            }
            let key = (group.is_none(), group.clone());
            let of_several = sheet.is_some_and(|sheet| sheet.is_of_several(group.as_deref()));
            let counts =
                groups.entry(key).or_insert_with(|| GroupChange { group, of_several, ..GroupChange::default() });
            let paths = match how {
                How::New => &mut counts.new,
                How::Changed => &mut counts.changed,
                How::Gone => &mut counts.gone,
            };
            paths.push(path.to_string());
        }
        Self { groups: groups.into_values().collect(), unexpected }
    }

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
        let what = match &self.group {
            Some(group) if self.of_several => format!("files in {group}"),
            Some(group) => group.clone(),
            None => "other files".into(),
        };
        [(&self.new, "new"), (&self.changed, "changed"), (&self.gone, "gone")].into_iter().filter_map(
            move |(paths, how)| match paths.as_slice() {
                [] => None,
                [one] => Some(format!("{} {how}", one.rsplit('/').next().unwrap_or(one))),
                many => Some(format!("{} {what} {how}", many.len())),
            },
        )
    }
}
