"""Would the tests notice? How many known answers are found, and what it costs to ask a suite."""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
from pathlib import Path

from bench_suite import SUITE, TIMED, session
from turns import in_turns, median, ratio, verdict
from weak_tests import HEAD, WEAK, Weak

TESTS = 25


def wrong_answers(weak: Weak, folder: Path) -> int:
    """Return how many answers about a weak test are not those that are known."""
    (folder / "test_it.py").write_text(HEAD + weak.tests)
    if weak.code:
        (folder / "app.py").write_text(weak.code)
        (folder / "pyproject.toml").write_text('[tool.ironclock]\nnotice = ["app"]\n')
    subprocess.run(
        [sys.executable, "-m", "pytest", "-q", "--ironclock-notice", "--ironclock-notice-json", "told.json"],
        cwd=folder, env={"PYTHONPATH": str(folder), "PATH": "/usr/bin:/bin"}, stdout=subprocess.DEVNULL, check=False,
    )  # fmt: skip
    told = json.loads((folder / "told.json").read_text())
    states = {one["text"]: one["state"] for one in told["changes"]}
    return sum(states.get(text) != state for text, state in weak.answers.items())


def main() -> None:
    wrong, answers = 0, sum(len(weak.answers) for weak in WEAK)
    for weak in WEAK:
        with tempfile.TemporaryDirectory() as place:
            wrong += wrong_answers(weak, Path(place))
    verdict(f"{answers - wrong} of {answers} known answers about {len(WEAK)} weak files of tests (all)", not wrong)
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        (folder / "timed.py").write_text(TIMED)
        (folder / "test_fleet.py").write_text(SUITE.format(count=TESTS))
        whole = [session(folder, "--ironclock-notice", "-n", "2")["whole"] for _ in range(3)]
        verdict(f"{median(whole):.1f} s: a suite of {TESTS} tests on two cores (at most 60)", median(whole) <= 60)
        (folder / "test_fleet.py").write_text(SUITE.format(count=300))

        def noted() -> float:
            return session(folder, "--ironclock-notice", "--ironclock-budget", "1 runs")["loop"]

        found = in_turns({"plain": lambda: session(folder)["loop"], "noted": noted}, 5)
        share = ratio(found, "noted", "plain")
        verdict(f"{share:.2f} times the plain run of a suite: the run before it is asked (at most 1.3)", share <= 1.3)


if __name__ == "__main__":
    main()
