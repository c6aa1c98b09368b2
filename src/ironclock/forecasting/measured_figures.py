"""The figures of a forecast, measured from a history: of an exact simulation, or of a real run."""

from __future__ import annotations

from collections.abc import Sequence
from heapq import heappop, heappush

import numpy as np

from ..foundation.durations import NS
from ..history.history import History
from ..history.records import ENDED
from .forecast_figures import recovery


def measured(
    history: History, start_ns: int, span: float, step: float, workers: int,
    outages: Sequence[tuple[float, float]] = (),
) -> dict[str, float]:  # fmt: skip
    """Return the figures of one history, as `Forecast.figures` has them for each replication.

    Parameters: `start_ns` is the begin in nanoseconds since the epoch; `span` and `step` are seconds; `outages` are in
    seconds since the begin.
    """
    bins = round(span / step)
    due: dict[str, int] = {}  # when each open job became ready, or will
    running: dict[str, int] = {}
    ready: list[tuple[int, str]] = []
    backlog = np.zeros((bins, 1), dtype=np.float32)
    age = np.zeros(bins)
    per_minute = np.zeros(int(span // 60) + 1)
    jobs = dead = started = retries = 0
    busy = 0.0
    at = 0
    waiting: set[str] = set()

    def look(until: int) -> None:
        """Note every bin that ends before an instant."""
        nonlocal at
        while at < bins and start_ns + round((at + 1) * step * NS) <= until:
            end = start_ns + round((at + 1) * step * NS)
            while pending and pending[0][0] <= end:
                since, job = heappop(pending)
                if due.get(job) == since and job not in running:
                    waiting.add(job)
                    heappush(ready, (since, job))
            while ready and (ready[0][1] not in waiting or due.get(ready[0][1]) != ready[0][0]):
                heappop(ready)
            backlog[at, 0] = len(waiting)
            age[at] = (end - ready[0][0]) / NS if ready else 0.0
            at += 1

    pending: list[tuple[int, str]] = []
    for entry in history:
        job, what = entry.job, entry.what
        if job is None:
            continue
        look(entry.ns)
        if what == "enqueued":
            jobs += 1
            due[job] = history.timeline.ns(entry.data["due"])
            heappush(pending, (due[job], job))
        elif what == "started" and job in due:
            started += 1
            waiting.discard(job)
            running[job] = entry.ns
        elif what in ENDED and job in running:
            busy += (entry.ns - running.pop(job)) / NS
            then = entry.data.get("then")
            if then == "backing-off":
                due[job] = entry.ns + int(entry.data["wait_ns"])
                heappush(pending, (due[job], job))
                minute = int((due[job] - start_ns) / NS // 60)
                if minute < len(per_minute) and due[job] < start_ns + round(span * NS):
                    per_minute[minute] += 1
                    retries += 1
            else:
                dead += then == "dead"
                del due[job]
    look(start_ns + round(span * NS))
    made = {
        "jobs": float(jobs), "backlog_peak": float(backlog.max()), "backlog_mean": float(backlog.mean()),
        "age_peak": float(age.max()), "retries": float(retries), "retries_peak": float(per_minute.max()),
        "dead": float(dead), "dead_share": dead / max(jobs, 1), "attempts": started / max(jobs, 1),
        "wait_mean": float(backlog.sum()) * step / max(started, 1), "busy": busy / (span * workers),
    }  # fmt: skip
    if outages:
        made["recovery"] = float(recovery(backlog, outages, step, float(workers))[0])
    return made
