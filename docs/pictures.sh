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

picture() { # NAME COMMAND...: each command as one text, shown and run
    name=$1; shift
    : > "$work/$name.sh"
    echo clear >> "$work/$name.sh"
    for line in "$@"; do
        printf 'cat <<"SHOWN"\n$ ironclock %s\nSHOWN\n%s/ironclock %s\n' "$line" "$bin" "$line" >> "$work/$name.sh"
    done
    echo sleep 30 >> "$work/$name.sh"
    xterm -fa 'DejaVu Sans Mono' -fs 11 -geometry 141x42+0+0 -bg '#101418' -fg '#d8dee4' -e bash "$work/$name.sh" & window=$!
    sleep 4
    import -window root "$out/$name.png"
    kill $window
    wait $window 2>/dev/null || true
}

bin=$(realpath "$bin") out=$(realpath "$out")
cp examples/schedules/tern_line.crontab "$work"
ln -s "$PWD/examples" "$work/examples"
cd "$work"
"$bin/ironclock" demo --save evening.jsonl >/dev/null
picture demo demo
picture show-job "show evening.jsonl --job submit_manifest-8"
picture when "when '30 1 * * *' --zone Atlantic/Faroe --from 2031-03-28 --count 6" \
    "when '*/20 1 * * *' --zone Atlantic/Faroe --from 2031-10-25 --count 9"
picture mistakes "mistakes charge_repeated_on_retry lease_shorter_than_the_job"
picture probe "probe examples/probing/waiting_list.py:one_free_seat"
picture lint "lint tern_line.crontab --from 2031-01-01"
"$bin/ironclock" when '*/20 5-22 * * mon-fri' --zone Atlantic/Faroe --from 2031-01-01 --count 1 \
    --png "$out/when-year.png" >/dev/null
