//! Stock builds out of archives, and archives that nobody should believe, through the real program.

use std::fs;
use std::path::Path;

use crate::support::Desk;
use crate::support::common::{assert_same, look, skip};
use crate::support::hills::{desk, pack, read, write};

/// Makes a zip archive of files, stored as they are.
fn zipped(path: &Path, files: &[(&str, &[u8])]) {
    use std::io::Write;
    let mut zip = zip::ZipWriter::new(fs::File::create(path).unwrap());
    let stored = zip::write::SimpleFileOptions::default().compression_method(zip::CompressionMethod::Stored);
    for (name, bytes) in files {
        match name.strip_suffix('/') {
            Some(folder) => zip.add_directory(folder, stored).unwrap(),
            None => {
                zip.start_file(*name, stored).unwrap();
                zip.write_all(bytes).unwrap();
            }
        }
    }
    zip.finish().unwrap();
}

/// Writes a file with each of some bytes in it put in place of others that are as many.
fn patched(from: &Path, to: &Path, pieces: &[(&[u8], &[u8])]) {
    let mut bytes = fs::read(from).unwrap();
    for (old, new) in pieces {
        assert_eq!(old.len(), new.len());
        let places: Vec<usize> = (0..=bytes.len() - old.len()).filter(|at| bytes[*at..].starts_with(old)).collect();
        assert!(!places.is_empty(), "{old:?}");
        places.into_iter().for_each(|at| bytes[at..at + new.len()].copy_from_slice(new));
    }
    fs::write(to, bytes).unwrap();
}

#[test]
fn a_build_comes_out_of_archives_as_out_of_the_folder() {
    let sheet = "[[label]]\nfile = \"build.txt\"\nline = 1\n[good]\npresent = [\"bin/do\"]\nexecutable = [\"bin/*\"]\n";
    let desk = desk(sheet, &[]);
    let one: [(&str, &[u8]); 6] = [
        ("Hills 2/bin/do", b"#!/bin/sh\neval \"$1\"\n"),
        ("Hills 2/build.txt", b"2.0\n"),
        ("Hills 2/Data/a", b"first"),
        ("Hills 2/Data/redist/setup.dat", b"nobody needs this"),
        ("Hills 2/reels/", b""),
        ("read me.txt", b"for people"),
    ];
    zipped(&desk.at("hills part1.zip"), &one);
    zipped(&desk.at("hills part2.zip"), &[("Hills 2/data/A", b"second"), ("Hills 2/data/b", b"b")]);
    desk.place.give_away();
    let parts = ["intake", "hills part1.zip", "hills part2.zip", "--title", "hills", "--without", "data/redist"];
    // A part alone is not all of it, whichever it is.
    let said = desk.fails(1, &["intake", "hills part1.zip", "--title", "hills"]);
    assert!(said.contains("hills part2.zip"), "{said}");
    let before = look(&desk.at("yard"));
    let said = desk.ok(&[&parts[..], &["--dry-run"]].concat());
    assert_same(&look(&desk.at("yard")), &before, "a dry run");
    for words in [
        "would be taken in as hills@2.0",
        "the folder \"Hills 2\"",
        "read me.txt",
        "laid over",
        "Data/a",
        "left out by name",
    ] {
        assert!(said.contains(words), "{words}: {said}");
    }
    desk.ok(&parts);
    desk.ok(&["clone", "hills@2.0", "t"]);
    let game = look(&desk.game("t", ""));
    let names: Vec<&str> = game.keys().map(String::as_str).collect();
    assert_eq!(names, ["Data", "Data/a", "Data/b", "bin", "bin/do", "build.txt", "reels"]);
    assert_eq!([read(&desk, "t/game/Data/a"), read(&desk, "t/game/Data/b")], ["second", "b"]);
    // What an archive doesn't say of modes, the sheet says.
    desk.ok(&["launch", "t", "--", "grep second Data/a"]);
    assert!(desk.ok(&parts).contains("was taken in before, and is the same"));
    desk.ok(&["clone", "hills@2.0", "u"]);
    assert_same(&look(&desk.game("u", "")), &game, "again");
    // Taken away once it is safe; a folder among archives is nothing to lay over them.
    pack(&desk, "folder", &[("bin/do", "x")]);
    let both = ["intake", "hills part1.zip", "hills part2.zip", "folder", "--title", "hills", "--build", "3"];
    assert!(desk.fails(2, &both).contains("folders and archives"));
    desk.ok(&[&parts[..], &["--build", "2.1", "--move", "--yes"]].concat());
    assert!(!desk.at("hills part1.zip").exists() && !desk.at("hills part2.zip").exists());
    desk.ok(&["check", "u"]);
}

#[test]
fn the_programs_folder_is_found_in_an_archive_or_said() {
    let desk = desk("", &[]);
    fs::remove_file(desk.at("yard/sheets/hills.toml")).unwrap();
    zipped(&desk.at("deep.zip"), &[("out/in/bin/do", b"x"), ("out/in/data/a", b"a")]);
    zipped(&desk.at("flat.zip"), &[("data/a", b"a"), ("about.txt", b"about")]);
    zipped(&desk.at("outer.zip"), &[("deep.zip", &fs::read(desk.at("deep.zip")).unwrap())]);
    desk.place.give_away();
    for (build, archive, more, path) in [
        ("1", "deep.zip", &[][..], "bin/do"),
        ("2", "deep.zip", &["--strip", "1"][..], "in/bin/do"),
        ("3", "flat.zip", &[][..], "about.txt"),
        ("4", "outer.zip", &[][..], "data/a"),
    ] {
        desk.ok(&[&["intake", archive, "--title", "fresh", "--build", build], more].concat());
        let files = desk.ok(&["stock", "show", &format!("fresh@{build}"), "--files"]);
        assert!(files.contains(&format!("game/{path}")), "{files}");
    }
    // What is all of another one, and says itself which build it is; and a program that is all of one, and no download.
    write(&desk, "yard/sheets/sure.toml", "title = \"sure\"\n[[label]]\nfile = \"data/a\"\nline = 1\n");
    let said = desk.ok(&["intake", "outer.zip", "--title", "sure"]);
    assert!(said.contains("is taken in as sure@a"), "{said}");
    zipped(&desk.at("player.jar"), &[("META-INF/MANIFEST.MF", b"Main-Class: Play")]);
    zipped(&desk.at("java.zip"), &[("player.jar", &fs::read(desk.at("player.jar")).unwrap())]);
    desk.place.give_away();
    desk.ok(&["intake", "java.zip", "--title", "java", "--build", "1"]);
    assert!(desk.ok(&["stock", "show", "java@1", "--files"]).contains("game/player.jar"));
    desk.fails(2, &["intake", "flat.zip", "--title", "fresh", "--build", "5", "--strip", "3"]);
    write(&desk, "text.zip", "no archive");
    let said = desk.fails(1, &["intake", "text.zip", "--title", "fresh", "--build", "5"]);
    assert!(said.contains("neither a folder nor an archive"), "{said}");
    // Two archives that want a file and a folder in one place.
    zipped(&desk.at("other.zip"), &[("out/in/data", b"a file")]);
    desk.place.give_away();
    let said = desk.fails(1, &["intake", "deep.zip", "other.zip", "--title", "fresh", "--build", "5"]);
    assert!(said.contains("a folder in an earlier archive"), "{said}");
}

#[test]
fn names_that_are_not_utf_8_are_asked_about() {
    let desk = desk("[mods]\nplace = \"game/data\"\n", &["t"]);
    zipped(&desk.at("plain.zip"), &[("data/XX.txt", b"a table")]);
    // A character whose second byte is a backslash, in the encoding that most such archives have.
    patched(&desk.at("plain.zip"), &desk.at("table.zip"), &[(b"XX.txt", b"\x95\x5c.txt")]);
    desk.place.give_away();
    let add = ["mod", "add", "table.zip", "--to", "t"];
    let said = desk.fails(1, &add);
    assert!(said.contains("as shift_jis it is \"data/表.txt\"") && said.contains("--names ENCODING"), "{said}");
    desk.fails(2, &[&add[..], &["--names", "no such"]].concat());
    desk.ok(&[&add[..], &["--names", "shift_jis"]].concat());
    assert_eq!(read(&desk, "t/game/data/表.txt"), "a table");
    desk.ok(&["intake", "table.zip", "--title", "other", "--build", "1", "--names", "Shift_JIS"]);
    assert!(desk.ok(&["stock", "show", "other@1", "--files"]).contains("表.txt"));
}

#[test]
fn hostile_zip_and_7z_archives_are_refused_or_harmless() {
    let desk = desk("", &["t"]);
    let before = look(&desk.game("t", ""));
    let refuse = |name: &str, why: &str| {
        desk.place.give_away();
        let said = desk.fails(1, &["mod", "add", name, "--to", "t", "--into", "game", "--strip", "0"]);
        assert!(said.contains("can't be used") && said.contains(why), "{name}, {why}: {said}");
        desk.fails(1, &["intake", name, "--title", "other", "--build", "1"]);
        assert_same(&look(&desk.game("t", "")), &before, name);
    };
    // Names, with as many letters as the one that they are put in place of.
    let names: [(&[u8], &str); 12] = [
        (b"data/../../evil", "leads out"),
        (b"../../../../evi", "leads out"),
        (b"/absolute/evil_", "leads out"),
        (b"..\\..\\..\\..\\evi", "no name should have"),
        (b"C:\\windows\\evil", "no name should have"),
        (b"data/stream:evi", "no name should have"),
        (b"data/nul\0inside", "leads out"),
        (b"data/control\x01\x1b.", "no name should have"),
        (b"data/CON.longer", "no name on every system"),
        (b"data/ends in a.", "no name on every system"),
        (b"data/ends in a ", "no name on every system"),
        (b"data/what?.text", "no name should have"),
    ];
    let good = "data/good.nam.e";
    zipped(&desk.at("good.zip"), &[(good, b"bytes")]);
    desk.place.give_away();
    let seven = desk.tool("7z").args(["a", "-mhc=off", "good.7z", "good.zip"]).current_dir(desk.root()).output();
    let seven = seven.is_ok_and(|output| output.status.success());
    if !seven {
        skip("hostile_zip_and_7z_archives_are_refused_or_harmless", "7z is not there");
    }
    for (name, why) in names {
        patched(&desk.at("good.zip"), &desk.at("evil.zip"), &[(good.as_bytes(), name)]);
        refuse("evil.zip", why);
    }
    // The same in the other format, whose names are as long as that of what is in it.
    let short: [&[u8]; 10] = [
        b"../../ev",
        b"/abs/evi",
        b"C:\\evil_",
        b"a:stream",
        b"..\\..\\ev",
        b"CON.evil",
        b"ends in.",
        b"ends in ",
        b"what?.tx",
        b"control\x01",
    ];
    for name in short.iter().filter(|_| seven) {
        let piece = |name: &[u8]| -> Vec<u8> { name.iter().flat_map(|byte| [*byte, 0]).collect() };
        patched(&desk.at("good.7z"), &desk.at("evil.7z"), &[(&piece(b"good.zip"), &piece(name))]);
        mend_7z(&desk.at("evil.7z"));
        refuse("evil.7z", "");
    }
    // What two of them say of one place.
    for (other, becomes) in [("data/ab", "data/aa"), ("DATA/Ab", "DATA/Aa"), ("data/ab/c", "data/aa/c")] {
        zipped(&desk.at("two.zip"), &[("data/aa", b"1"), (other, b"2")]);
        patched(&desk.at("two.zip"), &desk.at("evil.zip"), &[(other.as_bytes(), becomes.as_bytes())]);
        refuse("evil.zip", "");
    }
    zipped(&desk.at("evil.zip"), &[("data/\u{e9}", b"1"), ("data/e\u{301}", b"2")]);
    refuse("evil.zip", "another one of that name");
    // What is said of a member, in the list (behind its mark) or before the member.
    for (field, change) in [(8, 1u8), (16, 0xff), (24, 1), (24, 200), (10, 99), (42, 3)] {
        let mut bytes = fs::read(desk.at("good.zip")).unwrap();
        let list = bytes.windows(4).position(|four| four == b"PK\x01\x02").unwrap();
        bytes[list + field] ^= change;
        fs::write(desk.at("evil.zip"), bytes).unwrap();
        refuse("evil.zip", "");
    }
    let locked = desk.tool("zip").args(["-qP", "secret", "locked.zip", "good.zip"]).current_dir(desk.root()).status();
    if locked.is_ok_and(|status| status.success()) {
        refuse("locked.zip", "it is encrypted");
    }
    bomb(&desk);
    refuse("bomb.zip", "");
    refuse("link.zip", "it is a link");
    refuse("over.zip", "");
}

/// Archives that say more than they hold: a thousandfold of zeros, a link, and members that lie over one another.
fn bomb(desk: &Desk) {
    let script = "import zipfile\n\
        z=zipfile.ZipFile('inner','w',8)\nz.writestr('zeros',b'\\0'*(40<<20))\nz.close()\n\
        b=open('inner','rb').read()\nk=b.index(b'PK\\1\\2')\n\
        open('bomb.zip','wb').write(b[:k]+b[k:].replace((40<<20).to_bytes(4,'little'),(4<<30).__sub__(9).to_bytes(4,'little')))\n\
        z=zipfile.ZipFile('link.zip','w')\ni=zipfile.ZipInfo('data/link')\ni.external_attr=0o120777<<16\ni.create_system=3\n\
        z.writestr(i,'/etc/passwd')\nz.close()\n\
        z=zipfile.ZipFile('over.zip','w')\nz.writestr('one','1'*50)\nz.writestr('two','2'*50)\nz.close()\n\
        b=bytearray(open('over.zip','rb').read())\nk=b.rindex(b'PK\\1\\2')\nb[k+42:k+46]=b'\\0'*4\nopen('over.zip','wb').write(b)\n";
    desk.place.give_away();
    let made = desk.tool("python3").args(["-c", script]).current_dir(desk.root()).output().unwrap();
    assert!(made.status.success(), "{made:?}");
}

/// Makes the sums in a 7z archive right again, whose list is at its end as it is.
fn mend_7z(path: &Path) {
    let mut bytes = fs::read(path).unwrap();
    let number = |at: usize| usize::try_from(u64::from_le_bytes(bytes[at..at + 8].try_into().unwrap())).unwrap();
    let list = 32 + number(12);
    let sum = crc(&bytes[list..list + number(20)]);
    bytes[28..32].copy_from_slice(&sum.to_le_bytes());
    let sum = crc(&bytes[12..32]);
    bytes[8..12].copy_from_slice(&sum.to_le_bytes());
    fs::write(path, bytes).unwrap();
}

/// The CRC-32 of ISO 3309.
fn crc(bytes: &[u8]) -> u32 {
    !bytes.iter().fold(!0, |crc: u32, byte| {
        (0..8).fold(crc ^ u32::from(*byte), |crc, _| if crc & 1 == 1 { crc >> 1 ^ 0xedb8_8320 } else { crc >> 1 })
    })
}
