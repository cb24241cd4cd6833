//! What somebody still has open when it leaves a twin's folder is kept, and said where.

use std::fs::{self, File};
use std::io::Write;
use std::path::Path;

use crate::common::{Place, by_itself, clone, leftovers, take_in};
use yard_twin::{Ctx, Sharing, SnapshotRef, Yard, restore};

fn back(yard: &Yard) -> restore::Outcome {
    let to = Some(SnapshotRef::Number(1));
    let options = restore::Options { to, all: true, ..restore::Options::default() };
    let plan = restore::plan(yard, &"a".parse().unwrap(), &options, &Ctx::new()).unwrap();
    restore::apply(yard, &plan, &Ctx::new()).unwrap()
}

/// Three hundred files are made anew, and as many are new.
fn change(set: &Path, what: &str) {
    for number in 0..600 {
        fs::write(set.join(number.to_string()), format!("{what} {number}")).unwrap();
    }
}

#[test]
fn what_a_program_still_writes_to_is_kept_wherever_it_lies_among_much_that_goes() {
    let test = "hands::what_a_program_still_writes_to_is_kept_wherever_it_lies_among_much_that_goes";
    by_itself(test, much_goes_while_some_of_it_is_open);
}

fn much_goes_while_some_of_it_is_open() {
    let place = Place::in_memory();
    fs::create_dir_all(place.at("source/set")).unwrap();
    for number in 0..300 {
        fs::write(place.at("source/set").join(number.to_string()), format!("shipped {number}")).unwrap();
    }
    let yard = Yard::init(place.at("yard")).unwrap();
    take_in(&yard, &place.at("source"), "1.4").unwrap();
    clone(&yard, "wexcombe@1.4", "a", Sharing::None).unwrap();
    let set = place.at("yard/twins/a/game/set");
    for time in ["first", "second"] {
        change(&set, time);
        // Some that give way to others and some that just go, at both ends of what is staged together.
        let open = |number| (number, File::options().append(true).open(set.join(number)).unwrap());
        let mut held: Vec<_> = ["0", "7", "255", "299", "300", "310", "555", "599"].map(open).into();
        let outcome = back(&yard);
        assert_eq!(outcome.set_aside.len(), held.len(), "{:?}", outcome.set_aside);
        for (number, file) in &mut held {
            file.write_all(b", and late").unwrap();
            let is_it =
                |shown: &&String| shown.contains(&format!("/set/{number} (")) && shown.ends_with(" has it open)");
            let shown = outcome.set_aside.iter().find(is_it).unwrap();
            let kept = shown.rsplit_once(" (").unwrap().0;
            assert_eq!(fs::read_to_string(kept).unwrap(), format!("{time} {number}, and late"));
        }
        for number in 0..300 {
            assert_eq!(fs::read_to_string(set.join(number.to_string())).unwrap(), format!("shipped {number}"));
        }
        assert!(!set.join("300").exists() && leftovers(yard.root()).is_empty());
    }
    change(&set, "third");
    assert!(back(&yard).set_aside.is_empty(), "nobody has anything open");
}
