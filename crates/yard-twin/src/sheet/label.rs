//! Reads a build label out of a folder.

use std::fs::File;
use std::io::Read;
use std::path::Path;

use super::{Label, Place};

/// A file that says which build a folder is has no reason to be larger.
const SIZE_MAX: u64 = 16 << 20;

pub(super) fn read(label: &Label, game: &Path) -> Result<String, String> {
    let Some(file) = &label.file else { return from_name(label, game) };
    let path = game.join(file);
    let fail = |why: String| format!("{}: {why}", path.display());
    let mut bytes = Vec::new();
    let file = File::open(&path).map_err(|error| fail(error.to_string()))?;
    file.take(SIZE_MAX + 1).read_to_end(&mut bytes).map_err(|error| fail(error.to_string()))?;
    if bytes.len() as u64 > SIZE_MAX {
        return Err(fail("it is larger than 16 MiB".into()));
    }
    let text = String::from_utf8(bytes).map_err(|_| fail("it is not UTF-8".into()))?;
    let text = text.trim_start_matches('\u{feff}');
    let found = match &label.place {
        Place::Line(line) => text.lines().nth(line - 1).map(|line| line.trim().to_owned()),
        Place::Pointer(pointer) => {
            let json: serde_json::Value = serde_json::from_str(text).map_err(|error| fail(error.to_string()))?;
            json.pointer(pointer).and_then(|value| match value {
                serde_json::Value::String(text) => Some(text.trim().to_owned()),
                serde_json::Value::Number(number) => Some(number.to_string()),
                _ => None,
            })
        }
        Place::After(before) => behind(text, before),
        Place::Name(_) => None,
    };
    found.filter(|label| !label.is_empty()).ok_or_else(|| match &label.place {
        Place::Line(line) => fail(format!("its line {line} is missing or empty")),
        Place::Pointer(pointer) => fail(format!("it has no text or number at {pointer}")),
        Place::After(before) => fail(format!("nothing stands in it behind {before:?}")),
        Place::Name(_) => fail("its name is not as the title sheet says".into()),
    })
}

/// What stands behind a text: a word, or what is in quotes.
pub(super) fn behind(text: &str, before: &str) -> Option<String> {
    let (_, rest) = text.split_once(before)?;
    let rest = rest.trim_start_matches([' ', '\t']);
    let ends = |c: char| c.is_whitespace() || "\"'<>,;()[]{}".contains(c);
    let word = rest.trim_start_matches(['"', '\'']).split(ends).next().unwrap_or_default();
    (!word.is_empty()).then(|| word.to_owned())
}

/// The label in the name of a folder.
fn from_name(label: &Label, game: &Path) -> Result<String, String> {
    let name = game.file_name().unwrap_or_default().to_string_lossy();
    let Place::Name(pattern) = &label.place else { return Err("the label has no file".into()) };
    let found = pattern.split_once("{build}").and_then(|(before, after)| {
        Some(name.strip_prefix(before)?.strip_suffix(after)?.to_owned()).filter(|label| !label.is_empty())
    });
    found.ok_or_else(|| format!("the folder's name {name:?} is not as {pattern:?}"))
}
