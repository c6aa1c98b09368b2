"""The rig: the one object a test holds. It wires the parts together and holds no logic of its own."""

from __future__ import annotations

import datetime as dt
import threading
from collections.abc import Callable, Iterable, Iterator
from contextlib import AbstractContextManager, contextmanager
from types import TracebackType
from typing import TYPE_CHECKING, Any, Literal, cast

from .capture.intake import Intake
from .capture.payload import Payload
from .capture.targets import InPlace
from .core.durations import Duration, to_ns
from .core.effects import Effects
from .core.engine import Engine
from .core.errors import InputError, InstantError, PolicyError, RigStateError, nearest
from .core.history import History
from .core.jobs import CLOSED, OPEN, Attempt, Job
from .core.jobset import DeadLetters, JobSet
from .core.laws import Law, World, check
from .core.policy import Call, Policy
from .core.requests import Request
from .core.signals import Signals
from .core.timeline import Instant, Timeline
from .core.transactions import Transaction
from .host import clock
from .host.readers import Readers
from .host.strands import Strands
from .host.threads import Mode, Threads
from .observers import observers
from .schedules.timetable import Timetable
from .steered import Steered

if TYPE_CHECKING:
    from .report.approved import Approval
    from .steering.replay import Replay

_USUAL = Policy()
_STATES = (*OPEN, *CLOSED)


class Rig(Steered):
    """A simulated world for one test: clock, queues, workers, faults, history.

    Parameters: `start` the instant at which it begins, `zone` the time zone that text and naive local time are
    read in, `seed` what every random choice follows from, `policy` how a job is treated that says nothing else,
    `payload` whether arguments must survive JSON (``"json"``) or not (``"any"``), `threads` which threads that are
    started in it run in simulated time: ``"simulated"`` all, ``"real"`` none, or (None) those that jobs and coroutines
    start, timers and the workers of executors. `strict` makes it an error for a job to open a socket, or to start a
    thread unless `threads` says what becomes of it. Raises `InputError` for a value that cannot be used.

    Entered (``with rig:``), every reader of time in this thread follows the rig's clock, and taps are in place.
    """

    def __init__(
        self, start: Instant = "2031-03-03T09:00", zone: dt.tzinfo | str = "UTC", seed: int | str = 0,
        policy: Policy | None = None, payload: Payload = "json", threads: Mode = None, strict: bool = False,
    ) -> None:  # fmt: skip
        if isinstance(seed, bool) or not isinstance(seed, (int, str)):
            raise InputError(f"seed is {seed!r}; give a whole number or text")
        if policy is not None and not isinstance(policy, Policy):
            raise PolicyError(f"policy is {policy!r}; give an ic.Policy(...)")
        if threads not in (None, "simulated", "real"):
            raise InputError(f"threads is {threads!r}; give 'simulated', 'real' or None")
        timeline = Timeline(zone)
        engine = self._engine = Engine(timeline, timeline.ns(start, what="start"), seed)
        engine.carrier = Strands()
        engine.lenient = lambda: bool(self._taps)
        self._timeline = timeline
        self._policy = policy or _USUAL
        self._intake = Intake(engine, self._policy, payload)
        self._signals = Signals(engine, self._intake.enqueue)
        self._threads = Threads(engine, threads, strict)
        self._stands: dict[str, Any] = {}
        engine.delivery.died.append(self._threads.die_with)
        engine.delivery.await_result = self._await
        engine.delivery.run_forked = self._fork
        self._loops: Any = None
        self._forks: Any = None
        self.schedules = Timetable(engine)
        """The schedules by name."""
        self._taps: list[InPlace] = []
        self._readers: Readers | None = None
        self._replay: Replay | None = None
        self._thread: int | None = None
        self.approval: Approval | None = None
        """Where approved histories are, and whether this one is to become one; set by the pytest plugin."""
        self._held = 0  # entered on the test's behalf, so that one more `with rig:` is no mistake
        for observer in observers:
            observer(self)

    # --- enqueueing ---------------------------------------------------------------------------------

    def enqueue(
        self, call: Call, *, after: Duration | None = None, at: Instant | None = None,
        queue: str | None = None, priority: int | None = None, key: Any = None,
    ) -> Job:  # fmt: skip
        """Enqueue a call (``job_type.call(...)``), due now, `after` a delay or `at` an instant; return the job.

        Raises `InputError` for anything else than a call, both `after` and `at`, or an instant that is past;
        `UnknownJob` for a job type of another rig; `PayloadError` for arguments that do not survive JSON;
        `DuplicateJob` for a unique job while another of its key is pending.
        """
        return self._intake.enqueue(call, after, at, queue, priority, key)

    def emit(self, event: str, *args: Any, **kwargs: Any) -> list[Job]:
        """Let a named event happen; return the jobs that listen to it. Raises `InputError` where nobody listens."""
        return self._signals.emit(event, args, kwargs)

    def transaction(self, *, joins: bool = True) -> AbstractContextManager[Transaction]:
        """Stand for a transaction of the application: it commits at the end of the block, and is rolled back where
        an error leaves the block.

        `joins` says whether the queue is part of it. Then what is enqueued inside is enqueued by the commit, and
        never where it is rolled back. Else workers see it at once (`laws.after_commit`, `faults.fetch_early`).
        """
        return self._engine.transactions.begin(joins)

    def request(self, name: str, *, on_error: Literal["stop", "go on"] = "stop") -> AbstractContextManager[Request]:
        """Stand for one request to the application: where an error leaves the block, the history shows what it had
        enqueued and scheduled by then; else what a `collector` collected runs after it. `on_error` says whether a
        collected function that raises stops those after it."""
        return self._engine.requests.handle(name, on_error)

    # --- inside a job -------------------------------------------------------------------------------

    def cancelled(self) -> bool:
        """Whether the attempt that runs now was asked to stop: by a withdrawal, or by workers that shut down."""
        attempt = self._threads.attempt()
        return attempt is not None and attempt.odd and attempt.asked

    def progress(self, value: Any) -> None:
        """Report how far the running job is; `Job.progress` has the latest, the history all."""
        task = self._running("progress is reported")
        task.job.progress = value
        self._engine.record("progress", task.job, task.number, value)

    def remember(self, step: str, function: Callable[..., Any], *args: Any, **kwargs: Any) -> Any:
        """Call a function as a step of the running job; a later attempt at the same job gets what it returned then,
        without another call."""
        return self._engine.memory.step(step, function, args, kwargs)

    def _running(self, what: str) -> Attempt:
        attempt = self._threads.attempt()
        if attempt is None:
            raise RigStateError(f"{what} by a job, and no job is running")
        return attempt

    # --- the workers --------------------------------------------------------------------------------

    def stop_workers(self, grace: Duration = 0, *, how: Literal["ask", "throw"] = "ask") -> None:
        """Shut the workers down: none takes a job any more, those that run are asked to stop (`cancelled`; with
        ``"throw"`` by `AttemptCancelled` raised where they stand still). What still runs after the grace is killed.
        Every job that was stopped before its end goes back to its queue."""
        if how not in ("ask", "throw"):
            raise InputError(f"how is {how!r}; give 'ask' or 'throw'")
        self._engine.stopping.stop_workers(to_ns(grace, what="grace"), how)

    def start_workers(self) -> None:
        """Let the workers take jobs again."""
        self._engine.stopping.start_workers()

    # --- moving the clock ---------------------------------------------------------------------------

    def settle(self) -> None:
        """Run what is due now, and what that enqueues without delay."""
        self._engine.advance_to(self._engine.now)

    def advance(self, duration: Duration) -> None:
        """Run everything due within `duration` from now (its end included), each at its own instant."""
        self._engine.advance_to(self._engine.now + to_ns(duration))

    def advance_to(self, instant: Instant) -> None:
        """Run everything due up to and including `instant`. Raises `InstantError` where that is past."""
        until = self._timeline.ns(instant)
        if until < self._engine.now:
            raise InstantError(
                f"{self._timeline.text(until)} is before the rig's now, {self._timeline.text(self._engine.now)}; "
                "time in a rig only goes forward"
            )
        self._engine.advance_to(until)

    def step(self) -> bool:
        """Run the next event, wherever it stands; return False where there is none."""
        due = self._engine.next_due_ns
        if due is None:
            return False
        self._engine.run_until(due, halt=1)
        return True

    def run_dry(self, limit: Duration = "30d") -> None:
        """Run until no job is left open. Raises `NotDry`, naming those that are, after `limit` of simulated time."""
        self._engine.run_dry(to_ns(limit, what="limit"))

    @property
    def now(self) -> dt.datetime:
        """The rig's instant, in its zone."""
        return self._timeline.at(self._engine.now)

    @property
    def next_due(self) -> dt.datetime | None:
        """The instant of the next event; None where nothing is pending."""
        due = self._engine.next_due_ns
        return None if due is None else self._timeline.at(due)

    # --- looking ------------------------------------------------------------------------------------

    def jobs(
        self, name: object = None, *, queue: str | None = None, state: str | Iterable[str] | None = None,
        where: Callable[[Job], bool] | None = None,
    ) -> JobSet:  # fmt: skip
        """Return the jobs of a type (by name, callable or job type), in a queue, in a state, that `where` accepts.

        Raises `UnknownJob` for a name that the rig does not know, and `InputError` for a state that is none.
        """
        asked = []
        wanted = None
        if name is not None:
            wanted = self._engine.known_name(name)
            asked.append(f"name {wanted}")
        states: tuple[str, ...] | None = None
        if state is not None:
            states = (state,) if isinstance(state, str) else tuple(state)
            for one in states:
                if one not in _STATES:
                    raise InputError(f"{one!r} is no state of a job; {nearest(str(one), _STATES)}")
            asked.append(f"state {' or '.join(states)}")
        if queue is not None:
            asked.append(f"queue {queue}")
        return JobSet(
            (
                job
                for job in self._engine.jobs
                if (wanted is None or job.type.name == wanted)
                and (queue is None or job.queue == queue)
                and (states is None or job.state in states)
                and (where is None or where(job))
            ),
            ", ".join(asked) or "any job",
        )

    @property
    def dead(self) -> DeadLetters:
        """The dead letters."""
        return DeadLetters(self._engine)

    @property
    def history(self) -> History:
        """Everything that happened so far, in order."""
        return self._engine.history

    @property
    def effects(self) -> Effects:
        """What jobs did to the outside world, in order; ``rig.effects("charge")`` gives those of one name."""
        return self._engine.effects

    @property
    def world(self) -> World:
        """What laws look at, as it is now."""
        engine = self._engine
        return World(engine.history, engine.jobs, engine.effects.names, engine.types)

    def check(self, *laws: Law) -> None:
        """Raise `BrokenLaw` unless every law holds so far. See `ironclock.laws`."""
        if self._replay is not None:
            self._replay.must_fit()
        check(laws, self.world)

    def matches(self, path: str) -> None:
        """Raise `NotApproved`, saying what differs, unless the history so far is the approved one in a file.

        The file is looked for beside the test, and written where pytest runs with ``--ironclock-approve``.
        """
        from .report.approved import Approval, must_match

        must_match(self.history, path, self.approval or Approval())

    # --- entering -----------------------------------------------------------------------------------

    def __enter__(self) -> Rig:
        me = threading.get_ident()
        if self._thread is not None:
            if self._held == 1 and self._thread == me:
                self._held = 2
                return self
            raise RigStateError("this rig is entered already; leave it before entering it again")
        if self._readers is None:
            self._readers = Readers(self._engine, self._advance_ns, self._threads)
        clock.enter(self._readers)
        self._thread = me
        try:
            if self._replay is not None:
                self._replay.enter()
            for tap in self._taps:
                tap.install()
        except BaseException:
            self._leave()
            raise
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self._held == 2:
            self._held = 1
            return
        self._leave()
        if self._replay is not None and error is None:
            self._replay.must_fit()

    @contextmanager
    def hold(self) -> Iterator[Rig]:
        """Enter the rig on behalf of the code inside, which may enter it once more itself."""
        with self:
            self._held = 1
            try:
                yield self
            finally:
                self._held = 0

    def close(self) -> None:
        """Let go of every job that is suspended; the rig can be read on, but not advanced with profit."""
        cast(Strands, self._engine.carrier).close()
        self._release()

    def _await(self, coroutine: Any) -> Any:
        if self._loops is None:
            from .host.eventloop import EventLoops

            self._loops = EventLoops(self._engine)
            self._engine.delivery.died.append(self._loops.drop)
        return self._loops.run(coroutine)

    def _fork(self, attempt: Attempt) -> Any:
        if self._forks is None:
            from .host.forked import Forks

            self._forks = Forks(self._engine, self._stands, self._forget_loops)
        return self._forks.run(attempt)

    def _forget_loops(self) -> None:
        if self._loops is not None:
            self._loops.forget()

    def _leave(self) -> None:
        try:
            for tap in reversed(self._taps):
                if tap.active:
                    tap.remove()
            if self._replay is not None:
                self._replay.leave()
        finally:
            self._thread = None
            clock.leave()

    def _advance_ns(self, ns: int) -> None:
        self._engine.advance_to(self._engine.now + ns)

    def __repr__(self) -> str:
        states = ", ".join(f"{count} {state}" for state, count in JobSet(self._engine.jobs).states().items())
        return f"<rig at {self._timeline.text(self._engine.now)} ({self._timeline.zone}): {states or 'no jobs'}>"
