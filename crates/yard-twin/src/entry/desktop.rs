//! Desktop entries, by the Desktop Entry Specification 1.5.

use std::collections::HashSet;
use std::fs;
use std::io;
use std::path::Path;

use crate::error::{PathContext, Result};
use crate::ident::{TwinId, TwinName};

/// A desktop file larger than this is none.
const SIZE_MAX: u64 = 1 << 20;

/// The text of an entry that is shown as `name` and runs `command`.
pub(super) fn text(name: &str, twin: &TwinName, id: TwinId, command: &[String]) -> Result<String, &'static str> {
    if command.first().is_none_or(|program| program.contains('=')) {
        return Err("the path of the program that starts twins has a '=' in it, which this format can't hold");
    }
    let exec: Vec<_> = command.iter().map(|argument| quoted(argument)).collect();
    Ok(format!(
        "[Desktop Entry]\n\
         Type=Application\n\
         Version=1.5\n\
         Name={}\n\
         Comment={}\n\
         Exec={}\n\
         Terminal=false\n\
         Categories=Game;\n\
         X-YardTwin-Twin={id}\n",
        escaped(&shown(name)),
        escaped(&format!("Starts the twin {twin} with its own settings and saves")),
        escaped(&exec.join(" ")),
    ))
}

/// The text without control characters, which no menu shows.
fn shown(text: &str) -> String {
    text.chars().map(|c| if c.is_control() { ' ' } else { c }).collect()
}

/// A value of type string: backslashes and control characters escaped, and a leading space, which would be dropped.
fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for (at, c) in text.char_indices() {
        match c {
            '\\' => out.push_str("\\\\"),
            '\n' => out.push_str("\\n"),
            '\r' => out.push_str("\\r"),
            '\t' => out.push_str("\\t"),
            ' ' if at == 0 => out.push_str("\\s"),
            c => out.push(c),
        }
    }
    out
}

/// An argument of `Exec`, before the escaping that every string gets: quoted where it holds a reserved character, with
/// field codes disarmed.
fn quoted(argument: &str) -> String {
    const RESERVED: [char; 20] =
        [' ', '\t', '\n', '"', '\'', '\\', '>', '<', '~', '|', '&', ';', '$', '*', '?', '#', '(', ')', '`', '\r'];
    let argument = argument.replace('%', "%%");
    if !argument.is_empty() && !argument.contains(RESERVED) {
        return argument;
    }
    let mut out = String::from('"');
    for c in argument.chars() {
        if matches!(c, '"' | '`' | '$' | '\\') {
            out.push('\\');
        }
        out.push(c);
    }
    out.push('"');
    out
}

/// The names of the entries in a folder, other than the one at `but`.
pub(super) fn names_in(folder: &Path, but: &Path) -> Result<HashSet<String>> {
    let entries = match fs::read_dir(folder) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(HashSet::new()),
        entries => entries.at("list", folder)?,
    };
    let mut names = HashSet::new();
    for entry in entries {
        let path = entry.at("list", folder)?.path();
        let desktop = path.extension().is_some_and(|ending| ending == "desktop") && path != but;
        let small = || path.metadata().is_ok_and(|meta| meta.is_file() && meta.len() <= SIZE_MAX);
        if desktop && small() {
            // One that can't be read is none of ours, and shows no name.
            let text = fs::read_to_string(&path).unwrap_or_default();
            names.extend(text.lines().filter_map(|line| line.strip_prefix("Name=")).map(unescaped));
        }
    }
    Ok(names)
}

fn unescaped(text: &str) -> String {
    text.replace("\\s", " ").replace("\\\\", "\\")
}
