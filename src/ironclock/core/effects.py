"""Effects: what jobs did to the outside world, on record with their instants."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any, overload

from .errors import SelectionError
from .jobs import Attempt, Job
from .timeline import Timeline

if TYPE_CHECKING:
    from .engine import Engine


class Effect:
    """One side effect: a stand's operation, or a call of a real function that was made an effect.

    `ns` is its instant in nanoseconds since the epoch (`at`: as a datetime); `key` what it is about (an effect that
    must happen once happens once for each key); `outcome` is ``done``, or ``failed`` where it raised and nothing
    happened outside; `job` and `attempt` who did it (None and 0: the test's own code); `data` what else is worth
    showing.
    """

    __slots__ = ("_timeline", "attempt", "data", "job", "key", "name", "ns", "outcome")

    def __init__(
        self, timeline: Timeline, ns: int, name: str, key: Any, outcome: str, job: Job | None, attempt: int,
        data: dict[str, Any],
    ) -> None:  # fmt: skip
        self._timeline = timeline
        self.ns = ns
        self.name = name
        self.key = key
        self.outcome = outcome
        self.job = job
        self.attempt = attempt
        self.data = data

    @property
    def at(self) -> dt.datetime:
        """Its instant, in the rig's zone."""
        return self._timeline.at(self.ns)

    def __repr__(self) -> str:
        by = f" by attempt {self.attempt} of {self.job.id}" if self.job is not None else ""
        about = "" if self.key is None else f" {self.key!r}"
        return f"<effect {self.name}{about} at {self.at.isoformat()}{by}: {self.outcome}>"


class Effects(Sequence[Effect]):
    """The effects of a rig, in order. `effects("charge")` gives those of one name that were done."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self._all: list[Effect] = []
        self.names: dict[str, None] = {}
        """The names of every effect that this world can have."""
        self.stood_in: Callable[[str, Any, str, dict[str, Any]], None] | None = None
        """Where records go instead, in a forked child: to the parent."""
        self.elsewhere: Callable[[Any, str, Any, dict[str, Any]], Any] | None = None
        """Who does a stand's operation instead, in a forked child: the parent."""

    def __len__(self) -> int:
        return len(self._all)

    @overload
    def __getitem__(self, index: int) -> Effect: ...
    @overload
    def __getitem__(self, index: slice) -> list[Effect]: ...
    def __getitem__(self, index: int | slice) -> Effect | list[Effect]:
        return self._all[index]

    def __call__(self, name: str, *, key: Any = None, outcome: str = "done") -> list[Effect]:
        """Return the effects of a name, of a key where one is given; raise `SelectionError` for an unknown name."""
        if name not in self.names:
            from .errors import nearest

            raise SelectionError(f"no effect is called {name!r}; {nearest(name, self.names)}")
        return [e for e in self._all if e.name == name and e.outcome == outcome and (key is None or e.key == key)]

    def perform(
        self, name: str, act: Callable[[], Any], key: Any, data: dict[str, Any],
        fails: Callable[[], None] | None = None, loses: Callable[[], None] | None = None,
    ) -> Any:  # fmt: skip
        """Do `act`, with a seam before and after it, and write down that it was done.

        `fails` may raise before it is done, `loses` after it.
        """
        engine = self._engine
        passing = engine.passing  # as in `performing`, without its generator: this is the common way
        if passing is not None:
            passing(f"before {name}")
        try:
            if fails is not None:
                fails()
            result = act()
        except Exception as error:
            self.note(name, key, "failed", {**data, "error": type(error).__name__})
            raise
        if self.stood_in is None:
            self.write(name, key, "done", data, engine.current)
        else:
            self.stood_in(name, key, "done", data)
        if passing is not None:
            passing(f"after {name}")
        if loses is not None:
            loses()
        return result

    @contextmanager
    def performing(self, name: str, key: Any, data: dict[str, Any]) -> Iterator[None]:
        """Write down that the code inside was done, or failed, with a seam before and after it."""
        engine = self._engine
        if engine.passing is not None:
            engine.passing(f"before {name}")
        try:
            yield
        except Exception as error:
            self.note(name, key, "failed", {**data, "error": type(error).__name__})
            raise
        self.note(name, key, "done", data)
        if engine.passing is not None:
            engine.passing(f"after {name}")

    def note(self, name: str, key: Any, outcome: str, data: dict[str, Any]) -> None:
        """Write an effect down, at this instant."""
        if self.stood_in is not None:
            self.stood_in(name, key, outcome, data)
            return
        self.write(name, key, outcome, data, self._engine.current)

    def write(self, name: str, key: Any, outcome: str, data: dict[str, Any], task: Any) -> None:
        """Write an effect down as the work of a task."""
        engine = self._engine
        if name not in self.names:
            self.names[name] = None
        job = None if task is None else task.job
        number = task.number if isinstance(task, Attempt) else 0
        made = Effect(engine.timeline, engine.now, name, key, outcome, job, number, data)
        self._all.append(made)
        engine.history.add((engine.now, "effect", job, number, made, 0, None, 0))

    def __iter__(self) -> Iterator[Effect]:
        return iter(self._all)

    def __repr__(self) -> str:
        return "\n".join(map(repr, self._all)) or "<no effects>"
