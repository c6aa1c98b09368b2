"""The page of 50,000 attempts: to write it and to open it; and `ironclock when` from a cold start."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
from pathlib import Path

from turns import in_turns, loop_turns, ratio, seconds, verdict

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
from browser import CHROMIUM, Browser

import ironclock as ic
from ironclock.reports.html_page import page


def long_night() -> ic.History:
    """Return a history of some 50,000 attempts."""
    rig = ic.Rig(seed=3)
    rig.workers(12, queues={"harbour": 3, "desk": 1})
    retry = ic.Retry(attempts=4, wait=ic.exponential("20s", jitter="full"))
    buoy = rig.job(
        lambda n: 1 / (n % 7), name="poll_buoy", queue="harbour", takes={"median": "3s", "p95": "12s"}, retry=retry
    )
    lights = rig.job(lambda n: n, name="deck_lights", queue="desk", takes="1s")
    for n in range(31_000):
        rig.enqueue(buoy.call(n), after=n * 0.4)
    for n in range(7_000):
        rig.enqueue(lights.call(n), after=n * 1.7)
    rig.run_dry()
    return rig.history


def main() -> None:
    """Print the times."""
    history = long_night()
    attempts = sum(entry.what == "started" for entry in history)
    text = page(history, "A long night")
    turns = loop_turns(seconds(lambda: page(history, "A long night"))) / attempts
    verdict(
        f"the page of {attempts:,} attempts: {turns:,.0f} turns of a bare loop for each (under 2,500)", turns < 2_500
    )
    if CHROMIUM is None:
        print("   Chromium is not installed: opening the page is not measured")
    else:
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "night.html"
            file.write_text(text, encoding="utf-8")
            browser = Browser(Path(folder) / "profile")
            turns = loop_turns(lambda: browser.open(file)) / attempts
            browser.close()
        verdict(f"to open it, table and timeline drawn: {turns:,.0f} turns for each (under 2,500)", turns < 2_500)
    env = {name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}
    command = [str(Path(sys.executable).parent / "ironclock"), "when", "30 1 * * *", "--zone", "Atlantic/Faroe"]
    bare = [sys.executable, "-c", "pass"]

    def started(what: list[str]) -> float:
        return seconds(lambda: subprocess.run(what, check=True, env=env, stdout=subprocess.DEVNULL))()

    found = in_turns({"when": lambda: started(command), "bare": lambda: started(bare)}, 11)
    times = ratio(found, "when", "bare")
    verdict(f"ironclock when, from a cold start: {times:.1f} times a bare interpreter's start (under 15)", times < 15)


if __name__ == "__main__":
    main()
