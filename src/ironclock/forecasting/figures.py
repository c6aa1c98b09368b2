"""The figures of a forecast, a number for each replication, and what is worked out of them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .crew import Traces
from .plant import Plant

Floats = NDArray[np.float64]

CALM_S = 600.0
"""How long, in seconds, a backlog must stay low to be called recovered."""
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
"""The figures, and what they are called."""
DURATIONS = ("age_peak", "wait_mean", "recovery")
"""The figures that are seconds."""
SHARES = ("dead_share", "busy")
"""The figures that are shares."""


@dataclass
class Courses:
    """How the figures run over the span: a row a frame, a column a replication."""

    frame: float
    """How long a frame is, in seconds."""
    backlog: Floats
    """The most ready jobs in the frame."""
    age: Floats
    """How long the oldest ready job has been waiting, in seconds, at the frame's end."""
    retries: Floats
    """Retries that fell due in the frame."""
    dead: Floats
    """Dead letters in the frame."""
    arrived: Floats
    """Jobs that came in the frame."""


def figures(traces: Sequence[Traces], plant: Plant, step: float) -> tuple[dict[str, Floats], Courses]:
    """Return the figures of a plant from the traces of its crews, and how they run over the span."""
    backlog = traces[0].backlog if len(traces) == 1 else np.sum([t.backlog for t in traces], axis=0)
    bins = len(backlog)
    frame = max(1, round(60.0 / step))
    frames = -(-bins // frame)
    edges = np.arange(frames) * frame
    courses = Courses(
        frame * step, np.maximum.reduceat(backlog, edges, axis=0).astype(float), _ages(traces, step, frames, frame),
        *(_by_frame(traces, name, frames, frame) for name in ("returned", "dead", "arrived")),
    )  # fmt: skip
    arrived, dead, retries = (x.sum(axis=0) for x in (courses.arrived, courses.dead, courses.retries))
    started = np.sum([t.started.sum(axis=0) for t in traces], axis=0)
    busy = np.sum([t.busy.sum(axis=0) for t in traces], axis=0)
    some = np.maximum(arrived, 1e-12)
    found = {
        "jobs": arrived,
        "backlog_peak": courses.backlog.max(axis=0),
        "backlog_mean": backlog.mean(axis=0, dtype=float),
        "age_peak": courses.age.max(axis=0),
        "retries": retries,
        "retries_peak": courses.retries.max(axis=0) * (60.0 / courses.frame),
        "dead": dead,
        "dead_share": dead / some,
        "attempts": started / some,
        "wait_mean": backlog.sum(axis=0, dtype=float) * step / np.maximum(started, 1e-12),
        "busy": busy / (bins * sum(crew.size for crew in plant.crews)),
    }
    outages = [span for span in plant.outages if span[0] < bins * step]
    if outages:
        found["recovery"] = recovery(backlog, outages, step, float(sum(crew.size for crew in plant.crews)))
    return found, courses


def recovery(
    backlog: NDArray[np.float32], outages: Sequence[tuple[float, float]], step: float, workers: float
) -> Floats:
    """Return for each replication how long after the last outage's end, in seconds, the backlog is as low as it was
    before the first one began, and stays so for `CALM_S`; infinite where that is not within the span.

    As low as before: not above its highest in the hour until then by more than the number of workers.
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
        # Where the backlog is high, from one such bin to the next, and to the end of the span.
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
    """Return for each frame how long the oldest ready job had waited at most, in seconds: since as many had joined its
    queue as have left it by now."""
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
