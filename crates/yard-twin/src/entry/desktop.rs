//! Desktop entries, by the Desktop Entry Specification 1.5, with nothing in them that version 1.0 lacks: checkers
//! refuse a version they don't know.

use std::collections::HashSet;
use std::fs;
use std::io;
use std::path::Path;

use crate::error::{PathContext, Result};
use crate::ident::{TwinId, TwinName};

/// A desktop file larger than this is none.
const SIZE_MAX: u64 = 1 << 20;

/// What goes before a program whose path the format can't hold in first place: it allows no `=` there, and starters look
/// for the program before they turn `%%` into `%`.
const THROUGH_SHELL: [&str; 3] = ["/bin/sh", "-c", "exec \"$0\" \"$@\""];

/// The text of an entry that is shown as `name` and runs `command`.
pub(super) fn text(name: &str, twin: &TwinName, id: TwinId, command: &[String]) -> String {
    let odd = command.first().is_some_and(|program| program.contains(['=', '%']));
    let through = if odd { THROUGH_SHELL.as_slice() } else { &[] };
    let exec: Vec<_> = through.iter().copied().chain(command.iter().map(String::as_str)).map(quoted).collect();
    format!(
        "[Desktop Entry]\n\
         Type=Application\n\
         Version=1.0\n\
         Name={}\n\
         Comment={}\n\
         Exec={}\n\
         Terminal=false\n\
         Categories=Game;\n\
         X-YardTwin-Twin={id}\n",
        escaped(&shown(name)),
        escaped(&comment(twin)),
        escaped(&exec.join(" ")),
    )
}

/// The text of an entry of ours with another name in it; `None` if it is no entry of this twin.
pub(super) fn relabelled(text: &str, name: &str, twin: &TwinName, id: TwinId) -> Option<String> {
    if !text.lines().any(|line| line == format!("X-YardTwin-Twin={id}")) {
        return None;
    }
    let line = |line: &str| match line.split_once('=') {
        Some(("Name", _)) => format!("Name={}\n", escaped(&shown(name))),
        Some(("Comment", _)) => format!("Comment={}\n", escaped(&comment(twin))),
        _ => format!("{line}\n"),
    };
    Some(text.lines().map(line).collect())
}

/// What keeps an entry from starting a twin, and whether it is one of ours.
pub(super) fn fault(text: &str, id: TwinId) -> Option<(String, bool)> {
    if !text.lines().any(|line| line == format!("X-YardTwin-Twin={id}")) {
        return Some(("is none of this twin's any more".into(), false));
    }
    let exec = text.lines().find_map(|line| line.strip_prefix("Exec=")).unwrap_or_default();
    if !exec.trim_end().ends_with(&id.to_string()) {
        return Some(("doesn't start this twin".into(), true));
    }
    let program = first_word(&unescaped(exec));
    if Path::new(&program).is_absolute() && !Path::new(&program).exists() {
        return Some((format!("starts a program that is not there: {program}"), true));
    }
    None
}

/// The first argument of an `Exec`, unquoted.
fn first_word(exec: &str) -> String {
    let Some(quoted) = exec.strip_prefix('"') else {
        return exec.split(' ').next().unwrap_or_default().replace("%%", "%");
    };
    let (mut word, mut characters) = (String::new(), quoted.chars());
    while let Some(c) = characters.next() {
        match c {
            '"' => break,
            '\\' => word.extend(characters.next()),
            c => word.push(c),
        }
    }
    word.replace("%%", "%")
}

fn comment(twin: &TwinName) -> String {
    format!("Starts the twin {twin} with its own settings and saves")
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
            // An unreadable entry is not ours, and shows no name.
            let text = fs::read_to_string(&path).unwrap_or_default();
            names.extend(text.lines().filter_map(|line| line.strip_prefix("Name=")).map(unescaped));
        }
    }
    Ok(names)
}

fn unescaped(text: &str) -> String {
    text.replace("\\s", " ").replace("\\\\", "\\")
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// What a menu does with `Exec`: the string's escapes, then the quotes, then the field codes.
    fn parsed(exec: &str) -> Vec<String> {
        let mut text = String::new();
        let mut escaped = exec.chars();
        while let Some(c) = escaped.next() {
            text.push(match (c, c == '\\') {
                (_, true) => match escaped.next().expect("an escape is whole") {
                    's' => ' ',
                    'n' => '\n',
                    'r' => '\r',
                    't' => '\t',
                    c => c,
                },
                (c, false) => c,
            });
        }
        let (mut words, mut word, mut quoted, mut begun) = (Vec::new(), String::new(), false, false);
        let mut chars = text.chars();
        while let Some(c) = chars.next() {
            match c {
                '"' => (quoted, begun) = (!quoted, true),
                '\\' if quoted => word.push(chars.next().expect("a backslash is followed")),
                ' ' if !quoted => {
                    if begun || !word.is_empty() {
                        words.push(std::mem::take(&mut word));
                    }
                    begun = false;
                }
                c => {
                    assert!(quoted || !c.is_whitespace(), "unquoted {c:?}");
                    word.push(c);
                }
            }
        }
        words.push(word);
        words.iter().map(|word| word.replace("%%", "%")).collect()
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

        #[test]
        fn what_a_menu_reads_is_the_command_that_was_meant(
            program in "/[ -~]{1,12}",
            arguments in prop::collection::vec("[ -~\n\t\ré日]{0,12}", 0..4),
            name in "[ -~\n]{1,20}",
        ) {
            let twin = TwinName::new("a").expect("a good name");
            let id = "0123456789abcdef".parse().expect("a good id");
            let command: Vec<String> = std::iter::once(program.clone()).chain(arguments).collect();
            let text = text(&name, &twin, id, &command);
            prop_assert_eq!(text.lines().count(), 9, "no value breaks out of its line");
            let exec = text.lines().find_map(|line| line.strip_prefix("Exec=")).expect("there is one");
            let mut words = parsed(exec);
            if program.contains(['=', '%']) {
                prop_assert_eq!(words.drain(..3).collect::<Vec<_>>(), THROUGH_SHELL);
            }
            prop_assert_eq!(words, command);
        }
    }
}
