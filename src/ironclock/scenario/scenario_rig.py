"""The rig of a scenario, built from its tables."""

from __future__ import annotations

import random
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from functools import partial
from typing import Any

from ..errors import EnqueueRefused, InputError
from ..foundation.distributions import spread_of
from ..foundation.durations import Duration, to_ns
from ..rig import Rig, simulation_of
from ..simulation.faults import KINDS
from ..simulation.faults.kind import Strike
from ..simulation.faults.placed import Aim, PlacedFault
from ..simulation.faults.placing import span_of
from ..simulation.policy import JobType
from .arrivals import Rate, arrive
from .called_services import Breaker, CalledService, RefusedCall, SlowedSpread
from .toml_reading import Source
from .values import callable_of, error_of, instant_of, retry_of, schedule_of, starts_of

_POLICY = ("queue", "timeout", "priority", "lease", "ack", "deliveries", "key", "unique", "expires")
_DAY = to_ns("1d")
_MOST = 1_000_000


@dataclass(frozen=True)
class Failing:
    """One way in which a modelled job fails: the share of its attempts, the error, and the keyword arguments of the
    jobs that it is about (none: all)."""

    share: float
    error: BaseException | type[BaseException]
    when: Mapping[str, Any]

    def fits(self, kwargs: Mapping[str, Any]) -> bool:
        """Return True if it is about a job with these keyword arguments."""
        return all(name in kwargs and kwargs[name] == value for name, value in self.when.items())

    def make(self) -> BaseException:
        """Return a new error to raise."""
        return self.error() if isinstance(self.error, type) else type(self.error)(*self.error.args)


class Modelled:
    """The code of a modelled job: it fails as often as the file says, and does nothing else."""

    def __init__(self, name: str, failing: Sequence[Failing]) -> None:
        self.__name__ = name
        self.failing = failing
        self.chance: random.Random | None = None

    def __call__(self, *args: Any, **kwargs: Any) -> None:
        for way in self.failing:
            if way.fits(kwargs) and self.chance is not None and self.chance.random() < way.share:
                raise way.make()


class World:
    """The rig of one run of a scenario, not run yet."""

    def __init__(
        self, source: Source, folders: list[str], seed: int | str | None, load: float = 1.0, prepare: bool = True
    ) -> None:
        self.source = source
        self._tables = source.tables
        self._folders = folders
        self._load = load
        self._prepare = prepare
        self._later: list[tuple[int, Callable[[], Any]]] = []
        tables = self._tables
        with source.at("start"):
            self.rig = Rig(
                start=instant_of(tables.get("start", "2031-03-03T09:00")), zone=tables.get("zone", "UTC"),
                seed=tables.get("seed", 0) if seed is None else seed, judged=False,
            )  # fmt: skip
        simulation = simulation_of(self.rig)
        self._loop = simulation.loop
        self._generators = simulation.generators
        self._timeline = simulation.timeline
        self.start = self.last = self._loop.now
        """The instant at which it begins, and the last instant at which the file lets something happen."""
        self.length_ns: int | None = None
        """How long it runs. None: until no job is open."""
        run = tables.get("run", "dry")
        if run != "dry":
            with source.at("run"):
                self.length_ns = to_ns(run, what="run")
        self.jobs: dict[str, JobType[..., Any]] = {}
        self._pools()
        for number, name in enumerate(tables.get("setup", ()) if prepare else ()):
            with source.at("setup", number):
                callable_of(name, folders)()
        self.services: dict[str, CalledService] = {}
        """What modelled jobs call, by name."""
        self._services()
        for name in tables["jobs"]:
            self._job(name)
        self._bounds()
        self._outside()
        self._faults()
        self._schedules()
        self._flows()
        self._enqueues()
        self._arrivals()

    def begin(self) -> None:
        """Enqueue and call what is due at the start, and schedule the rest. The rig must be entered."""
        for at, act in sorted(self._later, key=lambda pair: pair[0]):
            self.last = max(self.last, at)
            if at <= self.start:
                act()
            else:
                self._loop.schedule_world_event(at, lambda act: act(), act)

    # --- who works, and on what ---------------------------------------------------------------------

    def _pools(self) -> None:
        given = self._tables.get("workers", [])
        for number, pool in enumerate(given if isinstance(given, list) else [given]):
            with self.source.at("workers", *([number] if isinstance(given, list) else [])):
                self.rig.workers(pool.get("count", 1), queues=pool.get("queues"), skew=pool.get("skew", 0))

    def _job(self, name: str) -> None:
        table = self._tables["jobs"][name]
        path = ("jobs", name)
        shared = table.get("policy")
        if shared is not None:
            self.source.known("policies", shared, *path, "policy")
        policy = {**self._tables.get("policies", {}).get(shared, {}), **table}
        known = {key: policy[key] for key in _POLICY if key in policy}
        if "retry" in policy:
            home = (*path, "retry") if "retry" in table else ("policies", shared, "retry")
            with self.source.at(*home):
                known["retry"] = retry_of(policy["retry"], self._folders)
        fn: Callable[..., Any]
        if "call" in table:
            for key in ("takes", "fails", "calls"):
                if key in table:
                    raise self.source.error(
                        f"{name} is a real callable, which takes its own time and fails in its own way; leave {key} "
                        "out, it is "
                        "for a modelled job",
                        *path, key,
                    )  # fmt: skip
            with self.source.at(*path, "call"):
                fn = callable_of(table["call"], self._folders)
        else:
            fn = self._modelled(name, table)
        with self.source.at(*path):
            takes = table.get("takes")
            if "calls" in table:
                takes = SlowedSpread(spread_of(takes or 0), self.services[table["calls"]])
            self.jobs[name] = self.rig.job(fn, name=name, takes=takes, **known)

    def _modelled(self, name: str, table: dict[str, Any]) -> Modelled:
        given = table.get("fails", 0)
        ways = given if isinstance(given, list) else [given if isinstance(given, dict) else {"share": given}]
        failing = []
        with self.source.at("jobs", name, "fails"):
            for way in ways:
                error = error_of(way.get("error") or f"RuntimeError: {name} fails as modelled", self._folders)
                failing.append(Failing(way.get("share", 1.0), error, way.get("when", {})))
        made = Modelled(name, [way for way in failing if way.share])
        made.chance = self._generators.of(f"fails:{name}") if made.failing else None
        return made

    def _services(self) -> None:
        simulation = simulation_of(self.rig)
        for name, table in self._tables["jobs"].items():
            if "calls" in table:
                self.source.known("services", table["calls"], "jobs", name, "calls")
        for name, table in self._tables.get("services", {}).items():
            callers = {job for job, one in self._tables["jobs"].items() if one.get("calls") == name}
            with self.source.at("services", name, "breaker"):
                breaker = Breaker.read(table["breaker"]) if "breaker" in table else None
            self.services[name] = service = CalledService(
                name, table["capacity"], table.get("beyond", "slower"), breaker, callers, simulation.history,
                lambda: self._loop.now, self._generators.of(f"calls:{name}"),
            )  # fmt: skip
            refused = PlacedFault(aim=Aim(when=lambda attempt, callers=callers: attempt.job.name in callers),
                                  does=Strike(kind=RefusedCall(service)))  # fmt: skip
            simulation.placed_faults.add(refused)
            simulation.decide_tracking()

    def _bounds(self) -> None:
        for name, table in self._tables.get("queues", {}).items():
            with self.source.at("queues", name):
                rate = starts_of(table["rate"]) if "rate" in table else None
                self.rig.queue(name).limit(table.get("running"), per_key=table.get("per_key"), rate=rate)

    def _outside(self) -> None:
        from ..capture.readings import reading

        for number, table in enumerate(self._tables.get("taps", ())):
            with self.source.at("taps", number):
                named = {key: table[key] for key in ("after", "at", "queue", "priority") if key in table}
                reads = reading(job=table.get("job", 0), args=slice(table.get("args", 1), None), **named)
                callable_of(table["call"], self._folders)  # raises a clear error if there is none
                self.rig.tap(table["call"], reads=reads)
        for number, table in enumerate(self._tables.get("effects", ())):
            with self.source.at("effects", number):
                callable_of(table["call"], self._folders)
                self.rig.effect(table["name"], table["call"], key=table.get("key"), answers=table.get("answers", ...))
        for number, table in enumerate(self._tables.get("calls", ())):
            with self.source.at("calls", number):
                fn = callable_of(table["call"], self._folders)
                self._later.append(
                    (self._moment(table), partial(fn, *table.get("args", ()), **table.get("kwargs", {})))
                )

    # --- what happens -------------------------------------------------------------------------------

    def _moment(self, table: dict[str, Any]) -> int:
        if "after" in table and "at" in table:
            raise InputError("after and at are given; give one of the two")
        if "at" in table:
            at = self._timeline.ns(instant_of(table["at"]), what="at")
            if at < self.start:
                raise InputError(
                    f"at is {table['at']}, before the start, {self._timeline.text(self.start)}; give a later instant"
                )
            return at
        return self.start + to_ns(table.get("after", 0), what="after")

    def _type(self, name: str, *path: str | int) -> JobType[..., Any]:
        self.source.known("jobs", name, *path)
        return self.jobs[name]

    def _enqueues(self) -> None:
        for number, table in enumerate(self._tables.get("enqueue", ())):
            type = self._type(table["job"], "enqueue", number, "job")
            with self.source.at("enqueue", number):
                first, apart = self._moment(table), to_ns(table.get("every", 0), what="every")
                call = type.call(*table.get("args", ()), **table.get("kwargs", {}))
                more = {key: table[key] for key in ("queue", "priority") if key in table}
                delay: Duration | None = table.get("delay")
                for n in range(self._count(table, "enqueue", number)):
                    self._later.append((first + n * apart, partial(self._put, call, after=delay, **more)))

    def _count(self, table: dict[str, Any], *path: str | int) -> int:
        """Return how many jobs a table means."""
        count: int = round(table.get("count", 1) * self._load)
        if not self._prepare:
            return min(count, 1)
        if count > _MOST:
            raise self.source.error(
                f"{count:,} jobs are too many to run one by one, at most {_MOST:,}; use ironclock forecast",
                *path,
                "count",
            )
        return count

    def _put(self, call: Any, **how: Any) -> None:
        # If enqueueing is refused, the history says so. There is no code here that could handle the error.
        with suppress(EnqueueRefused):
            self.rig.enqueue(call, **how)

    def _arrivals(self) -> None:
        dry = self.length_ns is None
        until = self.start + (self.length_ns or _DAY)
        for number, table in enumerate(self._tables.get("arrivals", ())):
            type = self._type(table["job"], "arrivals", number, "job")
            with self.source.at("arrivals", number):
                rate = Rate.read(table, self._timeline, self._load)
                if dry and rate.until is None and self._prepare:
                    raise InputError("these arrivals have no end; give them 'until', or give 'run' a duration")
                call = type.call(*table.get("args", ()), **table.get("kwargs", {}))
            chance = self._generators.of(f"arrivals:{number}")
            end = rate.until or until if dry else until
            if dry:
                self.last = max(self.last, end)
            if self._prepare:
                arrive(rate, self.start, chance, self._loop.schedule_world_event, partial(self._put, call), end)

    def _schedules(self) -> None:
        for name, table in self._tables.get("schedules", {}).items():
            type = self._type(table["job"], "schedules", name, "job")
            with self.source.at("schedules", name):
                call = type.call(*table.get("args", ()), **table.get("kwargs", {}))
                more = {key: table[key] for key in ("overlap", "missed", "poll", "jitter") if key in table}
                bounds = {"start": "starts", "end": "ends"}
                more |= {name: instant_of(table[key]) for name, key in bounds.items() if key in table}
                count = self._count(table, "schedules", name)
                for n in range(count):
                    self.rig.schedule(name if count == 1 else f"{name}/{n + 1}", call, schedule_of(table), **more)

    def _flows(self) -> None:
        for name, steps in self._tables.get("flows", {}).items():
            with self.source.at("flows", name):
                flow = self.rig.flow(name)
                for number, table in enumerate(steps):
                    type = self._type(table["job"], "flows", name, number, "job")
                    more = {key: table[key] for key in ("after", "when", "over", "takes") if key in table}
                    what: Any = type
                    if "over" in more or more.get("takes"):
                        more["args"] = table.get("args", ())
                    else:
                        what = type.call(*table.get("args", ()), **table.get("kwargs", {}))
                    with self.source.at("flows", name, number):
                        flow.add(table.get("step", table["job"]), what, **more)
                flow.check()
                self._later.append((self.start, flow.start))

    def _faults(self) -> None:
        for number, table in enumerate(self._tables.get("faults", ())):
            path = ("faults", number)
            if "job" in table:
                self.source.known("jobs", table["job"], *path, "job")
            with self.source.at(*path):
                self._fault(table)

    def _fault(self, table: dict[str, Any]) -> None:
        faults, kind = self.rig.faults, table["kind"]
        rest = {key: value for key, value in table.items() if key != "kind"}
        if "between" in rest:
            rest["between"] = tuple(map(instant_of, rest["between"]))
        if "error" in rest:
            rest["error"] = error_of(rest["error"], self._folders)
        if kind == "refuse_enqueue" and "attempts" in rest:
            rest["calls"] = rest.pop("attempts")
        if kind in ("outage", "away", "jump_clock"):
            self._of_the_world(kind, rest)
            return
        job = rest.pop("job", None)
        allowed = _KEYS[kind]
        for key in rest:
            if key not in allowed and key != "calls":
                raise InputError(f"a fault of the kind {kind!r} has no key {key!r}; it has job, {', '.join(allowed)}")
        if kind in ("slow", "delay") and "by" not in rest:
            raise InputError(f"a fault of the kind {kind!r} needs 'by': how much longer")
        getattr(faults, kind)(job, **rest)

    def _of_the_world(self, kind: str, rest: dict[str, Any]) -> None:
        faults = self.rig.faults
        if kind == "jump_clock":
            if "by" not in rest:
                raise InputError("jump_clock needs 'by': how far, such as '-5m'")
            faults.jump_clock(rest["by"], at=rest.get("at"))
            if "at" in rest:
                self.last = max(self.last, self._timeline.ns(rest["at"], what="at"))
            return
        if "between" not in rest:
            raise InputError(f"a fault of the kind {kind!r} needs 'between': from when until when")
        if kind == "outage":
            faults.outage(rest["between"], queue=rest.get("queue"))
            return
        since, until = span_of(self._timeline, rest["between"])
        shutdown, queue, count = simulation_of(self.rig).shutdown, rest.get("queue"), rest.get("count")
        if queue is None and count is None:
            self._later.append((since, lambda: self.rig.stop_workers(grace="1000d")))
            self._later.append((until, self.rig.start_workers))
            return
        self._later.append((since, lambda: shutdown.send_away(queue, count)))
        self._later.append((until, lambda: shutdown.bring_back(queue, count)))


_HITS = ("attempts", "between", "chance")
_KEYS = {kind.name: (*_HITS, *kind.keys) for kind in KINDS if kind.keys is not None}
