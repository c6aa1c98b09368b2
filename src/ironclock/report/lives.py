"""Lives: the jobs of a history, each with its attempts and waits, put together from the entries."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Any

from ..core.history import Entry
from ..core.shapes import ENDED
from ..core.timeline import Timeline

_CLOSING = {"withdrawn": "withdrawn", "expired": "dropped", "lost": "lost", "given-up": "dead", "discarded": "dropped"}
_THEN = ("dead", "dropped")


@dataclass(slots=True)
class Try:
    """One attempt: when it ran (nanoseconds since the epoch; `ended` None while it runs) and how it ended."""

    number: int
    started: int
    worker: str
    ended: int | None = None
    outcome: str = "running"
    error: str = ""
    wait: int | None = None


@dataclass(slots=True)
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
    ready: list[tuple[int, int]] = field(default_factory=list)
    """When it was ready and waited for a worker: from, until."""
    since: int | None = None
    """Since when it is, or from when on it will be, ready; None where it is not."""

    def _leave(self, ns: int) -> None:
        if self.since is not None and self.since < ns:
            self.ready.append((self.since, ns))
        self.since = None


def given(data: dict[str, Any]) -> str:
    """Return a job's arguments as they are written in a call."""
    parts = [repr(a) for a in data.get("args", [])]
    return ", ".join(parts + [f"{k}={v!r}" for k, v in data.get("kwargs", {}).items()])


def lives(entries: Iterable[Entry], timeline: Timeline) -> list[Life]:
    """Return the jobs in the order they were enqueued."""
    found: dict[str, Life] = {}
    running: dict[tuple[str, int], Try] = {}
    last = 0
    for entry in entries:
        job, what, ns = entry.job, entry.what, entry.ns
        last = ns
        if job is None or what == "effect":
            continue
        if what == "enqueued":
            data = entry.data
            due = timeline.ns(data["due"])
            made = found[job] = Life(
                job,
                entry.name or "?",
                given(data),
                str(data.get("queue", "")),
                ns,
                due,
                "held" if due > ns else "ready",
            )
            made.since = due
            continue
        life = found.get(job)
        if life is None:
            continue
        if what == "started":
            attempt = running[job, entry.attempt] = Try(entry.attempt, ns, str(entry.data.get("worker", "")))
            life.tries.append(attempt)
            if life.closed is None:  # else it is the second of two deliveries, which changes nothing any more
                life._leave(ns)
                life.state = "running"
        elif what in ENDED:
            _end(life, entry, running.pop((job, entry.attempt), None))
        elif what in _CLOSING:
            life._leave(ns)
            life.state, life.closed = _CLOSING[what], ns
        elif what == "redelivered":
            life.state, life.since = "ready", ns
        elif what == "requeued":
            life.state, life.closed, life.due, life.since = "ready", None, ns, ns
    for life in found.values():
        life._leave(last)
    return list(found.values())


def _end(life: Life, entry: Entry, attempt: Try | None) -> None:
    if attempt is None:
        return
    data = entry.data
    then = data.get("then")
    attempt.ended, attempt.outcome = entry.ns, entry.what
    heard = life.closed is None and then != "unheard"
    if entry.what == "done":
        if heard:
            life.state, life.error, life.result, life.closed = "done", "", data.get("result"), entry.ns
        return
    if entry.what == "crashed":
        attempt.error = f"its worker died at {data.get('seam')!r}"
    else:
        attempt.error = f"{data.get('error')}: {data.get('message')}"
    if not heard:
        return
    life.error = attempt.error
    if entry.what == "crashed":
        life.state = "ready"
    elif then == "backing-off":
        attempt.wait = int(data["wait_ns"])
        life.state, life.since = "backing-off", entry.ns + attempt.wait
    elif then in _THEN:
        life.state, life.closed = str(then), entry.ns


def depths(found: Iterable[Life]) -> dict[str, tuple[list[int], list[int]]]:
    """Return the depth of each queue over time: the instants at which it changes, and how many are ready from then."""
    changes: dict[str, dict[int, int]] = {}
    for life in found:
        mine = changes.setdefault(life.queue, {})
        for since, until in life.ready:
            mine[since] = mine.get(since, 0) + 1
            mine[until] = mine.get(until, 0) - 1
    made = {}
    for queue, mine in changes.items():
        instants, counts, depth = [], [], 0
        for ns in sorted(mine):
            depth += mine[ns]
            instants.append(ns)
            counts.append(depth)
        made[queue] = instants, counts
    return made
