//! A program that runs, and what comes of it.

use std::path::PathBuf;
use std::process::ExitStatus;
use std::sync::{Arc, Mutex};
use std::time::Duration;

use std::os::unix::process::ExitStatusExt;

use jiff::Timestamp;
use rustix::process::{Pid, Signal, kill_process};
use serde::{Deserialize, Serialize};

use crate::Yard;
use crate::catalog::{RunRecord, TwinRow, What};
use crate::disk;
use crate::error::{Holder, PathContext, Result};
use crate::ident::TwinName;
use crate::launch::changes::{Changes, changes};
use crate::launch::isolation::Isolation;
use crate::launch::layer::{AREAS, RunLayer};
use crate::launch::output::Reader;
use crate::launch::seal::{Change, END_ALL, Kept, TerminalEnd};
use crate::launch::watch::{Watch, Watched};
use crate::listing::Listing;
use crate::ops::edits;
use crate::ops::play::plan::{Keep, Plan};
use crate::ops::play::run;
use crate::ops::play::stop::descendants;
use crate::parallel::lock;
use crate::profile::Profile;
use crate::progress::Ctx;
use crate::sheet::Sheet;
use crate::twin::Leaks;
use crate::twin::Twin;
use crate::twin::arrived::{Files, is_in_home};

/// What a run changed, and what it tried to; kept as `report.json` in the run's folder.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct Report {
    /// What it changed in the twin.
    pub changes: Changes,
    /// Whether those changes were thrown away.
    pub discarded: bool,
    /// Game files that it changed in a protected twin: they are as they were.
    pub put_back: Vec<String>,
    /// What it left outside its twin: at sealed in the places that stand in for the system's, which are gone with it;
    /// below that what changed in the usual places meanwhile, by it or by another program.
    pub outside: Vec<PathBuf>,
    /// Lines of its output that tell of a write which was refused.
    pub refused: Vec<String>,
    /// Whether everything that it left outside is known, and nothing of it is somebody else's.
    pub exact: bool,
    /// The places that were looked at before and afterwards, where it was not kept from writing elsewhere.
    #[serde(default)]
    pub looked_at: Vec<PathBuf>,
    /// Whether all that is in them was looked at.
    pub all_watched: bool,
    /// Shared files that were found to be written through their guard, before the run or after it.
    pub leaks: Leaks,
    /// What its twin holds that can't be copied, each with its reason.
    #[serde(default)]
    pub not_taken: Vec<String>,
    /// What somebody had open when files were laid anew: where it is now.
    #[serde(default)]
    pub set_aside: Vec<String>,
    /// Files that it brought in masses, which are stored once from now on.
    #[serde(default)]
    pub shared: Files,
}

/// What a run did.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Outcome {
    /// The twin.
    pub twin: TwinName,
    /// The record that is kept of it.
    pub record: RunRecord,
    /// What it changed, and what it tried to.
    pub report: Report,
    /// The file with its output.
    pub output: PathBuf,
    /// What became of the profile's config edits before the program was started.
    pub edits: Vec<edits::View>,
    /// Config edits that were for this run only, and what became of them.
    pub edits_back: Vec<edits::View>,
    /// Why what it wrote could not be taken in, on a full disk for instance: it is kept where it was written, in the run's
    /// layer or in the twin's folder, and the next command that needs the twin takes it in.
    pub not_taken_in: Option<String>,
    /// Why the command that follows a run failed.
    pub after_failed: Option<String>,
    /// How long it ran, by its record.
    #[serde(serialize_with = "crate::progress::seconds")]
    pub ran: Duration,
}

/// A program that is running in a twin, which is held to the end of its last process.
#[must_use = "the run is recorded only by `wait`"]
pub struct Running {
    pub(crate) yard: Yard,
    pub(crate) row: TwinRow,
    /// `None` for one that runs beside another, whose launcher holds the twin to the end of both.
    pub(crate) twin: Option<Twin>,
    pub(crate) kept: Kept,
    pub(crate) signaller: Signaller,
    pub(crate) readers: Vec<Reader>,
    pub(crate) record: RunRecord,
    /// What it began with, if that was looked at.
    pub(crate) before: Option<(Listing, Leaks)>,
    /// What somebody had open when it was started, with where it is now.
    pub(crate) set_aside: Vec<String>,
    pub(crate) output: PathBuf,
    pub(crate) keep: Keep,
    pub(crate) isolation: Isolation,
    pub(crate) layer: RunLayer,
    pub(crate) watch: Option<Watch>,
    pub(crate) plan: Plan,
    /// What became of the config edits before it was started.
    pub(crate) edits: Vec<edits::View>,
    /// Whether its variant is for this run only.
    pub(crate) one_run: bool,
    /// How the program itself ended, once that is known.
    pub(crate) ended: Option<Option<ExitStatus>>,
}

/// Sends signals to a running program; does nothing once everything of it has ended.
#[derive(Clone, Debug)]
pub struct Signaller(Arc<Mutex<Option<Pid>>>);

impl Signaller {
    pub(crate) fn new(keeper: Option<i32>) -> Self {
        Self(Arc::new(Mutex::new(keeper.and_then(Pid::from_raw))))
    }

    /// Sends the program the signal of that number: one of HUP, INT, QUIT, TERM, USR1, USR2, TSTP, CONT. Those that come
    /// of a terminal (HUP, INT, QUIT, TSTP), and CONT, reach all processes of its group. What is left of a program that has
    /// ended gets it in its place.
    pub fn send(&self, signal: i32) {
        // Held while the signal is sent, so that the id can't belong to another process by then.
        if let (Some(pid), Some(signal)) = (*lock(&self.0), Signal::from_named_raw(signal)) {
            // It may have ended just now.
            let _ = kill_process(pid, signal);
        }
    }

    /// Ends the program and all that it started, at once.
    pub fn end_all(&self) {
        self.send(END_ALL);
    }
}

impl std::fmt::Debug for Running {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let mut shown = f.debug_struct("Running");
        shown.field("twin", &self.row.name).field("run", &self.record.id).field("isolation", &self.isolation);
        shown.finish_non_exhaustive()
    }
}

impl Running {
    /// The id of the process that waits for the program.
    #[must_use]
    pub fn pid(&self) -> u32 {
        self.kept.child.id()
    }

    /// Something to send the program signals with, from another thread.
    #[must_use]
    pub fn signaller(&self) -> Signaller {
        self.signaller.clone()
    }

    /// Waits for the end of the program itself. What it started may go on: see [`Running::left_behind`].
    pub fn program_ended(&mut self) {
        while self.changed() != Change::Ended {}
    }

    /// Waits until the program itself has ended or is stopped. One that is stopped goes on with the signal CONT: see
    /// [`Signaller::send`].
    pub fn changed(&mut self) -> Change {
        if self.ended.is_some() {
            return Change::Ended;
        }
        let (change, status) = self.kept.changed();
        if change == Change::Ended {
            self.ended = Some(status);
        }
        change
    }

    /// The launcher's end of the program's terminal, if it has one.
    #[must_use]
    pub fn terminal(&self) -> Option<TerminalEnd> {
        self.kept.terminal.clone()
    }

    /// The processes of the run that are there now; none where all is over within a moment.
    #[must_use]
    pub fn left_behind(&self) -> Vec<Holder> {
        // The program has ended, and its keeper is about to: to search all processes of the system takes longer than that.
        if self.kept.is_over_within(Duration::from_millis(20)) {
            return Vec::new();
        }
        let inner = usize::from(self.isolation == Isolation::Sealed);
        descendants(self.kept.child.id(), inner)
    }

    /// Waits until all that was written has been passed on: as long as what the program started goes on and says nothing,
    /// only for a moment.
    pub fn output_passed_on(&self) {
        Reader::drain(&self.readers);
    }

    /// Waits for the end of the program and of all that it started, then takes in what it changed and completes the record.
    ///
    /// # Errors
    /// [`crate::Error::Cancelled`], or [`crate::Error::Catalogue`]. The run is recorded as ended all the same, where it can
    /// be. What could not be taken in is no error: see [`Outcome::not_taken_in`].
    pub fn wait(mut self, ctx: &Ctx) -> Result<Outcome> {
        // While it runs: what it writes is elsewhere, if that wasn't looked at before.
        let began_with = self.state_to_mark(ctx);
        self.program_ended();
        let status = self.ended.flatten();
        self.wait_for_keeper().at("wait for", &self.output)?;
        Reader::drain(&self.readers);
        self.record.ended_at = Some(Timestamp::now());
        let ran = self.record.ran().unwrap_or_default();
        self.record.exit_code = status.and_then(|status| status.code());
        // Where the keeper was killed, so was everything else.
        let killed = if status.is_none() { Some(Signal::KILL.as_raw()) } else { None };
        self.record.signal = status.map_or(killed, |status| status.signal());
        let report = self.take_in(ctx);
        self.record.summary = match &report {
            Ok(_) if self.plan.beside => Some("with the run that it was started beside".into()),
            Ok(report) => Some(report.summary()),
            Err(_) => None,
        };
        let fine = status.is_some_and(|status| status.success());
        let recorded = self.yard.catalog.loosely(|| {
            self.yard.catalog.end_run(&self.record)?;
            began_with?.filter(|_| fine).map_or(Ok(()), |number| self.yard.catalog.started_fine(self.row.id, number))
        });
        match recorded {
            // Where there is no room for anything, the next command finds that it has ended.
            Err(error) if report.is_err() => tracing::info!(%error, "the end of the run is not recorded"),
            recorded => recorded?,
        }
        let (report, not_taken_in) = match report {
            Ok(report) => (report, None),
            Err(error @ crate::Error::Cancelled) => return Err(error),
            // The run is over: what it wrote is kept where it is.
            Err(error) => (Report::default(), Some(error.with_causes())),
        };
        let edits_back = if not_taken_in.is_some() { Vec::new() } else { self.take_edits_back(ctx)? };
        let Self { yard, row, twin, record, output, plan, edits, .. } = self;
        // It may well want the twin.
        drop(twin);
        let after = run::run_command(&yard, "after", &plan.after, &plan);
        Ok(Outcome {
            twin: row.name,
            record,
            report,
            output,
            edits,
            edits_back,
            not_taken_in,
            after_failed: after.err().map(|error| error.to_string()),
            ran,
        })
    }

    /// The number of the state that the run began with, unless it is known already that one began with it and ended well.
    fn state_to_mark(&mut self, ctx: &Ctx) -> Result<Option<u32>> {
        let catalog = &self.yard.catalog;
        let Some(twin) = &mut self.twin else { return Ok(None) };
        if catalog.newest_started_fine(self.row.id)? {
            return Ok(None);
        }
        if self.before.is_none() {
            self.before = Some(settle_before(twin, ctx)?);
        }
        catalog.newest_change(self.row.id).map(Some)
    }

    /// Takes back the edits of a variant that was for this run only.
    fn take_edits_back(&mut self, ctx: &Ctx) -> Result<Vec<edits::View>> {
        let Some(twin) = self.twin.as_mut().filter(|_| self.one_run) else { return Ok(Vec::new()) };
        let (profile, _) = Profile::load(&twin.folder()?.join("profile.toml"))?;
        let views = edits::edit_for_run(twin, &profile.in_use()?, ctx)?.unwrap_or_default();
        Ok(views
            .into_iter()
            .filter(|view| matches!(view.does, edits::Does::Set | edits::Does::GivesBack | edits::Does::Leaves))
            .collect())
    }

    /// Takes in what the run changed, as far as it may.
    fn take_in(&mut self, ctx: &Ctx) -> Result<Report> {
        let build = self.plan.build.clone();
        let sheet = self.yard.sheet_of(&build)?;
        let mut report = Report { exact: self.isolation == Isolation::Sealed, all_watched: true, ..Report::default() };
        report.refused = refusals(&self.output, self.isolation);
        report.set_aside = std::mem::take(&mut self.set_aside);
        let Some(mut twin) = self.twin.take() else {
            // What it changed is in the layer that the first one takes in.
            report.exact = false;
            return Ok(report);
        };
        self.layer.tidy()?;
        if self.isolation != Isolation::Redirected {
            report.outside = self.layer.left_in_temporary();
        }
        if let Some(watch) = self.watch.take() {
            let Watched { changed, places, whole } = watch.end();
            (report.outside, report.looked_at, report.all_watched) = (changed, places, whole);
        }
        if self.keeps(&mut report, &mut twin, sheet.as_ref(), ctx)? {
            self.take_in_kept(&mut report, &mut twin, sheet.as_ref(), ctx)?;
        }
        self.twin = Some(twin);
        let path = self.yard.run_folder(&self.row, self.record.id).join("report.json");
        let text = serde_json::to_vec(&report).unwrap_or_default();
        disk::write(&path, text)?;
        Ok(report)
    }

    /// Whether what a sealed run wrote is to be folded back; what isn't goes.
    fn keeps(&mut self, report: &mut Report, twin: &mut Twin, sheet: Option<&Sheet>, ctx: &Ctx) -> Result<bool> {
        if self.isolation != Isolation::Sealed {
            return Ok(true);
        }
        if self.layer.is_empty()? {
            return self.layer.put_away().map(|()| false);
        }
        if !matches!(self.keep, Keep::Always) {
            let (mut before, leaks) = settle_before(twin, ctx)?;
            report.leaks = leaks;
            let folder = twin.folder()?;
            let mut home = folder.join(AREAS[1]);
            if self.plan.watched {
                // Its home was an empty one.
                let entries = before.into_entries().into_iter().filter(|entry| !is_in_home(&entry.path));
                (before, home) = (Listing::new(entries.collect())?, self.layer.empty_home());
            }
            report.changes = Changes::new(self.layer.changes(&folder, &home, &before)?.into_iter(), sheet);
            if !answer(&self.keep, &report.changes) {
                report.discarded = true;
                return self.layer.remove().map(|()| false);
            }
        }
        Ok(true)
    }

    /// Takes in what the run wrote, in its layer or in the twin's folder itself.
    fn take_in_kept(&mut self, report: &mut Report, twin: &mut Twin, sheet: Option<&Sheet>, ctx: &Ctx) -> Result<()> {
        let run = self.record.id;
        let direct = self.isolation != Isolation::Sealed;
        let from = twin.row.state;
        // What was changed from outside while a sealed run wrote elsewhere is no change of its.
        let before = if direct { self.before.take() } else { None };
        let (before, leaks) = before.map_or_else(|| settle_before(twin, ctx), Ok)?;
        report.leaks.extend(leaks);
        let mut settled = twin.settle_folded(What::Run { run }, &self.layer, ctx)?;
        report.put_back.clone_from(&settled.dropped);
        report.changes = changes(&before, &settled.listing, sheet);
        if direct && !answer(&self.keep, &report.changes) {
            report.discarded = true;
            (settled, _) = twin.put_back(settled, from, run, |_| true, ctx)?;
        }
        if !direct {
            // What it brought is kept by now, whatever comes of this.
            match twin.share_arrived(&settled, ctx) {
                Ok((shared, set_aside)) => {
                    report.shared = shared;
                    report.set_aside.extend(set_aside);
                }
                Err(error) => tracing::info!(%error, "what the run brought is not shared yet"),
            }
        }
        report.leaks.extend(settled.leaks);
        report.not_taken = settled.not_taken;
        Ok(())
    }

    /// Waits, and forgets the process id before the system can give it to another process. From then on this process alone
    /// holds the twin.
    fn wait_for_keeper(&mut self) -> std::io::Result<ExitStatus> {
        use rustix::process::{WaitId, WaitIdOptions, waitid};
        if let Some(pid) = i32::try_from(self.kept.child.id()).ok().and_then(Pid::from_raw) {
            // Looks without taking the process away, so that its id is still its own.
            while let Err(rustix::io::Errno::INTR) =
                waitid(WaitId::Pid(pid), WaitIdOptions::EXITED | WaitIdOptions::NOWAIT)
            {}
        }
        *lock(&self.signaller.0) = None;
        let ended = self.kept.child.wait()?;
        // One that was killed may have left the lock to what the program has started.
        if let Some(twin) = self.twin.as_ref().filter(|_| ended.signal().is_none()) {
            twin.take_back();
        }
        Ok(ended)
    }
}

/// Takes in what was changed before a sealed run: what the run itself changes is in its layer.
fn settle_before(twin: &mut Twin, ctx: &Ctx) -> Result<(Listing, Leaks)> {
    let settled = twin.settle_and_repair(What::Outside, ctx)?;
    Ok((settled.listing, settled.leaks))
}

/// Whether changes are kept; nothing is asked about nothing.
fn answer(keep: &Keep, changes: &Changes) -> bool {
    match keep {
        Keep::Always => true,
        Keep::Never => false,
        Keep::Ask(ask) => changes.is_empty() || ask(changes),
    }
}

impl Report {
    /// What changed, in a few words.
    #[must_use]
    pub fn summary(&self) -> String {
        let changed = self.changes.summary();
        if self.discarded { format!("thrown away: {changed}") } else { changed }
    }
}

/// Lines of a program's output that tell of a write which was refused: the only trace that it leaves.
fn refusals(output: &std::path::Path, isolation: Isolation) -> Vec<String> {
    /// More than these say nothing new.
    const LINES: usize = 20;
    /// A program that says more says it early.
    const BYTES: u64 = 1 << 20;
    use std::io::Read;
    let mut text = Vec::new();
    let read = std::fs::File::open(output).and_then(|file| file.take(BYTES).read_to_end(&mut text));
    if read.is_err() {
        return Vec::new();
    }
    let text = String::from_utf8_lossy(&text);
    let words: &[&str] = match isolation {
        Isolation::Sealed => &["Read-only file system", "os error 30", "EROFS"],
        Isolation::Fenced => &["Permission denied", "os error 13", "EACCES"],
        Isolation::Redirected => &[],
    };
    let tells = |line: &&str| words.iter().any(|word| line.contains(word));
    text.lines().filter(tells).take(LINES).map(|line| line.chars().take(200).collect()).collect()
}
