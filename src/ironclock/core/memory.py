"""Remembered steps: parts of a job that were done stay done, so that a retry runs only what is left."""

from __future__ import annotations

import copy
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from .errors import InputError, RigStateError
from .jobs import Attempt, Job

if TYPE_CHECKING:
    from .engine import Engine


class Memory:
    """What the steps of each job gave, by job number and step name."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self._steps: dict[int, dict[str, Any]] = {}
        self.told: Callable[[str, Any], None] | None = None
        """Told of every step that is done, in a forked child."""

    def step(self, name: str, function: Callable[..., Any], args: tuple[Any, ...], kwargs: dict[str, Any]) -> Any:
        """Call a function, or give back what it gave in an earlier attempt at the running job.

        A step counts as done once it has returned: the worker may die after its effect and before that.
        Raises `RigStateError` outside a job, `InputError` for a name that is no text.
        """
        engine = self._engine
        if not isinstance(name, str) or not name:
            raise InputError(f"a remembered step has the name {name!r}; give text")
        if not callable(function):
            raise InputError(f"step {name!r} is {function!r}, which cannot be called")
        task = engine.current
        if task is None or task.job is None:
            raise RigStateError(f"step {name!r} is remembered for a job, and no job is running")
        done = self._steps.setdefault(task.job.number, {})
        if name in done:
            number = task.number if isinstance(task, Attempt) else 0
            engine.record("remembered", task.job, number, name)
            return copy.deepcopy(done[name])
        result = function(*args, **kwargs)
        done[name] = copy.deepcopy(result)
        if self.told is not None:
            self.told(name, result)
        return result

    def of(self, job: Job) -> dict[str, Any]:
        """Return the steps of a job that are done, with what they gave."""
        return self._steps.setdefault(job.number, {})
