//! Share: how a twin's files share storage with the other twins, changed after it was made.
//!
//! The bytes stay what they are: files are laid anew in another way, staged as a whole and published entry by entry.
//!
//! ```
//! use yard_twin::{Sharing, share};
//! # use yard_twin::{Ctx, Yard, clone, intake};
//! # let place = tempfile::tempdir()?;
//! # let installed = place.path().join("installed");
//! # standins::write_small_wexcombe(&installed, "1.4")?;
//! # let (yard, ctx) = (Yard::init(place.path().join("yard"))?, Ctx::new());
//! # std::fs::write(yard.sheet_path(&"wexcombe".parse()?), standins::WEXCOMBE_SHEET)?;
//! # let options = intake::Options::new(&installed, "wexcombe".parse()?);
//! # intake::apply(&yard, &intake::plan(&yard, options, &ctx)?, &ctx)?;
//! # let plan = clone::plan(&yard, &"wexcombe@1.4".parse()?, &"main".parse()?, clone::Options::default(), &ctx)?;
//! # clone::apply(&yard, &plan, &ctx)?;
//! let options = share::Options { sharing: Sharing::None, patterns: vec!["game/guide".into()] };
//! let plan = share::plan(&yard, &"main".parse()?, &options, &ctx)?;
//! println!("{} files get bytes of their own, {} in all", plan.private.files, plan.private.bytes);
//! share::apply(&yard, &plan, &ctx)?;
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

use std::time::{Duration, Instant};

use serde::Serialize;

use crate::Yard;
use crate::catalog::What;
use crate::error::{Error, Noun, Result};
use crate::ident::TwinName;
use crate::listing::{Entry, Node};
use crate::ops::play::isolation::is_sealed;
use crate::path::RelPath;
use crate::progress::Ctx;
use crate::scan::Row;
use crate::sheet::{PathSet, Sheet, pattern};
use crate::store::pool::{Policy, Share, Sharing, Unshared};
use crate::store::state::State;
pub use crate::twin::arrived::Files;
use crate::twin::arrived::is_in_home;
use crate::twin::change::Anew;
use crate::twin::planned::{self, AppliedChange, PlannedChange};
use crate::twin::private::private_files;
use crate::twin::{Room, Settled, room};

/// How files are to share storage, and which.
#[derive(Clone, Debug, Default)]
pub struct Options {
    /// How. Default: careful.
    pub sharing: Sharing,
    /// Patterns over the paths of the twin, such as `game/bin/*`, or `bin/*` for the same: only these files, until they
    /// are laid anew. Default: all, and those that come later, and those of clones too.
    pub patterns: Vec<String>,
}

/// What a change of sharing will do.
#[must_use = "a plan changes nothing until it is applied"]
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Plan {
    /// The twin.
    pub name: TwinName,
    /// How its files are meant to share storage now.
    pub before: Sharing,
    /// How they will be.
    pub sharing: Sharing,
    /// Whether only some of its files were asked for.
    pub only_some: bool,
    /// Files that become copies of its own, which any program can write to.
    pub private: Files,
    /// Files that share storage from then on.
    pub shared: Files,
    /// Why files that could share storage do not, if that is so.
    pub unshared: Option<Unshared>,
    /// The room that it takes on disk.
    pub room: Room,
    #[serde(skip)]
    planned: PlannedChange,
}

/// What a change of sharing did.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Outcome {
    /// The twin.
    pub name: TwinName,
    /// How its files share storage now.
    pub sharing: Sharing,
    /// Files that are copies of its own now.
    pub private: Files,
    /// Files that share storage now.
    pub shared: Files,
    /// The number of the change in the history; `None` if there was nothing to do.
    pub number: Option<u32>,
    /// What somebody had open: where it is now.
    pub set_aside: Vec<String>,
    /// How long it took.
    #[serde(serialize_with = "crate::progress::seconds")]
    pub took: Duration,
}

/// Looks at what another way of sharing would do to a twin.
///
/// What a run brought in masses is shared too where its programs are sealed; what they write in place is not, unless a
/// pattern names it. What was written in the twin is its own, and becomes shared only by [`Sharing::All`] or where a pattern names it; live
/// paths and belongings never are. What is as it was laid counts as laid, whoever put it there: so a yard that was copied
/// without its links has them again.
///
/// # Errors
/// [`Error::NotFound`] for the twin, or for a pattern that catches no file; [`Error::Path`] for one that is no pattern;
/// [`Error::Busy`] while it runs.
pub fn plan(yard: &Yard, name: &TwinName, options: &Options, ctx: &Ctx) -> Result<Plan> {
    let (row, seen) = planned::see(yard, &yard.twin_row(name, false)?, ctx)?;
    let sheet = yard.sheet_of(&seen.state.build)?;
    let nothing = PathSet::default();
    let written = sheet.as_ref().map_or(&nothing, |sheet| sheet.written());
    let facts = yard.facts(ctx)?;
    let only = Only::new(&options.patterns, sheet.as_ref())?;
    let laid = planned::laid(yard, &seen)?;
    let only_some = !options.patterns.is_empty();
    // What is named is meant, also where it was written in place.
    let named_shared = only_some && options.sharing != Sharing::None;
    let own = seen.state.written.iter().filter(|path| !(named_shared && only.matches(path)));
    let own: Vec<RelPath> = own.cloned().collect();
    let private_files = private_files(&seen.listing, &seen.rows, sheet.as_ref(), &seen.state);
    let home = shared_in_home(yard, &seen, (options.sharing, &only), ctx)?;
    let policy =
        Policy::new(options.sharing, facts, &seen.listing, written).with_own(&own, &private_files).with_home(&home);
    let as_laid = |entry: &Entry| laid.get(entry.path.as_str()).is_some_and(|laid| laid.node == entry.node);
    let may_share = |entry: &Entry| only_some || options.sharing == Sharing::All || as_laid(entry);
    let wanted = || seen.listing.entries().iter().zip(&seen.rows).filter(|(entry, _)| only.has(entry));
    if let (Some(pattern), None) = (options.patterns.first(), wanted().next()) {
        return Err(Error::NotFound { what: Noun::FileOrFolder, name: pattern.clone(), known: Vec::new() });
    }
    let anew = wanted().filter_map(|(entry, row)| {
        let is = row.share.filter(|_| entry.node.size() > 0)?;
        Some((entry, new_way(is, policy.way(entry), || may_share(entry))?))
    });
    let anew: Vec<(&Entry, Share)> = anew.collect();
    let counted = |private: bool| {
        Files::of(anew.iter().filter(|(_, way)| (*way == Share::Copy) == private).map(|(entry, _)| *entry))
    };
    let (private, shared) = (counted(true), counted(false));
    let needs = room::taken_by(yard, anew.iter().copied());
    let paths = anew.iter().map(|(entry, _)| entry.path.clone()).collect();
    let before = seen.state.sharing;
    let sharing = if only_some { before } else { options.sharing };
    let state = State { sharing, written: own.clone(), ..seen.state.clone() };
    let draft = seen.listing.clone().into();
    let anew = Anew { paths, sharing: options.sharing };
    Ok(Plan {
        name: row.name.clone(),
        before,
        sharing,
        only_some,
        unshared: policy.unshared(),
        room: room::room(yard, needs)?,
        private,
        shared,
        planned: PlannedChange::new(row, seen, state, draft, What::Shared { sharing: options.sharing }).with_anew(anew),
    })
}

/// Lays files anew in their new way. Their bytes are as before, and so is what others share of them.
///
/// When it returns, the change has survived a power loss. After a crash, some files may share storage in the new way and
/// some in the old one: the same call goes on.
///
/// # Errors
/// As [`restore::apply`](crate::restore::apply).
pub fn apply(yard: &Yard, plan: &Plan, ctx: &Ctx) -> Result<Outcome> {
    let began = Instant::now();
    let AppliedChange { number, set_aside, .. } = planned::apply_planned(yard, &plan.planned, ctx)?;
    let (private, shared) = (plan.private, plan.shared);
    let (name, sharing) = (plan.name.clone(), plan.sharing);
    Ok(Outcome { name, sharing, private, shared, number, set_aside, took: began.elapsed() })
}

/// The way in which a file is to be laid anew; `None` if it stays as it is.
fn new_way(is: Share, way: Share, may_share: impl FnOnce() -> bool) -> Option<Share> {
    let shares = |way: Share| matches!(way, Share::Link | Share::Reflink);
    match (shares(is), shares(way)) {
        (true, false) => Some(Share::Copy),
        (false, true) => (matches!(is, Share::Copy | Share::Arrived) || may_share()).then_some(way),
        _ => None,
    }
}

/// The files of the home that may be shared: what came in masses, where programs are sealed, and what is named on purpose.
fn shared_in_home(yard: &Yard, seen: &Settled, (sharing, only): (Sharing, &Only), ctx: &Ctx) -> Result<Vec<RelPath>> {
    let named = sharing == Sharing::All && only.0.is_some();
    let came = |row: &Row| matches!(row.share, Some(Share::Arrived | Share::Link));
    let files = seen.listing.entries().iter().zip(&seen.rows).filter(|(entry, _)| is_in_home(&entry.path));
    let files = files.filter(|(entry, row)| came(row) || (named && only.has(entry)));
    let files: Vec<_> = files.map(|(entry, _)| entry.path.clone()).collect();
    if files.is_empty() || is_sealed(yard, &seen.state.profile, ctx)? { Ok(files) } else { Ok(Vec::new()) }
}

/// The files that were asked for.
struct Only(Option<PathSet>);

impl Only {
    fn new(patterns: &[String], sheet: Option<&Sheet>) -> Result<Self> {
        if patterns.is_empty() {
            return Ok(Self(None));
        }
        let in_twin = |pattern: &String| match pattern.split_once('/') {
            Some(("game" | "home", _)) => pattern.clone(),
            _ => format!("game/{pattern}"),
        };
        let patterns: Vec<String> = patterns.iter().map(in_twin).collect();
        for pattern in &patterns {
            if pattern::check(pattern).is_some() {
                return Err(Error::Path { path: pattern.clone(), why: "it is no pattern of paths" });
            }
        }
        let folds = sheet.is_some_and(Sheet::ignores_case);
        let set = PathSet::new(patterns.iter().map(String::as_str), folds)
            .map_err(|_| Error::Path { path: patterns.join(" "), why: "it is no pattern" })?;
        Ok(Self(Some(set)))
    }

    fn has(&self, entry: &Entry) -> bool {
        matches!(entry.node, Node::File { .. }) && self.matches(&entry.path)
    }

    fn matches(&self, path: &RelPath) -> bool {
        self.0.as_ref().is_none_or(|set| set.contains(path.as_str()))
    }
}
