#!/usr/bin/env bash
# What a launch costs: from start to exit of a program that does nothing, in a twin of 10,000 files, beside the bare program;
# and what it takes to change one byte of a file of 1 GiB.
# usage: scripts/launch.sh FOLDER [ROUNDS]     FOLDER is on the filesystem to measure; run it as an ordinary user.
set -euo pipefail
rounds=${2:-15}
here=$(cd "$(dirname "$0")/.." && pwd)
yardtwin=${YARDTWIN:-$here/target/dist/yardtwin}
place=$(mktemp -d "$(realpath "$1")/launch.XXXXXX"); trap 'chmod -R u+w "$place"; rm -rf "$place"' EXIT
export YARDTWIN_YARD=$place/yard HOME=$place/home TIMEFORMAT=%R
mkdir "$HOME"

build=$place/build
mkdir -p "$build/bin"
cp /bin/true "$build/bin/true"
printf '#!/bin/sh\nprintf X | dd of=large.dat bs=1 seek=12345 conv=notrunc status=none\n' > "$build/bin/touch-up"
chmod +x "$build/bin/touch-up"
for folder in $(seq 100); do
    mkdir "$build/$folder"
    for file in $(seq 100); do echo "$folder $file" > "$build/$folder/$file"; done
done
head -c 1G /dev/zero | tr '\0' 'y' > "$build/large.dat"
printf 'title = "bare"\nprogram = "nothing"\n[programs.nothing]\npath = { any = "bin/true" }\n[programs.byte]\npath = { any = "bin/touch-up" }\n' > "$place/bare.toml"
"$yardtwin" init >/dev/null
"$yardtwin" sheet add "$place/bare.toml" >/dev/null
"$yardtwin" intake "$build" --title bare --build 1 >/dev/null 2>&1
"$yardtwin" clone bare@1 twin >/dev/null
"$yardtwin" launch twin >/dev/null 2>&1
# What was written until now is not to be paid for by what is measured.
sync; sleep 5

timed() { local name=$1; shift; { time "$@" >/dev/null 2>&1; } 2>>"$place/$name.times"; }
median() { sort -n "$place/$1.times" | awk '{ a[NR] = $1 } END { print a[int((NR + 1) / 2)] * 1000 }'; }
for rung in sealed fenced redirected; do
    "$yardtwin" profile set twin isolation $rung >/dev/null
    "$yardtwin" launch twin >/dev/null 2>&1 || { echo "$rung: not possible here"; continue; }
    for round in $(seq "$rounds"); do
        timed bare "$build/bin/true"
        timed $rung "$yardtwin" launch twin
    done
    echo "$rung: $(median $rung) ms from start to exit, the bare program $(median bare) ms (median of $rounds)"
done

used() { sync -f "$place"; df -k --output=used "$place" | tail -1; }
"$yardtwin" profile set twin isolation sealed >/dev/null
"$yardtwin" profile set twin program byte >/dev/null
before=$(used)
timed byte "$yardtwin" launch twin
echo "one byte of a file of 1 GiB: $(median byte) ms, $(( $(used) - before )) KiB more on the disk ($(stat -f -c %T "$place"))"
