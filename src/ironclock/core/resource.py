"""A bounded resource, such as a database pool with fewer connections than there are workers."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

from .durations import Duration, spell, to_ns
from .errors import PolicyError, ResourceTimeout
from .jobs import Attempt
from .task import Task

if TYPE_CHECKING:
    from .engine import Engine


class Resource:
    """`size` places, taken in the order in which they are asked for. Made by `Rig.resource`."""

    def __init__(self, engine: Engine, name: str, size: int, timeout: Duration | None = None) -> None:
        if not isinstance(name, str) or not name:
            raise PolicyError(f"name is {name!r}; give text")
        if isinstance(size, bool) or not isinstance(size, int) or size < 1:
            raise PolicyError(f"size of {name} is {size!r}; give a whole number of at least 1")
        self._engine = engine
        self.name = name
        self.size = size
        self._timeout_ns = None if timeout is None else to_ns(timeout, what="timeout")
        self._holders: list[Task | None] = []
        self._line: list[object] = []
        self.longest_ns = 0
        """The longest wait so far, in nanoseconds."""
        engine.delivery.died.append(self._died)

    @property
    def used(self) -> int:
        """How many places are taken."""
        return len(self._holders)

    @property
    def waiting(self) -> int:
        """How many wait for one."""
        return len(self._line)

    @contextmanager
    def take(self, timeout: Duration | None = None) -> Iterator[None]:
        """Hold one place inside the block.

        Parameters: `timeout` how long to wait for it at most (else the resource's own; none: for ever).
        Raises `ResourceTimeout`, with the holders in its message. A holder whose worker dies gives its place back.
        """
        self.acquire(timeout)
        holder = self._engine.current
        try:
            yield
        finally:
            if holder in self._holders:
                self._holders.remove(holder)

    def acquire(self, timeout: Duration | None = None) -> None:
        """Take a place; `release` gives it back. See `take`."""
        engine = self._engine
        limit = self._timeout_ns if timeout is None else to_ns(timeout, what="timeout")
        if self._line or self.used >= self.size:
            self._wait(limit)
        self._holders.append(engine.current)

    def release(self) -> None:
        """Give a place of the running task back; raise `PolicyError` where it has none."""
        if self._engine.current not in self._holders:
            raise PolicyError(f"{self._who(self._engine.current)} gives back a place of {self.name} that it has not")
        self._holders.remove(self._engine.current)

    def _wait(self, limit: int | None) -> None:
        engine, task = self._engine, self._engine.current
        since, turn = engine.now, object()
        self._line.append(turn)
        got = False
        try:
            until = None if limit is None else since + limit
            got = engine.wait(lambda: self._line[0] is turn and self.used < self.size, until)
        finally:
            self._line.remove(turn)
            waited = engine.now - since
            self.longest_ns = max(self.longest_ns, waited)
            number = task.number if isinstance(task, Attempt) else 0
            engine.record("waited", None if task is None else task.job, number, (self.name, waited, got))
        if not got:
            holders = ", ".join(self._who(holder) for holder in self._holders)
            raise ResourceTimeout(
                f"{self._who(task)} waited {spell(waited)} for {self.name}; its {self.size} are held by {holders}"
            )

    def _died(self, attempt: Attempt) -> None:
        self._holders = [holder for holder in self._holders if holder is not attempt]

    @staticmethod
    def _who(task: Task | None) -> str:
        return "the test" if task is None else task.job.id if task.job is not None else "a thread of the test"

    def __repr__(self) -> str:
        return f"<resource {self.name}: {self.used} of {self.size} in use, {self.waiting} waiting>"
