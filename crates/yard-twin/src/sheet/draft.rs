//! A cautious sheet for a title that nobody has described: by usual endings and folder names.

use std::collections::{BTreeMap, BTreeSet};
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

/// Endings of scripts, which are no program while there is one.
const SCRIPTS: [&str; 7] = ["sh", "bash", "py", "pl", "lua", "bat", "cmd"];

/// So many programs are named.
const CANDIDATES: usize = 5;

/// Folder names whose contents are worth nothing.
const WORTHLESS: [&str; 6] = ["cache", "caches", "log", "logs", "temp", "tmp"];

/// Endings of what a program leaves that nobody needs again.
const WORTHLESS_ENDINGS: [&str; 7] = ["log", "tmp", "temp", "lock", "pid", "dmp", "bak"];

/// More endings that a program's settings have, where it has written them itself.
const WRITTEN_SETTINGS: [&str; 5] = ["json", "toml", "xml", "rc", "opt"];

/// Parts of names that tell what a file is for, where a program has written it itself.
const WORDS: [(&str, Looks); 17] = [
    ("init", Looks::Settings),
    ("prefs", Looks::Settings),
    ("config", Looks::Settings),
    ("settings", Looks::Settings),
    ("options", Looks::Settings),
    ("preferences", Looks::Settings),
    ("controls", Looks::Settings),
    ("bindings", Looks::Settings),
    ("save", Looks::Saves),
    ("slot", Looks::Saves),
    ("world", Looks::Saves),
    ("profile", Looks::Saves),
    ("player", Looks::Saves),
    ("score", Looks::Saves),
    ("progress", Looks::Saves),
    ("history", Looks::Saves),
    ("stats", Looks::Saves),
];

const PICTURES: [&str; 7] = ["png", "jpg", "jpeg", "bmp", "tga", "webp", "ppm"];
const RECORDINGS: [&str; 6] = ["avi", "mkv", "mp4", "webm", "rec", "replay"];
const DATABASES: [&str; 5] = ["db", "sqlite", "sqlite3", "dat", "sav"];

/// So many files of one kind that ship with a build are its own data, and nobody's settings.
pub(super) const DOZEN: usize = 12;

/// What a file looks like.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Looks {
    Saves,
    Settings,
    Pictures,
    Recordings,
    /// Written, and nobody can say what it is.
    Live,
    /// Worth nothing.
    Worthless,
    /// A part of the program that it keeps in the home.
    Program,
}

impl Looks {
    /// The group that such files are in, if they are the player's own.
    pub(super) fn group(self) -> Option<&'static str> {
        match self {
            Self::Saves => Some("saves"),
            Self::Settings => Some("settings"),
            Self::Pictures => Some("pictures"),
            Self::Recordings => Some("recordings"),
            Self::Live | Self::Worthless | Self::Program => None,
        }
    }
}

pub(super) fn is_picture(path: &RelPath) -> bool {
    path.ending().is_some_and(|ending| PICTURES.contains(&ending.as_str()))
}

/// What a file that a program has written looks like, by its name and its folders.
pub(super) fn looks(path: &RelPath) -> Option<Looks> {
    let of_group = |group: &str| match group {
        "saves" => Looks::Saves,
        "settings" => Looks::Settings,
        "pictures" => Looks::Pictures,
        _ => Looks::Recordings,
    };
    let ending = path.ending().unwrap_or_default();
    let name = fold_key(path.name());
    let folders = || path.parent().unwrap_or_default().split('/').map(|part| fold_key(part.trim_start_matches('.')));
    if WORTHLESS_ENDINGS.contains(&ending.as_str()) || folders().any(|part| WORTHLESS.contains(&part.as_str())) {
        return Some(Looks::Worthless);
    }
    // The home's own folders say nothing about one file.
    let own = folders().skip(if path.as_str().starts_with("home/.") { 2 } else { 1 });
    let by_folder =
        own.filter_map(|part| FOLDERS.iter().find(|(known, _)| *known == part)).map(|(_, group)| of_group(group));
    let by_ending = || ENDINGS.iter().find(|(known, _)| *known == ending).map(|(_, group)| of_group(group));
    let by_word = || WORDS.iter().find(|(word, _)| name.contains(word)).map(|(_, looks)| *looks);
    let by_kind = || match ending.as_str() {
        ending if RECORDINGS.contains(&ending) => Some(Looks::Recordings),
        ending if WRITTEN_SETTINGS.contains(&ending) => Some(Looks::Settings),
        ending if DATABASES.contains(&ending) => Some(Looks::Saves),
        _ => None,
    };
    // A picture is one, unless its folder says otherwise.
    by_folder.last().or_else(|| if is_picture(path) { None } else { by_ending().or_else(by_word).or_else(by_kind) })
}

/// Drafts a sheet from what a folder holds.
pub(crate) fn draft(title: &Title, listing: &Listing) -> String {
    let mut groups: Vec<(&str, Vec<String>)> = Vec::new();
    let mut live = BTreeSet::new();
    let masses = masses(listing);
    for entry in listing.entries() {
        let Some((group, pattern)) = own(&entry.path) else { continue };
        if !group.is_empty() && masses.contains(&mass(&pattern, &entry.path)) {
            continue;
        }
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
    template(title, &likely_programs(title, listing), &live, &groups)
}

/// What a pattern stands for: its folder, or all files of an ending.
fn mass(pattern: &str, path: &RelPath) -> String {
    if pattern.ends_with("/**") { pattern.to_owned() } else { path.ending().unwrap_or_default() }
}

/// What a build ships by the dozen: that is data of its own, however it is called.
fn masses(listing: &Listing) -> BTreeSet<String> {
    let mut counts: BTreeMap<String, usize> = BTreeMap::new();
    for entry in listing.entries() {
        if let Some((_, pattern)) = own(&entry.path) {
            *counts.entry(mass(&pattern, &entry.path)).or_default() += 1;
        }
    }
    counts.into_iter().filter(|(_, count)| *count >= DOZEN).map(|(mass, _)| mass).collect()
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

/// The programs that may start the title, the likeliest first, each with its platform: executable, no script, near the top,
/// named like the title.
fn likely_programs<'a>(title: &Title, listing: &'a Listing) -> Vec<(&'static str, &'a str)> {
    let title = fold_key(title.as_str());
    let words: Vec<_> = title.split(|c: char| !c.is_alphanumeric()).filter(|word| word.len() > 2).collect();
    let rank = |entry: &&Entry| {
        let name = fold_key(entry.path.name());
        let like = words.iter().filter(|word| name.contains(**word)).count();
        let other = ["uninst", "setup", "install", "crash", "report", "helper", "update", "config"];
        let aside = other.iter().any(|word| name.contains(word));
        let script = SCRIPTS.contains(&entry.path.ending().unwrap_or_default().as_str());
        let depth = entry.path.as_str().matches('/').count();
        (platform(entry) == Some(OS), !aside, !script, like, usize::MAX - depth, entry.node.size())
    };
    let mut programs: Vec<&Entry> = listing.entries().iter().filter(|entry| platform(entry).is_some()).collect();
    programs.sort_by_key(|entry| std::cmp::Reverse(rank(entry)));
    let below = |entry: &'a Entry| Some((platform(entry)?, entry.path.as_str().strip_prefix("game/")?));
    programs.into_iter().filter_map(below).take(CANDIDATES).collect()
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
