"""Attempts: the one way in which an attempt begins, runs and ends.

Nearly every attempt is the call of a function. Some need more: a lease, a second delivery, hooks, limits, faults at
seams. Such an attempt is *tracked*. A world in which nothing is tracked, and no job can be kept waiting while a worker
is free, is *plain*. `Simulation.decide_tracking` decides that, in one place.
"""

from __future__ import annotations

import copy
from collections.abc import Callable
from contextlib import AbstractContextManager, ExitStack
from dataclasses import replace
from heapq import heappush
from types import CoroutineType
from typing import Any

from ..errors import (
    AttemptCancelled,
    AttemptTimeout,
    PolicyError,
    WorkerDied,
    is_cancellation,
)
from ..foundation.durations import spell
from ..foundation.random_generators import RandomGenerators
from ..foundation.source_location import spot
from ..history.history import History
from ..history.records import ENDED, ENDED_WITH_ERROR, UNHEARD
from .broker import Broker
from .delivery import Delivery
from .event_loop import EventLoop
from .faults.judge import Judge
from .faults.kind import Operation, Passing, Strike, subject_of
from .faults.placed import PlacedFault
from .host import Host
from .jobs import OPEN, Attempt, LiveAttempt, LiveJob, Outcome, worker_died
from .life import JobLives
from .pools import Pool, Pools
from .queues import QueueControls
from .task import Task

_OPEN = frozenset(OPEN)


class Attempts:
    """Begins, runs and ends the attempts of a simulation."""

    def __init__(
        self, loop: EventLoop, history: History, pools: Pools, judge: Judge, lives: JobLives, broker: Broker,
        delivery: Delivery, controls: QueueControls, generators: RandomGenerators, host: Host,
    ) -> None:  # fmt: skip
        self._loop = loop
        self._history = history
        self._pools = pools
        self._judge = judge
        self._lives = lives
        self._broker = broker
        self._host = host
        self.delivery = delivery
        self._controls = controls
        self._generators = generators

        # What this world needs beyond plain attempts. `Simulation.decide_tracking` sets all of them together.
        self.plain = True
        """True if no attempt is tracked (but for what its job type asks for), and no due job is kept waiting."""
        self.tracks_all = False
        """True if every attempt is tracked."""
        self.tracked_jobs: frozenset[int] = frozenset()
        """The numbers of the jobs whose attempts are tracked."""
        self.keeps_jobs_waiting = False
        """True if a due job may have to wait although a worker is free."""
        self.forks = False
        """True if a fault wants an attempt to run in a process that really dies."""

        # What others plug in.
        self.around: list[Callable[[Attempt], AbstractContextManager[Any]]] = []
        """The user's context managers around the code of every attempt."""
        self.on_death: list[Callable[[LiveAttempt], None]] = []
        """Called with every attempt whose worker has died."""

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
                if not job.failures or job.type.retry.within is None or not self._is_too_late(job):
                    if self.plain and job.type.is_simple:
                        self._run(self._lives.start(job, pool.free.pop(), pool))
                    else:
                        self._begin(job, pool)
                return
        elif self.delivery.delays(job):
            return
        self._lives.ready(job)
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
        self._lives.close(job, "dead", "given-up", 0, why)
        return True

    # --- begin --------------------------------------------------------------------------------------

    def _begin(self, job: LiveJob, pool: Pool, second_delivery: bool = False) -> None:
        """Start an attempt at a job on a free worker of a pool."""
        type = job.type
        if type.retry_budget is not None and job.first_ns < 0:
            type.retry_budget.first_attempt()
        attempt = self._lives.start(job, pool.free.pop(), pool, not second_delivery)
        if type.timeout_ns is not None:
            attempt.deadline_ns = attempt.started_ns + type.timeout_ns
        if self.plain and not (type.needs_tracking or second_delivery):
            spend: int | None = type.takes_ns if type.spread is None else self.draw(attempt)
        else:
            spend = self._begin_tracked(attempt, second_delivery)
        if spend == 0:
            self._run(attempt)
        elif spend is not None:
            self._schedule_within_timeout(attempt, self._loop.now + spend, self._run_later_event, attempt)

    def draw(self, attempt: LiveAttempt) -> int:
        """Return how long the modelled work of an attempt takes, in nanoseconds."""
        type = attempt.job.type
        return type.takes_ns if type.spread is None else type.spread.draw(self._generators.of(f"takes:{type.name}"))

    def _begin_tracked(self, attempt: LiveAttempt, second_delivery: bool) -> int | None:
        """Do what comes before the code of an attempt in a world that is not plain.

        Returns the nanoseconds that pass before its code runs. None: a fault has taken the attempt over.
        """
        job = attempt.job
        if second_delivery:
            attempt.track()
            self.delivery.second_attempt_started(attempt)
            self._count_start(job)
            return self.draw(attempt)
        starting = _Starting(self, attempt)
        if self.tracks_all or job.type.needs_tracking or job.number in self.tracked_jobs:
            attempt.track()
            self._count_start(job)
            self.delivery.start_lease(attempt)
            self._judge.strike(starting)
        else:
            self._judge.strike_placed(starting)
        return None if starting.over else starting.spends()

    def _count_start(self, job: LiveJob) -> None:
        if self._controls.by_name:
            self._controls.count_start(job)

    def hang(self, attempt: LiveAttempt) -> None:
        """Let an attempt hang until its timeout, or for ever if it has none."""
        if attempt.deadline_ns >= 0:
            self._loop.schedule(attempt.deadline_ns, attempt.job.priority, self._time_out, attempt)

    def fail_after(self, attempt: LiveAttempt, error: BaseException, after_ns: int) -> None:
        """Let an attempt fail before its code runs, at once or after a time."""
        if after_ns:
            self._schedule_within_timeout(attempt, self._loop.now + after_ns, self._fail_later, (attempt, error))
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
            if type(result) is CoroutineType:  # of a plain function, as one with a decorator is
                result = self._host.await_result(result)
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
        self._lives.done(attempt, result)
        self._free_worker(attempt)
        if job.on_close is not None:
            job.tell_closed()

    def _call_tracked(self, attempt: LiveAttempt) -> Any:
        """Run the code of a tracked attempt: here, or in a forked child if a fault wants a real death."""
        loop = self._loop
        if attempt.pool.skew_ns:
            loop.forget_values()
        if self.forks and any(fault.does.hard and self._means(fault, attempt) for fault in self._judge.placed):
            return self._host.run_forked(attempt)
        if self._judge.plan is not None:
            self._judge.plan.strikes(_Beginning("begin", attempt.label))
        return self.call(attempt)

    def _means(self, fault: PlacedFault, attempt: LiveAttempt) -> bool:
        """Return True if a fault is meant for an attempt, whichever pass of its seam it waits for."""
        aim = replace(fault.aim, visits=None)
        return aim.includes(self._loop.now, subject_of(attempt))

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
        awaits = job.type.is_async and hasattr(result, "__await__")  # a deployment can have both kinds
        return self._host.await_result(result) if awaits else result

    # --- end ----------------------------------------------------------------------------------------

    def _end(self, attempt: LiveAttempt, outcome: Outcome, detail: Any, then: int = 0) -> None:
        """End an attempt that changes nothing of its job, and free its worker."""
        self._lives.end(attempt, outcome, detail, then)
        self._free_worker(attempt)

    def _free_worker(self, attempt: LiveAttempt) -> None:
        """Let the worker of an attempt that has ended take another job."""
        pool = attempt.pool
        if attempt.tracked:
            self.delivery.ended(attempt)
        rest = 0 if pool.rests is None else pool.rests.after(attempt)
        if rest:
            self._loop.schedule(self._loop.now + rest, 0, self._worker_is_back, attempt)
        elif pool.lets_go:
            pool.release(attempt.worker)
        else:
            pool.free.append(attempt.worker)
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
        job = attempt.job
        ending = _Acknowledging(self, attempt)
        self._judge.strike(ending)
        if ending.over:
            return False
        self._leaves_code(attempt)
        acknowledgement = self.delivery.acknowledge(attempt, ending.is_lost)
        if acknowledgement == "accepted":
            return True
        self._end(attempt, "done", result, UNHEARD)
        if acknowledgement == "lost":
            self._history.record("ack-lost", job, attempt.number)
            self.delivery.deliver_again(attempt)
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
                self._lives.give_up(attempt, outcome, error, "dead")
                self._free_worker(attempt)
                raise
            change = self._broker.change
            if verdict == "dead" and change is not None and change.dead == job.type.name:
                verdict = "dropped"
            if verdict != "retry":
                self._lives.give_up(attempt, outcome, error, verdict)
                self._free_worker(attempt)
                if job.on_close is not None:
                    job.tell_closed()
                return
        due = self._lives.back_off(attempt, outcome, error, wait)
        self._free_worker(attempt)
        heappush(loop.heap, (due, job.priority, loop.next_order(), self._broker.on_due, job))

    def _end_unheard(self, attempt: LiveAttempt, error: BaseException, outcome: Outcome) -> None:
        """End an attempt whose error changes nothing: it was asked to stop, or it does not count for the queue."""
        job = attempt.job
        if isinstance(error, AttemptCancelled) or (attempt.asked_to_stop and is_cancellation(error)):
            outcome = "cancelled"
        self._end(attempt, outcome, error, UNHEARD)
        if attempt.counts and job.state == "running":
            if attempt.pool.stopped:
                self.delivery.put_back(job, "the workers were stopped")
            else:
                self._lives.close(job, "withdrawn", "withdrawn")

    def _jitter(self) -> Any:
        return self._generators.of("jitter")

    # --- workers that die, attempts that are killed -------------------------------------------------

    def crash_by(self, attempt: LiveAttempt, seam: str, strike: Strike) -> None:
        """End an attempt whose worker dies of a fault."""
        if self._host.in_child is not None:
            self._host.in_child.die(seam, strike)
        self.crash(attempt, seam, strike.by_ns)

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
        self._lives.end(attempt, "crashed", seam)
        self.delivery.ended(attempt)
        loop.current = None
        loop.schedule(loop.now + down_ns, 0, self._worker_is_back, attempt)
        if not attempt.counts:
            return
        if job.type.policy.ack == "early":
            self._lives.close(job, "lost", "lost", attempt.number)
        else:
            self.delivery.deliver_again(attempt)

    def crash_at_seam(self, task: Task, seam: str, strike: Strike) -> None:
        """Let the worker of the running attempt die at a seam inside its code, or in a thread of it. Never returns."""
        attempt, loop = task.owner, self._loop
        assert attempt is not None
        self.crash_by(attempt, seam, strike)
        if attempt.loop is None and task is not attempt:
            loop.end_suspended(attempt)
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
                self._lives.close(job, "withdrawn", "withdrawn")
            else:
                self.delivery.put_back(job, then)
        if is_running:
            loop.current = None
            loop.switcher.end_running(attempt)
        else:
            loop.end_suspended(attempt)

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
                live = self.delivery.uncounted.get((job.number, number), job.running_attempt)
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
        counted = (job.running_attempt for job in self._lives.jobs if job.state in OPEN)
        found = [attempt for attempt in counted if attempt is not None]
        found = [attempt for attempt in found if attempt.loop is None]
        return sorted([*found, *self.delivery.uncounted.values()], key=lambda a: (a.job.number, a.number))


def _ends_attempt_only(error: BaseException) -> bool:
    """Return True if a worker survives an error: an exit or a cancellation by the job ends its attempt, no more."""
    return isinstance(error, SystemExit) or is_cancellation(error)


class _Starting(Passing):
    """An attempt on one of the rig's workers, before its code runs."""

    can: frozenset[Operation] = frozenset({"fail", "wait", "crash", "deliver_again", "other_version"})
    runs_code = False
    attempt: LiveAttempt

    def __init__(self, attempts: Attempts, attempt: LiveAttempt) -> None:
        super().__init__("start", attempt.label, attempt)
        self._attempts = attempts
        self._usual_ns = -1  # the time that its modelled work takes; -1: not drawn yet
        self._more_ns = 0

    def spends(self) -> int:
        """Return how many nanoseconds pass before its code runs."""
        if self._usual_ns < 0:
            self._usual_ns = self._attempts.draw(self.attempt)
        return self._usual_ns + self._more_ns

    def fail(self, error: BaseException, after_ns: int = 0) -> None:
        self.spends()
        self.over = True
        self._attempts.fail_after(self.attempt, error, self._more_ns + after_ns)

    def wait(self, ns: int | None) -> None:
        self.spends()
        if ns is None:
            self.over = True
            self._attempts.hang(self.attempt)
        else:
            self._more_ns += ns

    def take(self, ns: int) -> None:
        self._usual_ns = ns

    def crash(self, strike: Strike) -> None:
        self.over = True
        self._attempts.crash_by(self.attempt, "start", strike)

    def deliver_again(self, after_ns: int) -> None:
        self._attempts.delivery.deliver_twice(self.attempt, after_ns)

    def other_version(self) -> None:
        self.attempt.other_version = True


class _Acknowledging(Passing):
    """An attempt on one of the rig's workers, after its code."""

    attempt: LiveAttempt

    def __init__(self, attempts: Attempts, attempt: LiveAttempt) -> None:
        super().__init__("ack", attempt.label, attempt)
        self._attempts = attempts
        hears = attempt.counts or attempt.job.state in _OPEN
        self.can = _CAN_END if hears else _CAN_DIE
        self.is_lost = False

    def crash(self, strike: Strike) -> None:
        self.over = True
        self._attempts.crash_by(self.attempt, "ack", strike)

    def lose_ack(self) -> None:
        self.is_lost = True


class _Beginning(Passing):
    """An attempt whose code begins. Nothing strikes here; another task can run first."""


_CAN_DIE: frozenset[Operation] = frozenset({"crash"})
_CAN_END: frozenset[Operation] = frozenset({"crash", "lose_ack"})
