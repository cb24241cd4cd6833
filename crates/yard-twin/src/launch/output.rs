//! A program's output: kept in the run's folder, and passed on.

use std::fs::File;
use std::io::{Read, Write};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};
use std::thread::JoinHandle;

use crate::disk;
use crate::error::{PathContext, Result};
use crate::parallel::lock;

/// Output beyond this is passed on and not kept.
const OUTPUT_KEPT: u64 = 16 << 20;

/// The file in a run's folder with its output.
pub(crate) const OUTPUT: &str = "output.log";

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

/// Reads a stream to its end, in a thread of its own.
pub(crate) fn collect(
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
