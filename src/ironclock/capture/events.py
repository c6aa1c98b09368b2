"""Named events of the application, and the jobs that start when they happen."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from ..errors import InputError, nearest
from ..foundation.durations import Duration
from ..history.history import History
from ..simulation.jobs import Job
from ..simulation.policy import JobType


class Events:
    """Which job types listen to which event. `put` enqueues a call."""

    def __init__(self, history: History, put: Callable[..., Job[Any]]) -> None:
        self._history = history
        self._put = put
        self._listeners: dict[str, list[tuple[JobType[..., Any], Duration | None]]] = {}

    def listen(self, event: str, type: JobType[..., Any], after: Duration | None = None) -> None:
        """Enqueue a job of a type at every event of that name, with the event's arguments."""
        if not isinstance(event, str) or not event:
            raise InputError(f"event is {event!r}; give its name as text")
        if not isinstance(type, JobType):
            raise InputError(f"{type!r} cannot listen to {event!r}; give a job type, as rig.job(...) returns it")
        self._listeners.setdefault(event, []).append((type, after))

    def emit(self, event: str, args: tuple[Any, ...], kwargs: dict[str, Any]) -> list[Job[Any]]:
        """Let an event happen now; return the jobs that it has enqueued. Raises `InputError` if nobody listens."""
        found = self._listeners.get(event)
        if found is None:
            raise InputError(f"no job listens to the event {event!r}; {nearest(str(event), self._listeners)}")
        self._history.record("note", detail=f"event {event!r}")
        return [self._put(type.call(*args, **kwargs), after=after) for type, after in found]
