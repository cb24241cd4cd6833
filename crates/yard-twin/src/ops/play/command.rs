//! Which program starts a twin, with which arguments, where.

use std::io::Read;
use std::path::{Path, PathBuf};

use crate::disk;
use crate::error::{Error, LaunchError, Result};
use crate::path::RelPath;
use crate::profile::Profile;
use crate::sheet::{PathSet, Sheet};

/// The program that is chosen: paths below the game folder.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Chosen {
    pub(crate) program: String,
    pub(crate) arguments: Vec<String>,
    pub(crate) folder: String,
    /// Whether it may be started again while it runs.
    pub(crate) several: bool,
}

/// The program that the profile names, else the sheet's.
pub(crate) fn choose(sheet: Option<&Sheet>, profile: &Profile) -> Option<Chosen> {
    let named = profile.program.as_ref().or_else(|| sheet?.program.as_ref())?;
    let known = sheet.and_then(|sheet| sheet.programs.get(named));
    let mut chosen = match known {
        Some(program) => Chosen {
            program: program.here()?.to_owned(),
            arguments: program.arguments.clone(),
            folder: program.folder.clone(),
            several: program.several,
        },
        // A path of its own: it starts in the game folder.
        None => Chosen { program: named.clone(), arguments: Vec::new(), folder: String::new(), several: false },
    };
    if let Some(arguments) = &profile.arguments {
        chosen.arguments.clone_from(arguments);
    }
    Some(chosen)
}

/// The path that a program's is, where it is a pattern (`bin/hills*`): of the one file below the game folder that it matches.
pub(crate) fn resolved(game: &Path, path: &str) -> Result<String> {
    if !is_pattern(path) || RelPath::new(path)?.below(game).exists() {
        return Ok(path.to_owned());
    }
    let mut found = vec![String::new()];
    for part in path.split('/') {
        let set = PathSet::new([part], false).map_err(|_| LaunchError::ProgramMissing(game.join(path)))?;
        let mut next = Vec::new();
        for folder in found {
            // What can't be listed has no program that could be started.
            let Ok(entries) = std::fs::read_dir(game.join(&folder)) else { continue };
            let names = entries.filter_map(|entry| entry.ok()?.file_name().into_string().ok());
            let fits = names.filter(|name| if is_pattern(part) { set.contains(name) } else { name == part });
            next.extend(fits.map(|name| if folder.is_empty() { name } else { format!("{folder}/{name}") }));
        }
        found = next;
    }
    found.retain(|path| game.join(path).is_file());
    found.sort_unstable();
    match found.as_slice() {
        [one] => Ok(one.clone()),
        [] => Err(LaunchError::ProgramMissing(game.join(path)).into()),
        _ => Err(LaunchError::SeveralPrograms { pattern: path.into(), found }.into()),
    }
}

fn is_pattern(path: &str) -> bool {
    path.contains(['*', '?'])
}

/// Whether the program that a profile names can be one: a program of the sheet, or a path inside the game folder.
pub(crate) fn check_program(profile: &Profile, sheet: Option<&Sheet>, game: &Path) -> Result<()> {
    let Some(named) = &profile.program else { return Ok(()) };
    if sheet.is_some_and(|sheet| sheet.programs.contains_key(named)) {
        return Ok(());
    }
    if RelPath::new(named.as_str()).is_ok() {
        return resolved(game, named).map(drop);
    }
    let why = "it is neither a program of the title sheet nor a path inside the game folder".into();
    Err(LaunchError::Setting { key: "program".into(), what: "set", why }.into())
}

/// Where the chosen program and its working folder are, if they are there and nothing leads out of the game folder. One
/// that a wrapper starts need not be a program of this system.
pub(crate) fn locate(chosen: &Chosen, game: &Path, wrapped: bool) -> Result<(PathBuf, PathBuf)> {
    let program = inside(game, &chosen.program)?;
    let stat = match program.metadata() {
        Ok(meta) if meta.is_file() => meta,
        _ => return Err(LaunchError::ProgramMissing(program).into()),
    };
    if !wrapped {
        if std::os::unix::fs::PermissionsExt::mode(&stat.permissions()) & 0o111 == 0 {
            return Err(LaunchError::NotExecutable(program).into());
        }
        if let Some(why) = why_not_a_program(&program) {
            return Err(LaunchError::NotAProgram { path: program, why }.into());
        }
    }
    let folder = if chosen.folder.is_empty() { game.to_path_buf() } else { inside(game, &chosen.folder)? };
    if folder.is_dir() { Ok((program, folder)) } else { Err(LaunchError::ProgramMissing(folder).into()) }
}

/// Why the system would not start a file, as far as its first bytes tell. The C library would have a shell read whatever
/// the kernel refuses, line by line.
fn why_not_a_program(path: &Path) -> Option<String> {
    let head = head_of(path)?;
    if let Some(line) = head.strip_prefix(b"#!") {
        return why_no_interpreter(line);
    }
    // Formats that somebody has registered are the kernel's to know.
    if head_of(Path::new("/proc/sys/fs/binfmt_misc/status")).is_some_and(|status| status.starts_with(b"enabled"))
        && std::fs::read_dir("/proc/sys/fs/binfmt_misc").is_ok_and(|entries| entries.count() > 2)
    {
        return None;
    }
    let (Some(its), ours) = (machine(&head), machine(&head_of(Path::new("/proc/self/exe"))?)) else {
        return Some("it is neither a program of this system nor a script that names its interpreter".into());
    };
    // A 64-bit kernel of these two starts 32-bit programs too.
    let fits = ours.is_none_or(|ours| its == ours || [(3, 62), (40, 183)].contains(&(its, ours)));
    (!fits).then(|| "it is for another kind of processor".into())
}

/// What is wrong with the interpreter that a script's first line names.
fn why_no_interpreter(line: &[u8]) -> Option<String> {
    let line = line.split(|byte| *byte == b'\n').next()?;
    let words = String::from_utf8_lossy(line).into_owned();
    let interpreter = words.trim_start_matches([' ', '\t']).split([' ', '\t']).next()?;
    if let Some(name) = interpreter.strip_suffix('\r') {
        let with_unix_ends = "save it with Unix line ends";
        return Some(format!("its first line ends as on Windows, so that {name:?} isn't found: {with_unix_ends}"));
    }
    let missing = Path::new(interpreter).is_absolute() && !disk::exists(Path::new(interpreter));
    missing.then(|| format!("its interpreter {interpreter} is missing"))
}

/// The first bytes of a file, if it can be read.
fn head_of(path: &Path) -> Option<Vec<u8>> {
    let mut head = Vec::new();
    std::fs::File::open(path).ok()?.take(256).read_to_end(&mut head).ok()?;
    Some(head)
}

/// The kind of processor that an ELF file is for (`e_machine`, in the byte order that `EI_DATA` says).
fn machine(head: &[u8]) -> Option<u16> {
    let bytes: [u8; 2] = head.get(18..20)?.try_into().ok()?;
    match (head.starts_with(b"\x7fELF"), head.get(5)?) {
        (true, 1) => Some(u16::from_le_bytes(bytes)),
        (true, 2) => Some(u16::from_be_bytes(bytes)),
        _ => None,
    }
}

/// The path below `game`, if it really is there once every symlink is followed.
fn inside(game: &Path, path: &str) -> Result<PathBuf> {
    let missing = || Error::from(LaunchError::ProgramMissing(game.join(path)));
    let below = RelPath::new(path)?.below(game);
    let real = disk::canonical(&below).map_err(|_| missing())?;
    if real.starts_with(disk::canonical(game)?) { Ok(below) } else { Err(missing()) }
}
