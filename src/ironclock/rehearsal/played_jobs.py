"""Played jobs: what became of the jobs of a run, in few words. All else is in the history of the run."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from dataclasses import dataclass
from typing import Any, NamedTuple

from ..history.history import History
from ..history.job_records import CLOSING, JobRecord, records_from
from ..history.records import DEAD, DROPPED, ENDED, UNHEARD, message_of
from ..simulation.jobs import OPEN


class PlayedAttempt(NamedTuple):
    """One attempt. Instants are nanoseconds since the epoch."""

    started_ns: int
    ended_ns: int | None
    outcome: str
    detail: Any
    """The error, or whatever else the history has."""
    then: int
    """What followed an error, as in `Record.then`."""

    @property
    def error_name(self) -> str:
        """The type of its error. Empty: none."""
        return type(self.detail).__name__ if isinstance(self.detail, BaseException) else ""

    @property
    def error(self) -> str:
        """Its error in words. Empty: none."""
        return f"{self.error_name}: {message_of(self.detail)}" if self.error_name else ""


@dataclass(slots=True)
class PlayedJob:
    """What became of a job. Instants are nanoseconds since the epoch."""

    id: str
    name: str
    queue: str
    enqueued_ns: int
    due_ns: int
    state: str
    closed_ns: int | None
    attempts: list[PlayedAttempt]
    asked_ns: int
    """When it was to run. In the log it can have waited longer, for a reason that is not known."""

    @property
    def ready_spans(self) -> Iterable[tuple[int, int]]:
        """Yield the spans in which it was due and waited for a worker."""
        due: int | None = self.due_ns
        for attempt in self.attempts:
            if due is not None and due < attempt.started_ns:
                yield due, attempt.started_ns
            if attempt.ended_ns is None or attempt.then < 0:
                due = None
            else:
                due = attempt.ended_ns + attempt.then
        if due is not None and self.closed_ns is not None and due < self.closed_ns:
            yield due, self.closed_ns

    def is_like(self, other: PlayedJob) -> bool:
        """Return True if the same became of another one."""
        return (
            self.state == other.state
            and self.enqueued_ns == other.enqueued_ns
            and len(self.attempts) == len(other.attempts)
            and all(map(_are_alike, self.attempts, other.attempts))
        )


def _are_alike(one: PlayedAttempt, other: PlayedAttempt) -> bool:
    return one[:3] == other[:3] and one.error_name == other.error_name


def played_jobs(history: History) -> dict[int, PlayedJob]:
    """Return the jobs of a live history by their numbers, in the order in which they came in."""
    jobs: dict[int, PlayedJob] = {}
    begun: dict[tuple[int, int], tuple[int, int]] = {}  # by job and attempt: its start, and its place in the job
    columns = (history.column(name) for name in ("ns", "what", "job", "attempt", "detail", "then"))
    for ns, what, live, attempt, detail, then in zip(*columns, strict=True):
        if live is None:
            continue
        number = live.number
        if what == "enqueued":
            jobs[number] = PlayedJob(live.id, live.type.name, live.queue, ns, detail, live.state, None, [], detail)
            continue
        job = jobs.get(number)
        if job is None:
            continue
        if what == "started":
            begun[number, attempt] = ns, len(job.attempts)
            job.attempts.append(PlayedAttempt(ns, None, "running", None, 0))
        elif what in ENDED and (number, attempt) in begun:
            started, place = begun.pop((number, attempt))
            job.attempts[place] = PlayedAttempt(started, ns, what, detail, then)
            if job.state not in OPEN and _closes(what, then):
                job.closed_ns = ns
        elif what in CLOSING:
            job.closed_ns = ns
    return jobs


def _closes(what: str, then: int) -> bool:
    return then != UNHEARD if what == "done" else then in (DEAD, DROPPED)


def records_of(history: History, ids: Collection[str]) -> dict[str, JobRecord]:
    """Return all that a history tells of some jobs, by id."""
    wanted = frozenset(ids)
    steps = (step for step in history.steps() if step[3] in wanted)
    found = records_from(steps, history.entry, history.timeline, history.end_ns)
    return {record.id: record for record in found}
