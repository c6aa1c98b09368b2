"""Who used which database connection last: what a dead worker leaves in a transaction is rolled back."""

from __future__ import annotations

import weakref
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from ...simulation.event_loop import EventLoop
    from ...simulation.task import Task


class DatabaseUses:
    """The connections that code of one rig has used, each with the task that used it last."""

    def __init__(self, loop: EventLoop) -> None:
        self._loop = loop
        self._last: weakref.WeakKeyDictionary[Any, Task | None] = weakref.WeakKeyDictionary()

    def note(self, connection: Any) -> None:
        """Note that the running task uses a connection."""
        self._last[connection] = self._loop.current

    def of(self, tasks: list[Task]) -> list[Any]:
        """Return, and forget, the connections that these tasks have used last."""
        found = [connection for connection, task in list(self._last.items()) if task in tasks]
        for connection in found:
            del self._last[connection]
        return found
