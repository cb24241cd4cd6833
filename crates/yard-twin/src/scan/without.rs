//! Leaves paths out of what was seen.

use std::collections::{BTreeMap, HashSet};

use super::{Kind, Seen};
use crate::disk::Stat;
use crate::error::Result;
use crate::path::{RelPath, at_and_above, compare};

/// What was seen without what `out` names; folders that are empty then stay, since programs may need them.
pub(crate) fn without(mut kept: Vec<Seen>, out: impl Fn(&RelPath) -> bool) -> Result<Vec<Seen>> {
    let left: Vec<_> = kept.extract_if(.., |seen| out(&seen.path)).collect();
    if left.is_empty() {
        return Ok(kept);
    }
    let mut emptied: BTreeMap<String, Stat> = BTreeMap::new();
    {
        let needed: HashSet<&str> = kept.iter().flat_map(|seen| at_and_above(seen.path.as_str())).collect();
        for seen in &left {
            for folder in at_and_above(seen.path.as_str()).skip(1) {
                if !folder.contains('/') || needed.contains(folder) {
                    break;
                }
                // The nearest one that stays stands for those above it.
                if !out(&RelPath::new(folder)?) {
                    emptied.insert(folder.into(), seen.stat);
                    break;
                }
            }
        }
    }
    for (folder, stat) in &emptied {
        let below = emptied.keys().any(|o| o.strip_prefix(folder).is_some_and(|rest| rest.starts_with('/')));
        if !below {
            kept.push(Seen { path: RelPath::new(folder)?, kind: Kind::EmptyFolder, stat: *stat });
        }
    }
    kept.sort_unstable_by(|a, b| compare(a.path.as_str(), b.path.as_str()));
    Ok(kept)
}
