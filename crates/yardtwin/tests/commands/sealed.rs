//! A launch at each rung: what the program may do, what becomes of what it did, and how it ends.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use crate::support::common::{Place, assert_same, is_root, look, skip};
use crate::support::{Desk, copy_of_the_program, text};

const RUNGS: [&str; 3] = ["sealed", "fenced", "redirected"];

fn bench(twins: &[&str]) -> Desk {
    Desk::bench(Place::for_launches(), twins, |_| {})
}

/// The rungs that can be had here; where one can't, that is said by name.
fn rungs(desk: &Desk, test: &str) -> Vec<&'static str> {
    let possible = |rung: &&str| {
        desk.ok(&["profile", "set", "a", "isolation", rung]);
        let output = desk.run(&["launch", "a", "--dry-run"]);
        if !output.status.success() {
            skip(&format!("{test}, {rung}"), text(&output.stderr).trim());
        }
        output.status.success()
    };
    RUNGS.into_iter().filter(possible).collect()
}

fn paths(list: &serde_json::Value) -> Vec<&str> {
    list.as_array().unwrap().iter().map(|path| path.as_str().unwrap()).collect()
}

#[test]
fn what_a_program_does_to_its_folder_is_what_is_there_afterwards() {
    let desk = bench(&["a", "b"]);
    let other = look(&desk.at("yard/twins/b"));
    // What it sees in the end is written down by it, and compared with what is there.
    let list = "find . -mindepth 1 ! -path ./own/seen ! -path './shut/*' -printf '%y %m %p %l\\n' | sort";
    let odd = [
        "rm -rf data && mkdir data && echo new > data/new",
        "rm -rf data && ln -s /usr/share data",
        "mv data moved && mkdir data && ln -s ../moved/target.txt data/link",
        "rm -rf ./* && mkdir own",
        "echo '#!/bin/sh' > bin/do && chmod 700 bin/do",
        "mkdir -p deep/er/est && chmod 500 deep/er && chmod 700 deep/er && echo x > deep/er/est/file && chmod 400 deep/er/est/file",
        "mkfifo pipe; python3 -c 'import socket; socket.socket(socket.AF_UNIX).bind(\"socket\")' || true",
        "rm data/target.txt && mkdir data/target.txt && echo x > data/target.txt/in",
        "rm -rf data bin && echo plain > data",
        "i=0; while [ $i -lt 500 ]; do echo $i > own/file$i; i=$((i+1)); done",
        "mkdir shut && echo x > shut/in && chmod 000 shut",
    ];
    for rung in rungs(&desk, "what_a_program_does_to_its_folder_is_what_is_there_afterwards") {
        for (number, what) in odd.iter().enumerate() {
            let twin = format!("{rung} {number}");
            desk.ok(&["clone", "workbench@1", &twin, "--share", "none"]);
            desk.ok(&["profile", "set", &twin, "isolation", rung]);
            let report = desk.does(&twin, &format!("mkdir -p own; {what}; mkdir -p own; {list} > own/seen"), &[]);
            let game = desk.game(&twin, "");
            assert_eq!(report["record"]["exit_code"], 0, "{rung}: {what}");
            let seen = fs::read_to_string(game.join("own/seen")).unwrap();
            let now = desk.tool("sh").args(["-c", list]).current_dir(&game).output();
            assert_eq!(text(&now.unwrap().stdout), seen, "{rung}: {what}");
            assert!(!desk.at("yard/twins").join(&twin).join("layer").exists());
            desk.tool("chmod").args(["-R", "u+rwX"]).arg(&game).stderr(Stdio::null()).status().unwrap();
        }
    }
    assert_same(&other, &look(&desk.at("yard/twins/b")), "the other twin");
}

#[test]
fn what_a_run_changed_is_named_by_group_kept_or_thrown_away() {
    let desk = bench(&["a"]);
    for rung in rungs(&desk, "what_a_run_changed_is_named_by_group_kept_or_thrown_away") {
        desk.ok(&["clone", "workbench@1", rung]);
        desk.ok(&["profile", "set", rung, "isolation", rung]);
        let write = "mkdir -p own ~/.config/bench; echo 1 > own/one.sav; echo 2 > ~/.config/bench/set; rm data/target.txt; echo 3 > stray";
        let before = (look(&desk.game(rung, "")), desk.json(&["history", rung]).as_array().unwrap().len());
        let thrown = &desk.does(rung, write, &["--discard"])["report"];
        assert_eq!(thrown["discarded"], true);
        assert_same(&before.0, &look(&desk.game(rung, "")), "thrown away");
        assert!(desk.ok(&["history", rung, "--runs"]).contains("thrown away: "));
        let report = &desk.does(rung, write, &[])["report"];
        assert_eq!(report["changes"], thrown["changes"], "what would be thrown away is what would be kept");
        let groups = report["changes"]["groups"].as_array().unwrap();
        assert_eq!(paths(&groups[0]["new"]), ["game/own/one.sav"]);
        assert_eq!(groups[0]["group"], "saves");
        assert_eq!(paths(&groups[1]["new"]), ["game/stray", "home/.config/bench/set"]);
        assert_eq!(paths(&groups[1]["gone"]), ["game/data/target.txt"]);
        assert_eq!(paths(&report["changes"]["unexpected"]), ["game/data/target.txt", "game/stray"]);
        let refused = desk.fails(4, &["launch", rung, "--ask", "--", "true"]);
        assert!(refused.contains("no terminal to ask at"), "{refused}");
    }
}

#[test]
fn a_protected_twin_keeps_its_game_files_and_takes_belongings() {
    let desk = bench(&["a"]);
    for rung in rungs(&desk, "a_protected_twin_keeps_its_game_files_and_takes_belongings") {
        desk.ok(&["clone", "workbench@1", rung]);
        desk.ok(&["profile", "set", rung, "isolation", rung]);
        desk.ok(&["protect", rung]);
        let meddle = "mkdir -p own; echo 1 > own/one.sav; rm -f data/target.txt; rm -rf bin; mkdir bin data/new; echo x > bin/do; echo y > data/new/z";
        let report = &desk.does(rung, meddle, &[])["report"];
        let put_back = paths(&report["put_back"]).join(" ");
        for path in ["game/bin/do", "game/data/target.txt", "game/data/new/z"] {
            assert!(put_back.contains(path), "{rung}: {put_back}");
        }
        assert_eq!(fs::read_to_string(desk.game(rung, "data/target.txt")).unwrap(), "one\ntwo\nthree\n", "{rung}");
        assert!(!desk.game(rung, "data/new/z").exists());
        assert_eq!(fs::read_to_string(desk.game(rung, "own/one.sav")).unwrap(), "1\n");
        assert_eq!(desk.does(rung, "true", &[])["record"]["exit_code"], 0, "its program is whole");
        assert!(desk.ok(&["show", rung]).contains("yes, and no game file has changed since"));
    }
}

#[test]
fn a_program_that_forks_and_exits_is_followed_to_its_last_process() {
    let desk = bench(&["a"]);
    for rung in rungs(&desk, "a_program_that_forks_and_exits_is_followed_to_its_last_process") {
        desk.ok(&["profile", "set", "a", "isolation", rung]);
        let outcome =
            desk.does("a", "mkdir -p own; (setsid sh -c 'sleep 0.4; echo late > own/late.sav' &) ; exit 7", &[]);
        assert_eq!(outcome["record"]["exit_code"], 7, "{rung}: the program's own");
        assert_eq!(fs::read_to_string(desk.game("a", "own/late.sav")).unwrap(), "late\n", "{rung}");
        fs::remove_file(desk.game("a", "own/late.sav")).unwrap();
    }
}

/// Waits until something is so.
fn wait_for(what: &str, so: impl Fn() -> bool) {
    let until = Instant::now() + Duration::from_secs(20);
    while !so() {
        assert!(Instant::now() < until, "{what}");
        std::thread::sleep(Duration::from_millis(10));
    }
}

#[test]
fn a_detached_program_runs_on_is_shown_and_is_ended_by_a_word() {
    let desk = bench(&["a"]);
    for rung in rungs(&desk, "a_detached_program_runs_on_is_shown_and_is_ended_by_a_word") {
        desk.ok(&["profile", "set", "a", "isolation", rung]);
        let stay = "mkdir -p own; echo begun > own/begun.sav; trap 'echo ended > own/ended.sav; exit 3' TERM; while :; do sleep 0.05; done";
        assert!(desk.ok(&["launch", "a", "--detach", "--", stay]).contains("is running in the background"));
        assert!(desk.ok(&["list"]).contains("running"));
        assert!(desk.fails(5, &["launch", "a", "--", "true"]).contains("in use by process"));
        desk.fails(5, &["snapshot", "a"]);
        std::thread::sleep(Duration::from_millis(200));
        let stopped = desk.json(&["launch", "a", "--stop"]);
        assert_eq!(stopped["made_to"], false, "{rung}");
        assert_eq!(fs::read_to_string(desk.game("a", "own/ended.sav")).unwrap(), "ended\n", "{rung}");
        let last = &desk.json(&["history", "a", "--runs"])[0];
        assert_eq!(last["exit_code"], 3, "{rung}");
        fs::remove_file(desk.game("a", "own/ended.sav")).unwrap();
    }
    assert!(desk.fails(1, &["launch", "a", "--stop"]).contains("does not run"));
    let failed = desk.fails(1, &["launch", "a", "--detach", "--discard", "--yard", "nowhere"]);
    assert!(failed.contains("no yard"), "{failed}");
    desk.ok(&["profile", "set", "a", "program", "bin/none"]);
    assert!(desk.fails(1, &["launch", "a", "--detach"]).contains("is missing"), "what goes wrong is said");
}

#[test]
fn a_second_start_is_refused_unless_the_sheet_allows_it_and_then_both_see_the_same() {
    let test = "a_second_start_is_refused_unless_the_sheet_allows_it_and_then_both_see_the_same";
    let desk = bench(&["a"]);
    if !rungs(&desk, test).contains(&"sealed") {
        return;
    }
    desk.ok(&["profile", "set", "a", "isolation", "sealed"]);
    let first = "mkdir -p own; echo 1 > own/first.sav; while [ ! -e own/second.sav ]; do sleep 0.02; done";
    desk.ok(&["launch", "a", "--detach", "--", first]);
    wait_for("the first begins", || desk.at("yard/twins/a/layer/game/own/first.sav").exists());
    desk.fails(5, &["launch", "a", "--", "true"]);
    let sheet = fs::read_to_string(desk.at("yard/sheets/workbench.toml")).unwrap();
    let path = "path = { any = \"bin/do\" }\n";
    fs::write(desk.at("yard/sheets/workbench.toml"), sheet.replace(path, &format!("{path}several = true\n"))).unwrap();
    desk.fails(5, &["launch", "a", "--discard", "--", "true"]);
    let second = "cat own/first.sav; echo 2 > own/second.sav; sleep 0.5; echo late > own/late.sav; \
                  for pid in /proc/[0-9]*; do cat $pid/comm; done; touch /usr/x 2>/dev/null || exit 4";
    let output = desk.run(&["launch", "a", "--", second]);
    assert_eq!(output.status.code(), Some(4), "{}", text(&output.stderr));
    assert!(text(&output.stdout).starts_with("1\n"), "{}", text(&output.stdout));
    wait_for("both have ended, and all is taken in", || desk.json(&["list"])[0]["busy"] == false);
    for file in ["first", "second", "late"] {
        assert!(desk.game("a", &format!("own/{file}.sav")).exists(), "{file}");
    }
    let runs = desk.json(&["history", "a", "--runs"]);
    assert_eq!(runs[0]["summary"], "with the run that it was started beside");
    let new = &runs[1]["report"]["changes"]["groups"][0]["new"];
    assert_eq!(new.as_array().map(Vec::len), Some(3), "{runs}");
    // All of its programs are asked to end, one that was started beside the first too, and what either of them started.
    desk.ok(&["launch", "a", "--detach", "--", "echo 1 > own/third.sav; sleep 3211; true"]);
    wait_for("the third begins", || desk.at("yard/twins/a/layer/game/own/third.sav").exists());
    desk.ok(&["launch", "a", "--detach", "--", "sleep 3212; true"]);
    let stopped = desk.json(&["launch", "a", "--stop"]);
    let asked = stopped["asked"].to_string();
    assert!(asked.contains("sleep 3211") && asked.contains("sleep 3212") && stopped["made_to"] == false, "{stopped}");
    let runs = desk.json(&["history", "a", "--runs"]);
    assert!(runs[0]["ended_at"].is_string() && runs[1]["ended_at"].is_string(), "{runs}");
}

#[test]
fn who_ignores_every_signal_is_made_to_end_with_all_that_it_started() {
    let desk = bench(&["a"]);
    // At fenced it is the same as at redirected, and each takes the ten seconds of grace.
    let rungs = rungs(&desk, "who_ignores_every_signal_is_made_to_end_with_all_that_it_started");
    for rung in rungs.into_iter().filter(|rung| *rung != "fenced") {
        desk.ok(&["profile", "set", "a", "isolation", rung]);
        let deaf = "trap '' TERM INT HUP; mkdir -p own; (setsid sh -c 'trap \"\" TERM; while :; do sleep 0.05; done' &); while :; do sleep 0.05; echo x >> own/x.sav; done";
        desk.ok(&["launch", "a", "--detach", "--", deaf]);
        assert_eq!(desk.json(&["launch", "a", "--stop"])["made_to"], true, "{rung}");
        assert!(desk.game("a", "own/x.sav").exists(), "{rung}: what it wrote is taken in");
        assert_eq!(desk.json(&["history", "a", "--runs"])[0]["signal"], 9, "{rung}");
    }
}

#[test]
fn a_folder_outside_is_reached_on_purpose_and_only_written_on_purpose() {
    let test = "a_folder_outside_is_reached_on_purpose_and_only_written_on_purpose";
    let desk = bench(&["a"]);
    let songs = desk.at("home/Music/songs");
    fs::create_dir_all(&songs).unwrap();
    fs::write(songs.join("one"), "first verse").unwrap();
    desk.place.give_away();
    for refused in ["/", "yard", "yard/twins/a/game", "home", "/tmp", "/dev/shm", "no such folder"] {
        let said = desk.fails(2, &["profile", "set", "a", "reach+", refused]);
        assert!(said.contains("can't be shown"), "{refused}: {said}");
    }
    let place = songs.display().to_string();
    let read = format!("cat {place}/one");
    let write = format!("echo more >> {place}/one");
    let code = |script: &str| desk.does("a", script, &[])["record"]["exit_code"].as_i64().unwrap();
    for rung in rungs(&desk, test) {
        desk.ok(&["profile", "set", "a", "isolation", rung]);
        // Twice: what was made to show it leaves nothing behind.
        for _ in 0..2 {
            desk.ok(&["profile", "set", "a", "reach+", "home/Music/songs"]);
            assert!(desk.ok(&["show", "a"]).contains("reaches"), "{rung}");
            assert_eq!((code(&read), code(&write) == 0), (0, rung == "redirected"), "{rung}");
            desk.ok(&["profile", "set", "a", "reach+", "home/Music/songs", "--writable"]);
            assert_eq!(code(&write), 0, "{rung}");
            desk.fails(2, &["profile", "unset", "a", "reach-"]);
            desk.ok(&["profile", "set", "a", "reach-", "home/Music/songs"]);
            assert_eq!(code(&read) == 0, rung != "sealed", "{rung}");
        }
        assert!(fs::read_to_string(songs.join("one")).unwrap().contains("more\n"));
        assert!(!desk.at("yard/twins/a/home/Music/songs").exists() && !desk.at("yard/twins/a/layer").exists());
    }
    desk.ok(&["profile", "set", "a", "reach+", &place]);
    fs::remove_dir_all(&songs).unwrap();
    let said = text(&desk.run(&["launch", "a", "--", "true"]).stderr);
    assert!(said.contains("which is not there now"), "{said}");
    desk.ok(&["profile", "unset", "a", "reach"]);
}

#[test]
fn when_the_launcher_is_killed_all_ends_and_what_was_written_is_taken_in() {
    let desk = bench(&["a"]);
    for rung in rungs(&desk, "when_the_launcher_is_killed_all_ends_and_what_was_written_is_taken_in") {
        let game = desk.game("a", "own");
        desk.ok(&["profile", "set", "a", "isolation", rung]);
        let write = "mkdir -p own; echo kept > own/kept.sav; (setsid sleep 98765 &) ; echo $$ > own/here.sav; while :; do sleep 0.05; done";
        let mut child =
            desk.command(&["launch", "a", "--", write]).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        let layer = desk.at("yard/twins/a/layer/game/own/here.sav");
        wait_for("it begins", || layer.exists() || game.join("here.sav").exists());
        child.kill().unwrap();
        child.wait().unwrap();
        wait_for("its lock is free", || !desk.ok(&["list"]).contains("running"));
        wait_for("all that it started has ended", || {
            !Command::new("pgrep").args(["-f", "sleep 98765"]).output().unwrap().status.success()
        });
        let runs = desk.json(&["history", "a", "--runs"]);
        let ended = runs[0]["ended_at"].is_string() && runs[0]["exit_code"].is_null();
        assert!(ended && runs[0]["summary"].as_str().unwrap_or("cut off").contains("cut off"), "{runs}");
        assert_eq!(fs::read_to_string(game.join("kept.sav")).unwrap(), "kept\n", "{rung}");
        assert!(!desk.at("yard/twins/a/layer").exists());
        fs::remove_dir_all(&game).unwrap();
    }
}

#[test]
fn a_watched_start_begins_with_an_empty_home_and_sees_all_that_is_left() {
    let test = "a_watched_start_begins_with_an_empty_home_and_sees_all_that_is_left";
    let desk = bench(&["a"]);
    if !rungs(&desk, test).contains(&"sealed") {
        return;
    }
    desk.ok(&["profile", "set", "a", "isolation", "sealed"]);
    let writes = "[ ! -e $HOME/.first ] || exit 9; echo 1 > $HOME/.first";
    desk.does("a", writes, &[]);
    let script = format!("{writes}; echo 2 > /dev/shm/x; echo 3 > $XDG_RUNTIME_DIR/y; echo 4 > /tmp/z");
    // Twice: it is played already, and a check changes nothing of that.
    for _ in 0..2 {
        let answer = desk.run(&["check", "a", "--start", "--json", "--", &script]);
        let answer: serde_json::Value = serde_json::from_slice(&answer.stdout).unwrap();
        assert_eq!(paths(&answer["in_home"]), [".first"], "{answer}");
        assert_eq!(paths(&answer["outside"]), ["/tmp/z", "/dev/shm/x", "$XDG_RUNTIME_DIR/y"], "{answer}");
        assert_eq!(answer["self_contained"], false);
    }
    assert_eq!(fs::read_to_string(desk.at("yard/twins/a/home/.first")).unwrap(), "1\n");
    assert!(!desk.at("yard/twins/a/layer").exists());
}

#[test]
fn when_the_keeper_is_killed_the_program_ends_and_that_is_said() {
    let desk = bench(&["a"]);
    for rung in rungs(&desk, "when_the_keeper_is_killed_the_program_ends_and_that_is_said") {
        desk.ok(&["profile", "set", "a", "isolation", rung]);
        let mut command = desk.command(&[
            "launch",
            "a",
            "--",
            "sleep 98766 & mkdir -p own; echo $$ > own/here.sav; exec sleep 98767",
        ]);
        let child = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        let there = [desk.at("yard/twins/a/layer/game/own/here.sav"), desk.game("a", "own/here.sav")];
        wait_for("it begins", || there.iter().any(|path| path.exists()));
        let keeper = Command::new("pgrep").args(["-P", &child.id().to_string()]).output().unwrap();
        assert!(Command::new("kill").args(["-9", text(&keeper.stdout).trim()]).status().unwrap().success());
        let output = child.wait_with_output().unwrap();
        assert_eq!(output.status.code(), Some(137), "{rung}: {}", text(&output.stderr));
        wait_for("the program has ended", || {
            !Command::new("pgrep").args(["-f", "sleep 98767"]).output().unwrap().status.success()
        });
        assert!(desk.game("a", "own/here.sav").exists(), "{rung}");
        // What it had started lives on below sealed, and holds the twin.
        let there = Command::new("pgrep").args(["-f", "sleep 98766"]).output().unwrap().status.success();
        assert_eq!(there, rung != "sealed");
        if there {
            assert!(desk.ok(&["list"]).contains("(sleep 98766)"), "{rung}");
            assert!(desk.fails(5, &["snapshot", "a"]).contains("(sleep 98766)"), "{rung}");
            assert!(desk.ok(&["launch", "a", "--stop"]).contains("(sleep 98766)"), "{rung}");
        }
        desk.ok(&["snapshot", "a"]);
        desk.tool("rm").arg("-rf").arg(desk.game("a", "own")).status().unwrap();
    }
}

#[test]
fn without_namespaces_the_next_best_is_taken_and_said_and_never_less_than_was_asked_for() {
    let test = "without_namespaces_the_next_best_is_taken_and_said_and_never_less_than_was_asked_for";
    let desk = bench(&["a"]);
    if !rungs(&desk, test).contains(&"sealed") {
        return;
    }
    let within = |limit: &str, arguments: &[&str]| {
        let script = format!("echo 0 > /proc/sys/user/max_{limit}_namespaces && exec \"$@\"");
        desk.tool("unshare")
            .args(["-U", "--map-current-user", "--keep-caps", "sh", "-c", &script, "sh"])
            .arg(desk.at("yardtwin"))
            .args(arguments)
            .output()
            .unwrap()
    };
    for limit in ["user", "mnt", "pid"] {
        desk.ok(&["profile", "unset", "a", "isolation"]);
        let output = within(limit, &["launch", "a", "--", "true"]);
        let said = text(&output.stderr);
        assert!(output.status.success() && said.contains("(isolation: fenced)"), "{limit}: {said}");
        assert!(said.contains("sealed is not possible: new namespaces: No space left on device"), "{limit}: {said}");
        desk.ok(&["profile", "set", "a", "isolation", "sealed"]);
        let output = within(limit, &["launch", "a", "--", "true"]);
        let said = text(&output.stderr);
        assert_eq!(output.status.code(), Some(1), "{limit}: {said}");
        assert!(said.contains("a sealed launch is not possible here") && said.contains("Launch it fenced"), "{said}");
    }
    assert_eq!(desk.does("a", "true", &[])["record"]["isolation"], "sealed", "elsewhere it is as it was");
}

#[test]
fn a_launch_from_within_a_launch_is_isolated_as_far_as_the_outer_one_allows() {
    let test = "a_launch_from_within_a_launch_is_isolated_as_far_as_the_outer_one_allows";
    let desk = Desk::bench(Place::for_launches(), &["a"], |build| {
        copy_of_the_program(&build.join("bin/yardtwin"));
        fs::write(build.join("inner.toml"), "title = \"inner\"\n[programs.play]\npath = { any = \"play\" }\n").unwrap();
        fs::create_dir(build.join("inner")).unwrap();
        fs::write(build.join("inner/play"), "#!/bin/sh\necho from within > saved\n").unwrap();
        fs::set_permissions(build.join("inner/play"), fs::Permissions::from_mode(0o755)).unwrap();
    });
    let inner = "export YARDTWIN_YARD=$PWD/own/yard; y=bin/yardtwin; $y init; $y sheet add inner.toml; \
                 $y intake inner --title inner --build 1; $y clone inner@1 i; $y launch i";
    for rung in rungs(&desk, test).into_iter().filter(|rung| *rung != "redirected") {
        desk.ok(&["clone", "workbench@1", rung]);
        desk.ok(&["profile", "set", rung, "isolation", rung]);
        let output = desk.run(&["launch", rung, "--", &format!("mkdir own; {inner}")]);
        let said = text(&output.stderr);
        assert!(output.status.success() && said.contains("inner 1 \u{2013} i (isolation: fenced)"), "{rung}: {said}");
        assert!(said.contains("sealed is not possible: "), "{rung}: {said}");
        assert_eq!(fs::read(desk.game(rung, "own/yard/twins/i/game/saved")).unwrap(), b"from within\n", "{rung}");
    }
}

#[test]
fn homes_that_cannot_be_bound_and_no_network() {
    let test = "homes_that_cannot_be_bound_and_no_network";
    let desk = bench(&["a"]);
    if !rungs(&desk, test).contains(&"sealed") {
        return;
    }
    desk.ok(&["profile", "set", "a", "isolation", "sealed"]);
    for home in ["/nowhere", "/", "/tmp", "relative", ""] {
        let output = desk
            .command(&["launch", "a", "--", "mkdir -p ~/.config/bench && echo x > ~/.config/bench/set && echo $HOME"])
            .env("HOME", home)
            .output()
            .unwrap();
        assert!(output.status.success(), "{home}: {}", text(&output.stderr));
        assert!(text(&output.stdout).trim().ends_with("twins/a/home"), "{home}: {}", text(&output.stdout));
        fs::remove_file(desk.at("yard/twins/a/home/.config/bench/set")).unwrap();
    }
    desk.ok(&["profile", "set", "a", "network", "off"]);
    let devices = desk.ok(&["launch", "a", "--", "tail -n +3 /proc/net/dev | cut -d: -f1 | tr -d ' '"]);
    assert_eq!(devices, "lo\n");
    desk.ok(&["profile", "set", "a", "isolation", "fenced"]);
    assert!(desk.fails(2, &["launch", "a", "--", "true"]).contains("only a sealed program can be without a network"));
    assert!(desk.fails(2, &["profile", "set", "a", "network", "maybe"]).contains("it is on or off"));
    assert!(desk.fails(2, &["profile", "set", "a", "isolation", "loose"]).contains("sealed, fenced or redirected"));
}

#[test]
fn started_by_root_a_program_is_the_owner_of_its_twin() {
    let test = "started_by_root_a_program_is_the_owner_of_its_twin";
    if !is_root() {
        return skip(test, "it takes root");
    }
    let desk = bench(&["a"]);
    for rung in rungs(&desk, test) {
        desk.ok(&["profile", "set", "a", "isolation", rung]);
        let output = Command::new(desk.at("yardtwin"))
            .env("HOME", "/root")
            .args(["--yard", desk.at("yard").to_str().unwrap(), "launch", "a", "--"])
            .arg("id -u; mkdir -p own; echo x > own/mine; touch /root/stray 2>/dev/null && echo got out; exit 0")
            .output()
            .unwrap();
        assert_eq!(text(&output.stdout), "65534\n", "{rung}: {}", text(&output.stderr));
        let mine = desk.game("a", "own/mine");
        assert_eq!(std::os::unix::fs::MetadataExt::uid(&fs::metadata(&mine).unwrap()), 65534, "{rung}");
        fs::remove_dir_all(desk.game("a", "own")).unwrap();
        // What the command itself wrote is root's.
        desk.place.give_away();
    }
}

#[test]
fn commands_in_front_before_and_after() {
    let desk = bench(&["a"]);
    for rung in rungs(&desk, "commands_in_front_before_and_after") {
        desk.ok(&["profile", "set", "a", "isolation", rung]);
        desk.ok(&["profile", "set", "a", "wrapper", "--", "env", "IN_FRONT=a b"]);
        desk.ok(&["profile", "set", "a", "before", "--", "sh", "-c", "echo before >> game/own.log"]);
        desk.ok(&["profile", "set", "a", "after", "--", "sh", "-c", "echo \"after $YARDTWIN_TWIN\" >> game/own.log"]);
        assert_eq!(desk.ok(&["launch", "a", "--", "echo \"$IN_FRONT\"; cat own.log"]), "a b\nbefore\n", "{rung}");
        assert_eq!(fs::read_to_string(desk.game("a", "own.log")).unwrap(), "before\nafter a\n");
        desk.ok(&["profile", "set", "a", "before", "false"]);
        let failed = desk.fails(1, &["launch", "a", "--", "true"]);
        assert!(failed.contains("\"false\" that the profile names as \"before\" failed"), "{failed}");
        desk.ok(&["profile", "unset", "a", "before"]);
        desk.ok(&["profile", "set", "a", "wrapper", "no-such-layer"]);
        let failed = desk.fails(1, &["launch", "a", "--", "true"]);
        assert!(failed.contains("\"no-such-layer\" that the profile names as \"wrapper\" failed"), "{failed}");
        for setting in ["wrapper", "after"] {
            desk.ok(&["profile", "unset", "a", setting]);
        }
        fs::remove_file(desk.game("a", "own.log")).unwrap();
    }
    let runs = desk.json(&["history", "a", "--runs"]);
    assert!(runs.as_array().unwrap().iter().all(|run| run["exit_code"] == 0), "what never started is no run");
}

#[test]
fn an_emulator_that_writes_into_the_home_is_found_out_and_kept_in_by_its_marker() {
    let desk = Desk::new();
    standins::write_pellwick(&desk.at("micro"), "3.1", &desk.at("yardtwin")).unwrap();
    let (bare, _) = standins::PELLWICK_SHEET.split_once("[inside]").unwrap();
    fs::write(desk.at("bare.toml"), bare).unwrap();
    fs::write(desk.at("pellwick.toml"), standins::PELLWICK_SHEET).unwrap();
    desk.place.give_away();
    desk.ok(&["init"]);
    desk.ok(&["sheet", "add", "bare.toml"]);
    desk.ok(&["intake", "micro", "--title", "pellwick"]);
    desk.ok(&["clone", "pellwick@3.1", "a"]);
    let check = |code: i32, more: &[&str]| {
        let output = desk.run(&[&["check", "a", "--start"], more].concat());
        assert_eq!(output.status.code(), Some(code), "{}{}", text(&output.stdout), text(&output.stderr));
        text(&output.stdout)
    };
    let said = check(3, &[]);
    assert!(said.contains(".pellwick/reels/reel-1.tape") && said.contains("has no [inside]"), "{said}");
    assert!(!desk.at("yard/twins/a/home/.pellwick").exists(), "the check throws away what it changed");
    desk.ok(&["sheet", "add", "pellwick.toml", "--replace"]);
    let said = check(3, &[]);
    assert!(said.contains("the twin lacks: inplace.flag, reels"), "{said}");
    let said = check(0, &["--fix"]);
    assert!(said.contains("a is self-contained"), "{said}");
    assert!(desk.game("a", "inplace.flag").exists());
    assert!(desk.ok(&["history", "a"]).contains("marker files added"));
    let said = desk.ok(&["clone", "pellwick@3.1", "b"]);
    assert!(said.contains("game/inplace.flag, game/reels"), "{said}");
    assert!(desk.game("b", "reels").is_dir(), "before any start");
    assert_eq!(desk.ok(&["launch", "b"]), "Pellwick 3.1: reel 1 written in place\n");
}

#[test]
fn below_sealed_what_was_changed_outside_meanwhile_is_named() {
    let desk = bench(&["a"]);
    desk.ok(&["profile", "set", "a", "isolation", "redirected"]);
    let outside = desk.at("home/stray");
    let report = &desk.does("a", &format!("echo x > {}", outside.display()), &[])["report"];
    assert!(paths(&report["outside"]).contains(&outside.canonicalize().unwrap().to_str().unwrap()), "{report}");
    assert_eq!(report["exact"], false);
    if rungs(&desk, "below_sealed_what_was_changed_outside_meanwhile_is_named").contains(&"sealed") {
        desk.ok(&["profile", "set", "a", "isolation", "sealed"]);
        let report = &desk.does("a", "echo x > /tmp/left; echo x > /usr/stray || true", &[])["report"];
        assert_eq!(paths(&report["outside"]), ["/tmp/left"]);
        assert!(paths(&report["refused"])[0].contains("/usr/stray"), "{report}");
        assert!(!Path::new("/tmp/left").exists());
    }
}

/// A display, and a program that draws on it.
#[test]
fn a_window_is_drawn_and_the_sessions_sockets_are_reached_from_a_sealed_launch() {
    let test = "a_window_is_drawn_and_the_sessions_sockets_are_reached_from_a_sealed_launch";
    let desk = bench(&["a"]);
    let tools = ["/usr/bin/Xvfb", "/usr/bin/xclock", "/usr/bin/xwininfo", "/usr/bin/x11perf", "/usr/bin/python3"];
    if let Some(missing) = tools.iter().find(|tool| !Path::new(tool).exists()) {
        return skip(test, &format!("there is no {missing}"));
    }
    if !rungs(&desk, test).contains(&"sealed") {
        return;
    }
    desk.ok(&["profile", "set", "a", "isolation", "sealed"]);
    let mut server = desk
        .tool("Xvfb")
        .args(["-displayfd", "1", "-screen", "0", "1024x768x24", "-nolisten", "tcp"])
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let mut number = String::new();
    std::io::BufRead::read_line(&mut std::io::BufReader::new(server.stdout.take().unwrap()), &mut number).unwrap();
    let display = format!(":{}", number.trim());
    let shown = |name: &str| {
        let tree = desk.tool("xwininfo").args(["-root", "-tree", "-display", &display]).output().unwrap();
        text(&tree.stdout).contains(name)
    };
    let clock = desk
        .command(&["launch", "a", "--detach", "--", "exec xclock -title 'the station clock'"])
        .env("DISPLAY", &display)
        .output()
        .unwrap();
    assert!(clock.status.success(), "{}", text(&clock.stderr));
    let log = || fs::read_to_string(desk.at("yard/twins/a/runs/1/output.log")).unwrap_or_default();
    let until = Instant::now() + Duration::from_secs(20);
    while !shown("the station clock") {
        assert!(Instant::now() < until, "no window on {display}: {}{}", log(), desk.ok(&["history", "a", "--runs"]));
        std::thread::sleep(Duration::from_millis(50));
    }
    desk.ok(&["launch", "a", "--stop"]);
    // By memory that it shares with the display.
    let draw = "exec x11perf -time 1 -repeat 1 -shmput10";
    let drawn = desk.command(&["launch", "a", "--", draw]).env("DISPLAY", &display).output().unwrap();
    assert!(text(&drawn.stdout).contains("ShmPutImage 10x10"), "{}{}", text(&drawn.stdout), text(&drawn.stderr));
    server.kill().unwrap();
    server.wait().unwrap();

    let session = desk.at("session");
    fs::create_dir(&session).unwrap();
    fs::set_permissions(&session, fs::Permissions::from_mode(0o777)).unwrap();
    let listen = "import socket,sys; s = socket.socket(socket.AF_UNIX); s.bind(sys.argv[1]); s.listen(); print('ready', flush=True); s.accept()[0].sendall(b'hello')";
    let mut listener = desk
        .tool("python3")
        .args(["-c", listen])
        .arg(session.join("wayland-0"))
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    std::io::BufRead::read_line(&mut std::io::BufReader::new(listener.stdout.take().unwrap()), &mut number).unwrap();
    fs::write(session.join("keys"), "secret").unwrap();
    let connect = "python3 -c 'import os,socket; s = socket.socket(socket.AF_UNIX); s.connect(os.environ[\"XDG_RUNTIME_DIR\"] + \"/wayland-0\"); print(s.recv(9).decode(), os.listdir(os.environ[\"XDG_RUNTIME_DIR\"]))'";
    let reached = desk.command(&["launch", "a", "--", connect]).env("XDG_RUNTIME_DIR", &session).output().unwrap();
    assert_eq!(text(&reached.stdout), "hello ['wayland-0']\n", "{}", text(&reached.stderr));
    listener.wait().unwrap();
}
