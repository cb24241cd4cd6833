//! No damage to an archive is more than an error; and a trial of what fails only now and then.
//!
//! A failure prints the seed; `YARDTWIN_SEED=N` runs that one alone.

use std::cell::Cell;
use std::fs;
use std::io::Write;
use std::path::Path;

use crate::common::{Dice, Place, as_user, clone, look, skip, take_in};
use yard_twin::{Ctx, RelPath, Sharing, Yard, mods};

const CASES: u64 = 150;

/// A yard with a twin, in memory.
fn yard() -> (Place, Yard) {
    let place = Place::in_memory();
    for (path, text) in [("source/data/a", "a"), ("source/data/b", "b")] {
        fs::create_dir_all(place.at(path).parent().unwrap()).unwrap();
        fs::write(place.at(path), text).unwrap();
    }
    let yard = Yard::init(place.at("yard")).unwrap();
    take_in(&yard, &place.at("source"), "1").unwrap();
    clone(&yard, "wexcombe@1", "t", Sharing::All).unwrap();
    (place, yard)
}

/// Archives of every kind that can be made here, of the same three files.
fn archives(place: &Place) -> Vec<std::path::PathBuf> {
    let files: [(&str, &[u8]); 3] =
        [("mod/data/a", b"another a"), ("mod/data/c", &[7; 3000]), ("mod/data/deep/d", b"0123456789".as_slice())];
    let mut zip = zip::ZipWriter::new(fs::File::create(place.at("all.zip")).unwrap());
    let mut tar = tar::Builder::new(Vec::new());
    for (path, bytes) in files {
        zip.start_file(path, zip::write::SimpleFileOptions::default()).unwrap();
        zip.write_all(bytes).unwrap();
        let mut header = tar::Header::new_ustar();
        header.set_size(bytes.len() as u64);
        header.set_mode(0o644);
        tar.append_data(&mut header, path, bytes).unwrap();
    }
    zip.finish().unwrap();
    fs::write(place.at("all.tar"), tar.into_inner().unwrap()).unwrap();
    let plain = fs::read(place.at("all.tar")).unwrap();
    fs::write(place.at("all.tar.zst"), zstd::encode_all(plain.as_slice(), 3).unwrap()).unwrap();
    let mut made = vec![place.at("all.zip"), place.at("all.tar"), place.at("all.tar.zst")];
    place.give_away();
    for (program, arguments, archive) in [
        ("gzip", &["-k", "all.tar"][..], "all.tar.gz"),
        ("bzip2", &["-k", "all.tar"][..], "all.tar.bz2"),
        ("xz", &["-k", "all.tar"][..], "all.tar.xz"),
        ("7z", &["a", "all.7z", "all.zip"][..], "all.7z"),
    ] {
        // (Some complain that a file's group can't be kept.)
        let _ = as_user(program).args(arguments).current_dir(place.at("")).output();
        if place.at(archive).exists() {
            made.push(place.at(archive));
        } else {
            skip("no_damage_to_an_archive_is_more_than_an_error", &format!("{program} makes no {archive}"));
        }
    }
    made
}

/// Bytes that are not what they were: some changed, some gone, some more.
fn damaged(mut bytes: Vec<u8>, dice: &mut Dice) -> Vec<u8> {
    for _ in 0..=dice.roll(3) {
        let len = bytes.len() as u64;
        let at = usize::try_from(dice.roll(len.max(1))).unwrap();
        match dice.roll(6) {
            0 => bytes.truncate(at),
            1 => drop(bytes.splice(at..at, dice.bytes(8))),
            2 if at + 4 <= bytes.len() => bytes[at..at + 4].fill(0xff),
            _ if at < bytes.len() => bytes[at] ^= 1 << dice.roll(8),
            _ => {}
        }
    }
    bytes
}

#[test]
fn no_damage_to_an_archive_is_more_than_an_error() {
    let (place, yard) = yard();
    let made = archives(&place);
    let wholes: Vec<Vec<u8>> = made.iter().map(|path| fs::read(path).unwrap()).collect();
    let before = look(&place.at("yard/twins/t/game"));
    let only = std::env::var("YARDTWIN_SEED").ok().map(|seed| seed.parse().unwrap());
    for seed in (0..CASES).filter(|seed| only.is_none_or(|only: u64| only == *seed)) {
        for (path, whole) in made.iter().zip(&wholes) {
            let name = Path::new(path.file_name().unwrap()).display().to_string();
            eprintln!("YARDTWIN_SEED={seed} {name}");
            let file = place.at(&format!("damaged {name}"));
            fs::write(&file, damaged(whole.clone(), &mut Dice::new(seed))).unwrap();
            let ctx = Ctx::new();
            let title = "wexcombe".parse().unwrap();
            let Ok(packed) = mods::read(&yard, &[file], &title, &mods::ReadOptions::default(), &ctx) else { continue };
            drop(mods::plan_add(&yard, &"t".parse().unwrap(), &packed, &mods::AddOptions::default(), &ctx));
        }
    }
    crate::common::assert_same(&look(&place.at("yard/twins/t/game")), &before, "what is only looked at");
}

#[test]
fn what_fails_now_and_then_is_tried_once_more() {
    let (place, yard) = yard();
    let ctx = Ctx::new();
    for name in ["brass", "night", "hill"] {
        fs::create_dir_all(place.at(name)).unwrap();
        fs::write(place.at(name).join("own"), name).unwrap();
        let packed =
            mods::read(&yard, &[place.at(name)], &"wexcombe".parse().unwrap(), &mods::ReadOptions::default(), &ctx);
        let into = RelPath::new(format!("game/{name}")).ok();
        let options = mods::AddOptions { into, strip: Some(0), ..mods::AddOptions::default() };
        let plan = mods::plan_add(&yard, &"t".parse().unwrap(), &packed.unwrap(), &options, &ctx).unwrap();
        mods::apply(&yard, &plan, &ctx).unwrap();
    }
    // Every second start with that one works by chance.
    let trial = |unsure: bool| {
        let starts = Cell::new(0);
        let mut ask = |attempt: &mods::Attempt| {
            let has = attempt.on.iter().any(|name| name.as_str() == "night");
            starts.set(starts.get() + u32::from(has));
            Ok(if has && starts.get().is_multiple_of(2) { mods::Answer::Fails } else { mods::Answer::Works })
        };
        let options = mods::TrialOptions { how: format!("{unsure}"), unsure };
        let verdict = mods::trial(&yard, &"t".parse().unwrap(), &options, &mut ask, &ctx).unwrap();
        (verdict.found, verdict.starts)
    };
    let these = mods::Culprits::These(vec!["night".parse().unwrap()]);
    assert_eq!(trial(true).0, these);
    assert_ne!(trial(false).0, these);
}
