"""Jobs and attempts: the live objects that the simulation moves, and the objects that a test reads.

`LiveJob` and `LiveAttempt` belong to the simulation. `Job` and `Attempt` are what users get: they show the same
things, and change nothing but through a few methods.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, Any, Generic, Literal, Protocol, TypeAlias, TypeVar

from ..errors import AttemptTimeout, InputError, JobsDiffer, WorkerDied
from ..foundation.durations import Duration, spell, to_ns, to_timedelta
from ..foundation.instants import Timeline
from ..foundation.other_words import no_attribute
from .task import Task

if TYPE_CHECKING:
    from ..history.attention import Attention
    from .policy import JobType

State: TypeAlias = Literal["held", "ready", "running", "backing-off", "done", "dead", "dropped", "withdrawn", "lost"]
Outcome: TypeAlias = Literal["running", "done", "failed", "timed-out", "crashed", "cancelled"]
WhileRunning: TypeAlias = Literal["refuse", "ask", "throw", "kill"]
"""What a withdrawal does to a job that is running."""

OPEN = ("held", "ready", "running", "backing-off")
"""The states of a job that is not finished."""

WAITING = frozenset(("held", "ready", "backing-off"))
"""The states of a job that waits."""

CLOSED = ("done", "dead", "dropped", "withdrawn", "lost")
"""The states of a job that is finished. `lost`: acknowledged before it ran, and its worker died."""

R_co = TypeVar("R_co", covariant=True)


class JobHome(Protocol):
    """What a job asks of its simulation."""

    timeline: Timeline
    attention: Attention

    def attempts_of(self, job: LiveJob) -> list[LiveAttempt]:
        """Return every attempt at a job, in order."""

    def withdraw(self, job: LiveJob, running: WhileRunning) -> None:
        """Cancel a job."""

    def story_of(self, job: LiveJob) -> str:
        """Return what happened to a job, in words."""


class Rests(Protocol):
    """How long a worker takes no other job after an attempt."""

    def after(self, attempt: LiveAttempt) -> int:
        """Return that time in nanoseconds. Parameters: `attempt` has ended."""


class WorkerPool(Protocol):
    """What an attempt asks of the workers among which its own is."""

    skew_ns: int
    stopped: bool
    waiting: int
    free: list[str]
    lets_go: int
    rests: Rests | None

    def release(self, worker: str) -> None:
        """Let a worker that has ended its job take another one."""


class OwnWorker(Protocol):
    """What the simulation asks of a worker of the application's own."""

    def crashed(self, attempt: LiveAttempt, seam: str, down_ns: int) -> None:
        """Die at a seam, in an attempt."""

    def subjects(self, attempt: LiveAttempt) -> tuple[LiveAttempt, ...]:
        """Return whom a fault can be about when code of an attempt passes a seam."""

    def released(self, attempt: LiveAttempt) -> None:
        """Forget an attempt that has ended."""

    def set_handler(self, number: int, handler: Any) -> Any:
        """Do what `signal.signal` does in its process."""

    def set_wakeup_fd(self, fd: int) -> int:
        """Do what `signal.set_wakeup_fd` does in its process."""

    def is_main(self, thread: Any) -> bool:
        """Return True for the thread in which its function runs."""


class LiveJob:
    """One job of a simulation. Fields that end in `_ns` are nanoseconds since the epoch; -1: not yet."""

    __slots__ = (
        "_id", "_reader", "args", "attempts_made", "copies_arguments", "depth", "due_ns", "enqueued_by",
        "enqueued_ns", "error", "failures", "first_ns", "home", "key", "keywords", "number", "on_close", "priority",
        "progress", "queue", "read_attempts", "result", "running_attempt", "state", "type", "unacknowledged",
        "waited_ns",
    )  # fmt: skip

    def __init__(
        self, home: JobHome, type: JobType[..., Any], number: int, args: tuple[Any, ...], kwargs: dict[str, Any],
        queue: str, priority: int, enqueued_ns: int, due_ns: int,
    ) -> None:  # fmt: skip
        self.home = home
        self.type = type
        self.number = number
        self.args = args
        self.keywords = kwargs or None  # the keyword arguments; None if there are none
        self.queue = queue
        self.priority = priority
        self.enqueued_ns = enqueued_ns
        self.due_ns = due_ns
        self.state: State = "held" if due_ns > enqueued_ns else "ready"
        self.attempts_made = 0
        self.failures = 0  # since the job was enqueued, or put back from the dead letters
        self.unacknowledged = 0  # deliveries since then that nobody acknowledged
        self.first_ns = -1  # the start of the first attempt since then
        self.waited_ns = 0  # the backoff before the present attempt
        self.running_attempt: LiveAttempt | None = None
        self.result: Any = None
        self.error: BaseException | None = None
        self.key: Any = None
        self.progress: Any = None
        self.depth = 0  # how many jobs have enqueued one another at this instant to get here
        self.enqueued_by: tuple[LiveJob, int] | None = None  # the job whose attempt has enqueued it, and its number
        self.on_close: list[Callable[[LiveJob], None]] | None = None  # who waits for its end; most jobs have nobody
        self.copies_arguments = False  # each attempt gets its own copy, as if unpacked from a message
        self.read_attempts: list[LiveAttempt] | None = None  # as made from the history when last asked for
        self._id: str | None = None
        self._reader: Job[Any] | None = None

    @property
    def kwargs(self) -> dict[str, Any]:
        return self.keywords or {}

    @property
    def id(self) -> str:
        """A name for this job, the same in every run of the same story."""
        if self._id is None:
            self._id = f"{self.type.name}-{self.number}"
        return self._id

    def name_as(self, id: str) -> None:
        """Take the name that the job has in a saved history."""
        self._id = id

    def was_saved(self, state: State, attempts_made: int) -> None:
        """Be as it was when its history was saved."""
        self.state = state
        self.attempts_made = attempts_made

    def renumber(self, number: int) -> None:
        """Take the number that the job has in the parent of a forked child."""
        self.number = number
        self._id = None

    def when_closed(self, function: Callable[[LiveJob], None]) -> None:
        """Call a function whenever the job is closed. Several can wait for one job; each is told once."""
        if self.on_close is None:
            self.on_close = [function]
        elif function not in self.on_close:
            self.on_close.append(function)

    def tell_closed(self) -> None:
        """Tell everybody who waits for the end of the job, in the order in which they came."""
        for function in tuple(self.on_close or ()):
            function(self)

    @property
    def reader(self) -> Job[Any]:
        """The object that users get for this job, always the same one."""
        found = self._reader
        if found is None:
            found = self._reader = Job(self)
        return found

    @property
    def attempts(self) -> list[LiveAttempt]:
        """Every attempt so far, the running one included."""
        # Made from the history when somebody asks. To keep an object for each attempt of a long run would cost more
        # than the rest of the run, mostly in the garbage collector.
        made = self.read_attempts
        if made is None or len(made) != self.attempts_made or any(one.outcome == "running" for one in made):
            made = self.read_attempts = self.home.attempts_of(self)
        return made

    def __repr__(self) -> str:
        made = self.attempts_made
        attempts = f", {made} attempt{'s' * (made != 1)}" if made else ""
        return f"<job {self.id}({written_arguments(self.args, self.kwargs)}): {self.state}{attempts}>"


class LiveAttempt(Task):
    """One attempt at a job. Fields that end in `_ns` are nanoseconds since the epoch; -1: not yet."""

    # Most attempts never change these: to set each of them in every new attempt would take a tenth of its time.
    ended_ns = -1
    waited_ns = -1
    line = ""
    """Where its error was raised, as folder/file:line."""
    counts = True
    """True as long as the queue accepts its acknowledgement."""
    asked_to_stop = False
    loop: OwnWorker | None = None
    """The application's own worker that makes it. None: a worker of the rig."""
    seam_visits: dict[str, int] | None = None
    """How often it has passed each seam."""
    other_version = False
    """True if the other version takes it than the one that would, in a deployment."""
    _reader: Attempt | None = None

    def __init__(self, job: LiveJob, number: int, started_ns: int, worker: str, pool: WorkerPool) -> None:
        self.job: LiveJob = job
        self.number = number
        self.started_ns = started_ns
        self.worker = worker
        self.pool = pool
        # What every attempt is asked for: to find it in the class would take longer than to set it.
        self.outcome: Outcome = "running"
        self.error: BaseException | None = None
        self.tracked = False
        """True if what only some attempts need is followed: lease, cancellation, seams passed, limits."""

    @property
    def owner(self) -> LiveAttempt:  # type: ignore[override]
        return self

    def track(self) -> None:
        """From now on follow what only some attempts need."""
        self.tracked = True

    def visit(self, seam: str) -> int:
        """Count one more pass of a seam; return how many there are now."""
        if self.seam_visits is None:
            self.seam_visits = {}
        count = self.seam_visits[seam] = self.seam_visits.get(seam, 0) + 1
        return count

    def time_out(self) -> BaseException:
        """Return the error that interrupts it at its deadline, which becomes its own error."""
        allowed = spell(self.deadline_ns - self.started_ns)
        self.deadline_ns = -1  # a job that ignores the timeout is not told again
        self.error = AttemptTimeout(f"attempt {self.number} of {self.job.id} used up its timeout of {allowed}")
        return self.error

    @property
    def label(self) -> str:  # type: ignore[override]
        # A worker loop has a job of its own, with the number 0, that nobody has enqueued.
        return f"{self.job.id}/{self.number}" if self.job.number else self.job.id

    @property
    def attempt_number(self) -> int:
        return self.number

    @property
    def has_ended(self) -> bool:
        return self.outcome != "running"

    @property
    def thread_key(self) -> str:
        return self.worker

    @property
    def reader(self) -> Attempt:
        """The object that users get for this attempt."""
        found = self._reader
        if found is None:
            found = self._reader = Attempt(self)
        return found

    def __eq__(self, other: object) -> bool:
        return isinstance(other, LiveAttempt) and other.job is self.job and other.number == self.number

    def __hash__(self) -> int:
        return hash((id(self.job), self.number))

    def __repr__(self) -> str:
        error = "" if self.error is None else f" {type(self.error).__name__}"
        return f"<attempt {self.number} of {self.job.id}: {self.outcome}{error}>"


class Attempt:
    """One attempt at a job: when it ran, on which worker, and how it ended.

    Example::

        first = job.attempts[0]
        assert first.outcome == "failed"
        assert isinstance(first.error, ConnectionError)
        assert first.waited == dt.timedelta(seconds=10)
    """

    __slots__ = ("_live",)

    def __init__(self, live: LiveAttempt) -> None:
        self._live = live

    @property
    def job(self) -> Job[Any]:
        """The job that was attempted."""
        return self._live.job.reader

    @property
    def number(self) -> int:
        """Its number: 1 is the first attempt at the job."""
        return self._live.number

    @property
    def worker(self) -> str:
        """The worker's name, such as ``"w1"``."""
        return self._live.worker

    @property
    def outcome(self) -> str:
        """How it ended: ``running`` (not ended), ``done``, ``failed``, ``timed-out``, ``crashed`` or ``cancelled``."""
        self._look_at_job()
        return self._live.outcome

    @property
    def error(self) -> BaseException | None:
        """The error that ended it. None if it has none."""
        self._look_at_job()
        return self._live.error

    def _look_at_job(self) -> None:
        """Note that somebody has looked at how this attempt ended, and so at what became of its job."""
        job = self._live.job
        if job.error is not None:
            job.home.attention.looked_at(job)

    @property
    def line(self) -> str:
        """Where the error was raised, as ``folder/file:line``. Empty if there is no error."""
        return self._live.line

    @property
    def started_at(self) -> dt.datetime:
        """When it started, in the rig's time zone (microseconds)."""
        return self._live.job.home.timeline.at(self._live.started_ns)

    @property
    def ended_at(self) -> dt.datetime | None:
        """When it ended, in the rig's time zone. None while it runs."""
        return None if self._live.ended_ns < 0 else self._live.job.home.timeline.at(self._live.ended_ns)

    @property
    def waited(self) -> dt.timedelta | None:
        """The backoff that followed this attempt. None if none followed."""
        return None if self._live.waited_ns < 0 else to_timedelta(self._live.waited_ns)

    @property
    def started_ns(self) -> int:
        """When it started, exactly: nanoseconds since 1970-01-01T00:00Z."""
        return self._live.started_ns

    @property
    def ended_ns(self) -> int | None:
        """When it ended, exactly: nanoseconds since 1970-01-01T00:00Z. None while it runs."""
        return None if self._live.ended_ns < 0 else self._live.ended_ns

    @property
    def waited_ns(self) -> int | None:
        """The backoff that followed, exactly, in nanoseconds. None if none followed."""
        return None if self._live.waited_ns < 0 else self._live.waited_ns

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Attempt) and other._live == self._live

    def __hash__(self) -> int:
        return hash(self._live)

    def __repr__(self) -> str:
        return repr(self._live)


class Job(Generic[R_co]):
    """One enqueued call, and what became of it. `Rig.enqueue`, `Rig.jobs` and taps give jobs.

    Example::

        job = rig.enqueue(manifest.call("TL-204"), after="15m")
        assert job.state == "held"
        rig.advance("1h")
        assert job.state == "done"
        assert len(job.attempts) == 1
    """

    __slots__ = ("__weakref__", "_live")

    def __init__(self, live: LiveJob) -> None:
        self._live = live

    @property
    def name(self) -> str:
        """The name of its job type."""
        return self._live.type.name

    @property
    def id(self) -> str:
        """A name for this job alone, such as ``"submit_manifest-3"``: the same in every run of the same story."""
        return self._live.id

    @property
    def number(self) -> int:
        """Its number among the jobs of the rig, in the order of enqueueing, from 1."""
        return self._live.number

    @property
    def args(self) -> tuple[Any, ...]:
        """The positional arguments."""
        return self._live.args

    @property
    def kwargs(self) -> dict[str, Any]:
        """The keyword arguments."""
        return self._live.kwargs

    @property
    def queue(self) -> str:
        """The name of its queue."""
        return self._live.queue

    @property
    def priority(self) -> int:
        """Its priority: the lowest number starts first."""
        return self._live.priority

    @property
    def key(self) -> Any:
        """What `unique` and per-key limits compare. None if the job has no key."""
        return self._live.key

    @property
    def state(self) -> str:
        """Its state now. Open: ``held``, ``ready``, ``running``, ``backing-off``. Closed: ``done``, ``dead``,
        ``dropped``, ``withdrawn``, ``lost``."""
        return self._looked_at().state

    @property
    def result(self) -> R_co:
        """What the function returned. None as long as the job is not done."""
        result: R_co = self._live.result
        return result

    @property
    def error(self) -> BaseException | None:
        """The error of the last attempt. None if that succeeded, or if no attempt was made."""
        return self._looked_at().error

    @property
    def progress(self) -> Any:
        """The last value that the job reported with `Rig.progress`."""
        return self._live.progress

    @property
    def attempts(self) -> list[Attempt]:
        """Every attempt so far, in order, the running one included."""
        return [attempt.reader for attempt in self._live.attempts]

    @property
    def waits(self) -> list[str]:
        """The waits after its failed attempts, as text: ``["10s", "20s"]``."""
        return [spell(ns) for attempt in self._looked_at().attempts if (ns := attempt.reader.waited_ns) is not None]

    def must_wait(self, *waits: Duration, within: float = 0) -> None:
        """Raise `JobsDiffer` unless the job has waited so long after each of its failed attempts.

        Parameters: `waits` are durations. `within` is the share by which each can differ. Default 0: exactly.

        Example::

            wait = ic.exponential("10s", jitter=0.1)
            again = rig.job(submit_manifest, name="again", retry=ic.Retry(attempts=3, wait=wait))
            rig.faults.fail("again", attempts=(1, 2))
            job = rig.enqueue(again, "TL-204")
            rig.advance("1h")
        """
        __tracebackhide__ = True
        _must_wait(self, waits, within)

    @property
    def attempts_made(self) -> int:
        """How many attempts were started so far. Faster than ``len(job.attempts)``."""
        return self._live.attempts_made

    @property
    def enqueued_at(self) -> dt.datetime:
        """When it was enqueued, in the rig's time zone."""
        return self._live.home.timeline.at(self._live.enqueued_ns)

    @property
    def due_at(self) -> dt.datetime:
        """When it is due to run, or was due the last time."""
        return self._live.home.timeline.at(self._live.due_ns)

    @property
    def delay(self) -> dt.timedelta:
        """The time from enqueueing to `due_at`."""
        return to_timedelta(self._live.due_ns - self._live.enqueued_ns)

    def withdraw(self, running: WhileRunning = "refuse") -> None:
        """Cancel the job.

        Parameters:

        - `running`: what to do if the job is running. ``"refuse"`` (the default) raises `RigStateError`. ``"ask"``
          lets the job find out with `Rig.cancelled`. ``"throw"`` raises `AttemptCancelled` inside the job where it
          waits. ``"kill"`` ends it where it waits, and no `except` and no `finally` of the job runs.

        A job that ends with an error after it was asked is withdrawn. A job that returns is done.

        Raises `RigStateError` if the job is closed, or running and `running` is ``"refuse"``.

        Example::

            job = rig.enqueue(submit_manifest, "TL-204", after="1h")
            job.withdraw()
            assert job.state == "withdrawn"
        """
        self._live.home.withdraw(self._live, running)

    def story(self) -> str:
        """Return what happened to the job, one line for each event, with instants in the rig's time zone.

        Example::

            job = rig.enqueue(submit_manifest, "TL-204")
            rig.settle()
            print(job.story())
        """
        return self._live.home.story_of(self._looked_at())

    def _looked_at(self) -> LiveJob:
        """Note that somebody has looked at what became of the job."""
        live = self._live
        if live.error is not None:
            live.home.attention.looked_at(live)
        return live

    def __repr__(self) -> str:
        return repr(self._live)

    if not TYPE_CHECKING:  # with it, static tools would accept every misspelled name

        def __getattr__(self, name: str) -> object:
            raise no_attribute(self, name)


def live_job(job: Job[Any]) -> LiveJob:
    """Return the simulation's own object for a job that a user holds."""
    return job._live


def worker_died(attempt: LiveAttempt, seam: str) -> WorkerDied:
    """Return the error of an attempt whose worker died at a seam."""
    return WorkerDied(f"{attempt.worker} died at the seam {seam!r} of attempt {attempt.number}")


def written_arguments(args: tuple[object, ...], kwargs: Mapping[str, object]) -> str:
    """Return arguments as they are written in a call."""
    return ", ".join([*map(repr, args), *(f"{name}={value!r}" for name, value in kwargs.items())])


def _must_wait(job: Job[Any], waits: Sequence[Duration], within: float) -> None:
    """Raise `JobsDiffer` unless a job has waited so long after its failed attempts."""
    __tracebackhide__ = True
    if isinstance(within, bool) or not isinstance(within, (int, float)) or not 0 <= within < 1:
        raise InputError(f"within is {within!r}; give a share from 0 to 1, such as 0.1")
    wanted = [to_ns(wait, what=f"wait {number}") for number, wait in enumerate(waits, 1)]
    found = [attempt.waited_ns for attempt in job.attempts if attempt.waited_ns is not None]
    if len(found) == len(wanted) and all(
        abs(ns - wish) <= within * wish for ns, wish in zip(found, wanted, strict=True)
    ):
        return
    share = f", up to {within:.0%} more or less" if within else ""
    rows = "\n".join(
        f"  after attempt {number}: expected {_spelled(wanted, number)}, found {_spelled(found, number)}"
        for number in range(1, max(len(found), len(wanted)) + 1)
    )
    raise JobsDiffer(f"the waits of {job.id} are not as expected{share}:\n{rows or '  none'}")


def _spelled(waits: Sequence[int], number: int) -> str:
    return spell(waits[number - 1]) if number <= len(waits) else "none"
