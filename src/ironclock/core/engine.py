"""The engine: jobs on the clockwork, from the instant at which they fall due to their last attempt.

Here is the way that nearly every attempt takes. What only some worlds have (leases, crashes, limits, hooks) stands
in `delivery` and `admission`, and costs the others one look at a flag.
"""

from __future__ import annotations

import copy
import random
from heapq import heappush

from .admission import Admission
from .delivery import Delivery
from .desk import Desk
from .durations import spell
from .effects import Effects
from .errors import AttemptTimeout, InputError, NotDry, PolicyError, is_cancellation, nearest
from .faults import SEAMS, Fault
from .jobs import OPEN, Attempt, Job, Outcome, died_at
from .memory import Memory
from .pool import Pool
from .queues import Controls
from .requests import Requests
from .shapes import DEAD, DROPPED, ENDED, ENDED_BADLY
from .stopping import Stopping
from .timeline import Timeline
from .transactions import Transactions
from .where import innermost, spot

_OPEN = frozenset(OPEN)


class Engine(Desk):
    """The simulated world: clock, jobs, queues, workers, faults and history, without any interface."""

    def __init__(self, timeline: Timeline, start_ns: int, seed: object = 0) -> None:
        super().__init__(timeline, start_ns, seed)
        self._due_event = self._due
        self._body_event = self._body_later
        self.controls = Controls(self)
        self.delivery = Delivery(self)
        self.stopping = Stopping(self)
        self.admission = Admission(self)
        self.effects = Effects(self)
        self.transactions = Transactions(self)
        self.requests = Requests(self)
        self.memory = Memory(self)

    # --- moving the clock ---------------------------------------------------------------------------

    def _prepare(self) -> None:
        if not self.pools:
            self.add_pool(Pool(1))
        for fault in self.faults.seam:
            when, _, effect = fault.at.partition(" ")
            if when in ("before", "after") and fault.at not in SEAMS and effect not in self.effects.names:
                near = nearest(effect, self.effects.names)
                raise InputError(f"a fault stands {fault.at!r}, and no effect is called {effect!r}; {near}")

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
            if self.delivery.put_off(job):
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
        if (
            type.special or self.special or (self.singled_out and job.number in self.singled_out)
        ) and not self.delivery.begin(attempt):
            return
        spend = type.takes_ns if type.spread is None else self.spend(type)
        if self.faults.attempt:
            for fault in self.faults.attempt:
                if (fault.job is None or fault.job == type.name) and fault.strikes(now, number, attempt):
                    if fault.kind == "hang":
                        if attempt.deadline_ns >= 0:
                            self.schedule(attempt.deadline_ns, job.priority, self._time_out, attempt)
                        return
                    if fault.kind == "fail":
                        self._fail_after(attempt, fault)
                        return
                    spend += fault.by_ns
        if spend:
            if 0 <= attempt.deadline_ns < now + spend:
                self.schedule(attempt.deadline_ns, job.priority, self._time_out, attempt)
            else:
                self.schedule(now + spend, job.priority, self._body_event, attempt)
        else:
            self._body(attempt)

    def _fail_after(self, attempt: Attempt, fault: Fault) -> None:
        """Let an attempt fail, at once or after the time that this takes."""
        error, at = fault.make(), self.now + fault.by_ns
        if not fault.by_ns:
            self._failed(attempt, error)
        elif 0 <= attempt.deadline_ns < at:
            self.schedule(attempt.deadline_ns, attempt.job.priority, self._time_out, attempt)
        else:
            self.schedule(at, attempt.job.priority, self._fail_now, (attempt, error))

    def _fail_now(self, both: tuple[Attempt, BaseException]) -> None:
        attempt, error = both
        if attempt.outcome == "running":
            self._failed(attempt, error)

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
                if what == "crashed":
                    attempt.error = died_at(attempt, detail)
                if what in ENDED_BADLY:
                    attempt.error, attempt.waited_ns = detail, wait
                    attempt.line = "" if code is None else spot(code, instruction)
        return made

    def _jitter(self) -> random.Random:
        return self.generator("jitter")


def _ends_attempt(error: BaseException) -> bool:
    """Whether a worker would survive this: a job's own exit or cancellation ends its attempt, no more."""
    return isinstance(error, SystemExit) or is_cancellation(error)
