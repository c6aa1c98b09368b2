"""Observed jobs: jobs that the application's own workers run. The rig writes them down, and does not run them.

This is the second driver of the lives of jobs, beside the rig's own workers. What becomes of such a job is known from
two sides. A call of its handler shows when an attempt starts and ends. Its row in a job table shows what follows: it is
done, it waits for another attempt, or it is dead. The end of an attempt is written down as soon as both are known.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Protocol

from ..errors import WorkerDied, is_cancellation
from ..foundation.source_location import users_part
from ..history.records import DEAD, UNHEARD
from ..simulation.faults.kind import Passing, Subject
from ..simulation.jobs import CLOSED, OPEN, LiveAttempt, LiveJob, OwnWorker, WorkerPool

if TYPE_CHECKING:
    from ..simulation.policy import JobType
    from ..simulation.simulation import Simulation


class ObservedWorker(OwnWorker, Protocol):
    """Who runs the attempts at observed jobs: a worker loop."""

    name: str
    open: list[LiveAttempt]

    @property
    def pool(self) -> WorkerPool: ...


class ObservedJobs:
    """The observed jobs of a simulation."""

    def __init__(self, simulation: Simulation) -> None:
        self._loop = simulation.loop
        self._history = simulation.history
        self._broker = simulation.broker
        self._lives = simulation.lives
        self._judge = simulation.judge
        self._unsettled: list[LiveAttempt] = []
        """Attempts whose code is over, and of which the table has not said what follows."""
        self._by_handler: set[LiveAttempt] = set()
        """The running attempts whose end is seen, since their handler is known."""

    def enter(
        self, type: JobType[..., Any], args: tuple[Any, ...], kwargs: dict[str, Any], due_ns: int,
        queue: str | None = None, priority: int | None = None, key: Any = None,
    ) -> LiveJob:  # fmt: skip
        """Write down that the application has enqueued a job."""
        job = self._broker.write_down(type, args, kwargs, due_ns, queue, priority, key)
        self._judge.strike_placed(_DeliveredByOthers(job))
        return job

    # --- attempts -----------------------------------------------------------------------------------

    def begin(
        self, job: LiveJob, worker: ObservedWorker, *, by_handler: bool, delivery_told: bool = False
    ) -> LiveAttempt:
        """Write down that a worker starts an attempt.

        Parameters: `by_handler` is True if its handler is called, False if only its row says so. `delivery_told` is
        True if the history says already that the job is delivered once more.
        """
        self._leave_overtaken(worker)
        before = job.running_attempt
        counts = job.state in OPEN
        if not counts and not delivery_told:
            self._history.record("delivered-twice", job, job.attempts_made)
        if before is not None:
            self._overtake(before, worker)
        attempt = self._lives.start(job, worker.name, worker.pool, counts)
        attempt.loop = worker
        attempt.counts = counts
        attempt.track()
        worker.open.append(attempt)
        if by_handler:
            self._by_handler.add(attempt)
        else:
            self._judge.strike_placed(_KnownByRow("start", attempt))
        return attempt

    def handles(self, attempt: LiveAttempt) -> None:
        """Note that the handler of an attempt is called that its row has shown already."""
        self._by_handler.add(attempt)

    def is_handled(self, attempt: LiveAttempt) -> bool:
        """Return True if the handler of an attempt runs, or has run."""
        return attempt in self._by_handler

    def _overtake(self, attempt: LiveAttempt, worker: ObservedWorker) -> None:
        """Another worker takes the row of an attempt, which goes on and does not count any more."""
        if attempt in self._unsettled:
            self._settle(attempt, UNHEARD)
            return
        attempt.counts = False
        then = 0 if attempt in self._by_handler else UNHEARD
        self._history.add((self._loop.now, "overtaken", attempt.job, attempt.number, worker.name, then, None, 0))

    def _leave_overtaken(self, worker: ObservedWorker) -> None:
        """A worker takes another job: what it did before is over, if only rows tell of it."""
        for attempt in list(worker.open):
            if not attempt.counts and attempt not in self._by_handler:
                self._lives.end(attempt, "done", None, UNHEARD)
                self._released(attempt)

    def code_ended(
        self, attempt: LiveAttempt, result: Any, error: BaseException | None, told_by_row: bool, heard: bool = True
    ) -> None:
        """Note how the code of an attempt has ended.

        Parameters: `told_by_row` is True if a row says what follows. Without one, a job is done if its code is. `heard`
        is False if its queue does not hear of it.
        """
        attempt.ended_ns = self._loop.now
        attempt.error = error
        job = attempt.job
        if attempt.counts:
            job.result = result
        if heard and told_by_row:
            self._unsettled.append(attempt)
        elif not heard or not attempt.counts:
            self._end_unheard(attempt, result)
        elif error is None:
            self._lives.done(attempt, result)
            self._released(attempt)
            job.tell_closed()
        else:
            job.error = error
            self._lives.unheard(attempt, "failed", error)
            self._lives.waits_unheard(job)
            self._released(attempt)

    def _end_unheard(self, attempt: LiveAttempt, result: Any) -> None:
        if attempt.error is None:
            self._lives.end(attempt, "done", result, UNHEARD)
        else:
            self._lives.unheard(attempt, "failed", attempt.error)
        self._released(attempt)

    def died(self, attempt: LiveAttempt, seam: str) -> None:
        """Write down that the worker of an attempt has died."""
        self.settle_unheard(attempt)
        if attempt.outcome == "running":
            error = WorkerDied(f"{attempt.worker} died at the seam {seam!r} of attempt {attempt.number}")
            attempt.error = error
            if attempt.counts:
                attempt.job.error = error
            self._lives.end(attempt, "crashed", seam)
        self._released(attempt)

    def settle_rest(self) -> None:
        """Write down the attempts of which the table says nothing, although time has passed: their workers go on."""
        for attempt in list(self._unsettled):
            if attempt.ended_ns < self._loop.now:
                self._settle(attempt, UNHEARD)

    def settle_unheard(self, attempt: LiveAttempt) -> None:
        """Write an attempt down whose queue does not hear of it, if that is not settled yet."""
        if attempt in self._unsettled:
            self._settle(attempt, UNHEARD)

    def _settle(self, attempt: LiveAttempt, then: int) -> None:
        """Write down the end of an attempt whose code is over, and what follows an error."""
        self._unsettled.remove(attempt)
        error = attempt.error
        if error is None:
            self._lives.end(attempt, "done", attempt.job.result, then)
        else:
            self._lives.end(attempt, "cancelled" if is_cancellation(error) else "failed", error, then)
            error.__traceback__ = users_part(error.__traceback__) if then == DEAD else None
        self._released(attempt)

    def _released(self, attempt: LiveAttempt) -> None:
        self._by_handler.discard(attempt)
        if attempt.loop is not None:
            attempt.loop.released(attempt)

    # --- what a row says ----------------------------------------------------------------------------

    def row_is_done(self, job: LiveJob, by: ObservedWorker | None) -> None:
        """The row of a job says that it is done, or it was deleted by its worker.

        Parameters: `by` is the worker that has changed the row. None: nobody knows.
        """
        self._end_attempt(job, 0, None, by)
        self._close(job, "done", "its row says that it is done")
        job.error = None

    def row_is_dead(self, job: LiveJob, error: BaseException | None, by: ObservedWorker | None) -> None:
        """The row of a job says that it is given up."""
        attempted = self._end_attempt(job, DEAD, error, by)
        job.error = job.error or error
        if attempted:
            self._lives.close(job, "dead", "")
        elif job.state in OPEN:
            self._lives.close(job, "dead", "given-up", 0, "its row says so")

    def row_waits(self, job: LiveJob, due_ns: int, error: BaseException | None, by: ObservedWorker | None) -> None:
        """The row of a job that had a worker waits again."""
        if job.state in CLOSED:
            why = "" if job.state == "dead" else f"its row waits again, though it was {job.state}"
            self._lives.put_back(job, due_ns, why)
        elif self._end_attempt(job, max(0, due_ns - self._loop.now), error, by):
            self._lives.waits_unheard(job)
            job.due_ns = due_ns
        elif job.state == "running":
            # Its worker has died, or goes on and does not know.
            if job.running_attempt is not None:
                job.running_attempt.counts = False
            self._lives.redelivered(job, due_ns, "its row waits again")
            if due_ns <= self._loop.now:
                self._lives.ready(job)
        else:
            job.due_ns = due_ns

    def row_is_gone(self, job: LiveJob, by: ObservedWorker | None) -> None:
        """The row of a job is deleted: by its worker that has done it, or before anybody began."""
        if job.attempts_made:
            self.row_is_done(job, by)
        elif job.state in OPEN:
            self._lives.close(job, "withdrawn", "withdrawn")

    def _close(self, job: LiveJob, state: Any, why: str) -> None:
        """Close a job whose row says so. What its own attempt has not said, a note says."""
        if job.running_attempt is not None:
            job.running_attempt.counts = False  # another one was faster
        if not job.attempts_made:
            self._history.record("note", job, 0, f"{why}, and no worker of the rig has run it")
        self._lives.close(job, state, "")

    def _end_attempt(self, job: LiveJob, then: int, error: BaseException | None, by: ObservedWorker | None) -> bool:
        """End the attempt at a job of the worker that has changed its row; return True if there is one."""
        for attempt in self._unsettled:
            if attempt.job is job and by is not None and attempt.worker == by.name:
                attempt.error = attempt.error or (error if then else None)
                job.error = attempt.error
                job.waited_ns = attempt.waited_ns = max(then, 0)
                self._settle(attempt, then)
                return True
        for attempt in () if by is None else list(by.open):
            if attempt.job is job:
                if then:
                    attempt.error = job.error = error or RowFailed("its row says that the attempt has failed")
                    job.waited_ns = attempt.waited_ns = max(then, 0)
                self._judge.strike_placed(_KnownByRow("ack", attempt))
                self._unsettled.append(attempt)
                self._settle(attempt, then)
                return True
        return False


class _KnownByRow(Passing):
    """An attempt of which only its row tells: nothing can strike it there."""

    why_not = "and the rig knows it by its row alone; say with rig.handler(...) which function handles it"

    def __init__(self, seam: str, attempt: LiveAttempt) -> None:
        super().__init__(seam, attempt.label, attempt)


class _DeliveredByOthers(Passing):
    """A job that the application's own queue delivers: nothing can strike it on its way."""

    why_not = "and the application's own queue delivers it, not the rig"

    def __init__(self, job: LiveJob) -> None:
        super().__init__("delivery", job.id)
        self._subject = Subject(job.type.name, 1, lambda: job.reader)

    def subjects(self) -> tuple[Subject, ...]:
        return (self._subject,)


class RowFailed(Exception):
    """The error of an attempt that failed, of which only the row of its job tells. Its words are the last line of
    what is in the row; `text` is all of it."""

    def __init__(self, text: str) -> None:
        lines = [line.strip() for line in text.splitlines() if line.strip()]
        super().__init__(lines[-1] if lines else text)
        self.text = text
        """What is in the row."""
