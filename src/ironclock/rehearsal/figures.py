"""Figures of a run: what became of its jobs, how long they took, what the services and the queues had to bear."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from ..foundation.durations import NS
from ..history.history import History
from ..history.job_records import queue_depths
from .played_jobs import PlayedJob

MINUTE_NS = 60 * NS
_STATES = ("done", "dead", "dropped", "withdrawn", "lost")


@dataclass(frozen=True)
class FigureKind:
    """One figure of a run."""

    name: str
    """As in ``--fail-if``."""
    words: str
    unit: str = ""
    """``s``: seconds. Empty: a number."""
    is_worse_if: str = ""
    """``more`` or ``less``. Empty: neither is bad."""


KINDS = (
    FigureKind("jobs", "jobs"),
    FigureKind("done", "done", is_worse_if="less"),
    FigureKind("dead", "dead", is_worse_if="more"),
    FigureKind("dropped", "dropped", is_worse_if="more"),
    FigureKind("withdrawn", "withdrawn"),
    FigureKind("lost", "lost", is_worse_if="more"),
    FigureKind("open", "still open", is_worse_if="more"),
    FigureKind("refused", "refused", is_worse_if="more"),
    FigureKind("attempts", "attempts", is_worse_if="more"),
    FigureKind("median", "median from due to done", "s", "more"),
    FigureKind("p95", "95 of 100 are done within", "s", "more"),
    FigureKind("p99", "99 of 100 are done within", "s", "more"),
    FigureKind("longest", "longest from due to done", "s", "more"),
    FigureKind("peak", "most attempts in a minute", is_worse_if="more"),
    FigureKind("backlog", "most jobs waiting in a queue", is_worse_if="more"),
    FigureKind("cost", "time of workers", "s", "more"),
    FigureKind("twice", "effects done twice", is_worse_if="more"),
)
"""The figures, in the order of a report."""


@dataclass(frozen=True)
class Figures:
    """The figures of one run, of all jobs or of one job type."""

    values: Mapping[str, float]
    starts: Mapping[int, int]
    """By a minute since the epoch, how many attempts started in it."""

    def __getitem__(self, name: str) -> float:
        return self.values[name]


def figures_of(jobs: Sequence[PlayedJob], effects: Mapping[str, int], refused: int = 0) -> Figures:
    """Return the figures of jobs. Parameters: `effects` is how often each effect was done, by what it is about;
    `refused` is how many jobs were refused."""
    count = dict.fromkeys(_STATES, 0)
    took: list[int] = []
    starts: dict[int, int] = {}
    busy = attempts = is_open = 0
    for job in jobs:
        if job.state in count:
            count[job.state] += 1
        else:
            is_open += 1
        if job.state == "done" and job.closed_ns is not None:
            took.append(job.closed_ns - job.asked_ns)
        attempts += len(job.attempts)
        for attempt in job.attempts:
            minute = attempt.started_ns // MINUTE_NS
            starts[minute] = starts.get(minute, 0) + 1
            busy += 0 if attempt.ended_ns is None else attempt.ended_ns - attempt.started_ns
    took.sort()
    most_waiting = max((max(counts, default=0) for _, counts in queue_depths(jobs).values()), default=0)
    values: dict[str, float] = {
        "jobs": len(jobs), **count, "open": is_open, "refused": refused, "attempts": attempts,
        "median": _quantile(took, 0.5), "p95": _quantile(took, 0.95), "p99": _quantile(took, 0.99),
        "longest": took[-1] / NS if took else 0.0, "peak": max(starts.values(), default=0),
        "backlog": most_waiting, "cost": busy / NS,
        "twice": sum(times > 1 for times in effects.values()),
    }  # fmt: skip
    return Figures(values, starts)


def _quantile(values: Sequence[int], share: float) -> float:
    """Return what a share of sorted nanoseconds does not exceed, in seconds."""
    return values[min(len(values) - 1, int(share * len(values)))] / NS if values else 0.0


def keyed_effects(history: History) -> dict[str, int]:
    """Return how often each effect with a key was done, by its name and key."""
    found: dict[str, int] = {}
    for number in history.effects_done():
        entry = history.entry(number)
        if entry.key is not None:
            about = f"{entry.effect} of {entry.key!r}"
            found[about] = found.get(about, 0) + 1
    return found
