"""Forecasts: many replications of a day of a workload, and their quantiles."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ..errors import InputError, nearest
from ..foundation.durations import NS, Duration, to_ns
from .forecast_figures import DURATIONS, NAMES, Trajectories, figures
from .worker_pool import PoolLoop, Traces
from .workload import Workload

if TYPE_CHECKING:
    import pandas

Floats = NDArray[np.float64]

QUANTILES = (0.05, 0.5, 0.95)
_CHUNK = 100
_MOST_BINS = 20_000_000


class Forecast:
    """The replications of a day. `ic.forecast` returns it.

    Example::

        found = ic.forecast("manifest_day.toml")
        assert found.quantile("recovery", 0.95) < 1800
    """

    def __init__(
        self, workload: Workload, span: float, step: float, found: Mapping[str, Floats], trajectories: Trajectories
    ) -> None:
        self.workload = workload
        self.span = span
        """The length of the day, in seconds."""
        self.step = step
        """The length of a bin, in seconds."""
        self.figures = dict(found)
        """Each figure by name, with one number for each replication. Durations are in seconds."""
        self.trajectories = trajectories

    @property
    def replications(self) -> int:
        """How many days were drawn."""
        return len(self.figures["jobs"])

    def mean(self, figure: str) -> float:
        """Return the mean of a figure. Raises `InputError` for an unknown figure."""
        return float(self._figure(figure).mean())

    def quantile(self, figure: str, share: float) -> float:
        """Return the value of `figure` that a `share` (0 to 1) of the replications does not exceed.

        Raises `InputError` for an unknown figure.
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
    workload: Workload, *, span: Duration = "24h", bin: Duration = "1s", replications: int = 200, seed: int = 0,
    progress: Callable[[float], None] | None = None,
) -> Forecast:  # fmt: skip
    """Draw many days of a workload.

    Parameters as in `ic.forecast`. Raises `InputError`, `DurationError` or `PolicyError`.
    """
    step, whole = to_ns(bin, what="bin") / NS, to_ns(span, what="span") / NS
    if not step or whole < step:
        raise InputError(f"span is {span} and bin is {bin}; give a bin longer than 0, and a span of at least one bin")
    bins = round(whole / step)
    if bins > _MOST_BINS:
        raise InputError(f"{bins:,} bins are too many; give a bin longer than {bin}")
    if isinstance(replications, bool) or not isinstance(replications, int) or replications < 2:
        raise InputError(f"replications is {replications!r}; give a whole number, at least 2")
    if not workload.streams:
        raise InputError("the workload has no jobs; add arrivals, or jobs that are enqueued")
    chunks = [min(_CHUNK, replications - at) for at in range(0, replications, _CHUNK)]
    tasks: list[Task] = [(workload, bins, step, columns, (seed, number)) for number, columns in enumerate(chunks)]
    parts = _map(tasks, bins, progress)
    found = {name: np.concatenate([part[0][name] for part in parts]) for name in parts[0][0]}
    trajectories = Trajectories(
        parts[0][1].frame,
        *(
            np.concatenate([getattr(part[1], name) for part in parts], axis=1)
            for name in ("backlog", "age", "retries", "dead", "arrived")
        ),
    )
    return Forecast(workload, bins * step, step, found, trajectories)


Task = tuple[Workload, int, float, int, Sequence[int]]
Part = tuple[dict[str, Floats], Trajectories]


def _map(tasks: list[Task], bins: int, progress: Callable[[float], None] | None) -> list[Part]:
    """Do the tasks one after the other, or on several processors at once if that is faster."""
    import os

    workers = min(len(tasks), os.cpu_count() or 1)
    if workers > 1 and bins >= 20_000 and hasattr(os, "fork"):
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
    from concurrent.futures import ProcessPoolExecutor
    from concurrent.futures.process import BrokenProcessPool

    try:
        pickle.dumps([task[0] for task in tasks])
    except Exception:  # a rate or a wait that is a function of the user
        return None
    try:
        with ProcessPoolExecutor(workers, mp_context=multiprocessing.get_context("fork")) as pool:
            later = [pool.submit(_part, task) for task in tasks[1:]]
            # The first task is done here, and shows the progress.
            return [_part(tasks[0], progress), *(each.result() for each in later)]
    except (BrokenProcessPool, OSError):
        return None


def _part(task: Task, progress: Callable[[float], None] | None = None) -> Part:
    workload, bins, step, columns, seed = task
    traces: list[Traces] = []
    for number, pool in enumerate(workload.pools):
        streams = [stream for stream in workload.streams if workload.pool_of(stream) == number]
        if streams:
            traces.append(PoolLoop(streams, pool, bins, step, columns, [*seed, number]).run(progress))
    return figures(traces, workload, step)
