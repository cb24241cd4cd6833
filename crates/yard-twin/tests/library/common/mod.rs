//! What the tests share: places, made-up folders, comparing folders, being an ordinary user.

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt, symlink};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::{Arc, Mutex};

use yard_twin::{Ctx, Phase, Progress, Sharing, Yard, clone, intake};

/// A user without rights, for what root's rights would hide.
const NOBODY: u32 = 65534;

/// A folder for one test, which an ordinary user can enter too; on the filesystem that `YARDTWIN_TEST_PLACE` names.
pub struct Place(tempfile::TempDir);

impl Place {
    pub fn new() -> Self {
        Self::below(&std::env::var_os("YARDTWIN_TEST_PLACE").map_or_else(std::env::temp_dir, PathBuf::from))
    }

    pub fn below(base: &Path) -> Self {
        let dir = tempfile::Builder::new().prefix("yt-").tempdir_in(base).unwrap();
        fs::set_permissions(dir.path(), fs::Permissions::from_mode(0o755)).unwrap();
        Self(dir)
    }

    /// As [`Place::new`], in memory where there is such a filesystem and no other was named: for what does much and
    /// asks little of the disk.
    pub fn in_memory() -> Self {
        let memory = Path::new("/dev/shm");
        if std::env::var_os("YARDTWIN_TEST_PLACE").is_some() || !memory.is_dir() {
            return Self::new();
        }
        Self::below(memory)
    }

    /// For launches: when the layer of one is taken off, the kernel writes out the whole filesystem that it was on, so that
    /// a small one in memory is quicker; `YARDTWIN_TEST_MEMORY` names it. (A fenced program may write in `/dev/shm`.)
    pub fn for_launches() -> Self {
        let named = ["YARDTWIN_TEST_PLACE", "YARDTWIN_TEST_MEMORY"].into_iter().find_map(std::env::var_os);
        named.map_or_else(Self::new, |place| Self::below(Path::new(&place)))
    }

    pub fn at(&self, path: &str) -> PathBuf {
        self.0.path().join(path)
    }

    /// Gives everything in it to the ordinary user.
    pub fn give_away(&self) {
        if is_root() {
            let status = Command::new("chown").args(["-R", &NOBODY.to_string()]).arg(self.0.path()).status().unwrap();
            assert!(status.success());
        }
    }
}

pub fn is_root() -> bool {
    rustix::process::geteuid().is_root()
}

/// A command as an ordinary user: the one who runs the tests, or, for root, one without rights. (By `Command::uid`, or a
/// name that has to be looked for, all the memory of this process would be copied each time: a quarter of what tests did.)
pub fn as_user(program: impl AsRef<std::ffi::OsStr>) -> Command {
    if !is_root() {
        return Command::new(program);
    }
    let program = program.as_ref();
    let mut command = Command::new(found("setpriv"));
    command.args(["--reuid", &NOBODY.to_string(), "--regid", &NOBODY.to_string(), "--clear-groups"]);
    // It would look for a name with root's eyes.
    command.args((!Path::new(program).is_absolute()).then(|| found("env"))).arg(program);
    command
}

/// Where a program of the system is.
fn found(name: &str) -> PathBuf {
    let path = std::env::var_os("PATH").unwrap_or_default();
    let there = std::env::split_paths(&path).map(|folder| folder.join(name)).find(|path| path.is_file());
    there.unwrap_or_else(|| panic!("there is no {name}"))
}

/// A test that can't run here says so by name; where nothing may be skipped, it fails.
pub fn skip(test: &str, why: &str) {
    assert!(std::env::var_os("YARDTWIN_NO_SKIPS").is_none(), "{test} was skipped: {why}");
    // Not by a macro: what those print is shown of failures only.
    let _ = std::io::Write::write_all(&mut std::io::stderr(), format!("SKIPPED {test}: {why}\n").as_bytes());
}

/// Does a test in a process of its own: what another test starts has open for a moment whatever this process has open, and
/// a test that starts very much would disturb all others.
pub fn by_itself(test: &str, body: impl FnOnce()) {
    const VARIABLE: &str = "YARDTWIN_TEST_BY_ITSELF";
    if std::env::var_os(VARIABLE).is_some() {
        return body();
    }
    let mut command = Command::new(std::env::current_exe().unwrap());
    // What it says of a failure, or of a skip, is for the one who ran this.
    command.args(["--exact", test, "--nocapture"]).env(VARIABLE, "").stderr(Stdio::inherit());
    let ran = command.output().unwrap();
    let out = String::from_utf8_lossy(&ran.stdout);
    assert!(ran.status.success() && out.contains("1 passed"), "{out}");
}

/// Numbers that depend on a seed only.
pub struct Dice(u64);

impl Dice {
    pub fn new(seed: u64) -> Self {
        Self(seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1)
    }

    pub fn roll(&mut self, sides: u64) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        (self.0 >> 11) % sides
    }

    pub fn bytes(&mut self, len: u64) -> Vec<u8> {
        let mut bytes = vec![0; usize::try_from(len).unwrap()];
        for byte in &mut bytes {
            *byte = self.roll(256) as u8;
        }
        bytes
    }
}

const NAMES: [&str; 14] = [
    "signals",
    "boards",
    "cabin",
    "a b",
    "-dash",
    "quote'\"",
    "back\\slash",
    "new\nline",
    "überlok",
    "e\u{301}t\u{e9}",
    "%s $HOME `id`",
    "панель",
    "deep.folder",
    ".hidden",
];
const ENDINGS: [&str; 5] = ["", ".dat", ".ini", ".wjs", ".tar.gz"];

/// Fills `root` with folders, files (empty, small, large, with holes, executable), symlinks of each kind and empty folders.
pub fn tree(root: &Path, seed: u64) {
    let mut dice = Dice::new(seed);
    let mut folders = vec![root.to_path_buf()];
    fs::create_dir_all(root).unwrap();
    for number in 0..60 {
        let parent = folders[usize::try_from(dice.roll(folders.len() as u64)).unwrap()].clone();
        let pick = usize::try_from(dice.roll(NAMES.len() as u64)).unwrap();
        let ending = ENDINGS[usize::try_from(dice.roll(5)).unwrap()];
        let path = parent.join(format!("{}{number}{ending}", NAMES[pick]));
        match dice.roll(12) {
            0..=2 => {
                fs::create_dir(&path).unwrap();
                folders.push(path);
            }
            3 => symlink("../somewhere/else", &path).unwrap(),
            4 => symlink(root.join("target"), &path).unwrap(),
            5 => symlink("target", &path).unwrap(),
            6 => fs::write(&path, "").unwrap(),
            7 => {
                let file = fs::File::create(&path).unwrap();
                file.set_len(3 << 20).unwrap();
                std::os::unix::fs::FileExt::write_at(&file, b"past the hole", 2 << 20).unwrap();
            }
            8 => {
                fs::write(&path, "#!/bin/sh\nexit 0\n").unwrap();
                fs::set_permissions(&path, fs::Permissions::from_mode(0o755)).unwrap();
            }
            9 => {
                let len = 1_100_000 + dice.roll(500_000);
                fs::write(&path, dice.bytes(len)).unwrap();
            }
            _ => {
                let len = dice.roll(5000);
                fs::write(&path, dice.bytes(len)).unwrap();
            }
        }
    }
    fs::write(root.join("target"), "the target").unwrap();
}

/// What stands at a path: kind, bytes or target, whether it is executable.
pub type Seen = BTreeMap<String, (char, Vec<u8>, bool)>;

pub fn look(root: &Path) -> Seen {
    let mut seen = Seen::new();
    let mut folders = vec![root.to_path_buf()];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(&folder).unwrap() {
            let path = entry.unwrap().path();
            let meta = path.symlink_metadata().unwrap();
            let name = path.strip_prefix(root).unwrap().to_str().unwrap().to_owned();
            let what = if meta.is_dir() {
                folders.push(path);
                ('d', Vec::new(), false)
            } else if meta.is_symlink() {
                ('l', fs::read_link(&path).unwrap().into_os_string().into_encoded_bytes(), false)
            } else {
                ('f', fs::read(&path).unwrap(), meta.mode() & 0o111 != 0)
            };
            seen.insert(name, what);
        }
    }
    seen
}

/// What a yard's pool holds, but for the ledger, which says how its files look.
pub fn look_pool(yard: &Path) -> Seen {
    let mut seen = look(&yard.join("pool"));
    // The folder of contents is made for the first that goes into it, and stays.
    let is_of_contents = |name: &str| name.len() == 2 && name.bytes().all(|byte| byte.is_ascii_hexdigit());
    seen.retain(|name, (kind, ..)| name != "ledger" && !(*kind == 'd' && is_of_contents(name)));
    seen
}

/// Fails with the paths that differ.
pub fn assert_same(a: &Seen, b: &Seen, what: &str) {
    let differ: Vec<_> = a.keys().chain(b.keys()).filter(|path| a.get(*path) != b.get(*path)).collect();
    assert!(differ.is_empty(), "{what}: {differ:?}");
}

/// Records what it is told.
#[derive(Default)]
pub struct Recorder(Mutex<Vec<(Phase, u64)>>);

impl Progress for Recorder {
    fn begin(&self, phase: Phase, files: u64, _: u64) {
        self.0.lock().unwrap().push((phase, files));
    }
    fn advance(&self, _: u64, _: u64) {}
    fn end(&self) {}
}

/// How many files were read while `work` ran.
pub fn files_read(work: impl FnOnce(&Ctx)) -> u64 {
    let recorder = Arc::new(Recorder::default());
    work(&Ctx::new().with_progress(recorder.clone()));
    let phases = recorder.0.lock().unwrap();
    phases.iter().filter(|(phase, _)| *phase == Phase::Storing).map(|(_, files)| files).sum()
}

pub fn take_in(yard: &Yard, source: &Path, build: &str) -> yard_twin::Result<intake::Outcome> {
    let mut options = intake::Options::new(source, "wexcombe".parse()?);
    options.build = Some(build.parse()?);
    let ctx = Ctx::new();
    intake::apply(yard, &intake::plan(yard, options, &ctx)?, &ctx)
}

pub fn clone(yard: &Yard, source: &str, name: &str, sharing: Sharing) -> yard_twin::Result<clone::Outcome> {
    let ctx = Ctx::new();
    let options = clone::Options { sharing: Some(sharing), ..clone::Options::default() };
    clone::apply(yard, &clone::plan(yard, &source.parse()?, &name.parse()?, options, &ctx)?, &ctx)
}

/// What is left in a yard's `tmp`.
pub fn leftovers(yard: &Path) -> Vec<PathBuf> {
    fs::read_dir(yard.join("tmp")).unwrap().map(|entry| entry.unwrap().path()).collect()
}
