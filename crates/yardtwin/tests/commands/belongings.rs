//! Carry, renew, config edits, variants and paths, through the real program: what a user sees, and that each belonging is
//! where it should be, byte for byte.

use std::fs;
use std::io::Write;
use std::os::unix::fs::{MetadataExt, symlink};
use std::path::Path;

use crate::support::Desk;
use crate::support::common::{Place, look};

/// A desk with a twin of the old build that was played, and one of the new one.
fn desk() -> Desk {
    let desk = Desk::with_twins(&["old"]);
    let next = desk.at("next");
    standins::write_wexcombe(&next, "2.0", &desk.root().join("yardtwin")).unwrap();
    desk.place.give_away();
    desk.ok(&["intake", "next", "--title", "wexcombe"]);
    desk.ok(&["clone", "wexcombe@2.0", "new"]);
    desk.ok(&["launch", "old", "--", "--shifts", "3"]);
    write(&desk, &desk.game("old", "cabin/panel.ini"), "[video]\nwidth = 2560\n");
    write(&desk, &desk.game("old", "boards/copper/board.txt"), "board copper\n");
    write(&desk, &desk.game("old", "boards/brass/board.txt"), "board brass, polished\n");
    desk
}

/// Writes as an editor saves: a new file in the place of the old one.
fn write(desk: &Desk, path: &Path, text: &str) {
    fs::create_dir_all(path.parent().unwrap()).unwrap();
    let temp = path.with_extension("new");
    fs::write(&temp, text).unwrap();
    let time = std::time::SystemTime::UNIX_EPOCH + std::time::Duration::from_secs(1_790_000_000);
    fs::File::options().write(true).open(&temp).unwrap().set_modified(time).unwrap();
    fs::rename(&temp, path).unwrap();
    desk.place.give_away();
}

fn assert_answer(desk: &Desk, name: &str, answers: &[String]) {
    let place = desk.root().canonicalize().unwrap();
    let mut filters = insta::Settings::clone_current();
    filters.add_filter(r"\d{4}-\d\d-\d\d \d\d:\d\d", "[TIME]");
    filters.add_filter(r"\d+ ms|\d+\.\d s", "[TOOK]");
    filters.add_filter(r"\d+(\.\d)? MiB", "[SIZE]");
    filters.add_filter(r"yt-\w{6}", "[PLACE]");
    filters.add_filter(r"  +", "  ");
    let said = answers.join("\n").replace(place.to_str().unwrap(), "[PLACE]");
    let said: Vec<_> = said.lines().map(str::trim_end).collect();
    filters.bind(|| insta::assert_snapshot!(name, said.join("\n")));
}

#[test]
fn belongings_go_from_the_old_build_to_the_new_one_and_back_they_can_be_had() {
    let desk = desk();
    let (old, new) = (look(&desk.game("old", "")), look(&desk.game("new", "")));
    let mut said = vec![
        desk.ok(&["show", "old", "--belongings"]),
        desk.ok(&["sheet", "check", "--on", "old"]),
        desk.ok(&["carry", "shifts", "settings", "boards", "--from", "old", "--to", "new"]),
    ];
    for path in
        ["cabin/shifts/shift-001.wjs", "cabin/shifts/shift-003.wjs", "cabin/panel.ini", "boards/copper/board.txt"]
    {
        assert_eq!(fs::read(desk.game("new", path)).unwrap(), fs::read(desk.game("old", path)).unwrap(), "{path}");
    }
    assert_eq!(
        fs::read_to_string(desk.game("new", "boards/brass/board.txt")).unwrap(),
        "board brass\nlevers 24\nfor 2.0\n"
    );
    assert_eq!(look(&desk.game("old", "")), old, "a carry copies");
    let carried = look(&desk.game("new", ""));
    said.push(desk.ok(&["carry", "shifts", "--from", "old", "--to", "new"]));
    assert_eq!(look(&desk.game("new", "")), carried, "a second time there is nothing to do");
    desk.ok(&["restore", "new", "1", "--all", "--yes"]);
    assert_eq!(look(&desk.game("new", "")), new);
    desk.ok(&["launch", "new"]);
    said.push(desk.fails(4, &["carry", "shifts", "--from", "old", "--to", "new"]));
    said.push(String::from_utf8(desk.run(&["carry", "shifts", "--from", "old", "--to", "new"]).stdout).unwrap());
    let undecided = desk.run(&["carry", "shifts", "--from", "old", "--to", "new", "--json"]).stdout;
    let undecided: serde_json::Value = serde_json::from_slice(&undecided).unwrap();
    let clashes = undecided["items"].as_array().unwrap().iter().filter(|item| item["does"] == "undecided");
    let decided = clashes.flat_map(|item| ["--decide".to_owned(), format!("{}=newer", item["to"].as_str().unwrap())]);
    let decided: Vec<String> = decided.collect();
    let words = ["carry", "shifts", "--from", "old", "--to", "new", "--dry-run"].into_iter();
    desk.ok(&words.chain(decided.iter().map(String::as_str)).collect::<Vec<_>>());
    said.push(desk.ok(&["carry", "shifts", "--from", "old", "--to", "new", "--on-clash", "both", "--move"]));
    assert_eq!(fs::read_dir(desk.game("old", "cabin/shifts")).unwrap().count(), 0, "the folder stays, empty");
    said.push(desk.run(&["diff", "old", "new", "--belongings"]).status.code().unwrap().to_string());
    // A protected twin takes belongings, and nothing else.
    desk.ok(&["protect", "new"]);
    desk.ok(&["carry", "boards", "--from", "old", "--to", "new"]);
    write(&desk, &desk.game("old", "guide/own.txt"), "own");
    desk.fails(4, &["carry", "--files", "game/guide/*", "--from", "old", "--to", "new"]);
    assert_answer(&desk, "carry", &said);
}

#[test]
fn what_comes_from_outside_is_only_read_and_goes_where_its_group_is() {
    let desk = desk();
    let set = desk.at("downloads/night");
    write(&desk, &set.join("board.txt"), "board night\n");
    write(&desk, &set.join("art/lamp.txt"), "lamp\n");
    let mut zip = zip::ZipWriter::new(fs::File::create(desk.at("downloads/tin.zip")).unwrap());
    for (name, text) in [("tin-1.2/board.txt", "board tin\n"), ("tin-1.2/art/sign.txt", "sign\n")] {
        zip.start_file(name, zip::write::SimpleFileOptions::default()).unwrap();
        zip.write_all(text.as_bytes()).unwrap();
    }
    zip.finish().unwrap();
    write(&desk, &desk.at("home/.config/wexcombe/signalman.ini"), "[signalman]\nworked = 9\n");
    let outside = look(&desk.at("downloads"));
    let into = ["--group", "boards", "--to", "old", "--to", "new"];
    let said = [
        desk.ok(&[&["carry", "--from-file", "downloads/night"], &into[..]].concat()),
        desk.ok(&[&["carry", "--from-file", "downloads/tin.zip"], &into[..2], &into[4..]].concat()),
        desk.ok(&["carry", "--from-home", "settings", "--to", "new"]),
        desk.fails(1, &["carry", "--from-file", "downloads/night", "--group", "exchanges", "--to", "new"]),
    ];
    assert_eq!(fs::read_to_string(desk.game("old", "boards/night/art/lamp.txt")).unwrap(), "lamp\n");
    assert_eq!(fs::read_to_string(desk.game("new", "boards/tin-1.2/art/sign.txt")).unwrap(), "sign\n");
    let home = desk.at("yard/twins/new/home/.config/wexcombe/signalman.ini");
    assert_eq!(fs::read_to_string(home).unwrap(), "[signalman]\nworked = 9\n");
    assert_eq!(look(&desk.at("downloads")), outside);
    assert_answer(&desk, "outside", &said);
    what_is_moved_goes_once_it_is_there(&desk);
    hostile_archives(&desk);
}

/// With `--move` a folder or a file goes from outside; what is not carried, or was changed, stays.
fn what_is_moved_goes_once_it_is_there(desk: &Desk) {
    for (path, text) in [("mist/board.txt", "mist\n"), ("mist/deep/a.txt", "a\n"), ("other.txt", "other\n")] {
        write(desk, &desk.at("moving").join(path), text);
    }
    desk.place.give_away();
    let into = ["--group", "boards", "--to", "new", "--move"];
    desk.fails(2, &[&["carry", "--from-file", "downloads/tin.zip"], &into[..]].concat());
    let plan = desk.json(&[&["carry", "--from-file", "moving/mist", "--dry-run"], &into[..]].concat());
    assert!(plan["take_out"] == true && desk.at("moving/mist/board.txt").exists());
    let moved = desk.json(&[&["carry", "--from-file", "moving/mist"], &into[..]].concat());
    assert_eq!(moved["taken_away"]["deleted"], 2, "{moved}");
    assert!(!desk.at("moving/mist").exists() && desk.at("moving/other.txt").exists());
    assert_eq!(fs::read_to_string(desk.game("new", "boards/mist/deep/a.txt")).unwrap(), "a\n");
    // A second time, with the same there already, and with somebody who has one of them open.
    for (path, text) in [("mist/board.txt", "mist\n"), ("mist/deep/a.txt", "a\n")] {
        write(desk, &desk.at("moving").join(path), text);
    }
    let open = fs::File::options().append(true).open(desk.at("moving/mist/board.txt")).unwrap();
    let moved = desk.json(&[&["carry", "--from-file", "moving/mist"], &into[..]].concat());
    drop(open);
    let left = moved["taken_away"]["left"].to_string();
    assert!(moved["taken_away"]["deleted"] == 1 && left.contains("another program has it open"), "{moved}");
    assert!(desk.at("moving/mist/board.txt").exists() && !desk.at("moving/mist/deep").exists());
}

/// No archive writes outside its twin, or replaces anything by a trick.
fn hostile_archives(desk: &Desk) {
    let before = look(&desk.game("new", ""));
    let names = ["../evil", "/abs", "a\\b", "C:x", "con.txt", "x.", "a\u{7}b"];
    for (number, name) in names.iter().enumerate() {
        let path = desk.at(&format!("downloads/evil{number}.zip"));
        let mut zip = zip::ZipWriter::new(fs::File::create(&path).unwrap());
        zip.start_file("fine.txt", zip::write::SimpleFileOptions::default()).unwrap();
        zip.start_file(*name, zip::write::SimpleFileOptions::default()).unwrap();
        zip.write_all(b"evil").unwrap();
        zip.finish().unwrap();
        desk.place.give_away();
        let said = desk.fails(1, &["carry", "--from-file", path.to_str().unwrap(), "--group", "boards", "--to", "new"]);
        assert!(said.contains("can't be used"), "{name}: {said}");
    }
    let whole = fs::read(desk.at("downloads/tin.zip")).unwrap();
    for cut in [whole.len() / 2, whole.len() - 1] {
        fs::write(desk.at("downloads/cut.zip"), &whole[..cut]).unwrap();
        desk.fails(1, &["carry", "--from-file", "downloads/cut.zip", "--group", "boards", "--to", "new"]);
    }
    assert_eq!(look(&desk.game("new", "")), before);
}

#[test]
fn a_spoiled_twin_is_renewed_around_what_is_the_players() {
    let desk = desk();
    let clean = look(&desk.game("new", ""));
    let kept = ["cabin/panel.ini", "cabin/shifts/shift-002.wjs", "boards/copper/board.txt"];
    let bytes = |path: &str| fs::read(desk.game("old", path)).unwrap();
    let mine: Vec<_> = kept.iter().map(|path| bytes(path)).collect();
    write(&desk, &desk.game("old", "scenery/hills.wjp"), "spoiled");
    fs::remove_file(desk.game("old", "signals/signal-07.wjg")).unwrap();
    write(&desk, &desk.game("old", "signals/own.wjg"), "drawn by hand");
    let spoiled = look(&desk.game("old", ""));
    let mut said = vec![
        desk.fails(4, &["renew", "old", "--stock", "wexcombe@2.0"]),
        desk.ok(&["renew", "old", "--stock", "wexcombe@2.0", "--leave-rest"]),
    ];
    assert_eq!(kept.iter().map(|path| bytes(path)).collect::<Vec<_>>(), mine);
    let mut after = look(&desk.game("old", ""));
    after.retain(|path, _| !path.starts_with("cabin") && !path.starts_with("boards"));
    assert!(after.iter().all(|(path, what)| clean.get(path) == Some(what)), "all else is the build");
    desk.ok(&["restore", "old", "--yes"]);
    assert_eq!(look(&desk.game("old", "")), spoiled, "what was left behind is in the history");
    said.push(desk.fails(2, &["renew", "old", "--stock", "pellwick@3.1"]));
    // A copy that was changed by hand becomes a twin, and one that was completed becomes a build.
    let by_hand = desk.at("by hand");
    standins::write_wexcombe(&by_hand, "1.4", &desk.root().join("yardtwin")).unwrap();
    write(&desk, &by_hand.join("signals/mine.wjg"), "mine");
    said.push(desk.ok(&["clone", "wexcombe@1.4", "by hand", "--from-folder", "by hand", "--move", "--yes"]));
    assert_eq!(
        desk.json(&["show", "by hand"])["changes"]["groups"][0]["new"],
        serde_json::json!(["game/signals/mine.wjg"])
    );
    said.push(desk.ok(&["intake", "--twin", "by hand", "--build", "1.4-mine"]));
    desk.ok(&["clone", "wexcombe@1.4-mine", "again"]);
    assert_eq!(fs::read_to_string(desk.game("again", "signals/mine.wjg")).unwrap(), "mine");
    assert_answer(&desk, "renew", &said);
}

#[test]
fn edits_fit_variants_are_for_a_while_and_all_of_it_can_be_taken_back() {
    let desk = Desk::with_twins(&["a", "b"]);
    let panel = desk.game("a", "cabin/panel.ini");
    let shipped = fs::read_to_string(&panel).unwrap();
    let mut said = vec![
        desk.ok(&["profile", "set", "a", "--file", "panel.ini", "video.width", "2560"]),
        desk.ok(&["profile", "set", "a", "--file", "panel.ini", "video.lamps", "oil", "--enforce"]),
        desk.ok(&["profile", "set", "a", "--file", "home/.config/wexcombe/signalman.ini", "signalman.night", "on"]),
    ];
    let edited =
        shipped.replace("width = 1280", "width = 2560").replace("height = 800\n", "height = 800\nlamps = oil\n");
    assert_eq!(fs::read_to_string(&panel).unwrap(), edited, "all else stays as it is");
    desk.ok(&["profile", "set", "a", "--variant", "windowed", "--file", "panel.ini", "video.width", "800"]);
    desk.ok(&["profile", "set", "a", "--variant", "windowed", "arguments", "--", "--shifts", "2"]);
    // The program sees the variant's value, and afterwards the profile's is there again.
    let run = desk.run(&["launch", "a", "--variant", "windowed"]);
    assert!(String::from_utf8_lossy(&run.stdout).contains("panel 800 wide"));
    assert_eq!(fs::read_to_string(&panel).unwrap(), edited);
    write(&desk, &panel, &edited.replace("oil", "gas").replace("2560", "1000"));
    said.push(desk.ok(&["profile", "show", "a"]));
    let run = desk.run(&["launch", "a"]);
    assert!(String::from_utf8_lossy(&run.stdout).contains("panel 1000 wide"), "what somebody has set stays");
    assert!(fs::read_to_string(&panel).unwrap().contains("lamps = oil"), "but for what is enforced");
    let home = fs::read_to_string(desk.at("yard/twins/a/home/.config/wexcombe/signalman.ini")).unwrap();
    assert!(home.contains("worked = "), "{home}");
    said.push(desk.ok(&["profile", "apply", "a"]));
    assert_eq!(fs::read_to_string(&panel).unwrap(), edited);
    said.push(desk.ok(&["profile", "use", "a", "windowed"]));
    said.push(desk.ok(&["profile", "copy", "--from", "a", "--to", "b"]));
    assert!(fs::read_to_string(desk.game("b", "cabin/panel.ini")).unwrap().contains("width = 800"));
    for twin in ["a", "b"] {
        desk.ok(&["profile", "use", twin, "--none"]);
        for key in ["video.width", "video.lamps"] {
            said.push(desk.ok(&["profile", "unset", twin, "--file", "panel.ini", key]));
        }
    }
    let by_hand = edited.replace("oil", "gas").replace("2560", "1000");
    assert_eq!(fs::read_to_string(&panel).unwrap(), by_hand, "what was there last comes back");
    assert_eq!(fs::read_to_string(desk.game("b", "cabin/panel.ini")).unwrap(), shipped, "byte for byte");
    assert_answer(&desk, "edits", &said);
}

#[test]
fn what_a_program_writes_anew_in_each_run_is_given_back_by_its_value() {
    let desk = Desk::bench(Place::new(), &["a"], |build| {
        std::fs::write(build.join("data/view.json"), "{\n  // wide\n  \"width\": 1280\n}\n").unwrap();
    });
    // As many programs do: it reads its settings, and writes all of them in its own way.
    let play = "mkdir -p own; tr -d '\\r' < $HOME/view.ini | sed 's/ *= */ = /; s/$/\\r/' > own/t; cat own/t > $HOME/view.ini; \
                sed 's|//.*||; s/ //g' data/view.json > own/j; cp own/j data/view.json.new; mv data/view.json.new data/view.json";
    let ini = desk.at("yard/twins/a/home/view.ini");
    write(&desk, &ini, "[video]\nwidth=1280\n[keys]\nup=w\n");
    for (file, key, value) in [
        ("home/view.ini", "video.width", "2560"),
        ("home/view.ini", "sound.bells", "on"),
        ("view.json", "width", "2560"),
        ("view.json", "sound.bells", "true"),
    ] {
        desk.ok(&["profile", "set", "a", "--file", file, key, value, "--enforce"]);
    }
    for run in 1..=3 {
        desk.does("a", play, &[]);
        assert_eq!(std::fs::read_to_string(&ini).unwrap().matches('\r').count(), 7, "run {run}");
        assert!(!desk.ok(&["profile", "show", "a"]).contains("changed since"), "run {run}");
    }
    desk.ok(&["profile", "set", "a", "--file", "home/view.ini", "video.width", "3000"]);
    desk.does("a", play, &[]);
    for (file, key) in [
        ("home/view.ini", "sound.bells"),
        ("view.json", "width"),
        ("view.json", "sound.bells"),
        ("home/view.ini", "video.width"),
    ] {
        let said = desk.ok(&["profile", "unset", "a", "--file", file, key]);
        assert!(said.contains("given back"), "{said}");
    }
    assert_eq!(std::fs::read_to_string(&ini).unwrap(), "[video]\r\nwidth = 1280\r\n[keys]\r\nup = w\r\n");
    let json = std::fs::read_to_string(desk.game("a", "data/view.json")).unwrap();
    assert_eq!(json.split_whitespace().collect::<String>(), "{\"width\":1280}");
}

#[test]
fn a_file_that_somebody_has_spoiled_keeps_nobody_from_playing_or_from_letting_go_of_an_edit() {
    let desk = Desk::with_twins(&["a"]);
    write(&desk, &desk.game("a", "cabin/lamps.json"), "{ \"oil\": 1 }\n");
    desk.ok(&["profile", "set", "a", "--file", "lamps.json", "oil", "2"]);
    write(&desk, &desk.game("a", "cabin/lamps.json"), "{ \"oil\": ");
    desk.ok(&["launch", "a"]);
    desk.fails(1, &["profile", "apply", "a"]);
    desk.ok(&["profile", "set", "a", "--file", "panel.ini", "video.width", "800"]);
    let profile = desk.at("yard/twins/a/profile.toml");
    let enforced = fs::read_to_string(&profile).unwrap().replace("key = \"oil\"", "key = \"oil\"\nenforce = true");
    write(&desk, &profile, &enforced);
    for isolation in ["redirected", "fenced", "sealed"] {
        desk.ok(&["profile", "set", "a", "isolation", isolation]);
        let launched = desk.run(&["launch", "a"]);
        let said = String::from_utf8_lossy(&launched.stderr);
        assert!(
            launched.status.success() && said.contains("oil in game/cabin/lamps.json: not set: it is no json file"),
            "{said}"
        );
    }
    assert!(desk.ok(&["profile", "show", "a"]).contains("left as it is: it is no json file"));
    assert!(desk.ok(&["profile", "unset", "a", "--file", "lamps.json", "oil"]).contains("left so"));
    assert_eq!(fs::read_to_string(desk.game("a", "cabin/lamps.json")).unwrap(), "{ \"oil\": ");
    desk.ok(&["profile", "apply", "a"]);
}

#[test]
fn an_edit_follows_symlinks_and_its_file_is_the_twins_own_however_large() {
    let desk = Desk::with_twins(&["a"]);
    let notes = format!("<notes><!--{}--><lamp>oil</lamp></notes>", "-x".repeat(1 << 20));
    write(&desk, &desk.game("a", "cabin/notes.xml"), &notes);
    write(&desk, &desk.game("a", "kept/real.ini"), "[video]\nwidth = 1280\n");
    symlink("../kept/real.ini", desk.game("a", "cabin/led.ini")).unwrap();
    symlink("cabin", desk.game("a", "cab")).unwrap();
    symlink("/etc/hostname", desk.game("a", "cabin/away.ini")).unwrap();
    desk.place.give_away();
    desk.ok(&["clone", "a", "b"]);
    desk.ok(&["profile", "set", "b", "--file", "led.ini", "video.width", "2560"]);
    desk.ok(&["profile", "set", "b", "--file", "game/cab/led.ini", "video.height", "800"]);
    assert!(desk.game("b", "cabin/led.ini").is_symlink());
    let real = || fs::read_to_string(desk.game("b", "kept/real.ini")).unwrap();
    assert_eq!(real(), "[video]\nwidth = 2560\nheight = 800\n");
    assert!(
        desk.fails(2, &["profile", "set", "b", "--file", "game/cabin/away.ini", "a.b", "1"])
            .contains("leads out of the twin")
    );
    desk.ok(&["profile", "unset", "b", "--file", "led.ini", "video.width"]);
    desk.ok(&["profile", "unset", "b", "--file", "game/cab/led.ini", "video.height"]);
    assert_eq!(real(), "[video]\nwidth = 1280\n");

    desk.ok(&["profile", "set", "b", "--file", "notes.xml", "/notes/lamp", "gas"]);
    let own = fs::metadata(desk.game("b", "cabin/notes.xml")).unwrap();
    assert_eq!((own.nlink(), own.mode() & 0o222 != 0), (1, true), "its program writes it in place");
    assert_eq!(fs::read_to_string(desk.game("a", "cabin/notes.xml")).unwrap(), notes);
}

#[test]
fn a_line_goes_where_one_begins_so_and_the_sheet_names_odd_formats() {
    let desk = Desk::with_twins(&["a"]);
    let sheet = desk.at("yard/sheets/wexcombe.toml");
    let text = fs::read_to_string(&sheet).unwrap() + "\n[formats]\nopt = \"lines\"\n\"panel.dat\" = \"properties\"\n";
    write(&desk, &sheet, &text);
    let lines = || fs::read_to_string(desk.game("a", "cabin/view.opt")).unwrap();
    write(&desk, &desk.game("a", "cabin/view.opt"), "set width \"1280\"\nset height \"800\"\n");
    write(&desk, &desk.game("a", "cabin/panel.dat"), "lamp=\\u00d6l\n");
    desk.ok(&["profile", "set", "a", "--file", "view.opt", "width", "2560"]);
    desk.ok(&["profile", "set", "a", "--file", "view.opt", "--line", "set height \"1440\""]);
    desk.ok(&["profile", "set", "a", "--file", "view.opt", "--line", "bells=on"]);
    assert_eq!(lines(), "bells=\"on\"\nset width \"2560\"\nset height \"1440\"\n");
    assert!(desk.ok(&["profile", "set", "a", "--file", "panel.dat", "lamp", "Gas"]).contains("\u{d6}l"));
    desk.fails(2, &["profile", "set", "a", "--file", "view.opt", "--line", "bells"]);
    for key in ["set height", "width", "bells="] {
        desk.ok(&["profile", "unset", "a", "--file", "view.opt", key]);
    }
    assert_eq!(lines(), "set width \"1280\"\nset height \"800\"\n");
}

#[test]
fn a_variant_gives_way_to_what_the_program_has_set_meanwhile() {
    let desk = Desk::bench(Place::new(), &["a"], |_| ());
    write(&desk, &desk.at("yard/twins/a/home/view.ini"), "[video]\nwidth=1280\n");
    let set = |more: &[&str], value: &str| {
        let of = ["profile", "set", "a", "--file", "home/view.ini", "video.width", value];
        desk.ok(&[&of[..], more].concat());
    };
    let there = || fs::read_to_string(desk.at("yard/twins/a/home/view.ini")).unwrap();
    set(&[], "2560");
    set(&["--variant", "small"], "800");
    desk.ok(&["profile", "use", "a", "small"]);
    assert_eq!(there(), "[video]\nwidth=800\n");
    desk.ok(&["profile", "use", "a", "--none"]);
    assert_eq!(there(), "[video]\nwidth=2560\n");
    desk.ok(&["profile", "use", "a", "small"]);
    desk.does("a", "sed -i s/800/1024/ $HOME/view.ini", &[]);
    // It is neither's any more: nobody's wish overwrites it unasked.
    assert!(desk.ok(&["profile", "use", "a", "--none"]).contains("changed since"));
    assert_eq!(there(), "[video]\nwidth=1024\n");
    set(&[], "2560");
    assert_eq!(there(), "[video]\nwidth=2560\n");
    desk.ok(&["profile", "unset", "a", "--file", "home/view.ini", "video.width"]);
    assert_eq!(there(), "[video]\nwidth=1024\n");
}

#[test]
fn paths_that_lead_elsewhere_are_found_in_whatever_form_and_mended() {
    let desk = Desk::with_twins(&["a"]);
    let folder = desk.at("yard/twins/a").canonicalize().unwrap();
    let at = folder.to_str().unwrap().to_owned();
    write(&desk, &desk.game("a", "cabin/plain.ini"), &format!("first\nboards = {at}/game/boards\n"));
    write(&desk, &desk.game("a", "cabin/escaped.json"), &format!("{{\"at\":\"{}\"}}", at.replace('/', "\\/")));
    let wide: Vec<u8> =
        format!("\u{feff}k=\"Z:{}\"", at.replace('/', "\\")).encode_utf16().flat_map(u16::to_le_bytes).collect();
    fs::write(desk.game("a", "cabin/wide.reg"), wide).unwrap();
    fs::write(desk.game("a", "cabin/state.bin"), format!("\0{at}/game\0")).unwrap();
    symlink(format!("{at}/game"), desk.at("yard/twins/a/home/own")).unwrap();
    desk.place.give_away();
    desk.ok(&["show", "a"]);
    let clone = desk.run(&["clone", "a", "b"]);
    let noted = String::from_utf8(clone.stderr).unwrap();
    assert!(noted.contains("cabin/plain.ini") && noted.contains("yardtwin repath --dry-run b"), "{noted}");
    let found = desk.run(&["repath", "b", "--dry-run"]);
    assert_eq!(found.status.code(), Some(3));
    let checked = desk.run(&["check", "b"]);
    assert!(String::from_utf8_lossy(&checked.stdout).contains("yardtwin repath b"));
    let said = [String::from_utf8(found.stdout).unwrap(), desk.ok(&["repath", "b"])];
    let there = folder.parent().unwrap().join("b").to_str().unwrap().to_owned();
    assert_eq!(
        fs::read_to_string(desk.game("b", "cabin/plain.ini")).unwrap(),
        format!("first\nboards = {there}/game/boards\n")
    );
    let json: serde_json::Value =
        serde_json::from_slice(&fs::read(desk.game("b", "cabin/escaped.json")).unwrap()).unwrap();
    assert_eq!(json["at"], there.as_str());
    let again = desk.run(&["repath", "b", "--dry-run"]);
    assert!(String::from_utf8_lossy(&again.stdout).contains("state.bin"), "what is binary is still named");
    // A folder outside: what was there is kept first.
    write(&desk, &desk.at("project/list.txt"), "see /data/old/maps\nand /data/older\n");
    desk.ok(&["repath", "--old", "/data/old", "--new", "/data/new", "--in", "project"]);
    assert_eq!(fs::read_to_string(desk.at("project/list.txt")).unwrap(), "see /data/new/maps\nand /data/older\n");
    assert_eq!(
        fs::read_to_string(desk.at("yard/kept/project 1/list.txt")).unwrap(),
        "see /data/old/maps\nand /data/older\n"
    );
    assert_answer(&desk, "repath", &said);
}

#[test]
fn a_folder_inside_a_twin_is_kept_twice_under_its_own_name() {
    let desk = Desk::with_twins(&["a"]);
    let rule = "\n[[rename]]\nwithin = \"game/lines\"\nkeys = [{ file = \"game/lines/{id}/{id}.json\", key = \"id\" }]\n\
                text = [\"game/lines/{id}/*.txt\"]\n";
    let sheet = desk.at("yard/sheets/wexcombe.toml");
    fs::write(&sheet, fs::read_to_string(&sheet).unwrap() + rule).unwrap();
    for (name, text) in [
        ("north.json", "{ \"id\": \"north\", \"about\": \"north\" }\n"),
        ("notes.txt", "north, not northern\n"),
        ("north.map", "map"),
    ] {
        write(&desk, &desk.game("a", &format!("lines/north/{name}")), text);
    }
    let said = [
        desk.ok(&["clone", "a", "south", "--inside", "lines/north"]),
        desk.fails(4, &["clone", "a", "south", "--inside", "lines/north"]),
    ];
    let text = |path: &str| fs::read_to_string(desk.game("a", &format!("lines/{path}"))).unwrap();
    assert_eq!(text("south/south.json"), "{ \"id\": \"south\", \"about\": \"north\" }\n");
    assert_eq!(
        (text("south/notes.txt"), text("north/notes.txt")),
        ("south, not northern\n".into(), "north, not northern\n".into())
    );
    assert_eq!(text("south/south.map"), "map");
    assert_answer(&desk, "inside", &said);
}

#[test]
fn what_cannot_be_is_refused_with_one_clear_error_and_changes_nothing() {
    let desk = desk();
    fs::create_dir_all(desk.game("new", "boards/copper/board.txt/odd")).unwrap();
    fs::write(desk.game("new", "boards/copper/board.txt/odd/file"), "in the way").unwrap();
    write(&desk, &desk.game("new", "cabin/odd.json"), "{ \"a\": ");
    fs::write(desk.game("new", "cabin/binary.ini"), b"a=1\0b").unwrap();
    fs::File::create(desk.game("new", "cabin/huge.ini")).unwrap().set_len(200 << 20).unwrap();
    desk.place.give_away();
    let all = "[belongings.all]\npatterns = [\"game/**\"]\n";
    fs::write(desk.at("all.toml"), format!("title = \"wexcombe\"\n{all}")).unwrap();
    let shared = "[belongings.cabin]\npatterns = [\"game/cabin/**\"]\n";
    let sheet = desk.at("yard/sheets/wexcombe.toml");
    fs::write(&sheet, format!("{}\n{shared}", fs::read_to_string(&sheet).unwrap())).unwrap();
    let overlap = desk.run(&["sheet", "check", "--on", "old"]);
    assert!(
        crate::support::text(&overlap.stderr).contains("in cabin and in shifts too"),
        "{}",
        crate::support::text(&overlap.stderr)
    );
    let (old, new) = (look(&desk.game("old", "")), look(&desk.game("new", "")));
    let pair = ["--from", "old", "--to", "new"];
    let carry = |what: &[&'static str]| [&["carry"], what, &pair].concat();
    let edit = |file, key, value| vec!["profile", "set", "new", "--file", file, key, value];
    desk.ok(&edit("panel.ini", "video.width", "5"));
    let new_panel = fs::read(desk.game("new", "cabin/panel.ini")).unwrap();
    for (code, arguments, says) in [
        (2, vec!["carry", "shifts", "--from", "old", "--to", "old"], "both the twin"),
        (1, carry(&["shafts"]), "no group of belongings"),
        (2, carry(&["--files", "game/**"]), "catches all"),
        (2, carry(&["shifts", "--decide", "game/a=maybe"]), "no rule"),
        (2, carry(&["shifts", "--decide", "../a=skip"]), "--decide"),
        (1, carry(&["shifts", "--decide", "game/nowhere=skip"]), "game/nowhere"),
        (2, carry(&["--files", "game/nothing*"]), "catches nothing"),
        (2, carry(&["--files", "../x"]), "can't be used"),
        (2, vec!["carry", "boards", "--from-home", "--move", "--to", "new"], "out of its place"),
        (4, carry(&["boards"]), "no folder"),
        (1, vec!["carry", "--from-file", "nowhere", "--group", "boards", "--to", "new"], "nowhere"),
        (1, edit("odd.json", "a", "1"), "no json file"),
        (1, edit("binary.ini", "a", "2"), "no text"),
        (1, edit("huge.ini", "a", "2"), "16 MiB"),
        (2, edit("panel.ini", "VIDEO.WIDTH", "7"), "same place"),
        (2, edit("panel.ini", "video.width", "two\nlines"), "more than one line"),
        (2, edit("nowhere.ini", "a", "1"), "no file of the twin"),
        (2, edit("rules.wja", "a", "1"), "no format"),
        (1, vec!["profile", "use", "new", "none such"], "no variant"),
        (1, vec!["launch", "new", "--variant", "none such"], "no variant"),
        (1, vec!["profile", "copy", "--from", "old", "--to", "new", "everything"], "no part"),
        (1, vec!["renew", "new", "--stock", "wexcombe@9"], "no stock build"),
        (2, vec!["repath", "new", "--old", "relative", "--new", "/x"], "absolute"),
    ] {
        let said = desk.fails(code, &arguments);
        assert!(said.contains(says), "{arguments:?}: {said}");
        assert_eq!(said.matches("error:").count(), 1, "{said}");
    }
    assert!(desk.run(&["sheet", "check", "all.toml"]).status.code() == Some(3));
    let mut after = look(&desk.game("new", ""));
    assert_eq!(after.insert("cabin/panel.ini".into(), new["cabin/panel.ini"].clone()).unwrap().1, new_panel);
    assert_eq!(after, new);
    assert_eq!(look(&desk.game("old", "")), old);
    // A twin that runs neither gives nor takes.
    let mut running = desk
        .command(&["launch", "old", "--", "--shifts", "0", "--stay"])
        .stdout(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    let mut lines = std::io::BufRead::lines(std::io::BufReader::new(running.stdout.take().unwrap()));
    assert!(lines.any(|line| line.unwrap().contains("relief")));
    for arguments in [carry(&["shifts"]), vec!["renew", "old"], vec!["profile", "apply", "old"], vec!["repath", "old"]]
    {
        desk.fails(5, &arguments);
    }
    desk.ok(&["launch", "old", "--stop"]);
    running.wait().unwrap();
}

#[test]
fn what_a_program_keeps_in_the_home_is_taken_in_as_a_part_of_it() {
    let desk = Desk::new();
    desk.ok(&["init"]);
    standins::write_pellwick(&desk.at("micro"), "3.1", &desk.root().join("yardtwin")).unwrap();
    write(&desk, &desk.at("home/.pellwick/reels/reel-1.tape"), "10 PRINT 1\n");
    let micro = ["intake", "micro", "--title", "pellwick", "--build", "3.1"];
    desk.fails(1, &[&micro[..], &["--as-home", "micro"]].concat());
    desk.ok(&[&micro[..], &["--as-home", "home/.pellwick"]].concat());
    desk.ok(&["clone", "pellwick@3.1", "reels"]);
    let tape = desk.at("yard/twins/reels/home/.pellwick/reels/reel-1.tape");
    assert_eq!(fs::read_to_string(tape).unwrap(), "10 PRINT 1\n");
    assert_eq!(desk.json(&["show", "reels"])["changes"]["groups"], serde_json::json!([]), "it is as it was laid");
    assert!(desk.at("home/.pellwick/reels/reel-1.tape").exists());
}

#[test]
fn an_edit_can_be_taken_back_after_its_path_was_mended() {
    let desk = Desk::with_twins(&["a"]);
    let at = desk.at("yard/twins/a").canonicalize().unwrap();
    let (old, new) = (at.display().to_string(), desk.at("yard/twins/second").display().to_string());
    write(&desk, &desk.game("a", "cabin/paths.ini"), &format!("[at]\nboards={old}/game/boards\n"));
    desk.ok(&["profile", "set", "a", "--file", "paths.ini", "at.boards", &format!("{old}/game/other")]);
    desk.ok(&["profile", "set", "a", "--file", "paths.ini", "at.signals", &format!("{old}/game/signals")]);
    desk.ok(&["rename", "a", "second", "--move-folder"]);
    let new = desk.at("yard/twins/second").canonicalize().map_or(new, |path| path.display().to_string());
    let there = || fs::read_to_string(desk.at("yard/twins/second/game/cabin/paths.ini")).unwrap();
    assert_eq!(there(), format!("[at]\nboards={new}/game/other\nsignals={new}/game/signals\n"));
    assert!(!desk.ok(&["profile", "show", "second"]).contains("changed since"));
    desk.ok(&["profile", "unset", "second", "--file", "paths.ini", "at.boards"]);
    desk.ok(&["profile", "unset", "second", "--file", "paths.ini", "at.signals"]);
    assert_eq!(there(), format!("[at]\nboards={new}/game/boards\n"));
}
