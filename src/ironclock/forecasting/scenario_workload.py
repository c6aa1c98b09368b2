"""The workload of a scenario: everything that its forecast needs."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from ..errors import InputError
from ..foundation.distributions import Fixed
from ..foundation.durations import NS, to_ns
from ..scenario.arrivals import Rate
from ..scenario.scenario import Scenario
from ..scenario.scenario_rig import World
from ..scenario.values import instant_of, schedule_of
from ..simulation.policy import JobType
from .workload import Outage, Stream, WorkerPool, Workload

_MODELLED = "modelled"
_MOST_LOAD = 1e9
_NO_EFFECT = "without an effect on a forecast"

TREATED: dict[str, dict[str, str]] = {
    "jobs": {
        "call": "it is real code, and its duration is not known", "takes": _MODELLED, "fails": _MODELLED,
        "policy": _MODELLED, "queue": _MODELLED, "timeout": _MODELLED, "retry": _MODELLED, "key": _NO_EFFECT,
        "priority": "its place among the other jobs of its queue",
        "lease": "second deliveries of attempts that are longer than the lease",
        "ack": "jobs that are lost with a worker, or delivered again",
        "deliveries": "the limit of deliveries",
        "unique": "jobs that are refused, replaced or kept, as they are unique",
        "expires": "jobs that are dropped since they have waited too long",
    },
    "schedules": {
        "job": _MODELLED, "args": _NO_EFFECT, "kwargs": _NO_EFFECT, "cron": _MODELLED, "every": _MODELLED,
        "every_after": "refused", "once": _MODELLED, "rrule": _MODELLED, "zone": _MODELLED, "count": _MODELLED,
        "starts": _MODELLED, "ends": _MODELLED, "missed": _NO_EFFECT,
        "overlap": "firings that are left out or kept waiting while the job runs",
        "poll": "the time until the scheduler looks",
        "jitter": "its jitter",
    },
    "enqueue": {
        "job": _MODELLED, "args": _NO_EFFECT, "kwargs": _NO_EFFECT, "after": _MODELLED, "at": _MODELLED,
        "count": _MODELLED, "every": _MODELLED, "delay": _MODELLED,
        "queue": "the queue of this enqueue", "priority": "the priority of this enqueue",
    },
}  # fmt: skip
"""What a forecast does with each key of the tables of jobs (and policies), of schedules and of enqueues: it models the
key, the key makes no difference, or the forecast leaves out what these words say."""


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
        streams = []
        for name, type in self._jobs.items():
            table = self._tables["jobs"][name]
            rates, bursts = self._rates(name), tuple(self._bursts(name))
            if not rates and not bursts:
                continue
            if "call" in table:
                self._left_out.append(f"{name}: it is real code, and its duration is not known")
                continue
            policy = self._tables.get("policies", {}).get(table.get("policy"), {})
            self._name_left_out("jobs", name, {**policy, **table})
            streams.append(self._stream(type, table, rates, bursts))
        for key in ("flows", "taps", "calls", "queues"):
            if key in self._tables:
                self._left_out.append(f"[{key}]: a forecast leaves it out")
        if not streams:
            raise self._source.error(
                "the scenario has no modelled jobs that arrive, are enqueued or scheduled; add some"
            )
        pools = self._pools()
        # A fault for any job was found at each of them.
        left_out = tuple(dict.fromkeys(self._left_out))
        return Workload(streams, pools, self._start, str(self._timeline.zone), left_out)

    def _stream(
        self, type: JobType[..., Any], table: dict[str, Any], rates: list[Rate], bursts: tuple[tuple[float, float], ...]
    ) -> Stream:
        curve = Curve(rates, self._start)
        fails = table.get("fails", 0)
        return Stream(
            type.name, type.spread or Fixed(type.takes_ns), curve(0.0) if all(rate.steady for rate in rates) else curve,
            bursts, type.queue, fails["share"] if isinstance(fails, dict) else fails, type.retry,
            None if type.timeout_ns is None else type.timeout_ns / NS, tuple(self._outages(type.name)),
        )  # fmt: skip

    def _name_left_out(self, kind: str, name: str, table: dict[str, Any]) -> None:
        """Name what a forecast leaves out of a table."""
        for key, value in table.items():
            words = TREATED[kind].get(key, _MODELLED)
            if words not in (_MODELLED, _NO_EFFECT) and value != _USUAL.get(key):
                self._left_out.append(f"{name}: {words} ({key} = {value!r})")

    def _rates(self, name: str) -> list[Rate]:
        found = []
        for number, table in enumerate(self._tables.get("arrivals", ())):
            if table["job"] == name:
                with self._source.at("arrivals", number):
                    found.append(Rate.read(table, self._timeline, self._load))
        return found

    def _bursts(self, name: str) -> Iterator[tuple[float, float]]:
        for number, table in enumerate(self._tables.get("enqueue", ())):
            if table["job"] != name:
                continue
            self._name_left_out("enqueue", f"{name}, line {self._source.line(('enqueue', number))}", table)
            with self._source.at("enqueue", number):
                first = to_ns(table.get("after", 0)) / NS
                if "at" in table:
                    first = (self._timeline.ns(instant_of(table["at"])) - self._start) / NS
                first += to_ns(table.get("delay", 0)) / NS
                apart, count = to_ns(table.get("every", 0)) / NS, table.get("count", 1)
                if not apart:
                    yield first, count * self._load
                else:
                    yield from ((first + n * apart, self._load) for n in range(count))
        end = self._start + round(self._span * NS)
        for key, table in self._tables.get("schedules", {}).items():
            if table["job"] != name:
                continue
            self._name_left_out("schedules", f"the schedule {key}", table)
            with self._source.at("schedules", key):
                schedule = schedule_of(table).in_zone(self._timeline.zone).begun(self._start)
                if schedule.from_end:
                    raise InputError(
                        "a fixed delay depends on the end of each run; a forecast needs a fixed rate, give 'every'"
                    )
                for at in schedule.span_ns(self._start, end):
                    yield (int(at) - self._start) / NS, table.get("count", 1) * self._load

    def _outages(self, name: str) -> Iterator[Outage]:
        for number, table in enumerate(self._tables.get("faults", ())):
            kind = table["kind"]
            if table.get("job", name) != name or kind in ("away", "outage"):
                continue
            with self._source.at("faults", number):
                if kind == "fail" and "attempts" not in table and "at" not in table:
                    since, until = self._span_of(table)
                    takes = to_ns(table.get("takes", 0)) / NS
                    if until > since:
                        yield Outage(since, until, table.get("chance", 1.0), takes)
                else:
                    self._left_out.append(f"the fault {kind!r} of line {self._source.line(('faults', number))}")

    def _span_of(self, table: dict[str, Any]) -> tuple[float, float]:
        if "between" not in table:
            return 0.0, self._span
        since, until = (
            (self._timeline.ns(instant_of(at), what="between") - self._start) / NS for at in table["between"]
        )
        return max(0.0, since), min(self._span, until)

    def _pools(self) -> tuple[WorkerPool, ...]:
        given = self._tables.get("workers", {})
        pools = given if isinstance(given, list) else [given]
        away: list[tuple[float, float]] = []
        for table in self._tables.get("faults", ()):
            if table["kind"] == "away" or (table["kind"] == "outage" and "queue" not in table):
                since, until = self._span_of(table)
                if until > since:
                    away.append((since, until))
            elif table["kind"] == "outage":
                self._left_out.append(f"the outage of the queue {table['queue']!r} alone")
        return tuple(WorkerPool(pool.get("count", 1), pool.get("queues"), tuple(away)) for pool in pools)


_USUAL = {"priority": 0, "ack": "late", "overlap": "allow"}  # as if the key was not there


class Curve:
    """Rates over time: jobs a second, by the seconds since the begin."""

    def __init__(self, rates: list[Rate], start_ns: int) -> None:
        self._rates = rates
        self._start = start_ns

    def __call__(self, second: float) -> float:
        at = self._start + round(second * NS)
        return sum(rate.at(at) for rate in self._rates)
