//! A launch: exit codes, signals, arguments, output, one run at a time.

use std::fs;
use std::io::{BufRead, BufReader};
use std::os::unix::fs::PermissionsExt;
use std::process::Stdio;

use crate::support::{Desk, text};
use rustix::process::{Pid, Signal, kill_process};

#[test]
fn the_programs_exit_code_and_its_output_are_passed_on_and_kept() {
    let desk = Desk::with_twins(&["a"]);
    let output = desk.run(&["launch", "a", "--", "--leave-with", "37"]);
    assert_eq!(output.status.code(), Some(37));
    assert_eq!(text(&output.stdout), "Wexcombe Junction 1.4, panel 1280 wide\nshift worked: shift-001.wjs\n");
    assert!(text(&output.stderr).contains("this is its first start"));
    assert_eq!(fs::read(desk.at("yard/twins/a/runs/1/output.log")).unwrap(), output.stdout);
    let again = desk.run(&["launch", "a"]);
    assert!(!text(&again.stderr).contains("first start"));
    let (shown, list) = (desk.json(&["show", "a"]), desk.json(&["list"]));
    let runs = &shown["runs"];
    assert_ne!(runs[0]["started_at"], runs[1]["started_at"]);
    for twin in [&shown, &list[0]] {
        assert_eq!(twin["last_run"], runs[0]["started_at"], "{twin}");
    }
    assert_eq!(runs[1]["exit_code"], 37);
    assert_eq!(runs[1]["summary"], "signalman.ini new, shift-001.wjs new");
    assert_eq!(runs[0]["summary"], "signalman.ini changed, shift-002.wjs new");
}

#[test]
fn a_running_twin_is_held_and_a_signal_reaches_its_program() {
    let desk = Desk::with_twins(&["a"]);
    let mut running =
        desk.command(&["launch", "a", "--", "--stay"]).stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
    let mut lines = BufReader::new(running.stdout.take().unwrap()).lines();
    lines.find(|line| line.as_ref().unwrap().starts_with("waiting for")).unwrap().unwrap();
    let complaint = desk.fails(5, &["launch", "a"]);
    assert!(complaint.contains(&format!("by process {} (", running.id())), "{complaint}");
    desk.fails(5, &["clone", "a", "b"]);
    desk.fails(5, &["remove", "a"]);
    desk.fails(5, &["profile", "set", "a", "note", "x"]);
    assert!(desk.ok(&["list"]).contains("running"));
    assert!(desk.ok(&["show", "a"]).contains("end it with yardtwin launch a --stop"));
    desk.ok(&["clone", "wexcombe@1.4", "c"]);
    let pid = Pid::from_raw(i32::try_from(running.id()).unwrap()).unwrap();
    kill_process(pid, Signal::TERM).unwrap();
    assert_eq!(running.wait().unwrap().code(), Some(128 + 15), "the program ended by it, and so did the launch");
    let last = &desk.json(&["show", "a"])["runs"][0];
    assert_eq!(
        (last["signal"].as_i64(), last["summary"].as_str()),
        (Some(15), Some("signalman.ini new, shift-001.wjs new"))
    );
}

#[test]
fn arguments_and_environment_reach_the_program_as_they_are() {
    let desk = Desk::with_twins(&["a"]);
    let script = "#!/bin/sh\nprintf '<%s>' \"$@\" \"$HOME\" \"$BELLS\" \"$XDG_CONFIG_HOME\"; pwd\n";
    fs::write(desk.game("a", "bin/say"), script).unwrap();
    fs::set_permissions(desk.game("a", "bin/say"), fs::Permissions::from_mode(0o755)).unwrap();
    desk.ok(&["profile", "set", "a", "program", "bin/say"]);
    desk.ok(&["profile", "set", "a", "arguments", "--", "-v", "two words", "$(id)", "'\"`\\%s"]);
    desk.ok(&["profile", "set", "a", "environment.BELLS", "on = \"loud\""]);
    // The twin's home is seen in the place of the user's own.
    let home = desk.at("home").canonicalize().unwrap();
    let game = desk.at("yard/twins/a/game").canonicalize().unwrap();
    let said = desk.ok(&["launch", "a", "--", "more", ""]);
    let (home, game) = (home.display(), game.display());
    let want = format!("<-v><two words><$(id)><'\"`\\%s><more><><{home}><on = \"loud\"><{home}/.config>{game}\n");
    assert_eq!(said, want);
    desk.ok(&["profile", "unset", "a", "program"]);
    assert!(desk.ok(&["profile", "show", "a"]).contains("bin/wexcombe  (as the title sheet says)"));
}

#[test]
fn a_program_that_cannot_be_started_is_a_clear_error() {
    let desk = Desk::with_twins(&["a"]);
    fs::write(desk.game("a", "bin/plain"), "no program").unwrap();
    std::os::unix::fs::symlink("/bin/sh", desk.game("a", "bin/outside")).unwrap();
    for (program, complaint) in
        [("bin/nothing", "is missing"), ("bin/plain", "is not marked as executable"), ("bin/outside", "is missing")]
    {
        desk.ok(&["profile", "set", "a", "program", program]);
        assert!(desk.fails(1, &["launch", "a"]).contains(complaint), "{program}");
    }
    assert!(desk.fails(2, &["profile", "set", "a", "program", "../../x"]).contains("inside the game folder"));
    assert_eq!(desk.json(&["show", "a"])["runs"].as_array().unwrap().len(), 0);
    fs::write(desk.at("yard/twins/a/profile.toml"), "note = \"x\"\nprogramme = 1\n").unwrap();
    let complaint = desk.fails(1, &["launch", "a"]);
    assert!(complaint.contains("profile.toml, line 2, column 1"), "{complaint}");
}

#[test]
fn what_is_no_program_is_said_and_no_shell_reads_it() {
    let desk = Desk::with_twins(&["a"]);
    let program = desk.game("a", "bin/wexcombe");
    let own = fs::read("/proc/self/exe").unwrap();
    let mut foreign = own[..64].to_vec();
    // EM_IA_64, which no kernel of today runs beside another one.
    foreign[18..20].copy_from_slice(&50u16.to_le_bytes());
    for (bytes, why) in [
        (b"touch read-by-a-shell\n".to_vec(), "neither a program of this system nor a script"),
        (b"#!/bin/sh\r\ntouch read-by-a-shell\r\n".to_vec(), "save it with Unix line ends"),
        (b"#!/no/such/interpreter -x\n".to_vec(), "its interpreter /no/such/interpreter is missing"),
        (foreign, "for another kind of processor"),
    ] {
        let registered = fs::read_dir("/proc/sys/fs/binfmt_misc").is_ok_and(|entries| entries.count() > 2);
        if registered && !bytes.starts_with(b"#!") {
            println!("skipped: {why}: formats are registered here, which the kernel knows");
            continue;
        }
        fs::remove_file(&program).unwrap();
        fs::write(&program, &bytes).unwrap();
        fs::set_permissions(&program, fs::Permissions::from_mode(0o755)).unwrap();
        desk.place.give_away();
        let said = desk.fails(1, &["launch", "a"]);
        assert!(said.contains("can't be started") && said.contains(why), "{said}");
        assert!(!desk.game("a", "read-by-a-shell").exists());
    }
    let runs = desk.json(&["history", "a", "--runs"]);
    assert!(!runs.to_string().contains("started_at"), "no run is recorded: {runs}");
}
