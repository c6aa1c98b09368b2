"""Advice: which retry policy and how many workers keep the limits, and which limit is nearest."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from os import PathLike
from typing import Any

from ..errors import InputError, nearest
from ..foundation.durations import NS, Duration, to_ns
from ..scenario.called_services import Breaker
from ..scenario.scenario import Scenario
from ..scenario.values import rate_of, retry_of
from ..simulation.retry import Retry
from .forecast import Forecast, draw
from .scenario_workload import settings_of, workload_of
from .workload import Workload

LIMITS = {
    "backlog": "backlog_peak", "age": "age_peak", "dead": "dead_share", "recovery": "recovery",
    "retries": "retries_peak",
}  # fmt: skip
"""The limits that a scenario can have, and the figure of each."""
SHARE = 0.95
"""The share of the replications in which a limit must be kept."""
_WAITS = ("first", "factor", "cap", "jitter")


@dataclass(frozen=True)
class Kept:
    """One limit, and what a forecast says about it."""

    limit: str
    allowed: float
    found: float
    """What 95 of 100 replications do not exceed: seconds, a share, or a number."""

    @property
    def ratio(self) -> float:
        """The share of the allowed value that is used. Above 1 the limit is broken."""
        if self.allowed > 0:
            return self.found / self.allowed
        return 0.0 if self.found <= 0 else float("inf")


@dataclass(frozen=True)
class Tried:
    """One policy that was tried."""

    choice: Mapping[str, Any]
    words: str
    kept: tuple[Kept, ...]
    cost: float
    """What the workers cost in an hour, as ``[forecast.costs]`` says; without costs, their number."""

    @property
    def binding(self) -> Kept:
        """The limit that is nearest to its value, or that is broken most."""
        return max(self.kept, key=lambda kept: kept.ratio)

    @property
    def holds(self) -> bool:
        """True if every limit is kept."""
        return self.binding.ratio <= 1.0


@dataclass(frozen=True)
class Advice:
    """Every policy that was tried, the best first. `advise` returns it."""

    tried: tuple[Tried, ...]

    @property
    def best(self) -> Tried | None:
        """The cheapest policy that keeps every limit, with the widest margin. None if no policy does."""
        return self.tried[0] if self.tried[0].holds else None


def limits_of(scenario: Scenario) -> dict[str, float]:
    """Return the limits of a scenario: durations in seconds, retries a minute."""
    table = scenario.source.tables.get("forecast", {}).get("limits", {})
    made: dict[str, float] = {}
    for name, value in table.items():
        with scenario.source.at("forecast", "limits", name):
            if name in ("age", "recovery"):
                made[name] = to_ns(value, what=name) / NS
            else:
                made[name] = rate_of(value) * 60 if name == "retries" else float(value)
    return made


def kept(found: Forecast, limits: Mapping[str, float]) -> tuple[Kept, ...]:
    """Return what a forecast says about each limit. Raises `InputError` for a limit without a figure."""
    for name in limits:
        if LIMITS[name] not in found.figures:
            raise InputError(
                f"the limit {name!r} needs an outage, and the scenario has none; add an outage, or leave the limit out"
            )
    return tuple(Kept(name, allowed, found.quantile(LIMITS[name], SHARE)) for name, allowed in limits.items())


def advise(
    of: Scenario | str | PathLike[str], *, span: Duration | None = None, bin: Duration | None = None,
    replications: int = 40, load: float | None = None, seed: int = 0, progress: Callable[[float], None] | None = None,
) -> Advice:  # fmt: skip
    """Try every combination of ``[forecast.search]`` of a scenario, and compare it with ``[forecast.limits]``.

    It tries retry policies and retry budgets of one job, numbers of workers, weights of queues, and breakers. What the
    workers cost is in ``[forecast.costs]``.

    Parameters: `of` is a scenario or its file; `replications` is 40, if left out; `span`, `bin`, `load`, `seed` and
    `progress` are as in `forecast`.
    Raises `InputError` or `ScenarioError` if there are no limits, if there is nothing to search, or if a name is
    unknown.

    Example::

        best = ic.advise("manifest_day.toml", bin="10s", replications=10).best
        print(best.words if best else "no policy keeps every limit")
    """
    scenario, settings, span_s, factor = settings_of(of, span, load)
    limits = limits_of(scenario)
    search = dict(settings.get("search", {}))
    if not limits:
        raise InputError(f"{scenario.name} has no [forecast.limits]; add the limits to keep")
    if not {*search} - {"job"}:
        raise InputError(f"{scenario.name} has no [forecast.search]; add the policies to try")
    step = bin if bin is not None else settings.get("bin")
    workload = workload_of(scenario, span_s, factor)
    job = search.pop("job", None) or workload.streams[0].name
    if job not in {stream.name for stream in workload.streams}:
        scenario.source.known("jobs", job, "forecast", "search", "job")
        raise InputError(f"the forecast leaves {job} out; give a job that it counts")
    costs = _costs(scenario, workload)
    choices = [dict(zip(search, values, strict=True)) for values in itertools.product(*search.values())]
    tried = []
    for number, choice in enumerate(choices):
        with scenario.source.at("forecast", "search"):
            made = _changed(workload, job, choice, scenario)
        tell = None if progress is None else lambda done, n=number: progress((n + done) / len(choices))
        found = draw(made, span=span_s, bin=step, replications=replications, seed=seed, progress=tell)
        cost = sum(pool.size * price for pool, price in zip(made.pools, costs, strict=True))
        tried.append(Tried(choice, _words(made, job, choice), kept(found, limits), cost))
    tried.sort(key=lambda one: (not one.holds, one.cost if one.holds else 0, one.binding.ratio))
    return Advice(tuple(tried))


def _costs(scenario: Scenario, workload: Workload) -> list[float]:
    """Return what a worker of each pool costs in an hour. Raises `InputError` for an unknown queue."""
    table = scenario.source.tables.get("forecast", {}).get("costs", {})
    queues = {stream.queue for stream in workload.streams} | {q for pool in workload.pools for q in pool.queues or ()}
    for name in table:
        if name != "worker" and name not in queues:
            with scenario.source.at("forecast", "costs", name):
                raise InputError(f"no workers serve the queue {name!r}; {nearest(name, [*queues, 'worker'])}")
    usual = float(table.get("worker", 1.0))
    return [
        next((float(table[queue]) for queue in pool.queues or () if queue in table), usual) for pool in workload.pools
    ]


def _changed(workload: Workload, job: str, choice: Mapping[str, Any], scenario: Scenario) -> Workload:
    """Return a workload with another retry for one job, other workers or weights, or another breaker."""
    stream = next(stream for stream in workload.streams if stream.name == job)
    pools, services = list(workload.pools), dict(workload.services)
    number = workload.pool_of(stream)
    if "workers" in choice:
        pools[number] = replace(pools[number], size=choice["workers"])
    if "weights" in choice:
        served = pools[number].queues
        missing = {s.queue for s in workload.streams if workload.pool_of(s) == number} - set(choice["weights"])
        if served is None or missing:
            why = "they serve all queues as one line" if served is None else f"{', '.join(sorted(missing))} has none"
            raise InputError(
                f"the weights {choice['weights']} do not fit the workers of {job}: {why}; give each of their queues one"
            )
        pools[number] = replace(pools[number], queues=choice["weights"])
    if "breaker" in choice:
        if stream.calls is None:
            raise InputError(f"{job} calls no service; give it 'calls', or leave 'breaker' out of [forecast.search]")
        services[stream.calls] = replace(
            services[stream.calls], breaker=Breaker.read(choice["breaker"]) if choice["breaker"] is not False else None
        )
    retry = _retry(stream.retry, job, choice, scenario)
    streams = [replace(s, retry=retry) if s.name == job else s for s in workload.streams]
    return replace(workload, streams=streams, pools=tuple(pools), services=services)


def _retry(retry: Retry, job: str, choice: Mapping[str, Any], scenario: Scenario) -> Retry:
    tables = scenario.source.tables
    policy = tables["jobs"][job]
    stated = policy.get("retry") or tables.get("policies", {}).get(policy.get("policy"), {}).get("retry", {})
    wait = stated.get("wait", {})
    new_wait: Any = retry.wait
    chosen = {name: choice[name] for name in _WAITS if name in choice}
    if chosen:
        # A wait keeps its form: with another first wait alone, a fixed one stays fixed and a linear one linear.
        usual = wait if isinstance(wait, dict) else {"first": wait[0] if isinstance(wait, list) else wait}
        parts = {key: value for key, value in usual.items() if key != "step" or "factor" not in chosen} | chosen
        if parts.get("first") in (None, {}):
            raise InputError(f"the retry of {job} has no first wait; give 'first' in [forecast.search]")
        new_wait = retry_of({"wait": parts}).wait
    return Retry(
        choice.get("attempts", retry.attempts), new_wait, on=retry.on, never_on=retry.never_on, drop_on=retry.drop_on,
        within=None if retry.within is None else retry.within / NS, budget=choice.get("budget", retry.budget),
        reserve=retry.reserve,
    )  # fmt: skip


def _words(workload: Workload, job: str, choice: Mapping[str, Any]) -> str:
    stream = next(stream for stream in workload.streams if stream.name == job)
    pool = workload.pools[workload.pool_of(stream)]
    words = f"{pool.size} worker{'s' * (pool.size != 1)}"
    if "weights" in choice:
        words += f" ({', '.join(f'{queue} {weight}' for queue, weight in choice['weights'].items())})"
    words += f"; {stream.retry.describe()}"
    if stream.calls is not None and "breaker" in choice:
        breaker = workload.services[stream.calls].breaker
        words += "; no breaker" if breaker is None else f"; a breaker that opens if {breaker.failing:.0%} fail"
    return words
