"""Logs of made-up days of the ferry line, made by the engine from policies that the rehearsal does not know."""

from __future__ import annotations

import csv
import datetime as dt
import random
from pathlib import Path
from typing import Any

import ironclock as ic
from ironclock.history.job_records import JobRecord, job_records

DAY = "2031-03-28"
OUTAGE = (f"{DAY}T07:40", f"{DAY}T07:52:20")
COLUMNS = ["job", "name", "queue", "args", "enqueued", "attempt", "started", "ended", "outcome", "error", "worker"]


def modelled(*args: Any) -> None:
    """The code of a job that only takes its time."""


def day(seed: int, retry: ic.Retry, jobs: int = 700, workers: int = 4) -> ic.History:
    """A day whose failures are the same under every policy: those of an outage, and those of some bookings."""
    luck = random.Random(seed)
    odd = {number for number in range(jobs) if luck.random() < 0.04}
    hopeless = {number for number in odd if luck.random() < 0.3}
    with ic.Rig(start=f"{DAY}T06:00", seed=seed) as rig:
        rig.workers(workers)
        manifest = rig.job(modelled, name="submit_manifest", takes="2s", retry=retry)
        charge = rig.job(modelled, name="charge_fare", takes="3s", retry=ic.Retry(3, "20s"))
        rig.faults.fail("submit_manifest", between=OUTAGE, error=ConnectionError("the office is down"), takes="1s")
        rig.faults.fail("charge_fare", when=lambda attempt: attempt.job.args[0] in hopeless, error=ValueError("odd"))
        rig.faults.fail("charge_fare", attempts=1, when=lambda attempt: attempt.job.args[0] in odd, error=OSError("no"))
        for number in range(jobs):
            rig.advance(luck.expovariate(0.1))
            rig.enqueue(manifest if luck.random() < 0.7 else charge, number)
        rig.run_dry()
    return rig.history


def write_log(history: ic.History, path: Path, unit_ns: int = 1_000_000) -> Path:
    """Write a history as a log, with a row for each attempt. Instants are rounded down to a unit."""

    def text(ns: int | None) -> str:
        return "" if ns is None else history.timeline.at(ns // unit_ns * unit_ns).isoformat()

    with path.open("w", newline="", encoding="utf-8") as file:
        writer = csv.writer(file)
        writer.writerow(COLUMNS)
        for job in job_records(history):
            for attempt in job.attempts:
                outcome = "dead" if attempt.then == -1 else attempt.outcome
                writer.writerow([
                    job.id, job.name, job.queue, f"[{job.arguments}]", text(job.enqueued_ns), attempt.number,
                    text(attempt.started_ns), text(attempt.ended_ns), outcome,
                    "" if outcome == "crashed" else attempt.error, attempt.worker,
                ])  # fmt: skip
    return path


def lives(history: ic.History) -> dict[str, tuple[Any, ...]]:
    """What became of each job, by its id."""
    return {job.id: life(job) for job in job_records(history)}


def life(job: JobRecord) -> tuple[Any, ...]:
    """What became of a job: its state, and its attempts."""
    return job.state, [(one.started_ns, one.ended_ns, one.outcome) for one in job.attempts]


def rows(*attempts: tuple[Any, ...]) -> list[str]:
    """Lines of a small log. Each attempt is a job, its type, seconds of enqueue, start and end, outcome, error, and
    more cells."""
    lines = ["job,name,enqueued,started,ended,outcome,error,worker,effect,key"]
    for job, name, enqueued, started, ended, outcome, *more in attempts:
        cells = [*more, "", "", "", ""][:4]
        instants = ["" if at is None else second(at) for at in (enqueued, started, ended)]
        lines.append(",".join([job, name, *instants, outcome, *map(str, cells)]))
    return lines


def second(at: float) -> str:
    """An instant so many seconds after six o'clock."""
    return (dt.datetime(2031, 3, 28, 6, tzinfo=dt.timezone.utc) + dt.timedelta(seconds=at)).isoformat()
