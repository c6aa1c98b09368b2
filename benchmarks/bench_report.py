"""The page of 50,000 attempts: written in under 3 s, opened in under 3 s; and `ironclock when` from a cold start."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from turns import median, verdict

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
    spent, text = [], ""
    for _ in range(5):
        began = time.perf_counter()
        text = page(history, "A long night")
        spent.append(time.perf_counter() - began)
    verdict(f"{median(spent):.2f} s: the page of {attempts:,} attempts is written (under 3 s)", median(spent) < 3)
    if CHROMIUM is None:
        print("   Chromium is not installed: opening the page is not measured")
    else:
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "night.html"
            file.write_text(text, encoding="utf-8")
            browser = Browser(Path(folder) / "profile")
            opened = [browser.open(file) for _ in range(5)]
            browser.close()
        verdict(f"{median(opened):.2f} s: it is opened, its table and timeline drawn (under 3 s)", median(opened) < 3)
    env = {name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}
    command = [str(Path(sys.executable).parent / "ironclock"), "when", "30 1 * * *", "--zone", "Atlantic/Faroe"]
    cold = []
    for _ in range(11):
        began = time.perf_counter()
        subprocess.run(command, check=True, env=env, stdout=subprocess.DEVNULL)
        cold.append(time.perf_counter() - began)
    verdict(f"{median(cold):.2f} s: ironclock when, from a cold start (under 0.3 s)", median(cold) < 0.3)


if __name__ == "__main__":
    main()
