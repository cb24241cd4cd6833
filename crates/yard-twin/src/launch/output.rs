//! A program's output: kept in the run's folder, and passed on.

use std::fs::File;
use std::io::{ErrorKind, Read, Write};
use std::os::fd::{AsFd, BorrowedFd};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use rustix::event::{PollFd, PollFlags};

use crate::disk;
use crate::error::{PathContext, Result};
use crate::parallel::lock;

/// Output beyond this is passed on and not kept.
const OUTPUT_KEPT: u64 = 16 << 20;

/// How long output is still waited for after the end of all that a program has started.
const LAST_WORDS: Duration = Duration::from_millis(300);

/// The file in a run's folder with its output.
pub(crate) const OUTPUT: &str = "output.log";

/// A stream of a program's output.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Stream {
    /// Standard output.
    Out,
    /// Standard error.
    Err,
    /// What it draws on its terminal, if it has one ([`crate::play::Options::terminal`]).
    Terminal,
}

/// Receives a program's output as it comes, from a thread for each stream.
pub type OutputSink = Arc<dyn Fn(Stream, &[u8]) + Send + Sync>;

/// The file that keeps a run's output.
pub(crate) struct Log {
    file: File,
    pub(crate) path: PathBuf,
    kept: u64,
}

impl Log {
    pub(crate) fn create(folder: &Path) -> Result<Self> {
        disk::make_folders(folder)?;
        let path = folder.join(OUTPUT);
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

/// What reads a stream to its end, in a thread of its own.
pub(crate) struct Reader {
    thread: JoinHandle<()>,
    /// How often it began or ended to wait for more: even while it does.
    turns: Arc<AtomicU64>,
}

impl Reader {
    pub(crate) fn start(
        mut from: impl Read + AsFd + Send + 'static,
        stream: Stream,
        log: &Arc<Mutex<Log>>,
        sink: Option<OutputSink>,
    ) -> Self {
        let (log, turns) = (Arc::clone(log), Arc::new(AtomicU64::new(0)));
        let turn = Arc::clone(&turns);
        let thread = std::thread::spawn(move || {
            let mut buffer = vec![0; 16 << 10];
            loop {
                match from.read(&mut buffer) {
                    Ok(0) => break,
                    Ok(read) => {
                        turn.fetch_add(1, Ordering::Relaxed);
                        lock(&log).keep(&buffer[..read]);
                        if let Some(sink) = &sink {
                            sink(stream, &buffer[..read]);
                        }
                        turn.fetch_add(1, Ordering::Relaxed);
                    }
                    Err(error) if error.kind() == ErrorKind::Interrupted => {}
                    Err(error) if error.kind() == ErrorKind::WouldBlock => wait_for(from.as_fd()),
                    // The end of a terminal is one too.
                    Err(_) => break,
                }
            }
        });
        Self { thread, turns }
    }

    /// Waits until every stream has ended, or nothing comes any more: something that is not of the run may hold a pipe
    /// open. Whoever takes the output may take his time.
    pub(crate) fn drain(readers: &[Self]) {
        let turns = || -> Vec<u64> { readers.iter().map(|reader| reader.turns.load(Ordering::Relaxed)).collect() };
        let (mut last, mut since) = (turns(), Instant::now());
        while readers.iter().any(|reader| !reader.thread.is_finished()) && since.elapsed() < LAST_WORDS {
            std::thread::sleep(Duration::from_millis(2));
            let now = turns();
            let passing_on =
                |reader: &Self| !reader.thread.is_finished() && reader.turns.load(Ordering::Relaxed) % 2 == 1;
            if now != last || readers.iter().any(passing_on) {
                (last, since) = (now, Instant::now());
            }
        }
    }
}

fn wait_for(output: BorrowedFd<'_>) {
    // Whatever comes of it is seen when it is read.
    let _ = rustix::event::poll(&mut [PollFd::from_borrowed_fd(output, PollFlags::IN)], None);
}
