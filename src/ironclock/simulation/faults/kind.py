"""Kinds of fault: what every kind has in common, and what it can do to whoever passes a seam."""

from __future__ import annotations

import copy
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, ClassVar, Literal, TypeAlias

from ...foundation.durations import spell

if TYPE_CHECKING:
    from ..jobs import LiveAttempt

ErrorLike: TypeAlias = "BaseException | type[BaseException]"
About: TypeAlias = Literal["attempt", "thread", "request", "job", "firing"]
"""What passes a seam: an attempt in its own code, a thread of it, a request, a job on its way, a firing."""
Operation: TypeAlias = Literal[
    "fail", "wait", "crash", "deliver_again", "lose_ack", "other_version", "come_late", "miss", "fetch"
]
"""What a fault can do to whoever passes a seam: the methods of `Passing`."""

SEAMS = ("start", "sleep", "enqueue", "after enqueue", "commit", "after commit", "ack")
"""The seams of every job. ``before NAME`` and ``after NAME`` of an effect are seams as well."""

INJECTED = "injected by faults.fail"
"""What an error says that nobody has chosen. At the seam of a real call it becomes one of the package called."""

REAL_CALLS = {"sql": "sql", "redis": "redis", "file": "files", "http": "http", "socket": "sockets"}
"""Kinds of real calls that can be seams, by the first word of their names."""


class Subject:
    """Whom a placed fault can be meant for.

    Parameters: `job` is the name of its job type; `number` the number of the attempt or call; `read` returns what a
    user's predicate gets; `visit` says how often it has passed this seam; `identity` tells it from all others.
    """

    __slots__ = ("identity", "job", "number", "read", "visit")

    def __init__(
        self, job: str, number: int, read: Callable[[], object], visit: int = 0, identity: object = None
    ) -> None:
        self.job = job
        self.number = number
        self.read = read
        self.visit = visit
        self.identity = identity


def subject_of(attempt: LiveAttempt, visit: int = 1) -> Subject:
    """Return whom a fault at an attempt can be meant for."""
    return Subject(attempt.job.type.name, attempt.number, lambda: attempt.reader, visit)


class Passing:
    """Somebody passes a seam. Its methods are what a fault can do to them there.

    Each driver of jobs has classes for its seams, with the methods that are possible there; `can` names them. A kind of
    fault that needs another one does not fit.
    """

    can: frozenset[Operation] = frozenset()
    """The operations that it has."""
    about: About = "attempt"
    runs_code = True
    """True if code is running that others could go before."""
    over = False
    """True if nothing more can strike: it has failed, hangs, or is dead."""
    why_not = "where this kind of fault cannot strike"
    """Why a fault cannot strike that needs more than it can."""

    job_number = -1
    """The number of the job that is on its way. -1 if it is something else."""

    def __init__(self, seam: str, who: str, attempt: LiveAttempt | None = None) -> None:
        self.seam = seam
        self.who = who
        """Its name, the same in every run of the same story."""
        self.attempt = attempt
        """The attempt that passes. None if it is something else."""

    @property
    def durations_of(self) -> str:
        """The name under which a search finds how long it can take."""
        if self.seam == "start" and self.attempt is not None:
            return self.attempt.job.type.name
        return self.seam.removeprefix("before ")

    def subjects(self) -> Iterable[Subject]:
        """Return whom a placed fault can be meant for."""
        return () if self.attempt is None else (subject_of(self.attempt),)

    def fail(self, error: BaseException, after_ns: int = 0) -> None:
        """Let it fail with an error, after so many nanoseconds. Parameters: `error` is an error; `after_ns` is how long
        that takes, in nanoseconds."""
        raise self._impossible("fail")

    def wait(self, ns: int | None) -> None:
        """Let it take so many nanoseconds longer. None: it hangs. Parameters: `ns` is a time in nanoseconds."""
        raise self._impossible("wait")

    def take(self, ns: int) -> None:
        """Let it take so many nanoseconds in all. Parameters: `ns` is a time in nanoseconds."""
        self.wait(ns)

    def crash(self, strike: Strike) -> None:
        """Let its worker die. A new one is up after the time of the strike. Parameters: `strike` is what strikes
        (`Strike`)."""
        raise self._impossible("crash")

    def deliver_again(self, after_ns: int) -> None:
        """Deliver its message a second time, so long after this one. Parameters: `after_ns` is how long that takes, in
        nanoseconds."""
        raise self._impossible("deliver_again")

    def lose_ack(self) -> None:
        """Lose its acknowledgement."""
        raise self._impossible("lose_ack")

    def other_version(self) -> None:
        """Let the other version of its handler take it."""
        raise self._impossible("other_version")

    def come_late(self, ns: int) -> None:
        """Let it come so many nanoseconds later. Parameters: `ns` is a time in nanoseconds."""
        raise self._impossible("come_late")

    def miss(self, ns: int) -> None:
        """Let nobody see it for so many nanoseconds. Parameters: `ns` is a time in nanoseconds."""
        raise self._impossible("miss")

    def fetch(self) -> None:
        """Let a worker fetch it at once."""
        raise self._impossible("fetch")

    def refuse(self, error: BaseException) -> None:
        """Let the queue refuse what is enqueued. Parameters: `error` is an error."""
        self.fail(error)

    def _impossible(self, operation: str) -> NotImplementedError:
        return NotImplementedError(f"{self.who} at {self.seam!r} cannot {operation}; `can` says what it can")


@dataclass(frozen=True, kw_only=True)
class Amounts:
    """How much of each fault a search tries.

    `durations` has, by the name of a job or an effect, the nanoseconds that it can take. `exhausts`: errors strike the
    last attempt of a job as well.
    """

    slow_ns: int = 60_000_000_000
    delay_ns: int = 60_000_000_000
    outage_ns: int = 600_000_000_000
    in_a_row: tuple[int, ...] = (2, 3, 5, 10)
    durations: Mapping[str, tuple[int, ...]] = field(default_factory=dict)
    exhausts: bool = False


class FaultKind:
    """A kind of fault. To add one, derive a class, set what differs, and say in `strike` what it does.

    An object of it is all that the rest needs: ``rig.faults.place(kind, job)`` places it, and
    ``ic.probe(story, laws, faults=[kind])`` searches with it.

    Example::

        class Stumble(ic.FaultKind):
            name = "stumble"
            words = "it fails after {by}"
            seams = frozenset({"start"})
            needs = frozenset({"fail"})
            uses_up = "attempt"
            is_timed = True

            def strike(self, passing, strike):
                passing.fail(ConnectionError("the line broke"), strike.by_ns)

        rig.faults.place(Stumble(), "submit_manifest", by="3s", attempts=1)
    """

    name: ClassVar[str]
    """Its name: that of the method of `Faults`, and of the option of a search."""
    words: ClassVar[str]
    """What happens, in words; ``{by}`` stands for its duration or number."""
    seams: ClassVar[frozenset[str]]
    """Where it fits: seams, or the first words of seams such as ``before NAME``."""
    needs: ClassVar[frozenset[Operation]] = frozenset()
    """The operations of `Passing` that it uses."""
    strikes: ClassVar[frozenset[About]] = frozenset({"attempt"})
    """Whom a search lets it strike."""
    uses_up: ClassVar[Literal["attempt", "delivery"] | None] = None
    """What it uses up. A search spares the last one: that a job dies then is its policy."""
    is_timed: ClassVar[bool] = False
    """True if it has a duration."""
    is_lasting: ClassVar[bool] = False
    """True if it begins at a seam and goes on at others, as an outage does."""
    cell: ClassVar[str | None] = None
    """Its column in the fault coverage. None: it fails before, or after, whatever it strikes."""
    excuses: ClassVar[frozenset[str]] = frozenset()
    """The names of the laws that say nothing about a world in which it strikes."""
    rank: ClassVar[int] = 2
    """Its order among faults at one seam: the lowest strikes first."""
    place_words: ClassVar[str] = ""
    """How a placed fault of it is called; ``{by}`` is its duration. Empty: by its name."""
    keys: ClassVar[tuple[str, ...] | None] = None
    """The keys of its table in a scenario, beside `job`. None: it has no table there."""
    is_default: ClassVar[bool] = True
    """True if a search tries it without being asked."""

    def strike(self, passing: Passing, strike: Strike) -> None:
        """Do to whoever passes what this kind does. Parameters: `passing` is who passes (`Passing`)."""
        raise NotImplementedError(f"the fault {self.name!r} does not say what it does; give it a method strike")

    def fits_at(self, seam: str) -> bool:
        """Return True if it fits at a seam, whoever passes. Parameters: `seam` is the name of the seam."""
        return seam in self.seams or (" " in seam and seam not in SEAMS and seam.partition(" ")[0] in self.seams)

    def fits(self, passing: Passing) -> bool:
        """Return True if a search lets it strike whoever passes. Parameters: `passing` is who passes (`Passing`)."""
        return passing.about in self.strikes and self.needs <= passing.can

    def amounts(self, passing: Passing, tried: Amounts, passed: int) -> Iterable[int]:
        """Return how much of it a search tries here: durations in nanoseconds, or numbers. Parameters: `passing` is who
        passes (`Passing`); `tried` is how much a search tries.

        Parameters: `passed` says how often anybody has passed such a seam, this time included.
        """
        return _ONCE

    def ends_job(self, passing: Passing) -> bool:
        """Return True if a job would become a dead letter as its policy says: that is not a finding. Parameters:
        `passing` is who passes (`Passing`).

        The only attempt of a job is spared only at its start: its code can deal with an error inside it. The policy of
        a job that the application's own workers run is not known.
        """
        attempt = passing.attempt
        if attempt is None or self.uses_up is None or attempt.loop is not None:
            return False
        job = attempt.job
        if self.uses_up == "attempt":
            return job.failures + 1 >= job.type.retry.attempts and (job.failures > 0 or passing.seam == "start")
        limit = job.type.policy.deliveries
        return limit is not None and job.unacknowledged + 1 >= limit

    def error(self, seam: str) -> ErrorLike | None:
        """Return the error that it raises at a seam if nobody gives another one. None if it raises none. Parameters:
        `seam` is the name of the seam."""
        return None

    def goes_on(self, began: str, passing: Passing, is_same_job: bool) -> bool:
        """Return True if one that lasts, and has begun at the seam `began`, strikes here as well. Parameters: `passing`
        is who passes (`Passing`); `is_same_job` is True if it is the same job."""
        return False

    def describe(self, by_ns: int) -> str:
        """Return a placed fault of this kind in words. Parameters: `by_ns` is its duration in nanoseconds."""
        return (self.place_words or self.name).format(by=spell(by_ns))

    def __repr__(self) -> str:
        return f"<kind of fault {self.name}>"


_ONCE = (0,)


@dataclass(frozen=True, kw_only=True)
class Strike:
    """What strikes once: the kind, how long it takes, and what it raises."""

    kind: FaultKind
    by_ns: int = 0
    raises: ErrorLike | None = None
    hard: bool = False
    """True if the process really dies."""

    def make_error(self) -> BaseException:
        """Return a new error to raise."""
        if isinstance(self.raises, BaseException):
            try:
                return copy.copy(self.raises)
            except Exception:  # an exception whose constructor does not take its own args
                return self.raises.with_traceback(None)
        assert self.raises is not None
        return self.raises()
