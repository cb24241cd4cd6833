//! Looking through files for paths.

use std::collections::{BTreeMap, HashMap};
use std::fs;
use std::io::Read;
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use rustix::fs::CWD;

use super::{NamedPlace, Place};
use crate::combine::{Draft, PathForm, PathHit, Repather, is_text, repathed};
use crate::disk::{self, Stat};
use crate::error::{Error, IntakeError, PathContext, Result};
use crate::parallel::{self, lock};
use crate::progress::{Ctx, Phase};
use crate::store::state::Applied;
use crate::twin::settle::Settled;

/// Larger files are looked through piece by piece, and never rewritten.
const WHOLE: u64 = 16 << 20;

/// So much of a large file is looked at together.
const PIECE: usize = 4 << 20;

/// More hits than these of one place in one file say nothing new.
const HITS: usize = 100;

/// Something that is looked through.
pub(super) struct Look {
    pub(super) path: String,
    pub(super) what: Seen,
}

pub(super) enum Seen {
    File { at: PathBuf, size: u64 },
    Link(String),
}

/// A look for some places.
pub(super) struct Looking<'a> {
    places: &'a [Place],
    /// Finds them all.
    repather: Repather,
    /// Those that are rewritten, and what rewrites them.
    pairs: Vec<(String, String)>,
    rewriter: Repather,
}

impl<'a> Looking<'a> {
    pub(super) fn new(places: &'a [Place]) -> Self {
        let all = places.iter().map(|place| (place.from.as_str(), place.to.as_deref().unwrap_or_default()));
        let known = places.iter().filter_map(|place| Some((place.from.clone(), place.to.clone()?)));
        let pairs: Vec<_> = known.collect();
        Self { places, repather: Repather::new(all), rewriter: Repather::of_pairs(&pairs), pairs }
    }

    /// Looks through everything; what several paths share is read once.
    pub(super) fn look(&self, looks: &[Look], ctx: &Ctx) -> Result<Vec<NamedPlace>> {
        let mut unique: HashMap<&Path, Vec<&str>> = HashMap::new();
        let mut found = Vec::new();
        for look in looks {
            match &look.what {
                Seen::File { at, .. } => unique.entry(at).or_default().push(&look.path),
                Seen::Link(target) => found.extend(self.link(&look.path, target)),
            }
        }
        let sizes: HashMap<&Path, u64> = looks
            .iter()
            .filter_map(|look| match &look.what {
                Seen::File { at, size } => Some((at.as_path(), *size)),
                Seen::Link(_) => None,
            })
            .collect();
        let mut files: Vec<&Path> = unique.keys().copied().collect();
        files.sort_unstable();
        let hits: Mutex<Vec<(&Path, Vec<NamedPlace>)>> = Mutex::default();
        let total = sizes.values().sum();
        ctx.phase(Phase::Searching, files.len() as u64, total, || {
            parallel::for_each(&files, ctx.threads(), Vec::new, |buffer, &at| {
                ctx.check()?;
                let size = sizes.get(at).copied().unwrap_or_default();
                let there = self.file(at, size, buffer)?;
                if !there.is_empty() {
                    lock(&hits).push((at, there));
                }
                ctx.progress().advance(1, size);
                Ok(())
            })
        })?;
        for (at, there) in parallel::into_inner(hits) {
            for path in unique.get(at).into_iter().flatten() {
                found.extend(there.iter().map(|hit| NamedPlace { path: (*path).to_owned(), ..hit.clone() }));
            }
        }
        found.sort_by(|a, b| (&a.path, a.line).cmp(&(&b.path, b.line)));
        Ok(found)
    }

    /// What a file names.
    fn file(&self, at: &Path, size: u64, buffer: &mut Vec<u8>) -> Result<Vec<NamedPlace>> {
        let mut file = match disk::open_file(CWD, at) {
            // It has gone meanwhile, or was never ours to read.
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Vec::new()),
            file => file.at("read", at)?,
        };
        if size > WHOLE {
            return self.large(&mut file, at, buffer);
        }
        buffer.clear();
        file.read_to_end(buffer).at("read", at)?;
        let text = is_text(buffer);
        let wide = text && buffer.contains(&0);
        let mut lines = Lines { counted: 0, line: 1, wide };
        let mut counts = vec![0; self.places.len()];
        // What is only named is named once.
        let most = |hit: &PathHit| if text && self.places[hit.pair].to.is_some() { HITS } else { 1 };
        let hits = self.repather.hits(buffer).filter(|hit| {
            counts[hit.pair] += 1;
            counts[hit.pair] <= most(hit)
        });
        let hits: Vec<PathHit> = hits.collect();
        let known = hits.iter().any(|hit| self.places[hit.pair].to.is_some());
        let spoilt = text && known && self.rewriter.replaced(buffer).is_none();
        Ok(hits
            .into_iter()
            .map(|hit| {
                let place = &self.places[hit.pair];
                let (line, shown) = lines.at(buffer, hit.range.start);
                let why = match reported(place) {
                    _ if !text => Some("it is no text"),
                    None if spoilt => Some("the new path can't be written there as its format asks"),
                    why => why,
                };
                NamedPlace {
                    path: String::new(),
                    line: text.then_some(line),
                    text: if text { shown } else { String::new() },
                    from: place.from.clone(),
                    to: place.to.clone().filter(|_| text && !spoilt),
                    form: hit.form,
                    only_reported: why,
                }
            })
            .collect())
    }

    /// What a large file names, read piece by piece.
    fn large(&self, file: &mut fs::File, at: &Path, buffer: &mut Vec<u8>) -> Result<Vec<NamedPlace>> {
        let overlap = self.repather.apply_planned();
        let mut found: BTreeMap<(usize, PathForm), NamedPlace> = BTreeMap::new();
        buffer.clear();
        loop {
            let kept = buffer.len();
            buffer.resize(kept + PIECE, 0);
            let read = file.read(&mut buffer[kept..]).at("read", at)?;
            buffer.truncate(kept + read);
            for hit in self.repather.hits(buffer) {
                let place = &self.places[hit.pair];
                found.entry((hit.pair, hit.form)).or_insert_with(|| NamedPlace {
                    path: String::new(),
                    line: None,
                    text: String::new(),
                    from: place.from.clone(),
                    to: None,
                    form: hit.form,
                    only_reported: Some("it is larger than 16 MiB"),
                });
            }
            if read == 0 {
                return Ok(found.into_values().collect());
            }
            let start = buffer.len().saturating_sub(overlap);
            buffer.drain(..start);
        }
    }

    fn link(&self, path: &str, target: &str) -> Vec<NamedPlace> {
        let hits = self.repather.hits(target.as_bytes());
        hits.map(|hit| {
            let place = &self.places[hit.pair];
            NamedPlace {
                path: path.into(),
                line: None,
                text: target.into(),
                from: place.from.clone(),
                to: place.to.clone(),
                form: hit.form,
                only_reported: reported(place),
            }
        })
        .collect()
    }

    pub(super) fn profile(&self, text: &str) -> String {
        self.rewriter.replaced_text(text).unwrap_or_else(|| text.to_owned())
    }

    /// The edits that stand in a twin's files, with what they put and what was there rewritten as their files are.
    pub(super) fn edits(&self, edits: &[Applied], found: &[NamedPlace]) -> Vec<Applied> {
        let files = rewritten(found);
        let map = |text: &str| self.rewriter.replaced_text(text);
        let mapped = |edit: &Applied| {
            if files.contains(&edit.file.as_str()) { edit.mapped(&map) } else { edit.clone() }
        };
        edits.iter().map(mapped).collect()
    }

    /// A twin's listing with what was found rewritten.
    pub(super) fn draft(&self, settled: &Settled, found: &[NamedPlace]) -> Result<Draft> {
        let entries = rewritten(found).into_iter().filter_map(|path| settled.listing.get(path));
        repathed(&settled.listing, entries, &self.pairs)
    }

    /// Keeps what is at a path outside the yard, and writes what it is to be beside it. Gives how it looked.
    pub(super) fn stage(&self, at: &Path, new: &Path, kept: &Path) -> Result<Stat> {
        let changed = || Error::from(IntakeError::Changed(at.into()));
        let stat = disk::lstat(at).at("look at", at)?;
        kept.parent().map_or(Ok(()), disk::make_folders)?;
        if let Ok(target) = fs::read_link(at) {
            let target = target.to_str().ok_or_else(changed)?;
            let next = self.rewriter.replaced_text(target).ok_or_else(changed)?;
            let link = |target: &str, path: &Path| {
                disk::symlink(target, CWD, path.to_str().ok_or_else(changed)?).at("make the link", path)
            };
            link(target, kept)?;
            link(&next, new)?;
            return Ok(stat);
        }
        let mut file = disk::open_file(CWD, at).at("read", at)?;
        let mut bytes = Vec::new();
        file.read_to_end(&mut bytes).at("read", at)?;
        let next = self.rewriter.replaced(&bytes).ok_or_else(changed)?;
        disk::write_synced(kept, &bytes)?;
        disk::write_synced(new, &next)?;
        disk::set_mode(new, stat.mode & 0o7777)?;
        disk::set_mode(kept, stat.mode & 0o7777 | 0o400)?;
        Ok(stat)
    }
}

/// The paths at which something is rewritten, each once.
pub(super) fn rewritten(found: &[NamedPlace]) -> Vec<&str> {
    let rewritten = found.iter().filter(|found| found.only_reported.is_none());
    let mut paths: Vec<&str> = rewritten.map(|found| found.path.as_str()).collect();
    paths.dedup();
    paths
}

fn reported(place: &Place) -> Option<&'static str> {
    place.to.is_none().then_some("it is another twin's: say what it should be")
}

/// Counts lines up to offsets that come in order.
struct Lines {
    counted: usize,
    line: u64,
    wide: bool,
}

impl Lines {
    /// The number of the line that an offset is on, and the line.
    fn at(&mut self, bytes: &[u8], offset: usize) -> (u64, String) {
        self.line += bytes[self.counted..offset].iter().filter(|byte| **byte == b'\n').count() as u64;
        self.counted = offset;
        let start =
            bytes[..offset].iter().rposition(|byte| *byte == b'\n').map_or(0, |at| at + 1 + usize::from(self.wide));
        let end = bytes[offset..].iter().position(|byte| *byte == b'\n').map_or(bytes.len(), |at| offset + at);
        let line: Vec<u8> = bytes[start.min(end)..end]
            .iter()
            .copied()
            .filter(|byte| !self.wide || !matches!(byte, 0 | 0xfe | 0xff))
            .collect();
        let text = String::from_utf8_lossy(&line).trim().to_owned();
        // A line that goes on for ever shows what is around the place.
        let before = offset.saturating_sub(start);
        let skipped: String = if before > 60 { text.chars().skip(before.saturating_sub(40)).collect() } else { text };
        (self.line, skipped.chars().take(160).collect())
    }
}
