//! What is told while an operation runs: large files piece by piece, and each byte once.

use std::fs;
use std::path::PathBuf;
use std::sync::{Arc, Mutex};

use crate::common::Place;
use yard_twin::{Ctx, Phase, Progress, Sharing, Yard, check, clone, intake, mods};

/// The bytes that a phase was said to have, and those that were told of, each time.
#[derive(Default)]
struct Told(Mutex<Vec<(Phase, u64, Vec<u64>)>>, Mutex<u32>);

impl Progress for Told {
    fn begin(&self, phase: Phase, _: u64, bytes: u64) {
        let mut open = self.1.lock().unwrap();
        *open += 1;
        assert_eq!(*open, 1, "{phase:?} begins within another one");
        self.0.lock().unwrap().push((phase, bytes, Vec::new()));
    }
    fn advance(&self, _: u64, bytes: u64) {
        // A look counts names, also where no phase is about it.
        if bytes == 0 {
            return;
        }
        assert_eq!(*self.1.lock().unwrap(), 1, "bytes belong to a phase");
        self.0.lock().unwrap().last_mut().unwrap().2.push(bytes);
    }
    fn end(&self) {
        *self.1.lock().unwrap() -= 1;
    }
}

const LARGE: u64 = 9 << 20;

/// Of what `work` did in a phase with bytes, each was told once, and none of them in a piece as large as the file.
fn pieces(wanted: Phase, work: impl FnOnce(&Ctx)) {
    let told = Arc::new(Told::default());
    work(&Ctx::new().with_progress(told.clone()));
    let phases = told.0.lock().unwrap();
    let with_bytes: Vec<_> = phases.iter().filter(|(phase, bytes, _)| *phase == wanted && *bytes >= LARGE).collect();
    assert!(!with_bytes.is_empty(), "{wanted:?}: {phases:?}");
    for (_, bytes, advances) in with_bytes {
        assert_eq!(advances.iter().sum::<u64>(), *bytes, "{wanted:?}");
        assert!(advances.iter().all(|advance| *advance < LARGE / 4), "{wanted:?}: {advances:?}");
    }
}

#[test]
fn large_files_are_told_of_piece_by_piece_and_each_byte_once() {
    let place = Place::new();
    let large = |name: &str, byte: u8| {
        let path: PathBuf = place.at(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, vec![byte; usize::try_from(LARGE).unwrap()]).unwrap();
    };
    large("source/large", 1);
    let yard = Yard::init(place.at("yard")).unwrap();
    let take_in = |build: &str, ctx: &Ctx| {
        let mut options = intake::Options::new(place.at("source"), "wexcombe".parse().unwrap());
        options.build = Some(build.parse().unwrap());
        intake::apply(&yard, &intake::plan(&yard, options, ctx).unwrap(), ctx).unwrap();
    };
    pieces(Phase::Storing, |ctx| take_in("1", ctx));
    // Of a size that is known, it is hashed first, and then copied.
    large("source/large", 2);
    pieces(Phase::Storing, |ctx| take_in("2", ctx));
    pieces(Phase::Building, |ctx| {
        let options = clone::Options { sharing: Some(Sharing::None), ..clone::Options::default() };
        let (source, name) = ("wexcombe@2".parse().unwrap(), "a".parse().unwrap());
        clone::apply(&yard, &clone::plan(&yard, &source, &name, options, ctx).unwrap(), ctx).unwrap();
    });
    pieces(Phase::Checking, |ctx| {
        let options = check::Options { full: true, ..check::Options::default() };
        check::look(&yard, &options, ctx).unwrap();
    });
    large("pack/more", 3);
    pieces(Phase::Storing, |ctx| {
        mods::read(&yard, &[place.at("pack")], &"wexcombe".parse().unwrap(), &mods::ReadOptions::default(), ctx)
            .unwrap();
    });
}
