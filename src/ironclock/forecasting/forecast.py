"""Forecasts: many replications of a day of a workload, and their quantiles."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ..errors import InputError, nearest
from ..foundation.durations import NS, Duration, spell, to_ns
from .day import WorkloadTables
from .forecast_figures import DURATIONS, NAMES, Trajectories, figures
from .job_by_job import expected_attempts, expected_jobs, room_for, run_days, tables_of
from .worker_pool import run_cohorts
from .workload import Workload

if TYPE_CHECKING:
    import pandas

Floats = NDArray[np.float64]

QUANTILES = (0.05, 0.5, 0.95)
_CHUNK = 100
_CELLS = 20_000_000
"""How many bins of all replications a process notes at once: so many take a tenth of a gigabyte."""
_MOST_BINS = 20_000_000
_USUAL_BINS = 200_000
_QUICK = 60e6
"""Up to how many attempts of all replications each one is gone through: about ten seconds."""
_MOST_ATTEMPTS = 200e6
"""How many attempts of all replications are gone through at most. Above that a smaller workload is worked out in place
of the given one."""
_MOST_JOBS = 1e6
"""How many jobs a day has at most, before a smaller workload takes its place: if all are open at once, they take a
third of a gigabyte."""


class Forecast:
    """The replications of a day. `ic.forecast` returns it.

    Example::

        found = ic.forecast("manifest_day.toml")
        assert found.quantile("recovery", 0.95) < 1800
    """

    def __init__(
        self, workload: Workload, span: float, step: float, found: Mapping[str, Floats], trajectories: Trajectories,
        warnings: Sequence[str] = (),
    ) -> None:  # fmt: skip
        self.workload = workload
        self.span = span
        """The length of the day, in seconds."""
        self.step = step
        """The length of a bin, in seconds."""
        self.figures = dict(found)
        """Each figure by name, with one number for each replication. Durations are in seconds."""
        self.trajectories = trajectories
        self.warnings = tuple(warnings)
        """Figures that cannot be trusted, and why. Empty if all can be."""

    @property
    def replications(self) -> int:
        """How many days were drawn."""
        return len(self.figures["jobs"])

    @property
    def storm(self) -> float:
        """The share of the days in which an outage leaves a retry storm, or another load, that lasts.
        0 without an outage."""
        return float(self.figures["storm"].mean()) if "storm" in self.figures else 0.0

    def mean(self, figure: str) -> float:
        """Return the mean of `figure`. Raises `InputError` for an unknown figure.

        Example::

            print(ic.forecast("manifest_day.toml", span="1h", replications=2).mean("jobs"))
        """
        return float(self._figure(figure).mean())

    def quantile(self, figure: str, share: float) -> float:
        """Return the value of `figure` that a `share` (0 to 1) of the replications does not exceed.

        Raises `InputError` for an unknown figure.

        Example::

            print(ic.forecast("manifest_day.toml", span="1h", replications=2).quantile("jobs", 0.95))
        """
        # The next higher drawn value: nothing is between a replication that recovers and one that does not.
        return float(np.quantile(self._figure(figure), share, method="higher"))

    def _figure(self, name: str) -> Floats:
        if name not in self.figures:
            raise InputError(f"unknown figure {name!r}; {nearest(name, self.figures)}")
        return self.figures[name]

    def rows(self) -> list[dict[str, Any]]:
        """Return the table: one row for each figure, with its mean and its 5, 50 and 95 % quantiles."""
        return [
            {
                "figure": name, "what": NAMES[name], "unit": "s" if name in DURATIONS else "",
                "mean": self.mean(name), **{f"q{round(q * 100):02d}": self.quantile(name, q) for q in QUANTILES},
            }
            for name in self.figures
        ]  # fmt: skip

    def frame(self) -> pandas.DataFrame:
        """Return the table as a pandas table. Needs the extra ``ironclock[frame]``."""
        import pandas

        return pandas.DataFrame(self.rows()).set_index("figure")

    def __repr__(self) -> str:
        peak = self.quantile("backlog_peak", 0.95)
        return f"<forecast of {self.replications} replications: backlog up to {peak:,.0f} in 95 of 100>"


def draw(
    workload: Workload, *, span: Duration = "24h", bin: Duration | None = None, replications: int = 200, seed: int = 0,
    progress: Callable[[float], None] | None = None,
) -> Forecast:  # fmt: skip
    """Draw many days of a workload.

    Parameters as in `ic.forecast`. Raises `InputError`, `DurationError` or `PolicyError`.
    """
    whole = to_ns(span, what="span") / NS
    step = max(1.0, whole / _USUAL_BINS) if bin is None else to_ns(bin, what="bin") / NS
    step = min(step, whole) if bin is None else step
    if not step or whole < step:
        shown = [spell(round(seconds * NS)) for seconds in (whole, step)]
        raise InputError(
            f"span is {shown[0]} and bin is {shown[1]}; give a bin longer than 0, and a span of at least one"
        )
    bins = round(whole / step)
    if bins > _MOST_BINS:
        raise InputError(f"{bins:,} bins are too many; give a bin longer than {bin}")
    if isinstance(replications, bool) or not isinstance(replications, int) or replications < 2:
        raise InputError(f"replications is {replications!r}; give a whole number, at least 2")
    if not workload.streams:
        raise InputError("the workload has no jobs; add arrivals, or jobs that are enqueued")
    way = Way.of(workload, bins * step, step, replications)
    size = max(1, min(_CHUNK, _CELLS // bins))
    chunks = [min(size, replications - at) for at in range(0, replications, size)]
    tasks = [Task(way, bins, columns, (seed, number)) for number, columns in enumerate(chunks)]
    parts = _map(tasks, progress)
    found = {name: np.concatenate([part[0][name] for part in parts]) for name in parts[0][0]}
    trajectories = Trajectories.joined([part[1] for part in parts])
    return Forecast(workload, bins * step, step, found, trajectories, way.warnings)


@dataclass(frozen=True)
class Way:
    """How the days of a workload are worked out: job by job, or whole cohorts of jobs bin by bin.

    Job by job nothing is left out. Cohorts cost the same for a thousand jobs as for ten million.
    """

    workload: Workload
    step: float
    tables: WorkloadTables | None
    """The arrays for job by job. None: by cohorts."""
    room: int
    times: float
    """How many times larger the workload is than the one that is worked out."""
    warnings: tuple[str, ...]

    @classmethod
    def of(cls, workload: Workload, span: float, step: float, replications: int) -> Way:
        """Choose a way: job by job if that is quick enough, or if cohorts would leave something out."""
        jobs, attempts = expected_jobs(workload.streams, span), expected_attempts(workload.streams, span)
        if workload.plain and (attempts * replications > _QUICK or jobs > _MOST_JOBS):
            return cls(workload, step, None, 0, 1.0, tuple(_unseen(workload, step)))
        if jobs <= _MOST_JOBS:
            tables, room = tables_of(workload, span), room_for(workload, span)
            if workload.services:
                # How many retries a service brings about cannot be told from the rates: one day is looked at.
                attempts = float(run_days(tables, room, step, round(span / step), 1, (0, 0)).started[0])
            if attempts * replications <= _MOST_ATTEMPTS:
                return cls(workload, step, tables, room, 1.0, ())
        times = max(attempts * replications / _MOST_ATTEMPTS, jobs / _MOST_JOBS)
        smaller, warnings = workload.smaller(times)
        return cls(workload, step, tables_of(smaller, span), room_for(smaller, span), times, warnings)


def _unseen(workload: Workload, step: float) -> list[str]:
    """Return what bins of this length do not see."""
    short = sorted({s.name for s in workload.streams if s.takes.mean_ns / NS < 10 * step})
    if not short:
        return []
    return [
        "the jobs are too many to go through one by one, and waits shorter than the bin, "
        f"{spell(round(step * NS))}, are not seen: those of {' and '.join(short)}; give a shorter bin, or fewer "
        "replications"
    ]


@dataclass(frozen=True)
class Task:
    """Some replications, to be worked out in one process."""

    way: Way
    bins: int
    columns: int
    seed: Sequence[int]


Part = tuple[dict[str, Floats], Trajectories]


def _map(tasks: list[Task], progress: Callable[[float], None] | None) -> list[Part]:
    """Do the tasks one after the other, or on several processors at once."""
    import os

    workers = min(len(tasks), os.cpu_count() or 1)
    if workers > 1 and hasattr(os, "fork"):
        made = _forked(tasks, workers, progress)
        if made is not None:
            return made
    parts = []
    for number, task in enumerate(tasks):
        tell = None if progress is None else lambda done, n=number: progress((n + done) / len(tasks))
        parts.append(_part(task, tell))
    return parts


def _forked(tasks: list[Task], workers: int, progress: Callable[[float], None] | None) -> list[Part] | None:
    """Do the tasks in child processes. None if there can be none."""
    import multiprocessing
    import pickle
    import signal
    from concurrent.futures import ProcessPoolExecutor
    from concurrent.futures.process import BrokenProcessPool

    try:
        pickle.dumps(tasks[0].way)
    except Exception:  # a rate or a wait that is a function of the user
        return None
    try:
        # Ctrl-C ends this process; the others would each print a traceback, and are ended by it.
        with ProcessPoolExecutor(
            workers, multiprocessing.get_context("fork"), signal.signal, (signal.SIGINT, signal.SIG_IGN)
        ) as pool:
            later = [pool.submit(_part, task) for task in tasks[1:]]
            # The first task is done here, and shows the progress.
            try:
                return [_part(tasks[0], progress), *(each.result() for each in later)]
            except KeyboardInterrupt:
                for child in multiprocessing.active_children():
                    child.terminate()
                raise
    except (BrokenProcessPool, OSError):
        return None


def _part(task: Task, progress: Callable[[float], None] | None = None) -> Part:
    way = task.way
    if way.tables is None:
        course = run_cohorts(way.workload, way.step, task.bins, task.columns, task.seed, progress)
    else:
        course = run_days(way.tables, way.room, way.step, task.bins, task.columns, task.seed, progress)
        if way.times > 1.0:
            course = course.grown(way.times)
    return figures(course, way.workload, way.step), course.trajectories
