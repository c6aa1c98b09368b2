"""A suite as a whole: what the fault coverage costs, and how many runs a second its search makes."""

from __future__ import annotations

import json
import resource
import subprocess
import sys
import tempfile
import time
from functools import partial
from pathlib import Path

from turns import in_turns, median, ratio, verdict

TESTS = 300
SUITE = '''
import pytest
import ironclock as ic


@pytest.mark.parametrize("number", range({count}))
def test_bookings(rig, number):
    """Five bookings, each charged and confirmed, the third at the second attempt."""
    bank, mail = rig.service(ic.services.Ledger("bank", idempotent=True)), rig.service(ic.services.Mail())

    def confirm(booking):
        mail.send("ina", f"{{booking}} is paid", key=booking)

    def charge_fare(booking):
        bank.post("passenger", "fares", 180, key=booking)
        rig.enqueue(confirmed.call(booking))

    retry = ic.Retry(3, "30s")
    charged, confirmed = rig.job(charge_fare, retry=retry), rig.job(confirm, retry=retry)
    rig.faults.fail("charge_fare", attempts=1, when=lambda attempt: attempt.job.args == ("B-2",))
    for booking in range(5):
        rig.enqueue(charged.call(f"B-{{booking}}"))
    rig.run_dry()
    assert len(bank.postings) == 5
'''
TIMED = """
import json, os, time
import pytest

spent = {}

@pytest.hookimpl(wrapper=True, tryfirst=True)
def pytest_runtestloop():
    began = time.process_time()
    result = yield
    spent["loop"] = time.process_time() - began
    return result

def pytest_unconfigure(config):
    suite = config.pluginmanager.get_plugin("ironclock-suite")
    found = [] if suite is None else suite.searched
    spent["runs"] = sum(one.runs + one.shrinking for one in found)
    spent["searching"] = sum(one.seconds for one in found)
    with open(os.environ["SPENT"], "w") as file:
        json.dump(spent, file)
"""


def session(folder: Path, *options: str) -> dict[str, float]:
    """Run the suite in a process of its own; return what it spent, in seconds."""
    began = time.perf_counter()
    subprocess.run(
        [sys.executable, "-m", "pytest", "-q", "-p", "timed", "-p", "no:cacheprovider", *options], cwd=folder,
        env={"PYTHONPATH": str(folder), "SPENT": str(folder / "spent.json"), "PATH": "/usr/bin:/bin"},
        stdout=subprocess.DEVNULL, check=False,
    )  # fmt: skip
    spent: dict[str, float] = json.loads((folder / "spent.json").read_text())
    return {**spent, "whole": time.perf_counter() - began}


PLAIN = """
def seats(deck):
    total = 0
    for row in range(deck):
        if row % 7:
            total += 4
    return total
""" + "".join(f"\n\ndef test_deck_{deck}():\n    assert seats({deck}) < 4_000\n" for deck in range(200))
"""Tests without a rig."""


def beside_plain_tests(folder: Path) -> None:
    """What the installed plugin costs a suite that has no rig, traced by coverage and not."""
    (folder / "test_plain.py").write_text(PLAIN)

    def spent(*command: str) -> float:
        before = resource.getrusage(resource.RUSAGE_CHILDREN)
        subprocess.run([sys.executable, "-m", *command, "test_plain.py"], cwd=folder, capture_output=True, check=True)
        after = resource.getrusage(resource.RUSAGE_CHILDREN)
        return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime

    others = ("-q", "-p", "no:cacheprovider", "-p", "no:anyio", "-p", "no:hypothesispytest")
    for name, runner in {"": ("pytest",), ", with coverage": ("coverage", "run", "--source=.", "-m", "pytest")}.items():
        sides = {
            "with": partial(spent, *runner, *others), "without": partial(spent, *runner, *others, "-p", "no:ironclock"),
        }  # fmt: skip
        share = ratio(in_turns(sides, 31), "with", "without") - 1
        verdict(f"{share:+.1%} of the processor's time of 200 tests without a rig{name}: the plugin (at most 3 %)",
                share <= 0.03)  # fmt: skip


def main() -> None:
    with tempfile.TemporaryDirectory() as place:
        beside_plain_tests(Path(place))
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        (folder / "timed.py").write_text(TIMED)
        (folder / "test_fleet.py").write_text(SUITE.format(count=TESTS))
        plain, covered = (lambda: session(folder)["loop"]), (lambda: session(folder, "--ironclock-seams")["loop"])
        found = in_turns({"plain": plain, "covered": covered}, 9)
        share = ratio(found, "covered", "plain") - 1
        verdict(f"{share:+.1%} of the time of {TESTS} tests: --ironclock-seams (at most 3 %)", share <= 0.03)
        alone = median(found["plain"]) / TESTS
        (folder / "test_fleet.py").write_text(SUITE.format(count=10))
        rates, ratios = [], []
        for _ in range(5):
            spent = session(folder, "--ironclock-search")
            rates.append(spent["runs"] / spent["searching"])
            ratios.append(spent["searching"] / spent["runs"] / alone)
        verdict(f"{median(rates):,.0f} runs of the search a second on one core (at least 300)", median(rates) >= 300)
        verdict(f"{median(ratios):.2f} times the plain run of a test: one run of the search (at most 1.5)",
                median(ratios) <= 1.5)  # fmt: skip


if __name__ == "__main__":
    main()
