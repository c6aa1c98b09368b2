"""Delivery: what happens to an attempt beyond a call of its function.

At-least-once delivery with its leases, acknowledgements, doubles and dead workers; the seams that an attempt
passes; hooks and scopes round it.
"""

from __future__ import annotations

import copy
from collections.abc import Callable
from contextlib import ExitStack
from typing import TYPE_CHECKING, Any

from .clockwork import FIRST
from .durations import spell
from .errors import AttemptCancelled, RigStateError, StuckError, WorkerDied, is_cancellation
from .jobs import OPEN, Attempt, Job, Outcome
from .seams import Seams
from .shapes import UNHEARD
from .where import innermost

if TYPE_CHECKING:
    from .engine import Engine
    from .faults import Fault
    from .pool import Pool

DELIVERIES_LIMIT = 10_000
"""How often one job may be delivered at one instant before it is called a loop."""


class Delivery(Seams):
    """The unusual part of an engine's attempts."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self.doubles: dict[int, int] = {}
        """Deliveries to come beyond the one that counts, by job number."""
        self.strays: dict[tuple[int, int], Attempt] = {}
        """Attempts that run although the queue has given their job up to another delivery, or to nobody."""
        self.await_result: Callable[[Any], Any] | None = None
        """How the host runs a coroutine to its end."""
        self.run_forked: Callable[[Attempt], Any] | None = None
        """How the host runs an attempt in a child process that really dies at its seam."""
        self.died: list[Callable[[Attempt], None]] = []
        """Told of every attempt whose worker has died."""
        self.dies: Callable[[str, Fault], None] | None = None
        """How a forked child dies."""
        self._awaited: set[tuple[int, int]] = set()
        self._again: dict[int, tuple[int, int]] = {}

    # --- an attempt begins --------------------------------------------------------------------------

    def begin(self, attempt: Attempt) -> bool:
        """Do what precedes an attempt; return whether it goes on to its code."""
        attempt.special()
        engine, job = self._engine, attempt.job
        if engine.controls.by_name:
            engine.controls.began(job)
        if job.type.lease_ns >= 0:
            # After whatever else is due then: an acknowledgement at the very end of the lease is in time.
            engine.schedule(engine.now + job.type.lease_ns, -FIRST, self._lease_ended, attempt)
        for fault in engine.faults.twice:
            if fault.hits(job.type.name) and fault.strikes(engine.now, attempt.number, attempt):
                self._deliver_twice(attempt, fault)
        for fault in engine.faults.seam:
            if fault.at == "start" and fault.hits(job.type.name) and fault.strikes(engine.now, attempt.number, attempt):
                self._crash(attempt, "start", fault)
                return False
        if engine.pilot is not None:
            struck = engine.pilot.starts(attempt)
            if struck is not None:
                return self._strike_at_start(attempt, struck)
        return True

    def _deliver_twice(self, attempt: Attempt, fault: Fault) -> None:
        engine, job = self._engine, attempt.job
        self.doubles[job.number] = self.doubles.get(job.number, 0) + 1
        engine.open += 1  # until it has ended, even if the job is done by then
        engine.record("delivered-twice", job, attempt.number)
        engine.plan(engine.now + fault.by_ns, self._double, job)

    def _double(self, job: Job) -> None:
        self._engine.route(job.queue).push(job)
        self._engine.uneven()

    def start_double(self, job: Job, pool: Pool) -> None:
        """Start the second of two deliveries of one message."""
        engine = self._engine
        left = self.doubles.get(job.number, 0) - 1
        if left > 0:
            self.doubles[job.number] = left
        else:
            self.doubles.pop(job.number, None)
        job.tries += 1
        attempt = Attempt(job, job.tries, engine.now, pool.free.pop(), pool)
        engine.record("started", job, attempt.number, attempt.worker)
        if job.type.timeout_ns is not None:
            attempt.deadline_ns = engine.now + job.type.timeout_ns
        attempt.special()
        attempt.counts = False
        if engine.controls.by_name:
            engine.controls.began(job)
        self.strays[job.number, attempt.number] = attempt
        self._awaited.add((job.number, attempt.number))
        spend = engine.spend(job.type)
        if spend:
            engine.schedule(engine.now + spend, job.priority, engine._body_event, attempt)
        else:
            engine._body(attempt)

    def perform(self, attempt: Attempt) -> Any:
        """Run the code of an attempt inside its hooks and its scope."""
        engine, job = self._engine, attempt.job
        if attempt.pool.skew_ns:
            engine.forget_present()
        for fault in engine.faults.seam:
            if fault.hard and fault.hits(job.type.name) and fault.would_strike(engine.now, attempt.number, attempt):
                assert self.run_forked is not None
                return self.run_forked(attempt)
        if engine.pilot is not None:
            engine.pilot.passes(attempt, "begin")
        return self.call(attempt)

    def call(self, attempt: Attempt) -> Any:
        """Call the job's function inside its hooks and its scope."""
        engine, job = self._engine, attempt.job
        scope = job.type.policy.scope
        if scope is None and not engine.around_attempt:
            return self._function(job)
        with ExitStack() as stack:
            for hook in engine.around_attempt:
                stack.enter_context(hook(attempt))
            if scope is not None:
                stack.enter_context(scope())
            return self._function(job)

    def _function(self, job: Job) -> Any:
        args, kwargs = job.args, job.kwargs
        if job.copies:
            args, kwargs = copy.deepcopy((args, kwargs))
        result = job.type.fn(*args, **kwargs)
        if job.type.awaits:
            if self.await_result is None:
                raise RigStateError(f"{job.id} is async, which this engine has no event loop for; use a Rig")
            result = self.await_result(result)
        return result

    # --- an attempt ends ----------------------------------------------------------------------------

    def returned(self, attempt: Attempt, result: Any) -> bool:
        """Take note that an attempt's code has returned; return whether that makes its job done."""
        engine, job = self._engine, attempt.job
        struck = None if engine.pilot is None else engine.pilot.ends(attempt)
        if struck is not None and struck.kind == "crash":
            self._crash(attempt, "ack", struck)
            return False
        for fault in engine.faults.seam:
            if fault.at == "ack" and fault.hits(job.type.name) and fault.strikes(engine.now, attempt.number, attempt):
                self._crash(attempt, "ack", fault)
                return False
        self.leave(attempt)
        if not attempt.counts and job.state not in OPEN:
            self.over(attempt, "done", result, UNHEARD)
            return False
        lost = struck is not None or engine.faults.outage_of(job.queue, engine.now) is not None
        for fault in engine.faults.ack:
            lost = lost or (fault.hits(job.type.name) and fault.strikes(engine.now, attempt.number, attempt))
        if not attempt.counts:
            if lost:
                self.over(attempt, "done", result, UNHEARD)
                return False
            # Its lease is over, or it is the second of two deliveries: who is done first has done the job.
            self.strays.pop((job.number, attempt.number), None)
            other = job.live
            awaited = self._no_longer_awaited(attempt)
            if other is not None and other is not attempt:
                if awaited:
                    self._engine.open += 1
                    self._awaited.add((job.number, other.number))
                if not other.odd:
                    other.special()
                other.counts = False
                self.strays[job.number, other.number] = other
            return True
        if lost and job.type.policy.ack == "late":
            self.over(attempt, "done", result, UNHEARD)
            engine.record("ack-lost", job, attempt.number)
            job.live = None
            self._deliver_again(attempt)
            return False
        return True

    def failed(self, attempt: Attempt, error: BaseException, what: Outcome) -> bool:
        """Take note that an attempt's code has raised; return whether that is all there is to it."""
        self.leave(attempt)
        job = attempt.job
        if attempt.counts and not attempt.asked:
            return False
        if isinstance(error, AttemptCancelled) or (attempt.asked and is_cancellation(error)):
            what = "cancelled"
        attempt.error = error
        counted = attempt.counts
        self.over(attempt, what, error, UNHEARD)
        if counted and job.state == "running":
            if attempt.pool.stopped:
                self.back(job, "the workers were stopped")
            else:
                self._engine.close(job, "withdrawn", "withdrawn")
        return True

    def over(self, attempt: Attempt, what: Outcome, detail: Any, wait: int) -> None:
        """End an attempt in the history, and give its worker back."""
        engine, job = self._engine, attempt.job
        attempt.outcome = what
        attempt.ended_ns = engine.now
        code, instruction = innermost(detail) if isinstance(detail, BaseException) else (None, 0)
        engine._record((engine.now, what, job, attempt.number, detail, wait, code, instruction))
        self._no_longer_awaited(attempt)
        self.strays.pop((job.number, attempt.number), None)
        if job.live is attempt:
            job.live = None
        attempt.pool.free.append(attempt.worker)
        engine.uneven()

    def _no_longer_awaited(self, attempt: Attempt) -> bool:
        """Take note of the end of an attempt; return whether a run waited for it beside its job."""
        key = attempt.job.number, attempt.number
        if key not in self._awaited:
            return False
        self._awaited.discard(key)
        self._engine.open -= 1
        return True

    def leave(self, attempt: Attempt) -> None:
        """Take note, for limits and clocks, that an attempt's code runs no more."""
        if self._engine.controls.by_name:
            self._engine.controls.ended(attempt.job)
        if attempt.pool.skew_ns:
            self._engine.forget_present()

    # --- leases and second deliveries ---------------------------------------------------------------

    def _lease_ended(self, attempt: Attempt) -> None:
        job = attempt.job
        if not attempt.counts or job.state != "running" or job.tries != attempt.number:
            return
        if attempt.outcome == "running":
            self.strays[job.number, attempt.number] = attempt
        attempt.counts = False
        job.live = None
        self._engine.record("lease-ended", job, attempt.number)
        self.back(job, "its lease has ended")

    def _deliver_again(self, attempt: Attempt) -> None:
        """Deliver a job again whose attempt came to nothing that the queue heard of."""
        if attempt.job.type.lease_ns < 0:  # with a lease that has to end first
            attempt.counts = False
            self.back(attempt.job, "its worker is gone" if attempt.outcome == "crashed" else "nobody acknowledged it")

    def back(self, job: Job, why: str) -> None:
        """Put a job back into its queue, or among the dead letters where it has been delivered often enough."""
        engine = self._engine
        limit = job.type.policy.deliveries
        if limit is not None and job.tries >= limit:
            job.error = job.error or WorkerDied(f"{job.id} was delivered {limit} times, and never acknowledged")
            engine.close(job, "dead", "given-up", 0, limit)
            return
        at, count = self._again.get(job.number, (-1, 0))
        count = count + 1 if at == engine.now else 1
        self._again[job.number] = engine.now, count
        if count > DELIVERIES_LIMIT:
            raise engine.stop(StuckError(
                f"{job.id} is delivered over {DELIVERIES_LIMIT} times at {engine.timeline.text(engine.now)}, since its "
                "workers keep dying; give the fault attempts=..., the job a lease or deliveries=..."
            ))  # fmt: skip
        job.state = "ready"
        job.due_ns = engine.now
        engine.record("redelivered", job, 0, why)
        engine.schedule(engine.now, job.priority, engine._due_event, job)

    def put_off(self, job: Job) -> bool:
        """Whether a delivery comes late; then it is put on the heap again."""
        engine = self._engine
        struck = None if engine.pilot is None else engine.pilot.delivers(job)
        for fault in engine.faults.delivery:
            if struck is None and fault.hits(job.type.name) and (job.number, job.tries) not in fault.seen:
                fault.seen.add((job.number, job.tries))
                if fault.strikes(engine.now, job.tries + 1, job):
                    struck = fault
        if struck is None:
            return False
        job.due_ns = engine.now + struck.by_ns
        engine.record("note", job, 0, f"its delivery is late by {spell(struck.by_ns)}")
        engine.schedule(job.due_ns, job.priority, engine._due_event, job)
        return True
