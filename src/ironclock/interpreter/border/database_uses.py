"""Who used which database connection and which file lock last: what a dead worker leaves open is taken back.

A worker process that dies loses its connections, and the server rolls back what it had not committed. Here the
connection object can live on, because the test or another worker has it as well.
"""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from ..patching.real_functions import inode_of

if TYPE_CHECKING:
    from ...simulation.event_loop import EventLoop
    from ...simulation.task import Task


class DatabaseUses:
    """The connections and locks that tasks of one rig have open."""

    def __init__(self, loop: EventLoop) -> None:
        self._loop = loop
        self._open: dict[int, tuple[Any, Task, Callable[[Any], None]]] = {}
        self._locks: dict[int, tuple[Task, int, Callable[[int], None]]] = {}

    def note(self, connection: Any, take_back: Callable[[Any], None]) -> None:
        """Note that the running task uses a connection. `take_back` is called with it if the task dies."""
        self.forget_ended()
        if self._loop.current is not None:
            self._open[id(connection)] = connection, self._loop.current, take_back

    @property
    def any_open(self) -> bool:
        """True if a task has anything open in any connection."""
        return bool(self._open)

    def closed(self, connection: Any) -> None:
        """Note that nothing of a connection is open any more."""
        self._open.pop(id(connection), None)
        self.forget_ended()

    def locked(self, fd: int, unlock: Callable[[int], None]) -> None:
        """Note that the running task has locked a file."""
        if self._loop.current is not None:
            self._locks[fd] = self._loop.current, inode_of(fd), unlock

    def unlocked(self, fd: int) -> None:
        """Note that a file is locked no more."""
        self._locks.pop(fd, None)

    def forget_ended(self) -> None:
        """Forget what tasks used that have ended. A connection that nobody else holds is closed by that."""
        if self._open:
            for key in [key for key, (_, task, _) in self._open.items() if task.has_ended]:
                del self._open[key]

    def take_back(self, tasks: list[Task]) -> None:
        """Take back what dead tasks have left open."""
        for key, (connection, task, take_back) in list(self._open.items()):
            if task in tasks:
                del self._open[key]
                with contextlib.suppress(Exception):
                    take_back(connection)
        for fd, (task, inode, unlock) in list(self._locks.items()):
            if task in tasks:
                del self._locks[fd]
                if inode_of(fd) == inode:
                    with contextlib.suppress(OSError):
                        unlock(fd)
