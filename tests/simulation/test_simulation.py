"""The simulation alone: no interpreter layer, no patching. Time passes by modelled work."""

from __future__ import annotations

import random
from typing import Any

import pytest

from ironclock.errors import JobsLeftOpen, PolicyError, RigStateError
from ironclock.foundation.durations import NS
from ironclock.foundation.instants import Timeline
from ironclock.simulation.event_loop import ONE_EVENT
from ironclock.simulation.jobs import LiveJob
from ironclock.simulation.policy import JobType, Policy
from ironclock.simulation.pools import Pool
from ironclock.simulation.retry import Retry, exponential
from ironclock.simulation.simulation import Simulation

START = 1_900_000_000 * NS


def simulation(workers: int = 1, queues: Any = None) -> Simulation:
    made = Simulation(Timeline("UTC"), START, seed=5)
    made.add_pool(Pool(workers, queues))
    return made


def put(
    world: Simulation, fn: Any, *args: Any, after: float = 0, queue: str = "default", priority: int = 0, **policy: Any
) -> LiveJob:
    return world.broker.enqueue(
        JobType(fn, getattr(fn, "__name__", "job"), Policy(**policy)),
        args,
        {},
        world.loop.now + round(after * NS),
        queue,
        priority,
    )


def idle() -> None:
    return


def at(world: Simulation) -> float:
    return (world.loop.now - START) / NS


@pytest.mark.parametrize(("workers", "ends"), [(2, [5, 5]), (1, [5, 10]), (3, [5, 5])])
def test_two_jobs_of_five_seconds(workers: int, ends: list[float]) -> None:
    world = simulation(workers)
    jobs = [put(world, idle, takes="5s") for _ in range(2)]
    world.run_dry(NS * 60)
    assert [(job.attempts[0].ended_ns - START) / NS for job in jobs] == ends


def test_ties_break_by_instant_then_priority_then_order() -> None:
    world, ran = simulation(), []
    for name, after, priority in [("d", 2, 0), ("b", 1, 5), ("c", 1, 5), ("a", 1, -1), ("e", 2, 0)]:
        put(world, ran.append, name, after=after, priority=priority)
    world.run_dry(NS * 60)
    assert ran == list("abcde")


def test_a_waiting_line_goes_by_priority_then_arrival() -> None:
    world, ran = simulation(), []
    put(world, idle, takes="10s")
    for name, priority in [("c", 3), ("a", 1), ("d", 3), ("b", 2)]:
        put(world, ran.append, name, after=1, priority=priority)
    world.run_dry(NS * 60)
    assert ran == list("abcd")


def test_advance_stops_where_it_was_told_and_step_takes_one() -> None:
    world, ran = simulation(), []
    for after in (1, 2, 3):
        put(world, ran.append, after, after=after)
    assert world.loop.next_due_ns == START + NS
    world.loop.advance_to(START + 2 * NS)
    assert ran == [1, 2]
    assert at(world) == 2
    world.loop.run_until(world.loop.next_due_ns or 0, ONE_EVENT)
    assert ran == [1, 2, 3]
    assert world.loop.next_due_ns is None


def test_retries_back_off_and_end_as_dead_letters() -> None:
    world = simulation()

    def fails() -> None:
        raise OSError("no")

    job = put(world, fails, retry=Retry(3, exponential("10s")))
    world.run_dry(NS * 3600)
    assert job.state == "dead"
    assert [(a.started_ns - START) // NS for a in job.attempts] == [0, 10, 30]
    assert [a.waited_ns // NS for a in job.attempts[:2]] == [10, 20]
    assert job.attempts[2].reader.waited is None
    assert isinstance(job.error, OSError)
    assert job.attempts[0].line.startswith("simulation/test_simulation.py:")
    world.broker.requeue(job)
    world.run_dry(NS * 3600)
    assert (job.state, len(job.attempts)) == ("dead", 6), "a fresh set of attempts"
    world.broker.discard(job)
    assert job.state == "dropped"
    with pytest.raises(RigStateError, match="only a dead letter"):
        world.broker.discard(job)


def test_a_timeout_ends_modelled_work_and_hanging() -> None:
    world = simulation()
    job = put(world, idle, takes="40s", timeout="30s", retry=Retry(2, "5s"))
    exact = put(world, idle, takes="30s", timeout="30s", after=100)
    world.run_dry(NS * 3600)
    assert [a.outcome for a in job.attempts] == ["timed-out", "timed-out"]
    assert (job.attempts[0].ended_ns - job.attempts[0].started_ns) == 30 * NS
    assert "30s" in str(job.error)
    assert exact.state == "done", "just in time"


@pytest.mark.parametrize("weights", [{"a": 7, "b": 2, "c": 1}, {"a": 1, "b": 1, "c": 1}, {"a": 5, "b": 3, "c": 2}])
def test_weights_are_exact_over_any_full_round(weights: dict[str, int]) -> None:
    world, ran = simulation(1, weights), []
    order = [name for name in weights for _ in range(300)]
    random.Random(3).shuffle(order)
    put(world, idle, takes="1s", queue="a")
    for name in order:
        put(world, ran.append, name, after=0.5, queue=name)
    world.run_dry(NS * 60)
    total = sum(weights.values())
    for start in range(0, 200, total):
        round_ = ran[start : start + total]
        assert {name: round_.count(name) for name in weights} == weights


def test_strict_order_serves_the_first_queue_first() -> None:
    world, ran = simulation(1, ["urgent", "slow"]), []
    put(world, idle, takes="1s", queue="slow")
    for name in ("slow", "urgent", "slow", "urgent"):
        put(world, ran.append, name, after=0.5, queue=name)
    world.run_dry(NS * 60)
    assert ran == ["urgent", "urgent", "slow", "slow"]


def test_withdrawing() -> None:
    world = simulation()
    busy, waiting, held = put(world, idle, takes="10s"), put(world, idle, after=1), put(world, idle, after=20)
    world.loop.advance_to(START + 5 * NS)
    assert (busy.state, waiting.state, held.state) == ("running", "ready", "held")
    world.withdraw(waiting)
    world.withdraw(held)
    with pytest.raises(RigStateError, match="running"):
        world.withdraw(busy)
    world.run_dry(NS * 60)
    assert [job.attempts_made for job in (busy, waiting, held)] == [1, 0, 0]
    assert world.loop.next_due_ns is None


def test_what_is_left_open_is_named() -> None:
    world = simulation()
    world.faults.hang("idle")
    put(world, idle)
    put(world, idle, after=7)
    with pytest.raises(
        JobsLeftOpen, match=r"idle-1 is running .* on w1; idle-2 is ready \(no worker is free\)|idle-2 is ready"
    ):
        world.run_dry(NS * 60)


def test_a_queue_that_nobody_serves_is_an_error_and_loses_nothing() -> None:
    world = simulation(1, ["harbour"])
    with pytest.raises(PolicyError, match="did you mean 'harbour'"):
        put(world, idle, queue="harbor")
    assert world.broker.jobs == []


def test_one_purpose_does_not_shift_another() -> None:
    alone, both = Simulation(Timeline("UTC"), START, 7), Simulation(Timeline("UTC"), START, 7)
    both.generators.of("ids").random()
    assert alone.generators.of("jitter").random() == both.generators.of("jitter").random()


def test_moving_the_clock_from_inside_a_job_is_refused() -> None:
    world = simulation()
    job = put(world, lambda: world.loop.advance_to(START + NS))
    world.run_dry(NS)
    assert job.state == "dead"
    assert "inside a job" in str(job.error)
