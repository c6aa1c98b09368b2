"""The exact simulation on a forecast's workload: every job by itself, measured like a forecast's replication."""

from __future__ import annotations

import json
from contextlib import suppress
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from workloads import SCENARIOS, WORKLOADS

import ironclock as ic
from ironclock.errors import EnqueueRefused
from ironclock.forecasting.measured_figures import measured
from ironclock.forecasting.scenario_workload import workload_of
from ironclock.forecasting.workload import Outage, Stream, Workload
from ironclock.foundation.durations import NS
from ironclock.rig import Rig, simulation_of
from ironclock.scenario.arrivals import Rate, arrive
from ironclock.schedules.intervals import every

KEPT = Path(__file__).parent / "forecasting" / "exact_figures.json"
"""The figures of many exact runs of each workload. benchmarks/bench_forecast_accuracy.py makes them."""
SHARES = {"mean": None, "q05": 0.05, "q95": 0.95}
ALLOWED = {"mean": 0.02, "q05": 0.05, "q95": 0.05}
DOUBTS = 3
"""How many standard errors are doubt: more than a thousand figures are compared."""
FIGURES = (
    "jobs", "backlog_peak", "backlog_mean", "age_peak", "retries", "dead", "dropped", "attempts", "wait_mean", "busy",
    "recovery",
)  # fmt: skip


def run(workload: Workload, span: float, step: float, seed: int) -> dict[str, float]:
    """Run a workload once; return its figures."""
    rig = Rig(start="2031-03-03T00:00", zone="UTC", seed=seed)
    simulation = simulation_of(rig)
    start = simulation.loop.now
    for pool in workload.pools:
        rig.workers(pool.size, queues=pool.queues)  # type: ignore[arg-type]
    for name, limit in workload.limits.items():
        rate = None if limit.rate is None else (limit.rate[0], limit.rate[1])
        rig.queue(name).limit(limit.running, rate=rate)
        for span_ in limit.closed:
            rig.faults.outage(_between(rig, start, *span_), queue=name)
    for number, stream in enumerate(workload.streams):
        _add(rig, stream, f"{stream.name}/{number}", start, span)
    for pool in workload.pools:
        for since, until, count in pool.absences:
            assert count == pool.size
            simulation.loop.schedule_world_event(start + round(since * NS), lambda _: rig.stop_workers("1000d"), None)
            simulation.loop.schedule_world_event(start + round(until * NS), lambda _: rig.start_workers(), None)
    with rig:
        rig.advance(span)
    workers = sum(pool.size for pool in workload.pools)
    return measured(rig.history, start, span, step, workers, workload.outages)


def _between(rig: Rig, start: int, since: float, until: float) -> Any:
    timeline = simulation_of(rig).timeline
    return tuple(timeline.at(start + round(s * NS)) for s in (since, until))


def _add(rig: Rig, stream: Stream, name: str, start: int, span: float) -> None:
    simulation = simulation_of(rig)
    chance = simulation.generators.of(f"fails:{name}")

    def code() -> None:
        if chance.random() < stream.fails:
            raise ConnectionError("as modelled")

    code.__name__ = name
    type = rig.job(
        code, name=name, queue=stream.queue, retry=stream.retry, takes=stream.takes, timeout=stream.timeout,
        priority=stream.priority, expires=stream.expires,
    )  # fmt: skip
    for outage in stream.outages:
        _strike(rig, name, outage, start)

    def put(_: Any = None) -> None:
        with suppress(EnqueueRefused):
            simulation.broker.enqueue(type, (), {}, simulation.loop.now)

    for at, count in stream.bursts:
        for _ in range(int(count)):
            simulation.loop.schedule_world_event(start + round(at * NS), put, None)
    for number, firings in enumerate(stream.firings):
        apart = firings.times[0]
        assert list(firings.times) == [(n + 1) * apart for n in range(len(firings.times))]
        rig.schedule(
            f"{name}-{number}", type.call(), every(apart), overlap=firings.overlap, jitter=firings.jitter or None,
            poll=firings.poll or None, end=simulation.timeline.at(start + round((firings.times[-1] + 1) * NS)),
        )  # fmt: skip
    if stream.rate:
        assert not callable(stream.rate)
        rate = Rate(simulation.timeline, [(0, stream.rate)], None, None)
        generator = simulation.generators.of(f"arrivals:{name}")
        arrive(rate, start, generator, simulation.loop.schedule_world_event, put, start + round(span * NS))


def _strike(rig: Rig, name: str, outage: Outage, start: int) -> None:
    share = None if outage.share == 1 else outage.share
    common = {"between": _between(rig, start, outage.since, outage.until), "chance": share}
    if outage.attempts:
        common["attempts"] = tuple(outage.attempts)
    strike = {
        "fails": partial(rig.faults.fail, takes=outage.takes or 0), "slower": partial(rig.faults.slow, by=outage.takes or 0),
        "hangs": rig.faults.hang,
    }[outage.how]  # fmt: skip
    strike(name, **common)


def run_scenario(text: str, span: float, step: float, seed: int) -> dict[str, float]:
    """Run a scenario once; return its figures."""
    scenario = ic.Scenario.loads(text)
    workload = workload_of(scenario, span)
    rig = scenario.run(seed=seed).rig
    workers = sum(pool.size for pool in workload.pools)
    return measured(rig.history, workload.start_ns, span, step, workers, workload.outages)


def figures_of(name: str, seed: int) -> dict[str, float]:
    """Return the figures of one exact run of a workload of workloads.py."""
    if name in SCENARIOS:
        return run_scenario(*SCENARIOS[name], 1.0, seed)
    return run(*WORKLOADS[name], 1.0, seed)


def workload_and_span(name: str) -> tuple[Workload, float]:
    """Return a workload of workloads.py as a workload, and its span in seconds."""
    if name in SCENARIOS:
        text, span = SCENARIOS[name]
        return workload_of(ic.Scenario.loads(text), span), span
    return WORKLOADS[name]


def drawn(values: Any) -> dict[str, tuple[float, float]]:
    """Return the mean and the quantiles of some draws, each with its standard error (of quantiles: by the bootstrap)."""
    again = np.random.Generator(np.random.SFC64(1)).choice(values, (400, len(values)))
    found = {}
    for name, share in SHARES.items():
        if share is None:
            found[name] = float(values.mean()), float(values.std() / len(values) ** 0.5)
        else:
            found[name] = float(np.quantile(values, share)), float(np.quantile(again, share, axis=1).std())
    return found


def compare(name: str, replications: int = 300) -> tuple[int, float, list[str]]:
    """Compare the forecast of a workload with the figures that are kept.

    Returns how many figures were compared, by how much the farthest mean is off, and words about each that is off by
    more than the limits and the doubt."""
    workload, span = workload_and_span(name)
    found = ic.forecast(workload, span=span, replications=replications).figures
    compared, farthest, words = 0, 0.0, []
    kept = json.loads(KEPT.read_text())[name]
    runs = kept["runs"]
    for figure, wanted in kept["figures"].items():
        have = drawn(found[figure])
        for key, (value, doubt) in wanted.items():
            if not value or not np.isfinite(have[key][0]):
                continue
            compared += 1
            away = abs(have[key][0] - value)
            slack = DOUBTS * (doubt**2 + have[key][1] ** 2) ** 0.5
            if key == "mean":
                farthest = max(farthest, (away - slack) / abs(value))
            # Small counts are whole numbers: a quantile cannot be nearer than one. And the runs leave in doubt which share
            # of all days does not exceed the quantile that they have.
            if (
                key != "mean"
                and abs((found[figure] <= value).mean() - SHARES[key]) <= DOUBTS * (0.05 * 0.95 / runs) ** 0.5
            ):
                continue
            if away > ALLOWED[key] * abs(value) + slack and away > 1:
                words.append(f"{figure} {key} {have[key][0]:.4g} against {value:.4g}")
    return compared, farthest, words
