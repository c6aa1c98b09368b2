"""`ic.forecast`: the forecast of a scenario file, or of a workload that is built in code."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import nullcontext
from os import PathLike

from ..foundation.durations import Duration
from ..scenario.scenario import Scenario
from .forecast import Forecast, draw
from .scenario_workload import settings_of, workload_of
from .workload import Workload


def forecast(
    of: Scenario | Workload | str | PathLike[str], *, span: Duration | None = None, bin: Duration | None = None,
    replications: int | None = None, load: float | None = None, seed: int = 0,
    progress: Callable[[float], None] | None = None,
) -> Forecast:  # fmt: skip
    """Work out a day: backlog, age of the oldest job, retries, dead letters, time to recover.

    Parameters:

    - `of`: a scenario, its file, or a `Workload`.
    - `span`: the length of the day. Default: as ``[forecast]`` of the scenario says, or 24 hours.
    - `bin`: the step in which backlogs are noted, and in which cohorts are worked out if the jobs are too many to go
      through one by one. Default: as the scenario says, or one second (longer for a span of more than two days).
    - `replications`: how many days to draw. Default: as the scenario says, or 200.
    - `load`: every rate and count is multiplied by this. Default 1.
    - `seed`: everything that is drawn by lot follows from it. Default 0.
    - `progress`: a function that gets the share that is done. Default None.

    The cost depends on the number of bins and not on the number of jobs. Needs the extra ``ironclock[forecast]``.
    Raises `ScenarioError`, `InputError`, `DurationError` or `PolicyError`.

    Example::

        found = ic.forecast("manifest_day.toml", load=10)
        print(found.mean("backlog_peak"), found.quantile("recovery", 0.95))
    """
    if isinstance(of, Workload):
        return draw(of, span=span or "24h", bin=bin, replications=replications or 200, seed=seed, progress=progress)
    scenario, settings, span_s, factor = settings_of(of, span, load)
    # What the caller gives is not the file's mistake.
    given = any(value is not None for value in (span, bin, replications, load))
    with nullcontext() if given else scenario.source.at("forecast"):
        workload = workload_of(scenario, span_s, factor)
        return draw(
            workload, span=span_s, bin=settings.get("bin") if bin is None else bin,
            replications=replications or settings.get("replications", 200), seed=seed, progress=progress,
        )  # fmt: skip
