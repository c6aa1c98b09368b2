"""The life of a job, alone: which steps there are, and that no other step can be taken."""

from __future__ import annotations

import itertools
from typing import Any

import pytest

from ironclock.foundation.instants import Timeline
from ironclock.history.job_records import job_records
from ironclock.simulation.jobs import CLOSED, OPEN, LiveJob
from ironclock.simulation.life import NEXT, JobLives
from ironclock.simulation.policy import JobType, Policy
from ironclock.simulation.pools import Pool
from ironclock.simulation.retry import Retry
from ironclock.simulation.simulation import Simulation

POOL = Pool(2)


def entered() -> tuple[JobLives, LiveJob, Simulation]:
    simulation = Simulation(Timeline("UTC"), 0)
    kind = JobType(lambda: None, "charge", Policy(retry=Retry(3)))
    job = LiveJob(simulation, kind, 1, (), {}, "default", 0, 0, 0)
    simulation.lives.enter(job)
    return simulation.lives, job, simulation


def test_every_state_has_its_next_ones() -> None:
    assert set(NEXT) == {*OPEN, *CLOSED}
    assert all(following <= set(NEXT) for following in NEXT.values())


def test_a_whole_life() -> None:
    lives, job, simulation = entered()
    first = lives.start(job, "w1", POOL)
    assert (job.state, job.running_attempt, lives.open_jobs) == ("running", first, 1)
    assert lives.back_off(first, "failed", ConnectionError("closed"), 10) == 10
    assert (job.state, job.due_ns, first.waited_ns) == ("backing-off", 10, 10)
    second = lives.start(job, "w1", POOL)
    lives.end(second, "crashed", "sleep")
    lives.redelivered(job, 20, "its worker is gone")
    lives.ready(job)
    third = lives.start(job, "w2", POOL)
    lives.done(third, "paid")
    assert (job.state, job.result, job.running_attempt, lives.open_jobs) == ("done", "paid", None, 0)
    whats = [entry.what for entry in simulation.history]
    assert whats == ["enqueued", "started", "failed", "started", "crashed", "redelivered", "started", "done"]
    (record,) = job_records(simulation.history)
    assert (record.state, len(record.attempts)) == ("done", 3)


def test_a_dead_letter_is_put_back_and_given_up() -> None:
    lives, job, _ = entered()
    lives.give_up(lives.start(job, "w1", POOL), "failed", ConnectionError("closed"), "dead")
    assert (job.state, lives.open_jobs) == ("dead", 0)
    lives.put_back(job, 5)
    assert (job.state, job.due_ns, lives.open_jobs) == ("ready", 5, 1)
    lives.give_up(lives.start(job, "w1", POOL), "failed", ConnectionError("closed"), "dead")
    lives.discard(job)
    assert job.state == "dropped"


def test_a_job_that_a_transaction_sets_aside() -> None:
    lives, job, _ = entered()
    assert lives.set_aside(job) == "ready"
    lives.bring_back(job, "ready")
    assert (job.state, lives.open_jobs) == ("ready", 1)
    lives.set_aside(job)
    lives.close(job, "withdrawn", "withdrawn")
    assert (job.state, lives.open_jobs) == ("withdrawn", 0)


def test_the_second_of_two_deliveries_changes_nothing_of_its_job() -> None:
    lives, job, _ = entered()
    lives.done(lives.start(job, "w1", POOL), None)
    again = lives.start(job, "w2", POOL, counts=False)
    lives.end(again, "done", None, -3)
    assert (job.state, job.attempts_made, lives.open_jobs) == ("done", 2, 0)


def steps() -> dict[str, Any]:
    return {
        "start": lambda lives, job: lives.start(job, "w1", POOL),
        "ready": lambda lives, job: lives.ready(job),
        "held": lambda lives, job: lives.held(job, "no network"),
        "redelivered": lambda lives, job: lives.redelivered(job, 0, "its worker is gone"),
        "put back": lambda lives, job: lives.put_back(job, 0),
        "discard": lambda lives, job: lives.discard(job),
    }


@pytest.mark.parametrize(("state", "step"), [
    ("done", "start"), ("dead", "start"), ("withdrawn", "start"), ("done", "ready"), ("running", "ready"),
    ("dead", "held"), ("done", "redelivered"), ("running", "discard"), ("done", "discard"), ("held", "put back"),
])  # fmt: skip
def test_an_illegal_step_is_an_error(state: str, step: str) -> None:
    lives, job, _ = entered()
    if state == "held":
        lives.held(job, "no network")
    elif state == "withdrawn":
        lives.close(job, "withdrawn", "withdrawn")
    else:
        attempt = lives.start(job, "w1", POOL)
        if state == "done":
            lives.done(attempt, None)
        elif state == "dead":
            lives.give_up(attempt, "failed", ConnectionError("closed"), "dead")
    before = job.state, lives.open_jobs
    with pytest.raises(AssertionError, match="cannot"):
        steps()[step](lives, job)
    if step not in ("start", "put back"):
        assert (job.state, lives.open_jobs) == before


def test_an_attempt_ends_once() -> None:
    lives, job, _ = entered()
    attempt = lives.start(job, "w1", POOL)
    lives.done(attempt, None)
    ends = (
        lambda: lives.done(attempt, None),
        lambda: lives.end(attempt, "crashed", "ack"),
        lambda: lives.back_off(attempt, "failed", ConnectionError("closed"), 1),
    )
    for end in itertools.islice(ends, 3):
        with pytest.raises(AssertionError):
            end()
    assert (job.state, lives.open_jobs) == ("done", 0)
