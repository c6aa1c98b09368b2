"""Lives: the jobs of a history, each with its attempts and waits, put together from the entries."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Any

from ..core.history import Entry
from ..core.timeline import Timeline


@dataclass
class Try:
    """One attempt: when it ran (nanoseconds since the epoch; `ended` None while it runs) and how it ended."""

    number: int
    started: int
    worker: str
    ended: int | None = None
    outcome: str = "running"
    error: str = ""
    wait: int | None = None


@dataclass
class Life:
    """One job as its entries tell it."""

    id: str
    name: str
    args: str
    queue: str
    enqueued: int
    due: int
    state: str
    tries: list[Try] = field(default_factory=list)
    error: str = ""
    result: Any = None
    closed: int | None = None
    """When it came to rest; None while something is before it."""


def lives(entries: Iterable[Entry], timeline: Timeline) -> list[Life]:
    """Return the jobs in the order they were enqueued."""
    found: dict[str, Life] = {}
    for entry in entries:
        if entry.job is None:
            continue
        data = entry.data
        if entry.what == "enqueued":
            given = [repr(a) for a in data.get("args", [])]
            given += [f"{k}={v!r}" for k, v in data.get("kwargs", {}).items()]
            due = timeline.ns(data["due"])
            found[entry.job] = Life(
                entry.job, entry.name or "?", ", ".join(given), str(data.get("queue", "")), entry.ns, due,
                "held" if due > entry.ns else "ready",
            )  # fmt: skip
            continue
        life = found.get(entry.job)
        if life is None:
            continue
        if entry.what == "started":
            life.tries.append(Try(entry.attempt, entry.ns, str(data.get("worker", ""))))
            life.state = "running"
        elif entry.what in ("done", "failed", "timed-out"):
            _end(life, entry)
        elif entry.what == "withdrawn":
            life.state, life.closed = "withdrawn", entry.ns
        elif entry.what == "discarded":
            life.state = "dropped"
        elif entry.what == "requeued":
            life.state, life.closed, life.due = "ready", None, entry.ns
    return list(found.values())


def _end(life: Life, entry: Entry) -> None:
    data = entry.data
    attempt = life.tries[-1]
    attempt.ended, attempt.outcome = entry.ns, entry.what
    if entry.what == "done":
        life.state, life.error, life.result, life.closed = "done", "", data.get("result"), entry.ns
        return
    attempt.error = life.error = f"{data.get('error')}: {data.get('message')}"
    life.state = str(data.get("then"))
    if life.state == "backing-off":
        attempt.wait = int(data["wait_ns"])
    else:
        life.closed = entry.ns
