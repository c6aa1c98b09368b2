"""Fidelity: how much of a log comes back if it happens once more and nothing is changed."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from hashlib import sha256

from ..simulation.jobs import OPEN
from .logged_jobs import LoggedAttempt, LoggedJob
from .played_jobs import PlayedAttempt, PlayedJob

ENOUGH = 0.95
"""The share of jobs that must be as they were."""


@dataclass(frozen=True)
class Fidelity:
    """How much of a log came back."""

    jobs: int
    """How many jobs there are."""
    differing: Mapping[int, str]
    """By the number of a job that did not come back as it was, what is another."""
    held: int
    """How many jobs wait as long as in the log for a reason that it does not tell."""
    digests: tuple[str, str] = ("", "")
    """The digests of all jobs: types, arguments, attempts and errors, in the log and in what came back.
    Empty for a log that Iron Clock has not written itself."""

    @property
    def share(self) -> float:
        """The share of jobs that are as they were: state, attempts and waits, as exactly as the log says them."""
        return 1 - len(self.differing) / self.jobs

    @property
    def is_enough(self) -> bool:
        """True if at least 95 % of the jobs are as they were."""
        return self.share >= ENOUGH

    def words(self) -> str:
        """Return the figure in words."""
        shown = f"{int(1000 * self.share) / 10:g} %"
        if not self.differing:
            text = f"{shown} of the {self.jobs:,} jobs come back as they were"
        else:
            count: dict[str, int] = {}
            for why in self.differing.values():
                count[why] = count.get(why, 0) + 1
            rest = ", ".join(f"{number:,} {why}" for why, number in sorted(count.items(), key=lambda item: -item[1]))
            text = f"{shown} of the {self.jobs:,} jobs come back as they were; the others: {rest}"
        if self.held:
            text += f". {self.held:,} jobs wait as long as in the log, for a reason that it does not tell"
        return text


def fidelity_of(
    jobs: Sequence[LoggedJob], by_number: Mapping[int, PlayedJob], resolution_ns: int, end_ns: int, held: int
) -> Fidelity:  # fmt: skip
    """Compare the jobs of a log with what came back. Parameters: `resolution_ns` is how exact the instants of the log
    are; `end_ns` is its end; `held` as in `Fidelity`."""
    differing = {}
    for job in jobs:
        why = _difference(job, by_number.get(job.number), resolution_ns, end_ns)
        if why:
            differing[job.number] = why
    return Fidelity(len(jobs), differing, held)


def with_digests(
    fidelity: Fidelity, jobs: Sequence[LoggedJob], by_number: Mapping[int, PlayedJob], end_ns: int
) -> Fidelity:  # fmt: skip
    """Return a fidelity with the digests of both. Parameters as in `fidelity_of`."""
    both = sha256(), sha256()
    for job in jobs:
        for digest, shown in zip(both, (job, by_number.get(job.number)), strict=True):
            if shown is not None:
                rows = [_row(one, end_ns) for one in shown.attempts if one.started_ns < end_ns]
                digest.update(repr((job.name, job.arguments, shown.enqueued_ns, rows)).encode())
    return replace(fidelity, digests=(both[0].hexdigest(), both[1].hexdigest()))


def _difference(job: LoggedJob, played: PlayedJob | None, resolution_ns: int, end_ns: int) -> str:
    """Return in words what is another. Empty: nothing."""
    if played is None:
        return "do not come in"
    # What begins at the very end of the log can have been still to come.
    there = [attempt for attempt in job.attempts if attempt.started_ns < end_ns]
    here = [attempt for attempt in played.attempts if attempt.started_ns < end_ns]
    if len(there) != len(here):
        return "have another number of attempts"
    for logged, attempt in zip(there, here, strict=True):
        if abs(logged.started_ns - attempt.started_ns) >= resolution_ns:
            return "start at another instant"
        if _is_open(logged, end_ns) or _is_open(attempt, end_ns):
            if _is_open(logged, end_ns) != _is_open(attempt, end_ns):
                return "do not end as they did"
        elif logged.outcome != attempt.outcome:
            return "have an attempt that ends in another way"
        elif abs((logged.ended_ns or 0) - (attempt.ended_ns or 0)) >= resolution_ns:
            return "end at another instant"
    is_over = played.closed_ns is None or played.closed_ns < end_ns
    return "" if job.state in OPEN or job.state == played.state or not is_over else "end in another state"


def _is_open(attempt: LoggedAttempt | PlayedAttempt, end_ns: int) -> bool:
    return attempt.ended_ns is None or attempt.ended_ns >= end_ns


def _row(attempt: LoggedAttempt | PlayedAttempt, end_ns: int) -> tuple[object, ...]:
    """Return what a digest has of an attempt, as far as it is known before the end of the log."""
    if _is_open(attempt, end_ns):
        return (attempt.started_ns,)
    # Where in its code a worker died is known to no log but our own.
    error = "" if attempt.outcome == "crashed" else attempt.error
    return attempt.started_ns, attempt.ended_ns, attempt.outcome, error
