//! A twin against its stock build: what changed and by whom, what was dropped in wrongly, what leads elsewhere.

use std::collections::{BTreeMap, HashMap, HashSet};

use super::twin::Seen;
use super::{Checker, Mend, Problem, Severity};
use crate::archive;
use crate::catalog::{TwinRow, What};
use crate::check::touched;
use crate::combine::{Repather, is_text};
use crate::disk;
use crate::error::{Error, Result};
use crate::listing::{Change, Layer, Listing, Node, diff, diff_of_contents, overlay};
use crate::ops::repath;
use crate::ops::repath::PlaceKind;
use crate::path::RelPath;
use crate::placing::{Composed, Placed, compose};
use crate::sheet::Sheet;
use crate::twin::mods;
use crate::twin::names;
use crate::twin::settle::PlayersOwn;

/// Larger files are no settings: they are not looked into for paths.
const TEXT_MAX: u64 = 1 << 20;

impl Checker<'_> {
    pub(crate) fn against_stock(&mut self, seen: &Seen) -> Result<()> {
        let build = &seen.look.state.build;
        let stock = match self.yard.catalog.stock(build)? {
            Some(row) => self.yard.store.listing(row.listing),
            None => {
                let problem = Problem::NoStockBuild { build: build.clone() };
                let mend = Mend::TakeIn { build: build.clone(), source: None };
                self.found(Severity::Wrong, &seen.about, problem, mend);
                return Ok(());
            }
        };
        // A damaged file is reported elsewhere.
        let Ok(stock) = stock else { return Ok(()) };
        let stock = stock.sharing_paths(&seen.now);
        let sheet = seen.look.sheet.as_ref();
        self.seals(seen);
        let Some((mut composed, placed)) = self.with_mods(seen, stock)? else { return Ok(()) };
        let stock = std::mem::take(&mut composed.listing);
        let ids = names::from_stock(sheet, seen.look.state.named_as.as_deref());
        // So is one from which a name is made, and what stands in the way of one.
        let named = Error::pass_over(names::renamed(self.yard, stock, (sheet, ids), true, self.ctx))?;
        let Some(named) = named else { return Ok(()) };
        composed.rename(&named.places());
        let stock = named.listing;
        let named = self.incomplete(seen, &stock, &composed, &placed);
        self.game_files(seen, &stock, &named)?;
        self.wrappers(seen, &stock);
        self.leads_elsewhere(seen, &stock);
        Ok(())
    }

    /// What is laid with the twin's mods; `None` if one can't be read, or they don't go together.
    fn with_mods(&mut self, seen: &Seen, stock: Listing) -> Result<Option<(Composed, Vec<Placed>)>> {
        let state = &seen.look.state;
        if state.mods.is_empty() {
            return Ok(Some((compose(stock, &[], false)?, Vec::new())));
        }
        for used in &state.mods {
            if let Err(error) = mods::placed(self.yard, std::slice::from_ref(used), None) {
                let problem = Problem::ModDamaged { name: used.name.to_string(), why: error.to_string() };
                self.found(Severity::Damaged, &seen.about, problem, Mend::AddAgain { name: used.name.to_string() });
                return Ok(None);
            }
        }
        let placed = mods::placed(self.yard, &state.mods, None)?;
        for used in placed.iter().filter(|placed| placed.of.on) {
            let missing = used.sheet.after.expect.iter().filter(|path| !seen.now.has(path.as_str()));
            let paths: Vec<String> = missing.map(ToString::to_string).collect();
            if !paths.is_empty() {
                let problem = Problem::ModExpects { name: used.of.name.to_string(), paths };
                self.found(Severity::Wrong, &seen.about, problem, Mend::Mods);
            }
        }
        let folds = disk::folds_case(&seen.folder)? || seen.look.sheet.as_ref().is_some_and(Sheet::ignores_case);
        let Some(mut composed) = Error::pass_over(compose(stock, &placed, folds))? else { return Ok(None) };
        // What was put into archives is what was laid: nothing is made in order to look.
        let Some(laid) = Error::pass_over(self.yard.store.listing(state.laid))? else { return Ok(None) };
        let inlaid = composed.inlaid.keys().map(|path| (path.clone(), laid.get(path.as_str()).cloned()));
        composed.listing = overlay(&composed.listing, &Layer::new(inlaid.collect())?)?;
        Ok(Some((composed, placed)))
    }

    /// Files of mods that are missing, but for what the player deletes and the program writes. Gives those.
    fn incomplete(&mut self, seen: &Seen, laid: &Listing, composed: &Composed, mods: &[Placed]) -> HashSet<String> {
        let own = PlayersOwn(seen.look.sheet.as_ref());
        let mut missing: BTreeMap<usize, Vec<String>> = BTreeMap::new();
        let is_missing = |path: &RelPath| laid.has(path.as_str()) && !seen.now.has(path.as_str()) && !own.holds(path);
        for (path, by) in composed.by.iter().filter(|(path, _)| is_missing(path)) {
            by.last().into_iter().for_each(|at| missing.entry(*at).or_default().push(path.to_string()));
        }
        let all = missing.values().flatten().cloned().collect();
        for (at, paths) in missing {
            let problem = Problem::ModIncomplete { name: mods[at].of.name.to_string(), paths };
            self.found(Severity::Wrong, &seen.about, problem, Mend::Restore);
        }
        all
    }

    /// Archives of the program that somebody has changed since they were laid, and that have not lost their seals.
    fn seals(&mut self, seen: &Seen) {
        let archives = seen.look.sheet.iter().flat_map(|sheet| sheet.archives.values());
        let mut sealed = archives.filter(|archive| !archive.seals.is_empty()).peekable();
        if sealed.peek().is_none() {
            return;
        }
        // A listing that can't be read is reported elsewhere.
        let Ok(laid) = self.yard.store.listing(seen.look.state.laid) else { return };
        for archive in sealed {
            let content = |listing: &Listing| listing.get(archive.path.as_str()).and_then(|entry| entry.node.content());
            let (Some(was), Some(is)) = (content(&laid), content(&seen.now)) else { continue };
            if was == is {
                continue;
            }
            // One that can't be read is none that a program reads.
            let seals = archive::entries_named(&archive.path.below(&seen.folder), &archive.seals).unwrap_or_default();
            if !seals.is_empty() {
                let problem = Problem::SealsLeft { archive: archive.path.to_string(), seals };
                self.found(Severity::Wrong, &seen.about, problem, Mend::Restore);
            }
        }
    }

    fn game_files(&mut self, seen: &Seen, stock: &Listing, named: &HashSet<String>) -> Result<()> {
        let own = PlayersOwn(seen.look.sheet.as_ref());
        let markers: HashSet<RelPath> =
            seen.look.sheet.iter().flat_map(|sheet| sheet.missing_markers(stock)).map(|(path, _)| path).collect();
        let (mut changed, mut missing, mut extra) = (Vec::new(), Vec::new(), Vec::new());
        for change in diff_of_contents(stock, &seen.now) {
            let path = change.path();
            if own.holds(path) || markers.contains(path) || named.contains(path.as_str()) {
                continue;
            }
            match change {
                Change::New(_) => extra.push(path.to_string()),
                Change::Gone(_) => missing.push(path.to_string()),
                Change::Changed { .. } => changed.push(path.clone()),
            }
        }
        if changed.is_empty() && missing.is_empty() && extra.is_empty() {
            return Ok(());
        }
        let program = self.by_program(&seen.row, changed.iter().collect())?;
        let (by_program, by_hand): (Vec<_>, Vec<_>) = changed.iter().partition(|path| program.contains(*path));
        let [by_program, by_hand] = [by_program, by_hand].map(|paths| paths.iter().map(ToString::to_string).collect());
        let mend = Mend::Look { from: seen.look.state.build.to_string(), to: seen.row.name.to_string() };
        let problem = Problem::FromStock { by_program, by_hand, missing, extra };
        self.found(Severity::Differs, &seen.about, problem, mend);
        Ok(())
    }

    /// Those of the paths whose last change was a run's, by the history.
    fn by_program(&self, row: &TwinRow, mut paths: HashSet<&RelPath>) -> Result<HashSet<RelPath>> {
        let mut by_program = HashSet::new();
        let history = self.yard.catalog.history(row.id)?;
        for pair in history.windows(2) {
            let (later, earlier) = (&pair[0], &pair[1]);
            if paths.is_empty() {
                break;
            }
            if later.game.total() == 0 || later.state == earlier.state {
                continue;
            }
            let (Some(before), Some(after)) =
                (touched::listing_of(self.yard, earlier.state), touched::listing_of(self.yard, later.state))
            else {
                continue;
            };
            for change in diff(&before, &after) {
                if paths.remove(change.path()) && matches!(later.what, What::Run { .. }) {
                    by_program.insert(change.path().clone());
                }
            }
        }
        Ok(by_program)
    }

    fn wrappers(&mut self, seen: &Seen, stock: &Listing) {
        for Wrapper { folder, into, holds } in wrappers(stock, &seen.now) {
            if is_explained(&folder, &holds, seen.look.sheet.as_ref()) {
                continue;
            }
            let mend = Mend::MoveUp { folder: seen.folder.join(&folder), into: seen.folder.join(&into) };
            self.found(Severity::Wrong, &seen.about, Problem::Wrapper { folder, into, holds }, mend);
        }
    }

    /// Small text files that the stock build doesn't have so, and that name another twin's folder.
    /// Small files of the player's own, in whatever form they name another twin's folder, or where this one was before.
    fn leads_elsewhere(&mut self, seen: &Seen, stock: &Listing) {
        // Unreadable texts are left to a repath.
        let places = repath::places_of(self.yard, &seen.row, &seen.look.state).unwrap_or_default();
        let places: Vec<_> = places.into_iter().filter(|place| place.what != PlaceKind::Installed).collect();
        let repather = Repather::new(places.iter().map(|place| (place.from.as_str(), "")));
        for change in diff(stock, &seen.now) {
            let Some(Node::File { size, .. }) = change.nodes().1 else { continue };
            if *size > TEXT_MAX {
                continue;
            }
            let path = change.path();
            // A file that has gone meanwhile names nothing.
            let bytes = disk::read_own(&path.below(&seen.folder), TEXT_MAX).unwrap_or_default();
            let Some(hit) = repather.hits(&bytes).next().filter(|_| is_text(&bytes)) else { continue };
            let line = bytes[..hit.range.start].iter().filter(|byte| **byte == b'\n').count() + 1;
            let place = &places[hit.pair];
            let (path, to) = (path.to_string(), place.from.clone());
            let problem = Problem::LeadsElsewhere { path, line: Some(line), to };
            self.found(Severity::Wrong, &seen.about, problem, Mend::Repath { rewrites: place.to.is_some() });
        }
    }
}

/// A folder whose contents belong one or more levels higher.
#[derive(Debug, PartialEq, Eq)]
struct Wrapper {
    folder: String,
    into: String,
    holds: Vec<String>,
}

/// What is in a folder, by name; whether it is a folder itself.
type Children = BTreeMap<String, bool>;

/// Folders that the stock build doesn't have and that hold what stands beside them there: a folder of the same name, or
/// for the most part names that are known. A folder that holds nothing but one other folder is looked through.
fn wrappers(stock: &Listing, now: &Listing) -> Vec<Wrapper> {
    if !diff(stock, now).any(|change| matches!(change, Change::New(_))) {
        return Vec::new();
    }
    let (known, there) = (tree(stock), tree(now));
    let mut found = Vec::new();
    for (parent, beside) in &known {
        let Some(children) = there.get(parent) else { continue };
        for (name, is_folder) in children {
            if !is_folder || beside.contains_key(name) {
                continue;
            }
            let mut folder = format!("{parent}/{name}");
            while let Some(inside) = there.get(&folder) {
                let same = |(name, is_folder): &(&String, &bool)| beside.get(*name) == Some(*is_folder);
                let holds: Vec<String> = inside.iter().filter(same).map(|(name, _)| name.clone()).collect();
                let a_folder = holds.iter().any(|name| inside[name]);
                if a_folder || (!holds.is_empty() && holds.len() * 2 >= inside.len()) {
                    found.push(Wrapper { folder, into: parent.clone(), holds });
                    break;
                }
                match inside.iter().next() {
                    Some((only, true)) if inside.len() == 1 => folder = format!("{folder}/{only}"),
                    _ => break,
                }
            }
        }
    }
    found.sort_by(|a, b| a.folder.cmp(&b.folder));
    found
}

/// Whether something else explains a folder: it is a marker's, a group's, or where the title's programs write.
fn is_explained(folder: &str, holds: &[String], sheet: Option<&Sheet>) -> bool {
    let Some(sheet) = sheet else { return false };
    let in_it = holds.iter().map(|name| format!("{folder}/{name}")).chain([folder.to_owned()]);
    in_it.filter_map(|path| RelPath::new(path).ok()).any(|path| {
        sheet.group_of(&path).is_some() || sheet.written().contains(path.as_str()) || sheet.is_scratch(&path)
    })
}

/// The folders of the game, each with what is in it.
fn tree(listing: &Listing) -> HashMap<String, Children> {
    let mut tree: HashMap<String, Children> = HashMap::new();
    for entry in listing.entries().iter().filter(|entry| entry.path.as_str().starts_with("game/")) {
        let mut is_folder = entry.node == Node::EmptyFolder;
        let mut path = entry.path.as_str();
        while let Some((parent, name)) = path.rsplit_once('/') {
            let known = tree.entry(parent.into()).or_default().insert(name.into(), is_folder).is_some();
            if known {
                break;
            }
            (path, is_folder) = (parent, true);
        }
    }
    tree
}

#[cfg(test)]
#[allow(clippy::unwrap_used)]
mod tests {
    use super::*;
    use crate::ident::ContentId;
    use crate::listing::Entry;

    fn listing(paths: &[&str]) -> Listing {
        let node = Node::File { content: ContentId::from_bytes([1; 32]), size: 1, executable: false };
        let entry = |path: &&str| Entry { path: RelPath::new(path).unwrap(), node: node.clone(), mtime: 0 };
        Listing::new(paths.iter().map(entry).collect()).unwrap()
    }

    #[test]
    fn a_wrapping_folder_is_told_from_a_folder_that_belongs_there() {
        let stock =
            ["game/bin/rules.wja", "game/boards/plain/board.txt", "game/boards/night/board.txt", "game/read.txt"];
        for (dropped, wrapper) in [
            ("game/brass-1.2/boards/brass/board.txt", Some(("game/brass-1.2", "game", vec!["boards"]))),
            ("game/brass/brass-1.2/boards/x.txt", Some(("game/brass/brass-1.2", "game", vec!["boards"]))),
            ("game/boards/set/plain/board.txt", Some(("game/boards/set", "game/boards", vec!["plain"]))),
            ("game/patch/read.txt", Some(("game/patch", "game", vec!["read.txt"]))),
            ("game/boards/brass/board.txt", None),
            ("game/music/a/b/c.ogg", None),
            ("game/boards/plain/boards/x.txt", None),
        ] {
            let now = listing(&[&stock[..], &[dropped]].concat());
            let found = wrappers(&listing(&stock), &now);
            let found: Vec<_> = found
                .iter()
                .map(|w| (w.folder.as_str(), w.into.as_str(), w.holds.iter().map(String::as_str).collect::<Vec<_>>()))
                .collect();
            assert_eq!(found, wrapper.into_iter().collect::<Vec<_>>(), "{dropped}");
        }
    }
}
