"""Bounded resources, such as a database pool with fewer connections than there are workers."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager

from ..errors import PolicyError, ResourceTimeout
from ..foundation.durations import Duration, spell, to_ns
from ..history.history import History
from .event_loop import EventLoop
from .jobs import LiveAttempt
from .task import Task


class _Turn:
    """The place of a task in the line of those that wait."""

    def __init__(self, task: Task | None) -> None:
        self.task = task


def _died_with(task: Task | None, attempt: LiveAttempt) -> bool:
    """Return True if a task is an attempt whose worker has died, or a thread of it."""
    return task is attempt or (task is not None and task.has_ended)


class Resource:
    """A number of places that jobs take in the order in which they ask. `Rig.resource` gives it.

    Example::

        pool = rig.resource("database", 2, timeout="5s")

        def job():
            with pool.take():
                time.sleep(1)
    """

    def __init__(
        self, loop: EventLoop, history: History, on_death: list[Callable[[LiveAttempt], None]], name: str, size: int,
        timeout: Duration | None = None,
    ) -> None:  # fmt: skip
        if not isinstance(name, str) or not name:
            raise PolicyError(f"the name of a resource is {name!r}; give text that is not empty")
        if isinstance(size, bool) or not isinstance(size, int) or size < 1:
            raise PolicyError(f"the size of {name} is {size!r}; give a whole number, at least 1")
        self._loop = loop
        self._history = history
        self.name = name
        """Its name."""
        self.size = size
        """How many places it has."""
        self._timeout_ns = None if timeout is None else to_ns(timeout, what="timeout")
        self._holders: list[Task | None] = []
        self._turns: list[_Turn] = []  # one for each task that waits, in order
        self.longest_ns = 0
        """The longest wait so far, in nanoseconds."""
        on_death.append(self._worker_died)

    @property
    def used(self) -> int:
        """How many places are taken."""
        return len(self._holders)

    @property
    def waiting(self) -> int:
        """How many tasks wait for a place."""
        return len(self._turns)

    @contextmanager
    def take(self, timeout: Duration | None = None) -> Iterator[None]:
        """Hold one place inside the block.

        Parameters:

        - `timeout`: how long to wait for a place. Default: the timeout of the resource; without one, for ever.

        Raises `ResourceTimeout`, whose message names the holders. If the worker of a holder dies, its place is free.

        Example::

            crane = rig.resource("crane", 1, timeout="30s")

            def unload(crate):
                with crane.take():
                    time.sleep(10)

            for crate in range(2):
                rig.enqueue(rig.job(unload).call(crate))
            rig.run_dry()
        """
        self.acquire(timeout)
        holder = self._loop.current
        try:
            yield
        finally:
            if holder in self._holders:
                self._holders.remove(holder)

    def acquire(self, timeout: Duration | None = None) -> None:
        """Take a place; `release` gives it back. Parameters: `timeout` and errors as in `take`.

        Example::

            crane = rig.resource("crane", 1)
            crane.acquire()
            crane.release()
        """
        limit_ns = self._timeout_ns if timeout is None else to_ns(timeout, what="timeout")
        if self._turns or self.used >= self.size:
            self._wait(limit_ns)
        self._holders.append(self._loop.current)

    def release(self) -> None:
        """Give a place of the running task back. Raises `PolicyError` if the task holds none."""
        task = self._loop.current
        if task not in self._holders:
            raise PolicyError(f"{self._who(task)} releases {self.name} and holds no place of it; call acquire first")
        self._holders.remove(task)

    def _wait(self, limit_ns: int | None) -> None:
        loop, task = self._loop, self._loop.current
        since, turn = loop.now, _Turn(task)
        self._turns.append(turn)
        got = False
        try:
            until = None if limit_ns is None else since + limit_ns
            got = loop.wait(lambda: bool(self._turns) and self._turns[0] is turn and self.used < self.size, until)
        finally:
            if turn in self._turns:
                self._turns.remove(turn)
            waited = loop.now - since
            self.longest_ns = max(self.longest_ns, waited)
            number = task.number if isinstance(task, LiveAttempt) else 0
            self._history.record("waited", None if task is None else task.job, number, (self.name, waited, got))
        if not got:
            holders = ", ".join(self._who(holder) for holder in self._holders)
            places = "1 place is" if self.size == 1 else f"{self.size} places are"
            raise ResourceTimeout(
                f"{self._who(task)} waited {spell(waited)} for {self.name}; its {places} held by {holders}"
            )

    def _worker_died(self, attempt: LiveAttempt) -> None:
        self._holders = [holder for holder in self._holders if not _died_with(holder, attempt)]
        self._turns = [turn for turn in self._turns if not _died_with(turn.task, attempt)]

    @staticmethod
    def _who(task: Task | None) -> str:
        return "the test" if task is None else task.job.id if task.job is not None else "a thread of the test"

    def __repr__(self) -> str:
        return f"<resource {self.name}: {self.used} of {self.size} in use, {self.waiting} waiting>"
