#!/usr/bin/env bash
# Takes the pictures in docs/screenshots in a real terminal window on a virtual screen.
# Needs Debian's xvfb, xterm, imagemagick and chromium.
set -euo pipefail
cd "$(dirname "$0")/.."
bin=${BIN:-.venv/bin}
out=docs/screenshots
work=$(mktemp -d)
trap 'kill $screen 2>/dev/null || true; rm -rf "$work"' EXIT
Xvfb :97 -noreset -screen 0 1280x800x24 >/dev/null 2>&1 & screen=$!
export DISPLAY=:97
sleep 1

picture() { # NAME COMMAND...: each command as one text, shown and run
    name=$1; shift
    [ -z "${ONLY:-}" ] || [ "$ONLY" = "$name" ] || return 0
    : > "$work/$name.sh"
    echo clear >> "$work/$name.sh"
    for line in "$@"; do
        printf 'cat <<"SHOWN"\n$ ironclock %s\nSHOWN\n%s/ironclock %s\n' "$line" "$bin" "$line" >> "$work/$name.sh"
    done
    echo sleep 60 >> "$work/$name.sh"
    xterm -fa 'DejaVu Sans Mono' -fs 10 -geometry 159x47+0+0 -bg '#101418' -fg '#d8dee4' -e bash "$work/$name.sh" & window=$!
    sleep "${WAIT:-4}"
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
mkdir ferry && cp -r examples/tern_line "$work/ferry/"
picture init "init ferry --yes"
mkdir deck && cat > deck/test_scale.py <<'TEST'
import time

def weigh(crates):
    time.sleep(5)
    assert crates < 10, "too heavy for the ramp"

def load(deck, crates):
    weigh(crates * 3)

def test_the_deck_is_loaded(rig):
    rig.enqueue(load, "C", 4, after="10m")
    rig.advance("1h")
    assert rig.jobs("load").one().state == "done"
TEST
pytest_picture() { # NAME FOLDER ARGUMENTS...: a run of pytest in a folder
    [ -z "${ONLY:-}" ] || [ "$ONLY" = "$1" ] || return 0
    printf 'cd "%s"\nclear\necho "$ pytest %s"\n%s/python -m pytest -p no:cacheprovider %s\nsleep 60\n' \
        "$work/$2" "${*:3}" "$bin" "${*:3}" > "$work/pytest.sh"
    xterm -fa 'DejaVu Sans Mono' -fs 10 -geometry 159x47+0+0 -bg '#101418' -fg '#d8dee4' -e bash "$work/pytest.sh" & window=$!
    sleep "${WAIT:-8}"
    import -window root "$out/$1.png"
    kill $window; wait $window 2>/dev/null || true
}
pytest_picture failed-test deck -q test_scale.py
cp -r examples/suite "$work/suite"
pytest_picture suite-search suite -q --ironclock-search --ironclock-seams
pytest_picture suite-notice suite -q --ironclock-notice
WAIT=8 picture mistakes "mistakes charge_repeated_on_retry lease_shorter_than_the_job"
WAIT=20 picture probe "probe examples/probing/tide_notices.py:a_week --runs 400"
picture lint "lint tern_line.crontab --from 2031-01-01"
WAIT=5 picture run "run examples/scenarios/harbour_outage.toml --jobs 8"
WAIT=45 picture forecast "forecast examples/scenarios/harbour_storm.toml --load 1.3"
WAIT=6 picture check "check examples/logs/friday.csv --laws examples/logs/laws.toml"
WAIT=5 picture estimate "estimate examples/logs/friday.csv --columns examples/logs/laws.toml"
WAIT=12 picture compare "compare examples/scenarios/manifest_day.toml --policies patient hasty --jobs 6"
"$bin/ironclock" run examples/scenarios/manifest_day.toml --save day.jsonl --html day.html >/dev/null
"$bin/ironclock" run examples/scenarios/harbour_outage.toml --save outage.jsonl --html outage.html >/dev/null
"$bin/ironclock" show outage.jsonl --png figures >/dev/null
cp figures/timeline.png "$out/show-timeline.png"
page() { # NAME FILE OPTIONS...: a page in a headless browser
    [ -z "${ONLY:-}" ] || [ "$ONLY" = "$1" ] || return 0
    chromium --headless --no-sandbox --disable-gpu --hide-scrollbars --window-size=1280,800 --virtual-time-budget=4000 \
        --user-data-dir="$work/chromium" --screenshot="$out/$1.png" "${@:3}" "$(case "$2" in http*) echo "$2";; *) echo "file://$PWD/$2";; esac)" >/dev/null 2>&1
}
page page outage.html
"$bin/ironclock" rehearse examples/rehearsal/friday.csv --policies examples/rehearsal/brisk.toml --html rehearsal.html >/dev/null
page rehearse rehearsal.html --window-size=1280,1000
root=$(dirname "$(dirname "$out")")
(cd "$root" && "$bin/mkdocs" build --quiet --site-dir "$work/site")
"$bin/python" -m http.server --bind 127.0.0.1 --directory "$work/site" 8097 >/dev/null 2>&1 & server=$!
sleep 1
page site-guide http://127.0.0.1:8097/guides/job-table.html
kill $server
