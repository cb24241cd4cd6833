//! Progress: a bar on a terminal, plain lines elsewhere.

use std::fmt::Write;
use std::io::IsTerminal;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use indicatif::{ProgressBar, ProgressState, ProgressStyle};
use yard_twin::{Cancel, Ctx, Phase, Progress};

use crate::screen::{Screen, duration, files, size};

/// Phases smaller than this get no line of their own where there is no terminal.
const WORTH_A_LINE: (u64, u64) = (5_000, 256 << 20);

/// Shows what an operation is doing.
struct Bars {
    screen: Screen,
    terminal: bool,
    /// The bar, and whether it counts bytes.
    bar: Mutex<Option<(ProgressBar, bool)>>,
}

/// The context for a command: progress as fits the place, and Ctrl-C stops it cleanly, a second one at once.
pub(crate) fn ctx(screen: &Screen) -> Ctx {
    let cancel = Cancel::default();
    for signal in [signal_hook::consts::SIGINT, signal_hook::consts::SIGTERM] {
        // Without handlers Ctrl-C still ends the program, and the next command tidies up.
        let _ = signal_hook::flag::register_conditional_shutdown(signal, 130, cancel.flag());
        let _ = signal_hook::flag::register(signal, cancel.flag());
    }
    quiet_ctx(screen).with_cancel(cancel)
}

/// As [`ctx`], without a hand on signals: for launches, where they are the program's.
pub(crate) fn quiet_ctx(screen: &Screen) -> Ctx {
    let terminal = std::io::stderr().is_terminal();
    Ctx::new().with_progress(Arc::new(Bars { screen: *screen, terminal, bar: Mutex::default() }))
}

fn verb(phase: Phase) -> &'static str {
    match phase {
        Phase::Waiting => "waiting for another command",
        Phase::Listing => "looking",
        Phase::Storing => "storing",
        Phase::Syncing => "making sure it is safe on disk",
        Phase::Checking => "reading",
        Phase::Searching => "looking",
        Phase::Building => "building",
        Phase::Writing => "writing",
        Phase::Deleting => "deleting",
    }
}

/// How much is done, how quickly, and how long the rest takes: `2.1 GiB of 3.2 GiB, 644 MiB/s, 2 s left`.
fn how_far(bar: &ProgressState, out: &mut dyn Write) {
    let (done, all) = (bar.pos(), bar.len().unwrap_or(0));
    // What can't be written here is written by the next tick.
    let _ = write!(out, "{} of {}", size(done), size(all));
    let left = bar.eta();
    // By the estimate that the time left is from, so that the two agree.
    if let Some(rate) =
        u128::from(all.saturating_sub(done)).checked_mul(1000).and_then(|rest| rest.checked_div(left.as_millis()))
    {
        let _ = write!(out, ", {}/s", size(u64::try_from(rate).unwrap_or(u64::MAX)));
    }
    let _ = match left.as_secs() {
        0 => Ok(()),
        seconds @ 1..60 => write!(out, ", {seconds} s left"),
        _ => write!(out, ", {} left", duration(left)),
    };
}

impl Bars {
    fn begin_bar(&self, phase: Phase, count: u64, bytes: u64) {
        let bar = if bytes > 0 {
            let style = ProgressStyle::with_template("{msg} {wide_bar} {how_far}");
            let style = style.unwrap_or_else(|_| ProgressStyle::default_bar()).with_key("how_far", how_far);
            ProgressBar::new(bytes).with_style(style)
        } else {
            let style =
                ProgressStyle::with_template(if count > 0 { "{msg} {spinner} {pos}" } else { "{msg} {spinner}" });
            let bar = if count > 0 { ProgressBar::new(count) } else { ProgressBar::new_spinner() };
            bar.with_style(style.unwrap_or_else(|_| ProgressStyle::default_spinner()))
        };
        bar.set_message(verb(phase));
        bar.enable_steady_tick(Duration::from_millis(100));
        *self.bar.lock().unwrap_or_else(PoisonError::into_inner) = Some((bar, bytes > 0));
    }
}

impl Progress for Bars {
    fn begin(&self, phase: Phase, count: u64, bytes: u64) {
        let large = count >= WORTH_A_LINE.0 || bytes >= WORTH_A_LINE.1;
        if self.screen.is_json() {
            return;
        }
        match (self.terminal, phase) {
            (true, Phase::Waiting | Phase::Syncing) => self.begin_bar(phase, count, bytes),
            (true, _) if large => self.begin_bar(phase, count, bytes),
            (false, Phase::Waiting) => self.screen.aside(verb(phase)),
            (false, _) if large => {
                self.screen.aside(format_args!("{} {}, {}", verb(phase), files(count), size(bytes)));
            }
            _ => {}
        }
    }

    fn advance(&self, count: u64, bytes: u64) {
        if let Some((bar, in_bytes)) = &*self.bar.lock().unwrap_or_else(PoisonError::into_inner) {
            bar.inc(if *in_bytes { bytes } else { count });
        }
    }

    fn end(&self) {
        if let Some((bar, _)) = self.bar.lock().unwrap_or_else(PoisonError::into_inner).take() {
            bar.finish_and_clear();
        }
    }
}
