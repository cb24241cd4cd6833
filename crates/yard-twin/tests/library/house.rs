//! The rooms of the library: an import points down, so there is no circle among them, and the map names every room.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

type Imports = BTreeMap<String, BTreeSet<String>>;

fn source() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("src")
}

fn files(folder: &Path) -> Vec<PathBuf> {
    let paths = fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path());
    paths.flat_map(|path| if path.is_dir() { files(&path) } else { vec![path] }).collect()
}

/// The room that a file is in.
fn room(file: &Path) -> String {
    let first = file.strip_prefix(source()).unwrap().components().next().unwrap().as_os_str();
    first.to_str().unwrap().trim_end_matches(".rs").to_owned()
}

/// The code of a file without its comments and its unit tests.
fn code(file: &Path) -> String {
    let text = fs::read_to_string(file).unwrap();
    let end = text.find("#[cfg(test)]\n#[allow").unwrap_or(text.len());
    text[..end].lines().filter(|line| !line.trim_start().starts_with("//")).collect::<Vec<_>>().join("\n")
}

fn is_part(c: char) -> bool {
    c.is_alphanumeric() || c == '_'
}

/// What is named behind `crate::`: one thing, or several in braces.
fn names(text: &str) -> Vec<String> {
    let first = |text: &str| text.trim_start().chars().take_while(|c| is_part(*c)).collect::<String>();
    match text.strip_prefix('{').and_then(|rest| rest.split_once('}')) {
        Some((several, _)) => several.split(',').map(first).filter(|name| !name.is_empty()).collect(),
        None => vec![first(text)],
    }
}

/// For each room, those that it imports from.
fn imports() -> Imports {
    let (mut imports, facade) = (Imports::new(), fs::read_to_string(source().join("lib.rs")).unwrap());
    let ours = |file: &PathBuf| {
        let room = room(file);
        let test =
            ["faults", "lib"].contains(&room.as_str()) || file.ends_with("tests.rs") || file.ends_with("former.rs");
        !test
    };
    let files: Vec<PathBuf> = files(&source()).into_iter().filter(ours).collect();
    let rooms: BTreeSet<String> = files.iter().map(|file| room(file)).collect();
    for file in files {
        let code = code(&file);
        for name in code.split("crate::").skip(1).flat_map(names) {
            // A name of the facade stands for the room that it comes from.
            let has = |line: &str| line.split(|c: char| !is_part(c)).any(|word| word == name);
            let from = |line: &str| has(line).then(|| line.split("::").next().unwrap_or_default().to_owned());
            let reexported = || facade.split("pub use ").skip(1).find_map(|line| from(line.split(';').next()?));
            let target = if rooms.contains(&name) { Some(name.clone()) } else { reexported() };
            if let Some(target) = target.filter(|target| *target != room(&file)) {
                imports.entry(room(&file)).or_default().insert(target);
            }
        }
    }
    imports
}

#[test]
fn there_is_no_circle_among_the_rooms() {
    let mut left = imports();
    // Whoever imports from nobody that is left is at the bottom, and goes.
    loop {
        let names: BTreeSet<String> = left.keys().cloned().collect();
        let bottom: Vec<String> =
            left.iter().filter(|(_, to)| to.is_disjoint(&names)).map(|(from, _)| from.clone()).collect();
        if bottom.is_empty() {
            break;
        }
        bottom.iter().for_each(|room| drop(left.remove(room)));
    }
    assert!(left.is_empty(), "these import in a circle: {left:#?}");
}

/// Methods can be called without an import: if every room could add some to `Yard`, nobody would see who needs whom.
#[test]
fn only_the_yard_and_its_opening_give_it_methods() {
    let with_methods = files(&source()).into_iter().filter(|file| code(file).contains("\nimpl Yard {"));
    let rooms: BTreeSet<String> = with_methods.map(|file| room(&file)).collect();
    assert_eq!(rooms.into_iter().collect::<Vec<_>>(), ["open", "yard"]);
}

#[test]
fn the_map_names_every_room() {
    let design = fs::read_to_string(Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/design.md")).unwrap();
    let map = design.split("## ").find(|part| part.starts_with("The map")).unwrap();
    for room in imports().into_keys() {
        assert!(map.contains(&format!("`{room}/`")) || map.contains(&format!("`{room}`")), "{room} is on no map");
    }
}
