//! Where the files of a package go. The same choices always give the same places.

use super::{Choices, ModSheet, ROOT};
use crate::error::{Error, ModError, Result};
use crate::listing::{Entry, Listing};
use crate::path::RelPath;
use crate::sheet::PathSet;

/// How files are called that tell people something, and no program.
const NOTES: [&str; 10] =
    ["readme", "read me", "read_me", "liesmich", "lisezmoi", "licence", "license", "changelog", "changes", "credits"];

/// How a mod sheet is called that lies at the top of a package.
pub(crate) const SHEET: &str = "yardtwin-mod.toml";

/// What such files end in.
const TEXTS: [&str; 8] = ["txt", "md", "rtf", "pdf", "html", "htm", "nfo", "url"];

/// Whether a file, by its name, is one for people to read.
pub(crate) fn is_note(name: &str) -> bool {
    let name = name.to_lowercase();
    let (stem, ending) = name.rsplit_once('.').unwrap_or((&name, ""));
    let is_text = ending.is_empty() || TEXTS.contains(&ending);
    is_text && NOTES.iter().any(|note| stem.starts_with(note) || stem.ends_with(note))
}

/// Patterns over the paths of what comes.
#[derive(Default)]
pub(crate) struct Named {
    set: PathSet,
    /// Those without a `/`, which name files wherever they are.
    anywhere: PathSet,
}

impl Named {
    pub(crate) fn new<'a>(patterns: impl Iterator<Item = &'a String> + Clone) -> Result<Self> {
        let set = |patterns: Vec<&str>| {
            let pattern = || patterns.first().copied().unwrap_or_default().to_owned();
            PathSet::new(patterns.clone(), true).map_err(|why| ModError::Pattern { pattern: pattern(), why })
        };
        let anywhere = patterns.clone().map(String::as_str).filter(|pattern| !pattern.contains('/'));
        Ok(Self { set: set(patterns.clone().map(String::as_str).collect())?, anywhere: set(anywhere.collect())? })
    }

    /// Whether a file of a package is named: by its whole path, by that below what is stripped, or by its name.
    pub(crate) fn has(&self, whole: &str, below: Option<&str>) -> bool {
        let name = whole.rsplit('/').next().unwrap_or(whole);
        self.set.contains(whole) || below.is_some_and(|below| self.set.contains(below)) || self.anywhere.contains(name)
    }
}

/// Where a package's files go.
#[derive(Debug, Default)]
pub(crate) struct Places {
    /// The entries that it has in a twin, each under the path that it gets, with its own path in the package.
    pub(crate) entries: Vec<(String, Entry)>,
    pub(crate) inlays: Vec<Inlaid>,
}

/// What goes into an archive of the program.
#[derive(Clone, Debug)]
pub(crate) struct Inlaid {
    pub(crate) archive: RelPath,
    /// Patterns of entries that come out.
    pub(crate) remove: Vec<String>,
    /// The names of entries, and the files that they are.
    pub(crate) put: Vec<(String, Entry)>,
}

/// Where the files of a package go.
///
/// # Errors
/// [`ModError::Pattern`]; [`ModError::Twice`] if two of its files get one place.
pub(crate) fn place(files: &Listing, sheet: &ModSheet, choices: &Choices) -> Result<Places> {
    let except = Named::new(choices.except.iter())?;
    let places = choices.place.iter().map(|(from, to)| Ok((Named::new(std::iter::once(from))?, base(from), to)));
    let places = places.collect::<Result<Vec<_>>>()?;
    let told = sheet.place.iter().map(|place| {
        let except = Named::new(place.except.iter())?;
        Ok((Named::new(std::iter::once(&place.from))?, base(&place.from), except, &place.to))
    });
    let told = told.collect::<Result<Vec<_>>>()?;
    let into = sheet.inlay.iter().map(|rule| {
        let named = rule.from.as_ref().map(|from| Ok::<_, Error>((Named::new(std::iter::once(from))?, base(from))));
        Ok((named.transpose()?, rule))
    });
    let into = into.collect::<Result<Vec<_>>>()?;
    let mut inlays: Vec<Inlaid> = sheet
        .inlay
        .iter()
        .map(|rule| Inlaid { archive: rule.archive.clone(), remove: rule.remove.clone(), put: Vec::new() })
        .collect();
    let mut placed: Vec<(String, Entry)> = Vec::new();
    for entry in files.entries() {
        let Some(whole) = entry.path.as_str().strip_prefix(ROOT).and_then(|rest| rest.strip_prefix('/')) else {
            continue;
        };
        let below = match choices.strip.as_str() {
            "" => Some(whole),
            strip => whole.strip_prefix(strip).and_then(|rest| rest.strip_prefix('/')),
        };
        if whole == SHEET || except.has(whole, below) {
            continue;
        }
        let goes_into =
            into.iter().position(|(named, _)| named.as_ref().is_some_and(|(named, _)| named.has(whole, below)));
        if let Some(at) = goes_into {
            let (named, rule) = &into[at];
            let rest = below_base(whole, below, named.as_ref().and_then(|(_, base)| *base));
            let name = if rule.to.is_empty() { rest.to_owned() } else { format!("{}/{rest}", rule.to) };
            if entry.node.content().is_some() {
                inlays[at].put.push((name, entry.clone()));
            }
            continue;
        }
        let by_choice = places.iter().find(|(named, ..)| named.has(whole, below));
        let by_sheet =
            || told.iter().find(|(named, _, except, _)| named.has(whole, below) && !except.has(whole, below));
        let to = match (by_choice, told.is_empty()) {
            (Some((_, base, to)), _) => Some(to.join_all(below_base(whole, below, *base))?),
            (None, true) => below.map(|below| choices.into.join_all(below)).transpose()?,
            (None, false) => {
                by_sheet().map(|(_, base, _, to)| to.join_all(below_base(whole, below, *base))).transpose()?
            }
        };
        if let Some(path) = to {
            placed.push((whole.to_owned(), Entry { path, ..entry.clone() }));
        }
    }
    placed.sort_by(|(_, a), (_, b)| a.path.cmp(&b.path));
    match placed.windows(2).find(|pair| pair[0].1.path == pair[1].1.path) {
        Some(pair) => {
            let (one, other) = (pair[0].0.clone(), pair[1].0.clone());
            Err(ModError::Twice { one, other, path: pair[0].1.path.to_string() }.into())
        }
        None => Ok(Places { entries: placed, inlays }),
    }
}

/// The folder that a pattern names, below which paths go on; none where it names files by their names alone.
fn base(pattern: &str) -> Option<&str> {
    (pattern.contains('/') || pattern.contains("**")).then(|| crate::sheet::pattern::base(pattern))
}

/// What of a path goes on below the base of the pattern that found it: its name, if the pattern named just it.
fn below_base<'a>(whole: &'a str, below: Option<&'a str>, base: Option<&str>) -> &'a str {
    let name = whole.rsplit('/').next().unwrap_or(whole);
    let Some(base) = base else { return name };
    let rest = |path: &'a str| match base {
        "" => Some(path),
        base => path.strip_prefix(base).and_then(|rest| rest.strip_prefix('/')),
    };
    below.and_then(rest).or_else(|| rest(whole)).unwrap_or(name)
}
