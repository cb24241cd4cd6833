//! Rename rules: what of a listing gets another name when its id does, and which files hold the id.

use std::path::Path;

use super::words::{Joined, replaced};
use super::{Derive, Draft, EditStep, Transform};
use crate::error::{Error, Noun, Result};
use crate::link;
use crate::listing::{Entry, Layer, Listing, Node, overlay};
use crate::path::RelPath;
use crate::sheet::pattern::escape;
use crate::sheet::{PathSet, RenameRule};

/// What renaming comes to.
pub(crate) struct Renamed {
    pub(crate) draft: Draft,
    /// From where to where, in the order of the paths.
    pub(crate) moved: Vec<(RelPath, RelPath)>,
}

/// The new places of those of some paths, which are in order, that are renamed.
pub(crate) fn new_places(moved: &[(RelPath, RelPath)], paths: &[RelPath]) -> Vec<RelPath> {
    let wanted = moved.iter().filter(|(from, _)| paths.binary_search(from).is_ok());
    wanted.map(|(_, to)| to.clone()).collect()
}

/// The listing with everything that some rules find by the id `old` under the id `new`: what is called by it as a whole word.
/// What a rule copies, or `copy` says so, stays under the old one too; `only` is a folder beside which nothing is touched.
/// Symlinks among what gets a new name lead to that.
///
/// # Errors
/// [`Error::Exists`] if something is there already under a new name, [`Error::Path`] if the new id is no name.
pub(crate) fn rename(
    listing: &Listing,
    rules: &[RenameRule],
    (old, new): (&str, &str),
    (copy, only): (bool, Option<&RelPath>),
) -> Result<Renamed> {
    RelPath::new("game")?.join(new)?;
    let (mut changes, mut moved) = (Vec::new(), Vec::new());
    let renamed = |path: &str| {
        let inside = only.is_none_or(|only| path == only.as_str() || below(path, only.as_str()).is_some());
        rules.iter().filter(|_| inside).find_map(|rule| Some((rule, renamed_path(path, rule, (old, new))?)))
    };
    for entry in listing.entries() {
        let Some((rule, to)) = renamed(entry.path.as_str()) else { continue };
        let to = RelPath::new(to)?;
        if listing.has(to.as_str()) {
            return Err(Error::Exists { what: Noun::FileOrFolder, name: to.to_string(), existing: to.to_string() });
        }
        if !copy && !rule.copy {
            changes.push((entry.path.clone(), None));
        }
        changes.push((to.clone(), Some(Entry { path: to.clone(), ..entry.clone() })));
        moved.push((entry.path.clone(), to));
    }
    let base = overlay(listing, &Layer::new(changes)?)?;
    let base = with_links(base, &moved, &|path| Some(renamed(path)?.1))?;
    let derived = holds_id(&base, rules, (old, new))?;
    Ok(Renamed { draft: Draft { base, derived }, moved })
}

/// The path below a folder.
fn below<'a>(path: &'a str, folder: &str) -> Option<&'a str> {
    path.strip_prefix(folder)?.strip_prefix('/')
}

/// A path under the new id, if a rule finds the old one in it. The outermost name is the id's, with an ending at most; below
/// that it is a word among others. Below another id that the old one is a part of (`1.4-beta`), nothing is this one's.
pub(crate) fn renamed_path(path: &str, rule: &RenameRule, (old, new): (&str, &str)) -> Option<String> {
    let rest = below(path, &rule.within)?;
    let mut changed = false;
    let mut parts = Vec::new();
    for part in rest.split('/') {
        let renamed = replaced(part, old, new, if changed { Joined::Letters } else { Joined::Hyphens });
        if renamed.is_none() && !changed && part.contains(old) {
            return None;
        }
        changed |= renamed.is_some();
        parts.push(renamed.unwrap_or_else(|| part.to_owned()));
    }
    changed.then(|| format!("{}/{}", rule.within, parts.join("/")))
}

/// The listing with its symlinks leading to what has a new name, as far as that is there: those that have one themselves, and
/// those that would lead nowhere else.
fn with_links(
    listing: Listing,
    moved: &[(RelPath, RelPath)],
    renamed: &dyn Fn(&str) -> Option<String>,
) -> Result<Listing> {
    let mut changes = Vec::new();
    for entry in listing.entries() {
        let Node::Symlink { target } = &entry.node else { continue };
        let was = moved.iter().find(|(_, to)| *to == entry.path).map_or(&entry.path, |(from, _)| from);
        let is_new = *was != entry.path;
        let folder = |path: &RelPath| Path::new(path.parent().unwrap_or_default()).to_owned();
        let end = link::normal(&folder(was).join(&**target));
        let Some(end) = end.to_str().filter(|_| !target.starts_with('/')) else { continue };
        let Some(to) = renamed(end).filter(|to| listing.has(to) && (is_new || !listing.has(end))) else { continue };
        let node = Node::Symlink { target: link::relative(&folder(&entry.path), Path::new(&to)).into() };
        changes.push((entry.path.clone(), Some(Entry { node, ..entry.clone() })));
    }
    if changes.is_empty() { Ok(listing) } else { overlay(&listing, &Layer::new(changes)?) }
}

/// The files that hold the id, under the new one.
fn holds_id(base: &Listing, rules: &[RenameRule], (old, new): (&str, &str)) -> Result<Vec<Derive>> {
    let mut derived: Vec<Derive> = Vec::new();
    for rule in rules {
        for key in &rule.keys {
            let file = RelPath::new(key.file.replace("{id}", new))?;
            let (Some(entry), Some(format)) = (base.get(file.as_str()), key.format()) else { continue };
            if !matches!(entry.node, Node::File { .. }) {
                continue;
            }
            let step =
                EditStep { format, key: key.key.clone(), encoding: None, value: Some(new.to_owned()), put: None };
            match derived.iter_mut().find(|derive| derive.of.path == file) {
                Some(Derive { transform: Transform::Edit { edits }, .. }) => edits.push(step),
                _ => derived.push(Derive { of: entry.clone(), transform: Transform::Edit { edits: vec![step] } }),
            }
        }
        let patterns: Vec<String> = rule.text.iter().map(|text| text.replace("{id}", &escape(new))).collect();
        let set = PathSet::new(patterns.iter().map(String::as_str), false).unwrap_or_default();
        for entry in base.entries().iter().filter(|entry| set.contains(entry.path.as_str())) {
            let known = derived.iter().any(|derive| derive.of.path == entry.path);
            if matches!(entry.node, Node::File { .. }) && !known {
                let transform = Transform::Word { from: old.into(), to: new.into() };
                derived.push(Derive { of: entry.clone(), transform });
            }
        }
    }
    Ok(derived)
}

#[cfg(test)]
#[allow(clippy::unwrap_used)]
mod tests {
    use super::*;
    use crate::ident::ContentId;
    use crate::sheet::IdKey;

    fn listing(paths: &[&str]) -> Listing {
        let node = Node::File { content: ContentId::from_bytes([1; 32]), size: 1, executable: false };
        let entry = |path: &&str| Entry { path: RelPath::new(path).unwrap(), node: node.clone(), mtime: 0 };
        Listing::new(paths.iter().map(entry).collect()).unwrap()
    }

    #[test]
    fn names_that_hold_the_id_are_moved_or_copied_and_collisions_are_refused() {
        let there = listing(&[
            "game/bin/1.4",
            "game/v/1.4/1.4.jar",
            "game/v/1.4/1.4.json",
            "game/v/1.4/data",
            "game/v/other/x",
        ]);
        let key = IdKey { file: "game/v/{id}/{id}.json".into(), key: "id".into(), format: None };
        let rule = RenameRule {
            within: "game/v".into(),
            keys: vec![key],
            text: vec!["game/v/{id}/data".into()],
            ..RenameRule::default()
        };
        let paths = |renamed: &Renamed| -> Vec<String> {
            renamed.draft.base.entries().iter().map(|entry| entry.path.to_string()).collect()
        };
        let moved = rename(&there, std::slice::from_ref(&rule), ("1.4", "mine"), (false, None)).unwrap();
        let expected =
            ["game/bin/1.4", "game/v/mine/data", "game/v/mine/mine.jar", "game/v/mine/mine.json", "game/v/other/x"];
        assert_eq!(paths(&moved), expected);
        let holds: Vec<_> = moved.draft.derived.iter().map(|derive| derive.of.path.as_str()).collect();
        assert_eq!(holds, ["game/v/mine/mine.json", "game/v/mine/data"]);
        let only = RelPath::new("game/v/1.4").unwrap();
        let copied = rename(&there, std::slice::from_ref(&rule), ("1.4", "mine"), (true, Some(&only))).unwrap();
        assert_eq!(paths(&copied).len(), 8, "the old one stays");
        let taken = rename(&there, std::slice::from_ref(&rule), ("1.4", "other"), (true, None));
        assert!(taken.is_ok(), "another folder of that name is only added to");
        let there = listing(&["game/v/1.4/1.4.jar", "game/v/mine/mine.jar"]);
        assert!(matches!(
            rename(&there, std::slice::from_ref(&rule), ("1.4", "mine"), (true, None)),
            Err(Error::Exists { .. })
        ));
        assert!(matches!(rename(&there, &[rule], ("1.4", "a/b"), (true, None)), Err(Error::Path { .. })));
    }
}
