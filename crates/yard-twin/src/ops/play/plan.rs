//! What a launch will start.

use std::collections::BTreeMap;
use std::ffi::OsString;
use std::fmt;
use std::path::PathBuf;
use std::sync::Arc;

use serde::{Serialize, Serializer};

use crate::Yard;
use crate::catalog::TwinRow;
use crate::error::{LaunchError, Noun, Result, TwinError};
use crate::ident::{BuildRef, TwinId, TwinName};
use crate::launch::changes::Changes;
use crate::launch::home;
use crate::launch::isolation::Isolation;
use crate::launch::output::OutputSink;
use crate::launch::reach::{self, Reached};
use crate::launch::seal::{Helper, Terminal};
use crate::launch::surroundings::{About, Surroundings};
use crate::ops::play::command::{Chosen, choose, locate, resolved};
use crate::ops::play::isolation;
use crate::ops::play::stop;
use crate::ops::play::tool::Tool;
use crate::profile::{Profile, Seen, Switch};
use crate::progress::Ctx;
use crate::twin::Twin;
use crate::twin::arrived::{Files, is_in_home, linked};
use crate::twin::protection;
use crate::twin::settle;

/// What becomes of what a run changed.
#[derive(Clone, Default)]
pub enum Keep {
    /// It is kept.
    #[default]
    Always,
    /// It is thrown away. Below a sealed launch it stays in the history.
    Never,
    /// As the answer says, which is asked for once the run is over and has changed anything.
    Ask(Arc<dyn Fn(&Changes) -> bool + Send + Sync>),
}

impl fmt::Debug for Keep {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Always => "Always",
            Self::Never => "Never",
            Self::Ask(_) => "Ask(..)",
        })
    }
}

/// What a launch may be told. The default adds no arguments, passes no output on and keeps what the run changes.
#[derive(Clone, Default)]
pub struct Options {
    /// Arguments after those of the profile or the sheet.
    pub arguments: Vec<OsString>,
    /// Where output goes besides the run's folder.
    pub output: Option<OutputSink>,
    /// What becomes of what the run changes.
    pub keep: Keep,
    /// A variant of the profile for this run only, in place of the one that is in use.
    pub variant: Option<String>,
    /// How far it is isolated, in place of what the profile says.
    pub isolation: Option<Isolation>,
    /// What stands between the calling process and the program.
    pub helper: Helper,
    /// A terminal of its own. Without one its output goes into pipes, and its input is the calling process's unless that
    /// is a terminal: then it has none.
    pub terminal: Option<Terminal>,
    /// A command in the place of the twin's program: an installer, a patcher, a file manager. It is started in the game folder, with
    /// nothing of the profile but its isolation and its environment, and sees the folders of what is named in it, read-only.
    pub tool: Option<Vec<OsString>>,
    /// Whether it is started to see where it writes: a sealed program begins with an empty home then, whatever the twin's
    /// holds, and what it leaves in shared memory and in the session's folder is seen.
    pub watched: bool,
}

impl fmt::Debug for Options {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { arguments, output, keep, variant, isolation, helper, terminal, tool, watched } = self;
        f.debug_struct("Options")
            .field("arguments", arguments)
            .field("output", &output.is_some())
            .field("keep", keep)
            .field("variant", variant)
            .field("isolation", isolation)
            .field("helper", helper)
            .field("terminal", terminal)
            .field("tool", tool)
            .field("watched", watched)
            .finish()
    }
}

/// What a launch will start.
#[must_use = "a plan starts nothing"]
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Plan {
    /// The twin.
    pub twin: TwinName,
    /// The stock build that it is on.
    pub build: BuildRef,
    /// Its title as people write it.
    pub title_name: String,
    /// The variant of the profile that it is started with.
    pub variant: Option<String>,
    /// The command in front of the program, if the profile names one.
    pub wrapper: Vec<String>,
    /// The program.
    pub program: PathBuf,
    /// Its arguments.
    #[serde(serialize_with = "lossy")]
    pub arguments: Vec<OsString>,
    /// Its working folder.
    pub folder: PathBuf,
    /// Variables that differ from the caller's.
    #[serde(serialize_with = "lossy_map")]
    pub environment: BTreeMap<OsString, OsString>,
    /// How far it will be isolated.
    pub isolation: Isolation,
    /// Why it is not isolated further, where nobody asked for that.
    pub why_not_better: Option<String>,
    /// Whether it has a network.
    pub network: bool,
    /// Whether it has shared memory and semaphores of its own: sealed programs that draw on an X11 display share the
    /// system's, unless the profile says otherwise.
    pub own_ipc: bool,
    /// Folders outside that it is shown.
    pub reached: Vec<Reached>,
    /// Whether it begins with an empty home, and writes nowhere unseen.
    pub watched: bool,
    /// Files of its home that are shared and get bytes of their own first, since nothing keeps it from writing through
    /// them: as far as the last look at the twin tells.
    pub made_own: Files,
    /// A command that is run before, outside of all isolation.
    pub before: Vec<String>,
    /// A command that is run when all is over, outside of all isolation.
    pub after: Vec<String>,
    /// The twin's home.
    pub home: PathBuf,
    /// Whether that home is still empty.
    pub home_empty: bool,
    /// Whether it never ran before.
    pub first: bool,
    /// Whether it is started beside another run of the twin, whose layer it shares: the title sheet allows that.
    pub beside: bool,
    /// Marker files and folders of the title sheet that it doesn't have.
    pub markers_missing: Vec<String>,
    /// Whether the twin is protected, and its title sheet knows no belongings and no live paths: what its program
    /// writes beside its game files is put back after the run.
    pub puts_all_back: bool,
    /// The profile, with the variant.
    #[serde(skip)]
    pub(crate) profile: Profile,
    #[serde(skip)]
    pub(crate) row: TwinRow,
    #[serde(skip)]
    pub(crate) around: Surroundings,
    /// The process that waits for the run that this one is started beside.
    #[serde(skip)]
    pub(crate) joins: Option<i32>,
}

fn lossy<S: Serializer>(texts: &[OsString], serializer: S) -> Result<S::Ok, S::Error> {
    serializer.collect_seq(texts.iter().map(|text| text.to_string_lossy()))
}

fn lossy_map<S: Serializer>(texts: &BTreeMap<OsString, OsString>, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.collect_map(texts.iter().map(|(name, value)| (name.to_string_lossy(), value.to_string_lossy())))
}

/// The name of the twin with that id.
///
/// # Errors
/// [`crate::Error::NotFound`] if there is none, or it was removed.
pub fn twin_by_id(yard: &Yard, id: TwinId) -> Result<TwinName> {
    match yard.catalog.twin(id)? {
        Some(row) if row.removed_at.is_none() => Ok(row.name),
        _ => Err(crate::Error::NotFound { what: Noun::TwinWithId, name: id.to_string(), known: Vec::new() }),
    }
}

/// Looks at what a launch would start. What is possible here is found out once for each boot, by a trial.
///
/// # Errors
/// [`LaunchError`], among others [`LaunchError::Isolation`] where what was asked for is not possible;
/// [`crate::Error::NotFound`], [`crate::TwinError::FolderMissing`], [`crate::Error::Busy`] if it runs already.
pub fn plan(yard: &Yard, name: &TwinName, options: &Options, ctx: &Ctx) -> Result<Plan> {
    let row = yard.twin_row(name, false)?;
    let twin = Twin::hold(yard, &row, ctx);
    let folder = settle::present_folder(yard, &row)?;
    let (base, _) = Profile::load(&folder.join("profile.toml"))?;
    let variant = options.variant.clone().or_else(|| base.variant.clone());
    let mut profile = base.with_variant(variant.as_deref())?;
    let state = yard.store.state(row.state)?;
    let build = state.build.clone();
    let sheet = yard.sheet_of(&build)?;
    let puts_all_back = row.protected.is_some() && protection::knows_nothing_own(yard, &build)?;
    let tool = options.tool.as_deref().map(|command| Tool::of(command, (&folder, yard.root()))).transpose()?;
    if tool.is_some() {
        if row.protected.is_some() {
            return Err(TwinError::Protected(name.to_string()).into());
        }
        (profile.wrapper, profile.before, profile.after) = (None, None, None);
    }
    let chosen = match &tool {
        Some(_) => Chosen::default(),
        None => {
            let chosen = choose(sheet.as_ref(), &profile).ok_or_else(|| LaunchError::NoProgram {
                twin: name.to_string(),
                title: build.title.to_string(),
                programs: sheet.iter().flat_map(|sheet| sheet.programs.keys().cloned()).collect(),
            })?;
            Chosen { program: resolved(&folder.join("game"), &chosen.program)?, ..chosen }
        }
    };
    let joins = match twin {
        Ok(_) => None,
        // What it changes is in one layer with what the first one does: it can't be thrown away by itself.
        Err(busy) => match options.keep {
            Keep::Always => Some(can_join(yard, &row, &chosen).ok_or(busy)?),
            Keep::Never | Keep::Ask(_) => return Err(busy),
        },
    };
    let (program, work) = match &tool {
        Some(tool) => (tool.program.clone(), folder.join("game")),
        None => locate(&chosen, &folder.join("game"), profile.wrapper.is_some())?,
    };
    let network = profile.network != Some(Switch::Off);
    // Only a namespace of its own has no network.
    let asked = options.isolation.or(profile.isolation).or((!network).then_some(Isolation::Sealed));
    let possible = isolation::possible_isolation(yard, ctx)?;
    let isolation = possible.choose(if joins.is_some() { Some(Isolation::Sealed) } else { asked })?;
    if !network && isolation != Isolation::Sealed {
        let why = "only a sealed program can be without a network".into();
        return Err(LaunchError::Setting { key: "network".into(), what: "kept off", why }.into());
    }
    let yard_shown = profile.yard == Some(Seen::Shown);
    let mut reached = reach::reached(profile.reaches(), yard.root())?;
    if let Some(tool) = &tool {
        reached.extend(reach::reached((&tool.sees, &[]), yard.root())?);
    }
    let watched = options.watched && isolation == Isolation::Sealed;
    let ipc = profile.ipc;
    let about =
        About { twin: &folder, yard: yard.root(), isolation, yard_shown, network, ipc, reached: &reached, watched };
    let around = Surroundings::new(about)?;
    let mut environment = around.environment.clone();
    let inside = sheet.as_ref().map(|sheet| sheet.inside.clone()).unwrap_or_default();
    let named = inside.environment.iter().chain(&profile.environment);
    environment.extend(named.map(|(name, value)| (name.into(), value.into())));
    let home = folder.join("home");
    let game = folder.join("game");
    let there = |path: &&String| !crate::disk::exists(&game.join(path));
    let arguments: Vec<OsString> = match &tool {
        Some(tool) => tool.arguments.clone(),
        None => inside.arguments.iter().chain(&chosen.arguments).map(OsString::from).collect(),
    };
    Ok(Plan {
        twin: row.name.clone(),
        title_name: yard.title_name(&build),
        build,
        profile: profile.clone(),
        variant,
        wrapper: profile.wrapper.unwrap_or_default(),
        program,
        arguments: arguments.into_iter().chain(options.arguments.iter().cloned()).collect(),
        folder: work,
        environment,
        isolation,
        why_not_better: if asked.is_none() { possible.why_not_better(isolation) } else { None },
        network,
        own_ipc: around.own_ipc,
        reached,
        watched,
        made_own: if isolation == Isolation::Sealed {
            Files::default()
        } else {
            linked(yard, &folder, &state, is_in_home)?
        },
        before: profile.before.unwrap_or_default(),
        after: profile.after.unwrap_or_default(),
        home_empty: home::is_empty(&home),
        home,
        first: yard.catalog.newest_run(row.id)?.is_none(),
        puts_all_back,
        markers_missing: inside.files.iter().chain(&inside.folders).filter(there).cloned().collect(),
        beside: joins.is_some(),
        joins,
        row,
        around,
    })
}

/// The process that waits for the run of a twin which another one may be started beside: both sealed, if the title
/// sheet allows several.
fn can_join(yard: &Yard, row: &TwinRow, chosen: &Chosen) -> Option<i32> {
    let (run, keeper) = stop::current_run(yard, row).ok()??;
    (chosen.several && run.isolation == Isolation::Sealed.name()).then_some(keeper)
}
