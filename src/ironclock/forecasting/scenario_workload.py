"""The workload of a scenario: everything that its forecast needs."""

from __future__ import annotations

import random
from collections.abc import Iterator, Mapping, Sequence
from contextlib import nullcontext
from dataclasses import dataclass, replace
from os import PathLike
from typing import Any, Literal

from ..errors import AttemptTimeout, InputError
from ..foundation.distributions import Fixed
from ..foundation.durations import NS, Duration, to_ns
from ..scenario.arrivals import Rate
from ..scenario.called_services import Breaker, CallRefused, SlowedSpread
from ..scenario.scenario import Scenario
from ..scenario.scenario_rig import Failing, Modelled, World
from ..scenario.values import error_of, instant_of, schedule_of, starts_of
from ..schedules.sets import Within
from ..simulation.policy import JobType
from ..simulation.retry import Retry
from .workload import (
    CalledService,
    Firings,
    Outage,
    QueueLimit,
    Stream,
    Then,
    WorkerPool,
    Workload,
    pool_of,
)

_MODELLED = "modelled"
_MOST_LOAD = 1e9
_NO_EFFECT = "without an effect on a forecast"

TREATED: dict[str, dict[str, str]] = {
    "jobs": {
        "call": "it is real code, and its duration is not known", "takes": _MODELLED, "fails": _MODELLED,
        "calls": _MODELLED, "policy": _MODELLED, "queue": _MODELLED, "timeout": _MODELLED, "retry": _MODELLED,
        "key": _NO_EFFECT, "priority": _MODELLED, "expires": _MODELLED,
        "lease": "second deliveries of attempts that are longer than the lease",
        "ack": "jobs that are lost with a worker, or delivered again",
        "deliveries": "the limit of deliveries",
        "unique": "jobs that are refused, replaced or kept, as they are unique",
    },
    "queues": {"running": _MODELLED, "rate": _MODELLED, "per_key": "the limit for jobs of the same key"},
    "services": {"capacity": _MODELLED, "beyond": _MODELLED, "breaker": _MODELLED},
    "schedules": {
        "job": _MODELLED, "args": _NO_EFFECT, "kwargs": _MODELLED, "cron": _MODELLED, "every": _MODELLED,
        "every_after": "refused", "once": _MODELLED, "rrule": _MODELLED, "zone": _MODELLED, "count": _MODELLED,
        "starts": _MODELLED, "ends": _MODELLED, "missed": _NO_EFFECT, "overlap": _MODELLED, "poll": _MODELLED,
        "jitter": _MODELLED,
    },
    "enqueue": {
        "job": _MODELLED, "args": _NO_EFFECT, "kwargs": _MODELLED, "after": _MODELLED, "at": _MODELLED,
        "count": _MODELLED, "every": _MODELLED, "delay": _MODELLED, "queue": _MODELLED, "priority": _MODELLED,
    },
    "arrivals": {
        "job": _MODELLED, "args": _NO_EFFECT, "kwargs": _MODELLED, "rate": _MODELLED, "curve": _MODELLED,
        "days": _MODELLED, "from": _MODELLED, "until": _MODELLED,
    },
    "faults": {
        "kind": _MODELLED, "job": _MODELLED, "queue": _MODELLED, "count": _MODELLED, "attempts": _MODELLED,
        "between": _MODELLED, "chance": _MODELLED, "error": _MODELLED, "by": _MODELLED, "takes": _MODELLED,
        "at": "what happens at a seam inside a job", "visits": _NO_EFFECT, "down": _NO_EFFECT, "after": _NO_EFFECT,
    },
    "workers": {"count": _MODELLED, "queues": _MODELLED, "skew": _NO_EFFECT},
}  # fmt: skip
"""What a forecast does with each key of these tables (policies are as jobs): it models the key, the key makes no
difference, or the forecast leaves out what these words say. It leaves out some kinds of faults, and says so."""

_OUTAGES: dict[str, Literal["fails", "slower", "hangs"]] = {"fail": "fails", "slow": "slower", "hang": "hangs"}


def workload_of(scenario: Scenario, span: float, load: float = 1.0) -> Workload:
    """Return the workload of a scenario for a span in seconds: arrivals, schedules, durations, failures, retries,
    workers and outages.

    Parameters: every rate and count is multiplied by `load`. `Workload.left_out` names what a forecast leaves out.
    Raises `ScenarioError` or `InputError`.
    """
    if isinstance(load, bool) or not isinstance(load, (int, float)) or not 0 < load < _MOST_LOAD:
        raise InputError(f"load is {load!r}; give a number above 0 and below {_MOST_LOAD:g}")
    world = scenario.world(prepare=False)  # only the descriptions of its jobs are read; none of their code runs
    return _Reader(scenario, world, span, load).workload()


def settings_of(
    of: Scenario | str | PathLike[str], span: Duration | None, load: float | None
) -> tuple[Scenario, dict[str, Any], float, float]:
    """Return a scenario, its ``[forecast]``, and the span in seconds and the load, which are those of the table unless
    they are given. Raises `ScenarioError` or `DurationError`."""
    scenario = of if isinstance(of, Scenario) else Scenario.load(of)
    settings = scenario.source.tables.get("forecast", {})
    # What the caller gives is not the file's mistake.
    with nullcontext() if span is not None else scenario.source.at("forecast"):
        span_s = to_ns(settings.get("span", "24h") if span is None else span, what="span") / NS
    return scenario, settings, span_s, float(settings.get("load", 1.0)) if load is None else load


class _Reader:
    def __init__(self, scenario: Scenario, world: World, span: float, load: float) -> None:
        self._source = scenario.source
        self._tables = scenario.source.tables
        self._jobs = world.jobs
        self._timeline = world.rig.history.timeline
        self._span = span
        self._load = load
        self._start = world.start
        self._left_out: list[str] = []

    def workload(self) -> Workload:
        streams: list[Stream] = []
        for name, type in self._jobs.items():
            table = self._tables["jobs"][name]
            sources = self._sources(name)
            if not sources:
                continue
            if "call" in table:
                self._left_out.append(f"{name}: {TREATED['jobs']['call']}")
                continue
            policy = self._tables.get("policies", {}).get(table.get("policy"), {})
            self._name_left_out("jobs", name, {**policy, **table})
            streams += self._streams(type, table, sources)
        for key in ("flows", "taps", "calls"):
            if key in self._tables:
                self._left_out.append(f"[{key}]: a forecast leaves it out")
        if not streams:
            raise self._source.error(
                "the scenario has no modelled jobs that arrive, are enqueued or scheduled; add some"
            )
        pools, limits = self._pools(), self._limits(streams)
        # A fault for any job was found at each of them.
        left_out = tuple(dict.fromkeys(self._left_out))
        return Workload(streams, pools, self._start, str(self._timeline.zone), left_out, limits, self._services())

    def _streams(self, type: JobType[..., Any], table: dict[str, Any], sources: Sequence[Arriving]) -> Iterator[Stream]:
        """Return one stream for each way in which jobs of this type arrive that makes a difference to them."""
        modelled = type.fn
        assert isinstance(modelled, Modelled)
        outages = tuple(self._outages(type.name, type.retry))
        spread = type.spread or Fixed(type.takes_ns)
        grouped: dict[tuple[str, int, float, Then], list[Arriving]] = {}
        for source in sources:
            fails, then = _failing(modelled.failing, source.kwargs, type.retry)
            queue = source.queue or type.queue
            priority = type.priority if source.priority is None else source.priority
            grouped.setdefault((queue, priority, fails, then), []).append(source)
        for (queue, priority, fails, then), group in grouped.items():
            rates = [source.rate for source in group if source.rate is not None]
            curve = Curve(rates, self._start)
            yield Stream(
                type.name, spread.usual if isinstance(spread, SlowedSpread) else spread,
                curve(0.0) if all(rate.steady for rate in rates) else curve,
                tuple(burst for source in group for burst in source.bursts), queue, fails, type.retry,
                None if type.timeout_ns is None else type.timeout_ns / NS, outages, priority,
                None if type.expires_ns < 0 else type.expires_ns / NS,
                tuple(source.firings for source in group if source.firings is not None for _ in range(source.times)),
                table.get("calls"), then, _then(type.retry, AttemptTimeout()), _then(type.retry, CallRefused()),
            )  # fmt: skip

    def _name_left_out(self, kind: str, name: str, table: dict[str, Any]) -> None:
        """Name what a forecast leaves out of a table."""
        for key, value in table.items():
            words = TREATED[kind].get(key, _MODELLED)
            if words not in (_MODELLED, _NO_EFFECT) and value != _USUAL.get(key):
                self._left_out.append(f"{name}: {words} ({key} = {value!r})")

    # --- how jobs arrive ----------------------------------------------------------------------------

    def _sources(self, name: str) -> list[Arriving]:
        found = []
        for number, table in enumerate(self._tables.get("arrivals", ())):
            if table["job"] == name:
                with self._source.at("arrivals", number):
                    rate = Rate.read(table, self._timeline, self._load)
                    found.append(Arriving(table.get("kwargs", {}), rate=rate))
        for number, table in enumerate(self._tables.get("enqueue", ())):
            if table["job"] == name:
                with self._source.at("enqueue", number):
                    bursts = tuple(self._bursts(table))
                found.append(Arriving(table.get("kwargs", {}), bursts, table.get("queue"), table.get("priority")))
        for key, table in self._tables.get("schedules", {}).items():
            if table["job"] == name:
                with self._source.at("schedules", key):
                    found.append(self._schedule(table))
        return found

    def _bursts(self, table: dict[str, Any]) -> Iterator[tuple[float, float]]:
        first = to_ns(table.get("after", 0)) / NS
        if "at" in table:
            first = (self._timeline.ns(instant_of(table["at"])) - self._start) / NS
        first += to_ns(table.get("delay", 0)) / NS
        apart, count = to_ns(table.get("every", 0)) / NS, table.get("count", 1)
        if not apart:
            yield first, count * self._load
        else:
            yield from ((first + n * apart, self._load) for n in range(count))

    def _schedule(self, table: dict[str, Any]) -> Arriving:
        end = self._start + round(self._span * NS)
        schedule = schedule_of(table).in_zone(self._timeline.zone).begun(self._start)
        if schedule.from_end:
            raise InputError(
                "a fixed delay depends on the end of each run; a forecast needs a fixed rate, give 'every'"
            )
        bounds = [self._timeline.ns(instant_of(table[key])) if key in table else None for key in ("starts", "ends")]
        if any(bound is not None for bound in bounds):
            schedule = Within(schedule, *bounds)
        times = [(int(at) - self._start) / NS for at in schedule.span_ns(self._start, end)]
        overlap = table.get("overlap", "allow")
        jitter, poll = (to_ns(table.get(key, 0)) / NS for key in ("jitter", "poll"))
        count = table.get("count", 1) * self._load
        if overlap == "allow" and not jitter and not poll:
            return Arriving(table.get("kwargs", {}), tuple((at, count) for at in times))
        firings = Firings(times, overlap, jitter, poll)
        return Arriving(table.get("kwargs", {}), firings=firings, times=max(1, round(count)))

    # --- what goes wrong ----------------------------------------------------------------------------

    def _outages(self, name: str, retry: Retry) -> Iterator[Outage]:
        for number, table in enumerate(self._tables.get("faults", ())):
            kind = table["kind"]
            if table.get("job", name) != name or kind in ("away", "outage"):
                continue
            with self._source.at("faults", number):
                how = _OUTAGES.get(kind)
                if how is None or table.get("at", "start") != "start":
                    self._left_out.append(f"the fault {kind!r} of line {self._source.line(('faults', number))}")
                    continue
                since, until = self._span_of(table)
                if until <= since:
                    continue
                takes = to_ns(table["by"] if kind == "slow" else table.get("takes", 0)) / NS
                given = table.get("attempts", ())
                attempts = (given,) if isinstance(given, int) else tuple(given)
                error = error_of(table["error"]) if "error" in table else ConnectionError()
                then = _then(retry, error() if isinstance(error, type) else error)
                yield Outage(since, until, table.get("chance", 1.0), takes, attempts, how, then)

    def _span_of(self, table: dict[str, Any]) -> tuple[float, float]:
        if "between" not in table:
            return 0.0, self._span
        since, until = (
            (self._timeline.ns(instant_of(at), what="between") - self._start) / NS for at in table["between"]
        )
        return max(0.0, since), min(self._span, until)

    def _pools(self) -> tuple[WorkerPool, ...]:
        given = self._tables.get("workers", {})
        tables = given if isinstance(given, list) else [given]
        pools = [WorkerPool(table.get("count", 1), table.get("queues")) for table in tables]
        away: list[list[tuple[float, float, int]]] = [[] for _ in pools]
        for number, table in enumerate(self._tables.get("faults", ())):
            if table["kind"] != "away":
                continue
            since, until = self._span_of(table)
            with self._source.at("faults", number):
                chosen = range(len(pools)) if "queue" not in table else [pool_of(pools, table["queue"], "the fault")]
            for place in chosen if until > since else ():
                size = pools[place].size
                away[place].append((since, until, min(size, table.get("count", size))))
        return tuple(replace(pool, away=tuple(spans)) for pool, spans in zip(pools, away, strict=True))

    def _limits(self, streams: Sequence[Stream]) -> dict[str, QueueLimit]:
        found: dict[str, QueueLimit] = {}
        for name, table in self._tables.get("queues", {}).items():
            self._name_left_out("queues", f"the queue {name}", table)
            rate = starts_of(table["rate"]) if "rate" in table else None
            found[name] = QueueLimit(table.get("running"), None if rate is None else (rate[0], to_ns(rate[1]) / NS))
        for table in self._tables.get("faults", ()):
            since, until = self._span_of(table) if table["kind"] == "outage" else (0.0, 0.0)
            if until > since:
                names = [table["queue"]] if "queue" in table else sorted({stream.queue for stream in streams})
                for name in names:
                    limit = found.get(name, QueueLimit())
                    found[name] = replace(limit, closed=(*limit.closed, (since, until)))
        return {name: limit for name, limit in found.items() if limit != QueueLimit()}

    def _services(self) -> dict[str, CalledService]:
        found = {}
        for name, table in self._tables.get("services", {}).items():
            breaker = Breaker.read(table["breaker"]) if "breaker" in table else None
            found[name] = CalledService(table["capacity"], table.get("beyond", "slower"), breaker)
        return found


@dataclass(frozen=True)
class Arriving:
    """One way in which jobs arrive: at a rate, in bursts, or by a schedule (`times` times in parallel)."""

    kwargs: Mapping[str, Any]
    bursts: tuple[tuple[float, float], ...] = ()
    queue: str | None = None
    priority: int | None = None
    rate: Rate | None = None
    firings: Firings | None = None
    times: int = 1


def _then(retry: Retry, error: BaseException) -> Then:
    """Return what follows an error if attempts are left."""
    if retry.attempts == 1:
        return "dropped" if isinstance(error, retry.drop_on) else "retry"
    endless = Retry(2, 0, retry.on, retry.never_on, retry.drop_on)
    return endless.decide(1, error, 0, 0, random.Random)[0]


def _failing(ways: Sequence[Failing], kwargs: Mapping[str, Any], retry: Retry) -> tuple[float, Then]:
    """Return the share of attempts that fail of jobs with these arguments, and what follows."""
    left, then, found = 1.0, "retry", False
    for way in ways:
        if way.fits(kwargs):
            left *= 1.0 - way.share
            if not found:
                then, found = _then(retry, way.make()), True
    return 1.0 - left, then  # type: ignore[return-value]


_USUAL = {"ack": "late"}  # as if the key was not there


class Curve:
    """Rates over time: jobs a second, by the seconds since the begin."""

    def __init__(self, rates: list[Rate], start_ns: int) -> None:
        self._rates = rates
        self._start = start_ns

    def __call__(self, second: float) -> float:
        at = self._start + round(second * NS)
        return sum(rate.at(at) for rate in self._rates)
