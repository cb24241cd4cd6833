//! Mods through the real program: what people do with them, and what goes wrong.

use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::Path;

use crate::support::common::{assert_same, look};
use crate::support::hills::{desk, pack, read, write};

#[test]
fn what_the_player_changed_of_a_mods_file_stays_until_it_is_decided_otherwise() {
    let desk = desk("", &["t"]);
    pack(&desk, "p", &[("data/a", "p's\n")]);
    pack(&desk, "q", &[("data/a", "q's\n")]);
    desk.ok(&["mod", "add", "p", "--to", "t"]);
    desk.ok(&["mod", "add", "q", "--to", "t"]);
    write(&desk, "yard/twins/t/game/data/a", "mine\n");
    let said = desk.ok(&["mod", "off", "t", "q"]);
    assert!(said.contains("yours stays") && said.contains("--decide game/data/a=mod"), "{said}");
    assert_eq!(read(&desk, "t/game/data/a"), "mine\n");
    assert!(desk.ok(&["mod", "list", "t"]).contains("1 covered by yours"));
    assert!(desk.ok(&["mod", "explain", "t", "game/data/a"]).contains("your own"));
    desk.ok(&["mod", "on", "t", "q"]);
    desk.ok(&["mod", "off", "t", "q", "--decide", "game/data/a=mod"]);
    assert_eq!(read(&desk, "t/game/data/a"), "p's\n");
    desk.ok(&["undo", "t", "--yes"]);
    assert_eq!(read(&desk, "t/game/data/a"), "mine\n", "it is in the history");
}

#[test]
fn an_update_keeps_what_the_player_changed_and_the_place_in_the_order() {
    let desk = desk("", &["t"]);
    pack(&desk, "p1", &[("data/p", "1"), ("data/gone", "1"), ("data/kept", "1"), ("data/x", "1"), ("data/y", "1")]);
    pack(&desk, "p2", &[("data/p", "2"), ("data/x", "2"), ("data/y", "1")]);
    pack(&desk, "q", &[("data/q", "q")]);
    desk.ok(&["mod", "add", "p1", "--to", "t", "--name", "boards"]);
    desk.ok(&["mod", "add", "q", "--to", "t"]);
    write(&desk, "yard/twins/t/game/data/kept", "mine");
    ["x", "y"].iter().for_each(|name| fs::remove_file(desk.game("t", &format!("data/{name}"))).unwrap());
    let said = desk.ok(&["mod", "update", "t", "boards", "p2"]);
    let at = |name: &str| read(&desk, &format!("t/game/data/{name}"));
    assert_eq!(["p", "gone", "kept", "x", "y"].map(at), ["2", "(none)", "mine", "2", "(none)"]);
    assert!(said.contains("comes back") && said.contains("game/data/x"), "{said}");
    let listed = desk.ok(&["mod", "list", "t"]);
    assert!(listed.find(" q ") < listed.find("boards"), "the topmost comes first: {listed}");
    desk.fails(4, &["mod", "add", "p1", "--to", "t", "--name", "boards"]);
    desk.ok(&["mod", "remove", "t", "boards", "q"]);
    assert_eq!(["p", "kept", "q"].map(at), ["(none)", "mine", "(none)"]);
}

#[test]
fn what_a_program_wrote_for_a_mod_goes_aside_with_it_and_comes_back() {
    let desk = desk("", &["t"]);
    pack(&desk, "lamps", &[("data/lamp", "lamp"), ("lamps/settings.ini", "bright=1\n")]);
    let as_it_is = look(&desk.game("t", ""));
    desk.ok(&["mod", "add", "lamps", "--to", "t", "--into", "game", "--strip", "0"]);
    desk.ok(&["launch", "t", "--", "echo bright=9 > lamps/settings.ini; echo seen > lamps/new.dat"]);
    let said = desk.ok(&["mod", "off", "t", "lamps"]);
    assert!(said.contains("kept aside") && said.contains("game/lamps/settings.ini"), "{said}");
    assert_same(&look(&desk.game("t", "")), &as_it_is, "the folder goes too");
    desk.ok(&["launch", "t", "--", "ls lamps && exit 9; true"]);
    let check = desk.run(&["check"]);
    assert!(check.status.success(), "{}", crate::support::text(&check.stdout));
    desk.ok(&["mod", "on", "t", "lamps"]);
    assert_eq!(read(&desk, "t/game/lamps/settings.ini"), "bright=9\n", "the player's version");
    assert_eq!(read(&desk, "t/game/lamps/new.dat"), "seen\n");
    let check = desk.run(&["check"]);
    let said = crate::support::text(&check.stdout);
    assert!(said.contains("its mods: 1 changed by hand (game/lamps/settings.ini); 1 more than it had"), "{said}");
    desk.ok(&["sweep"]);
}

#[test]
fn what_was_dropped_in_by_hand_counts_as_the_mods_and_belongings_stay() {
    let desk = desk("[belongings.saves]\npatterns = [\"game/extra/saves/**\"]\n", &["t"]);
    let files = [("data/a", "new a"), ("data/n", "n"), ("extra/x", "x")];
    pack(&desk, "boards", &files);
    for (path, text) in files {
        write(&desk, &format!("yard/twins/t/game/{path}"), text);
    }
    write(&desk, "yard/twins/t/game/extra/saves/one", "a game");
    let said = desk.ok(&["mod", "add", "boards", "--to", "t"]);
    assert!(said.contains("3 already there, counted as the mod's"), "{said}");
    desk.ok(&["mod", "off", "t", "boards"]);
    let at = |path: &str| read(&desk, &format!("t/game/{path}"));
    assert_eq!(
        ["data/a", "data/n", "extra/x", "extra/saves/one"].map(at),
        ["shipped a\n", "(none)", "(none)", "a game"]
    );
}

#[test]
fn where_a_title_folds_case_a_file_is_one_whatever_it_is_called() {
    let desk = desk("ignore_case = true\n", &["t"]);
    pack(&desk, "a", &[("Data/Tex/b", "a's")]);
    pack(&desk, "c", &[("DATA/tex/B", "c's")]);
    desk.ok(&["mod", "add", "a", "--to", "t"]);
    desk.ok(&["mod", "add", "c", "--to", "t"]);
    assert_eq!(read(&desk, "t/game/data/Tex/b"), "c's");
    write(&desk, "yard/twins/t/game/data/Tex/b", "mine");
    let said = desk.ok(&["mod", "off", "t", "a"]);
    assert!(!said.contains("comes back"), "{said}");
    let names: Vec<_> = look(&desk.game("t", "data")).into_keys().collect();
    assert_eq!(names, ["a", "b", "tex", "tex/B"], "one file, spelt as the mod that is left spells it");
    assert_eq!(read(&desk, "t/game/data/tex/B"), "mine");
}

#[test]
fn adopting_moves_nothing_and_can_be_turned_off_and_on() {
    let desk = desk("", &["t"]);
    for name in ["one", "two", "deep/three"] {
        write(&desk, &format!("yard/twins/t/game/new/{name}"), name);
    }
    let program = desk.game("t", "bin/do");
    write(&desk, "yard/twins/t/game/bin/do", "#!/bin/sh\n# other\neval \"$1\"\n");
    fs::set_permissions(&program, fs::Permissions::from_mode(0o755)).unwrap();
    fs::remove_file(desk.game("t", "data/b")).unwrap();
    let inode = fs::metadata(&program).unwrap().ino();
    let before = look(&desk.game("t", ""));
    let said = desk.ok(&["mod", "adopt", "t", "by hand"]);
    assert!(said.contains("on disk    nothing changes"), "{said}");
    assert_eq!(fs::metadata(&program).unwrap().ino(), inode);
    assert_same(&look(&desk.game("t", "")), &before, "adopted");
    desk.ok(&["mod", "off", "t", "by hand"]);
    assert_same(&look(&desk.game("t", "")), &look(&desk.at("build")), "as it was shipped, with its modes");
    desk.ok(&["mod", "on", "t", "by hand"]);
    assert_same(&look(&desk.game("t", "")), &before, "on again");
    desk.ok(&["clone", "t", "u"]);
    desk.ok(&["mod", "off", "u", "by hand"]);
    assert_same(&look(&desk.game("u", "")), &look(&desk.at("build")), "a clone has the mod too");
    desk.fails(1, &["mod", "adopt", "t", "again"]);
}

#[test]
fn a_restore_takes_mods_with_it_and_one_command_takes_that_back() {
    let desk = desk("[belongings.saves]\npatterns = [\"game/saves/**\"]\n", &["t"]);
    pack(&desk, "p", &[("data/a", "p's")]);
    pack(&desk, "q", &[("data/q", "q's")]);
    desk.ok(&["snapshot", "t", "before"]);
    desk.ok(&["mod", "add", "p", "--to", "t"]);
    desk.ok(&["mod", "add", "q", "--to", "t"]);
    desk.ok(&["mod", "move", "t", "p", "--top"]);
    write(&desk, "yard/twins/t/game/saves/one", "ten hours");
    let listed = desk.ok(&["mod", "list", "t"]);
    desk.ok(&["restore", "t", "before", "--yes"]);
    assert!(desk.ok(&["mod", "list", "t"]).contains("no mods"));
    assert_eq!(
        ["data/a", "data/q", "saves/one"].map(|path| read(&desk, &format!("t/game/{path}"))),
        ["shipped a\n", "(none)", "ten hours"]
    );
    desk.ok(&["undo", "t", "--yes"]);
    assert_eq!(desk.ok(&["mod", "list", "t"]), listed);
    assert_eq!(read(&desk, "t/game/data/q"), "q's");
    // An earlier line of the mods can't be taken back by itself.
    let history = desk.ok(&["history", "t"]);
    let line = history.lines().find(|line| line.contains("mod added: p")).unwrap();
    let said = desk.fails(1, &["undo", "t", line.split_whitespace().next().unwrap(), "--yes"]);
    assert!(said.contains("mod list"), "{said}");
}

#[test]
fn of_several_twins_none_is_changed_if_one_refuses_and_the_same_command_goes_on() {
    let desk = desk("", &["a", "b"]);
    pack(&desk, "m", &[("data/m", "m"), ("yardtwin-mod.toml", "name = \"m\"\nneeds = [\"base\"]\n")]);
    pack(&desk, "base", &[("data/base", "base")]);
    desk.ok(&["mod", "add", "base", "--to", "a"]);
    let add = ["mod", "add", "m", "--to", "a", "--to", "b"];
    let said = desk.fails(4, &add);
    assert!(said.contains("needs \"base\", which is not there"), "{said}");
    assert!(!desk.ok(&["mod", "list", "a"]).contains(" m "), "nothing in the other either");
    desk.ok(&["mod", "add", "m", "--to", "a"]);
    desk.ok(&["mod", "add", "base", "--to", "b"]);
    let said = desk.ok(&add);
    assert!(said.contains("twin a is so already"), "{said}");
    assert_eq!(read(&desk, "b/game/data/m"), "m");
    assert_eq!(read(&desk, "b/game/yardtwin-mod.toml"), "(none)", "a sheet is nothing of the game's");
    let kept: serde_json::Value = serde_json::from_str(&desk.ok(&["mod", "kept", "--json"])).unwrap();
    let of_m: Vec<_> = kept.as_array().unwrap().iter().filter(|kept| kept["name"] == "m").collect();
    assert!(of_m.len() == 1 && of_m[0]["twins"] == serde_json::json!(["a", "b"]), "the package is kept once: {kept}");
    // It needs that one, which can't go; and one that it can't be beside.
    desk.fails(4, &["mod", "off", "a", "base"]);
    pack(&desk, "no", &[("data/no", "no"), ("yardtwin-mod.toml", "name = \"no\"\nclashes = [\"m\"]\n")]);
    desk.fails(4, &["mod", "add", "no", "--to", "a"]);
    desk.ok(&["mod", "add", "no", "--to", "a", "--alone"]);
    assert_eq!(read(&desk, "a/game/data/m"), "(none)");
    // A kept one is added by its name; two of one name can't be.
    desk.ok(&["clone", "hills@1.4", "c"]);
    desk.ok(&["mod", "add", "no", "--to", "c"]);
    fs::remove_dir_all(desk.at("base")).unwrap();
    desk.ok(&["mod", "add", "base", "--to", "c"]);
    pack(&desk, "base", &[("data/base", "another")]);
    assert!(desk.fails(4, &["mod", "add", "base", "--to", "c"]).contains("mod update"));
}

#[test]
fn a_mod_whose_record_is_lost_is_named_and_stops_nobody() {
    let desk = desk("", &["t", "u"]);
    pack(&desk, "m", &[("data/m", "m"), ("data/a", "m's a")]);
    pack(&desk, "n", &[("data/n", "n")]);
    desk.ok(&["mod", "add", "m", "--to", "t"]);
    fs::remove_dir_all(desk.at("yard/mods")).unwrap();
    desk.ok(&["launch", "t", "--", "echo played > own"]);
    desk.ok(&["mod", "add", "n", "--to", "u"]);
    let check = crate::support::text(&desk.run(&["check"]).stdout);
    assert!(
        check.contains("its mod \"m\" can't be read") && check.contains("yardtwin mod update t m PACKAGE"),
        "{check}"
    );
    desk.ok(&["mod", "off", "t", "m"]);
    assert_eq!(
        ["data/m", "data/a", "own"].map(|path| read(&desk, &format!("t/game/{path}"))),
        ["(none)", "shipped a\n", "played\n"]
    );
    desk.ok(&["mod", "update", "t", "m", "m"]);
    desk.ok(&["mod", "on", "t", "m"]);
    assert_eq!(read(&desk, "t/game/data/a"), "m's a");
    desk.ok(&["sweep"]);
}

#[test]
fn a_mod_is_laid_on_the_builds_that_it_is_for() {
    let desk = desk("", &["old"]);
    write(&desk, "build/data/a", "a of 2\n");
    desk.ok(&["intake", "build", "--title", "hills", "--build", "2.0"]);
    desk.ok(&["clone", "hills@2.0", "new"]);
    let sheet = "name = \"hill line\"\nversion = \"3\"\nbuilds = [\"2.*\"]\n[after]\nexpect = [\"game/data/never\"]\nnote = \"Start it twice.\"\n\
                 [[edit]]\nfile = \"game/data/opt.ini\"\nkey = \"hills\"\nvalue = \"on\"\n";
    pack(&desk, "hill", &[("data/hill", "hill"), ("data/opt.ini", "hills=off\n"), ("yardtwin-mod.toml", sheet)]);
    let said = desk.fails(4, &["mod", "add", "hill", "--to", "old"]);
    assert!(said.contains("is for 2.*") && said.contains("new, hills@2.0"), "{said}");
    let said = desk.ok(&["mod", "add", "hill", "--to", "new"]);
    assert!(said.contains("Start it twice.") && said.contains("game/data/never"), "{said}");
    assert_eq!(read(&desk, "new/game/data/opt.ini"), "hills=on\n");
    desk.ok(&["mod", "off", "new", "hill line"]);
    desk.ok(&["mod", "on", "new", "hill line"]);
    assert_eq!(read(&desk, "new/game/data/opt.ini"), "hills=on\n", "the edit is set again");
    desk.fails(4, &["renew", "new", "--stock", "hills@1.4"]);
    desk.ok(&["renew", "new", "--stock", "hills@1.4", "--without-mod", "hill line"]);
    assert_eq!(["data/a", "data/hill"].map(|path| read(&desk, &format!("new/game/{path}"))), ["shipped a\n", "(none)"]);
    desk.ok(&["undo", "new", "--yes"]);
    desk.ok(&["renew", "new", "--stock", "hills@1.4", "--any-build"]);
    assert_eq!(["data/a", "data/hill"].map(|path| read(&desk, &format!("new/game/{path}"))), ["shipped a\n", "hill"]);
    desk.ok(&["protect", "new"]);
    desk.fails(4, &["mod", "off", "new", "hill line"]);
}

/// The entries of an archive in their order: name, and what it holds.
fn entries(path: &Path) -> Vec<(String, String)> {
    let mut zip = zip::ZipArchive::new(fs::File::open(path).unwrap()).unwrap();
    (0..zip.len())
        .map(|at| {
            let mut entry = zip.by_index(at).unwrap();
            let mut text = String::new();
            std::io::Read::read_to_string(&mut entry, &mut text).unwrap();
            (String::from_utf8(entry.name_raw().to_vec()).unwrap(), text)
        })
        .collect()
}

fn names(path: &Path) -> Vec<String> {
    entries(path).into_iter().map(|(name, _)| name).collect()
}

/// The compressed bytes of an entry.
fn packed(path: &Path, name: &str) -> Vec<u8> {
    let mut zip = zip::ZipArchive::new(fs::File::open(path).unwrap()).unwrap();
    let at = zip.index_for_name(name).unwrap();
    let mut bytes = Vec::new();
    std::io::Read::read_to_end(&mut zip.by_index_raw(at).unwrap(), &mut bytes).unwrap();
    bytes
}

#[test]
fn what_goes_inside_an_archive_of_the_program_comes_out_again() {
    let desk = desk("[archives.rules]\npath = \"game/rules.wja\"\nseals = [\"META/*.SF\"]\n", &[]);
    pack(
        &desk,
        "rules",
        &[("META/rules.SF", "seal"), ("a/one", "shipped one"), ("a/two", "shipped two"), ("z", "zzz")],
    );
    let zip = |archive: &str, folder: &str, names: &[&str]| {
        let made = desk.tool("zip").args([&["-q", archive][..], names].concat()).current_dir(desk.at(folder)).status();
        assert!(made.unwrap().success());
    };
    zip("../build/rules.wja", "rules", &["META/rules.SF", "a/one", "a/two", "z"]);
    desk.ok(&["intake", "build", "--title", "hills", "--build", "2"]);
    desk.ok(&["clone", "hills@2", "t"]);
    let archive = desk.game("t", "rules.wja");
    let stock = fs::read(&archive).unwrap();
    let inlay = |name: &str, more: &str| {
        format!("name = \"{name}\"\n[[inlay]]\narchive = \"game/rules.wja\"\nfrom = \"in/**\"\nto = \"a\"\n{more}")
    };
    pack(
        &desk,
        "x",
        &[("in/one", "x one"), ("in/x", "x x"), ("data/x", "beside"), ("yardtwin-mod.toml", &inlay("x", ""))],
    );
    pack(&desk, "y", &[("in/one", "y one"), ("yardtwin-mod.toml", &inlay("y", "remove = [\"z\"]\n"))]);
    let said = desk.ok(&["mod", "add", "x", "--to", "t"]);
    assert!(said.contains("rules.wja  files inside change") && said.contains("2 inside archives"), "{said}");
    let with = |name: &str, text: &str| (name.to_owned(), text.to_owned());
    let x = [with("a/one", "x one"), with("a/two", "shipped two"), with("z", "zzz"), with("a/x", "x x")];
    assert_eq!(entries(&archive), x, "the seal is gone, the order stays");
    assert_eq!(packed(&archive, "a/two"), packed(&desk.at("build/rules.wja"), "a/two"), "not packed anew");
    for (program, arguments) in [("unzip", ["-tqq"].as_slice()), ("python3", &["-m", "zipfile", "-t"])] {
        let tested = desk.tool(program).args(arguments).arg(&archive).output().unwrap();
        assert!(tested.status.success(), "{program}: {tested:?}");
    }
    assert_eq!(read(&desk, "t/game/data/x"), "beside");
    let told = desk.ok(&["mod", "explain", "t", "game/rules.wja"]);
    assert!(told.contains("as x has it") && told.contains("inside it    x"), "{told}");
    desk.ok(&["sweep"]);
    let pool = look(&desk.at("yard/pool"));
    desk.ok(&["check"]);
    assert_same(&look(&desk.at("yard/pool")), &pool, "who looks makes nothing");
    let once = fs::read(&archive).unwrap();
    desk.ok(&["mod", "off", "t", "x"]);
    assert_eq!(fs::read(&archive).unwrap(), stock, "byte for byte");
    desk.ok(&["mod", "on", "t", "x"]);
    assert_eq!(fs::read(&archive).unwrap(), once, "always the same");
    desk.ok(&["mod", "add", "y", "--to", "t"]);
    assert_eq!(entries(&archive)[..2], [with("a/one", "y one"), with("a/two", "shipped two")]);
    assert_eq!(names(&archive), ["a/one", "a/two", "a/x"]);
    // The player puts another entry in, with a tool that writes the archive anew.
    pack(&desk, "mine", &[("mine/own", "my own")]);
    fs::copy(&archive, desk.at("mine/rules.wja")).unwrap();
    fs::set_permissions(desk.at("mine/rules.wja"), fs::Permissions::from_mode(0o644)).unwrap();
    desk.place.give_away();
    zip("rules.wja", "mine", &["mine/own"]);
    fs::rename(desk.at("mine/rules.wja"), &archive).unwrap();
    desk.ok(&["mod", "off", "t", "x"]);
    assert_eq!(entries(&archive)[0], with("a/one", "y one"));
    assert_eq!(names(&archive), ["a/one", "a/two", "mine/own"], "x's is gone, y's and the player's stay");
    // The player changes what the mod has put there: that can't be told apart.
    pack(&desk, "mine", &[("a/one", "my one")]);
    fs::copy(&archive, desk.at("mine/rules.wja")).unwrap();
    fs::set_permissions(desk.at("mine/rules.wja"), fs::Permissions::from_mode(0o644)).unwrap();
    desk.place.give_away();
    zip("rules.wja", "mine", &["a/one"]);
    fs::rename(desk.at("mine/rules.wja"), &archive).unwrap();
    assert!(desk.fails(4, &["mod", "off", "t", "y"]).contains("the same entry: a/one"));
    desk.ok(&["mod", "off", "t", "y", "--decide", "game/rules.wja=mod"]);
    assert_eq!(fs::read(&archive).unwrap(), stock);
    // One that lies over the whole archive is what it is; below it, nothing shows.
    pack(&desk, "whole", &[("rules.wja", "another archive")]);
    desk.ok(&["mod", "on", "t", "x"]);
    desk.ok(&["mod", "add", "whole", "--to", "t", "--into", "game", "--strip", "0"]);
    assert_eq!(fs::read(&archive).unwrap(), b"another archive");
    let said = desk.fails(4, &["mod", "move", "t", "x", "--top"]);
    assert!(said.contains("game/rules.wja can't be changed as \"x\" wants it"), "{said}");
    desk.ok(&["mod", "off", "t", "whole"]);
    assert_eq!(fs::read(&archive).unwrap(), once);
    pack(
        &desk,
        "nowhere",
        &[("in/x", "x"), ("yardtwin-mod.toml", "[[inlay]]\narchive = \"game/none.wja\"\nfrom = \"in/**\"\n")],
    );
    assert!(desk.fails(4, &["mod", "add", "nowhere", "--to", "t"]).contains("there is no such archive"));
    desk.ok(&["sweep"]);
}

#[test]
fn what_a_tool_does_is_shown_kept_as_a_mod_or_thrown_away() {
    let desk = desk("", &["t"]);
    let kit = "#!/bin/sh\nset -e\ncp \"$(dirname \"$0\")/lamp\" data/lamp\necho changed > data/a\ncp bin/do bin/lamps\nrm data/b\n";
    write(&desk, "lamp kit/setup.sh", kit);
    write(&desk, "lamp kit/lamp", "a lamp");
    fs::set_permissions(desk.at("lamp kit/setup.sh"), fs::Permissions::from_mode(0o755)).unwrap();
    let before = look(&desk.game("t", ""));
    desk.ok(&["tool", "t", "--discard", "--", "./lamp kit/setup.sh"]);
    assert_same(&look(&desk.game("t", "")), &before, "thrown away");
    let run = desk.run(&["tool", "t", "--as-mod", "lamps", "--", "./lamp kit/setup.sh"]);
    let said = crate::support::text(&run.stdout) + &crate::support::text(&run.stderr);
    assert!(run.status.success() && said.contains("new programs  game/bin/lamps"), "{said}");
    assert!(said.contains("lamps is a mod now"), "{said}");
    assert_eq!(
        ["data/lamp", "data/a", "data/b"].map(|path| read(&desk, &format!("t/game/{path}"))),
        ["a lamp", "changed\n", "(none)"]
    );
    desk.ok(&["mod", "off", "t", "lamps"]);
    assert_same(&look(&desk.game("t", "")), &before, "what it did is off");
    desk.ok(&["clone", "hills@1.4", "u"]);
    desk.ok(&["mod", "add", "lamps", "--to", "u"]);
    assert_eq!(read(&desk, "u/game/data/lamp"), "a lamp");
    // While a program runs, what is known is told.
    let mut run = desk.command(&["launch", "t", "--", "touch begun; sleep 2"]).spawn().unwrap();
    while !crate::support::text(&desk.run(&["list"]).stdout).contains("running") && run.try_wait().unwrap().is_none() {}
    assert!(desk.ok(&["mod", "list", "t"]).contains("lamps"));
    desk.fails(5, &["mod", "on", "t", "lamps"]);
    run.wait().unwrap();
    assert_eq!(desk.run(&["tool", "t", "--", "sh", "-c", "exit 7"]).status.code(), Some(7));
    desk.fails(1, &["tool", "t", "--", "./nothing here"]);
    desk.ok(&["protect", "t"]);
    assert!(desk.fails(4, &["tool", "t", "--", "true"]).contains("yardtwin clone t NAME"));
}

#[test]
fn the_mods_that_fail_only_together_are_found() {
    let desk = desk("", &["t"]);
    for number in 1..=12 {
        pack(&desk, &format!("m{number}"), &[(&format!("data/m{number}"), "x")]);
        desk.ok(&["mod", "add", &format!("m{number}"), "--to", "t"]);
    }
    write(&desk, "yard/twins/t/game/data/mine", "mine");
    let before = look(&desk.at("yard/twins/t"));
    let test = "test -e data/mine && { test ! -e data/m4 || test ! -e data/m9; }";
    let trial = |test: &str| {
        let run = desk.run(&["mod", "trial", "t", "--run", test, "--json"]);
        let verdict: serde_json::Value = serde_json::from_slice(&run.stdout).unwrap();
        (run.status.code(), verdict)
    };
    let (code, verdict) = trial(test);
    assert_eq!((code, &verdict["found"]["these"]), (Some(3), &serde_json::json!(["m4", "m9"])), "{verdict}");
    assert!(verdict["starts"].as_u64().unwrap() <= 14, "{verdict}");
    let (_, again) = trial(test);
    assert_eq!(
        (&again["found"], &again["starts"]),
        (&verdict["found"], &serde_json::json!(0)),
        "answers are remembered"
    );
    assert_eq!(trial("true").1["found"], "none");
    assert_eq!(trial("false").1["found"], "not_the_mods");
    let said = crate::support::text(&desk.run(&["mod", "trial", "t", "--run", test]).stdout);
    assert!(said.contains("fails with these together: m4, m9") && said.contains("yardtwin mod off t m9"), "{said}");
    assert!(!desk.ok(&["list", "--removed"]).contains("trial"), "the copies are gone for good");
    // Killed in the middle, it leaves its copy to the next one, and no other twin of such a name goes with it.
    desk.ok(&["clone", "t", "t trial 2"]);
    let mut killed = desk.command(&["mod", "trial", "t", "--run", "sleep 100"]).spawn().unwrap();
    let names = || desk.ok(&["list"]);
    let runs = desk.at("yard/twins/t trial 1/runs");
    let began = || fs::read_dir(&runs).is_ok_and(|mut runs| runs.next().is_some());
    while !began() && killed.try_wait().unwrap().is_none() {
        std::thread::sleep(std::time::Duration::from_millis(20));
    }
    killed.kill().unwrap();
    killed.wait().unwrap();
    assert!(names().contains("t trial 1"));
    trial("true # again");
    assert!(!names().contains("t trial 1") && names().contains("t trial 2"), "{}", names());
    let mut after = look(&desk.at("yard/twins/t"));
    after.retain(|path, _| path != "index" && !path.starts_with("runs"));
    let mut before = before;
    before.retain(|path, _| path != "index" && !path.starts_with("runs"));
    assert_same(&after, &before, "the twin itself is not touched");
    assert_eq!(fs::read_dir(desk.at("yard/twins")).unwrap().count(), 2, "the copy is gone");
    // Somebody may have gone on with it: it can come back.
    assert!(desk.ok(&["list", "--removed"]).contains("t trial 1"));
    desk.ok(&["restore", "t trial 1"]);
}

#[test]
fn a_file_with_edits_goes_aside_and_comes_back_with_them() {
    let desk = desk("", &["t"]);
    let sheet = "[[edit]]\nfile = \"game/lamps/opt.ini\"\nkey = \"bright\"\nvalue = \"5\"\n";
    pack(
        &desk,
        "lamps",
        &[("lamps/opt.ini", "bright=1\nwarm=0\n"), ("data/lamp", "lamp"), ("yardtwin-mod.toml", sheet)],
    );
    let add = ["mod", "add", "lamps", "--to", "t", "--into", "game", "--strip", "0"];
    desk.ok(&add);
    desk.ok(&["profile", "set", "t", "--file", "game/lamps/opt.ini", "warm", "7"]);
    let file = || read(&desk, "t/game/lamps/opt.ini");
    assert_eq!(file(), "bright=5\nwarm=7\n");
    for time in 1..=3 {
        desk.ok(&["launch", "t", "--", &format!("printf 'seen={time}\\nbright=5\\nwarm=7\\n' > lamps/opt.ini")]);
        let said = desk.ok(&["mod", "off", "t", "lamps"]);
        assert!(said.contains("kept aside") && file() == "(none)", "{said}");
        desk.ok(&["sweep"]);
        desk.ok(&["mod", "on", "t", "lamps"]);
        assert_eq!(
            file(),
            format!("seen={time}\nbright=5\nwarm=7\n"),
            "the player's, with the edits of both set again"
        );
    }
    // A renew that turns it off takes it aside as well.
    let said = desk.ok(&["renew", "t", "--without-mod", "lamps"]);
    assert!(said.contains("kept aside") && file() == "(none)", "{said}");
    // What is there by then in its place stays, and what was aside is named.
    write(&desk, "yard/twins/t/game/lamps/opt.ini", "another\n");
    let said = desk.ok(&["mod", "on", "t", "lamps"]);
    assert!(said.contains("stays aside") && file().starts_with("another"), "{said}");
    desk.ok(&["mod", "off", "t", "lamps"]);
    let said = desk.ok(&["mod", "remove", "t", "lamps"]);
    assert!(said.contains("removed with it") && said.contains("game/lamps/opt.ini"), "{said}");
    desk.ok(&["undo", "t", "--yes"]);
    desk.ok(&["mod", "on", "t", "lamps"]);
    assert!(file().starts_with("another"), "what was aside is there again: {}", file());
    assert!(!crate::support::text(&desk.run(&["check", "--full"]).stdout).contains("missing"));
}

#[test]
fn the_same_command_again_decides_or_changes_nothing() {
    let desk = desk("", &["t"]);
    pack(&desk, "far", &[("wrap/data/a", "far a"), ("wrap/READ ME.txt", "read"), ("wrap/data/skip", "skip")]);
    let add = ["mod", "add", "far", "--to", "t"];
    write(&desk, "yard/twins/t/game/data/a", "mine");
    let said = desk.ok(&add);
    assert!(said.contains("the same command with --decide game/data/a=mod"), "{said}");
    // By now its own files are there: they don't count.
    assert!(desk.ok(&add).contains("is so already"));
    desk.ok(&[&add[..], &["--decide", "game/data/a=mod"]].concat());
    assert_eq!(read(&desk, "t/game/data/a"), "far a");
    write(&desk, "yard/twins/t/game/data/a", "mine again");
    desk.ok(&["mod", "off", "t", "far"]);
    assert_eq!(read(&desk, "t/game/data/a"), "mine again");
    desk.ok(&["mod", "off", "t", "far", "--decide", "game/data/a=mod"]);
    assert_eq!(read(&desk, "t/game/data/a"), "shipped a\n");
    desk.ok(&["mod", "on", "t", "far"]);
    write(&desk, "yard/twins/t/game/data/a", "mine once more");
    let said = desk.ok(&["mod", "remove", "t", "far"]);
    assert!(said.contains("yardtwin undo t, then the same command with --decide"), "{said}");
    desk.ok(&["undo", "t", "--yes"]);
    desk.ok(&["mod", "remove", "t", "far", "--decide", "game/data/a=mod"]);
    assert_eq!(read(&desk, "t/game/data/a"), "shipped a\n");
    // An update under another wrapping folder keeps what was left out, and lays no new readme.
    desk.ok(&[&add[..], &["--except", "skip"]].concat());
    pack(&desk, "far 2", &[("wrap 2/data/a", "far 2"), ("wrap 2/CHANGES.txt", "read"), ("wrap 2/data/skip", "skip")]);
    desk.ok(&["mod", "update", "t", "far", "far 2"]);
    let there: Vec<_> = look(&desk.game("t", "")).into_keys().collect();
    assert_eq!(there, ["bin", "bin/do", "data", "data/a", "data/b", "read.txt"]);
    assert_eq!(read(&desk, "t/game/data/a"), "far 2");
}

#[test]
fn what_the_player_had_in_a_folder_before_a_mod_came_stays_when_it_goes() {
    let desk = desk("", &["t"]);
    for number in 0..3 {
        write(&desk, &format!("yard/twins/t/game/mine/{number}.dat"), "the player's\n");
    }
    write(&desk, "pack/mine/0.dat", "the mod's\n");
    write(&desk, "pack/mine/theirs.dat", "the mod's\n");
    write(&desk, "pack/theirs/deep/one.dat", "the mod's\n");
    let before = look(&desk.game("t", ""));
    desk.ok(&["mod", "add", "pack", "--to", "t", "--into", "game"]);
    desk.ok(&["mod", "off", "t", "pack"]);
    assert_same(&before, &look(&desk.game("t", "")), "off at once");
    // What comes about in its own folder is its; what does in the player's is the player's, after an update too.
    desk.ok(&["mod", "on", "t", "pack"]);
    write(&desk, "yard/twins/t/game/theirs/deep/settings.ini", "1\n");
    write(&desk, "yard/twins/t/game/mine/later.dat", "the player's\n");
    write(&desk, "pack/mine/theirs.dat", "the mod's second\n");
    desk.ok(&["mod", "update", "t", "pack", "pack"]);
    desk.ok(&["mod", "off", "t", "pack"]);
    let now = look(&desk.game("t", ""));
    assert!(!now.contains_key("theirs") && now.contains_key("mine/later.dat") && !now.contains_key("mine/theirs.dat"));
    desk.ok(&["mod", "on", "t", "pack"]);
    assert!(desk.game("t", "theirs/deep/settings.ini").exists(), "and comes back with it");
}
