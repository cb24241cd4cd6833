//! A stock build is what was taken in, and a clone is what it was made from, byte for byte.

use std::fs;
use std::os::unix::fs::{MetadataExt, symlink};
use std::path::Path;

use crate::common::{Place, assert_same, clone, leftovers, look, take_in, tree};
use yard_twin::{Ctx, Sharing, Yard, intake, remove, show, stock};

/// The links that lead inside by an absolute path are the only difference: they become relative.
fn expected(source: &Path) -> crate::common::Seen {
    let mut seen = look(source);
    for (path, (kind, bytes, _)) in &mut seen {
        let inside = bytes.strip_prefix(source.as_os_str().as_encoded_bytes());
        if let ('l', Some(rest)) = (*kind, inside) {
            let up = "../".repeat(path.matches('/').count());
            *bytes = [up.as_bytes(), &rest[1..]].concat();
        }
    }
    seen
}

#[test]
fn a_clone_is_what_was_taken_in_and_a_clone_of_a_clone_is_what_that_is_now() {
    for seed in 0..10 {
        let place = Place::new();
        tree(&place.at("source"), seed);
        let yard = Yard::init(place.at("yard")).unwrap();
        let taken = take_in(&yard, &place.at("source"), "1.4").unwrap();
        let want = expected(&place.at("source"));
        for sharing in [Sharing::All, Sharing::Careful, Sharing::None] {
            let name = format!("{sharing:?}");
            let made = clone(&yard, "wexcombe@1.4", &name, sharing).unwrap();
            assert_eq!(made.totals, taken.totals);
            assert_same(&want, &look(&made.folder.join("game")), &format!("seed {seed}, {name}"));
        }
        // A day's work in one twin: something new, something changed, something gone, something in the home.
        let game = place.at("yard/twins/None/game");
        fs::write(game.join("new.wjs"), format!("shift {seed}")).unwrap();
        fs::remove_file(game.join("target")).unwrap();
        symlink(game.join("new.wjs"), game.join("link to new")).unwrap();
        fs::create_dir_all(place.at("yard/twins/None/home/.config")).unwrap();
        fs::write(place.at("yard/twins/None/home/.config/signalman.ini"), "worked = 1").unwrap();
        for sharing in [Sharing::All, Sharing::None] {
            let made = clone(&yard, "None", &format!("second {sharing:?}"), sharing).unwrap();
            let mut want = look(&place.at("yard/twins/None/game"));
            want.get_mut("link to new").unwrap().1 = b"new.wjs".to_vec();
            assert_same(&want, &look(&made.folder.join("game")), &format!("seed {seed}, second"));
            assert_same(&look(&place.at("yard/twins/None/home")), &look(&made.folder.join("home")), "home");
        }
        assert!(leftovers(&place.at("yard")).is_empty());
    }
}

#[test]
fn times_and_holes_are_kept() {
    let place = Place::new();
    fs::create_dir(place.at("source")).unwrap();
    let hole = fs::File::create(place.at("source/world.dat")).unwrap();
    hole.set_len(64 << 20).unwrap();
    let old = std::time::UNIX_EPOCH + std::time::Duration::from_nanos(1_234_567_890_123_456_789);
    hole.set_modified(old).unwrap();
    let yard = Yard::init(place.at("yard")).unwrap();
    take_in(&yard, &place.at("source"), "1.4").unwrap();
    let made = clone(&yard, "wexcombe@1.4", "copy", Sharing::None).unwrap();
    let meta = fs::metadata(made.folder.join("game/world.dat")).unwrap();
    assert_eq!(meta.modified().unwrap(), old);
    assert_eq!(meta.len(), 64 << 20);
    assert!(meta.blocks() * 512 < 1 << 20, "{} bytes on disk", meta.blocks() * 512);
}

#[test]
fn what_two_builds_have_in_common_is_stored_once_and_taking_one_in_again_changes_nothing() {
    let place = Place::new();
    tree(&place.at("one"), 1);
    tree(&place.at("two"), 1);
    fs::write(place.at("two/new in 2.0"), "new").unwrap();
    let yard = Yard::init(place.at("yard")).unwrap();
    take_in(&yard, &place.at("one"), "1.4").unwrap();
    let second = take_in(&yard, &place.at("two"), "2.0").unwrap();
    assert_eq!((second.new_contents, second.new_bytes), (1, 3));
    let again = take_in(&yard, &place.at("two"), "2.0").unwrap();
    assert!(again.was_there && again.new_contents == 0);
    let other = take_in(&yard, &place.at("two"), "1.4").unwrap_err();
    assert_eq!(other.class(), yard_twin::Class::Refused);
    // What differs in names or sizes is refused before anything is read, what differs in bytes alone after it.
    let mut options = intake::Options::new(place.at("two"), "wexcombe".parse().unwrap());
    options.build = Some("1.4".parse().unwrap());
    assert!(intake::plan(&yard, options.clone(), &Ctx::new()).is_err());
    fs::remove_file(place.at("two/new in 2.0")).unwrap();
    fs::write(place.at("two/target"), "THE target").unwrap();
    let plan = intake::plan(&yard, options, &Ctx::new()).unwrap();
    assert_eq!(intake::apply(&yard, &plan, &Ctx::new()).unwrap_err().class(), yard_twin::Class::Refused);
    assert_eq!(stock::list(&yard, false).unwrap().len(), 2);
}

#[test]
fn groups_that_are_left_out_stay_out_and_moving_leaves_them_behind() {
    let place = Place::new();
    let source = place.at("source");
    standins::write_wexcombe(&source, "1.4", std::path::Path::new("/bin/true")).unwrap();
    fs::write(source.join("cabin/shifts/shift-001.wjs"), "mine").unwrap();
    let yard = Yard::init(place.at("yard")).unwrap();
    fs::write(place.at("yard/sheets/wexcombe.toml"), standins::WEXCOMBE_SHEET).unwrap();
    let mut options = intake::Options::new(&source, "wexcombe".parse().unwrap());
    options.leave_out = vec!["shifts".into()];
    options.take_away = true;
    let ctx = Ctx::new();
    let plan = intake::plan(&yard, options, &ctx).unwrap();
    assert_eq!(plan.build.to_string(), "wexcombe@1.4", "the label is read from the folder");
    let taken = intake::apply(&yard, &plan, &ctx).unwrap();
    let away = taken.taken_away.unwrap();
    assert!(away.left.is_empty() && !away.folder_gone);
    assert_eq!(look(&source).keys().collect::<Vec<_>>(), ["cabin", "cabin/shifts", "cabin/shifts/shift-001.wjs"]);
    let made = clone(&yard, "wexcombe@1.4", "clean", Sharing::All).unwrap();
    assert_eq!(fs::read_dir(made.folder.join("game/cabin/shifts")).unwrap().count(), 0, "the folder itself is there");
}

#[test]
fn a_removed_twin_can_be_cloned_from_until_it_is_forgotten() {
    let place = Place::new();
    tree(&place.at("source"), 3);
    let yard = Yard::init(place.at("yard")).unwrap();
    take_in(&yard, &place.at("source"), "1.4").unwrap();
    let made = clone(&yard, "wexcombe@1.4", "old", Sharing::All).unwrap();
    fs::write(made.folder.join("game/mine.wjs"), "a long shift").unwrap();
    let before = look(&made.folder.join("game"));
    let (ctx, name) = (Ctx::new(), "old".parse().unwrap());
    let plan = remove::plan(&yard, &name, &ctx).unwrap();
    assert_eq!(plan.only_here.paths, ["game/mine.wjs"]);
    remove::apply(&yard, &plan, &ctx).unwrap();
    assert!(!made.folder.exists());
    let back = clone(&yard, "old", "old", Sharing::None).unwrap();
    assert_same(&before, &look(&back.folder.join("game")), "cloned from the removed twin");
    for twin in ["old", "old"] {
        // First the new one, then the one that was removed before it.
        let name = twin.parse().unwrap();
        let plan = remove::plan(&yard, &name, &ctx).unwrap();
        remove::let_go(&yard, &plan, &ctx).unwrap();
    }
    assert_eq!(fs::read_dir(place.at("yard/removed")).unwrap().count(), 0);
    let pool: u64 = look(&place.at("yard/pool")).values().filter(|what| what.1 == b"a long shift").count() as u64;
    assert_eq!(pool, 0, "nothing needs it any more");
    clone(&yard, "wexcombe@1.4", "fresh", Sharing::Careful).unwrap();
}

#[test]
fn a_listing_that_was_read_is_believed_only_as_long_as_its_file_looks_the_same() {
    type Spoil = fn(&Path, &[u8]);
    let ways: [(&str, Spoil); 3] = [
        ("gone", |path, _| fs::remove_file(path).unwrap()),
        ("torn", |path, bytes| fs::write(path, &bytes[..bytes.len() / 2]).unwrap()),
        ("other bytes, as long and as old", |path, bytes| {
            let time = fs::metadata(path).unwrap().modified().unwrap();
            let other: Vec<u8> = bytes.iter().map(|byte| byte ^ 0x55).collect();
            fs::write(path, other).unwrap();
            fs::File::options().append(true).open(path).unwrap().set_modified(time).unwrap();
        }),
    ];
    // One that is kept whole, and one that is kept as its difference from that.
    for ((what, spoil), changed) in ways.into_iter().flat_map(|way| [false, true].map(|changed| (way, changed))) {
        let place = Place::new();
        tree(&place.at("source"), 3);
        let yard = Yard::init(place.at("yard")).unwrap();
        take_in(&yard, &place.at("source"), "1.4").unwrap();
        clone(&yard, "wexcombe@1.4", "a", Sharing::All).unwrap();
        let (options, ctx) = (yard_twin::clone::Options::default(), Ctx::new());
        if changed {
            fs::write(place.at("yard/twins/a/game/new"), "new").unwrap();
            show::twin(&yard, &"a".parse().unwrap(), &ctx).unwrap();
        }
        let (source, name) = ("a".parse().unwrap(), "b".parse().unwrap());
        let plan = yard_twin::clone::plan(&yard, &source, &name, options, &ctx).unwrap();
        // The plan has read it; what is there when the twin is made is something else.
        for folder in fs::read_dir(place.at("yard/listings")).unwrap() {
            for file in fs::read_dir(folder.unwrap().path()).unwrap() {
                let path = file.unwrap().path();
                let bytes = fs::read(&path).unwrap();
                if !changed || bytes.starts_with(b"ytdelta") {
                    spoil(&path, &bytes);
                }
            }
        }
        yard_twin::clone::apply(&yard, &plan, &ctx).unwrap();
        drop(yard);
        let yard = Yard::open(place.at("yard")).unwrap();
        let shown = show::twin(&yard, &name, &ctx);
        assert!(shown.is_ok(), "{what}, changed {changed}: {shown:?}");
        assert_same(&look(&place.at("yard/twins/a/game")), &look(&place.at("yard/twins/b/game")), what);
    }
}

#[test]
fn a_folder_in_the_place_of_an_index_is_left_alone() {
    let place = Place::new();
    tree(&place.at("source"), 4);
    let yard = Yard::init(place.at("yard")).unwrap();
    take_in(&yard, &place.at("source"), "1.4").unwrap();
    clone(&yard, "wexcombe@1.4", "a", Sharing::All).unwrap();
    let index = place.at("yard/twins/a/index");
    fs::remove_file(&index).unwrap();
    fs::create_dir(&index).unwrap();
    fs::write(index.join("mine"), "a player's").unwrap();
    fs::write(place.at("yard/twins/a/game/new"), "new").unwrap();
    for _ in 0..2 {
        // It may say that it can't write there; it takes nothing away.
        let _ = show::twin(&yard, &"a".parse().unwrap(), &Ctx::new());
        assert_eq!(fs::read_to_string(index.join("mine")).unwrap(), "a player's");
    }
    assert!(leftovers(&place.at("yard")).is_empty());
}

#[test]
fn what_exists_nowhere_else_is_named_however_it_is_kept() {
    let place = Place::new();
    fs::create_dir(place.at("source")).unwrap();
    let write = |folder: &str, names: std::ops::Range<u32>, text: &str| {
        names.for_each(|name| fs::write(place.at(folder).join(name.to_string()), format!("{text} {name}")).unwrap());
    };
    write("source", 0..40, "shipped");
    let yard = Yard::init(place.at("yard")).unwrap();
    take_in(&yard, &place.at("source"), "1.4").unwrap();
    clone(&yard, "wexcombe@1.4", "a", Sharing::All).unwrap();
    let only = |twin: &str| {
        let plan = remove::plan(&yard, &twin.parse().unwrap(), &Ctx::new()).unwrap();
        let mut names: Vec<u32> =
            plan.only_here.paths.iter().map(|path| path["game/".len()..].parse().unwrap()).collect();
        names.sort_unstable();
        names
    };
    let took_in = || drop(show::twin(&yard, &"a".parse().unwrap(), &Ctx::new()).unwrap());
    assert!(only("a").is_empty());
    // Little differs from the stock build: that is what is kept of it.
    write("yard/twins/a/game", 40..42, "played");
    took_in();
    assert_eq!(only("a"), [40, 41]);
    // So much does that it is kept whole, and then little from that, which nobody else has.
    write("yard/twins/a/game", 42..62, "played");
    took_in();
    write("yard/twins/a/game", 62..63, "played");
    took_in();
    assert_eq!(only("a"), (40..63).collect::<Vec<_>>());
    // Nothing of it is the only one while another twin has the same; what one of the two plays on is.
    clone(&yard, "a", "b", Sharing::All).unwrap();
    assert_eq!((only("a"), only("b")), (vec![], vec![]));
    write("yard/twins/a/game", 63..64, "played");
    took_in();
    assert_eq!((only("a"), only("b")), (vec![63], vec![]));
    let gone = remove::plan(&yard, &"b".parse().unwrap(), &Ctx::new()).unwrap();
    remove::let_go(&yard, &gone, &Ctx::new()).unwrap();
    assert_eq!(only("a"), (40..64).collect::<Vec<_>>());
}
