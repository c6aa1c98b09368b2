"""Laws: statements over what happened that must hold, with the excerpt of history that proves a breach.

A law is called with a `World` and returns its breaches. A `World` is also the sequence of the jobs, so that a law of
one's own may be as short as ``lambda jobs: [f"{job.id} is dead" for job in jobs if job.state == "dead"]``.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property, update_wrapper
from typing import Any, ParamSpec, Protocol, TypeAlias, overload

from .account import describe
from .errors import InputError, IronClockError, SelectionError, nearest
from .history import Entry, History
from .jobs import Job
from .shapes import DEAD, DROPPED, ENDED, UNHEARD

_MOST = 20


class BrokenLaw(IronClockError, AssertionError):
    """A law does not hold; the message names it and shows the excerpt that proves it. `breaches` has them all."""

    def __init__(self, message: str, breaches: Sequence[Breach] = ()) -> None:
        super().__init__(message)
        self.breaches = list(breaches)


@dataclass(frozen=True)
class Breach:
    """One breach: what is wrong in words, the few entries that prove it, and the law's name."""

    words: str
    proof: tuple[Entry, ...] = ()
    law: str = ""


Found: TypeAlias = "Iterable[Breach | str]"


class Law(Protocol):
    """Anything that can be checked against a `World`."""

    def __call__(self, world: World, /) -> Found:
        """Return a breach, or a line of words, for each thing that is wrong; nothing where all is well."""


P = ParamSpec("P")


class Stated:
    """A law as the factory of that name stated it; it can be sent to another process.

    `excuses` are the kinds of fault that it takes no notice of: it speaks of a world without them. `limit_ns` is
    the time that it allows, where it allows one: much longer delays say nothing about it.
    """

    def __init__(
        self, factory: Stater[Any], args: tuple[Any, ...], kwargs: dict[str, Any], law: Law, excuses: Iterable[str]
    ) -> None:
        self.__name__ = factory.__name__
        self.excuses = frozenset(excuses)
        self.limit_ns: int | None = getattr(law, "limit_ns", None)
        self._made = factory, args, kwargs
        self._law = law

    def __call__(self, world: World, /) -> Found:
        return self._law(world)

    def __reduce__(self) -> Any:
        factory, args, kwargs = self._made
        return _state, (factory, args, kwargs)

    def __repr__(self) -> str:
        _, args, kwargs = self._made
        given = [*map(repr, args), *(f"{name}={value!r}" for name, value in kwargs.items())]
        return f"{self.__name__}({', '.join(given)})"


class Stater(Protocol[P]):
    """What states a law."""

    __name__: str

    def __call__(self, *args: P.args, **kwargs: P.kwargs) -> Law: ...


def states(*excuses: str) -> Callable[[Callable[P, Law]], Callable[P, Law]]:
    """Make the laws that a factory states ones that can be sent to another process, with what they excuse."""

    def wrap(make: Callable[P, Law]) -> Callable[P, Law]:
        def factory(*args: P.args, **kwargs: P.kwargs) -> Law:
            return Stated(factory, args, kwargs, make(*args, **kwargs), excuses)

        update_wrapper(factory, make)
        return factory

    return wrap


def _state(factory: Callable[..., Law], args: tuple[Any, ...], kwargs: dict[str, Any]) -> Law:
    return factory(*args, **kwargs)


class Run:
    """One attempt, read from a history. Its entries are made when somebody asks: most laws of most runs do not."""

    __slots__ = ("_first", "_last", "_world", "job", "start_ns")

    def __init__(self, world: World, job: str, first: int, start_ns: int) -> None:
        self._world = world
        self.job = job
        """The job's id."""
        self.start_ns = start_ns
        """When it started."""
        self._first = first
        self._last = -1

    @property
    def first(self) -> Entry:
        """The entry with which it started."""
        return self._world.entry(self._first)

    @property
    def last(self) -> Entry | None:
        """The entry with which it ended; None where it has not."""
        return None if self._last < 0 else self._world.entry(self._last)

    @property
    def ended(self) -> bool:
        """Whether it has ended."""
        return self._last >= 0

    @property
    def proof(self) -> tuple[Entry, ...]:
        """The entries that show it."""
        return (self.first,) if self.last is None else (self.first, self.last)


class Life:
    """One job, read from a history."""

    __slots__ = ("_closed", "_enqueued", "_world", "id", "name", "runs", "state")

    def __init__(self, world: World, id: str, name: str, enqueued: int) -> None:
        self._world = world
        self.id = id
        """The job's id."""
        self.name = name
        """Its type."""
        self.runs: list[Run] = []
        self.state = "open"
        self._enqueued = enqueued
        self._closed = -1

    @property
    def enqueued(self) -> Entry:
        """The entry with which it was enqueued."""
        return self._world.entry(self._enqueued)

    @property
    def closed(self) -> Entry | None:
        """The entry with which it ended for good; None where it is still open."""
        return None if self._closed < 0 else self._world.entry(self._closed)

    @property
    def key(self) -> Any:
        """Its key, where it has one."""
        return self.enqueued.data.get("key")


class World(Sequence[Job]):
    """What a law looks at: the history, and what can be read off it. As a sequence: the live jobs."""

    def __init__(
        self, history: History, jobs: Sequence[Job] = (), effects: Iterable[str] = (), names: Iterable[str] = ()
    ) -> None:
        self.history = history
        self.jobs = jobs
        self._effects = set(effects)
        self._names = set(names)
        self._made: dict[int, Entry] = {}

    @overload
    def __getitem__(self, index: int) -> Job: ...
    @overload
    def __getitem__(self, index: slice) -> Sequence[Job]: ...
    def __getitem__(self, index: int | slice) -> Job | Sequence[Job]:
        return self.jobs[index]

    def __len__(self) -> int:
        return len(self.jobs)

    def __iter__(self) -> Iterator[Job]:
        return iter(self.jobs)

    @cached_property
    def entries(self) -> list[Entry]:
        """The history's entries, made once."""
        return [self.entry(number) for number in range(len(self.history))]

    def entry(self, number: int) -> Entry:
        """Return one entry by its place in the history, always the same object."""
        found = self._made.get(number)
        if found is None:
            found = self._made[number] = self.history.entry(number)
        return found

    @cached_property
    def effects(self) -> list[Entry]:
        """The entries of effects that were done."""
        return [self.entry(number) for number in self.history.effects_done()]

    @cached_property
    def effect_names(self) -> set[str]:
        """The names of every effect there is or could have been."""
        saved = not isinstance(self.jobs, list)  # a live world knows them all
        return self._effects | (
            {str(e.data.get("effect")) for e in self.entries if e.what == "effect"} if saved else set()
        )

    @cached_property
    def lives(self) -> list[Life]:
        """Every job in the order of its enqueueing."""
        found: dict[str, Life] = {}
        open_runs: dict[tuple[str, int], Run] = {}
        for number, ns, what, job, name, attempt, then in self.history.steps():
            if what == "enqueued":
                found[job] = Life(self, job, name, number)
                continue
            life = found.get(job)
            if life is None:
                continue
            if what == "started":
                run = open_runs[job, attempt] = Run(self, job, number, ns)
                life.runs.append(run)
            elif what in ENDED:
                ending = open_runs.pop((job, attempt), None)
                if ending is not None:
                    ending._last = number
            if what in _CLOSING:
                state = _CLOSING[what] or _THEN_STATES.get(then, "")
                if what == "done" and then == UNHEARD:
                    state = ""
                if state:
                    life.state, life._closed = state, number
            elif what == "requeued":
                life.state, life._closed = "open", -1
        return list(found.values())

    @property
    def all_closed(self) -> bool:
        """Whether every job that lives has ended, and none was lost."""
        return all(job.state in _ENDED_WELL for job in self.jobs)

    def of(self, name: str | None) -> list[Life]:
        """Return the jobs of a type; raise `SelectionError` for a name that nothing bears."""
        if name is None:
            return self.lives
        known = self._names | {life.name for life in self.lives}
        if name not in known:
            raise SelectionError(f"a law is about the job {name!r}, which there is not; {nearest(name, known)}")
        return [life for life in self.lives if life.name == name]


_CLOSING = {
    "done": "done", "failed": "", "timed-out": "", "cancelled": "", "withdrawn": "withdrawn", "expired": "dropped",
    "discarded": "dropped", "lost": "lost", "given-up": "dead",
}  # fmt: skip
_ENDED_WELL = frozenset(("done", "dead", "dropped", "withdrawn"))
_THEN_STATES = {DEAD: "dead", DROPPED: "dropped"}


def must_be_law(given: object) -> None:
    """Raise `InputError` for what is no law."""
    if not callable(given):
        raise InputError(f"{given!r} is no law; give ic.laws.once_per_key(...) or another, or a function of the world")


def as_breach(found: Breach | str) -> Breach:
    """Return what a law found, a line of words perhaps, as a breach."""
    return found if isinstance(found, Breach) else Breach(str(found))


def broken_by(laws: Sequence[Law], world: World) -> list[Breach]:
    """Return every breach of every law."""
    found: list[Breach] = []
    for law in laws:
        must_be_law(law)
        name = getattr(law, "__name__", type(law).__name__)
        for one in law(world):
            breach = as_breach(one)
            found.append(Breach(breach.words, breach.proof, breach.law or name))
    return found


def check(laws: Sequence[Law], world: World) -> None:
    """Raise `BrokenLaw` with every breach of every law, each with its proof."""
    breaches = broken_by(laws, world)
    if breaches:
        more = f"\n  ... and {len(breaches) - _MOST} more" if len(breaches) > _MOST else ""
        shown = "\n".join(told(breach, world.history) for breach in breaches[:_MOST])
        raise BrokenLaw(f"a law is broken:\n{shown}{more}", breaches)


def told(breach: Breach, history: History) -> str:
    """Return a breach in words, with its excerpt of history below it."""
    text = history.timeline.text
    lines = [f"  {breach.words}"]
    lines += [
        f"      {text(e.ns)}  {e.job + ': ' if e.job else ''}{describe(e, history.timeline)}" for e in breach.proof
    ]
    return "\n".join(lines)
