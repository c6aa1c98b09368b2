"""The simulation alone, with decisions that the test makes."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from ironclock.foundation.instants import Timeline
from ironclock.simulation.decisions import Event
from ironclock.simulation.faults import KINDS
from ironclock.simulation.faults.kind import Passing, Strike
from ironclock.simulation.policy import JobType, Policy
from ironclock.simulation.retry import Retry
from ironclock.simulation.simulation import Simulation

MINUTE = 60 * 10**9


def fault(name: str, by_ns: int = 0) -> Strike:
    kind = next(kind for kind in KINDS if kind.name == name)
    return Strike(kind=kind, by_ns=by_ns, raises=OSError("placed by the test"))


class Chosen:
    """Strikes at chosen seams, and lets the last of several events go first."""

    chooses_order = True
    only_jobs = None
    asks_deliveries = asks_inside_jobs = True
    kills_workers = False

    def __init__(self, **struck: Strike) -> None:
        self.struck = struck
        self.seen: list[str] = []

    def strikes(self, passing: Passing) -> Strike | None:
        self.seen.append(passing.seam)
        return self.struck.pop(passing.seam, None)

    def locks(self, task: Any, where: str) -> None:
        return None

    def chooses(self, events: Sequence[Event]) -> int:
        return len(events) - 1

    def leaves_out(self, name: str) -> bool:
        return name == "work-3"


def world(decisions: Chosen) -> tuple[Simulation, JobType[..., Any], list[int]]:
    simulation = Simulation(Timeline("UTC"), 0)
    simulation.decide_with(decisions)
    ran: list[int] = []
    kind = simulation.broker.types["work"] = JobType(ran.append, "work", Policy(retry=Retry(3, "10s")))
    return simulation, kind, ran


def test_it_is_asked_at_every_seam_and_its_faults_strike() -> None:
    decisions = Chosen(start=fault("fail"), delivery=fault("delay", MINUTE))
    simulation, kind, ran = world(decisions)
    job = simulation.broker.enqueue(kind, (1,), {}, 0)
    simulation.run_dry(10 * MINUTE)
    assert decisions.seen == ["delivery", "delivery", "start", "delivery", "start", "begin", "ack"]
    assert [attempt.outcome for attempt in job.attempts] == ["failed", "done"]
    assert [attempt.started_ns for attempt in job.attempts] == [MINUTE, MINUTE + 10 * 10**9]
    assert ran == [1]


def test_a_crash_at_the_start_and_a_lost_acknowledgement() -> None:
    simulation, kind, ran = world(Chosen(start=fault("crash"), ack=fault("lose_ack")))
    job = simulation.broker.enqueue(kind, (1,), {}, 0)
    simulation.run_dry(MINUTE)
    assert [attempt.outcome for attempt in job.attempts] == ["crashed", "done", "done"]
    assert ran == [1, 1]


def test_it_chooses_among_what_is_due_at_once_and_leaves_jobs_out() -> None:
    simulation, kind, ran = world(Chosen())
    jobs = [simulation.broker.enqueue(kind, (number,), {}, MINUTE) for number in range(4)]
    simulation.run_dry(2 * MINUTE)
    assert ran == [3, 1, 0], "the last comes first, and the third was left out"
    assert jobs[2].state == "withdrawn"
    assert not list(simulation.history.of_job(jobs[2]))


def test_time_that_is_spent_before_the_code_counts_for_the_timeout() -> None:
    simulation, _, ran = world(Chosen(start=fault("slow", MINUTE)))
    kind = simulation.broker.types["slow"] = JobType(ran.append, "slow", Policy(timeout="30s", retry=Retry(2, "1s")))
    job = simulation.broker.enqueue(kind, (1,), {}, 0)
    simulation.run_dry(5 * MINUTE)
    assert [attempt.outcome for attempt in job.attempts] == ["timed-out", "done"]
    assert job.attempts[0].ended_ns == MINUTE // 2


def test_a_job_that_is_left_out_gives_its_key_to_no_other() -> None:
    simulation, _, _ = world(Chosen())
    types = simulation.broker.types
    once = types["work"] = JobType(lambda number: None, "work", Policy(unique="refuse"))
    other = types["other"] = JobType(lambda: None, "other", Policy(expires="1h"))
    for number in (1, 2, 3):
        simulation.broker.enqueue(once, (number,), {}, MINUTE)
    simulation.broker.enqueue(other, (), {}, MINUTE)
    again = simulation.broker.enqueue(once, (3,), {}, MINUTE)
    assert again.state == "held", "the one before it was left out, so that nothing refuses it"
