//! Adding a mod to a twin, and putting another package in its place.

use super::change::{Aim, Decisions, Plan, plan_for};
use super::find;
use super::packages::Packed;
use crate::Yard;
use crate::catalog::ModDeed;
use crate::disk;
use crate::error::{Error, ModError, Result};
use crate::ident::{ModName, TwinName};
use crate::path::RelPath;
use crate::placing::{Choices, Guess, ModUse, Picture, Tree, guess};
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
    let tree = tree_of(yard, &row, &settled)?;
    let (choices, why) = choices(yard, packed, options, &tree)?;
    let (id, _) = package.encode();
    let new = ModUse { id, files: package.files, name: package.name.clone(), on: true, choices, aside: None };
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
    let has_folder = |strip: &str| strip.is_empty() || packed.files.has(&format!("{}/{strip}", crate::placing::ROOT));
    let (choices, why) = if has_folder(&old.strip) && options.into.is_none() && options.strip.is_none() {
        (old.clone(), "as before".to_owned())
    } else {
        let tree = tree_of(yard, &row, &settled)?;
        let into = options.into.clone().or_else(|| Some(old.into.clone()));
        choices(yard, &packed, &AddOptions { into, ..options.clone() }, &tree)?
    };
    let choices = Choices {
        place: if options.place.is_empty() { old.place } else { options.place.clone() },
        any_build: old.any_build || options.any_build,
        ..choices
    };
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
    let found = guess(&packed.files, told.as_ref(), tree)?;
    if options.into.is_some() || options.strip.is_some() {
        let notes = match &found {
            Guess::Clear(choices, _) => choices.except.clone(),
            Guess::Several(_) => Vec::new(),
        };
        let guessed = match &found {
            Guess::Clear(choices, _) => Some(choices.clone()),
            Guess::Several(_) => None,
        };
        let strip = match options.strip {
            Some(levels) => wrapper(packed, levels)?,
            None => guessed.as_ref().map(|choices| choices.strip.clone()).unwrap_or_default(),
        };
        let into = options.into.clone().or_else(|| Some(guessed?.into)).map_or_else(game, Ok)?;
        return Ok((with(strip, into, notes), "as you said".into()));
    }
    match found {
        Guess::Clear(choices, why) => {
            let place = if options.place.is_empty() { choices.place } else { options.place.clone() };
            Ok((Choices { place, ..with(choices.strip, choices.into, choices.except) }, why))
        }
        Guess::Several(pictures) => {
            let name = packed.package.name.to_string();
            Err(ModError::Ambiguous { name, ways: pictures.into_iter().map(|picture| way(packed, picture)).collect() }
                .into())
        }
    }
}

/// What is to be said for a picture.
fn way(_: &Packed, picture: Picture) -> (String, Vec<String>) {
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
