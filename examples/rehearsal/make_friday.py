"""Makes friday.csv: a Friday of the ferry line in which the harbour office is down for 42 minutes.

The policies stand here, and not in the log: a rehearsal has to find out what the log shows of them.

    python examples/rehearsal/make_friday.py
"""

from __future__ import annotations

import csv
import random
from pathlib import Path

import ironclock as ic

DAY = "2031-03-28"
OUTAGE = (f"{DAY}T14:05:20", f"{DAY}T14:47:10")
JOBS = 620
COLUMNS = ("job", "name", "queue", "args", "key", "enqueued", "attempt", "started", "ended", "outcome", "error",
           "worker", "effect")  # fmt: skip
EFFECTS = {"charge_fare": "charge", "submit_manifest": "manifest"}


def modelled(*args: object) -> None:
    """The code of a job that only takes its time."""


def friday() -> ic.Rig:
    """Return the rig of the day, at its end."""
    luck = random.Random(7)
    with ic.Rig(start=f"{DAY}T05:30", seed=7) as rig:
        rig.workers(4)
        retry = ic.Retry(8, ic.exponential("1m", cap="15m"))
        jobs = {
            "submit_manifest": rig.job(modelled, name="submit_manifest", queue="harbour", retry=retry,
                                       takes={"median": "1500ms", "p95": "4s"}),
            "charge_fare": rig.job(modelled, name="charge_fare", queue="payments", retry=ic.Retry(4, "40s"),
                                   takes={"median": "900ms", "p95": "2s"}),
            "send_ticket": rig.job(modelled, name="send_ticket", queue="desk", retry=ic.Retry(3, "1m"),
                                   takes={"median": "400ms", "p95": "1s"}),
            "release_hold": rig.job(modelled, name="release_hold", queue="desk", takes="80ms"),
        }  # fmt: skip
        rig.faults.fail("submit_manifest", between=OUTAGE, error=ConnectionError("the harbour office is down"),
                        takes="2s")  # fmt: skip
        rig.faults.fail("submit_manifest", chance=0.03, error=TimeoutError("the harbour office is slow"))
        rig.faults.fail("charge_fare", chance=0.06, error=TimeoutError("the bank does not answer"), takes="3s")
        rig.faults.fail("send_ticket", chance=0.02, error=OSError("the printer is out of paper"))
        names, weights = list(jobs), (26, 40, 24, 10)
        for number in range(1, JOBS + 1):
            rig.advance(luck.expovariate(1 / 93))
            name = luck.choices(names, weights)[0]
            about = f"TL-{200 + number}" if name == "submit_manifest" else f"B-{1000 + number}"
            rig.enqueue(jobs[name], about)
        rig.run_dry()
    return rig


def rows(rig: ic.Rig) -> list[list[str]]:
    """Return the rows of the log: one for each attempt, to the millisecond."""
    made = []

    def text(at: object) -> str:
        return at.isoformat(timespec="milliseconds")  # type: ignore[attr-defined, no-any-return]

    for job in rig.jobs():
        for attempt in job.attempts:
            is_done = attempt.outcome == "done"
            error = "" if attempt.error is None else f"{type(attempt.error).__name__}: {attempt.error}"
            made.append([
                f"j{job.number:04}", job.name, job.queue, f'["{job.args[0]}"]', job.args[0], text(job.enqueued_at),
                str(attempt.number), text(attempt.started_at), text(attempt.ended_at),
                "ok" if is_done else "failed", error, attempt.worker, EFFECTS.get(job.name, "") if is_done else "",
            ])  # fmt: skip
    return sorted(made, key=lambda row: row[8])


if __name__ == "__main__":
    with (Path(__file__).parent / "friday.csv").open("w", newline="", encoding="utf-8") as file:
        writer = csv.writer(file, lineterminator="\n")
        writer.writerow(COLUMNS)
        writer.writerows(rows(friday()))
