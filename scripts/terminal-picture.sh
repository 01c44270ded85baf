#!/usr/bin/env bash
# A picture of a terminal after a command has run in it: bash scripts/terminal-picture.sh OUT.png COMMAND…
# Needs (Debian): xvfb xterm imagemagick fonts-dejavu-core
set -eu
out=$1
shift
tmp=$(mktemp -d)
Xvfb -displayfd 3 -screen 0 1280x800x24 -nolisten tcp 3>"$tmp/display" 2>"$tmp/xvfb.log" &
server=$!
trap 'kill ${terminal:-} $server 2>/dev/null || true; wait 2>/dev/null || true; rm -rf "$tmp"' EXIT
for _ in $(seq 50); do [ -s "$tmp/display" ] && break; sleep 0.1; done
DISPLAY=:$(cat "$tmp/display")
export DISPLAY
LC_ALL=C.UTF-8 COLORTERM=truecolor xterm -u8 -fa 'DejaVu Sans Mono' -fs "${FONT_SIZE:-11}" -bg '#1b222b' -fg '#e4e8e6' \
  -xrm 'XTerm*color1: #ec8a6b' -xrm 'XTerm*color2: #b3c486' -xrm 'XTerm*color3: #f0b04c' -xrm 'XTerm*color6: #9ec5d6' \
  +sb -bw 0 -b 8 -geometry "${COLUMNS_ROWS:-138x46}+0+0" -e bash -c '"$@"; touch "$0"; sleep 600' "$tmp/done" "$@" &
terminal=$!
for _ in $(seq 600); do [ -e "$tmp/done" ] && break; sleep 0.1; done
sleep 0.3
import -window root "$out"
