//! Promise 1 at each rung: whatever way a program takes to change a file of its twin, no other twin, stock build or content
//! is changed, or it is found and repaired; and from a sealed launch nothing outside can be changed at all.
//!
//! The tables that come of it are in docs/isolation.md; with `YARDTWIN_WRITE_DOCS` set they are written there.

mod list;
use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::process::Command;

use crate::support::common::{Place, is_root, look, skip};
use crate::support::{Desk, text};
use list::WAYS;

/// What a file is, down to what no listing holds.
#[derive(Debug, PartialEq, Eq)]
struct Exact {
    bytes: Vec<u8>,
    mode: u32,
    mtime: (i64, i64),
    attributes: Vec<u8>,
}

fn exactly(root: &Path) -> BTreeMap<PathBuf, Exact> {
    // The pool's ledger says how its files look, and is no content.
    let names = look(root).into_iter().filter(|(name, what)| what.0 == 'f' && name != "ledger");
    let names = names.map(|(name, _)| root.join(name));
    names.map(|path| (path.clone(), exact(&path).unwrap())).collect()
}

fn exact(path: &Path) -> Option<Exact> {
    let meta = path.symlink_metadata().ok()?;
    let mut attributes = vec![0; 4096];
    let length = rustix::fs::llistxattr(path, &mut attributes[..]).unwrap_or_default();
    attributes.truncate(length);
    Some(Exact { bytes: fs::read(path).ok()?, mode: meta.mode(), mtime: (meta.mtime(), meta.mtime_nsec()), attributes })
}

/// A bench with things to change files with, and a twin `b`.
fn workbench() -> Desk {
    Desk::bench(Place::for_launches(), &["b"], |build| {
        let base = rusqlite::Connection::open(build.join("data/base.lib")).unwrap();
        base.execute_batch("CREATE TABLE t (a); INSERT INTO t VALUES (1);").unwrap();
        base.close().unwrap();
        for action in ACTIONS {
            fs::write(build.join(format!("data/{action}.victim")), format!("to be harmed by {action}\n")).unwrap();
        }
        let parts = build.join("parts");
        fs::create_dir_all(parts.join("data")).unwrap();
        fs::create_dir_all(parts.join("tree")).unwrap();
        for path in ["new.txt", "data/target.txt", "tree/target.txt"] {
            fs::write(parts.join(path), "ONE\ntwo\nthree\nfour\n").unwrap();
        }
        fs::write(parts.join("meddle.py"), MEDDLE).unwrap();
        fs::write(parts.join("change.patch"), "--- a\n+++ b\n@@ -1,3 +1,3 @@\n-one\n+ONE\n two\n three\n").unwrap();
        // A way whose tool is missing is skipped by name later.
        let make = |tool: &str, arguments: [&str; 3], folder: &Path| {
            let _ = Command::new(tool).args(arguments).current_dir(folder).status();
        };
        make("zip", ["-q", "new.zip", "data/target.txt"], &parts);
        make("tar", ["cf", "new.tar", "data/target.txt"], &parts);
        make("zip", ["-q", "pack.lib", "target.txt"], &build.join("data"));
    })
}

fn has(tool: &str) -> bool {
    let paths = std::env::var_os("PATH").unwrap_or_default();
    std::env::split_paths(&paths).any(|folder| folder.join(tool).exists())
}

/// Whether this rung can be had here; where not, that is said by name.
fn possible(desk: &Desk, rung: &str, test: &str) -> bool {
    desk.ok(&["clone", "workbench@1", "asked"]);
    desk.ok(&["profile", "set", "asked", "isolation", rung]);
    let output = desk.run(&["launch", "asked", "--dry-run"]);
    desk.ok(&["remove", "asked", "--for-good", "--yes"]);
    if !output.status.success() {
        skip(&format!("{test}, {rung}"), text(&output.stderr).trim());
    }
    output.status.success()
}

/// Takes one way in a fresh twin, and says what came of it.
fn try_way(desk: &Desk, rung: &str, (name, _, script): (&str, &str, &str)) -> &'static str {
    let others = || (exactly(&desk.at("yard/twins/b/game")), exactly(&desk.at("yard/pool")));
    desk.ok(&["clone", &format!("as {rung}"), "a", "--share", "all"]);
    let (before, mine) = (others(), exactly(&desk.at("yard/twins/a/game")));
    let output = desk.run(&["launch", "a", "--json", "--", script]);
    let outcome: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap_or_default();
    let leaks = &outcome["report"]["leaks"];
    let count = |kind: &str| leaks[kind].as_array().map(Vec::len);
    // What a way leaves beside the files that were there is no change of them.
    let changed: Vec<_> =
        mine.iter().filter(|(path, was)| exact(path).as_ref() != Some(was)).map(|(path, _)| path).collect();
    let after = others();
    let said = fs::read_to_string(outcome["output"].as_str().unwrap_or_default()).unwrap_or_default();
    let what = format!("{name} at {rung}: {}{said}", text(&output.stderr));
    // What the run itself changed is in the pool now too.
    let pool_whole = before.1.iter().all(|(path, was)| after.1.get(path) == Some(was));
    let result = match (output.status.success(), count("damaged"), count("paths").zip(count("guarded"))) {
        (_, None, _) | (_, _, None) => panic!("{what}: no report"),
        (_, Some(1..), _) => "named",
        _ if before.0 != after.0 => panic!("{what}: the other twin is changed"),
        _ if !pool_whole => panic!("{what}: the pool is changed"),
        (_, _, Some((1.., _) | (_, 1..))) => "repaired",
        (true, ..) if !changed.is_empty() => "works",
        (false, ..) if changed.is_empty() => "refused",
        (works, ..) => panic!("{what}: {works}, and of the twin are changed: {changed:?}"),
    };
    desk.ok(&["remove", "a", "--for-good", "--yes"]);
    result
}

/// Takes every way at one rung; none for a rung or a way that can't be had here.
fn try_all(rung: &str) -> [Option<&'static str>; WAYS.len()] {
    let test = "each_way_to_change_a_file_changes_it_in_one_twin_only";
    let desk = workbench();
    let possible = possible(&desk, rung, test);
    let linked = desk.json(&["show", "b"])["shares"]["linked"]["files"].as_u64().unwrap() > 0;
    desk.ok(&["clone", "workbench@1", &format!("as {rung}")]);
    desk.ok(&["profile", "set", &format!("as {rung}"), "isolation", rung]);
    WAYS.map(|way| {
        if !has(way.1) {
            skip(&format!("{test}, {} at {rung}", way.0), &format!("there is no {}", way.1));
        }
        let result = (possible && has(way.1)).then(|| try_way(&desk, rung, way));
        if rung == "sealed" && result.is_some() {
            assert_eq!(result, Some("works"), "{} at sealed", way.0);
        }
        // Where blocks are shared, there is no guard that refuses anything.
        result.filter(|_| linked)
    })
}

#[test]
fn each_way_to_change_a_file_changes_it_in_one_twin_only() {
    let rungs = ["sealed", "fenced", "redirected"].map(|rung| std::thread::spawn(move || try_all(rung)));
    let results = rungs.map(|rung| rung.join().unwrap());
    let mut table = String::from("| way | sealed | fenced | redirected |\n| --- | --- | --- | --- |\n");
    for (number, (name, ..)) in WAYS.iter().enumerate() {
        let Some(line) = results.iter().map(|rung| rung[number]).collect::<Option<Vec<_>>>() else { return };
        writeln!(table, "| {name} | {} |", line.join(" | ")).unwrap();
    }
    documented("ways", &table);
}

/// What is tried on files that are not the twin's.
const ACTIONS: [&str; 9] = ["write", "create", "rename", "link", "truncate", "chmod", "utimes", "setxattr", "unlink"];

const MEDDLE: &str = "
import os, sys
place = sys.argv[1]
def attempt(what, action):
    try: action()
    except OSError: pass
def victim(what): return os.path.join(place, what + '.victim')
attempt('write', lambda: os.write(os.open(victim('write'), os.O_WRONLY), b'X'))
attempt('create', lambda: os.open(os.path.join(place, 'created'), os.O_CREAT | os.O_WRONLY))
attempt('rename', lambda: os.rename(victim('rename'), os.path.join(place, 'renamed')))
attempt('link', lambda: os.link(victim('link'), os.path.join(place, 'linked')))
attempt('truncate', lambda: os.truncate(victim('truncate'), 1))
attempt('chmod', lambda: os.chmod(victim('chmod'), 0o755))
attempt('utimes', lambda: os.utime(victim('utimes'), (1, 1)))
attempt('setxattr', lambda: os.setxattr(victim('setxattr'), 'user.mark', b'1'))
attempt('unlink', lambda: os.unlink(victim('unlink')))
";

/// What was done to the victims in a folder: an action for each file that is not as it was.
fn harmed(before: &BTreeMap<PathBuf, Exact>, folder: &Path) -> Vec<&'static str> {
    let now: BTreeMap<_, _> = before.keys().filter_map(|path| Some((path.clone(), exact(path)?))).collect();
    let made = |name: &str| folder.join(name).symlink_metadata().is_ok();
    let changed = |action: &&str| match *action {
        "create" => made("created"),
        "rename" => made("renamed"),
        "link" => made("linked"),
        action => {
            let path = folder.join(format!("{action}.victim"));
            before.get(&path) != now.get(&path)
        }
    };
    ACTIONS.into_iter().filter(changed).collect()
}

#[test]
fn nothing_outside_can_be_changed_from_a_sealed_launch_and_little_from_a_fenced_one() {
    let test = "nothing_outside_can_be_changed_from_a_sealed_launch_and_little_from_a_fenced_one";
    if !has("python3") {
        return skip(test, "there is no python3");
    }
    let desk = workbench();
    let mut table = String::from("| at | sealed | fenced |\n| --- | --- | --- |\n");
    let rungs = ["sealed", "fenced"].map(|rung| (rung, possible(&desk, rung, test)));
    let places = [
        ("the user's own home", desk.at("home")),
        (
            "the system's folder for temporary files",
            PathBuf::from("/tmp").join(format!("yt-meddled-{}", std::process::id())),
        ),
        ("the game folder of another twin", desk.at("yard/twins/b/game/data")),
        ("a stock build's contents in the pool", desk.at("yard/pool/victims")),
        ("the catalogue", desk.at("yard/catalogue")),
    ];
    for (name, folder) in &places {
        let mut line = Vec::new();
        for (rung, possible) in rungs {
            if !possible {
                line.push("not to be had".to_owned());
                continue;
            }
            desk.ok(&["clone", "workbench@1", "a", "--share", "all"]);
            desk.ok(&["profile", "set", "a", "isolation", rung]);
            desk.ok(&["profile", "set", "a", "yard", "shown"]);
            let harmed = meddle(&desk, folder, name);
            desk.ok(&["remove", "a", "--for-good", "--yes"]);
            if rung == "sealed" {
                assert!(harmed.is_empty(), "{name}: {harmed:?}");
            }
            line.push(if harmed.is_empty() { "nothing".into() } else { harmed.join(", ") });
        }
        writeln!(table, "| {name} | {} |", line.join(" | ")).unwrap();
    }
    if rungs.iter().all(|(_, possible)| *possible) {
        documented("escapes", &table);
    }
}

/// Has a program of the twin try everything on the victims in a place.
fn meddle(desk: &Desk, folder: &Path, name: &str) -> Vec<&'static str> {
    let run = |at: &Path| {
        let call = format!("python3 $p/meddle.py '{}'", at.display());
        let output = desk.run(&["launch", "a", "--", &call]);
        assert!(output.status.success(), "{name}: {}{}", text(&output.stdout), text(&output.stderr));
    };
    let own = !name.starts_with("the game folder");
    if own {
        // Victims of the same owner as what is meant: the pool's contents are read-only, as those of the pool are.
        desk.tool("mkdir").arg("-p").arg(folder).status().unwrap();
        for action in ACTIONS {
            let path = folder.join(format!("{action}.victim"));
            let made = desk.tool("sh").args(["-c", "echo whole > \"$1\"", "sh"]).arg(&path).status().unwrap();
            assert!(made.success());
            if name.contains("pool") {
                desk.tool("chmod").arg("444").arg(&path).status().unwrap();
            }
        }
    }
    let before: BTreeMap<_, _> = exactly(folder);
    run(folder);
    let harmed = harmed(&before, folder);
    if own {
        desk.tool("rm").arg("-rf").arg(folder).status().unwrap();
        desk.tool("mkdir").arg("-p").arg(desk.at("home")).status().unwrap();
    }
    harmed
}

/// Compares a table with the one in the documentation, or writes it there.
fn documented(name: &str, table: &str) {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/isolation.md");
    let page = fs::read_to_string(&path).unwrap();
    let (start, end) = (format!("<!-- {name} -->\n"), format!("<!-- end of {name} -->"));
    let (head, rest) = page.split_once(&start).unwrap();
    let (there, tail) = rest.split_once(&end).unwrap();
    if std::env::var_os("YARDTWIN_WRITE_DOCS").is_some() {
        fs::write(&path, format!("{head}{start}{table}{end}{tail}")).unwrap();
    } else {
        assert_eq!(there, table, "docs/isolation.md is not what is so: run with YARDTWIN_WRITE_DOCS=1");
    }
}

/// What is of the session, and no file: set up outside, tried from inside, looked at outside again. Says what got through.
const OUTSIDE: &str = "
import ctypes, json, os, pty, select, signal, struct, subprocess, sys
libc = ctypes.CDLL(None, use_errno=True)
program, call, session, landlock = sys.argv[1:]
if landlock == 'no':
    # As a kernel without it: landlock_create_ruleset is not there.
    code = struct.pack('HBBI' * 4, 32, 0, 0, 0, 21, 0, 1, 444, 6, 0, 0, 0x50026, 6, 0, 0, 0x7fff0000)
    held = ctypes.create_string_buffer(code)
    libc.prctl(38, 1, 0, 0, 0)
    if libc.prctl(22, 2, struct.pack('HxxxxxxP', 4, ctypes.addressof(held)), 0, 0): sys.exit('no filter')
add_key, keyctl = (248, 250) if os.uname().machine == 'x86_64' else (217, 219)
os.makedirs(session, exist_ok=True)
libc.syscall(keyctl, 1, None)
key = libc.syscall(add_key, b'user', b'yt-meddled', b'secret', 6, -3)
memory = libc.shmget(0, 64, 0o1600)
other, told = (os.path.join(session, name) for name in ('other', 'told'))
open(other, 'w').write('secret')
other_terminal, slave = pty.openpty()
shell, keyboard = pty.fork()
if shell == 0:
    reached = []
    signal.signal(signal.SIGUSR1, lambda *_: reached.append(1))
    words = [call, os.ttyname(slave), str(memory), session, '%d:%d' % (os.fstat(0).st_dev, os.fstat(0).st_ino)]
    ran = subprocess.run([program, 'launch', 'a', '--', ' '.join(words)])
    open(told, 'w').write(json.dumps({'programs of the same job': bool(reached), 'code': ran.returncode}))
    os._exit(0)
said = b''
while True:
    try: said += os.read(keyboard, 4096)
    except OSError: break
got = json.load(open(told))
if got.pop('code') != 0: sys.exit(said.decode())
got.update(json.loads(next(line for line in said.decode().splitlines() if line.startswith('{'))))
got['a terminal of another program'] = bool(select.select([other_terminal], [], [], 0.2)[0])
got['shared memory of other programs'] = libc.shmctl(memory, 2, ctypes.create_string_buffer(512)) < 0
libc.shmctl(memory, 0, None)
seen = 'files in the folder of the session'
got[seen] = got[seen] or open(other).read() != 'secret'
if key < 0: del got['keys of the session']
print(json.dumps(got))
";

const INSIDE: &str = "
import ctypes, json, os, signal, sys
terminal, memory, session, ours = sys.argv[1:]
libc = ctypes.CDLL(None, use_errno=True)
keyctl = 250 if os.uname().machine == 'x86_64' else 219
got = {'keys of the session': libc.syscall(keyctl, 10, -3, b'user', b'yt-meddled', 0) > 0}
libc.shmctl(int(memory), 0, None)
try: os.write(os.open(terminal, os.O_RDWR | os.O_NOCTTY), b'typed\\n')
except OSError: pass
other = os.path.join(session, 'other')
got['files in the folder of the session'] = os.path.exists(other)
try: open(other, 'w').write('meddled')
except OSError: pass
if not got['files in the folder of the session']: open(os.path.join(os.environ['XDG_RUNTIME_DIR'], 'socket'), 'w').write('works')
mine = ['%d:%d' % (os.fstat(file).st_dev, os.fstat(file).st_ino) for file in (0, 1, 2)]
got['the terminal that it is started at'] = ours in mine or not os.isatty(0)
signal.signal(signal.SIGUSR1, signal.SIG_IGN)
os.kill(0, signal.SIGUSR1)
# What only root could do: nothing is written.
switches = ['sysrq-trigger', 'irq/default_smp_affinity', 'sys/kernel/hostname', 'sys/vm/swappiness']
there = [path for path in switches if os.path.exists('/proc/' + path)]
def opens(path):
    try: os.close(os.open('/proc/' + path, os.O_WRONLY))
    except OSError: return False
    return True
if os.getuid() == 0 and there: got['switches of the system, for a program of root'] = any(map(opens, there))
print(json.dumps(got), flush=True)
";

/// A rung, and whether the kernel has Landlock for it.
const SESSIONS: [(&str, &str, &str); 4] = [
    ("sealed", "yes", "sealed"),
    ("sealed", "no", "sealed, without Landlock"),
    ("fenced", "yes", "fenced"),
    ("redirected", "yes", "redirected"),
];

#[test]
fn what_is_of_the_session_and_no_file_is_out_of_reach_of_a_sealed_program() {
    let test = "what_is_of_the_session_and_no_file_is_out_of_reach_of_a_sealed_program";
    if !has("python3") {
        return skip(test, "there is no python3");
    }
    let desk = workbench();
    fs::write(desk.at("outside.py"), OUTSIDE).unwrap();
    desk.ok(&["clone", "workbench@1", "a"]);
    fs::write(desk.game("a", "parts/inside.py"), INSIDE).unwrap();
    desk.place.give_away();
    let mut columns = Vec::new();
    for (rung, landlock, name) in SESSIONS {
        if !possible(&desk, rung, test) {
            continue;
        }
        desk.ok(&["profile", "set", "a", "isolation", rung]);
        let mut got = BTreeMap::new();
        for as_root in if is_root() { vec![false, true] } else { vec![false] } {
            got.extend(
                reached(&desk, rung, landlock, as_root)
                    .into_iter()
                    .filter(|(what, _)| as_root == what.contains("root")),
            );
        }
        for what in got.iter().filter(|(_, through)| **through) {
            assert_ne!(rung, "sealed", "{}, landlock {landlock}", what.0);
        }
        columns.push((name, got));
    }
    let rows: Vec<_> = columns.first().map(|(_, got)| got.keys().cloned().collect()).unwrap_or_default();
    if columns.len() == SESSIONS.len() && rows.len() == 7 {
        let names: Vec<_> = columns.iter().map(|(name, _)| *name).collect();
        let mut table = format!("| of the session | {} |\n|{}\n", names.join(" | "), " --- |".repeat(names.len() + 1));
        for row in rows {
            let words = columns.iter().map(|(_, got)| if got[&row] { "reached" } else { "nothing" });
            writeln!(table, "| {row} | {} |", words.collect::<Vec<_>>().join(" | ")).unwrap();
        }
        documented("session", &table);
    }
}

/// What a program of the twin reaches; as root, it is one of root's own copy of the yard.
fn reached(desk: &Desk, rung: &str, landlock: &str, as_root: bool) -> BTreeMap<String, bool> {
    let session = desk.at(if as_root { "session-of-root" } else { "session" });
    let mut outside = desk.tool("python3");
    if as_root {
        let yard = desk.at("yard-of-root");
        if !yard.exists() {
            assert!(Command::new("cp").arg("-r").arg(desk.at("yard")).arg(&yard).status().unwrap().success());
        }
        let settings =
            outside.get_envs().map(|(name, value)| (name.to_owned(), value.unwrap().to_owned())).collect::<Vec<_>>();
        outside = Command::new("python3");
        outside.env_clear().envs(settings).env("YARDTWIN_YARD", yard).current_dir(desk.root());
        let set = ["profile", "set", "a", "isolation", rung];
        let mut command = Command::new(desk.at("yardtwin"));
        let set = command.args(set).env("YARDTWIN_YARD", desk.at("yard-of-root")).output().unwrap();
        assert!(set.status.success(), "{}", text(&set.stderr));
    }
    outside
        .arg(desk.at("outside.py"))
        .arg(desk.at("yardtwin"))
        .arg("exec python3 $p/inside.py")
        .arg(&session)
        .arg(landlock)
        .env("XDG_RUNTIME_DIR", &session);
    let output = outside.output().unwrap();
    serde_json::from_slice(&output.stdout)
        .unwrap_or_else(|_| panic!("{rung}: {}{}", text(&output.stdout), text(&output.stderr)))
}
