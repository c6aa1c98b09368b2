"""The rig: the one object a test holds. It wires the parts together and holds no logic of its own."""

from __future__ import annotations

import datetime as dt
import threading
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import contextmanager
from types import TracebackType
from typing import Any, get_args

from .capture.payload import Payload, check_payload, through_json
from .capture.readings import Enqueue, Reading
from .capture.taps import Tap
from .capture.targets import find
from .core.durations import Duration, to_ns
from .core.engine import Engine
from .core.errors import InputError, InstantError, PolicyError, RigStateError, UnknownJob, nearest
from .core.faults import Faults
from .core.history import History
from .core.jobs import OPEN, Job
from .core.jobset import DeadLetters, JobSet
from .core.laws import Law, check
from .core.policy import Call, JobType, Policy, job_name
from .core.pool import Pool
from .core.retry import Retry
from .core.timeline import Instant, Timeline
from .host import clock
from .host.readers import Readers
from .host.strands import Strands
from .host.threads import Mode, Threads
from .observers import observers
from .schedules.base import Schedule
from .schedules.sets import Jitter, Within
from .schedules.timetable import Missed, Overlap, Scheduled, Timetable

_STATES = (*OPEN, "done", "dead", "dropped", "withdrawn")


class Rig:
    """A simulated world for one test: clock, queues, workers, faults, history.

    Parameters: `start` the instant at which it begins, `zone` the time zone that text and naive local time are
    read in, `seed` what every random choice follows from, `policy` how a job is treated that says nothing else,
    `payload` whether arguments must survive JSON (``"json"``) or not (``"any"``).
    Raises `InputError` for a value that cannot be used.

    Entered (``with rig:``), every reader of time in this thread follows the rig's clock, and taps are in place.
    """

    def __init__(
        self, start: Instant = "2031-03-03T09:00", zone: dt.tzinfo | str = "UTC", seed: int | str = 0,
        policy: Policy | None = None, payload: Payload = "json", threads: Mode = None, strict: bool = False,
    ) -> None:  # fmt: skip
        check_payload(payload)
        if isinstance(seed, bool) or not isinstance(seed, (int, str)):
            raise InputError(f"seed is {seed!r}; give a whole number or text")
        if policy is not None and not isinstance(policy, Policy):
            raise PolicyError(f"policy is {policy!r}; give an ic.Policy(...)")
        timeline = Timeline(zone)
        self._engine = Engine(timeline, timeline.ns(start, what="start"), seed)
        self._engine.carrier = Strands()
        self._threads = Threads(self._engine, threads, strict)
        self._engine.lenient = lambda: bool(self._taps)
        self._timeline = timeline
        self._policy = policy or Policy()
        self.schedules = Timetable(self._engine)
        """The schedules by name."""
        self._payload: Payload = payload
        self._taps: list[Tap] = []
        self._readers: Readers | None = None
        self._thread: int | None = None
        self._held = 0  # entered on the test's behalf, so that one more `with rig:` is no mistake
        for observer in observers:
            observer(self)

    # --- setting up ---------------------------------------------------------------------------------

    def job(
        self, fn: Callable[..., Any], *, name: str | None = None, queue: str | None = None,
        retry: Retry | None = None, timeout: Duration | None = None, priority: int | None = None,
        takes: Duration | None = None,
    ) -> JobType:  # fmt: skip
        """Return a job type: `fn` under a name (its own, unless given) with a policy. See `Policy`.

        Raises `InputError` for what cannot be called and for a name that another callable has.
        """
        known = name if name is not None else job_name(fn)
        if not callable(fn):
            raise InputError(f"a job is a callable, not {fn!r} ({type(fn).__name__})")
        if not isinstance(known, str) or not known:
            raise InputError(f"name is {name!r}; give text")
        policy = self._policy.but(queue=queue, retry=retry, timeout=timeout, priority=priority, takes=takes)
        other = self._engine.types.get(known)
        if other is not None and other.fn is not fn:
            raise InputError(f"the job name {known!r} stands for {other.fn!r} already; give this one another name")
        made = self._engine.types[known] = JobType(fn, known, policy)
        return made

    def workers(self, count: int = 1, *, queues: Mapping[str, int] | Iterable[str] | None = None) -> None:
        """Add workers. `queues`: a list means strict order, a mapping of name to weight shares them by weight,
        none serves every queue. A rig without this call has one worker for everything.

        Raises `PolicyError`, or `RigStateError` where a queue has its workers already.
        """
        self._engine.add_pool(Pool(count, queues))

    @property
    def faults(self) -> Faults:
        """What is made to go wrong."""
        return self._engine.faults

    def tap(self, target: Any, *, reads: Reading, payload: Payload | None = None, also_real: bool = False) -> Tap:
        """Turn calls of a real callable into jobs while the rig is entered.

        Parameters: `target` an import path (``"tern_line.jobs:put"``) or the object itself; `reads` what a call
        asks for (`reading`, or a function of the real call's arguments that returns an `Enqueue`); `payload` as
        for the rig; `also_real` calls the real callable as well, and gives its answer back.
        Raises `TapError` where the target does not exist or cannot be replaced.
        """
        if payload is not None:
            check_payload(payload)
        made = Tap(target, reads, self._put, payload or self._payload, also_real)
        if any(tap.target.same(made.target) for tap in self._taps):
            raise RigStateError(f"{made.label} has a tap already")
        self._taps.append(made)
        if self._thread is not None:
            made.install()
        return made

    # --- enqueueing ---------------------------------------------------------------------------------

    def enqueue(
        self, call: Call, *, after: Duration | None = None, at: Instant | None = None,
        queue: str | None = None, priority: int | None = None,
    ) -> Job:  # fmt: skip
        """Enqueue a call (``job_type.call(...)``), due now, `after` a delay or `at` an instant; return the job.

        Raises `InputError` for anything else than a call, both `after` and `at`, or an instant that is past;
        `UnknownJob` for a job type of another rig; `PayloadError` for arguments that do not survive JSON.
        """
        if not isinstance(call, Call):
            hint = "; bind its arguments with .call(...)" if isinstance(call, JobType) else ""
            raise InputError(f"enqueue takes a call of a job type, not {call!r}{hint}")
        if self._engine.types.get(call.type.name) is not call.type:
            raise UnknownJob(
                f"{call.type.name!r} is no job type of this rig; {nearest(call.type.name, self._engine.types)}"
            )
        return self._enqueue(call.type, call.args, call.kwargs, after, at, queue, priority, self._payload)

    def _enqueue(
        self, type: JobType, args: tuple[Any, ...], kwargs: dict[str, Any], after: Duration | None,
        at: Instant | None, queue: str | None, priority: int | None, payload: Payload,
    ) -> Job:  # fmt: skip
        now = due = self._engine.now
        if after is not None:
            if at is not None:
                raise InputError(f"{type.name}: give after={after!r} or at={at!r}, not both")
            due = now + to_ns(after, what="after")
        elif at is not None:
            due = self._timeline.ns(at, what="at")
            if due < now:
                raise InstantError(
                    f"{type.name}: at is {self._timeline.text(due)}, before the rig's now, {self._timeline.text(now)}"
                )
        if queue is not None and (not isinstance(queue, str) or not queue):
            raise PolicyError(f"queue is {queue!r}; give a name")
        if priority is not None and (isinstance(priority, bool) or not isinstance(priority, int)):
            raise PolicyError(f"priority is {priority!r}; give a whole number (the lowest runs first)")
        copies = False
        if payload == "json":
            args, kwargs, copies = through_json(type.name, args, kwargs)
        job = self._engine.enqueue(type, args, kwargs, due, queue, priority)
        job.copies = copies
        return job

    def _put(self, order: Enqueue, payload: Payload) -> Job:
        """Enqueue what a tapped call asked for."""
        type = self._type_of(order.job, order.policy)
        call = type.call(*order.args, **order.kwargs)
        return self._enqueue(type, call.args, call.kwargs, order.after, order.at, order.queue, order.priority, payload)

    def _type_of(self, job: Any, policy: Policy | None) -> JobType:
        if isinstance(job, JobType):
            return job
        types = self._engine.types
        if isinstance(job, str):
            found = types.get(job)
            if found is not None:
                return found
            if ":" not in job and "." not in job:
                raise UnknownJob(
                    f"a tapped call asked for the job {job!r}, which this rig does not know; register it with "
                    f"rig.job(...), or give a dotted path; {nearest(job, types)}"
                )
            job = find(job)[2]
        for known in types.values():
            if known.fn is job:
                return known
        name = job_name(job)
        base, count = name, 2
        while name in types:
            name, count = f"{base}-{count}", count + 1
        made = types[name] = JobType(job, name, policy or self._policy)
        return made

    # --- schedules ----------------------------------------------------------------------------------

    def schedule(
        self, name: str, call: Call, schedule: Schedule, *, overlap: Overlap = "allow", missed: Missed = "last",
        poll: Duration | None = None, jitter: Duration | None = None, starts: Instant | None = None,
        ends: Instant | None = None, until_done: bool = False,
    ) -> Scheduled:  # fmt: skip
        """Run a call on a schedule, in place of the schedule of the same name where there is one.

        Parameters: `overlap` what a firing does while the run before is still open (``"allow"``, ``"skip"``,
        ``"wait"`` for its end); `missed` which firings run after the scheduler was down (``"all"``, ``"last"``,
        ``"none"``); `poll` how often the scheduler looks: a firing starts at the next look; `jitter` the span by
        which firings are late at random; `starts` (included) and `ends` (not included) bound it; `until_done`
        removes it after its first run that is done. A firing that is due at this very instant counts.
        Raises `InputError`, `UnknownJob`, `PayloadError`, `DurationError`, `InstantError`.
        """
        if not isinstance(name, str) or not name:
            raise InputError(f"name is {name!r}; give text")
        if not isinstance(call, Call):
            raise InputError(f"schedule takes a call of a job type, not {call!r}")
        if not isinstance(schedule, Schedule):
            raise InputError(f"{schedule!r} is no schedule; give ic.cron(...), ic.every(...) or another")
        for what, value, known in (("overlap", overlap, get_args(Overlap)), ("missed", missed, get_args(Missed))):
            if value not in known:
                raise InputError(f"{what} is {value!r}; give one of {', '.join(known)}")
        if self._engine.types.get(call.type.name) is not call.type:
            raise UnknownJob(f"{call.type.name!r} is no job type of this rig")
        if self._payload == "json":
            through_json(call.type.name, call.args, call.kwargs)
        now = self._engine.now
        bound = schedule.in_zone(self._timeline.zone).begun(now)
        if starts is not None or ends is not None:
            bounds = [None if b is None else self._timeline.ns(b) for b in (starts, ends)]
            bound = Within(bound, *bounds)
        late = None if jitter is None else Jitter(to_ns(jitter, what="jitter"), f"{self._engine.seed}:{name}")
        poll_ns = 0 if poll is None else to_ns(poll, what="poll")
        made = Scheduled(self.schedules, name, call, bound, overlap, missed, poll_ns, late, until_done)
        self.schedules.add(made)
        return made

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

    def check(self, *laws: Law) -> None:
        """Raise `BrokenLaw` unless every law holds over the jobs so far. See `ironclock.laws`."""
        check(laws, self._engine.jobs)

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
        carrier = self._engine.carrier
        assert isinstance(carrier, Strands)
        carrier.close()

    def _leave(self) -> None:
        try:
            for tap in reversed(self._taps):
                if tap.active:
                    tap.remove()
        finally:
            self._thread = None
            clock.leave()

    def _advance_ns(self, ns: int) -> None:
        self._engine.advance_to(self._engine.now + ns)

    def __repr__(self) -> str:
        states = ", ".join(f"{count} {state}" for state, count in JobSet(self._engine.jobs).states().items())
        return f"<rig at {self._timeline.text(self._engine.now)} ({self._timeline.zone}): {states or 'no jobs'}>"
