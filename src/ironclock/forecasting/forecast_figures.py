"""The figures of a forecast: one number for each replication."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

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
    "dropped": "dropped jobs",
    "attempts": "attempts a job",
    "wait_mean": "mean wait in the queue",
    "busy": "share of workers busy",
    "recovery": "time to recover",
    "storm": "days with a storm that lasts",
}
"""The figures by name, with their words."""
DURATIONS = ("age_peak", "wait_mean", "recovery")
"""The figures that are seconds."""
SHARES = ("dead_share", "busy", "storm")
"""The figures that are shares."""


@dataclass
class Trajectories:
    """The figures over the span: one row for each frame, one column for each replication."""

    frame: float
    """The length of a frame, in seconds."""
    backlog: Floats
    """The most ready jobs in the frame."""
    age: Floats
    """How long the oldest ready job has waited in the frame at most, in seconds."""
    retries: Floats
    """Retries that became due in the frame."""
    dead: Floats
    """Dead letters in the frame."""
    arrived: Floats
    """Jobs that arrived in the frame."""

    @classmethod
    def joined(cls, parts: Sequence[Trajectories]) -> Trajectories:
        """Return the trajectories of several groups of replications."""
        rows = ("backlog", "age", "retries", "dead", "arrived")
        return cls(parts[0].frame, *(np.concatenate([getattr(part, name) for part in parts], axis=1) for name in rows))


@dataclass
class Course:
    """What was noted of some replications of a day, one column for each. Jobs, attempts and so on are numbers."""

    backlog: NDArray[np.float32]
    """The most ready jobs in each bin."""
    trajectories: Trajectories
    mean_backlog: Floats
    waited: Floats
    """How long the attempts that started had waited in the queue, in seconds, all together."""
    worked: Floats
    """How long the workers were busy, in seconds, all together."""
    started: Floats
    arrived: Floats
    dead: Floats
    dropped: Floats

    def grown(self, times: float) -> Course:
        """Return the course of a workload that is so many times larger."""
        t = self.trajectories
        counts = (t.retries, t.dead, t.arrived)
        grown = Trajectories(t.frame, t.backlog * times, t.age, *(rows * times for rows in counts))
        numbers = (
            self.mean_backlog, self.waited, self.worked, self.started, self.arrived, self.dead, self.dropped,
        )  # fmt: skip
        return Course(self.backlog * np.float32(times), grown, *(number * times for number in numbers))


def figures(course: Course, workload: Workload, step: float) -> dict[str, Floats]:
    """Return the figures of a workload from the course of its days."""
    bins = len(course.backlog)
    some = np.maximum(course.arrived, 1e-12)
    course_by_frame = course.trajectories
    found = {
        "jobs": course.arrived,
        "backlog_peak": course_by_frame.backlog.max(axis=0),
        "backlog_mean": course.mean_backlog,
        "age_peak": course_by_frame.age.max(axis=0),
        "retries": course_by_frame.retries.sum(axis=0),
        "retries_peak": course_by_frame.retries.max(axis=0) * (60.0 / course_by_frame.frame),
        "dead": course.dead,
        "dead_share": course.dead / some,
        "dropped": course.dropped,
        "attempts": course.started / some,
        "wait_mean": course.waited / np.maximum(course.started, 1e-12),
        "busy": course.worked / (bins * step * sum(pool.size for pool in workload.pools)),
    }
    outages = [span for span in workload.outages if span[0] < bins * step]
    if outages:
        workers = float(sum(pool.size for pool in workload.pools))
        found["recovery"] = recovery(course.backlog, outages, step, workers)
        found["storm"] = storm(course.backlog, outages, step, found["recovery"], workers)
    return found


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


def storm(
    backlog: NDArray[np.float32], outages: Sequence[tuple[float, float]], step: float, recovered: Floats, workers: float
) -> Floats:
    """Return for each replication 1 if an outage leaves a load that lasts, and 0 if not.

    It lasts if the backlog has not recovered, at least as long after the last outage as that was, and falls no more: in
    the second half of the time that is left it is as high as in the first, by at most a tenth. If the backlog has grown
    before the first outage, it is not the outage that has done it.
    """
    begin, end = round(outages[0][0] / step), round(max(until for _, until in outages) / step)
    longest = max(until - since for since, until in outages) / step
    made = np.zeros(backlog.shape[1])
    after = backlog[end:]
    if len(after) < max(4.0, longest):
        return made
    half = len(after) // 2
    lasts = ~np.isfinite(recovered) & (after[half:].mean(axis=0) >= 0.9 * after[:half].mean(axis=0))
    before = backlog[:begin]
    if len(before) >= 4:
        first, second = before[: len(before) // 2].mean(axis=0), before[len(before) // 2 :].mean(axis=0)
        lasts &= second <= 2.0 * first + workers
    made[lasts] = 1.0
    return made
