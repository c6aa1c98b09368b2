"""Held locks: which task has taken which lock. If the task dies, its locks are free, as with the end of a process."""

from __future__ import annotations

import weakref
from collections import deque
from collections.abc import Container
from typing import TYPE_CHECKING, Any

from ..patching.real_threads import others_run

if TYPE_CHECKING:
    from ...simulation.task import Task

recent_locks: deque[Any] = deque(maxlen=512)
"""The locks that were taken since one task went on in place of another: they are those of the running task. To write
down the task at each lock would cost more than the lock."""


class HeldLocks:
    """The locks that the tasks of one rig hold. A lock that nobody refers to any more, such as that of a wait which is
    over, is not kept."""

    def __init__(self) -> None:
        self._tasks: weakref.WeakKeyDictionary[Any, Task] | None = None  # by lock; made when a task holds one

    def note_recent(self, task: Task | None) -> None:
        """Note that a task has taken the recent locks. Called when it is suspended, or dies."""
        if others_run():
            recent_locks.clear()  # a real thread can have taken them
        while recent_locks:
            self.note(task, recent_locks.popleft())

    def note(self, task: Task | None, lock: Any) -> None:
        """Note that a task (None: the test's own code) has taken a lock."""
        if task is not None and lock.locked():
            if self._tasks is None:
                self._tasks = weakref.WeakKeyDictionary()
            self._tasks[lock] = task
        elif self._tasks is not None:
            self._tasks.pop(lock, None)

    def holder(self, lock: Any) -> Task | None:
        """Return the task that holds a lock. None: the test's own code, nobody, or that is not known."""
        return None if self._tasks is None else self._tasks.get(lock)

    def take_from(self, tasks: Container[Task] | None) -> list[Any]:
        """Forget the locks of some tasks (None: of all); return them."""
        known: Any = self._tasks or {}
        taken = [lock for lock, task in list(known.items()) if tasks is None or task in tasks]
        for lock in taken:
            known.pop(lock, None)
        return taken
