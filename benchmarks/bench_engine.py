"""The engine against the same model in simpy, and against a bare heapq loop; memory per history entry.

The model: 50,000 jobs are enqueued up front, one for each second, for 4 workers; each fails twice (its handler raises)
and then succeeds; exponential backoff from 10 s; the full history is kept. To enqueue is part of what is measured.
"""

from __future__ import annotations

import random
import tracemalloc
from heapq import heappop, heappush
from typing import Any

import simpy
from turns import in_turns, rate, ratio, verdict

import ironclock as ic

JOBS = 50_000


class Handler:
    """The code under test, the same object for every side: fails twice for each number."""

    def __init__(self) -> None:
        self.seen: dict[int, int] = {}

    def work(self, number: int) -> None:
        count = self.seen[number] = self.seen.get(number, 0) + 1
        if count < 3:
            raise ConnectionError("harbour office is down")


def on_ironclock(jobs: int = JOBS) -> ic.Rig:
    rig = ic.Rig(start="2031-03-03T00:00")
    rig.workers(4)
    kind = rig.job(Handler().work, retry=ic.Retry(3, ic.exponential("10s")))
    for number in range(jobs):
        rig.enqueue(kind.call(number), after=number)
    rig.run_dry("365d")
    assert rig.jobs().states() == {"done": jobs}
    assert len(rig.history) == jobs * 7
    return rig


def on_simpy(jobs: int = JOBS, service: float = 0) -> list[Any]:
    world = simpy.Environment()
    workers = simpy.Resource(world, 4)
    handler = Handler()
    history: list[Any] = []

    def attempt(number: int) -> Any:
        yield world.timeout(service)
        handler.work(number)

    def job(number: int) -> Any:
        yield world.timeout(number)
        history.append((world.now, "enqueued", number))
        for count in (1, 2, 3):
            with workers.request() as turn:
                yield turn
                history.append((world.now, "started", number, count))
                try:
                    yield world.process(attempt(number))
                except ConnectionError as error:
                    history.append((world.now, "failed", number, count, error))
                else:
                    history.append((world.now, "done", number, count))
                    return
            yield world.timeout(10 * 2 ** (count - 1))

    for number in range(jobs):
        world.process(job(number))
    world.run()
    assert len(history) == jobs * 7
    return history


def on_simpy_lean(jobs: int = JOBS) -> list[Any]:
    """The leanest form that simpy allows: four worker processes around one store, and a timeout for each arrival and
    each retry. No process for a job, and no service time."""
    world = simpy.Environment()
    ready = simpy.Store(world)
    handler = Handler()
    history: list[Any] = []

    def arrives(timeout: Any) -> None:
        ready.put(timeout.value)

    def later(delay: float, job: tuple[int, int]) -> None:
        world.timeout(delay, job).callbacks.append(arrives)

    def worker() -> Any:
        while True:
            number, count = yield ready.get()
            history.append((world.now, "started", number, count))
            try:
                handler.work(number)
            except ConnectionError as error:
                history.append((world.now, "failed", number, count, error))
                later(10 * 2 ** (count - 1), (number, count + 1))
            else:
                history.append((world.now, "done", number, count))

    for _ in range(4):
        world.process(worker())
    for number in range(jobs):
        history.append((world.now, "enqueued", number))
        later(number, (number, 1))
    world.run()
    assert len(history) == jobs * 7
    return history


def on_heapq(jobs: int = JOBS) -> list[Any]:
    """The limit to watch: the same events and the same handler, and nothing else."""
    handler = Handler()
    heap: list[Any] = []
    history: list[Any] = []
    for number in range(jobs):
        heappush(heap, (number, number, number, 1))
        history.append((number, "enqueued", number))
    order = jobs
    while heap:
        now, _, number, count = heappop(heap)
        history.append((now, "started", number, count))
        try:
            handler.work(number)
        except ConnectionError as error:
            history.append((now, "failed", number, count, error))
            order += 1
            heappush(heap, (now + 10 * 2 ** (count - 1), order, number, count + 1))
        else:
            history.append((now, "done", number, count))
    assert len(history) == jobs * 7
    return history


def attempts(side: Any, jobs: int = JOBS) -> Any:
    def work() -> int:
        side(jobs)
        return jobs * 3

    return rate(work)


def main() -> None:
    random.seed(0)
    few = {"ironclock": attempts(on_ironclock, 10_000), "simpy, leanest": attempts(on_simpy_lean, 10_000)}
    found = in_turns(few, 15)
    lean = ratio(found, "ironclock", "simpy, leanest")
    verdict(f"10,000 jobs: {lean:.2f} times the rate of the leanest form in simpy (at least 3)", lean >= 3)
    sides = {
        "ironclock": attempts(on_ironclock),
        "simpy": attempts(on_simpy),
        "simpy, leanest": attempts(on_simpy_lean),
        "bare heapq": attempts(on_heapq),
    }
    found = in_turns(sides, 5)
    against = ratio(found, "ironclock", "simpy")
    verdict(f"50,000 jobs: {against:.2f} times the rate of the same model in simpy (at least 4)", against >= 4)
    print(f"   {ratio(found, 'ironclock', 'simpy, leanest'):.2f} times the rate of the leanest form in simpy")
    print(f"   {ratio(found, 'ironclock', 'bare heapq'):.2f} times the rate of a bare heapq loop")
    tracemalloc.start()
    rig = on_ironclock(10_000)
    size = tracemalloc.get_traced_memory()[0] / len(rig.history)
    tracemalloc.stop()
    verdict(f"{size:.0f} bytes a history entry, jobs, attempts and errors included (at most 500)", size <= 500)
