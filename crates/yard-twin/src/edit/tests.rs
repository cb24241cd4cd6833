//! Edits of a corpus of config files, and of made-up ones.

use std::fs;
use std::path::Path;

use proptest::prelude::*;

use super::*;

/// Cuts what is the same at both ends of two texts, and gives the lengths of what is left.
fn differs(a: &[u8], b: &[u8]) -> (usize, usize) {
    let head = a.iter().zip(b).take_while(|(a, b)| a == b).count();
    let tail = a[head..].iter().rev().zip(b[head..].iter().rev()).take_while(|(a, b)| a == b).count();
    (a.len() - head - tail, b.len() - head - tail)
}

/// Sets a value, sets it again, sets another one, and takes all of it back.
fn there_and_back(bytes: &[u8], format: Format, key: &str, new: &str, encoding: Option<&str>) -> Result<(), String> {
    let fail = |fault: EditFault| fault.to_string();
    let meant = format.syntax().meant(new);
    let was = get(bytes, format, key, encoding).map_err(fail)?;
    let first = set(bytes, format, key, new, (encoding, None)).map_err(fail)?;
    let check = |what: &str, right: bool| {
        if right { Ok(()) } else { Err(format!("{what}: {:?}", String::from_utf8_lossy(&first.bytes))) }
    };
    check("the value before is not the one that is there", first.was == was)?;
    check("the value is not there", get(&first.bytes, format, key, encoding).map_err(fail)?.as_deref() == Some(meant))?;
    // In an encoding of two bytes for a character, what is spliced is twice as long.
    let (gone, put) = differs(bytes, &first.bytes);
    check("more was changed than the splice", gone <= 2 * first.put.was.len() && put <= 2 * first.put.put.len())?;
    let again = set(&first.bytes, format, key, new, (encoding, Some(&first.put))).map_err(fail)?;
    check("setting it again changes something", again.bytes == first.bytes && again.put == first.put)?;
    let back = unset(&first.bytes, format, key, (encoding, &first.put)).map_err(fail)?;
    check("unset does not give back what was there", back.as_deref() == Some(bytes))?;
    let other = set(&first.bytes, format, key, "7", (encoding, Some(&first.put))).map_err(fail)?;
    let back = unset(&other.bytes, format, key, (encoding, &other.put)).map_err(fail)?;
    check("nor after another value was set", back.as_deref() == Some(bytes))?;
    let kept = unset(&other.bytes, format, key, (encoding, &first.put)).map_err(fail)?;
    check("what someone else has set since is taken away", kept.is_none() || same_value(format, new, "7"))
}

#[test]
fn every_file_of_the_corpus_is_edited_and_given_back_byte_for_byte() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/configs");
    let cases = fs::read_to_string(folder.join("cases.tsv")).unwrap();
    let (mut files, mut wrong) = (std::collections::BTreeSet::new(), Vec::new());
    for case in cases.lines().filter(|line| !line.starts_with('#')) {
        let fields: Vec<&str> = case.split('\t').collect();
        let [name, format, encoding, key, was, new] = fields[..] else { panic!("{case}") };
        let format: Format = serde_json::from_value(format.into()).unwrap();
        let encoding = (encoding != "-").then_some(encoding);
        let bytes = fs::read(folder.join(name)).unwrap();
        files.insert(name);
        let expected = (was != "(none)").then(|| was.replace("\\n", "\n"));
        let expected = if format == Format::Json { expected.map(|was| was.replace("\\t", "\t")) } else { expected };
        match get(&bytes, format, key, encoding) {
            Ok(there) if there == expected => {}
            there => wrong.push(format!("{name} {key}: {there:?}, not {expected:?}")),
        }
        if let Err(why) = there_and_back(&bytes, format, key, new, encoding) {
            wrong.push(format!("{name} {key}: {why}"));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    assert!(files.len() >= 150, "{} files", files.len());
}

#[test]
fn a_value_of_nothing_is_taken_back_whatever_blanks_are_around_it() {
    for text in ["k: [s]\t", "k = v ; c", "k=  x  ", "k =x\t; c\nk2=1"] {
        there_and_back(text.as_bytes(), Format::Ini, "k", "", None).unwrap();
    }
    // With nothing behind the colon, the `=` of the comment would part key and value of whatever is put there.
    let refused = set(b"\"k\": 1 # c=", Format::Ini, "k", "", (None, None));
    assert!(matches!(refused, Err(EditFault::Value { .. })), "{refused:?}");
}

fn format() -> impl Strategy<Value = Format> {
    prop_oneof![
        Just(Format::Ini),
        Just(Format::Lines),
        Just(Format::Properties),
        Just(Format::Json),
        Just(Format::Toml),
        Just(Format::Xml)
    ]
}

/// Texts that look like config files, by pieces that matter to one format or another.
fn text() -> impl Strategy<Value = String> {
    let pieces = r#"\[s\]|\[a\.b\]|k|=| = |: |"|'|;| ; c|#| # c|//|\\|\n|\r\n|\r|\t| |1|x|\{|\}|\[|\]|,|<|>|/|<a>|</a>|<k |"k": |k = 1\n|k=x\n|<!--|-->|<!\[CDATA\[|\]\]>|&amp;|ü|🚂"#;
    prop::collection::vec(pieces, 0..24).prop_map(|pieces| pieces.concat())
}

#[test]
fn a_key_that_would_be_read_as_a_byte_order_mark_is_refused() {
    assert!(matches!(set(b"", Format::Ini, "\u{feff}", "v", (None, None)), Err(EditFault::Value { .. })));
    assert!(set(b"a = 1\n", Format::Ini, "\u{feff}", "v", (None, None)).is_ok());
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, cases: 600, ..ProptestConfig::default() })]

    /// Whatever a file holds: an edit is refused, or it can be read back, again and taken back.
    #[test]
    fn any_text_is_edited_exactly_or_refused(
        text in text(),
        format in format(),
        key in r#"k|s\.k|a\.b\.k|/a/k|/a/@k|\[s\]k|k\.0"#,
        value in r#"[a-z0-9 ;#="'<&\\]{0,6}|other|true|-1\.5"#,
        wide in any::<bool>(),
    ) {
        let bytes = if wide {
            [0xff, 0xfe].into_iter().chain(text.encode_utf16().flat_map(u16::to_le_bytes)).collect()
        } else {
            text.into_bytes()
        };
        if set(&bytes, format, &key, &value, (None, None)).is_ok() && set(&bytes, format, &key, "7", (None, None)).is_ok() {
            let outcome = there_and_back(&bytes, format, &key, &value, None);
            prop_assert!(outcome.is_ok(), "{outcome:?}");
            // Whatever is made of it: it is left, or the value is the one before.
            let was = get(&bytes, format, &key, None).unwrap();
            let first = set(&bytes, format, &key, &value, (None, None)).unwrap();
            if let Ok(text) = std::str::from_utf8(&first.bytes) {
                let mangled = [text.replace('\n', "\r\n"), text.replace(' ', "  "), text.replace('=', " = ")];
                for anew in mangled.into_iter().chain(rewritten(text, format)).filter(|anew| anew != text) {
                    if let Ok(Some(back)) = unset(anew.as_bytes(), format, &key, (None, &first.put)) {
                        let is = get(&back, format, &key, None).unwrap();
                        prop_assert!(is == was || is.zip(was.clone()).is_some_and(|(is, was)| same_value(format, &is, &was)), "{anew:?}");
                    }
                }
            }
        }
    }

    /// No bytes make it panic, and none are changed by looking.
    #[test]
    fn any_bytes_are_read_or_refused(bytes in prop::collection::vec(any::<u8>(), 0..200), format in format(), key in ".{0,12}") {
        let _ = get(&bytes, format, &key, None);
        if let Ok(set) = set(&bytes, format, &key, "v", (None, None)) {
            let back = unset(&set.bytes, format, &key, (None, &set.put));
            prop_assert_eq!(back, Ok(Some(bytes)));
        }
    }
}

/// What a program makes of a config file that it reads and writes again: all that is in it, in its own way.
fn rewritten(text: &str, format: Format) -> Option<String> {
    let lines = || text.lines().map(str::trim).filter(|line| !line.is_empty());
    Some(match format {
        // Where a value goes on in the next line, a line is not all.
        Format::Ini
            if text.contains("\\\n")
                || text.lines().any(|line| line.starts_with([' ', '\t']) && !line.contains('=')) =>
        {
            return None;
        }
        Format::Ini => {
            let line = |line: &str| match line.split_once('=') {
                _ if line.starts_with(['#', ';', '[', '/']) => {
                    Some(line.to_owned()).filter(|line| line.starts_with('['))
                }
                Some((key, value)) => Some(format!("{} =   {}", key.trim(), value.trim())),
                None => Some(line.to_owned()),
            };
            lines().filter_map(line).collect::<Vec<_>>().join("\r\n")
        }
        Format::Properties if text.contains('\\') => return None,
        Format::Lines | Format::Properties => lines().collect::<Vec<_>>().join("\r\n"),
        Format::Json => {
            let value: serde_json::Value = serde_json::from_str(text).ok()?;
            serde_json::to_string_pretty(&value).ok()?
        }
        Format::Toml => text.lines().map(str::trim_start).collect::<Vec<_>>().join("\r\n") + "\r\n",
        Format::Xml => text.lines().map(|line| format!("\t{}", line.trim_start())).collect::<Vec<_>>().join("\r\n"),
    })
}

#[test]
fn what_a_program_has_written_anew_is_given_back_by_its_value() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/configs");
    let cases = fs::read_to_string(folder.join("cases.tsv")).unwrap();
    let (mut wrong, mut left, mut given) = (Vec::new(), Vec::new(), 0);
    for case in cases.lines().filter(|line| !line.starts_with('#')) {
        let fields: Vec<&str> = case.split('\t').collect();
        let [name, format, _, key, _, new] = fields[..] else { panic!("{case}") };
        let format: Format = serde_json::from_value(format.into()).unwrap();
        let bytes = fs::read(folder.join(name)).unwrap();
        let Some(plain) = String::from_utf8(bytes.clone()).ok().filter(|text| !text.contains('\0')) else { continue };
        let was = get(&bytes, format, key, None).unwrap();
        let first = set(&bytes, format, key, new, (None, None)).unwrap();
        let Some(anew) = rewritten(std::str::from_utf8(&first.bytes).unwrap(), format) else { continue };
        // A program that reads the file in another way than we do is no test of this.
        if get(anew.as_bytes(), format, key, None).ok().flatten().as_deref() != Some(format.syntax().meant(new)) {
            continue;
        }
        // Seen once more by us in between, and set to something else, as before a start.
        let again = set(anew.as_bytes(), format, key, new, (None, Some(&first.put))).unwrap();
        let other = set(&again.bytes, format, key, "7", (None, Some(&again.put)));
        let chances = [(anew.as_bytes().to_vec(), first.put.clone()), (again.bytes.clone(), again.put)];
        let chances = chances.into_iter().chain(other.ok().map(|other| (other.bytes, other.put)));
        for (round, (there, put)) in chances.enumerate() {
            match unset(&there, format, key, (None, &put)) {
                Ok(None) => left.push(format!("{name} {key} {round}")),
                Ok(Some(back)) => {
                    given += 1;
                    let is = get(&back, format, key, None).unwrap();
                    let entries = |bytes: &[u8]| {
                        let mut entries = format.syntax().entries(std::str::from_utf8(bytes).unwrap()).unwrap();
                        entries.sort();
                        entries
                    };
                    let clean = rewritten(&plain, format).map(|text| entries(text.as_bytes()));
                    if is != was {
                        wrong.push(format!("{name} {key} {round}: {is:?}, not {was:?}"));
                    } else if clean.is_some_and(|clean| clean.len() != entries(&back).len()) {
                        wrong.push(format!(
                            "{name} {key} {round}: something else has changed: {:?}",
                            String::from_utf8_lossy(&back)
                        ));
                    }
                }
                Err(fault) => wrong.push(format!("{name} {key} {round}: {fault}")),
            }
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    assert!(given > 250, "{given} given back, left: {}", left.join("\n"));
}

/// The key beside another one, and one in a section that is not there.
fn neighbours(format: Format, key: &str) -> Vec<String> {
    let names = ["zz1", "zz2"].into_iter();
    let section = key.rfind(['.', '/', ']']).map_or("", |end| &key[..=end]);
    let root = key.trim_start_matches('/').split(['/', '[']).next().unwrap_or_default();
    let made = match format {
        Format::Xml => format!("/{root}/zzs/"),
        Format::Ini | Format::Json | Format::Toml => "zzs.".to_owned(),
        Format::Lines | Format::Properties => String::new(),
    };
    let section = if section.contains('@') { made.as_str() } else { section };
    names.clone().map(|name| format!("{section}{name}")).chain(names.map(|name| format!("{made}{name}x"))).collect()
}

#[test]
fn edits_side_by_side_are_taken_back_in_any_order() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/configs");
    let cases = fs::read_to_string(folder.join("cases.tsv")).unwrap();
    let (mut wrong, mut left, mut exact, mut tried) = (Vec::new(), Vec::new(), 0, 0);
    for (nth, case) in cases.lines().filter(|line| !line.starts_with('#')).enumerate() {
        let fields: Vec<&str> = case.split('\t').collect();
        let [name, format, encoding, key, _, new] = fields[..] else { panic!("{case}") };
        let format: Format = serde_json::from_value(format.into()).unwrap();
        let encoding = (encoding != "-").then_some(encoding);
        let original = fs::read(folder.join(name)).unwrap();
        let (mut bytes, mut puts) = (original.clone(), Vec::new());
        for (key, value) in
            [(key.to_owned(), new)].into_iter().chain(neighbours(format, key).into_iter().map(|key| (key, "5")))
        {
            if let Ok(set) = set(&bytes, format, &key, value, (encoding, None)) {
                bytes = set.bytes;
                puts.push((key, set.put));
            }
        }
        // Another order for each case.
        let mut order: Vec<usize> = (0..puts.len()).collect();
        order.rotate_left(nth % puts.len().max(1));
        if nth % 2 == 1 {
            order.swap(0, puts.len() / 2);
        }
        tried += 1;
        let mut gave = true;
        for (count, &at) in order.iter().enumerate() {
            let (key, put) = puts[at].clone();
            match unset(&bytes, format, &key, (encoding, &put)) {
                Ok(Some(back)) => bytes = back,
                other => {
                    left.push(format!("{name} {key}: {other:?} of {:?}", String::from_utf8_lossy(&bytes)));
                    gave = false;
                }
            }
            order[count + 1..].iter().for_each(|&other| {
                let (own, beside) = &mut puts[other];
                beside.inherit(own, (&put, &key));
            });
        }
        let entries = |bytes: &[u8]| {
            let text = Text::decode(bytes, (format, encoding)).map(|text| text.text).unwrap_or_default();
            let mut entries = format.syntax().entries(&text).unwrap();
            // An object that was made for all of them may be left, with nothing in it.
            entries.retain(|entry| *entry != Default::default());
            entries.sort();
            entries
        };
        exact += usize::from(bytes == original);
        if gave && bytes != original && entries(&bytes) != entries(&original) {
            wrong.push(format!("{name} {key} {order:?}: {:?}", String::from_utf8_lossy(&bytes)));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    assert!(exact * 10 >= tried * 9, "{exact} of {tried} byte for byte; left:\n{}", left.join("\n"));
}
