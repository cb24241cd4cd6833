//! What a sealed program sees and may write, worked out beforehand: pure, without a look at the disk.

use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

/// What a view is made of. All paths are absolute and without links.
#[derive(Clone, Debug, Default)]
pub(crate) struct Wanted {
    /// Folders whose changes are kept apart.
    pub(crate) overlays: Vec<Overlay>,
    /// Folders of the run's own that stand in for the system's: what stands in, and where it is seen.
    pub(crate) private: Vec<(PathBuf, PathBuf)>,
    /// Folders that are empty at first, and live in memory.
    pub(crate) empty: Vec<PathBuf>,
    /// The folder for sockets and the like of a session, and what of it is let through.
    pub(crate) session: Option<(PathBuf, Vec<PathBuf>)>,
    /// Whether there are terminals of the system's, which are not the program's.
    pub(crate) terminals: bool,
    /// Places of the system's that root could write to.
    pub(crate) closed: Vec<PathBuf>,
    /// Folders outside that are shown on purpose, and whether they may be written to.
    pub(crate) reached: Vec<(PathBuf, bool)>,
    /// Folders that are seen as they are, read-only, where something else would hide them.
    pub(crate) shown: Vec<PathBuf>,
    /// Folders that are hidden; what of the above lies in them is seen.
    pub(crate) hidden: Vec<PathBuf>,
    /// The devices that a program gets where the user could do more with the system's own: paths below `/dev`.
    pub(crate) devices: Option<Vec<PathBuf>>,
}

/// A folder whose changes are kept apart.
#[derive(Clone, Debug)]
pub(crate) struct Overlay {
    /// The folder as it is.
    pub(crate) lower: PathBuf,
    /// Where what changes goes.
    pub(crate) upper: PathBuf,
    /// A folder for the kernel's own use, on the same filesystem.
    pub(crate) work: PathBuf,
    /// Where it is seen.
    pub(crate) at: PathBuf,
}

/// One thing that is mounted.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) enum What {
    /// Changes to `lower` go into `upper`.
    Overlay { lower: PathBuf, upper: PathBuf, work: PathBuf },
    /// A folder or file as it is, seen in another place too.
    Same { from: PathBuf, read_only: bool },
    /// An empty folder in memory; with `closed`, nothing can be added once everything is in place.
    Empty { closed: bool },
    /// The processes of the new namespace.
    Processes,
    /// Terminals of its own.
    Terminals,
}

/// A mount, and where it goes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Mount {
    pub(crate) what: What,
    pub(crate) at: PathBuf,
    /// Folders to make first, from above, in what is mounted above it.
    pub(crate) folders: Vec<PathBuf>,
    /// Whether it is a file that is mounted on a file.
    pub(crate) file: bool,
}

/// A view: what is mounted, in the order in which it is, and what can be written.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub(crate) struct View {
    pub(crate) mounts: Vec<Mount>,
    /// Symlinks: what they say, and where they are.
    pub(crate) links: Vec<(PathBuf, PathBuf)>,
    /// Mounted once more over themselves, read-only.
    pub(crate) closed: Vec<PathBuf>,
    /// Folders that can be written.
    pub(crate) writable: Vec<PathBuf>,
}

/// Works out the view: the outermost first, since what is mounted later hides what lies below its place.
pub(crate) fn view(wanted: &Wanted) -> View {
    let mut mounts = vec![(What::Processes, PathBuf::from("/proc"))];
    let mut view = View { closed: wanted.closed.clone(), ..View::default() };
    for overlay in &wanted.overlays {
        let Overlay { lower, upper, work, at } = overlay.clone();
        view.writable.push(at.clone());
        mounts.push((What::Overlay { lower, upper, work }, at));
    }
    for (from, at) in &wanted.private {
        view.writable.push(at.clone());
        mounts.push((What::Same { from: from.clone(), read_only: false }, at.clone()));
    }
    for at in &wanted.empty {
        view.writable.push(at.clone());
        mounts.push((What::Empty { closed: false }, at.clone()));
    }
    if let Some((folder, through)) = &wanted.session {
        // It may be one of the run's own already.
        if !wanted.private.iter().any(|(_, at)| at == folder) {
            view.writable.push(folder.clone());
            mounts.push((What::Empty { closed: false }, folder.clone()));
        }
        mounts.extend(through.iter().map(|path| seen(path)));
    }
    for (folder, writable) in &wanted.reached {
        if *writable {
            view.writable.push(folder.clone());
        }
        mounts.push((What::Same { from: folder.clone(), read_only: !writable }, folder.clone()));
    }
    if wanted.terminals {
        mounts.push((What::Terminals, "/dev/pts".into()));
    }
    mounts.extend(wanted.shown.iter().map(|path| seen(path)));
    mounts.extend(wanted.hidden.iter().map(|at| (What::Empty { closed: true }, at.clone())));
    if let Some(devices) = &wanted.devices {
        mounts.push((What::Empty { closed: true }, "/dev".into()));
        mounts.extend(devices.iter().map(|path| seen(path)));
        let links =
            [("/proc/self/fd", "fd"), ("fd/0", "stdin"), ("fd/1", "stdout"), ("fd/2", "stderr"), ("pts/ptmx", "ptmx")];
        view.links = links.map(|(to, name)| (to.into(), Path::new("/dev").join(name))).to_vec();
    }
    // What is hidden is above what is seen in it at the same depth.
    mounts.sort_by_key(|(what, at)| (at.components().count(), *what != What::Empty { closed: true }));
    mounts.dedup_by(|later, first| later.1 == first.1 && later.0 == first.0);
    for (what, at) in mounts {
        let above = view.mounts.iter().rev().find(|mount| at.starts_with(&mount.at) && mount.at != at);
        let folders = above.map_or_else(Vec::new, |above| between(&above.at, &at));
        view.mounts.push(Mount { what, at, folders, file: false });
    }
    view
}

fn seen(path: &Path) -> (What, PathBuf) {
    (What::Same { from: path.into(), read_only: true }, path.into())
}

/// The folders below `above` that lead to `at`, and `at` itself.
fn between(above: &Path, at: &Path) -> Vec<PathBuf> {
    let mut folders: Vec<_> = at.ancestors().take_while(|path| *path != above).map(Path::to_path_buf).collect();
    folders.reverse();
    folders
}

impl View {
    /// Which of the mounts are files on files; the last of their folders is that file then.
    pub(crate) fn with_files(mut self, is_file: impl Fn(&Path) -> bool) -> Self {
        for mount in &mut self.mounts {
            if let What::Same { from, .. } = &mount.what {
                mount.file = is_file(from);
            }
        }
        self
    }

    /// What may be left in the folder that is seen at `place`, of what was made to mount on: the innermost first.
    pub(crate) fn left_in(&self, place: &Path) -> Vec<PathBuf> {
        let within = |path: &&PathBuf| path.starts_with(place) && *path != place;
        let directly = self.mounts.iter().filter(|mount| {
            let above = self.mounts.iter().filter(|other| mount.at.starts_with(&other.at) && other.at != mount.at);
            above.max_by_key(|other| other.at.components().count()).is_some_and(|above| above.at == place)
        });
        let mut left: Vec<_> = directly.flat_map(|mount| mount.folders.iter().filter(within).cloned()).collect();
        left.sort_by_key(|path| std::cmp::Reverse(path.components().count()));
        left.dedup();
        left
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn overlay(at: &str) -> Overlay {
        let below = |name: &str| PathBuf::from(format!("/twin/{name}"));
        Overlay { lower: below("lower"), upper: below("upper"), work: below("work"), at: at.into() }
    }

    fn shown(view: &View) -> String {
        let line = |mount: &Mount| {
            let what = match &mount.what {
                What::Overlay { .. } => "overlay".to_owned(),
                What::Same { from, read_only } => {
                    format!("same as {}{}", from.display(), if *read_only { ", read-only" } else { "" })
                }
                What::Empty { closed } => if *closed { "hidden" } else { "empty" }.to_owned(),
                What::Processes => "processes".to_owned(),
                What::Terminals => "terminals".to_owned(),
            };
            let folders: Vec<_> = mount.folders.iter().map(|path| path.display().to_string()).collect();
            format!("{}: {what} [{}]\n", mount.at.display(), folders.join(" "))
        };
        view.mounts.iter().map(line).collect()
    }

    #[test]
    fn a_yard_below_the_home_is_hidden_and_the_twin_in_it_is_seen() {
        let wanted = Wanted {
            overlays: vec![overlay("/home/ann/yard/twins/a/game"), overlay("/home/ann")],
            private: vec![("/twin/tmp".into(), "/tmp".into())],
            empty: vec!["/dev/shm".into()],
            session: Some(("/run/user/7".into(), vec!["/run/user/7/bus".into()])),
            shown: vec!["/tmp/.X11-unix".into()],
            reached: vec![("/home/ann/songs".into(), false)],
            hidden: vec!["/home/ann/yard".into()],
            ..Wanted::default()
        };
        let view = view(&wanted);
        insta::assert_snapshot!(shown(&view), @r"
        /proc: processes []
        /tmp: same as /twin/tmp []
        /home/ann: overlay []
        /dev/shm: empty []
        /tmp/.X11-unix: same as /tmp/.X11-unix, read-only [/tmp/.X11-unix]
        /home/ann/yard: hidden [/home/ann/yard]
        /run/user/7: empty []
        /home/ann/songs: same as /home/ann/songs, read-only [/home/ann/songs]
        /run/user/7/bus: same as /run/user/7/bus, read-only [/run/user/7/bus]
        /home/ann/yard/twins/a/game: overlay [/home/ann/yard/twins /home/ann/yard/twins/a /home/ann/yard/twins/a/game]
        ");
        let left = ["/home/ann/yard", "/home/ann/songs"].map(PathBuf::from);
        assert_eq!(view.left_in(Path::new("/home/ann")), left);
    }

    #[test]
    fn whatever_lies_in_something_is_mounted_after_it() {
        let deep = Wanted {
            overlays: vec![overlay("/tmp/yard/twins/a/game"), overlay("/tmp/home")],
            private: vec![("/twin/tmp".into(), "/tmp".into())],
            hidden: vec!["/tmp/yard".into()],
            devices: Some(vec!["/dev/null".into()]),
            ..Wanted::default()
        };
        let mounts = view(&deep).mounts;
        for (number, mount) in mounts.iter().enumerate() {
            let later = mounts[number + 1..].iter().find(|later| mount.at.starts_with(&later.at));
            assert_eq!(later, None, "would hide {}", mount.at.display());
        }
    }
}
