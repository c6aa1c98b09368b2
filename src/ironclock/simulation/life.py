"""The life of a job: it enters, waits, starts, ends, waits again, and is closed.

`JobLives` is the only writer of a job's state, of the count of open jobs, and of what the history says of both. The
rig's own workers (`Attempts`) and the application's worker loops (`ObservedJobs`) are two drivers of it: they decide
which step comes next, and it takes the step.
"""

from __future__ import annotations

from typing import Any, Final

from ..errors import is_cancellation
from ..foundation.source_location import innermost, users_part
from ..history.history import History
from ..history.records import DEAD, DROPPED, UNHEARD
from .event_loop import EventLoop
from .jobs import CLOSED, OPEN, WAITING, LiveAttempt, LiveJob, Outcome, State, WorkerPool

_OPEN, _CLOSED = frozenset(OPEN), frozenset(CLOSED)

NEXT: Final[dict[str, frozenset[str]]] = {
    "held": frozenset({"held", "ready", "running", *CLOSED}),
    "ready": frozenset({"held", "ready", "running", *CLOSED}),
    "running": frozenset({"held", "ready", "running", "backing-off", *CLOSED}),
    "backing-off": frozenset({"held", "ready", "running", *CLOSED}),
    "done": frozenset({"ready"}),
    "dead": frozenset({"ready", "dropped"}),
    "dropped": frozenset({"ready"}),
    "withdrawn": frozenset({"held", "ready", "backing-off"}),
    "lost": frozenset({"ready"}),
}
"""By state, those that can follow. A closed job is put back, or delivered again; a withdrawal can be rolled back."""


class JobLives:
    """Takes every step in the life of a job, and writes it down."""

    def __init__(self, loop: EventLoop, history: History) -> None:
        self._loop = loop
        self._history = history
        self._add = history.add
        self.jobs: list[LiveJob] = []
        """Every job that has entered."""
        self.open_jobs = 0
        """How many jobs are not closed yet, and how many attempts are awaited beside their jobs."""

    def _step(self, job: LiveJob, state: State) -> None:
        assert state in NEXT[job.state], f"{job.id} is {job.state} and cannot become {state}"
        job.state = state

    # --- entering -----------------------------------------------------------------------------------

    def enter(self, job: LiveJob) -> None:
        """A job comes in."""
        self.jobs.append(job)
        self.open_jobs += 1
        self._add((self._loop.now, "enqueued", job, 0, job.due_ns, 0, None, 0))

    def enter_later(self, job: LiveJob) -> None:
        """A job comes in that its transaction has kept until now."""
        now = job.enqueued_ns = self._loop.now
        job.due_ns = max(job.due_ns, now)
        if job.due_ns <= now:
            self._step(job, "ready")
        self.enter(job)

    def never_enter(self, job: LiveJob) -> None:
        """A job is left out, or its transaction is rolled back: nobody has ever seen it."""
        self._step(job, "withdrawn")

    # --- waiting ------------------------------------------------------------------------------------

    def ready(self, job: LiveJob) -> None:
        """A job that is due waits for a worker."""
        assert job.state in WAITING, f"{job.id} is {job.state} and cannot become ready"
        job.state = "ready"

    def held(self, job: LiveJob, why: str) -> None:
        """A job that is due is held back."""
        self._step(job, "held")
        self._history.record("note", job, 0, why)

    def redelivered(self, job: LiveJob, due_ns: int, why: str) -> None:
        """A job waits again, because the queue heard nothing of its attempt. Ready only when its event comes: until
        then a second delivery in the queue must not be taken for this one."""
        self._step(job, "held")
        job.running_attempt = None
        job.due_ns = due_ns
        self._history.record("redelivered", job, 0, why)

    def put_back(self, job: LiveJob, due_ns: int, why: str = "") -> None:
        """A closed job waits again, with all of its attempts. Parameters: `why`: empty if it was a dead letter that
        somebody has put back."""
        assert job.state in _CLOSED, f"{job.id} is {job.state} and cannot be put back"
        self._step(job, "ready")
        job.failures = job.unacknowledged = 0
        job.first_ns = -1
        job.due_ns = due_ns
        self.open_jobs += 1
        self._history.record("requeued", job, 0, (self._loop.now, why) if why else self._loop.now)

    def set_aside(self, job: LiveJob) -> State:
        """An open transaction withdraws a waiting job. It is closed at the commit. Return its state before."""
        before = job.state
        self._step(job, "withdrawn")
        return before

    def bring_back(self, job: LiveJob, state: State) -> None:
        """The transaction that has set a job aside is rolled back."""
        self._step(job, state)

    # --- attempts -----------------------------------------------------------------------------------

    def start(self, job: LiveJob, worker: str, pool: WorkerPool, counts: bool = True) -> LiveAttempt:
        """A worker starts an attempt; return it. Parameters: `counts` is False for the second of two deliveries, which
        changes nothing of its job."""
        now = self._loop.now
        job.attempts_made = number = job.attempts_made + 1
        attempt = LiveAttempt(job, number, now, worker, pool)
        self._add((now, "started", job, number, worker, 0, None, 0))
        if counts:
            assert job.state in _OPEN, f"{job.id} is {job.state} and cannot start"
            if job.first_ns < 0:
                job.first_ns = now
                job.waited_ns = 0
            job.running_attempt = attempt
            job.state = "running"
        return attempt

    def end(self, attempt: LiveAttempt, outcome: Outcome, detail: Any, then: int = 0) -> None:
        """An attempt ends, whatever becomes of its job.

        Parameters: `detail` is its result, its error, or the seam of its death; `then` says what follows an error, as
        in `Record.then`.
        """
        assert attempt.outcome == "running", f"{attempt!r} has ended already"
        job, now = attempt.job, self._loop.now
        attempt.outcome = outcome
        attempt.ended_ns = now
        if outcome == "done" or outcome == "crashed":
            self._add((now, outcome, job, attempt.number, detail, then, None, 0))
        else:
            code, instruction = innermost(detail)
            self._add((now, outcome, job, attempt.number, detail, then, code, instruction))
        if job.running_attempt is attempt:
            job.running_attempt = None

    # The two usual ends are written out, since nearly every attempt ends in one of them.

    def done(self, attempt: LiveAttempt, result: Any) -> None:
        """An attempt has done its job. Its driver tells whoever waits for the end of the job."""
        job, now = attempt.job, self._loop.now
        assert attempt.outcome == "running", f"{attempt!r} has ended already"
        assert job.state in _OPEN, f"{job.id} is {job.state} and cannot be done"
        attempt.outcome = job.state = "done"
        attempt.ended_ns = now
        job.result = result
        job.error = None
        self.open_jobs -= 1
        self._add((now, "done", job, attempt.number, result, 0, None, 0))
        if job.running_attempt is attempt:
            job.running_attempt = None

    def back_off(self, attempt: LiveAttempt, outcome: Outcome, error: BaseException, wait_ns: int) -> int:
        """An attempt has failed, and its job waits for the next one. Return when that is due."""
        job, now = attempt.job, self._loop.now
        assert attempt.outcome == "running", f"{attempt!r} has ended already"
        assert job.state == "running", f"{job.id} is {job.state} and cannot back off"
        attempt.outcome = outcome
        attempt.ended_ns = now
        trace = error.__traceback__
        if trace is not None and trace.tb_next is None:  # raised in the job's function itself, as most are
            code, instruction = trace.tb_frame.f_code, trace.tb_lasti
            self._add((now, outcome, job, attempt.number, error, wait_ns, code, instruction))
        else:
            self._add((now, outcome, job, attempt.number, error, wait_ns, *innermost(error)))
        error.__traceback__ = None  # it keeps every frame and its locals alive; a final error keeps its own
        job.running_attempt = None
        attempt.waited_ns = job.waited_ns = wait_ns
        job.state = "backing-off"
        job.due_ns = due = now + wait_ns
        return due

    def give_up(self, attempt: LiveAttempt, outcome: Outcome, error: BaseException, state: State) -> None:
        """An attempt has failed, and its job is dead, or dropped. Its driver tells whoever waits for that."""
        job = attempt.job
        self._step(job, state)
        self.open_jobs -= 1
        self.end(attempt, outcome, error, DEAD if state == "dead" else DROPPED)
        error.__traceback__ = users_part(error.__traceback__)

    def unheard(self, attempt: LiveAttempt, outcome: Outcome, error: BaseException) -> None:
        """An attempt has failed, and the queue does not hear of it."""
        self.end(attempt, "cancelled" if is_cancellation(error) else outcome, error, UNHEARD)
        error.__traceback__ = None

    def waits_unheard(self, job: LiveJob) -> None:
        """A job whose attempt has failed waits for the next one, as its own queue says."""
        self._step(job, "backing-off")

    # --- closing ------------------------------------------------------------------------------------

    def close(self, job: LiveJob, state: State, what: str, attempt: int = 0, detail: Any = None) -> None:
        """A job gets its last state, and whoever waits for that is told.

        Parameters: `what` is the entry in the history. Empty: the end of its attempt says it.
        """
        if job.state not in _CLOSED or state == "withdrawn":
            self.open_jobs -= 1
        if job.state != state:
            self._step(job, state)
        job.running_attempt = None
        if what:
            self._history.record(what, job, attempt, detail)
        if job.on_close is not None:
            job.tell_closed()

    def discard(self, job: LiveJob) -> None:
        """A dead letter is given up for good."""
        assert job.state == "dead", f"{job.id} is {job.state} and cannot be discarded"
        self._step(job, "dropped")
        self._history.record("discarded", job)

    # --- attempts beside their jobs -----------------------------------------------------------------

    def await_beside(self) -> None:
        """Wait for one more attempt or delivery, even if its job is closed before it."""
        self.open_jobs += 1

    def no_longer_await(self) -> None:
        """Wait no longer for an attempt beside its job."""
        self.open_jobs -= 1
