//! Which way files are shared, for filesystems that are lied about.

use super::{Facts, Policy, Share, Sharing, Unshared};
use crate::ident::ContentId;
use crate::listing::{Entry, Listing, Node};
use crate::path::RelPath;
use crate::sheet::PathSet;

const EXT4: Facts = Facts { reflink: false, link: true, guard: true };
const EXT4_AS_ROOT: Facts = Facts { reflink: false, link: true, guard: false };
const BTRFS: Facts = Facts { reflink: true, link: true, guard: true };
const FAT: Facts = Facts { reflink: false, link: false, guard: false };

const MIB: u64 = 1 << 20;

/// The paths that the table asks about, with their sizes; 64 signals beside them make a mass.
const FILES: [(&str, u64); 10] = [
    ("game/scenery/hills.wjp", 5 * MIB),
    ("game/signals/signal-00.wjg", 100),
    ("game/board.txt", 100),
    ("game/readme", 2 * MIB),
    ("game/panel.ini", 5 * MIB),
    ("game/old.SAV", 2 * MIB),
    ("game/empty.wjg", 0),
    ("game/live/map.wjp", 5 * MIB),
    ("game/live/signal.wjg", 100),
    ("home/hills.wjp", 5 * MIB),
];

fn listing() -> Listing {
    let signals = (1..64).map(|number| (format!("game/signals/signal-{number:02}.wjg"), 100));
    let files = FILES.iter().map(|(path, size)| ((*path).to_owned(), *size)).chain(signals);
    let entry = |(path, size): (String, u64)| Entry {
        path: RelPath::new(path).unwrap(),
        node: Node::File { content: ContentId::from_bytes([1; 32]), size, executable: false },
        mtime: 0,
    };
    Listing::new(files.map(entry).collect()).unwrap()
}

#[test]
fn each_file_is_shared_as_the_wish_the_disk_and_its_kind_allow() {
    let (listing, written) = (listing(), PathSet::new(["game/live"], false).unwrap());
    let mut table = String::new();
    for (name, facts) in [("ext4", EXT4), ("ext4, root", EXT4_AS_ROOT), ("btrfs", BTRFS), ("fat", FAT)] {
        for wish in [Sharing::All, Sharing::Careful, Sharing::None] {
            let policy = Policy::new(wish, facts, &listing, &written);
            let ways = FILES.map(|(path, _)| match policy.way(listing.get(path).unwrap()) {
                Share::Reflink => "reflink",
                Share::Link => "link",
                Share::Copy => "copy",
                Share::Own | Share::Arrived => "own",
            });
            let why = policy.unshared().map_or(String::new(), |why| format!("  unshared: {why:?}"));
            let line = format!("{name:10} {wish:?}:{why}");
            table.push_str(line.trim_end());
            table.push('\n');
            for ((path, _), way) in FILES.iter().zip(ways) {
                if way != "copy" {
                    table.push_str(&format!("    {way:8} {path}\n"));
                }
            }
            assert_eq!(policy.links(), ways.contains(&"link"), "{name} {wish:?}");
        }
    }
    insta::assert_snapshot!(table);
}

#[test]
fn nothing_is_said_to_be_unshared_that_is_shared() {
    let (listing, nothing) = (listing(), PathSet::default());
    let why = |wish, facts| Policy::new(wish, facts, &listing, &nothing).unshared();
    assert_eq!(why(Sharing::Careful, BTRFS), None);
    assert_eq!(why(Sharing::All, EXT4_AS_ROOT), None);
    assert_eq!(why(Sharing::Careful, EXT4_AS_ROOT), Some(Unshared::NoGuard));
    assert_eq!(why(Sharing::All, FAT), Some(Unshared::NoLinks));
    assert_eq!(why(Sharing::None, BTRFS), Some(Unshared::Wish));
}
