#!/usr/bin/env bash
# Times whole commands beside system tools, interleaved, and prints medians and ratios.
# usage: scripts/compare.sh FOLDER [ROUNDS [PART...]]
# FOLDER has room for 30 GB; 7 rounds unless said. Parts are intakes, moves, large, small, looks, renew, mods, paths, reflinks; all of them unless said.
# As root it makes fresh images of ext4, btrfs and xfs in FOLDER, and measures as an ordinary user (nobody). As anyone else it
# measures on the filesystem of FOLDER, and says so. Needs Python 3, b3sum, unzip and a build (cargo build --profile dist).
set -euo pipefail
here=$(cd "$(dirname "$0")/.." && pwd)
folder=$(realpath "$1"); rounds=${2:-7}; parts=" ${*:3} "
[ "$parts" != "  " ] || parts=" intakes moves large small looks renew mods paths reflinks "
part() { [[ $parts == *" $1 "* ]]; }
export YARDTWIN=${YARDTWIN:-$here/target/dist/yardtwin} TIMEFORMAT=%R
place=$(mktemp -d "$folder/compare.XXXXXX"); chmod 755 "$place"
mounts=()
tidy() {
    for mount in "${mounts[@]}"; do umount "$mount" 2>/dev/null || true; done
    chmod -R u+w "$place" 2>/dev/null || true
    rm -rf "$place"
}
trap tidy EXIT
mkdir -m 777 "$place/home" "$place/times"
export HOME=$place/home
cp "$YARDTWIN" "$place/yardtwin"; chmod 755 "$place/yardtwin"; YARDTWIN=$place/yardtwin

user=()
if [ "$(id -u)" = 0 ]; then user=(setpriv --reuid=65534 --regid=65534 --clear-groups); fi
as() { "${user[@]}" "$@"; }

# A fresh filesystem of a kind, mounted; without root a fresh folder.
fresh() { # kind
    local kind=$1 at=$place/$1
    if [ "$(id -u)" != 0 ]; then
        chmod -R u+w "$at" 2>/dev/null || true; rm -rf "$at"; mkdir -p "$at"
        return
    fi
    mountpoint -q "$at" && umount "$at"
    mkdir -p "$at"; rm -f "$place/$kind.img"; truncate -s 20G "$place/$kind.img"
    "mkfs.$kind" -q "$place/$kind.img" >/dev/null 2>&1
    mount -o loop "$place/$kind.img" "$at"; mounts+=("$at"); chmod 777 "$at"
}

# Runs a command, and adds its seconds to the file of its name.
timed() { local name=$1; shift; { time as "$@" >/dev/null 2>&1; } 2>>"$place/times/$name"; }
median() { sort -n "$place/times/$1" | awk '{ a[NR] = $1 } END { print a[int((NR + 1) / 2)] }'; }
row() { # what, name, beside, name of that, must
    awk -v w="$1" -v y="$3" -v a="$(median "$2")" -v b="$(median "$4")" -v m="$5" \
        'BEGIN { printf "| %s | %.3f s | %s | %.3f s | %.2f | %s |\n", w, a, y, b, a / b, m }'
}
heading() { printf '\n%s\n\n| command | time | beside | time | ratio | must |\n| --- | --- | --- | --- | --- | --- |\n' "$1"; }
yt() { as "$YARDTWIN" --yard "$yard" "$@" >/dev/null 2>&1; }
hash_all() { bash -c 'find "$1" -type f -print0 | xargs -0 b3sum --no-names' - "$1"; }
export -f hash_all

echo "trees are made"
python3 "$here/scripts/tree.py" texts "$place/texts"
if part intakes || part moves || part large || part small || part looks || part renew || part mods || part reflinks; then
    python3 "$here/scripts/tree.py" large "$place/large"
    python3 "$here/scripts/tree.py" large "$place/large95" 5
    python3 "$here/scripts/tree.py" small "$place/small"
fi
sync

intakes() { # each round on a filesystem of its own
    local tree=$place/large
    for _ in $(seq "$rounds"); do
        fresh ext4
        timed cp-a-sync bash -c 'cp -a "$1" "$2" && sync -f "$2"' - "$tree" "$place/ext4/a"
        fresh ext4
        yard=$place/ext4/yard; yt init; sync
        timed intake "$YARDTWIN" --yard "$yard" intake "$tree" --title compare --build 1
        timed intake-known "$YARDTWIN" --yard "$yard" intake "$tree" --title compare --build 2
        timed hash-known bash -c 'hash_all "$1"' - "$tree"
        timed intake-95 "$YARDTWIN" --yard "$yard" intake "${tree}95" --title compare --build 3
        timed hash-95 bash -c 'hash_all "$1"' - "${tree}95"
    done
    heading "Intake, ext4, 10,203 files, 3.3 GB"
    row "intake of new content, durable" intake "\`cp -a\`, then \`sync -f\`" cp-a-sync 1.15
    row "intake of what the pool has" intake-known "\`find\` and \`xargs b3sum\`" hash-known 1.2
    row "intake of a build that shares 95 %" intake-95 "the same over it" hash-95 1.4
}

moves() { # each round on a filesystem of its own
    local at=$place/ext4 before grown=0 most=0
    for _ in $(seq "$rounds"); do
        fresh ext4
        yard=$at/yard; yt init
        as cp -a "$place/large" "$at/tree"; sync -f "$at"
        timed hash-sync bash -c 'hash_all "$1" && sync -f "$1"' - "$at/tree"
        before=$(df -k --output=used "$at" | tail -1)
        timed move "$YARDTWIN" --yard "$yard" intake "$at/tree" --title compare --build 1 --move --yes
        sync -f "$at"
        grown=$(($(df -k --output=used "$at" | tail -1) - before))
        [ "$grown" -le "$most" ] || most=$grown
    done
    heading "Move into the yard, ext4, 10,203 files, 3.3 GB"
    row "intake --move" move "\`find\` and \`xargs b3sum\`, then \`sync -f\`" hash-sync 1.2
    printf '\nAfter it the disk has %d KiB more in use at the most.\n' "$most"
}

twins() { # tree
    local tree=$1 sizes="find -printf with size and time" al=cp-al-$1 n
    fresh ext4
    yard=$place/ext4/yard
    as cp -a "$place/$tree" "$place/ext4/tree"
    yt init; yt intake "$place/ext4/tree" --title compare --build 1
    yt clone compare@1 standing --share all; yt snapshot standing before
    yt clone compare@1 "worn"; yt snapshot worn before
    for n in $(seq "$rounds"); do
        sync -f "$place/ext4"
        timed "$al" cp -al "$place/ext4/tree" "$place/ext4/al"
        timed "all-$tree" "$YARDTWIN" --yard "$yard" clone compare@1 "all $n" --share all
        timed "after-clone-$tree" "$YARDTWIN" --yard "$yard" diff "all $n"
        timed "careful-$tree" "$YARDTWIN" --yard "$yard" clone compare@1 "careful $n"
        yt diff standing
        timed "find-$tree" find "$yard/twins/standing" -printf '%p %s %T@ %C@\n'
        timed "diff-$tree" "$YARDTWIN" --yard "$yard" diff standing
        timed "full-$tree" "$YARDTWIN" --yard "$yard" check standing --full
        timed "hash-$tree" bash -c 'hash_all "$1"' - "$yard/twins/standing/game"
        if [ "$tree" = large ]; then
            find "$yard/twins/worn/game" -name 'item*.wjp' | sort | awk 'NR % 100 == 1' | head -100 | while read -r file; do
                as bash -c 'echo "$1" > "$2.new"; mv -f "$2.new" "$2"' - "$n" "$file"
            done
            yt snapshot worn
            # What was written until now is not to be paid for by what is measured.
            sync -f "$place/ext4"
            timed restore "$YARDTWIN" --yard "$yard" restore worn before --yes
            timed clone-of-it "$YARDTWIN" --yard "$yard" clone worn "copy $n"
            yt remove "copy $n" --for-good --yes
        fi
        timed "remove-$tree" "$YARDTWIN" --yard "$yard" remove "all $n"
        timed "after-remove-$tree" "$YARDTWIN" --yard "$yard" diff standing
        timed "rm-$tree" rm -rf "$place/ext4/al"
        timed list "$YARDTWIN" --yard "$yard" list
        timed true true
        yt remove "all $n" --for-good --yes; yt remove "careful $n" --for-good --yes
    done
    local clone_must=1.0 diff_must=0.9 full_must=1.1
    if [ "$tree" = small ]; then clone_must=0.75; diff_must=0.6; full_must=0.5; fi
    heading "Twins, ext4, $2"
    row "clone by links (\`--share all\`)" "all-$tree" "\`cp -al\`" "$al" "$clone_must"
    row "clone, default sharing" "careful-$tree" "\`cp -al\`" "$al" "printed"
    row "\`diff NAME\`, nothing changed" "diff-$tree" "$sizes" "find-$tree" "$diff_must"
    row "the same, right after its clone" "after-clone-$tree" "\`diff NAME\`" "diff-$tree" 1.3
    row "the same, after a sibling was removed" "after-remove-$tree" "\`diff NAME\`" "diff-$tree" 1.3
    row "\`check NAME --full\`" "full-$tree" "\`find\` and \`xargs b3sum\`" "hash-$tree" "$full_must"
    if [ "$tree" = large ]; then row "restore over 100 changed files" restore "clone of the same twin" clone-of-it 0.6; fi
    row "remove" "remove-$tree" "\`rm -rf\`" "rm-$tree" 1.3
    printf '| nothing to do (`list`) | %.3f s | `true` | %.3f s | %+.0f ms | +10 ms |\n' "$(median list)" "$(median true)" \
        "$(awk -v a="$(median list)" -v b="$(median true)" 'BEGIN { print (a - b) * 1000 }')"
}

# A yard with one build and one twin of it, and what looks at them: on a fresh image, or on the disk of the folder.
looks() { # tree, what, where
    local tree=$1 where=$3 name=$1-$3 base n file
    if [ "$where" = image ]; then fresh ext4; base=$place/ext4; else base=$place/disk; mkdir -p -m 777 "$base"; fi
    yard=$base/yard-$tree
    as cp -a "$place/$tree" "$base/tree"
    yt init; yt intake "$base/tree" --title compare --build 1; yt clone compare@1 twin --share all
    yt diff twin
    file=$(find "$yard/twins/twin/game" -type f | sort | awk 'NR == 5000')
    sync -f "$base"
    for n in $(seq "$rounds"); do
        timed "lfind-$name" find "$yard/twins/twin" -printf '%p %s %T@ %C@\n'
        timed "ldiff-$name" "$YARDTWIN" --yard "$yard" diff twin
        timed "lshow-$name" "$YARDTWIN" --yard "$yard" show twin
        timed "ldu-$name" du -s "$yard/twins/twin" "$yard/pool"
        timed "lspace-$name" "$YARDTWIN" --yard "$yard" list --space
        as bash -c 'echo "$1" > "$2.new"; mv -f "$2.new" "$2"' - "$n" "$file"
        timed "lone-$name" "$YARDTWIN" --yard "$yard" history twin
        as bash -c 'echo "$1" > "$2.new"; mv -f "$2.new" "$2"' - "and $n" "$file"
        timed "lkeep-$name" "$YARDTWIN" --yard "$yard" snapshot twin
        sync -f "$base"
        timed "lal-$name" cp -al "$base/tree" "$base/al"
        sync -f "$base"
        timed "lclone-$name" "$YARDTWIN" --yard "$yard" clone twin copy
        sync -f "$base"
        timed "lrm-$name" rm -rf "$base/al"
        timed "lgone-$name" "$YARDTWIN" --yard "$yard" remove copy --for-good --yes
        yt diff twin
    done
    heading "Looks, $where, $2"
    row "\`diff NAME\`, nothing changed" "ldiff-$name" "\`find -printf\`" "lfind-$name" "$4"
    row "\`history NAME\`, one changed file taken in" "lone-$name" "the same" "lfind-$name" "$5"
    row "\`snapshot NAME\`, one changed file" "lkeep-$name" "the same" "lfind-$name" -
    row "\`show NAME\`" "lshow-$name" "the same" "lfind-$name" "$6"
    row "\`list --space\`, one build, one twin" "lspace-$name" "\`du -s\` of both" "ldu-$name" 1.5
    row "\`clone\` of a twin" "lclone-$name" "\`cp -al\`" "lal-$name" "$7"
    row "\`remove --for-good\`" "lgone-$name" "\`rm -rf\`" "lrm-$name" 1.5
    chmod -R u+w "$base"; rm -rf "$base/tree" "$yard"
}

renewals() { # there and back again
    fresh ext4
    yard=$place/ext4/yard
    yt init; yt intake "$place/large" --title compare --build 1; yt intake "$place/large95" --title compare --build 2
    yt clone compare@1 standing
    for n in $(seq "$rounds"); do
        sync -f "$place/ext4"
        timed clone-renew "$YARDTWIN" --yard "$yard" clone compare@2 "copy $n"
        yt remove "copy $n" --for-good --yes
        timed renew "$YARDTWIN" --yard "$yard" renew standing --stock compare@2
        timed renew "$YARDTWIN" --yard "$yard" renew standing --stock compare@1
    done
    heading "Renew, ext4, 10,203 files, 3.3 GB, onto a build that shares 95 %"
    row "renew" renew "clone, default sharing" clone-renew 3.0
}

mods() { # a mod of 2,000 files, a package of 1 GB, an archive of 500 MB, a build out of an archive
    fresh ext4
    local at=$place/ext4
    yard=$at/yard
    python3 - "$at" <<'END'
import os, random, sys, zipfile
at, rand = sys.argv[1], random.Random(5)
os.makedirs(f"{at}/pack/mod")
for number in range(2000):
    with open(f"{at}/pack/mod/{number}.dat", "wb") as out: out.write(rand.randbytes(20_000))
os.makedirs(f"{at}/inlay")
with open(f"{at}/inlay/rules.bin", "wb") as out: out.write(rand.randbytes(1 << 20))
with open(f"{at}/inlay/yardtwin-mod.toml", "w") as out:
    out.write('name = "inlay"\n[[inlay]]\narchive = "game/rules.wja"\nfrom = "rules.bin"\n')
END
    chmod -R a+rX "$at/pack" "$at/inlay"
    as cp -a "$place/large" "$at/tree"
    as python3 - "$at/tree/rules.wja" <<'END'
import random, sys, zipfile
rand = random.Random(6)
with zipfile.ZipFile(sys.argv[1], "w") as out:
    for number in range(500): out.writestr(f"{number}.dat", rand.randbytes(1_000_000))
END
    (cd "$place/large" && as python3 -c 'import os,sys,zipfile
with zipfile.ZipFile(sys.argv[1], "w", zipfile.ZIP_DEFLATED, compresslevel=1) as out:
    for folder, _, names in os.walk("."):
        for name in names: out.write(os.path.join(folder, name))' "$at/build.zip")
    yt init; yt intake "$at/tree" --title compare --build 1
    as mv "$at/tree/rules.wja" "$at/"; as rm -rf "$at/tree"
    yt clone compare@1 standing; yt mod add "$at/pack" --to standing --name pack --into game/mods --strip 0
    for n in $(seq "$rounds"); do
        sync -f "$at"
        timed clone-mods "$YARDTWIN" --yard "$yard" clone standing "copy $n"
        yt remove "copy $n" --for-good --yes
        timed mod-off "$YARDTWIN" --yard "$yard" mod off standing pack
        timed mod-on "$YARDTWIN" --yard "$yard" mod on standing pack
        # What the pool has once is not stored again: other bytes each time.
        python3 - "$at/big.zip" "$n" <<'END'
import random, sys, zipfile
rand = random.Random(int(sys.argv[2]))
with zipfile.ZipFile(sys.argv[1], "w", zipfile.ZIP_DEFLATED, compresslevel=1) as big:
    for number in range(1000):
        big.writestr(f"mod/big{number}.dat", rand.randbytes(500_000) + b"text " * 100_000)
END
        sync -f "$at"
        timed unzip-big bash -c 'unzip -q "$1" -d "$2" && sync -f "$2"' - "$at/big.zip" "$at/unzipped"
        timed mod-add "$YARDTWIN" --yard "$yard" mod add "$at/big.zip" --to standing --name big --into game/mods --strip 0
        yt mod remove standing big; as rm -rf "$at/unzipped"
        sync -f "$at"
        timed cp-archive bash -c 'cp "$1" "$2" && sync -f "$2"' - "$at/rules.wja" "$at/copy"
        # Each time other bytes: what was made once is not made again.
        python3 -c 'import os,sys; open(sys.argv[1], "wb").write(os.urandom(1 << 20))' "$at/inlay/rules.bin"
        timed inlay "$YARDTWIN" --yard "$yard" mod add "$at/inlay" --to standing --name "inlay $n"
        yt mod remove standing "inlay $n"; rm -f "$at/copy"
        sync -f "$at"
        yard=$at/other; yt init
        timed unzip-intake bash -c 'unzip -q "$1" -d "$2" && "$3" --yard "$4" intake "$2" --title compare --build 1' - \
            "$at/build.zip" "$at/unzipped" "$YARDTWIN" "$yard"
        as rm -rf "$yard" "$at/unzipped"; sync -f "$at"; yt init
        timed zip-intake "$YARDTWIN" --yard "$yard" intake "$at/build.zip" --title compare --build 1
        as rm -rf "$yard"; yard=$at/yard
    done
    heading "Mods, ext4, a twin of 10,204 files, 3.8 GB"
    row "turning a mod of 2,000 files off" mod-off "clone of the twin" clone-mods 1.5
    row "turning it on" mod-on "clone of the twin" clone-mods 1.5
    row "adding a zip archive of 1 GB" mod-add "\`unzip\`, then \`sync -f\`" unzip-big 1.3
    row "1 MB into an archive of 500 MB" inlay "\`cp\` of it, then \`sync -f\`" cp-archive 1.5
    row "intake of a zip archive, 3.3 GB" zip-intake "\`unzip\`, then intake of the folder" unzip-intake 1.2
}

paths() {
    fresh ext4
    yard=$place/ext4/yard
    yt init; yt intake "$place/texts" --title texts --build 1
    yt clone texts@1 standing --share none
    for n in $(seq "$rounds"); do
        timed grep-paths grep -rF /data/old/maps "$yard/twins/standing/game"
        timed repath bash -c '"$@" || true' - "$YARDTWIN" --yard "$yard" repath standing --dry-run --old /data/old/maps --new /data/new/maps
    done
    heading "Repath, ext4, 10,000 text files, 300 MB"
    row "repath, one path in all its forms" repath "\`grep -rF\`, one pattern" grep-paths 2.0
}

reflinks() { # kind, must
    fresh "$1"
    yard=$place/$1/yard
    as cp -a "$place/large" "$place/$1/tree"
    yt init; yt intake "$place/$1/tree" --title compare --build 1
    for n in $(seq "$rounds"); do
        sync -f "$place/$1"
        timed "cp-reflink-$1" cp -a --reflink=always "$place/$1/tree" "$place/$1/copy"
        sync -f "$place/$1"
        timed "reflink-$1" "$YARDTWIN" --yard "$yard" clone compare@1 "twin $n"
        rm -rf "$place/$1/copy"; yt remove "twin $n" --for-good --yes
    done
    heading "Clone by reflink with mode and time, $1, 10,203 files"
    row "clone" "reflink-$1" "\`cp -a --reflink=always\`" "cp-reflink-$1" "$2"
}

! part intakes || intakes
! part moves || moves
! part large || twins large "10,203 files, 3.3 GB"
! part small || twins small "100,000 files, 0.8 GB"
if part looks; then
    for where in image disk; do
        looks large "10,203 files, 3.3 GB" "$where" 0.6 printed 1.6 0.85
        looks small "100,000 files, 0.8 GB" "$where" 0.4 0.6 printed 0.75
    done
fi
! part renew || renewals
! part mods || mods
! part paths || paths
if part reflinks && [ "$(id -u)" = 0 ]; then
    reflinks btrfs 0.9
    reflinks xfs 1.0
fi
[ "$(id -u)" = 0 ] || echo "SKIPPED btrfs and xfs, and measured on the filesystem of $folder: images take root"
