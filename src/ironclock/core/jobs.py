"""Jobs and their attempts: what the engine moves along and what a test reads."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from typing import TYPE_CHECKING, Any, Literal, TypeAlias

from .durations import spell, to_timedelta
from .errors import AttemptTimeout, WorkerDied
from .policy import JobType
from .task import Task

if TYPE_CHECKING:
    from .engine import Engine
    from .pool import Pool

State: TypeAlias = Literal["held", "ready", "running", "backing-off", "done", "dead", "dropped", "withdrawn", "lost"]
Outcome: TypeAlias = Literal["running", "done", "failed", "timed-out", "crashed", "cancelled"]

OPEN = ("held", "ready", "running", "backing-off")
"""The states of a job that still has something before it."""


CLOSED = ("done", "dead", "dropped", "withdrawn", "lost")
"""The states of a job that has nothing more before it. Lost: acknowledged early, and its worker died."""


class Attempt(Task):
    """One try at a job. Times ending in `_ns` are nanoseconds since the epoch, -1 where there is none yet."""

    __slots__ = (
        "asked", "counts", "ended_ns", "error", "line", "number", "odd", "outcome", "pool", "started_ns", "visits",
        "waited_ns", "worker",
    )  # fmt: skip

    job: Job

    def __init__(self, job: Job, number: int, started_ns: int, worker: str, pool: Pool) -> None:
        self.job = job
        self.number = number
        self.started_ns = started_ns
        self.worker = worker
        self.pool = pool
        self.outcome: Outcome = "running"
        self.error: BaseException | None = None
        self.ended_ns = -1
        self.waited_ns = -1
        self.deadline_ns = -1
        self.wake_ns = -1
        self.parked = False
        self.interrupt = None
        self.strand = None
        self.odd = False  # whether its end needs a closer look than the usual one
        self.line = ""  # where the error was raised, as file:line

    def special(self) -> None:
        """Make ready for what most attempts have no need of."""
        self.odd = True
        self.counts = True  # whether the queue still listens to it: its lease is not over, it is no double
        self.asked = False  # whether it was asked to stop
        self.visits: dict[str, int] = {}  # how often it passed each seam

    def late(self) -> BaseException:
        """Return the error that it is interrupted with at its deadline, and note it as its own."""
        allowed = spell(self.deadline_ns - self.started_ns)
        self.deadline_ns = -1  # a job that takes no notice is not told again
        self.error = AttemptTimeout(f"attempt {self.number} of {self.job.id} used up its timeout of {allowed}")
        return self.error

    @property
    def label(self) -> str:
        return f"{self.job.id}/{self.number}"

    @property
    def started_at(self) -> dt.datetime:
        """When the worker began."""
        return self.job.engine.timeline.at(self.started_ns)

    @property
    def ended_at(self) -> dt.datetime | None:
        """When it ended; None while it runs."""
        return None if self.ended_ns < 0 else self.job.engine.timeline.at(self.ended_ns)

    @property
    def waited(self) -> dt.timedelta | None:
        """The backoff after this attempt; None where none followed."""
        return None if self.waited_ns < 0 else to_timedelta(self.waited_ns)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Attempt) and other.job is self.job and other.number == self.number

    def __hash__(self) -> int:
        return hash((id(self.job), self.number))

    def __repr__(self) -> str:
        error = "" if self.error is None else f" {type(self.error).__name__}"
        return f"<attempt {self.number} of {self.job.id}: {self.outcome}{error}>"


def died_at(attempt: Attempt, where: str) -> WorkerDied:
    """Return what an attempt ends with whose worker died at a seam."""
    return WorkerDied(f"{attempt.worker} died at the seam {where!r} of attempt {attempt.number}")


class Job:
    """One enqueued call and what became of it. Times ending in `_ns` are nanoseconds since the epoch."""

    __slots__ = (
        "_id",
        "_kwargs",
        "_seen",
        "args",
        "closed",
        "copies",
        "depth",
        "due_ns",
        "engine",
        "enqueued_ns",
        "error",
        "first_ns",
        "key",
        "live",
        "number",
        "priority",
        "progress",
        "queue",
        "result",
        "spent",
        "state",
        "tries",
        "type",
        "waited_ns",
    )  # fmt: skip

    def __init__(
        self, engine: Engine, type: JobType, number: int, args: tuple[Any, ...], kwargs: dict[str, Any],
        queue: str, priority: int, enqueued_ns: int, due_ns: int,
    ) -> None:  # fmt: skip
        self.engine = engine
        self.type = type
        self.number = number
        self._id = ""
        self.args = args
        self._kwargs = kwargs or None
        self.queue = queue
        self.priority = priority
        self.enqueued_ns = enqueued_ns
        self.due_ns = due_ns
        self.state: State = "held" if due_ns > enqueued_ns else "ready"
        self.result: Any = None
        self.error: BaseException | None = None
        """The error of the last attempt; None when that succeeded or none was made."""
        self.tries = 0
        """Attempts so far."""
        self.spent = 0  # attempts that failed since the job was enqueued, or put back from the dead letters
        self.first_ns = -1  # when the first attempt of this round started
        self.waited_ns = 0  # the wait before the present attempt
        self.live: Attempt | None = None
        self.key: Any = None
        """What jobs have in common that may not run, or not be pending, at the same time."""
        self.progress: Any = None
        """What the job last reported of itself."""
        self.depth = 0  # how many jobs enqueued one another at this very instant to get here
        self._seen: list[Attempt] | None = None
        self.closed: Callable[[Job], None] | None = None
        """Called when nothing more is before the job."""
        self.copies = False
        """Whether each attempt gets its own copy of the arguments, as if they were unpacked from a message."""

    @property
    def kwargs(self) -> dict[str, Any]:
        """The keyword arguments."""
        return self._kwargs or {}

    @property
    def attempts(self) -> list[Attempt]:
        """Every attempt so far, the running one included."""
        # Made from the history when asked for: an object for each attempt of a long run would cost
        # more than all the rest of it, mostly in the garbage collector.
        seen = self._seen
        if seen is None or len(seen) != self.tries or (seen and seen[-1].outcome == "running"):
            seen = self._seen = self.engine.attempts_of(self)
        return list(seen)

    @property
    def name(self) -> str:
        """The job type's name."""
        return self.type.name

    @property
    def id(self) -> str:
        """A name for this one job, the same in every run of the same story."""
        if not self._id:
            self._id = f"{self.type.name}-{self.number}"
        return self._id

    @property
    def enqueued_at(self) -> dt.datetime:
        """When it was enqueued, in the rig's zone."""
        return self.engine.timeline.at(self.enqueued_ns)

    @property
    def due_at(self) -> dt.datetime:
        """When it is, or last was, due to run."""
        return self.engine.timeline.at(self.due_ns)

    @property
    def delay(self) -> dt.timedelta:
        """How long after enqueueing it is, or last was, due."""
        return to_timedelta(self.due_ns - self.enqueued_ns)

    def withdraw(self, running: Literal["refuse", "ask", "throw", "kill"] = "refuse") -> None:
        """Cancel a job.

        Parameters: `running` is what happens to one that runs already: ``"refuse"`` raises `RigStateError`,
        ``"ask"`` lets it find out by itself (`Rig.cancelled`), ``"throw"`` raises `AttemptCancelled` where it
        stands still, ``"kill"`` ends it there, with no `except` and no `finally`. A job that ends with an error
        after it was asked is withdrawn; one that returns is done.
        """
        self.engine.withdraw(self, running)

    def story(self) -> str:
        """Return a readable account of this job, with simulated instants in the rig's zone."""
        from .account import job_story

        return job_story(self.engine.history, self)

    def __repr__(self) -> str:
        given = [repr(a) for a in self.args] + [f"{k}={v!r}" for k, v in self.kwargs.items()]
        tries = f", {self.tries} attempt{'s' * (self.tries != 1)}" if self.tries else ""
        return f"<job {self.id}({', '.join(given)}): {self.state}{tries}>"
