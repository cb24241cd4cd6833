//! Packages of mods through the real program: archives of every kind, and where their files belong.

use std::fs;
use std::io::Write;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;

use crate::support::Desk;
use crate::support::common::{assert_same, look, skip};
use crate::support::hills::{desk, pack, read, write};

#[test]
fn where_a_package_belongs_is_found_out_or_asked() {
    let desk = desk("", &["t"]);
    pack(&desk, "Wrapped v2", &[("Boards/data/new", "x"), ("Boards/data/a", "other"), ("readme.txt", "hello")]);
    let said = desk.ok(&["mod", "add", "Wrapped v2", "--to", "t", "--dry-run"]);
    assert!(
        said.contains("without Boards/: game/data is there already") && said.contains("data/  files inside change"),
        "{said}"
    );
    assert!(said.contains("for you to read  readme.txt"), "{said}");
    assert_eq!(read(&desk, "t/game/data/new"), "(none)");
    pack(&desk, "apart", &[("wrap/far/one", "1"), ("wrap/far/two", "2")]);
    let said = desk.fails(4, &["mod", "add", "apart", "--to", "t"]);
    assert!(said.contains("--into game --strip 1: game/far/one"), "{said}");
    desk.ok(&[
        "mod",
        "add",
        "apart",
        "--to",
        "t",
        "--into",
        "game",
        "--strip",
        "1",
        "--place",
        "*two=home/.hills",
        "--write-sheet",
        "apart.toml",
    ]);
    assert_eq!(["game/far/one", "home/.hills/two"].map(|path| read(&desk, &format!("t/{path}"))), ["1", "2"]);
    desk.ok(&["clone", "hills@1.4", "u"]);
    desk.ok(&["mod", "add", "apart", "--to", "u", "--sheet", "apart.toml", "--name", "by sheet"]);
    assert_eq!(["game/far/one", "home/.hills/two"].map(|path| read(&desk, &format!("u/{path}"))), ["1", "2"]);
    pack(&desk, "twin like", &[("x/game/data/z", "z"), ("x/home/.hills/z", "hz")]);
    desk.ok(&["mod", "add", "twin like", "--to", "u"]);
    assert_eq!(["game/data/z", "home/.hills/z"].map(|path| read(&desk, &format!("u/{path}"))), ["z", "hz"]);
    pack(&desk, "in the way", &[("data/a/b", "below a file")]);
    assert!(desk.fails(4, &["mod", "add", "in the way", "--to", "u"]).contains("game/data/a is in its way"));
    write(&desk, "placed.toml", "[[place]]\nfrom = \"**\"\nto = \"game\"\n");
    let twice =
        ["mod", "add", "apart", "--to", "u", "--sheet", "placed.toml", "--name", "twice", "--into", "game/data"];
    assert!(desk.fails(2, &twice).contains("says where its files go"));
    assert!(desk.fails(1, &["mod", "add", "no such thing.zip", "--to", "u"]).contains("there is no file or folder"));
    for (sheet, why) in [
        ("[[place]]\nfrom = \"**\"\nto = \"../outside\"\n", "line 3, column 6"),
        ("[[place]]\nfrom = \"../x\"\nto = \"game\"\n", "line 2, column 8"),
        ("run = \"rm\"\n", "unknown field"),
        ("remove = [\"/etc\"]\n", "line 1, column 11"),
    ] {
        write(&desk, "wrong.toml", sheet);
        assert!(desk.fails(1, &["mod", "add", "apart", "--to", "u", "--sheet", "wrong.toml"]).contains(why), "{why}");
    }
}

#[test]
fn archives_of_every_kind_are_read_and_hostile_ones_refused() {
    let desk = desk("", &["t"]);
    pack(&desk, "tree", &[("data/deep/one", "1"), ("data/deep/ü", "2"), ("data/run", "#!/bin/sh\n")]);
    fs::set_permissions(desk.at("tree/data/run"), fs::Permissions::from_mode(0o755)).unwrap();
    let make = |program: &str, arguments: &[&str]| {
        let made = desk.tool(program).args(arguments).current_dir(desk.at("tree")).output();
        made.is_ok_and(|output| output.status.success())
    };
    for number in 0..1500 {
        let path = desk.at(&format!("tree/data/many/{}/{number}.dat", number % 37));
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, format!("{number} {}", "text ".repeat(number % 50))).unwrap();
    }
    fs::create_dir(desk.at("tree/data/empty")).unwrap();
    desk.place.give_away();
    let whole = look(&desk.at("tree/data"));
    let python = "import zipfile,os\nz=zipfile.ZipFile('../py.zip','w',8)\nfor r,d,n in os.walk('data'):\n  for f in d+n: z.write(r+'/'+f)\nz.close()";
    let archives: [(&str, &str, &[&str]); 10] = [
        ("all.zip", "zip", &["-qr", "../all.zip", "data"]),
        ("all.tar", "tar", &["cf", "../all.tar", "data"]),
        ("all.tar.gz", "tar", &["czf", "../all.tar.gz", "data"]),
        ("all.tar.bz2", "tar", &["cjf", "../all.tar.bz2", "data"]),
        ("all.tar.xz", "tar", &["cJf", "../all.tar.xz", "data"]),
        ("all.tar.zst", "tar", &["--zstd", "-cf", "../all.tar.zst", "data"]),
        ("all.7z", "7z", &["a", "../all.7z", "data"]),
        ("bsd.tgz", "bsdtar", &["czf", "../bsd.tgz", "data"]),
        ("bsd.zip", "bsdtar", &["-a", "-cf", "../bsd.zip", "data"]),
        ("py.zip", "python3", &["-c", python]),
    ];
    for (archive, program, arguments) in archives {
        if !make(program, arguments) {
            skip("archives_of_every_kind_are_read_and_hostile_ones_refused", &format!("{program} makes no {archive}"));
            continue;
        }
        desk.ok(&["mod", "add", archive, "--to", "t", "--name", archive]);
        let mut there = look(&desk.game("t", "data"));
        there.retain(|path, _| !["a", "b"].contains(&path.as_str()));
        assert_same(&there, &whole, archive);
        desk.ok(&["mod", "remove", "t", archive]);
        // Cut off anywhere, it is refused.
        let whole = fs::read(desk.at(archive)).unwrap();
        // (What a tar archive is filled up with at its end may be missing.)
        let last = if archive.ends_with(".tar") { whole.len() / 3 } else { whole.len() - 1 };
        for cut in [whole.len() / 3, last] {
            fs::write(desk.at("cut"), &whole[..cut]).unwrap();
            desk.fails(1, &["mod", "add", "cut", "--to", "t", "--into", "game", "--strip", "0"]);
        }
    }
    // One that holds only another one is opened.
    assert!(make("zip", &["-qj", "../outer.zip", "../all.tar.gz"]));
    desk.ok(&["mod", "add", "outer.zip", "--to", "t"]);
    assert_eq!(read(&desk, "t/game/data/deep/one"), "1");
    hostile(&desk);
}

/// Archives that nobody should believe.
fn hostile(desk: &Desk) {
    let tar = |name: &str, kind: tar::EntryType, path: &str, bytes: &[u8]| {
        let mut tar = tar::Builder::new(fs::File::create(desk.at(name)).unwrap());
        let mut header = tar::Header::new_gnu();
        header.set_size(bytes.len() as u64);
        header.set_entry_type(kind);
        header.set_mode(0o4777);
        let field = header.as_gnu_mut().unwrap();
        field.name[..path.len()].copy_from_slice(path.as_bytes());
        field.linkname[..4].copy_from_slice(b"/etc");
        header.set_cksum();
        tar.append(&header, bytes).unwrap();
        tar.finish().unwrap();
    };
    let refuse = |name: &str| {
        let said = desk.fails(1, &["mod", "add", name, "--to", "t", "--into", "game", "--strip", "0"]);
        assert!(said.contains("can't be used"), "{name}: {said}");
        said
    };
    use tar::EntryType as Kind;
    for (kind, path) in [
        (Kind::Regular, "../out"),
        (Kind::Regular, "/abs"),
        (Kind::Regular, "a/../../b"),
        (Kind::Regular, "C:x"),
        (Kind::Regular, "a\\b"),
        (Kind::Regular, "con.txt"),
        (Kind::Regular, "x. "),
        (Kind::Regular, "\u{1}x"),
        (Kind::Symlink, "link"),
        (Kind::Link, "hard"),
        (Kind::Fifo, "fifo"),
        (Kind::Char, "device"),
    ] {
        tar("evil.tar", kind, path, if kind == Kind::Regular { b"x" } else { b"" });
        refuse("evil.tar");
    }
    for (name, begins) in
        [("a.rar", &b"Rar!\x1a\x07\x01"[..]), ("a.exe", b"MZ"), ("a.cab", b"MSCF"), ("a.7z.001", b"7z")]
    {
        fs::write(desk.at(name), begins).unwrap();
        refuse(name);
    }
    // A program by itself is an installer, as like as not; a library may well be a mod.
    fs::write(desk.at("part.dll"), b"MZ and so on").unwrap();
    desk.place.give_away();
    desk.ok(&["mod", "add", "part.dll", "--to", "t", "--into", "game/data"]);
    assert_eq!(read(desk, "t/game/data/part.dll"), "MZ and so on");
    // A bomb, in each packing that can make one.
    let zeros = vec![0u8; 64 << 20];
    let mut bomb = tar::Builder::new(zstd::Encoder::new(fs::File::create(desk.at("bomb.tzst")).unwrap(), 19).unwrap());
    let mut header = tar::Header::new_gnu();
    header.set_size(zeros.len() as u64);
    header.set_mode(0o644);
    bomb.append_data(&mut header, "zeros", &zeros[..]).unwrap();
    bomb.into_inner().unwrap().finish().unwrap().flush().unwrap();
    assert!(refuse("bomb.tzst").contains("far more than it should"));
    let nothing = desk.at("nothing");
    fs::create_dir(&nothing).unwrap();
    desk.place.give_away();
    assert!(desk.fails(1, &["mod", "add", "nothing", "--to", "t"]).contains("holds nothing"));
    parts(desk);
}

/// Archives that belong together.
fn parts(desk: &Desk) {
    for (number, text) in [(1, "one"), (2, "two"), (3, "three")] {
        pack(desk, &format!("part{number}"), &[(&format!("data/part{number}"), text), ("data/shared", text)]);
        let archive = format!("../hill line {number} of 3.zip");
        let zip =
            desk.tool("zip").args(["-qr", &archive, "data"]).current_dir(desk.at(&format!("part{number}"))).status();
        assert!(zip.unwrap().success());
    }
    let said = desk.fails(1, &["mod", "add", "hill line 1 of 3.zip", "hill line 3 of 3.zip", "--to", "t"]);
    assert!(said.contains("hill line 2 of 3.zip"), "{said}");
    let all = ["hill line 1 of 3.zip", "hill line 2 of 3.zip", "hill line 3 of 3.zip"];
    desk.ok(&[&["mod", "add"][..], &all, &["--to", "t", "--name", "hill line", "--move"]].concat());
    assert_eq!(
        ["part1", "part3", "shared"].map(|path| read(desk, &format!("t/game/data/{path}"))),
        ["one", "three", "three"]
    );
    assert!(all.iter().all(|name| !Path::new(&desk.at(name)).exists()), "--move deletes what is safe");
}
