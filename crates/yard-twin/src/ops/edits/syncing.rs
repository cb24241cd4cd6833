//! A twin's files with the edits in them that are wanted, and without those that are wanted no more.

use std::collections::{BTreeMap, VecDeque};
use std::path::Path;

use super::{Does, View};
use crate::Yard;
use crate::combine::{Derive, EditStep, Moves, Transform, place};
use crate::edit::{self, Edit, EditFault, Format};
use crate::error::{LaunchError, Result};
use crate::listing::{Listing, Node};
use crate::path::RelPath;
use crate::profile::ProfileText;
use crate::sheet::Sheet;
use crate::store::state::Applied;
use crate::twin::vouch;

/// So many symlinks lead on from one another; more go round in a circle.
const LINKS: usize = 40;

/// Which edits are set where their values have changed since.
#[derive(PartialEq, Eq)]
pub(crate) enum Again {
    /// None; what is wrong with one is only said.
    None,
    /// The one of this file and place; what is wrong with it is an error.
    Named(String, String),
    /// Those that are set at each launch; what is wrong with one is only said: it keeps nobody from playing.
    Enforced,
    /// All; what is wrong with one is an error.
    All,
}

/// What edits come to: what is said of each, which files are made, and what the state remembers.
#[derive(Default)]
pub(crate) struct Synced {
    pub(crate) views: Vec<View>,
    pub(crate) derived: Vec<Derive>,
    pub(crate) applied: Vec<Applied>,
}

/// Files with edits in them, whichever of these are there.
pub(crate) fn sync_edits(
    yard: &Yard,
    there: &Listing,
    applied: &[Applied],
    wanted: &[Edit],
    again: &Again,
) -> Result<Synced> {
    let mut files: BTreeMap<RelPath, Syncing<'_>> = BTreeMap::new();
    for applied in applied {
        files.entry(applied.file.clone()).or_default().applied.push(applied.clone());
    }
    for edit in wanted {
        files.entry(followed(there, &RelPath::new(&edit.file)?)).or_default().wanted.push(edit);
    }
    let mut synced = Synced::default();
    for (file, syncing) in files {
        let bytes = match there.get(file.as_str()).map(|entry| &entry.node) {
            Some(Node::File { size, .. }) if *size > edit::MAX => Err(EditFault::TooLarge(*size)),
            Some(Node::File { content, .. }) => Ok(Some(vouch::bytes_of(yard, *content)?)),
            _ => Ok(None),
        };
        let steps = syncing
            .run(&file, bytes, again, &mut synced)
            .map_err(|fault| LaunchError::Edit { file: file.to_string(), fault })?;
        if let (false, Some(entry)) = (steps.is_empty(), there.get(file.as_str())) {
            synced.derived.push(Derive { of: entry.clone(), transform: Transform::Edit { edits: steps } });
        }
    }
    Ok(synced)
}

/// Where a path leads by the symlinks of a twin; as far as it leads, if that is out of the twin or nowhere.
pub(super) fn followed(there: &Listing, path: &RelPath) -> RelPath {
    let mut left: VecDeque<String> = path.as_str().split('/').map(str::to_owned).collect();
    let (mut at, mut links): (Vec<String>, usize) = (Vec::new(), 0);
    while let Some(part) = left.pop_front() {
        match part.as_str() {
            "" | "." => continue,
            ".." if at.pop().is_some() => continue,
            ".." => return path.clone(),
            _ => at.push(part),
        }
        let here = at.join("/");
        let Some(Node::Symlink { target }) = there.get(&here).map(|entry| &entry.node) else { continue };
        links += 1;
        if target.starts_with('/') || links > LINKS {
            return RelPath::new(&here).unwrap_or_else(|_| path.clone());
        }
        at.pop();
        target.rsplit('/').for_each(|part| left.push_front(part.to_owned()));
    }
    RelPath::new(at.join("/")).unwrap_or_else(|_| path.clone())
}

/// One file with all that is wanted and was done in it.
#[derive(Default)]
struct Syncing<'a> {
    applied: Vec<Applied>,
    wanted: Vec<&'a Edit>,
}

/// Whether an edit is the one that was applied.
fn is_of(applied: &Applied, edit: &Edit) -> bool {
    applied.key == edit.key && Some(applied.format) == edit.format()
}

impl Syncing<'_> {
    /// What is done in it, in order.
    fn run(
        mut self,
        file: &RelPath,
        bytes: Result<Option<Vec<u8>>, EditFault>,
        again: &Again,
        synced: &mut Synced,
    ) -> Result<Vec<EditStep>, EditFault> {
        let mut steps = Vec::new();
        let mut bytes = match bytes {
            Ok(Some(bytes)) => bytes,
            Ok(None) => {
                // What was done in it is gone with it.
                synced.views.extend(self.wanted.iter().map(|edit| view(edit, None, Does::Waits)));
                return Ok(steps);
            }
            Err(fault) => {
                for edit in &self.wanted {
                    broken(edit, &fault, again, synced)?;
                }
                synced.applied.append(&mut self.applied);
                return Ok(steps);
            }
        };
        // The last that was done is the first to be taken back.
        for at in (0..self.applied.len()).rev() {
            let applied = &self.applied[at];
            if !self.wanted.iter().any(|edit| is_of(applied, edit)) {
                bytes = take_back(file, applied, bytes, synced, &mut steps);
                let (gone, others) = (applied.clone(), &mut self.applied);
                let others = others.iter_mut().filter(|other| other.format == gone.format);
                others.for_each(|other| other.put.inherit(&other.key, (&gone.put, &gone.key)));
            }
        }
        // What one edit has found out about the file's encoding holds for all: less of it may be left to tell by.
        let mut guess = self.applied.iter().find_map(|applied| applied.put.encoding().map(str::to_owned));
        for &edit in &self.wanted {
            let before = self.applied.iter().find(|applied| is_of(applied, edit));
            let format = edit.format().unwrap_or(Format::Ini);
            let encoding = edit.encoding.clone().or_else(|| guess.clone());
            let there = edit::get(&bytes, format, &edit.key, encoding.as_deref());
            let there = match there {
                Ok(there) => there,
                Err(fault) => {
                    synced.applied.extend(before.cloned());
                    broken(edit, &fault, again, synced)?;
                    continue;
                }
            };
            let is = |value: &str| there.as_deref().is_some_and(|is| edit::same_value(format, is, value));
            let drifted = !is(&edit.value) && before.is_some_and(|before| !is(&before.value));
            let set_again = match again {
                Again::None => false,
                Again::Named(file, key) => (file, key) == (&edit.file, &edit.key),
                Again::Enforced => edit.enforce,
                Again::All => true,
            };
            if let (true, false, Some(before)) = (drifted, set_again, before) {
                synced.views.push(view(edit, there, Does::Drifted));
                synced.applied.push(before.clone());
                continue;
            }
            let put = before.map(|before| before.put.clone());
            let set = match edit::set(&bytes, format, &edit.key, &edit.value, (encoding.as_deref(), put.as_ref())) {
                Ok(set) => set,
                Err(fault) => {
                    synced.applied.extend(before.cloned());
                    broken(edit, &fault, again, synced)?;
                    continue;
                }
            };
            let does = if set.bytes == bytes { Does::Nothing } else { Does::Set };
            let like = match (&there, before) {
                (None, None) => edit::like(&bytes, format, &edit.key, encoding.as_deref()),
                _ => Vec::new(),
            };
            synced.views.push(View { like, ..view(edit, there, does) });
            if does == Does::Set {
                let value = Some(edit.value.clone());
                steps.push(EditStep { format, key: edit.key.clone(), encoding, value, put });
            }
            guess = guess.or_else(|| set.put.encoding().map(str::to_owned));
            synced.applied.push(Applied {
                file: file.clone(),
                key: edit.key.clone(),
                value: edit.value.clone(),
                format,
                encoding: edit.encoding.clone(),
                put: set.put,
            });
            bytes = set.bytes;
        }
        match self.all_stand(&bytes, guess.as_deref(), synced) {
            // What was written by hand keeps nobody from playing: the last one holds.
            Err(_) if *again == Again::Enforced => {}
            stand => stand?,
        }
        Ok(steps)
    }

    /// An error if one edit has undone another: both are of one place, whatever they call it.
    fn all_stand(&self, bytes: &[u8], guess: Option<&str>, synced: &Synced) -> Result<(), EditFault> {
        for edit in &self.wanted {
            let stands = |view: &View| {
                (&view.file, &view.key) == (&edit.file, &edit.key) && matches!(view.does, Does::Set | Does::Nothing)
            };
            let format = edit.format().unwrap_or(Format::Ini);
            if !synced.views.iter().any(stands) {
                continue;
            }
            let there = edit::get(bytes, format, &edit.key, edit.encoding.as_deref().or(guess))?;
            if !there.is_some_and(|is| edit::same_value(format, &is, &edit.value)) {
                let why = "another edit of the profile is of the same place".into();
                return Err(EditFault::Key { format, key: edit.key.clone(), why });
            }
        }
        Ok(())
    }
}

/// Says that nothing can be done in a file; an error where somebody has asked for just that.
fn broken(edit: &Edit, fault: &EditFault, again: &Again, synced: &mut Synced) -> Result<(), EditFault> {
    match again {
        Again::All => Err(fault.clone()),
        Again::Named(file, key) if (file, key) == (&edit.file, &edit.key) => Err(fault.clone()),
        Again::Enforced | Again::None | Again::Named(..) => {
            synced.views.push(View { why: Some(fault.to_string()), ..view(edit, None, Does::Broken) });
            Ok(())
        }
    }
}

/// Takes back what an edit did. A file in which the edit can't be found any more stays as it is.
fn take_back(
    file: &RelPath,
    applied: &Applied,
    bytes: Vec<u8>,
    synced: &mut Synced,
    steps: &mut Vec<EditStep>,
) -> Vec<u8> {
    let encoding = applied.encoding.as_deref();
    let there = edit::get(&bytes, applied.format, &applied.key, encoding).unwrap_or_default();
    let back = edit::unset(&bytes, applied.format, &applied.key, (encoding, &applied.put)).unwrap_or_default();
    synced.views.push(View {
        file: file.to_string(),
        key: applied.key.clone(),
        value: None,
        there,
        like: Vec::new(),
        does: if back.is_some() { Does::GivesBack } else { Does::Leaves },
        why: None,
        enforce: false,
    });
    if back.is_some() {
        let (encoding, put) = (applied.encoding.clone(), Some(applied.put.clone()));
        steps.push(EditStep { format: applied.format, key: applied.key.clone(), encoding, value: None, put });
    }
    back.unwrap_or(bytes)
}

fn view(edit: &Edit, there: Option<String>, does: Does) -> View {
    View {
        file: edit.file.clone(),
        key: edit.key.clone(),
        value: Some(edit.value.clone()),
        there,
        like: Vec::new(),
        does,
        why: None,
        enforce: edit.enforce,
    }
}
/// A profile's text, whose edits name their files where another build has them: those that are there and move, and those that
/// are waited for.
pub(crate) fn moved(text: &str, moves: &Moves, sheets: (Option<&Sheet>, Option<&Sheet>)) -> String {
    let Ok(mut profile) = ProfileText::parse(text, Path::new("profile.toml")) else { return text.to_owned() };
    profile.move_edits(&|file| {
        let path = RelPath::new(file).ok()?;
        let there = moves.of(&path);
        let by_group = || match sheets {
            (Some(sheet), Some(to)) => place(&path, sheet.group_of(&path), sheet, to).ok().flatten(),
            _ => None,
        };
        let to = if *there == path { by_group()? } else { there.clone() };
        (to != path).then(|| to.to_string())
    });
    profile.text()
}
