//! Places in a text, and what differs between two.

use imara_diff::{Algorithm, Diff, InternedInput};
use serde::Serialize;

/// Line and column, both from 1, of a byte offset in a text.
pub(crate) fn position(text: &str, offset: usize) -> (usize, usize) {
    let before = text.get(..offset).unwrap_or(text);
    let line_start = before.rfind('\n').map_or(0, |at| at + 1);
    (before.matches('\n').count() + 1, before[line_start..].chars().count() + 1)
}

/// What became of a line of text.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum LineChange {
    /// Both sides have it.
    Same,
    /// Only the first one has it.
    Gone,
    /// Only the second one has it.
    New,
}

impl LineChange {
    /// What stands before a line in a list of changes.
    pub(crate) fn sign(self) -> char {
        match self {
            Self::Same => ' ',
            Self::Gone => '-',
            Self::New => '+',
        }
    }
}

/// Lines around changes of a text that lie close together.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Hunk {
    /// The number of the first line on the first side, counted from 1.
    pub before: usize,
    /// The same on the second.
    pub after: usize,
    /// The lines, without their ends.
    pub lines: Vec<(LineChange, String)>,
}

/// What differs between two texts, line by line, with so many lines `around`: changes that have at most twice as many
/// between them are one hunk.
pub(crate) fn hunks(before: &str, after: &str, around: usize) -> Vec<Hunk> {
    let input = InternedInput::new(before, after);
    let mut diff = Diff::compute(Algorithm::Histogram, &input);
    diff.postprocess_lines(&input);
    let [before, after] = [&input.before, &input.after].map(|tokens| {
        let line = |token: &imara_diff::Token| input.interner[*token].trim_end_matches(['\n', '\r']);
        tokens.iter().map(line).collect::<Vec<_>>()
    });
    let mut hunks: Vec<Hunk> = Vec::new();
    // How far the first side has been shown.
    let mut shown = 0;
    for change in diff.hunks() {
        let [gone, new] = [change.before, change.after].map(|lines| lines.start as usize..lines.end as usize);
        if hunks.is_empty() || gone.start > shown + 2 * around {
            if let Some(last) = hunks.last_mut() {
                same(last, &before[shown..(shown + around).min(before.len())]);
            }
            let above = gone.start.min(around);
            shown = gone.start - above;
            hunks.push(Hunk { before: shown + 1, after: new.start - above + 1, lines: Vec::new() });
        }
        if let Some(hunk) = hunks.last_mut() {
            same(hunk, &before[shown..gone.start]);
            let lines = |lines: &[&str], how| lines.iter().map(|line| (how, (*line).to_owned())).collect::<Vec<_>>();
            hunk.lines.extend(lines(&before[gone.clone()], LineChange::Gone));
            hunk.lines.extend(lines(&after[new], LineChange::New));
        }
        shown = gone.end;
    }
    if let Some(last) = hunks.last_mut() {
        same(last, &before[shown..(shown + around).min(before.len())]);
    }
    hunks
}

fn same(hunk: &mut Hunk, lines: &[&str]) {
    hunk.lines.extend(lines.iter().map(|line| (LineChange::Same, (*line).to_owned())));
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

        /// Put over the first text, the hunks give the second one; each begins where it says, and has no more lines around its
        /// changes than were asked for.
        #[test]
        fn hunks_lead_from_one_text_to_the_other(
            texts in proptest::collection::vec(proptest::collection::vec("[abc]", 0..20), 2),
            around in 0..4_usize,
        ) {
            let [before, after] = [0, 1].map(|side| texts[side].iter().map(|line| format!("{line}\n")).collect::<String>());
            let (mut made, mut at) = (Vec::new(), 0);
            for Hunk { before: first, after: second, lines } in hunks(&before, &after, around) {
                made.extend_from_slice(&texts[0][at..first - 1]);
                prop_assert_eq!(made.len(), second - 1);
                at = first - 1;
                for (how, line) in &lines {
                    if *how != LineChange::New {
                        prop_assert_eq!(line, &texts[0][at]);
                        at += 1;
                    }
                    if *how != LineChange::Gone {
                        made.push(line.clone());
                    }
                }
                let changes = |(how, _): &(LineChange, String)| *how != LineChange::Same;
                let runs: Vec<_> = lines.split(changes).map(<[_]>::len).collect();
                let (ends, inner) = ([runs[0], runs[runs.len() - 1]], &runs[1..runs.len() - 1]);
                prop_assert!(runs.len() > 1 && ends.iter().all(|end| *end <= around));
                prop_assert!(inner.iter().all(|between| *between <= 2 * around));
            }
            made.extend_from_slice(&texts[0][at..]);
            prop_assert_eq!(&made, &texts[1]);
        }
    }
}
