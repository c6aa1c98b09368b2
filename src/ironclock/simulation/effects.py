"""Effects: what jobs did to the outside world, with their instants."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from typing import Any, overload

from ..errors import SelectionError, nearest
from ..foundation.instants import Timeline
from ..history.history import History
from .event_loop import EventLoop
from .jobs import Job, LiveAttempt, LiveJob


class Effect:
    """One side effect: an operation of a simulated service, or a call of a function that `Rig.effect` records."""

    __slots__ = ("_job", "_timeline", "attempt", "data", "key", "name", "ns", "outcome")

    def __init__(
        self, timeline: Timeline, ns: int, name: str, key: Any, outcome: str, job: LiveJob | None, attempt: int,
        data: dict[str, Any],
    ) -> None:  # fmt: skip
        self._timeline = timeline
        self.ns = ns
        """Its instant, in nanoseconds since 1970-01-01T00:00Z."""
        self.name = name
        """Its name, such as ``"mail.send"``."""
        self.key = key
        """What it is about. An effect that must happen once happens once for each key."""
        self.outcome = outcome
        """``done``, or ``failed`` if it raised an error and nothing happened outside."""
        self._job = job
        self.attempt = attempt
        """The number of the attempt that did it. 0 for the test's own code."""
        self.data = data
        """What else there is to show, such as the arguments of the operation."""

    @property
    def job(self) -> Job[Any] | None:
        """The job that did it. None for the test's own code."""
        return None if self._job is None else self._job.reader

    @property
    def at(self) -> dt.datetime:
        """Its instant, in the rig's time zone."""
        return self._timeline.at(self.ns)

    def __repr__(self) -> str:
        by = f" by attempt {self.attempt} of {self._job.id}" if self._job is not None else ""
        about = "" if self.key is None else f" {self.key!r}"
        return f"<effect {self.name}{about} at {self.at.isoformat()}{by}: {self.outcome}>"


class Effects(Sequence[Effect]):
    """The effects of a rig, in order. `Rig.effects` is one.

    Example::

        assert [effect.key for effect in rig.effects("charge")] == ["TL-204"]
    """

    def __init__(self, loop: EventLoop, history: History) -> None:
        self._loop = loop
        self._history = history
        self._all: list[Effect] = []
        self.names: dict[str, None] = {}
        """The name of every effect that this world can have, in order."""
        self.forward: Callable[[str, Any, str, dict[str, Any]], None] | None = None
        """Where effects go instead, in a forked child: to the parent."""
        self.forward_operation: Callable[[Any, str, Any, dict[str, Any]], Any] | None = None
        """Who does the operation of a service instead, in a forked child: the parent."""

    def __len__(self) -> int:
        return len(self._all)

    @overload
    def __getitem__(self, index: int) -> Effect: ...
    @overload
    def __getitem__(self, index: slice) -> list[Effect]: ...
    def __getitem__(self, index: int | slice) -> Effect | list[Effect]:
        return self._all[index]

    def __call__(self, name: str, *, key: Any = None, outcome: str = "done") -> list[Effect]:
        """Return the effects of a name, in order.

        Parameters:

        - `name`: the name, such as ``"mail.send"``.
        - `key`: only effects with this key. Default None: all.
        - `outcome`: ``"done"`` (the default) or ``"failed"``.

        Raises `SelectionError` for a name that no effect can have here.
        """
        if name not in self.names:
            raise SelectionError(f"there is no effect {name!r}; {nearest(name, self.names)}")
        return [e for e in self._all if e.name == name and e.outcome == outcome and (key is None or e.key == key)]

    # --- what services and taps use -----------------------------------------------------------------

    def perform(
        self, name: str, act: Callable[[], Any], key: Any, data: dict[str, Any],
        before: Callable[[], None] | None = None, after: Callable[[], None] | None = None,
    ) -> Any:  # fmt: skip
        """Do `act`, with a seam before and after it, and write down that it was done.

        `before` can raise an error before it is done, `after` when it is done.
        """
        fault_hook = self._loop.fault_hook  # as in `performing`, without its generator: this is the usual way
        if fault_hook is not None:
            fault_hook(f"before {name}")
        try:
            if before is not None:
                before()
            result = act()
        except Exception as error:
            self.note(name, key, "failed", {**data, "error": type(error).__name__})
            raise
        self.note(name, key, "done", data)
        if fault_hook is not None:
            fault_hook(f"after {name}")
        if after is not None:
            after()
        return result

    @contextmanager
    def performing(self, name: str, key: Any, data: dict[str, Any]) -> Iterator[None]:
        """Write down that the block was done, or failed, with a seam before and after it."""
        if self._loop.fault_hook is not None:
            self._loop.fault_hook(f"before {name}")
        try:
            yield
        except Exception as error:
            self.note(name, key, "failed", {**data, "error": type(error).__name__})
            raise
        self.note(name, key, "done", data)
        if self._loop.fault_hook is not None:
            self._loop.fault_hook(f"after {name}")

    def note(self, name: str, key: Any, outcome: str, data: dict[str, Any]) -> None:
        """Write an effect of the running task down, at this instant."""
        if self.forward is not None:
            self.forward(name, key, outcome, data)
        else:
            self.write(name, key, outcome, data, self._loop.current)

    def write(self, name: str, key: Any, outcome: str, data: dict[str, Any], task: Any) -> None:
        """Write an effect of a task down, at this instant."""
        loop = self._loop
        if name not in self.names:
            self.names[name] = None
        job = None if task is None else task.job
        number = task.number if isinstance(task, LiveAttempt) else 0
        made = Effect(loop.timeline, loop.now, name, key, outcome, job, number, data)
        self._all.append(made)
        self._history.add((loop.now, "effect", job, number, made, 0, None, 0))

    def __iter__(self) -> Iterator[Effect]:
        return iter(self._all)

    def __repr__(self) -> str:
        return "\n".join(map(repr, self._all)) or "<no effects>"
