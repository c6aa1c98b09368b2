"""Named events of the application, and the jobs that start at them."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from .durations import Duration
from .errors import InputError, nearest
from .jobs import Job
from .policy import JobType

if TYPE_CHECKING:
    from .engine import Engine

Put = Callable[..., Job]


class Signals:
    """Which job types listen to which event."""

    def __init__(self, engine: Engine, put: Put) -> None:
        self._engine = engine
        self._put = put
        self._listeners: dict[str, list[tuple[JobType, Duration | None]]] = {}

    def listen(self, event: str, type: JobType, after: Duration | None = None) -> None:
        """Let every event of that name enqueue a job of a type, with the event's arguments."""
        if not isinstance(event, str) or not event:
            raise InputError(f"event is {event!r}; give its name")
        if not isinstance(type, JobType):
            raise InputError(f"{type!r} does not listen to {event!r}; give a job type (rig.job(...))")
        self._listeners.setdefault(event, []).append((type, after))

    def emit(self, event: str, args: tuple[Any, ...], kwargs: dict[str, Any]) -> list[Job]:
        """Let an event happen now; return the jobs that it enqueued. Raises `InputError` where nobody listens."""
        found = self._listeners.get(event)
        if found is None:
            raise InputError(f"no job listens to the event {event!r}; {nearest(str(event), self._listeners)}")
        self._engine.record("note", detail=f"event {event!r}")
        return [self._put(type.call(*args, **kwargs), after=after) for type, after in found]
