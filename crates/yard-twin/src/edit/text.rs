//! The text of a config file in its encoding: decoded only if it can be written back byte for byte.

use std::ops::Range;

use encoding_rs::{Encoding, UTF_8, UTF_16BE, UTF_16LE, WINDOWS_1252};

use super::{EditFault, Format, MAX, Result};

/// A byte order mark, in text.
const MARK: char = '\u{feff}';

/// A decoded file, without its byte order mark.
pub(super) struct Text {
    pub(super) text: String,
    encoding: &'static Encoding,
    mark: bool,
}

impl Text {
    /// Decodes by the byte order mark, else by what was named, else by what XML declares, else as UTF-8, else as
    /// Windows-1252, which has a character for every byte.
    pub(super) fn decode(bytes: &[u8], (format, named): (Format, Option<&str>)) -> Result<Self> {
        if bytes.len() as u64 > MAX {
            return Err(EditFault::TooLarge(bytes.len() as u64));
        }
        let known = |name: &str| Encoding::for_label(name.as_bytes()).ok_or(EditFault::UnknownEncoding(name.into()));
        let named = named.map(known).transpose()?.or_else(|| declared(bytes).filter(|_| format == Format::Xml));
        let (encoding, mark) = match Encoding::for_bom(bytes) {
            Some((encoding, _)) => (encoding, true),
            None => match named {
                Some(named) => (named, false),
                None if std::str::from_utf8(bytes).is_ok() => (UTF_8, false),
                None => (WINDOWS_1252, false),
            },
        };
        let (text, _) = encoding.decode_with_bom_removal(bytes);
        if text.contains('\0') {
            return Err(EditFault::Binary);
        }
        let decoded = Self { text: text.into_owned(), encoding, mark };
        match decoded.encode() {
            Ok(again) if again == bytes => Ok(decoded),
            _ => Err(EditFault::Encoding),
        }
    }

    /// The name of its encoding where that is a guess.
    pub(super) fn guessed(&self) -> Option<String> {
        (!self.mark && self.encoding != UTF_8).then(|| self.encoding.name().to_owned())
    }

    /// The same with a piece replaced.
    pub(super) fn with(&self, range: Range<usize>, put: &str) -> Self {
        let text = format!("{}{put}{}", &self.text[..range.start], &self.text[range.end..]);
        Self { text, encoding: self.encoding, mark: self.mark }
    }

    /// Its bytes.
    pub(super) fn encode(&self) -> Result<Vec<u8>> {
        let mark = if self.mark { Some(MARK) } else { None };
        if self.encoding == UTF_16LE || self.encoding == UTF_16BE {
            let little = self.encoding == UTF_16LE;
            let all = mark.into_iter().chain(self.text.chars());
            let mut units = [0; 2];
            return Ok(all.fold(Vec::with_capacity(self.text.len() * 2 + 2), |mut bytes, c| {
                for unit in c.encode_utf16(&mut units) {
                    bytes.extend(if little { unit.to_le_bytes() } else { unit.to_be_bytes() });
                }
                bytes
            }));
        }
        let (bytes, _, unmappable) = self.encoding.encode(&self.text);
        if unmappable {
            let odd = self.text.chars().find(|c| self.encoding.encode(c.encode_utf8(&mut [0; 4])).2);
            let why = format!("{} has no such character as {:?}", self.encoding.name(), odd.unwrap_or_default());
            return Err(EditFault::Value { value: odd.map(String::from).unwrap_or_default(), why });
        }
        let mut out = mark.map(String::from).unwrap_or_default().into_bytes();
        out.extend_from_slice(&bytes);
        Ok(out)
    }
}

/// The encoding that an XML declaration names, if it stands in bytes as they would be in ASCII (XML 1.0, 4.3.3).
fn declared(bytes: &[u8]) -> Option<&'static Encoding> {
    let end = bytes.iter().take(256).position(|byte| *byte == b'>')?;
    let declaration = std::str::from_utf8(&bytes[..end]).ok()?.strip_prefix("<?xml")?;
    let value = declaration.split_once("encoding")?.1.trim_start().strip_prefix('=')?.trim_start();
    let quote = value.chars().next().filter(|c| matches!(c, '"' | '\''))?;
    let name = value[1..].split_once(quote)?.0;
    // One that takes two bytes for a character would not have let it be read. Some say UTF-8 and are none.
    Encoding::for_label(name.as_bytes())
        .filter(|encoding| encoding.is_ascii_compatible() && (*encoding != UTF_8 || std::str::from_utf8(bytes).is_ok()))
}
