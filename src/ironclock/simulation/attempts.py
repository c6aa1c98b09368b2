"""Attempts: the one way in which an attempt begins, runs and ends.

Nearly every attempt is the call of a function. Some need more: a lease, a second delivery, hooks, limits, faults at
seams. Such an attempt is *tracked*. A world in which nothing is tracked, and no job can be kept waiting while a worker
is free, is *plain*. `Simulation.decide_tracking` decides that, in one place.
"""

from __future__ import annotations

import copy
from collections.abc import Callable
from contextlib import AbstractContextManager, ExitStack
from heapq import heappush
from typing import Any

from ..errors import (
    AttemptCancelled,
    AttemptTimeout,
    PolicyError,
    RigStateError,
    WorkerDied,
    is_cancellation,
)
from ..foundation.durations import spell
from ..foundation.random_generators import RandomGenerators
from ..foundation.source_location import innermost, spot, users_part
from ..history.history import History
from ..history.records import DEAD, DROPPED, ENDED, ENDED_WITH_ERROR, UNHEARD
from .broker import Broker
from .delivery import Delivery
from .event_loop import EventLoop
from .faults import LiveFault, PlacedFaults
from .jobs import OPEN, Attempt, LiveAttempt, LiveJob, Outcome, worker_died
from .queues import Pool, Pools, QueueControls
from .task import Task

_OPEN = frozenset(OPEN)


class Attempts:
    """Begins, runs and ends the attempts of a simulation."""

    def __init__(
        self, loop: EventLoop, history: History, pools: Pools, faults: PlacedFaults, broker: Broker, delivery: Delivery,
        controls: QueueControls, generators: RandomGenerators,
    ) -> None:  # fmt: skip
        self._loop = loop
        self._history = history
        self._pools = pools
        self._faults = faults
        self._broker = broker
        self._delivery = delivery
        self._controls = controls
        self._generators = generators

        # What this world needs beyond plain attempts. `Simulation.decide_tracking` sets all four together.
        self.plain = True
        """True if no attempt is tracked (but for what its job type asks for), and no due job is kept waiting."""
        self.tracks_all = False
        """True if every attempt is tracked."""
        self.tracked_jobs: frozenset[int] = frozenset()
        """The numbers of the jobs whose attempts are tracked."""
        self.keeps_jobs_waiting = False
        """True if a due job may have to wait although a worker is free."""

        # What others plug in.
        self.around: list[Callable[[Attempt], AbstractContextManager[Any]]] = []
        """The user's context managers around the code of every attempt."""
        self.on_death: list[Callable[[LiveAttempt], None]] = []
        """Called with every attempt whose worker has died."""
        self.await_result: Callable[[Any], Any] | None = None
        """Runs a coroutine to its end."""
        self.run_forked: Callable[[LiveAttempt], Any] | None = None
        """Runs an attempt in a forked child process that really dies at a seam."""
        self.dies_in_child: Callable[[str, LiveFault], None] | None = None
        """How the process dies, in a forked child."""

        self._run_later_event = self._run_later

    # --- a job is due -------------------------------------------------------------------------------

    def due(self, job: LiveJob) -> None:
        """Start a job that is due if a worker is free. If not, put it into its queue."""
        if job.state not in _OPEN:
            return
        pool = self._pools.found.get(job.queue) or self._pools.find(job.queue)
        if pool is None:
            self._loop.schedule(job.due_ns, job.priority, self._broker.on_due, job)  # so that nothing is lost
            raise PolicyError(f"{job.id} cannot start: no worker serves {self._pools.unserved(job.queue)}")
        if job.type.has_admission_rules and self._broker.admission.holds_back(job):
            return
        if self.plain or not self.keeps_jobs_waiting:
            if pool.free and not pool.waiting:
                if not (job.failures and self._is_too_late(job)):
                    self._begin(job, pool)
                return
        elif self._delivery.delays(job):
            return
        job.state = "ready"
        pool.push(job)
        if pool.free:
            self._loop.work_to_dispatch = True

    def dispatch(self) -> None:
        """Start one ready job on a free worker."""
        for pool in self._pools.all:
            if pool.free and pool.waiting and not pool.stopped:
                job = pool.take()
                if job is not None:
                    second = job.state != "ready"
                    if second or not (
                        (job.failures and self._is_too_late(job))
                        # A condition can go off while the job waits for a worker.
                        or (job.type.has_admission_rules and self._broker.admission.holds_back(job))
                    ):
                        self._begin(job, pool, second_delivery=second)
                    return
        self._loop.work_to_dispatch = False

    def _is_too_late(self, job: LiveJob) -> bool:
        """Give a failed job up if no attempt may start any more, as `Retry(within=)` says; return True then."""
        within = job.type.retry.within
        if within is None or self._loop.now - job.first_ns <= within:
            return False
        why = f"no attempt starts later than {spell(within)} after the first"
        self._broker.close(job, "dead", "given-up", 0, why)
        return True

    # --- begin --------------------------------------------------------------------------------------

    def _begin(self, job: LiveJob, pool: Pool, second_delivery: bool = False) -> None:
        """Start an attempt at a job on a free worker of a pool."""
        type = job.type
        loop = self._loop
        now = loop.now
        job.attempts_made = number = job.attempts_made + 1
        if job.first_ns < 0:
            job.first_ns = now
            job.waited_ns = 0
            if type.retry_budget is not None:
                type.retry_budget.first_attempt()
        worker = pool.free.pop()
        attempt = LiveAttempt(job, number, now, worker, pool)
        self._history.add((now, "started", job, number, worker, 0, None, 0))
        if type.timeout_ns is not None:
            attempt.deadline_ns = now + type.timeout_ns
        if not second_delivery:
            job.running_attempt = attempt
            job.state = "running"
        if self.plain and not (type.needs_tracking or second_delivery):
            spend: int | None = type.takes_ns if type.spread is None else self._draw(attempt)
        else:
            spend = self._begin_tracked(attempt, second_delivery)
        if spend == 0:
            self._run(attempt)
        elif spend is not None:
            self._schedule_within_timeout(attempt, now + spend, self._run_later_event, attempt)

    def _draw(self, attempt: LiveAttempt) -> int:
        """Return how long the modelled work of an attempt takes, in nanoseconds."""
        type = attempt.job.type
        return type.takes_ns if type.spread is None else type.spread.draw(self._generators.of(f"takes:{type.name}"))

    def _begin_tracked(self, attempt: LiveAttempt, second_delivery: bool) -> int | None:
        """Do what comes before the code of an attempt in a world that is not plain.

        Returns the nanoseconds that pass before its code runs. None: a fault has taken the attempt over.
        """
        job, type, now = attempt.job, attempt.job.type, self._loop.now
        if second_delivery:
            attempt.track()
            self._delivery.second_attempt_started(attempt)
            self._count_start(job)
            return self._draw(attempt)
        if self.tracks_all or type.needs_tracking or job.number in self.tracked_jobs:
            attempt.track()
            self._count_start(job)
            self._delivery.start_lease(attempt)
            for fault in self._faults.twice:
                if fault.hits(type.name) and fault.strikes(now, attempt.number, attempt):
                    self._delivery.deliver_twice(attempt, fault)
            for fault in self._faults.seam:
                if fault.at == "start" and fault.hits(type.name) and fault.strikes(now, attempt.number, attempt):
                    self._crash_by(attempt, "start", fault)
                    return None
            struck = None if self._loop.decisions is None else self._loop.decisions.starts(attempt)
            if struck is not None:
                return self._strike_at_start(attempt, struck)
        spend = self._draw(attempt)
        for fault in self._faults.attempt:
            if fault.hits(type.name) and fault.strikes(now, attempt.number, attempt):
                if fault.kind == "hang":
                    self._hang(attempt)
                    return None
                if fault.kind == "fail":
                    self._fail_after(attempt, fault)
                    return None
                spend += fault.by_ns
        return spend

    def _count_start(self, job: LiveJob) -> None:
        if self._controls.by_name:
            self._controls.count_start(job)

    def _strike_at_start(self, attempt: LiveAttempt, fault: LiveFault) -> int | None:
        """Let a fault of the decisions strike before the code of an attempt. Returns what `_begin_tracked` does."""
        if fault.kind == "twice":
            self._delivery.deliver_twice(attempt, fault)
            return self._draw(attempt)
        if fault.kind == "crash":
            self._crash_by(attempt, "start", fault)
        elif fault.kind == "fail":
            self._fail(attempt, fault.make())
        elif fault.kind == "hang":
            self._hang(attempt)
        elif fault.kind == "other":
            attempt.other_version = True
            return self._draw(attempt)
        else:
            return attempt.job.type.takes_ns + fault.by_ns
        return None

    def _hang(self, attempt: LiveAttempt) -> None:
        """Let an attempt hang until its timeout, or for ever if it has none."""
        if attempt.deadline_ns >= 0:
            self._loop.schedule(attempt.deadline_ns, attempt.job.priority, self._time_out, attempt)

    def _fail_after(self, attempt: LiveAttempt, fault: LiveFault) -> None:
        """Let an attempt fail, at once or after the time that the fault takes."""
        error = fault.make()
        if fault.by_ns:
            self._schedule_within_timeout(attempt, self._loop.now + fault.by_ns, self._fail_later, (attempt, error))
        else:
            self._fail(attempt, error)

    def _schedule_within_timeout(
        self, attempt: LiveAttempt, at_ns: int, function: Callable[[Any], None], argument: Any
    ) -> None:
        """Put an event of an attempt on the heap, or its timeout if that comes first."""
        if 0 <= attempt.deadline_ns < at_ns:
            self._loop.schedule(attempt.deadline_ns, attempt.job.priority, self._time_out, attempt)
        else:
            self._loop.schedule(at_ns, attempt.job.priority, function, argument)

    # --- run ----------------------------------------------------------------------------------------

    def _run_later(self, attempt: LiveAttempt) -> None:
        if attempt.outcome == "running":
            self._run(attempt)

    def _run(self, attempt: LiveAttempt) -> None:
        """Run the code of an attempt to its end."""
        job = attempt.job
        loop = self._loop
        loop.current = attempt
        if loop.thread_in_place != attempt.worker and loop.enter_thread is not None:
            loop.enter_thread(attempt)
        try:
            if attempt.tracked:
                result = self._call_tracked(attempt)
            elif job.copies_arguments:
                args, kwargs = copy.deepcopy((job.args, job.kwargs))
                result = job.type.fn(*args, **kwargs)
            elif job.keywords is None:
                result = job.type.fn(*job.args)
            else:
                result = job.type.fn(*job.args, **job.keywords)
        except Exception as error:
            loop.current = None
            # Without this frame: with it, error and frame would hold each other.
            error.__traceback__ = error.__traceback__.tb_next  # type: ignore[union-attr]
            self._fail(attempt, error)
            return
        except BaseException as error:
            loop.current = None
            if isinstance(error, loop.switcher.exits):
                raise
            self._fail(attempt, error)
            if not _ends_attempt_only(error):
                raise
            return
        loop.current = None
        if attempt.error is not None:  # it timed out, and the job has caught that
            self._fail(attempt, attempt.error)
            return
        if attempt.tracked and not self._acknowledged(attempt, result):
            return
        job.state = "done"
        job.result = result
        job.error = None
        loop.open_jobs -= 1
        self._end(attempt, "done", result)
        if job.on_close is not None:
            job.tell_closed()

    def _call_tracked(self, attempt: LiveAttempt) -> Any:
        """Run the code of a tracked attempt: here, or in a forked child if a fault wants a real death."""
        loop, type = self._loop, attempt.job.type
        if attempt.pool.skew_ns:
            loop.forget_values()
        for fault in self._faults.seam:
            if fault.hard and fault.hits(type.name) and fault.would_strike(loop.now, attempt.number, attempt):
                assert self.run_forked is not None
                return self.run_forked(attempt)
        if loop.decisions is not None:
            loop.decisions.passes(attempt, "begin")
        return self.call(attempt)

    def call(self, attempt: LiveAttempt) -> Any:
        """Call the job's function inside the user's hooks and the job type's scope."""
        job = attempt.job
        scope = job.type.policy.scope
        if scope is None and not self.around:
            return self._call_function(attempt)
        with ExitStack() as stack:
            for hook in self.around:
                stack.enter_context(hook(attempt.reader))
            if scope is not None:
                stack.enter_context(scope())
            return self._call_function(attempt)

    def _call_function(self, attempt: LiveAttempt) -> Any:
        job = attempt.job
        deployment = job.type.deployment
        fn = job.type.fn if deployment is None else deployment.handler_of(attempt)
        args, kwargs = job.args, job.kwargs
        if job.copies_arguments:
            args, kwargs = copy.deepcopy((args, kwargs))
        result = fn(*args, **kwargs)
        awaits = job.type.is_async and (deployment is None or hasattr(result, "__await__"))
        return self.awaited(result) if awaits else result

    def awaited(self, coroutine: Any) -> Any:
        """Run a coroutine of the running attempt to its end."""
        if self.await_result is None:
            raise RigStateError("the code is async, and this simulation has no event loop for it; use a Rig")
        return self.await_result(coroutine)

    # --- end ----------------------------------------------------------------------------------------

    def _end(
        self, attempt: LiveAttempt, outcome: Outcome, detail: Any, then: int = 0, frees_worker: bool = True,
    ) -> None:  # fmt: skip
        """Write down that an attempt has ended, and free its worker. Every attempt ends here, and only here."""
        job, pool, now = attempt.job, attempt.pool, self._loop.now
        attempt.outcome = outcome
        attempt.ended_ns = now
        if outcome == "done" or outcome == "crashed":
            self._history.add((now, outcome, job, attempt.number, detail, then, None, 0))
        else:
            code, instruction = innermost(detail)
            self._history.add((now, outcome, job, attempt.number, detail, then, code, instruction))
        if job.running_attempt is attempt:
            job.running_attempt = None
        if attempt.tracked:
            self._delivery.ended(attempt)
        if frees_worker:
            pool.release(attempt.worker)
            if pool.waiting:
                self._loop.work_to_dispatch = True

    def _leaves_code(self, attempt: LiveAttempt) -> None:
        """Note, for limits and wall clocks, that the code of a tracked attempt runs no more."""
        if self._controls.by_name:
            self._controls.count_end(attempt.job)
        if attempt.pool.skew_ns:
            self._loop.forget_values()

    def _acknowledged(self, attempt: LiveAttempt, result: Any) -> bool:
        """Deal with the acknowledgement of a tracked attempt; return True if its job is done."""
        job, now = attempt.job, self._loop.now
        struck = None if self._loop.decisions is None else self._loop.decisions.ends(attempt)
        if struck is not None and struck.kind == "crash":
            self._crash_by(attempt, "ack", struck)
            return False
        for fault in self._faults.seam:
            if fault.at == "ack" and fault.hits(job.type.name) and fault.strikes(now, attempt.number, attempt):
                self._crash_by(attempt, "ack", fault)
                return False
        self._leaves_code(attempt)
        acknowledgement = self._delivery.acknowledge(attempt, struck is not None)
        if acknowledgement == "accepted":
            return True
        self._end(attempt, "done", result, UNHEARD)
        if acknowledgement == "lost":
            self._history.record("ack-lost", job, attempt.number)
            job.running_attempt = None
            self._delivery.deliver_again(attempt)
        return False

    def _time_out(self, attempt: LiveAttempt) -> None:
        """End an attempt that waits outside its own code: it hangs, or its modelled work takes too long."""
        if attempt.outcome == "running":
            self._fail(attempt, attempt.time_out())

    def _fail_later(self, both: tuple[LiveAttempt, BaseException]) -> None:
        attempt, error = both
        if attempt.outcome == "running":
            self._fail(attempt, error)

    def _fail(self, attempt: LiveAttempt, error: BaseException) -> None:
        """End an attempt with an error; the retry policy decides what becomes of its job."""
        job = attempt.job
        if attempt.error is not None:
            error = attempt.error  # the timeout, whatever the job has made of it
        outcome: Outcome = "timed-out" if type(error) is AttemptTimeout else "failed"
        attempt.error = error
        if attempt.tracked:
            self._leaves_code(attempt)
            if attempt.asked_to_stop or not attempt.counts:
                self._end_unheard(attempt, error, outcome)
                return
        job.error = error
        job.failures = failures = job.failures + 1
        retry = job.type.retry
        loop = self._loop
        now = loop.now
        if failures <= len(retry.table) and isinstance(error, retry.on):
            wait = retry.table[failures - 1]
        else:
            elapsed = now - job.first_ns
            try:
                verdict, wait = retry.decide(failures, error, job.waited_ns, elapsed, self._jitter)
                budget = job.type.retry_budget
                if verdict == "retry" and budget is not None and not budget.pays():
                    verdict = "dead"
            except BaseException:
                job.state = "dead"
                loop.open_jobs -= 1
                self._end(attempt, outcome, error, DEAD)
                raise
            if verdict != "retry":
                job.state = verdict
                loop.open_jobs -= 1
                self._end(attempt, outcome, error, DEAD if verdict == "dead" else DROPPED)
                error.__traceback__ = users_part(error.__traceback__)
                if job.on_close is not None:
                    job.tell_closed()
                return
        self._end(attempt, outcome, error, wait)
        error.__traceback__ = None  # it keeps every frame and its locals alive; a final error keeps its own
        attempt.waited_ns = job.waited_ns = wait
        job.state = "backing-off"
        job.due_ns = due = now + wait
        heappush(loop.heap, (due, job.priority, loop.next_order(), self._broker.on_due, job))

    def _end_unheard(self, attempt: LiveAttempt, error: BaseException, outcome: Outcome) -> None:
        """End an attempt whose error changes nothing: it was asked to stop, or it does not count for the queue."""
        job = attempt.job
        if isinstance(error, AttemptCancelled) or (attempt.asked_to_stop and is_cancellation(error)):
            outcome = "cancelled"
        self._end(attempt, outcome, error, UNHEARD)
        if attempt.counts and job.state == "running":
            if attempt.pool.stopped:
                self._delivery.put_back(job, "the workers were stopped")
            else:
                self._broker.close(job, "withdrawn", "withdrawn")

    def _jitter(self) -> Any:
        return self._generators.of("jitter")

    # --- workers that die, attempts that are killed -------------------------------------------------

    def _crash_by(self, attempt: LiveAttempt, seam: str, fault: LiveFault) -> None:
        if self.dies_in_child is not None:
            self.dies_in_child(seam, fault)
        self.crash(attempt, seam, fault.by_ns)

    def crash(self, attempt: LiveAttempt, seam: str, down_ns: int = 0) -> None:
        """End an attempt whose worker dies at a seam. A new worker is up after `down_ns`."""
        job, loop = attempt.job, self._loop
        if attempt.loop is not None:
            attempt.loop.crashed(attempt, seam, down_ns)
            loop.current = None
            return
        attempt.error = worker_died(attempt, seam)
        self._leaves_code(attempt)
        self.tell_of_death(attempt)
        if attempt.counts:
            job.error = attempt.error
        attempt.track()
        self._end(attempt, "crashed", seam, frees_worker=False)
        loop.current = None
        loop.schedule(loop.now + down_ns, 0, self._worker_is_back, attempt)
        if not attempt.counts:
            return
        job.running_attempt = None
        if job.type.policy.ack == "early":
            self._broker.close(job, "lost", "lost", attempt.number)
        else:
            self._delivery.deliver_again(attempt)

    def crash_at_seam(self, task: Task, seam: str, fault: LiveFault) -> None:
        """Let the worker of the running attempt die at a seam inside its code, or in a thread of it. Never returns."""
        attempt, loop = task.owner, self._loop
        assert attempt is not None
        self._crash_by(attempt, seam, fault)
        if attempt.loop is None and task is not attempt and attempt.suspended:
            attempt.suspended = False
            loop.switcher.end_suspended(attempt)
        loop.switcher.end_running(task)

    def kill(self, attempt: LiveAttempt, then: str) -> None:
        """End an attempt where it is, without its handlers. Withdraw its job, or put it back for the reason `then`."""
        job, loop = attempt.job, self._loop
        is_running = loop.current is attempt
        self._leaves_code(attempt)
        self.tell_of_death(attempt)
        attempt.error = WorkerDied(f"attempt {attempt.number} of {job.id} was killed ({then})")
        attempt.track()
        self._end(attempt, "cancelled", attempt.error, UNHEARD)
        if attempt.counts and job.state == "running":
            if then == "withdrawn":
                self._broker.close(job, "withdrawn", "withdrawn")
            else:
                self._delivery.put_back(job, then)
        if is_running:
            loop.current = None
            loop.switcher.end_running(attempt)
        elif attempt.suspended:
            attempt.suspended = False
            loop.switcher.end_suspended(attempt)

    def tell_of_death(self, attempt: LiveAttempt) -> None:
        """Take back what an attempt has open, whose worker has died."""
        for told in self.on_death:
            told(attempt)

    def _worker_is_back(self, attempt: LiveAttempt) -> None:
        attempt.pool.release(attempt.worker)
        self._loop.work_to_dispatch = True

    # --- reading ------------------------------------------------------------------------------------

    def of(self, job: LiveJob) -> list[LiveAttempt]:
        """Return every attempt at a job, read from the history; those that are running are the live ones."""
        made: list[LiveAttempt] = []
        for record in self._history.of_job(job):
            number = record.attempt
            if record.what == "started":
                live = self._delivery.uncounted.get((job.number, number), job.running_attempt)
                is_live = live is not None and live.number == number
                made.append(
                    live if live is not None and is_live
                    else LiveAttempt(job, number, record.ns, record.detail, self._pools.all[0])
                )  # fmt: skip
            elif record.what in ENDED:
                attempt = made[number - 1]
                attempt.outcome = record.what  # type: ignore[assignment]
                attempt.ended_ns = record.ns
                if record.what == "crashed":
                    attempt.error = worker_died(attempt, record.detail)
                if record.what in ENDED_WITH_ERROR:
                    attempt.error, attempt.waited_ns = record.detail, record.then
                    attempt.line = "" if record.code is None else spot(record.code, record.instruction)
        return made

    def running(self) -> list[LiveAttempt]:
        """Return every attempt that is running, in the order of their jobs."""
        counted = (job.running_attempt for job in self._broker.jobs if job.state in OPEN)
        found = [attempt for attempt in counted if attempt is not None]
        found = [attempt for attempt in found if attempt.loop is None]
        return sorted([*found, *self._delivery.uncounted.values()], key=lambda a: (a.job.number, a.number))


def _ends_attempt_only(error: BaseException) -> bool:
    """Return True if a worker survives an error: an exit or a cancellation by the job ends its attempt, no more."""
    return isinstance(error, SystemExit) or is_cancellation(error)
