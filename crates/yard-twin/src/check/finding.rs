//! What a check can find: what is wrong, with what, how bad it is, and what mends it.

use std::fmt;
use std::path::PathBuf;

use serde::Serialize;

use crate::catalog::Counts;
use crate::ident::{BuildRef, ContentId, ListingId, StateId, Title, TwinId, TwinName};
use crate::launch::Isolation;

/// How bad a finding is; the worst first.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Severity {
    /// Bytes are lost or wrong.
    Damaged,
    /// Something doesn't work, or will not.
    Wrong,
    /// Something is not as it was taken in, which may be just as it should be.
    Differs,
    /// Good to know.
    Note,
}

/// What a finding is about.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum About {
    /// The yard itself: its catalogue, pool, listings, states, sheets.
    Yard,
    /// A stock build.
    Stock(BuildRef),
    /// A twin.
    Twin(TwinName),
}

impl fmt::Display for About {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Yard => f.write_str("the yard"),
            Self::Stock(build) => build.fmt(f),
            Self::Twin(name) => name.fmt(f),
        }
    }
}

/// A use of a content or a listing: by what, and where in it.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
pub struct Touched {
    /// The stock build or twin.
    pub about: About,
    /// A path in it that holds the content; of several, the first. `None` for a listing.
    pub path: Option<String>,
    /// How many more paths in it do.
    pub more: u64,
    /// Whether it is only an earlier state that needs it, which the history keeps.
    pub earlier: bool,
}

impl fmt::Display for Touched {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if let Some(path) = &self.path {
            write!(f, "{path}")?;
            if self.more > 0 {
                write!(f, " and {} more", self.more)?;
            }
            f.write_str(" in ")?;
        }
        if self.earlier {
            f.write_str("an earlier state of ")?;
        }
        self.about.fmt(f)
    }
}

/// A file of the pool that doesn't hold what its name says.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct DamagedFile {
    /// What it should hold.
    pub content: ContentId,
    /// Whether it is the second one, for executables.
    pub executable: bool,
    /// What is wrong with it.
    pub why: String,
    #[serde(skip)]
    pub(crate) inode: u64,
}

/// What is wrong. `Display` says it in a sentence without its subject.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(tag = "problem", rename_all = "snake_case")]
#[non_exhaustive]
#[allow(missing_docs)]
pub enum Problem {
    /// The catalogue's database is damaged: what SQLite says of it.
    Catalogue { why: Vec<String> },
    /// A command that died had left this, and the opening of the yard finished or undid it.
    Recovered { what: Vec<String> },
    /// A command that died had left this, and it could be neither finished nor undone.
    HalfDone { what: String, why: String },
    /// Something is left in `tmp/` that no living command holds.
    LeftOver { path: PathBuf },
    /// A folder below `twins/` or `removed/` is no twin's.
    StrayFolder { folder: PathBuf },
    /// A folder below `twins/` is a twin's that the catalogue doesn't know.
    UnknownTwin { folder: PathBuf, id: TwinId },
    /// The pool has lost contents that the same stock builds and twins need.
    ContentMissing { contents: Vec<ContentId>, touches: Vec<Touched> },
    /// Files of the pool don't hold what their names say; the same stock builds and twins need them.
    ContentDamaged { files: Vec<DamagedFile>, touches: Vec<Touched> },
    /// Files of the pool may be written to.
    Unguarded { paths: Vec<PathBuf> },
    /// What a folder held can't be read any more.
    ListingDamaged { listing: ListingId, why: String, touches: Vec<Touched> },
    /// A kept state of a twin can't be read any more.
    StateDamaged { state: StateId, why: String, numbers: Vec<u32>, current: bool },
    /// The newest line of a twin's history is gone.
    NoHistory,
    /// A title sheet is wrong.
    SheetWrong { path: PathBuf, why: String },
    /// A title has no sheet.
    NoSheet { title: Title },
    /// A twin is on a stock build that the catalogue doesn't know.
    NoStockBuild { build: BuildRef },
    /// A twin's folder is not where it should be.
    FolderMissing { folder: PathBuf, found: Option<PathBuf> },
    /// What stands where a twin's folder should be is not its folder, or not as a twin's has to be.
    NotItsFolder { folder: PathBuf, why: String },
    /// A twin's folder has lost the file that says whose it is.
    NoId { folder: PathBuf },
    /// It is in use, and could not be looked at.
    InUse,
    /// It could not be looked at.
    Unreadable { why: String },
    /// A change was cut off, and can't be finished.
    Unfinished { why: String },
    /// The profile can't be read.
    ProfileWrong { why: String },
    /// Nothing told how the files looked, so that all were read.
    IndexLost,
    /// Files hold something else than at the last look, and nothing else about them has changed.
    Altered { paths: Vec<String> },
    /// Shared files were written through their guard.
    WrittenThrough {
        paths: Vec<String>,
        /// The contents that they should have, and the inodes that have others now.
        #[serde(skip)]
        wrong: Vec<(ContentId, u64)>,
    },
    /// Shared files were made writable, or had their time set.
    GuardLifted { paths: Vec<String> },
    /// Something changed since the last look.
    ChangedSince { game: Counts, own: Counts },
    /// Game files of a protected twin were changed.
    ChangedThoughProtected { game: Counts },
    /// Game files are not those of the stock build.
    FromStock { by_program: Vec<String>, by_hand: Vec<String>, missing: Vec<String>, extra: Vec<String> },
    /// A mod's record can't be read.
    ModDamaged { name: String, why: String },
    /// Files of a mod that is on are not there.
    ModIncomplete { name: String, paths: Vec<String> },
    /// An archive of the program was changed since it was laid, and still has what tells the program so.
    SealsLeft { archive: String, seals: Vec<String> },
    /// What a mod's sheet expects is not there.
    ModExpects { name: String, paths: Vec<String> },
    /// The folder isn't what the title sheet calls good.
    NotGood { missing: Vec<String>, unwanted: Vec<String> },
    /// Marker files or folders are missing that keep the program inside.
    NoMarkers { paths: Vec<String> },
    /// A folder was dropped in as it is, and its contents belong one level higher.
    Wrapper { folder: String, into: String, holds: Vec<String> },
    /// A file names another twin's folder, or one where this twin was before, by its absolute path; or a symlink leads
    /// there.
    LeadsElsewhere { path: String, line: Option<usize>, to: String },
    /// What no listing can hold is in the folder.
    NotTaken { paths: Vec<String> },
    /// Linked files are not guarded against this user, or on this filesystem.
    WeakGuard,
    /// Its profile asks for an isolation that isn't possible here.
    NoIsolation { asked: Isolation, why: String },
    /// It gets a weaker isolation than the best there is.
    LessIsolation { gets: Isolation, why: String },
    /// A launch entry is gone.
    EntryMissing { path: PathBuf },
    /// A launch entry doesn't start this twin.
    EntryWrong { path: PathBuf, why: String },
}

/// What mends it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(tag = "mend", rename_all = "snake_case")]
#[non_exhaustive]
pub enum Mend {
    /// [`check::mend`](crate::check::mend) does it, and nothing is lost by it.
    Safe,
    /// Nothing needs to be done.
    Nothing,
    /// Taking the build in again, from where it came or from another copy of it.
    TakeIn {
        /// The build.
        build: BuildRef,
        /// Where it came from, if that is known.
        source: Option<PathBuf>,
    },
    /// Another folder that has the right bytes in it: [`crate::check::Options::from`].
    Elsewhere,
    /// Looking at what differs.
    Look {
        /// The one side, as it is typed.
        from: String,
        /// The other.
        to: String,
    },
    /// Going back to an earlier state of a twin.
    Restore,
    /// Looking at a twin's mods.
    Mods,
    /// Putting a mod's package into the yard again.
    AddAgain {
        /// The mod.
        name: String,
    },
    /// Removing the twin, and making it anew of its own last state.
    Clone {
        /// The stock build that it is on.
        from: BuildRef,
    },
    /// Looking for such paths in the whole twin: [`repath::plan`](crate::repath::plan).
    Repath {
        /// Whether it can be known what should be named instead.
        rewrites: bool,
    },
    /// Correcting a file.
    Edit {
        /// The file.
        path: PathBuf,
    },
    /// Writing a title sheet.
    WriteSheet {
        /// The title.
        title: Title,
    },
    /// Moving what is in a folder to another one, and taking the empty one away.
    MoveUp {
        /// The folder, on disk.
        folder: PathBuf,
        /// The other.
        into: PathBuf,
    },
    /// Moving something out of the way.
    MoveAway {
        /// What.
        path: PathBuf,
    },
    /// Putting a twin's own folder back where it was.
    PutBack,
    /// Asking for another isolation.
    AskForLess,
    /// Making the twin's files its own.
    CloneUnshared,
    /// Putting the catalogue back from a backup.
    Backup,
    /// Trying again once it is free.
    Wait,
}

/// Something that a check found.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct Finding {
    /// How bad it is.
    pub severity: Severity,
    /// What it is about.
    pub about: About,
    /// What it is.
    #[serde(flatten)]
    pub problem: Problem,
    /// What mends it.
    #[serde(flatten)]
    pub mend: Mend,
}

impl Finding {
    pub(super) fn new(severity: Severity, about: &About, problem: Problem, mend: Mend) -> Self {
        Self { severity, about: about.clone(), problem, mend }
    }
}

impl fmt::Display for Problem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Catalogue { why } => write!(f, "the catalogue is damaged: {}", few(why)),
            Self::Recovered { what } => write!(f, "left by a command that died, and looked after: {}", few(what)),
            Self::HalfDone { what, why } => write!(f, "{what} was cut off, and could not be finished: {why}"),
            Self::LeftOver { path } => write!(f, "left in the staging folder: {}", path.display()),
            Self::StrayFolder { folder } => write!(f, "this folder is no twin's: {}", folder.display()),
            Self::UnknownTwin { folder, .. } => {
                write!(f, "the catalogue doesn't know the twin in {}", folder.display())
            }
            Self::ContentMissing { contents, touches } => {
                let contents = few(&contents.iter().map(short).collect::<Vec<_>>());
                write!(f, "the yard has lost stored files ({contents}), needed for {}", few(touches))
            }
            Self::ContentDamaged { files, touches } => {
                let text = |file: &DamagedFile| format!("{}: {}", short(&file.content), file.why);
                let files: Vec<_> = files.iter().map(text).collect();
                write!(f, "stored files are damaged ({}): ", few(&files))?;
                if touches.is_empty() { f.write_str("nothing needs them") } else { f.write_str(&few(touches)) }
            }
            Self::Unguarded { paths } => write!(f, "stored files may be written to: {}", few(&shown(paths))),
            Self::ListingDamaged { listing, why, touches } => {
                write!(f, "the list of files {} is damaged ({why}): it is that of {}", short(listing), few(touches))
            }
            Self::StateDamaged { why, current: true, .. } => write!(f, "its record is damaged ({why})"),
            Self::StateDamaged { why, numbers, .. } => {
                let numbers: Vec<_> = numbers.iter().map(ToString::to_string).collect();
                write!(f, "what line {} of its history goes back to is damaged ({why})", few(&numbers))
            }
            Self::NoHistory => f.write_str("the line of its history is gone that tells how it is now"),
            Self::SheetWrong { path, why } => write!(f, "the title sheet {} is wrong: {why}", path.display()),
            Self::NoSheet { title } => write!(f, "the title {title} has no sheet"),
            Self::NoStockBuild { build } => write!(f, "its stock build {build} is not in the catalogue"),
            Self::NotItsFolder { folder, why } => write!(f, "{} is not its folder: {why}", folder.display()),
            Self::FolderMissing { folder, found: None } => write!(f, "its folder is gone: {}", folder.display()),
            Self::FolderMissing { folder, found: Some(found) } => {
                write!(f, "its folder is {}, and should be {}", found.display(), folder.display())
            }
            Self::NoId { folder } => {
                write!(f, "the file that says whose folder it is is gone from {}", folder.display())
            }
            Self::InUse => f.write_str("it is in use, and was not looked at"),
            Self::Unreadable { why } => write!(f, "it could not be looked at: {why}"),
            Self::Unfinished { why } => write!(f, "a change of it was cut off, and can't be finished: {why}"),
            Self::ProfileWrong { why } => write!(f, "its profile can't be read: {why}"),
            Self::IndexLost => {
                f.write_str("its index was lost, so that all of its files were read; there is a new one")
            }
            Self::Altered { paths } => {
                write!(f, "other bytes than at the last look, though nobody seems to have written: {}", few(paths))
            }
            Self::WrittenThrough { paths, .. } => {
                write!(f, "shared files were written through their guard: {}", few(paths))
            }
            Self::GuardLifted { paths } => {
                write!(f, "shared files were made writable, or had their time set: {}", few(paths))
            }
            Self::ChangedSince { game, own } => write!(f, "changed since the last look: {}", counted(game, own)),
            Self::ChangedThoughProtected { game } => {
                write!(f, "it is protected, and yet game files were changed: {}", counted(game, &Counts::default()))
            }
            Self::FromStock { by_program, by_hand, missing, extra } => {
                let parts = [
                    (by_program, "changed by the program"),
                    (by_hand, "changed by hand"),
                    (missing, "missing"),
                    (extra, "more than it had"),
                ];
                let parts = parts.iter().filter(|(paths, _)| !paths.is_empty());
                let parts: Vec<_> =
                    parts.map(|(paths, how)| format!("{} {how} ({})", paths.len(), few(paths))).collect();
                write!(f, "game files are not those of its stock build and its mods: {}", parts.join("; "))
            }
            Self::ModDamaged { name, why } => write!(f, "its mod {name:?} can't be read: {why}"),
            Self::ModIncomplete { name, paths } => {
                write!(f, "its mod {name:?} is on and not all there: {} missing", are(paths))
            }
            Self::SealsLeft { archive, seals } => {
                write!(f, "{archive} was changed, and what its program knows that by is still in it: {}", few(seals))
            }
            Self::ModExpects { name, paths } => {
                write!(f, "its mod {name:?} expects what is not there: {}", few(paths))
            }
            Self::NotGood { missing, unwanted } => {
                f.write_str("by the title sheet it is no good copy: ")?;
                match (missing.is_empty(), unwanted.is_empty()) {
                    (false, true) => write!(f, "{} missing", are(missing)),
                    (true, _) => write!(f, "{} too much", are(unwanted)),
                    (false, false) => write!(f, "{} missing, {} too much", are(missing), are(unwanted)),
                }
            }
            Self::NoMarkers { paths } => {
                write!(f, "{} missing, by which its program keeps to its own folder", are(paths))
            }
            Self::Wrapper { folder, into, holds } => {
                write!(f, "{folder} was dropped in as it is: its {} belong in {into}", few(holds))
            }
            Self::LeadsElsewhere { path, line: Some(line), to } => {
                write!(f, "{path}, line {line}, names a folder that is not this twin's: {to}")
            }
            Self::LeadsElsewhere { path, line: None, to } => write!(f, "{path} leads out of the twin: {to}"),
            Self::NotTaken { paths } => write!(f, "in its folder, and never copied along: {}", few(paths)),
            Self::WeakGuard => {
                f.write_str("its linked files are not guarded here: a write to one reaches the others that share it")
            }
            Self::NoIsolation { asked, why } => write!(f, "it can't be launched {asked}, as its profile asks: {why}"),
            Self::LessIsolation { gets, why } => write!(f, "it is launched {gets}, and no better: {why}"),
            Self::EntryMissing { path } => write!(f, "its launch entry is gone: {}", path.display()),
            Self::EntryWrong { path, why } => write!(f, "its launch entry {} {why}", path.display()),
        }
    }
}

/// So many are named in a sentence.
const FEW: usize = 6;

fn few(all: &[impl fmt::Display]) -> String {
    let mut text = all.iter().take(FEW).map(ToString::to_string).collect::<Vec<_>>().join(", ");
    if all.len() > FEW {
        text.push_str(&format!(" and {} more", all.len() - FEW));
    }
    text
}

fn are(all: &[String]) -> String {
    format!("{} {}", few(all), if all.len() == 1 { "is" } else { "are" })
}

fn shown(paths: &[PathBuf]) -> Vec<String> {
    paths.iter().map(|path| path.display().to_string()).collect()
}

/// The beginning of an id, which tells it from the others for people.
fn short(id: &impl fmt::Display) -> String {
    id.to_string().chars().take(12).collect()
}

fn counted(game: &Counts, own: &Counts) -> String {
    let files = |count: u64| if count == 1 { "game file" } else { "game files" };
    let game = [(game.new, "new"), (game.changed, "changed"), (game.gone, "gone")];
    let game = game.into_iter().filter(|(count, _)| *count > 0);
    let mut parts: Vec<_> = game.map(|(count, how)| format!("{count} {} {how}", files(count))).collect();
    if own.total() > 0 {
        parts.push(format!("{} of the player's or the program's own", own.total()));
    }
    parts.join(", ")
}
