#!/usr/bin/env bash
# Takes the pictures in docs/screenshots/ anew, on the demo's data.
# Needs Debian's xvfb, xterm, imagemagick and fonts-dejavu-core, and kalyx on PATH.
# With names as arguments (here why-elsewhere ...) only those are taken.
set -euo pipefail
cd "$(dirname "$0")/.."
out=$PWD/docs/screenshots
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
kalyx demo --keep "$work/demo" > "$work/enter"

shot() { # NAME ROWS COMMAND...
  local name=$1; shift
  if [ -n "$wanted" ] && ! grep -qw -- "$name" <<< "$wanted"; then return; fi
  local display=$(( 90 + RANDOM % 400 )) done_file=$work/done-$name
  Xvfb ":$display" -screen 0 1280x800x24 > /dev/null 2>&1 & local server=$!
  for _ in $(seq 50); do [ -e "/tmp/.X11-unix/X$display" ] && break; sleep 0.1; done
  { cat "$work/enter"; printf 'printf "$ %%s\\n" %q\n%s\ntouch %q\nsleep 20\n' "$*" "$*" "$done_file"; } > "$work/run-$name"
  DISPLAY=:$display xterm -fa 'DejaVu Sans Mono' -fs 10 -geometry 158x46+0+0 -bg '#14171a' \
    -fg '#d8dee4' -en UTF-8 -e bash "$work/run-$name" > /dev/null 2>&1 & local terminal=$!
  for _ in $(seq 600); do [ -e "$done_file" ] && break; sleep 0.1; done
  sleep 0.6
  DISPLAY=:$display import -window root "$out/$name.png"
  kill $terminal $server 2> /dev/null || true
  wait $terminal $server 2> /dev/null || true
  echo "$out/$name.png"
}

wanted=$*
shot here 'kalyx here'
shot why-elsewhere 'kalyx why humidlog'
shot why-file 'kalyx why inventory.py'
shot elsewhere 'kalyx snapshot --why humidlog --to lab.json; kalyx why humidlog --through "python -" --through "python in_container.py"'
shot envs 'kalyx envs --under ../envs'
shot packages 'kalyx packages --at notebook:germination.ipynb --conflicts'
shot running 'python -m http.server --bind 127.0.0.1 0 > /dev/null 2>&1 & sleep 1; kalyx running --kind module; kill %1'
shot kernels 'kalyx kernels'
shot make 'kalyx make trials --put germkit --put sprigkernel --enrol'
shot put 'kalyx put "seedaxis>=2" --at env:lab; echo; kalyx put "seedaxis<2" --at env:lab'
shot enrol 'kalyx enrol lab --overwrite'
shot mend 'kalyx mend springplan --yes'
shot fit 'kalyx fit inventory.py'
shot contrast 'kalyx contrast env:lab-old env:lab'
shot weigh 'kalyx weigh; kalyx weigh --at env:lab-old'
shot point 'kalyx point lab --dry-run; echo; kalyx point lab --file germination.ipynb'
shot enter 'kalyx enter lab-old; kalyx enter lab-old --start < <(echo which python pip; echo exit)'

# a notebook is run in a real front end, by its test
if [ -z "$wanted" ] || grep -qw notebook <<< "$wanted"; then
  python -m pytest -q -n0 --basetemp="$work/page" tests/notebook/test_front_end.py > /dev/null
  cp "$work"/page/*0/page.png "$out/notebook.png"
  echo "$out/notebook.png"
fi

# a page is drawn by Debian's chromium
if [ -z "$wanted" ] || grep -qw report <<< "$wanted"; then
  ( . "$work/enter"; kalyx report --to "$work/report.html" --redact --quiet || true
    chromium --headless --no-sandbox --disable-gpu --no-first-run --disable-background-networking --hide-scrollbars \
      --user-data-dir="$work/browser" --window-size=1280,800 --screenshot="$out/report.png" \
      "file://$work/report.html" > /dev/null 2>&1 )
  echo "$out/report.png"
fi
