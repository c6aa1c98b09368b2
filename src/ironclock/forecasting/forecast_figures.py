"""The figures of a forecast: one number for each replication."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .worker_pool import Traces
from .workload import Workload

Floats = NDArray[np.float64]

CALM_S = 600.0
"""How many seconds a backlog must stay low to count as recovered."""
_BEFORE_S = 3600.0

NAMES = {
    "jobs": "jobs",
    "backlog_peak": "highest backlog",
    "backlog_mean": "mean backlog",
    "age_peak": "oldest ready job",
    "retries": "retries",
    "retries_peak": "most retries in a minute",
    "dead": "dead letters",
    "dead_share": "share of jobs that die",
    "attempts": "attempts a job",
    "wait_mean": "mean wait in the queue",
    "busy": "share of workers busy",
    "recovery": "time to recover",
}
"""The figures by name, with their words."""
DURATIONS = ("age_peak", "wait_mean", "recovery")
"""The figures that are seconds."""
SHARES = ("dead_share", "busy")
"""The figures that are shares."""


@dataclass
class Trajectories:
    """The figures over the span: one row for each frame, one column for each replication."""

    frame: float
    """The length of a frame, in seconds."""
    backlog: Floats
    """The most ready jobs in the frame."""
    age: Floats
    """How long the oldest ready job has waited at the end of the frame, in seconds."""
    retries: Floats
    """Retries that became due in the frame."""
    dead: Floats
    """Dead letters in the frame."""
    arrived: Floats
    """Jobs that arrived in the frame."""


def figures(traces: Sequence[Traces], workload: Workload, step: float) -> tuple[dict[str, Floats], Trajectories]:
    """Return the figures of a workload from the traces of its pools, and the figures over the span."""
    backlog = traces[0].backlog if len(traces) == 1 else np.sum([t.backlog for t in traces], axis=0)
    bins = len(backlog)
    frame = max(1, round(60.0 / step))
    frames = -(-bins // frame)
    edges = np.arange(frames) * frame
    trajectories = Trajectories(
        frame * step, np.maximum.reduceat(backlog, edges, axis=0).astype(float), _ages(traces, step, frames, frame),
        *(_by_frame(traces, name, frames, frame) for name in ("returned", "dead", "arrived")),
    )  # fmt: skip
    arrived, dead, retries = (x.sum(axis=0) for x in (trajectories.arrived, trajectories.dead, trajectories.retries))
    started = np.sum([t.started.sum(axis=0) for t in traces], axis=0)
    busy = np.sum([t.busy.sum(axis=0) for t in traces], axis=0)
    some = np.maximum(arrived, 1e-12)
    found = {
        "jobs": arrived,
        "backlog_peak": trajectories.backlog.max(axis=0),
        "backlog_mean": backlog.mean(axis=0, dtype=float),
        "age_peak": trajectories.age.max(axis=0),
        "retries": retries,
        "retries_peak": trajectories.retries.max(axis=0) * (60.0 / trajectories.frame),
        "dead": dead,
        "dead_share": dead / some,
        "attempts": started / some,
        "wait_mean": backlog.sum(axis=0, dtype=float) * step / np.maximum(started, 1e-12),
        "busy": busy / (bins * sum(pool.size for pool in workload.pools)),
    }
    outages = [span for span in workload.outages if span[0] < bins * step]
    if outages:
        found["recovery"] = recovery(backlog, outages, step, float(sum(pool.size for pool in workload.pools)))
    return found, trajectories


def recovery(
    backlog: NDArray[np.float32], outages: Sequence[tuple[float, float]], step: float, workers: float
) -> Floats:
    """Return for each replication how many seconds after the end of the last outage the backlog has recovered.

    It has recovered when for `CALM_S` it is not above its highest value in the hour before the first outage by more
    than the number of workers. Infinite if that does not happen in the span.
    """
    begin, end = round(outages[0][0] / step), round(max(until for _, until in outages) / step)
    end = min(end, len(backlog))
    before = backlog[max(0, begin - round(_BEFORE_S / step)) : begin]
    level = before.max(axis=0) + workers if len(before) else np.full(backlog.shape[1], workers)
    calm = max(1, round(CALM_S / step))
    after = backlog[end:] > level
    made = np.full(backlog.shape[1], np.inf)
    for column in range(backlog.shape[1]):
        high = np.flatnonzero(after[:, column])
        # The bins with a high backlog, from one to the next, and to the end of the span.
        ends = np.append(high, len(after))
        begins = np.insert(high, 0, -1)
        gaps = np.flatnonzero(ends - begins - 1 >= calm)
        if len(gaps):
            made[column] = (begins[gaps[0]] + 1) * step
        elif len(high) and high[-1] + 1 < len(after):
            made[column] = (high[-1] + 1) * step
    return made


def _by_frame(traces: Sequence[Traces], name: str, frames: int, frame: int) -> Floats:
    made = np.zeros((frames, traces[0].backlog.shape[1]))
    for trace in traces:
        rows: Floats = getattr(trace, name)
        at = np.minimum(np.arange(len(rows)) * trace.block // frame, frames - 1)
        begins = np.flatnonzero(np.diff(at, prepend=-1))
        made[at[begins]] += np.add.reduceat(rows, begins, axis=0)
    return made


def _ages(traces: Sequence[Traces], step: float, frames: int, frame: int) -> Floats:
    """Return for each frame how long the oldest ready job has waited at most, in seconds: since the instant at which as
    many jobs had joined its queue as have left it by now."""
    columns = traces[0].backlog.shape[1]
    made = np.zeros((frames, columns))
    for trace in traces:
        marks, queues, _ = trace.joined.shape
        ends = np.minimum(np.arange(1, marks + 1) * trace.mark, len(trace.backlog)) * step
        times = np.insert(ends, 0, 0.0)
        at = np.minimum((np.arange(1, marks + 1) * trace.mark - 1) // frame, frames - 1)
        for queue in range(queues):
            waiting = trace.waiting[:, queue]
            for column in np.flatnonzero(waiting.max(axis=0) > 0.5):
                some = np.flatnonzero(waiting[:, column] > 0.5)
                joined = np.insert(trace.joined[:, queue, column], 0, 0.0)
                left = joined[some + 1] - waiting[some, column]
                ages = ends[some] - np.interp(left + 0.5, joined, times)
                np.maximum.at(made, (at[some], np.full(len(some), column)), ages)
    return made
