//! Folding a run's layer back: whichever change fails or is the last, the next command ends it, and the end is what the
//! program saw.

use std::os::unix::fs::PermissionsExt;

use rustix::fs::{CWD, FileType, Mode, XattrFlags};

use super::*;

/// A layer as the kernel leaves it: something of every kind.
fn lay(twin: &Path) {
    let (game, home) = (twin.join("layer/game"), twin.join("layer/home"));
    for folder in ["data", "bin", "deep/er", "remade"] {
        fs::create_dir_all(game.join(folder)).unwrap();
    }
    fs::create_dir_all(home.join(".config")).unwrap();
    let gone = |path: &Path| rustix::fs::mknodat(CWD, path, FileType::CharacterDevice, Mode::empty(), 0).unwrap();
    let opaque = |path: &Path| {
        rustix::fs::lsetxattr(path, "user.overlay.opaque", b"y", XattrFlags::empty()).unwrap();
    };
    for number in 0..12 {
        let data = game.join(format!("data/{number}"));
        if number % 3 == 0 { gone(&data) } else { fs::write(data, format!("written {number}")).unwrap() }
    }
    // A folder where a file was, a file where a folder was, a folder that was deleted and made again.
    fs::create_dir(game.join("shift.wjs")).unwrap();
    opaque(&game.join("shift.wjs"));
    fs::write(game.join("shift.wjs/in"), "a file in what was one").unwrap();
    fs::write(game.join("empty"), "a file where a folder was").unwrap();
    opaque(&game.join("bin"));
    fs::write(game.join("bin/other"), "#!/bin/sh\n").unwrap();
    gone(&game.join("bin/game"));
    symlink("/nowhere", game.join("link")).unwrap();
    fs::write(game.join("deep/er/file"), "new").unwrap();
    fs::set_permissions(game.join("deep/er"), fs::Permissions::from_mode(0o500)).unwrap();
    fs::write(home.join(".config/set"), "1").unwrap();
    let about = r#"[{"run":1,"placeholders":[]}]"#;
    fs::write(twin.join("layer/about.json"), about).unwrap();
}

/// What is in the twin's folders, down to the mode.
fn held(place: &Path) -> Vec<(PathBuf, u32, Vec<u8>)> {
    let twin = place.join("yard/twins/a");
    assert!(!twin.join("layer").exists());
    let paths = ["game", "home"].into_iter().flat_map(|area| tree(&twin.join(area)));
    let what = |path: PathBuf| {
        let meta = path.symlink_metadata().unwrap();
        let bytes = match fs::read_link(&path) {
            Ok(target) => target.into_os_string().into_encoded_bytes(),
            Err(_) => fs::read(&path).unwrap_or_default(),
        };
        (path.strip_prefix(&twin).unwrap().to_path_buf(), meta.permissions().mode(), bytes)
    };
    paths.map(what).collect()
}

fn fold(place: &Path) -> Result<()> {
    show::twin(&Yard::open(place.join("yard"))?, &"a".parse()?, &ctx()).map(|_| ())
}

pub(super) fn pending(place: &Path) {
    set_up(place, "large rebase");
    lay(&place.join("yard/twins/a"));
}

#[test]
fn wherever_folding_back_is_cut_off_the_end_is_what_the_program_saw() {
    let whole = place();
    pending(whole.path());
    let (result, changes) = fault::failing(None, || fold(whole.path()));
    result.unwrap();
    let wanted = held(whole.path());
    let text = |path: &str| {
        let found = wanted.iter().find(|(there, ..)| there == Path::new(path)).map(|(_, _, bytes)| bytes.clone());
        found.map(|bytes| String::from_utf8(bytes).unwrap())
    };
    assert_eq!(text("game/data/3"), None);
    assert_eq!(text("game/data/4").as_deref(), Some("written 4"));
    assert_eq!(text("game/bin/game"), None);
    assert_eq!(text("game/bin/other").as_deref(), Some("#!/bin/sh\n"));
    assert_eq!(text("game/empty").as_deref(), Some("a file where a folder was"));
    let mut died = 0;
    for number in 0..changes {
        let failed = place();
        pending(failed.path());
        let (_, _) = fault::failing(Some(number), || fold(failed.path()));
        fold(failed.path()).unwrap();
        assert_eq!(held(failed.path()), wanted, "change {number} of {changes} failed");

        let place = place();
        pending(place.path());
        let status = Command::new(std::env::current_exe().unwrap())
            .args(["--exact", "faults::fold::dies_folding", "--ignored", "--quiet"])
            .env("YARDTWIN_DIES", format!("{number}\n{}", place.path().display()))
            .stdout(std::process::Stdio::null())
            .stderr(std::process::Stdio::null())
            .status()
            .unwrap();
        died += u32::from(!status.success());
        fold(place.path()).unwrap();
        assert_eq!(held(place.path()), wanted, "died at change {number} of {changes}");
        describe(place.path());
    }
    eprintln!("folding back was cut off at {changes} changes, and {died} processes died of it");
}

/// The process that dies.
#[test]
#[ignore = "does nothing by itself"]
fn dies_folding() {
    let Ok(told) = std::env::var("YARDTWIN_DIES") else { return };
    let (number, place) = told.split_once('\n').unwrap();
    fault::dying(number.parse().unwrap(), || fold(Path::new(place))).unwrap();
}
