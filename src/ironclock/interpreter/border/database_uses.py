"""Who used which database connection and which file lock last: what a dead worker leaves open is taken back.

A worker process that dies loses its connections, and the server rolls back what it had not committed. Here the
connection object can live on, because the test or another worker has it as well.
"""

from __future__ import annotations

import contextlib
import weakref
from collections.abc import Callable, Iterator
from contextlib import contextmanager
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
        self._begun: dict[int, tuple[weakref.ref[Any], Task, Callable[[Any], None]]] = {}  # also of ended tasks

    def note(self, connection: Any, take_back: Callable[[Any], None], begins: bool = False) -> None:
        """Note that the running task uses a connection. `take_back` is called with it if the task dies.

        Parameters: `begins` is True if it begins a transaction now.
        """
        self.forget_ended()
        task, key = self._loop.current, id(connection)
        if task is not None:
            self._open[key] = connection, task, take_back
        if begins:
            if task is None:
                self._begun.pop(key, None)  # a transaction of the test's own code
            else:
                self._begun[key] = weakref.ref(connection, lambda _: self._begun.pop(key, None)), task, take_back

    @contextmanager
    def ending_tasks(self) -> Iterator[None]:
        """Take back what tasks have left open that have ended when the block is over.

        Inside the block the rig ends its tasks. What was begun in a task ends with it: nobody is left that would commit
        it, and it would keep its locks for as long as somebody has the connection.
        """
        found = {key: used for key, used in self._open.items() if not used[1].has_ended}
        for key, (reference, task, take_back) in list(self._begun.items()):
            connection = reference()
            if connection is not None:
                found[key] = connection, task, take_back
        yield
        for key, (connection, task, take_back) in found.items():
            if task.has_ended:
                self._open.pop(key, None)
                self._begun.pop(key, None)
                with contextlib.suppress(Exception):
                    take_back(connection)

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
