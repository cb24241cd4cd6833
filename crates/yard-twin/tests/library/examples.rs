//! The examples run.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Output};

use crate::common::{Place, tree};

/// Where cargo puts examples: beside the folder of the tests. It builds them for all tests together, but not for one alone.
fn example(name: &str) -> PathBuf {
    let test = std::env::current_exe().unwrap();
    let built = test.parent().and_then(Path::parent).unwrap().join("examples").join(name);
    if !built.exists() {
        let status = Command::new(env!("CARGO")).args(["build", "--quiet", "--example", name]).status().unwrap();
        assert!(status.success());
    }
    built
}

fn run_as_it_ends(name: &str, arguments: &[&str]) -> Output {
    Command::new(example(name)).args(arguments).output().unwrap()
}

fn run(name: &str, arguments: &[&str]) -> String {
    let output = run_as_it_ends(name, arguments);
    assert!(output.status.success(), "{name}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).unwrap()
}

#[test]
fn each_example_runs_without_arguments_on_data_of_its_own() {
    for (name, says) in [
        ("two_builds", "my 2.0 ran: "),
        ("clone_many", "5 clones in "),
        ("undo", "evening shift is back at 1"),
        ("look", "files are the same"),
        ("play", "evening shift ran "),
        ("window", "fresh air ran: "),
        ("decide", " bytes come, "),
    ] {
        let said = run(name, &[]);
        assert!(said.contains(says), "{name}: {said}");
    }
    let said = String::from_utf8(run_as_it_ends("undo", &["nowhere", "a"]).stderr).unwrap();
    assert!(said.contains("nowhere"), "{said}");
}

#[test]
fn two_builds_side_by_side_many_clones_one_that_goes_back_and_launches() {
    let place = Place::new();
    for build in ["old", "new"] {
        let folder = place.at(build);
        tree(&folder.join("data"), 7);
        fs::create_dir(folder.join("bin")).unwrap();
        let program = folder.join("bin/wexcombe");
        fs::write(
            &program,
            format!("#!/bin/sh\necho {build} >> {build}.wjs\necho x > \"$HOME/x\"\n[ ! -t 0 ] || stty size\n"),
        )
        .unwrap();
        fs::set_permissions(program, fs::Permissions::from_mode(0o755)).unwrap();
    }
    let path = |name: &str| place.at(name).to_str().unwrap().to_owned();
    let (yard, old, new) = (path("yard"), path("old"), path("new"));
    let said = run("two_builds", &[&yard, "wexcombe", &old, "1.4", &new, "2.0"]);
    assert!(said.contains("my 1.4 ran: 2 other files new") && said.contains("my 2.0 ran: 2 other files new"), "{said}");
    assert_eq!(fs::read(place.at("yard/twins/my 2.0/game/new.wjs")).unwrap(), b"new\n");
    let said = run("clone_many", &[&yard, "my 1.4", "5"]);
    assert!(said.starts_with("5 clones in "), "{said}");
    assert_eq!(fs::read(place.at("yard/twins/copy 5/game/old.wjs")).unwrap(), b"old\n");
    fs::write(place.at("yard/twins/copy 5/game/mod.dat"), "a mod").unwrap();
    let said = run("undo", &[&yard, "copy 5"]);
    assert!(said.starts_with("Remove game/mod.dat\ncopy 5 is back at 1; "), "{said}");
    assert!(!place.at("yard/twins/copy 5/game/mod.dat").exists());

    fs::write(place.at("yard/twins/copy 5/game/mod.dat"), "a mod").unwrap();
    let said = run("look", &[&yard, "copy 5:1", "copy 5"]);
    assert!(said.starts_with("New game/mod.dat\n") && said.contains("Differs: copy 5: game files are not"), "{said}");
    assert!(said.contains("copy 1: "), "{said}");

    // By whichever way a program is launched, it is kept inside all the same, and what goes wrong is said.
    let itself = example("play");
    for helper in ["copy", "self", itself.to_str().unwrap()] {
        let said = run("play", &[&yard, "copy 4", helper]);
        assert!(said.contains("ran ") && said.contains("old.wjs changed"), "{helper}: {said}");
        assert!(said.contains("24 80"), "{helper}: {said}");
        fs::write(place.at("yard/twins/copy 3/game/bin/wexcombe"), "#!/no/such/interpreter\n").unwrap();
        let said = String::from_utf8(run_as_it_ends("play", &[&yard, "copy 3", helper]).stderr).unwrap();
        assert!(said.contains("its interpreter /no/such/interpreter is missing"), "{helper}: {said}");
    }
    let said = String::from_utf8(run_as_it_ends("play", &[&yard, "copy 4", "/bin/true"]).stderr).unwrap();
    assert!(said.contains("ended: exit status: 0"), "no helper at all: {said}");
}
