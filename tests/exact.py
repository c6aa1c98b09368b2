"""The exact engine on a forecast's plant: every job by itself, measured like a forecast's replication."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np

from ironclock.core.durations import NS
from ironclock.core.engine import Engine
from ironclock.core.policy import JobType, Policy
from ironclock.core.pool import Pool
from ironclock.core.timeline import Timeline
from ironclock.forecasting.measure import measured
from ironclock.forecasting.plant import Crew, Stream
from ironclock.scenario.arrivals import Rate, arrive


def run(streams: Sequence[Stream], crew: Crew, span: float, step: float, seed: int) -> dict[str, float]:
    """Run a plant once; return its figures."""
    timeline = Timeline("UTC")
    start = timeline.ns("2031-03-03T00:00")
    engine = Engine(timeline, start, seed)
    engine.add_pool(Pool(crew.size, crew.queues))
    for stream in streams:
        _add(engine, stream, start, span)
    engine.advance_to(start + round(span * NS))
    outages = sorted({(o.since, o.until) for s in streams for o in s.outages})
    return measured(engine.history, start, span, step, crew.size, outages)


def _add(engine: Engine, stream: Stream, start: int, span: float) -> None:
    chance = engine.generator(f"fails:{stream.name}")

    def code() -> None:
        if chance.random() < stream.fails:
            raise ConnectionError("as modelled")

    policy = Policy(queue=stream.queue, retry=stream.retry, takes=stream.takes, timeout=stream.timeout)
    type = engine.types[stream.name] = JobType(code, stream.name, policy)
    for outage in stream.outages:
        between = tuple(engine.timeline.at(start + round(s * NS)) for s in (outage.since, outage.until))
        share = None if outage.share == 1 else outage.share
        engine.faults.fail(stream.name, between=between, chance=share, takes=outage.takes or 0)  # type: ignore[arg-type]

    def put(_: Any = None) -> None:
        engine.enqueue(type, (), {}, engine.now)

    for at, count in stream.bursts:
        for _ in range(int(count)):
            engine.plan(start + round(at * NS), put, None)
    if stream.rate:
        assert not callable(stream.rate)
        rate = Rate(engine.timeline, [(0, stream.rate)], None, None)
        arrive(rate, start, engine.generator(f"arrivals:{stream.name}"), engine.plan, put, start + round(span * NS))


def runs(one: Callable[[int], dict[str, float]], count: int) -> dict[str, np.ndarray[Any, np.dtype[np.float64]]]:
    """Return the figures of many runs, each as an array."""
    found = [one(seed) for seed in range(count)]
    return {name: np.array([figures[name] for figures in found]) for name in found[0]}
