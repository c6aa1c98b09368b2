"""A model of the engine, written apart from it, runs the same random stories. Every attempt must be at the same instant.

The model is a plain list of events and a few rules, in the words of docs/workers.md. All durations are odd numbers of
nanoseconds, so that hardly two things happen at one instant: what comes first then is not the business of the model.
"""

from __future__ import annotations

import heapq
import random
import time
from dataclasses import dataclass, field
from itertools import count
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import ironclock as ic

SECOND = 10**9
WAITING = ("held", "ready", "backing-off")


@dataclass
class Kind:
    """A job type: its policy."""

    name: str
    queue: str
    priority: int
    attempts: int
    wait: int
    within: int | None
    timeout: int | None
    expires: int | None
    lease: int | None
    deliveries: int | None
    unique: str | None


@dataclass
class Order:
    """What the test asks for, at one instant."""

    after: int
    kind: Kind
    key: int
    delay: int
    script: list[tuple[int, str]]
    """Of each attempt: how long it takes, and how it ends: ok, fail or crash (in the middle)."""
    withdraws: int | None = None


@dataclass
class Job:
    """A job of the model."""

    order: Order
    enqueued: int
    number: int
    state: str = "held"
    failures: int = 0
    first: int | None = None
    unacknowledged: int = 0
    attempts: list[list[Any]] = field(default_factory=list)
    counting: int | None = None  # the number of the attempt whose end the queue waits for


class Model:
    """The engine in the words of its documentation."""

    def __init__(self, workers: int, limit: int | None) -> None:
        self.now = 0
        self.free = workers
        self.limit = limit  # of queue b: how many of its jobs run at once
        self.running_b = 0
        self.events: list[tuple[int, int, int, str, Any]] = []
        self.entry = count()
        self.line: list[tuple[int, int, Job]] = []
        self.jobs: list[Job] = []

    def at(self, when: int, priority: int, what: str, about: Any) -> None:
        heapq.heappush(self.events, (when, priority, next(self.entry), what, about))

    def enqueue(self, order: Order) -> str:
        kind = order.kind
        pending = [
            job for job in self.jobs
            if kind.unique and job.order.kind is kind and job.order.key == order.key and job.state in WAITING
        ]  # fmt: skip
        if pending and kind.unique == "refuse":
            return "refused"
        if pending and kind.unique == "keep":
            return "kept"
        for job in pending:
            job.state = "withdrawn"
        job = Job(order, self.now, len(self.jobs) + 1)
        self.jobs.append(job)
        self.at(self.now + order.delay, kind.priority, "due", job)
        if kind.expires is not None:
            self.at(self.now + kind.expires, 0, "expires", job)
        return "enqueued"

    def withdraw(self, number: int) -> None:
        if self.jobs and self.jobs[number % len(self.jobs)].state in WAITING:
            self.jobs[number % len(self.jobs)].state = "withdrawn"

    def run(self, until: int) -> None:
        while self.events and self.events[0][0] <= until:
            self.now, _, _, what, about = heapq.heappop(self.events)
            getattr(self, what.replace(" ", "_"))(about)
            self.dispatch()
        self.now = until

    # --- events -------------------------------------------------------------------------------------

    def due(self, job: Job) -> None:
        if job.state in WAITING:
            job.state = "ready"
            heapq.heappush(self.line, (job.order.kind.priority, next(self.entry), job))

    def expires(self, job: Job) -> None:
        if job.state in ("held", "ready") and not job.attempts:
            job.state = "dropped"

    def dispatch(self) -> None:
        kept = []
        while self.line and self.free:
            turn = heapq.heappop(self.line)
            job, kind = turn[2], turn[2].order.kind
            if job.state != "ready":
                continue
            if (
                job.failures
                and kind.within is not None
                and job.first is not None
                and self.now - job.first > kind.within
            ):
                job.state = "dead"
            elif kind.queue == "b" and self.limit is not None and self.running_b >= self.limit:
                kept.append(turn)
            else:
                self.start(job)
        for turn in kept:
            heapq.heappush(self.line, turn)

    def start(self, job: Job) -> None:
        kind = job.order.kind
        number = len(job.attempts) + 1
        job.state, job.counting = "running", number
        job.first = self.now if job.first is None else job.first
        job.attempts.append([self.now, None, "running"])
        self.free -= 1
        self.running_b += kind.queue == "b"
        takes, ends = job.order.script[min(number, len(job.order.script)) - 1]
        if ends == "crash":
            takes //= 2
        if kind.timeout is not None and kind.timeout < takes:
            takes, ends = kind.timeout, "time out"
        self.at(self.now + takes, kind.priority, "ends", (job, number, ends))
        if kind.lease is not None:
            self.at(self.now + kind.lease, 1 << 62, "lease ends", (job, number))

    def lease_ends(self, about: tuple[Job, int]) -> None:
        job, number = about
        if job.state == "running" and job.counting == number:
            job.counting = None
            self.put_back(job)

    def put_back(self, job: Job) -> None:
        job.unacknowledged += 1
        limit = job.order.kind.deliveries
        if limit is not None and job.unacknowledged >= limit:
            job.state = "dead"
        else:
            job.state = "held"
            self.at(self.now, job.order.kind.priority, "due", job)

    def ends(self, about: tuple[Job, int, str]) -> None:
        job, number, how = about
        kind = job.order.kind
        self.free += 1
        self.running_b -= kind.queue == "b"
        counts = job.counting == number and job.state == "running"
        words = {"ok": "done", "fail": "failed", "time out": "timed-out", "crash": "crashed"}[how]
        job.attempts[number - 1][1:] = [self.now, words]
        if how == "ok" and job.state in (*WAITING, "running"):
            job.state = "done"  # of several attempts the first that returns has done it
        elif not counts:
            return
        elif how == "crash":
            if kind.lease is None:  # with a lease, that has to end first
                self.put_back(job)
        elif how in ("fail", "time out"):
            job.failures += 1
            late = kind.within is not None and self.now - (job.first or 0) + kind.wait > kind.within
            if job.failures >= kind.attempts or late:
                job.state = "dead"
            else:
                job.state = "backing-off"
                self.at(self.now + kind.wait, kind.priority, "due", job)


# --- stories ----------------------------------------------------------------------------------------------


def odd(chance: random.Random, most: int) -> int:
    """Return a duration of up to so many seconds that is hardly another one as well."""
    return chance.randrange(SECOND // 1000, most * SECOND) | 1


def maybe(chance: random.Random, share: float, value: Any) -> Any:
    return value if chance.random() < share else None


def story(chance: random.Random) -> tuple[int, int | None, list[Order]]:
    kinds = [
        Kind(
            f"kind{number}", chance.choice("ab"), chance.randrange(3), chance.randrange(1, 4), odd(chance, 30),
            maybe(chance, 0.2, odd(chance, 90)), maybe(chance, 0.3, odd(chance, 20)), maybe(chance, 0.3, odd(chance, 60)),
            maybe(chance, 0.25, odd(chance, 30)), maybe(chance, 0.3, chance.randrange(1, 4)),
            maybe(chance, 0.4, chance.choice(["refuse", "keep", "replace"])),
        )
        for number in range(chance.randrange(1, 4))
    ]  # fmt: skip
    orders = []
    for _ in range(chance.randrange(1, 14)):
        kind = chance.choice(kinds)
        delay = chance.choice([0, odd(chance, 40)])
        if kind.expires is not None and delay > kind.expires:
            delay = 0  # a delay beyond the expiry is refused
        script = [
            (odd(chance, 25), chance.choices(["ok", "fail", "crash"], [6, 3, 2])[0])
            for _ in range(chance.randrange(1, 5))
        ]
        script.append((odd(chance, 5), "ok"))  # at last it succeeds
        orders.append(
            Order(odd(chance, chance.choice([1, 20])), kind, chance.randrange(2), delay, script,
                  maybe(chance, 0.15, chance.randrange(20)))
        )  # fmt: skip
    return chance.randrange(1, 4), maybe(chance, 0.4, chance.randrange(1, 3)), orders


def as_the_model(workers: int, limit: int | None, orders: list[Order]) -> list[Any]:
    model = Model(workers, limit)
    told: list[Any] = []
    for order in orders:
        model.run(model.now + order.after)
        told.append(model.enqueue(order))
        model.run(model.now)  # what is due now begins
        if order.withdraws is not None:
            model.withdraw(order.withdraws)
    model.run(model.now + 3600 * SECOND)
    return [told, [(job.state, job.attempts) for job in model.jobs]]


def as_the_engine(workers: int, limit: int | None, orders: list[Order]) -> list[Any]:
    with ic.Rig(seed=1) as rig:
        rig.workers(workers)
        if limit is not None:
            rig.queue("b").limit(running=limit)
        start = rig.now
        taken: dict[int, int] = {}
        crashes: set[tuple[int, int]] = set()

        def body(number: int, key: int) -> None:
            mine = taken[number] = taken.get(number, 0) + 1
            script = orders[number].script
            takes, ends = script[min(mine, len(script)) - 1]
            time.sleep(takes // 2 / SECOND)
            rest = takes - takes // 2
            time.sleep(rest / SECOND)
            if ends == "fail":
                raise OSError("as the script says")

        for number, order in enumerate(orders):
            for attempt in range(1, 20):
                if order.script[min(attempt, len(order.script)) - 1][1] == "crash":
                    crashes.add((number, attempt))
        types: dict[str, Any] = {}
        for order in orders:
            kind = order.kind
            if kind.name in types:
                continue
            types[kind.name] = rig.job(
                body, name=kind.name, queue=kind.queue, priority=kind.priority, timeout=seconds(kind.timeout),
                retry=ic.Retry(kind.attempts, kind.wait / SECOND, within=seconds(kind.within)), key="key",
                expires=seconds(kind.expires), lease=seconds(kind.lease), deliveries=kind.deliveries, unique=kind.unique,  # type: ignore[arg-type]
            )  # fmt: skip
            rig.faults.crash(
                kind.name, at="sleep", visits=2, when=lambda attempt: (attempt.job.args[0], attempt.number) in crashes
            )
        told = []
        for number, order in enumerate(orders):
            rig.advance(order.after / SECOND)
            before = len(rig.jobs())
            try:
                rig.enqueue(types[order.kind.name], number, order.key, after=order.delay / SECOND)
                told.append("enqueued" if len(rig.jobs()) > before else "kept")
            except ic.DuplicateJob:
                told.append("refused")
            rig.settle()
            if order.withdraws is not None and rig.jobs():
                job = rig.jobs()[order.withdraws % len(rig.jobs())]
                if job.state in WAITING:
                    job.withdraw()
        rig.advance("1h")
        epoch = round(start.timestamp()) * SECOND

        def instants(attempt: ic.Attempt) -> list[Any]:
            ended = None if attempt.ended_ns is None else attempt.ended_ns - epoch
            return [attempt.started_ns - epoch, ended, attempt.outcome]

        return [told, [(job.state, [instants(one) for one in job.attempts]) for job in rig.jobs()]]


def seconds(ns: int | None) -> float | None:
    return None if ns is None else ns / SECOND


def must_agree(seed: int) -> None:
    workers, limit, orders = story(random.Random(seed))
    assert as_the_engine(workers, limit, orders) == as_the_model(workers, limit, orders), f"story {seed}"


pytestmark = pytest.mark.filterwarnings("ignore:the lease of:ironclock.RigWarning")


@settings(max_examples=150)
@given(st.integers(0, 10**9))
def test_the_engine_does_what_the_model_does(seed: int) -> None:
    must_agree(seed)


@pytest.mark.exhaustive
def test_the_engine_does_what_the_model_does_in_many_stories() -> None:
    for seed in range(1_500):
        must_agree(seed)
