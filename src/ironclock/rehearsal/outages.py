"""Outages in a log: spans in which nearly all attempts of one or several job types failed with the same error."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from ..scenario.estimation import outages_in
from ..scenario.seen_workers import SeenAttempt
from .logged_jobs import LoggedAttempt, LoggedJob


@dataclass(slots=True)
class Victims:
    """The attempts of one job type that an outage struck."""

    error: str
    """The usual error, in words."""
    share: float
    """The share of them that failed."""
    took_ns: list[int]
    """How long those that failed took, sorted."""


@dataclass(slots=True)
class LoggedOutage:
    """A span in which nearly all attempts failed. Instants are nanoseconds since the epoch."""

    since_ns: int
    """The start of the first attempt that failed in it."""
    last_ns: int
    """The start of the last one. After it, the log has a success."""
    until_ns: int
    """The start of the first attempt that was done after it. When between the two it ended, the log does not say."""
    victims: dict[str, Victims]
    """What it struck, by job type."""

    @property
    def error_name(self) -> str:
        """The type of its error."""
        return next(iter(self.victims.values())).error.partition(": ")[0]

    def strikes(self, name: str, at_ns: int, until_ns: int) -> bool:
        """Return True if it strikes an attempt of a job type that starts at `at_ns`, if it ends at `until_ns`."""
        return name in self.victims and self.since_ns <= at_ns < until_ns

    def includes(self, name: str, attempt: LoggedAttempt) -> bool:
        """Return True if an attempt of the log was in it."""
        return name in self.victims and self.since_ns <= attempt.started_ns <= self.last_ns


def outages_of(jobs: Iterable[LoggedJob]) -> list[LoggedOutage]:
    """Return the outages of a log, in order. Spans of several job types that overlap, with the same type of error, are
    one outage: that of the service that they call. A job type with few attempts is in it if all of its attempts in the
    span failed with that error."""
    by_type: dict[str, list[LoggedAttempt]] = {}
    for job in jobs:
        by_type.setdefault(job.name, []).extend(attempt for attempt in job.attempts if attempt.ended_ns is not None)
    for attempts in by_type.values():
        attempts.sort(key=lambda attempt: attempt.started_ns)
    spans = []
    for name, attempts in by_type.items():
        for seen in outages_in(attempts):
            failed = [attempt for attempt in seen.attempts if attempt.outcome != "done"]
            spans.append((failed[0].started_ns, failed[-1].started_ns, _usual(failed), name))
    spans.sort()
    found: list[tuple[int, int, str, set[str]]] = []
    for since, last, error, name in spans:
        kind = error.partition(": ")[0]
        mate = next((n for n, other in enumerate(found) if other[2] == kind and since <= other[1]), None)
        if mate is None:
            found.append((since, last, kind, {name}))
        else:
            before = found[mate]
            found[mate] = before[0], max(before[1], last), kind, before[3] | {name}
    return [_outage(since, last, kind, names, by_type) for since, last, kind, names in found]


def _usual(attempts: Sequence[SeenAttempt]) -> str:
    """Return the error that most of these attempts ended with."""
    count: dict[str, int] = {}
    for attempt in attempts:
        count[attempt.error] = count.get(attempt.error, 0) + 1
    return max(count, key=lambda error: count[error])


def _outage(since: int, last: int, kind: str, names: set[str], by_type: dict[str, list[LoggedAttempt]]) -> LoggedOutage:
    for name, attempts in by_type.items():
        inside = [one for one in attempts if since <= one.started_ns <= last]
        if inside and all(one.outcome != "done" and one.error_name == kind for one in inside):
            names.add(name)
    done = [one.started_ns for name in names for one in by_type[name] if one.outcome == "done"]
    until = min((at for at in done if at > last), default=last + 1)
    victims = {}
    for name in sorted(names):
        inside = [one for one in by_type[name] if since <= one.started_ns <= last]
        failed = [one for one in inside if one.outcome != "done"]
        took = sorted(one.took_ns or 0 for one in failed)
        victims[name] = Victims(_usual(failed), len(failed) / len(inside), took)
    return LoggedOutage(since, last, until, victims)
