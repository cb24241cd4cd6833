//! Every kind of entry, before and after, on every filesystem that can be had.
//!
//! `YARDTWIN_TEST_FILESYSTEMS` names places, separated by colons, each `NAME=FOLDER`; without it, where tests run.

use std::fs;
use std::os::unix::fs::{FileExt, PermissionsExt, symlink};
use std::path::{Path, PathBuf};

use crate::common::{Place, Seen, assert_same, clone, files_read, look, take_in};
use yard_twin::{Ctx, Isolation, Sharing, SnapshotRef, TwinName, Unshared, Yard, play, restore, show, snapshot};

type Make = fn(&Path);

/// What can be at a path. A filesystem that can't make one of them is asked for the others.
const KINDS: [(&str, Make); 9] = [
    ("absent", |_| {}),
    ("file", |at| fs::write(at, "a file").unwrap()),
    ("other", |at| fs::write(at, "another file").unwrap()),
    ("blank", |at| fs::write(at, "").unwrap()),
    ("program", |at| {
        fs::write(at, "#!/bin/sh\n").unwrap();
        fs::set_permissions(at, fs::Permissions::from_mode(0o755)).unwrap();
    }),
    ("holes", |at| {
        let file = fs::File::create(at).unwrap();
        file.set_len(3 << 20).unwrap();
        file.write_at(b"past the hole", 2 << 20).unwrap();
    }),
    ("link", |at| symlink("../target", at).unwrap_or_default()),
    ("empty-folder", |at| fs::create_dir(at).unwrap()),
    ("folder", |at| {
        fs::create_dir_all(at.join("deep/deeper")).unwrap();
        fs::write(at.join("deep/deeper/file"), "below").unwrap();
        fs::write(at.join("beside"), "beside").unwrap();
    }),
];

fn places() -> Vec<(String, Place)> {
    match std::env::var("YARDTWIN_TEST_FILESYSTEMS") {
        Err(_) => vec![("here".into(), Place::new()), ("memory".into(), Place::in_memory())],
        Ok(named) => {
            let place = |named: &str| {
                let (name, folder) = named.split_once('=').unwrap();
                (name.to_owned(), Place::below(&PathBuf::from(folder)))
            };
            named.split(':').map(place).collect()
        }
    }
}

/// Makes a path for each pair of kinds, as it is before or after.
fn lay(root: &Path, after: bool) {
    for (before_name, make_before) in KINDS {
        for (after_name, make_after) in KINDS {
            let at = root.join("kinds").join(format!("{before_name} to {after_name}"));
            match fs::symlink_metadata(&at) {
                Ok(found) if found.is_dir() => fs::remove_dir_all(&at).unwrap(),
                Ok(_) => fs::remove_file(&at).unwrap(),
                Err(_) => {}
            }
            if after { make_after(&at) } else { make_before(&at) }
        }
    }
}

fn game(yard: &Path) -> Seen {
    look(&yard.join("twins/a/game"))
}

#[test]
fn every_kind_of_entry_becomes_every_other_one_and_comes_back() {
    for (filesystem, place) in places() {
        let yard = Yard::init(place.at("yard")).unwrap();
        fs::create_dir_all(place.at("source/kinds")).unwrap();
        fs::write(place.at("source/target"), "the target").unwrap();
        lay(&place.at("source"), false);
        take_in(&yard, &place.at("source"), "1").unwrap();
        let made = clone(&yard, "wexcombe@1", "a", Sharing::All).unwrap();
        let (twin, ctx): (TwinName, _) = ("a".parse().unwrap(), Ctx::new());
        let before = game(&place.at("yard"));
        assert_same(&look(&place.at("source")), &before, &format!("{filesystem}: a clone"));
        let shares = &made.shares;
        eprintln!(
            "{filesystem}: {} entries; {} files share blocks, {} are links, {} are copies",
            before.len(),
            shares.reflinked.files,
            shares.linked.files,
            shares.copied.files
        );
        if shares.reflinked.files + shares.linked.files == 0 {
            assert_eq!(made.unshared, Some(Unshared::NoLinks), "{filesystem}: and says so");
        }
        let plan = snapshot::plan(&yard, &twin, Some(&"before".parse().unwrap()), &ctx).unwrap();
        assert_eq!(snapshot::apply(&yard, &plan, &ctx).unwrap().game.total(), 0);

        lay(&place.at("yard/twins/a/game"), true);
        let after = game(&place.at("yard"));
        let plan = snapshot::plan(&yard, &twin, Some(&"after".parse().unwrap()), &ctx).unwrap();
        snapshot::apply(&yard, &plan, &ctx).unwrap();
        for (label, holds) in [("before", &before), ("after", &after), ("before", &before)] {
            let to = Some(SnapshotRef::Label(label.parse().unwrap()));
            let plan =
                restore::plan(&yard, &twin, &restore::Options { to, all: false, ..restore::Options::default() }, &ctx)
                    .unwrap();
            assert!(!plan.steps.is_empty());
            restore::apply(&yard, &plan, &ctx).unwrap();
            assert_same(holds, &game(&place.at("yard")), &format!("{filesystem}: back to {label}"));
            let to = Some(SnapshotRef::Label(label.parse().unwrap()));
            let again =
                restore::plan(&yard, &twin, &restore::Options { to, all: false, ..restore::Options::default() }, &ctx)
                    .unwrap();
            assert!(again.steps.is_empty(), "{filesystem}: twice plans no step, but {:?}", again.steps);
        }
        // Where stamps are coarse, what was just written is looked at again; then nothing is.
        std::thread::sleep(std::time::Duration::from_millis(2100));
        show::twin(&yard, &twin, &ctx).unwrap();
        let read = files_read(|ctx| drop(show::twin(&yard, &twin, ctx).unwrap()));
        assert_eq!(read, 0, "{filesystem}: what nobody touched is not read");
    }
}

#[test]
fn a_launch_takes_the_best_that_a_filesystem_can_carry() {
    for (filesystem, place) in places() {
        let yard = Yard::init(place.at("yard")).unwrap();
        let program = place.at("source/bin/wexcombe");
        fs::create_dir_all(place.at("source/bin")).unwrap();
        fs::write(&program, "#!/bin/sh\nset -e\nrm gone\necho new > new\necho x >> kept\nmkdir -p \"$HOME/in\"\n")
            .unwrap();
        fs::set_permissions(program, fs::Permissions::from_mode(0o755)).unwrap();
        for name in ["gone", "kept"] {
            fs::write(place.at("source").join(name), name).unwrap();
        }
        take_in(&yard, &place.at("source"), "1").unwrap();
        fs::write(place.at("yard/sheets/wexcombe.toml"), standins::WEXCOMBE_SHEET).unwrap();
        clone(&yard, "wexcombe@1", "a", Sharing::All).unwrap();
        clone(&yard, "wexcombe@1", "b", Sharing::All).unwrap();
        let other = look(&place.at("yard/twins/b/game"));
        let (twin, ctx): (TwinName, _) = ("a".parse().unwrap(), Ctx::new());
        let possible = play::possible_isolation(&yard, &ctx).unwrap();
        eprintln!("{filesystem}: {}; {:?}", possible.best(), possible.why_not_better(possible.best()));
        let plan = play::plan(&yard, &twin, &play::Options::default(), &ctx).unwrap();
        assert_eq!(plan.isolation, possible.best(), "{filesystem}");
        let outcome = play::start(&yard, &plan, &play::Options::default(), &ctx).unwrap().wait(&ctx).unwrap();
        let said = fs::read_to_string(&outcome.output).unwrap();
        if plan.isolation == Isolation::Sealed || !said.contains("ermission denied") {
            assert_eq!(outcome.record.exit_code, Some(0), "{filesystem}: {said}");
            assert_eq!(outcome.report.changes.count(), 3, "{filesystem}: {:?}", outcome.report);
            assert_eq!(fs::read_to_string(place.at("yard/twins/a/game/kept")).unwrap(), "keptx\n", "{filesystem}");
        }
        assert_same(&other, &look(&place.at("yard/twins/b/game")), &format!("{filesystem}: the other twin"));
    }
}
