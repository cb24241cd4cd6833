//! A yard of a small title whose program does what it is told, and packages of mods for it.

use std::fs;
use std::os::unix::fs::PermissionsExt;

use super::Desk;
use super::common::Place;

/// A yard of a title, with twins of it.
pub fn desk(sheet: &str, twins: &[&str]) -> Desk {
    let desk = Desk::at_place(Place::for_launches(), "mods");
    desk.ok(&["init"]);
    let text = format!("title = \"hills\"\n{sheet}\n[programs.play]\npath = {{ any = \"bin/do\" }}\n");
    write(&desk, "yard/sheets/hills.toml", &text);
    write(&desk, "build/bin/do", "#!/bin/sh\neval \"$1\"\n");
    fs::set_permissions(desk.at("build/bin/do"), fs::Permissions::from_mode(0o755)).unwrap();
    for (path, text) in [("data/a", "shipped a\n"), ("data/b", "shipped b\n"), ("read.txt", "about\n")] {
        write(&desk, &format!("build/{path}"), text);
    }
    desk.ok(&["intake", "build", "--title", "hills", "--build", "1.4"]);
    for twin in twins {
        desk.ok(&["clone", "hills@1.4", twin]);
    }
    desk
}

pub fn write(desk: &Desk, path: &str, text: &str) {
    let path = desk.at(path);
    fs::create_dir_all(path.parent().unwrap()).unwrap();
    // What is shared is not written to: whoever edits makes a new file.
    fs::remove_file(&path).ok();
    fs::write(path, text).unwrap();
    desk.place.give_away();
}

/// A package of files in a folder.
pub fn pack(desk: &Desk, name: &str, files: &[(&str, &str)]) {
    for (path, text) in files {
        write(desk, &format!("{name}/{path}"), text);
    }
}

pub fn read(desk: &Desk, path: &str) -> String {
    fs::read_to_string(desk.at("yard/twins").join(path)).unwrap_or_else(|_| "(none)".into())
}
