//! Finding the smallest set of mods that fails: from the bottom up by halves, and, where answers contradict each other, by delta
//! debugging (A. Zeller, R. Hildebrandt: Simplifying and Isolating Failure-Inducing Input, 2002).

use std::collections::BTreeSet;

use crate::error::Result;

/// Mods by their numbers in the order.
pub(crate) type Set = BTreeSet<usize>;

/// What was found.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Found {
    /// It works with all of them.
    WorksWithAll,
    /// It fails without any.
    FailsWithNone,
    /// These fail together, and with one fewer it works.
    Culprits(Set),
}

/// Asks with ever fewer mods, until none can be left away. `needs` says for each which others must be on with it; `fails` tries a
/// set. A set of k among n takes about 2 + k (log n + 1) tries where more mods never mend what fewer break.
///
/// # Errors
/// Whatever `fails` fails with.
pub(crate) fn smallest(needs: &[Set], mut fails: impl FnMut(&Set) -> Result<bool>) -> Result<Found> {
    let all: Set = (0..needs.len()).collect();
    let mut fails = |set: &Set| fails(&with_needs(set, needs));
    if fails(&Set::new())? {
        return Ok(Found::FailsWithNone);
    }
    if !fails(&all)? {
        return Ok(Found::WorksWithAll);
    }
    let mut culprits = Set::new();
    let mut left: Vec<usize> = all.iter().copied().collect();
    while !left.is_empty() && (culprits.is_empty() || !fails(&culprits)?) {
        let with = |upto: usize| culprits.iter().chain(&left[..upto]).copied().collect::<Set>();
        // Up to `works` it does; with all that is left, it fails.
        let (mut works, mut breaks) = (0, left.len());
        while breaks - works > 1 {
            let middle = works.midpoint(breaks);
            if fails(&with(middle))? {
                breaks = middle;
            } else {
                works = middle;
            }
        }
        culprits.insert(left[breaks - 1]);
        left.truncate(breaks - 1);
    }
    let mut set = with_needs(&culprits, needs);
    if !fails(&set)? {
        // More of them mended what fewer break: nothing can be concluded from a part.
        set = minimised(all, &mut fails)?;
    }
    Ok(Found::Culprits(without_the_needed(set, needs, &mut fails)?))
}

/// Leaves away whatever can be: in ever smaller pieces.
fn minimised(mut set: Set, fails: &mut impl FnMut(&Set) -> Result<bool>) -> Result<Set> {
    let mut pieces = 2;
    while set.len() > 1 {
        let members: Vec<usize> = set.iter().copied().collect();
        let size = members.len().div_ceil(pieces);
        let mut smaller = None;
        for piece in members.chunks(size) {
            let rest: Set = members.iter().copied().filter(|member| !piece.contains(member)).collect();
            if !rest.is_empty() && fails(&rest)? {
                smaller = Some(rest);
                break;
            }
        }
        match smaller {
            Some(rest) => (set, pieces) = (rest, 2.max(pieces - 1)),
            None if pieces >= members.len() => break,
            None => pieces = (pieces * 2).min(members.len()),
        }
    }
    Ok(set)
}

/// What is in a set only because another one needs it, and fails without it too, is none of the culprits. The needed are
/// tried with whatever needs them, so that what is left says all.
fn without_the_needed(set: Set, needs: &[Set], fails: &mut impl FnMut(&Set) -> Result<bool>) -> Result<Set> {
    let is_needed = |one: &usize| set.iter().any(|other| other != one && needs[*other].contains(one));
    let needed: Vec<usize> = set.iter().copied().filter(is_needed).collect();
    let mut culprits: Set = set.iter().copied().filter(|one| !needed.contains(one)).collect();
    if culprits.is_empty() {
        return Ok(set);
    }
    // A needed one that fails by itself is the culprit, and not what needs it.
    for one in needed {
        let alone = Set::from([one]);
        if fails(&alone)? {
            culprits = alone;
        }
    }
    Ok(culprits)
}

/// A set with all that its members need.
fn with_needs(set: &Set, needs: &[Set]) -> Set {
    let mut all = set.clone();
    loop {
        let more: Set = all.iter().flat_map(|one| &needs[*one]).copied().filter(|one| !all.contains(one)).collect();
        if more.is_empty() {
            return all;
        }
        all.extend(more);
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn found(needs: &[Set], fails: impl Fn(&Set) -> bool) -> (Found, usize) {
        let mut asked = BTreeSet::new();
        let found = smallest(needs, |set| {
            // What was answered once is not asked again.
            asked.insert(set.clone());
            Ok(fails(set))
        });
        (found.unwrap(), asked.len())
    }

    #[test]
    fn what_fails_by_itself_or_never_is_said() {
        let none = vec![Set::new(); 4];
        assert_eq!(found(&none, |_| true).0, Found::FailsWithNone);
        assert_eq!(found(&none, |_| false).0, Found::WorksWithAll);
        // The one below is broken, and the one that was suspected only needs it.
        let needs = [Set::new(), Set::from([0]), Set::new()];
        assert_eq!(found(&needs, |set| set.contains(&0)).0, Found::Culprits(Set::from([0])));
        assert_eq!(found(&needs, |set| set.contains(&1)).0, Found::Culprits(Set::from([1])));
        // Two break it, and a third one mends that.
        let odd = |set: &Set| set.contains(&0) && set.contains(&3) && (!set.contains(&1) || set.contains(&2));
        assert_eq!(found(&none, odd).0, Found::Culprits(Set::from([0, 3])));
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

        #[test]
        fn the_smallest_set_is_found_in_few_tries(culprits in prop::collection::btree_set(0usize..12, 1..4)) {
            let (found, tries) = found(&vec![Set::new(); 12], |set| culprits.is_subset(set));
            prop_assert_eq!(found, Found::Culprits(culprits.clone()));
            prop_assert!(tries <= 2 + culprits.len() * 5, "{} tries for {:?}", tries, culprits);
        }
    }
}
