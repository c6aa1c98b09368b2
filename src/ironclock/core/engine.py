"""The engine: jobs on the clockwork, from their enqueueing to their last attempt.

Here is the way that nearly every attempt takes. What only some worlds have (leases, crashes, limits, hooks) stands
in `delivery` and `admission`, and costs the others one look at a flag.
"""

from __future__ import annotations

import copy
import random
from collections.abc import Callable
from contextlib import AbstractContextManager, ExitStack
from heapq import heappush
from typing import Any

from .admission import Admission
from .clockwork import Clockwork
from .delivery import Delivery
from .durations import spell
from .effects import Effects
from .errors import AttemptTimeout, NotDry, PolicyError, RigStateError, StuckError, UnknownJob, nearest
from .faults import Faults
from .history import DEAD, DROPPED, ENDED, ENDED_BADLY, History
from .jobs import OPEN, Attempt, Job, Outcome
from .memory import Memory
from .policy import Call, JobType, job_name
from .pool import Pool
from .queues import Controls
from .requests import Requests
from .timeline import Timeline
from .transactions import Transactions
from .where import calling, innermost, spot

_OPEN = frozenset(OPEN)

DEPTH_LIMIT = 10_000
"""How many jobs may enqueue one another at one instant before it is called a loop."""


class Engine(Clockwork):
    """The simulated world: clock, jobs, queues, workers, faults and history, without any interface."""

    def __init__(self, timeline: Timeline, start_ns: int, seed: object = 0) -> None:
        super().__init__(timeline, start_ns, seed)
        self.history = History(timeline, seed)
        self.jumped_ns = 0
        self.special = False
        """Whether every attempt needs more than its function's call: faults at seams, hooks, limits ..."""
        self.gated = False
        """Whether a job that is due may have to wait although a worker is free."""
        self.lenient: Callable[[], bool] = lambda: True
        """Whether a name may come to be known later."""
        self.types: dict[str, JobType] = {}
        self.jobs: list[Job] = []
        self.pools: list[Pool] = []
        self.around_enqueue: list[Callable[[Call], AbstractContextManager[Any]]] = []
        self.around_attempt: list[Callable[[Attempt], AbstractContextManager[Any]]] = []
        self.enqueued: list[Callable[[Job], None]] = []
        """Told of every job that is enqueued."""
        self._routes: dict[str, Pool] = {}
        self._record = self.history.add
        self._due_event = self._due
        self._body_event = self._body_later
        self._numbers = 0  # of the jobs so far
        self._asked: dict[str, int] = {}  # enqueue calls so far by job name, for refuse_enqueue
        self.controls = Controls(self)
        self.delivery = Delivery(self)
        self.admission = Admission(self)
        self.effects = Effects(self)
        self.transactions = Transactions(self)
        self.requests = Requests(self)
        self.memory = Memory(self)
        self.faults = Faults(timeline, seed, self.known_name, self.rearm, self.plan, self.jump)

    @property
    def wall_off_ns(self) -> int:
        """How far the wall clock is from the engine's instants, where it was set, or on a host that is wrong."""
        task = self.current
        return self.jumped_ns + (task.pool.skew_ns if isinstance(task, Attempt) else 0)

    def jump(self, by_ns: int) -> None:
        """Set the wall clock forward or back."""
        self.jumped_ns += by_ns
        self.forget_present()
        self.record("note", detail=f"the wall clock jumps by {spell(by_ns)}")

    # --- what a rig is told -------------------------------------------------------------------------

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

    def rearm(self) -> None:
        """Take note of what has become special about this world."""
        faults = self.faults
        self.passing = self.delivery.pass_seam if faults.seam or self.delivery.recorder is not None else None
        self.skewed = any(pool.skew_ns for pool in self.pools)
        self.special = bool(
            self.passing or faults.ack or faults.twice or faults.outages or self.controls.by_name
            or self.around_attempt or self.skewed
        )  # fmt: skip
        self.gated = bool(
            faults.delivery or faults.outages or self.controls.by_name or any(pool.stopped for pool in self.pools)
        )
        for pool in self.pools:
            pool.gate = self.controls.admit if self.controls.by_name or faults.outages else None

    def plan(self, at_ns: int, function: Callable[[Any], None], argument: Any) -> None:
        """Put an event of the world itself on the heap, before anything else at its instant."""
        self.schedule(max(at_ns, self.now), -1_000_000, function, argument)

    def record(self, what: str, job: Job | None = None, attempt: int = 0, detail: Any = None) -> None:
        """Write a line into the history, at this instant."""
        self._record((self.now, what, job, attempt, detail, 0, None, 0))

    def add_pool(self, pool: Pool) -> None:
        """Add workers; raise `RigStateError` when one of their queues has workers already."""
        for other in self.pools:
            shared = sorted(set(other.queues) & set(pool.queues))
            if shared:
                what = "every queue" if shared == ["*"] else f"queue {shared[0]!r}"
                raise RigStateError(f"{what} has its workers already; name other queues for the new ones")
        offset = sum(p.size for p in self.pools)
        pool.free = [f"w{offset + n}" for n in range(pool.size, 0, -1)]
        pool.doubles = self.delivery.doubles
        self.pools.append(pool)
        self._routes.clear()
        self.rearm()

    def enqueue(
        self, type: JobType, args: tuple[Any, ...], kwargs: dict[str, Any], due_ns: int,
        queue: str | None = None, priority: int | None = None, key: Any = None, hooked: bool = False,
    ) -> Job:  # fmt: skip
        """Enqueue a job that is due at `due_ns` (nanoseconds since the epoch, not before `now`)."""
        if self.around_enqueue and not hooked:
            with ExitStack() as stack:
                for hook in self.around_enqueue:
                    stack.enter_context(hook(Call(type, args, kwargs)))
                return self.enqueue(type, args, kwargs, due_ns, queue, priority, key, True)
        current = self.current
        if self.passing is not None and current is not None:
            self.passing("enqueue")
        now = self.now
        if queue is None:
            queue = type.queue
        if priority is None:
            priority = type.priority
        if self.faults.enqueue or self.faults.outages:
            self._refuse(type, args, queue)
        if self.pools and self._route(queue) is None:
            raise PolicyError(f"{type.name} is asked into {self._unserved(queue)}")
        if type.admits:
            key = type.key_of(args, kwargs) if key is None else key
            kept = self.admission.only(type, args, kwargs, key)
            if kept is not None:
                return kept
        self._numbers += 1
        job = Job(self, type, self._numbers, args, kwargs, queue, priority, now, due_ns)
        if key is not None:
            job.key = key
        if type.admits:
            self.admission.pend(job)
        if current is not None and current.job is not None:
            parent = current.job
            if due_ns <= now and parent.enqueued_ns == now:
                job.depth = parent.depth + 1
                if job.depth > DEPTH_LIMIT:
                    raise self.stop(StuckError(
                        f"{type.name} is enqueued without delay by {parent.name}, over {DEPTH_LIMIT} times in a row "
                        f"at {self.timeline.text(now)}, at {calling()}; give it a delay or an end"
                    ))  # fmt: skip
        if self.transactions.open and self.transactions.takes(job):
            return job
        self.jobs.append(job)
        self.open += 1
        self._record((now, "enqueued", job, 0, due_ns, 0, None, 0))
        self._order += 1
        heappush(self._heap, (due_ns, priority, self._order, self._due_event, job))
        if type.expires_ns >= 0:
            self.schedule(now + type.expires_ns, 0, self.admission.expire, job)
        if self.enqueued:
            for told in self.enqueued[:]:
                told(job)
        if self.passing is not None and current is not None:
            self.passing("after enqueue")
        if self.transactions.open:
            self.transactions.early(job)
        return job

    def put(self, job: Job) -> None:
        """Enqueue a job that its transaction has kept back until now."""
        now = job.enqueued_ns = self.now
        job.due_ns = max(job.due_ns, now)
        if job.state == "ready" or job.due_ns <= now:
            job.state = "ready"
        self.jobs.append(job)
        self.open += 1
        self._record((now, "enqueued", job, 0, job.due_ns, 0, None, 0))
        self.schedule(job.due_ns, job.priority, self._due_event, job)
        if job.type.expires_ns >= 0:
            self.schedule(now + job.type.expires_ns, 0, self.admission.expire, job)
        for told in self.enqueued[:]:
            told(job)

    def withdraw(self, job: Job, running: str = "refuse") -> None:
        """Cancel a job; raise `RigStateError` where it has ended, or runs and may not be stopped."""
        if job.state == "running" and running != "refuse":
            self.delivery.cancel(job, running)
            return
        if job.state not in ("held", "ready", "backing-off"):
            more = "; say what becomes of a running one: running='ask', 'throw' or 'kill'" * (job.state == "running")
            raise RigStateError(
                f"{job.id} is {job.state}; only a held, ready or backing-off job can be withdrawn{more}"
            )
        self.close(job, "withdrawn", "withdrawn")

    def close(self, job: Job, state: Any, what: str, attempt: int = 0, detail: Any = None) -> None:
        """Give an open job its last state, with a line in the history."""
        job.state = state
        job.live = None
        self.open -= 1
        self.record(what, job, attempt, detail)
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
        job.spent = 0
        job.first_ns = -1
        job.due_ns = self.now
        job.state = "ready"
        self.open += 1
        self.record("requeued", job, 0, self.now)
        self.schedule(self.now, job.priority, self._due_event, job)

    def discard(self, job: Job) -> None:
        """Give a dead job up for good: it becomes `dropped`."""
        self.must_be_dead(job)
        job.state = "dropped"
        self.record("discarded", job)

    # --- moving the clock ---------------------------------------------------------------------------

    def _prepare(self) -> None:
        if not self.pools:
            self.add_pool(Pool(1))

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
            if self._route(job.queue) is None:
                return f"{job.id} is ready (nobody serves {job.queue!r})"
            return f"{job.id} is ready ({self.controls.why(job) or 'no worker is free'})"
        held = self.admission.why(job)
        return f"{job.id} is {job.state} {held or 'until ' + self.timeline.text(job.due_ns)}"

    @property
    def next_due_ns(self) -> int | None:
        """The instant of the next event; None where nothing is pending."""
        heap = self._heap
        while heap:
            at, _, _, function, argument = heap[0]
            if function is self._due_event and argument.state == "withdrawn":
                from heapq import heappop

                heappop(heap)
                continue
            return max(at, self.now)
        return None

    # --- jobs ---------------------------------------------------------------------------------------

    def route(self, queue: str) -> Pool:
        """Return the workers that serve a queue; raise `PolicyError` where there are none."""
        pool = self._routes.get(queue) or self._route(queue)
        if pool is None:
            raise PolicyError(f"there is no such {self._unserved(queue)}")
        return pool

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
        if job.state not in _OPEN:
            return
        pool = self._routes.get(job.queue) or self._route(job.queue)
        if pool is None:
            self.schedule(job.due_ns, job.priority, self._due_event, job)  # nothing is lost
            raise PolicyError(f"{job.id} waits in {self._unserved(job.queue)}")
        if job.type.admits and self.admission.holds_back(job):
            return
        if self.gated:
            if self.faults.delivery and self.delivery.put_off(job):
                return
        elif pool.free and not pool.waiting:
            self._start(job, pool)
            return
        job.state = "ready"
        pool.push(job)
        if pool.free:
            self._uneven = True

    def _dispatch(self) -> None:
        """Give one ready job to a free worker; where there is none, say that all is even."""
        for pool in self.pools:
            if pool.free and pool.waiting and not pool.stopped:
                job = pool.take()
                if job is not None:
                    if job.state == "ready":
                        self._start(job, pool)
                    else:
                        self.delivery.start_double(job, pool)
                    return
        self._uneven = False

    def uneven(self) -> None:
        """Say that a ready job may have met a free worker."""
        self._uneven = True

    def _start(self, job: Job, pool: Pool) -> None:
        type = job.type
        now = self.now
        job.tries = number = job.tries + 1
        if job.first_ns < 0:
            job.first_ns = now
            job.waited_ns = 0
        worker = pool.free.pop()
        job.live = attempt = Attempt(job, number, now, worker, pool)
        job.state = "running"
        self._record((now, "started", job, number, worker, 0, None, 0))
        if type.timeout_ns is not None:
            attempt.deadline_ns = now + type.timeout_ns
        if (type.special or self.special) and not self.delivery.begin(attempt):
            return
        spend = type.takes_ns
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

    def _body_later(self, attempt: Attempt) -> None:
        if attempt.outcome == "running":
            self._body(attempt)

    def _body(self, attempt: Attempt) -> None:
        job = attempt.job
        self.current = attempt
        try:
            if attempt.odd:
                result = self.delivery.perform(attempt)
            elif job.copies:
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
        if attempt.odd and not self.delivery.returned(attempt, result):
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
        if attempt.outcome == "running":
            self._failed(attempt, attempt.late())

    def _failed(self, attempt: Attempt, error: BaseException) -> None:
        job = attempt.job
        now = self.now
        what: Outcome = "failed"
        if attempt.error is not None:
            error = attempt.error  # the timeout, whatever the job made of it
        if type(error) is AttemptTimeout:
            what = "timed-out"
        if attempt.odd and self.delivery.failed(attempt, error, what):
            return
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
        job.spent = spent = job.spent + 1
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
        """Return every attempt at a job as the history has it, those still running included."""
        made: list[Attempt] = []
        for ns, what, _, number, detail, wait, code, instruction in self.history.of_job(job):
            if what == "started":
                live = self.delivery.strays.get((job.number, number), job.live)
                running = live is not None and live.number == number
                made.append(live if live and running else Attempt(job, number, ns, detail, self.pools[0]))
            elif what in ENDED:
                attempt = made[number - 1]
                attempt.outcome = what  # type: ignore[assignment]
                attempt.ended_ns = ns
                if what in ENDED_BADLY:
                    attempt.error, attempt.waited_ns = detail, wait
                    attempt.line = "" if code is None else spot(code, instruction)
        return made

    def _jitter(self) -> random.Random:
        return self.generator("jitter")

    def _refuse(self, type: JobType, args: tuple[Any, ...], queue: str) -> None:
        number = self._asked[type.name] = self._asked.get(type.name, 0) + 1
        error = self.faults.outage_of(queue, self.now)
        for fault in self.faults.enqueue if error is None else ():
            if (fault.job is None or fault.job == type.name) and fault.strikes(self.now, number, args):
                error = fault.make()
                break
        if error is not None:
            self.record("refused", detail=(type.name, error))
            raise error


def _ends_attempt(error: BaseException) -> bool:
    """Whether a worker would survive this: a job's own exit or cancellation ends its attempt, no more."""
    return isinstance(error, SystemExit) or type(error).__name__ in ("CancelledError", "AttemptCancelled")
