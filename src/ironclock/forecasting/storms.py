"""Retry storms: the load that keeps a service down is made by the retries, and lasts.

Attempts that fail or take too long are tried again. If what they call gets slower with each call more, the retries
alone can keep it too slow, long after what has begun it is over. Source of the idea: N. Bronson and others, "Metastable
Failures in Distributed Systems", HotOS 2021.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from os import PathLike

from ..errors import InputError
from ..foundation.durations import Duration
from ..scenario.scenario import Scenario
from .forecast import draw
from .scenario_workload import settings_of, workload_of
from .workload import Workload

SHARE = 0.05
"""A storm counts if it comes in a larger share of the days than this."""
_MOST = 1024.0
_NEAR = 1.05


@dataclass(frozen=True)
class StormLoad:
    """The load at which a retry storm begins that lasts. `storm_load` returns it."""

    calm: float | None
    """The highest load that was tried without a storm. None: there was a storm at each."""
    storm: float | None
    """The lowest load that was tried with one. None: there was none at any, up to `overload`."""
    overload: float | None
    """The lowest load that was tried that the workers cannot serve, also without an outage. None: not reached."""


def storm_load(
    of: Scenario | str | PathLike[str], *, span: Duration | None = None, replications: int = 40,
    load: float | None = None, seed: int = 0, progress: Callable[[float], None] | None = None,
) -> StormLoad:  # fmt: skip
    """Find the load from which on an outage leaves a retry storm that lasts.

    Loads are tried, higher or lower ones, until the borders are 5 % apart. A storm counts if it comes in more than 5 of
    100 days.

    Parameters: `of` is a scenario with an outage, or its file; `load` is the first load to try; `span`, `replications`,
    `seed` and `progress` are as in `forecast`. Raises `InputError` if the scenario has no outage.

    Example::

        found = ic.storm_load("harbour_storm.toml", span="2h", replications=4)
        print(found.calm, found.storm)
    """
    scenario, _, span_s, at = settings_of(of, span, load)
    tried = 0

    def look(at: float) -> str:
        nonlocal tried
        tried += 1
        workload = workload_of(scenario, span_s, at)
        if not workload.outages:
            raise InputError(f"{scenario.name} has no outage after which a storm can begin; add a fault with 'between'")
        found = draw(workload, span=span_s, replications=replications, seed=seed)
        if progress is not None:
            progress(1 - 0.85**tried)
        if found.storm > SHARE:
            return "storm"
        quiet = draw(without_outages(workload), span=span_s, replications=max(2, replications // 4), seed=seed)
        return "overload" if quiet.mean("busy") > 0.98 else "calm"

    seen: dict[str, float | None] = {"calm": None, "storm": None, "overload": None}
    while 1 / _MOST <= at <= _MOST:
        what = look(at)
        known = seen[what]
        seen[what] = at if known is None else max(known, at) if what == "calm" else min(known, at)
        low = seen["calm"]
        high = min((bad for bad in (seen["storm"], seen["overload"]) if bad is not None), default=None)
        if low is not None and high is not None:
            if high / low <= _NEAR:
                break
            at = (low * high) ** 0.5
        else:
            at = at * 2 if high is None else at / 2
    return StormLoad(seen["calm"], seen["storm"], seen["overload"])


def without_outages(workload: Workload) -> Workload:
    """Return a workload in which nothing is down."""
    streams = [replace(stream, outages=()) for stream in workload.streams]
    pools = [replace(pool, away=()) for pool in workload.pools]
    limits = {name: replace(limit, closed=()) for name, limit in workload.limits.items()}
    return replace(workload, streams=streams, pools=pools, limits=limits)
