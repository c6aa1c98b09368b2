"""Delivery: leases, acknowledgements, second deliveries, and jobs that go back to their queue.

The queue delivers at least once. It delivers a job again if the lease ends, if the worker dies, or if the
acknowledgement is lost. So two attempts at one job can run at the same time; only one of them counts.
"""

from __future__ import annotations

from typing import Literal, TypeAlias

from ..errors import StuckError, WorkerDied
from ..foundation.durations import spell
from ..history.history import History
from .broker import Broker
from .event_loop import FIRST, EventLoop
from .faults.judge import Judge
from .faults.kind import About, Operation, Passing, Subject
from .jobs import OPEN, LiveAttempt, LiveJob
from .life import JobLives
from .pools import Pools

DELIVERIES_LIMIT = 500
"""How often one job can be delivered at one instant before that is an endless loop."""

Acknowledgement: TypeAlias = Literal["accepted", "ignored", "lost"]
"""What becomes of an acknowledgement: the queue accepts it, it no longer wants it, or it never gets it."""


class Delivery:
    """The deliveries of a simulation that are more than one simple attempt."""

    def __init__(
        self, loop: EventLoop, history: History, pools: Pools, judge: Judge, lives: JobLives, broker: Broker
    ) -> None:
        self._loop = loop
        self._history = history
        self._pools = pools
        self._judge = judge
        self._lives = lives
        self._broker = broker
        self.second_deliveries: dict[int, int] = pools.second_deliveries
        """By job number, how many more deliveries of the same message wait."""
        self.uncounted: dict[tuple[int, int], LiveAttempt] = {}
        """By job and attempt number, the attempts that are running and do not count for the queue."""
        loop.is_idle[self._lease_ended] = lambda attempt: not self._holds_lease(attempt)
        self._awaited: set[tuple[int, int]] = set()  # uncounted attempts that a run waits for beside their job
        self._deliveries_now: dict[int, tuple[int, int]] = {}  # by job number, an instant and the deliveries at it

    # --- leases -------------------------------------------------------------------------------------

    def start_lease(self, attempt: LiveAttempt) -> None:
        """Start the lease of an attempt, if its job type has one."""
        lease_ns = attempt.job.type.lease_ns
        if lease_ns >= 0:
            # After everything else that is due then: an acknowledgement at the very end of the lease is in time.
            self._loop.schedule(self._loop.now + lease_ns, -FIRST, self._lease_ended, attempt)

    def _lease_ended(self, attempt: LiveAttempt) -> None:
        job = attempt.job
        if not self._holds_lease(attempt):
            return
        if attempt.outcome == "running":
            self.uncounted[job.number, attempt.number] = attempt
            self._awaited.add((job.number, attempt.number))
            self._lives.await_beside()
        attempt.counts = False
        self._history.record("lease-ended", job, attempt.number)
        self.put_back(job, "its lease has ended")

    @staticmethod
    def _holds_lease(attempt: LiveAttempt) -> bool:
        job = attempt.job
        return attempt.counts and job.state == "running" and job.attempts_made == attempt.number

    # --- second deliveries --------------------------------------------------------------------------

    def deliver_twice(self, attempt: LiveAttempt, after_ns: int) -> None:
        """Deliver the message of an attempt a second time, so long after its start."""
        job, loop = attempt.job, self._loop
        self.second_deliveries[job.number] = self.second_deliveries.get(job.number, 0) + 1
        self._lives.await_beside()  # until the second attempt has ended
        self._history.record("delivered-twice", job, attempt.number)
        loop.schedule_world_event(loop.now + after_ns, self._arrive_again, job)

    def _arrive_again(self, job: LiveJob) -> None:
        self._pools.of(job.queue).push(job)
        self._loop.work_to_dispatch = True

    def second_attempt_started(self, attempt: LiveAttempt) -> None:
        """Note that the second of two deliveries has started. It does not count for the queue."""
        job = attempt.job
        left = self.second_deliveries.get(job.number, 0) - 1
        if left > 0:
            self.second_deliveries[job.number] = left
        else:
            self.second_deliveries.pop(job.number, None)
        attempt.counts = False
        self.uncounted[job.number, attempt.number] = attempt
        self._awaited.add((job.number, attempt.number))

    def ended(self, attempt: LiveAttempt) -> None:
        """Note that an attempt has ended, whatever its outcome."""
        self._stop_awaiting(attempt)
        self.uncounted.pop((attempt.job.number, attempt.number), None)

    def _stop_awaiting(self, attempt: LiveAttempt) -> bool:
        """Stop waiting for an attempt; return True if a run has waited for it beside its job."""
        key = attempt.job.number, attempt.number
        if key not in self._awaited:
            return False
        self._awaited.discard(key)
        self._lives.no_longer_await()
        return True

    # --- acknowledgements ---------------------------------------------------------------------------

    def acknowledge(self, attempt: LiveAttempt, lost: bool) -> Acknowledgement:
        """Return what becomes of the acknowledgement of an attempt that has returned.

        `lost`: a fault has struck the acknowledgement. An outage can lose it as well.
        """
        job = attempt.job
        if not attempt.counts and job.state not in OPEN:
            return "ignored"
        lost = lost or self._judge.placed.outage_until(job.queue, self._loop.now) is not None
        if not attempt.counts:
            if lost:
                return "ignored"
            self._take_over(attempt)
            return "accepted"
        return "lost" if lost and job.type.policy.ack == "late" else "accepted"

    def _take_over(self, attempt: LiveAttempt) -> None:
        """Let an attempt that did not count do its job: of several attempts, the first that returns has done it."""
        job = attempt.job
        self.uncounted.pop((job.number, attempt.number), None)
        other = job.running_attempt
        awaited = self._stop_awaiting(attempt)
        if other is not None and other is not attempt:
            if awaited:
                self._lives.await_beside()
                self._awaited.add((job.number, other.number))
            other.track()
            other.counts = False
            self.uncounted[job.number, other.number] = other

    # --- delivering again ---------------------------------------------------------------------------

    def deliver_again(self, attempt: LiveAttempt) -> None:
        """Deliver a job again because the queue heard nothing of its attempt. With a lease, that has to end first."""
        if attempt.job.type.lease_ns < 0:
            attempt.counts = False
            crashed = attempt.outcome == "crashed"
            self.put_back(attempt.job, "its worker is gone" if crashed else "nobody acknowledged it")

    def put_back(self, job: LiveJob, why: str) -> None:
        """Put a job back into its queue. After too many deliveries it becomes a dead letter."""
        now = self._loop.now
        limit = job.type.policy.deliveries
        job.unacknowledged += 1
        if limit is not None and job.unacknowledged >= limit:
            job.error = job.error or WorkerDied(f"{job.id} was delivered {limit} times and never acknowledged")
            self._lives.close(job, "dead", "given-up", 0, limit)
            return
        at, count = self._deliveries_now.get(job.number, (-1, 0))
        count = count + 1 if at == now else 1
        self._deliveries_now[job.number] = now, count
        if count > DELIVERIES_LIMIT:
            raise self._loop.stop(StuckError(
                f"{job.id} is delivered over {DELIVERIES_LIMIT} times at {self._loop.timeline.text(now)}, because its "
                "workers always die; give the fault attempts=..., or the job type a lease or deliveries=..."
            ))  # fmt: skip
        self._lives.redelivered(job, now, why)
        self._broker.make_due(job)

    def delays(self, job: LiveJob) -> bool:
        """Delay the delivery of a job if a fault says so; return True if it comes later."""
        due = _Due(job)
        self._judge.strike(due)
        if not due.over:
            return False
        job.due_ns = self._loop.now + due.late_ns
        self._history.record("note", job, 0, f"its delivery is late by {spell(due.late_ns)}")
        self._loop.schedule(job.due_ns, job.priority, self._broker.on_due, job)
        return True


class _Due(Passing):
    """A job that becomes due, on its way to a worker."""

    can: frozenset[Operation] = frozenset({"come_late"})
    about: About = "job"
    runs_code = False

    def __init__(self, job: LiveJob) -> None:
        super().__init__("delivery", job.id)
        self._job = job
        self.job_number = job.number
        self.late_ns = 0

    def subjects(self) -> tuple[Subject, ...]:
        job = self._job
        delivery = job.number, job.attempts_made
        return (Subject(job.type.name, job.attempts_made + 1, lambda: job.reader, identity=delivery),)

    def come_late(self, ns: int) -> None:
        self.over = True
        self.late_ns = ns
