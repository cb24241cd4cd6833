//! Absolute paths in files: where one is named, in whatever form, and what the file is with another in its place.

use std::ops::Range;

use aho_corasick::{AhoCorasick, Input, MatchKind};

use super::forms::{Needle, Write, encoded, escape_around, forms};
use super::loose::{begins, tails};
use super::{Derive, Draft, Transform};
use crate::edit::{self, Format};
use crate::error::Result;
use crate::listing::{Entry, Layer, Listing, Node, overlay};

/// How a path is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, serde::Serialize)]
#[serde(rename_all = "snake_case")]
pub enum PathForm {
    /// As it is.
    Plain,
    /// With `\/` for each slash, as some JSON has it.
    Escaped,
    /// With a backslash for each slash.
    Backslashes,
    /// With two backslashes for each slash, as strings have it.
    DoubledBackslashes,
    /// Percent-encoded, as in `file:` URLs (RFC 8089).
    Url,
    /// With references for `&`, `<` and quotes, as in XML.
    Xml,
    /// With `\uXXXX` for what is no ASCII, as in JSON.
    Unicode,
    /// With a backslash before spaces and what else a shell minds.
    Shell,
    /// In UTF-16.
    Wide,
}

/// Looks for paths, all at once.
pub(crate) struct Repather {
    needles: Vec<Needle>,
    finder: Option<AhoCorasick>,
}

/// One place where a path is named.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct PathHit {
    pub(crate) range: Range<usize>,
    /// Which of the paths.
    pub(crate) pair: usize,
    pub(crate) form: PathForm,
    needle: usize,
}

impl Repather {
    /// Of absolute paths and what takes their places.
    pub(crate) fn new<'a>(pairs: impl IntoIterator<Item = (&'a str, &'a str)>) -> Self {
        let pairs = pairs.into_iter().enumerate().filter(|(_, (from, _))| from.len() > 1);
        let mut needles: Vec<Needle> =
            pairs.flat_map(|(pair, (from, to))| [forms(pair, from, to), tails(pair, from, to)]).flatten().collect();
        // Where several begin in one place, the longest that is a whole path counts.
        needles.sort_by_key(|needle| (usize::MAX - needle.bytes.len(), needle.pair));
        let finder = AhoCorasick::builder()
            .match_kind(MatchKind::LeftmostLongest)
            .build(needles.iter().map(|needle| &needle.bytes))
            .ok()
            .filter(|_| !needles.is_empty());
        Self { needles, finder }
    }

    /// As [`Repather::new`].
    pub(crate) fn of_pairs(pairs: &[(String, String)]) -> Self {
        Self::new(pairs.iter().map(|(from, to)| (from.as_str(), to.as_str())))
    }

    /// As [`Repather::replaced`], of what is text in any case.
    pub(crate) fn replaced_text(&self, text: &str) -> Option<String> {
        self.replaced(text.as_bytes()).and_then(|bytes| String::from_utf8(bytes).ok())
    }

    /// The length of the longest thing that is looked for, with what is looked at on both sides of it.
    pub(crate) fn apply_planned(&self) -> usize {
        self.needles.iter().map(|needle| needle.bytes.len()).max().unwrap_or(0) + 64
    }

    /// Where paths are named, in order.
    pub(crate) fn hits<'a>(&'a self, bytes: &'a [u8]) -> impl Iterator<Item = PathHit> + 'a {
        let mut at = 0;
        std::iter::from_fn(move || {
            let finder = self.finder.as_ref()?;
            loop {
                let found = finder.find(Input::new(bytes).span(at..bytes.len()))?;
                let start = found.start();
                let stands = |(needle, found): (usize, &Needle)| Some((needle, found.stands_at(bytes, at, start)?));
                let Some((needle, (range, form))) = self.needles.iter().enumerate().find_map(stands) else {
                    at = start + 1;
                    continue;
                };
                at = range.end;
                return Some(PathHit { range, pair: self.needles[needle].pair, form, needle });
            }
        })
    }

    /// The bytes with every path replaced; `None` if none is named, they are no text, or what was well-formed would not be
    /// any more.
    pub(crate) fn replaced(&self, bytes: &[u8]) -> Option<Vec<u8>> {
        let next = if is_text(bytes) { self.rewritten(bytes)? } else { return None };
        let spoils = |format| edit::is_whole(bytes, format) && !edit::is_whole(&next, format);
        (![Format::Json, Format::Xml, Format::Toml].into_iter().any(spoils)).then_some(next)
    }

    fn rewritten(&self, bytes: &[u8]) -> Option<Vec<u8>> {
        let (mut out, mut done) = (Vec::new(), 0);
        let escape = escape_around(bytes);
        for hit in self.hits(bytes) {
            out.extend_from_slice(&bytes[done..hit.range.start]);
            let needle = &self.needles[hit.needle];
            // The old path needed no escaping where it is as it is; the new one may.
            let before = &bytes[..hit.range.start];
            let is_url = [&b"file:"[..], b"file://", b"file://localhost"].iter().any(|url| before.ends_with(url));
            // What was looked for by its last name has no form yet, and a plain path in a URL is one that needed no escaping.
            let to_be_encoded = needle.form == PathForm::Plain && (is_url || hit.form == PathForm::Url);
            let escape = if to_be_encoded { Some(encoded as Write) } else { escape };
            match (escape, std::str::from_utf8(&needle.to)) {
                (Some(escape), Ok(to)) if matches!(needle.form, PathForm::Plain | PathForm::Url) => {
                    out.extend_from_slice(escape(to).as_bytes());
                }
                _ => out.extend_from_slice(&needle.to),
            }
            done = hit.range.end;
        }
        if done == 0 {
            return None;
        }
        out.extend_from_slice(&bytes[done..]);
        Some(out)
    }
}

/// The listing with paths replaced in some of its symlinks and files.
///
/// # Errors
/// None that entries of the listing can give cause to.
pub(crate) fn repathed<'a>(
    listing: &Listing,
    entries: impl Iterator<Item = &'a Entry>,
    pairs: &[(String, String)],
) -> Result<Draft> {
    let repather = Repather::of_pairs(pairs);
    let (mut links, mut derived) = (Vec::new(), Vec::new());
    for entry in entries {
        match &entry.node {
            Node::Symlink { target } => links.extend(repather.replaced_text(target).map(|target| {
                let node = Node::Symlink { target: target.into() };
                (entry.path.clone(), Some(Entry { node, ..entry.clone() }))
            })),
            Node::File { .. } => {
                derived.push(Derive { of: entry.clone(), transform: Transform::Repath { pairs: pairs.to_vec() } });
            }
            Node::EmptyFolder => {}
        }
    }
    Ok(Draft { base: overlay(listing, &Layer::new(links)?)?, derived })
}

/// Whether bytes are a text that can be rewritten: it has no NUL, or says that it is UTF-16.
pub(crate) fn is_text(bytes: &[u8]) -> bool {
    marked(bytes).is_some() || !bytes.contains(&0)
}

impl Needle {
    /// Where a whole path stands of which this was found at `start`, and its form. What is before `from` is taken.
    fn stands_at(&self, bytes: &[u8], from: usize, start: usize) -> Option<(Range<usize>, PathForm)> {
        let end = start + self.bytes.len();
        if bytes.get(start..end) != Some(&self.bytes) {
            return None;
        }
        let (start, form) = match &self.names {
            Some(names) => begins(&bytes[from..], end - from, names).map(|(start, form)| (from + start, form))?,
            None => (start, self.form),
        };
        self.is_whole(bytes, start, end).then_some((start..end, form))
    }

    fn is_whole(&self, bytes: &[u8], start: usize, end: usize) -> bool {
        match self.wide {
            None => {
                let before = start.checked_sub(1).and_then(|at| bytes.get(at)).copied();
                let begins = !continues_a_name(before) || begins_behind(&bytes[..start]);
                begins && (ends_a_name(bytes.get(end).copied()) || ends_behind(&bytes[end..]))
            }
            // A text says which order it has; in anything else both may stand anywhere.
            Some(big) if marked(bytes).is_some_and(|order| order != big || start % 2 == 1) => false,
            Some(big) => {
                let unit = |at: Option<usize>| {
                    let pair = at.and_then(|at| bytes.get(at..at + 2))?;
                    let (high, low) = if big { (pair[0], pair[1]) } else { (pair[1], pair[0]) };
                    // What is no ASCII is part of a name.
                    Some(if high == 0 { low } else { 0x80 })
                };
                let before = unit(start.checked_sub(2)).filter(|_| start != 2 || marked(bytes).is_none());
                ends_a_name(unit(Some(end))) && !continues_a_name(before)
            }
        }
    }
}

/// The order of bytes that a byte order mark of UTF-16 tells; true for the more significant one first.
fn marked(bytes: &[u8]) -> Option<bool> {
    match bytes {
        [0xff, 0xfe, ..] => Some(false),
        [0xfe, 0xff, ..] => Some(true),
        _ => None,
    }
}

/// Whether no name of a folder goes on after it. A space may be part of one, so it does not end one.
fn ends_a_name(next: Option<u8>) -> bool {
    next.is_none_or(|next| b"/\\\"'<>;:,)]}|\r\n\t\0".contains(&next))
}

/// Whether a space ends a path: another path, an option or a quote comes behind it. A name may go on with anything else.
fn ends_behind(rest: &[u8]) -> bool {
    match rest {
        [b' ', b'/' | b'"' | b'>' | b'|', ..] => true,
        [b' ', b'-', next, ..] => next.is_ascii_alphabetic() || *next == b'-',
        _ => false,
    }
}

/// Whether what is before a path is an option of one letter (`-I/path`) or the host of a URL, and no part of it.
fn begins_behind(before: &[u8]) -> bool {
    let option = match before {
        [b'-', letter] => letter.is_ascii_alphabetic(),
        [.., apart, b'-', letter] => letter.is_ascii_alphabetic() && b" \t\n\"'=,;(".contains(apart),
        _ => false,
    };
    option || before.ends_with(b"file://localhost")
}

/// Whether a path that begins after it is the rest of a longer one.
fn continues_a_name(before: Option<u8>) -> bool {
    before.is_some_and(|before| before.is_ascii_alphanumeric() || b"_-.".contains(&before) || !before.is_ascii())
}

#[cfg(test)]
#[allow(clippy::unwrap_used)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn mended(text: &str) -> String {
        let repather = Repather::new([("/y/twins/a", "/y/twins/new one")]);
        let bytes = repather.replaced(text.as_bytes()).unwrap_or_else(|| text.as_bytes().to_vec());
        String::from_utf8(bytes).unwrap()
    }

    #[test]
    fn a_folder_is_renamed_where_it_is_named_as_a_whole_in_whatever_form() {
        for (text, mended_text) in [
            ("/y/twins/a", "/y/twins/new one"),
            ("path=\"/y/twins/a/game\"", "path=\"/y/twins/new one/game\""),
            ("file:///y/twins/a/home", "file:///y/twins/new%20one/home"),
            ("Z:/y/twins/a;/y/twins/a", "Z:/y/twins/new one;/y/twins/new one"),
            ("Z:\\y\\twins\\a\\game", "Z:\\y\\twins\\new one\\game"),
            ("\"Z:\\\\y\\\\twins\\\\a\\\\game\"", "\"Z:\\\\y\\\\twins\\\\new one\\\\game\""),
            ("{\"p\":\"\\/y\\/twins\\/a\\/game\"}", "{\"p\":\"\\/y\\/twins\\/new one\\/game\"}"),
            (
                "/y/twins/ab /y/twins/a b/game /mnt/y/twins/a /y/twins/a.old",
                "/y/twins/ab /y/twins/a b/game /mnt/y/twins/a /y/twins/a.old",
            ),
            (
                "file://localhost/y/twins/a/x cc -I/y/twins/a",
                "file://localhost/y/twins/new%20one/x cc -I/y/twins/new one",
            ),
            ("run /y/twins/a --now", "run /y/twins/new one --now"),
            ("nothing", "nothing"),
            ("k=/y//twins/./a/x /mnt/y//twins/a /y/./twins/ab", "k=/y/twins/new one/x /mnt/y//twins/a /y/./twins/ab"),
            ("file:///y/tw%69ns//a/x", "file:///y/twins/new%20one/x"),
        ] {
            assert_eq!(mended(text), mended_text);
        }
        let spaced = Repather::new([("/y/a b", "/y/c ü")]);
        assert_eq!(spaced.replaced(b"file:///y/a%20b/x").unwrap(), b"file:///y/c%20%C3%BC/x");
        let odd = Repather::new([("/y/a & ü", "/y/\"b\" <ö>")]);
        for (text, mended_text) in [
            ("<p at=\"/y/a &amp; ü/x\"/>", "<p at=\"/y/&quot;b&quot; &lt;ö&gt;/x\"/>"),
            ("{\"at\": \"/y/a & ü/x\"}", "{\"at\": \"/y/\\\"b\\\" <ö>/x\"}"),
            ("{\"at\": \"/y/a & \\u00fc/x\"}", "{\"at\": \"/y/\\\"b\\\" <\\u00f6>/x\"}"),
            ("{\"at\": \"/y/a & \\u00FC\"}", "{\"at\": \"/y/\\\"b\\\" <\\u00F6>\"}"),
            ("cd /y/a\\ \\&\\ ü/x", "cd /y/\\\"b\\\"\\ \\<ö\\>/x"),
            ("file:///y/a%20&%20%C3%BC/x", "file:///y/%22b%22%20%3C%C3%B6%3E/x"),
            ("file:///y/a%20%26%20%c3%bc/x", "file:///y/%22b%22%20%3c%c3%b6%3e/x"),
        ] {
            assert_eq!(String::from_utf8(odd.replaced(text.as_bytes()).unwrap()).unwrap(), mended_text);
        }
        let accented = Repather::new([("/y/caf\u{e9}/\u{e9}t\u{e9}", "/n")]);
        for text in
            ["/y/cafe\u{301}/e\u{301}te\u{301}/x", "/y/cafe\u{301}/\u{e9}t\u{e9}/x", "/y/caf%C3%a9//%c3%a9t%c3%a9/x"]
        {
            assert_eq!(accented.replaced(text.as_bytes()).unwrap(), b"/n/x");
        }
        let quoted = Repather::new([("/y/a", "/y/b\"c")]);
        assert_eq!(quoted.replaced(b"at = \"/y/a/x\"\n"), None, "TOML would be none any more");
        let amid = Repather::new([("/y/a", "/y/b&c")]);
        assert_eq!(amid.replaced(b"<p at=\"file:///y/a/x\"/>").unwrap(), b"<p at=\"file:///y/b%26c/x\"/>");
        let plain = Repather::new([("/y/a", "/y/b & c")]);
        assert_eq!(plain.replaced(b"<p>/y/a</p>").unwrap(), b"<p>/y/b &amp; c</p>");
        let nested = Repather::new([("/y/a", "/n"), ("/y/a/game", "/g")]);
        assert_eq!(nested.replaced(b"/y/a/game/x /y/a/gamesave").unwrap(), b"/g/x /n/gamesave");
    }

    #[test]
    fn wide_text_is_rewritten_and_binary_files_are_only_read() {
        let repather = Repather::new([("/y/a", "/z/bb")]);
        let wide = |text: &str, big: bool| -> Vec<u8> {
            let units = std::iter::once(0xfeff).chain(text.encode_utf16());
            units.flat_map(|unit: u16| if big { unit.to_be_bytes() } else { unit.to_le_bytes() }).collect()
        };
        for big in [false, true] {
            let replaced = repather.replaced(&wide("/y/a/x \u{e4}=Z:\\y\\a /y/ab", big));
            assert_eq!(
                replaced.unwrap(),
                wide("/z/bb/x \u{e4}=Z:\\y\\a /y/ab", big),
                "a space goes on with a name, as a letter does"
            );
            assert_eq!(repather.replaced(&wide("k=\"Z:\\y\\a\"", big)).unwrap(), wide("k=\"Z:\\z\\bb\"", big));
        }
        let binary = b"\0\x01/y/a/game\0";
        assert_eq!(repather.replaced(binary), None);
        assert_eq!(repather.hits(binary).count(), 1);
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

        #[test]
        fn there_and_back_gives_the_text_again(pieces in prop::collection::vec("[ab/\n\"\\\\]{0,4}|/y/a|/y/a/|\\\\y\\\\a", 0..12)) {
            let text = pieces.concat();
            prop_assume!(!text.contains("/y/new"));
            let there = Repather::new([("/y/a", "/y/new")]).replaced(text.as_bytes()).unwrap_or(text.clone().into_bytes());
            let back = Repather::new([("/y/new", "/y/a")]).replaced(&there).unwrap_or(there);
            prop_assert_eq!(back, text.into_bytes());
        }
    }
}
