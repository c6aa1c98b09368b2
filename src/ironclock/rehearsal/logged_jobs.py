"""Logged jobs: what a log tells of each job, in the form in which it can happen once more."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

from ..errors import InputError, nearest
from ..foundation.durations import NS
from ..history.history import History
from ..history.job_records import AttemptRecord, JobRecord, job_records
from ..history.loaded_entries import LogAttemptRow, LogJobRow
from ..scenario.seen_workers import left_open
from ..simulation.jobs import written_arguments


@dataclass(slots=True)
class LoggedEffect:
    """An effect that an attempt has done: how long after its start, its name, its key, and how it ended."""

    after_ns: int
    name: str
    key: Any
    outcome: str


@dataclass(slots=True)
class LoggedAttempt:
    """One attempt. Instants are nanoseconds since the epoch."""

    number: int
    started_ns: int
    ended_ns: int | None
    """When it ended. None: the log does not say."""
    outcome: str
    error: str
    """Its error in words, such as ``OSError: no route``. Empty: none."""
    then: int
    """What followed an error: the wait in nanoseconds, or `DEAD` or `DROPPED`."""
    worker: str
    result: Any = None
    is_heard: bool = True
    """False if the queue never heard that it was done."""
    effects: tuple[LoggedEffect, ...] = ()
    children: tuple[tuple[int, int], ...] = ()
    """The jobs that it has enqueued: their numbers, and how long after its start."""
    ready_ns: int = 0
    """When its job was ready for it."""
    again_ns: int | None = None
    """When its job was put back into its queue after it, by the queue or by somebody. None: it was not."""
    gone_ns: int | None = None
    """When its worker took another one, although this one has no end."""
    place: int = 0
    """The place of its start in the log. 0: the log has no order of its own at one instant."""
    late_ns: int = 0
    """How much longer its job waited than the work before it explains."""

    @property
    def has_failed(self) -> bool:
        """True if it ended with an error that its job's policy heard of."""
        return self.outcome in ("failed", "timed-out")

    @property
    def took_ns(self) -> int | None:
        """How long it took. None: the log does not say."""
        return None if self.ended_ns is None else self.ended_ns - self.started_ns

    @property
    def error_name(self) -> str:
        """The type of its error. Empty: none."""
        return self.error.partition(": ")[0]


class Act(NamedTuple):
    """Somebody withdraws a job, or puts it back from the dead letters."""

    ns: int
    place: int
    """Its place in the log."""
    what: str
    """``withdrawn`` or ``requeued``."""


@dataclass(slots=True)
class LoggedJob:
    """One job. Instants are nanoseconds since the epoch."""

    number: int
    """Its place among all jobs of the log, from 0."""
    id: str
    name: str
    queue: str
    enqueued_ns: int
    due_ns: int
    state: str
    args: tuple[Any, ...]
    kwargs: dict[str, Any] | None
    key: Any
    attempts: list[LoggedAttempt]
    place: int = 0
    """The place of its enqueueing in the log: what comes first of two things at one instant."""
    acts: tuple[Act, ...] = ()
    """What somebody did with it later."""
    given_up: tuple[int, str, str] | None = None
    """If it was closed without an attempt: when, what happened (``expired`` or ``given-up``), and why."""
    priority: int = 0
    """The lowest runs first."""
    enqueued_by: tuple[str, int] | None = None
    """The id of the job whose attempt has enqueued it, and the number of the attempt."""
    is_child: bool = False
    """True if that job is rehearsed as well."""

    @property
    def arguments(self) -> str:
        """Its arguments as they are written in a call."""
        return written_arguments(self.args, self.kwargs or {})


def logged_jobs(
    history: History, *, has_results: bool = True, since_ns: int | None = None, until_ns: int | None = None,
    names: Collection[str] = (), share: float = 1.0,
) -> list[LoggedJob]:  # fmt: skip
    """Return the jobs of a history in the order in which they were enqueued.

    Parameters: `has_results`: Iron Clock itself has written the history: it has what jobs returned, and what was done
    with them. Only jobs count that are enqueued from `since_ns` and before `until_ns` (None: no limit), and whose type
    is one of `names` (empty: all); of each type this `share` of the jobs, evenly spread. Raises `InputError` if no job
    is left.
    """
    jobs = _of_rows(history) or _of_records(history, has_results)
    known = list(dict.fromkeys(job.name for job in jobs))
    for name in names:
        if name not in known:
            raise InputError(f"the log has no job {name!r}; {nearest(name, known)}")
    chosen = [
        job
        for job in jobs
        if (since_ns is None or job.enqueued_ns >= since_ns)
        and (until_ns is None or job.enqueued_ns < until_ns)
        and (not names or job.name in names)
    ]
    if share < 1.0:
        chosen = list(_sample(chosen, share))
    if not chosen:
        raise InputError(
            "no job of the log is left to rehearse; give a log with attempts, or a wider since, until or only"
        )
    by_id = {job.id: job for job in chosen}
    for number, job in enumerate(chosen):
        job.number = number
        job.place = job.place or number
        if job.attempts and job.attempts[0].started_ns < job.due_ns:  # clocks of two hosts, or a coarse column
            job.due_ns = job.attempts[0].started_ns
        job.due_ns = max(job.due_ns, job.enqueued_ns)  # a saved instant has microseconds
    _add_children(chosen, by_id)
    gone = left_open(chosen)
    for job in chosen if gone else ():
        for attempt in job.attempts:
            attempt.gone_ns = gone.get(id(attempt))
    return chosen


def _sample(jobs: Sequence[LoggedJob], share: float) -> Iterable[LoggedJob]:
    """Yield a share of the jobs of each type, evenly spread, and at least one of each."""
    seen: dict[str, int] = {}
    for job in jobs:
        number = seen[job.name] = seen.get(job.name, 0) + 1
        if number == 1 or int(number * share) > int((number - 1) * share):
            yield job


def _of_rows(history: History) -> list[LoggedJob] | None:
    """Return the jobs of a log in columns. None for another."""
    rows = history.job_rows()
    return None if rows is None else list(map(_job_of_row, rows))


def _job_of_row(row: LogJobRow) -> LoggedJob:
    return LoggedJob(
        number=0, id=row.id, name=row.name, queue=row.queue, enqueued_ns=row.enqueued_ns, due_ns=row.due_ns,
        state=row.state, args=(row.args,) if row.args else (), kwargs=None, key=row.key or None,
        attempts=[_attempt_of_row(attempt) for attempt in row.attempts],
    )  # fmt: skip


def _attempt_of_row(row: LogAttemptRow) -> LoggedAttempt:
    error, _, message = row.error.partition(": ")
    attempt = LoggedAttempt(
        number=row.number, started_ns=row.started_ns, ended_ns=row.ended_ns, outcome=row.outcome,
        error=f"{error or 'Error'}: {message}" if row.outcome in ("failed", "timed-out") else "", then=row.then,
        worker=row.worker,
    )  # fmt: skip
    if row.effect:
        attempt.effects = (LoggedEffect(attempt.took_ns or 0, row.effect, row.key or None, "done"),)
    return attempt


def _of_records(history: History, has_results: bool) -> list[LoggedJob]:
    records = job_records(history)
    records.reverse()
    jobs = []
    while records:  # one by one: a record keeps the entries that it was asked for
        jobs.append(_job(records.pop(), has_results))
    by_id = {job.id: job for job in jobs}
    _add_effects(history, by_id)
    if has_results:  # else the log has rows of attempts, and no more
        _add_acts(history, by_id)
    return jobs


def _add_acts(history: History, by_id: dict[str, LoggedJob]) -> None:
    """Note what became of jobs outside their attempts."""
    last: dict[str, LoggedAttempt] = {}
    comes_again = bool(history.count_of("requeued") or history.count_of("redelivered"))
    kinds = ("enqueued", "withdrawn", "requeued", "redelivered", "expired", "given-up", "ack-lost")
    for number in history.numbers_of(*kinds, *(["started"] if comes_again else [])):
        entry = history.entry(number)
        job = by_id.get(str(entry.job))
        if job is None:
            continue
        if entry.what == "started":
            last[job.id] = job.attempts[entry.attempt - 1]
            continue
        if entry.what in ("requeued", "redelivered") and job.id in last:
            last[job.id].again_ns = entry.ns
        if entry.what == "enqueued":
            job.place = number
        elif entry.what in ("requeued", "withdrawn"):
            job.acts = (*job.acts, Act(entry.ns, number, entry.what))
        elif entry.what == "ack-lost":
            job.attempts[entry.attempt - 1].is_heard = False
        else:
            job.given_up = entry.ns, entry.what, str(entry.data.get("why", entry.data.get("waited", "")))


def _job(record: JobRecord, has_results: bool) -> LoggedJob:
    data = record.enqueue_entry.data
    return LoggedJob(
        number=0, id=record.id, name=record.name, queue=str(data.get("queue", "default")),
        enqueued_ns=record.enqueued_ns, due_ns=record.first_due_ns, state=record.state,
        args=tuple(data.get("args", ())), kwargs=data.get("kwargs"), key=data.get("key"),
        attempts=[_attempt(attempt, has_results) for attempt in record.attempts],
        priority=int(data.get("priority", 0)), enqueued_by=record.enqueued_by if "by" in data else None,
    )  # fmt: skip


def _attempt(record: AttemptRecord, has_results: bool) -> LoggedAttempt:
    end = record.end_entry if has_results or record.outcome != "done" else None
    data = {} if end is None else end.data
    has_error = end is not None and record.outcome not in ("done", "crashed")
    return LoggedAttempt(
        number=record.number, started_ns=record.started_ns, ended_ns=record.ended_ns, outcome=record.outcome,
        error=f"{data.get('error')}: {data.get('message')}" if has_error else "", then=record.then,
        worker=record.worker, result=data.get("result") if record.outcome == "done" else None,
        place=record.place if has_results else 0,
    )  # fmt: skip


def _add_effects(history: History, by_id: dict[str, LoggedJob]) -> None:
    for number in history.numbers_of("effect"):
        entry = history.entry(number)
        job = by_id.get(str(entry.job))
        if job is None or not 0 < entry.attempt <= len(job.attempts):
            continue
        attempt = job.attempts[entry.attempt - 1]
        data = entry.data
        effect = LoggedEffect(entry.ns - attempt.started_ns, str(data["effect"]), data.get("key"), str(data["outcome"]))
        attempt.effects = (*attempt.effects, effect)


def _add_children(jobs: Sequence[LoggedJob], by_id: dict[str, LoggedJob]) -> None:
    for job in jobs:
        by = job.enqueued_by
        parent = None if by is None else by_id.get(by[0])
        if by is None or parent is None or not 0 < by[1] <= len(parent.attempts):
            continue
        attempt = parent.attempts[by[1] - 1]
        attempt.children = (*attempt.children, (job.number, job.enqueued_ns - attempt.started_ns))
        job.is_child = True


def resolution_of(jobs: Iterable[LoggedJob]) -> int:
    """Return how exact the instants of a log are, in nanoseconds: the largest of second, millisecond, microsecond and
    nanosecond of which all are multiples."""
    unit = NS
    for job in jobs:
        for ns in (job.enqueued_ns, *(t for a in job.attempts for t in (a.started_ns, a.ended_ns) if t is not None)):
            while unit > 1 and ns % unit:
                unit //= 1000
        if unit == 1:
            break
    return unit
