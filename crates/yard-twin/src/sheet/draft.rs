//! A cautious sheet for a title that nobody has described: by usual endings and folder names.

use std::collections::BTreeSet;
use std::env::consts::OS;

use super::pattern::escape;
use super::template;
use crate::ident::Title;
use crate::listing::{Entry, Listing, Node};
use crate::path::{RelPath, fold_key};

/// Folder names that usually hold what the program writes, and the group they belong to.
const FOLDERS: [(&str, &str); 14] = [
    ("save", "saves"),
    ("saves", "saves"),
    ("saved", "saves"),
    ("savegames", "saves"),
    ("profiles", "saves"),
    ("config", "settings"),
    ("configs", "settings"),
    ("settings", "settings"),
    ("prefs", "settings"),
    ("user", "saves"),
    ("users", "saves"),
    ("userdata", "saves"),
    ("screenshots", "pictures"),
    ("recordings", "recordings"),
];

/// Endings that usually are the player's own, and the group they belong to.
const ENDINGS: [(&str, &str); 8] = [
    ("sav", "saves"),
    ("save", "saves"),
    ("ini", "settings"),
    ("cfg", "settings"),
    ("conf", "settings"),
    ("prefs", "settings"),
    ("settings", "settings"),
    ("properties", "settings"),
];

/// Folder names whose contents are worth nothing.
const WORTHLESS: [&str; 6] = ["cache", "caches", "log", "logs", "temp", "tmp"];

/// Drafts a sheet from what a folder holds.
pub(crate) fn draft(title: &Title, listing: &Listing) -> String {
    let mut groups: Vec<(&str, Vec<String>)> = Vec::new();
    let mut live = BTreeSet::new();
    for entry in listing.entries() {
        let Some((group, pattern)) = own(&entry.path) else { continue };
        match (group, groups.iter_mut().find(|(name, _)| *name == group)) {
            ("", _) => {
                live.insert(pattern);
            }
            (_, Some((_, patterns))) if patterns.contains(&pattern) => {}
            (_, Some((_, patterns))) => patterns.push(pattern),
            (_, None) => groups.push((group, vec![pattern])),
        }
    }
    let live: Vec<_> = live.into_iter().collect();
    template(title, likely_program(title, listing), &live, &groups)
}

/// The group and the pattern by which a path looks like the player's own; no group where it is worth nothing.
fn own(path: &RelPath) -> Option<(&'static str, String)> {
    let text = path.as_str();
    let mut end = 0;
    for part in path.parent()?.split('/') {
        end += part.len() + usize::from(end > 0);
        let folder = fold_key(part);
        let pattern = || format!("{}/**", escape(&text[..end]));
        if WORTHLESS.contains(&folder.as_str()) {
            return Some(("", pattern()));
        }
        if let Some((_, group)) = FOLDERS.iter().find(|(name, _)| *name == folder) {
            return Some((group, pattern()));
        }
    }
    let ending = path.ending()?;
    let (_, group) = ENDINGS.iter().find(|(known, _)| *known == ending)?;
    Some((group, escape(text)))
}

/// The program that most likely starts the title, with its platform: executable, near the top, named like the title.
fn likely_program<'a>(title: &Title, listing: &'a Listing) -> Option<(&'static str, &'a str)> {
    let title = fold_key(title.as_str());
    let words: Vec<_> = title.split(|c: char| !c.is_alphanumeric()).filter(|word| word.len() > 2).collect();
    let rank = |entry: &&Entry| {
        let name = fold_key(entry.path.name());
        let like = words.iter().filter(|word| name.contains(**word)).count();
        let other = ["uninst", "setup", "install", "crash", "report", "helper", "update", "config"];
        let aside = other.iter().any(|word| name.contains(word));
        let depth = entry.path.as_str().matches('/').count();
        (platform(entry) == Some(OS), !aside, like, usize::MAX - depth, entry.node.size())
    };
    let best = listing.entries().iter().filter(|e| platform(e).is_some()).max_by_key(rank)?;
    Some((platform(best)?, best.path.as_str().strip_prefix("game/")?))
}

/// The platform that a file looks like a program of.
fn platform(entry: &Entry) -> Option<&'static str> {
    let Node::File { executable, size, .. } = entry.node else { return None };
    let ending = entry.path.ending().unwrap_or_default();
    let library = matches!(ending.as_str(), "so" | "dll" | "dylib") || entry.path.name().contains(".so.");
    match ending.as_str() {
        _ if size == 0 || library => None,
        "exe" | "bat" | "cmd" => Some("windows"),
        _ if executable => Some(OS),
        _ => None,
    }
}
