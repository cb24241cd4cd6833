//! What becomes of each belonging that is carried: decided path by path, from what was shipped and what is there.

use std::collections::{HashMap, HashSet};

use jiff::Timestamp;
use serde::Serialize;

use crate::error::{Error, Result};
use crate::listing::{Entry, Listing, Node, Spellings};
use crate::path::{RelPath, at_and_above, fold_key};
use crate::sheet::OnClash;

/// A belonging that is to be carried.
#[derive(Clone, Debug)]
pub(crate) struct Incoming {
    /// Where it comes from: a path in the other twin, or a file outside.
    pub(crate) from: String,
    /// The group that it is in.
    pub(crate) group: Option<String>,
    /// What it is, under the path that it gets.
    pub(crate) entry: Entry,
    /// What was shipped where it comes from.
    pub(crate) shipped: Option<Node>,
}

/// A belonging, and what a carry does with it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct CarryItem {
    /// Where it comes from: a path in the other twin, or a file outside.
    pub from: String,
    /// Where it goes.
    pub to: RelPath,
    /// The group that it is in.
    pub group: Option<String>,
    /// Its size in bytes.
    pub bytes: u64,
    /// When it was last written.
    pub modified: Timestamp,
    /// What is in the place that it would take.
    pub found: Met,
    /// Size and time of what is there, if that is a file and another one.
    pub there: Option<(u64, Timestamp)>,
    /// What is done.
    pub does: Does,
}

/// What a belonging meets in its place.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Met {
    /// Nothing.
    New,
    /// The same.
    Same,
    /// What was shipped with both builds, which nobody touched here.
    Untouched,
    /// What was shipped with this build only, and nobody touched: no clash, yet a newer file may be worth more.
    Shipped,
    /// Something of this twin's own.
    Clash,
}

/// What is done with a belonging.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Does {
    /// It takes its place.
    Put,
    /// It gets a free name beside what is there.
    Beside,
    /// What is there stays, and it is not carried.
    Leave,
    /// It is there already.
    Nothing,
    /// Nobody has said.
    Undecided,
}

/// What a twin is, to which something comes.
pub(crate) struct Target<'a> {
    pub(crate) there: &'a Listing,
    pub(crate) laid: &'a Listing,
    /// Whether names that differ by case only are one there.
    pub(crate) folds: bool,
}

/// Decides about each belonging; `policy` says what is done about a clash in a place, by its path and its group. Gives the
/// entries that come, too.
///
/// # Errors
/// [`Error::Obstructed`] if a file would take a folder's place or need one where a file is, [`Error::Clash`] if two that
/// come would be one.
pub(crate) fn decide(
    coming: Vec<Incoming>,
    target: &Target<'_>,
    policy: impl Fn(&RelPath, Option<&str>) -> Option<OnClash>,
) -> Result<Vec<(CarryItem, Entry)>> {
    let mut spellings = if target.folds { Some(Spellings::of(target.there)?) } else { None };
    let key = |path: &RelPath| if target.folds { fold_key(path.as_str()) } else { path.as_str().to_owned() };
    let mut taken: HashMap<String, String> = HashMap::new();
    let mut items = Vec::with_capacity(coming.len());
    for mut coming in coming {
        if let Some(spellings) = &mut spellings {
            coming.entry.path = spellings.spell(&coming.entry.path)?;
            spellings.learn(&coming.entry.path)?;
        }
        if let Some(other) = taken.insert(key(&coming.entry.path), coming.from.clone()) {
            return Err(Error::Clash { one: other, other: coming.from });
        }
        obstructed(&coming.entry.path, target.there)?;
        items.push(item(coming, target, &policy));
    }
    let mut names: HashSet<String> = taken.into_keys().collect();
    for (item, entry) in items.iter_mut().filter(|(item, _)| item.does == Does::Beside) {
        let free = free_name(&item.to, |path| target.there.has(path.as_str()) || names.contains(&key(path)))?;
        names.insert(key(&free));
        (item.to, entry.path) = (free.clone(), free);
    }
    Ok(items)
}

fn item(
    coming: Incoming,
    target: &Target<'_>,
    policy: &impl Fn(&RelPath, Option<&str>) -> Option<OnClash>,
) -> (CarryItem, Entry) {
    let Incoming { from, group, entry, shipped } = coming;
    let there = target.there.get(entry.path.as_str());
    let laid = target.laid.get(entry.path.as_str());
    let found = met(&entry.node, shipped.as_ref(), there.map(|is| &is.node), laid.map(|is| &is.node));
    let newer = there.is_none_or(|there| entry.mtime > there.mtime);
    let does = does(found, policy(&entry.path, group.as_deref()), newer);
    let other = there.filter(|_| !matches!(found, Met::New | Met::Same));
    let item = CarryItem {
        from,
        to: entry.path.clone(),
        group,
        bytes: entry.node.size(),
        modified: time(entry.mtime),
        found,
        there: other.map(|there| (there.node.size(), time(there.mtime))),
        does,
    };
    (item, entry)
}

fn met(comes: &Node, shipped: Option<&Node>, there: Option<&Node>, laid: Option<&Node>) -> Met {
    match there {
        None => Met::New,
        Some(there) if there == comes => Met::Same,
        Some(there) if Some(there) == laid && Some(there) == shipped => Met::Untouched,
        Some(there) if Some(there) == laid => Met::Shipped,
        Some(_) => Met::Clash,
    }
}

fn does(met: Met, policy: Option<OnClash>, newer: bool) -> Does {
    match (met, policy) {
        (Met::Same, _) => Does::Nothing,
        (Met::New | Met::Untouched, _) | (Met::Shipped, None) => Does::Put,
        (Met::Clash, None) => Does::Undecided,
        (_, Some(OnClash::Replace)) => Does::Put,
        (_, Some(OnClash::Both)) => Does::Beside,
        (_, Some(OnClash::Newer)) if newer => Does::Put,
        (_, Some(OnClash::Newer | OnClash::Skip)) => Does::Leave,
    }
}

/// An error if there is a folder in the place of `path`, or a file where it needs one.
fn obstructed(path: &RelPath, there: &Listing) -> Result<()> {
    let below = &there.entries()[there.range(path.as_str())];
    if let Some(first) = below.first().filter(|first| first.path != *path || first.node == Node::EmptyFolder) {
        return Err(Error::Obstructed { file: path.to_string(), below: first.path.to_string() });
    }
    let file = at_and_above(path.as_str())
        .skip(1)
        .find(|above| there.get(above).is_some_and(|entry| entry.node != Node::EmptyFolder));
    match file {
        Some(file) => Err(Error::Obstructed { file: file.into(), below: path.to_string() }),
        None => Ok(()),
    }
}

/// `name 2.ending` beside the path, or the first number after it that is free.
fn free_name(path: &RelPath, taken: impl Fn(&RelPath) -> bool) -> Result<RelPath> {
    let name = path.name();
    let (stem, ending) = match name.rfind('.') {
        Some(dot) if dot > 0 => name.split_at(dot),
        _ => (name, ""),
    };
    let folder = path.parent().unwrap_or_default();
    let mut number = 2u64;
    loop {
        let free = RelPath::new(format!("{folder}/{stem} {number}{ending}"))?;
        if !taken(&free) {
            return Ok(free);
        }
        number += 1;
    }
}

/// A time of a listing for people.
pub(crate) fn time(mtime: i64) -> Timestamp {
    Timestamp::from_nanosecond(mtime.into()).unwrap_or_default()
}

/// What is left of `there` once belongings are taken out: what was shipped in their place comes back, and folders that are
/// empty then stay, since programs may need them.
///
/// # Errors
/// None that a listing can give cause to.
pub(crate) fn without(there: &Listing, laid: &Listing, gone: &HashSet<&RelPath>) -> Result<Listing> {
    let mut entries: Vec<Entry> = Vec::with_capacity(there.entries().len());
    for entry in there.entries() {
        if !gone.contains(&entry.path) {
            entries.push(entry.clone());
            continue;
        }
        entries.extend(laid.get(entry.path.as_str()).cloned());
        if let Some(folder) = entry.path.parent().filter(|folder| folder.contains('/')) {
            entries.push(Entry { path: RelPath::new(folder)?, node: Node::EmptyFolder, mtime: 0 });
        }
    }
    entries.sort_by(|a, b| a.path.cmp(&b.path));
    entries.dedup_by(|a, b| a.path == b.path);
    Listing::with_folders_implied(entries)
}

#[cfg(test)]
#[allow(clippy::unwrap_used)]
mod tests {
    use super::*;
    use crate::ident::ContentId;

    fn entry(path: &str, text: &str, mtime: i64) -> Entry {
        let content = ContentId::from_bytes(*blake3::hash(text.as_bytes()).as_bytes());
        let node = Node::File { content, size: text.len() as u64, executable: false };
        Entry { path: RelPath::new(path).unwrap(), node, mtime }
    }

    fn listing(entries: &[(&str, &str, i64)]) -> Listing {
        Listing::new(entries.iter().map(|(path, text, mtime)| entry(path, text, *mtime)).collect()).unwrap()
    }

    fn decided(
        comes: (&str, i64),
        shipped: Option<&str>,
        there: &[(&str, &str, i64)],
        policy: Option<OnClash>,
    ) -> (Met, Does, String) {
        let laid = listing(&[("game/a.ini", "shipped here", 1)]);
        let coming = Incoming {
            from: "game/a.ini".into(),
            group: None,
            entry: entry("game/a.ini", comes.0, comes.1),
            shipped: shipped.map(|text| entry("game/a.ini", text, 1).node),
        };
        let there = listing(there);
        let target = Target { there: &there, laid: &laid, folds: false };
        let (item, entry) = decide(vec![coming], &target, |_, _| policy).unwrap().remove(0);
        assert_eq!(item.to, entry.path);
        (item.found, item.does, item.to.to_string())
    }

    #[test]
    fn shipped_files_are_no_clash_and_a_policy_decides_the_rest() {
        use OnClash::{Both, Newer, Replace, Skip};
        let a = "game/a.ini";
        let own = [(a, "own here", 5)];
        let as_shipped = [(a, "shipped here", 1)];
        for (comes, shipped, there, policy, expected) in [
            (("own", 7), None, &[][..], None, (Met::New, Does::Put, a)),
            (("own here", 7), None, &own[..], Some(Replace), (Met::Same, Does::Nothing, a)),
            (("own", 7), Some("shipped here"), &as_shipped[..], Some(Skip), (Met::Untouched, Does::Put, a)),
            (("own", 7), Some("older"), &as_shipped[..], None, (Met::Shipped, Does::Put, a)),
            (("own", 7), Some("older"), &as_shipped[..], Some(Skip), (Met::Shipped, Does::Leave, a)),
            (("own", 7), None, &own[..], None, (Met::Clash, Does::Undecided, a)),
            (("own", 7), None, &own[..], Some(Skip), (Met::Clash, Does::Leave, a)),
            (("own", 7), None, &own[..], Some(Replace), (Met::Clash, Does::Put, a)),
            (("own", 7), None, &own[..], Some(Newer), (Met::Clash, Does::Put, a)),
            (("own", 5), None, &own[..], Some(Newer), (Met::Clash, Does::Leave, a)),
            (("own", 7), None, &own[..], Some(Both), (Met::Clash, Does::Beside, "game/a 2.ini")),
            (
                ("own", 7),
                None,
                &[own[0], ("game/a 2.ini", "", 0)][..],
                Some(Both),
                (Met::Clash, Does::Beside, "game/a 3.ini"),
            ),
        ] {
            let mut there = there.to_vec();
            there.sort();
            let (met, does, to) = decided(comes, shipped, &there, policy);
            assert_eq!((met, does, to.as_str()), expected, "{comes:?} {shipped:?} {there:?} {policy:?}");
        }
    }

    #[test]
    fn files_and_folders_never_take_each_others_place_and_names_are_folded_where_the_place_folds() {
        let coming =
            |path: &str| Incoming { from: path.into(), group: None, entry: entry(path, "x", 0), shipped: None };
        let there = listing(&[("game/Cabin/shifts/one", "1", 0), ("game/file", "2", 0)]);
        let decided = |paths: &[&str], folds| {
            let target = Target { there: &there, laid: &there, folds };
            decide(paths.iter().map(|path| coming(path)).collect(), &target, |_, _| None)
        };
        for path in ["game/Cabin", "game/Cabin/shifts", "game/file/below"] {
            assert!(matches!(decided(&[path], false), Err(Error::Obstructed { .. })), "{path}");
        }
        assert_eq!(decided(&["game/cabin/SHIFTS/One"], true).unwrap()[0].0.to.as_str(), "game/Cabin/shifts/one");
        assert!(matches!(decided(&["game/new/A", "game/New/a"], true), Err(Error::Clash { .. })));
        assert_eq!(decided(&["game/new/A", "game/New/a"], false).unwrap().len(), 2);
    }

    #[test]
    fn what_is_taken_out_leaves_what_was_shipped_and_the_folder() {
        let there = listing(&[("game/bin", "b", 0), ("game/cabin/own", "1", 0), ("game/cabin/panel.ini", "mine", 0)]);
        let laid = listing(&[("game/bin", "b", 0), ("game/cabin/panel.ini", "shipped", 0)]);
        let paths: Vec<_> = there.entries()[1..].iter().map(|entry| entry.path.clone()).collect();
        assert_eq!(without(&there, &laid, &paths.iter().collect()).unwrap().entries(), laid.entries());
        let left = without(&there, &Listing::default(), &paths.iter().collect()).unwrap();
        assert_eq!(left.get("game/cabin").unwrap().node, Node::EmptyFolder);
    }
}
