"""Faults: what is made to go wrong, where and when.

Each fault with a chance has its own random generator, so that a new fault never changes the others.
"""

from __future__ import annotations

import copy
import random
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from typing import Any, Literal, TypeAlias

from ..errors import EnqueueRefused, InputError, PolicyError
from ..foundation.durations import Duration, signed_ns, spell, to_ns
from ..foundation.instants import Instant, Timeline
from ..foundation.source_location import calling

Kind: TypeAlias = Literal[
    "fail", "hang", "slow", "crash", "refuse", "lose_ack", "twice", "delay", "early", "miss", "lose", "answer", "other"
]
Numbers: TypeAlias = "int | Iterable[int] | None"
Span: TypeAlias = "tuple[Instant, Instant] | None"
When: TypeAlias = "Callable[..., bool] | None"
ErrorLike: TypeAlias = "BaseException | type[BaseException]"

SEAMS = ("start", "sleep", "enqueue", "after enqueue", "commit", "after commit", "ack")
"""The seams of every job. ``before NAME`` and ``after NAME`` of an effect are seams as well."""

REAL_CALLS = {"sql": "sql", "file": "files", "http": "http", "socket": "sockets"}
"""Kinds of real calls that can be seams, by the first word of their names."""


class Fault:
    """One fault, and how often it has struck. The methods of `Faults` return it. As a context manager, it strikes only
    inside the block.

    Example::

        with rig.faults.fail("submit_manifest") as fault:
            rig.advance("10m")
        assert fault.struck == 2
    """

    __slots__ = ("_live",)

    def __init__(self, live: LiveFault) -> None:
        self._live = live

    @property
    def kind(self) -> Kind:
        """What it does: ``fail``, ``hang``, ``slow``, ``crash``, ``refuse``, ``lose_ack``, ``twice``, ``delay`` or
        ``early``."""
        return self._live.kind

    @property
    def job(self) -> str | None:
        """The name of the job type that it strikes. None: any."""
        return self._live.job

    @property
    def numbers(self) -> frozenset[int] | None:
        """The numbers of the attempts (or calls) that it strikes. None: all."""
        return self._live.numbers

    @property
    def at(self) -> str:
        """The seam at which it strikes."""
        return self._live.at

    @property
    def chance(self) -> float | None:
        """The share of cases that it strikes, from 0 to 1. None: all."""
        return self._live.chance

    @property
    def error(self) -> ErrorLike | None:
        """What it raises: an exception or its class. None if it raises nothing."""
        return self._live.error

    @property
    def by_ns(self) -> int:
        """How late or slow it makes something, in nanoseconds."""
        return self._live.by_ns

    @property
    def struck(self) -> int:
        """How often it has struck so far."""
        return self._live.struck

    @property
    def place(self) -> str:
        """Where it was placed, as ``file:line in function``."""
        return self._live.place

    def __enter__(self) -> Fault:
        return self

    def __exit__(self, *_: object) -> None:
        """Take the fault away."""
        if self._live.take_away is not None:
            self._live.take_away(self._live)

    def __repr__(self) -> str:
        return f"<fault {self._live.describe()}: struck {self.struck} {'time' if self.struck == 1 else 'times'}>"


@dataclass(repr=False)
class LiveFault:
    """One fault, as the simulation keeps it."""

    kind: Kind
    """What it does."""
    job: str | None
    """The name of the job type that it strikes. None: any."""
    numbers: frozenset[int] | None
    """The numbers of the attempts (or calls) that it strikes. None: all."""
    since: int | None
    until: int | None
    """From when, and until when, it strikes, in nanoseconds since the epoch; the end is not included."""
    chance: float | None
    """The share of cases that it strikes, from 0 to 1. None: all."""
    when: Callable[..., bool] | None
    error: ErrorLike | None
    """What it raises."""
    by_ns: int
    """How long it takes, in nanoseconds."""
    generator: random.Random | None
    at: str = "start"
    """The seam at which it strikes."""
    visits: frozenset[int] | None = None
    hard: bool = False
    status: int = 0
    struck: int = field(default=0)
    """How often it has struck so far."""
    seen: set[tuple[int, int]] = field(default_factory=set)
    place: str = ""
    """Where it was placed, as ``file:line in function``."""
    take_away: Callable[[LiveFault], None] | None = None
    victims: set[str] = field(default_factory=set)
    """The names of the job types, or of the effects, that it has struck."""
    is_outage: bool = False
    """True if a whole service is away while it strikes."""

    def hits(self, job: str) -> bool:
        """Return True if it is meant for a job type."""
        return self.job is None or self.job == job

    def would_strike(self, now: int, number: int, subject: Any) -> bool:
        """Return True if it can strike attempt `number` at `now`, its chance left out."""
        return (
            (self.numbers is None or number in self.numbers)
            and (self.since is None or now >= self.since)
            and (self.until is None or now < self.until)
            and (self.when is None or bool(self.when(_as_read(subject))))
        )

    def strikes(self, now: int, number: int, subject: Any, victim: str = "") -> bool:
        """Return True if it strikes attempt (or enqueue call) `number` at `now`, and count that.

        `victim` is the name of what it strikes. Default: the job type of the subject.
        """
        if self.numbers is not None and number not in self.numbers:
            return False
        if self.since is not None and now < self.since:
            return False
        if self.until is not None and now >= self.until:
            return False
        if self.when is not None and not self.when(_as_read(subject)):
            return False
        if self.generator is not None and self.generator.random() >= (self.chance or 0.0):
            return False
        self.struck += 1
        self.victims.add(victim or getattr(subject, "job", subject).type.name)
        return True

    def make(self) -> BaseException:
        """Return a new error to raise."""
        if isinstance(self.error, BaseException):
            try:
                return copy.copy(self.error)
            except Exception:  # an exception whose constructor does not take its own args
                return self.error.with_traceback(None)
        assert self.error is not None
        return self.error()

    def describe(self) -> str:
        """Return the fault in words."""
        words = {
            "slow": f"slow by {spell(self.by_ns)}", "refuse": "refuse enqueue",
            "lose_ack": "lose the acknowledgement of", "twice": "deliver twice",
            "delay": f"deliver late by {spell(self.by_ns)}",
        }  # fmt: skip
        where = f" at {self.at!r}" if self.at != "start" or self.kind == "crash" else ""
        return f"{words.get(self.kind, self.kind)} {self.job or 'any job'}{where}"


def _as_read(subject: Any) -> Any:
    """Return what a user's predicate gets: the user's own object for a live attempt or job."""
    return getattr(subject, "reader", subject)


class PlacedFaults:
    """The faults that are placed, as the parts of a simulation ask for them: each list in the order of placing."""

    def __init__(self, timeline: Timeline) -> None:
        self._timeline = timeline
        self.attempt: list[LiveFault] = []
        """Faults that strike attempts before their code runs."""
        self.seam: list[LiveFault] = []
        """Faults at the seams inside an attempt, and crashes."""
        self.enqueue: list[LiveFault] = []
        self.ack: list[LiveFault] = []
        self.twice: list[LiveFault] = []
        self.delivery: list[LiveFault] = []
        self.early: list[LiveFault] = []
        self.outages: list[tuple[str | None, int, int]] = []
        """The queue (None: all), begin and end of each outage of the queue server."""
        self.ever: list[LiveFault] = []
        """Every fault that was ever placed, those that were taken away included."""
        self.of_services: list[LiveFault] = []
        """The faults of simulated services. Each service lets its own strike."""
        self.clock_jumps: list[int] = []
        """The instants at which the wall clock has jumped."""

    @property
    def lists(self) -> tuple[list[LiveFault], ...]:
        """The lists of faults, by where they strike."""
        return self.attempt, self.seam, self.enqueue, self.ack, self.twice, self.delivery, self.early

    def take_away(self, fault: LiveFault) -> None:
        """Take a fault away: it strikes no more."""
        for faults in self.lists:
            if fault in faults:
                faults[:] = [one for one in faults if one is not fault]

    def clear(self) -> None:
        """Take every fault away."""
        for faults in self.lists:
            faults.clear()
        self.outages.clear()

    def outage_until(self, queue: str, now: int) -> int | None:
        """Return the end of the outage that a queue has at `now`. None if it has none."""
        for name, since, until in self.outages:
            if since <= now < until and (name is None or name == queue):
                return until
        return None

    def outage_error(self, queue: str, now: int) -> BaseException | None:
        """Return the error of an enqueue in an outage. None if there is no outage."""
        until = self.outage_until(queue, now)
        return None if until is None else EnqueueRefused(f"the queue server is down until {self._timeline.text(until)}")

    def idle(self, now: int) -> list[str]:
        """Return in words the faults that have not struck, and why that may be."""
        text = self._timeline.text
        found = []
        for fault in self.ever:
            if fault.struck or fault.chance is not None:
                continue
            why = ""
            if fault.since is not None and fault.until is not None:
                span = f"from {text(fault.since)} to {text(fault.until)}"
                why = f"; it is for the time {span}, and the rig is at {text(now)}"
            elif fault.at != "start":
                why = f"; no job came to the seam {fault.at!r}"
            found.append(f"the fault {fault.describe()!r} struck 0 times{why} [{fault.place}]")
        found += [
            f"the outage from {text(since)} to {text(until)} is in the future; the rig is at {text(now)}"
            for _, since, until in self.outages
            if since > now
        ]
        return found


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
        self, job: object = None, *, attempts: Numbers = None, between: Span = None, chance: float | None = None,
        when: When = None, error: ErrorLike = ConnectionError("injected by faults.fail"), at: str = "start",
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
        where, by_ns = self._list_for(at), to_ns(takes, what="takes")
        if by_ns and at != "start":
            raise InputError(f"takes is for a failure at the start, and at is {at!r}; leave takes out")
        return self._place(where, "fail", job, attempts, between, chance, when, checked_error(error), by_ns, at, visits)

    def hang(
        self, job: object = None, *, attempts: Numbers = None, between: Span = None, chance: float | None = None,
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
        return self._place(self._list_for(at), "hang", job, attempts, between, chance, when, at=at, visits=visits)

    def slow(
        self, job: object = None, *, by: Duration, attempts: Numbers = None, between: Span = None,
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
        by_ns = to_ns(by, what="by")
        where = self._list_for(at)
        return self._place(where, "slow", job, attempts, between, chance, when, by=by_ns, at=at, visits=visits)

    def crash(
        self, job: object = None, *, at: str = "start", attempts: Numbers = None, visits: Numbers = None,
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
        self._list_for(at)
        by = to_ns(down, what="down")
        return self._place(
            self._placed.seam, "crash", job, attempts, between, chance, when, by=by, at=at, visits=visits, hard=hard
        )

    def deliver_twice(
        self, job: object = None, *, attempts: Numbers = None, between: Span = None, chance: float | None = None,
        when: When = None, after: Duration = 0,
    ) -> Fault:  # fmt: skip
        """Deliver the same message a second time, `after` the start of the first attempt (default 0).

        Example::

            rig.faults.deliver_twice(manifest)
            job = rig.enqueue(manifest.call("TL-204"))
            rig.run_dry()
            assert len(job.attempts) == 2
        """
        return self._place(
            self._placed.twice, "twice", job, attempts, between, chance, when, by=to_ns(after, what="after")
        )

    def lose_ack(
        self, job: object = None, *, attempts: Numbers = None, between: Span = None, chance: float | None = None,
        when: When = None,
    ) -> Fault:  # fmt: skip
        """Lose the acknowledgement of an attempt that is done. Its job is delivered again.

        Example::

            rig.faults.lose_ack(manifest, attempts=1)
            job = rig.enqueue(manifest.call("TL-204"))
            rig.run_dry()
            assert len(job.attempts) == 2
        """
        return self._place(self._placed.ack, "lose_ack", job, attempts, between, chance, when)

    def delay(
        self, job: object = None, *, by: Duration, attempts: Numbers = None, between: Span = None,
        chance: float | None = None, when: When = None,
    ) -> Fault:  # fmt: skip
        """Deliver jobs late by `by`, so that later jobs can overtake them. `when` gets the `Job`.

        Example::

            rig.faults.delay(manifest, by="5m")
            job = rig.enqueue(manifest.call("TL-204"))
            rig.run_dry()
            assert f"{job.attempts[0].started_at:%H:%M}" == "09:05"
        """
        by_ns = to_ns(by, what="by")
        return self._place(self._placed.delivery, "delay", job, attempts, between, chance, when, by=by_ns)

    def fetch_early(self, job: object = None, *, chance: float | None = None, when: When = None) -> Fault:
        """Let a worker fetch a job as soon as it is enqueued, before the transaction around it has committed.

        That can happen if the queue is not part of the transaction: ``rig.transaction(joins=False)``. `when` gets the
        `Job`.

        Example::

            rig.faults.fetch_early(manifest)
            with rig.transaction(joins=False):
                job = rig.enqueue(manifest.call("TL-204"))
                assert job.state == "done", "a worker was faster than the commit"
        """
        return self._place(self._placed.early, "early", job, None, None, chance, when)

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
        self._placed.outages.append((queue, since, until))
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
        self, job: object = None, *, calls: Numbers = None, between: Span = None, chance: float | None = None,
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
        return self._place(self._placed.enqueue, "refuse", job, calls, between, chance, when, checked_error(error))

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
        return iter([Fault(fault) for faults in self._placed.lists for fault in faults])

    def _list_for(self, at: str) -> list[LiveFault]:
        if not isinstance(at, str) or not (at in SEAMS or at.startswith(("before ", "after ", "halfway "))):
            raise InputError(
                f"at is {at!r}; give one of {', '.join(SEAMS)}, 'before NAME' or 'after NAME' of an effect or a real "
                "call, or 'halfway NAME' of a write to a file"
            )
        return self._placed.attempt if at == "start" else self._placed.seam

    def _place(
        self, where: list[LiveFault], kind: Kind, job: object, numbers: Numbers, between: Span, chance: float | None,
        when: When, error: ErrorLike | None = None, by: int = 0, at: str = "start", visits: Numbers = None,
        hard: bool = False,
    ) -> Fault:  # fmt: skip
        name = None if job is None else self._named(job)
        since, until = (None, None) if between is None else span_of(self._timeline, between)
        generator = None
        if chance is not None:
            checked_chance(chance)
            generator = random.Random(f"{self._seed}:fault:{kind}:{name}:{len(where)}")
        if when is not None and not callable(when):
            raise InputError(f"when is {when!r}; give a function that returns True if the fault strikes")
        fault = LiveFault(
            kind,
            name,
            checked_numbers(numbers),
            since,
            until,
            chance,
            when,
            error,
            by,
            generator,
            at,
            checked_numbers(visits),
            hard,
            place=calling(),
            take_away=self._take_away,
        )
        where.append(fault)
        self._placed.ever.append(fault)
        self._changed()
        return Fault(fault)

    def _take_away(self, fault: LiveFault) -> None:
        self._placed.take_away(fault)
        self._changed()


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
