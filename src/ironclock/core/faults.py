"""Faults: what is made to go wrong, where and when.

Each fault draws from a generator of its own, so that adding one shifts no other.
"""

from __future__ import annotations

import copy
import random
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from typing import Any, Literal, TypeAlias

from .durations import Duration, spell, to_ns
from .errors import EnqueueRefused, InputError, PolicyError
from .timeline import Instant, Timeline

Kind: TypeAlias = Literal["fail", "hang", "slow", "refuse"]
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
    struck: int = field(default=0)

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
        words = {"fail": "fail", "hang": "hang", "slow": f"slow by {spell(self.by_ns)}", "refuse": "refuse enqueue"}
        return f"{words[self.kind]} {self.job or 'any job'}"


class Faults:
    """The faults of one rig. Each method places one and returns it.

    `job` is a job type's name, its callable or the job type itself; None means any job. `attempts` are the
    attempt numbers it hits (1 is the first), `between` a pair of instants (the end is not included), `chance`
    a seeded share from 0 to 1, `when` a predicate over the `Attempt` (for `refuse_enqueue`: over the
    arguments of the call, a tuple). Conditions that are given must all hold.
    """

    def __init__(self, timeline: Timeline, seed: object, named: Callable[[object], str]) -> None:
        self._timeline = timeline
        self._seed = seed
        self._named = named
        self.attempt: list[Fault] = []
        """Faults that hit attempts, in the order they were placed; the first that strikes counts."""
        self.enqueue: list[Fault] = []
        """Faults that hit enqueueing."""

    def fail(
        self, job: object = None, *, attempts: int | Iterable[int] | None = None,
        between: tuple[Instant, Instant] | None = None, chance: float | None = None,
        when: Callable[..., bool] | None = None, error: ErrorLike = ConnectionError("injected by faults.fail"),
    ) -> Fault:  # fmt: skip
        """Make attempts end with `error` before their code runs. Raises `InputError` or `PolicyError`."""
        return self._place(self.attempt, "fail", job, attempts, between, chance, when, _error(error))

    def hang(
        self, job: object = None, *, attempts: int | Iterable[int] | None = None,
        between: tuple[Instant, Instant] | None = None, chance: float | None = None,
        when: Callable[..., bool] | None = None,
    ) -> Fault:  # fmt: skip
        """Make attempts never end by themselves: only their timeout ends them, and without one nothing does."""
        return self._place(self.attempt, "hang", job, attempts, between, chance, when)

    def slow(
        self, job: object = None, *, by: Duration, attempts: int | Iterable[int] | None = None,
        between: tuple[Instant, Instant] | None = None, chance: float | None = None,
        when: Callable[..., bool] | None = None,
    ) -> Fault:  # fmt: skip
        """Make attempts spend `by` before their code runs."""
        return self._place(self.attempt, "slow", job, attempts, between, chance, when, by=to_ns(by, what="by"))

    def refuse_enqueue(
        self, job: object = None, *, calls: int | Iterable[int] | None = None,
        between: tuple[Instant, Instant] | None = None, chance: float | None = None,
        when: Callable[..., bool] | None = None, error: ErrorLike = EnqueueRefused,
    ) -> Fault:  # fmt: skip
        """Make enqueueing raise `error` in the code that enqueues; `calls` counts that job's enqueues from 1."""
        return self._place(self.enqueue, "refuse", job, calls, between, chance, when, _error(error))

    def clear(self) -> None:
        """Take every fault away again."""
        self.attempt.clear()
        self.enqueue.clear()

    def __iter__(self) -> Any:
        return iter([*self.attempt, *self.enqueue])

    def _place(
        self, where: list[Fault], kind: Kind, job: object, numbers: int | Iterable[int] | None,
        between: tuple[Instant, Instant] | None, chance: float | None, when: Callable[..., bool] | None,
        error: ErrorLike | None = None, by: int = 0,
    ) -> Fault:  # fmt: skip
        name = None if job is None else self._named(job)
        since = until = generator = None
        if between is not None:
            if not isinstance(between, (tuple, list)) or len(between) != 2:
                raise InputError(f"between is {between!r}; give a pair of instants, (start, end)")
            since = self._timeline.ns(between[0], what="the start of between")
            until = self._timeline.ns(between[1], what="the end of between")
            if until <= since:
                raise InputError(f"between ends at {between[1]!r}, which is not after its start {between[0]!r}")
        if chance is not None:
            if isinstance(chance, bool) or not isinstance(chance, (int, float)) or not 0 <= chance <= 1:
                raise InputError(f"chance is {chance!r}; give a share from 0 to 1")
            generator = random.Random(f"{self._seed}:fault:{kind}:{name}:{len(where)}")
        if when is not None and not callable(when):
            raise InputError(f"when is {when!r}; give a function that says whether the fault strikes")
        fault = Fault(kind, name, _numbers(numbers), since, until, chance, when, error, by, generator)
        where.append(fault)
        return fault


def _numbers(given: int | Iterable[int] | None) -> frozenset[int] | None:
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


def _error(given: object) -> ErrorLike:
    if isinstance(given, BaseException):
        return given
    if isinstance(given, type) and issubclass(given, BaseException):
        try:
            given()
        except Exception as error:
            raise PolicyError(f"error is {given.__name__}, which cannot be made without arguments: {error}") from None
        return given
    raise PolicyError(f"error is {given!r}, which is no exception")
