"""Tasks: code that can be suspended in simulated time while the rest goes on, and who suspends it."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any, Protocol

from ..errors import RigStateError

if TYPE_CHECKING:
    from .jobs import LiveAttempt, LiveJob


class Task:
    """The base of attempts and simulated threads: what the event loop can suspend, resume and interrupt."""

    job: LiveJob | None
    """The job that it works on. None for a thread that the test itself started."""
    deadline_ns = -1
    """When it is interrupted; -1: never."""
    wake_ns = -1
    """A wake-up call before this instant is out of date."""
    suspended = False
    interrupt: Callable[[], None] | None = None
    """How it is interrupted. None: by an error raised in it."""
    error_to_raise: BaseException | None = None
    """What another task wants to raise in it, when it goes on. None: nothing."""
    owner: LiveAttempt | None = None
    """The attempt that it belongs to: itself, or for a thread the one that started it or gave it work."""
    sleeps: Callable[[int, Callable[[], Any]], bool] | None = None
    """Asked before it waits until an instant, or until something is true. Returns True if it has waited itself."""
    suspension: Any = None
    """The task switcher's own object for it."""

    def __init__(self, job: LiveJob | None) -> None:
        self.job = job

    label: str
    """Its name, the same in every run of the same story."""

    @property
    def priority(self) -> int:
        """Its order among events of the same instant: the lowest number comes first."""
        return 0 if self.job is None else self.job.priority

    @property
    def attempt_number(self) -> int:
        """The number of the attempt that its effects belong to. 0 for a thread."""
        return 0

    @property
    def has_ended(self) -> bool:
        """True if its code runs no more."""
        raise NotImplementedError

    @property
    def thread_key(self) -> Any:
        """Whose thread it runs on. Tasks with the same key have the same thread-local values."""
        return self

    def time_out(self) -> BaseException:
        """Return the error that interrupts it at its deadline."""
        raise NotImplementedError

    def run(self) -> None:
        """Run its code."""
        raise NotImplementedError


class TaskSwitcher(Protocol):
    """How tasks are suspended and resumed. The event loop asks for these operations and nothing else."""

    exits: type[BaseException] | tuple[()]
    """The exception that ends a suspended task when its rig is closed. It is not an outcome of the task."""

    def run(self, loop: Callable[[], None]) -> None:
        """Run the event loop until it returns."""

    def suspend(self, task: Task, then: Task | None = None) -> None:
        """Suspend the running task, and continue a suspended one, or the event loop. Returns when it is resumed."""

    def resume(self, task: Task) -> None:
        """Continue a suspended task. Called from the event loop."""

    def throw(self, task: Task, error: BaseException) -> None:
        """Continue a suspended task with an error. Called from the event loop."""

    def end_running(self, task: Task) -> None:
        """End the running task now without its handlers, and continue with the event loop. Never returns."""

    def end_suspended(self, task: Task) -> None:
        """End a suspended task without its handlers."""

    def abort(self, error: BaseException) -> None:
        """End the whole run with an error that the running task cannot catch. May return if that is impossible."""

    def close(self) -> None:
        """End every suspended task, as the end of a process does: handlers run, `except Exception` does not stop it."""

    def end_all(self) -> None:
        """End every suspended task without its handlers."""


class DirectCalls:
    """The switcher of a simulation without an interpreter layer: plain calls. No task can be suspended."""

    exits: type[BaseException] | tuple[()] = ()

    def run(self, loop: Callable[[], None]) -> None:
        loop()

    def suspend(self, task: Task, then: Task | None = None) -> None:
        who = task.job.id if task.job is not None else "a thread"
        raise RigStateError(f"{who} sleeps, and this simulation cannot suspend a task; use a Rig")

    def resume(self, task: Task) -> None:
        raise RigStateError("no task is suspended; a simulation of plain calls suspends none")

    def throw(self, task: Task, error: BaseException) -> None:
        raise RigStateError("no task is suspended; a simulation of plain calls suspends none")

    def end_running(self, task: Task) -> None:
        raise RigStateError("this simulation cannot end a worker inside its job; use a Rig")

    def end_suspended(self, task: Task) -> None:
        raise RigStateError("no task is suspended; a simulation of plain calls suspends none")

    def abort(self, error: BaseException) -> None:
        return  # plain calls cannot go past the running task: the error is raised inside it

    def close(self) -> None:
        return

    def end_all(self) -> None:
        return
