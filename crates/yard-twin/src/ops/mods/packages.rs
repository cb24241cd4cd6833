//! Packages: read from where they were downloaded to, and kept in the yard once for all twins.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use serde::Serialize;

use crate::Yard;
use crate::archive::{self, NameEncoding};
use crate::catalog::PackageRow;
use crate::disk::op_folder::OpFolder;
use crate::disk::{self, Stat};
use crate::error::{Error, IntakeError, ModError, Noun, PathContext, Result};
use crate::ident::{ModId, ModName, Title, TwinName};
use crate::listing::{Entry, Listing, Node, Totals};
use crate::ops::intake::packed::missing_beside;
use crate::path::RelPath;
use crate::placing::{self, ModSheet, Package, ROOT, SHEET};
use crate::progress::{Ctx, Phase};
use crate::scan::{Kind, Manner, Seen, walk};
use crate::sheet;
use crate::sheet::PathSet;
use crate::store::pool::Putter;
use crate::twin::change;

/// What a package is read by, beside what it says itself.
#[derive(Clone, Debug, Default)]
pub struct ReadOptions {
    /// What the mod is to be called; without it, as its sheet says, or as its first file is called.
    pub name: Option<ModName>,
    /// A mod sheet outside of the package.
    pub sheet: Option<PathBuf>,
    /// How names in archives are written that are not UTF-8.
    pub names: Option<NameEncoding>,
}

/// A package that was read: its contents are in the pool. It is kept once it is added to a twin.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Packed {
    /// What it is.
    pub package: Package,
    /// What its sheet says.
    pub sheet: ModSheet,
    /// How much it holds.
    pub totals: Totals,
    /// Files that later parts have in place of those of earlier ones.
    pub overlaps: Vec<String>,
    /// The names of what it was read from.
    pub origin: String,
    /// Whether it is the item itself, to be placed as it is.
    pub(crate) whole: bool,
    #[serde(skip)]
    pub(crate) files: Listing,
    /// What was read, and how it looked; folders have none, and come last.
    #[serde(skip)]
    pub(crate) read: Vec<(PathBuf, Option<Stat>)>,
}

/// Reads a package, of one file or folder or of several that belong together: later ones lie over earlier ones. Everything
/// in it is read once.
///
/// # Errors
/// [`ModError::Parts`] if parts are missing, before anything is read; [`IntakeError::Archive`] for archives that
/// can't be read; [`crate::SheetError`] for a mod sheet that is wrong; [`ModError::Nothing`] if there is nothing in it.
pub fn read(yard: &Yard, sources: &[PathBuf], title: &Title, options: &ReadOptions, ctx: &Ctx) -> Result<Packed> {
    let sources = sources.iter().map(|source| disk::canonical(source)).collect::<Result<Vec<_>>>()?;
    let Some(first) = sources.first() else { return Err(ModError::Nothing(PathBuf::new()).into()) };
    let names: Vec<String> = sources.iter().map(|source| archive::name_of(source)).collect();
    let told =
        options.sheet.as_deref().map(|path| Ok::<_, Error>((sheet::read_text(path)?, path.to_owned()))).transpose()?;
    let known = told.as_ref().map(|(text, path)| placing::read_sheet(text, path)).transpose()?;
    check_parts(&sources, &names, known.as_ref(), options)?;
    let title_sheet = yard.sheet(title)?;
    let wholes = title_sheet.as_ref().map_or(&[][..], |sheet| &sheet.mods.whole);
    let wholes = PathSet::new(wholes.iter().map(String::as_str), true).unwrap_or_default();
    let op = yard.begin(ctx)?;
    let putter = Putter::new(&yard.store.pool, op.path(), yard.known_sizes()?)?;
    let mut reading = Reading {
        entries: BTreeMap::new(),
        overlaps: Vec::new(),
        read: Vec::new(),
        wholes: &wholes,
        names: options.names,
        putter: &putter,
        op: &op,
        ctx,
    };
    let whole = sources.len() == 1 && !first.is_dir() && wholes.contains(&names[0]);
    sources.iter().try_for_each(|source| if whole { reading.file(source) } else { reading.source(source) })?;
    let Reading { entries, overlaps, read, .. } = reading;
    let inner = entries.get(&RelPath::new(format!("{ROOT}/{SHEET}"))?).cloned();
    let files = Listing::with_folders_implied(entries.into_values().collect())?;
    change::publish(yard, putter, &op, None, ctx)?;
    let (text, sheet) = match (told, known, inner.and_then(|entry| entry.node.content())) {
        (Some((text, _)), Some(sheet), _) => (text, sheet),
        (_, _, Some(content)) => {
            let bytes = crate::twin::vouch::bytes_of(yard, content)?;
            let text = String::from_utf8_lossy(&bytes).into_owned();
            let sheet = placing::read_sheet(&text, &first.join(SHEET))?;
            check_parts(&sources, &names, Some(&sheet), options)?;
            (text, sheet)
        }
        _ => (String::new(), ModSheet::default()),
    };
    if files.totals().files == 0 && sheet.remove.is_empty() && sheet.edit.is_empty() {
        return Err(ModError::Nothing(first.clone()).into());
    }
    let name = match options.name.clone().or_else(|| sheet.name.clone()) {
        Some(name) => name,
        None => name_of(&names[0])?,
    };
    let package = Package::new(name, title.clone(), files.id(), (&sheet, text));
    Ok(Packed { package, totals: files.totals(), sheet, overlaps, origin: names.join(", "), whole, files, read })
}

/// A package that the yard keeps, by the mod's name.
///
/// # Errors
/// [`Error::NotFound`] if none is called so.
pub fn kept_package(yard: &Yard, title: &Title, name: &ModName) -> Result<Packed> {
    let rows: Vec<PackageRow> = yard.catalog.packages()?.into_iter().filter(|row| row.title == *title).collect();
    let Some(row) = rows.iter().find(|row| row.name.key() == name.key()) else {
        let known = rows.iter().map(|row| row.name.to_string()).collect();
        return Err(Error::NotFound { what: Noun::Mod, name: name.to_string(), known });
    };
    packed(yard, row.id, &row.origin)
}

fn packed(yard: &Yard, id: ModId, origin: &str) -> Result<Packed> {
    let package = yard.store.package(id)?;
    let sheet = placing::read_sheet(&package.sheet, &PathBuf::from(format!("mod sheet of {}", package.name)))?;
    let files = yard.store.listing(package.files)?;
    let (totals, origin) = (files.totals(), origin.to_owned());
    Ok(Packed { package, sheet, totals, overlaps: Vec::new(), origin, whole: false, files, read: Vec::new() })
}

/// A package in the yard.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Kept {
    /// Its id.
    pub id: ModId,
    /// What the mod is called.
    pub name: ModName,
    /// Which version of it this is.
    pub version: Option<String>,
    /// The title that it is for.
    pub title: Title,
    /// What it was read from.
    pub origin: String,
    /// When it was added last.
    pub added_at: Timestamp,
    /// How much it holds.
    pub totals: Totals,
    /// The twins that have it now.
    pub twins: Vec<TwinName>,
}

/// All packages that the yard keeps, by title and name.
///
/// # Errors
/// [`Error::Io`].
pub fn kept(yard: &Yard) -> Result<Vec<Kept>> {
    let mut users: Vec<(TwinName, Vec<ModId>)> = Vec::new();
    for row in yard.catalog.twins()?.into_iter().filter(|row| row.removed_at.is_none()) {
        // A twin whose state can't be read is named by a check.
        if let Some(state) = Error::pass_over(yard.store.state(row.state))? {
            users.push((row.name, state.mods.iter().map(|used| used.id).collect()));
        }
    }
    let mut all = Vec::new();
    for row in yard.catalog.packages()? {
        // A record that is lost is named by a check of the twins that need it.
        let Some(package) = Error::pass_over(yard.store.package(row.id))? else { continue };
        let twins = users.iter().filter(|(_, ids)| ids.contains(&row.id)).map(|(name, _)| name.clone());
        all.push(Kept {
            id: row.id,
            twins: twins.collect(),
            totals: yard.totals(package.files)?,
            name: package.name,
            version: package.version,
            title: package.title,
            origin: row.origin,
            added_at: row.added_at,
        });
    }
    Ok(all)
}

/// Deletes what a package was read from, as far as it is still as it was read, and the folders that are empty then. Gives what
/// stays.
///
/// # Errors
/// [`Error::Io`].
pub fn take_away(packed: &Packed) -> Result<Vec<String>> {
    let mut left = Vec::new();
    for (path, stat) in packed.read.iter().filter_map(|(path, stat)| Some((path, (*stat)?))) {
        match disk::lstat(path) {
            Ok(now) if now.same_bytes(&stat) => disk::remove_file(path)?,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {}
            _ => left.push(path.display().to_string()),
        }
    }
    for (folder, _) in packed.read.iter().filter(|(_, stat)| stat.is_none()) {
        let folders = packed.read.iter().filter_map(|(path, stat)| stat.is_some().then(|| path.parent()).flatten());
        let mut inside: Vec<&Path> = folders
            .flat_map(Path::ancestors)
            .filter(|path| path.starts_with(folder))
            .chain([folder.as_path()])
            .collect();
        inside.sort_unstable_by_key(|path| std::cmp::Reverse(path.components().count()));
        inside.dedup();
        // What still holds something stays.
        inside.into_iter().for_each(|path| drop(fs::remove_dir(path)));
    }
    Ok(left)
}

/// Keeps a package, if it is not kept yet: durable when it returns.
pub(super) fn keep(yard: &Yard, packed: &Packed, ctx: &Ctx) -> Result<ModId> {
    let op = yard.begin(ctx)?;
    let _alone = yard.alone(ctx)?;
    yard.store.put_listing(&packed.files, None, &op)?;
    let id = yard.store.put_package(&packed.package, &op)?;
    let row = PackageRow {
        id,
        title: packed.package.title.clone(),
        name: packed.package.name.clone(),
        origin: packed.origin.clone(),
        added_at: Timestamp::now(),
    };
    yard.catalog.together(|| yard.catalog.add_package(&row))?;
    Ok(id)
}

/// A mod's name, of what a file or folder is called: without endings of archives.
fn name_of(file: &str) -> Result<ModName> {
    let fits = |c: char| if c.is_control() || "/\\<>:\"|?*@".contains(c) { ' ' } else { c };
    let name: String = archive::stem(file).chars().map(fits).collect();
    ModName::new(name.trim_start_matches(['-', '.', ' ']).trim_end_matches(['.', ' ']))
}

/// An error if archives that belong together are not all there.
fn check_parts(sources: &[PathBuf], names: &[String], sheet: Option<&ModSheet>, options: &ReadOptions) -> Result<()> {
    let wanted = sheet.map_or(&[][..], |sheet| &sheet.parts);
    let has = |part: &&String| {
        PathSet::new([part.as_str()], true).is_ok_and(|set| names.iter().any(|name| set.contains(name)))
    };
    let mut missing: Vec<String> = wanted.iter().filter(|part| !has(part)).cloned().collect();
    if wanted.is_empty() {
        missing = missing_beside(sources);
    }
    if missing.is_empty() {
        return Ok(());
    }
    let name = options.name.as_ref().map(ToString::to_string).or_else(|| names.first().cloned());
    Err(ModError::Parts { name: name.unwrap_or_default(), parts: missing }.into())
}

/// A package while it is read.
struct Reading<'a> {
    entries: BTreeMap<RelPath, Entry>,
    overlaps: Vec<String>,
    read: Vec<(PathBuf, Option<Stat>)>,
    wholes: &'a PathSet,
    names: Option<NameEncoding>,
    putter: &'a Putter<'a>,
    op: &'a OpFolder,
    ctx: &'a Ctx,
}

impl Reading<'_> {
    fn source(&mut self, source: &Path) -> Result<()> {
        match () {
            () if source.is_dir() => self.folder(source),
            () if archive::is_archive(source)? => self.archive(source),
            () if archive::is_program(source)? => {
                let why = "it is a program. If it is an installer, run it: yardtwin tool. If it belongs into the game as it is, put it into \
                           a folder, and add that";
                Err(IntakeError::Archive { path: source.into(), why: why.into() }.into())
            }
            () => self.file(source),
        }
    }

    fn add(&mut self, below: &str, node: Node, mtime: i64) -> Result<()> {
        let path = RelPath::new(format!("{ROOT}/{below}"))?;
        let before = self.entries.insert(path.clone(), Entry { path, node, mtime });
        if before.is_some_and(|before| before.node != Node::EmptyFolder) {
            self.overlaps.push(below.to_owned());
        }
        Ok(())
    }

    /// One file, as it is.
    fn file(&mut self, source: &Path) -> Result<()> {
        let file = disk::open_file(rustix::fs::CWD, source).at("read", source)?;
        let stat = disk::fstat(&file).at("look at", source)?;
        let mut buffer = vec![0; disk::BUFFER];
        let put = |ctx: &Ctx| self.putter.put(&file, &stat, source, &mut buffer, ctx);
        let content = self.ctx.phase(Phase::Storing, 1, stat.size, || self.ctx.file(stat.size, put))?;
        self.read.push((source.into(), Some(stat)));
        let node = Node::File { content, size: stat.size, executable: stat.executable() };
        self.add(&archive::name_of(source), node, stat.mtime)
    }

    fn folder(&mut self, source: &Path) -> Result<()> {
        let root = RelPath::new(ROOT)?;
        let look = || walk(source, &root, Manner::Strict, self.ctx);
        let (seen, _) = self.ctx.phase(Phase::Listing, 0, 0, look)?;
        let files = seen.iter().filter(|seen| matches!(seen.kind, Kind::File));
        let (count, bytes) = files.fold((0, 0), |(count, bytes), seen| (count + 1, bytes + seen.stat.size));
        self.ctx.phase(Phase::Storing, count, bytes, || self.seen(source, seen))?;
        self.read.push((source.into(), None));
        Ok(())
    }

    /// What a folder was seen to have.
    fn seen(&mut self, source: &Path, seen: Vec<Seen>) -> Result<()> {
        let mut buffer = vec![0; disk::BUFFER];
        for seen in seen {
            self.ctx.check()?;
            let Some(below) = seen.path.as_str().strip_prefix(ROOT).and_then(|rest| rest.strip_prefix('/')) else {
                continue;
            };
            let node = match &seen.kind {
                Kind::EmptyFolder => {
                    self.read.push((source.join(below), None));
                    Node::EmptyFolder
                }
                // What a stranger's link leads to is nobody's business.
                Kind::Symlink(_) => {
                    let why = format!("{below:?}: it is a link, and those are not taken from packages");
                    return Err(IntakeError::Archive { path: source.into(), why }.into());
                }
                Kind::File => {
                    let path = source.join(below);
                    let file = disk::open_file(rustix::fs::CWD, &path).at("read", &path)?;
                    let put = |ctx: &Ctx| self.putter.put(&file, &seen.stat, &path, &mut buffer, ctx);
                    let content = self.ctx.file(seen.stat.size, put)?;
                    self.read.push((path, Some(seen.stat)));
                    Node::File { content, size: seen.stat.size, executable: seen.stat.executable() }
                }
            };
            self.add(below, node, seen.stat.mtime)?;
        }
        Ok(())
    }

    /// An archive; one that holds nothing but another one is opened in its place.
    fn archive(&mut self, source: &Path) -> Result<()> {
        let before = disk::lstat(source).at("look at", source)?;
        let scratch = self.op.path().join(format!("inner{}", self.read.len()));
        disk::make_folders(&scratch)?;
        // One that the title takes as it is, is the item.
        let is_item = |name: &str| self.wholes.contains(name);
        let mut archive = archive::opened(source, &scratch, self.names, &is_item, self.ctx)?;
        let (putter, mut buffer, mut read) = (self.putter, vec![0; disk::BUFFER], Vec::new());
        let mut each = |member: &archive::Member, from: &mut dyn std::io::Read| {
            let put = |ctx: &Ctx| putter.put_read(from, member.mtime, source, &mut buffer, ctx);
            let (content, size) = self.ctx.file(member.size, put)?;
            let node = Node::File { content, size, executable: member.executable };
            read.push((member.path.clone(), node, member.mtime));
            Ok(())
        };
        // What an archive says of its sizes may be anything.
        let bytes = archive.members().iter().fold(0, |bytes: u64, one| bytes.saturating_add(one.size));
        let count = archive.members().len() as u64;
        self.ctx.phase(Phase::Storing, count, bytes, || archive.read_each(&|_| true, &mut each, self.ctx))?;
        let empty = archive.empty_folders().iter().map(|folder| (folder.clone(), Node::EmptyFolder, 0));
        read.extend(empty);
        disk::remove_tree(&scratch)?;
        if !disk::lstat(source).at("look at", source)?.same_bytes(&before) {
            return Err(IntakeError::Changed(source.into()).into());
        }
        self.read.push((source.into(), Some(before)));
        read.into_iter().try_for_each(|(path, node, mtime)| self.add(&path, node, mtime))
    }
}
