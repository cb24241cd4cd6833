#!/usr/bin/env bash
# A yard of many stock builds and twins: what its commands take, beside the system tools that look at as much.
# usage: scripts/many.sh [TWINS [BUILDS [FILES]]]: 100, 50 and 1,000 files in each unless said. As an ordinary user.
# A tenth of a build differs from the one before. Needs GNU time, Python 3 and a build (cargo build --profile dist).
set -euo pipefail
here=$(cd "$(dirname "$0")/.." && pwd)
yardtwin=${YARDTWIN:-$here/target/dist/yardtwin}
twins=${1:-100} builds=${2:-50} files=${3:-1000}
place=$(mktemp -d); trap 'chmod -R u+w "$place"; rm -rf "$place"' EXIT
export YARDTWIN_YARD=$place/yard HOME=$place/home
mkdir "$HOME"

build() { # number: the tree is made into that build
    python3 - "$1" "$files" "$place/tree" <<'PYTHON'
import os, random, sys
build, count, root = int(sys.argv[1]), int(sys.argv[2]), sys.argv[3]
for number in range(count):
    if build > 1 and number % 10 != build % 10:
        continue
    dice = random.Random(build * 1_000_003 + number)
    os.makedirs(f"{root}/d{number // 100}", exist_ok=True)
    with open(f"{root}/d{number // 100}/file{number}.wjp", "wb") as file:
        file.write(dice.randbytes(dice.randrange(100, 16000)))
PYTHON
}
measure() { # what, command...
    local what=$1
    shift
    /usr/bin/time -f '%M %e' -o "$place/time" "$@" >/dev/null 2>"$place/said" || { cat "$place/said"; exit 1; }
    awk -v what="$what" '{ printf "%-40s %5d MB %8.2f s\n", what, $1 * 1024 / 1000000, $2 }' "$place/time"
}

"$yardtwin" init >/dev/null 2>&1
for number in $(seq "$builds"); do
    build "$number"
    "$yardtwin" intake "$place/tree" --title many --build "$number" >/dev/null 2>&1
done
for number in $(seq "$twins"); do
    "$yardtwin" clone "many@$((number % builds + 1))" "twin $number" >/dev/null 2>&1
done
echo "$builds stock builds of $files files, $twins twins"
"$yardtwin" list --space >/dev/null 2>&1
measure "list" "$yardtwin" list
measure "list --space" "$yardtwin" list --space
measure "du -s of all, beside it" du -s "$YARDTWIN_YARD"
measure "check" "$yardtwin" check
measure "find with stat of all, beside it" find "$YARDTWIN_YARD" -printf '%s %T@ %C@\n'
measure "check --full" "$yardtwin" check --full
measure "show of one" "$yardtwin" show "twin 1"
measure "clone" "$yardtwin" clone many@1 "one more"
measure "remove --for-good" "$yardtwin" remove "one more" --for-good --yes
measure "sweep, nothing to delete" "$yardtwin" sweep
gone=$((twins / 10))
for number in $(seq "$gone"); do "$yardtwin" remove "twin $number" >/dev/null 2>&1; done
measure "list, a tenth of the twins removed" "$yardtwin" list
sed -i -E 's/^(removed|grace)_days = .*/\1_days = 0/' "$YARDTWIN_YARD/yard.toml"
measure "sweep of those" "$yardtwin" sweep
