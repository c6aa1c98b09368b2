"""The parts of a forecast by themselves: lines, services, outcomes, recovery; and that no job is lost on the way."""

from __future__ import annotations

import json
from collections import deque
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import ironclock as ic
from ironclock.forecasting.forecast_figures import CALM_S, recovery
from ironclock.forecasting.quantile_tables import SIZE, durations, waits
from ironclock.forecasting.retries import AttemptOutcomes, Ranks
from ironclock.forecasting.scenario_workload import TREATED, workload_of
from ironclock.forecasting.waiting_line import WaitingLine
from ironclock.forecasting.worker_pool import PoolLoop
from ironclock.forecasting.workload import Outage, Stream, WorkerPool, Workload
from ironclock.foundation.distributions import spread_of

STEPS = st.lists(
    st.tuples(st.booleans(), st.lists(st.integers(0, 4), min_size=6, max_size=6), st.integers(0, 6), st.integers(0, 6)),
    max_size=40,
)


@settings(max_examples=150)
@given(STEPS)
def test_a_line_is_first_come_first_served(steps: list[tuple[bool, list[int], int, int]]) -> None:
    line = WaitingLine(3, 2)
    # By hand: for each column a row of records, each a list of how many of each rank.
    rows: list[deque[list[float]]] = [deque(), deque()]
    record = 0
    for onward, coming, *wanted in steps:
        record += onward
        came = np.array(coming, dtype=float).reshape(3, 2)
        line.push(record, came)
        for column in range(2):
            if rows[column] and not onward and rows[column][-1][3] == record:
                rows[column][-1][:3] = [a + b for a, b in zip(rows[column][-1][:3], came[:, column], strict=True)]
            else:
                rows[column].append([*came[:, column], record])
        there = [sum(sum(r[:3]) for r in rows[column]) for column in range(2)]
        ask = np.array([min(w, t) for w, t in zip(wanted, there, strict=True)], dtype=float)
        taken = line.take(ask)
        assert taken.sum(axis=0) == pytest.approx(ask, abs=1e-9)
        for column in range(2):
            left, by_hand = ask[column], [0.0, 0.0, 0.0]
            while left > 1e-9:
                head = rows[column][0]
                total = sum(head[:3])
                share = min(1.0, left / total) if total else 0.0
                for rank in range(3):
                    by_hand[rank] += head[rank] * share
                    head[rank] -= head[rank] * share
                left -= min(left, total)
                if sum(head[:3]) <= 1e-9:
                    rows[column].popleft()
            assert taken[:, column] == pytest.approx(by_hand, abs=1e-6)


def test_tables_keep_mean_timeout_and_policy() -> None:
    spread = spread_of({"median": "2s", "p95": "9s"})
    table = durations(spread, None, 0.5)
    assert len(table) == SIZE
    assert table.mean() * 0.5 == pytest.approx(spread.mean_ns / 1e9, rel=1e-9)
    assert (np.diff(table) >= 0).all()
    assert durations(spread, 3.0, 1.0).max() == 3.0
    fixed, jittered, last = waits(ic.Retry(attempts=3, wait=ic.exponential("10s", jitter=0.1)), 1.0)
    assert (fixed.min(), fixed.max()) == (pytest.approx(9, abs=0.1), pytest.approx(11, abs=0.1))
    assert jittered.mean() == pytest.approx(20, rel=0.01)
    assert (last == -1).all()
    computed = waits(ic.Retry(attempts=3, wait=lambda attempt, error: attempt * 5), 1.0)
    assert [row[0] for row in computed] == [5.0, 10.0, -1.0]
    (chained, _) = waits(ic.Retry(attempts=2, wait=ic.exponential("10s", jitter="decorrelated")), 1.0)
    assert 10 <= chained.min() < chained.max() <= 30


def test_outcomes_lose_nobody() -> None:
    columns, block = 50, 10
    retry = ic.Retry(attempts=3, wait=ic.exponential("15s", jitter="full"))
    outage = Outage(0.0, 100.0, 0.6, 5.0)
    ranks = Ranks([Stream("m", spread_of("2s"), fails=0.3, retry=retry, outages=[outage])], ["default"], False, 1.0)
    outcomes = AttemptOutcomes(ranks, columns, 1000, block, np.random.Generator(np.random.SFC64(2)))
    taken = np.tile(np.array([[40.0], [20.0], [10.0]]), (1, columns))
    lost = outcomes.cohorts(0, taken, np.array([0.6]), np.array([5.0]))
    back_by_bin, back_by_rank = outcomes.by_bin.sum(axis=(0, 1)), outcomes.by_block.sum(axis=0)
    assert back_by_bin == pytest.approx(back_by_rank.sum(axis=0), abs=1e-6)
    failed = 1 - 0.4 * 0.7
    assert lost.mean() == pytest.approx(10 * failed, rel=0.15)
    assert back_by_rank[0].sum() == 0, "nobody comes back at a first attempt"
    assert back_by_rank[1].mean() == pytest.approx(40 * failed, rel=0.1)
    assert back_by_rank[2].mean() == pytest.approx(20 * failed, rel=0.1)
    assert outcomes.by_bin[:block].sum() == 0, "and nobody before the block is over"


PLANTS = st.builds(
    lambda rate, takes, fails, attempts, wait, workers, burst, out: (
        [
            Stream(
                "m", spread_of(takes), rate=rate, fails=fails, retry=ic.Retry(attempts=attempts, wait=wait),
                bursts=[(120.0, burst)] if burst else [], outages=[Outage(300.0, 500.0, 1.0, out)] if out else [],
            )
        ],
        WorkerPool(workers),
    ),
    rate=st.sampled_from([0.0, 0.2, 3.0, 200.0]), takes=st.sampled_from(["0.2s", "2s", "20s"]),
    fails=st.sampled_from([0.0, 0.3]), attempts=st.integers(1, 4), wait=st.sampled_from(["1s", "20s", "90s"]),
    workers=st.sampled_from([1, 4, 500]), burst=st.sampled_from([0, 300]), out=st.sampled_from([0.0, 8.0]),
)  # fmt: skip


@settings(max_examples=5)
@given(PLANTS)
def test_every_job_is_waiting_or_was_started(made: tuple[list[Stream], WorkerPool]) -> None:
    streams, crew = made
    traces = PoolLoop(streams, crew, 1200, 1.0, 8, [1]).run()
    joined = traces.arrived.sum(axis=0) + traces.returned.sum(axis=0)
    left = traces.backlog[-1]
    # Part of a job may come back of a cohort, and is rounded to whole ones by chance.
    slack = 4 * np.sqrt(len(traces.backlog)) if traces.returned.any() else 1e-6
    assert (np.abs(joined - traces.started.sum(axis=0) - left) <= slack + 1e-3 * joined).all()
    assert (traces.backlog >= 0).all()
    assert (np.diff(traces.joined, axis=0) >= -1e-9).all()
    busy = traces.busy.sum(axis=0) / (1200 * crew.size)
    if not streams[0].outages and streams[0].takes.mean_ns < 3e9:
        assert (busy <= 1.05).all(), "workers do not work longer than there is time"
    assert (traces.dead.sum(axis=0) <= traces.arrived.sum(axis=0) + 1e-6).all()
    assert traces.joined[-1].sum(axis=0) == pytest.approx(joined, rel=0.02, abs=slack)


@settings(max_examples=100)
@given(st.lists(st.integers(0, 9), min_size=40, max_size=40), st.integers(5, 15), st.integers(1, 3))
def test_recovery_by_hand(course: list[int], end: int, workers: int) -> None:
    step = CALM_S / 5  # five calm bins
    backlog = np.array(course, dtype=np.float32)[:, None]
    (found,) = recovery(backlog, [(3 * step, end * step)], step, float(workers))
    level = max(course[:3]) + workers

    def calm(at: int) -> bool:
        span = course[at : at + 5]
        return len(span) > 0 and all(count <= level for count in span)

    wanted = next(((at - end) * step for at in range(end, len(course)) if calm(at)), float("inf"))
    assert found == wanted


@pytest.mark.parametrize(
    ("make", "says"),
    [
        (lambda: Outage(5.0, 5.0), "give an end after the begin"), (lambda: Outage(0.0, 1.0, 2.0), "share from 0 to 1"),
        (lambda: Stream("m", spread_of("1s"), fails=2.0), "share from 0 to 1"), (lambda: WorkerPool(0), "at least 1"),
        (lambda: Stream("m", spread_of("1s"), rate=-1.0), "the rate of m is -1.0; give jobs a second, at least 0"),
        (lambda: ic.forecast(Workload([], [WorkerPool(1)])), "the workload has no jobs"),
        (lambda: ic.forecast(Workload([Stream("m", spread_of("1s"))]), span="400d", bin="0.1s"), "bins are too many"),
        (lambda: ic.forecast(Workload([Stream("m", spread_of("1s"))]), replications=1), "at least 2"),
        (lambda: ic.forecast(Workload([Stream("m", spread_of("1s"), queue="x")], [WorkerPool(1, ["y"])])), "no workers serve the queue 'x' of m"),
    ],
)  # fmt: skip
def test_plants_that_cannot_be(make: Any, says: str) -> None:
    with pytest.raises(ic.InputError, match=says):
        make()


def test_workers_and_weights_are_kept_in_a_backlog() -> None:
    retry = ic.Retry()
    streams = [
        Stream(name, spread_of("1s"), bursts=[(0.0, 6000.0)], queue=name, retry=retry) for name in ("harbour", "desk")
    ]
    for queues, shares in (({"harbour": 3, "desk": 1}, (0.75, 0.25)), (["harbour", "desk"], (1.0, 0.0))):
        traces = PoolLoop(streams, WorkerPool(4, queues), 600, 1.0, 20, [3]).run()
        worked = 6000 - traces.waiting[-1].mean(axis=1)
        assert worked.sum() == pytest.approx(2400, rel=0.02)
        assert worked / worked.sum() == pytest.approx(shares, abs=0.02)


@pytest.mark.parametrize(
    ("bins", "wait"),
    [
        *(
            pytest.param(*one, marks=pytest.mark.exhaustive)
            for one in ((30_010, "5s"), (30_060, "90s"), (30_007, "90s"))
        ),
        pytest.param(30_007, "5s", marks=pytest.mark.exhaustive),
        (3_001, "0.5s"),
        (3_001, "2s"),
    ],
)
def test_spans_and_blocks_of_any_length(bins: int, wait: str) -> None:
    stream = Stream("m", spread_of("0.5s"), rate=0.5, fails=0.3, retry=ic.Retry(attempts=3, wait=wait))
    traces = PoolLoop([stream], WorkerPool(1), bins, 1.0, 2, [1]).run()
    assert len(traces.backlog) == bins
    assert traces.joined[-1].sum(axis=0) == pytest.approx(
        traces.arrived.sum(axis=0) + traces.returned.sum(axis=0), rel=0.02
    )
    assert traces.started.sum(axis=0) / traces.arrived.sum(axis=0) == pytest.approx(1.39, rel=0.06)


SCHEMA = json.loads((Path(ic.__file__).parent / "scenario" / "scenario.schema.json").read_text(encoding="utf-8"))
ONE_JOB = """
start = "2031-03-29T22:00"
zone = "UTC"
[workers]
count = 2
[jobs.weigh]
takes = "1s"
{jobs}
[[enqueue]]
job = "weigh"
count = 3
{enqueue}
[schedules.nightly]
job = "weigh"
cron = "30 1 * * *"
{schedules}
"""
LEFT_OUT = {
    ("jobs", "lease"): '"5m"', ("jobs", "ack"): '"early"', ("jobs", "deliveries"): "3", ("jobs", "unique"): '"refuse"',
}  # fmt: skip
EXTRA = {("jobs", "unique"): 'key = "crates"\n'}
SILENT = {"modelled", "without an effect on a forecast", "refused"}


def keys_of(table: str) -> set[str]:
    found = SCHEMA["$defs"]["pool"] if table == "workers" else SCHEMA["properties"][table]
    if "properties" not in found:
        found = found.get("additionalProperties") or found["items"]
    return set(found["properties"])


@pytest.mark.parametrize("table", sorted(TREATED))
def test_every_key_of_a_scenario_is_modelled_or_named(table: str) -> None:
    assert set(TREATED[table]) == keys_of(table)
    if table == "jobs":
        assert set(SCHEMA["properties"]["policies"]["additionalProperties"]["properties"]) <= set(TREATED[table])
    named = {(table, key) for key, words in TREATED[table].items() if words not in SILENT}
    elsewhere = {("jobs", "call"), ("queues", "per_key"), ("faults", "at")}
    assert named - elsewhere == {(of, key) for of, key in LEFT_OUT if of == table}


def test_every_table_of_a_scenario_is_treated() -> None:
    """Those of the world and of what is checked are read by the scenario; real code is named as left out."""
    world = {"title", "about", "start", "zone", "seed", "run", "expect", "forecast", "policies"}
    real = {"setup", "calls", "taps", "effects", "flows"}
    assert set(SCHEMA["properties"]) == {*TREATED, *world, *real}


@pytest.mark.parametrize(("table", "key"), LEFT_OUT)
def test_what_a_forecast_leaves_out_is_named(table: str, key: str) -> None:
    def left_out(line: str) -> str:
        filled = {"jobs": "", "schedules": "", "enqueue": "", table: line}
        text = ONE_JOB.format(**filled)
        if key == "unique":
            text = text.replace("count = 3", "count = 3\nkwargs = {crates = 3}")
        return "\n".join(workload_of(ic.Scenario.loads(text), 86_400).left_out)

    assert left_out("") == ""
    assert f"({key} = " in left_out(f"{EXTRA.get((table, key), '')}{key} = {LEFT_OUT[table, key]}")


def test_what_else_a_forecast_leaves_out_is_named() -> None:
    more = """
        [queues.default]
        per_key = 2
        running = 3
        [[faults]]
        kind = "crash"
        [[faults]]
        kind = "fail"
        at = "after charge"
    """
    text = ONE_JOB.format(jobs="", schedules="", enqueue="") + more
    found = workload_of(ic.Scenario.loads(text), 86_400)
    assert found.limits["default"].running == 3
    assert "the limit for jobs of the same key (per_key = 2)" in found.left_out[-1]
    assert [words for words in found.left_out if words.startswith("the fault 'crash'")]
    assert [words for words in found.left_out if words.startswith("the fault 'fail' of line")]


@pytest.mark.parametrize("load", [float("nan"), float("inf"), 0, -1, 1e10, True])
def test_a_load_that_cannot_be_used(load: float) -> None:
    scenario = ic.Scenario.loads(ONE_JOB.format(jobs="", schedules="", enqueue=""))
    with pytest.raises(ic.InputError, match="load is "):
        ic.forecast(scenario, span="1h", load=load, replications=2)
