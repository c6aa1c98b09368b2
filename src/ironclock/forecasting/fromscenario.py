"""A scenario's plant: what its forecast is about."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from ..core.durations import NS, to_ns
from ..core.errors import InputError
from ..core.policy import JobType
from ..core.spreads import Fixed
from ..scenario.arrivals import Rate
from ..scenario.parts import instant_of, schedule_of
from ..scenario.scenario import Scenario
from ..scenario.world import World
from .plant import Crew, Outage, Plant, Stream


def plant_of(scenario: Scenario, span: float, load: float = 1.0) -> Plant:
    """Return the plant of a scenario for a span in seconds: its arrivals and schedules, how long its jobs take and how
    often they fail, its retries, workers and outages. `load` is what every rate and count is multiplied by.

    Raises `ScenarioError` or `InputError`. What has no part in it is named in `Plant.left_out`.
    """
    world = scenario.world(prepare=False)  # only what its jobs are is asked for; no code of theirs runs
    return _Reader(scenario, world, span, load).plant()


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

    def plant(self) -> Plant:
        streams = []
        for name, type in self._jobs.items():
            table = self._tables["jobs"][name]
            rates, bursts = self._rates(name), tuple(self._bursts(name))
            if not rates and not bursts:
                continue
            if "call" in table:
                self._left_out.append(f"{name}: it is real code; how long it takes is not known")
                continue
            streams.append(self._stream(type, table, rates, bursts))
        for key in ("flows", "taps", "calls", "queues"):
            if key in self._tables:
                self._left_out.append(f"[{key}]: a forecast takes no part of it")
        if not streams:
            raise self._source.error("there is nothing to forecast: no modelled job arrives, is enqueued or scheduled")
        crews = self._crews()
        # A fault that is meant for any job has been come across at each.
        left_out = tuple(dict.fromkeys(self._left_out))
        return Plant(streams, crews, self._start, str(self._timeline.zone), left_out)

    def _stream(
        self, type: JobType, table: dict[str, Any], rates: list[Rate], bursts: tuple[tuple[float, float], ...]
    ) -> Stream:
        curve = Curve(rates, self._start)
        fails = table.get("fails", 0)
        return Stream(
            type.name, type.spread or Fixed(type.takes_ns), curve(0.0) if all(rate.steady for rate in rates) else curve,
            bursts, type.queue, fails["share"] if isinstance(fails, dict) else fails, type.retry,
            None if type.timeout_ns is None else type.timeout_ns / NS, tuple(self._outages(type.name)),
        )  # fmt: skip

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
            with self._source.at("schedules", key):
                schedule = schedule_of(table).in_zone(self._timeline.zone).begun(self._start)
                if schedule.from_end:
                    raise InputError("a fixed delay depends on each run's end; a forecast takes a fixed rate: 'every'")
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

    def _crews(self) -> tuple[Crew, ...]:
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
        return tuple(Crew(pool.get("count", 1), pool.get("queues"), tuple(away)) for pool in pools)


class Curve:
    """Rates over time, as a stream takes them: jobs a second, by the seconds since the begin."""

    def __init__(self, rates: list[Rate], start_ns: int) -> None:
        self._rates = rates
        self._start = start_ns

    def __call__(self, second: float) -> float:
        at = self._start + round(second * NS)
        return sum(rate.at(at) for rate in self._rates)
