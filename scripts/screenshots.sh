#!/usr/bin/env bash
# Takes the pictures in docs/screenshots from the demo's data: each command in an xterm under Xvfb.
# usage: scripts/screenshots.sh [OUT]      Needs xterm, Xvfb, ImageMagick and a release build; run it as an ordinary user.
set -euo pipefail
here=$(cd "$(dirname "$0")/.." && pwd)
out=$(realpath -m "${1:-$here/docs/screenshots}")
yardtwin=${YARDTWIN:-$here/target/release/yardtwin}
mkdir -p "$out"
# What is in the pictures has a path that can be read.
place=${TMPDIR:-/tmp}/games; mkdir "$place"; trap 'kill "${server:-0}" 2>/dev/null || true; chmod -R u+w "$place"; rm -rf "$place"' EXIT
mkdir "$place/.bin"; cp "$yardtwin" "$place/.bin/yardtwin"
export PATH=$place/.bin:$PATH HOME=$place TZ=UTC LC_ALL=C.UTF-8
cd "$place"
yardtwin demo stage >/dev/null 2>&1
cd stage
export YARDTWIN_YARD=$place/stage/yard

display=:$((RANDOM % 400 + 100))
Xvfb "$display" -screen 0 1280x800x24 -nolisten tcp >/dev/null 2>&1 & server=$!
sleep 1

# Takes a picture of a terminal in which the commands have just run.
shot() { # name, command...
    local name=$1 script=$place/.script size=${SIZE:-11} cells=${CELLS:-140x42}
    shift
    {
        echo "PS1= ; clear"
        for line in "$@"; do
            printf 'printf "\\033[1;32m$\\033[0m %%s\\n" %q\n%s\n' "$line" "$line"
        done
        echo 'tput civis; touch "'"$place"'/.done"; sleep 60'
    } > "$script"
    rm -f "$place/.done"
    DISPLAY=$display xterm -fullscreen -geometry "$cells+0+0" -fa 'DejaVu Sans Mono' -fs "$size" -b 12 -bg '#101418' -fg '#d8dee6' \
        -xrm '*allowBoldFonts: true' -e bash "$script" & local window=$!
    for _ in $(seq 200); do [ -e "$place/.done" ] && break; sleep 0.1; done
    sleep 0.6
    DISPLAY=$display import -window root "$out/$name.png"
    kill "$window"; wait "$window" 2>/dev/null || true
}

store/parcelgate store fresh >/dev/null
shot intake "yardtwin intake 'store/Wexcombe Junction' --title wexcombe --channel fresh --leave-out shifts" "yardtwin stock list"
shot clone "yardtwin clone wexcombe@2.1-rc 'night turn'" "yardtwin clone 'evening shift' 'evening, brass signals'" "yardtwin list"
shot launch "yardtwin launch 'night turn' -- --shifts 2" "yardtwin launch 'night turn'" "yardtwin list"
shot show "yardtwin show 'evening shift'"
shot check "yardtwin clone pellwick@3.1 reels" "rm yard/twins/reels/game/inplace.flag" "yardtwin check reels --start" \
    "yardtwin check reels --start --fix" "yardtwin history reels --runs"
shot profile "yardtwin profile set 'night turn' note 'for the winter timetable'" "yardtwin profile show 'night turn'" \
    "yardtwin entry add 'night turn' --folder menu" "yardtwin entry list"
shot restore "yardtwin snapshot 'night turn' 'as it was'" "echo 'brass signals' > 'yard/twins/night turn/game/signals/brass.txt'" \
    "yardtwin launch 'night turn'" "yardtwin history 'night turn'" "yardtwin restore 'night turn' 'as it was' --yes"
shot carry "yardtwin show 'evening shift' --belongings" \
    "yardtwin carry shifts settings exchanges boards --from 'evening shift' --to 'night turn' --dry-run" \
    "yardtwin carry shifts settings exchanges boards --from 'evening shift' --to 'night turn' --on-clash newer"
shot mods "yardtwin mod add 'downloads/brass boards v3.zip' --to 'night turn'" "yardtwin mod list main" \
    "yardtwin mod trial main --run 'test ! -e scenery/lamps.txt || test ! -e signals/hill/one.wjg'"
echo spoiled > "yard/twins/night turn/game/scenery/hills.new"
mv -f "yard/twins/night turn/game/scenery/hills.new" "yard/twins/night turn/game/scenery/hills.wjp"
shot renew "yardtwin renew 'night turn'" "yardtwin renew 'night turn' --stock wexcombe@2.0 --leave-rest"
shot edits "yardtwin profile set 'night turn' --file panel.ini video.width 1920" \
    "yardtwin profile set 'night turn' --file panel.ini sound.gong on --enforce" \
    "yardtwin profile set 'night turn' --variant windowed --file panel.ini video.width 800" \
    "yardtwin launch 'night turn' --variant windowed" "yardtwin profile show 'night turn'"
shot share "yardtwin share 'night turn' none --dry-run" "yardtwin share 'night turn' none" "yardtwin share 'night turn' careful" \
    "yardtwin history 'night turn'"
{ yardtwin intake "store/Wexcombe Junction" --title junction --build 2.1-rc && yardtwin clone junction@2.1-rc first; } >/dev/null 2>&1
for run in 1 2; do yardtwin launch first >/dev/null 2>&1; done
shot learn "yardtwin sheet learn junction --from first --yes" "yardtwin sheet check --on first"
shot remove "yardtwin remove 'night turn'" "yardtwin restore 'night turn'" "yardtwin list"
# Twins that differ: one shares nothing, one has much of its own.
yardtwin share first none >/dev/null 2>&1
head -c 9M /dev/zero | tr '\0' x > "yard/twins/night turn/game/scenery/long-winter.wjp"
shot space "yardtwin list --space"
rm "yard/twins/night turn/game/scenery/long-winter.wjp"
game="yard/twins/evening, brass signals/game"
mkdir -p "$game/signals/copper" "$game/signals/tin"
echo "signals copper" > "$game/signals/copper/signal.txt"; echo "signals tin" > "$game/signals/tin/signal.txt"
sed -i 's/^width = .*/width = 1024/' "$game/cabin/panel.ini"
mv "$game/guide" "$game/manual"; rm -r "$game/boards/plain"
shot diff "yardtwin diff 'evening, brass signals' --text"
mkdir -p "$game/steel-1.2/signals/steel"; echo "signals steel" > "$game/steel-1.2/signals/steel/signal.txt"
id=$(yardtwin stock show wexcombe@1.4 --files --json | grep -A4 '"game/scenery/hills.wjp"' | grep -m1 -o '[0-9a-f]\{64\}')
hills=yard/pool/${id:0:2}/$id
chmod u+w "$hills"; printf x | dd of="$hills" bs=1 seek=99 conv=notrunc status=none; chmod u-w "$hills"
shot damage "yardtwin check --full --fix"
shot errors "yardtwin clone wexcombe@1.5 spare" "yardtwin launch 'evenign shift'" "yardtwin intake menu --title wexcombe" \
    "sed 's#bin/rules.wja#../rules.wja#' sheets/wexcombe.toml > odd.toml; yardtwin sheet check odd.toml" "yardtwin init store"
SIZE=8 CELLS=180x57 shot help "yardtwin --help"
