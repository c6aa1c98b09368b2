"""The engine: one ordered heap of pending events, moved along in integer nanoseconds.

An event is ``(instant, priority, order of entry, function, argument)``; nothing that depends on hash or
identity ever decides an order. The loop keeps all its state here, so that a host may leave one loop
suspended in the middle of a job that sleeps and go on with another.
"""

from __future__ import annotations

import copy
import gc
import random
from collections.abc import Callable
from heapq import heappop, heappush
from typing import Any

from .carrier import Carrier, Inline
from .durations import spell
from .errors import AttemptTimeout, IronClockError, NotDry, PolicyError, RigStateError, StuckError, UnknownJob, nearest
from .faults import Faults
from .history import DEAD, DROPPED, ENDED_BADLY, History
from .jobs import OPEN, Attempt, Job, Outcome
from .policy import JobType, job_name
from .pool import Pool
from .timeline import Timeline
from .where import calling, innermost, spot

DEPTH_LIMIT = 10_000
"""How many jobs may enqueue one another at one instant before it is called a loop."""

YOUNG = 20_000
"""Allocations between two collections of the youngest objects while the loop runs."""


class Engine:
    """The simulated world: clock, jobs, queues, workers, faults and history, without any interface."""

    def __init__(self, timeline: Timeline, start_ns: int, seed: object = 0) -> None:
        self.timeline = timeline
        self.start_ns = start_ns
        self.now = start_ns
        self.seed = seed
        self.history = History(timeline, seed)
        self.faults = Faults(timeline, seed, self.known_name)
        self.lenient: Callable[[], bool] = lambda: True
        """Whether a name may come to be known later."""
        self.types: dict[str, JobType] = {}
        self.jobs: list[Job] = []
        self.pools: list[Pool] = []
        self.carrier: Carrier = Inline()
        self.current: Attempt | None = None
        self.running = False
        self.open = 0
        """Jobs that still have something before them."""
        self.present: list[list[Any]] = []
        """Stocks of the present instant that were handed out; all are emptied when the clock moves."""
        self._heap: list[tuple[int, int, int, Callable[[Any], None], Any]] = []
        self._order = 0
        self._until = start_ns
        self._halt = 0  # 1: after one event; 2: when no job is open
        self._uneven = False  # a job is ready and a worker is free
        self._routes: dict[str, Pool] = {}
        self._generators: dict[str, random.Random] = {}
        self._record = self.history.add
        self._due_event = self._due
        self._body_event = self._body
        self._asked: dict[str, int] = {}  # enqueue calls so far by job name, for refuse_enqueue

    # --- what a rig is told -------------------------------------------------------------------------

    def generator(self, purpose: str) -> random.Random:
        """Return the seeded generator for one purpose; purposes do not disturb one another."""
        found = self._generators.get(purpose)
        if found is None:
            found = self._generators[purpose] = random.Random(f"{self.seed}:{purpose}")
        return found

    def name_of(self, job: object) -> str:
        """Return the name of a job type given by name, callable or job type."""
        if isinstance(job, str):
            return job
        if isinstance(job, JobType):
            return job.name
        for known in self.types.values():
            if known.fn is job:
                return known.name
        return job_name(job)

    def known_name(self, job: object) -> str:
        """Return the name of a job type; raise `UnknownJob` for one that this world cannot come to know."""
        name = self.name_of(job)
        if name not in self.types and not self.lenient():
            raise UnknownJob(f"no job is called {name!r}; {nearest(name, self.types)}")
        return name

    def add_pool(self, pool: Pool) -> None:
        """Add workers; raise `RigStateError` when one of their queues has workers already."""
        for other in self.pools:
            shared = sorted(set(other.queues) & set(pool.queues))
            if shared:
                what = "every queue" if shared == ["*"] else f"queue {shared[0]!r}"
                raise RigStateError(f"{what} has its workers already; name other queues for the new ones")
        offset = sum(p.size for p in self.pools)
        pool.free = [f"w{offset + n}" for n in range(pool.size, 0, -1)]
        self.pools.append(pool)
        self._routes.clear()

    def enqueue(
        self, type: JobType, args: tuple[Any, ...], kwargs: dict[str, Any], due_ns: int,
        queue: str | None = None, priority: int | None = None,
    ) -> Job:  # fmt: skip
        """Enqueue a job that is due at `due_ns` (nanoseconds since the epoch, not before `now`)."""
        now = self.now
        if self.faults.enqueue:
            self._refuse(type, args)
        number = len(self.jobs) + 1
        if queue is None:
            queue = type.queue
        if priority is None:
            priority = type.priority
        if self.pools and self._route(queue) is None:
            raise PolicyError(f"{type.name} is asked into {self._unserved(queue)}")
        job = Job(self, type, number, args, kwargs, queue, priority, now, due_ns)
        current = self.current
        if current is not None:
            parent = current.job
            if due_ns <= now and parent.enqueued_ns == now:
                job.depth = parent.depth + 1
                if job.depth > DEPTH_LIMIT:
                    raise self.stop(StuckError(
                        f"{type.name} is enqueued without delay by {parent.name}, over {DEPTH_LIMIT} times in a row "
                        f"at {self.timeline.text(now)}, at {calling()}; give it a delay or an end"
                    ))  # fmt: skip
        self.jobs.append(job)
        self.open += 1
        self._record((now, "enqueued", job, 0, due_ns, 0, None, 0))
        self._order += 1
        heappush(self._heap, (due_ns, priority, self._order, self._due_event, job))
        return job

    def withdraw(self, job: Job) -> None:
        """Cancel a job that is not running; raise `RigStateError` where it is, or has ended."""
        if job.state not in ("held", "ready", "backing-off"):
            raise RigStateError(f"{job.id} is {job.state}; only a held, ready or backing-off job can be withdrawn")
        job.state = "withdrawn"
        self.open -= 1
        self._record((self.now, "withdrawn", job, 0, None, 0, None, 0))
        if job.closed is not None:
            job.closed(job)

    def must_be_dead(self, job: Job) -> None:
        """Raise `RigStateError` unless the job is a dead letter of this engine."""
        if not isinstance(job, Job) or job.engine is not self:
            raise RigStateError(f"{job!r} is no job of this rig")
        if job.state != "dead":
            raise RigStateError(f"{job.id} is {job.state}, not dead; only a dead letter can be put back or discarded")

    def requeue_now(self, job: Job) -> None:
        """Put a dead job back with a fresh set of attempts, due now."""
        self.must_be_dead(job)
        job.round = job.tries
        job.due_ns = self.now
        job.state = "ready"
        self.open += 1
        self._record((self.now, "requeued", job, 0, self.now, 0, None, 0))
        self.schedule(self.now, job.priority, self._due_event, job)

    def discard(self, job: Job) -> None:
        """Give a dead job up for good: it becomes `dropped`."""
        self.must_be_dead(job)
        job.state = "dropped"
        self._record((self.now, "discarded", job, 0, None, 0, None, 0))

    def schedule(self, at_ns: int, priority: int, function: Callable[[Any], None], argument: Any) -> None:
        """Put an event on the heap."""
        self._order += 1
        heappush(self._heap, (at_ns, priority, self._order, function, argument))

    # --- moving the clock ---------------------------------------------------------------------------

    def run_until(self, until_ns: int, halt: int = 0) -> None:
        """Run every event up to and including `until_ns`; with `halt` 1 just one, with 2 until no job is open."""
        if self.running:
            who = f"{self.current.job.id} is running" if self.current else "its loop is running"
            raise RigStateError(f"the rig's clock cannot be moved from inside a job or a callback ({who})")
        if not self.pools:
            self.add_pool(Pool(1))
        self.running = True
        self._until = until_ns
        self._halt = halt
        # Nearly all that a long run allocates is kept, so that frequent collections find nothing.
        thresholds = gc.get_threshold()
        if 0 < thresholds[0] < YOUNG:
            gc.set_threshold(YOUNG, *thresholds[1:])
        try:
            self.carrier.run(self._loop)
        finally:
            gc.set_threshold(*thresholds)
            self.running = False
            self.current = None

    def advance_to(self, until_ns: int) -> None:
        """Run what is due up to and including an instant, and stand there."""
        self.run_until(until_ns)
        self.now = until_ns
        self.forget_present()

    def forget_present(self) -> None:
        """Empty every stock of the present instant."""
        for stock in self.present:
            stock.clear()
        self.present.clear()

    def run_dry(self, limit_ns: int) -> None:
        """Run until no job is open; raise `NotDry` where that takes longer than the limit."""
        end = self.now + limit_ns
        if self.open:
            self.run_until(end, halt=2)
        if self.open:
            left = [job for job in self.jobs if job.state in OPEN]
            shown = "; ".join(self._predicament(job) for job in left[:5]) + ("; ..." if len(left) > 5 else "")
            raise NotDry(f"{len(left)} of {len(self.jobs)} jobs are still open after {spell(limit_ns)}: {shown}")

    def _predicament(self, job: Job) -> str:
        if job.state == "running":
            attempt = job.live or job.attempts[-1]
            since = f"attempt {attempt.number} on {attempt.worker} since {self.timeline.text(attempt.started_ns)}"
            return f"{job.id} is running ({since})"
        if job.state == "ready":
            served = self._route(job.queue) is not None
            return f"{job.id} is ready" + (" (no worker is free)" if served else f" (nobody serves {job.queue!r})")
        return f"{job.id} is {job.state} until {self.timeline.text(job.due_ns)}"

    @property
    def next_due_ns(self) -> int | None:
        """The instant of the next event; None where nothing is pending."""
        heap = self._heap
        while heap:
            at, _, _, function, argument = heap[0]
            if function is self._due_event and argument.state == "withdrawn":
                heappop(heap)
                continue
            return max(at, self.now)
        return None

    def _loop(self) -> None:
        heap = self._heap
        while True:
            if self._uneven:
                self._dispatch()
                continue
            if not heap or heap[0][0] > self._until:
                return
            event = heappop(heap)
            # An event may be late: time spent by the test itself can pass it by.
            if event[0] > self.now:
                self.now = event[0]
                if self.present:
                    self.forget_present()
            event[3](event[4])
            if self._halt and (self._halt == 1 or not self.open):
                if self._halt == 1:
                    self._until = self.start_ns - 1
                elif not self._uneven:
                    return

    # --- jobs ---------------------------------------------------------------------------------------

    def _route(self, queue: str) -> Pool | None:
        pool = self._routes.get(queue)
        if pool is None:
            for candidate in self.pools:
                if candidate.queue(queue) is not None and (pool is None or not candidate.everything):
                    pool = candidate
            if pool is not None:
                self._routes[queue] = pool
        return pool

    def _unserved(self, queue: str) -> str:
        served = (name for pool in self.pools for name in pool.queues)
        return f"queue {queue!r}, which no worker serves; {nearest(queue, served)}"

    def _due(self, job: Job) -> None:
        if job.state == "withdrawn":
            return
        pool = self._routes.get(job.queue) or self._route(job.queue)
        if pool is None:
            self.schedule(job.due_ns, job.priority, self._due_event, job)  # nothing is lost
            raise PolicyError(f"{job.id} waits in {self._unserved(job.queue)}")
        if pool.free and not pool.waiting:
            self._start(job, pool)
            return
        job.state = "ready"
        pool.push(job)
        if pool.free:
            self._uneven = True

    def _dispatch(self) -> None:
        """Give one ready job to a free worker; where there is none, say that all is even."""
        for pool in self.pools:
            if pool.free and pool.waiting:
                job = pool.take()
                if job is not None:
                    self._start(job, pool)
                    return
        self._uneven = False

    def _start(self, job: Job, pool: Pool) -> None:
        type = job.type
        now = self.now
        job.tries = number = job.tries + 1
        if number == job.round + 1:
            job.first_ns = now
            job.waited_ns = 0
        worker = pool.free.pop()
        job.live = attempt = Attempt(job, number, now, worker, pool)
        job.state = "running"
        self._record((now, "started", job, number, worker, 0, None, 0))
        spend = type.takes_ns
        if type.timeout_ns is not None:
            attempt.deadline_ns = now + type.timeout_ns
        if self.faults.attempt:
            for fault in self.faults.attempt:
                if (fault.job is None or fault.job == type.name) and fault.strikes(now, number, attempt):
                    if fault.kind == "hang":
                        if attempt.deadline_ns >= 0:
                            self.schedule(attempt.deadline_ns, job.priority, self._time_out, attempt)
                        return
                    if fault.kind == "fail":
                        self._failed(attempt, fault.make())
                        return
                    spend += fault.by_ns
        if spend:
            if 0 <= attempt.deadline_ns < now + spend:
                self.schedule(attempt.deadline_ns, job.priority, self._time_out, attempt)
            else:
                self.schedule(now + spend, job.priority, self._body_event, attempt)
        else:
            self._body(attempt)

    def _body(self, attempt: Attempt) -> None:
        job = attempt.job
        self.current = attempt
        try:
            if job.copies:
                args, kwargs = copy.deepcopy((job.args, job.kwargs))
                result = job.type.fn(*args, **kwargs)
            elif job._kwargs is None:
                result = job.type.fn(*job.args)
            else:
                result = job.type.fn(*job.args, **job._kwargs)
        except Exception as error:
            self.current = None
            # Without this frame, which would tie a knot of references with its own local names.
            error.__traceback__ = error.__traceback__.tb_next  # type: ignore[union-attr]
            self._failed(attempt, error)
            return
        except BaseException as error:
            self.current = None
            if isinstance(error, self.carrier.leaving):
                raise
            self._failed(attempt, error)
            if not _ends_attempt(error):
                raise
            return
        self.current = None
        if attempt.error is not None:  # it timed out, and the job swallowed that
            self._failed(attempt, attempt.error)
            return
        attempt.outcome = "done"
        attempt.ended_ns = now = self.now
        job.live = None
        job.state = "done"
        job.result = result
        job.error = None
        self.open -= 1
        self._record((now, "done", job, attempt.number, result, 0, None, 0))
        pool = attempt.pool
        pool.free.append(attempt.worker)
        if pool.waiting:
            self._uneven = True
        if job.closed is not None:
            job.closed(job)

    def _time_out(self, attempt: Attempt) -> None:
        """End an attempt that waits outside its own code (it hangs, or spends modelled time)."""
        self._failed(attempt, self._timeout_of(attempt))

    def _timeout_of(self, attempt: Attempt) -> AttemptTimeout:
        allowed = spell(attempt.deadline_ns - attempt.started_ns)
        return AttemptTimeout(f"attempt {attempt.number} of {attempt.job.id} used up its timeout of {allowed}")

    def _failed(self, attempt: Attempt, error: BaseException) -> None:
        job = attempt.job
        now = self.now
        what: Outcome = "failed"
        if attempt.deadline_ns >= 0:
            if attempt.error is not None:
                error = attempt.error  # the timeout, whatever the job made of it
            if isinstance(error, AttemptTimeout):
                what = "timed-out"
        attempt.error = job.error = error
        attempt.outcome = what
        attempt.ended_ns = now
        code, instruction = innermost(error)
        job.live = None
        pool = attempt.pool
        pool.free.append(attempt.worker)
        if pool.waiting:
            self._uneven = True
        number = attempt.number
        spent = number - job.round
        retry = job.type.retry
        if spent <= len(retry.table) and isinstance(error, retry.on):
            wait = retry.table[spent - 1]
        else:
            elapsed = now - job.first_ns
            try:
                verdict, wait = retry.decide(spent, error, job.waited_ns, elapsed, self._jitter)
            except BaseException:
                job.state = "dead"
                self.open -= 1
                self._record((now, what, job, number, error, DEAD, code, instruction))
                raise
            if verdict != "retry":
                job.state = verdict
                self.open -= 1
                self._record((now, what, job, number, error, DEAD if verdict == "dead" else DROPPED, code, instruction))
                if job.closed is not None:
                    job.closed(job)
                return
        error.__traceback__ = None  # it keeps every frame and its locals alive; a final error keeps its own
        attempt.waited_ns = job.waited_ns = wait
        job.state = "backing-off"
        job.due_ns = due = now + wait
        self._record((now, what, job, number, error, wait, code, instruction))
        self._order += 1
        heappush(self._heap, (due, job.priority, self._order, self._due_event, job))

    def attempts_of(self, job: Job) -> list[Attempt]:
        """Return every attempt at a job as the history has it, the running one included."""
        made: list[Attempt] = []
        for ns, what, _, number, detail, wait, code, instruction in self.history.of_job(job):
            if what == "started":
                live = job.live
                running = live is not None and live.number == number
                made.append(live if live and running else Attempt(job, number, ns, detail, self.pools[0]))
            elif what in ("done", *ENDED_BADLY):
                attempt = made[number - 1]
                attempt.outcome = what  # type: ignore[assignment]
                attempt.ended_ns = ns
                if what != "done":
                    attempt.error, attempt.waited_ns = detail, wait
                    attempt.line = "" if code is None else spot(code, instruction)
        return made

    def _jitter(self) -> random.Random:
        return self.generator("jitter")

    def _refuse(self, type: JobType, args: tuple[Any, ...]) -> None:
        number = self._asked[type.name] = self._asked.get(type.name, 0) + 1
        for fault in self.faults.enqueue:
            if (fault.job is None or fault.job == type.name) and fault.strikes(self.now, number, args):
                error = fault.make()
                self._record((self.now, "refused", None, 0, (type.name, error), 0, None, 0))
                raise error

    # --- a job that lets time pass ------------------------------------------------------------------

    def sleep(self, ns: int) -> None:
        """Let time pass inside the running attempt; the host calls this for `time.sleep` and its like.

        Raises `AttemptTimeout` at the attempt's deadline where that comes first.
        """
        attempt = self.current
        if attempt is None:
            raise RigStateError("nothing is running that could sleep")
        wake = self.now + ns
        deadline = attempt.deadline_ns
        if 0 <= deadline < wake:
            wake = max(deadline, self.now)
            self.schedule(wake, attempt.job.priority, self._interrupt, attempt)
        else:
            self.schedule(wake, attempt.job.priority, self._wake, attempt)
        self.current = None
        try:
            self.carrier.park(attempt)
        finally:
            self.current = attempt

    def _wake(self, attempt: Attempt) -> None:
        self.carrier.resume(attempt)

    def _interrupt(self, attempt: Attempt) -> None:
        attempt.error = self._timeout_of(attempt)
        self.carrier.throw(attempt, attempt.error)

    def stop(self, error: IronClockError) -> IronClockError:
        """End the whole run with an error that no `except` in a job can swallow; return it where none is running."""
        if self.current is not None:
            self.carrier.abort(error)
        return error


def _ends_attempt(error: BaseException) -> bool:
    """Whether a worker would survive this: a job's own exit or cancellation ends its attempt, no more."""
    return isinstance(error, SystemExit) or type(error).__name__ == "CancelledError"
