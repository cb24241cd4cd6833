//! The forms in which an absolute path is written.

use unicode_normalization::UnicodeNormalization;

use super::repath::PathForm;

/// A path in one form, and what it is replaced by.
pub(super) struct Needle {
    pub(super) pair: usize,
    pub(super) form: PathForm,
    pub(super) bytes: Vec<u8>,
    pub(super) to: Vec<u8>,
    /// Bytes of a character: 2 in UTF-16; and whether the more significant one comes first.
    pub(super) wide: Option<bool>,
    /// Of a path that is looked for by its last name only: all of its names.
    pub(super) names: Option<Vec<String>>,
}

/// How a form is written.
pub(super) type Write = fn(&str) -> String;

/// A path in all forms.
pub(super) fn forms(pair: usize, from: &str, to: &str) -> Vec<Needle> {
    let each: [(PathForm, Write); 12] = [
        (PathForm::Plain, str::to_owned),
        (PathForm::Xml, in_xml),
        (PathForm::Xml, |path| in_xml(&percent_encoded(path, LEFT_IN_URLS, true))),
        (PathForm::Unicode, |path| in_ascii(path, false)),
        (PathForm::Unicode, |path| in_ascii(path, true)),
        (PathForm::Shell, for_shell),
        // Some write escapes in small letters.
        (PathForm::Url, |path| percent_encoded(path, LEFT_IN_URLS, true)),
        (PathForm::Url, |path| percent_encoded(path, b"/-._~", false)),
        (PathForm::Escaped, |path| path.replace('/', "\\/")),
        (PathForm::Backslashes, |path| path.replace('/', "\\")),
        (PathForm::DoubledBackslashes, |path| path.replace('/', "\\\\")),
        (PathForm::Url, encoded),
    ];
    let mut needles: Vec<Needle> = Vec::new();
    let other: [String; 2] = [from.nfc().collect(), from.nfd().collect()];
    for from in std::iter::once(from).chain(other.iter().map(String::as_str)) {
        for (form, write) in each {
            let (bytes, to) = (write(from).into_bytes(), write(to).into_bytes());
            if !needles.iter().any(|there| there.bytes == bytes) {
                needles.push(Needle { pair, form, bytes, to, wide: None, names: None });
            }
        }
    }
    for write in [str::to_owned as Write, |path: &str| path.replace('/', "\\")] {
        for big in [false, true] {
            let units = |text: String| -> Vec<u8> {
                let units = text.encode_utf16();
                units.flat_map(|unit| if big { unit.to_be_bytes() } else { unit.to_le_bytes() }).collect()
            };
            let (bytes, to) = (units(write(from)), units(write(to)));
            needles.push(Needle { pair, form: PathForm::Wide, bytes, to, wide: Some(big), names: None });
        }
    }
    needles
}

/// What many leave as it is in URLs, more than the standard asks for.
const LEFT_IN_URLS: &[u8] = b"/-._~!$&'()*+,;=:@";

/// The path in a URL: all but the unreserved characters of RFC 3986 and the slash are percent-encoded.
pub(super) fn encoded(path: &str) -> String {
    percent_encoded(path, b"/-._~", true)
}

/// A path in which all but letters, digits and what is `plain` is percent-encoded, in capitals or not.
fn percent_encoded(path: &str, plain: &[u8], capitals: bool) -> String {
    let mut out = String::with_capacity(path.len());
    for byte in path.bytes() {
        match (byte.is_ascii_alphanumeric() || plain.contains(&byte), capitals) {
            (true, _) => out.push(char::from(byte)),
            (false, true) => out.push_str(&format!("%{byte:02X}")),
            (false, false) => out.push_str(&format!("%{byte:02x}")),
        }
    }
    out
}

/// How a path is escaped in the text around it, where that is XML or JSON.
pub(super) fn escape_around(bytes: &[u8]) -> Option<Write> {
    let text = bytes.strip_prefix(b"\xef\xbb\xbf").unwrap_or(bytes).trim_ascii_start();
    match text {
        [b'<', next, ..] if next.is_ascii_alphabetic() || matches!(next, b'?' | b'!') => Some(in_xml),
        [b'{', ..] | [b'[', b'"' | b'{' | b'\n' | b'\r' | b' ' | b'\t' | b']', ..] => Some(in_json),
        _ => None,
    }
}

fn in_xml(path: &str) -> String {
    path.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;").replace('\'', "&apos;")
}

fn in_json(path: &str) -> String {
    let quoted = serde_json::Value::from(path).to_string();
    quoted[1..quoted.len() - 1].to_owned()
}

/// A path as JSON has it that knows ASCII only.
fn in_ascii(path: &str, capitals: bool) -> String {
    let mut out = String::with_capacity(path.len());
    for c in in_json(path).chars() {
        if c.is_ascii() {
            out.push(c);
            continue;
        }
        for unit in c.encode_utf16(&mut [0; 2]) {
            out.push_str(&if capitals { format!("\\u{unit:04X}") } else { format!("\\u{unit:04x}") });
        }
    }
    out
}

/// A path as it is typed in a shell, without quotes.
fn for_shell(path: &str) -> String {
    let mut out = String::with_capacity(path.len());
    for c in path.chars() {
        if c.is_ascii() && !c.is_ascii_alphanumeric() && !"/-._+,:=@%".contains(c) {
            out.push('\\');
        }
        out.push(c);
    }
    out
}
