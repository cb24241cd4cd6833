//! Rename rules: what of a listing gets another name when its id does, and which files hold the id.

use super::{Derive, Draft, EditStep, Transform};
use crate::error::{Error, Noun, Result};
use crate::listing::{Entry, Layer, Listing, Node, overlay};
use crate::path::RelPath;
use crate::sheet::pattern::escape;
use crate::sheet::{PathSet, RenameRule};

/// What renaming comes to.
pub(crate) struct Renamed {
    pub(crate) draft: Draft,
    /// From where to where, in the order of the paths.
    pub(crate) moved: Vec<(RelPath, RelPath)>,
    /// Files in which the id is changed.
    pub(crate) changed: Vec<RelPath>,
}

/// The new places of those of some paths, which are in order, that are renamed.
pub(crate) fn new_places(moved: &[(RelPath, RelPath)], paths: &[RelPath]) -> Vec<RelPath> {
    let wanted = moved.iter().filter(|(from, _)| paths.binary_search(from).is_ok());
    wanted.map(|(_, to)| to.clone()).collect()
}

/// The listing with everything that some rules find by the id `old` under the id `new`. What a rule copies, or `copy` says
/// so, stays under the old one too; `only` is a folder beside which nothing is touched.
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
    for entry in listing.entries() {
        let inside = only.is_none_or(|only| entry.path.is_at_or_below(only));
        let rule = rules.iter().find(|rule| below(&entry.path, &rule.within).is_some_and(|rest| rest.contains(old)));
        let (Some(rule), true) = (rule, inside) else { continue };
        let rest = below(&entry.path, &rule.within).unwrap_or_default();
        let to = RelPath::new(format!("{}/{}", rule.within, rest.replace(old, new)))?;
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
    let derived = holds_id(&base, rules, (old, new))?;
    let changed = derived.iter().map(|derive| derive.of.path.clone()).collect();
    Ok(Renamed { draft: Draft { base, derived }, moved, changed })
}

/// The path below a folder.
fn below<'a>(path: &'a RelPath, folder: &str) -> Option<&'a str> {
    path.as_str().strip_prefix(folder)?.strip_prefix('/')
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
        assert_eq!(
            moved.changed.iter().map(RelPath::as_str).collect::<Vec<_>>(),
            ["game/v/mine/mine.json", "game/v/mine/data"]
        );
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
