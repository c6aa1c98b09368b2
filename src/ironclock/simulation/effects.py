"""Effects: what jobs did to the outside world, with their instants."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from typing import Any, Literal, NamedTuple, TypeAlias, overload

from ..errors import SelectionError, is_cancellation, nearest
from ..foundation.instants import Timeline
from ..history.history import History
from .event_loop import EventLoop
from .faults.seam_faults import pass_seam_in_coroutine
from .jobs import Job, LiveJob
from .task import Task
from .world_change import WorldChange

EffectOutcome: TypeAlias = Literal["done", "failed", "cancelled", "repeated"]


class Effect:
    """One side effect: an operation of a simulated service, or a call of a function that `Rig.effect` records."""

    __slots__ = ("_job", "_timeline", "attempt", "data", "key", "name", "ns", "outcome")

    def __init__(
        self, timeline: Timeline, ns: int, name: str, key: object, outcome: str, job: LiveJob | None, attempt: int,
        data: dict[str, Any],
    ) -> None:  # fmt: skip
        self._timeline = timeline
        self.ns = ns
        """Its instant, in nanoseconds since 1970-01-01T00:00Z."""
        self.name = name
        """Its name, such as ``"mail.send"``."""
        self.key: Any = key
        """What it is about. An effect that must happen once happens once for each key."""
        self.outcome = outcome
        """``done``; ``failed`` if it raised an error and nothing happened; ``cancelled`` if it was given up while
        it ran; ``repeated`` if the service has done it before and has only answered again."""
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


class Repeated(NamedTuple):
    """What a service returns if it has done the operation before: an answer, and no second effect."""

    result: Any


class Later(NamedTuple):
    """What a plain function returns whose work is done when its result is awaited: the effect is written down then."""

    result: Any


class Performing:
    """The context of an effect in a coroutine. (No generator: an asyncio loop that ends would close that first.)"""

    def __init__(
        self, effects: Effects, loop: EventLoop, name: str, key: object, data: dict[str, Any], outcome: str, begun: bool
    ) -> None:
        self._effects, self._loop = effects, loop
        self._name, self._key, self._data, self._outcome, self._begun = name, key, data, outcome, begun

    async def __aenter__(self) -> None:
        if not self._begun:
            try:
                await pass_seam_in_coroutine(self._loop, f"before {self._name}")
            except BaseException as error:
                self._effects.note_end(self._name, self._key, self._data, error)
                raise

    async def __aexit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: object) -> None:
        if error is not None and not isinstance(error, GeneratorExit):
            self._effects.note_end(self._name, self._key, self._data, error)
            return
        self._effects.note(self._name, self._key, self._outcome, self._data)  # its reader can leave it early
        if error is None:
            await pass_seam_in_coroutine(self._loop, f"after {self._name}")


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
        self.addressed: set[str] = set()
        """The services whose keys are addresses: to use one of them twice is not a double."""
        self.keyed: set[str] = set()
        """The effects whose keys are compared with those that were there before, as far as calls have shown."""
        self.change: WorldChange | None = None
        """What is another in this world. None: nothing."""
        self.keys_done: dict[str, set[str]] = {}
        """The keys that were done, in words, of the effects whose calls are idempotent."""
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

    def __call__(self, name: str, *, key: object = None, outcome: EffectOutcome | None = None) -> list[Effect]:
        """Return the effects of a name, in order, whatever their outcome.

        Parameters:

        - `name`: the name, such as ``"mail.send"``.
        - `key`: only effects with this key. Default None: all.
        - `outcome`: only those with this outcome, such as ``"done"``. Default None: all, as in `rig.effects`.

        Raises `SelectionError` for a name that no effect can have here, and for another outcome.
        """
        if outcome not in (None, "done", "failed", "cancelled", "repeated"):
            raise SelectionError(f"outcome is {outcome!r}; give 'done', 'failed', 'cancelled' or 'repeated'")
        if name not in self.names:
            raise SelectionError(f"there is no effect {name!r}; {nearest(name, self.names)}")
        return [
            e for e in self._all
            if e.name == name and (outcome is None or e.outcome == outcome) and (key is None or e.key == key)
        ]  # fmt: skip

    # --- what services and taps use -----------------------------------------------------------------

    def perform(
        self, name: str, act: Callable[[], Any], key: object, data: dict[str, Any],
        before: Callable[[], None] | None = None, after: Callable[[], None] | None = None,
    ) -> Any:  # fmt: skip
        """Do `act`, with a seam before and after it, and write down that it was done. Parameters: `name` is its name;
        `key` is what it is about; `data` are its arguments.

        `before` can raise an error before it is done, `after` when it is done.
        """
        if self.change is not None:
            times = self.times(name)
            if times == 2:
                change, self.change = self.change, None
                try:
                    self.perform(name, act, key, data, before, after)
                finally:
                    self.change = change
            elif times == 0:
                return None
        fault_hook = self._loop.fault_hook  # as in `performing`, without its generator: this is the usual way
        try:
            if fault_hook is not None:
                fault_hook(f"before {name}")  # a call that a fault fails here is on record as well
            if before is not None:
                before()
            result = act()
        except BaseException as error:
            self.note_end(name, key, data, error)
            if self.ignores(name) and isinstance(error, Exception):
                return None
            raise
        if type(result) is Later:
            return result.result
        if type(result) is Repeated:
            result = result.result
            self.note(name, key, "repeated", data)
        else:
            self.note(name, key, "done", data)
        if fault_hook is not None:
            fault_hook(f"after {name}")
        if after is not None:
            after()
        return None if self.ignores(name) else result

    def times(self, name: str) -> int:
        """Return how often an effect is done when the code does it: once, but in a changed world. Parameters: `name`
        is the name of the effect."""
        becomes = None if self.change is None else self.change.of_effect(name)
        return {"left out": 0, "twice": 2}.get(becomes or "", 1)

    def ignores(self, name: str) -> bool:
        """Return True if the answer of an effect does not come back: never, but in a changed world. Parameters: `name`
        is the name of the effect."""
        return self.change is not None and self.change.of_effect(name) == "ignored"

    def knows_keys(self, name: str) -> bool:
        """Return True if it is known which keys of an effect were there before: always, but in a changed world.
        Parameters: `name` is the name of the effect, whose keys are compared."""
        self.keyed.add(name)
        return self.change is None or self.change.of_effect(name) != "forgotten"

    def performing(
        self, name: str, key: object, data: dict[str, Any], outcome: str = "done", begun: bool = False
    ) -> Performing:  # fmt: skip
        """Return a context that writes down that its block in a coroutine was done, or failed, with a seam before and
        after it. Parameters: `name` is its name; `key` is what it is about; `data` are its arguments; `outcome` is how
        it ended; `begun` is True if its first seam was passed when it was asked for."""
        return Performing(self, self._loop, name, key, data, outcome, begun)

    @contextmanager
    def noting(self, name: str, key: object, data: dict[str, Any], outcome: str = "done") -> Iterator[None]:
        """Write down that the block was done (or, as `outcome` says, repeated), or failed. A generator that its reader
        leaves early has done its work. Parameters: `name` is its name; `key` is what it is about; `data` are its
        arguments."""
        try:
            yield
        except GeneratorExit:
            self.note(name, key, outcome, data)
            raise
        except BaseException as error:
            self.note_end(name, key, data, error)
            raise
        self.note(name, key, outcome, data)

    def was_done(self, name: str, key: object) -> bool:
        """Return True if an effect of a name in `keys_done` was done with a key. Parameters: `name` is its name; `key`
        is what it is about."""
        return self.knows_keys(name) and repr(key) in self.keys_done.get(name, ())

    def note_end(self, name: str, key: object, data: dict[str, Any], error: BaseException) -> None:
        """Write down that an effect ended with an error. Parameters: `name` is its name; `key` is what it is about;
        `data` are its arguments; `error` is the error."""
        if not isinstance(error, self._loop.switcher.exits):
            outcome = "cancelled" if is_cancellation(error) else "failed"
            self.note(name, key, outcome, {**data, "error": type(error).__name__})

    def pass_seam(self, seam: str) -> None:
        """Pass a seam in the running code. Parameters: `seam` is the name of the seam."""
        if self._loop.fault_hook is not None:
            self._loop.fault_hook(seam)

    @property
    def author(self) -> Task | None:
        """Whose effects those of the running code are: an attempt, or a thread of the test. None: the test's own."""
        task = self._loop.current
        owner = None if task is None else task.owner
        return task if owner is None else owner if owner.job.number else None

    def note(self, name: str, key: object, outcome: str, data: dict[str, Any]) -> None:
        """Write an effect of the running task down, at this instant. Parameters: `name` is its name; `key` is what it
        is about; `outcome` is how it ended; `data` are its arguments."""
        if self.forward is not None:
            self.forward(name, key, outcome, data)
        else:
            self.write(name, key, outcome, data, self._loop.current)

    def write(self, name: str, key: object, outcome: str, data: dict[str, Any], task: Task | None) -> None:
        """Write an effect of a task down, at this instant. Parameters: `name` is its name; `key` is what it is about;
        `outcome` is how it ended; `data` are its arguments; `task` is whose effect it is."""
        loop = self._loop
        if name not in self.names:
            self.names[name] = None
        job = None if task is None else task.job
        number = task.attempt_number if task is not None else 0
        owner = None if task is None else task.owner
        if job is not None and owner is not None and owner.ended_ns >= 0:
            data = {**data, "after_end": True}  # a thread or a coroutine that it has started goes on
        made = Effect(loop.timeline, loop.now, name, key, outcome, job, number, data)
        self._all.append(made)
        if name in self.keys_done and outcome == "done":
            self.keys_done[name].add(repr(key))
        self._history.add((loop.now, "effect", job, number, made, 0, None, 0))

    def __iter__(self) -> Iterator[Effect]:
        return iter(self._all)

    def __repr__(self) -> str:
        return "\n".join(map(repr, self._all)) or "<no effects>"
