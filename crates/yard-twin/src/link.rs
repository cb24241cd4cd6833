//! Where symlinks lead, and what becomes of them when a folder is taken in or cloned.

use std::path::{Component, Path, PathBuf};

/// What to do with a symlink.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Fate {
    /// It stays as it is written.
    Keep,
    /// It leads inside the folder by an absolute path: this relative one leads there from every copy.
    Relative(String),
    /// It leads into another part of the yard, which a copy must not lean on.
    Forbidden,
}

/// Judges the symlink at `link` (below `root`, whose other spelling is `also`) that leads to `target`.
///
/// By the text alone: what lies at the end may be missing, or change.
pub(crate) fn fate(link: &Path, target: &str, root: &Path, also: &Path, yard: &Path) -> Fate {
    let absolute = Path::new(target).is_absolute();
    let folder = link.parent().unwrap_or(root);
    let end = normal(&folder.join(target));
    let inside = [root, also].into_iter().find_map(|root| end.strip_prefix(root).ok());
    match inside {
        Some(_) if !absolute => Fate::Keep,
        Some(below) => Fate::Relative(relative(folder.strip_prefix(root).unwrap_or(Path::new("")), below)),
        None if end.starts_with(yard) => Fate::Forbidden,
        None => Fate::Keep,
    }
}

/// The path without `.` and `..`.
pub(crate) fn normal(path: &Path) -> PathBuf {
    let mut out = PathBuf::new();
    for part in path.components() {
        match part {
            Component::CurDir => {}
            Component::ParentDir => {
                out.pop();
            }
            part => out.push(part),
        }
    }
    out
}

/// How to get from the folder `from` to `to`, both below one root.
pub(crate) fn relative(from: &Path, to: &Path) -> String {
    let shared = from.components().zip(to.components()).take_while(|(a, b)| a == b).count();
    let up = from.components().skip(shared).map(|_| Component::ParentDir);
    let path: PathBuf = up.chain(to.components().skip(shared)).collect();
    if path.as_os_str().is_empty() { ".".into() } else { path.to_string_lossy().into_owned() }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn judge(link: &str, target: &str) -> Fate {
        let root = Path::new("/yard/twins/a/game");
        fate(&root.join(link), target, root, Path::new("/alias/game"), Path::new("/yard"))
    }

    #[test]
    fn links_are_kept_made_relative_or_refused_by_where_they_lead() {
        for target in ["b", "sub/../b", "../x/b", "missing", "/usr/lib/libc.so", "/elsewhere", "/yard2/x", "."] {
            assert_eq!(judge("deep/link", target), Fate::Keep, "{target}");
        }
        for (link, target, relative) in [
            ("link", "/yard/twins/a/game/bin/x", "bin/x"),
            ("deep/er/link", "/yard/twins/a/game/bin/x", "../../bin/x"),
            ("deep/link", "/yard/twins/a/game/deep/x", "x"),
            ("link", "/yard/twins/a/game", "."),
            ("deep/link", "/alias/game/./x/../y", "../y"),
        ] {
            assert_eq!(judge(link, target), Fate::Relative(relative.into()), "{link} -> {target}");
        }
        for target in ["/yard/twins/b/game/x", "../../b/x", "../home/x", "/yard/pool/ab", "../../../pool"] {
            assert_eq!(judge("link", target), Fate::Forbidden, "{target}");
        }
    }
}
