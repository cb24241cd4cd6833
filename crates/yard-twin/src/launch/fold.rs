//! A run's layer: what a sealed program writes is kept apart, and folded back into the twin's folder when it is over.
//!
//! The layer is in the form that the kernel's overlay filesystem leaves (Documentation/filesystems/overlayfs.rst, with
//! `userxattr`): a character device 0:0 says that something is gone, the attribute `user.overlay.opaque` that a folder
//! hides what was there before. Every step of folding is a rename or a deletion and consumes the layer, so that what was
//! cut off is finished by doing it again.

use std::collections::HashMap;
use std::ffi::{OsStr, OsString};
use std::fs::{self, Metadata};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{FileTypeExt, MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use crate::disk;
use crate::error::{PathContext, Result};
use crate::listing::{Listing, Node};
use crate::path::RelPath;
use crate::yard::OpFolder;

/// The parts of a twin that a layer covers.
pub(super) const AREAS: [&str; 2] = ["game", "home"];

/// The folders of a layer that stand in for the system's for temporary files, and where those are.
pub(super) const TEMPORARY: [(&str, &str); 2] = [("tmp", "/tmp"), ("var-tmp", "/var/tmp")];

const OPAQUE: &str = "user.overlay.opaque";

/// What a run leaves in the attributes of its files, which mean nothing elsewhere.
const ATTRIBUTES: [&str; 6] = [
    OPAQUE,
    "user.overlay.origin",
    "user.overlay.impure",
    "user.overlay.nlink",
    "user.overlay.uuid",
    "user.overlay.protattr",
];

/// The folder of a run's layer, beside the twin's `game` and `home`.
#[derive(Clone, Debug)]
pub(crate) struct RunLayer {
    root: PathBuf,
}

/// What must be known to fold a layer back.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct About {
    /// The run that it is of.
    pub(crate) run: i64,
    /// Folders and files in the layer's own folders that were made to mount on, the innermost first.
    pub(crate) placeholders: Vec<String>,
}

/// How something in a layer differs from what was there.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum How {
    /// It was not there.
    New,
    /// It holds something else.
    Changed,
    /// It is gone.
    Gone,
}

/// What is at a path of a layer.
enum Kind {
    Gone,
    Folder,
    Other,
}

fn kind(meta: &Metadata) -> Kind {
    let file_type = meta.file_type();
    if file_type.is_char_device() && meta.rdev() == 0 {
        Kind::Gone
    } else if file_type.is_dir() {
        Kind::Folder
    } else {
        Kind::Other
    }
}

/// What is in a folder, in the order of names.
fn names(folder: &Path) -> Result<Vec<OsString>> {
    let entries = fs::read_dir(folder).at("list", folder)?;
    let mut names =
        entries.map(|entry| Ok(entry?.file_name())).collect::<std::io::Result<Vec<_>>>().at("list", folder)?;
    names.sort_unstable();
    Ok(names)
}

fn look(path: &Path) -> Result<Metadata> {
    path.symlink_metadata().at("look at", path)
}

fn is_folder(path: &Path) -> bool {
    path.symlink_metadata().is_ok_and(|meta| meta.is_dir())
}

fn is_opaque(folder: &Path) -> bool {
    let mut value = [0_u8; 4];
    rustix::fs::lgetxattr(folder, OPAQUE, &mut value).is_ok_and(|length| value[..length] == *b"y")
}

/// Makes sure that we may list a folder and change what is in it. Returns the mode that it had.
fn open_up(folder: &Path) -> Result<u32> {
    let mode = look(folder)?.permissions().mode() & 0o7777;
    if mode & 0o700 != 0o700 {
        disk::set_mode(folder, mode | 0o700)?;
    }
    Ok(mode)
}

/// The modes that folders of a layer had before they were opened up: written down before, so that a crash loses none. By
/// their paths below the layer, since a yard may be moved before it is folded.
struct Modes {
    layer: PathBuf,
    known: HashMap<PathBuf, u32>,
}

impl Modes {
    const FILE: &str = "modes";

    fn load(layer: &RunLayer) -> Result<Self> {
        let file = layer.root.join(Self::FILE);
        let text = match fs::read(&file) {
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Vec::new(),
            text => text.at("read", &file)?,
        };
        let mut known = HashMap::new();
        for line in text.split(|byte| *byte == 0) {
            let mut parts = line.splitn(2, |byte| *byte == b' ');
            let mode = parts.next().and_then(|mode| std::str::from_utf8(mode).ok()?.parse().ok());
            if let (Some(mode), Some(path)) = (mode, parts.next()) {
                // What was written first was there first.
                known.entry(PathBuf::from(OsStr::from_bytes(path))).or_insert(mode);
            }
        }
        Ok(Self { layer: layer.root.clone(), known })
    }

    /// As [`open_up`], for a folder of the layer; returns the mode that the program left it with.
    fn open_up(&mut self, folder: &Path) -> Result<u32> {
        let path = folder.strip_prefix(&self.layer).unwrap_or(folder);
        if let Some(mode) = self.known.get(path) {
            open_up(folder)?;
            return Ok(*mode);
        }
        let mode = look(folder)?.permissions().mode() & 0o7777;
        if mode & 0o700 != 0o700 {
            let line = [mode.to_string().as_bytes(), b" ", path.as_os_str().as_bytes(), b"\0"].concat();
            disk::append(&self.layer.join(Self::FILE), &line)?;
            self.known.insert(path.to_path_buf(), mode);
            open_up(folder)?;
        }
        Ok(mode)
    }
}

impl RunLayer {
    pub(crate) const FOLDER: &str = "layer";

    /// The layer of the twin in `folder`, if there is one or not.
    pub(crate) fn of(folder: &Path) -> Self {
        Self { root: folder.join(Self::FOLDER) }
    }

    pub(crate) fn root(&self) -> &Path {
        &self.root
    }

    /// Where changes to `game` or `home` go.
    pub(super) fn upper(&self, area: &str) -> PathBuf {
        self.root.join(area)
    }

    /// A folder of the kernel's own.
    pub(super) fn work(&self, area: &str) -> PathBuf {
        self.root.join("work").join(area)
    }

    /// A folder that stands in for one of the system's for temporary files.
    pub(super) fn temporary(&self, name: &str) -> PathBuf {
        self.root.join(name)
    }

    /// Makes an empty one.
    pub(super) fn make(&self, about: &About) -> Result<()> {
        for folder in AREAS.iter().flat_map(|area| [self.upper(area), self.work(area)]) {
            disk::make_folders(&folder)?;
        }
        for (name, _) in TEMPORARY {
            disk::make_folders(&self.temporary(name))?;
        }
        disk::write_json(&self.root.join("about.json"), std::iter::once(about))
    }

    pub(crate) fn exists(&self) -> bool {
        disk::exists(&self.root)
    }

    /// What it is of; `None` where that was never written.
    pub(crate) fn about(&self) -> Option<About> {
        let text = fs::read(self.root.join("about.json")).ok()?;
        serde_json::from_slice::<Vec<About>>(&text).ok()?.pop()
    }

    /// Takes out again what was made to mount on, where nothing has come into it.
    pub(super) fn tidy(&self) -> Result<()> {
        let placeholders = self.about().map(|about| about.placeholders).unwrap_or_default();
        for path in placeholders.iter().map(|path| self.root.join(path)) {
            match path.symlink_metadata() {
                // One that something has come into stays.
                Ok(meta) if meta.is_dir() => drop(disk::remove_folder(&path)),
                Ok(meta) if meta.is_file() && meta.len() == 0 => disk::remove_file(&path)?,
                _ => {}
            }
        }
        Ok(())
    }

    /// Whether nothing was written.
    pub(crate) fn is_empty(&self) -> bool {
        AREAS.iter().all(|area| fs::read_dir(self.upper(area)).map_or(true, |mut entries| entries.next().is_none()))
    }

    /// What is left in the folders for temporary files.
    pub(super) fn left_in_temporary(&self) -> Vec<PathBuf> {
        let left = TEMPORARY.iter().flat_map(|(name, place)| {
            let names = names(&self.temporary(name)).unwrap_or_default();
            names.into_iter().map(move |name| Path::new(place).join(name))
        });
        left.filter(|path| !path.ends_with(super::surroundings::COOKIE)).collect()
    }

    /// What the program changed, against what was there before it.
    pub(crate) fn changes(&self, folder: &Path, before: &Listing) -> Result<Vec<(RelPath, How)>> {
        let mut looking = Looking { twin: folder, before, modes: Modes::load(self)?, found: Vec::new() };
        for area in AREAS {
            let upper = self.upper(area);
            if is_folder(&upper) {
                looking.changes_in(&upper, &RelPath::new(area)?)?;
            }
        }
        let mut found = looking.found;
        found.sort_by(|a, b| crate::path::compare(a.0.as_str(), b.0.as_str()));
        found.dedup_by(|later, first| later.0 == first.0);
        Ok(found.into_iter().filter_map(|(path, how)| Some((path, how?))).collect())
    }

    /// Drops what the program changed in paths that `keep` does not hold; says what that is.
    pub(crate) fn keep_only(&self, folder: &Path, keep: impl Fn(&RelPath) -> bool) -> Result<Vec<String>> {
        let mut dropping = Dropping { keep, modes: Modes::load(self)?, dropped: Vec::new() };
        for area in AREAS {
            let upper = self.upper(area);
            if is_folder(&upper) {
                dropping.keep_in(&upper, &folder.join(area), area)?;
            }
        }
        Ok(dropping.dropped)
    }

    /// Folds everything back into the twin's `folder`; what it takes the place of goes to `out`.
    pub(crate) fn fold(&self, folder: &Path, out: &OpFolder) -> Result<()> {
        let mut folding = Folding { modes: Modes::load(self)?, out: out.path().join("out"), count: 0 };
        disk::make_folders(&folding.out)?;
        for area in AREAS {
            let (upper, target) = (self.upper(area), folder.join(area));
            if is_folder(&upper) {
                // The twin's own two folders keep the mode that they have.
                folding.fold(&upper, &target)?;
            }
        }
        Ok(())
    }

    /// Deletes it, and what it still holds.
    pub(crate) fn remove(&self) -> Result<()> {
        // What says whose it is goes last.
        if self.exists() {
            for path in names(&self.root)?.iter().filter(|name| *name != "about.json").map(|name| self.root.join(name))
            {
                if is_folder(&path) { disk::remove_tree(&path)? } else { disk::remove_file(&path)? }
            }
        }
        disk::remove_tree(&self.root)
    }
}

/// Folding a layer back.
struct Folding {
    modes: Modes,
    /// Where what is replaced goes.
    out: PathBuf,
    count: usize,
}

impl Folding {
    fn take_out(&mut self, path: &Path) -> Result<()> {
        if !disk::exists(path) {
            return Ok(());
        }
        self.count += 1;
        // A folder that may not be written can't be moved: the entry in it that leads upward would change.
        if is_folder(path) {
            open_up(path)?;
        }
        disk::rename(path, &self.out.join(self.count.to_string()))
    }

    /// Folds what is in `upper` into `target`. Returns the mode that the program left the folder with.
    fn fold(&mut self, upper: &Path, target: &Path) -> Result<u32> {
        let mode = self.modes.open_up(upper)?;
        open_up(target)?;
        for name in names(upper)? {
            let (from, to) = (upper.join(&name), target.join(&name));
            match kind(&look(&from)?) {
                Kind::Gone => {
                    self.take_out(&to)?;
                    disk::remove_file(&from)?;
                }
                Kind::Folder => self.fold_folder(&from, &to)?,
                Kind::Other => {
                    strip(&from)?;
                    if is_folder(&to) {
                        self.take_out(&to)?;
                    }
                    disk::rename(&from, &to)?;
                }
            }
        }
        Ok(mode)
    }

    fn fold_folder(&mut self, from: &Path, to: &Path) -> Result<()> {
        let hides = is_opaque(from);
        if hides || !is_folder(to) {
            let mode = self.clean(from)?;
            self.take_out(to)?;
            // Not before: it says that what was there goes, to whoever has to do this again.
            strip(from)?;
            if mode & 0o700 == 0o700 {
                return disk::rename(from, to);
            }
            // A folder of that mode can't be moved.
            disk::make_folder(to)?;
        }
        let mode = self.fold(from, to)?;
        disk::set_mode(to, mode)?;
        disk::remove_folder(from)
    }

    /// Makes what is in a folder that is moved as a whole ordinary. Returns the folder's own mode.
    fn clean(&mut self, folder: &Path) -> Result<u32> {
        let mode = self.modes.open_up(folder)?;
        for name in names(folder)? {
            let path = folder.join(&name);
            match kind(&look(&path)?) {
                Kind::Gone => disk::remove_file(&path)?,
                Kind::Folder => {
                    let mode = self.clean(&path)?;
                    strip(&path)?;
                    if mode & 0o700 != 0o700 {
                        disk::set_mode(&path, mode)?;
                    }
                }
                Kind::Other => strip(&path)?,
            }
        }
        Ok(mode)
    }
}

/// Takes the layer's own attributes off; most files have none.
fn strip(path: &Path) -> Result<()> {
    let mut list = [0_u8; 4096];
    let length = rustix::fs::llistxattr(path, &mut list[..]).unwrap_or_default();
    for name in
        ATTRIBUTES.iter().filter(|name| list[..length].split(|byte| *byte == 0).any(|there| there == name.as_bytes()))
    {
        disk::remove_attribute(path, name)?;
    }
    Ok(())
}

/// Looking at what a program changed.
struct Looking<'a> {
    twin: &'a Path,
    before: &'a Listing,
    modes: Modes,
    /// Paths of the layer; `None` for one that holds what was there before.
    found: Vec<(RelPath, Option<How>)>,
}

impl Looking<'_> {
    /// What was there at and below a path.
    fn gone(&mut self, path: &RelPath) {
        let entries = &self.before.entries()[self.before.range(path.as_str())];
        let real = entries.iter().filter(|entry| entry.node != Node::EmptyFolder);
        self.found.extend(real.map(|entry| (entry.path.clone(), Some(How::Gone))));
    }

    fn changes_in(&mut self, upper: &Path, at: &RelPath) -> Result<()> {
        self.modes.open_up(upper)?;
        for name in names(upper)? {
            // What no listing can hold is no change of it: the next look names it.
            let Some(path) = name.to_str().and_then(|name| at.join(name).ok()) else { continue };
            let from = upper.join(&name);
            let meta = look(&from)?;
            let was = self.before.get(path.as_str()).map(|entry| &entry.node);
            match kind(&meta) {
                Kind::Gone => self.gone(&path),
                Kind::Folder => {
                    let hides = is_opaque(&from) || was.is_some();
                    self.changes_in(&from, &path)?;
                    // What came first stays: what is in the folder now.
                    if hides {
                        self.gone(&path);
                    }
                }
                Kind::Other if !meta.is_file() && !meta.is_symlink() => {}
                Kind::Other => match was {
                    Some(node) if is_same(node, &from, &meta, &path.below(self.twin))? => self.found.push((path, None)),
                    Some(Node::EmptyFolder) | None => {
                        self.found.push((path.clone(), Some(How::New)));
                        self.gone(&path);
                    }
                    Some(_) => self.found.push((path, Some(How::Changed))),
                },
            }
        }
        Ok(())
    }
}

/// Whether a file or symlink of a layer holds what was there before; a program that only sets its mode or its time
/// has it copied into the layer too.
fn is_same(node: &Node, from: &Path, meta: &Metadata, lower: &Path) -> Result<bool> {
    match node {
        Node::Symlink { target } => Ok(fs::read_link(from).is_ok_and(|now| now == Path::new(&**target))),
        Node::File { size, executable, .. } if meta.is_file() && *size == meta.len() => {
            let mode = meta.permissions().mode();
            let bits = (mode & 0o111 != 0) == *executable;
            if bits
                && lower
                    .symlink_metadata()
                    .is_ok_and(|was| was.mtime_nsec() == meta.mtime_nsec() && was.mtime() == meta.mtime())
            {
                return Ok(true);
            }
            if mode & 0o400 == 0 {
                return Ok(false);
            }
            Ok(bits && same_bytes(from, lower)?)
        }
        _ => Ok(false),
    }
}

fn same_bytes(a: &Path, b: &Path) -> Result<bool> {
    use std::io::{BufRead, BufReader};
    let open = |path: &Path| -> Result<_> {
        Ok(BufReader::with_capacity(disk::BUFFER, fs::File::open(path).at("read", path)?))
    };
    let (mut a_file, mut b_file) = (open(a)?, open(b)?);
    loop {
        let (left, right) = (a_file.fill_buf().at("read", a)?, b_file.fill_buf().at("read", b)?);
        let length = left.len().min(right.len());
        if length == 0 {
            return Ok(left.len() == right.len());
        }
        if left[..length] != right[..length] {
            return Ok(false);
        }
        a_file.consume(length);
        b_file.consume(length);
    }
}

/// Dropping what a program may not change.
struct Dropping<F> {
    keep: F,
    modes: Modes,
    dropped: Vec<String>,
}

impl<F: Fn(&RelPath) -> bool> Dropping<F> {
    fn keep_in(&mut self, upper: &Path, target: &Path, at: &str) -> Result<()> {
        self.modes.open_up(upper)?;
        for name in names(upper)? {
            let (from, to) = (upper.join(&name), target.join(&name));
            let path = format!("{at}/{}", show(&name));
            if name.to_str().is_some_and(|_| RelPath::new(&path).is_ok_and(|path| (self.keep)(&path))) {
                continue;
            }
            match kind(&look(&from)?) {
                Kind::Folder => {
                    self.modes.open_up(&from)?;
                    // What it hid is seen again.
                    disk::remove_attribute(&from, OPAQUE)?;
                    self.keep_in(&from, &to, &path)?;
                    let (was_folder, empty) = (is_folder(&to), names(&from)?.is_empty());
                    if !was_folder && (empty || disk::exists(&to)) {
                        self.dropped.push(path);
                        disk::remove_tree(&from)?;
                    } else if empty {
                        disk::remove_folder(&from)?;
                    }
                }
                Kind::Gone | Kind::Other => {
                    self.dropped.push(path);
                    disk::remove_file(&from)?;
                }
            }
        }
        Ok(())
    }
}

fn show(name: &OsStr) -> String {
    String::from_utf8_lossy(name.as_bytes()).into_owned()
}
