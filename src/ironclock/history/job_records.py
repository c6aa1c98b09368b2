"""Job records: the jobs of a history, each with its attempts and waits, put together from the entries.

Reports and laws read the same records. Whatever needs the data of an entry is worked out when somebody asks: most laws
of most runs never do.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any, Protocol

from ..foundation.instants import Timeline
from .entries import Entry
from .history import History
from .loaded_entries import Step
from .records import DEAD, DROPPED, ENDED, UNHEARD

CLOSING = {"withdrawn": "withdrawn", "expired": "dropped", "lost": "lost", "given-up": "dead", "discarded": "dropped"}
"""By what happened to a job outside its attempts, its last state."""
_CLOSING_THEN = {DEAD: "dead", DROPPED: "dropped"}


class AttemptRecord:
    """One attempt, as a history tells it. Instants are nanoseconds since the epoch."""

    __slots__ = ("_end", "_entry", "_start", "end_seen", "ended_ns", "job", "number", "outcome", "started_ns", "then")

    def __init__(self, entry: Callable[[int], Entry], job: str, number: int, start: int, started_ns: int) -> None:
        self._entry = entry
        self._start = start
        self._end = -1
        self.job = job
        """The id of its job."""
        self.number = number
        """Its number, from 1."""
        self.started_ns = started_ns
        """When it started."""
        self.ended_ns: int | None = None
        """When it ended. None while it runs."""
        self.outcome = "running"
        """How it ended: done, failed, timed-out, crashed ...; running while it does."""
        self.end_seen = True
        """False if another worker has taken its job, and only rows tell of it: it can have ended earlier than known."""
        self.then = 0
        """The wait that followed, in nanoseconds. Below 0: what became of the job instead."""

    def end(self, number: int, ns: int, what: str, then: int) -> None:
        """Note the entry with which it ended. Parameters: `number` is its number or index; `ns` is a time in
        nanoseconds; `what` is what happened; `then` says what follows."""
        self._end, self.ended_ns, self.outcome, self.then = number, ns, what, then

    @property
    def place(self) -> int:
        """The number of its first entry: what comes first of two things at one instant."""
        return self._start

    @property
    def worker(self) -> str:
        """The name of the worker."""
        return str(self.start_entry.data.get("worker", ""))

    @property
    def error(self) -> str:
        """Its error in words. Empty if it has none."""
        end = self.end_entry
        if end is None or self.outcome == "done":
            return ""
        if self.outcome == "crashed":
            return f"its worker died at {end.data.get('seam')!r}"
        return f"{end.data.get('error')}: {end.data.get('message')}"

    @property
    def wait_ns(self) -> int | None:
        """The backoff that followed. None if none did."""
        failed = self.ended_ns is not None and self.outcome not in ("done", "crashed")
        return self.then if failed and self.then >= 0 else None

    @property
    def start_entry(self) -> Entry:
        """The entry with which it started."""
        return self._entry(self._start)

    @property
    def end_entry(self) -> Entry | None:
        """The entry with which it ended. None while it runs."""
        return None if self._end < 0 else self._entry(self._end)

    @property
    def entries(self) -> tuple[Entry, ...]:
        """The entries of its start and of its end."""
        end = self.end_entry
        return (self.start_entry,) if end is None else (self.start_entry, end)


class JobRecord:
    """One job, as a history tells it. Instants are nanoseconds since the epoch."""

    __slots__ = (
        "_args", "_close", "_enqueue", "_enqueue_entry", "_entry", "_first_due_ns", "_last_error", "_marks",
        "_requeued_ns", "_timeline", "attempts", "closed_ns", "due_again_ns", "enqueued_ns", "id", "last_ns", "name",
        "state",
    )  # fmt: skip

    def __init__(
        self, entry: Callable[[int], Entry], timeline: Timeline, id: str, name: str, enqueue: int, enqueued_ns: int
    ) -> None:
        self._entry = entry
        self._timeline = timeline
        self._enqueue = enqueue
        self._enqueue_entry: Entry | None = None  # kept: most readers ask it several things
        self._first_due_ns: int | None = None
        self._close = -1
        self._requeued_ns: int | None = None
        self._args: str | None = None
        self._last_error: AttemptRecord | None = None
        self._marks: list[tuple[int, bool]] = []  # when it became ready again (True), or stopped waiting (False)
        self.id = id
        """The id of the job."""
        self.name = name
        """The name of its job type."""
        self.enqueued_ns = enqueued_ns
        """When it was enqueued."""
        self.due_again_ns: int | None = None
        """When it was due the last time after its first attempt. None if it was not."""
        self.attempts: list[AttemptRecord] = []
        """Its attempts, in order."""
        self.state = "waiting"
        """Its last state. ``waiting`` only until `job_records` knows if that means `held` or `ready`."""
        self.closed_ns: int | None = None
        """When it was closed. None while it is open."""
        self.last_ns = enqueued_ns
        """The end of the history."""

    # --- what the entries tell ----------------------------------------------------------------------

    def start(self, attempt: AttemptRecord) -> None:
        """Note an attempt that starts. Parameters: `attempt` is the attempt or its number."""
        self.attempts.append(attempt)
        if self.closed_ns is None:  # else it is the second of two deliveries, which changes nothing
            self._marks.append((attempt.started_ns, False))
            self.state = "running"

    def end(self, attempt: AttemptRecord, number: int, ns: int, what: str, then: int) -> None:
        """Note an attempt that ends. Parameters: `attempt` is the attempt or its number; `number` is its number or
        index; `ns` is a time in nanoseconds; `what` is what happened; `then` says what follows."""
        attempt.end(number, ns, what, then)
        if self.closed_ns is not None or then == UNHEARD:
            return
        if what == "done":
            self._last_error = None
            self.close("done", number, ns)
            return
        self._last_error = attempt
        if what == "crashed":
            self.state = "ready"
        elif then in _CLOSING_THEN:
            self.close(_CLOSING_THEN[then], number, ns)
        else:
            self.state = "backing-off"
            self.due_again_ns = ns + then
            self._marks.append((ns + then, True))

    def close(self, state: str, number: int, ns: int) -> None:
        """Note that the job is closed. Parameters: `state` is the last state; `number` is its number or index; `ns` is
        a time in nanoseconds."""
        self.state, self.closed_ns, self._close = state, ns, number
        self._marks.append((ns, False))

    def deliver_again(self, ns: int) -> None:
        """Note that the job is back in its queue. Parameters: `ns` is a time in nanoseconds."""
        self.state = "ready"
        self.due_again_ns = ns
        self._marks.append((ns, True))

    def requeue(self, ns: int) -> None:
        """Note that the job is back from the dead letters. Parameters: `ns` is a time in nanoseconds."""
        self.state, self.closed_ns, self._close, self._requeued_ns = "ready", None, -1, ns
        self.due_again_ns = ns
        self._marks.append((ns, True))

    # --- what readers ask ---------------------------------------------------------------------------

    @property
    def is_open(self) -> bool:
        """True if the job is not closed."""
        return self.closed_ns is None

    @property
    def first_due_ns(self) -> int:
        """When it was due after it was enqueued."""
        if self._first_due_ns is None:
            self._first_due_ns = self._timeline.ns(self.enqueue_entry.data["due"])
        return self._first_due_ns

    @property
    def due_ns(self) -> int:
        """When it was due, after it was enqueued or put back from the dead letters."""
        return self.first_due_ns if self._requeued_ns is None else self._requeued_ns

    @property
    def queue(self) -> str:
        """The name of its queue."""
        return str(self.enqueue_entry.data.get("queue", ""))

    @property
    def arguments(self) -> str:
        """Its arguments as they are written in a call."""
        if self._args is None:
            data = self.enqueue_entry.data
            parts = [*map(repr, data.get("args", [])), *(f"{k}={v!r}" for k, v in data.get("kwargs", {}).items())]
            self._args = ", ".join(parts)
        return self._args

    @property
    def key(self) -> Any:
        """Its key. None if it has none."""
        return self.enqueue_entry.data.get("key")

    @property
    def enqueued_by(self) -> tuple[str, int] | None:
        """The id of the job whose attempt has enqueued it, and the number of the attempt. None if no job has."""
        job, slash, attempt = str(self.enqueue_entry.data.get("by", "")).rpartition("/")
        return (job, int(attempt)) if slash and attempt.isdigit() else None

    @property
    def error(self) -> str:
        """The error of its last attempt in words. Empty if it has none."""
        return "" if self._last_error is None else self._last_error.error

    @property
    def result(self) -> Any:
        """What it returned, if it is done."""
        close = self.close_entry
        return close.data.get("result") if close is not None and self.state == "done" else None

    @property
    def enqueue_entry(self) -> Entry:
        """The entry with which it was enqueued."""
        if self._enqueue_entry is None:
            self._enqueue_entry = self._entry(self._enqueue)
        return self._enqueue_entry

    @property
    def close_number(self) -> int:
        """The index of the entry with which it was closed. -1 while it is open."""
        return self._close

    @property
    def close_entry(self) -> Entry | None:
        """The entry with which it was closed. None while it is open."""
        return None if self._close < 0 else self._entry(self._close)

    def as_dict(self) -> dict[str, Any]:
        """Return the job as JSON can hold it."""
        return {
            "id": self.id, "name": self.name, "args": self.arguments, "queue": self.queue, "enqueued": self.enqueued_ns,
            "due": self.due_ns, "state": self.state,
            "tries": [
                {
                    "number": one.number, "started": one.started_ns, "worker": one.worker, "ended": one.ended_ns,
                    "outcome": one.outcome, "error": one.error, "wait": one.wait_ns,
                }
                for one in self.attempts
            ],
            "error": self.error, "result": self.result, "closed": self.closed_ns,
        }  # fmt: skip

    @property
    def ready_spans(self) -> list[tuple[int, int]]:
        """The spans in which it was ready and waited for a worker, as pairs of start and end."""
        spans: list[tuple[int, int]] = []
        since: int | None = self.first_due_ns
        for ns, is_ready in self._marks:
            if is_ready:
                since = ns
            elif since is not None:
                if since < ns:
                    spans.append((since, ns))
                since = None
        if since is not None and since < self.last_ns:
            spans.append((since, self.last_ns))
        return spans


def job_records(history: History, entry: Callable[[int], Entry] | None = None) -> list[JobRecord]:
    """Return the jobs of a history in the order in which they were enqueued.

    Parameters: `entry` returns an entry by its index. Default: ``history.entry``.
    """
    entry = history.entry if entry is None else entry
    return records_from(history.steps(), entry, history.timeline, history.end_ns)


def records_from(
    steps: Iterable[Step], entry: Callable[[int], Entry], timeline: Timeline, last_ns: int
) -> list[JobRecord]:
    """Return the jobs that steps tell of, which must be in order.

    Parameters: `entry` returns an entry by the number that a step has; `last_ns` is the end of the history.
    """
    found: dict[str, JobRecord] = {}
    running: dict[tuple[str, int], AttemptRecord] = {}
    for number, ns, what, job, name, attempt, then in steps:
        if what == "enqueued":
            found[job] = JobRecord(entry, timeline, job, name, number, ns)
            continue
        record = found.get(job)
        if record is None:
            continue
        if what == "started":
            made = running[job, attempt] = AttemptRecord(entry, job, attempt, number, ns)
            record.start(made)
        elif what in ENDED:
            ending = running.pop((job, attempt), None)
            if ending is not None:
                record.end(ending, number, ns, what, then)
        elif what in CLOSING:
            record.close(CLOSING[what], number, ns)
        elif what == "overtaken":
            if (job, attempt) in running:
                running[job, attempt].end_seen = then != UNHEARD
        elif what == "redelivered":
            record.deliver_again(ns)
        elif what == "requeued":
            record.requeue(ns)
    for record in found.values():
        record.last_ns = last_ns
        if record.state == "waiting":
            record.state = "held" if record.first_due_ns > record.enqueued_ns else "ready"
    return list(found.values())


class WaitingJob(Protocol):
    """What is asked of a job to know how deep its queue is."""

    @property
    def queue(self) -> str: ...
    @property
    def ready_spans(self) -> Iterable[tuple[int, int]]: ...


def queue_depths(records: Iterable[WaitingJob]) -> dict[str, tuple[list[int], list[int]]]:
    """Return the depth of each queue over time: the instants at which it changes, and how many jobs are ready then."""
    changes: dict[str, dict[int, int]] = {}
    for record in records:
        mine = changes.setdefault(record.queue, {})
        for since, until in record.ready_spans:
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
