"""The exact simulation on a forecast's workload: every job by itself, measured like a forecast's replication."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np

from ironclock.forecasting.measured_figures import measured
from ironclock.forecasting.workload import Stream, WorkerPool
from ironclock.foundation.durations import NS
from ironclock.foundation.instants import Timeline
from ironclock.scenario.arrivals import Rate, arrive
from ironclock.simulation.policy import JobType, Policy
from ironclock.simulation.queues import Pool
from ironclock.simulation.simulation import Simulation


def run(streams: Sequence[Stream], pool: WorkerPool, span: float, step: float, seed: int) -> dict[str, float]:
    """Run a workload once; return its figures."""
    timeline = Timeline("UTC")
    start = timeline.ns("2031-03-03T00:00")
    simulation = Simulation(timeline, start, seed)
    simulation.add_pool(Pool(pool.size, pool.queues))
    for stream in streams:
        _add(simulation, stream, start, span)
    simulation.loop.advance_to(start + round(span * NS))
    outages = sorted({(o.since, o.until) for s in streams for o in s.outages})
    return measured(simulation.history, start, span, step, pool.size, outages)


def _add(simulation: Simulation, stream: Stream, start: int, span: float) -> None:
    chance = simulation.generators.of(f"fails:{stream.name}")

    def code() -> None:
        if chance.random() < stream.fails:
            raise ConnectionError("as modelled")

    policy = Policy(queue=stream.queue, retry=stream.retry, takes=stream.takes, timeout=stream.timeout)
    type = simulation.broker.types[stream.name] = JobType(code, stream.name, policy)
    for outage in stream.outages:
        between = tuple(simulation.timeline.at(start + round(s * NS)) for s in (outage.since, outage.until))
        share = None if outage.share == 1 else outage.share
        simulation.faults.fail(stream.name, between=between, chance=share, takes=outage.takes or 0)  # type: ignore[arg-type]

    def put(_: Any = None) -> None:
        simulation.broker.enqueue(type, (), {}, simulation.loop.now)

    for at, count in stream.bursts:
        for _ in range(int(count)):
            simulation.loop.schedule_world_event(start + round(at * NS), put, None)
    if stream.rate:
        assert not callable(stream.rate)
        rate = Rate(simulation.timeline, [(0, stream.rate)], None, None)
        arrive(
            rate,
            start,
            simulation.generators.of(f"arrivals:{stream.name}"),
            simulation.loop.schedule_world_event,
            put,
            start + round(span * NS),
        )


def runs(one: Callable[[int], dict[str, float]], count: int) -> dict[str, np.ndarray[Any, np.dtype[np.float64]]]:
    """Return the figures of many runs, each as an array."""
    found = [one(seed) for seed in range(count)]
    return {name: np.array([figures[name] for figures in found]) for name in found[0]}
