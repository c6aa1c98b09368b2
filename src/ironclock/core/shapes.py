"""What the entries of a history hold beyond the usual, as it stands in a saved file."""

from __future__ import annotations

import datetime as dt
import enum
import json
import re
from collections.abc import Callable
from types import CodeType
from typing import TYPE_CHECKING, Any, TypeAlias

from .timeline import Timeline
from .where import spot

if TYPE_CHECKING:
    from .jobs import Job

Record: TypeAlias = "tuple[int, str, Job | None, int, Any, int, CodeType | None, int]"
"""Nanoseconds since the epoch; what happened; the job; the attempt's number (0: none); the detail that `_SHAPES`
knows; after a failure the wait in nanoseconds, `DEAD`, `DROPPED` or `UNHEARD` (it changes nothing for the job);
where the error was raised: code, instruction."""

DEAD, DROPPED, UNHEARD = -1, -2, -3
ENDED_BADLY = ("failed", "timed-out", "cancelled")
ENDED = ("done", "crashed", *ENDED_BADLY)
THEN = {DEAD: "dead", DROPPED: "dropped", UNHEARD: "unheard"}


def data_of(record: Record, timeline: Timeline) -> dict[str, Any]:
    """Return what an entry holds beyond the usual, as it stands in a saved file."""
    _, what, job, _, detail, wait, code, instruction = record
    shape = _SHAPES.get(what)
    data: dict[str, Any] = {} if shape is None else shape(detail, timeline)
    if what == "enqueued" and job is not None:
        data = {"queue": job.queue, "args": plain(job.args), "kwargs": plain(job.kwargs), **data}
        if not job.kwargs:
            del data["kwargs"]
        if job.key is not None:
            data["key"] = plain(job.key)
    elif what in ENDED_BADLY:
        data["then"] = THEN.get(wait, "backing-off")
        if wait >= 0:
            data["wait_ns"] = wait
        if code is not None:
            data["line"] = spot(code, instruction)
    elif wait == UNHEARD:
        data["then"] = "unheard"
    return data


_ADDRESS = re.compile(r" at 0x[0-9a-fA-F]+")


def plain(value: Any, depth: int = 0) -> Any:
    """Return a value as JSON can hold it, the same in every run: sets sorted, addresses left out."""
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
    except Exception as error:  # a repr that raises must not take the history down
        return f"<{kind.__name__} whose repr raised {type(error).__name__}>"


def _failed(error: Any, timeline: Timeline) -> dict[str, Any]:
    return {"error": type(error).__name__, "message": _message(error)}


def _message(error: BaseException) -> str:
    try:
        return _ADDRESS.sub("", str(error))
    except Exception:
        return "<an error whose words raise>"


_SHAPES: dict[str, Callable[[Any, Timeline], dict[str, Any]]] = {
    "enqueued": lambda due, timeline: {"due": timeline.text(due)},
    "started": lambda detail, timeline: {"worker": detail},
    "done": lambda detail, timeline: {} if detail is None else {"result": plain(detail)},
    "failed": _failed,
    "timed-out": _failed,
    "requeued": lambda detail, timeline: {"due": timeline.text(detail)},
    "refused": lambda detail, timeline: {
        "asked": detail[0], "error": type(detail[1]).__name__, "message": _message(detail[1])
    },
    "note": lambda detail, timeline: {"text": detail},
    "cancelled": _failed,
    "crashed": lambda detail, timeline: {"seam": detail},
    "redelivered": lambda detail, timeline: {"why": detail},
    "given-up": lambda detail, timeline: {"deliveries": detail},
    "expired": lambda detail, timeline: {"waited": detail},
    "progress": lambda detail, timeline: {"progress": plain(detail)},
    "before-commit": lambda detail, timeline: {"transaction": detail},
    "committed": lambda detail, timeline: {"transaction": detail},
    "rolled-back": lambda detail, timeline: {"transaction": detail[0], "jobs": detail[1]},
    "request-failed": lambda detail, timeline: {
        "request": detail.name, "error": type(detail.error).__name__, "message": _message(detail.error),
        "jobs": [job.id for job in detail.jobs], "schedules": list(detail.schedules),
    },
    "deadlocked": lambda detail, timeline: {"tasks": detail[0], "message": "; ".join(detail[1])},
    "remembered": lambda detail, timeline: {"step": detail},
    "waited": lambda detail, timeline: {"resource": detail[0], "ns": detail[1], "got": detail[2]},
    "effect": lambda detail, timeline: {
        "effect": detail.name, "outcome": detail.outcome,
        **({} if detail.key is None else {"key": plain(detail.key)}), **plain(detail.data),
    },
}  # fmt: skip
