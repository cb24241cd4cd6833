//! Archives that become a stock build: laid over each other in their order, and never unpacked to where a name says.

use std::collections::{BTreeMap, HashMap};
use std::fs;
use std::path::{Path, PathBuf};

use rustix::fs::FileType;

use crate::Yard;
use crate::archive::{self, Archive, Member, NameEncoding};
use crate::disk::op_folder::OpFolder;
use crate::disk::{self, Stat};
use crate::error::{Error, IntakeError, ModError, Noun, PathContext, Result};
use crate::ident::ContentId;
use crate::ops::intake::Archives;
use crate::ops::intake::source::provisional;
use crate::path::{RelPath, at_and_above, fold_key};
use crate::placing;
use crate::progress::Ctx;
use crate::scan::{Kind, Seen};
use crate::sheet::Sheet;
use crate::store::pool::Putter;
use crate::yard::moved::Moving;

/// Archives that were listed.
pub(crate) struct Packed {
    /// Each with how it looked.
    archives: Vec<(PathBuf, Stat)>,
    names: Option<NameEncoding>,
    /// What they hold by its path in them: the last one of them that has it, and which of its members it is. None for an
    /// empty folder.
    holds: BTreeMap<String, Option<(usize, Member)>>,
    /// The folder in which everything is that is taken in; empty for none.
    strip: String,
    /// Files that a later one has in place of an earlier one's.
    overlaps: Vec<String>,
    /// What lies beside the folder that is taken in, for people to read.
    beside: Vec<String>,
}

/// How the paths of several archives become one tree: names that differ by case only are one, spelt as it came first.
#[derive(Default)]
struct Tree {
    /// By the folded path: how it is spelt, and whether it is a folder.
    known: HashMap<String, (String, bool)>,
}

impl Tree {
    /// How a path is spelt here; `None` if something else is in its way.
    fn spelt(&mut self, path: &str, folder: bool) -> Option<String> {
        let mut spelt = String::new();
        let mut above: Vec<&str> = at_and_above(path).collect();
        above.reverse();
        for (at, upto) in above.iter().enumerate() {
            let is_folder = folder || at + 1 < above.len();
            let name = upto.rsplit('/').next().unwrap_or(upto);
            let new = || if spelt.is_empty() { name.to_owned() } else { format!("{spelt}/{name}") };
            let known = self.known.entry(fold_key(upto)).or_insert_with(|| (new(), is_folder));
            if known.1 != is_folder {
                return None;
            }
            spelt.clone_from(&known.0);
        }
        Some(spelt)
    }
}

impl Packed {
    /// Lists archives; parts that belong to them and are missing are an error before that. `op` is where one goes that is all
    /// another one holds.
    pub(crate) fn list(sources: Vec<PathBuf>, names: Option<NameEncoding>, op: &OpFolder, ctx: &Ctx) -> Result<Self> {
        let missing = missing_beside(&sources);
        if !missing.is_empty() {
            return Err(ModError::Parts { name: archive::name_of(&sources[0]), parts: missing }.into());
        }
        let mut packed = Self {
            archives: Vec::new(),
            names,
            holds: BTreeMap::new(),
            strip: String::new(),
            overlaps: Vec::new(),
            beside: Vec::new(),
        };
        let mut tree = Tree::default();
        for (at, source) in sources.into_iter().enumerate() {
            let stat = disk::lstat(&source).at("look at", &source)?;
            let listed = |archive: &mut Archive| Ok((archive.members().to_vec(), archive.empty_folders().to_vec()));
            let (members, folders) = packed.within(&source, op.path(), ctx, listed)?;
            let fault = |path: &str| IntakeError::Archive {
                path: source.clone(),
                why: format!("{path:?}: it is a file here and a folder in an earlier archive, or the other way round"),
            };
            for member in members {
                let path = tree.spelt(&member.path, false).ok_or_else(|| fault(&member.path))?;
                if packed.holds.insert(path.clone(), Some((at, member))).is_some() {
                    packed.overlaps.push(path);
                }
            }
            for folder in folders {
                let path = tree.spelt(&folder, true).ok_or_else(|| fault(&folder))?;
                packed.holds.entry(path).or_insert(None);
            }
            packed.archives.push((source, stat));
        }
        // A folder that one left empty may have been filled by another one.
        let full: Vec<String> =
            packed.holds.keys().flat_map(|path| at_and_above(path).skip(1)).map(Into::into).collect();
        for folder in full {
            if packed.holds.get(&folder).is_some_and(Option::is_none) {
                packed.holds.remove(&folder);
            }
        }
        if packed.holds.values().all(Option::is_none) {
            return Err(IntakeError::Nothing(packed.archives[0].0.clone()).into());
        }
        Ok(packed)
    }

    /// Does something with one of the archives, or with the one that is all it holds.
    fn within<T>(
        &self,
        source: &Path,
        op: &Path,
        ctx: &Ctx,
        work: impl FnOnce(&mut Archive) -> Result<T>,
    ) -> Result<T> {
        let scratch = op.join("archive");
        disk::make_folders(&scratch)?;
        let done =
            archive::opened(source, &scratch, self.names, &|_| false, ctx).and_then(|mut archive| work(&mut archive));
        disk::remove_tree(&scratch)?;
        done
    }

    /// Finds the folder in the archives that is the program's: the first one that has what a good copy has or, where that isn't
    /// known, what all is in.
    pub(crate) fn unwrap(&mut self, levels: Option<usize>, sheet: Option<&Sheet>) -> Result<()> {
        let paths: Vec<&str> = self.holds.keys().map(String::as_str).collect();
        let (strips, notes) = placing::wrappers(&paths);
        let beside = |strip: &str| -> Vec<String> {
            let outside = notes.iter().filter(|path| below(path, strip).is_none());
            outside.map(|path| (*path).to_owned()).collect()
        };
        let mut found = match levels {
            Some(levels) => Some(*strips.get(levels).ok_or_else(|| Error::Name {
                what: Noun::Folder,
                name: levels.to_string(),
                why: "the archive has not so many folders in one another that hold all of it",
            })?),
            None => None,
        };
        if let Some(sheet) = sheet.filter(|sheet| found.is_none() && !sheet.good.present.is_empty()) {
            for strip in &strips {
                let (missing, _) = sheet.faults(&provisional(&self.seen_in(strip)?)?);
                found = found.or(missing.is_empty().then_some(*strip));
            }
            found = found.or(strips.last().copied());
        }
        // What lies beside a folder may be the program's.
        let strip = found.or_else(|| strips.iter().rev().find(|strip| beside(strip).is_empty()).copied());
        let strip = strip.unwrap_or_default();
        (self.beside, self.strip) = (beside(strip), strip.to_owned());
        Ok(())
    }

    /// What is taken in, by its path in a twin.
    pub(crate) fn seen(&self) -> Result<Vec<Seen>> {
        self.seen_in(&self.strip)
    }

    /// The same, if all of that is in a folder.
    fn seen_in(&self, strip: &str) -> Result<Vec<Seen>> {
        let me = rustix::process::geteuid().as_raw();
        let (file, folder) = (FileType::RegularFile.as_raw_mode(), FileType::Directory.as_raw_mode());
        let mut seen = Vec::with_capacity(self.holds.len());
        for (path, held) in &self.holds {
            let Some(path) = below(path, strip) else { continue };
            let path = RelPath::new(format!("game/{path}"))?;
            let (kind, mode, size, mtime) = match held {
                None => (Kind::EmptyFolder, folder | 0o755, 0, 0),
                Some((_, member)) => {
                    let mode = if member.executable { 0o755 } else { 0o644 };
                    (Kind::File, file | mode, member.size, member.mtime)
                }
            };
            let stat =
                Stat { dev: 0, ino: 0, size, mtime, ctime: 0, mode, nlink: 1, rdev: 0, uid: me, allocated: size };
            seen.push(Seen { path, kind, stat });
        }
        seen.sort_unstable_by(|a, b| a.path.cmp(&b.path));
        Ok(seen)
    }

    /// Some of its files, in a folder of the name that the program's has in the archives, or that the first of them has.
    pub(crate) fn some(&self, wanted: &[&str], op: &OpFolder, ctx: &Ctx) -> Result<PathBuf> {
        let name = match self.strip.rsplit('/').next() {
            Some(name) if !name.is_empty() => name.to_owned(),
            _ => archive::stem(&archive::name_of(&self.archives[0].0)).to_owned(),
        };
        let folder = op.path().join("some").join(name);
        disk::make_folders(&folder)?;
        let from = if wanted.is_empty() { &[][..] } else { &self.archives };
        for (at, (source, _)) in from.iter().enumerate() {
            let of = |member: &Member| {
                let held = self.holds.iter().find(|(_, held)| matches!(held, Some((a, m)) if *a == at && m == member));
                held.and_then(|(path, _)| below(path, &self.strip)).filter(|path| wanted.contains(path))
            };
            let mut each = |member: &Member, from: &mut dyn std::io::Read| {
                let Some(path) = of(member) else { return Ok(()) };
                let to = RelPath::new(path)?.below(&folder);
                to.parent().map_or(Ok(()), disk::make_folders)?;
                let mut out = disk::create_exact(&to, 0o600).at("make", &to)?;
                std::io::copy(from, &mut out).at("write", &to).map(drop)
            };
            let names = |member: &Member| wanted.iter().any(|path| member.path.ends_with(path));
            self.within(source, op.path(), ctx, |archive| {
                if !archive.members().iter().any(names) {
                    return Ok(());
                }
                archive.read_each(&|member| names(member) && of(member).is_some(), &mut each, ctx)
            })?;
        }
        Ok(folder)
    }

    /// Reads all that was seen into the pool.
    pub(crate) fn read(
        &self,
        seen: &[Seen],
        putter: &Putter<'_>,
        contents: &mut [Option<ContentId>],
        ctx: &Ctx,
    ) -> Result<()> {
        let mut wanted: HashMap<(usize, usize), usize> = HashMap::new();
        for (path, held) in &self.holds {
            let (Some(path), Some((at, member))) = (below(path, &self.strip), held) else { continue };
            let path = RelPath::new(format!("game/{path}"))?;
            if let Ok(position) = seen.binary_search_by(|seen| seen.path.cmp(&path)) {
                wanted.insert((*at, member.index), position);
            }
        }
        let mut buffer = vec![0; disk::BUFFER];
        for (at, (source, _)) in self.archives.iter().enumerate() {
            let position = |member: &Member| wanted.get(&(at, member.index)).copied();
            let mut each = |member: &Member, from: &mut dyn std::io::Read| {
                let Some(position) = position(member) else { return Ok(()) };
                let (content, size) = ctx.file(seen[position].stat.size, |ctx| {
                    putter.put_read(from, member.mtime, source, &mut buffer, ctx)
                })?;
                if size != seen[position].stat.size {
                    return Err(IntakeError::Changed(source.clone()).into());
                }
                contents[position] = Some(content);
                Ok(())
            };
            self.within(source, putter.stage(), ctx, |archive| {
                archive.read_each(&|member| position(member).is_some(), &mut each, ctx)
            })?;
        }
        let missing = wanted.into_values().any(|position| contents[position].is_none());
        if missing { Err(IntakeError::Changed(self.archives[0].0.clone()).into()) } else { Ok(()) }
    }

    /// What there is to say of them.
    pub(crate) fn told(&self) -> Archives {
        Archives {
            from: self.archives.iter().map(|(path, _)| path.clone()).collect(),
            folder: Some(self.strip.clone()).filter(|strip| !strip.is_empty()),
            overlaps: self.overlaps.clone(),
            beside: self.beside.clone(),
        }
    }

    /// Whether the archives are as they were when they were listed.
    pub(crate) fn look_again(&self) -> Result<()> {
        for (path, stat) in &self.archives {
            if !disk::lstat(path).is_ok_and(|now| now.same_bytes(stat)) {
                return Err(IntakeError::Changed(path.clone()).into());
            }
        }
        Ok(())
    }

    /// What goes once it is taken in: the archives themselves.
    pub(crate) fn moving(&self) -> Vec<Moving> {
        let one =
            |(path, stat): &(PathBuf, Stat)| Moving { path: path.clone(), content: None, own: None, stat: Some(*stat) };
        self.archives.iter().map(one).collect()
    }
}

/// The rest of a path below a folder.
fn below<'a>(path: &'a str, folder: &str) -> Option<&'a str> {
    if folder.is_empty() { Some(path) } else { path.strip_prefix(folder)?.strip_prefix('/') }
}

/// The archives to be taken in, if the first thing that is named is one: by what they are called really.
pub(crate) fn archives(yard: &Yard, named: &[PathBuf]) -> Result<Option<Vec<PathBuf>>> {
    let found = named.iter().map(|path| disk::canonical(path)).collect::<Result<Vec<_>>>()?;
    if found.len() < 2 && found.iter().any(|path| path.is_dir()) {
        return Ok(None);
    }
    for (path, named) in found.iter().zip(named) {
        if path.starts_with(yard.root()) {
            return Err(IntakeError::InsideYard(named.clone()).into());
        }
        if path.is_dir() {
            let why = "it is a folder, and only archives are laid over each other".into();
            return Err(IntakeError::Archive { path: named.clone(), why }.into());
        }
        if !archive::is_archive(path)? {
            return Err(IntakeError::NotAnArchive(named.clone()).into());
        }
    }
    Ok(Some(found))
}

/// Parts that belong to some archives by their names, or by those of what lies beside them, and are not among them.
pub(crate) fn missing_beside(sources: &[PathBuf]) -> Vec<String> {
    let names: Vec<String> = sources.iter().map(|source| archive::name_of(source)).collect();
    let folder = sources.first().and_then(|source| source.parent());
    let beside = folder.and_then(|folder| fs::read_dir(folder).ok()).into_iter().flatten().flatten();
    let beside: Vec<String> = beside.map(|entry| entry.file_name().to_string_lossy().into_owned()).collect();
    placing::missing(&names, &beside)
}
