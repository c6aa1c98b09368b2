"""Laws: statements over what happened that must hold, with the excerpt of history that proves a breach.

A law is called with a `World` and returns its breaches. A `World` is also the sequence of the jobs, so that a law of
one's own may be as short as ``lambda jobs: [f"{job.id} is dead" for job in jobs if job.state == "dead"]``.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from functools import cached_property, update_wrapper
from typing import Any, ParamSpec, Protocol, TypeAlias, overload

from .account import describe
from .errors import InputError, IronClockError, SelectionError, nearest
from .history import ENDED, Entry, History
from .jobs import Job

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


@dataclass
class Run:
    """One attempt, read from a history."""

    first: Entry
    last: Entry | None = None

    @property
    def job(self) -> str:
        """The job's id."""
        return str(self.first.job)

    @property
    def start_ns(self) -> int:
        """When it started."""
        return self.first.ns

    @property
    def proof(self) -> tuple[Entry, ...]:
        """The entries that show it."""
        return (self.first,) if self.last is None else (self.first, self.last)


@dataclass
class Life:
    """One job, read from a history."""

    enqueued: Entry
    runs: list[Run] = field(default_factory=list)
    closed: Entry | None = None
    """The entry with which it ended for good; None where it is still open."""
    state: str = "open"

    @property
    def id(self) -> str:
        """The job's id."""
        return str(self.enqueued.job)

    @property
    def name(self) -> str:
        """Its type."""
        return str(self.enqueued.name)

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
        return list(self.history)

    @cached_property
    def effects(self) -> list[Entry]:
        """The entries of effects that were done."""
        return [e for e in self.entries if e.what == "effect" and e.effect is not None]

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
        for entry in self.entries:
            what = entry.what
            if entry.job is None or what == "effect":
                continue
            if what == "enqueued":
                found[entry.job] = Life(entry)
                continue
            life = found.get(entry.job)
            if life is None:
                continue
            if what == "started":
                run = open_runs[entry.job, entry.attempt] = Run(entry)
                life.runs.append(run)
            elif what in ENDED:
                run = open_runs.pop((entry.job, entry.attempt), Run(entry))
                run.last = entry
            if what in _CLOSING:
                state = _closing(entry)
                if state:
                    life.state, life.closed = state, entry
            elif what == "requeued":
                life.state, life.closed = "open", None
        return list(found.values())

    def of(self, name: str | None) -> list[Life]:
        """Return the jobs of a type; raise `SelectionError` for a name that nothing bears."""
        if name is None:
            return self.lives
        known = self._names | {life.name for life in self.lives}
        if name not in known:
            raise SelectionError(f"a law is about the job {name!r}, which there is not; {nearest(name, known)}")
        return [life for life in self.lives if life.name == name]


_CLOSING = frozenset(
    ("done", "failed", "timed-out", "cancelled", "withdrawn", "expired", "discarded", "lost", "given-up")
)


def _closing(entry: Entry) -> str:
    what, then = entry.what, entry.data.get("then")
    if what == "done":
        return "" if then == "unheard" else "done"
    if what in ("failed", "timed-out", "cancelled"):
        return str(then) if then in ("dead", "dropped") else ""
    return {"withdrawn": "withdrawn", "lost": "lost", "given-up": "dead"}.get(what, "dropped")


def broken_by(laws: Sequence[Law], world: World) -> list[Breach]:
    """Return every breach of every law."""
    found: list[Breach] = []
    for law in laws:
        if not callable(law):
            raise InputError(
                f"{law!r} is no law; give ic.laws.once_per_key(...) or another, or a function of the world"
            )
        name = getattr(law, "__name__", type(law).__name__)
        for one in law(world):
            breach = one if isinstance(one, Breach) else Breach(str(one))
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
