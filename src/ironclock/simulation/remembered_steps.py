"""Remembered steps: the parts of a job that are done stay done, so that a retry runs only the rest."""

from __future__ import annotations

import copy
from collections.abc import Callable
from typing import Any

from ..errors import InputError, RigStateError
from ..history.history import History
from .event_loop import EventLoop
from .jobs import LiveAttempt, LiveJob


class RememberedSteps:
    """What the steps of each job have returned, by job number and step name."""

    def __init__(self, loop: EventLoop, history: History) -> None:
        self._loop = loop
        self._history = history
        self._steps: dict[int, dict[str, Any]] = {}
        self.on_done: Callable[[str, Any], None] | None = None
        """Called with every step that is done, in a forked child."""

    def step(self, name: str, function: Callable[..., Any], args: tuple[Any, ...], kwargs: dict[str, Any]) -> Any:
        """Call a function, or return what it has returned in an earlier attempt at the running job.

        A step is done when the function has returned. A worker can die after the effect of a function and before it
        returns; then the step runs again.

        Raises `RigStateError` outside a job, and `InputError` for a name that is not text.
        """
        if not isinstance(name, str) or not name:
            raise InputError(f"the name of a remembered step is {name!r}; give text that is not empty")
        if not callable(function):
            raise InputError(f"step {name!r} is {function!r}, which cannot be called; give a function")
        task = self._loop.current
        if task is None or task.job is None:
            raise RigStateError(f"step {name!r} is remembered for a job, and no job is running; call it inside a job")
        done = self._steps.setdefault(task.job.number, {})
        if name in done:
            number = task.number if isinstance(task, LiveAttempt) else 0
            self._history.record("remembered", task.job, number, name)
            return copy.deepcopy(done[name])
        result = function(*args, **kwargs)
        done[name] = copy.deepcopy(result)
        if self.on_done is not None:
            self.on_done(name, result)
        return result

    def of(self, job: LiveJob) -> dict[str, Any]:
        """Return the steps of a job that are done, with their results."""
        return self._steps.setdefault(job.number, {})
