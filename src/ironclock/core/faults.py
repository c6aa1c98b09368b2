"""Faults: what is made to go wrong, where and when.

Each fault draws from a generator of its own, so that adding one shifts no other.
"""

from __future__ import annotations

import copy
import random
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from typing import Any, Literal, TypeAlias

from .durations import Duration, signed_ns, spell, to_ns
from .errors import EnqueueRefused, InputError, PolicyError
from .timeline import Instant, Timeline

Kind: TypeAlias = Literal[
    "fail", "hang", "slow", "crash", "refuse", "lose_ack", "twice", "delay", "early", "miss", "lose", "answer"
]
Numbers: TypeAlias = "int | Iterable[int] | None"
Span: TypeAlias = "tuple[Instant, Instant] | None"
When: TypeAlias = "Callable[..., bool] | None"
SEAMS = ("start", "sleep", "enqueue", "after enqueue", "commit", "after commit", "ack")
ErrorLike: TypeAlias = "BaseException | type[BaseException]"


@dataclass
class Fault:
    """One placed fault, and how often it struck."""

    kind: Kind
    job: str | None
    numbers: frozenset[int] | None
    since: int | None
    until: int | None
    chance: float | None
    when: Callable[..., bool] | None
    error: ErrorLike | None
    by_ns: int
    generator: random.Random | None
    at: str = "start"
    visits: frozenset[int] | None = None
    hard: bool = False
    status: int = 0
    struck: int = field(default=0)
    seen: set[tuple[int, int]] = field(default_factory=set)

    def hits(self, job: str) -> bool:
        """Whether it is meant for a job type."""
        return self.job is None or self.job == job

    def would_strike(self, now: int, number: int, subject: Any) -> bool:
        """Whether it may hit attempt `number` at `now`, as far as that can be said without drawing lots."""
        return (
            (self.numbers is None or number in self.numbers)
            and (self.since is None or now >= self.since)
            and (self.until is None or now < self.until)
            and (self.when is None or bool(self.when(subject)))
        )

    def strikes(self, now: int, number: int, subject: Any) -> bool:
        """Whether it hits attempt (or enqueue call) `number` at `now`; counts the hit."""
        if self.numbers is not None and number not in self.numbers:
            return False
        if self.since is not None and now < self.since:
            return False
        if self.until is not None and now >= self.until:
            return False
        if self.when is not None and not self.when(subject):
            return False
        if self.generator is not None and self.generator.random() >= (self.chance or 0.0):
            return False
        self.struck += 1
        return True

    def make(self) -> BaseException:
        """Return a fresh error to raise."""
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


class Faults:
    """The faults of one rig. Each method places one and returns it.

    `job` is a job type's name, its callable or the job type itself; None means any job. `attempts` are the
    attempt numbers it hits (1 is the first), `between` a pair of instants (the end is not included), `chance`
    a seeded share from 0 to 1, `when` a predicate over the `Attempt` (for `refuse_enqueue`: over the
    arguments of the call, a tuple). Conditions that are given must all hold.
    """

    def __init__(
        self, timeline: Timeline, seed: object, named: Callable[[object], str], changed: Callable[[], None],
        plan: Callable[[int, Callable[[Any], None], Any], None], jump: Callable[[int], None],
    ) -> None:  # fmt: skip
        self._timeline = timeline
        self._seed = seed
        self._named = named
        self._changed = changed
        self._plan = plan
        self._jump = jump
        self.attempt: list[Fault] = []
        """Faults that hit attempts before their code runs, in the order they were placed; the first that strikes
        counts."""
        self.seam: list[Fault] = []
        """Faults at the seams inside an attempt, and crashes."""
        self.enqueue: list[Fault] = []
        self.ack: list[Fault] = []
        self.twice: list[Fault] = []
        self.delivery: list[Fault] = []
        self.early: list[Fault] = []
        self.outages: list[tuple[str | None, int, int]] = []
        """Queue (None: all), begin and end of each outage of the queue server."""

    def fail(
        self, job: object = None, *, attempts: Numbers = None, between: Span = None, chance: float | None = None,
        when: When = None, error: ErrorLike = ConnectionError("injected by faults.fail"), at: str = "start",
        visits: Numbers = None, takes: Duration = 0,
    ) -> Fault:  # fmt: skip
        """Make attempts raise `error` at a seam: before their code runs (``"start"``), ``"before NAME"`` or
        ``"after NAME"`` of an effect, ``"enqueue"``, ``"after enqueue"``, ``"sleep"``, ``"commit"``,
        ``"after commit"``.

        `visits` counts from 1 how often an attempt passes the seam. `takes` is how long an attempt that fails at its
        start takes until it does, as a connection does that is not answered. Raises `InputError` or `PolicyError`.
        """
        where, by_ns = self._at(at, visits), to_ns(takes, what="takes")
        if by_ns and at != "start":
            raise InputError(f"takes is for a failure at the start, and this one is at {at!r}")
        return self._place(where, "fail", job, attempts, between, chance, when, checked_error(error), by_ns, at, visits)

    def hang(
        self, job: object = None, *, attempts: Numbers = None, between: Span = None, chance: float | None = None,
        when: When = None, at: str = "start", visits: Numbers = None,
    ) -> Fault:  # fmt: skip
        """Make attempts never end by themselves: only their timeout ends them, and without one nothing does."""
        return self._place(self._at(at, visits), "hang", job, attempts, between, chance, when, at=at, visits=visits)

    def slow(
        self, job: object = None, *, by: Duration, attempts: Numbers = None, between: Span = None,
        chance: float | None = None, when: When = None, at: str = "start", visits: Numbers = None,
    ) -> Fault:  # fmt: skip
        """Make attempts spend `by` at a seam (see `fail`)."""
        by_ns = to_ns(by, what="by")
        where = self._at(at, visits)
        return self._place(where, "slow", job, attempts, between, chance, when, by=by_ns, at=at, visits=visits)

    def crash(
        self, job: object = None, *, at: str = "start", attempts: Numbers = None, visits: Numbers = None,
        between: Span = None, chance: float | None = None, when: When = None, down: Duration = 0, hard: bool = False,
    ) -> Fault:  # fmt: skip
        """Kill the worker at a seam (see `fail`; ``"ack"`` is after the job's code, before the acknowledgement).

        No `except` and no `finally` of the job runs. `down` is how long it takes until a new worker is up. The
        `hard` form runs the attempt in a forked child process that really dies, so that a real database takes
        back what the child's own connection had not committed. Raises `InputError`.
        """
        if hard and at in ("start", "ack"):
            raise InputError(f"a hard crash happens inside the job's code; at={at!r} is outside it")
        self._at(at, visits)
        by = to_ns(down, what="down")
        made = self._place(self.seam, "crash", job, attempts, between, chance, when, by=by, at=at, visits=visits)
        made.hard = hard
        return made

    def deliver_twice(
        self, job: object = None, *, attempts: Numbers = None, between: Span = None, chance: float | None = None,
        when: When = None, after: Duration = 0,
    ) -> Fault:  # fmt: skip
        """Deliver the same message a second time, `after` the first delivery's start."""
        return self._place(self.twice, "twice", job, attempts, between, chance, when, by=to_ns(after, what="after"))

    def lose_ack(
        self, job: object = None, *, attempts: Numbers = None, between: Span = None, chance: float | None = None,
        when: When = None,
    ) -> Fault:  # fmt: skip
        """Lose the acknowledgement of an attempt that is done, so that its job is delivered again."""
        return self._place(self.ack, "lose_ack", job, attempts, between, chance, when)

    def delay(
        self, job: object = None, *, by: Duration, attempts: Numbers = None, between: Span = None,
        chance: float | None = None, when: When = None,
    ) -> Fault:  # fmt: skip
        """Let deliveries come late by `by`, so that later ones overtake them. `when` is asked about the `Job`."""
        by_ns = to_ns(by, what="by")
        return self._place(self.delivery, "delay", job, attempts, between, chance, when, by=by_ns)

    def fetch_early(self, job: object = None, *, chance: float | None = None, when: When = None) -> Fault:
        """Let a worker fetch a job at the very moment it is enqueued, where the transaction around that has not
        committed and the queue is not part of it (``rig.transaction(joins=False)``).

        `when` is asked about the `Job`."""
        return self._place(self.early, "early", job, None, None, chance, when)

    def outage(self, between: tuple[Instant, Instant], *, queue: str | None = None) -> None:
        """Take the queue server down: enqueueing raises `EnqueueRefused`, no worker gets a job, and what is
        acknowledged meanwhile is delivered again. For one queue, or for all."""
        since, until = self.span(between)
        self.outages.append((queue, since, until))
        self._changed()

    def jump_clock(self, by: Duration, *, at: Instant | None = None) -> None:
        """Let the wall clock step by `by` (text may begin with a minus), now or `at` an instant, while the
        monotonic clock and the rig's own instants go on."""
        by_ns = signed_ns(by)
        if at is None:
            self._jump(by_ns)
        else:
            self._plan(self._timeline.ns(at, what="at"), self._jump, by_ns)

    def refuse_enqueue(
        self, job: object = None, *, calls: Numbers = None, between: Span = None, chance: float | None = None,
        when: When = None, error: ErrorLike = EnqueueRefused,
    ) -> Fault:  # fmt: skip
        """Make enqueueing raise `error` in the code that enqueues; `calls` counts that job's enqueues from 1."""
        return self._place(self.enqueue, "refuse", job, calls, between, chance, when, checked_error(error))

    def clear(self) -> None:
        """Take every fault away again."""
        for faults in self._lists():
            faults.clear()
        self.outages.clear()
        self._changed()

    def __iter__(self) -> Any:
        return iter([fault for faults in self._lists() for fault in faults])

    def _lists(self) -> tuple[list[Fault], ...]:
        return self.attempt, self.seam, self.enqueue, self.ack, self.twice, self.delivery, self.early

    def outage_until(self, queue: str, now: int) -> int | None:
        """Return when the outage ends that a queue suffers at `now`; None where it suffers none."""
        for name, since, until in self.outages:
            if since <= now < until and (name is None or name == queue):
                return until
        return None

    def outage_of(self, queue: str, now: int) -> BaseException | None:
        """Return the error of an enqueue in an outage; None where there is none."""
        until = self.outage_until(queue, now)
        return None if until is None else EnqueueRefused(f"the queue server is away until {self._timeline.text(until)}")

    def _at(self, at: str, visits: Numbers) -> list[Fault]:
        if not isinstance(at, str) or not (at in SEAMS or at.startswith(("before ", "after "))):
            raise InputError(
                f"at is {at!r}; give one of {', '.join(SEAMS)}, 'before NAME' or 'after NAME' of an effect"
            )
        return self.attempt if at == "start" else self.seam

    def span(self, between: tuple[Instant, Instant]) -> tuple[int, int]:
        """Return a pair of instants in nanoseconds; raise `InputError` or `InstantError`."""
        if not isinstance(between, (tuple, list)) or len(between) != 2:
            raise InputError(f"between is {between!r}; give a pair of instants, (start, end)")
        since = self._timeline.ns(between[0], what="the start of between")
        until = self._timeline.ns(between[1], what="the end of between")
        if until <= since:
            raise InputError(f"between ends at {between[1]!r}, which is not after its start {between[0]!r}")
        return since, until

    def _place(
        self, where: list[Fault], kind: Kind, job: object, numbers: Numbers, between: Span, chance: float | None,
        when: When, error: ErrorLike | None = None, by: int = 0, at: str = "start", visits: Numbers = None,
    ) -> Fault:  # fmt: skip
        name = None if job is None else self._named(job)
        since, until = (None, None) if between is None else self.span(between)
        generator = None
        if chance is not None:
            checked_chance(chance)
            generator = random.Random(f"{self._seed}:fault:{kind}:{name}:{len(where)}")
        if when is not None and not callable(when):
            raise InputError(f"when is {when!r}; give a function that says whether the fault strikes")
        fault = Fault(
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
        )
        where.append(fault)
        self._changed()
        return fault


def checked_chance(chance: object) -> None:
    """Raise `InputError` for what is no share."""
    if chance is not None and (
        isinstance(chance, bool) or not isinstance(chance, (int, float)) or not 0 <= chance <= 1
    ):
        raise InputError(f"chance is {chance!r}; give a share from 0 to 1")


def checked_numbers(given: int | Iterable[int] | None) -> frozenset[int] | None:
    """Return attempt or call numbers as a set; raise `InputError` for what is none."""
    if given is None:
        return None
    try:
        numbers = frozenset((given,) if isinstance(given, int) else given)
    except TypeError:
        raise InputError(f"{given!r} is no attempt number; give 1, (1, 2) or range(1, 4)") from None
    for number in numbers:
        if isinstance(number, bool) or not isinstance(number, int) or number < 1:
            raise InputError(f"{number!r} is no attempt number; they are whole and start at 1")
    return numbers


def checked_error(given: object) -> ErrorLike:
    """Return an error to raise; raise `PolicyError` for what is none."""
    if isinstance(given, BaseException):
        return given
    if isinstance(given, type) and issubclass(given, BaseException):
        try:
            given()
        except Exception as error:
            raise PolicyError(f"error is {given.__name__}, which cannot be made without arguments: {error}") from None
        return given
    raise PolicyError(f"error is {given!r}, which is no exception")
