#!/usr/bin/env bash
# Takes the pictures in docs/screenshots in a real terminal window on a virtual screen.
# Needs Debian's xvfb, xterm and imagemagick.
set -euo pipefail
cd "$(dirname "$0")/.."
bin=${BIN:-.venv/bin}
out=docs/screenshots
work=$(mktemp -d)
trap 'kill $screen 2>/dev/null || true; rm -rf "$work"' EXIT
Xvfb :97 -screen 0 1280x800x24 >/dev/null 2>&1 & screen=$!
export DISPLAY=:97
sleep 1

picture() { # NAME COMMAND...
    name=$1; shift
    printf '%s\n' "clear; printf '\$ %s\n' '${*##*/bin/}'" "$*" "sleep 30" > "$work/$name.sh"
    xterm -fa 'DejaVu Sans Mono' -fs 11 -geometry 141x42+0+0 -bg '#101418' -fg '#d8dee4' -e bash "$work/$name.sh" & window=$!
    sleep 4
    import -window root "$out/$name.png"
    kill $window
    wait $window 2>/dev/null || true
}

bin=$(realpath "$bin") out=$(realpath "$out")
cd "$work"
"$bin/ironclock" demo --save evening.jsonl >/dev/null
picture demo "$bin/ironclock" demo
picture show-job "$bin/ironclock" show evening.jsonl --job submit_manifest-8
