//! What becomes of each belonging that is carried: decided thing by thing, from what was shipped and what is there. A thing
//! is a file, a slot or a world, as the group's unit says: two of them are never mixed.

use std::cell::OnceCell;
use std::cmp::Ordering;
use std::collections::{HashMap, HashSet};

use jiff::Timestamp;
use serde::Serialize;

use crate::error::{Error, Result};
use crate::listing::{Entry, Listing, Node, Spellings};
use crate::path::{RelPath, at_and_above, compare, fold_key};
use crate::sheet::{OnClash, Sheet, with_beside};

/// A belonging that is to be carried.
#[derive(Clone, Debug)]
pub(crate) struct Incoming {
    /// Where it comes from: a path in the other twin, or a file outside.
    pub(crate) from: String,
    /// The group that it is in.
    pub(crate) group: Option<String>,
    /// Whether it comes because its group does: then the whole thing that it is a part of does.
    pub(crate) whole: bool,
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
    /// The thing that it is a part of there, as a beginning of its path: itself, the name of a slot, the folder of a world.
    pub thing: String,
    /// The group that it is in.
    pub group: Option<String>,
    /// Its size in bytes.
    pub bytes: u64,
    /// When it was last written.
    pub modified: Timestamp,
    /// What is in the place that its thing would take.
    pub found: Met,
    /// Size and newest time of what is there, if that is something else.
    pub there: Option<(u64, Timestamp)>,
    /// What is done; the same with all of a thing, but for what is in its place already.
    pub does: Does,
}

/// What a thing meets in its place.
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
    pub(crate) sheet: &'a Sheet,
    /// Whether names that differ by case only are one there.
    pub(crate) folds: bool,
}

/// What was decided.
#[derive(Debug, Default)]
pub(crate) struct Decided {
    /// What comes, by where it goes.
    pub(crate) items: Vec<(CarryItem, Entry)>,
    /// What goes, since it is a part of something that is replaced.
    pub(crate) gone: Vec<RelPath>,
}

/// Decides about each thing; `policy` says what is done about a clash, by the places that can stand for it and by its group.
///
/// # Errors
/// [`Error::Obstructed`] if a file would take a folder's place or need one where a file is, [`Error::Clash`] if two that
/// come would be one.
pub(crate) fn decide(
    coming: Vec<Incoming>,
    target: &Target<'_>,
    policy: impl Fn(&[&str], Option<&str>) -> Option<OnClash>,
) -> Result<Decided> {
    let mut names = HashSet::new();
    let things = Things { target, folded: OnceCell::new() };
    let mut decided = Decided::default();
    let mut beside = Vec::new();
    for thing in things.of(spelt(coming, target, &mut names)?) {
        let there = things.there(&thing.at, thing.group.as_deref(), thing.whole);
        let (items, does) = items(&thing, &there, target, &policy);
        if does == Does::Put {
            let comes: HashSet<&RelPath> = thing.comes.iter().map(|coming| &coming.entry.path).collect();
            let gone = there.iter().map(|entry| &entry.path).filter(|path| !comes.contains(path));
            decided.gone.extend(gone.cloned());
        }
        match does {
            Does::Beside => beside.push((thing, items)),
            _ => decided.items.extend(items),
        }
    }
    for (thing, items) in beside {
        decided.items.extend(things.put_beside(&thing, items, &mut names)?);
    }
    decided.items.sort_by(|(a, _), (b, _)| a.to.cmp(&b.to));
    Ok(decided)
}

/// What comes under the names that it gets, which are free of each other.
fn spelt(coming: Vec<Incoming>, target: &Target<'_>, names: &mut HashSet<String>) -> Result<Vec<Incoming>> {
    let mut spellings = if target.folds { Some(Spellings::of(target.there)?) } else { None };
    let mut taken: HashMap<String, String> = HashMap::new();
    let mut spelt = Vec::with_capacity(coming.len());
    for mut coming in coming {
        if let Some(spellings) = &mut spellings {
            coming.entry.path = spellings.spell(&coming.entry.path)?;
            spellings.learn(&coming.entry.path)?;
        }
        if let Some(other) = taken.insert(target.key(coming.entry.path.as_str()), coming.from.clone()) {
            return Err(Error::Clash { one: other, other: coming.from });
        }
        obstructed(&coming.entry.path, target.there)?;
        spelt.push(coming);
    }
    names.extend(taken.into_keys());
    Ok(spelt)
}

impl Target<'_> {
    fn key(&self, path: &str) -> String {
        if self.folds { fold_key(path) } else { path.to_owned() }
    }

    /// The thing that a path is a part of, as a beginning of it.
    fn thing_at<'p>(&self, path: &'p RelPath, group: Option<&str>, whole: bool) -> &'p str {
        self.sheet.unit_of(path, group.filter(|_| whole))
    }
}

/// Something that is carried as a whole.
struct Thing {
    /// What the paths of its parts begin with.
    at: String,
    group: Option<String>,
    whole: bool,
    comes: Vec<Incoming>,
}

struct Things<'a> {
    target: &'a Target<'a>,
    /// By the folded beginning of their paths, where names are folded.
    folded: OnceCell<HashMap<String, Vec<&'a Entry>>>,
}

impl<'a> Things<'a> {
    fn of(&self, coming: Vec<Incoming>) -> Vec<Thing> {
        let (mut things, mut known): (Vec<Thing>, HashMap<String, usize>) = (Vec::new(), HashMap::new());
        for coming in coming {
            let at = self.target.thing_at(&coming.entry.path, coming.group.as_deref(), coming.whole).to_owned();
            let number = *known.entry(self.target.key(&at)).or_insert(things.len());
            if number == things.len() {
                things.push(Thing { at, group: coming.group.clone(), whole: coming.whole, comes: Vec::new() });
            }
            things[number].whole |= coming.whole;
            things[number].comes.push(coming);
        }
        things
    }

    /// What the twin has of a thing.
    fn there(&self, at: &str, group: Option<&str>, whole: bool) -> Vec<&'a Entry> {
        if !whole {
            let files = with_beside(at).filter_map(|path| self.target.there.get(&path));
            return files.filter(|entry| entry.node != Node::EmptyFolder).collect();
        }
        if self.target.folds {
            let folded = self.folded.get_or_init(|| self.fold());
            return folded.get(&fold_key(at)).cloned().unwrap_or_default();
        }
        let entries = self.target.there.entries();
        let first = entries.partition_point(|entry| compare(entry.path.as_str(), at) == Ordering::Less);
        let near = entries[first..].iter().take_while(|entry| entry.path.as_str().starts_with(at));
        near.filter(|entry| entry.node != Node::EmptyFolder && self.is_of(entry, at, group)).collect()
    }

    fn is_of(&self, entry: &Entry, at: &str, group: Option<&str>) -> bool {
        self.target.sheet.group_of(&entry.path) == group && self.target.thing_at(&entry.path, group, true) == at
    }

    fn fold(&self) -> HashMap<String, Vec<&'a Entry>> {
        let mut folded: HashMap<String, Vec<&Entry>> = HashMap::new();
        for entry in self.target.there.entries().iter().filter(|entry| entry.node != Node::EmptyFolder) {
            let group = self.target.sheet.group_of(&entry.path);
            let at = fold_key(self.target.thing_at(&entry.path, group, true));
            folded.entry(at).or_default().push(entry);
        }
        folded
    }

    /// Gives a thing a free name, with the first number that nothing has; or finds that it is there under one already.
    fn put_beside(
        &self,
        thing: &Thing,
        mut items: Vec<(CarryItem, Entry)>,
        names: &mut HashSet<String>,
    ) -> Result<Vec<(CarryItem, Entry)>> {
        for number in 2u64.. {
            let at = thing.numbered(number, self.target);
            let place = |path: &RelPath| RelPath::new(format!("{at}{}", thing.rest(path, self.target)));
            let there = self.there(&at, thing.group.as_deref(), thing.whole);
            let places = thing.comes.iter().map(|coming| place(&coming.entry.path)).collect::<Result<Vec<_>>>()?;
            let parts = || places.iter().zip(&thing.comes);
            let nodes = nodes(&there);
            let has = |(path, coming): (&RelPath, &Incoming)| nodes.get(path) == Some(&&coming.entry.node);
            let is_there = there.len() == places.len() && parts().all(has);
            let taken = |path: &RelPath| {
                self.target.there.has(path.as_str()) || names.contains(&self.target.key(path.as_str()))
            };
            if !is_there && (!there.is_empty() || self.target.there.has(&at) || places.iter().any(taken)) {
                continue;
            }
            names.extend(places.iter().map(|path| self.target.key(path.as_str())));
            for ((item, entry), place) in items.iter_mut().zip(places) {
                item.does = if is_there { Does::Nothing } else { Does::Beside };
                item.thing.clone_from(&at);
                (item.to, entry.path) = (place.clone(), place);
            }
            break;
        }
        Ok(items)
    }
}

impl Thing {
    /// `name 2.ending` beside a file, `name 2` beside a slot or a folder.
    fn numbered(&self, number: u64, target: &Target<'_>) -> String {
        let rest = |coming: &Incoming| self.rest(&coming.entry.path, target).starts_with(['/', '.']);
        let name = self.at.rfind('/').map_or(0, |slash| slash + 1);
        match self.at.rfind('.') {
            Some(dot) if dot > name && !self.comes.iter().any(rest) => {
                format!("{} {number}{}", &self.at[..dot], &self.at[dot..])
            }
            _ => format!("{} {number}", self.at),
        }
    }

    /// What a part's path has behind the beginning that all have.
    fn rest<'p>(&self, path: &'p RelPath, target: &Target<'_>) -> &'p str {
        &path.as_str()[target.thing_at(path, self.group.as_deref(), self.whole).len()..]
    }
}

/// What is done with a thing, and with each of its parts.
fn items(
    thing: &Thing,
    there: &[&Entry],
    target: &Target<'_>,
    policy: &impl Fn(&[&str], Option<&str>) -> Option<OnClash>,
) -> (Vec<(CarryItem, Entry)>, Does) {
    let found = met(&thing.comes, there, target.laid);
    let newest = there.iter().map(|entry| entry.mtime).max();
    let newer = newest.is_none_or(|newest| thing.comes.iter().any(|coming| coming.entry.mtime > newest));
    let parts = thing.comes.iter().map(|coming| coming.entry.path.as_str());
    let places: Vec<&str> = std::iter::once(thing.at.as_str()).chain(parts).collect();
    let does = does(found, policy(&places, thing.group.as_deref()), newer);
    let size = there.iter().map(|entry| entry.node.size()).sum();
    let is_other = !matches!(found, Met::New | Met::Same);
    let nodes = nodes(there);
    let item = |coming: &Incoming| {
        let in_place = nodes.get(&coming.entry.path) == Some(&&coming.entry.node);
        CarryItem {
            from: coming.from.clone(),
            to: coming.entry.path.clone(),
            thing: thing.at.clone(),
            group: coming.group.clone(),
            bytes: coming.entry.node.size(),
            modified: time(coming.entry.mtime),
            found,
            there: newest.filter(|_| is_other).map(|newest| (size, time(newest))),
            does: if does == Does::Put && in_place { Does::Nothing } else { does },
        }
    };
    (thing.comes.iter().map(|coming| (item(coming), coming.entry.clone())).collect(), does)
}

fn nodes<'a>(entries: &[&'a Entry]) -> HashMap<&'a RelPath, &'a Node> {
    entries.iter().map(|entry| (&entry.path, &entry.node)).collect()
}

fn met(comes: &[Incoming], there: &[&Entry], laid: &Listing) -> Met {
    let by_path: HashMap<&RelPath, &Incoming> = comes.iter().map(|coming| (&coming.entry.path, coming)).collect();
    let coming = |path: &RelPath| by_path.get(path);
    let shipped_here = |is: &&Entry| laid.get(is.path.as_str()).is_some_and(|laid| laid.node == is.node);
    let shipped_there = |is: &&Entry| coming(&is.path).is_some_and(|coming| coming.shipped.as_ref() == Some(&is.node));
    let same = |is: &&Entry| coming(&is.path).is_some_and(|coming| coming.entry.node == is.node);
    if there.is_empty() {
        Met::New
    } else if comes.len() == there.len() && there.iter().all(same) {
        Met::Same
    } else if !there.iter().all(shipped_here) {
        Met::Clash
    } else if there.iter().all(shipped_there) {
        Met::Untouched
    } else {
        Met::Shipped
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

    fn sheet(more: &str) -> Sheet {
        Sheet::parse(&format!("title = \"wexcombe\"\n{more}"), std::path::Path::new("wexcombe.toml")).unwrap()
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
            whole: true,
            entry: entry("game/a.ini", comes.0, comes.1),
            shipped: shipped.map(|text| entry("game/a.ini", text, 1).node),
        };
        let there = listing(there);
        let target = Target { there: &there, laid: &laid, sheet: &sheet(""), folds: false };
        let (item, entry) = decide(vec![coming], &target, |_, _| policy).unwrap().items.remove(0);
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
        let coming = |path: &str| Incoming {
            from: path.into(),
            group: None,
            whole: true,
            entry: entry(path, "x", 0),
            shipped: None,
        };
        let there = listing(&[("game/Cabin/shifts/one", "1", 0), ("game/file", "2", 0)]);
        let decided = |paths: &[&str], folds| {
            let target = Target { there: &there, laid: &there, sheet: &sheet(""), folds };
            decide(paths.iter().map(|path| coming(path)).collect(), &target, |_, _| None)
        };
        for path in ["game/Cabin", "game/Cabin/shifts", "game/file/below"] {
            assert!(matches!(decided(&[path], false), Err(Error::Obstructed { .. })), "{path}");
        }
        assert_eq!(decided(&["game/cabin/SHIFTS/One"], true).unwrap().items[0].0.to.as_str(), "game/Cabin/shifts/one");
        assert!(matches!(decided(&["game/new/A", "game/New/a"], true), Err(Error::Clash { .. })));
        assert_eq!(decided(&["game/new/A", "game/New/a"], false).unwrap().items.len(), 2);
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
