//! What comes with a carry: the player's own of a twin, of a real home, or what was downloaded.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::path::{Path, PathBuf};

use rustix::fs::FileType;
use serde::Serialize;

use crate::Yard;
use crate::archive::{self, Member, NameEncoding};
use crate::combine::{Incoming, known, place};
use crate::disk::{self, Stat};
use crate::error::{CarryError, IntakeError, PathContext, Result};
use crate::ident::ContentId;
use crate::link::{Fate, fate};
use crate::listing::{Entry, Listing, Node};
use crate::ops::carry::Options;
use crate::path::{RelPath, at_and_above, fold_key};
use crate::progress::Ctx;
use crate::scan::{Kind, Manner, Seen, walk};
use crate::sheet::{PathSet, Sheet, main_file, pattern, with_beside};
use crate::store::pool::hash_unchanged;
use crate::twin::mods;
use crate::twin::names;
use crate::twin::planned::Fetch;
use crate::twin::private::{is_private, private_files};
use crate::twin::settle::Settled;

/// What is to be carried.
pub(crate) struct Selection {
    groups: Vec<String>,
    texts: Vec<String>,
    files: Option<PathSet>,
    shipped_too: bool,
}

/// What comes, with what of it must be fetched, and what does not come, each with its reason.
#[derive(Default)]
pub(crate) struct Found {
    pub(crate) coming: Vec<Incoming>,
    pub(crate) fetch: Vec<Fetch>,
    pub(crate) left: Vec<String>,
    /// Of what comes, by where that is from: what nobody but its user may read.
    pub(crate) private: HashSet<String>,
    /// What is no belonging, since it was shipped just so.
    pub(crate) as_shipped: AsShipped,
    /// How many files that are missing there come from which mod.
    pub(crate) of_mods: BTreeMap<String, u64>,
}

/// Files in the groups that are carried, which are as they were shipped: of a build that was taken in after it was played, a
/// player's own may be among them.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub struct AsShipped {
    /// How many there are.
    pub files: u64,
    /// Those of them that the other twin has nothing in the place of, and that are not carried.
    pub missing: u64,
}

impl Selection {
    /// Checks the groups against the sheet of the twin that they go to, and the patterns by themselves.
    pub(crate) fn new(options: &Options, sheet: &Sheet) -> Result<Self> {
        if options.groups.is_empty() && options.files.is_empty() {
            return Err(CarryError::Nothing.into());
        }
        for group in &options.groups {
            known(group, sheet)?;
        }
        for text in &options.files {
            let all = pattern::catches_all(text).then(|| "it catches all of the game: name less".to_owned());
            if let Some(why) = pattern::check(text).or(all) {
                return Err(CarryError::Pattern { pattern: text.clone(), why }.into());
            }
        }
        let files = (!options.files.is_empty())
            .then(|| PathSet::new(options.files.iter().map(String::as_str), sheet.ignores_case()))
            .transpose()
            .map_err(|why| CarryError::Pattern { pattern: options.files.join(" "), why })?;
        let (groups, texts) = (options.groups.clone(), options.files.clone());
        Ok(Self { groups, texts, files, shipped_too: options.shipped_too })
    }

    /// Whether a path is wished for, which is in a group or in none.
    pub(crate) fn has(&self, path: &RelPath, group: Option<&str>) -> bool {
        self.has_group(group) || self.files.as_ref().is_some_and(|files| files.contains(path.as_str()))
    }

    /// Whether all of that group is wished for.
    fn has_group(&self, group: Option<&str>) -> bool {
        group.is_some_and(|group| self.groups.iter().any(|wished| wished == group))
    }
}

/// The player's own in a twin as far as it is wished for.
pub(crate) fn incoming_from_twin(
    yard: &Yard,
    twin: (&Settled, &Listing, &Path),
    sheets: (&Sheet, &Sheet),
    (there, named_as): (&Listing, Option<&str>),
    wish: &Selection,
    ctx: &Ctx,
) -> Result<Found> {
    let ((settled, laid, folder), (sheet, to)) = (twin, sheets);
    let private = private_files(&settled.listing, &settled.rows, Some(sheet), &settled.state);
    let private = private.iter().map(ToString::to_string).collect();
    let mut found = Found { private, ..Found::default() };
    let mods = mods::providers(yard, &settled.state.mods)?;
    // What is named by this twin's id is named by the other's there.
    let ids = settled.state.named_as.as_deref().zip(named_as);
    let is_wished = |entry: &&Entry| wish.has(&entry.path, sheet.group_of(&entry.path));
    let wished = Listing::with_folders_implied(settled.listing.entries().iter().filter(is_wished).cloned().collect())?;
    let named = names::renamed(yard, wished, (Some(to), ids), false, ctx)?;
    let mut things: BTreeMap<(bool, &str), Vec<Part<'_>>> = BTreeMap::new();
    for entry in settled.listing.entries().iter().filter(|entry| entry.node != Node::EmptyFolder) {
        let group = sheet.group_of(&entry.path);
        if sheet.is_scratch(&entry.path) || !wish.has(&entry.path, group) {
            continue;
        }
        let whole = wish.has_group(group);
        let at = sheet.unit_of(&entry.path, group.filter(|_| whole));
        let shipped = laid.get(entry.path.as_str()).map(|laid| &laid.node);
        things.entry((whole, at)).or_default().push(Part { entry, group, shipped });
    }
    for ((whole, at), parts) in things {
        // What is as it was shipped comes with what it is a part of only, or if it is asked for and missing there.
        if parts.iter().all(|part| part.shipped == Some(&part.entry.node)) {
            let is_there = |part: &Part<'_>| {
                let path = &named.of(part.entry).path;
                Ok(place(path, part.group, sheet, to)?.is_none_or(|path| there.has(path.as_str())))
            };
            let missing = parts.iter().map(is_there).collect::<Result<Vec<_>>>()?.into_iter().all(|is_there| !is_there);
            let files = parts.len() as u64;
            if let Some(name) = parts.iter().find_map(|part| mods.get(part.entry.path.as_str())) {
                if missing {
                    *found.of_mods.entry(name.to_string()).or_default() += files;
                }
                continue;
            }
            found.as_shipped.files += files;
            if missing && !wish.shipped_too {
                found.as_shipped.missing += files;
            }
            if !(missing && wish.shipped_too) {
                continue;
            }
        }
        let mut comes = Vec::with_capacity(parts.len());
        let mut left = None;
        for Part { entry, group, shipped } in &parts {
            let node = fit_for_another(yard, &Entry { path: entry.path.clone(), ..named.of(entry).clone() }, folder);
            let to = place(&named.of(entry).path, *group, sheet, to)?;
            match (node, to) {
                (Some(node), Some(path)) => comes.push(Incoming {
                    from: entry.path.to_string(),
                    group: group.map(str::to_owned),
                    whole,
                    entry: Entry { path, node, mtime: entry.mtime },
                    shipped: shipped.cloned(),
                }),
                (None, _) => left = Some((&entry.path, "a symlink into another part of the yard")),
                (_, None) => left = Some((&entry.path, "its group has no place for it there")),
            }
        }
        match left {
            None => found.coming.extend(comes),
            // Half a world is none.
            Some((path, why)) if path.as_str() == at => found.left.push(format!("{path} ({why})")),
            Some((path, why)) => found.left.push(format!("{at} ({path}: {why})")),
        }
    }
    found.left.extend(led_away(&settled.listing, wish, sheet));
    Ok(found)
}

/// Folders of groups that are symlinks: what they lead to is in no group.
fn led_away(listing: &Listing, wish: &Selection, sheet: &Sheet) -> BTreeSet<String> {
    let groups = wish.groups.iter().filter_map(|name| Some((name, sheet.belongings.get(name)?)));
    let patterns = groups.flat_map(|(name, group)| group.patterns.iter().map(move |pattern| (name, pattern)));
    let links = patterns.flat_map(|(name, pattern)| {
        let is_link = |entry: &&Entry| matches!(entry.node, Node::Symlink { .. });
        let link = at_and_above(pattern::base(pattern)).find_map(|path| listing.get(path).filter(is_link));
        link.filter(|entry| sheet.group_of(&entry.path) != Some(name)).map(|entry| {
            format!("{} (a symlink, where {name} should be: carry what it leads to by --from-file)", entry.path)
        })
    });
    links.collect()
}

/// A file of a thing.
struct Part<'a> {
    entry: &'a Entry,
    group: Option<&'a str>,
    shipped: Option<&'a Node>,
}

/// What an entry is in another twin; `None` for a symlink that can't be.
fn fit_for_another(yard: &Yard, entry: &Entry, folder: &Path) -> Option<Node> {
    let Node::Symlink { target } = &entry.node else { return Some(entry.node.clone()) };
    match fate(&entry.path.below(folder), target, folder, folder, yard.root()) {
        Fate::Keep => Some(entry.node.clone()),
        Fate::Relative(target) => Some(Node::Symlink { target: target.into() }),
        Fate::Forbidden => None,
    }
}

/// What a real home has of the groups that are wished for. It is only read, and only where a pattern names a folder.
pub(crate) fn incoming_from_home(home: &Path, wish: &Selection, sheet: &Sheet, ctx: &Ctx) -> Result<Found> {
    let mut found = Found::default();
    let home = disk::canonical(home)?;
    let groups = wish.groups.iter().filter_map(|name| sheet.belongings.get(name));
    let patterns = groups.flat_map(|group| &group.patterns).chain(&wish.texts);
    let mut folders: Vec<&str> = Vec::new();
    for text in patterns.filter(|text| text.starts_with("home/")) {
        match pattern::base(text) {
            "home" => found.left.push(format!("{text} (it names no folder, and a whole home is not searched)")),
            base => folders.push(base),
        }
    }
    // A folder inside another one is searched with that one.
    let inside = |base: &str, other: &str| base.strip_prefix(other).is_some_and(|rest| rest.starts_with('/'));
    let all = folders.clone();
    folders.retain(|base| !all.iter().any(|other| inside(base, other)));
    folders.sort_unstable();
    folders.dedup();
    for base in folders {
        let folder = home.join(base.strip_prefix("home/").unwrap_or_default());
        if folder.is_symlink() {
            found.left.push(format!("{} (a symlink: carry what it leads to)", folder.display()));
        }
        let Ok(stat) = disk::lstat(&folder) else { continue };
        let base = RelPath::new(base)?;
        let (seen, passed_over) = if stat.is_file() {
            // A pattern may name one file; what is beside it comes too.
            let files = with_beside(base.as_str()).filter_map(|path| one_file(&home, &path));
            (files.collect(), Vec::new())
        } else if FileType::from_raw_mode(stat.mode) == FileType::Directory {
            walk(&folder, &base, Manner::Lenient, ctx)?
        } else {
            continue;
        };
        found.left.extend(passed_over);
        for seen in seen {
            let group = sheet.group_of(&seen.path);
            if sheet.is_scratch(&seen.path) || !wish.has(&seen.path, group) {
                continue;
            }
            let (whole, path) = (wish.has_group(group), seen.path.clone());
            let on_disk = home.join(path.as_str().strip_prefix("home/").unwrap_or_default());
            found.add(&seen, on_disk, path, (group, whole), ctx)?;
        }
    }
    Ok(found)
}

/// A file of a real home.
fn one_file(home: &Path, path: &str) -> Option<Seen> {
    let stat = disk::lstat(&home.join(path.strip_prefix("home/")?)).ok().filter(Stat::is_file)?;
    Some(Seen { path: RelPath::new(path).ok()?, kind: Kind::File, stat })
}

/// What a folder or a file that was downloaded brings into a group.
pub(crate) fn incoming_from_place(
    yard: &Yard,
    place: &Path,
    (group, names): (&str, Option<NameEncoding>),
    sheet: &Sheet,
    ctx: &Ctx,
) -> Result<Found> {
    let patterns = &known(group, sheet)?.patterns;
    let place = disk::canonical(place)?;
    let name = place.file_name().and_then(|name| name.to_str()).unwrap_or_default().to_owned();
    let mut found = Found::default();
    let prefix = RelPath::new("game")?;
    if !place.is_dir() && archive::is_archive(&place)? {
        return coming_from_archive(yard, &place, (group, names), sheet, ctx);
    }
    let seen = if place.is_dir() {
        walk(&place, &prefix, Manner::Strict, ctx)?.0
    } else {
        let stat = disk::lstat(&place).at("look at", &place)?;
        vec![Seen { path: prefix.join(&name)?, kind: Kind::File, stat }]
    };
    let as_in_a_twin = place.is_dir() && is_as_in_a_twin(&place)?;
    for seen in seen.into_iter().filter(|seen| !matches!(seen.kind, Kind::EmptyFolder)) {
        let below = seen.path.as_str().strip_prefix("game/").unwrap_or_default();
        let (on_disk, folder) =
            if place.is_dir() { (place.join(below), Some(name.as_str())) } else { (place.clone(), None) };
        let to = match as_in_a_twin {
            true => RelPath::new(below).ok().filter(|path| sheet.group_of(path) == Some(group)),
            false => place_in(below, folder, patterns, sheet),
        };
        match to {
            Some(path) => found.add(&seen, on_disk, path, (Some(group), true), ctx)?,
            None => found.left.push(format!("{} (the group has no place for it)", on_disk.display())),
        }
    }
    if found.coming.is_empty() {
        return Err(CarryError::NoPlace { from: place.display().to_string(), group: group.into() }.into());
    }
    Ok(found)
}

/// Whether a folder holds what it does by the paths of a twin, as one does that belongings were carried to.
fn is_as_in_a_twin(place: &Path) -> Result<bool> {
    let names = std::fs::read_dir(place).at("list", place)?.map(|entry| Ok(entry.at("list", place)?.file_name()));
    let names = names.collect::<Result<Vec<_>>>()?;
    Ok(!names.is_empty() && names.iter().all(|name| name == "game" || name == "home"))
}

/// What an archive brings into a group. What is in one folder in it is taken for that folder, else it is called as the
/// archive is.
fn coming_from_archive(
    yard: &Yard,
    path: &Path,
    (group, names): (&str, Option<NameEncoding>),
    sheet: &Sheet,
    ctx: &Ctx,
) -> Result<Found> {
    let patterns = &known(group, sheet)?.patterns;
    let stat = disk::lstat(path).at("look at", path)?;
    let op = yard.begin(ctx)?;
    let mut archive = archive::opened(path, op.path(), names, &|_| false, ctx)?;
    let members = archive.members().to_vec();
    let top = |member: &Member| member.path.split_once('/').map(|(top, _)| top.to_owned());
    let first = members.first().and_then(top);
    let one = first.filter(|first| members.iter().all(|member| top(member).as_ref() == Some(first)));
    let stem = archive::stem(&archive::name_of(path)).to_owned();
    let folder = one.as_ref().unwrap_or(&stem);
    let mut found = Found::default();
    let place_of = |member: &Member| {
        let below = one.as_ref().map_or(member.path.as_str(), |one| &member.path[one.len() + 1..]);
        place_in(below, Some(folder), patterns, sheet)
    };
    let contents: HashMap<usize, ContentId> = archive
        .hash(&|member| place_of(member).is_some(), ctx)?
        .into_iter()
        .map(|(member, content)| (member.index, content))
        .collect();
    for member in members {
        let from = format!("{}: {}", path.display(), member.path);
        let (Some(to), Some(&content)) = (place_of(&member), contents.get(&member.index)) else {
            found.left.push(format!("{from} (the group has no place for it)"));
            continue;
        };
        let node = Node::File { content, size: member.size, executable: false };
        let entry = Entry { path: to, node, mtime: member.mtime };
        found.coming.push(Incoming { from, group: Some(group.into()), whole: true, entry, shipped: None });
        found.fetch.push(Fetch { path: path.into(), stat, content, member: Some((member, names)) });
    }
    if found.coming.is_empty() {
        return Err(CarryError::NoPlace { from: path.display().to_string(), group: group.into() }.into());
    }
    Ok(found)
}

/// Where a file goes that lies at `below` in what was downloaded: a folder keeps its name, unless it has that of the
/// group's own folder.
fn place_in(below: &str, folder: Option<&str>, patterns: &[String], sheet: &Sheet) -> Option<RelPath> {
    patterns.iter().find_map(|text| {
        let set = PathSet::new([text.as_str()], sheet.ignores_case()).unwrap_or_default();
        let base = pattern::base(text);
        let own = base.rsplit('/').next().map(fold_key);
        if pattern::names_file(text) {
            return RelPath::new(base).ok().filter(|_| Some(fold_key(below)) == own);
        }
        let wrapped =
            folder.filter(|folder| Some(fold_key(folder)) != own).map(|folder| format!("{base}/{folder}/{below}"));
        let candidates = wrapped.into_iter().chain([format!("{base}/{below}")]);
        candidates.filter_map(|path| RelPath::new(path).ok()).find(|path| set.contains(main_file(path.as_str())))
    })
}

impl Found {
    /// Adds a file outside the yard, which is read to know what it is.
    fn add(
        &mut self,
        seen: &Seen,
        on_disk: PathBuf,
        path: RelPath,
        (group, whole): (Option<&str>, bool),
        ctx: &Ctx,
    ) -> Result<()> {
        match seen.kind {
            Kind::EmptyFolder => return Ok(()),
            Kind::Symlink(_) => {
                self.left.push(format!("{} (a symlink: carry what it leads to)", on_disk.display()));
                return Ok(());
            }
            Kind::File => {}
        }
        ctx.check()?;
        let content = read(&on_disk, seen, ctx)?;
        let node = Node::File { content, size: seen.stat.size, executable: seen.stat.executable() };
        let entry = Entry { path, node, mtime: seen.stat.mtime };
        if is_private(seen.stat.mode) {
            self.private.insert(on_disk.display().to_string());
        }
        let (from, group) = (on_disk.display().to_string(), group.map(str::to_owned));
        self.coming.push(Incoming { from, group, whole, entry, shipped: None });
        self.fetch.push(Fetch { path: on_disk, stat: seen.stat, content, member: None });
        Ok(())
    }
}

fn read(path: &Path, seen: &Seen, ctx: &Ctx) -> Result<ContentId> {
    let file = disk::open_file(rustix::fs::CWD, path).at("read", path)?;
    let now = disk::fstat(&file).at("look at", path)?;
    if !now.same_bytes(&seen.stat) {
        return Err(IntakeError::Changed(path.into()).into());
    }
    hash_unchanged(&file, &seen.stat, path, &mut vec![0; disk::BUFFER], ctx)
}
