#!/usr/bin/env bash
# Highest resident memory, and time, of each command at a number of files: a tree of small ones is made, and a yard of it.
# With more numbers than one, each command is run at all of them, one right after the other: how it grows.
# usage: scripts/memory.sh FILES...      Needs GNU time, Python 3 and a build (cargo build --profile dist).
set -euo pipefail
here=$(cd "$(dirname "$0")/.." && pwd)
yardtwin=${YARDTWIN:-$here/target/dist/yardtwin}
[ $# -gt 0 ] || { echo "usage: scripts/memory.sh FILES..." >&2; exit 2; }
place=$(mktemp -d); trap 'rm -rf "$place"' EXIT

for files in "$@"; do
    python3 - "$files" "$place/$files/tree" <<'PYTHON'
import os, random, sys
count, root = int(sys.argv[1]), sys.argv[2]
dice = random.Random(count)
for number in range(count):
    folder = f"{root}/d{number // 10000}/e{number // 1000 % 10}"
    if number % 1000 == 0:
        os.makedirs(folder, exist_ok=True)
    with open(f"{folder}/file{number}{['.dat', '.wjp', '.txt', '.png'][number % 4]}", "wb") as file:
        file.write(b"%d " % number + dice.randbytes(number % 200))
PYTHON
    tree=$place/$files/tree
    mkdir "$tree/bin"; printf '#!/bin/sh\nexit 0\n' > "$tree/bin/many"; chmod +x "$tree/bin/many"
    YARDTWIN_YARD=$place/$files/yard "$yardtwin" init >/dev/null
done

each() { # command..., in the folder with the tree and the yard of each number of files
    for files in "${counts[@]}"; do
        (cd "$place/$files" && YARDTWIN_YARD=$place/$files/yard "$@")
    done
}
timed() { /usr/bin/time -a -f '%M %e' -o "$place/time" "$@" >/dev/null 2>"$place/said" || { cat "$place/said"; exit 1; }; }
measure() { # what, command...
    local what=$1
    shift
    rm -f "$place/time"
    each timed "$@"
    awk -v what="$what" '
        { row = row sprintf("  %5d MB %8.2f s", $1 * 1024 / 1000000, $2); if (NR == 1) first = $2; last = $2 }
        END { if (NR > 1 && first > 0) row = row sprintf("  %5.1f times", last / first); printf "%-34s%s\n", what, row }
    ' "$place/time"
}
change() { local one=yard/twins/$1/game/d0/e0/file0.dat; echo "$2" > "$one.new"; mv "$one.new" "$one"; }
lose_most() { find "yard/twins/$1/game" -mindepth 3 -name '*[1-9]*' -delete; }

counts=("$@")
echo "$* files"
measure intake "$yardtwin" intake tree --title many --build 1
measure "intake of what is known" "$yardtwin" intake tree --title many --build 1
measure clone "$yardtwin" clone many@1 a --share all
measure show "$yardtwin" show a
measure diff "$yardtwin" diff a
measure "check of a twin, every byte" "$yardtwin" check a --full
measure "check of all, every byte" "$yardtwin" check --full
measure "list --space" "$yardtwin" list --space
measure "find with stat, beside it" find yard/twins/a -printf '%s %T@ %C@\n'
measure "every byte read, beside it" find yard/twins/a -type f -exec cat {} +
measure snapshot "$yardtwin" snapshot a one
each change a other
measure "snapshot, one file changed" "$yardtwin" snapshot a two
measure "restore of one file" "$yardtwin" restore a one --yes
measure "clone of a twin" "$yardtwin" clone a b --share all
measure "cp -al, beside it" cp -al tree copied
each lose_most b
measure "restore of nearly all files" "$yardtwin" restore b --yes
measure history "$yardtwin" history b
measure launch "$yardtwin" launch b
measure rename "$yardtwin" rename b c --move-folder
measure list "$yardtwin" list
measure "stock show" "$yardtwin" stock show many@1
measure remove "$yardtwin" remove c
measure sweep "$yardtwin" sweep
measure "remove --for-good" "$yardtwin" remove a --for-good --yes
measure "rm -rf, beside it" rm -rf copied
