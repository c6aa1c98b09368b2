"""Held locks: which task has taken which lock. If the task dies, its locks are free, as with the end of a process."""

from __future__ import annotations

from collections import deque
from collections.abc import Container
from typing import TYPE_CHECKING, Any

from ..patching.real_threads import others_run

if TYPE_CHECKING:
    from ...simulation.task import Task

recent_locks: deque[Any] = deque(maxlen=512)
"""The locks that were taken since one task went on in place of another: they are those of the running task. To write
down the task at each lock would cost more than the lock."""

_MOST = 1_000  # how many locks are kept; those that are free are dropped then


class HeldLocks:
    """The locks that the tasks of one rig hold."""

    def __init__(self) -> None:
        self._by_identity: dict[int, tuple[Task, Any]] = {}

    def note_recent(self, task: Task | None) -> None:
        """Note that a task has taken the recent locks. Called when it is suspended, or dies."""
        if others_run():
            recent_locks.clear()  # a real thread can have taken them
        while recent_locks:
            self.note(task, recent_locks.popleft())

    def note(self, task: Task | None, lock: Any) -> None:
        """Note that a task (None: the test's own code) has taken a lock."""
        if task is None or not lock.locked():
            self._by_identity.pop(id(lock), None)
            return
        self._by_identity[id(lock)] = task, lock
        if len(self._by_identity) > _MOST:
            self._by_identity = {key: held for key, held in self._by_identity.items() if held[1].locked()}

    def take_from(self, tasks: Container[Task] | None) -> list[Any]:
        """Forget the locks of some tasks (None: of all); return them."""
        held = list(self._by_identity.items())
        return [self._by_identity.pop(key)[1] for key, (task, _) in held if tasks is None or task in tasks]
