"""The figures of a forecast, measured from a history: of an exact simulation, or of a real run."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from ..foundation.durations import NS
from ..history.history import History
from ..history.records import ENDED
from .forecast_figures import recovery

Floats = NDArray[np.float64]

_GONE = ("expired", "given-up", "withdrawn", "lost", "discarded")


def measured(
    history: History, start_ns: int, span: float, step: float, workers: int,
    outages: Sequence[tuple[float, float]] = (),
) -> dict[str, float]:  # fmt: skip
    """Return the figures of one history, as `Forecast.figures` has them for each replication.

    Parameters: `start_ns` is the begin in nanoseconds since the epoch; `span` and `step` are seconds; `outages` are in
    seconds since the begin.
    """
    ready: dict[str, float] = {}  # since when each open job is ready, or from when on it will be
    running: dict[str, float] = {}
    waits: list[tuple[float, float, bool]] = []  # from when until when, and if an attempt started then
    returned: list[float] = []
    jobs = dead = dropped = 0
    busy = 0.0
    for entry in history:
        job, what, now = entry.job, entry.what, (entry.ns - start_ns) / NS
        if job is None or now > span:
            continue
        if what == "enqueued":
            jobs += 1
            ready[job] = (history.timeline.ns(entry.data["due"]) - start_ns) / NS
        elif what == "started" and job in ready:
            waits.append((ready.pop(job), now, True))
            running[job] = now
        elif what in ENDED and job in running:
            busy += now - running.pop(job)
            then = entry.data.get("then")
            dead, dropped = dead + (then == "dead"), dropped + (then == "dropped")
            if then == "backing-off":
                ready[job] = now + int(entry.data["wait_ns"]) / NS
                if ready[job] <= span:
                    returned.append(ready[job])
        elif what == "redelivered" and job not in running:
            ready[job] = now
        elif what in _GONE and job in ready:
            waits.append((ready.pop(job), now, False))
            dead, dropped = dead + (what == "given-up"), dropped + (what == "expired")
    started = sum(1 for _, _, begun in waits if begun)
    waited = sum(until - since for since, until, begun in waits if begun)
    busy += sum(span - since for since in running.values())
    waits += [(since, span, False) for since in ready.values() if since < span]
    backlog = _highest(waits, span, step)
    per_minute = np.bincount((np.array(returned) // 60).astype(int), minlength=1) if returned else np.zeros(1)
    made = {
        "jobs": float(jobs), "backlog_peak": float(backlog.max()),
        "backlog_mean": sum(until - since for since, until, _ in waits) / span,
        "age_peak": max((until - since for since, until, _ in waits), default=0.0), "retries": float(len(returned)),
        "retries_peak": float(per_minute.max()), "dead": float(dead), "dead_share": dead / max(jobs, 1),
        "dropped": float(dropped), "attempts": started / max(jobs, 1), "wait_mean": waited / max(started, 1),
        "busy": busy / (span * workers),
    }  # fmt: skip
    if outages:
        made["recovery"] = float(recovery(backlog, outages, step, float(workers))[0])
    return made


def _highest(waits: Sequence[tuple[float, float, bool]], span: float, step: float) -> NDArray[np.float32]:
    """Return the most jobs that waited at once in each bin."""
    made = np.zeros((round(span / step), 1), dtype=np.float32)
    change: dict[float, int] = {}
    for since, until, _ in waits:
        if until > since:  # who does not wait is not seen
            change[since] = change.get(since, 0) + 1
            change[until] = change.get(until, 0) - 1
    times = sorted(change)
    waiting = 0
    for at, next_at in zip(times, [*times[1:], span], strict=True):
        waiting += change[at]
        if waiting and next_at > at:
            first, end = int(at / step), min(int(np.ceil(next_at / step)), len(made))
            np.maximum(made[first:end], waiting, out=made[first:end])
    return made
