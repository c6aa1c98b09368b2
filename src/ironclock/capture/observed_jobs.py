"""Observed jobs: jobs that the application's own workers run. The rig writes them down, and does not run them.

What becomes of such a job is known from two sides. A call of its handler shows when an attempt starts and ends. Its row
in a job table shows what follows: it is done, it waits for another attempt, or it is dead. The end of an attempt is
written down as soon as both are known.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Protocol

from ..errors import WorkerDied, is_cancellation
from ..foundation.source_location import innermost, users_part
from ..history.records import DEAD, UNHEARD
from ..simulation.jobs import OPEN, LiveAttempt, LiveJob, Outcome

if TYPE_CHECKING:
    from ..simulation.policy import JobType
    from ..simulation.simulation import Simulation


class Worker(Protocol):
    """Who runs the attempts at observed jobs: a worker loop."""

    name: str
    open: list[LiveAttempt]

    def new_attempt(self, job: LiveJob, number: int) -> LiveAttempt:
        """Return a new attempt of this worker."""


class ObservedJobs:
    """The observed jobs of a simulation."""

    def __init__(self, simulation: Simulation) -> None:
        self._loop = simulation.loop
        self._history = simulation.history
        self._broker = simulation.broker
        self._unsettled: list[LiveAttempt] = []
        """Attempts whose code is over, and of which the table has not said what follows."""

    def enter(
        self, type: JobType[..., Any], args: tuple[Any, ...], kwargs: dict[str, Any], due_ns: int,
        queue: str | None = None, priority: int | None = None, key: Any = None,
    ) -> LiveJob:  # fmt: skip
        """Write down that the application has enqueued a job."""
        return self._broker.write_down(type, args, kwargs, due_ns, queue, priority, key)

    # --- attempts -----------------------------------------------------------------------------------

    def begin(self, job: LiveJob, worker: Worker) -> LiveAttempt:
        """Write down that a worker starts an attempt."""
        if job.state not in OPEN:
            self._reopen(job)
        now = self._loop.now
        job.attempts_made += 1
        if job.first_ns < 0:
            job.first_ns = now
        attempt = worker.new_attempt(job, job.attempts_made)
        attempt.track()
        self._history.add((now, "started", job, attempt.number, worker.name, 0, None, 0))
        job.running_attempt = attempt
        job.state = "running"
        return attempt

    def code_ended(self, attempt: LiveAttempt, result: Any, error: BaseException | None, told_by_row: bool) -> None:
        """Note how the code of an attempt has ended.

        Parameters: `told_by_row` is True if a row says what follows. Without one, a job is done if its code is.
        """
        attempt.ended_ns = self._loop.now
        attempt.error = error
        attempt.job.result = result
        if told_by_row:
            self._unsettled.append(attempt)
        elif error is None:
            self._close(attempt, "done", 0)
            self.close(attempt.job, "done")
        else:
            self._close(attempt, "failed", UNHEARD)
            attempt.job.error = error
            attempt.job.state = "backing-off"

    def died(self, attempt: LiveAttempt, seam: str) -> None:
        """Write down that the worker of an attempt has died."""
        if attempt in self._unsettled:
            self._settle(attempt, UNHEARD)
        if attempt.outcome == "running":
            attempt.error = attempt.job.error = WorkerDied(
                f"{attempt.worker} died at the seam {seam!r} of attempt {attempt.number}"
            )
            attempt.outcome = "crashed"
            attempt.ended_ns = self._loop.now
            self._history.add((self._loop.now, "crashed", attempt.job, attempt.number, seam, 0, None, 0))
        self._released(attempt)

    def settle_rest(self) -> None:
        """Write down the attempts of which the table says nothing, although time has passed: their workers go on."""
        for attempt in list(self._unsettled):
            if attempt.ended_ns < self._loop.now:
                self._settle(attempt, UNHEARD)

    def _settle(self, attempt: LiveAttempt, then: int) -> None:
        self._unsettled.remove(attempt)
        self._close(attempt, "done" if attempt.error is None else "failed", then)

    def _close(self, attempt: LiveAttempt, outcome: Outcome, then: int) -> None:
        job, error = attempt.job, attempt.error
        if error is None:
            self._history.add((self._loop.now, "done", job, attempt.number, job.result, then, None, 0))
        else:
            if is_cancellation(error):
                outcome = "cancelled"
            code, instruction = innermost(error)
            self._history.add((self._loop.now, outcome, job, attempt.number, error, then, code, instruction))
            error.__traceback__ = users_part(error.__traceback__) if then == DEAD else None
        attempt.outcome = outcome
        self._released(attempt)

    def _released(self, attempt: LiveAttempt) -> None:
        if attempt.job.running_attempt is attempt:
            attempt.job.running_attempt = None
        if attempt.loop is not None:
            attempt.loop.released(attempt)

    # --- what a row says ----------------------------------------------------------------------------

    def row_is_done(self, job: LiveJob, by: Worker | None) -> None:
        """The row of a job says that it is done, or it was deleted by its worker.

        Parameters: `by` is the worker that has changed the row. None: nobody knows.
        """
        self._end_attempt(job, 0, None, by)
        self.close(job, "done")

    def row_is_dead(self, job: LiveJob, error: BaseException | None, by: Worker | None) -> None:
        """The row of a job says that it is given up."""
        attempted = self._end_attempt(job, DEAD, error, by)
        job.error = job.error or error
        if attempted:
            self.close(job, "dead")
        elif job.state in OPEN:
            self._broker.close(job, "dead", "given-up", 0, "its row says so")

    def row_waits(self, job: LiveJob, due_ns: int, error: BaseException | None, by: Worker | None) -> None:
        """The row of a job that had a worker waits again."""
        now = self._loop.now
        if job.state not in OPEN:
            self._reopen(job)
        elif self._end_attempt(job, max(0, due_ns - now), error, by):
            job.state = "backing-off"
        elif job.state == "running":
            job.running_attempt = None  # its worker has died, or goes on and does not know
            job.state = "held" if due_ns > now else "ready"
            self._history.record("redelivered", job, 0, "its row waits again")
        job.due_ns = due_ns

    def row_is_gone(self, job: LiveJob, by: Worker | None) -> None:
        """The row of a job is deleted: by its worker that has done it, or before anybody began."""
        if job.attempts_made:
            self.row_is_done(job, by)
        elif job.state in OPEN:
            self._broker.close(job, "withdrawn", "withdrawn")

    def _end_attempt(self, job: LiveJob, then: int, error: BaseException | None, by: Worker | None) -> bool:
        """End the attempt at a job of the worker that has changed its row; return True if there is one."""
        for attempt in self._unsettled:
            if attempt.job is job and by is not None and attempt.worker == by.name:
                attempt.error = attempt.error or (error if then else None)
                job.error = attempt.error
                job.waited_ns = attempt.waited_ns = max(then, 0)
                self._settle(attempt, then)
                return True
        for attempt in () if by is None else by.open:
            if attempt.job is job:
                attempt.ended_ns = self._loop.now
                if then:
                    attempt.error = job.error = error or RowFailed("its row says that the attempt has failed")
                    job.waited_ns = attempt.waited_ns = max(then, 0)
                self._close(attempt, "failed" if then else "done", then)
                return True
        return False

    def close(self, job: LiveJob, state: Any) -> None:
        """Give a job its last state, without an entry: the end of its attempt says it."""
        if job.state in OPEN:
            self._loop.open_jobs -= 1
        job.state = state
        job.running_attempt = None
        if state == "done":
            job.error = None
        if job.on_close is not None:
            job.tell_closed()

    def _reopen(self, job: LiveJob) -> None:
        self._loop.open_jobs += 1
        job.state = "ready"
        job.first_ns = -1
        self._history.record("requeued", job, 0, self._loop.now)


class RowFailed(Exception):
    """The error of an attempt that failed, of which only the row of its job tells."""
