//! Adding a mod to a twin, and putting another package in its place.

use std::collections::BTreeSet;

use super::change::{Aim, Decisions, Plan, plan_for};
use super::find;
use super::packages::Packed;
use crate::Yard;
use crate::catalog::ModDeed;
use crate::disk;
use crate::error::{Error, ModError, Result};
use crate::ident::{ModName, TwinName};
use crate::listing::Listing;
use crate::path::RelPath;
use crate::placing::{self, Choices, Guess, ModUse, Picture, ROOT, Tree, guess};
use crate::progress::Ctx;
use crate::sheet::Sheet;
use crate::sheet::pattern::escape;
use crate::twin::planned;
use crate::twin::settle::Settled;

/// What is said about how a mod is added; what isn't is found out.
#[derive(Clone, Debug, Default)]
pub struct AddOptions {
    /// The folder in the twin into which it goes.
    pub into: Option<RelPath>,
    /// How many wrapping folders of the package are left away.
    pub strip: Option<usize>,
    /// Patterns of what is not placed.
    pub except: Vec<String>,
    /// What goes into other folders: pattern and folder.
    pub place: Vec<(String, RelPath)>,
    /// Whether it is laid over builds that it is not for, too.
    pub any_build: bool,
    /// Whether all other mods are turned off.
    pub alone: bool,
    /// Where the player and the mod want different things.
    pub decisions: Decisions,
}

impl AddOptions {
    fn says_nothing_of_places(&self) -> bool {
        let Self { into, strip, except, place, .. } = self;
        into.is_none() && strip.is_none() && except.is_empty() && place.is_empty()
    }
}

/// Looks at what adding a mod on top of a twin's others would do. If the twin has just this mod, in just these places, it
/// changes nothing.
///
/// # Errors
/// [`ModError::Ambiguous`] if it can't be said where it belongs; [`ModError::SameName`], [`ModError::There`]; then as
/// [`plan`](super::plan).
pub fn plan_add(yard: &Yard, name: &TwinName, packed: &Packed, options: &AddOptions, ctx: &Ctx) -> Result<Plan> {
    let (row, settled) = planned::see(yard, &yard.twin_row(name, false)?, ctx)?;
    let package = &packed.package;
    if package.title != settled.state.build.title {
        let (name, title, twin) = (package.name.to_string(), package.title.to_string(), row.name.to_string());
        return Err(ModError::OtherTitle { name, title, twin }.into());
    }
    check_name(yard, packed, &settled.state.mods)?;
    let (id, _) = package.encode();
    let there = settled.state.mods.iter().find(|used| used.id == id && used.name.key() == package.name.key());
    let (choices, why) = match there {
        // Nothing is found out twice: by now, its own files would tell.
        Some(used) if options.says_nothing_of_places() => (used.choices.clone(), "as before".to_owned()),
        _ => choices(yard, packed, options, &tree_of(yard, &row, &settled)?)?,
    };
    let new = ModUse {
        id,
        files: package.files,
        name: package.name.clone(),
        on: true,
        choices,
        aside: None,
        beside: Vec::new(),
    };
    let mut wanted = settled.state.mods.clone();
    if options.alone {
        wanted.iter_mut().for_each(|used| used.on = false);
    }
    match find(&wanted, &new.name) {
        Ok(at) if wanted[at].id == new.id && wanted[at].choices == new.choices => wanted[at].on = true,
        Ok(_) => {
            return Err(ModError::There { name: new.name.to_string(), twin: row.name.to_string() }.into());
        }
        Err(_) => wanted.push(new.clone()),
    }
    let placed = Some((new.choices, why));
    let aim = Aim { deed: ModDeed::Added, about: vec![new.name], wanted, package: Some(packed.clone()), placed };
    plan_for(yard, (row, settled), aim, &options.decisions, ctx)
}

/// Looks at what another package in the place of a twin's mod would do: it keeps its place in the order, its choices and
/// what the player has changed of it.
///
/// # Errors
/// [`Error::NotFound`] if the twin has no such mod; then as [`plan_add`].
pub fn plan_update(
    yard: &Yard,
    (twin, name): (&TwinName, &ModName),
    packed: &Packed,
    options: &AddOptions,
    ctx: &Ctx,
) -> Result<Plan> {
    let (row, settled) = planned::see(yard, &yard.twin_row(twin, false)?, ctx)?;
    let mut wanted = settled.state.mods.clone();
    let at = find(&wanted, name)?;
    // It is the same mod, whatever the new package is called.
    let mut packed = packed.clone();
    packed.package.name = wanted[at].name.clone();
    let old = wanted[at].choices.clone();
    let has_folder = |strip: &str| strip.is_empty() || packed.files.has(&format!("{ROOT}/{strip}"));
    let (choices, why) = if has_folder(&old.strip) && options.into.is_none() && options.strip.is_none() {
        let notes = placing::notes(&packed.files).iter().map(|path| escape(path)).collect();
        (Choices { except: notes, ..old.clone() }, "as before".to_owned())
    } else {
        let into = options.into.clone().or_else(|| Some(old.into.clone()));
        choices(yard, &packed, &AddOptions { into, ..options.clone() }, &tree_of(yard, &row, &settled)?)?
    };
    // What was said before still holds; what is said now comes first.
    let mut except = [&options.except[..], &old.except, &choices.except].concat();
    let mut known = BTreeSet::new();
    except.retain(|pattern| known.insert(pattern.clone()));
    let place = if options.place.is_empty() { old.place } else { options.place.clone() };
    let choices = Choices { except, place, any_build: old.any_build || options.any_build, ..choices };
    let (id, _) = packed.package.encode();
    let used = &mut wanted[at];
    (used.id, used.files, used.choices) = (id, packed.package.files, choices.clone());
    let about = vec![used.name.clone()];
    let aim = Aim { deed: ModDeed::Updated, about, wanted, package: Some(packed), placed: Some((choices, why)) };
    plan_for(yard, (row, settled), aim, &options.decisions, ctx)
}

fn tree_of(yard: &Yard, row: &crate::catalog::TwinRow, settled: &Settled) -> Result<Tree> {
    let ignores = yard.sheet_of(&settled.state.build)?.as_ref().is_some_and(Sheet::ignores_case);
    let folds = ignores || disk::folds_case(&yard.folder_of(row))?;
    Ok(Tree::of(&settled.listing, folds))
}

/// An error if another mod of the title has this name, with other files: one name means one thing.
fn check_name(yard: &Yard, packed: &Packed, there: &[ModUse]) -> Result<()> {
    let (id, _) = packed.package.encode();
    let name = &packed.package.name;
    if there.iter().any(|used| used.name.key() == name.key()) {
        // Said of this twin.
        return Ok(());
    }
    let mut twins = Vec::new();
    for row in yard.catalog.twins()?.into_iter().filter(|row| row.removed_at.is_none()) {
        let Some(state) = Error::pass_over(yard.store.state(row.state))? else { continue };
        let other = |used: &ModUse| used.name.key() == name.key() && used.id != id;
        if state.build.title == packed.package.title && state.mods.iter().any(other) {
            twins.push(row.name.to_string());
        }
    }
    if twins.is_empty() { Ok(()) } else { Err(ModError::SameName { name: name.to_string(), twins }.into()) }
}

/// How a package is placed: as was said, as its sheet says, or as what the twin has tells.
fn choices(yard: &Yard, packed: &Packed, options: &AddOptions, tree: &Tree) -> Result<(Choices, String)> {
    let sheet = yard.sheet(&packed.package.title)?;
    let told = sheet.as_ref().and_then(|sheet| sheet.mods.place.clone());
    let game = || RelPath::new("game");
    let with = |strip: String, into: RelPath, notes: Vec<String>| Choices {
        strip,
        into,
        except: options.except.iter().cloned().chain(notes).collect(),
        place: options.place.clone(),
        any_build: options.any_build,
    };
    if packed.whole {
        let into = options.into.clone().or(told).map_or_else(game, Ok)?;
        return Ok((with(String::new(), into, Vec::new()), "this title takes it as it is".into()));
    }
    if !packed.sheet.place.is_empty() && options.into.is_none() && options.strip.is_none() {
        return Ok((with(String::new(), game()?, Vec::new()), "its sheet says so".into()));
    }
    if !packed.sheet.place.is_empty() {
        return Err(ModError::PlacedBySheet(packed.package.name.to_string()).into());
    }
    let files = to_be_placed(packed)?;
    if files.totals().files == 0 {
        return Ok((with(String::new(), game()?, Vec::new()), "it has nothing but what goes elsewhere".into()));
    }
    let notes: Vec<String> = placing::notes(&files).iter().map(|path| escape(path)).collect();
    if let (Some(into), Some(levels)) = (&options.into, options.strip) {
        return Ok((with(wrapper(packed, levels)?, into.clone(), notes), "as you said".into()));
    }
    let mut pictures = match guess(&files, told.as_ref(), tree)? {
        Guess::Clear(choices, why) if options.into.is_none() && options.strip.is_none() => {
            let place = if options.place.is_empty() { choices.place } else { options.place.clone() };
            return Ok((Choices { place, ..with(choices.strip, choices.into, choices.except) }, why));
        }
        Guess::Clear(choices, _) => vec![Picture::of(choices.strip, choices.into, &files)],
        Guess::Several(pictures) => pictures,
    };
    // One half of the answer was given: the other may be clear then.
    if let Some(levels) = options.strip {
        let strip = wrapper(packed, levels)?;
        pictures.iter_mut().for_each(|picture| *picture = Picture::of(strip.clone(), picture.into.clone(), &files));
    }
    if let Some(into) = &options.into {
        let strips: Vec<String> = match pictures.iter().filter(|picture| picture.into == *into).count() {
            0 if pictures.len() > 1 => placing::wrappings(&files),
            0 => pictures.iter().map(|picture| picture.strip.clone()).collect(),
            _ => pictures.iter().filter(|picture| picture.into == *into).map(|picture| picture.strip.clone()).collect(),
        };
        pictures = strips.into_iter().map(|strip| Picture::of(strip, into.clone(), &files)).collect();
    }
    pictures.dedup();
    match pictures.as_slice() {
        [only] => Ok((with(only.strip.clone(), only.into.clone(), notes), "as you said".into())),
        _ => {
            let name = packed.package.name.to_string();
            Err(ModError::Ambiguous { name, ways: pictures.into_iter().map(way).collect() }.into())
        }
    }
}

/// What of a package a place has to be found for: neither its sheet nor what goes inside archives.
fn to_be_placed(packed: &Packed) -> Result<Listing> {
    let into = RelPath::new("game")?;
    let all = Choices { strip: String::new(), into, except: Vec::new(), place: Vec::new(), any_build: false };
    let placed = placing::place(&packed.files, &packed.sheet, &all)?.entries.into_iter();
    let paths: BTreeSet<String> = placed.map(|(whole, _)| format!("{ROOT}/{whole}")).collect();
    let entries = packed.files.entries().iter().filter(|entry| paths.contains(entry.path.as_str()));
    Listing::with_folders_implied(entries.cloned().collect())
}

/// What is to be said for a picture.
fn way(picture: Picture) -> (String, Vec<String>) {
    let levels = if picture.strip.is_empty() { 0 } else { picture.strip.matches('/').count() + 1 };
    (format!("--into {} --strip {levels}", picture.into), picture.shows)
}

/// The folder so many levels down that holds all of a package, but for what is beside it higher up.
fn wrapper(packed: &Packed, levels: usize) -> Result<String> {
    let paths = || {
        let entries = packed.files.entries().iter().filter(|entry| entry.node != crate::listing::Node::EmptyFolder);
        entries.filter_map(|entry| entry.path.as_str().strip_prefix("package/"))
    };
    let mut strip = String::new();
    for _ in 0..levels {
        let depth = if strip.is_empty() { 0 } else { strip.len() + 1 };
        let inside = |path: &&str| strip.is_empty() || path.starts_with(&format!("{strip}/"));
        let mut folders = paths().filter(inside).filter_map(|path| Some(&path[..depth + path[depth..].find('/')?]));
        let Some(first) = folders.next().map(str::to_owned) else {
            let why = "the package has not so many folders in one another";
            return Err(Error::Name { what: crate::Noun::Folder, name: levels.to_string(), why });
        };
        if folders.any(|folder| folder != first) {
            let why = "there are several folders at that depth of the package";
            return Err(Error::Name { what: crate::Noun::Folder, name: levels.to_string(), why });
        }
        strip = first;
    }
    Ok(strip)
}

/// The mod sheet that says how a plan places a mod: with it, nothing has to be found out.
#[must_use]
pub fn written_sheet(plan: &Plan) -> String {
    let (Some(packed), Some((choices, _))) = (&plan.package, &plan.placed) else { return String::new() };
    let text = |text: &str| toml_edit::Value::from(text).to_string();
    let list = |texts: &[String]| format!("[{}]", texts.iter().map(|one| text(one)).collect::<Vec<_>>().join(", "));
    let mut sheet = format!("name = {}\n", text(packed.package.name.as_str()));
    let told = &packed.sheet;
    if let Some(version) = &told.version {
        sheet.push_str(&format!("version = {}\n", text(version)));
    }
    let names = |names: &[ModName]| names.iter().map(ToString::to_string).collect::<Vec<_>>();
    for (key, values) in [
        ("builds", told.builds.clone()),
        ("needs", names(&told.needs)),
        ("clashes", names(&told.clashes)),
        ("remove", told.remove.clone()),
    ] {
        if !values.is_empty() {
            sheet.push_str(&format!("{key} = {}\n", list(&values)));
        }
    }
    let mut place = |from: &str, to: &RelPath, except: &[String]| {
        sheet.push_str(&format!("\n[[place]]\nfrom = {}\nto = {}\n", text(from), text(to.as_str())));
        if !except.is_empty() {
            sheet.push_str(&format!("except = {}\n", list(except)));
        }
    };
    for (from, to) in &choices.place {
        place(from, to, &choices.except);
    }
    if told.place.is_empty() {
        let all = if choices.strip.is_empty() { "**".to_owned() } else { format!("{}/**", escape(&choices.strip)) };
        place(&all, &choices.into, &choices.except);
    }
    for told in &told.place {
        let except: Vec<String> = told.except.iter().chain(&choices.except).cloned().collect();
        place(&told.from, &told.to, &except);
    }
    sheet
}
