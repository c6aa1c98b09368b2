"""Placing faults: what a test says of what is to go wrong, where and when.

Each fault with a chance has its own random generator, so that a new fault never changes the others.
"""

from __future__ import annotations

import random
from collections.abc import Callable, Iterable, Iterator
from typing import Any, TypeAlias

from ...errors import EnqueueRefused, InputError, PolicyError
from ...foundation.durations import Duration, signed_ns, to_ns
from ...foundation.instants import Instant, Timeline
from ...foundation.source_location import calling
from ..policy import JobLike
from .crash import CRASH
from .deliveries import DELAY, DELIVER_TWICE, FETCH_EARLY, LOSE_ACK
from .fail import FAIL
from .hang import HANG
from .kind import INJECTED, SEAMS, ErrorLike, FaultKind, Strike
from .outage import QueueOutage
from .placed import Aim, PlacedFault, PlacedFaults
from .refuse_enqueue import REFUSE_ENQUEUE
from .slow import SLOW

OfJob: TypeAlias = "JobLike | None"
Numbers: TypeAlias = "int | Iterable[int] | None"
Span: TypeAlias = "tuple[Instant, Instant] | None"
When: TypeAlias = "Callable[..., bool] | None"


class Fault:
    """One fault, and how often it has struck. The methods of `Faults` return it. As a context manager, it strikes only
    inside the block.

    Example::

        with rig.faults.fail("submit_manifest") as fault:
            rig.advance("10m")
        assert fault.struck == 2
    """

    __slots__ = ("_live", "_take_away")

    def __init__(self, live: PlacedFault, take_away: Callable[[PlacedFault], None]) -> None:
        self._live = live
        self._take_away = take_away

    @property
    def kind(self) -> str:
        """What it does, by the name of the method that has placed it: ``fail``, ``hang``, ``slow``, ``crash``,
        ``refuse_enqueue``, ``lose_ack``, ``deliver_twice``, ``delay``, ``fetch_early``, or the name of your own kind.
        """
        return self._live.kind.name

    @property
    def job(self) -> str | None:
        """The name of the job type that it strikes. None: any."""
        return self._live.aim.job

    @property
    def numbers(self) -> frozenset[int] | None:
        """The numbers of the attempts (or calls) that it strikes. None: all."""
        return self._live.aim.numbers

    @property
    def at(self) -> str:
        """The seam at which it strikes."""
        return self._live.aim.at

    @property
    def chance(self) -> float | None:
        """The share of cases that it strikes, from 0 to 1. None: all."""
        return self._live.chance

    @property
    def error(self) -> ErrorLike | None:
        """What it raises: an exception or its class. None if it raises nothing."""
        return self._live.does.raises

    @property
    def by_ns(self) -> int:
        """How late or slow it makes something, in nanoseconds."""
        return self._live.does.by_ns

    @property
    def struck(self) -> int:
        """How often it has struck so far. A fault of which a test asks this is not idle."""
        self._live.is_looked_at = True
        return self._live.struck

    @property
    def place(self) -> str:
        """Where it was placed, as ``file:line in function``."""
        return self._live.place

    def __enter__(self) -> Fault:
        return self

    def __exit__(self, *_: object) -> None:
        """Take the fault away."""
        self._take_away(self._live)

    def __repr__(self) -> str:
        return f"<fault {self._live.describe()}: struck {self.struck} {'time' if self.struck == 1 else 'times'}>"


class Faults:
    """What is made to go wrong in a rig. `Rig.faults` is one; each method places a fault and returns it.

    Parameters that the methods share. All that are given must hold:

    - `job`: a job type, its name or its callable. Default None: any job.
    - `attempts`: the numbers of the attempts that the fault strikes; 1 is the first. Default None: all.
    - `between`: a pair of instants; the end is not included. Default None: always.
    - `chance`: the share of cases that it strikes, from 0 to 1, drawn from the rig's seed. Default None: all.
    - `when`: a function that gets the `Attempt` and returns True if the fault strikes. Default None.

    Example::

        down = ("2031-03-29T23:00", "2031-03-29T23:20")
        rig.faults.fail("submit_manifest", between=down, error=ConnectionError("harbour office is down"))
        rig.faults.crash("charge_fare", at="after charge", attempts=1)
    """

    def __init__(
        self, placed: PlacedFaults, timeline: Timeline, seed: object, named: Callable[[object], str],
        changed: Callable[[], None], plan: Callable[[int, Callable[[Any], None], Any], None],
        jump: Callable[[int], None],
    ) -> None:  # fmt: skip
        self._timeline = timeline
        self._seed = seed
        self._named = named
        self._changed = changed
        self._plan = plan
        self._jump = jump
        self._placed = placed

    def fail(
        self, job: OfJob = None, *, attempts: Numbers = None, between: Span = None, chance: float | None = None,
        when: When = None, error: ErrorLike = ConnectionError(INJECTED), at: str = "start",
        visits: Numbers = None, takes: Duration = 0,
    ) -> Fault:  # fmt: skip
        """Make attempts raise an error.

        Parameters, beside those of `Faults`:

        - `error`: an exception, or its class. Default: a `ConnectionError`.
        - `at`: the seam. ``"start"`` (the default) is before the code of the job; ``"before NAME"`` and
          ``"after NAME"`` of an effect; ``"enqueue"``, ``"after enqueue"``, ``"sleep"``, ``"commit"``,
          ``"after commit"``.
        - `visits`: strike only at these passes of the seam within one attempt, from 1. Default None: at each.
        - `takes`: how long an attempt runs until it fails at its start, as a connection without an answer does.
          Default 0.

        Raises `InputError` or `PolicyError`.

        Example::

            charge = rig.job(charge_fare, retry=ic.Retry(2, "1m"))
            rig.faults.fail(charge, attempts=1, error=TimeoutError("no answer"))
            job = rig.enqueue(charge.call("TL-204"))
            rig.run_dry()
            assert [one.outcome for one in job.attempts] == ["failed", "done"]
        """
        by_ns = to_ns(takes, what="takes")
        if by_ns and at != "start":
            raise InputError(f"takes is for a failure at the start, and at is {at!r}; leave takes out")
        does = Strike(kind=FAIL, raises=checked_error(error), by_ns=by_ns)
        return self._place(does, _checked_seam(at), job, attempts, between, chance, when, visits)

    def hang(
        self, job: OfJob = None, *, attempts: Numbers = None, between: Span = None, chance: float | None = None,
        when: When = None, at: str = "start", visits: Numbers = None,
    ) -> Fault:  # fmt: skip
        """Make attempts hang until their timeout. Without a timeout they never end.

        Parameters: `at`, `visits` and the others as in `fail`.

        Example::

            charge = rig.job(charge_fare, retry=ic.Retry(2, "1m"), timeout="30s")
            rig.faults.hang(charge, attempts=1)
            job = rig.enqueue(charge.call("TL-204"))
            rig.run_dry()
            assert [one.outcome for one in job.attempts] == ["timed-out", "done"]
        """
        return self._place(Strike(kind=HANG), _checked_seam(at), job, attempts, between, chance, when, visits)

    def slow(
        self, job: OfJob = None, *, by: Duration, attempts: Numbers = None, between: Span = None,
        chance: float | None = None, when: When = None, at: str = "start", visits: Numbers = None,
    ) -> Fault:  # fmt: skip
        """Make attempts take longer.

        Parameters: `by` is how long the attempt waits at the seam; `at`, `visits` and the others as in `fail`.

        Example::

            rig.faults.slow(manifest, by="40s")
            job = rig.enqueue(manifest.call("TL-204"))
            rig.run_dry()
            assert job.attempts[0].ended_at - job.attempts[0].started_at == dt.timedelta(seconds=40)
        """
        does = Strike(kind=SLOW, by_ns=to_ns(by, what="by"))
        return self._place(does, _checked_seam(at), job, attempts, between, chance, when, visits)

    def crash(
        self, job: OfJob = None, *, at: str = "start", attempts: Numbers = None, visits: Numbers = None,
        between: Span = None, chance: float | None = None, when: When = None, down: Duration = 0, hard: bool = False,
    ) -> Fault:  # fmt: skip
        """Kill the worker at a seam. No `except` and no `finally` of the job runs.

        Parameters, beside those of `fail` (such as `visits`):

        - `at`: ``"ack"`` as well: after the code of the job, before the acknowledgement.
        - `down`: how long it takes until a new worker is up. Default 0.
        - `hard`: True runs the attempt in a forked child process that really dies, so that a real database rolls back
          what the connection of the child has not committed. Default False.

        Raises `InputError`.

        Example::

            rig.faults.crash(manifest, at="ack", attempts=1)
            job = rig.enqueue(manifest.call("TL-204"))
            rig.run_dry()
            assert [one.outcome for one in job.attempts] == ["crashed", "done"]
        """
        if hard and at in ("start", "ack"):
            raise InputError(f"at is {at!r}; a hard crash happens inside the code of the job, give another seam")
        does = Strike(kind=CRASH, by_ns=to_ns(down, what="down"), hard=hard)
        return self._place(does, _checked_seam(at), job, attempts, between, chance, when, visits)

    def deliver_twice(
        self, job: OfJob = None, *, attempts: Numbers = None, between: Span = None, chance: float | None = None,
        when: When = None, after: Duration = 0,
    ) -> Fault:  # fmt: skip
        """Deliver the same message a second time, `after` the start of the first attempt (default 0).

        Example::

            rig.faults.deliver_twice(manifest)
            job = rig.enqueue(manifest.call("TL-204"))
            rig.run_dry()
            assert len(job.attempts) == 2
        """
        does = Strike(kind=DELIVER_TWICE, by_ns=to_ns(after, what="after"))
        return self._place(does, "start", job, attempts, between, chance, when)

    def lose_ack(
        self, job: OfJob = None, *, attempts: Numbers = None, between: Span = None, chance: float | None = None,
        when: When = None,
    ) -> Fault:  # fmt: skip
        """Lose the acknowledgement of an attempt that is done. Its job is delivered again.

        Example::

            rig.faults.lose_ack(manifest, attempts=1)
            job = rig.enqueue(manifest.call("TL-204"))
            rig.run_dry()
            assert len(job.attempts) == 2
        """
        return self._place(Strike(kind=LOSE_ACK), "ack", job, attempts, between, chance, when)

    def delay(
        self, job: OfJob = None, *, by: Duration, attempts: Numbers = None, between: Span = None,
        chance: float | None = None, when: When = None,
    ) -> Fault:  # fmt: skip
        """Deliver jobs late by `by`, so that later jobs can overtake them. `when` gets the `Job`.

        Example::

            rig.faults.delay(manifest, by="5m")
            job = rig.enqueue(manifest.call("TL-204"))
            rig.run_dry()
            assert f"{job.attempts[0].started_at:%H:%M}" == "09:05"
        """
        does = Strike(kind=DELAY, by_ns=to_ns(by, what="by"))
        return self._place(does, "delivery", job, attempts, between, chance, when)

    def fetch_early(self, job: OfJob = None, *, chance: float | None = None, when: When = None) -> Fault:
        """Let a worker fetch a job as soon as it is enqueued, before the transaction around it has committed.

        That can happen if the queue is not part of the transaction: ``rig.transaction(joins=False)``. `when` gets the
        `Job`.

        Example::

            rig.faults.fetch_early(manifest)
            with rig.transaction(joins=False):
                job = rig.enqueue(manifest.call("TL-204"))
                assert job.state == "done", "a worker was faster than the commit"
        """
        return self._place(Strike(kind=FETCH_EARLY), "before commit", job, None, None, chance, when)

    def outage(self, between: tuple[Instant, Instant], *, queue: str | None = None) -> None:
        """Take the queue server down between two instants.

        Enqueueing raises `EnqueueRefused`, no worker gets a job, and a job that is acknowledged in the outage is
        delivered again.

        Parameters: `queue` is the name of the only queue that is down. Default None: all queues.

        Example::

            rig.faults.outage(("2031-03-03T10:00", "2031-03-03T10:20"))
            job = rig.enqueue(manifest.call("TL-204"), at="2031-03-03T10:05")
            rig.run_dry()
            assert f"{job.attempts[0].started_at:%H:%M}" == "10:20"
        """
        since, until = span_of(self._timeline, between)
        self._placed.outages.append(QueueOutage(queue, since, until))
        self._changed()

    def jump_clock(self, by: Duration, *, at: Instant | None = None) -> None:
        """Let the wall clock jump. The monotonic clock and the rig's own instants do not.

        Parameters: `by` is how far; text can begin with a minus (``"-1h"``). `at` is the instant; default: now.

        Example::

            before = time.time()
            rig.faults.jump_clock("-1h")
            assert before - time.time() == 3600
        """
        by_ns = signed_ns(by)
        if at is None:
            self._jump(by_ns)
        else:
            self._plan(self._timeline.ns(at, what="at"), self._jump, by_ns)

    def refuse_enqueue(
        self, job: OfJob = None, *, calls: Numbers = None, between: Span = None, chance: float | None = None,
        when: When = None, error: ErrorLike = EnqueueRefused,
    ) -> Fault:  # fmt: skip
        """Make enqueueing raise an error in the code that enqueues.

        Parameters, beside those of `Faults`: `calls` are the numbers of the enqueues of that job type, from 1. `when`
        gets the tuple of the job's arguments. `error` is an exception or its class; default `EnqueueRefused`.

        Example::

            rig.faults.refuse_enqueue(manifest, calls=1)
            try:
                rig.enqueue(manifest.call("TL-204"))
            except ic.EnqueueRefused:
                rig.enqueue(manifest.call("TL-204"))
        """
        does = Strike(kind=REFUSE_ENQUEUE, raises=checked_error(error))
        return self._place(does, "put", job, calls, between, chance, when)

    def place(
        self, kind: FaultKind, job: OfJob = None, *, at: str | None = None, by: Duration = 0,
        error: ErrorLike | None = None, attempts: Numbers = None, visits: Numbers = None, between: Span = None,
        chance: float | None = None, when: When = None,
    ) -> Fault:  # fmt: skip
        """Place a fault of any kind, such as one of your own (`FaultKind`).

        Parameters, beside those of `Faults`: `kind` is an object of a kind of fault. `at` is the seam; default: the
        only seam of the kind, or ``"start"``. `by` is its duration, `error` what it raises; default: what the kind
        says. `visits` are as in `fail`.

        Raises `InputError` for anything else, and for a seam at which the kind does not fit.

        Example::

            class Stumble(ic.FaultKind):
                name = "stumble"
                words = "it fails after three seconds"
                seams = frozenset({"start"})
                needs = frozenset({"fail"})

                def strike(self, passing, strike):
                    passing.fail(ConnectionError("the line broke"), 3_000_000_000)

            rig.faults.place(Stumble(), manifest, attempts=1)
        """
        if not isinstance(kind, FaultKind):
            raise InputError(f"kind is {kind!r}; give an object of a kind of fault, a class derived from ic.FaultKind")
        seam = at or ("start" if "start" in kind.seams or len(kind.seams) != 1 else next(iter(kind.seams)))
        if not kind.fits_at(seam):
            raise InputError(f"at is {seam!r}, and {kind.name} fits at {', '.join(sorted(kind.seams))}")
        raises = kind.error(seam) if error is None else checked_error(error)
        does = Strike(kind=kind, by_ns=to_ns(by, what="by"), raises=raises)
        return self._place(does, seam, job, attempts, between, chance, when, visits)

    def clear(self) -> None:
        """Remove every fault.

        Example::

            rig.faults.fail(manifest)
            rig.faults.clear()
            job = rig.enqueue(manifest.call("TL-204"))
            rig.run_dry()
            assert job.state == "done"
        """
        self._placed.clear()
        self._changed()

    def __repr__(self) -> str:
        return f"<faults: {', '.join(map(repr, self)) or 'none'}>"

    def __iter__(self) -> Iterator[Fault]:
        return iter([Fault(fault, self._take_away) for fault in self._placed])

    def _place(
        self, does: Strike, at: str, job: object, numbers: Numbers, between: Span, chance: float | None, when: When,
        visits: Numbers = None,
    ) -> Fault:  # fmt: skip
        name = None if job is None else self._named(job)
        since, until = (None, None) if between is None else span_of(self._timeline, between)
        generator = None
        if chance is not None:
            checked_chance(chance)
            alike = sum(_group(fault.kind, fault.aim.at) == _group(does.kind, at) for fault in self._placed)
            generator = random.Random(f"{self._seed}:fault:{does.kind.name}:{name}:{alike}")
        if when is not None and not callable(when):
            raise InputError(f"when is {when!r}; give a function that returns True if the fault strikes")
        aim = Aim(
            at=at, job=name, numbers=checked_numbers(numbers), visits=checked_numbers(visits), since=since, until=until,
            when=when, once_each=at == "delivery",
        )  # fmt: skip
        fault = PlacedFault(aim=aim, does=does, chance=chance, generator=generator, place=calling())
        self._placed.add(fault)
        self._placed.ever.append(fault)
        self._changed()
        return Fault(fault, self._take_away)

    def _take_away(self, fault: PlacedFault) -> None:
        self._placed.take_away(fault)
        self._changed()


def _group(kind: FaultKind, at: str) -> str:
    """Return a name for those faults that are counted together: each of them draws from a generator of its own."""
    if at in ("put", "delivery", "before commit") or kind in (DELIVER_TWICE, LOSE_ACK):
        return kind.name
    return "start" if at == "start" and kind is not CRASH else "seam"


def _checked_seam(at: str) -> str:
    if not isinstance(at, str) or not (at in SEAMS or at.startswith(("before ", "after ", "halfway "))):
        raise InputError(
            f"at is {at!r}; give one of {', '.join(SEAMS)}, 'before NAME' or 'after NAME' of an effect or a real call, "
            "or 'halfway NAME' of a write to a file"
        )
    return at


def span_of(timeline: Timeline, between: tuple[Instant, Instant]) -> tuple[int, int]:
    """Return a pair of instants in nanoseconds. Raises `InputError` or `InstantError`."""
    if not isinstance(between, (tuple, list)) or len(between) != 2:
        raise InputError(f"between is {between!r}; give a pair of instants, (start, end)")
    since = timeline.ns(between[0], what="the start of between")
    until = timeline.ns(between[1], what="the end of between")
    if until <= since:
        raise InputError(
            f"between ends at {between[1]!r}, which is not after its start {between[0]!r}; give (start, end)"
        )
    return since, until


def checked_chance(chance: object) -> None:
    """Raise `InputError` unless `chance` is a share from 0 to 1."""
    if chance is not None and (
        isinstance(chance, bool) or not isinstance(chance, (int, float)) or not 0 <= chance <= 1
    ):
        raise InputError(f"chance is {chance!r}; give a share from 0 to 1")


def checked_numbers(given: int | Iterable[int] | None, of: str = "an attempt") -> frozenset[int] | None:
    """Return the numbers of attempts or calls as a set. Raises `InputError`."""
    if given is None:
        return None
    try:
        numbers = frozenset((given,) if isinstance(given, int) else given)
    except TypeError:
        raise InputError(f"the number of {of} is {given!r}; give numbers, such as 1, (1, 2) or range(1, 4)") from None
    for number in numbers:
        if isinstance(number, bool) or not isinstance(number, int) or number < 1:
            raise InputError(f"the number of {of} is {number!r}; give whole numbers, at least 1")
    return numbers


def checked_error(given: object) -> ErrorLike:
    """Return an error that can be raised. Raises `PolicyError` for anything else."""
    if isinstance(given, BaseException):
        return given
    if isinstance(given, type) and issubclass(given, BaseException):
        try:
            given()
        except Exception as error:
            raise PolicyError(
                f"error is {given.__name__}, which cannot be made without arguments: {error}; give an instance"
            ) from None
        return given
    raise PolicyError(f"error is {given!r}; give an exception or its class")
