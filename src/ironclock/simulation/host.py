"""The host: what a simulation asks of the interpreter in which real code runs."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any, NoReturn, Protocol

from ..errors import RigStateError

if TYPE_CHECKING:
    from .faults.kind import Strike
    from .jobs import LiveAttempt
    from .task import Task


class Child(Protocol):
    """A forked child in which one attempt runs."""

    def die(self, seam: str, strike: Strike) -> NoReturn:
        """End the process at a seam."""


class Host(Protocol):
    """What a simulation asks of the interpreter. `Rig` gives it one; a simulation of plain calls has `NoHost`."""

    in_child: Child | None
    """The child in which this code runs. None: it runs in the process of the rig."""

    def await_result(self, coroutine: Any) -> Any:
        """Run a coroutine of the running attempt to its end; return its result."""

    def run_forked(self, attempt: LiveAttempt) -> Any:
        """Run an attempt in a forked child process that really dies at a seam."""

    def note_server(self, address: Any, client_of: Callable[[Any], Callable[[Any], None] | None]) -> None:
        """Note a server of the rig's own. Raises `RigStateError` if the rig is not entered.

        Parameters: `address` is where it listens. `client_of` gets the address of a client's end, and returns what is
        called, in the task that sends, with what it has sent to the server.
        """

    def workers_will_die(self) -> None:
        """Note from now on who holds what: a fault was placed that kills workers."""

    def where_it_stands(self, task: Task) -> str:
        """Return in words where the code of a suspended task stands. Empty if that is not known."""

    def can_meet_new_names(self) -> bool:
        """Return True if a job type of an unknown name can still appear, as it can while there is a tap."""

    def worker_has_died(self, words: str) -> None:
        """Hear that a worker loop has ended with an error, and does not start again."""

    def dead_workers(self) -> list[str]:
        """Return in words the worker loops and threads that have ended with an error."""

    def deadlocks(self) -> list[str]:
        """Return in words the tasks that nothing can wake any more."""


class NoHost:
    """The host of a simulation whose jobs are plain calls."""

    in_child: Child | None = None

    def await_result(self, coroutine: Any) -> Any:
        raise RigStateError("the code is async, and this simulation has no event loop for it; use a Rig")

    def run_forked(self, attempt: LiveAttempt) -> Any:
        raise RigStateError("this simulation cannot run an attempt in a process of its own; use a Rig")

    def note_server(self, address: Any, client_of: Callable[[Any], Callable[[Any], None] | None]) -> None:
        raise RigStateError("a server needs the threads of a rig; use a Rig")

    def workers_will_die(self) -> None:
        return

    def where_it_stands(self, task: Task) -> str:
        return ""

    def can_meet_new_names(self) -> bool:
        return True

    def worker_has_died(self, words: str) -> None:
        return

    def dead_workers(self) -> list[str]:
        return []

    def deadlocks(self) -> list[str]:
        return []
