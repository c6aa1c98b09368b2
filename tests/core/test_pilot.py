"""The engine alone, steered by a pilot of the test's own."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from ironclock.core.engine import Engine
from ironclock.core.faults import Fault
from ironclock.core.pilot import Event
from ironclock.core.policy import JobType, Policy
from ironclock.core.retry import Retry
from ironclock.core.timeline import Timeline

MINUTE = 60 * 10**9


def fault(kind: Any, by_ns: int = 0) -> Fault:
    return Fault(kind, None, None, None, None, None, None, OSError("the pilot's"), by_ns, None)


class Pilot:
    """Strikes at chosen seams, and lets the last of several events go first."""

    switching = True
    only = None
    gates = inside = True

    def __init__(self, **struck: Fault) -> None:
        self.struck = struck
        self.seen: list[str] = []

    def _at(self, what: str) -> Fault | None:
        self.seen.append(what)
        return self.struck.pop(what, None)

    def passes(self, task: Any, where: str) -> Fault | None:
        return self._at(where)

    def starts(self, attempt: Any) -> Fault | None:
        return self._at("start")

    def ends(self, attempt: Any) -> Fault | None:
        return self._at("ack")

    def delivers(self, job: Any) -> Fault | None:
        return self._at("delivery")

    def commits(self, job: Any) -> Fault | None:
        return None

    def fires(self, schedule: str) -> Fault | None:
        return None

    def asks(self, request: str, where: str) -> Fault | None:
        return None

    def locks(self, task: Any, where: str) -> None:
        return None

    def chooses(self, events: Sequence[Event]) -> int:
        return len(events) - 1

    def leaves_out(self, name: str) -> bool:
        return name == "work-3"


def world(pilot: Pilot) -> tuple[Engine, JobType, list[int]]:
    engine = Engine(Timeline("UTC"), 0)
    engine.pilot = engine.chooser = pilot
    engine.rearm()
    ran: list[int] = []
    kind = engine.types["work"] = JobType(ran.append, "work", Policy(retry=Retry(3, "10s")))
    return engine, kind, ran


def test_it_is_asked_at_every_seam_and_its_faults_strike() -> None:
    pilot = Pilot(start=fault("fail"), delivery=fault("delay", MINUTE))
    engine, kind, ran = world(pilot)
    job = engine.enqueue(kind, (1,), {}, 0)
    engine.run_dry(10 * MINUTE)
    assert pilot.seen == ["delivery", "delivery", "start", "delivery", "start", "begin", "ack"]
    assert [attempt.outcome for attempt in job.attempts] == ["failed", "done"]
    assert [attempt.started_ns for attempt in job.attempts] == [MINUTE, MINUTE + 10 * 10**9]
    assert ran == [1]


def test_a_crash_at_the_start_and_a_lost_acknowledgement() -> None:
    engine, kind, ran = world(Pilot(start=fault("crash"), ack=fault("lose_ack")))
    job = engine.enqueue(kind, (1,), {}, 0)
    engine.run_dry(MINUTE)
    assert [attempt.outcome for attempt in job.attempts] == ["crashed", "done", "done"]
    assert ran == [1, 1]


def test_it_chooses_among_what_is_due_at_once_and_leaves_jobs_out() -> None:
    engine, kind, ran = world(Pilot())
    jobs = [engine.enqueue(kind, (number,), {}, MINUTE) for number in range(4)]
    engine.run_dry(2 * MINUTE)
    assert ran == [3, 1, 0], "the last comes first, and the third was left out"
    assert jobs[2].state == "withdrawn"
    assert not list(engine.history.of_job(jobs[2]))


def test_time_that_is_spent_before_the_code_counts_for_the_timeout() -> None:
    engine, _, ran = world(Pilot(start=fault("slow", MINUTE)))
    kind = engine.types["slow"] = JobType(ran.append, "slow", Policy(timeout="30s", retry=Retry(2, "1s")))
    job = engine.enqueue(kind, (1,), {}, 0)
    engine.run_dry(5 * MINUTE)
    assert [attempt.outcome for attempt in job.attempts] == ["timed-out", "done"]
    assert job.attempts[0].ended_ns == MINUTE // 2
