#!/usr/bin/env bash
# Make docs/screenshots/ anew from the demo's data: a terminal in an xterm under Xvfb, each a PNG of 1280x800.
# Needs xvfb, xterm, imagemagick, chromium and a DejaVu font. Usage: scripts/make_screenshots.sh [KLEFF]
set -euo pipefail
kleff=$(realpath "${1:-.venv/bin/kleff}")
shots=$(realpath "$(dirname "$0")/../docs/screenshots")
work=$(mktemp -d /tmp/bench.XXXX)
export DISPLAY=:77 PATH="$(dirname "$kleff"):$PATH"
Xvfb $DISPLAY -screen 0 1280x800x24 >/dev/null 2>&1 &
screen=$!
trap 'kill $screen 2>/dev/null; rm -rf "$work"' EXIT
sleep 1
tests=$(realpath "$(dirname "$0")/../tests")
cd "$work"

# shot NAME SECONDS COMMAND [LINES]: types the command, waits, takes the picture of the last screen (or the first LINES of output).
# On a busy machine it is waited longer until the command has ended, unless it is one that is shown at work.
shot() {
  rm -f ended
  local show="$3"
  [ -n "${4:-}" ] && show="script -qec '$3' /dev/null | head -n $4"
  xterm -geometry 157x46+0+0 -fa 'DejaVu Sans Mono' -fs 10 -bg '#10141a' -fg '#d7dce2' -b 8 +sb -T kleff \
    -e bash -c "printf '\$ %s\n\n' \"$3\"; export NO_COLOR=; unset NO_COLOR; $show; touch ended; sleep 60" &
  local term=$!
  sleep "$2"
  case $1 in run-working|backup|discard|uninstalling) ;; *) for _ in $(seq 30); do [ -e ended ] && break; sleep 0.5; done; sleep 0.3 ;; esac
  for _ in $(seq 15); do   # on a busy machine the terminal may not have been drawn yet
    /usr/bin/import -window root "$shots/$1.png"
    [ "$(stat -c %s "$shots/$1.png")" -gt 4000 ] && break
    sleep 2
  done
  [ "$(stat -c %s "$shots/$1.png")" -gt 4000 ] || { echo "$1: nothing was drawn" >&2; exit 1; }
  kill $term 2>/dev/null || true
  wait $term 2>/dev/null || true
}

kleff lab make potting >/dev/null
cp "$(python3 - "$kleff" <<'P'
import subprocess, sys, pathlib
python = pathlib.Path(sys.argv[1]).parent / "python"
print(subprocess.run([python, "-c", "import kleff, pathlib; print(pathlib.Path(kleff.__file__).parent / 'samples/tag-studio.toml')"], capture_output=True, text=True).stdout.strip())
P
)" tag-studio.toml
on="--on lab:potting"
shot survey 3 "kleff survey tag-studio.toml $on"
shot preview 3 "kleff preview tag-studio.toml $on"
shot leftovers 3 "kleff preview tag-studio.toml $on --full --line 109 --line 141 --line 146 --line 150 --line 156 --line 161"
cp -a potting again
shot run-working 3.3 "kleff run tag-studio.toml --on lab:again --yes --ticket 4711 --cases busy"
sleep 6
cp -a potting large
head -c 2500M /dev/urandom >"large/files/C/Users/mira/Documents/Tag Studio/Market hall, all seasons.tagdesign"
shot backup 5 "kleff run tag-studio.toml --on lab:large --yes --cases third"
pkill -f "cases third" || true
rm -rf large third
shot run-end 10 "kleff run tag-studio.toml $on --yes --ticket 4711 --cases cases"
case=$(echo cases/*)
shot verify 3 "kleff verify tag-studio.toml $on --cases cases"
shot report 3 "kleff report $case" 42
cp -a potting reinstalled
kleff lab reinstall reinstalled >/dev/null
designs="reinstalled/files/C/Users/mira/Documents/Tag Studio"
echo "begun anew" >"$designs/$(ls "$designs" | head -n 1)"
shot restore 4 "kleff restore $case --dry-run --on lab:reinstalled"
kleff report "$case" --format html --output page.html
chromium --headless --no-sandbox --disable-gpu --hide-scrollbars --window-size=1280,800 --screenshot="$shots/report-page.png" "file://$PWD/page.html" >/dev/null 2>&1
shot undo 5 "kleff undo $case --yes"
other=$(echo busy/*)
kleff run tag-studio.toml $on --yes --cases cases --ticket 4712 >/dev/null 2>&1
shot cases 3 "kleff cases --cases cases"
kleff resume "$other" >/dev/null 2>&1
kleff discard "$other" --yes >/dev/null 2>&1
shot discard 3 "kleff discard $other --bag"
shot demo-end 20 "kleff demo demo 2>/dev/null | sed -n /restart.that/,/kleff.discard/p"
# What tests/needs holds: an uninstaller at work, the stop for a restart, a removal tool's choice.
"$(dirname "$kleff")/python" - "$tests" <<'P'
import pathlib, shutil, sys
sys.path.insert(0, sys.argv[1])
from needs.lab import HERE, build
for name in ("all-of-a-vendor", "broken-restart", "tool-with-a-choice"):
    build(pathlib.Path(f"{name}.lab"), name)
    shutil.copy(HERE / f"{name}.toml", f"{name}.toml")
slow = pathlib.Path("all-of-a-vendor.lab/lab.toml")
slow.write_text(slow.read_text().replace("takes = 1.5", "takes = 40"))
P
shot uninstalling 9 "kleff run all-of-a-vendor.toml --on lab:all-of-a-vendor.lab --yes --cases working"
pkill -f "cases working" || true
pkill -f "all-of-a-vendor.lab" || true
cat >restart.sh <<'S'
kleff run broken-restart.toml --on lab:broken-restart.lab --yes --cases waits 2>&1 | tail -n 9
echo; echo '$ kleff resume'; kleff resume --cases waits
echo; echo '$ kleff lab restart broken-restart.lab'; kleff lab restart broken-restart.lab
echo; echo '$ kleff resume'; kleff resume --cases waits
S
shot restart 9 "bash restart.sh"
shot removal-tool 3 "kleff preview tool-with-a-choice.toml --full --answer which='Row Counter' --on lab:tool-with-a-choice.lab"
if [ "$(id -u)" = 0 ]; then   # the print bridge on a Linux tree, by real dpkg
  "$(dirname "$kleff")/python" "$tests/../scripts/linux_bench.py" "$work"
  shot unneeded 3 "kleff unneeded --on root:potting-03"
  shot preview-linux 4 "kleff preview bridge.toml --full --on root:potting-03" 42
fi
ls -la "$shots"
