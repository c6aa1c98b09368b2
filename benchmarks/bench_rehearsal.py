"""The log of a day rehearsed: 100,000 jobs without code, beside the engine's run of as many attempts; and 5,000 jobs
with real code."""

from __future__ import annotations

import csv
import datetime as dt
import multiprocessing
import random
import resource
import tempfile
import time
from collections.abc import Callable
from heapq import heappop, heappush
from pathlib import Path
from typing import Any

from turns import verdict

HEAD = "job name queue args enqueued attempt started ended outcome error worker key".split()  # noqa: SIM905
DAY = 86_400
OUTAGE = (0.5 * DAY, 0.54 * DAY)


def make(path: Path, jobs: int) -> None:
    """Write the log of a day: four job types on 12 workers, first come, first served, and an outage of one service."""
    luck = random.Random(1)
    begin = dt.datetime(2031, 3, 28, tzinfo=dt.timezone.utc)

    def text(at: float) -> str:
        return (begin + dt.timedelta(milliseconds=round(1000 * at))).isoformat()

    ready: list[tuple[float, int, int, str, float]] = []
    at = 0.0
    for number in range(jobs):
        at += luck.expovariate(jobs / (0.95 * DAY))
        heappush(ready, (at, number, 1, luck.choice(("charge", "manifest", "ticket", "weather")), at))
    free = [(0.0, worker) for worker in range(12)]
    with path.open("w", newline="", encoding="utf-8") as file:
        out = csv.writer(file)
        out.writerow(HEAD)
        while ready:
            since, number, attempt, name, enqueued = heappop(ready)
            idle, worker = heappop(free)
            start = max(since, idle)
            is_down = name == "manifest" and OUTAGE[0] <= start < OUTAGE[1]
            fails = is_down or luck.random() < 0.01
            end = start + (1.0 if is_down else luck.lognormvariate(0.3, 0.5))
            heappush(free, (end, worker))
            error = "ConnectionError: down" if is_down else "ValueError: odd" if fails else ""
            is_dead = fails and attempt == 8
            out.writerow([
                f"j{number}", name, "default", f'["B-{number}"]', text(enqueued), attempt, text(start), text(end),
                "dead" if is_dead else "failed" if fails else "done", error, f"w{worker}", f"B-{number}",
            ])  # fmt: skip
            if fails and not is_dead:
                heappush(ready, (end + 30 * 2 ** (attempt - 1), number, attempt + 1, name, enqueued))


def rehearse(path: str, **how: Any) -> Any:
    """Rehearse a log with another policy."""
    import ironclock as ic

    return ic.rehearse(path, policies={"manifest": ic.Retry(5, "30s")}, **how)


def without_code(path: str) -> None:
    """Rehearse it without code."""
    rehearsal = rehearse(path)
    assert rehearsal.fidelity.share > 0.99, rehearsal.fidelity.words()
    assert rehearsal.candidates[0].changes("dead")


def handler(booking: str) -> str:
    """The code of a trivial job."""
    return booking


def with_code(path: str) -> None:
    """Rehearse it with the code of trivial jobs."""
    import ironclock as ic

    names = ("charge", "manifest", "ticket", "weather")
    ic.rehearse(path, jobs=dict.fromkeys(names, handler))


def rows_of(path: str) -> int:
    """Return how many attempts a log has."""
    with open(path, encoding="utf-8") as file:
        return sum(1 for _ in file) - 1


def engine(path: str) -> None:
    """As many attempts as both runs have together, in one rig."""
    import ironclock as ic

    rows = 2 * rows_of(path)
    with ic.Rig() as rig:
        rig.workers(12)
        job = rig.job(handler, takes="1s")
        for number in range(rows):
            rig.enqueue(job, f"B-{number}", after=number)
        rig.run_dry("3000d")


def measured(work: Callable[[str], None], path: str) -> tuple[float, float]:
    """Return the seconds and the megabytes of a process that does some work."""
    with multiprocessing.get_context("spawn").Pool(1) as pool:
        return pool.apply(_measured, (work, path))


def _measured(work: Callable[[str], None], path: str) -> tuple[float, float]:
    began = time.perf_counter()
    work(path)
    return time.perf_counter() - began, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024


def main() -> None:
    """Print the figures."""
    with tempfile.TemporaryDirectory() as folder:
        large, small = Path(folder, "large.csv"), Path(folder, "small.csv")
        make(large, 100_000)
        make(small, 5_000)
        (seconds, megabytes), (ours, _) = measured(without_code, str(large)), measured(engine, str(large))
        times = seconds / ours
        print(f"   100,000 jobs without code: {seconds:.1f} s, {megabytes:.0f} MB; {times:.2f} times the engine")
        verdict("20 s, 500 MB and 5 times the engine", seconds < 20 and megabytes < 500 and times < 5)
        both, _ = measured(with_code, str(small))
        rate = 2 * rows_of(str(small)) / both
        print(f"   5,000 jobs with code: {both:.1f} s in all, {rate:,.0f} attempts a second in both runs")
        verdict("2,000 attempts a second", rate > 2_000)


if __name__ == "__main__":
    main()
