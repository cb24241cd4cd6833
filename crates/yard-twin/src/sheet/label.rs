//! Reads a build label out of a folder.

use std::fs::File;
use std::io::Read;
use std::path::Path;

use super::{Label, Place};

/// A file that says which build a folder is has no reason to be larger.
const SIZE_MAX: u64 = 16 << 20;

pub(super) fn read(label: &Label, game: &Path) -> Result<String, String> {
    let path = game.join(&label.file);
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
    };
    found.filter(|label| !label.is_empty()).ok_or_else(|| match &label.place {
        Place::Line(line) => fail(format!("its line {line} is missing or empty")),
        Place::Pointer(pointer) => fail(format!("it has no text or number at {pointer}")),
    })
}
