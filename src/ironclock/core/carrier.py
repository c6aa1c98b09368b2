"""Carriers: how attempts are carried, so that one may stand still while the engine's loop goes on."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

from .errors import RigStateError
from .task import Task


class Carrier(Protocol):
    """How attempts are carried: what lets one stand still while the loop goes on."""

    leaving: type[BaseException] | tuple[()]
    """What a suspended attempt is ended with when its world is let go; it is no outcome."""

    def run(self, loop: Callable[[], None]) -> None:
        """Run the loop until it returns."""

    def park(self, task: Task) -> None:
        """Stand still inside `task` while the loop goes on; return when it is resumed."""

    def resume(self, task: Task) -> None:
        """Let a parked attempt go on; called from the loop."""

    def throw(self, task: Task, error: BaseException) -> None:
        """Let a parked attempt go on with an error; called from the loop."""

    def kill(self, task: Task) -> None:
        """End the running task here and now, with none of its handlers run, and go on with the loop; never returns."""

    def bury(self, task: Task) -> None:
        """End a parked task with none of its handlers run; called from the loop, or from outside it."""

    def abort(self, error: BaseException) -> None:
        """End the whole run with an error, past whatever the running attempt would catch; may return."""


class Inline:
    """The core's own carrier: plain calls. A job that sleeps needs the host's."""

    leaving: type[BaseException] | tuple[()] = ()

    def run(self, loop: Callable[[], None]) -> None:
        loop()

    def park(self, task: Task) -> None:
        raise RigStateError(
            f"{task.job.id if task.job else 'a thread'} sleeps, which this engine has no carrier for; use a Rig"
        )

    def resume(self, task: Task) -> None:
        raise NotImplementedError("nothing was parked")

    def throw(self, task: Task, error: BaseException) -> None:
        raise NotImplementedError("nothing was parked")

    def kill(self, task: Task) -> None:
        raise RigStateError("a worker that dies inside its job needs a Rig; this engine has plain calls")

    def bury(self, task: Task) -> None:
        raise NotImplementedError("nothing was parked")

    def abort(self, error: BaseException) -> None:
        return  # a plain call has no way round the attempt: the error is raised inside it
