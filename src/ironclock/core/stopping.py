"""Stopping: asking attempts to end, cancelling them, killing them, and shutting the workers down."""

from __future__ import annotations

from typing import TYPE_CHECKING

from .clockwork import FIRST
from .durations import spell
from .errors import AttemptCancelled, RigStateError, WorkerDied
from .jobs import OPEN, Attempt, Job
from .shapes import UNHEARD

if TYPE_CHECKING:
    from .engine import Engine


class Stopping:
    """How the attempts of an engine are brought to an end before their own."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine

    def cancel(self, job: Job, how: str) -> None:
        """Cancel a running job: ask it, throw into it, or kill it."""
        if how not in ("ask", "throw", "kill"):
            raise RigStateError(f"running is {how!r}; give 'refuse', 'ask', 'throw' or 'kill'")
        attempt = job.live
        if attempt is None:
            self._engine.close(job, "withdrawn", "withdrawn")
            return
        self._ask(attempt)
        if how == "kill":
            self.kill(attempt, "withdrawn")
        elif how == "throw":
            self.throw(attempt)

    def _ask(self, attempt: Attempt) -> None:
        if not attempt.odd:
            attempt.special()
        if not attempt.asked:
            attempt.asked = True
            self._engine.record("asked-to-stop", attempt.job, attempt.number)

    def throw(self, attempt: Attempt) -> None:
        """Raise `AttemptCancelled` in an attempt where it stands still."""
        engine = self._engine
        error = AttemptCancelled(f"attempt {attempt.number} of {attempt.job.id} was cancelled")
        if engine.current is attempt:
            raise error
        if not attempt.parked:
            self.kill(attempt, "withdrawn")
            return
        engine.schedule(engine.now, FIRST, self._throw_now, (attempt, error))

    def _throw_now(self, both: tuple[Attempt, BaseException]) -> None:
        attempt, error = both
        if attempt.outcome == "running" and attempt.parked:
            self._engine.raise_in(attempt, error)

    def kill(self, attempt: Attempt, then: str) -> None:
        """End an attempt where it stands: no `except`, no `finally`. Then its job is withdrawn, or put back."""
        engine, job = self._engine, attempt.job
        itself = engine.current is attempt
        counted = attempt.counts
        engine.delivery.leave(attempt)
        for told in engine.delivery.died:
            told(attempt)
        attempt.error = WorkerDied(f"attempt {attempt.number} of {job.id} was killed ({then})")
        engine.delivery.over(attempt, "cancelled", attempt.error, UNHEARD)
        if counted and job.state == "running":
            if then == "withdrawn":
                engine.close(job, "withdrawn", "withdrawn")
            else:
                engine.delivery.back(job, then)
        if itself:
            engine.current = None
            engine.carrier.kill(attempt)
        elif attempt.parked:
            attempt.parked = False
            engine.carrier.bury(attempt)

    def running(self) -> list[Attempt]:
        """Return every attempt that runs, in the order of their jobs."""
        found = [job.live for job in self._engine.jobs if job.state in OPEN and job.live is not None]
        return sorted([*found, *self._engine.delivery.strays.values()], key=lambda a: (a.job.number, a.number))

    def stop_workers(self, grace_ns: int, how: str) -> None:
        """Let no job start any more; ask those that run to stop; after the grace, end and put back what still runs."""
        engine = self._engine
        engine._prepare()
        for pool in engine.pools:
            pool.stopped = True
        engine.rearm()
        engine.record("note", detail=f"the workers are stopped, with a grace of {spell(grace_ns)}")
        for attempt in self.running():
            self._ask(attempt)
            if how == "throw":
                self.throw(attempt)
        engine.plan(engine.now + grace_ns, self._grace_over, engine.now)

    def _grace_over(self, since: int) -> None:
        for attempt in self.running():
            if attempt.pool.stopped and attempt.started_ns <= since:
                self.kill(attempt, "the workers were stopped")

    def start_workers(self) -> None:
        """Let the workers go on."""
        for pool in self._engine.pools:
            pool.stopped = False
        self._engine.rearm()
        self._engine.record("note", detail="the workers are started")
        self._engine.uneven()
