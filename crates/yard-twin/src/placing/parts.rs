//! Archives that belong together, by the numbers in their names.

use std::collections::{BTreeMap, BTreeSet};

/// Words before the number of a part.
const WORDS: [&str; 6] = ["part", "disc", "disk", "cd", "vol", "volume"];

/// What stands between a word and its number, or a number and how many there are.
const BETWEEN: [char; 5] = [' ', '-', '_', '.', '#'];

/// A name with the number of a part in it.
struct Numbered {
    /// What is before and behind the number.
    around: (String, String),
    number: u32,
    /// How many there are, if the name says so.
    of: Option<u32>,
    /// How many digits the number has at least.
    digits: usize,
}

/// The parts that names which belong together say there are, and that are not among them. `beside` is what lies where they
/// do.
pub(crate) fn missing(names: &[String], beside: &[String]) -> Vec<String> {
    let mut sets: BTreeMap<(String, String), Vec<Numbered>> = BTreeMap::new();
    for numbered in names.iter().filter_map(|name| numbered(name)) {
        sets.entry(numbered.around.clone()).or_default().push(numbered);
    }
    let mut missing = Vec::new();
    for (around, parts) in sets {
        let there: BTreeSet<u32> = parts.iter().map(|part| part.number).collect();
        let others = beside.iter().filter_map(|name| numbered(name)).filter(|other| other.around == around);
        let most = parts.iter().filter_map(|part| part.of).chain(there.iter().copied());
        let all = (1..=most.max().unwrap_or_default()).chain(others.map(|other| other.number));
        let wanted: BTreeSet<u32> = all.filter(|number| !there.contains(number)).collect();
        let digits = parts.iter().map(|part| part.digits).min().unwrap_or(1);
        missing.extend(wanted.into_iter().map(|number| format!("{}{number:0digits$}{}", around.0, around.1)));
    }
    missing
}

/// The number of the part that a name says it is: behind a word for it, or before how many there are.
fn numbered(name: &str) -> Option<Numbered> {
    let lower = name.to_ascii_lowercase();
    let mut at = 0;
    while let Some(found) = lower[at..].find(|c: char| c.is_ascii_digit()) {
        let start = at + found;
        let end = lower[start..].find(|c: char| !c.is_ascii_digit()).map_or(lower.len(), |end| start + end);
        let before = lower[..start].trim_end_matches(BETWEEN);
        let behind_a_word = WORDS.iter().any(|word| {
            let apart = before.strip_suffix(word).is_some_and(|rest| !rest.ends_with(|c: char| c.is_alphanumeric()));
            apart && lower[..start].len() - before.len() <= 1
        });
        let rest = lower[end..].trim_start_matches(BETWEEN);
        let of = rest.strip_prefix("of").map(|rest| rest.trim_start_matches(BETWEEN));
        let of = of.map(|rest| rest.chars().take_while(char::is_ascii_digit).collect::<String>());
        let of = of.and_then(|digits| digits.parse().ok());
        if (behind_a_word || of.is_some())
            && let Ok(number @ 1..=999) = lower[start..end].parse()
        {
            let around = (name[..start].to_owned(), name[end..].to_owned());
            return Some(Numbered { around, number, of, digits: end - start });
        }
        at = end;
    }
    None
}

#[cfg(test)]
#[allow(clippy::unwrap_used)]
mod tests {
    use super::*;

    #[test]
    fn parts_that_names_speak_of_are_missed() {
        let names = |names: &[&str]| names.iter().map(|name| (*name).to_owned()).collect::<Vec<_>>();
        for (given, beside, wanted) in [
            (&["hill line 1 of 3.zip", "hill line 3 of 3.zip"][..], &[][..], &["hill line 2 of 3.zip"][..]),
            (&["a.part01.zip", "a.part03.zip"], &[], &["a.part02.zip"]),
            (&["Lamp Part2.7z"], &[], &["Lamp Part1.7z"]),
            (&["a-disc-1.zip"], &["a-disc-2.zip", "b-disc-3.zip"], &["a-disc-2.zip"]),
            (&["a part 1.zip", "a part 2.zip"], &[], &[]),
            (&["boards-1.2.zip", "departure 3.zip", "counter-part-of-2.zip"], &["boards-1.3.zip"], &[]),
        ] {
            assert_eq!(missing(&names(given), &names(beside)), names(wanted), "{given:?}");
        }
    }
}
