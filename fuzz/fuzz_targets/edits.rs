//! Edits of arbitrary bytes as config files: an edit is refused, or can be read back, repeated and taken back byte for byte.
#![no_main]

use libfuzzer_sys::fuzz_target;
use yard_twin::{Format, get_value, set_value, unset_value};

fuzz_target!(|input: (u8, &str, &str, &[u8])| {
    let (format, key, value, bytes) = input;
    let formats = [Format::Ini, Format::Lines, Format::Json, Format::Toml, Format::Xml];
    let format = formats[usize::from(format) % formats.len()];
    let _ = get_value(bytes, format, key, None);
    let Ok(set) = set_value(bytes, format, key, value, (None, None)) else { return };
    let there = get_value(&set.bytes, format, key, set.put.encoding());
    assert_eq!(there, Ok(Some(value.to_owned())), "what was set is not there");
    let again = set_value(&set.bytes, format, key, value, (None, Some(&set.put))).expect("it can be set again");
    assert_eq!(again.bytes, set.bytes, "setting it again changes something");
    let back = unset_value(&set.bytes, format, key, (None, &set.put)).expect("it can be taken back");
    assert_eq!(back.as_deref(), Some(bytes), "what was there does not come back");
});
