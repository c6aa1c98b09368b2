"""Records: one entry of a history as it is stored while a rig runs, and what a saved file shows of it."""

from __future__ import annotations

import datetime as dt
import enum
import json
import re
from collections.abc import Callable
from types import CodeType
from typing import Any, NamedTuple, Protocol

from ..foundation.instants import InstantTexts, Timeline
from ..foundation.source_location import spot


class RecordedType(Protocol):
    """What a history asks of a job's type."""

    name: str


class RecordedJob(Protocol):
    """What a history asks of a job."""

    number: int
    queue: str
    args: tuple[Any, ...]
    key: Any
    priority: int

    @property
    def id(self) -> str: ...

    @property
    def type(self) -> RecordedType: ...

    @property
    def kwargs(self) -> dict[str, Any]: ...

    @property
    def state(self) -> str: ...

    @property
    def enqueued_by(self) -> tuple[RecordedJob, int] | None:
        """The job whose attempt has enqueued it, and the attempt's number."""


class Record(NamedTuple):
    """One entry as it is stored."""

    ns: int
    """Its instant, in nanoseconds since the epoch."""
    what: str
    """What happened; see `Entry`."""
    job: RecordedJob | None
    attempt: int
    """The number of the attempt; 0: none."""
    detail: Any
    """What `_DATA` turns into the data of a saved file."""
    then: int
    """After an error: the backoff in nanoseconds, or `DEAD`, `DROPPED` or `UNHEARD`."""
    code: CodeType | None
    """The code that raised the error."""
    instruction: int
    """The place of the error in that code."""


DEAD, DROPPED, UNHEARD = -1, -2, -3
"""What follows an error: a dead letter, a job that is given up on purpose, or nothing (the queue is not told)."""

ENDED_WITH_ERROR = ("failed", "timed-out", "cancelled")
ENDED = ("done", "crashed", *ENDED_WITH_ERROR)
THEN_WORDS = {DEAD: "dead", DROPPED: "dropped", UNHEARD: "unheard"}


def data_of(record: Record, timeline: Timeline | InstantTexts) -> dict[str, Any]:
    """Return what a saved file shows of a record, beyond its instant, what it is, its job and its attempt."""
    what, job = record.what, record.job
    make = _DATA.get(what)
    data: dict[str, Any] = {} if make is None else make(record.detail, timeline)
    if what == "enqueued" and job is not None:
        data = {"queue": job.queue, "args": plain(job.args), "kwargs": plain(job.kwargs), **data}
        if not job.kwargs:
            del data["kwargs"]
        if job.key is not None:
            data["key"] = plain(job.key)
        if job.priority:
            data["priority"] = job.priority
        if job.enqueued_by is not None:
            data["by"] = f"{job.enqueued_by[0].id}/{job.enqueued_by[1]}"
    elif what in ENDED_WITH_ERROR:
        data["then"] = THEN_WORDS.get(record.then, "backing-off")
        if record.then >= 0:
            data["wait_ns"] = record.then
        if record.code is not None:
            data["line"] = spot(record.code, record.instruction)
    elif what == "overtaken":
        data["end_seen"] = record.then != UNHEARD
    elif record.then == UNHEARD:
        data["then"] = "unheard"
    return data


_OF_EFFECTS = ("effect", "outcome", "key")
_ADDRESS = re.compile(r" at 0x[0-9a-fA-F]+| id='\d{9,}'")  # the second one is a mock's


def plain(value: Any, depth: int = 0) -> Any:
    """Return a value as JSON can hold it, the same in every run: sets are sorted, addresses are left out."""
    kind = type(value)
    if value is None or kind is str or kind is int or kind is bool:
        return value
    if kind is float:
        return value if value == value and value not in (float("inf"), float("-inf")) else repr(value)
    if depth > 20:
        return "..."
    if isinstance(value, enum.Enum):
        return f"{kind.__name__}.{value.name}"
    if isinstance(value, dict):
        return {k if type(k) is str else str(plain(k)): plain(v, depth + 1) for k, v in value.items()}
    if isinstance(value, (list, tuple)):
        return [plain(v, depth + 1) for v in value]
    if isinstance(value, (set, frozenset)):
        return sorted((plain(v, depth + 1) for v in value), key=lambda v: json.dumps(v, sort_keys=True))
    if isinstance(value, (dt.datetime, dt.date, dt.time)):
        return value.isoformat()
    try:
        return _ADDRESS.sub("", repr(value))
    except Exception as error:  # a repr that raises must not end the run
        return f"<{kind.__name__} whose repr raised {type(error).__name__}>"


def _error_data(error: Any, timeline: Timeline | InstantTexts) -> dict[str, Any]:
    return {"error": type(error).__name__, "message": message_of(error)}


def message_of(error: BaseException) -> str:
    """Return the words of an error, the same in every run: addresses are left out."""
    try:
        return _ADDRESS.sub("", str(error))
    except Exception:
        return "<an error whose message cannot be read>"


_DATA: dict[str, Callable[[Any, Timeline | InstantTexts], dict[str, Any]]] = {
    "enqueued": lambda due, timeline: {"due": timeline.text(due)},
    "started": lambda worker, timeline: {"worker": worker},
    "done": lambda result, timeline: {} if result is None else {"result": plain(result)},
    "failed": _error_data,
    "timed-out": _error_data,
    "requeued": lambda detail, timeline: (
        {"due": timeline.text(detail)} if isinstance(detail, int)
        else {"due": timeline.text(detail[0]), "why": detail[1]}
    ),
    "refused": lambda detail, timeline: {
        "asked": detail[0], "error": type(detail[1]).__name__, "message": message_of(detail[1])
    },
    "firing-refused": lambda detail, timeline: {
        "schedule": detail[0], "error": type(detail[1]).__name__, "message": message_of(detail[1])
    },
    "note": lambda text, timeline: {"text": text},
    "worker-up": lambda detail, timeline: {"worker": detail[0], "start": detail[1]},
    "worker-down": lambda detail, timeline: {"worker": detail[0], "why": detail[1]},
    "polls-skipped": lambda detail, timeline: {
        "worker": detail[0], "count": detail[1], "until": timeline.text(detail[2])
    },
    "cancelled": _error_data,
    "crashed": lambda seam, timeline: {"seam": seam},
    "overtaken": lambda by, timeline: {"by": by},
    "redelivered": lambda why, timeline: {"why": why},
    "given-up": lambda why, timeline: {"deliveries": why} if isinstance(why, int) else {"why": why},
    "expired": lambda waited, timeline: {"waited": waited},
    "progress": lambda value, timeline: {"progress": plain(value)},
    "before-commit": lambda transaction, timeline: {"transaction": transaction},
    "committed": lambda transaction, timeline: {"transaction": transaction},
    "rolled-back": lambda detail, timeline: {"transaction": detail[0], "jobs": detail[1]},
    "request-failed": lambda request, timeline: {
        "request": request.name, "error": type(request.error).__name__, "message": message_of(request.error),
        "jobs": [job.id for job in request.jobs], "schedules": list(request.schedules),
    },
    "deadlocked": lambda detail, timeline: {"tasks": detail[0], "message": "; ".join(detail[1])},
    "remembered": lambda step, timeline: {"step": step},
    "waited": lambda detail, timeline: {"resource": detail[0], "waited_ns": detail[1], "got": detail[2]},
    "effect": lambda effect, timeline: {
        "effect": effect.name, "outcome": effect.outcome,
        **({} if effect.key is None else {"key": plain(effect.key)}),
        **{name if name not in _OF_EFFECTS else f"{name}_": plain(value) for name, value in effect.data.items()},
    },
}  # fmt: skip
