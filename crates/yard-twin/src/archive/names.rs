//! The names in an archive, and what is wrong with them: what means something to any system is refused on all.

use std::borrow::Cow;
use std::collections::HashMap;
use std::fmt;
use std::path::{Path, PathBuf};
use std::str::FromStr;

use encoding_rs::Encoding;

use super::{BYTES, Is, MEMBERS, Member, RATIO, SMALL, Said, as_path, fault};
use crate::error::{Error, IntakeError, Noun, Result};
use crate::path::{at_and_above, fold_key};

/// How names in an archive are written that are not UTF-8: one of the WHATWG Encoding Standard by any of its labels
/// (`shift_jis`, `windows-1251`, `gbk`), or `ibm437`, which zip archives were made with first.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct NameEncoding(How);

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum How {
    Standard(&'static Encoding),
    Ibm437,
}

/// What the upper half of IBM code page 437 means.
const IBM437: &str = "\
    ÇüéâäàåçêëèïîìÄÅÉæÆôöòûùÿÖÜ¢£¥₧ƒáíóúñÑªº¿⌐¬½¼¡«»░▒▓│┤╡╢╖╕╣║╗╝╜╛┐└┴┬├─┼╞╟╚╔╩╦╠═╬╧╨╤╥╙╘╒╓╫╪┘┌█▄▌▐▀αßΓπΣσµτΦΘΩδ∞φε∩≡±≥≤⌠⌡÷≈°∙·√ⁿ²■\u{a0}";

/// Those that are shown to whoever has to say it.
const LIKELY: [&str; 6] = ["ibm437", "windows-1252", "windows-1251", "shift_jis", "gbk", "euc-kr"];

impl FromStr for NameEncoding {
    type Err = Error;

    fn from_str(label: &str) -> Result<Self> {
        let how = match label.to_ascii_lowercase().as_str() {
            "ibm437" | "cp437" => Some(How::Ibm437),
            _ => Encoding::for_label(label.as_bytes()).map(How::Standard),
        };
        let known = || LIKELY.iter().map(|label| (*label).to_owned()).collect();
        how.map(Self).ok_or_else(|| Error::NotFound { what: Noun::Encoding, name: label.into(), known: known() })
    }
}

impl fmt::Display for NameEncoding {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.0 {
            How::Standard(encoding) => f.write_str(&encoding.name().to_ascii_lowercase()),
            How::Ibm437 => f.write_str("ibm437"),
        }
    }
}

impl NameEncoding {
    /// A name, unless it can't be written so.
    fn decode(self, name: &[u8]) -> Option<String> {
        match self.0 {
            How::Standard(encoding) => {
                encoding.decode_without_bom_handling_and_without_replacement(name).map(Cow::into_owned)
            }
            How::Ibm437 => {
                let upper: Vec<char> = IBM437.chars().collect();
                let decoded = |byte: &u8| match byte.checked_sub(0x80) {
                    Some(at) => upper.get(usize::from(at)).copied(),
                    None => Some(char::from(*byte)),
                };
                name.iter().map(decoded).collect()
            }
        }
    }
}

/// Checks the members of an archive one after the other.
pub(super) struct Names {
    archive: PathBuf,
    written: Option<NameEncoding>,
    /// Each name, and each folder above one: whether it is a folder's.
    known: HashMap<String, bool>,
    /// The folders that are members themselves.
    folders: Vec<String>,
    members: usize,
    total: u64,
}

impl Names {
    pub(super) fn new(archive: &Path, written: Option<NameEncoding>) -> Self {
        Self { archive: archive.into(), written, known: HashMap::new(), folders: Vec::new(), members: 0, total: 0 }
    }

    pub(super) fn refuse(&self, why: impl Into<String>) -> Error {
        fault(&self.archive, why)
    }

    /// The folders among the members that have no file in them.
    pub(super) fn into_empty_folders(self, members: &[Member]) -> Vec<String> {
        let above = |path: &str| path.rsplit_once('/').map(|(above, _)| above.to_owned());
        let paths = self.folders.iter().map(String::as_str).chain(members.iter().map(|member| member.path.as_str()));
        let full: std::collections::HashSet<String> = paths.filter_map(above).collect();
        let mut empty: Vec<String> = self.folders.iter().filter(|folder| !full.contains(*folder)).cloned().collect();
        empty.sort_unstable();
        empty.dedup();
        empty
    }

    /// A name as text: UTF-8, or as it was said to be written.
    fn text<'a>(&self, name: &'a [u8]) -> Result<Cow<'a, str>> {
        if let Ok(text) = std::str::from_utf8(name) {
            return Ok(Cow::Borrowed(text));
        }
        match self.written {
            Some(written) => written.decode(name).map(Cow::Owned).ok_or_else(|| {
                fault(&self.archive, format!("{:?} is not written in {written}", String::from_utf8_lossy(name)))
            }),
            None => {
                let likely = LIKELY.iter().filter_map(|label| label.parse::<NameEncoding>().ok());
                let readings = likely.filter_map(|label| Some((label.to_string(), label.decode(name)?))).collect();
                Err(IntakeError::Names { path: self.archive.clone(), readings }.into())
            }
        }
    }

    /// Takes a member; `None` for a folder. `packed` is what it takes in the archive, if that can be said.
    pub(super) fn take(&mut self, said: &Said<'_>, packed: Option<u64>) -> Result<Option<Member>> {
        let &Said { index, is, size, mtime, executable, .. } = said;
        let name = self.text(said.name)?;
        let refuse = |why: &str| Err(fault(&self.archive, format!("{name:?}: {why}")));
        self.members += 1;
        if self.members > MEMBERS {
            return Err(self.refuse(format!("it has more than {MEMBERS} members")));
        }
        let trimmed = name.trim_end_matches('/');
        if let Some(why) = wrong(trimmed) {
            return refuse(why);
        }
        match is {
            Is::Folder => return self.folder(trimmed).map(|()| None),
            Is::Link => return refuse("it is a link, and those are not taken from archives"),
            Is::Locked => return refuse("it is encrypted"),
            Is::Special => return refuse("it is neither a file nor a folder"),
            Is::File => {}
        }
        self.total = self.total.saturating_add(size);
        let most = packed.map_or(BYTES, |packed| packed.saturating_mul(RATIO).saturating_add(SMALL));
        if self.total > BYTES || size > most {
            return refuse(&format!("it would unpack to {size} bytes, which is out of proportion"));
        }
        for (at, above) in at_and_above(trimmed).enumerate() {
            // A name is that of one file, or that of folders.
            let known = self.known.insert(fold_key(above), at > 0);
            if known.is_some_and(|folder| !folder || at == 0) {
                return refuse("there is another one of that name, or in its place");
            }
        }
        Ok(Some(Member { index, path: trimmed.into(), size, mtime, executable }))
    }

    fn folder(&mut self, name: &str) -> Result<()> {
        for above in at_and_above(name) {
            if self.known.insert(fold_key(above), true) == Some(false) {
                return Err(self.refuse(format!("{name:?}: there is another one of that name, or in its place")));
            }
        }
        self.folders.push(name.to_owned());
        Ok(())
    }
}

/// What is wrong with a name, if anything.
fn wrong(name: &str) -> Option<&'static str> {
    if as_path(name).is_none() {
        return Some("it leads out of the archive");
    }
    if name.contains(|c: char| c.is_control() || matches!(c, '\\' | ':' | '<' | '>' | '"' | '|' | '?' | '*')) {
        return Some("it has a character that no name should have");
    }
    let odd = |part: &str| {
        let stem = part.split('.').next().unwrap_or(part).to_ascii_uppercase();
        let numbered = |word: &str| stem.strip_prefix(word).is_some_and(|rest| rest.len() == 1 && rest != "0");
        part.ends_with(['.', ' '])
            || matches!(stem.as_str(), "CON" | "PRN" | "AUX" | "NUL")
            || ((numbered("COM") || numbered("LPT")) && stem.as_bytes()[3].is_ascii_digit())
    };
    name.split('/').any(odd).then_some("it is no name on every system")
}
