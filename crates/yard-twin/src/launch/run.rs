//! A run: from the plan over the start to what it changed.

use std::collections::BTreeMap;
use std::ffi::OsString;
use std::fs::File;
use std::io::{Read, Write};
use std::os::unix::process::ExitStatusExt;
use std::path::{Path, PathBuf};
use std::process::{Child, ExitStatus};
use std::sync::{Arc, Mutex};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use jiff::Timestamp;
use rustix::process::{Pid, Signal, kill_process};
use serde::{Serialize, Serializer};

use super::changes::{Changes, changes};
use super::command::{choose, locate};
use super::home;
use super::isolation::Isolation;
use crate::Yard;
use crate::catalog::{RunRecord, TwinRow, What};
use crate::disk;
use crate::error::{Error, LaunchError, PathContext, Result};
use crate::ident::{BuildRef, TwinId, TwinName};
use crate::listing::Listing;
use crate::lock::Held;
use crate::ops::Settled;
use crate::parallel::lock;
use crate::profile::Profile;
use crate::progress::Ctx;
use crate::state::State;

/// Output beyond this is passed on and not kept.
const OUTPUT_KEPT: u64 = 16 << 20;

/// How long output is still collected after the program's end, where a child of its keeps the pipe open.
const LAST_WORDS: Duration = Duration::from_millis(300);

/// One of the two streams of a program's output.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Stream {
    /// Standard output.
    Out,
    /// Standard error.
    Err,
}

/// Receives a program's output as it comes, from two threads.
pub type OutputSink = Arc<dyn Fn(Stream, &[u8]) + Send + Sync>;

/// What a launch may be told. The default adds no arguments and passes no output on.
#[derive(Clone, Default)]
pub struct LaunchOptions {
    /// Arguments after those of the profile or the sheet.
    pub arguments: Vec<OsString>,
    /// Where output goes besides the run's folder.
    pub output: Option<OutputSink>,
}

/// What a launch will start.
#[must_use = "a plan starts nothing"]
#[derive(Clone, Debug, Serialize)]
pub struct LaunchPlan {
    /// The twin.
    pub twin: TwinName,
    /// The stock build that it is on.
    pub build: BuildRef,
    /// Its title as people write it.
    pub title_name: String,
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
    /// The twin's home.
    pub home: PathBuf,
    /// Whether that home is still empty.
    pub home_empty: bool,
    /// Whether it never ran before.
    pub first: bool,
    #[serde(skip)]
    row: TwinRow,
}

fn lossy<S: Serializer>(texts: &[OsString], serializer: S) -> Result<S::Ok, S::Error> {
    serializer.collect_seq(texts.iter().map(|text| text.to_string_lossy()))
}

fn lossy_map<S: Serializer>(texts: &BTreeMap<OsString, OsString>, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.collect_map(texts.iter().map(|(name, value)| (name.to_string_lossy(), value.to_string_lossy())))
}

/// What a run did.
#[derive(Clone, Debug, Serialize)]
pub struct RunOutcome {
    /// The twin.
    pub twin: TwinName,
    /// The record that is kept of it.
    pub record: RunRecord,
    /// What it changed in the twin.
    pub changes: Changes,
    /// The file with its output.
    pub output: PathBuf,
    /// Shared files that were found to be written through their guard, before the run or after it.
    pub leaks: Vec<String>,
    /// How long it ran.
    #[serde(serialize_with = "crate::progress::seconds")]
    pub ran: Duration,
}

/// A program that is running in a twin, which is held to its end.
#[must_use = "the run is recorded only by `wait`"]
pub struct Running<'y> {
    yard: &'y Yard,
    row: TwinRow,
    held: Held,
    child: Child,
    signaller: Signaller,
    readers: Vec<JoinHandle<()>>,
    record: RunRecord,
    before: Listing,
    leaks: Vec<String>,
    /// The number of the state that it began with.
    started_from: u32,
    output: PathBuf,
    began: Instant,
}

/// Sends signals to a running program; does nothing once it has ended.
#[derive(Clone)]
pub struct Signaller(Arc<Mutex<Option<Pid>>>);

impl Signaller {
    /// Sends the signal of that number.
    pub fn send(&self, signal: i32) {
        // Held while the signal is sent, so that the id can't belong to another process by then.
        if let (Some(pid), Some(signal)) = (*lock(&self.0), Signal::from_named_raw(signal)) {
            // It may have ended just now.
            let _ = kill_process(pid, signal);
        }
    }
}

impl Yard {
    /// The name of the twin with that id.
    ///
    /// # Errors
    /// [`Error::NotFound`] if there is none, or it was removed.
    pub fn twin_by_id(&self, id: TwinId) -> Result<TwinName> {
        match self.catalog.twin(id)? {
            Some(row) if row.removed_at.is_none() => Ok(row.name),
            _ => Err(Error::NotFound { what: "twin with the id", name: id.to_string(), known: Vec::new() }),
        }
    }

    /// Looks at what a launch would start.
    ///
    /// # Errors
    /// [`LaunchError`], [`Error::NotFound`], [`crate::TwinError::FolderMissing`], [`Error::Busy`] if it runs already.
    pub fn plan_launch(&self, name: &TwinName, options: &LaunchOptions, ctx: &Ctx) -> Result<LaunchPlan> {
        let row = self.twin_row(name, false)?;
        let _held = self.hold_twin(&row, ctx)?;
        let folder = self.present_folder(&row)?;
        let (profile, _) = Profile::load(&folder.join("profile.toml"))?;
        let build = self.state(row.state)?.build;
        let sheet = self.sheet(&build.title)?;
        let chosen = choose(sheet.as_ref(), &profile).ok_or_else(|| LaunchError::NoProgram {
            twin: name.to_string(),
            title: build.title.to_string(),
            programs: sheet.iter().flat_map(|sheet| sheet.programs.keys().cloned()).collect(),
        })?;
        let (program, work) = locate(&chosen, &folder.join("game"))?;
        let home = folder.join("home");
        let mut environment = home::variables(&home);
        environment.extend(profile.environment.iter().map(|(name, value)| (name.into(), value.into())));
        Ok(LaunchPlan {
            twin: row.name.clone(),
            title_name: self.title_name(&build),
            build,
            program,
            arguments: chosen.arguments.iter().map(OsString::from).chain(options.arguments.iter().cloned()).collect(),
            folder: work,
            environment,
            isolation: Isolation::best(),
            home_empty: home::is_empty(&home),
            home,
            first: self.catalog.runs(row.id)?.is_empty(),
            row,
        })
    }

    /// Starts the twin's program: directly, in its working folder, with the twin's home as its home.
    ///
    /// The twin is held until [`Running::wait`] returns: no other command changes it meanwhile. If this process is killed
    /// the program goes on, and the next command takes in what it has changed by then.
    ///
    /// # Errors
    /// [`Error::Busy`] if it runs already, [`Error::Io`] if it can't be started.
    pub fn launch(&self, plan: &LaunchPlan, options: &LaunchOptions, ctx: &Ctx) -> Result<Running<'_>> {
        let mut held = self.hold_twin(&plan.row, ctx)?;
        held.for_long(&self.twin_lock_path(plan.row.id))?;
        home::prepare(&plan.home)?;
        let settled = self.settle_held(&plan.row, &held, What::Outside, ctx)?;
        self.lay_home(&plan.row, &settled, ctx)?;
        let Settled { listing: before, leaks, .. } = settled;
        let started_from = self.catalog.newest_change(plan.row.id)?;
        let (started_at, isolation) = (Timestamp::now(), plan.isolation.to_string());
        let folder = self.present_folder(&plan.row)?;
        let program = plan.program.strip_prefix(folder.join("game")).unwrap_or(&plan.program).display().to_string();
        let mut child = plan.isolation.start(plan).at("start", &plan.program)?;
        let pid = i32::try_from(child.id()).ok().and_then(Pid::from_raw);
        let signaller = Signaller(Arc::new(Mutex::new(pid)));
        let recorded = self
            .catalog
            .begin_run(plan.row.id, &program, &isolation, started_at)
            .and_then(|id| Ok((id, Log::create(&folder.join("runs"), id)?)));
        let (id, log) = match recorded {
            Ok(recorded) => recorded,
            Err(error) => {
                // Nobody would ever know of this run, so it must not go on. It may have ended already.
                let _ = child.kill();
                let _ = child.wait();
                return Err(error);
            }
        };
        let output = log.path.clone();
        let log = Arc::new(Mutex::new(log));
        let readers = [
            child.stdout.take().map(|pipe| collect(pipe, Stream::Out, &log, options.output.clone())),
            child.stderr.take().map(|pipe| collect(pipe, Stream::Err, &log, options.output.clone())),
        ];
        let record = RunRecord {
            id,
            program,
            isolation,
            started_at,
            ended_at: None,
            exit_code: None,
            signal: None,
            summary: None,
        };
        Ok(Running {
            yard: self,
            row: plan.row.clone(),
            held,
            child,
            signaller,
            readers: readers.into_iter().flatten().collect(),
            record,
            before,
            leaks,
            started_from,
            output,
            began: Instant::now(),
        })
    }
}

impl Yard {
    /// What was made in a twin's home before its first start was laid by us: it is no change of the player's.
    fn lay_home(&self, row: &TwinRow, settled: &Settled, ctx: &Ctx) -> Result<()> {
        let laid = self.listing(settled.state.laid)?;
        let made = home::prepared().filter(|path| !laid.has(path));
        let made: Vec<_> = made.filter_map(|path| settled.listing.get(&path).cloned()).collect();
        if made.is_empty() {
            return Ok(());
        }
        let laid = Listing::new(laid.entries().iter().cloned().chain(made).collect())?;
        let op = self.begin(ctx)?;
        let state = State { laid: self.put_listing(&laid, None, &op)?, ..settled.state.clone() };
        self.catalog.set_state(row.id, self.put_state(&state, &op)?)
    }
}

impl Running<'_> {
    /// The program's process id.
    #[must_use]
    pub fn pid(&self) -> u32 {
        self.child.id()
    }

    /// Something to send the program signals with, from another thread.
    #[must_use]
    pub fn signaller(&self) -> Signaller {
        self.signaller.clone()
    }

    /// Waits for the program's end, then takes in what it changed and completes the record.
    ///
    /// # Errors
    /// [`Error::Io`], or what a settle fails with. The run is recorded as ended all the same.
    pub fn wait(mut self, ctx: &Ctx) -> Result<RunOutcome> {
        let status = self.wait_for_exit().at("wait for", &self.output)?;
        let ran = self.began.elapsed();
        let until = Instant::now() + LAST_WORDS;
        while Instant::now() < until && self.readers.iter().any(|reader| !reader.is_finished()) {
            std::thread::sleep(Duration::from_millis(2));
        }
        self.record.ended_at = Some(Timestamp::now());
        self.record.exit_code = status.code();
        self.record.signal = status.signal();
        let what = What::Run { run: self.record.id };
        let settled = self.yard.settle_held(&self.row, &self.held, what, ctx);
        let outcome = settled.and_then(|settled| {
            let sheet = self.yard.sheet(&settled.state.build.title)?;
            Ok((changes(&self.before, &settled.listing, sheet.as_ref()), settled.leaks))
        });
        self.record.summary = outcome.as_ref().ok().map(|(changes, _)| changes.summary());
        self.yard.catalog.end_run(&self.record)?;
        if status.success() {
            self.yard.catalog.started_fine(self.row.id, self.started_from)?;
        }
        let (changes, leaks) = outcome?;
        self.leaks.extend(leaks);
        Ok(RunOutcome {
            twin: self.row.name,
            record: self.record,
            changes,
            output: self.output,
            leaks: self.leaks,
            ran,
        })
    }

    /// Waits, and forgets the process id before the system can give it to another process.
    fn wait_for_exit(&mut self) -> std::io::Result<ExitStatus> {
        use rustix::process::{WaitId, WaitIdOptions, waitid};
        if let Some(pid) = i32::try_from(self.child.id()).ok().and_then(Pid::from_raw) {
            // Looks without taking the process away, so that its id is still its own.
            while let Err(rustix::io::Errno::INTR) =
                waitid(WaitId::Pid(pid), WaitIdOptions::EXITED | WaitIdOptions::NOWAIT)
            {}
        }
        *lock(&self.signaller.0) = None;
        self.child.wait()
    }
}

/// The file that keeps a run's output.
struct Log {
    file: File,
    path: PathBuf,
    kept: u64,
}

impl Log {
    fn create(runs: &Path, id: i64) -> Result<Self> {
        let folder = runs.join(id.to_string());
        disk::make_folders(&folder)?;
        let path = folder.join("output.log");
        Ok(Self { file: File::create(&path).at("write", &path)?, path, kept: 0 })
    }

    fn keep(&mut self, bytes: &[u8]) {
        let room = usize::try_from(OUTPUT_KEPT - self.kept).unwrap_or(usize::MAX).min(bytes.len());
        // A full disk must not end the program: its output is passed on all the same.
        if self.file.write_all(&bytes[..room]).is_ok() {
            self.kept += room as u64;
        }
    }
}

fn collect(
    mut pipe: impl Read + Send + 'static,
    stream: Stream,
    log: &Arc<Mutex<Log>>,
    sink: Option<OutputSink>,
) -> JoinHandle<()> {
    let log = Arc::clone(log);
    std::thread::spawn(move || {
        let mut buffer = vec![0; 16 << 10];
        loop {
            match pipe.read(&mut buffer) {
                Ok(0) => break,
                Ok(read) => {
                    lock(&log).keep(&buffer[..read]);
                    if let Some(sink) = &sink {
                        sink(stream, &buffer[..read]);
                    }
                }
                Err(error) if error.kind() == std::io::ErrorKind::Interrupted => {}
                Err(_) => break,
            }
        }
    })
}
