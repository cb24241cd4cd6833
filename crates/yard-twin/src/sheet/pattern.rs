//! Patterns over the paths of a twin.

use globset::{Glob, GlobBuilder, GlobSet, GlobSetBuilder};

/// A set of patterns: what matches one, or lies below what matches one.
#[derive(Clone, Debug)]
pub(crate) struct PathSet(GlobSet);

impl Default for PathSet {
    fn default() -> Self {
        Self(GlobSet::empty())
    }
}

impl PathSet {
    /// Compiles patterns that were checked one by one with [`check`].
    pub(crate) fn new<'a>(patterns: impl IntoIterator<Item = &'a str>, ignore_case: bool) -> Result<Self, String> {
        let mut set = GlobSetBuilder::new();
        for pattern in patterns {
            let pattern = pattern.trim_end_matches('/');
            set.add(glob(pattern, ignore_case)?);
            set.add(glob(&format!("{pattern}/**"), ignore_case)?);
        }
        Ok(Self(set.build().map_err(|error| error.to_string())?))
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    pub(crate) fn contains(&self, path: &str) -> bool {
        self.0.is_match(path)
    }
}

fn glob(pattern: &str, ignore_case: bool) -> Result<Glob, String> {
    GlobBuilder::new(pattern)
        .literal_separator(true)
        .backslash_escape(true)
        .case_insensitive(ignore_case)
        .build()
        .map_err(|error| error.kind().to_string())
}

/// What is wrong with a pattern, if anything.
pub(crate) fn check(pattern: &str) -> Option<String> {
    let below = pattern.strip_prefix("game/").or_else(|| pattern.strip_prefix("home/"));
    match below {
        None | Some("") => Some("a pattern starts with game/ or home/ and names something below it".into()),
        Some(rest) if rest.split('/').any(|part| part == ".." || part == ".") => {
            Some("a pattern can't lead out of the twin: no '.' or '..' parts".into())
        }
        Some(_) => glob(pattern, false).err(),
    }
}

/// Whether a pattern leaves nothing of the game out.
pub(crate) fn catches_all(pattern: &str) -> bool {
    let Some(rest) = pattern.strip_prefix("game/") else { return false };
    rest.split('/').all(|part| !part.is_empty() && part.bytes().all(|byte| byte == b'*'))
}

/// What is wrong with a pattern over build labels, if anything.
pub(crate) fn check_label(pattern: &str) -> Option<String> {
    if pattern.is_empty() { Some("it is empty".into()) } else { glob(pattern, false).err() }
}

/// Whether a build label fits a pattern that was checked.
pub(crate) fn fits_label(pattern: &str, label: &str) -> bool {
    glob(pattern, false).is_ok_and(|glob| glob.compile_matcher().is_match(label))
}

/// The folder that all paths of a pattern are in; a pattern that names one path is that path, of a folder or a file.
pub(crate) fn base(pattern: &str) -> &str {
    match pattern.find(['*', '?', '[', '{', '\\']) {
        Some(special) => pattern[..special].rsplit_once('/').map_or("", |(folder, _)| folder),
        None => pattern.trim_end_matches('/'),
    }
}

/// Whether a pattern names one file: one path, of which the last part has an ending. Another one path is a folder, with all
/// that is in it.
pub(crate) fn names_file(pattern: &str) -> bool {
    let name = pattern.rsplit('/').next().unwrap_or_default();
    !pattern.contains(['*', '?', '[', '{', '\\']) && name.rfind('.').is_some_and(|dot| dot > 0)
}

/// The text as a pattern that matches just itself.
pub(crate) fn escape(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        if matches!(c, '*' | '?' | '[' | ']' | '{' | '}' | '\\') {
            out.push('\\');
        }
        out.push(c);
    }
    out
}
