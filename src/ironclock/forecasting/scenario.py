"""The forecast of a scenario file, or of a plant that is described in code."""

from __future__ import annotations

from collections.abc import Callable
from os import PathLike

from ..core.durations import NS, Duration, to_ns
from ..scenario.scenario import Scenario
from .forecast import Forecast, draw
from .fromscenario import plant_of
from .plant import Plant


def forecast(
    of: Scenario | Plant | str | PathLike[str], *, span: Duration | None = None, bin: Duration | None = None,
    replications: int | None = None, load: float | None = None, seed: int = 0,
    progress: Callable[[float], None] | None = None,
) -> Forecast:  # fmt: skip
    """Work out what a day comes to: backlog, age of the oldest job, retries, dead letters, time to recover.

    Parameters: `of` a scenario, its file, or a `Plant`; `span` how long, `bin` the step, `replications` how many days
    are drawn: what is left out is what the scenario's ``[forecast]`` says, or else a day in bins of a second, 200
    times; `load` is what every rate and count is multiplied by, `seed` what every lot follows from; `progress` is told
    the share that is done. The cost follows the number of bins, not of jobs. What happens within a bin is not seen:
    bins should be no longer than the waits that matter.
    Raises `ScenarioError`, `InputError`, `DurationError` or `PolicyError`.
    """
    if isinstance(of, Plant):
        return draw(
            of, span=span or "24h", bin=bin or "1s", replications=replications or 200, seed=seed, progress=progress
        )
    scenario = of if isinstance(of, Scenario) else Scenario.load(of)
    settings = scenario.source.tables.get("forecast", {})
    with scenario.source.at("forecast"):
        span_s = to_ns(settings.get("span", "24h") if span is None else span, what="span") / NS
        plant = plant_of(scenario, span_s, float(settings.get("load", 1.0)) if load is None else load)
        return draw(
            plant, span=span_s, bin=settings.get("bin", "1s") if bin is None else bin,
            replications=replications or settings.get("replications", 200), seed=seed, progress=progress,
        )  # fmt: skip
