"""The search of the two example services: which planted mistakes it finds from tests that think of no failure."""

from __future__ import annotations

import os
import re
import subprocess
import sys
import time
from pathlib import Path

from turns import verdict

ROOT = Path(__file__).parents[1]
TESTS = {
    "examples/services/crossing_watch/test_watch.py": (
        "no-key", "early-ack", "two-steps", "lock-for-ever", "only-claimed", "swallowed",
    ),
    "examples/services/booking_office/run_office.py": (
        "no-key", "paid-first", "lost-update", "no-first-beat", "hard-errors", "done-before",
    ),
}  # fmt: skip
BUDGET = "60s"


def searched(test: str, planted: str) -> tuple[list[str], float]:
    """Return the broken laws that a search of a service finds, and how long it took."""
    command = [
        sys.executable, "-m", "pytest", "-q", "-n", "2", "-p", "no:cacheprovider", test, "--ironclock-search",
        "--ironclock-budget", BUDGET,
    ]  # fmt: skip
    began = time.perf_counter()
    done = subprocess.run(
        command, capture_output=True, text=True, cwd=ROOT, env={**os.environ, "PLANTED": planted}, timeout=300
    )
    return re.findall(r"^_+ (\S+) is broken in", done.stdout, re.MULTILINE), time.perf_counter() - began


def main() -> None:
    """Search each service with each mistake, and without any."""
    found, accused, planted = 0, 0, 0
    for test, mistakes in TESTS.items():
        print(f"   {test}")
        for mistake in mistakes:
            laws, seconds = searched(test, mistake)
            planted += 1
            found += bool(laws)
            print(f"      {mistake:16} {', '.join(sorted(set(laws))) or 'not found':40} {seconds:4.0f} s")
        laws, seconds = searched(test, "none")
        accused += bool(laws)
        print(f"      {'nothing planted':16} {', '.join(laws) or 'nothing found':40} {seconds:4.0f} s")
    verdict(f"{found} of {planted} planted mistakes found within {BUDGET} a service", found == planted)
    verdict("no service is accused as it should be", not accused)


if __name__ == "__main__":
    main()
