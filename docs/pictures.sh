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
    sleep 8
    import -window root "$out/$1.png"
    kill $window; wait $window 2>/dev/null || true
}
pytest_picture failed-test deck -q test_scale.py
cp -r examples/suite "$work/suite"
pytest_picture suite-search suite -q --ironclock-search --ironclock-seams
WAIT=8 picture mistakes "mistakes charge_repeated_on_retry lease_shorter_than_the_job"
WAIT=20 picture probe "probe examples/probing/tide_notices.py:a_week --runs 400"
picture lint "lint tern_line.crontab --from 2031-01-01"
WAIT=5 picture run "run examples/scenarios/harbour_outage.toml --jobs 8"
WAIT=45 picture forecast "forecast examples/scenarios/harbour_storm.toml --load 1.3"
WAIT=6 picture check "check examples/logs/friday.csv --laws examples/logs/laws.toml"
WAIT=45 picture advise "forecast examples/scenarios/harbour_storm.toml --load 1.3 --advise --replications 20"
WAIT=5 picture estimate "estimate examples/logs/friday.csv --columns examples/logs/laws.toml | cut -c1-138"
WAIT=12 picture compare "compare examples/scenarios/manifest_day.toml --policies patient hasty --jobs 6"
"$bin/ironclock" run examples/scenarios/manifest_day.toml --save day.jsonl --html day.html >/dev/null
"$bin/ironclock" run examples/scenarios/harbour_outage.toml --save outage.jsonl --html outage.html >/dev/null
"$bin/ironclock" show outage.jsonl --png figures >/dev/null
cp figures/timeline.png "$out/show-timeline.png"
page() { # NAME FILE OPTIONS...: a page in a headless browser
    chromium --headless --no-sandbox --disable-gpu --hide-scrollbars --window-size=1280,800 --virtual-time-budget=4000 \
        --user-data-dir="$work/chromium" --screenshot="$out/$1.png" "${@:3}" "file://$PWD/$2" >/dev/null 2>&1
}
page page outage.html
(cd suite && "$bin/python" -m pytest -q -p no:cacheprovider --ironclock-search --ironclock-seams-page ../suite.html) >/dev/null || true
page suite-coverage suite.html
"$bin/python" - "$(dirname "$(dirname "$out")")" <<'END' >/dev/null
import sys, time
sys.path[:0] = [f"{sys.argv[1]}/examples", f"{sys.argv[1]}/tests"]
import postgres, psycopg, ironclock as ic
from services.postgres_queue import queue
from services.postgres_queue.test_queue import COLUMNS

@queue.handler
def letter(to):
    time.sleep(20)

@queue.handler
def manifest(sailing):
    time.sleep(45)

with postgres.PostgreSQL() as server:
    url = f"postgresql://tern@127.0.0.1:{server.port}/postgres"
    with psycopg.connect(url, autocommit=True) as desk, ic.Rig(start="2031-03-29T21:00") as rig:
        desk.execute(queue.SCHEMA)
        rig.database(url)
        rig.outbox(url, table="jobs", columns=COLUMNS, runs=False)
        rig.handler(queue.handle, id="row_id", job="kind")
        rig.run_loop(queue.work, url, count=3, name="worker", restart="40s")
        rig.run_loop(queue.reap, url)
        for number in range(10):
            queue.put(desk, "letter", wait=number * 13, to=f"passenger {number}")
        for number in range(4):
            queue.put(desk, "manifest", wait=20 * number, sailing=f"TL-{204 + number}")
        rig.faults.crash("manifest", at="sleep", attempts=1)
        rig.faults.fail("letter", attempts=1, error=ConnectionError("closed"), chance=0.4)
        rig.advance("6m")
        rig.history.save("loops.jsonl")
END
"$bin/ironclock" show loops.jsonl --html loops.html >/dev/null
page page-loops loops.html
