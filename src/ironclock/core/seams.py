"""Seams: the points of an attempt at which a fault may strike, and what each kind does there."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from .jobs import Attempt, died_at

if TYPE_CHECKING:
    from .engine import Engine
    from .faults import Fault
    from .task import Task


class Seams:
    """The part of delivery that lets faults strike."""

    _engine: Engine
    died: list[Callable[[Attempt], None]]
    """Told of every attempt whose worker has died."""
    dies: Callable[[str, Fault], None] | None
    """How a forked child dies."""
    strays: dict[tuple[int, int], Attempt]
    """Attempts that run although the queue has given their job up to another delivery, or to nobody."""

    # What the rest of delivery does at the same points.
    leave: Callable[[Attempt], None]
    _deliver_twice: Callable[[Attempt, Fault], None]
    _deliver_again: Callable[[Attempt], None]
    _no_longer_awaited: Callable[[Attempt], bool]

    def _strike_at_start(self, attempt: Attempt, fault: Fault) -> bool:
        """Let a fault strike before an attempt's code; return whether that runs all the same, and now."""
        engine, job = self._engine, attempt.job
        if fault.kind == "twice":
            self._deliver_twice(attempt, fault)
            return True
        if fault.kind == "crash":
            self._crash(attempt, "start", fault)
        elif fault.kind == "fail":
            engine._failed(attempt, fault.make())
        else:
            spend = job.type.takes_ns + fault.by_ns
            if fault.kind == "hang" or 0 <= attempt.deadline_ns < engine.now + spend:
                if attempt.deadline_ns >= 0:
                    engine.schedule(attempt.deadline_ns, job.priority, engine._time_out, attempt)
            else:
                engine.schedule(engine.now + spend, job.priority, engine._body_event, attempt)
        return False

    def pass_seam(self, where: str, about: str = "") -> None:
        """Pass a seam inside a running attempt, where a fault may stand. `about`: the job that an enqueue asks for."""
        engine = self._engine
        attempt = engine.current
        if engine.pilot is not None:
            if attempt is not None:
                struck = engine.pilot.passes(attempt, where)
            else:
                request = engine.requests.current()
                struck = None if request is None else engine.pilot.asks(request.name, where)
            if struck is not None:
                self._strike(attempt, where, struck, about)
        if not isinstance(attempt, Attempt):
            return
        if not attempt.odd:
            attempt.special()
        count = attempt.visits[where] = attempt.visits.get(where, 0) + 1
        for fault in engine.faults.seam:
            if fault.at != where or not fault.hits(attempt.job.type.name):
                continue
            if (fault.visits is not None and count not in fault.visits) or not fault.strikes(
                engine.now, attempt.number, attempt
            ):
                continue
            self._strike(attempt, where, fault, about)

    def _strike(self, task: Task | None, where: str, fault: Fault, about: str) -> None:
        """Let a fault strike the running task at a seam."""
        engine = self._engine
        if fault.kind in ("fail", "refuse"):
            error = fault.make()
            if fault.kind == "refuse":
                engine.record("refused", detail=(about, error))
            raise error
        if fault.kind == "crash":
            assert isinstance(task, Attempt)
            self._crash(task, where, fault)
            engine.carrier.kill(task)
        passing, engine.passing = engine.passing, None
        try:
            if fault.kind == "hang":
                engine.wait(_never)
            else:
                engine.sleep(fault.by_ns)
        finally:
            engine.passing = passing

    def crash(self, attempt: Attempt, where: str, down_ns: int = 0) -> None:
        """Take note that the worker of an attempt has died."""
        engine, job = self._engine, attempt.job
        attempt.error = died_at(attempt, where)
        attempt.outcome = "crashed"
        attempt.ended_ns = engine.now
        self.leave(attempt)
        for told in self.died:
            told(attempt)
        engine.record("crashed", job, attempt.number, where)
        self._no_longer_awaited(attempt)
        self.strays.pop((job.number, attempt.number), None)
        engine.current = None
        engine.schedule(engine.now + down_ns, 0, self._worker_back, attempt)
        if not attempt.counts:
            return
        job.live = None
        job.error = attempt.error
        if job.type.policy.ack == "early":
            engine.close(job, "lost", "lost", attempt.number)
        else:
            self._deliver_again(attempt)

    def _crash(self, attempt: Attempt, where: str, fault: Fault) -> None:
        if self.dies is not None:
            self.dies(where, fault)
        self.crash(attempt, where, fault.by_ns)

    def _worker_back(self, attempt: Attempt) -> None:
        attempt.pool.free.append(attempt.worker)
        self._engine.uneven()


def _never() -> bool:
    return False
