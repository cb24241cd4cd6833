#!/usr/bin/env bash
# Highest resident memory, and time, of each command at a number of files: a tree of small ones is made, and a yard of it.
# usage: scripts/memory.sh FILES      Needs GNU time, Python 3 and a build (cargo build --profile dist).
set -euo pipefail
here=$(cd "$(dirname "$0")/.." && pwd)
yardtwin=${YARDTWIN:-$here/target/dist/yardtwin}
files=$1
place=$(mktemp -d); trap 'rm -rf "$place"' EXIT
export YARDTWIN_YARD=$place/yard

python3 - "$files" "$place/tree" <<'PYTHON'
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
mkdir "$place/tree/bin"; printf '#!/bin/sh\nexit 0\n' > "$place/tree/bin/many"; chmod +x "$place/tree/bin/many"

measure() { # what, command...
    local what=$1
    shift
    /usr/bin/time -f '%M %e' -o "$place/time" "$@" >/dev/null 2>"$place/said" || { cat "$place/said"; exit 1; }
    awk -v what="$what" '{ printf "%-34s %5d MB %8.2f s\n", what, $1 * 1024 / 1000000, $2 }' "$place/time"
}
change() { local one=$YARDTWIN_YARD/twins/$1/game/d0/e0/file0.dat; echo "$2" > "$one.new"; mv "$one.new" "$one"; }

echo "$files files"
"$yardtwin" init >/dev/null
measure intake "$yardtwin" intake "$place/tree" --title many --build 1
measure "intake of what is known" "$yardtwin" intake "$place/tree" --title many --build 1
measure clone "$yardtwin" clone many@1 a --share all
measure show "$yardtwin" show a
measure diff "$yardtwin" diff a
measure "check of a twin, every byte" "$yardtwin" check a --full
measure "check of all, every byte" "$yardtwin" check --full
measure "list --space" "$yardtwin" list --space
measure "find with stat, beside it" find "$YARDTWIN_YARD/twins/a" -printf '%s %T@ %C@\n'
measure snapshot "$yardtwin" snapshot a one
change a other
measure "snapshot, one file changed" "$yardtwin" snapshot a two
measure "restore of one file" "$yardtwin" restore a one --yes
measure "clone of a twin" "$yardtwin" clone a b --share all
find "$YARDTWIN_YARD/twins/b/game" -mindepth 3 -name '*[1-9]*' -delete
measure "restore of nearly all files" "$yardtwin" restore b --yes
measure history "$yardtwin" history b
measure launch "$yardtwin" launch b
measure rename "$yardtwin" rename b c --move-folder
measure list "$yardtwin" list
measure "stock show" "$yardtwin" stock show many@1
measure remove "$yardtwin" remove c
measure sweep "$yardtwin" sweep
measure "remove --for-good" "$yardtwin" remove a --for-good --yes
