"""The probe: runs a second, what a second process adds, memory, and the suite of known mistakes."""

from __future__ import annotations

import os
import resource
import statistics
import subprocess
import sys
import time

from turns import in_turns, median, rate, ratio, verdict

import ironclock as ic
from ironclock.search.fault_model import FaultModel
from ironclock.search.plan import Plan
from ironclock.search.runners import Runner, RunRequest, processes
from ironclock.search.runs import SearchedStory
from mistakes import MISTAKES

LAWS = (ic.laws.once_per_key("bank.post"), ic.laws.nothing_lost())


def story(rig: ic.Rig) -> None:
    """Ten bookings, each charged and confirmed: twenty attempts, twenty effects."""
    bank, mail = rig.service(ic.services.Ledger("bank", idempotent=True)), rig.service(ic.services.Mail())

    def confirm(booking: str) -> None:
        mail.send("ina", f"{booking} is paid")

    def charge_fare(booking: str) -> None:
        bank.post("passenger", "fares", 180, key=booking)
        rig.enqueue(confirmed.call(booking))

    retry = ic.Retry(3, "30s")
    charged, confirmed = rig.job(charge_fare, retry=retry), rig.job(confirm, retry=retry)
    rig.workers(2)
    for number in range(10):
        rig.enqueue(charged.call(f"B-{number}"))
    rig.run_dry()


TRIAL = SearchedStory(story, LAWS, FaultModel())
PLAIN = TRIAL.run(Plan(), notes_seams=True)
SINGLES = [move for _, moves in PLAIN.seams for move in moves]


def requests(count: int) -> list[RunRequest]:
    return [RunRequest(Plan((SINGLES[n % len(SINGLES)],))) for n in range(count)]


def runs(count: int) -> int:
    for _ in Runner(TRIAL).map(requests(count)):
        pass
    return count


def alone(count: int) -> int:
    for _ in range(count):
        with ic.Rig() as rig:
            story(rig)
            rig.check(*LAWS)
        rig.close()
    return count


def speed() -> None:
    found = in_turns({"alone": rate(lambda: alone(400)), "search": rate(lambda: runs(400))}, 7)
    times = 1 / ratio(found, "search", "alone")
    each = ", ".join(f"{name} {1e3 / median(rates):.2f} ms" for name, rates in found.items())
    print(f"   20 attempts with their laws: {each}")
    verdict(
        f"a run of the search costs {times:.2f} times the same story in a rig by itself (at most 1.5)", times <= 1.5
    )


def two_processes() -> None:
    runners = {"one": processes(TRIAL, 1), "two": processes(TRIAL, 2)}

    def side(name: str) -> float:
        begun = time.perf_counter()
        count = sum(1 for _ in runners[name].map(requests(3_000)))
        return count / (time.perf_counter() - begun)

    side("two")  # its processes start
    found = in_turns({name: (lambda name=name: side(name)) for name in runners}, 5)
    runners["two"].close()
    gain = ratio(found, "two", "one")
    verdict(f"two processes do {gain:.2f} times the runs of one, on {os.cpu_count()} cores (at least 1.8)", gain >= 1.8)


def memory(count: int = 100_000) -> None:
    """In a process of its own, so that nothing else has grown it."""
    code = f"import bench_probe; bench_probe.grow({count})"
    done = subprocess.run([sys.executable, "-c", code], cwd=os.path.dirname(__file__), check=True, capture_output=True)
    first, last = map(int, done.stdout.split())
    print(f"   memory after {count // 20:,} runs {first / 1024:.1f} MB, after {count:,} runs {last / 1024:.1f} MB")
    verdict("memory flat over 100,000 runs (within 2 %)", last <= first * 1.02)


def grow(count: int) -> None:
    def told(progress: ic.Progress) -> None:
        if progress.runs >= count // 20 and not seen:
            seen.append(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss)

    seen: list[int] = []
    ic.probe(story, LAWS, runs=count, depth=4, progress=told)
    print(seen[0], resource.getrusage(resource.RUSAGE_SELF).ru_maxrss)


def known_mistakes() -> None:
    found, spared, at_run, shrunk = 0, 0, [], []
    for mistake in MISTAKES:
        seen = mistake.probe(mistake.bug, runs=1_000)
        if seen:
            found += 1
            at_run.append(seen[0].at_run)
            shrunk += [one.shrunk_in for one in seen]
        else:
            print(f"   not found: {mistake.name}")
        accused = mistake.probe(mistake.fix, runs=1_000)
        spared += not accused
        if accused:
            print(f"   wrongly accused: {mistake.name}: {accused[0].words}")
    middle = statistics.median(at_run)
    print(f"   found {found} of {len(MISTAKES)} mistakes within 1,000 runs each, half of them in {middle:.0f} runs")
    print(f"   accused {len(MISTAKES) - spared} of {len(MISTAKES)} fixed twins")
    print(f"   shrinking took {statistics.median(shrunk):.0f} runs in the median, {max(shrunk)} at most")
    verdict("all are found, and no twin is accused", found == spared == len(MISTAKES))
    verdict("shrinking under 200 runs in the median", statistics.median(shrunk) < 200)


def main() -> None:
    speed()
    two_processes()
    known_mistakes()
    memory()


if __name__ == "__main__":
    main()
