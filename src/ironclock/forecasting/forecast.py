"""Forecasts: many replications of a plant's day, and what they come to in quantiles."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ..core.durations import NS, Duration, to_ns
from ..core.errors import InputError, nearest
from .crew import CrewLoop, Traces
from .figures import DURATIONS, NAMES, Courses, figures
from .plant import Plant

if TYPE_CHECKING:
    import pandas

Floats = NDArray[np.float64]

QUANTILES = (0.05, 0.5, 0.95)
_CHUNK = 100
_MOST_BINS = 20_000_000


class Forecast:
    """What a plant's replications came to. Made by `ic.forecast`."""

    def __init__(self, plant: Plant, span: float, step: float, found: Mapping[str, Floats], courses: Courses) -> None:
        self.plant = plant
        self.span = span
        """How long, in seconds."""
        self.step = step
        """The bin's length in seconds."""
        self.figures = dict(found)
        """Each figure, a number for each replication. Durations are in seconds."""
        self.courses = courses

    @property
    def replications(self) -> int:
        """How many days were drawn."""
        return len(self.figures["jobs"])

    def mean(self, figure: str) -> float:
        """Return the mean of a figure. Raises `InputError` for one that there is not."""
        return float(self._figure(figure).mean())

    def quantile(self, figure: str, share: float) -> float:
        """Return what a share of the replications does not exceed. Raises `InputError`."""
        # The next higher of what was drawn: nothing lies between a replication that recovers and one that does not.
        return float(np.quantile(self._figure(figure), share, method="higher"))

    def _figure(self, name: str) -> Floats:
        if name not in self.figures:
            raise InputError(f"the forecast has no figure {name!r}; {nearest(name, self.figures)}")
        return self.figures[name]

    def rows(self) -> list[dict[str, Any]]:
        """Return the table: a row a figure, with its mean and its 5, 50 and 95 % quantiles."""
        return [
            {
                "figure": name, "what": NAMES[name], "unit": "s" if name in DURATIONS else "",
                "mean": self.mean(name), **{f"q{round(q * 100):02d}": self.quantile(name, q) for q in QUANTILES},
            }
            for name in self.figures
        ]  # fmt: skip

    def frame(self) -> pandas.DataFrame:
        """Return the table as a pandas table (needs the extra ``ironclock[frame]``)."""
        import pandas

        return pandas.DataFrame(self.rows()).set_index("figure")

    def __repr__(self) -> str:
        peak = self.quantile("backlog_peak", 0.95)
        return f"<forecast of {self.replications} replications: backlog up to {peak:,.0f} in 95 of 100>"


def draw(
    plant: Plant, *, span: Duration = "24h", bin: Duration = "1s", replications: int = 200, seed: int = 0,
    progress: Callable[[float], None] | None = None,
) -> Forecast:  # fmt: skip
    """Work out what a plant's day comes to.

    Parameters: `span` how long, `bin` the step, `replications` how many days are drawn, `seed` what every lot
    follows from, `progress` is told the share that is done. The cost follows the number of bins, not of jobs.
    What happens within a bin is not seen: bins should be no longer than the waits that matter.
    Raises `InputError`, `DurationError` or `PolicyError`.
    """
    step, whole = to_ns(bin, what="bin") / NS, to_ns(span, what="span") / NS
    if not step or whole < step:
        raise InputError(f"a span of {span} and bins of {bin}; the span is at least one bin, and a bin some time")
    bins = round(whole / step)
    if bins > _MOST_BINS:
        raise InputError(f"{bins:,} bins are too many; take longer ones than {bin}")
    if isinstance(replications, bool) or not isinstance(replications, int) or replications < 2:
        raise InputError(f"replications is {replications!r}; give a whole number of at least 2")
    if not plant.streams:
        raise InputError("there is nothing to forecast: no job arrives, and none is enqueued")
    chunks = [min(_CHUNK, replications - at) for at in range(0, replications, _CHUNK)]
    tasks: list[Task] = [(plant, bins, step, columns, (seed, number)) for number, columns in enumerate(chunks)]
    parts = _map(tasks, bins, progress)
    found = {name: np.concatenate([part[0][name] for part in parts]) for name in parts[0][0]}
    courses = Courses(
        parts[0][1].frame,
        *(
            np.concatenate([getattr(part[1], name) for part in parts], axis=1)
            for name in ("backlog", "age", "retries", "dead", "arrived")
        ),
    )
    return Forecast(plant, bins * step, step, found, courses)


Task = tuple[Plant, int, float, int, Sequence[int]]
Part = tuple[dict[str, Floats], Courses]


def _map(tasks: list[Task], bins: int, progress: Callable[[float], None] | None) -> list[Part]:
    """Do the tasks one after the other; on several processors at the same time, where that is worth it."""
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
    """Do the tasks in child processes; None where these cannot be had."""
    import multiprocessing
    import pickle
    from concurrent.futures import ProcessPoolExecutor
    from concurrent.futures.process import BrokenProcessPool

    try:
        pickle.dumps([task[0] for task in tasks])
    except Exception:  # a rate or a wait that is a function of the caller's
        return None
    try:
        with ProcessPoolExecutor(workers, mp_context=multiprocessing.get_context("fork")) as pool:
            later = [pool.submit(_part, task) for task in tasks[1:]]
            # The first is done here, and says how far it is.
            return [_part(tasks[0], progress), *(each.result() for each in later)]
    except (BrokenProcessPool, OSError):
        return None


def _part(task: Task, progress: Callable[[float], None] | None = None) -> Part:
    plant, bins, step, columns, seed = task
    traces: list[Traces] = []
    for number, crew in enumerate(plant.crews):
        streams = [stream for stream in plant.streams if plant.crew_of(stream) == number]
        if streams:
            traces.append(CrewLoop(streams, crew, bins, step, columns, [*seed, number]).run(progress))
    return figures(traces, plant, step)
