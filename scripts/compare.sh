#!/usr/bin/env bash
# Times whole commands beside system tools, interleaved, on one tree; prints medians and ratios.
# usage: scripts/compare.sh TREE [ROUNDS]     TREE is copied from and never written to; run it as an ordinary user.
set -euo pipefail
tree=$(realpath "$1"); rounds=${2:-7}
here=$(cd "$(dirname "$0")/.." && pwd)
yardtwin=${YARDTWIN:-$here/target/release/yardtwin}
place=$(mktemp -d "${PLACE:-$(dirname "$tree")}/compare.XXXXXX"); trap 'chmod -R u+w "$place"; rm -rf "$place"' EXIT
export YARDTWIN_YARD=$place/yard HOME=$place/home TIMEFORMAT=%R
mkdir "$HOME"

# Runs a command, and adds its seconds to the file of its name.
timed() { local name=$1; shift; { time "$@" >/dev/null 2>&1; } 2>>"$place/$name.times"; }
median() { sort -n "$place/$1.times" | awk '{ a[NR] = $1 } END { print a[int((NR + 1) / 2)] }'; }
row() { # name, yardstick
    awk -v n="$1" -v y="$2" -v a="$(median "$1")" -v b="$(median "$2")" \
        'BEGIN { printf "%-28s %8.3f s   %-14s %8.3f s   ratio %.2f\n", n, a, y, b, a / b }'
}

"$yardtwin" init >/dev/null
"$yardtwin" intake "$tree" --title compare --build 1 >/dev/null 2>&1
"$yardtwin" clone compare@1 standing >/dev/null 2>&1
"$yardtwin" snapshot standing before >/dev/null
one=$(find "$YARDTWIN_YARD/twins/standing/game" -type f -size -2k -print -quit)
change() { echo "$1" > "$one.new"; mv "$one.new" "$one"; }
for round in $(seq "$rounds"); do
    rm -rf "$place/al" "$place/a"
    timed cp-al cp -al "$tree" "$place/al"
    timed clone-all "$yardtwin" clone compare@1 "all $round" --share all
    timed clone "$yardtwin" clone compare@1 "careful $round"
    timed clone-twin "$yardtwin" clone standing "twin $round"
    if [ "$round" -le 3 ]; then
        timed cp-a cp -a "$tree" "$place/a"
        rm -rf "$place/a"; sync -f "$place"
        timed cp-a-sync bash -c 'cp -a "$1" "$2" && sync -f "$2"' - "$tree" "$place/a"
        rm -rf "$place/a"; sync -f "$place"
        "$yardtwin" --yard "$place/fresh" init >/dev/null
        timed intake "$yardtwin" --yard "$place/fresh" intake "$tree" --title compare --build 1
        timed intake-known "$yardtwin" --yard "$place/fresh" intake "$tree" --title compare --build 2
        rm -rf "$place/fresh"
        timed read-all bash -c 'find "$1" -type f -print0 | xargs -0 cat | wc -c' - "$tree"
    fi
    timed find find "$tree" -printf '%p %s %T@\n'
    timed show "$yardtwin" show standing
    change "once $round"
    timed snapshot "$yardtwin" snapshot standing
    change "twice $round"
    timed restore "$yardtwin" restore standing before --yes
    for name in "all" "careful" "twin"; do "$yardtwin" remove "$name $round" --forget --yes >/dev/null 2>&1; done
done
echo "$(find "$tree" -type f | wc -l) files, $(du -sh --apparent-size "$tree" | cut -f1); $rounds rounds, medians"
row clone-all cp-al
row clone cp-al
row clone-twin cp-al
row clone cp-a
row show find
row snapshot find
row restore find
row intake cp-a-sync
row intake-known read-all
echo "launches, in a twin of 10,000 files:"
YARDTWIN=$yardtwin "$here/scripts/launch.sh" "$place"
