"""The jobs of a saved history, as a law sees them: like those of a live rig, with values as JSON holds them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from ..errors import IronClockError, RigStateError
from ..history.attention import Attention
from ..history.history import History
from ..history.job_records import JobRecord
from ..history.narrative import story_of
from ..simulation.jobs import LiveAttempt, LiveJob, WhileRunning
from ..simulation.policy import JobType, Policy
from ..simulation.pools import Pool


class SavedError(IronClockError):
    """The error of an attempt in a saved history. Its class has the name of the error that was raised."""


class SavedJobs:
    """The jobs of a saved history. Arguments, keys and results are what JSON holds of them: lists and not tuples, text
    and not datetimes."""

    def __init__(self, history: History, records: Sequence[JobRecord]) -> None:
        self.timeline = history.timeline
        self.attention = Attention()
        self._history = history
        self._pool = Pool(1)
        self._types: dict[str, JobType[..., Any]] = {}
        self.jobs = [self._job(number, record) for number, record in enumerate(records, 1)]
        """Every job, in the order in which they were enqueued."""

    def _job(self, number: int, record: JobRecord) -> LiveJob:
        data = record.enqueue_entry.data
        type = self._types.get(record.name)
        if type is None:
            type = self._types[record.name] = JobType(_has_no_code, record.name, Policy())
        args, kwargs = tuple(data.get("args", ())), data.get("kwargs", {})
        tail = record.id.rpartition("-")[2]
        job = LiveJob(
            self, type, int(tail) if tail.isdecimal() and len(tail) < 16 else number, args, kwargs, record.queue, 0,
            record.enqueued_ns, record.due_ns,
        )  # fmt: skip
        job.name_as(record.id)
        job.was_saved(record.state, len(record.attempts))  # type: ignore[arg-type]
        job.key, job.result = record.key, record.result
        if record.due_again_ns is not None:
            job.due_ns = record.due_again_ns
        job.read_attempts = self._attempts(job, record)
        job.error = job.read_attempts[-1].error if job.read_attempts else None
        return job

    def _attempts(self, job: LiveJob, record: JobRecord) -> list[LiveAttempt]:
        made = []
        for one in record.attempts:
            attempt = LiveAttempt(job, one.number, one.started_ns, one.worker, self._pool)
            attempt.outcome = one.outcome  # type: ignore[assignment]
            attempt.ended_ns = -1 if one.ended_ns is None else one.ended_ns
            attempt.waited_ns = -1 if one.wait_ns is None else one.wait_ns
            if one.error:
                name, _, message = one.error.partition(": ")
                if one.outcome == "crashed":
                    name, message = "WorkerDied", one.error
                attempt.error = type(name, (SavedError,), {})(message)
            made.append(attempt)
        return made

    # --- what its jobs ask (`JobHome`) --------------------------------------------------------------

    def attempts_of(self, job: LiveJob) -> list[LiveAttempt]:
        """Return every attempt at a job, in order."""
        return job.read_attempts or []

    def withdraw(self, job: LiveJob, running: WhileRunning = "refuse") -> None:
        """Raise `RigStateError`: what is saved does not change."""
        raise RigStateError(f"{job.id} is a job of a saved history, which cannot be withdrawn; a law only reads")

    def story_of(self, job: LiveJob) -> str:
        """Return what happened to a job, in words."""
        return story_of(self._history, job.id)


def _has_no_code(*args: Any, **kwargs: Any) -> None:
    raise RigStateError("the jobs of a saved history have no code to run")
